package change

import (
	"cmp"
	"slices"

	"verimorph/core/catalog"
)

// What people notice of a change: when each step is expected to run, and what it does to each kind of client meanwhile. The same is worked out
// of the times that were measured, so that the two can be held against each other.

// A Timeline is a plan laid out in time, in seconds after its start.
type Timeline struct {
	Seconds float64 // until the last step is over
	Steps   []When  // in the order of the plan
	Clients []Noticed
}

// A When is when a step runs.
type When struct {
	Number, Member int
	From, To       float64
}

// Noticed is what one kind of client notices, part by part. Where there is no part, all works.
type Noticed struct {
	Clients string
	Parts   []Part
	Outage  float64 // seconds of all outages
	Less    float64 // seconds in which something is less than usual
}

// A Part is a stretch of time in which something is interrupted, or less than usual.
type Part struct {
	From, To float64
	Effect   string // "degraded" or "outage", as in a catalogue; "unknown" where the catalogue does not say
	Text     string
	Member   int // whose steps do it
}

// Lasting is how long a step is expected to take, in seconds: in the middle of its range.
func Lasting(s *Step) float64 { return (s.Expect.Low + s.Expect.High) / 2 }

// Lay lays steps out in time. lasts says how long each takes; effects are those of the catalogue that apply; active is the member that serves at the
// beginning, 0 where each member serves for itself.
//
// An effect begins with its step and lasts until the next step of the same member with an effect on the same clients, or until the services of the
// member are up again. Of a pair only the one that serves is noticed.
func Lay(steps []Step, lasts func(*Step) float64, effects []catalog.Effect, active int) *Timeline {
	return Measured(steps, layOut(steps, lasts), effects, active)
}

// Measured is [Lay] for steps whose times are known, in the order of the steps.
func Measured(steps []Step, times []When, effects []catalog.Effect, active int) *Timeline {
	t := &Timeline{Steps: times}
	for _, w := range t.Steps {
		t.Seconds = max(t.Seconds, w.To)
	}
	var kinds []string
	for _, e := range effects {
		if !slices.Contains(kinds, e.Clients) {
			kinds = append(kinds, e.Clients)
		}
	}
	for _, clients := range kinds {
		n := Noticed{Clients: clients, Parts: t.notices(steps, effects, clients, active)}
		for _, p := range n.Parts {
			switch p.Effect {
			case outage:
				n.Outage += p.To - p.From
			case degraded:
				n.Less += p.To - p.From
			}
		}
		t.Clients = append(t.Clients, n)
	}
	return t
}

// The effects of a catalogue that are noticed.
const (
	outage   = "outage"
	degraded = "degraded"
	unknown  = "unknown" // never in a catalogue
)

// layOut gives each step its time: it begins when what it comes after is over.
func layOut(steps []Step, lasts func(*Step) float64) []When {
	out := make([]When, len(steps))
	over := map[int]float64{} // by number
	for i := range steps {
		s := &steps[i]
		w := When{Number: s.Number, Member: s.Member}
		for k := range steps[:i] {
			if b := &steps[k]; comesAfter(s, b) {
				w.From = max(w.From, over[b.Number])
			}
		}
		w.To = w.From + max(lasts(s), 0)
		over[s.Number], out[i] = w.To, w
	}
	return out
}

// comesAfter reports whether a step waits for an earlier one: as it says, else for those of its member and of the whole.
func comesAfter(s, before *Step) bool {
	if s.After != nil {
		return slices.Contains(s.After, before.Number)
	}
	return s.Member == before.Member || s.Member == 0 || before.Member == 0
}

// notices are the parts in which one kind of client notices something.
func (t *Timeline) notices(steps []Step, effects []catalog.Effect, clients string, active int) (out []Part) {
	serving := func(member int, at float64) bool {
		who := active
		for i := range steps {
			if steps[i].Kind == Switch && t.Steps[i].To <= at {
				who = steps[i].Member
			}
		}
		return active == 0 || who == member
	}
	for i := range steps {
		s := &steps[i]
		k := slices.IndexFunc(effects, func(e catalog.Effect) bool { return e.Clients == clients && e.Step == string(s.Kind) })
		if k < 0 && s.Kind.Is(Switch, HandOver) { // nobody said that it is not noticed
			out = append(out, Part{From: t.Steps[i].From, To: t.Steps[i].To, Effect: unknown, Text: "the catalogue does not say what they notice of a switch", Member: s.Member})
			continue
		}
		if k < 0 || effects[k].Effect != outage && effects[k].Effect != degraded {
			continue
		}
		if s.Kind != Switch && !serving(s.Member, t.Steps[i].From) { // a switch is noticed whoever it is to
			continue
		}
		p := Part{From: t.Steps[i].From, To: t.until(steps, effects, i, clients), Effect: effects[k].Effect, Text: effects[k].Text, Member: s.Member}
		if p.To > p.From {
			out = append(out, p)
		}
	}
	slices.SortStableFunc(out, func(a, b Part) int { return cmp.Compare(a.From, b.From) })
	return out
}

// until is when an effect of a step is over.
func (t *Timeline) until(steps []Step, effects []catalog.Effect, i int, clients string) float64 {
	s := &steps[i]
	if !s.Kind.Is(Restart, Install) && s.Kind != Link && s.Kind != Login {
		return t.Steps[i].To
	}
	for k := i + 1; k < len(steps); k++ {
		next := &steps[k]
		if next.Member != s.Member || next.Hop != s.Hop {
			continue
		}
		if slices.ContainsFunc(effects, func(e catalog.Effect) bool { return e.Clients == clients && e.Step == string(next.Kind) }) {
			return t.Steps[k].From
		}
		if next.Kind == Services {
			return t.Steps[k].To
		}
	}
	return t.Steps[i].To
}
