package box

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// State is how far the network side of a box is.
type State struct {
	Open   bool // its address is open
	SignIn bool // it lets people in
	Mute   bool // connections are accepted and nothing is ever said
}

// A Host is the network side of a box. Its functions may take the lock of the box; the Host calls none of them under its own.
type Host struct {
	Name    string
	Version string        // what the server calls itself (RFC 4253, section 4.2); "": as usual
	Address func() string // host:port of the SSH server; it may move
	State   func() State
	HostKey func() string // in PEM form
	// SignIn reports whether a user and a password are right.
	SignIn func(user, password string, from net.Addr) bool
	// Request answers a request on a session channel: a shell, a command, a subsystem. It does not wait for what it starts.
	Request func(s *Session, r *ssh.Request) bool
	// PassesOn says that whoever signed in may go on to other boxes (RFC 4254, section 7.2).
	PassesOn bool
	Line     string         // host:port of the console line; "": none
	Attend   func(net.Conn) // answers at the line
	LineOnly bool           // there is no SSH server
	Log      *slog.Logger
	Factor   float64 // how many times faster than real its box is; it looks five times in a second of the box whether its address is to be open

	once  sync.Once
	mu    sync.Mutex
	ln    net.Listener
	at    string // the address that is open
	line  net.Listener
	conns map[net.Conn]bool
	done  chan struct{}
}

// A Session is a session channel and the connection it came over.
type Session struct {
	ssh.Channel
	Conn   net.Conn
	Height int // of the terminal in lines, as far as one was asked for
}

// Start begins to answer.
func (h *Host) Start() (err error) {
	h.Done()
	if h.Line != "" {
		if h.line, err = net.Listen("tcp", h.Line); err != nil {
			return fmt.Errorf("box %s: %w", h.Name, err)
		}
		go h.attend()
	}
	if h.LineOnly {
		return nil
	}
	if err := h.openOrClose(); err != nil {
		return err
	}
	go h.tend()
	return nil
}

// Stop cuts every connection. It cannot be started again.
func (h *Host) Stop() {
	h.Done()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.stopped() {
		return
	}
	close(h.done)
	for _, ln := range []net.Listener{h.ln, h.line} {
		if ln != nil {
			_ = ln.Close()
		}
	}
	for c := range h.conns {
		_ = c.Close()
	}
}

// Done is closed when the host stops.
func (h *Host) Done() <-chan struct{} {
	h.once.Do(func() { h.conns, h.done = map[net.Conn]bool{}, make(chan struct{}) })
	return h.done
}

// Cut ends every connection but the console line, as a restart does.
func (h *Host) Cut() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.conns {
		_ = c.Close()
	}
}

func (h *Host) stopped() bool {
	select {
	case <-h.done:
		return true
	default:
		return false
	}
}

// tend opens and closes the address as the box comes up and goes down.
func (h *Host) tend() {
	tick := time.NewTicker(max(time.Duration(float64(time.Second/5)/max(h.Factor, 1)), 20*time.Millisecond))
	defer tick.Stop()
	for {
		select {
		case <-h.done:
			return
		case <-tick.C:
		}
		if err := h.openOrClose(); err != nil {
			h.Log.Error("cannot open the address again", "err", err)
		}
	}
}

func (h *Host) openOrClose() error {
	open, address := h.State().Open, h.Address()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.stopped() {
		return nil
	}
	if h.ln != nil && (!open || address != h.at) { // it may have been off for less time than lies between two looks
		_ = h.ln.Close()
		h.ln = nil
	}
	if open && h.ln == nil {
		ln, err := net.Listen("tcp", address)
		if err != nil {
			return fmt.Errorf("box %s: %w", h.Name, err)
		}
		h.ln, h.at = ln, address
		go h.accept(ln)
	}
	return nil
}

func (h *Host) accept(ln net.Listener) {
	for {
		c, err := ln.Accept()
		if err != nil {
			return
		}
		go h.serve(c)
	}
}

// keep keeps a connection in mind, so that a restart ends it.
func (h *Host) keep(c net.Conn, on bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if on {
		h.conns[c] = true
	} else {
		delete(h.conns, c)
	}
}

