package change

import (
	"fmt"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/path"
)

// A hopPlan is the steps of one hop, in the making.
type hopPlan struct {
	*Job
	number int
	h      *path.Hop
	files  []*File // of the release: its base, its image, its components
	out    []Step
}

// hop lists the steps of one hop: what is fetched and saved before, the components that go first, the installation with its restart, the
// components that go after, and what is tidied.
func (j *Job) hop(i int) []Step {
	p := &hopPlan{Job: j, number: i, h: &j.Path.Hops[i]}
	p.files = filesOf(p.h, &j.Can)
	resets, last := p.h.Config == catalog.ConfigReset, i == len(j.Path.Hops)-1
	p.prepare(resets)
	p.components("before")
	for _, f := range p.files {
		if f.Component == "" {
			p.out = append(p.out, j.bring(i, f)...)
		}
	}
	p.install()
	if resets {
		p.out = append(p.out, j.putBack(i)...)
	}
	if p.once() && !j.Can.InPlace {
		p.add(KeepSlot)
	}
	if !last && !j.Can.Media && j.Path.Hops[i+1].Image.File != "" { // what is done on the release that was reached needs no image
		p.add(Prestage, func(s *Step) { s.Expect = j.prestage(i + 1) })
	}
	p.add(Services)
	p.addIf(j.Can.Drain, Undrain)
	if !j.InEnsemble {
		p.out = append(p.out, j.bringBack(i)...)
	}
	p.components("after")
	p.addIf(!j.Can.Media && !(last && j.Both) && (!j.Can.FromFiles || len(p.h.Components) > 0), Tidy) // an image that is started stays
	p.byHand("after")
	return p.out
}

// filesOf are the files of a hop: its image, and the others that it needs.
func filesOf(h *path.Hop, can *Abilities) []*File {
	out := []*File{can.Called(Image(h))}
	for _, o := range h.Others {
		f := &File{Name: o.File, SHA256: o.SHA256, Size: o.Size, Version: o.Version}
		switch model, child := strings.CutPrefix(o.Role, childRole); {
		case child:
			f.Model = model
		case o.Role != "base":
			f.Component = o.Role
		}
		out = append(out, f)
	}
	return out
}

// add adds a step.
func (p *hopPlan) add(kind Kind, edit ...func(*Step)) {
	s := p.step(p.number, kind)
	for _, e := range edit {
		e(&s)
	}
	p.out = append(p.out, s)
}

// addIf adds a step to devices that can do it.
func (p *hopPlan) addIf(can bool, kind Kind) {
	if can {
		p.add(kind)
	}
}

// hand adds something that a person does.
func (p *hopPlan) hand(format string, args ...any) {
	p.add(Hand, func(s *Step) { s.Params = HandParams{Task: fmt.Sprintf(format, args...)} })
}

// byHand adds what the catalogue wants done by hand before or after the hop.
func (p *hopPlan) byHand(due string) {
	for _, t := range p.h.HandSteps {
		if t.Due == due && t.Matters != catalog.No {
			p.hand("%s", t.Text)
		}
	}
}

// prepare adds what comes before anything is written to the device: images that the service lacks, the check, the backup, room, licences.
func (p *hopPlan) prepare(resets bool) {
	for _, f := range p.files {
		if p.lacks(f.SHA256) {
			p.add(Fetch, func(s *Step) { s.Params, s.Expect = FileParams{File: f}, fetchSpan(f.Size) })
		}
	}
	p.add(Check)
	p.add(Backup)
	if p.number == 0 {
		if len(p.CleanUp) > 0 {
			p.add(CleanUp, func(s *Step) { s.Params = CleanUpParams{p.CleanUp} })
		}
		for _, name := range p.Licences {
			p.add(Licence, func(s *Step) { s.Params, s.Title = LicenceParams{name}, licenceTitle(name) })
		}
	}
	p.addIf(resets, Convert)
	p.byHand("before")
	if p.Can.Media {
		var names []string
		for _, f := range p.files {
			names = append(names, f.Name)
		}
		p.hand("put the medium with %s into the device", list(names))
	}
}

// components adds those components that go before or after the installation.
func (p *hopPlan) components(order string) {
	for i := range p.h.Components {
		if c := &p.h.Components[i]; c.Order == order {
			p.component(c)
		}
	}
}

