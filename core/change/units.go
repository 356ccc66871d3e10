package change

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/prove"
)

// Devices with several units that run firmware of their own: stacks, and chassis with two supervisors. One device speaks for all of them, so their change
// has one lane. What was installed is brought onto every unit before any of them starts anew. Then either all of them restart together, which leaves
// nobody who serves for that time, or they go one after the other: one that stands by first, which takes over once it is hot and shows itself, and only
// then the others.

// UnitAbilities say what a kind of device can do with its units.
type UnitAbilities struct {
	Told       bool // it says which units it has
	Spread     bool // at a command it brings an installation onto all of them
	BringAlong bool // one that missed an update is given the release of the active one
	Clean      bool // a file can be removed from one of them
	Restart    bool // one of them can be started anew by itself
	HandOver   bool // one that stands by takes over at a command
	Components bool // components of a unit can be updated
}

// A UnitOf is a unit as it stood when the change was drafted.
type UnitOf struct {
	Name    string `json:"name"`
	Role    string `json:"role,omitempty"`
	Model   string `json:"model,omitempty"`
	Serial  string `json:"serial,omitempty"`
	Version string `json:"version,omitempty"`
	Active  bool   `json:"active,omitempty"`
	// Components are the names of those that it has of its own.
	Components []string `json:"components,omitempty"`
}

// Units are what a change of a device with several of them was drafted from, as it is stored with the change.
type Units struct {
	Units []UnitOf `json:"units"`
	Dark  []int    `json:"dark,omitempty"` // hops that take all of them down at once
	Proof Proof    `json:"proof"`
}

// UnitsIn are the units that a device shows.
func UnitsIn(p *portrait.Portrait) (out []UnitOf) {
	for i := range p.Units {
		u := &p.Units[i]
		out = append(out, UnitOf{Name: u.Name, Role: u.Role, Model: u.Model, Serial: u.Serial, Version: u.Version, Active: u.Serves(), Components: slices.Sorted(maps.Keys(u.Components))})
	}
	return out
}

// A UnitScope says which units a step is about.
type UnitScope string

// The scopes. Which units they are is seen when the step is done: roles may have changed.
const (
	AnyUnits     UnitScope = ""          // the device as a whole
	OneUnit      UnitScope = "one"       // one unit runs what the step leads to and could serve: it serves already, or one that stands by is started anew
	RestOfUnits  UnitScope = "rest"      // all of them, one after the other
	StandbyUnits UnitScope = "standby"   // those that do not serve
	AllUnits     UnitScope = "all-units" // all of them, those that do not serve first
)

// several reports whether the device has more than one unit.
func (j *Job) several() bool { return j.Can.Units.Told && len(j.Units) > 1 }

// byUnit reports whether a component is one that each unit has of its own.
func (j *Job) byUnit(component string) bool {
	return j.several() && j.Can.Units.Components && !slices.ContainsFunc(j.Units, func(u UnitOf) bool { return !slices.Contains(u.Components, component) })
}

// rolls reports whether units can be started anew one after the other in a hop: while the versions before and after it run side by side, another one serves.
func (j *Job) rolls(hop int) bool {
	able := j.several() && !j.Can.InPlace && j.Can.Units.Restart && j.Can.Units.HandOver
	if !able || j.AtOnce || hop >= len(j.Path.Hops) || !slices.ContainsFunc(j.Units, func(u UnitOf) bool { return u.Active }) {
		return false
	}
	h := &j.Path.Hops[hop]
	if h.Config == catalog.ConfigReset || slices.ContainsFunc(h.Components, j.restartsAll) { // it goes down as a whole besides
		return false
	}
	return j.GetOn == nil || j.GetOn(h.From.String(), h.To.String())
}

// restartsAll reports whether a component needs a restart of the whole device, and not only the restarts of units that come anyway.
func (j *Job) restartsAll(c path.Component) bool {
	return c.Trigger == catalog.TriggerRestart && !(c.Order == "before" && j.byUnit(c.Name))
}

