package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// Installing. What the idle slot held before is remembered with the intent: only then does the same version in it
// afterwards prove that our installation went through. Where there is no slot, the version that ran and the start it ran in
// are remembered.

type slotIntent struct {
	Slot    string // that is written, or started
	Version string // it held before
	Old     string `json:",omitempty"` // the slot that runs meanwhile
	Started string `json:",omitempty"` // what the device said about its last start

	Written *string `json:",omitempty"` // what the device said about when the slot was written; nil: not recorded
}

// anew reports whether a slot was written since: it held another version before, or the device says another moment.
func (in *slotIntent) anew(slot *device.Slot) bool {
	return in.Version != slot.Version || in.Written != nil && slot.Written != "" && *in.Written != slot.Written
}

func slotBefore(r *run, ctx context.Context, s *store.Step) (any, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil, err
	}
	if s.Plan.InPlace {
		return slotIntent{Version: p.Version, Started: p.Started}, nil
	}
	idle, running := p.IdleSlot(), p.RunningSlot()
	if idle == nil || running == nil {
		return nil, final("the device shows no idle slot")
	}
	return slotIntent{Slot: idle.Name, Version: idle.Version, Old: running.Name, Written: &idle.Written}, nil
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
			if s.Plan.Kind == kind && s.Plan.Hop == hop && s.Intent != nil && !s.Plan.Back && !s.Plan.InPlace && !s.Plan.Other {
				return in, json.Unmarshal(s.Intent, &in)
			}
		}
	}
	return in, final("the journal does not say which slot was written")
}

// written is what the journal says about the slot that a step writes: that of its hop, or the one that ran before.
func (r *run) written(s *store.Step) (in slotIntent, err error) {
	if !s.Plan.Other {
		return r.intended(s.Plan.Hop)
	}
	for _, st := range r.c.Steps {
		if st.Plan.Kind == change.Install && st.Plan.Other && st.Intent != nil {
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

// copied reports whether a hop copies the running installation before it overwrites it.
func (r *run) copied(hop int) bool {
	for _, s := range r.c.Steps {
		if s.Plan.Kind == change.Clone && s.Plan.Hop == hop {
			return true
		}
	}
	return false
}

// goal is the version that a step's part of the change leads to.
func (r *run) goal(s *store.Step) string {
	switch {
	case s.Plan.Hop < 0:
		if r.c.Returning != nil {
			return r.path.Hops[*r.c.Returning].From.String()
		}
		return r.c.To
	case s.Plan.Back:
		return r.hop(s).From.String()
	case r.c.Kind == store.Acts && s.Plan.Kind == change.Confirm: // something may have been installed that is not started
		return r.c.To
	}
	return r.hop(s).To.String()
}

func (r *run) slot(ctx context.Context, name string) (*device.Slot, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return nil, err
	}
	for i := range p.Slots {
		if p.Slots[i].Name == name {
			return &p.Slots[i], nil
		}
	}
	return nil, final("the device shows no slot %q", name)
}

// awaitWritten waits while a slot is written, and returns how it stands then. seen reports whether it was seen being written.
func (r *run) awaitWritten(ctx context.Context, s *store.Step, name string) (slot *device.Slot, seen bool, err error) {
	for {
		if slot, err = r.slot(ctx, name); err != nil || slot.Busy != portrait.Yes {
			return slot, seen, err
		}
		seen = true
		r.progress(ctx, s, float64(max(slot.Percent, 0))/100, "slot %s is being written%s", slot.Name, percent(slot))
		if err := pause(ctx, r.wait(3*time.Second)); err != nil {
			return nil, seen, err
		}
	}
}

// percent tells how far a slot is written, where the device says so.
func percent(s *device.Slot) string {
	if s.Percent < 0 {
		return ""
	}
	return fmt.Sprintf(", %d %%", s.Percent)
}

func installed(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	if !taken || s.Intent == nil {
		return false, "", nil
	}
	if s.Plan.InPlace {
		return r.awaitBoot(ctx, s, func(b bootState) bool { return b != bootUnclear })
	}
	in, err := r.written(s)
	if err != nil {
		return false, "", err
	}
	// Begun before we were interrupted, and still going on: wait, never start a second one.
	slot, seen, err := r.awaitWritten(ctx, s, in.Slot)
	if err != nil {
		return false, "", err
	}
	to := r.hop(s).To.String()
	switch {
	case slot.Running:
		return false, "", final("slot %s is running; it was idle when the installation began. Somebody else restarted the device", slot.Name)
	case (slot.Good == portrait.Yes || r.unpacksLater(s)) && slot.Version == to && (in.anew(slot) || seen):
		return true, fmt.Sprintf("slot %s holds %s", slot.Name, to), nil
	}
	return false, "", nil
}

func install(r *run, ctx context.Context, s *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	name, slot := r.file(s).Name, "the device"
	args := slotIntent{}
	if s.Plan.InPlace {
		name = r.e.Dialects[d.Dialect].Medium + name
	} else {
		if args, err = r.written(s); err != nil {
			return err
		}
		slot = "slot " + args.Slot
	}
	err = c.Install(ctx, name, args.Slot, func(f float64) { r.progress(ctx, s, f, "%s is being written, %.0f %%", slot, f*100) })
	if s.Plan.InPlace {
		return r.begun(c, err) // the restart comes with it
	}
	return err
}

func installedNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	if s.Plan.InPlace {
		return wentDown(r, ctx, s)
	}
	return r.slotHolds(ctx, s)
}

func (r *run) slotHolds(ctx context.Context, s *store.Step) (string, error) {
	in, err := r.written(s)
	if err != nil {
		return "", err
	}
	slot, err := r.awaitHolds(ctx, s, in.Slot, r.hop(s).To.String(), r.unpacksLater(s))
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("slot %s holds %s", slot.Name, slot.Version), nil
}

// beginsLate is how long a device that took a command may take until it shows that it works on it.
const beginsLate = 30 * time.Second

// awaitHolds waits until a slot holds a version and is good; raw says that it counts as good only after a later step. A device may answer
// at once and go on writing, so the answer to the command proves nothing: the slot is looked at until it is no longer written.
func (r *run) awaitHolds(ctx context.Context, s *store.Step, name, version string, raw bool) (*device.Slot, error) {
	patience := max(r.wait(beginsLate), time.Second)
	since := time.Now()
	for {
		slot, seen, err := r.awaitWritten(ctx, s, name)
		if err != nil {
			return nil, err
		}
		switch {
		case slot.Version == version && (raw || slot.Good == portrait.Yes):
			return slot, nil
		case seen || slot.Broken() || time.Since(since) > patience:
			return nil, final("slot %s should hold %s and be good; the device shows %s. It had answered: %s", name, version, shown(slot), r.words())
		}
		if err := pause(ctx, r.wait(3*time.Second)); err != nil {
			return nil, err
		}
	}
}

// shown tells what a device shows of a slot.
func shown(s *device.Slot) string {
	v := s.Version
	if v == "" {
		v = "nothing in it"
	}
	if s.Good == portrait.Unknown {
		return fmt.Sprintf("%s, %q, which does not say whether it is good", v, s.State)
	}
	return fmt.Sprintf("%s, %q", v, s.State)
}

// words is what the device answered to the last command, for messages about what came of it.
func (r *run) words() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.conn == nil {
		return "nothing that is known, the connection was lost"
	}
	return r.conn.Words()
}

