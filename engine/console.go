package engine

import (
	"context"
	"strings"
	"sync"
	"time"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/device/link"
	"verimorph/store"
)

// recordEvery is how long pieces of a console line's output are gathered before they are kept.
const recordEvery = 300 * time.Millisecond

// recorder keeps what comes over a console line, in pieces. A line that cannot be recorded is no reason to stop.
func (e *Engine) recorder(ctx context.Context, d store.Device, who access.Actor) func([]byte) {
	var changeID *int64
	if n := who.Change(); n != 0 {
		changeID = &n
	}
	var mu sync.Mutex
	var buf strings.Builder
	waiting := false
	keep := func() {
		mu.Lock()
		text := buf.String()
		buf.Reset()
		waiting = false
		mu.Unlock()
		if err := e.Store.AddConsole(ctx, d.ID, changeID, printable(text)); err != nil {
			e.Log.Warn("cannot record the console line", "device", d.Name, "err", err)
		}
	}
	return func(p []byte) {
		mu.Lock()
		defer mu.Unlock()
		buf.Write(p)
		if !waiting {
			waiting = true
			time.AfterFunc(recordEvery, keep)
		}
	}
}

// hear listens at the console line of a device, where it has one beside its address, while the device starts anew: what it says then
// goes into the record and can be watched. Everything else that uses the line has it to itself.
func (r *run) hear(ctx context.Context, s *store.Step) {
	starting := s.Plan.Kind == change.Install && s.Plan.InPlace() || s.Plan.Kind.Is(change.Restart, change.HandOver, change.Link, change.Login, change.Confirm, change.AwaitUnits, change.Services)
	if !starting {
		r.silence()
		return
	}
	d, err := r.device(ctx)
	if err != nil || r.deafen != nil || d.Settings.Reach.Console == "" || d.Settings.Reach.Only {
		return
	}
	listening, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	record := r.e.recorder(context.WithoutCancel(ctx), d, access.Carrying(r.c.ID))
	go func() {
		defer close(ended)
		link.Listen(listening, d.Settings.Reach.Console, record)
	}()
	r.deafen = func() { stop(); <-ended }
}

// silence stops listening.
func (r *run) silence() {
	if r.deafen != nil {
		r.deafen()
		r.deafen = nil
	}
}

// printable is text that a database and a browser can hold.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r == 0 || r < ' ' && r != '\n' && r != '\t' {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
}
