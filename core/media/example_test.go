package media_test

import (
	"fmt"

	"verimorph/core/media"
)

func ExampleCheck() {
	m := &media.Manifest{Files: []media.File{{Name: "gauge.fw", Size: 3, SHA256: "aa"}}}
	for _, problem := range media.Check(m, []media.Found{{Name: "gauge.fw", Size: 3, SHA256: "bb"}}) {
		fmt.Println(problem)
	}
	// Output:
	// gauge.fw: its content was changed (SHA-256 differs)
}
