package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
)

// Devices with several units: bringing an installation onto all of them, starting them anew one after the other, and waiting until all are there. Which unit
// is meant is seen when it is done: roles may change with every start.

// unitsExpected are the names of the units that the device had when its change was drafted.
func (r *run) unitsExpected() (names []string) {
	if r.c.Units == nil {
		return nil
	}
	for _, u := range r.c.Units.Units {
		names = append(names, u.Name)
	}
	return names
}

// seeUnits is the portrait of a device that says which units it has; a stack that says none cannot be waited for.
func (r *run) seeUnits(ctx context.Context) (*portrait.Portrait, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil, err
	}
	if why := p.NotUnderstood["units"]; why != "" {
		return nil, final("which units it has is not known: %s. Its dialect has to know that line", why)
	}
	return p, nil
}

// without names the expected units that do not hold what is asked of each, with how they stand.
func (r *run) without(p *portrait.Portrait, holds func(*portrait.Unit) bool) (not []string) {
	for _, name := range r.unitsExpected() {
		switch u := p.Unit(name); {
		case u == nil:
			not = append(not, "unit "+name+" is not there")
		case !holds(u):
			not = append(not, u.Text())
		}
	}
	return not
}

// spreadThere reports whether all units have what the hop installs.
func spreadThere(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	p, err := r.seeUnits(ctx)
	if err != nil {
		return false, "", err
	}
	to := r.goal(s)
	not := r.without(p, func(u *portrait.Unit) bool { return u.Has(to) == portrait.Yes })
	return len(not) == 0, fmt.Sprintf("all %d units have %s", len(r.unitsExpected()), to), nil
}

// spread brings what was installed onto all units. A device that does so by itself is only waited for.
func spread(r *run, ctx context.Context, s *store.Step) error {
	c, in, err := r.atSlot(ctx, s)
	if err != nil {
		return err
	}
	if !c.Profile().Abilities.Units.Spread {
		return nil
	}
	return c.Spread(ctx, in.Slot, r.file(s).Name, func(f float64) { r.progress(ctx, s, f, "it is brought onto all units, %.0f %%", f*100) })
}

// spreadNow waits until every unit says that it has it: that one says so says nothing of the others.
func spreadNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	to, began := r.goal(s), r.e.now()
	err := r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.seeUnits(ctx)
		if err != nil {
			return false, "", err
		}
		not := r.without(p, func(u *portrait.Unit) bool { return u.Has(to) == portrait.Yes })
		working := slices.ContainsFunc(p.Units, func(u portrait.Unit) bool { return u.Has(to) != portrait.Yes && u.Passing == portrait.Yes })
		silent := !slices.ContainsFunc(p.Units, func(u portrait.Unit) bool { return u.Has("") != portrait.Unknown })
		switch {
		case silent && len(r.without(p, func(*portrait.Unit) bool { return true })) == 0:
			return true, "whether every unit has " + to + " is not known, since the device does not say; it shows once they were started anew", nil
		case len(not) == 0:
			return true, fmt.Sprintf("all %d units have %s", len(r.unitsExpected()), to), nil
		case !working && r.e.since(began) > max(r.wait(beginsLate), time.Second):
			return false, "", final("not every unit has %s: %s. See what keeps it from those units, then answer retry. The device had answered: %s", to, strings.Join(not, "; "), r.words())
		}
		return false, "not every unit has it yet: " + strings.Join(not, "; "), nil
	})
	if err != nil {
		return "", err
	}
	return s.Note, nil
}

