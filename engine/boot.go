package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// Restarting. Whether a restart that was intended has happened is told by the slot that runs. A device at whose address
// nothing answers any more is on its way; one that accepts connections but does not talk may be going down or coming
// up, and only another look tells.

type bootState int

const (
	bootUnclear bootState = iota
	bootOld               // it runs from the slot it ran from before
	bootGone              // nothing answers
	bootNew               // it runs from the chosen slot
	bootBack              // it was started anew, and runs from the slot it ran from before
)

func (r *run) bootState(ctx context.Context, s *store.Step) (bootState, string, error) {
	r.hangUp()
	d, err := r.device(ctx)
	if err != nil {
		return bootUnclear, "", err
	}
	up, _ := linkUp(ctx, d.Address)
	if at := r.movesTo(d); !up && at != "" {
		up, _ = linkUp(ctx, at)
	}
	if !up && !r.overConsole(d) {
		return r.gone(ctx, "nothing answers at "+d.Address+" any more")
	}
	p, err := r.portrait(ctx)
	switch k := device.KindOf(err); {
	case k == device.Unreachable || k == device.Lost || k == device.NotReady || k == device.Silent:
		if r.overConsole(d) { // what stands between is there, the device is not
			return r.gone(ctx, "nothing comes over the console line")
		}
		r.silentSince = time.Time{}
		return bootUnclear, err.Error(), nil
	case k == device.SignInRefused && s.Plan.Hop >= 0 && r.resets(s.Plan.Hop): // the passwords of the factory state come with it
		return bootNew, "the device has other passwords now", nil
	case err != nil:
		return bootUnclear, "", err
	}
	r.silentSince = time.Time{}
	if busy := writing(p); busy != nil && (s.Plan.InPlace() || busy.Running) {
		return bootUnclear, fmt.Sprintf("slot %s of the device is being written%s", busy.Name, percent(busy)), nil
	}
	return r.judgeBoot(s, p)
}

// writing is a slot of a device that is being written, or nil. While there is one, the device is busy: nothing is sent to it again.
func writing(p *portrait.Portrait) *portrait.Slot {
	for i := range p.Slots {
		if p.Slots[i].Busy == portrait.Yes {
			return &p.Slots[i]
		}
	}
	return nil
}

// silence is how long nothing must answer before a device counts as gone: one failed try may be the network. It lasts no less than a few
// tries take, however fast the fleet is simulated.
const (
	silence      = 30 * time.Second
	leastSilence = 500 * time.Millisecond
)

// gone tells lasting silence, which is how a device that starts anew looks, from a network that was away for a moment.
func (r *run) gone(ctx context.Context, seen string) (bootState, string, error) {
	if ctx.Err() != nil { // when the context has ended, silence says nothing about the device
		return bootUnclear, seen, ctx.Err()
	}
	if r.silentSince.IsZero() { // one failed try says nothing: it may have been cut off, too
		r.silentSince, seen = r.e.now(), ""
	}
	if r.e.since(r.silentSince) < max(r.wait(silence), leastSilence) {
		return bootUnclear, seen, nil
	}
	return bootGone, seen, nil
}

// judgeBoot says from what a device shows whether the restart of a step has happened.
func (r *run) judgeBoot(s *store.Step, p *portrait.Portrait) (bootState, string, error) {
	var in slotIntent
	switch {
	case s.Plan.InPlace() || r.c.Kind == change.Restoring || !r.bySlot(s):
		if s.Intent == nil {
			return bootUnclear, "", final("the journal does not say how the device stood before")
		}
		if err := json.Unmarshal(s.Intent, &in); err != nil {
			return bootUnclear, "", err
		}
		if p.Started != in.Started || s.Plan.InPlace() && p.Version != in.Version {
			return bootNew, "the device was started anew", nil
		}
		return bootOld, "the device still answers and was not started anew", nil
	}
	name, _, err := r.target(s)
	if err != nil {
		return bootUnclear, "", err
	}
	for _, slot := range p.Slots {
		if slot.Name == name && slot.Running {
			return bootNew, "the device runs from slot " + name, nil
		}
	}
	if s.Intent != nil && json.Unmarshal(s.Intent, &in) == nil && in.Started != "" && p.Started != "" && p.Started != in.Started {
		return bootBack, "the device was started anew, and runs from the old slot again", nil
	}
	return bootOld, "the device still answers and runs from the old slot", nil
}

