package change

import (
	"fmt"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/path"
)

// back declares the way back of one hop.
func (j *Job) back(hop int) Back {
	h := &j.Path.Hops[hop]
	switch {
	case j.Can.FromFiles:
		return j.backByFile(hop)
	case !j.Can.InPlace:
		b := Back{Way: BackBySlot, Text: fmt.Sprintf("start the installation of %s again, which stays in its slot", h.From)}
		b.Steps = j.backBySlot(hop)
		return b
	case j.Can.Clone:
		return Back{Way: BackBySlot, Text: fmt.Sprintf("start the copy of %s that was made before", h.From), Steps: j.backBySlot(hop)}
	case j.Old != nil && j.Old(hop) != nil:
		b := Back{Way: BackByReinstall, Text: fmt.Sprintf("install %s again and put the configuration of the backup back", h.From)}
		b.Steps = j.reinstall(hop, j.Old(hop))
		return b
	}
	return Back{Way: NoWayBack, Text: fmt.Sprintf("none: no supported hop leads from %s back to %s", h.To, h.From)}
}

func (j *Job) backBySlot(hop int) (out []Step) {
	choose := j.step(hop, ChooseSlot)
	choose.Title = "Choose the slot that ran before"
	out = append(append(out, choose), j.startBack(hop)...)
	out = append(out, j.step(hop, Services))
	if j.Can.Drain {
		out = append(out, j.step(hop, Undrain))
	}
	if !j.InEnsemble {
		out = append(out, j.bringBack(hop)...)
	}
	out = append(out, j.step(hop, Verify))
	for i := range out {
		out[i] = marked(out[i])
	}
	return out
}

// startBack lists the steps that start what was chosen, on a way back. What serves on the version of before goes on serving.
func (j *Job) startBack(hop int) []Step {
	return slices.DeleteFunc(j.start(hop, nil), func(s Step) bool { return s.Kind == Settle }) // the verdict compares
}

// backByFile starts an image again. The configuration is not the image's own: where the hop converted it, that of the backup goes back, too.
func (j *Job) backByFile(hop int) Back {
	h := &j.Path.Hops[hop]
	b := Back{Way: BackBySlot, Text: fmt.Sprintf("start the image of %s again, which stays on the device", h.From), Steps: j.backBySlot(hop)}
	switch {
	case h.Config == catalog.ConfigKept:
	case len(j.Can.Parts) == 0:
		b.Text += fmt.Sprintf("; the configuration stays as %s made it, since none can be put back", h.To)
	default:
		b.Text += " and put the configuration of the backup back"
		at := 1 + slices.IndexFunc(b.Steps, func(s Step) bool { return s.Kind == Confirm })
		put := j.putBack(hop)
		for i := range put {
			put[i] = marked(put[i])
		}
		b.Steps = slices.Insert(b.Steps, at, put...)
	}
	return b
}

func (j *Job) reinstall(hop int, old *File) (out []Step) {
	if j.Can.Media {
		out = append(out, j.step(hop, Hand, HandParams{Task: fmt.Sprintf("put the medium with %s into the device", old.Name)}))
	}
	out = append(out, j.bring(hop, old)...)
	install := j.step(hop, Install, InstallParams{File: old, InPlace: true})
	install.Title = "Install the older one over it"
	out = append(out, install)
	for _, k := range []Kind{Link, Login, Confirm} {
		out = append(out, j.step(hop, k))
	}
	out = append(out, j.putBack(hop)...)
	out = append(out, j.step(hop, Services))
	if j.Can.Drain {
		out = append(out, j.step(hop, Undrain))
	}
	if !j.InEnsemble {
		out = append(out, j.bringBack(hop)...)
	}
	out = append(out, j.step(hop, Verify))
	for i := range out {
		out[i] = marked(out[i])
	}
	return out
}

// marked makes a step one of the way back: there is no resting on it but for a person's act.
func marked(s Step) Step {
	s.Back, s.SafePoint = true, s.Kind == Hand
	if s.Title == "" {
		s.Title = s.Kind.Spec().Title
	}
	return s
}

// DraftBack lists the steps that start the installation in another slot again, as a change of its own. from is what runs
// now, to what lies in that slot; units are those of the device; slot names the slot, "" is the idle one of two. With carry, the configuration of now is converted and put onto the older installation.
func DraftBack(f *catalog.Family, can Abilities, pace Pace, units []UnitOf, from, to, slot string, carry bool) (*Plan, error) {
	if can.InPlace && !can.Copies {
		return nil, fmt.Errorf("such a device keeps no installation beside the running one; draft a change to %s instead", to)
	}
	if f == nil {
		f = &catalog.Family{}
	}
	j := Job{Family: f, Can: can, Pace: pace, Units: units, Path: &path.Path{}}
	plan := &Plan{}
	add := func(kinds ...Kind) {
		for _, k := range kinds {
			s := j.step(0, k)
			if k == ChooseSlot {
				s.Params = SlotParams{Slot: slot}
			}
			plan.Steps = append(plan.Steps, s)
		}
	}
	plan.Steps = append(plan.Steps, j.step(-1, Readings))
	add(Check, Backup)
	var carried []Step
	if carry {
		i := slices.IndexFunc(can.Parts, func(p Restored) bool { return p.Configuration })
		if i < 0 {
			return nil, fmt.Errorf("nothing can be carried across: no configuration can be put onto such a device")
		}
		carried = (&Job{Family: f, Can: Abilities{Parts: can.Parts[i : i+1], Validate: can.Validate}, Pace: pace}).putBack(0)
		convert := j.step(0, Convert, PartParams{Part: can.Parts[i].Name})
		convert.Title = "Convert the configuration of now for " + to
		plan.Steps = append(plan.Steps, convert)
	}
	add(GoNoGo)
	if can.Drain {
		add(Drain)
	}
	if can.Save {
		add(Save)
	}
	add(ChooseSlot)
	plan.Steps = append(plan.Steps, j.start(0, nil)...)
	add(Services)
	plan.Steps = append(plan.Steps, carried...)
	if can.Drain {
		add(Undrain)
	}
	plan.Steps = append(plan.Steps, j.verify())
	number(plan.Steps)
	again := j.backBySlot(0)
	plan.Back = []Back{{Way: BackBySlot, Text: fmt.Sprintf("start the installation of %s again, which stays in its slot", from), Steps: again}}
	if j.several() {
		plan.Units = &Units{Units: units, Dark: []int{0}, Proof: Proof{Proved: true}}
	}
	return plan, nil
}
