package change

import (
	"fmt"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/path"
)

// Abilities says what a kind of device can do; they decide which steps a hop has.
type Abilities struct {
	InPlace    bool       // an installation overwrites the running one, and the device restarts into it; else it has slots
	Once       bool       // a slot can be chosen for one start
	Clone      bool       // where it installs in place: the running installation can be copied into a slot first, and started from there
	Unpack     bool       // unpacking is an act of its own
	Drain      bool       // running work can be let finish
	Save       bool       // running and saved configuration are two things
	Media      bool       // files reach it only on a medium that a person carries in
	Components []string   // which it updates by command
	Licence    bool       // a licence can be given to it
	Restart    bool       // it restarts at a command
	Validate   bool       // it can read a configuration without using it
	PowerCycle bool       // it can switch a part off and on; otherwise a person does
	Parts      []Restored // that can be put back, in order
}

// A Job is what a change is drafted from.
type Job struct {
	Family *catalog.Family
	Path   *path.Path
	Can    Abilities
	Pace   Pace
	Lacks  func(sha256 string) bool // which files are still to be fetched; nil: none
	// CleanUp names files that a person wants removed from the device first. Installations are not files.
	CleanUp []string
	// Licences names those that the device is given before anything else is done to it.
	Licences []string
	// Both has the last release installed into the other slot, too, once the readings have shown that it does its job. That
	// overwrites the previous installation, and with it the way back.
	Both bool
	// Old says which image brings the version back that a hop leaves, where a supported hop leads back; nil: none does.
	Old func(hop int) *File
}

// A Plan is the steps of a change, and for each hop the way back.
type Plan struct {
	Steps []Step
	Back  []Back // by hop
}

// Ways back.
const (
	BackBySlot      = "slot"      // start the installation in the other slot
	BackByReinstall = "reinstall" // install the older image, put its configuration back
	BackNotNeeded   = "needless"  // the device goes on running what it runs
	NoWayBack       = ""          // none is known: a person decides
)

// A Back is the way back of one hop, declared before the start.
type Back struct {
	Way   string
	Text  string // what it is, in a sentence
	Steps []Step // numbered when they are taken
}

// Leads reports whether there are steps that lead back.
func (b *Back) Leads() bool { return b.Way == BackBySlot || b.Way == BackByReinstall }

// Draft lists the steps that take one device along a path, and the ways back. It fails when there is nothing to do, and
// when a hop asks for something that cannot be done with such a device.
func Draft(j Job) (*Plan, error) {
	p := j.Path
	if len(p.Hops) == 0 {
		return nil, fmt.Errorf("the device runs %s already; there is nothing to change", p.To)
	}
	if len(j.Licences) > 0 && !j.Can.Licence {
		return nil, fmt.Errorf("no licence can be given to such a device by a change; its dialect has no add-licence")
	}
	if j.Both && j.Can.InPlace {
		return nil, fmt.Errorf("such a device has no second slot to install into")
	}
	for _, h := range p.Hops {
		if what := j.beyond(&h); what != "" {
			return nil, fmt.Errorf("the hop from %s to %s %s, which a change cannot carry out; do it by hand, or look for another path", h.From, h.To, what)
		}
	}
	plan := &Plan{Steps: []Step{j.step(-1, Readings)}}
	for i := range p.Hops {
		plan.Steps = append(plan.Steps, j.hop(i)...)
		plan.Back = append(plan.Back, j.back(i))
	}
	if j.Both {
		plan.Steps = append(plan.Steps, j.other(len(p.Hops)-1)...)
	}
	plan.Steps = append(plan.Steps, j.verify())
	number(plan.Steps)
	return plan, nil
}

// Beyond says why a change cannot carry a hop out on devices with some abilities; "" when it can.
func Beyond(can Abilities, h *path.Hop) string {
	j := Job{Can: can}
	if what := j.beyond(h); what != "" {
		return fmt.Sprintf("the hop from %s to %s %s, which a change cannot carry out on such a device", h.From, h.To, what)
	}
	return ""
}

// beyond says what of a hop cannot be carried out on the device; "" when all can.
func (j *Job) beyond(h *path.Hop) string {
	switch {
	case h.NewModel != "":
		return "goes on as another model"
	case h.Config == catalog.ConfigReset && len(j.Can.Parts) == 0:
		return "resets the configuration, and nothing can be put back on such a device"
	case h.Restarts == 0:
		return "goes onto the running installation without a restart"
	}
	for _, c := range h.Components {
		if c.Trigger != catalog.TriggerItself && !slices.Contains(j.Can.Components, c.Name) {
			return "brings " + c.Title + " along, and its dialect does not say how"
		}
	}
	return ""
}

