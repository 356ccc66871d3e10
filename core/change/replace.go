package change

import (
	"fmt"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/replace"
)

// A device of another model takes the place of one. Such a change has two members: the new device, which is brought to its release and gets the converted
// configuration, and the old one, which is measured and backed up before and not written to. The point of no return is where hands begin to move cables. The
// way back is the old device itself, which stays as it was until somebody releases it.

// The members of such a change.
const (
	TheNew = 1
	TheOld = 2
)

// A ReplaceJob is what such a change is drafted from. The path of the old device is of one hop, which stays where it is; the last hop of the new one's is no
// hop: it stands for what is done on the release that was reached.
type ReplaceJob struct {
	New, Old         Job
	NewName, OldName string
	Password         bool // the new one gets a password of ours
	Cables           []replace.Cable
	Labels           map[string]string // of cables, by the port of the old device
	Dead             bool              // the old one does not answer: nothing is read from it, and there is no way back to it
	// Address is what the new one has in common with the old one, host:port; "": each has its own, and both may be connected at once.
	Address string
}

// DraftReplace lists the steps that put a device in the place of another one.
func DraftReplace(j *ReplaceJob) (*EnsemblePlan, error) {
	last := len(j.New.Path.Hops) - 1
	part := slices.IndexFunc(j.New.Can.Parts, func(p Restored) bool { return p.Configuration })
	switch {
	case part < 0:
		return nil, fmt.Errorf("no configuration can be put onto %s by a change: its dialect restores none", j.NewName)
	case j.Password && !j.New.Can.Password:
		return nil, fmt.Errorf("no password can be set on %s by a change: its dialect has no set-password; keep the first one", j.NewName)
	case len(j.New.Licences) > 0 && !j.New.Can.Licence:
		return nil, fmt.Errorf("no licence can be given to %s by a change: its dialect has no add-licence", j.NewName)
	case j.New.Can.InPlace && !j.New.Can.Restart:
		return nil, fmt.Errorf("%s cannot be started anew by a command: its dialect has no restart; bring it up by itself, and move the cables by hand", j.NewName)
	}
	for i := range last {
		if what := j.New.beyond(&j.New.Path.Hops[i]); what != "" {
			return nil, fmt.Errorf("the hop of %s from %s to %s %s, which a change cannot carry out; do it by hand, or look for another path", j.NewName, j.New.Path.Hops[i].From, j.New.Path.Hops[i].To, what)
		}
	}
	d := &ensembleDraft{p: &EnsemblePlan{}, last: make([]int, TheOld+1)}
	if !j.Dead {
		d.lane(TheOld, j.Old.step(-1, Readings))
		d.lane(TheOld, j.Old.step(0, Backup))
	}
	j.prepare(d, last)
	j.put(d, last, part)
	j.cutOver(d, last)
	for _, k := range []Kind{Restart, Link, Login, Confirm, Services} {
		d.lane(TheNew, j.New.step(last, k))
	}
	verify := j.New.verify()
	verify.Member = 0
	d.add(verify, d.last[TheNew], d.last[TheOld])
	for i := range last {
		d.backs(TheNew, j.New.back(i))
	}
	d.backs(TheNew, Back{Way: BackNotNeeded, Text: "it was blank before; what was put onto it is put anew, or it is reset at the device"})
	back := Back{Way: BackByReinstall, Text: fmt.Sprintf("the cables go back to %s, which stays as it was; it is started and compared with what it was before", j.OldName), Steps: j.FromHere(ReplaceStand{Off: true, Moved: len(j.Cables)}).Steps}
	if j.Dead {
		back = Back{Way: NoWayBack, Text: "none: " + j.OldName + " does not answer"}
	}
	d.backs(TheOld, back)
	return d.p, nil
}

// backs declares a way back of a member.
func (d *ensembleDraft) backs(member int, b Back) {
	for len(d.p.Back) < member {
		d.p.Back = append(d.p.Back, nil)
	}
	d.p.Back[member-1] = append(d.p.Back[member-1], b)
}

// prepare brings the new device to its release, while the old one serves.
func (j *ReplaceJob) prepare(d *ensembleDraft, last int) {
	d.lane(TheNew, j.New.step(0, Check))
	if j.Password {
		d.lane(TheNew, j.New.step(0, SetPassword))
	}
	for _, s := range j.New.licences() {
		d.lane(TheNew, s)
	}
	hops := j.New
	hops.Licences = nil
	for i := range last {
		for _, s := range hops.hop(i) {
			d.lane(TheNew, s)
		}
		if j.Password && j.New.Path.Hops[i].Config == catalog.ConfigReset { // it has its first one again
			d.lane(TheNew, j.New.step(i, SetPassword))
		}
	}
}

// put puts the converted configuration, once it is known that it is that of the old device as it is now.
func (j *ReplaceJob) put(d *ensembleDraft, last, part int) {
	d.lane(TheNew, j.New.step(last, Backup))
	d.lane(TheNew, j.New.step(last, CheckSource), d.last[TheOld])
	put := j.New
	put.Can.Parts = j.New.Can.Parts[part : part+1]
	for _, s := range put.putBack(last) {
		if s.Kind.Is(Restart, Link, Login) {
			continue // once the cables are where they belong
		}
		if s.Kind == PutPart {
			s.Title = "Put the configuration"
		}
		d.lane(TheNew, s)
	}
}

