package ready

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verimorph/core/portrait"
)

// Boxes that follow a device: whether they are there, which of them the release leaves behind, and where nobody serves while they start anew.

// ChildFacts are those of a device that others follow; nothing of it is looked at where none do.
type ChildFacts struct {
	Now     []portrait.Child
	Want    []ChildWanted              // as the change was drafted
	Dropped map[string]DroppedChildren // by model that the release does not serve any more
	Seats   int                        // how many may follow it; 0: not known
	Stated  func(serial string) bool   // whether a new one may be let join; nil: none may
	Alone   []string                   // places with one of them
	Called  string                     // what they are called, in the plural
	AtOnce  bool                       // they start anew by themselves, all at once
	// Half and Most are how long a place is without: in the middle, and in 19 of 20 cases.
	Half, Most time.Duration
}

// A ChildWanted is a child as it stood when the change was drafted.
type ChildWanted struct{ Name, Serial string }

// DroppedChildren are those of a model that the release does not serve any more.
type DroppedChildren struct {
	Why   string
	Names []string
}

func (f *ChildFacts) checks(add adder) {
	if len(f.Want) == 0 {
		return
	}
	f.Called = cmp.Or(f.Called, "children")
	f.there(add)
	for _, model := range slices.Sorted(maps.Keys(f.Dropped)) {
		d := f.Dropped[model]
		add(Drops+" "+model, "Left behind", Warn, "replace them first, or accept that they stay away",
			"%s; %d of model %s do not come back: %s", d.Why, len(d.Names), model, First(d.Names, ", "))
	}
	f.seats(add)
	f.places(add)
}

// there holds the children against those of the draft.
func (f *ChildFacts) there(add adder) {
	var doubts []string
	joined := 0
	byName := map[string]*portrait.Child{}
	for i := range f.Now {
		byName[f.Now[i].Name] = &f.Now[i]
	}
	for _, w := range f.Want {
		switch c := byName[w.Name]; {
		case c == nil:
			doubts = append(doubts, w.Name+" is not there")
		case w.Serial != "" && c.Serial != "" && c.Serial != w.Serial:
			doubts = append(doubts, fmt.Sprintf("%s has the serial %s, and had %s when the change was drafted", w.Name, c.Serial, w.Serial))
		case c.Good == portrait.Yes:
			joined++
		default:
			doubts = append(doubts, c.Text())
		}
	}
	title := strings.ToUpper(f.Called[:1]) + f.Called[1:]
	if len(doubts) > 0 {
		add(ChildrenCheck, title, Warn, "see to them first: the change waits for each of them, and asks when one does not come back", "%d of %d have joined: %s", joined, len(f.Want), First(doubts, ", "))
		return
	}
	add(ChildrenCheck, title, Pass, "", "all %d have joined", joined)
}

// seats counts those that follow against the licences.
func (f *ChildFacts) seats(add adder) {
	follow, waiting, unstated := 0, 0, []string(nil)
	for i := range f.Now {
		switch c := &f.Now[i]; {
		case c.Waiting != portrait.Yes:
			follow++
		case f.Stated != nil && f.Stated(c.Serial):
			waiting++
		default:
			unstated = append(unstated, strings.TrimSpace(c.Name+" "+c.Serial))
		}
	}
	title := "Licences for " + f.Called
	rest := ""
	if len(unstated) > 0 {
		rest = fmt.Sprintf("; not let in, since nobody stated their serials: %s", First(unstated, ", "))
	}
	switch {
	case f.Seats == 0 && waiting+len(unstated) == 0:
	case f.Seats == 0:
		add(Seats, title, Pass, "", "%d more are let in; how many it may have is not known, since the device does not say%s", waiting, rest)
	case follow+waiting > f.Seats:
		add(Seats, title, Stop, "obtain licences for them, or let fewer in", "it may have %d; %d follow it, and %d more are to be let in%s", f.Seats, follow, waiting, rest)
	default:
		add(Seats, title, Pass, "", "it may have %d; %d follow it, and %d more are let in%s", f.Seats, follow, waiting, rest)
	}
}

// places says at which places nobody serves while their children start anew.
func (f *ChildFacts) places(add adder) {
	last := fmt.Sprintf("about %s, and at most %s in 19 of 20 cases", Rounded(f.Half), Rounded(f.Most))
	const title = "Places without service"
	switch {
	case f.AtOnce:
		add(Places, title, Warn, "accept it, when that is what the window is for", "all %d start anew by themselves when the device is back, at every place at once: %s", len(f.Want), last)
	case len(f.Alone) > 0:
		add(Places, title, Warn, "accept it, when that is what the window is for", "a place with one only is without while that starts anew, %s: %s", last, First(placed(f.Alone), ", "))
	default:
		add(Places, title, Pass, "", "they start anew in waves; at every place others serve meanwhile")
	}
}

// placed names places, also those of which nobody said where they are.
func placed(places []string) (out []string) {
	for _, p := range places {
		if p == "" {
			p = "a place without a name"
		}
		out = append(out, p)
	}
	return out
}

// First names the first few of many, with a separator between them.
func First(names []string, separator string) string {
	const most = 6
	if len(names) <= most {
		return strings.Join(names, separator)
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], separator), len(names)-most)
}
