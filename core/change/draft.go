package change

import (
	"cmp"
	"fmt"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/path"
)

// Abilities says what a kind of device can do; they decide which steps a hop has.
type Abilities struct {
	InPlace    bool       // an installation overwrites the running one, and the device restarts into it; else it has slots
	FromFiles  bool       // images are started as they lie on its storage; sending one is installing it
	ByVersion  bool       // of those: it knows images by their versions alone, and proves them itself
	Copies     bool       // what Clone makes is a named copy, beside any number of others
	Rename     bool       // a copy can be given another name
	Remove     bool       // a copy can be deleted
	Once       bool       // a slot can be chosen for one start
	Clone      bool       // where it installs in place: the running installation can be copied into a slot first, and started from there
	Unpack     bool       // unpacking is an act of its own
	Drain      bool       // running work can be let finish
	TakeOver   bool       // of a member of an ensemble: it becomes the active one at a command
	Save       bool       // running and saved configuration are two things
	Media      bool       // files reach it only on a medium that a person carries in
	Components []string   // which it updates by command
	Licence    bool       // a licence can be given to it
	Restart    bool       // it restarts at a command
	Validate   bool       // it can read a configuration without using it
	PowerCycle bool       // it can switch a part off and on; otherwise a person does
	Parts      []Restored // that can be put back, in order
	Units      UnitAbilities
	Children   ChildAbilities
	Follow     bool // it can come under a controller
	Password   bool // the password of a user can be set
	// WritesMedia: it writes what it is onto a medium in it, and reads that back.
	WritesMedia bool
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
	// Units are those of the device; one, or none, is as if it had none.
	Units []UnitOf
	// AtOnce has all units restart together, also where they could go one after the other.
	AtOnce bool
	// GetOn reports whether two versions may run side by side on units for the time of the change; nil: any may.
	GetOn func(a, b string) bool
	// Children are the boxes that follow the device, as they stood when the change was drafted.
	Children []ChildOf
	// Authorise are serials, and ranges of them (FROM..TO), of children that are let join.
	Authorise []string
	// InEnsemble: the device is one of several controllers; its children are seen to once for all of them.
	InEnsemble bool
	// Old says which image brings the version back that a hop leaves, where a supported hop leads back; nil: none does.
	Old func(hop int) *File
}

// A Plan is the steps of a change, and for each hop the way back.
type Plan struct {
	Steps []Step
	Back  []Back // by hop
	Units *Units // of a device with several; nil else
	// Children are those of a device that others follow; nil where none do.
	Children *Children
}

// Ways back.
const (
	BackBySlot      = "slot"      // start the installation in the other slot
	BackByReinstall = "reinstall" // install the older image, put its configuration back
	BackNotNeeded   = "needless"  // the device goes on running what it runs
	// BackByConfiguration: put the configuration back that was there before.
	BackByConfiguration = "configuration"
	NoWayBack           = "" // none is known: a person decides
)

// A Back is the way back of one hop, declared before the start.
type Back struct {
	Way   string `json:"way"`
	Text  string `json:"text"`  // what it is, in a sentence
	Steps []Step `json:"steps"` // numbered when they are taken
}

