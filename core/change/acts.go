package change

import (
	"fmt"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/path"
)

// An Act is one step that a person wants done by itself, without a path: a backup, a drain, an image sent ahead of its night, a
// restart. Which fields it has follows from its kind.
type Act struct {
	Kind  Kind
	Part  string   // of component, power and licence: its name
	File  *File    // of send, checksum, install and component
	Names []string // of clean-up
	Text  string   // of hand
	Once  bool     // of choose-slot: for one start
}

// Acts are those kinds that can stand alone, in the order in which they are told.
var Acts = []Kind{Backup, CleanUp, Licence, Send, Checksum, Install, Clone, Component, PowerCycle, Drain, Save, ChooseSlot, Restart, Undrain, Hand}

// An ActsJob is what a change of single acts is drafted from.
type ActsJob struct {
	Family *catalog.Family
	Can    Abilities
	Pace   Pace
	From   string // what runs now
	Idle   string // what the idle slot holds; "" when there is none, or nothing in it
	Next   string // what the next start is from, when that is not what runs; "" otherwise
	Lacks  func(sha256 string) bool
	Acts   []Act
}

// DraftActs lists the steps that do some acts in the order in which they are given, between a check and a verdict. to is the
// version that runs afterwards, in the version that is installed or started meanwhile; they are From when nothing of that is asked for.
func DraftActs(a ActsJob) (plan *Plan, in, to string, err error) {
	if len(a.Acts) == 0 {
		return nil, "", "", fmt.Errorf("there is nothing to do")
	}
	f := a.Family
	if f == nil {
		f = &catalog.Family{}
	}
	j := Job{Family: f, Can: a.Can, Pace: a.Pace, Lacks: a.Lacks, Path: &path.Path{}}
	in, to = a.From, a.From
	plan = &Plan{Steps: []Step{j.step(-1, Readings)}}
	var steps []Step
	seen := map[Kind]bool{}
	for i := range a.Acts {
		act := &a.Acts[i]
		if once := []Kind{Install, Clone, ChooseSlot, Restart, Drain, Undrain}; slices.Contains(once, act.Kind) && seen[act.Kind] {
			return nil, "", "", fmt.Errorf("%s can be asked for once in a change; draft another one for the second", act.Kind)
		}
		seen[act.Kind] = true
		if (act.Kind == Install || act.Kind == Clone) && seen[ChooseSlot] { // it would be written over what is the way back, or over what was chosen
			return nil, "", "", fmt.Errorf("%s: it has to come before choose-slot, since it is written over what the other slot holds then; or draft a change of its own", act.Kind)
		}
		if what := a.Can.cannot(act); what != "" {
			return nil, "", "", fmt.Errorf("%s: %s", act.Kind, what)
		}
		if act.File != nil && act.Kind != Checksum && j.lacks(act.File.SHA256) {
			fetch := j.step(0, Fetch)
			fetch.File, fetch.Expect = act.File, fetchSpan(act.File.Size)
			steps = append(steps, fetch)
		}
		next, wants := "", ""
		if i+1 < len(a.Acts) {
			next = string(a.Acts[i+1].Kind)
		}
		switch act.Kind {
		case Install:
			in = act.File.Version
		case PowerCycle:
			for _, x := range a.Acts[:i] {
				if x.Kind == Component && x.Part == act.Part {
					wants = x.File.Version
				}
			}
		case Restart:
			if a.Next != "" && (i == 0 || a.Acts[i-1].Kind != ChooseSlot) {
				return nil, "", "", fmt.Errorf("restart: the next start is from the slot with %s, not from the one that runs %s; say which it is to be with choose-slot", a.Next, a.From)
			}
		case ChooseSlot:
			if seen[Clone] {
				return nil, "", "", fmt.Errorf("choose-slot: the copy is of what runs already; start it with another change if it must be")
			}
			if !seen[Install] {
				if in = a.Idle; in == "" {
					return nil, "", "", fmt.Errorf("choose-slot: the other slot holds nothing that could be started")
				}
			}
			if next == string(Restart) {
				to = in
			} else if seen[Restart] || slices.ContainsFunc(a.Acts[i:], func(x Act) bool { return x.Kind == Restart }) {
				return nil, "", "", fmt.Errorf("choose-slot: a restart has to follow it at once, or be a change of its own")
			}
		}
		steps = append(steps, j.act(act, i > 0 && a.Acts[i-1].Kind == ChooseSlot, wants)...)
	}
	plan.Steps = append(append(append(plan.Steps, j.step(0, Check)), steps...), j.verify())
	number(plan.Steps)
	plan.Back = []Back{{Way: BackNotNeeded, Text: "the device goes on running what it runs"}}
	if to != a.From || seen[ChooseSlot] && seen[Restart] {
		plan.Back = []Back{{Way: BackBySlot, Text: fmt.Sprintf("start the installation of %s again, which stays in its slot", a.From), Steps: j.backBySlot(0)}}
	}
	return plan, in, to, nil
}

// cannot says why an act cannot be done with such a device; "" when it can.
func (can *Abilities) cannot(a *Act) string {
	needs := func(has bool, what string) string {
		if has {
			return ""
		}
		return "such a device has no way to do that by a command: its dialect has no " + what
	}
	switch a.Kind {
	case Licence:
		return needs(can.Licence, "add-licence")
	case Clone:
		return needs(can.Clone, "clone")
	case Drain, Undrain:
		return needs(can.Drain, "drain")
	case Save:
		return needs(can.Save, "save")
	case PowerCycle:
		return needs(can.PowerCycle, "power-cycle")
	case Component:
		return needs(slices.Contains(can.Components, a.Part), "component "+a.Part)
	case Send:
		return needs(!can.Media, "way to receive files; they are carried in on a medium")
	case Install, ChooseSlot:
		if can.InPlace {
			return "it has no second slot; what overwrites the running installation is drafted as a change to a version, with all that protects it"
		}
		if a.Once {
			return needs(can.Once, "choose-slot-once")
		}
	case Restart:
		return needs(!can.InPlace || can.Restart, "restart")
	}
	if !slices.Contains(Acts, a.Kind) {
		return "that cannot stand alone"
	}
	return ""
}

// act lists the steps of one act; chosen says that a slot was chosen right before, wants which version a part has once its power
// was off ("": it only has to be there again).
func (j *Job) act(a *Act, chosen bool, wants string) (out []Step) {
	s := j.step(0, a.Kind)
	s.Part, s.File, s.Names, s.Text, s.Once = a.Part, a.File, a.Names, a.Text, a.Once
	switch a.Kind {
	case Send:
		return j.bring(0, a.File)
	case Checksum:
		return j.bring(0, a.File)[map[bool]int{true: 0, false: 1}[j.Can.Media]:]
	case Install:
		out = append(j.bring(0, a.File), s)
		if j.Can.Unpack {
			out = append(out, j.step(0, Unpack))
		}
		return out
	case Licence:
		s.Title = "Add licence " + a.Part
	case Component:
		s.Title, s.Wants = "Update "+a.Part, a.File.Version
		return append(j.bring(0, a.File), s)
	case PowerCycle:
		s.Title, s.Wants = "Power off and on: "+a.Part, wants
	case ChooseSlot:
		return []Step{j.step(0, Point), s}
	case Restart:
		if !chosen {
			out = append(out, j.step(0, Point))
		}
		out = append(out, s)
		for _, k := range []Kind{Link, Login, Confirm, Services} {
			out = append(out, j.step(0, k))
		}
		return out
	}
	return []Step{s}
}