// nextToRestart is the unit that a step is to start anew next; nil when none is left. why says why that cannot be done, wait what is waited for.
func nextToRestart(p *portrait.Portrait, scope change.UnitScope, to string) (next *portrait.Unit, wait, why string) {
	active := p.ActiveUnit()
	if active == nil {
		return nil, "no unit, or more than one, says that it serves", ""
	}
	if scope == change.OneUnit && (active.Version == to || slices.ContainsFunc(p.Units, func(u portrait.Unit) bool { return !u.Serves() && u.Version == to })) {
		return nil, "", ""
	}
	for i := range p.Units {
		switch u := &p.Units[i]; {
		case u.Serves(), u.Version == to, u.Has(to) == portrait.No:
		case u.Passing == portrait.Yes: // it may be on its way already
			wait = u.Text()
		case next == nil:
			next = u
		}
	}
	if next == nil && wait == "" && active.Version != to && scope == change.RestOfUnits {
		return nil, "", fmt.Sprintf("unit %s serves and runs %s; another one on %s has to take over before it is started anew", active.Name, active.Version, to)
	}
	return next, wait, ""
}

// settled reports whether those units that a step started anew could take over: all that stand by on its version.
func settled(p *portrait.Portrait, to string) (waits []string) {
	for i := range p.Units {
		if u := &p.Units[i]; !u.Serves() && u.Version == to && u.Hot != portrait.Yes {
			waits = append(waits, u.Text())
		}
	}
	return waits
}

// restartUnits starts units anew, one after the other: the next one only once all others that were could take over.
func restartUnits(r *run, ctx context.Context, s *store.Step) error {
	to, scope := r.goal(s), change.Of[change.UnitParams](&s.Plan).Units
	told := map[string]time.Time{}
	var done []string
	err := r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.seeUnits(ctx)
		if err != nil {
			return false, "", err
		}
		for name := range told {
			if u := p.Unit(name); u != nil && u.Version == to && !slices.Contains(done, name) {
				done = append(done, name)
			}
		}
		if not := r.without(p, func(*portrait.Unit) bool { return true }); len(not) > 0 && !onlyBack(s) {
			return false, strings.Join(not, "; "), nil
		}
		if waits := settled(p, to); len(waits) > 0 {
			return false, "it is waited until it could take over: " + strings.Join(waits, "; "), nil
		}
		next, wait, why := nextToRestart(p, scope, to)
		switch {
		case why != "":
			return false, "", final("%s", why)
		case next == nil && wait != "":
			return false, wait, nil
		case next == nil:
			return r.unitsDone(s, p, to, done)
		}
		if at, was := told[next.Name]; was {
			if r.e.since(at) > max(r.wait(beginsLate*4), 2*time.Second) {
				return r.cameBackOld(ctx, s, next, to, told)
			}
			return false, "it was told to start anew: " + next.Text(), nil
		}
		c, err := r.connect(ctx)
		if err != nil {
			return false, "", err
		}
		told[next.Name] = r.e.now()
		if err := c.RestartUnit(ctx, next.Name); err != nil {
			return false, "", err
		}
		return false, fmt.Sprintf("unit %s starts anew; unit %s serves", next.Name, p.ActiveUnit().Name), nil
	})
	return err
}

// cameBackOld is about a unit that was started anew and runs what it ran before: it is brought along, once.
func (r *run) cameBackOld(ctx context.Context, s *store.Step, u *portrait.Unit, to string, told map[string]time.Time) (bool, string, error) {
	c, err := r.connect(ctx)
	if err != nil {
		return false, "", err
	}
	tried := told["brought along "+u.Name] != time.Time{}
	active, err := r.seeUnits(ctx)
	if err != nil {
		return false, "", err
	}
	if serving := active.ActiveUnit(); tried || !c.Profile().Abilities.Units.BringAlong || serving == nil || serving.Version != to {
		return false, "", final("unit %s was started anew for %s, and %s. The device had answered: %s", u.Name, to, u.Text(), r.words())
	}
	told["brought along "+u.Name], told[u.Name] = r.e.now(), r.e.now()
	return false, "unit " + u.Name + " missed the update and is brought along", r.bringAlong(ctx, s, u)
}

// onlyBack reports whether a step is part of a way back: then a unit that is away keeps nobody from taking the others back.
func onlyBack(s *store.Step) bool { return s.Plan.Back }

