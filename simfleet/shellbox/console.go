package shellbox

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

// watchLine answers at the console line.
func (b *Box) watchLine(c net.Conn) {
	in := bufio.NewReader(c)
	s := &Shell{b, in, c}
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
		case <-b.host.Done():
			return false
		case <-time.After(30 * time.Millisecond):
		}
	}
}
