package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/store"
)

// Getting to a device, and what is known of it on the way.

// A waiting is a target that did not answer: nothing about it is changed by that, so it is not put together anew for every try.
type waiting struct {
	target device.Route
	device store.Device
	expect string // version
	until  time.Time
}

// wayIn is how to get in now.
func (r *run) wayIn(ctx context.Context) (t device.Route, d store.Device, err error) {
	expect := r.expected()
	if w := r.way; w.expect == expect && r.e.now().Before(w.until) {
		t, d = w.target, w.device
	} else {
		r.readAt = time.Time{} // how many sign-ins were refused must be what it is now
		if d, err = r.device(ctx); err != nil {
			return t, d, err
		}
		t, err = r.e.target(ctx, d, expect, access.Carrying(r.c.ID), "carrying the change out")
		var record *recordError
		if err != nil && device.KindOf(err) == "" && !errors.As(err, &record) {
			err = &finalError{err}
		}
		if err != nil {
			return t, d, err
		}
		count := t.Refused
		t.Refused = func(s device.SignIn, second bool) {
			r.way.until = time.Time{} // one try less is left
			count(s, second)
		}
		r.way = waiting{t, d, expect, r.e.now().Add(recordLasts)}
	}
	if r.tentative { // the right credential may be refused for a while: a try is kept for later
		t.Tries = max(t.Tries-1, 1)
	}
	t.AnyHostKey = r.expectsHostKey(d)
	if r.c.Kind == change.Swapping && r.m.Planned.HostKey != "" { // it is known from the bench
		t.HostKey, t.Pins, t.AnyHostKey = r.m.Planned.HostKey, r.m.Planned.Pins, false
		if err := r.signInsOfUnit(ctx, &t, d); err != nil {
			return t, d, err
		}
	}
	return t, d, nil
}

// connect returns the open connection, or opens one.
func (r *run) connect(ctx context.Context) (*device.Client, error) {
	r.mu.Lock()
	conn := r.conn
	r.mu.Unlock()
	if conn != nil {
		return conn, nil
	}
	t, d, err := r.wayIn(ctx)
	if err != nil {
		return nil, err
	}
	if d.Settings.Reach.Only { // one at a time has a console line: a worker that was taken over from must not take it from its successor
		if err := r.e.renewNow(ctx, r.lease); err != nil {
			return nil, err
		}
	}
	// The connection outlives the step that opens it; opening it does not.
	dialing, giveUp := context.WithCancel(context.WithoutCancel(ctx))
	opened := context.AfterFunc(ctx, giveUp)
	defer opened()
	conn, err = t.Dial(dialing)
	if r.c.Kind == change.Swapping && err != nil {
		err = r.stillThere(t.Address, err)
	}
	if k := device.KindOf(err); (k == device.Unreachable || k == device.Silent) && r.movesTo(d) != "" && ctx.Err() == nil {
		t.Address = r.movesTo(d)
		if conn, err = t.Dial(dialing); err == nil {
			err = r.moved(ctx, d, t.Address)
		} else {
			err = r.stillThere(t.Address, err)
		}
	}
	if k := device.KindOf(err); k != device.Unreachable && k != device.Silent && k != device.Lost {
		r.way.until = time.Time{} // it let us in, or said no
	}
	if err != nil {
		if conn != nil {
			conn.Close()
		}
		return nil, err
	}
	if r.seen, err = r.sameUnit(dialing, conn); err != nil {
		conn.Close()
		return nil, err
	}
	conn.Before(func(ctx context.Context) error {
		if r.strict == nil {
			return nil
		}
		return r.lastLook(ctx, r.strict)
	})
	r.mu.Lock()
	r.conn = conn
	r.mu.Unlock()
	r.listen(dialing, conn)
	switch {
	case conn.HostKey() == "": // a console line has none
	case d.HostKey == "":
		err = r.e.Store.PinHostKey(ctx, d.ID, conn.HostKey())
	case d.HostKey != conn.HostKey():
		if err = r.e.Store.ReplaceHostKey(ctx, d.ID, conn.HostKey()); err == nil {
			err = r.e.Store.NoteStep(ctx, r.lease, r.c.ID, 0, "host key", "the device shows another host key, which this change expects; it is pinned now")
		}
	}
	return conn, records(err)
}

// listen has what the device says by itself over a connection heard, until that ends. A device that does not let us listen is carried all the same.
func (r *run) listen(ctx context.Context, conn *device.Client) {
	by := conn.Profile().Tells
	t, err := device.As[device.Teller](conn.Conn, "listen")
	if by == "" || err != nil {
		return
	}
	change := r.c.ID
	r.e.group.once("listening to a device", func() {
		err := t.Listen(ctx, func(text string, bad bool) {
			r.e.Heard(Said{Change: change, By: by, Bad: bad, Text: text, Weight: "event"})
		})
		r.e.Log.Debug("a device is not listened to any more", "change", change, "err", err)
	})
}

