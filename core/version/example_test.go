package version_test

import (
	"fmt"

	"verimorph/core/version"
)

func Example() {
	a, b := version.MustParse("5.0-rc1"), version.MustParse("5.0")
	fmt.Println(a.Less(b))
	r := version.MustRange(">=5.0 <5.2 | 6.x")
	for _, text := range []string{"4.2.9", "5.0.7", "5.2", "6.0.1"} {
		fmt.Println(text, r.Contains(version.MustParse(text)))
	}
	// Output:
	// true
	// 4.2.9 false
	// 5.0.7 true
	// 5.2 false
	// 6.0.1 true
}
