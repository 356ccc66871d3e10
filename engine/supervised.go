package engine

import (
	"context"
	"log/slog"
	"runtime/debug"
	"sync"
	"time"
)

// supervised is the group of all goroutines of an engine, which Stop waits for. A fault of ours in one of them is logged and ends none of the
// others.
type supervised struct {
	log *slog.Logger
	all sync.WaitGroup
}

// restartAfter is how long something that goes on for as long as the process does rests after it broke off.
const restartAfter = time.Second

// loop runs what goes on until ctx ends; where it breaks off before, it is begun again.
func (s *supervised) loop(ctx context.Context, what string, f func(context.Context)) {
	s.all.Go(func() {
		for s.guarded(what, func() { f(ctx) }); ctx.Err() == nil; s.guarded(what, func() { f(ctx) }) {
			_ = pause(ctx, restartAfter)
		}
	})
}

// once runs something that ends by itself.
func (s *supervised) once(what string, f func()) {
	s.all.Go(func() { s.guarded(what, f) })
}

func (s *supervised) guarded(what string, f func()) {
	defer func() {
		if p := recover(); p != nil {
			s.log.Error("it broke off by a fault of the service", "what", what, "panic", p, "stack", string(debug.Stack()))
		}
	}()
	f()
}

// wait waits until all have ended, or ctx has.
func (s *supervised) wait(ctx context.Context) {
	ended := make(chan struct{})
	go func() { s.all.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-ctx.Done():
	}
}
