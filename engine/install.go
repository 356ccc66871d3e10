package engine

import (
	"context"
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

// copied reports whether a hop copies the running installation before it overwrites it.
func (r *run) copied(hop int) bool {
	for _, s := range r.c.Steps {
		if s.Plan.Kind == change.Clone && s.Plan.Hop == hop {
			return true
		}
	}
	return false
}

// awaitWritten waits while a slot is written, and returns how it stands then. seen reports whether it was seen being written.
func (r *run) awaitWritten(ctx context.Context, s *store.Step, name string) (slot *portrait.Slot, seen bool, err error) {
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
func percent(s *portrait.Slot) string {
	if s.Percent < 0 {
		return ""
	}
	return fmt.Sprintf(", %d %%", s.Percent)
}

func installed(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	if !taken || s.Intent == nil {
		return false, "", nil
	}
	if s.Plan.InPlace() {
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
	if s.Plan.InPlace() {
		name = r.e.Profile(d).Medium + name
	} else {
		if args, err = r.written(s); err != nil {
			return err
		}
		slot = "slot " + args.Slot
	}
	err = c.Install(ctx, name, args.Slot, func(f float64) { r.progress(ctx, s, f, "%s is being written, %.0f %%", slot, f*100) })
	if s.Plan.InPlace() {
		return r.begun(c, err) // the restart comes with it
	}
	return err
}

func installedNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	if s.Plan.InPlace() {
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
func (r *run) awaitHolds(ctx context.Context, s *store.Step, name, version string, raw bool) (*portrait.Slot, error) {
	patience := max(r.wait(beginsLate), time.Second)
	since := r.e.now()
	for {
		slot, seen, err := r.awaitWritten(ctx, s, name)
		if err != nil {
			return nil, err
		}
		switch {
		case slot.Version == version && (raw || slot.Good == portrait.Yes):
			return slot, nil
		case seen || slot.Broken() || r.e.since(since) > patience:
			return nil, final("slot %s should hold %s and be good; the device shows %s. It had answered: %s", name, version, shown(slot), r.words())
		}
		if err := pause(ctx, r.wait(3*time.Second)); err != nil {
			return nil, err
		}
	}
}

// shown tells what a device shows of a slot.
func shown(s *portrait.Slot) string {
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
		if st.Plan.Kind == change.Unpack && st.Plan.Hop == s.Plan.Hop && st.Plan.OtherSlot() == s.Plan.OtherSlot() {
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

// Choosing the slot of the next start.

// Keeping a slot that was started once. Choosing again what is chosen does no harm, so nothing is looked at before.
