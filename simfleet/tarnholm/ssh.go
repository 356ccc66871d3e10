package tarnholm

import (
	"crypto/subtle"
	"encoding/binary"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"verimorph/simfleet/terminal"
)

// listener opens and closes the box's address as the box goes down and comes up.
type listener struct {
	ln net.Listener
}

// Start begins to answer on the box's address. It fails when the address cannot be had.
func (b *Box) Start() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.listen = &listener{}
	if b.spec.Line != "" {
		ln, err := net.Listen("tcp", b.spec.Line)
		if err != nil {
			return fmt.Errorf("box %s: %w", b.spec.Name, err)
		}
		go b.attend(ln)
		go func() { <-b.done; _ = ln.Close() }()
	}
	if b.phase() >= phaseLink {
		if err := b.openDoor(); err != nil {
			return err
		}
	}
	go b.tend()
	return nil
}

// Stop cuts every connection, as if the power went.
func (b *Box) Stop() {
	b.mu.Lock()
	defer b.mu.Unlock()
	select {
	case <-b.done:
		return
	default:
		close(b.done)
	}
	b.closeDoor()
	for c := range b.conns {
		_ = c.Close()
	}
}

// tend watches the phase: the address is open from link on and closed before.
func (b *Box) tend() {
	tick := time.NewTicker(max(20*time.Millisecond, b.sim(time.Second)))
	defer tick.Stop()
	for {
		select {
		case <-b.done:
			return
		case <-tick.C:
		}
		b.mu.Lock()
		select {
		case <-b.done:
			b.mu.Unlock()
			return
		default:
		}
		up := b.phase() >= phaseLink
		if up && b.listen.ln == nil {
			if err := b.openDoor(); err != nil {
				b.log.Error("cannot open the address again", "err", err)
			}
		} else if !up && b.listen.ln != nil {
			b.closeDoor()
		}
		b.mu.Unlock()
	}
}

func (b *Box) openDoor() error {
	ln, err := net.Listen("tcp", b.spec.Address)
	if err != nil {
		return fmt.Errorf("box %s: %w", b.spec.Name, err)
	}
	b.listen.ln = ln
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go b.serve(c)
		}
	}()
	return nil
}

func (b *Box) closeDoor() {
	if b.listen.ln != nil {
		_ = b.listen.ln.Close()
		b.listen.ln = nil
	}
}

func (b *Box) track(c closer, on bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if on {
		b.conns[c] = true
	} else {
		delete(b.conns, c)
	}
}

// serve handles one connection from its first byte.
func (b *Box) serve(c net.Conn) {
	defer c.Close()
	b.track(c, true)
	defer b.track(c, false)
	b.mu.Lock()
	_, mute := b.has(Mute)
	early := b.phase() < phaseLogin
	cfg := &ssh.ServerConfig{
		ServerVersion: "SSH-2.0-Tarnholm",
		PasswordCallback: func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			b.mu.Lock()
			want, locked := b.st.Password, b.locked()
			late := b.usersLate()
			b.mu.Unlock()
			if late || locked || m.User() != b.spec.User || subtle.ConstantTimeCompare(password, []byte(want)) != 1 {
				b.refuse(m.RemoteAddr())
				return nil, fmt.Errorf("no")
			}
			b.mu.Lock()
			b.st.Refusals = 0
			b.mu.Unlock()
			return nil, nil
		},
		MaxAuthTries: 3,
	}
	cfg.AddHostKey(b.signer())
	b.mu.Unlock()
	if early {
		return
	}
	for mute { // it hangs up once it has found its voice again
		select {
		case <-b.done:
			return
		case <-time.After(50 * time.Millisecond):
		}
		b.mu.Lock()
		_, still := b.has(Mute)
		b.mu.Unlock()
		if !still {
			return
		}
	}
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	conn, channels, requests, err := ssh.NewServerConn(c, cfg)
	if err != nil {
		return
	}
	_ = c.SetDeadline(time.Time{})
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for nc := range channels {
		if nc.ChannelType() != "session" {
			_ = nc.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		ch, reqs, err := nc.Accept()
		if err != nil {
			return
		}
		go b.session(ch, reqs, c)
	}
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

// session answers one channel: a shell or SFTP.
func (b *Box) session(ch ssh.Channel, reqs <-chan *ssh.Request, c net.Conn) {
	height := 24
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
				height = int(p.Height)
			}
		case "window-change":
			ok = len(r.Payload) >= 8
		case "shell":
			ok = true
			go func() {
				t := terminal.New(ch)
				defer t.Close()
				t.Odd(b.chatters())
				newShell(b, t, height).run()
			}()
		case "exec":
			if len(r.Payload) > 4 && strings.HasPrefix(string(r.Payload[4:]), "scp ") {
				ok = true
				go b.scp(ch, string(r.Payload[4:]))
			}
		case "subsystem":
			if len(r.Payload) > 4 && string(r.Payload[4:]) == "sftp" && binary.BigEndian.Uint32(r.Payload) == 4 {
				ok = true
				go func() {
					defer ch.Close()
					f := &flash{b: b, conn: c}
					s := sftp.NewRequestServer(ch, sftp.Handlers{FileGet: f, FilePut: f, FileCmd: f, FileList: f})
					_ = s.Serve()
				}()
			}
		}
		if r.WantReply {
			_ = r.Reply(ok, nil)
		}
	}
}
