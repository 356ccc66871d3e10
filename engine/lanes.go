package engine

import (
	"context"
	"slices"
	"sync"

	"verimorph/core/change"
	"verimorph/store"
)

// Lanes: each member of a change has one, with a session and a lease of its own. They go side by side; where a step has to come after one of
// another member, it waits for it. A step of the change as a whole is a barrier: it is done by the first lane, once all that stands before it is
// over in every lane, and the others wait for it. With one member there is one lane, and nothing to wait for.

// view is a change as one of its members sees it: that member, its steps, and those of the change as a whole. That of the only member is the change
// itself, so that nothing of it is kept twice: a thousand of them are no trifle.
func view(c *store.Change, m *store.Member) *store.Change {
	if len(c.Members) == 1 {
		return c
	}
	v := *c
	v.Members = []store.Member{*m}
	if m.Path != nil {
		v.Path, v.Back = m.Path, m.Back
	}
	if c.HalfWay != nil && c.Returning != nil {
		v.Returning = &c.HalfWay.Hops[m.Number-1]
	}
	v.Steps = slices.DeleteFunc(slices.Clone(c.Steps), func(s store.Step) bool { return s.Plan.Member != 0 && s.Plan.Member != m.Number })
	return &v
}

// A board tells the lanes of a change what is over in the others, and brings all of them to rest where the change rests.
type board struct {
	runs     []*run // one for each member
	mu       sync.Mutex
	plan     []change.Step // nil where there is one lane, which has nobody to wait for
	over     map[int]bool  // by number: done, failed or skipped
	lanes    int           // how many there are
	active   int           // lanes that are neither at rest nor at their end
	stopping bool          // the change comes to rest: a lane ends at its next safe point
	changed  chan struct{}
}

func newBoard(c *store.Change) *board {
	b := &board{lanes: len(c.Members), active: len(c.Members), changed: make(chan struct{})}
	b.replan(c)
	return b
}

// replan takes the steps of a change over as they are now, after more were added.
func (b *board) replan(c *store.Change) {
	b.tell(func() {
		b.plan, b.over = nil, map[int]bool{}
		for _, s := range c.Steps {
			if b.lanes > 1 {
				b.plan = append(b.plan, s.Plan)
			}
			b.over[s.Plan.Number] = s.State == change.StepDone || s.State == change.StepFailed || s.State == change.StepSkipped
		}
	})
}

// tell changes something and wakes whoever waits.
func (b *board) tell(f func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	f()
	close(b.changed)
	b.changed = make(chan struct{})
}

// done says that a step is over.
func (b *board) done(number int) { b.tell(func() { b.over[number] = true }) }

// again says that steps are to be done once more.
func (b *board) again(numbers ...int) {
	b.tell(func() {
		for _, n := range numbers {
			b.over[n] = false
		}
	})
}

// run is the lane of the member with an index; put replaces it.
func (b *board) run(i int) *run {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.runs[i]
}

func (b *board) put(i int, r *run) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.runs[i] = r
}

// leave says that a lane has ended.
func (b *board) leave() { b.tell(func() { b.active-- }) }

// needs are the steps of other lanes that have to be over before one may begin.
func (b *board) needs(s *change.Step) (out []int) {
	if s.After != nil {
		return s.After
	}
	for i := range b.plan {
		if p := &b.plan[i]; p.Number < s.Number && p.Member != s.Member && (p.Member == 0 || s.Member == 0) {
			out = append(out, p.Number)
		}
	}
	return out
}

// await waits until steps are over; false when the change comes to rest meanwhile.
func (b *board) await(ctx context.Context, numbers ...int) (bool, error) {
	for {
		b.mu.Lock()
		open := slices.ContainsFunc(numbers, func(n int) bool { return !b.over[n] })
		stopping, changed := b.stopping, b.changed
		b.mu.Unlock()
		switch {
		case !open:
			return true, nil
		case stopping:
			return false, nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return false, context.Cause(ctx)
		}
	}
}

// rests reports whether the change comes to rest.
func (b *board) rests() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.stopping
}

// stop brings the other lanes to rest at their next safe points, and waits for them. The lane that calls it does nothing more with its device.
func (b *board) stop(ctx context.Context) error {
	b.tell(func() { b.stopping = true; b.active-- })
	defer b.tell(func() { b.active++ }) // it leaves later
	for {
		b.mu.Lock()
		active, changed := b.active, b.changed
		b.mu.Unlock()
		if active <= 0 {
			return nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}
