package change

import (
	"fmt"
	"reflect"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/path"
)

// An Operation is one step that a person wants done by itself, without a path: a backup, a drain, an image sent ahead of its night, a
// restart.
type Operation struct {
	Kind   Kind
	Params Params // of the type that the kind says
}

// Operations are the kinds that can stand alone, in the order in which they are told.
func Operations() (out []*Spec) {
	for i := range Kinds {
		if Kinds[i].Alone != nil {
			out = append(out, &Kinds[i])
		}
	}
	return out
}

// An OperationsJob is what a change of single operations is drafted from.
type OperationsJob struct {
	Family     *catalog.Family
	Can        Abilities
	Pace       Pace
	From       string            // what runs now
	Idle       string            // what the idle slot holds; "" when there is none, or nothing in it
	Slots      map[string]string // what each slot holds that can be started, by name
	Next       string            // what the next start is from, when that is not what runs; "" otherwise
	Lacks      func(sha256 string) bool
	Children   []ChildOf // that follow the device
	Operations []Operation
}

// DraftOperations lists the steps that do some operations in the order in which they are given, between a check and a verdict. to is the
// version that runs afterwards, in the version that is installed or started meanwhile; they are From when nothing of that is asked for.
func DraftOperations(a OperationsJob) (plan *Plan, in, to string, err error) {
	if len(a.Operations) == 0 {
		return nil, "", "", fmt.Errorf("there is nothing to do")
	}
	f := a.Family
	if f == nil {
		f = &catalog.Family{}
	}
	j := Job{Family: f, Can: a.Can, Pace: a.Pace, Lacks: a.Lacks, Children: a.Children, Path: &path.Path{}}
	in, to = a.From, a.From
	plan = &Plan{Steps: []Step{j.step(-1, Readings)}}
	var steps []Step
	seen := map[Kind]bool{}
	ops := slices.Clone(a.Operations)
	for i := range ops {
		o := &ops[i]
		if err := o.fits(&a.Can, seen); err != nil {
			return nil, "", "", err
		}
		if p, ok := o.Params.(ChildParams); ok && !slices.ContainsFunc(a.Children, func(c ChildOf) bool { return c.Model == p.File.Model }) {
			return nil, "", "", fmt.Errorf("%s: %s is for no model that follows the device; refresh the device if one does by now", o.Kind, p.File.Name)
		}
		seen[o.Kind] = true
		file := fileOf(o.Params)
		if file != nil && o.Kind != Checksum && j.lacks(file.SHA256) {
			fetch := j.step(0, Fetch, FileParams{File: file})
			fetch.Expect = fetchSpan(file.Size)
			steps = append(steps, fetch)
		}
		next, wants := "", ""
		if i+1 < len(ops) {
			next = string(ops[i+1].Kind)
		}
		switch o.Kind {
		case Install:
			in = file.Version
		case PowerCycle:
			for _, x := range ops[:i] {
				if c, ok := x.Params.(ComponentParams); ok && c.Component == o.Params.(PowerParams).Component {
					wants = c.File.Version
				}
			}
		case Restart:
			if a.Next != "" && (i == 0 || ops[i-1].Kind != ChooseSlot) {
				return nil, "", "", fmt.Errorf("restart: the next start is from the slot with %s, not from the one that runs %s; say which it is to be with choose-slot", a.Next, a.From)
			}
		case ChooseSlot:
			if seen[Clone] {
				return nil, "", "", fmt.Errorf("choose-slot: the copy is of what runs already; start it with another change if it must be")
			}
			if in, err = a.chosen(ops[:i], o.Params.(SlotParams).Slot, in); err != nil {
				return nil, "", "", err
			}
			if next == string(Restart) {
				to = in
			} else if seen[Restart] || slices.ContainsFunc(ops[i:], func(x Operation) bool { return x.Kind == Restart }) {
				return nil, "", "", fmt.Errorf("choose-slot: a restart has to follow it at once, or be a change of its own")
			}
		}
		steps = append(steps, j.operation(o, i > 0 && ops[i-1].Kind == ChooseSlot, wants)...)
	}
	plan.Steps = append(append(append(plan.Steps, j.step(0, Check)), steps...), j.verify())
	number(plan.Steps)
	if seen[RestartChildren] {
		plan.Children = j.ChildrenOf()
	}
	plan.Back = []Back{{Way: BackNotNeeded, Text: "the device goes on running what it runs"}}
	if to != a.From || seen[ChooseSlot] && seen[Restart] {
		plan.Back = []Back{{Way: BackBySlot, Text: fmt.Sprintf("start the installation of %s again, which stays in its slot", a.From), Steps: j.backBySlot(0)}}
	}
	return plan, in, to, nil
}

// chosen is the version in the slot that choose-slot chooses: the one that is named, else the one just written, which holds written, else
// the idle one.
func (a *OperationsJob) chosen(before []Operation, slot, written string) (string, error) {
	wrote := slices.ContainsFunc(before, func(o Operation) bool { return o.Kind == Install })
	switch {
	case slot != "":
		for _, o := range before { // an image that was sent just now
			if f := fileOf(o.Params); o.Kind == Send && f.Name == slot && a.Can.FromFiles {
				return f.Version, nil
			}
		}
		if a.Slots[slot] == "" {
			return "", fmt.Errorf("choose-slot: the device shows nothing called %q that could be started", slot)
		}
		return a.Slots[slot], nil
	case a.Can.FromFiles || a.Can.Copies && a.Can.InPlace:
		return "", fmt.Errorf("choose-slot: which one? Such a device may have any number of installations")
	case wrote:
		return written, nil
	case a.Idle == "":
		return "", fmt.Errorf("choose-slot: the other slot holds nothing that could be started")
	}
	return a.Idle, nil
}

