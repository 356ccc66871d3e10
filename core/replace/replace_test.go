package replace

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/convert"
	"verimorph/core/verify"
)

func set(elements ...string) verify.Value { return verify.Value{Type: verify.Set, Set: elements} }

func ExampleMisplaced() {
	cables := []Cable{{From: "lan1", To: "x1"}, {From: "lan2", To: "x2"}}
	before := verify.Readings{"neighbours": set("lan1 uplink", "lan2 pier-switch")}
	want, _ := Expected(before, map[string]bool{"neighbours": true}, cables)
	fmt.Println(want["neighbours"])
	fmt.Println(Misplaced(want["neighbours"], set("x1 pier-switch", "x2 uplink")))
	// Output:
	// x1 uplink, x2 pier-switch
	// [the cables at x2 and x1 are swapped: pier-switch is at x1]
}

func TestWhatTheNewOneHasToShow(t *testing.T) {
	cables := []Cable{{From: "p1", To: "x1"}, {From: "p2", To: "p1"}, {From: "p3", To: "p1", Folded: true}, {From: "p4", LeftOut: "nothing hangs on it"}}
	before := verify.Readings{
		"ports-up": set("p1", "p2", "p3", "p4", "wan"), "neighbours": set("p1   uplink", "p4 a printer"),
		"tunnels": set("p1"), "sessions": {Type: verify.Number, Number: 5}, "odd": {Type: verify.NotReadable, Text: "nothing was said"},
	}
	got, notes := Expected(before, map[string]bool{"ports-up": true, "neighbours": true, "odd": true}, cables)
	assert.Equal(t, set("p1", "wan", "x1"), got["ports-up"], "two that are folded are one; a port that no cable is known for keeps its name")
	assert.Equal(t, set("x1 uplink"), got["neighbours"])
	assert.Equal(t, set("p1"), got["tunnels"], "it is called like a port, and names none")
	assert.Equal(t, before["sessions"], got["sessions"])
	assert.Equal(t, before["odd"], got["odd"])
	assert.Equal(t, map[string]string{"ports-up": "not looked for, since the port is left out: p4 (nothing hangs on it)",
		"neighbours": "not looked for, since the port is left out: p4 a printer (nothing hangs on it)"}, notes)
	assert.Equal(t, set("p1", "p2", "p3", "p4", "wan"), before["ports-up"], "what was read stays as it was read")

	got, notes = Expected(nil, nil, cables)
	assert.Empty(t, got)
	assert.NotNil(t, got)
	assert.Empty(t, notes)
}

func TestCablesThatAreNotWhereTheyShouldBe(t *testing.T) {
	for name, c := range map[string]struct {
		want, is verify.Value
		says     []string
	}{
		"as they should be":    {set("a one", "b two"), set("a one", "b two"), nil},
		"swapped":              {set("a one", "b two"), set("a two", "b one"), []string{"the cables at a and b are swapped: one is at b"}},
		"one in another":       {set("a one", "b two"), set("c one", "b two"), []string{"one is at c, and should be at a"}},
		"one missing":          {set("a one", "b two"), set("b two"), nil},
		"three in a ring":      {set("a one", "b two", "c three"), set("b one", "c two", "a three"), []string{"one is at b, and should be at a", "three is at a, and should be at c", "two is at c, and should be at b"}},
		"the same thing twice": {set("a switch", "b switch"), set("c switch", "b switch"), nil},
		"ports alone":          {set("a", "b"), set("b"), nil},
		"nothing":              {verify.Value{}, verify.Value{}, nil},
	} {
		t.Run(name, func(t *testing.T) { assert.ElementsMatch(t, c.says, Misplaced(c.want, c.is)) })
	}
}

// However ports are mapped, each one to its own: what is where it should be is never called misplaced, and any two that are swapped are found.
func TestAnyTwoCablesThatAreSwappedAreFound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(2, 8).Draw(t, "ports")
		perm := rapid.Permutation(seq(n)).Draw(t, "mapping")
		var cables []Cable
		var before verify.Value
		before.Type = verify.Set
		for i := range n {
			cables = append(cables, Cable{From: fmt.Sprintf("p%d", i), To: fmt.Sprintf("x%d", perm[i])})
			before.Set = append(before.Set, fmt.Sprintf("p%d  thing%d", i, i))
		}
		want, _ := Expected(verify.Readings{"n": before}, map[string]bool{"n": true}, cables)
		require.Empty(t, Misplaced(want["n"], want["n"]))
		a := rapid.IntRange(0, n-1).Draw(t, "a")
		b := (a + rapid.IntRange(1, n-1).Draw(t, "b")) % n
		swapped := verify.Value{Type: verify.Set}
		for i := range n {
			at := i
			switch i {
			case a:
				at = b
			case b:
				at = a
			}
			swapped.Set = append(swapped.Set, fmt.Sprintf("%s thing%d", cables[at].To, i))
		}
		got := Misplaced(want["n"], Spaced(swapped))
		require.Len(t, got, 1)
		require.Contains(t, got[0], "are swapped")
		require.Contains(t, got[0], cables[a].To)
		require.Contains(t, got[0], cables[b].To)
	})
}

func seq(n int) (out []int) {
	for i := range n {
		out = append(out, i)
	}
	return out
}

func TestASupportTable(t *testing.T) {
	l := &convert.Ledger{Source: []convert.SourceItem{
		{Section: "Ports", Path: "port p1", Line: 3, State: convert.Moved}, {Section: "Ports", Path: "port p1 / speed", State: convert.Kept},
		{Section: "Ports", Path: "port p1 / duplex", Line: 5, State: convert.Dropped, Reason: "always full"}, {Section: "Ports", Path: "port p2 / duplex", Line: 9, State: convert.Dropped, Reason: "always full"},
		{Section: "Modem", Path: "modem", Line: 12, State: convert.NeedsPerson, Reason: "it has none"}, {Section: "Ports", Path: "port p9", State: convert.Merged},
	}}
	got := SupportOf(l)
	require.Len(t, got, 2)
	assert.Equal(t, Support{Section: "Ports", Carries: 1, Changes: 2, Not: 2, Reasons: []Why{{Text: "always full", First: "port p1 / duplex", Line: 5, Count: 2}}}, got[0])
	assert.Equal(t, Support{Section: "Modem", Person: 1, Reasons: []Why{{Text: "it has none", First: "modem", Line: 12, Count: 1, Person: true}}}, got[1])
	assert.Empty(t, SupportOf(&convert.Ledger{}))
}

func TestCablesByAMapping(t *testing.T) {
	got, err := CablesOf([]convert.PortChoice{{Port: "p1", To: "x1"}, {Port: "p2", FoldInto: "x1"}, {Port: "p3", LeaveOut: "unused"}})
	require.NoError(t, err)
	assert.Equal(t, []Cable{{From: "p1", To: "x1"}, {From: "p2", To: "x1", Folded: true}, {From: "p3", LeftOut: "unused"}}, got)
	_, err = CablesOf([]convert.PortChoice{{Port: "p1", To: "x1"}, {Port: "p7"}, {Port: "p8"}})
	assert.ErrorContains(t, err, "nothing was decided about p7, p8")
}
