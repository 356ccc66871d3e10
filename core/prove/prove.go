// Package prove walks every order that a plan of several boxes allows, with every single failure, and shows that what must not happen cannot.
//
// A [Plan] has members and steps. A step has an [Effect] on its member, and says which steps have to be over first; where nothing is said between
// two steps, they may be done in any order or side by side, and [Check] walks them all. On every way one step may fail, in each of the ways in
// which such a step can fail: then the change comes to rest, as the engine brings it to rest, while members that are on their way through a
// restart go on to their next safe point.
//
// What is proved are the [Rules]: that not all members are down, that the quorum is kept, that no versions run side by side that do not get on
// with each other, that nobody is switched to who is not in sync, that the active member does not go down under its users while another could
// serve them, and that nothing irreversible is done to a second member before the first one that was changed has shown itself. Where a way back
// is claimed, it is walked from each place where the change can come to rest.
//
// A rule that is broken comes with the steps that lead there ([Violation]). A plan that is too large to be walked to its end is not proved, and the
// [Result] says so.
package prove

import (
	"fmt"
	"slices"
)

// Bounds of what can be walked.
const (
	MostMembers = 16
	MostSteps   = 512
	mostStates  = 2_000_000
)

// An Effect is what a step does to the ensemble.
type Effect string

// The effects of steps. A step without one is never walked: it only passes on the order.
const (
	None    Effect = ""
	Commits Effect = "commits" // from here on the member starts another version: irreversible
	Down    Effect = "down"    // the member goes down
	Up      Effect = "up"      // the member answers again, with the version that it was to start; it is not in sync
	Sync    Effect = "in-sync" // the member is in sync with the active one
	Switch  Effect = "switch"  // the member becomes the active one
	Shows   Effect = "shows"   // the member has shown itself: what was compared is as it should be
	Drained Effect = "drained" // the member serves nobody any more
	Serves  Effect = "serves"  // the member serves again
)

// A Step is one step of a plan.
type Step struct {
	Number  int
	Title   string
	Member  int   // from 1; 0: of the ensemble as a whole
	After   []int // numbers of the steps that have to be over first
	Effect  Effect
	Version int  // of Commits: index of the version that it starts then
	Rest    bool // the change may come to rest before it
}

// A Member is a box at the beginning.
type Member struct {
	Name    string
	Version int  // index
	Active  bool // it has the active role
	Sync    bool // it is in sync with the active one
}

// Rules are what must hold.
type Rules struct {
	Versions   []string            // by index, for messages
	GetOn      func(a, b int) bool // whether members on two versions may run side by side; nil: any may
	Dark       bool                // all members may be down at once: the plan says so, and a person accepts it
	Quorum     int                 // how many members have to be up at every moment; 0: as Dark says
	Together   bool                // members are changed together: none waits for another to show itself
	Serving    bool                // a member shows itself only while it is the active one
	Interrupts bool                // the active member may go down under its users: there is nobody to take over, or a person accepts it
}

// A Plan is what is checked.
type Plan struct {
	Members []Member
	Steps   []Step
	Rules   Rules
	// Back gives the steps of the way back from where the change rests, and the version that each member runs at its end; false: it claims none
	// there. nil: it never claims one.
	Back func(State) (steps []Step, to []int, claimed bool)
	// Most is how many states are walked at most. Defaults to two million.
	Most int
}

// A Result says what was found.
type Result struct {
	Proved bool       // every order was walked, and no rule is broken
	States int        // how many were walked
	GaveUp string     // why it is not proved although nothing was found; "" else
	Broken *Violation // nil: no rule was found broken
}

// A Violation is a rule that is broken, and how one gets there.
type Violation struct {
	Rule  string // what must not happen
	Text  string // what happens
	Trace []Event
}

// An Event is one thing that happens on the way to a violation.
type Event struct {
	Step   int    // its number
	Title  string // with the name of its member
	Failed string // how it fails; "" when it is done
	Back   bool   // on the way back
}

// String is an event in a line.
func (e Event) String() string {
	text := fmt.Sprintf("step %d, %s", e.Step, e.Title)
	if e.Back {
		text = "way back, " + text
	}
	if e.Failed != "" {
		text += ": " + e.Failed
	}
	return text
}

// Check walks a plan.
func Check(p *Plan) *Result {
	w, err := newWalk(p)
	if err != nil {
		return &Result{GaveUp: err.Error()}
	}
	w.walk()
	r := &Result{States: len(w.seen), Broken: w.broken, GaveUp: w.gaveUp}
	r.Proved = r.Broken == nil && r.GaveUp == ""
	return r
}

// check reports what is wrong with a plan itself.
func (p *Plan) check() error {
	if len(p.Members) == 0 || len(p.Members) > MostMembers {
		return fmt.Errorf("there are %d members; 1 to %d can be walked", len(p.Members), MostMembers)
	}
	if n := len(compact(p.Steps)); n > MostSteps {
		return fmt.Errorf("there are %d steps that have an effect; at most %d can be walked", n, MostSteps)
	}
	var before []int
	for _, s := range p.Steps {
		if s.Member < 0 || s.Member > len(p.Members) || s.Member == 0 && s.Effect != None {
			return fmt.Errorf("step %d works on member %d, which is none", s.Number, s.Member)
		}
		for _, n := range s.After {
			if !slices.Contains(before, n) {
				return fmt.Errorf("step %d comes after step %d, which does not stand before it", s.Number, n)
			}
		}
		if slices.Contains(before, s.Number) {
			return fmt.Errorf("there are two steps %d", s.Number)
		}
		before = append(before, s.Number)
	}
	return nil
}
