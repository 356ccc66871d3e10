// Package wire is a TCP relay for tests. A [Wire] passes connections on from one address to another. It can be cut: open connections break and
// the address stays closed for a while, as when the network in between fails. It can also be slow, or silent in one direction.
package wire

import (
	"net"
	"sync"
	"time"
)

// A Wire leads from its address to another one.
type Wire struct {
	address, behind string
	mu              sync.Mutex
	ln              net.Listener // nil while it is cut
	conns           map[net.Conn]bool
	until           time.Time // it is cut
	closed          bool
	deaf            time.Time     // nothing comes back from the far side until then
	slow            time.Time     // everything takes lag longer until then
	lag             time.Duration // of each piece
}

// New lays a wire from address to behind.
func New(address, behind string) (*Wire, error) {
	ln, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	w := &Wire{address: ln.Addr().String(), behind: behind, ln: ln, conns: map[net.Conn]bool{}}
	go w.accept(ln)
	return w, nil
}

// Address is where the wire begins.
func (w *Wire) Address() string { return w.address }

func (w *Wire) accept(ln net.Listener) {
	for {
		c, err := ln.Accept()
		if err != nil {
			return
		}
		go w.pass(c)
	}
}

// keep notes an open connection, unless the wire is cut.
func (w *Wire) keep(c net.Conn) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.ln == nil {
		return false
	}
	w.conns[c] = true
	return true
}

func (w *Wire) pass(c net.Conn) {
	defer c.Close()
	if !w.keep(c) {
		return
	}
	defer func() { w.mu.Lock(); delete(w.conns, c); w.mu.Unlock() }()
	far, err := net.DialTimeout("tcp", w.behind, 2*time.Second)
	if err != nil {
		return
	}
	defer far.Close()
	ended := make(chan struct{}, 2)
	go func() { w.carry(far, c, false); ended <- struct{}{} }()
	go func() { w.carry(c, far, true); ended <- struct{}{} }()
	<-ended
}

// carry passes pieces on, back or forth. What comes back while the wire is deaf is lost, and the connection with it.
func (w *Wire) carry(to, from net.Conn, back bool) {
	buf := make([]byte, 32<<10)
	for {
		n, err := from.Read(buf)
		if n > 0 {
			w.mu.Lock()
			deaf, lag := time.Until(w.deaf), w.lag
			if time.Now().After(w.slow) {
				lag = 0
			}
			w.mu.Unlock()
			if back && deaf > 0 {
				time.Sleep(deaf)
				return
			}
			time.Sleep(lag)
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// Deafen lets what is said reach the far side for d, while nothing comes back.
func (w *Wire) Deafen(d time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.deaf = time.Now().Add(d)
}

// Slow makes every piece take lag longer, for d.
func (w *Wire) Slow(d, lag time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.slow, w.lag = time.Now().Add(d), lag
}

// Cut breaks every connection and lets none through for d.
func (w *Wire) Cut(d time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if until := time.Now().Add(d); until.After(w.until) {
		w.until = until
	}
	for c := range w.conns {
		_ = c.Close()
	}
	if w.ln == nil {
		return // whoever cut it first mends it when the last cut is over
	}
	_ = w.ln.Close()
	w.ln = nil
	if !w.closed {
		go w.mend()
	}
}

// mend listens again when the time of the cut is over.
func (w *Wire) mend() {
	for {
		w.mu.Lock()
		left := time.Until(w.until)
		if left <= 0 && !w.closed {
			if ln, err := net.Listen("tcp", w.address); err == nil {
				w.ln = ln
				go w.accept(ln)
				w.mu.Unlock()
				return
			}
			left = 20 * time.Millisecond // the port is not free yet
		}
		closed := w.closed
		w.mu.Unlock()
		if closed {
			return
		}
		time.Sleep(left)
	}
}

// Close breaks every connection and lets none through any more.
func (w *Wire) Close() {
	w.mu.Lock()
	w.closed = true
	w.mu.Unlock()
	w.Cut(0)
}