// signInTakes is how long a client may take to sign in.
const signInTakes = 20 * time.Second

// serve answers one connection from its first byte.
func (h *Host) serve(c net.Conn) {
	defer c.Close()
	h.keep(c, true)
	defer h.keep(c, false)
	switch st := h.State(); {
	case !st.SignIn:
		return
	case st.Mute:
		h.sulk()
		return
	}
	cfg := &ssh.ServerConfig{MaxAuthTries: 3, ServerVersion: h.Version, PasswordCallback: func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if !h.SignIn(m.User(), string(password), m.RemoteAddr()) {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
	cfg.AddHostKey(Signer(h.HostKey()))
	_ = c.SetDeadline(time.Now().Add(signInTakes))
	conn, channels, requests, err := ssh.NewServerConn(c, cfg)
	if err != nil {
		return
	}
	_ = c.SetDeadline(time.Time{})
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for nc := range channels {
		switch {
		case nc.ChannelType() == "direct-tcpip" && h.PassesOn:
			go passOn(nc)
			continue
		case nc.ChannelType() != "session":
			_ = nc.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		ch, reqs, err := nc.Accept()
		if err != nil {
			return
		}
		go h.session(&Session{Channel: ch, Conn: c, Height: 24}, reqs)
	}
}

// sulk says nothing until the box has found its voice again, or is cut off.
func (h *Host) sulk() {
	for h.State().Mute {
		select {
		case <-h.done:
			return
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (h *Host) session(s *Session, reqs <-chan *ssh.Request) {
	for r := range reqs {
		ok := false
		switch r.Type {
		case "pty-req":
			var p struct {
				Term          string
				Width, Height uint32
				PixW, PixH    uint32
				Modes         string
			}
			if ok = ssh.Unmarshal(r.Payload, &p) == nil; ok {
				s.Height = int(p.Height)
			}
		case "window-change":
			ok = len(r.Payload) >= 8
		default:
			ok = h.Request(s, r)
		}
		if r.WantReply {
			_ = r.Reply(ok, nil)
		}
	}
}

// Text is the text in the payload of a request: its command, or the name of its subsystem.
func Text(r *ssh.Request) string {
	var p struct{ Text string }
	if ssh.Unmarshal(r.Payload, &p) != nil {
		return ""
	}
	return p.Text
}

// passOn connects somebody who signed in here with another box (RFC 4254, section 7.2).
func passOn(nc ssh.NewChannel) {
	var to struct {
		Host       string
		Port       uint32
		OriginHost string
		OriginPort uint32
	}
	if ssh.Unmarshal(nc.ExtraData(), &to) != nil {
		_ = nc.Reject(ssh.ConnectionFailed, "where to?")
		return
	}
	far, err := net.DialTimeout("tcp", net.JoinHostPort(to.Host, fmt.Sprint(to.Port)), 3*time.Second)
	if err != nil {
		_ = nc.Reject(ssh.ConnectionFailed, "nothing answers there")
		return
	}
	ch, reqs, err := nc.Accept()
	if err != nil {
		_ = far.Close()
		return
	}
	defer ch.Close()
	go ssh.DiscardRequests(reqs)
	Join(ch, ch, far)
}

// Join passes on what somebody near says on in and is told on out, to and from a connection, until one of them ends. It closes the connection.
func Join(in io.Reader, out io.Writer, far net.Conn) {
	defer far.Close()
	ended := make(chan struct{}, 2)
	go func() { _, _ = io.Copy(out, far); ended <- struct{}{} }()
	go func() { _, _ = io.Copy(far, in); ended <- struct{}{} }()
	<-ended
}

// attend answers at the console line. One at a time has it; whoever comes takes it over, as with a plug that is pulled and put in elsewhere. The
// line stays there while the box is off; a restart does not end it, the end of the simulation does.
func (h *Host) attend() {
	var now net.Conn
	for {
		c, err := h.line.Accept()
		if err != nil {
			return
		}
		if now != nil {
			_ = now.Close()
		}
		now = c
		ended := make(chan struct{})
		go func() {
			select {
			case <-h.done:
			case <-ended:
			}
			_ = c.Close()
		}()
		go func() { defer close(ended); h.Attend(c) }()
	}
}
