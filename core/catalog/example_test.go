package catalog_test

import (
	"fmt"
	"os"

	"verimorph/core/catalog"
)

func ExampleReadDir() {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	fmt.Println(len(found))
	f := c.FamilyOfModel("TH-60")
	m := f.Model("TH-60")
	fmt.Println(f.Title, m.Name)
	hops := catalog.NewHops(f, m)
	for _, to := range []string{"4.2.9", "5.4.2"} {
		rule := hops.Permit(f.Named("4.2.3"), f.Named(to), false)
		fmt.Println(to, rule != nil && !hops.Refused(f.Named("4.2.3"), f.Named(to)))
	}
	// Output:
	// 0
	// Tarnholm TH firewall firmware TH-60
	// 4.2.9 true
	// 5.4.2 false
}