// start lists the steps by which what was chosen is started, on a device with units, up to where its version is confirmed.
func (j *Job) start(hop int, components []Step) (out []Step) {
	add := func(s Step) { out = append(out, s) }
	switch {
	case !j.several():
		for _, k := range []Kind{Restart, Link, Login, Confirm} {
			add(j.step(hop, k))
		}
		return out
	case !j.rolls(hop):
		restart := j.step(hop, Restart)
		restart.Title = "Restart all units together"
		add(restart)
		for _, k := range []Kind{Link, Login, Confirm} {
			add(j.step(hop, k))
		}
	default:
		add(j.restartUnits(hop, OneUnit))
		for _, k := range []Kind{HandOver, Link, Login} {
			add(j.step(hop, k))
		}
		compare := j.step(hop, Settle)
		compare.Title = "Compare after the hand-over"
		add(compare)
		out = append(out, components...)
		add(j.restartUnits(hop, RestOfUnits))
		add(j.step(hop, Confirm))
	}
	add(j.step(hop, AwaitUnits))
	return out
}

// restartUnits starts units anew, one after the other, each until it could take over.
func (j *Job) restartUnits(hop int, scope UnitScope) Step {
	s := j.step(hop, RestartUnits, UnitParams{scope})
	one, given := j.Family.Durations[string(RestartUnits)]
	if !given {
		for _, name := range []Kind{Restart, Link, Login, Services} {
			d := j.Family.Durations[string(name)]
			one.Low, one.High, one.Limit = one.Low+d.Low, one.High+d.High, one.Limit+d.Limit
		}
	}
	n := float64(1)
	s.Title = "Restart a unit that stands by"
	if scope == RestOfUnits {
		n, s.Title = float64(len(j.Units)-1), "Restart the other units"
	}
	s.Expect = j.Pace.Scale(catalog.Span{Low: n * one.Low, High: n * one.High, Limit: n * max(one.Limit, fallback.Limit)})
	return s
}

// UnitsOf is what is stored of the units of a job with its plan; nil where the device has not several.
func (j *Job) UnitsOf(plan *Plan) *Units {
	if !j.several() {
		return nil
	}
	out := &Units{Units: j.Units, Proof: Proof{Proved: true}}
	for hop := range j.Path.Hops {
		if !j.rolls(hop) {
			out.Dark = append(out.Dark, hop)
		}
	}
	active := slices.IndexFunc(j.Units, func(u UnitOf) bool { return u.Active })
	for hop := range j.Path.Hops {
		w := unitWalk{j: j, hop: hop, active: active}
		one := proofOf(w.plan(plan.Steps), w.parts())
		active = w.active
		out.Proof.States += one.States
		if one.Text != "" || !one.Proved {
			one.States = out.Proof.States
			out.Proof = one
			break
		}
	}
	return out
}

// A unitWalk turns the steps of one hop into what is proved of the units.
type unitWalk struct {
	j      *Job
	hop    int
	active int // unit that serves, from 0; -1: none that is known
	steps  []prove.Step
	// compared: the one that serves has shown the release.
	compared bool
}

// parts is how many effects a step has at most: five on each unit, and one more.
func (w *unitWalk) parts() int { return 5*len(w.j.Units) + 1 }

// Versions of a hop, as they are proved.
const (
	oldVersion = 0
	newVersion = 1
)

// plan is the hop as it is proved.
func (w *unitWalk) plan(steps []Step) *prove.Plan {
	h, dark := &w.j.Path.Hops[w.hop], !w.j.rolls(w.hop)
	p := &prove.Plan{Rules: prove.Rules{Versions: []string{h.From.String(), h.To.String()}, Dark: dark, Together: dark, Interrupts: dark}}
	if !dark {
		p.Rules.Quorum = 1
		p.Back = w.back(w.parts())
	}
	if w.j.GetOn != nil && !dark { // together, one that comes back with the old release does not join the others
		p.Rules.GetOn = func(a, b int) bool { return w.j.GetOn(p.Rules.Versions[a], p.Rules.Versions[b]) }
	}
	for i, u := range w.j.Units {
		p.Members = append(p.Members, prove.Member{Name: "unit " + u.Name, Version: oldVersion, Active: i == w.active, Sync: i != w.active})
	}
	for i := range steps {
		if steps[i].Hop == w.hop && !steps[i].Back {
			w.step(&steps[i])
		}
	}
	p.Steps = w.steps
	return p
}

