package engine

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"verimorph/store"
)

// recordEvery is how long pieces of a console line's output are gathered before they are kept.
const recordEvery = 300 * time.Millisecond

// recorder keeps what comes over a console line, in pieces. A line that cannot be recorded is no reason to stop.
func (e *Engine) recorder(ctx context.Context, d store.Device, who string) func([]byte) {
	var changeID *int64
	var n int64
	if _, err := fmt.Sscanf(who, "change %d", &n); err == nil {
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

// printable is text that a database and a browser can hold.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r == 0 || r < ' ' && r != '\n' && r != '\t' {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
}
