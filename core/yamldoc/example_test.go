package yamldoc_test

import (
	"fmt"

	"verimorph/core/yamldoc"
)

// Every mistake is told with its place; reading goes on after each.
func Example() {
	root, _ := yamldoc.Parse("box.yaml", []byte("name: pier\nports: many\ncolour: red\n"), "")
	var name string
	var ports int
	r := yamldoc.Reader{File: "box.yaml"}
	r.Fields(root, "a box", []string{"name"}, map[string]yamldoc.Read{"name": r.Text(&name), "ports": r.Count(&ports, 1, 48)})
	fmt.Println(name)
	for _, f := range r.Found {
		fmt.Println(f)
	}
	// Output:
	// pier
	// box.yaml:2:8: error: "many" does not fit (a whole number from 1 to 48)
	// box.yaml:3:1: error: a box has no field "colour" (known here: name, ports)
}
