package tarnholm

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"
)

// The console line: it is there while the box is off, and in the boot loader it starts either slot, also when the box does not
// come up by itself any more.

func (b *Box) watchLine(c net.Conn) {
	in := bufio.NewReader(c)
	read := func() (string, error) {
		line, err := in.ReadString('\r')
		return strings.TrimSpace(line), err
	}
	told := phaseCommands // what it says while it starts is said once
	for {
		b.mu.Lock()
		phase := b.phase()
		f := b.st.Faults[NeverReturn]
		slot, v := b.st.Running, b.st.Slots[b.st.Running].Version
		b.mu.Unlock()
		if phase < phaseCommands && phase != told {
			if phase < told {
				fmt.Fprintf(c, "\r\nstarting from slot %s: %s\r\n", slot, v)
			} else {
				fmt.Fprint(c, "ports are up, services come next\r\n")
			}
		}
		told = phase
		switch {
		case phase == phaseOff && f.Hit:
			fmt.Fprint(c, "\r\nnothing starts by itself\r\nstart from? ")
			slot, err := read()
			if err != nil {
				return
			}
			fmt.Fprintf(c, "%s\r\n", slot)
			if err := b.load(slot); err != nil {
				fmt.Fprintf(c, "no: %s\r\n", err)
			} else {
				fmt.Fprintf(c, "starting from %s\r\n", slot)
			}
		case phase < phaseCommands:
			time.Sleep(20 * time.Millisecond)
			if _, err := c.Write(nil); err != nil {
				return
			}
		default:
			fmt.Fprint(c, "\r\nname: ")
			name, err := b.nameAt(c, in)
			if err != nil {
				return
			}
			if name == "" {
				continue
			}
			fmt.Fprintf(c, "%s\r\nword: ", name)
			word, err := read()
			if err != nil {
				return
			}
			b.mu.Lock()
			good := name == b.spec.User && word == b.st.Password
			b.mu.Unlock()
			if !good {
				fmt.Fprint(c, "\r\nno: not known\r\n")
				continue
			}
			s := newShell(b, c, 0)
			s.in = in // what was read ahead is part of the conversation
			s.run()
		}
	}
}

// nameAt reads the name of who signs in at the line; "" when the box starts anew meanwhile.
func (b *Box) nameAt(c net.Conn, in *bufio.Reader) (string, error) {
	name := ""
	for {
		_ = c.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		part, err := in.ReadString('\r')
		_ = c.SetReadDeadline(time.Time{})
		name += part
		if err == nil {
			return strings.TrimSpace(name), nil
		}
		var late net.Error
		if !errors.As(err, &late) || !late.Timeout() {
			return "", err
		}
		b.mu.Lock()
		phase := b.phase()
		b.mu.Unlock()
		if phase < phaseCommands {
			return "", nil
		}
	}
}

// load starts a slot from the boot loader.
func (b *Box) load(slot string) error {
	b.mu.Lock()
	s := b.st.Slots[slot]
	if s == nil || s.State != "good" {
		b.mu.Unlock()
		return fmt.Errorf("nothing in %q can be started", slot)
	}
	delete(b.st.Faults, NeverReturn)
	b.st.Next = slot
	b.mu.Unlock()
	b.restart()
	return nil
}