// step makes a step of a kind with what is expected of it.
func (j *Job) step(hop int, kind Kind) Step {
	s := Step{Hop: hop, Kind: kind, Expect: j.span(string(kind)), StopsBefore: kind.safe()}
	switch kind {
	case CleanUp, Point, Check, Tidy, Licence:
		s.Expect = j.span("check")
	case Hand:
		s.Expect = byHand
	case Convert, PutPart, Validate:
		s.Expect = j.span("backup")
	case KeepSlot, Undrain:
		s.Expect = j.span(string(ChooseSlot))
	case PowerCycle:
		s.Expect = j.span(string(Restart))
	case Readings: // they wait until services are ready
		s.Expect.Limit = max(s.Expect.Limit, j.span(string(Services)).Limit)
	case Verify, Settle:
		s.Expect = j.span("services")
	case Clone, Unpack:
		s.Expect = j.span(string(Install))
	}
	return s
}

// safe reports whether there is a safe point before a step of this kind: from the choice of slot to the confirmed version
// the box is between two installations, no place to rest.
func (k Kind) safe() bool {
	return !slices.Contains([]Kind{Restart, Link, Login, Confirm, KeepSlot, Readings}, k)
}

func (j *Job) span(name string) catalog.Span {
	s, ok := j.Family.Durations[name]
	if !ok {
		s = fallback
	}
	return j.Pace.Scale(s)
}

func (j *Job) lacks(sum string) bool { return j.Lacks != nil && j.Lacks(sum) }

// Image is the hop's main image as a file.
func Image(h *path.Hop) *File {
	return &File{Name: h.Image.File, SHA256: h.Image.SHA256, Size: h.Image.Size, Version: h.To.String()}
}

// bring lists the steps that bring a file onto the device, or find it on the medium.
func (j *Job) bring(hop int, f *File) (out []Step) {
	if !j.Can.Media {
		s := j.step(hop, Send)
		s.File, s.Expect = f, j.Pace.Scale(sendSpan(j.Family.SendRate, f.Size))
		if f.Component != "" {
			s.Title = "Send " + f.Name
		}
		out = append(out, s)
	}
	s := j.step(hop, Checksum)
	s.File, s.Media = f, j.Can.Media
	if s.Media {
		s.Title = "Compare checksum of " + f.Name + " on the medium"
	}
	return append(out, s)
}

// hop lists the steps of one hop.
func (j *Job) hop(i int) (out []Step) {
	h, can := &j.Path.Hops[i], j.Can
	add := func(kind Kind, edit ...func(*Step)) {
		s := j.step(i, kind)
		for _, e := range edit {
			e(&s)
		}
		out = append(out, s)
	}
	image := Image(h)
	files := []*File{image}
	for _, o := range h.Others {
		f := &File{Name: o.File, SHA256: o.SHA256, Size: o.Size, Version: o.Version}
		if o.Role != "base" {
			f.Component = o.Role
		}
		files = append(files, f)
	}
	for _, f := range files {
		if j.lacks(f.SHA256) {
			add(Fetch, func(s *Step) { s.File, s.Expect = f, fetchSpan(f.Size) })
		}
	}
	add(Check)
	add(Backup)
	if i == 0 && len(j.CleanUp) > 0 {
		add(CleanUp, func(s *Step) { s.Names = j.CleanUp })
	}
	if i == 0 {
		for _, name := range j.Licences {
			add(Licence, func(s *Step) { s.Part, s.Title = name, "Add licence "+name })
		}
	}
	resets := h.Config == catalog.ConfigReset
	if resets {
		add(Convert)
	}
	for _, t := range h.HandSteps {
		if t.Due == "before" && t.Matters != catalog.No {
			add(Hand, func(s *Step) { s.Text = t.Text })
		}
	}
	if can.Media {
		var names []string
		for _, f := range files {
			names = append(names, f.Name)
		}
		add(Hand, func(s *Step) {
			s.Text = fmt.Sprintf("put the medium with %s into the device", list(names))
		})
	}
	component := func(order string) {
		for _, c := range h.Components {
			if c.Order != order {
				continue
			}
			var file *File
			for _, f := range files {
				if f.Component == c.Name {
					file = f
				}
			}
			if file != nil {
				out = append(out, j.bring(i, file)...)
			}
			span := j.Pace.Scale(catalog.Span{Low: c.Low, High: c.High, Limit: max(3*c.High, 300)})
			add(Component, func(s *Step) {
				s.Part, s.File, s.Wants, s.Title, s.Expect = c.Name, file, c.To, "Update "+c.Title, span
				if c.Trigger == catalog.TriggerItself {
					s.Title = "Wait for " + c.Title
				}
			})
			switch {
			case c.Trigger == catalog.TriggerPowerCycle && can.PowerCycle:
				add(PowerCycle, func(s *Step) {
					s.Part, s.Title, s.Wants, s.Expect = c.Name, "Power off and on: "+c.Restarts, c.To, span
				})
			case c.Trigger == catalog.TriggerPowerCycle:
				add(Hand, func(s *Step) {
					s.Text = fmt.Sprintf("switch %s off and on, so that %s takes effect", c.Restarts, c.Title)
				})
				add(PowerCycle, func(s *Step) {
					s.Part, s.Title, s.Wants, s.Expect, s.Text = c.Name, "Wait for "+c.Title, c.To, span, "hand"
				})
			case c.Trigger == catalog.TriggerRestart:
				for _, k := range []Kind{Restart, Link, Login} {
					add(k, func(s *Step) { s.Part = c.Name })
				}
			}
		}
	}
	component("before")
	for _, f := range files {
		if f.Component == "" {
			out = append(out, j.bring(i, f)...)
		}
	}
	if can.InPlace {
		if can.Clone {
			add(Clone)
		}
		add(Point)
		if can.Drain {
			add(Drain)
		}
		if can.Save {
			add(Save)
		}
		add(Install, func(s *Step) { s.InPlace, s.Title = true, "Install over the running one" })
		for _, k := range []Kind{Link, Login, Confirm} {
			add(k)
		}
	} else {
		add(Install)
		if can.Unpack {
			add(Unpack)
		}
		add(Point)
		if can.Drain {
			add(Drain)
		}
		if can.Save {
			add(Save)
		}
		add(ChooseSlot, func(s *Step) { s.Once = can.Once })
		for _, k := range []Kind{Restart, Link, Login, Confirm} {
			add(k)
		}
	}
	if resets {
		out = append(out, j.putBack(i)...)
	}
	if can.Once && !can.InPlace {
		add(KeepSlot)
	}
	last := i == len(j.Path.Hops)-1
	if !last && !can.Media {
		add(Ahead, func(s *Step) { s.Expect = j.ahead(i + 1) })
	}
	add(Services)
	if can.Drain {
		add(Undrain)
	}
	component("after")
	if !can.Media && !(last && j.Both) {
		add(Tidy)
	}
	for _, t := range h.HandSteps {
		if t.Due == "after" && t.Matters != catalog.No {
			add(Hand, func(s *Step) { s.Text = t.Text })
		}
	}
	return out
}