// cutOver is what hands do, cable by cable. Each is looked for by its port.
func (j *ReplaceJob) cutOver(d *ensembleDraft, last int) {
	d.lane(TheNew, j.New.step(last, GoNoGo), d.last[TheOld]) // the configuration may have changed meanwhile
	if j.Address != "" && !j.Dead {
		d.lane(TheNew, j.byHand(&j.New, last, "Disconnect "+j.OldName, fmt.Sprintf("Switch %s off, or take it off the network by which it is managed: %s gets its address, %s. Leave it as it is: it is the way back",
			j.OldName, j.NewName, j.Address), true))
	}
	for _, c := range j.Cables {
		if c.To == "" {
			continue
		}
		where := "port " + c.From
		if label := j.Labels[c.From]; label != "" {
			where += " (" + label + ")"
		}
		text := fmt.Sprintf("Move the cable from %s of %s to port %s of %s", where, j.OldName, c.To, j.NewName)
		if c.Folded {
			text = fmt.Sprintf("What hangs on %s of %s goes to port %s of %s, together with another one: connect it by a switch, or leave it to that one's network", where, j.OldName, c.To, j.NewName)
		}
		s := j.byHand(&j.New, last, fmt.Sprintf("Cable %s to %s", c.From, c.To), text, true)
		d.lane(TheNew, s)
		if !c.Folded {
			see := j.New.step(last, Plugged, PortParams{Port: c.To})
			see.Title = "See port " + c.To
			d.lane(TheNew, see)
		}
	}
}

// byHand is a step that hands do; cuts says that the old device may not serve any more from then on.
func (j *ReplaceJob) byHand(of *Job, hop int, title, text string, cuts bool) Step {
	s := of.step(hop, Hand, HandParams{Task: text, Cuts: cuts})
	s.Title = title
	return s
}

// A ReplaceStand is how far hands have come when such a change rests.
type ReplaceStand struct {
	Off   bool // the old device may have been disconnected
	Moved int  // of the cables, in their order: how many may have been moved
	Shown bool // the new one has shown that it does the job
}

// FromHere says how such a change goes on from where it rests.
func (j *ReplaceJob) FromHere(s ReplaceStand) HalfWay {
	h := HalfWay{Hops: []int{0, 0}, To: []string{j.New.Path.From.String(), j.Old.Path.From.String()}}
	switch {
	case !s.Off && s.Moved == 0:
		h.Why = fmt.Sprintf("no cable was moved, and %s serves as before; nothing has to be undone", j.OldName)
		return h
	case j.Dead:
		h.Why = fmt.Sprintf("%s did not answer before, so there is nothing to go back to; see to %s", j.OldName, j.NewName)
		return h
	}
	h.Back, h.Why = true, fmt.Sprintf("%s was not written to; the cables go back to it", j.OldName)
	d := &ensembleDraft{p: &EnsemblePlan{}, last: make([]int, TheOld+1)}
	d.lane(TheOld, j.byHand(&j.Old, 0, "Disconnect "+j.NewName, fmt.Sprintf("Switch %s off, or take it off the network", j.NewName), false))
	for i, c := range slices.Backward(j.Cables) {
		if i < s.Moved && c.To != "" {
			d.lane(TheOld, j.byHand(&j.Old, 0, fmt.Sprintf("Cable %s back to %s", c.To, c.From), fmt.Sprintf("Move the cable from port %s of %s back to port %s of %s", c.To, j.NewName, c.From, j.OldName), false))
		}
	}
	d.lane(TheOld, j.byHand(&j.Old, 0, "Connect "+j.OldName, fmt.Sprintf("Switch %s on, and connect it to the network by which it is managed", j.OldName), false))
	for _, k := range []Kind{Link, Login, Confirm, Services} {
		d.lane(TheOld, j.Old.step(0, k))
	}
	settle := j.Old.step(0, Settle)
	settle.Title = "Compare readings"
	d.lane(TheOld, settle)
	verify := j.New.verify()
	verify.Member = 0
	d.add(verify, d.last[TheNew], d.last[TheOld])
	for _, st := range d.p.Steps {
		st.Back, st.SafePoint = true, st.Kind == Hand
		h.Steps = append(h.Steps, st)
	}
	return h
}

// DraftPutBack lists the steps by which a device that was replaced serves again: its cables go back to it. It is the only one that is spoken with.
func DraftPutBack(j *ReplaceJob) *Plan {
	h := j.FromHere(ReplaceStand{Off: true, Moved: len(j.Cables)})
	plan := &Plan{Back: []Back{{Way: BackNotNeeded, Text: fmt.Sprintf("%s stays as it is, and is put in its place again by a change of its own", j.NewName)}}}
	for _, s := range h.Steps {
		if s.Kind == Settle { // the verdict compares
			continue
		}
		s.Back, s.After = false, nil
		s.Member = memberOf(s.Kind)
		plan.Steps = append(plan.Steps, s)
	}
	number(plan.Steps)
	return plan
}
