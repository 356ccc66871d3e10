package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
)

// Coming back, in stages. Each stage polls until it is reached or its hard limit is over; what was last seen stands in
// the note, so that a failure tells it.

// poll calls look until it says done. Errors that mean "not yet" are noted; others end the waiting.
func (r *run) poll(ctx context.Context, s *store.Step, look func() (done bool, seen string, err error)) error {
	began := r.e.now()
	for {
		done, seen, err := look()
		if err == nil && !done && ctx.Err() != nil { // it was cut off, and says so in its own words; what was seen before says more
			return context.Cause(ctx)
		}
		rest := r.nextLook(began)
		if err != nil {
			switch k := device.KindOf(err); {
			case ctx.Err() != nil && k != "": // it was cut off; what was seen before says more
				return context.Cause(ctx)
			case k == device.Unreachable || k == device.Lost || k == device.NotReady || k == device.Silent:
				r.hangUp()
				seen = err.Error()
			case k == device.SignInRefused && r.mayRefuse(s):
				r.hangUp()
				seen, rest = r.refusedYet(ctx, err)
			default:
				return err
			}
		}
		if done {
			s.Note = seen
			return nil
		}
		r.progress(ctx, s, expectedFraction(s.Plan.Expect, r.e.since(began)), "%s", seen)
		if err := pause(ctx, rest); err != nil {
			return err
		}
	}
}

// refusedRest is how long a device that refuses a sign-in while it starts is left alone first; then four times as long for each one more.
// So the tries that the bound on refused sign-ins allows are spread over the time that users may take.
const refusedRest = 45 * time.Second

// refusedYet says how long a device that starts and refuses a sign-in is left alone now. It goes by how many were refused, whoever tried
// and with how many credentials. When the bound is reached nothing is sent to the device, so it is looked often whether it may be
// tried again: its rest may be over, or somebody may have added a credential.
func (r *run) refusedYet(ctx context.Context, err error) (seen string, rest time.Duration) {
	seen = "sign-in is refused while the device starts: " + err.Error()
	r.readAt = time.Time{}
	d, unread := r.device(ctx)
	tries, unset := r.e.tries(ctx)
	if unread != nil || unset != nil || d.RefusedTries >= tries.Bound {
		return seen, r.wait(15 * time.Second)
	}
	return seen, r.wait(refusedRest << (2 * max(d.RefusedTries-1, 0)))
}

// mayRefuse reports whether a refused sign-in, seen while a step waits for a device, may only say that it is not ready for one yet: it was
// started anew by this change, and its users are known only once their service is up.
func (r *run) mayRefuse(s *store.Step) bool {
	return s.Plan.Kind.Is(change.Install, change.Restart, change.HandOver, change.Link, change.Login, change.Confirm, change.AwaitUnits, change.Services)
}

func waitLink(r *run, ctx context.Context, s *store.Step) error {
	return r.poll(ctx, s, func() (bool, string, error) {
		d, err := r.device(ctx)
		if err != nil {
			return false, "", err
		}
		if d.Settings.Reach.Only || d.Settings.Reach.Via != "" { // only signing in tells
			_, err := r.connect(ctx)
			if device.KindOf(err) == device.SignInRefused {
				return true, "the device answers", nil
			}
			return err == nil, "the device answers", err
		}
		up, seen := linkUp(ctx, d.Address)
		if at := r.movesTo(d); !up && at != "" {
			up, seen = linkUp(ctx, at)
		}
		return up, seen, nil
	})
}

// notYet says in a few words why a device lets nobody in while it starts.
var notYet = map[device.ErrorKind]string{device.Unreachable: "sign-in is not answered yet", device.Silent: "sign-in is not answered, the device is silent", device.Lost: "sign-in breaks off", device.NotReady: "the device says that it is still starting"}

func waitLogin(r *run, ctx context.Context, s *store.Step) error {
	return r.poll(ctx, s, func() (bool, string, error) {
		_, err := r.connect(ctx)
		if yet, ok := notYet[device.KindOf(err)]; ok {
			r.hangUp()
			if r.c.Kind == change.Replacing || r.c.Kind == change.Swapping { // it may be the old one that answers there
				yet = err.Error()
			}
			return false, yet, nil
		}
		return err == nil, "sign-in is accepted", err
	})
}

