package engine

import (
	"context"
	"time"
)

// Admission control: at most one change starts every 5 ms, and none while the process is behind. A thousand changes that start at the same
// moment would all be half-way through what needs memory at once, and none would be done sooner.
const (
	admitEvery = 5 * time.Millisecond   // at most one change starts in this time
	admitLate  = 15 * time.Millisecond  // when that time took longer than this, the process is behind, and nobody is admitted
	admitMost  = 150 * time.Millisecond // but nobody waits longer than this for it
)

// admission is where changes wait that have not begun.
type admission struct {
	e       *Engine
	waiting chan chan struct{}
}

// enter waits until a change may begin.
func (a *admission) enter(ctx context.Context) {
	in := make(chan struct{})
	select {
	case a.waiting <- in:
	case <-ctx.Done():
		return
	}
	select {
	case <-in:
	case <-ctx.Done():
	}
}

// admit lets changes begin, until ctx ends.
func (a *admission) admit(ctx context.Context) {
	last := a.e.now()
	for {
		var next chan struct{}
		select {
		case next = <-a.waiting:
		case <-ctx.Done():
			return
		}
		for {
			began := a.e.now()
			if pause(ctx, admitEvery) != nil {
				return
			}
			if a.e.since(began) < admitLate || a.e.since(last) > admitMost {
				break
			}
		}
		last = a.e.now()
		close(next)
	}
}