// unheard is what is to be done again when a device is still in the start that a step's part of the change was to end: then it was the
// network that was away, and the command never reached the device.
func (r *run) unheard(s *store.Step, p *portrait.Portrait) error {
	for i := len(r.c.Steps) - 1; i >= 0; i-- {
		before := &r.c.Steps[i]
		if before.Plan.Number >= s.Plan.Number {
			continue
		}
		if before.Plan.Hop != s.Plan.Hop || before.Plan.Back != s.Plan.Back {
			return nil
		}
		if before.Plan.Kind != change.Restart && !(before.Plan.Kind == change.Install && before.Plan.InPlace()) {
			continue
		}
		var in slotIntent
		if before.Intent == nil || json.Unmarshal(before.Intent, &in) != nil || in.Started == "" || in.Started != p.Started || in.Version != p.Version {
			return nil
		}
		return &againError{before.Plan.Kind, fmt.Sprintf("the device answers again, runs %s and was not started anew: it has not heard the command", p.Version), "it does not do what it is told"}
	}
	return nil
}

// bySlot reports whether the restart of a step is into another slot; others are of components and put-back parts.
func (r *run) bySlot(s *store.Step) bool {
	i := slices.IndexFunc(r.c.Steps, func(st store.Step) bool { return st.Plan.Number == s.Plan.Number })
	if i < 1 {
		return false
	}
	before := &r.c.Steps[i-1].Plan // of this lane, whatever the others do between the two
	return before.Kind == change.ChooseSlot && before.Hop == s.Plan.Hop && before.Back == s.Plan.Back
}

func restarted(r *run, ctx context.Context, s *store.Step, taken bool) (bool, string, error) {
	if needless, evidence, err := r.worksAsPut(ctx, s); needless || err != nil {
		return needless, evidence, err
	}
	// On the way back it may run what it ran before already, or be on its way there, and a device that lost its power may have gone on as another model by itself; of a
	// restart into nothing else only a recorded intent can tell.
	if !taken && !(r.bySlot(s) && (s.Plan.Back || r.hop(s).NewModel != "")) {
		return false, "", nil
	}
	return r.awaitBoot(ctx, s, func(b bootState) bool { return b != bootUnclear })
}

// awaitBoot looks until the state is settled, and reports whether the restart has begun.
func (r *run) awaitBoot(ctx context.Context, s *store.Step, settled func(bootState) bool) (bool, string, error) {
	r.silentSince = time.Time{}
	for {
		b, seen, err := r.bootState(ctx, s)
		rest := r.wait(time.Second)
		switch {
		case device.KindOf(err) == device.SignInRefused && r.mayRefuse(s): // it was told to start anew, and may know its users only later
			seen, rest = r.refusedYet(ctx, err)
		case err != nil:
			return false, "", err
		case settled(b):
			return b != bootOld, seen, nil
		}
		if ctx.Err() != nil { // this look was cut off; what was seen before says more
			return false, "", context.Cause(ctx)
		}
		s.Note = cmp.Or(seen, s.Note)
		if err := pause(ctx, rest); err != nil {
			return false, "", err
		}
	}
}

func restart(r *run, ctx context.Context, s *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return r.begun(c, c.Restart(ctx))
}

// begun hangs up after a command that starts the device anew. A connection that was lost with it is how that looks, and also how a line
// looks that breaks before the device heard of it.
func (r *run) begun(c *device.Client, err error) error {
	r.unsure = c.HungUp() || device.KindOf(err) == device.Lost
	r.hangUp()
	if device.KindOf(err) == device.Lost {
		return nil
	}
	return err
}

// wentDown waits until the device really is on its way: a box goes on answering for a moment after it was told to
// restart, and taking that for the return would be a false start of everything that follows. Where the connection was lost with
// the command and the device goes on as if nothing were, for longer than it should take, the device has not heard it: the step is
// tried again, which begins with another look.
func wentDown(r *run, ctx context.Context, s *store.Step) (string, error) {
	// A third of the hard limit at most: the next try needs its time, too.
	began, patience := r.e.now(), time.Duration(min(s.Plan.Expect.High, s.Plan.Expect.Limit/3)*float64(time.Second))
	down, evidence, err := r.awaitBoot(ctx, s, func(b bootState) bool {
		late := r.e.since(began) > patience
		return b == bootGone || b == bootNew || b == bootBack && late || b == bootOld && r.unsure && late
	})
	if err == nil && !down {
		return "", &device.Error{Kind: device.Lost, Address: r.m.Device, Doing: "restart", Message: "the connection was lost with the command, and " + evidence}
	}
	return evidence, err
}