// component adds a component: its file, its update, and what makes it take effect.
func (p *hopPlan) component(c *path.Component) {
	if file := p.file(c.Name); file != nil {
		p.out = append(p.out, p.bring(p.number, file)...)
	}
	span := p.Pace.Scale(catalog.Span{Low: c.Low, High: c.High, Limit: max(3*c.High, 300)})
	units := AnyUnits
	switch {
	case p.byUnit(c.Name) && p.rolls(p.number) && c.Order == "before":
		units = StandbyUnits
	case p.byUnit(c.Name):
		units = AllUnits
	}
	p.out = append(p.out, p.update(c, units))
	switch {
	case units == StandbyUnits && c.Trigger == catalog.TriggerRestart: // they restart anyway
	case c.Trigger == catalog.TriggerPowerCycle && p.Can.PowerCycle:
		p.add(PowerCycle, func(s *Step) {
			s.Params, s.Title, s.Expect = PowerParams{c.Name, c.To, false}, "Power off and on: "+c.Restarts, span
		})
	case c.Trigger == catalog.TriggerPowerCycle:
		p.hand("switch %s off and on, so that %s takes effect", c.Restarts, c.Title)
		p.add(PowerCycle, func(s *Step) {
			s.Params, s.Title, s.Expect = PowerParams{c.Name, c.To, true}, "Wait for "+c.Title, span
		})
	case c.Trigger == catalog.TriggerRestart:
		for _, k := range []Kind{Restart, Link, Login} {
			p.add(k, func(s *Step) { s.Params = RestartParams{c.Name} })
		}
	}
}

// update is the step that updates a component, of some units where it belongs to them.
func (p *hopPlan) update(c *path.Component, units UnitScope) Step {
	s := p.step(p.number, Component, ComponentParams{Component: c.Name, Version: c.To, File: p.file(c.Name), Units: units})
	n := 1.0
	switch s.Title = "Update " + c.Title; {
	case c.Trigger == catalog.TriggerItself:
		s.Title = "Wait for " + c.Title
	case units == StandbyUnits:
		s.Title += " of the units that stand by"
	case units == RestOfUnits:
		s.Title += " of the other units"
	case units == AllUnits:
		s.Title += " of all units"
	}
	if units != AnyUnits {
		n = float64(len(p.Units))
	}
	s.Expect = p.Pace.Scale(catalog.Span{Low: n * c.Low, High: n * c.High, Limit: n * max(3*c.High, 300)})
	return s
}

// file is the file of a component; nil when the main image brings it along.
func (p *hopPlan) file(component string) *File {
	for _, f := range p.files {
		if f.Component == component {
			return f
		}
	}
	return nil
}

// install adds the installation and the start of what was installed: over the running one, or into the idle slot, which is chosen after the
// go/no-go check.
func (p *hopPlan) install() {
	can := p.Can
	switch {
	case can.InPlace:
		p.addIf(can.Clone, Clone)
		p.out = append(p.out, p.preload(p.number)...)
		p.lastChecks()
		p.add(Install, func(s *Step) { s.Params, s.Title = InstallParams{InPlace: true}, "Install over the running one" })
	case can.FromFiles:
		p.out = append(p.out, p.preload(p.number)...)
		p.lastChecks()
		p.add(ChooseSlot, func(s *Step) {
			s.Params, s.Title = SlotParams{Once: p.once(), File: can.Called(Image(p.h))}, "Choose image for next start"
		})
	default:
		p.add(Install)
		p.addIf(can.Unpack, Unpack)
		p.addIf(p.several(), Spread)
		p.out = append(p.out, p.preload(p.number)...)
		p.lastChecks()
		p.add(ChooseSlot, func(s *Step) { s.Params = SlotParams{Once: p.once()} })
	}
	if !can.InPlace {
		p.out = append(p.out, p.start(p.number, p.otherUnits())...)
		return
	}
	for _, k := range []Kind{Link, Login, Confirm} {
		p.add(k)
	}
	p.addIf(p.several(), AwaitUnits)
}

// otherUnits are the steps that update the components of those units that go later: the first one had them before.
func (p *hopPlan) otherUnits() (out []Step) {
	for i := range p.h.Components {
		if c := &p.h.Components[i]; c.Order == "before" && p.byUnit(c.Name) && p.rolls(p.number) {
			out = append(out, p.update(c, RestOfUnits))
		}
	}
	return out
}

// once reports whether what is installed is chosen for one start first. Units that go one after the other start it one by one, so it is chosen for all of
// their starts.
func (p *hopPlan) once() bool { return p.Can.Once && !p.rolls(p.number) }

// lastChecks adds what comes right before the point of no return.
func (p *hopPlan) lastChecks() {
	p.add(GoNoGo)
	p.addIf(p.Can.Drain, Drain)
	p.addIf(p.Can.Save, Save)
}