// Leads reports whether there are steps that lead back.
func (b *Back) Leads() bool {
	return b.Way == BackBySlot || b.Way == BackByReinstall || b.Way == BackByConfiguration
}

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
	if j.Both && (j.Can.InPlace || j.Can.FromFiles) {
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
	plan.Units, plan.Children = j.UnitsOf(plan), j.ChildrenOf()
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
	case h.NewModel != "" && (h.Platform == nil || !h.Platform.InPlace):
		return "goes on as another model, " + h.NewModel + ", on another machine, which is a replacement"
	case h.NewModel != "" && j.InEnsemble:
		return "goes on as another model, " + h.NewModel + ", which one device does at a time"
	case h.NewModel != "" && h.From.Compare(h.To) == 0 && j.Can.ByVersion:
		return "goes on as another model, " + h.NewModel + ", with the release that it has, and it tells images apart by their release alone"
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
func (j *Job) step(hop int, kind Kind, p ...Params) Step {
	spec := kind.Spec()
	s := Step{Member: memberOf(kind), Hop: hop, Kind: kind, Expect: j.span(cmp.Or(spec.Duration, string(kind))), SafePoint: !spec.NoRest}
	switch {
	case len(p) > 0:
		s.Params = p[0]
	case spec.Params != nil:
		s.Params = spec.Params.Zero
	}
	switch kind {
	case Hand:
		s.Expect = byHand
	case Readings: // they wait until services are ready
		s.Expect.Limit = max(s.Expect.Limit, j.span(string(Services)).Limit)
	}
	return s
}

func (j *Job) span(name string) catalog.Span {
	s, ok := j.Family.Durations[name]
	if like, given := lastsLike[Kind(name)]; !ok && given {
		s, ok = j.Family.Durations[string(like)]
	}
	if !ok {
		s = fallback
	}
	return j.Pace.Scale(s)
}

// lastsLike says which other kind of step tells how long one takes of which a catalogue says nothing.
var lastsLike = map[Kind]Kind{BecomeManaged: Restart, JoinController: Services, ReleaseChild: Restart, Sync: Services, AwaitUnits: Services, Preload: Services, AwaitChildren: Services, RestartChildren: Services, Spread: Install, HandOver: Switch}

func (j *Job) lacks(sum string) bool { return j.Lacks != nil && j.Lacks(sum) }

// Image is the hop's main image as a file.
func Image(h *path.Hop) *File {
	return &File{Name: h.Image.File, SHA256: h.Image.SHA256, Size: h.Image.Size, Version: h.To.String()}
}

// Called is a file as the device knows it: by its name, or by its version alone.
func (a *Abilities) Called(f *File) *File {
	if !a.ByVersion || f.Component != "" {
		return f
	}
	out := *f
	out.Name = f.Version
	return &out
}

// bring lists the steps that bring a file onto the device, or find it on the medium.
func (j *Job) bring(hop int, f *File) (out []Step) {
	if !j.Can.Media {
		s := j.step(hop, Send, FileParams{File: f})
		s.Expect = j.Pace.Scale(sendSpan(j.Family.SendRate, f.Size))
		if f.Component != "" {
			s.Title = "Send " + f.Name
		}
		out = append(out, s)
	}
	s := j.step(hop, Checksum, FileParams{File: f, Medium: j.Can.Media})
	if j.Can.Media {
		s.Title = "Compare checksum of " + f.Name + " on the medium"
	}
	return append(out, s)
}

// prestage is how long the images of a hop take to travel.
func (j *Job) prestage(hop int) catalog.Span {
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
	out := append([]Step{j.step(hop, Settle)}, j.bring(hop, j.Can.Called(Image(&j.Path.Hops[hop])))...)
	kinds := []Kind{Install}
	if j.Can.Unpack {
		kinds = append(kinds, Unpack)
	}
	for _, k := range kinds {
		s := j.step(hop, k, InstallParams{OtherSlot: true})
		s.Title = map[Kind]string{Install: "Install in the other slot too", Unpack: "Unpack in the other slot too"}[k]
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
		s := j.step(hop, PutPart, PartParams{Part: p.Name})
		s.Title = "Put back: " + p.Title
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
	s := j.step(hop, Validate, PartParams{Part: p.Name})
	s.Title = "Have the device read it first: " + p.Title
	return s
}

func (j *Job) verify() Step { return j.step(-1, Verify) }

// number numbers the steps and gives those a title that have none.
func number(steps []Step) {
	for i := range steps {
		if steps[i].Number = i + 1; steps[i].Title == "" {
			steps[i].Title = steps[i].Kind.Spec().Title
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
