package plainbox

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"os"
	"time"
)

func removeFile(name string) error {
	if err := os.Remove(name); err != nil {
		return errors.New("there is no such file")
	}
	return nil
}

// attend answers at the console line. One at a time has it; whoever comes takes it over, as with a plug that is pulled and
// put in elsewhere. The line stays there while the box is off, and is silent then.
func (b *Box) attend() {
	var now net.Conn
	for {
		c, err := b.line.Accept()
		if err != nil {
			return
		}
		if now != nil {
			_ = now.Close()
		}
		now = c
		ended := make(chan struct{})
		go func() { // a restart of the box does not end the line, the end of the simulation does
			select {
			case <-b.done:
			case <-ended:
			}
			_ = c.Close()
		}()
		go func() { defer close(ended); b.watchLine(c) }()
	}
}

func (b *Box) watchLine(c net.Conn) {
	in := bufio.NewReader(c)
	s := &shell{b, in, c}
	for {
		if !b.awake(c) {
			return
		}
		fmt.Fprintf(c, "\r\n%s name? ", b.Name)
		user, err := s.readLine(true)
		if err != nil {
			return
		}
		if user == "" {
			continue
		}
		fmt.Fprint(c, "word? ")
		word, err := s.readLine(false)
		if err != nil {
			return
		}
		b.mu.Lock()
		good := user == b.User && word == b.st.Password
		b.mu.Unlock()
		if !good {
			fmt.Fprint(c, "not known\r\n")
			continue
		}
		s.run()
		if _, err := c.Write([]byte("\r\n")); err != nil {
			return
		}
	}
}

// awake waits until the box has come up, telling what it does meanwhile; false when the line was cut.
func (b *Box) awake(c net.Conn) bool {
	told := -1
	for {
		b.mu.Lock()
		phase := b.phase()
		_, mute := b.st.Faults[Mute]
		b.mu.Unlock()
		if phase >= loginUp && !mute {
			return true
		}
		if phase != told && told >= 0 && !mute {
			if _, err := fmt.Fprintf(c, "[start: %s]\r\n", phaseNames[phase]); err != nil {
				return false
			}
		}
		told = phase
		select {
		case <-b.done:
			return false
		case <-time.After(30 * time.Millisecond):
		}
	}
}
