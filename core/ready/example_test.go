package ready_test

import (
	"fmt"

	"verimorph/core/ready"
)

// A device that cannot be reached stops a change, whatever else is well.
func ExampleChecks() {
	checks := ready.Checks(ready.Facts{Unreachable: "nothing answers at 192.0.2.7:22", WantVersion: "5.0.7"})
	fmt.Println(ready.Text(ready.Of(checks, ready.Stop)[:1]))
	// Output:
	// Reachable: nothing answers at 192.0.2.7:22 (see that the device can be reached and that its credentials are right)
}
