package engine

import (
	"context"
	"encoding/json"
	"fmt"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// Slots: which is written, which is chosen, and what lay in them before.

type slotIntent struct {
	Slot    string // that is written, or started
	Version string // it held before
	Old     string `json:",omitempty"` // the slot that runs meanwhile
	Second  string `json:",omitempty"` // the slot that was second
	Started string `json:",omitempty"` // what the device said about its last start

	Written *string `json:",omitempty"` // what the device said about when the slot was written; nil: not recorded
}

// anew reports whether a slot was written since: it held another version before, or the device says another moment.
func (in *slotIntent) anew(slot *portrait.Slot) bool {
	return in.Version != slot.Version || in.Written != nil && slot.Written != "" && *in.Written != slot.Written
}

func slotBefore(r *run, ctx context.Context, s *store.Step) (any, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil, err
	}
	if s.Plan.InPlace() {
		return slotIntent{Version: p.Version, Started: p.Started}, nil
	}
	running := p.RunningSlot()
	slot, err := r.slotFor(ctx, s, p)
	switch {
	case err != nil:
		return nil, err
	case running == nil && slot != nil && s.Plan.Kind == change.Clone:
		running = &portrait.Slot{} // what runs needs no name to be copied
	case slot == nil || running == nil:
		return nil, final("the device shows no idle slot")
	}
	in := slotIntent{Slot: slot.Name, Version: slot.Version, Old: running.Name, Written: &slot.Written}
	for _, other := range p.Slots {
		if other.Second == portrait.Yes {
			in.Second = other.Name
		}
	}
	return in, nil
}

// slotFor is the slot that a step is about, as it stands: the one that it names, the image that it starts, a copy under a name of its own, or
// else the idle slot; nil when there is none.
func (r *run) slotFor(ctx context.Context, s *store.Step, p *portrait.Portrait) (*portrait.Slot, error) {
	d, err := r.device(ctx)
	if err != nil {
		return nil, err
	}
	profile := r.e.Profile(d)
	name := change.Of[change.SlotParams](&s.Plan).Slot
	switch copies := profile.Copies; {
	case name != "":
	case s.Plan.Kind == change.ChooseSlot && s.Plan.File() != nil:
		name = s.Plan.File().Name
	case s.Plan.Kind == change.Clone && copies != nil:
		name = copies.Name(r.c.ID, p.Version)
		if p.Slot(name) != nil {
			return nil, final("the device has a copy called %s already, which this change did not make; give it another name first", name)
		}
	default:
		return p.IdleSlot(), nil
	}
	if slot := p.Slot(name); slot != nil {
		return slot, nil
	}
	return &portrait.Slot{Name: name}, nil
}

// slotToChoose remembers which slot is chosen where nothing was installed before.
func slotToChoose(r *run, ctx context.Context, s *store.Step) (any, error) {
	if in, err := r.intended(s.Plan.Hop); s.Plan.Back || err == nil {
		return in, err
	}
	return slotBefore(r, ctx, s)
}

// intended is what the journal says about the slots of a hop.
func (r *run) intended(hop int) (in slotIntent, err error) {
	for _, kind := range []change.Kind{change.Clone, change.Install, change.ChooseSlot} {
		for _, s := range r.c.Steps {
			if s.Plan.Kind == kind && s.Plan.Hop == hop && s.Intent != nil && !s.Plan.Back && !s.Plan.InPlace() && !s.Plan.OtherSlot() {
				return in, json.Unmarshal(s.Intent, &in)
			}
		}
	}
	return in, final("the journal does not say which slot was written")
}

// written is what the journal says about the slot that a step writes: that of its hop, or the one that ran before.
func (r *run) written(s *store.Step) (in slotIntent, err error) {
	if !s.Plan.OtherSlot() {
		return r.intended(s.Plan.Hop)
	}
	for _, st := range r.c.Steps {
		if st.Plan.Kind == change.Install && st.Plan.OtherSlot() && st.Intent != nil {
			return in, json.Unmarshal(st.Intent, &in)
		}
	}
	return in, final("the journal does not say which slot was written")
}

// target is the slot that the next start of a step's hop is to be from, and what runs there then.
func (r *run) target(s *store.Step) (slot, version string, err error) {
	in, err := r.intended(s.Plan.Hop)
	if err != nil {
		return "", "", err
	}
	if s.Plan.Back && r.copied(s.Plan.Hop) {
		return in.Slot, r.goal(s), nil // the copy that was made before
	}
	if s.Plan.Back {
		if in.Old == "" {
			return "", "", final("the journal does not say which slot ran before")
		}
		return in.Old, r.goal(s), nil
	}
	return in.Slot, r.goal(s), nil
}

// goal is the version that a step's part of the change leads to.
func (r *run) goal(s *store.Step) string {
	switch {
	case !r.alone() && r.c.Returning != nil && r.c.HalfWay != nil && (s.Plan.Back || s.Plan.Hop < 0):
		return r.c.HalfWay.To[r.m.Number-1]
	case s.Plan.Hop < 0:
		if r.c.Returning != nil {
			return r.path.Hops[*r.c.Returning].From.String()
		}
		return r.c.To
	case s.Plan.Back:
		return r.hop(s).From.String()
	case r.c.Kind == change.SingleOperations && s.Plan.Kind == change.Confirm: // something may have been installed that is not started
		return r.c.To
	}
	return r.hop(s).To.String()
}