// unpacksLater reports whether a slot counts as good only after a later step.
func (r *run) unpacksLater(s *store.Step) bool {
	if s.Plan.Kind != change.Install {
		return false
	}
	for _, st := range r.c.Steps {
		if st.Plan.Kind == change.Unpack && st.Plan.Hop == s.Plan.Hop && st.Plan.Other == s.Plan.Other {
			return true
		}
	}
	return false
}

// atSlot is the connection to the device, and what the journal says about the slots of a step's hop.
func (r *run) atSlot(ctx context.Context, s *store.Step) (*device.Client, slotIntent, error) {
	in, err := r.written(s)
	if err != nil {
		return nil, in, err
	}
	c, err := r.connect(ctx)
	return c, in, err
}

// Unpacking what was installed.

func unpacked(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	in, err := r.written(s)
	if err != nil {
		return false, "", err
	}
	slot, _, err := r.awaitWritten(ctx, s, in.Slot)
	if err != nil {
		return false, "", err
	}
	return slot.Good == portrait.Yes && slot.Version == r.hop(s).To.String(), fmt.Sprintf("slot %s holds %s, unpacked", slot.Name, slot.Version), nil
}

func unpack(r *run, ctx context.Context, s *store.Step) error {
	c, in, err := r.atSlot(ctx, s)
	if err != nil {
		return err
	}
	return c.Unpack(ctx, in.Slot, func(f float64) { r.progress(ctx, s, f, "slot %s is being unpacked, %.0f %%", in.Slot, f*100) })
}

func unpackedNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	return r.slotHolds(ctx, s)
}

// Copying the running installation into the other slot, so that it is there whatever happens to the new one.