// ahead is how long the images of a hop take to travel.
func (j *Job) ahead(hop int) catalog.Span {
	h := &j.Path.Hops[hop]
	size := h.Image.Size
	for _, o := range h.Others {
		size += o.Size
	}
	s := j.Pace.Scale(sendSpan(j.Family.SendRate, size))
	s.Low = 0 // it may not fit, or not be there yet
	return s
}

// other lists the steps that install the last release into the slot that ran before, too.
func (j *Job) other(hop int) []Step {
	out := append([]Step{j.step(hop, Settle)}, j.bring(hop, Image(&j.Path.Hops[hop]))...)
	kinds := []Kind{Install}
	if j.Can.Unpack {
		kinds = append(kinds, Unpack)
	}
	for _, k := range kinds {
		s := j.step(hop, k)
		s.Other, s.Title = true, map[Kind]string{Install: "Install in the other slot too", Unpack: "Unpack in the other slot too"}[k]
		out = append(out, s)
	}
	return append(out, j.step(hop, Tidy))
}

// putBack lists the steps that put the parts back on a box that came back empty.
func (j *Job) putBack(hop int) (out []Step) {
	save, restart := false, false
	for _, p := range j.Can.Parts {
		if p.Configuration && j.Can.Validate {
			out = append(out, j.validate(hop, p))
		}
		s := j.step(hop, PutPart)
		s.Part, s.Title = p.Name, "Put back: "+p.Title
		out = append(out, s)
		save, restart = save || p.Save, restart || p.Restart
	}
	if save {
		out = append(out, j.step(hop, Save))
	}
	if restart {
		for _, k := range []Kind{Restart, Link, Login} {
			out = append(out, j.step(hop, k))
		}
	}
	return out
}

func (j *Job) validate(hop int, p Restored) Step {
	s := j.step(hop, Validate)
	s.Part, s.Title = p.Name, "Have the device read it first: "+p.Title
	return s
}

func (j *Job) verify() Step { return j.step(-1, Verify) }

// number numbers the steps and gives those a title that have none.
func number(steps []Step) {
	for i := range steps {
		if steps[i].Number = i + 1; steps[i].Title == "" {
			steps[i].Title = Titles[steps[i].Kind]
		}
	}
}

func list(names []string) string {
	out := ""
	for i, n := range names {
		switch {
		case i > 0 && i == len(names)-1:
			out += " and "
		case i > 0:
			out += ", "
		}
		out += n
	}
	return out
}
