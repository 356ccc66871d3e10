package portrait_test

import (
	"fmt"

	"verimorph/core/portrait"
)

// What a device does not say is unknown, which is neither yes nor no.
func Example() {
	p := portrait.Portrait{Model: "TH-60", Version: "5.0.7", Slots: []portrait.Slot{
		{Name: "a", Version: "5.0.7", Running: true, Good: portrait.Yes},
		{Name: "b", Version: "5.0.6", Good: portrait.No},
	}}
	fmt.Println(p.RunningSlot().Name, p.IdleSlot().Broken())
	_, _, known := p.ImageRoom()
	fmt.Println(known, p.Unsaved == portrait.Unknown)
	// Output:
	// a true
	// false true
}