func (r *run) slot(ctx context.Context, name string) (*portrait.Slot, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil, err
	}
	if slot := p.Slot(name); slot != nil {
		return slot, nil
	}
	if why := p.NotUnderstood["slots"]; why != "" {
		return nil, final("whether the device has %q is not known: %s", name, why)
	}
	d, err := r.device(ctx)
	if err != nil {
		return nil, err
	}
	if profile := r.e.Profile(d); profile.Copies != nil || profile.Abilities.FromFiles { // they come and go
		return &portrait.Slot{Name: name, Good: portrait.No}, nil
	}
	return nil, final("the device shows no slot %q", name)
}

func slotChosen(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	name, _, err := r.target(s)
	if err != nil && s.Intent == nil && !s.Plan.Back {
		return false, "", nil // nothing was installed before: the intent says which one
	}
	if err != nil {
		return false, "", err
	}
	slot, err := r.slot(ctx, name)
	if k := device.KindOf(err); s.Plan.Back && (k == device.Unreachable || k == device.Silent || k == device.NotReady) {
		return r.loadSlot(ctx, name, err)
	}
	if err != nil {
		return false, "", err
	}
	// Whether it is for one start only, the device may not say: a choice of ours that was begun is made again.
	return slot.Next == portrait.Yes && (!s.Plan.Once() || slot.Running), fmt.Sprintf("the next start is from slot %s, %s", slot.Name, slot.Version), nil
}

// loadSlot chooses a slot in the boot loader, over the console line, where management does not answer any more.
func (r *run) loadSlot(ctx context.Context, slot string, why error) (bool, string, error) {
	d, err := r.device(ctx)
	if err != nil {
		return false, "", err
	}
	if d.Settings.Reach.Console == "" || d.Settings.Reach.Only {
		return false, "", why
	}
	t, err := r.e.target(ctx, d, r.expected(), access.Carrying(r.c.ID), "carrying the change out")
	if err != nil {
		return false, "", err
	}
	t.Console, t.Record = d.Settings.Reach.Console, r.e.recorder(context.WithoutCancel(ctx), d, access.Carrying(r.c.ID))
	switch err := t.LoadSlot(ctx, slot); {
	case device.KindOf(err) == device.NotReady: // it may be on its way up
		return false, "", why
	case err != nil:
		return false, "", err
	}
	return true, "the device did not come up; slot " + slot + " was started from its boot loader, over the console line", nil
}

func chooseSlot(r *run, ctx context.Context, s *store.Step) error {
	name, version, err := r.target(s)
	if err != nil {
		return err
	}
	slot, err := r.slot(ctx, name)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	// An image that lies on the storage was proven by its checksum, or ran before; the device need not say that it is good.
	good := slot.Good == portrait.Yes || slot.Good == portrait.Unknown && c.Profile().Abilities.FromFiles
	if !good || slot.Version != version {
		return final("slot %s should hold %s and be good; the device shows %s", slot.Name, version, shown(slot))
	}
	if s.Plan.Once() {
		return c.ChooseSlotOnce(ctx, name)
	}
	return c.ChooseSlot(ctx, name, r.second(s))
}

// second is the slot that is to be second where a step chooses one: what ran before, and on the way back what was second before. It is "" where
// there is none.
func (r *run) second(s *store.Step) string {
	in, err := r.intended(s.Plan.Hop)
	switch {
	case err != nil:
		return ""
	case !s.Plan.Back:
		return in.Old
	case in.Second != in.Old:
		return in.Second
	}
	return ""
}

func slotChosenNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	name, _, err := r.target(s)
	if err != nil {
		return "", err
	}
	slot, err := r.slot(ctx, name)
	switch {
	case err != nil:
		return "", err
	case slot.Next == portrait.No:
		return "", final("the device does not show slot %s as next. It had answered: %s", slot.Name, r.words())
	case slot.Next == portrait.Unknown:
		return fmt.Sprintf("the device took the command; from which slot the next start is, is not known, since it does not say. Slot %s holds %s", slot.Name, slot.Version), nil
	}
	return fmt.Sprintf("the next start is from slot %s, %s%s", slot.Name, slot.Version, map[bool]string{true: "; for that start only"}[s.Plan.Once()]), nil
}

func keepSlot(r *run, ctx context.Context, s *store.Step) error {
	name, _, err := r.target(s)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.ChooseSlot(ctx, name, r.second(s))
}

func slotKeptNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	name, _, err := r.target(s)
	if err != nil {
		return "", err
	}
	slot, err := r.slot(ctx, name)
	if err == nil && !(slot.Next != portrait.No && slot.Running) {
		return "", final("slot %s should run and be next; the device shows: %s", slot.Name, slot.State)
	}
	return "slot " + name + " is the one of every start from now on", err
}
