package advisory_test

import (
	"fmt"
	"os"

	"verimorph/core/advisory"
	"verimorph/core/catalog"
)

func ExampleRead() {
	data, _ := os.ReadFile("../../demo/advisories/tar-2026-01.json")
	a, err := advisory.Read(data)
	if err != nil {
		fmt.Println(err)
		return
	}
	c, _ := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	f := c.FamilyOfModel("TH-60")
	for _, release := range []string{"5.2.2", "5.2.3", "5.4.2"} {
		status, _ := a.Status(f, "TH-60", release)
		fmt.Println(a.ID, release, status)
	}
	// Output:
	// TAR-2026-01 5.2.2 affected
	// TAR-2026-01 5.2.3 fixed
	// TAR-2026-01 5.4.2 fixed
}