// unitsDone concludes a restart of units: nobody is left to be started anew.
func (r *run) unitsDone(s *store.Step, p *portrait.Portrait, to string, done []string) (bool, string, error) {
	var not []string
	for i := range p.Units {
		if u := &p.Units[i]; u.Version != to {
			not = append(not, u.Text())
		}
	}
	scope := change.Of[change.UnitParams](&s.Plan).Units
	switch {
	case scope == change.OneUnit && len(not) == len(p.Units):
		return false, "", final("no unit that stands by has %s ready: %s. Bring it onto one of them, then answer retry", to, strings.Join(not, "; "))
	case scope == change.RestOfUnits && len(not) > 0:
		return false, "", final("not every unit has %s ready: %s. Bring it onto the others, then answer retry", to, strings.Join(not, "; "))
	case len(done) == 0:
		return true, "nothing was to be started anew: what could serve runs " + to, nil
	}
	slices.Sort(done)
	return true, fmt.Sprintf("unit %s runs %s and could take over", strings.Join(done, ", "), to), nil
}

// handedOver reports whether the unit that serves runs what the step leads to.
func handedOver(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	p, err := r.seeUnits(ctx)
	if err != nil {
		return false, "", err
	}
	active := p.ActiveUnit()
	if active == nil {
		return false, "no unit, or more than one, says that it serves", nil
	}
	return active.Version == r.goal(s), fmt.Sprintf("unit %s serves and runs %s", active.Name, active.Version), nil
}

// handOver has a unit take over that runs the release, when one is hot at this moment.
func handOver(r *run, ctx context.Context, s *store.Step) error {
	p, err := r.seeUnits(ctx)
	if err != nil {
		return err
	}
	to := r.goal(s)
	var cold []string
	hot := false
	for i := range p.Units {
		u := &p.Units[i]
		if u.Serves() {
			continue
		}
		if u.Version == to && u.Hot == portrait.Yes {
			hot = true
		} else {
			cold = append(cold, u.Text())
		}
	}
	if !hot {
		return final("no unit on %s could take over: %s. See that one is in step with the one that serves, then answer retry", to, strings.Join(cold, "; "))
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return r.begun(c, c.HandOver(ctx)) // the one that is signed in to may go away with it
}

func handedOverNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	err := r.poll(ctx, s, func() (bool, string, error) {
		done, evidence, err := handedOver(r, ctx, s, true)
		return done, evidence, err
	})
	if err != nil {
		return "", err
	}
	return s.Note, nil
}

// awaitUnits waits until all units are there, run the release and are well. One that missed the update is brought along; one that is on its way is given
// its time, however long that is, up to the limit of the step.
func awaitUnits(r *run, ctx context.Context, s *store.Step) error {
	to, began := r.goal(s), r.e.now()
	brought := map[string]bool{}
	settling := max(r.wait(beginsLate), time.Second) // right after a start, units say odd things of themselves
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.seeUnits(ctx)
		if err != nil {
			return false, "", err
		}
		not := r.without(p, func(u *portrait.Unit) bool { return u.Version == to && u.Good == portrait.Yes })
		if len(not) == 0 {
			text := fmt.Sprintf("all %d units are there, run %s and are well", len(r.unitsExpected()), to)
			if names := slices.Sorted(maps.Keys(brought)); len(names) > 0 {
				text += "; brought along: unit " + strings.Join(names, ", ")
			}
			return true, text, nil
		}
		if missed := r.missed(p, to, brought); missed != nil && r.e.since(began) > settling {
			if err := r.bringAlong(ctx, s, missed); err != nil {
				return false, "", err
			}
			brought[missed.Name] = true
		}
		return false, strings.Join(not, "; "), nil
	})
}

// missed is a unit that runs something else and is not on its way to what it should run, or nil.
func (r *run) missed(p *portrait.Portrait, to string, brought map[string]bool) *portrait.Unit {
	for i := range p.Units {
		if u := &p.Units[i]; u.Version != "" && u.Version != to && u.Passing != portrait.Yes && !brought[u.Name] && !u.Serves() {
			return u
		}
	}
	return nil
}

