package verify_test

import (
	"fmt"

	"verimorph/core/verify"
)

// A reading that is missing afterwards is not proven, which is not a pass.
func ExampleJudge() {
	expect := []verify.Expectation{
		{Reading: "tunnels", Title: "Tunnels", Rule: verify.Unchanged, Severity: verify.Fails},
		{Reading: "sessions", Title: "Sessions", Rule: verify.AtLeast, Percent: 80, Severity: verify.Fails},
	}
	before := verify.Readings{"tunnels": {Type: verify.Set, Set: []string{"a", "b"}}, "sessions": {Type: verify.Number, Number: 100}}
	after := verify.Readings{"tunnels": {Type: verify.Set, Set: []string{"a"}}, "sessions": {Type: verify.Number, Number: 90}}
	v := verify.Conclude(verify.Judge(expect, before, after, false))
	for _, r := range v.Results {
		fmt.Println(r.Title, r.State, r.Evidence)
	}
	fmt.Println(v.Verdict)
	// Output:
	// Tunnels unmet 1 of 2 missing: b
	// Sessions met was 100, is 90; at least 80 % of before is expected
	// fail
}