// step adds what a step does to units.
func (w *unitWalk) step(s *Step) {
	n := s.Number * w.parts()
	add := func(unit int, e prove.Effect, v int) {
		one := prove.Step{Number: n, Title: s.Title, Member: unit + 1, Effect: e, Version: v, Rest: s.SafePoint && n == s.Number*w.parts()}
		if k := len(w.steps); k > 0 {
			one.After = []int{w.steps[k-1].Number}
		}
		w.steps, n = append(w.steps, one), n+1
	}
	switch {
	case s.InPlace(), s.Kind == Restart && s.Component() == "":
		for i := range w.j.Units {
			add(i, prove.Commits, newVersion)
		}
		for i := range w.j.Units {
			add(i, prove.Down, 0)
		}
	case s.Kind == Login && w.down():
		for i := range w.j.Units {
			add(i, prove.Up, 0)
		}
	case s.Kind == RestartUnits:
		for _, i := range w.scope(Of[UnitParams](s).Units) {
			add(i, prove.Commits, newVersion)
			add(i, prove.Down, 0)
			add(i, prove.Up, 0)
			add(i, prove.Sync, 0)
			if w.compared { // the one that serves has shown the release, and this one follows it
				add(i, prove.Shows, 0)
			}
		}
	case s.Kind == HandOver:
		w.active = w.scope(OneUnit)[0]
		add(w.active, prove.Switch, 0)
	case s.Kind == Settle:
		w.compared = true
		add(max(w.active, 0), prove.Shows, 0)
	}
}

// down reports whether all units went down with the last step that had an effect.
func (w *unitWalk) down() bool {
	return len(w.steps) > 0 && w.steps[len(w.steps)-1].Effect == prove.Down
}

// scope are the units that a step restarts, from 0: one that stands by, or all that do not serve once one has taken over.
func (w *unitWalk) scope(scope UnitScope) (out []int) {
	for i := range w.j.Units {
		if i != w.active {
			out = append(out, i)
		}
	}
	if scope == OneUnit {
		return out[:1]
	}
	return out
}

// back is the way back that is claimed: as the steps of a way back find the units, so they take them back.
func (w *unitWalk) back(parts int) func(prove.State) ([]prove.Step, []int, bool) {
	n := len(w.j.Units)
	return func(s prove.State) (steps []prove.Step, to []int, claimed bool) {
		to = make([]int, n) // the old version has index 0
		active, other := -1, -1
		var moved []int
		for i := range n {
			up := s.Up(i + 1)
			switch {
			case up && s.Active(i+1):
				active = i
			case up && s.Runs(i+1) == oldVersion && other < 0:
				other = i
			}
			if up && s.Runs(i+1) == newVersion {
				moved = append(moved, i)
			}
		}
		if active < 0 || len(moved) == 0 {
			return nil, to, false
		}
		add := func(i int, effects ...prove.Effect) {
			for _, e := range effects {
				one := prove.Step{Number: len(steps) + 1, Title: "go back", Member: i + 1, Effect: e, Version: oldVersion}
				if len(steps) > 0 {
					one.After = []int{len(steps)}
				}
				steps = append(steps, one)
			}
		}
		taken := []prove.Effect{prove.Commits, prove.Down, prove.Up, prove.Sync}
		if s.Runs(active+1) == newVersion {
			if other < 0 { // one that stands by goes first
				k := slices.IndexFunc(moved, func(i int) bool { return i != active })
				if k < 0 {
					return nil, to, false
				}
				other = moved[k]
				add(other, taken...)
			} else {
				add(other, prove.Sync)
			}
			add(other, prove.Switch)
		}
		for _, i := range moved {
			if i != other {
				add(i, taken...)
			}
		}
		return steps, to, true
	}
}

// UnitText tells units in a few words: 4 units (1 leads, 2, 3, 4).
func UnitText(units []UnitOf) string {
	text := ""
	for i, u := range units {
		if i > 0 {
			text += ", "
		}
		text += cmp.Or(u.Name, "?")
		if u.Role != "" {
			text += " " + u.Role
		}
	}
	return fmt.Sprintf("%d units (%s)", len(units), text)
}
