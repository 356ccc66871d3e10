package tarnholm

import (
	"crypto/subtle"
	"net"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"verimorph/simfleet/box"
	"verimorph/simfleet/terminal"
)

// Start implements box.Box.
func (b *Box) Start() error { return b.host.Start() }

// Stop implements box.Box.
func (b *Box) Stop() { b.host.Stop() }

// network is the box's network side: its address is open from the phase link on.
func (b *Box) network() *box.Host {
	return &box.Host{Name: b.spec.Name, Version: "SSH-2.0-Tarnholm", Line: b.spec.Line, Attend: b.watchLine, Log: b.log, Factor: b.factor,
		Address: func() string {
			b.mu.Lock()
			defer b.mu.Unlock()
			return b.st.Address
		},
		State: func() box.State {
			b.mu.Lock()
			defer b.mu.Unlock()
			_, mute := b.has(Mute)
			_, out := b.has(Unplugged)
			return box.State{Open: !out && b.phase() >= phaseLink, SignIn: b.phase() >= phaseLogin, Mute: mute}
		},
		HostKey: func() string {
			b.mu.Lock()
			defer b.mu.Unlock()
			return b.st.HostKey
		},
		SignIn:  b.signIn,
		Request: b.request}
}

// signIn reports whether somebody is let in, and counts who is not.
func (b *Box) signIn(user, password string, from net.Addr) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.usersLate() || b.locked() || user != b.spec.User || subtle.ConstantTimeCompare([]byte(password), []byte(b.st.Password)) != 1 {
		b.refuse(from)
		return false
	}
	b.st.Refusals = 0
	return true
}

// usersLate reports whether the box does not know its users yet, though it answers. The caller holds the lock.
func (b *Box) usersLate() bool {
	f, ok := b.st.Faults[UsersLate]
	return ok && b.st.Boots > 1 && b.since() < phaseBegins[phaseLogin]+time.Duration(f.Value)*time.Second
}

func (b *Box) chatters() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	_, ok := b.has(Chatter)
	return ok
}

// request answers a shell, SCP or SFTP.
func (b *Box) request(s *box.Session, r *ssh.Request) bool {
	switch {
	case r.Type == "shell":
		go func() {
			t := terminal.New(s)
			defer t.Close()
			t.Odd(b.chatters())
			newShell(b, t, s.Height).run()
		}()
	case r.Type == "exec" && strings.HasPrefix(box.Text(r), "scp "):
		go b.scp(s, box.Text(r))
	case r.Type == "subsystem" && box.Text(r) == "sftp":
		go func() {
			defer s.Close()
			f := &flash{b: b, conn: s.Conn}
			_ = sftp.NewRequestServer(s, sftp.Handlers{FileGet: f, FilePut: f, FileCmd: f, FileList: f}, sftp.WithRSAllocator()).Serve()
		}()
	default:
		return false
	}
	return true
}
