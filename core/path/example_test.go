package path_test

import (
	"fmt"
	"os"

	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/portrait"
)

func ExamplePlanner_Find() {
	c, _ := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	p, err := path.NewPlanner(c).Find(path.Question{Portrait: &portrait.Portrait{Model: "TH-60", Version: "4.2.3"}, Aim: path.Aim{Version: "5.4.2"}})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, h := range p.Hops {
		fmt.Println(h.From, "to", h.To)
	}
	// Output:
	// 4.2.3 to 4.2.9
	// 4.2.9 to 5.0.7
	// 5.0.7 to 5.4.2
}