func cloned(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	if !taken || s.Intent == nil {
		return false, "", nil
	}
	in, err := r.intended(s.Plan.Hop)
	if err != nil {
		return false, "", err
	}
	slot, _, err := r.awaitWritten(ctx, s, in.Slot)
	if err != nil {
		return false, "", err
	}
	from := r.hop(s).From.String()
	return slot.Good == portrait.Yes && slot.Version == from && in.anew(slot), fmt.Sprintf("slot %s holds a copy of %s", slot.Name, from), nil
}

func clone(r *run, ctx context.Context, s *store.Step) error {
	c, in, err := r.atSlot(ctx, s)
	if err != nil {
		return err
	}
	return c.Clone(ctx, in.Slot, func(f float64) { r.progress(ctx, s, f, "slot %s is being written, %.0f %%", in.Slot, f*100) })
}

func clonedNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	in, err := r.intended(s.Plan.Hop)
	if err != nil {
		return "", err
	}
	slot, err := r.awaitHolds(ctx, s, in.Slot, r.hop(s).From.String(), false)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("slot %s holds a copy of %s", slot.Name, slot.Version), nil
}

// Saving the configuration.

func saved(r *run, ctx context.Context, _ *store.Step, _ bool) (bool, string, error) {
	unsaved, err := r.unsaved(ctx)
	return err == nil && unsaved == portrait.No, "running and saved configuration are the same", err
}

// unsaved is whether the running configuration differs from the saved one: by the device's word, or else by reading both, where its
// dialect knows them. Otherwise nobody knows.
func (r *run) unsaved(ctx context.Context) (device.Fact, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return portrait.Unknown, err
	}
	d, err := r.device(ctx)
	if err != nil || p.Unsaved != portrait.Unknown {
		return p.Unsaved, err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return portrait.Unknown, err
	}
	var texts [][]byte
	for _, name := range []string{"running", "saved"} {
		part := r.e.Dialects[d.Dialect].Part(name)
		if part == nil {
			return portrait.Unknown, nil
		}
		text, _, err := c.FetchPart(ctx, part)
		if k := device.KindOf(err); k == device.Refused || k == device.NotUnderstood {
			return portrait.Unknown, nil
		}
		if err != nil {
			return portrait.Unknown, err
		}
		texts = append(texts, text)
	}
	return portrait.Known(!bytes.Equal(texts[0], texts[1])), nil
}

func save(r *run, ctx context.Context, _ *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.Save(ctx)
}

func savedNow(r *run, ctx context.Context, _ *store.Step) (string, error) {
	unsaved, err := r.unsaved(ctx)
	switch {
	case err != nil:
		return "", err
	case unsaved == portrait.Yes:
		return "", final("the device still shows unsaved configuration after saving. It had answered: %s", r.words())
	case unsaved == portrait.Unknown:
		return "the device took the command; whether anything is unsaved is not known, since it does not say", nil
	}
	return "running and saved configuration are the same", nil
}

// Choosing the slot of the next start.

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
	return slot.Next == portrait.Yes && (!s.Plan.Once || slot.Running), fmt.Sprintf("the next start is from slot %s, %s", slot.Name, slot.Version), nil
}

// loadSlot chooses a slot in the boot loader, over the console line, where management does not answer any more.
func (r *run) loadSlot(ctx context.Context, slot string, why error) (bool, string, error) {
	d, err := r.device(ctx)
	if err != nil {
		return false, "", err
	}
	if d.Reach.Console == "" || d.Reach.Only {
		return false, "", why
	}
	t, err := r.e.target(ctx, d, r.expected(), fmt.Sprintf("change %d", r.c.ID), "carrying the change out")
	if err != nil {
		return false, "", err
	}
	t.Console, t.Record = d.Reach.Console, r.e.recorder(context.WithoutCancel(ctx), d, fmt.Sprintf("change %d", r.c.ID))
	switch err := device.LoadSlot(ctx, t, slot); {
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
	if slot.Good != portrait.Yes || slot.Version != version {
		return final("slot %s should hold %s and be good; the device shows %s", slot.Name, version, shown(slot))
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if s.Plan.Once {
		return c.ChooseSlotOnce(ctx, name)
	}
	return c.ChooseSlot(ctx, name)
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
	return fmt.Sprintf("the next start is from slot %s, %s%s", slot.Name, slot.Version, map[bool]string{true: "; for that start only"}[s.Plan.Once]), nil
}

// Keeping a slot that was started once. Choosing again what is chosen does no harm, so nothing is looked at before.

func keepSlot(r *run, ctx context.Context, s *store.Step) error {
	name, _, err := r.target(s)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.ChooseSlot(ctx, name)
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
