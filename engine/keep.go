package engine

import (
	"context"
	"slices"
	"time"

	"verimorph/store"
)

// What many changes write again and again is written for all of them together: that leases are still held, and how far steps are.
// A thousand changes cost the database a few statements a second for this, not thousands.

// A keptLease is a lease that is renewed until its change ends.
type keptLease struct {
	lease store.Lease
	lost  context.CancelCauseFunc
	good  time.Time // when it was last renewed
}

// left is how much of a lease is left, by the clock that only runs forward and by the one on the wall: a machine that was put to sleep
// stops the first.
func (k *keptLease) left(lease time.Duration) time.Duration {
	return lease - max(time.Since(k.good), time.Now().Round(0).Sub(k.good.Round(0)))
}

// keeping has a lease renewed until the function it returns is called; when it is lost, the work is cancelled.
func (e *Engine) keeping(l store.Lease, lost context.CancelCauseFunc) (stop func()) {
	k := &keptLease{l, lost, time.Now()}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.held[l.DeviceID] = k
	return func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		if e.held[l.DeviceID] == k {
			delete(e.held, l.DeviceID)
		}
	}
}

// crowd is how many changes at once make one: then smallPacket is how large the pieces of files are, since every connection keeps
// buffers of the size of the largest piece it sent.
const (
	crowd       = 100
	smallPacket = 4 << 10
)

func (e *Engine) crowded() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return len(e.held) > crowd
}

// The door. A thousand changes that begin in the same moment want more than a machine has: all of them would be half-way through
// what needs memory at once, and none would be done sooner. So a change that has not begun waits while the process is late.
const (
	doorEvery = 5 * time.Millisecond   // at most one change is let in, in this time
	doorLate  = 15 * time.Millisecond  // a door that opens later than this finds the machine busy, and lets nobody in
	doorMost  = 150 * time.Millisecond // but never keeps it shut for longer
)

// keepDoor lets changes in that wait at the door.
func (e *Engine) keepDoor(ctx context.Context) {
	opened := time.Now()
	for {
		var next chan struct{}
		select {
		case next = <-e.door:
		case <-ctx.Done():
			return
		}
		for {
			began := time.Now()
			if pause(ctx, doorEvery) != nil {
				return
			}
			if time.Since(began) < doorLate || time.Since(opened) > doorMost {
				break
			}
		}
		opened = time.Now()
		close(next)
	}
}

// enter waits at the door.
func (e *Engine) enter(ctx context.Context) {
	in := make(chan struct{})
	select {
	case e.door <- in:
	case <-ctx.Done():
		return
	}
	select {
	case <-in:
	case <-ctx.Done():
	}
}

// keepAll renews all leases of this process, four times in the life of one.
func (e *Engine) keepAll(ctx context.Context) {
	for pause(ctx, e.Lease/4) == nil {
		e.mu.Lock()
		all := make([]*keptLease, 0, len(e.held))
		for _, k := range e.held {
			all = append(all, k)
		}
		e.mu.Unlock()
		if len(all) == 0 {
			continue
		}
		var ls []store.Lease
		for _, k := range all {
			ls = append(ls, k.lease)
		}
		began := time.Now()
		limited, cancel := context.WithTimeout(ctx, e.Lease/2) // an answer that comes later is none
		ours, err := e.Store.RenewAll(limited, ls, e.Lease)
		cancel()
		e.mu.Lock()
		for _, k := range all {
			switch {
			case err == nil && slices.Contains(ours, k.lease.DeviceID):
				k.good = began
			case err == nil, k.left(e.Lease) < 0:
				k.lost(store.ErrFenced)
			}
		}
		e.mu.Unlock()
	}
}

// flushEvery is how often what changed is written.
const flushEvery = 500 * time.Millisecond

// flushAll writes how far steps are, for as long as the process works.
func (e *Engine) flushAll(ctx context.Context) {
	for pause(ctx, flushEvery) == nil {
		e.mu.Lock()
		all := make([]store.Progress, 0, len(e.progress))
		for id, p := range e.progress {
			all = append(all, p)
			delete(e.progress, id)
		}
		e.mu.Unlock()
		if len(all) == 0 {
			continue
		}
		if err := e.Store.PutProgress(ctx, all); err != nil && ctx.Err() == nil {
			e.Log.Warn("cannot record progress", "err", err)
		}
	}
}

// tell notes how far a step is; it is written with those of all others.
func (e *Engine) tell(p store.Progress) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.progress[p.ChangeID] = p
}
