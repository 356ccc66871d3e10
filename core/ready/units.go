package ready

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"verimorph/core/portrait"
)

// Devices with several units: all of them have to be as they were when the change was drafted, and to have room; and whoever they serve is told for how
// long nobody does.

// UnitFacts are those of a device that says which units it has; nothing of it is looked at where it has none.
type UnitFacts struct {
	Now  []portrait.Unit
	Want []UnitWanted // as the change was drafted; nil: it does not go by units
	Goal string       // version that is brought onto each of them; "" when none is
	Need int64        // bytes that it takes on each that does not have it yet; 0: not known
	// Removable are files on a unit that nothing needs, by its name; Freed what a change removes there itself, in bytes.
	Removable map[string][]string
	Freed     map[string]int64
	// Dark says that all of them are down at once, Half and Most for how long: in the middle, and in 19 of 20 cases.
	Dark       bool
	Half, Most time.Duration
}

// A UnitWanted is a unit as it stood when the change was drafted.
type UnitWanted struct{ Name, Serial string }

func (f *UnitFacts) checks(add adder) {
	if len(f.Now) == 0 && len(f.Want) == 0 {
		return
	}
	f.there(add)
	f.room(add)
	f.dark(add)
}

// there holds the units against those of the draft.
func (f *UnitFacts) there(add adder) {
	var wrong, doubts, well []string
	serving := 0
	for i := range f.Now {
		u := &f.Now[i]
		if u.Serves() {
			serving++
		}
		switch {
		case f.Want != nil && !slices.ContainsFunc(f.Want, func(w UnitWanted) bool { return w.Name == u.Name }):
			wrong = append(wrong, fmt.Sprintf("unit %s was not there when the change was drafted", u.Name))
		case u.Passing == portrait.Yes:
			doubts = append(doubts, u.Text()+", which passes by itself")
		case u.Good == portrait.No:
			doubts = append(doubts, u.Text())
		case u.Good == portrait.Unknown:
			doubts = append(doubts, u.Text()+"; whether that is well is not known")
		default:
			well = append(well, u.Name)
		}
	}
	for _, w := range f.Want {
		i := slices.IndexFunc(f.Now, func(u portrait.Unit) bool { return u.Name == w.Name })
		switch {
		case i < 0:
			wrong = append(wrong, fmt.Sprintf("unit %s is not there", w.Name))
		case w.Serial != "" && f.Now[i].Serial != w.Serial:
			wrong = append(wrong, fmt.Sprintf("unit %s has the serial %s, and had %s when the change was drafted", w.Name, cmp.Or(f.Now[i].Serial, "none"), w.Serial))
		}
	}
	if len(f.Now) > 1 && serving != 1 {
		wrong = append(wrong, fmt.Sprintf("%d units say that they serve, and one does", serving))
	}
	const title = "Units"
	switch all := strings.Join(append(wrong, doubts...), "; "); {
	case len(wrong) > 0:
		add(UnitsCheck, title, Stop, "put that in order, or draft the change anew for the units that are there", "%s", all)
	case len(doubts) > 0:
		add(UnitsCheck, title, Warn, "wait until all of them are well, or see to those that are not", "%s", all)
	default:
		add(UnitsCheck, title, Pass, "", "all %d are there and well: %s", len(f.Now), strings.Join(well, ", "))
	}
}

// room looks at each unit by itself: what is brought onto all of them has to fit on each.
func (f *UnitFacts) room(add adder) {
	if f.Goal == "" {
		return
	}
	for i := range f.Now {
		u := &f.Now[i]
		name, title := Room+" "+u.Name, "Room on unit "+u.Name
		switch {
		case u.Has(f.Goal) == portrait.Yes:
			add(name, title, Pass, "", "it has %s already", f.Goal)
		case u.Room == nil:
			add(name, title, Warn, "see that there is room before it starts", "it does not say how much room it has; %s takes %s", f.Goal, MiB(f.Need))
		case u.Room.Free+f.Freed[u.Name] < f.Need:
			remedy := "make room on that unit"
			if files := f.Removable[u.Name]; len(files) > 0 {
				remedy += "; nothing there needs " + strings.Join(files, ", ") + ": draft it with -clean-up " + u.Name + ":FILE"
			}
			add(name, title, Stop, remedy, "%s takes %s, and %s of %s are free", f.Goal, MiB(f.Need), MiB(u.Room.Free+f.Freed[u.Name]), MiB(u.Room.Total))
		default:
			more := ""
			if n := f.Freed[u.Name]; n > 0 {
				more = fmt.Sprintf(", and the change frees %s first", MiB(n))
			}
			add(name, title, Pass, "", "%s takes %s; %s of %s are free%s", f.Goal, MiB(f.Need), MiB(u.Room.Free), MiB(u.Room.Total), more)
		}
	}
}

// dark says for how long nobody serves.
func (f *UnitFacts) dark(add adder) {
	if !f.Dark {
		return
	}
	last := fmt.Sprintf("%s, and at most %s in 19 of 20 cases", Rounded(f.Half), Rounded(f.Most))
	if len(f.Now) == 1 {
		add(Dark, "Nobody serves", Pass, "", "it has one unit: while that starts anew, whoever it serves is cut off for %s", last)
		return
	}
	add(Dark, "Nobody serves", Warn, "accept it, when that is what the window is for", "all %d units start anew together: whoever they serve is cut off for %s", len(f.Now), last)
}

// AllDown is the check of a change that takes all members of an ensemble down at once.
func AllDown(members int, half, most time.Duration) Check {
	return Check{Name: Dark, Title: "Nobody serves", State: Warn, Remedy: "accept it, when that is what the window is for",
		Evidence: fmt.Sprintf("all %d members start anew together: whoever they serve is cut off for %s, and at most %s in 19 of 20 cases", members, Rounded(half), Rounded(most))}
}
