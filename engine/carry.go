package engine

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"verimorph/core/change"
	"verimorph/store"
)

// carry takes the leases of a change's devices and carries it on until it ends or rests, or a lease or the process is lost.
func (e *Engine) carry(ctx context.Context, id int64, orphan bool) {
	log := e.Log.With("change", id)
	c, err := e.Store.Change(ctx, id)
	if err != nil {
		log.Error("cannot load the change", "err", err)
		return
	}
	if c.State != change.Running && c.State != change.Pausing {
		return
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	leases, release, err := e.acquire(ctx, &c, cancel)
	if err != nil || leases == nil {
		log.Info("a device is in other hands", "device", c.Devices(), "err", err)
		return
	}
	defer release()
	if !c.Begun() {
		e.admission.enter(ctx)
	}
	stop := e.watch(ctx, &c, leases)
	defer stop()
	err = e.lanes(ctx, &c, leases, orphan)
	for errors.Is(err, errAnew) && ctx.Err() == nil {
		if c, err = e.Store.Change(ctx, id); err == nil {
			err = e.lanes(ctx, &c, leases, false)
		}
	}
	switch cause := context.Cause(ctx); {
	case err == nil:
	case errors.Is(err, store.ErrFenced):
		log.Warn("another worker has taken over", "device", c.Devices())
	case cause != nil:
		log.Info("interrupted; it goes on from where the device stands", "device", c.Devices(), "why", cause)
	default:
		log.Error("the change cannot go on now", "device", c.Devices(), "err", err)
	}
}

// acquire takes the leases of all members, in the order of their devices, so that two changes never wait for each other, and has them kept until
// release is called. leases is nil when somebody else holds one.
func (e *Engine) acquire(ctx context.Context, c *store.Change, lost context.CancelCauseFunc) (leases map[int]store.Lease, release func(), err error) {
	var undo []func()
	release = func() {
		for _, f := range slices.Backward(undo) {
			f()
		}
	}
	leases = map[int]store.Lease{}
	for _, m := range slices.SortedFunc(slices.Values(c.Members), func(a, b store.Member) int { return cmp.Compare(a.DeviceID, b.DeviceID) }) {
		l, ok, err := e.Store.Acquire(ctx, m.DeviceID, e.holder, e.Lease)
		if err != nil || !ok {
			release()
			return nil, nil, err
		}
		undo = append(undo, func() { _ = e.Store.Release(context.WithoutCancel(ctx), l) }, e.leases.keep(l, lost))
		leases[m.Number] = l
	}
	return leases, release, nil
}

// lanes carries all members on, each in a lane of its own.
func (e *Engine) lanes(ctx context.Context, c *store.Change, leases map[int]store.Lease, orphan bool) error {
	b := newBoard(c)
	errs := make([]error, len(c.Members))
	runs := make([]*run, len(c.Members))
	for i := range c.Members {
		m := &c.Members[i]
		runs[i] = e.newRun(view(c, m), leases[m.Number], b, i == 0)
	}
	b.runs = runs
	if len(runs) > 1 { // each has what it needs of it
		c.Path, c.Checks, c.Steps = nil, nil, nil
	}
	ctx, end := context.WithCancelCause(ctx)
	defer end(nil)
	var group sync.WaitGroup
	for i := range runs {
		work := func() {
			if errs[i] = e.untilAtRest(ctx, b, i, orphan); errs[i] != nil && !errors.Is(errs[i], errAnew) {
				end(errs[i]) // whoever has lost one member has lost the change
			}
		}
		if i == len(runs)-1 { // the last one needs no goroutine of its own
			work()
			continue
		}
		group.Go(work)
	}
	group.Wait()
	return errors.Join(errs...)
}

// untilAtRest carries one member on until its lane is over or at rest. When something of ours breaks a lane off, the others go on, and it is taken up
// again as another worker would do; a change of one is left to that.
func (e *Engine) untilAtRest(ctx context.Context, b *board, i int, orphan bool) error {
	defer b.leave()
	for {
		r := b.run(i)
		err := r.lane(ctx, orphan)
		if err == nil || r.alone() || errors.Is(err, errAnew) || errors.Is(err, store.ErrFenced) || ctx.Err() != nil {
			return err
		}
		r.log.Warn("a lane was broken off; it is taken up again", "device", r.m.Device, "err", err)
		c, err := e.readAgain(ctx, r.c.ID)
		if err != nil {
			return err
		}
		if b.rests() || c.State != change.Running && c.State != change.Pausing {
			return nil
		}
		b.put(i, e.newRun(view(&c, &c.Members[i]), r.lease, b, i == 0))
		orphan = true
	}
}

// readAgain waits a moment and reads a change, for as long as it takes until the records answer.
func (e *Engine) readAgain(ctx context.Context, id int64) (store.Change, error) {
	for {
		if err := pause(ctx, max(e.Lease/8, 100*time.Millisecond)); err != nil {
			return store.Change{}, err
		}
		if c, err := e.Store.Change(ctx, id); err == nil {
			return c, nil
		}
	}
}

// lane carries one member on. A fault of ours in one lane is no end of the process.
func (r *run) lane(ctx context.Context, orphan bool) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &faultError{p}
		}
	}()
	defer r.hangUp()
	defer r.silence()
	if orphan {
		if err := r.resumed(ctx); err != nil {
			return err
		}
	}
	return r.all(ctx)
}
