package engine

import (
	"context"
	"sync"
	"time"

	"verimorph/store"
)

// progressBook gathers how far the steps of a process are; what changed is written for all of them together.
type progressBook struct {
	e  *Engine
	mu sync.Mutex
	by map[progressOf]store.Progress
}

// progressOf is a lane of a change.
type progressOf struct{ change, device int64 }

// writeEvery is how often what changed is written.
const writeEvery = 500 * time.Millisecond

// note takes down how far a step is.
func (b *progressBook) note(p store.Progress) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.by[progressOf{p.ChangeID, p.Lease.DeviceID}] = p
}

// write writes what was noted, until ctx ends.
func (b *progressBook) write(ctx context.Context) {
	for pause(ctx, writeEvery) == nil {
		b.mu.Lock()
		all := make([]store.Progress, 0, len(b.by))
		for of, p := range b.by {
			all = append(all, p)
			delete(b.by, of)
		}
		b.mu.Unlock()
		if len(all) == 0 {
			continue
		}
		if err := b.e.Store.PutProgress(ctx, all); err != nil && ctx.Err() == nil {
			b.e.Log.Warn("cannot record progress", "err", err)
		}
	}
}