// bringAlong gives a unit that missed the update the release of the others.
func (r *run) bringAlong(ctx context.Context, s *store.Step, u *portrait.Unit) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if !c.Profile().Abilities.Units.BringAlong {
		return final("%s, and its dialect has no bring-along; bring it to the release of the others by hand", u.Text())
	}
	if err := r.e.Store.NoteStep(ctx, r.lease, r.c.ID, s.Plan.Number, "bring along", u.Text()); err != nil {
		return records(err)
	}
	r.progress(ctx, s, expectedFraction(s.Plan.Expect, 0), "unit %s missed the update and is brought along", u.Name)
	return c.BringAlong(ctx, u.Name)
}

// Readings of units, from the portrait.
const (
	readUnits        = "units"
	readUnitVersions = "unit-versions"
	readUnitsWell    = "units-well"
)

// unitReadings adds what the units of a device tell.
func unitReadings(values verify.Readings, p *portrait.Portrait) {
	if len(p.Units) == 0 {
		return
	}
	var there, run, well []string
	for i := range p.Units {
		u := &p.Units[i]
		there = append(there, strings.Join(strings.Fields(u.Name+" "+u.Model+" "+u.Serial), " "))
		run = append(run, u.Version)
		if u.Good == portrait.Yes {
			well = append(well, u.Name)
		}
	}
	values[readUnits], values[readUnitVersions], values[readUnitsWell] = set(there), set(run), set(well)
	if why := p.NotUnderstood["units"]; why != "" {
		for _, reading := range []string{readUnits, readUnitVersions, readUnitsWell} {
			values[reading] = verify.Value{Type: verify.NotReadable, Text: why}
		}
	}
}

// unitExpectations are what is expected of the units: all are there, run the same, and those that were well are.
func unitExpectations(before verify.Readings, version string) []verify.Expectation {
	if _, ok := before[readUnits]; !ok {
		return nil
	}
	return []verify.Expectation{
		{Reading: readUnits, Title: "Units", Rule: verify.KeepsAll, Severity: verify.Fails},
		{Reading: readUnitVersions, Title: "Versions of the units", Rule: verify.Equals, Value: set([]string{version}), Severity: verify.Fails},
		{Reading: readUnitsWell, Title: "Units that are well", Rule: verify.KeepsAll, Severity: verify.Fails},
	}
}

// unitsInScope are the units whose components a step updates, those that do not serve first.
func unitsInScope(p *portrait.Portrait, scope change.UnitScope) (out []*portrait.Unit) {
	var active []*portrait.Unit
	for i := range p.Units {
		if u := &p.Units[i]; u.Serves() {
			active = append(active, u)
		} else {
			out = append(out, u)
		}
	}
	if scope == change.StandbyUnits {
		return out
	}
	return append(out, active...)
}

// unitsLack names the units of a step that do not have its version of a component, with what they have.
func unitsLack(p *portrait.Portrait, s *change.Step) (lack []*portrait.Unit, text string) {
	var parts []string
	for _, u := range unitsInScope(p, change.Of[change.ComponentParams](s).Units) {
		if v := u.Components[s.Component()]; v != s.Version() {
			if v == "" {
				v = "not told"
			}
			lack, parts = append(lack, u), append(parts, fmt.Sprintf("%s of unit %s is %s", s.Component(), u.Name, v))
		}
	}
	return lack, strings.Join(parts, "; ")
}

