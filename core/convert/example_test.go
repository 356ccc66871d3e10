package convert_test

import (
	"fmt"
	"os"

	"verimorph/core/convert"
	"verimorph/core/version"
)

func ExampleLibrary_Convert() {
	l, _ := convert.ReadDir(os.DirFS("../../demo/catalog"))
	from := convert.Stop{Model: "TH-60", Version: version.MustParse("4.2.9")}
	to := convert.Stop{Model: "TH-60", Version: version.MustParse("5.0.7")}
	text, _ := os.ReadFile("../../demo/configs/hollen-fw1.cfg")
	source, _ := l.Schema(from).Parse("hollen-fw1.cfg", string(text))
	r, err := l.Convert(convert.Job{From: from, To: to}, source)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(r.Ledger.Complete(), len(r.Ledger.Source), len(r.Ledger.Target))
	// Output:
	// true 49 55
}