// fits reports why an operation cannot be done by itself with such a device, after others of the same change. It completes what it
// was given no parameters for.
func (o *Operation) fits(can *Abilities, seen map[Kind]bool) error {
	spec := o.Kind.Spec()
	if spec.Alone == nil {
		return fmt.Errorf("%s: that cannot stand alone", o.Kind)
	}
	if o.Params == nil && spec.Params != nil {
		o.Params = spec.Params.Zero
	}
	if spec.Params != nil && reflect.TypeOf(o.Params) != reflect.TypeOf(spec.Params.Zero) {
		return fmt.Errorf("%s: its parameters are those of another kind of operation", o.Kind)
	}
	if spec.Alone.Takes == TakesImage && fileOf(o.Params) == nil {
		return fmt.Errorf("%s: which file?", o.Kind)
	}
	if p, ok := o.Params.(SlotParams); ok && (p.Slot == "" && spec.Alone.Takes != TakesOnce || p.Name == "" && spec.Alone.Takes == TakesName) {
		return fmt.Errorf("%s: which copy, and what is it to be called?", o.Kind)
	}
	if spec.Alone.Once && seen[o.Kind] {
		return fmt.Errorf("%s can be asked for once in a change; draft another one for the second", o.Kind)
	}
	if (o.Kind == Install || o.Kind == Clone) && seen[ChooseSlot] { // it would be written over what is the way back, or over what was chosen
		return fmt.Errorf("%s: it has to come before choose-slot, since it is written over what the other slot holds then; or draft a change of its own", o.Kind)
	}
	if o.Kind == RemoveSlot && seen[ChooseSlot] || o.Kind == ChooseSlot && seen[RemoveSlot] {
		return fmt.Errorf("%s: what another installation was chosen in place of is the way back; delete copies with a change of its own", o.Kind)
	}
	if spec.Alone.Lacks != nil {
		if what := spec.Alone.Lacks(can, o); what != "" {
			return fmt.Errorf("%s: %s", o.Kind, what)
		}
	}
	return nil
}

// verb says that a device lacks something unless it has it.
func verb(what string, has func(*Abilities) bool) func(*Abilities, *Operation) string {
	return func(can *Abilities, _ *Operation) string {
		if has(can) {
			return ""
		}
		return "such a device has no way to do that by a command: its dialect has no " + what
	}
}

func lacksComponent(can *Abilities, o *Operation) string {
	name := o.Params.(ComponentParams).Component
	return verb("component "+name, func(can *Abilities) bool { return slices.Contains(can.Components, name) })(can, o)
}

func lacksSlots(can *Abilities, o *Operation) string {
	_, chooses := o.Params.(SlotParams)
	if can.FromFiles && !chooses {
		return "it starts images as they lie on its storage: send one, then choose it with choose-slot"
	}
	if can.InPlace && !(can.Copies && chooses) {
		return "it has no second slot; what overwrites the running installation is drafted as a change to a version, with all that protects it"
	}
	if p, ok := o.Params.(SlotParams); ok && p.Once {
		return verb("choose-slot-once", func(can *Abilities) bool { return can.Once })(can, o)
	}
	return ""
}

// operation lists the steps of one operation; chosen says that a slot was chosen right before, version which version a component has once
// its power was off ("": it only has to be there again).
func (j *Job) operation(o *Operation, chosen bool, version string) (out []Step) {
	s := j.step(0, o.Kind, o.Params)
	file := fileOf(o.Params)
	switch p := o.Params.(type) {
	case FileParams:
		steps := j.bring(0, file)
		if o.Kind == Checksum {
			steps = steps[len(steps)-1:]
		}
		return steps
	case ChildParams:
		return j.childImage(p)
	case InstallParams:
		out = append(j.bring(0, file), s)
		if j.Can.Unpack {
			out = append(out, j.step(0, Unpack))
		}
		return out
	case LicenceParams:
		s.Title = licenceTitle(p.Licence)
	case ComponentParams:
		p.Version = file.Version
		s.Title, s.Params = "Update "+p.Component, p
		return append(j.bring(0, file), s)
	case PowerParams:
		p.Version = version
		s.Title, s.Params = "Power off and on: "+p.Component, p
	case SlotParams:
		switch {
		case o.Kind == RenameSlot:
			s.Title = fmt.Sprintf("Rename %s to %s", p.Slot, p.Name)
		case o.Kind == RemoveSlot:
			s.Title = "Delete " + p.Slot
		default:
			if p.Slot != "" {
				s.Title = "Choose " + p.Slot + " for next start"
			}
			return []Step{j.step(0, GoNoGo), s}
		}
	case RestartParams:
		if !chosen {
			out = append(out, j.step(0, GoNoGo))
		}
		out = append(out, s)
		for _, k := range []Kind{Link, Login, Confirm, Services} {
			out = append(out, j.step(0, k))
		}
		return out
	}
	return []Step{s}
}