func confirmVersion(r *run, ctx context.Context, s *store.Step) error {
	to := r.goal(s)
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.portrait(ctx)
		if err != nil {
			return false, "", err
		}
		if busy := writing(p); busy != nil {
			return false, fmt.Sprintf("slot %s of the device is being written%s", busy.Name, percent(busy)), nil
		}
		if err := r.unheard(s, p); err != nil {
			return false, "", err
		}
		switch from, wrong := r.hop(s).From.String(), r.keepsModel(s, p); {
		case p.Version == to && wrong == "":
		case wrong != "":
			return false, "", final("%s", wrong)
		case !s.Plan.Back && s.Plan.Hop >= 0 && p.Version == from:
			return false, "", final("the device came back with %s, not %s: it runs what it ran before", p.Version, to)
		default:
			return false, "", final("the device came back with %s, not %s", p.Version, to)
		}
		seen := "the device runs " + p.Version
		if r.changesPlatform() {
			seen += " as " + p.Model
		}
		if slot := p.RunningSlot(); slot != nil {
			seen += " from slot " + slot.Name
		}
		if r.c.Kind == change.Swapping {
			if err := r.takeCredentials(ctx); err != nil {
				return false, "", err
			}
		}
		return true, seen, r.e.recordPortrait(ctx, r.m.DeviceID, p)
	})
}

// waitServices waits until the device says that its services are up, and for the parts that were well before: a line card may
// need minutes more. Parts that are late when the expected time is over do not hold the change up; what comes next tells them.
func waitServices(r *run, ctx context.Context, s *store.Step) error {
	began := r.e.now()
	var before verify.Readings
	if r.m.Readings != nil {
		if err := json.Unmarshal(r.m.Readings, &before); err != nil {
			return final("the readings from before the change cannot be read: %w", err)
		}
	}
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.portrait(ctx)
		if err != nil {
			return false, "", err
		}
		ready := "the device says its services are ready"
		switch expected := s.Plan.Expect.High; {
		case p.ServicesReady == portrait.No:
			return false, "the device says its services are starting", nil
		case p.ServicesReady == portrait.Unknown && r.e.since(began).Seconds() < expected:
			return false, "whether its services are ready is not known, since the device does not say; the expected time is waited", nil
		case p.ServicesReady == portrait.Unknown:
			ready = fmt.Sprintf("whether its services are ready is not known, since the device does not say; the expected %.0f s are over", expected)
		}
		var late []string
		for _, part := range p.Modules {
			if part.Good == portrait.No && slices.Contains(before[readParts].Set, part.Name) {
				late = append(late, part.Name+" is "+part.State)
			}
		}
		switch {
		case len(late) == 0:
			return true, ready, nil
		case r.e.since(began).Seconds() > max(s.Plan.Expect.High, s.Plan.Expect.Limit/2):
			return true, ready + ", but " + strings.Join(late, ", "), nil
		}
		return false, ready + "; " + strings.Join(late, ", "), nil
	})
}

// Draining: running work may finish, new work is not taken. When the time for it is over, the change goes on: what is left
// then is told.

func drain(r *run, ctx context.Context, s *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if err := c.Drain(ctx); err != nil {
		return err
	}
	began := r.e.now()
	patience := time.Duration(s.Plan.Expect.High * float64(time.Second))
	return r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.portrait(ctx)
		if err != nil {
			return false, "", err
		}
		switch {
		case p.OutOfService == portrait.No:
			return false, "", final("the device takes new work though it was told to drain. It had answered: %s", r.words())
		case p.Drained == portrait.Yes && p.OutOfService == portrait.Yes:
			return true, "no running work is left", nil
		case p.Drained == portrait.Yes && r.e.since(began).Seconds() > s.Plan.Expect.Low:
			return true, "no running work is left; whether it takes new work is not known, since the device does not say", nil
		case p.Drained == portrait.Unknown && r.e.since(began) > patience:
			return true, "the time for it is over; how much work is left is not known, since the device does not say", nil
		case r.e.since(began) > patience:
			return true, fmt.Sprintf("the time for it is over; %s is cut off", p.Work), nil
		}
		if p.Drained != portrait.No {
			return false, "how much work is left is not known yet", nil
		}
		return false, p.Work + " is left", nil
	})
}

func inService(r *run, ctx context.Context, _ *store.Step, _ bool) (bool, string, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return false, "", err
	}
	return p.OutOfService == portrait.No, "the device takes work", nil
}

func undrain(r *run, ctx context.Context, _ *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	return c.Undrain(ctx)
}

