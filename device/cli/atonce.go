package cli

import (
	"context"
	"sync"

	"verimorph/device"
)

// Devices that take only so many sessions at once: whoever comes later waits until one ends. That holds for one process; where several work, the device itself
// refuses what is too much, and the refusal is waited for like any other.

// seats are the sessions of such devices, by address.
type seats struct {
	mu sync.Mutex
	by map[string]chan struct{}
}

var sessions = seats{by: map[string]chan struct{}{}}

// take waits for a seat at an address of which there are so many; leave gives it back. 0 is any number.
func (s *seats) take(ctx context.Context, address string, most int) (leave func(), err error) {
	if most <= 0 {
		return func() {}, nil
	}
	s.mu.Lock()
	seat := s.by[address]
	if seat == nil || cap(seat) != most {
		seat = make(chan struct{}, most)
		s.by[address] = seat
	}
	s.mu.Unlock()
	select {
	case seat <- struct{}{}:
		return sync.OnceFunc(func() { <-seat }), nil
	case <-ctx.Done():
		return nil, device.Fail(device.NotReady, address, "connect", "the device takes %d sessions at once, and they are all taken: %s", most, context.Cause(ctx))
	}
}