// expected is the version that should run on the device at this point of the change: that of the last hop whose restart
// has begun, else the one it started from.
func (r *run) expected() string {
	v := r.c.From
	for i := range r.c.Steps {
		if s := &r.c.Steps[i]; r.starts(s) && s.State != change.StepWaiting && s.State != change.StepSkipped {
			v = r.goal(s)
		}
	}
	return v
}

// starts reports whether a step starts another installation.
func (r *run) starts(s *store.Step) bool {
	return s.Plan.Hop >= 0 && (s.Plan.Kind == change.Restart && r.bySlot(s) || s.Plan.Kind == change.HandOver || s.Plan.Kind == change.Install && s.Plan.InPlace())
}

// expectsHostKey reports whether the device may show another host key now: the change says so, or it was reset by now.
func (r *run) expectsHostKey(d store.Device) bool {
	if r.c.ExpectsHostKey {
		return true
	}
	if hop := r.begunPlatform(); hop >= 0 && r.path.Hops[hop].Platform.Foretells(catalog.ValueHostKey) {
		return true
	}
	dialect := r.e.Profile(d)
	if dialect == nil || !dialect.NewHostKey {
		return false
	}
	if joins(r.c) && r.m.Number != 1 { // it comes back in its factory state
		return true
	}
	for i := range r.c.Steps {
		if s := &r.c.Steps[i]; s.Plan.Kind == change.Install && s.Plan.InPlace() && r.resets(s.Plan.Hop) && s.State != change.StepWaiting && s.State != change.StepSkipped {
			return true
		}
	}
	return false
}

// movesTo is the address at which the device is expected now, when it is another one than it has; "" otherwise. Only a change
// that says so looks elsewhere, and only once it has started the device anew; the host key has to be the one that is known.
func (r *run) movesTo(d store.Device) string {
	if at := r.m.Planned.ComesBackAt; at != "" && at != d.Address {
		for i := range r.c.Steps {
			if s := &r.c.Steps[i]; (s.Plan.Kind == change.Restart || r.c.Kind == change.Swapping && s.Plan.Kind == change.Hand || s.Plan.Kind == change.PutPart || s.Plan.InPlace()) && s.State != change.StepWaiting {
				return at
			}
		}
	}
	return ""
}

// moved records that a device answers elsewhere now.
func (r *run) moved(ctx context.Context, d store.Device, address string) error {
	if err := r.e.Store.SetAddress(ctx, d.ID, address); err != nil {
		return records(err)
	}
	r.readAt = time.Time{}
	return records(r.e.Store.NoteStep(ctx, r.lease, r.c.ID, 0, "address", fmt.Sprintf("the device answers at %s now, not at %s any more; this change expected it", address, d.Address)))
}

// overConsole reports whether a device is spoken with over a line or through another device: then its address says nothing.
func (r *run) overConsole(d store.Device) bool {
	return d.Settings.Reach.Only || d.Settings.Reach.Via != ""
}

// recordLasts is how long a device's record is believed. What may not be old is read anew when it is needed: before every
// sign-in, how many of them were refused.
const recordLasts = 15 * time.Second

// device is the device's record as it was a short while ago: a wait looks at it again and again.
func (r *run) device(ctx context.Context) (store.Device, error) {
	if r.e.since(r.readAt) < recordLasts {
		return r.record, nil
	}
	d, err := r.e.Store.DeviceByID(ctx, r.m.DeviceID)
	d.Portrait = nil // of a device that hundreds follow it is large, and what a step needs of it is asked of the device
	if err == nil {
		r.record, r.readAt = d, r.e.now()
	}
	return d, records(err)
}

// hangUp closes the connection; the next step that needs one opens another.
func (r *run) hangUp() {
	r.mu.Lock()
	conn := r.conn
	r.conn = nil
	r.mu.Unlock()
	r.looked = nil // it would keep the buffers of a connection that is gone
	if conn != nil {
		conn.Close()
	}
}

// cut breaks the connection under whoever uses it, who then sees it as lost.
func (r *run) cut() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.conn != nil {
		r.conn.Cut()
	}
}

// portrait looks at the device now.
func (r *run) portrait(ctx context.Context) (*portrait.Portrait, error) {
	c, err := r.connect(ctx)
	if err != nil {
		return nil, err
	}
	return c.Portrait(ctx)
}
