// Package terminal simulates a terminal driver: output that follows within a moment is sent as one piece, so that the echo of a command does not
// arrive letter by letter. On request the pieces end anywhere, as over a slow line.
package terminal

import (
	"io"
	"math/rand/v2"
	"sync"
	"time"
)

// after is how long a piece waits for more.
const after = time.Millisecond

// A Terminal passes on what is written to it a moment later, at the latest when somebody waits for input.
type Terminal struct {
	under io.ReadWriteCloser
	mu    sync.Mutex
	piece []byte
	timer *time.Timer
	err   error // of the last piece that could not be passed on
	odd   bool
}

// Odd has what is written come in pieces that end anywhere, as over a slow line.
func (t *Terminal) Odd(odd bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.odd = odd
}

// New makes a terminal of a channel or a line.
func New(under io.ReadWriteCloser) *Terminal { return &Terminal{under: under} }

// Write implements io.Writer. An error is that of an earlier piece.
func (t *Terminal) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.err != nil {
		return 0, t.err
	}
	if len(t.piece) == 0 {
		if t.timer == nil {
			t.timer = time.AfterFunc(after, t.flush)
		} else {
			t.timer.Reset(after)
		}
	}
	t.piece = append(t.piece, p...)
	return len(p), nil
}

func (t *Terminal) flush() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.piece) > 0 && t.err == nil {
		for rest := t.piece; len(rest) > 0 && t.err == nil; {
			n := len(rest)
			if t.odd {
				n = 1 + rand.IntN(min(n, 40))
			}
			_, t.err = t.under.Write(rest[:n])
			rest = rest[n:]
		}
		t.piece = t.piece[:0]
	}
}

// Read implements io.Reader.
func (t *Terminal) Read(p []byte) (int, error) {
	t.flush()
	return t.under.Read(p)
}

// Close passes on what is left and closes what is under it.
func (t *Terminal) Close() error {
	t.flush()
	return t.under.Close()
}
