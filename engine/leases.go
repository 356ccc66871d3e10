package engine

import (
	"context"
	"slices"
	"sync"
	"time"

	"verimorph/store"
)

// Leases are renewed for all changes of a process together: a thousand changes cost the database a few statements a second for this, not
// thousands.

// A keptLease is a lease that is renewed until its change ends.
type keptLease struct {
	lease store.Lease
	lost  context.CancelCauseFunc
	good  time.Time // when it was last renewed
}

// left is how much of a lease is left, by the clock that only runs forward and by the one on the wall: a machine that was put to sleep
// stops the first.
func (k *keptLease) left(lease time.Duration, now time.Time) time.Duration {
	return lease - max(now.Sub(k.good), now.Round(0).Sub(k.good.Round(0)))
}

// keptLeases are those of a process, by device.
type keptLeases struct {
	e  *Engine
	mu sync.Mutex
	by map[int64]*keptLease
}

// keep has a lease renewed until the function it returns is called; when it is lost, the work is cancelled.
func (k *keptLeases) keep(l store.Lease, lost context.CancelCauseFunc) (stop func()) {
	kept := &keptLease{l, lost, k.e.now()}
	k.mu.Lock()
	defer k.mu.Unlock()
	if before := k.by[l.DeviceID]; before != nil { // this process took over from itself: whoever held it before must hear of it
		before.lost(store.ErrFenced)
	}
	k.by[l.DeviceID] = kept
	return func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		if k.by[l.DeviceID] == kept {
			delete(k.by, l.DeviceID)
		}
	}
}

// many is how many changes at once are a crowd: then smallPacket is how large the pieces of files are, in bytes, since every connection keeps
// buffers of the size of the largest piece it sent.
const (
	many        = 100
	smallPacket = 4 << 10
)

// crowded reports whether there is a crowd.
func (k *keptLeases) crowded() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return len(k.by) > many
}

// renew renews all leases, four times in the life of one, until ctx ends.
func (k *keptLeases) renew(ctx context.Context) {
	for pause(ctx, k.e.Lease/4) == nil {
		k.mu.Lock()
		all := make([]*keptLease, 0, len(k.by))
		var ls []store.Lease
		for _, kept := range k.by {
			all, ls = append(all, kept), append(ls, kept.lease)
		}
		k.mu.Unlock()
		if len(all) == 0 {
			continue
		}
		began := k.e.now()
		limited, cancel := context.WithTimeout(ctx, k.e.Lease/2) // an answer that comes later is none
		ours, err := k.e.Store.RenewAll(limited, ls, k.e.Lease)
		cancel()
		k.mu.Lock()
		for _, kept := range all {
			switch {
			case err == nil && slices.Contains(ours, kept.lease.DeviceID):
				kept.good = began
			case err == nil, kept.left(k.e.Lease, k.e.now()) < 0:
				kept.lost(store.ErrFenced)
			}
		}
		k.mu.Unlock()
	}
}
