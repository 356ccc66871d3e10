package prove_test

import (
	"fmt"

	"verimorph/core/prove"
)

// A pair whose standby is switched to as soon as it is up again: it may not be in sync yet.
func ExampleCheck() {
	plan := &prove.Plan{
		Members: []prove.Member{{Name: "fw1", Active: true}, {Name: "fw2", Sync: true}},
		Steps: []prove.Step{
			{Number: 1, Title: "choose the new version", Member: 2, Effect: prove.Commits, Version: 1, Rest: true},
			{Number: 2, Title: "restart", Member: 2, After: []int{1}, Effect: prove.Down},
			{Number: 3, Title: "wait for it", Member: 2, After: []int{2}, Effect: prove.Up},
			{Number: 4, Title: "switch over", Member: 2, After: []int{3}, Effect: prove.Switch, Rest: true},
		},
	}
	r := prove.Check(plan)
	fmt.Println(r.Proved)
	fmt.Println("Broken:", r.Broken.Rule)
	for _, e := range r.Broken.Trace {
		fmt.Println(" ", e)
	}
	// Output:
	// false
	// Broken: nobody is switched to who is down or not in sync
	//   step 1, fw2: choose the new version
	//   step 2, fw2: restart
	//   step 3, fw2: wait for it
	//   step 4, fw2: switch over
}