// updateOnUnits updates a component on each unit that lacks it, one after the other.
func (r *run) updateOnUnits(ctx context.Context, s *store.Step, c *device.Client) error {
	p, err := r.seeUnits(ctx)
	if err != nil {
		return err
	}
	lack, _ := unitsLack(p, &s.Plan)
	for i, u := range lack {
		err := c.UpdateUnit(ctx, u.Name, s.Plan.Component(), s.Plan.File().Name, func(f float64) {
			r.progress(ctx, s, (float64(i)+f)/float64(len(lack)), "%s of unit %s is being written, %.0f %%", s.Plan.Component(), u.Name, f*100)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// otherUnitsLater reports whether units are started anew after a comparison, which then says nothing of them.
func (r *run) otherUnitsLater(s *store.Step) bool {
	return s.Plan.Kind == change.Settle && slices.ContainsFunc(r.c.Steps, func(st store.Step) bool {
		return st.Plan.Kind == change.RestartUnits && st.Plan.Hop == s.Plan.Hop && st.Plan.Number > s.Plan.Number && !st.Plan.Back
	})
}

// unitHas reports whether a serial is that of a unit that the device had when its change was drafted.
func unitHas(c *store.Change, serial string) bool {
	return c.Units != nil && serial != "" && slices.ContainsFunc(c.Units.Units, func(u change.UnitOf) bool { return u.Serial == serial })
}

// ofUnits reports whether a step updates a component of units.
func ofUnits(s *store.Step) bool {
	return change.Of[change.ComponentParams](&s.Plan).Units != change.AnyUnits
}

// unitFacts looks at the units of a device: at each of them, and for how long none of them serves.
func (e *Engine) unitFacts(ctx context.Context, f *ready.Facts, c *store.Change, way *path.Path, p *portrait.Portrait, hop int) error {
	if p == nil || len(p.Units) == 0 && c.Units == nil {
		return nil
	}
	out := &f.Units
	out.Now = p.Units
	var down []change.Step
	for i := range c.Steps {
		s := &c.Steps[i].Plan
		if s.Hop != hop || s.Back {
			continue
		}
		switch {
		case s.Kind == change.Spread && hop < len(way.Hops):
			out.Goal, out.Need = way.Hops[hop].To.String(), way.Hops[hop].Image.Installed
		case s.Kind == change.CleanUp:
			out.Freed = freed(p, change.Of[change.CleanUpParams](s).Files)
		case s.InPlace(), s.Kind.Is(change.Restart, change.Link, change.Login, change.Confirm, change.AwaitUnits, change.Services):
			down = append(down, *s)
		}
	}
	switch {
	case c.Units != nil:
		for _, u := range c.Units.Units {
			out.Want = append(out.Want, ready.UnitWanted{Name: u.Name, Serial: u.Serial})
		}
		out.Dark = slices.Contains(c.Units.Dark, hop)
	default:
		out.Dark = f.Starts
	}
	installed := e.installed(ctx, way, p)
	for i := range p.Units {
		u := &p.Units[i]
		for _, file := range u.Files {
			if needed := installed[file.Name] != "" || hop < len(way.Hops) && file.Name == way.Hops[hop].Image.File; !needed {
				if out.Removable == nil {
					out.Removable = map[string][]string{}
				}
				out.Removable[u.Name] = append(out.Removable[u.Name], fmt.Sprintf("%s (%s)", file.Name, ready.MiB(file.Size)))
			}
		}
	}
	if !out.Dark {
		return nil
	}
	var err error
	out.Half, out.Most, err = e.Last(ctx, c, down)
	return err
}

// freed is how many bytes a change removes from each unit: of files that are named UNIT:FILE.
func freed(p *portrait.Portrait, files []string) map[string]int64 {
	out := map[string]int64{}
	for _, name := range files {
		if u, file := onUnit(p, name); u != nil && file != nil {
			out[u.Name] += file.Size
		}
	}
	return out
}

// onUnit is a file that is named UNIT:FILE; u is nil when no unit is called so, file when it has none of that name.
func onUnit(p *portrait.Portrait, name string) (u *portrait.Unit, file *portrait.File) {
	unit, rest, found := strings.Cut(name, ":")
	if !found || p.Unit(unit) == nil {
		return nil, nil
	}
	u = p.Unit(unit)
	return u, u.File(rest)
}
