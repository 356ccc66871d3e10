package ensemble

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"verimorph/core/change"
	"verimorph/core/portrait"
)

func box(name, serial, mate, role string, sync portrait.Fact) portrait.Portrait {
	return portrait.Portrait{Name: name, Serial: serial, Mate: mate, Role: role, InSync: sync, Version: "5.0.7", Model: "X"}
}

func TestFind(t *testing.T) {
	node := func(i int) portrait.Portrait {
		p := box(fmt.Sprint("hub", i), fmt.Sprint("H", i), "", "follower", portrait.Yes)
		p.Ensemble = "core-hub"
		return p
	}
	got := Find([]portrait.Portrait{
		box("north-fw2", "B", "A", "standby", portrait.Yes), box("north-fw1", "A", "B", "active", portrait.Yes), // name each other
		box("alone", "C", "", "", portrait.Unknown),
		box("left", "D", "Z9", "active", portrait.Unknown),                                        // its mate is not here
		box("x1", "E", "F", "active", portrait.Yes), box("x2", "F", "G", "standby", portrait.Yes), // the other one names somebody else
		box("self", "S", "S", "active", portrait.Yes),
		node(1), node(2), node(3),
	})
	assert.Equal(t, []Found{
		{Name: "core-hub", Kind: change.Cluster, Members: []string{"hub1", "hub2", "hub3"}},
		{Name: "left-pair", Kind: change.Pair, Members: []string{"left"}, Doubts: []string{"left says that its mate has the serial Z9, and no device here has it"}},
		{Name: "north-fw", Kind: change.Pair, Members: []string{"north-fw1", "north-fw2"}},
		{Name: "self-pair", Kind: change.Pair, Members: []string{"self"}, Doubts: []string{"self names itself as its mate"}},
		{Name: "x1-pair", Kind: change.Pair, Members: []string{"x1", "x2"}, Doubts: []string{"x1 says that its mate is x2, and x2 says that its own is G"}},
	}, got)
	assert.Equal(t, []string{`2 devices that say they belong to "core-hub"; a cluster has 3 to 8 members, so some may not be known here`}, Find([]portrait.Portrait{node(1), node(2)})[0].Doubts)
}

// A declaration that the members contradict is wrong; what they do not say is a doubt.
func TestCheck(t *testing.T) {
	active, standby := box("a", "A", "B", "active", portrait.Yes), box("b", "B", "A", "standby", portrait.Yes)
	assert.Empty(t, Check(change.Pair, []portrait.Portrait{active, standby}))
	with := func(f func(a, b *portrait.Portrait)) []portrait.Portrait {
		a, b := active, standby
		f(&a, &b)
		return []portrait.Portrait{a, b}
	}
	for says, c := range map[string]struct {
		members []portrait.Portrait
		wrong   bool
	}{
		"a pair has 2 members, not 1":                                     {[]portrait.Portrait{active}, true},
		"nobody has looked at b yet":                                      {with(func(_, b *portrait.Portrait) { *b = portrait.Portrait{Name: "b"} }), true},
		"a and b are the same unit, with the serial A":                    {with(func(_, b *portrait.Portrait) { b.Serial = "A" }), true},
		"a says that its mate has the serial Z, which is no member":       {with(func(a, _ *portrait.Portrait) { a.Mate = "Z" }), true},
		`a says that it belongs to "", and b to "hub"`:                    {with(func(_, b *portrait.Portrait) { b.Ensemble = "hub" }), true},
		"a and b say that they are active":                                {with(func(_, b *portrait.Portrait) { b.Role = "active" }), true},
		"no member says that it is active":                                {with(func(a, _ *portrait.Portrait) { a.Role = "standby" }), true},
		"b does not say which role it has":                                {with(func(_, b *portrait.Portrait) { b.Role = "" }), false},
		"b is standby, and it is not in sync: 97 %":                       {with(func(_, b *portrait.Portrait) { b.InSync, b.Sync = portrait.No, "97 %" }), false},
		"b is standby, and it is not in sync: it does not say how far it": {with(func(_, b *portrait.Portrait) { b.InSync = portrait.No }), false},
		"b is standby, and whether it is in sync is not known":            {with(func(_, b *portrait.Portrait) { b.InSync = portrait.Unknown }), false},
		"the members run different versions: 5.0.7, 5.4.2":                {with(func(_, b *portrait.Portrait) { b.Version = "5.4.2" }), false},
	} {
		found := Check(change.Pair, c.members)
		var texts []string
		wrong := false
		for _, f := range found {
			texts, wrong = append(texts, f.Text), wrong || f.Wrong
			assert.NotEmpty(t, f.Remedy)
		}
		assert.Contains(t, fmt.Sprint(texts), says)
		assert.Equal(t, c.wrong, wrong, says)
	}
	assert.True(t, Check("heap", []portrait.Portrait{active, standby})[0].Wrong, "a kind that is not known")
}

// ExampleFind proposes the pair that two devices say they are.
func ExampleFind() {
	for _, f := range Find([]portrait.Portrait{
		{Name: "hollen-fw1", Serial: "TH60-1", Mate: "TH60-2", Role: "active", Version: "5.0.7"},
		{Name: "hollen-fw2", Serial: "TH60-2", Mate: "TH60-1", Role: "standby", Version: "5.0.7"},
	}) {
		fmt.Println(f.Kind, f.Name, f.Members, f.Doubts)
	}
	// Output: pair hollen-fw [hollen-fw1 hollen-fw2] []
}
