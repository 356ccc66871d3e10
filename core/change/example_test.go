package change_test

import (
	"fmt"
	"os"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
)

// The plan of one hop on a device with two slots. A change may pause before steps that are safe points.
func ExampleDraft() {
	c, _ := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	way, _ := path.NewPlanner(c).Find(path.Question{Portrait: &portrait.Portrait{Model: "TH-60", Version: "5.0.7"}, Aim: path.Aim{Version: "5.4.2"}})
	f := c.FamilyOfModel("TH-60")
	plan, err := change.Draft(change.Job{Family: f, Path: way, Can: change.Abilities{Save: true}, Pace: change.Pace{Factor: 1}})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, s := range plan.Steps {
		fmt.Println(s.Number, s.Kind, s.SafePoint)
	}
	fmt.Println(plan.Back[0].Way)
	// Output:
	// 1 readings false
	// 2 check true
	// 3 backup true
	// 4 send true
	// 5 checksum true
	// 6 install true
	// 7 go-no-go true
	// 8 save true
	// 9 choose-slot true
	// 10 restart false
	// 11 link false
	// 12 login false
	// 13 version false
	// 14 services true
	// 15 tidy true
	// 16 verdict true
	// slot
}

func ExampleNext() {
	to, err := change.Next(change.Situation{State: change.Drafted}, change.Start)
	fmt.Println(to, err)
	to, _ = change.Next(change.Situation{State: change.Drafted}, change.Approve)
	fmt.Println(to)
	// Output:
	// draft cannot start a change that is draft; possible now: [approve stop]
	// approved
}
