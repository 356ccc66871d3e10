package spare

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"verimorph/core/change"
)

func ExampleOf() {
	units := []Unit{{Serial: "A1", Model: "B4", Prepare: change.Done, For: "pier-fw1", Holds: "old"}, {Serial: "A2", Model: "B4", Licences: []string{}}}
	for _, c := range Of([]Need{{Device: "pier-fw1", Model: "B4", Config: "new"}, {Device: "hall-fw1", Model: "B4", Licences: []string{}}, {Device: "quay-fw1", Model: "B4"}}, units) {
		fmt.Println(c.Device, c.State, c.Serial)
	}
	// Output:
	// pier-fw1 stale A1
	// hall-fw1 in-stock A2
	// quay-fw1 none
}

// A unit goes one way, and what was recorded last says where it stands.
func TestStates(t *testing.T) {
	for want, u := range map[State]Unit{
		InStock:    {},
		Preparing:  {Prepare: change.Running},
		Prepared:   {Prepare: change.Done},
		Shipped:    {Prepare: change.Done, Shipped: true},
		InService:  {Prepare: change.Done, Shipped: true, Swap: change.Done},
		ComingBack: {Swap: change.Done, Out: change.Done},
		Arrived:    {Out: change.Done, Arrived: true},
		Retired:    {Out: change.Done, Retired: true},
	} {
		assert.Equal(t, want, u.State(), string(want))
	}
	for want, u := range map[string]Unit{"prepare it again: the configuration of quay was changed since": {Prepare: change.Done, For: "quay"}, "put afterwards": {Prepare: change.Done, Shipped: true}, "prove that it is wiped": {Out: change.Done, Arrived: true}} {
		assert.Contains(t, u.Next(true), want)
	}
	assert.Empty(t, (&Unit{Swap: change.Done}).Next(true), "in service there is nothing to do")
	assert.Equal(t, InStock, (&Unit{Prepare: change.Failed}).State(), "a change that failed prepares nothing")
	assert.Equal(t, Shipped, (&Unit{Prepare: change.Done, Shipped: true, Swap: change.Failed}).State(), "it did not get into service")
	assert.Equal(t, InService, (&Unit{Out: change.Running}).State(), "it serves until the other one does")
	assert.False(t, (&Unit{Prepare: change.Asking}).Ready())
}

// What is not known of a unit or a device is a doubt, never a cover; a unit stands by for one device.
func TestCovers(t *testing.T) {
	units := []Unit{{Serial: "1", Model: "B4", Licences: []string{"plain"}}, {Serial: "2", Model: "B4", Licences: []string{"full", "plain"}}, {Serial: "3", Model: "C1"},
		{Serial: "4", Model: "B4", Prepare: change.Done, For: "d", Holds: "now"}, {Serial: "5", Model: "B4", Retired: true}}
	got := Of([]Need{{Device: "a", Model: "B4"}, {Device: "b", Model: "B4", Licences: []string{"full"}}, {Device: "c", Model: "C1", Licences: []string{"full"}},
		{Device: "d", Model: "B4", Config: "now"}, {Device: "e", Model: "D9"}}, units)
	var said []string
	for _, c := range got {
		said = append(said, c.Device+" "+c.State+" "+c.Serial)
	}
	assert.Equal(t, []string{"a doubt 1", "b in-stock 2", "c doubt 3", "d prepared 4", "e none "}, said)
	assert.Equal(t, Stale, Of([]Need{{Device: "d", Model: "B4"}}, units)[0].State, "nobody knows what the device has now")
}