func inServiceNow(r *run, ctx context.Context, _ *store.Step) (string, error) {
	p, err := r.portrait(ctx)
	switch {
	case err != nil:
		return "", err
	case p.OutOfService == portrait.Yes:
		return "", final("the device does not take work though it was told to return to service. It had answered: %s", r.words())
	case p.OutOfService == portrait.Unknown:
		return "the device took the command; whether it takes work is not known, since it does not say", nil
	}
	return "the device takes work", nil
}

// Components.

func componentThere(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	if s.Plan.ByHand() { // a person switched it off and on; now it is waited for
		return false, "", nil
	}
	p, err := r.portrait(ctx)
	if err != nil {
		return false, "", err
	}
	if ofUnits(s) {
		lack, text := unitsLack(p, &s.Plan)
		return len(lack) == 0, cmp.Or(text, fmt.Sprintf("%s is %s on all of them", s.Plan.Component(), s.Plan.Version())), nil
	}
	v, ok := p.Components[s.Plan.Component()]
	return ok && v == s.Plan.Version(), fmt.Sprintf("%s is %s", s.Plan.Component(), v), nil
}

func updateComponent(r *run, ctx context.Context, s *store.Step) error {
	if s.Plan.File() == nil { // the main image brings it: it comes by itself
		return r.awaitComponent(ctx, s, false)
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if ofUnits(s) {
		return r.updateOnUnits(ctx, s, c)
	}
	return c.UpdateComponent(ctx, s.Plan.Component(), s.Plan.File().Name, func(f float64) {
		r.progress(ctx, s, f, "%s is being written, %.0f %%", s.Plan.Component(), f*100)
	})
}

// componentTaken: where a power cycle comes next, the old version still runs.
func componentTaken(r *run, ctx context.Context, s *store.Step) (string, error) {
	if r.cycledLater(s) {
		return fmt.Sprintf("%s %s is taken; it takes effect when the power goes off and on", s.Plan.Component(), s.Plan.Version()), nil
	}
	since := r.e.now()
	for { // it may have answered at once and work on
		done, evidence, err := componentThere(r, ctx, s, true)
		if err != nil || done {
			return evidence, err
		}
		if r.e.since(since) > max(r.wait(beginsLate), time.Second) {
			return "", final("%s should be %s after the update; %s. The device had answered: %s", s.Plan.Component(), s.Plan.Version(), evidence, r.words())
		}
		if err := pause(ctx, r.wait(3*time.Second)); err != nil {
			return "", err
		}
	}
}

func (r *run) cycledLater(s *store.Step) bool {
	for _, st := range r.c.Steps {
		if st.Plan.Number > s.Plan.Number && st.Plan.Hop == s.Plan.Hop && (st.Plan.Kind == change.PowerCycle && st.Plan.Component() == s.Plan.Component() || st.Plan.Kind == change.Restart && st.Plan.Number == s.Plan.Number+1) {
			return true
		}
	}
	return false
}

func powerCycle(r *run, ctx context.Context, s *store.Step) error {
	unsure := false // whether it heard the command
	if !s.Plan.ByHand() {
		c, err := r.connect(ctx)
		if err != nil {
			return err
		}
		err = c.PowerCycle(ctx, s.Plan.Component())
		if unsure = device.KindOf(err) == device.Lost; err != nil && !unsure {
			return err
		}
	}
	return r.awaitComponent(ctx, s, unsure)
}

// awaitComponent waits until a component shows its version. A device that may not have heard the command for it is told again when it
// takes longer than it should.
func (r *run) awaitComponent(ctx context.Context, s *store.Step, unsure bool) error {
	began, unheard := r.e.now(), false
	err := r.poll(ctx, s, func() (bool, string, error) {
		p, err := r.portrait(ctx)
		if err != nil {
			return false, "", err
		}
		v, ok := p.Components[s.Plan.Component()]
		if !ok {
			v = "not there yet"
		}
		unheard = ok && v != s.Plan.Version() && unsure && r.e.since(began).Seconds() > s.Plan.Expect.High
		return v == s.Plan.Version() || unheard, fmt.Sprintf("%s is %s, %s is expected", s.Plan.Component(), v, s.Plan.Version()), nil
	})
	if err == nil && unheard {
		return &device.Error{Kind: device.Lost, Address: r.m.Device, Doing: "power off and on", Message: "the connection was lost with the command, and " + s.Note}
	}
	return err
}

// linkUp reports whether something accepts connections at an address.
func linkUp(ctx context.Context, address string) (up bool, seen string) {
	conn, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", address)
	if err != nil {
		return false, "nothing answers at " + address
	}
	_ = conn.Close()
	return true, address + " accepts connections"
}
