package tarnholm

import (
	"bufio"
	"fmt"
	"net"
	"strings"
	"time"
)

// The console line: it is there while the box is off, and in the boot loader it starts either slot, also when the box does not
// come up by itself any more.

// attend answers at the line; whoever comes takes it over.
func (b *Box) attend(ln net.Listener) {
	var now net.Conn
	for {
		c, err := ln.Accept()
		if err != nil {
			return
		}
		if now != nil {
			_ = now.Close()
		}
		now = c
		go func() {
			<-b.done
			_ = c.Close()
		}()
		go b.watchLine(c)
	}
}

func (b *Box) watchLine(c net.Conn) {
	defer c.Close()
	in := bufio.NewReader(c)
	read := func() (string, error) {
		line, err := in.ReadString('\r')
		return strings.TrimSpace(line), err
	}
	for {
		b.mu.Lock()
		phase := b.phase()
		f := b.st.Faults[NeverReturn]
		b.mu.Unlock()
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
			name, err := read()
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
