package tarnholm

import (
	"errors"
	"net"
	"slices"
	"strings"
)

// Where a box stands: what is plugged into its ports, at which address it is managed, whose place it takes, and the key that it keeps for itself.

// sealedMark begins a secret that is written under the key of a box: sealed:KEY:TEXT. A box with another key cannot read it.
const sealedMark = "sealed:"

// blankConfig is what a box says that comes out of its crate.
const blankConfig = "box\n  name unnamed\n  idle-after 300\n\nuser bosun\n  level raised\n  secret first\n"

// TakesPlaceOf says whose cables somebody plugs into this box: as soon as nothing is plugged into the other one any more.
func (b *Box) TakesPlaceOf(old *Box) { b.before = old }

// unplugged reports whether somebody took the box off the network, with all of its cables.
func (b *Box) unplugged() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	_, yes := b.has(Unplugged)
	return yes
}

// plugged reports whether cables are in the ports of the box. The caller holds the lock; the box whose place it takes has one of its own.
func (b *Box) plugged() bool {
	if _, out := b.has(Unplugged); out {
		return false
	}
	return b.before == nil || b.before.unplugged()
}

// cabled are the ports into which something is plugged, in the order of the configuration.
func (b *Box) cabled() []string {
	if !b.plugged() {
		return nil
	}
	return blocks(b.st.Config, "port")
}

// neighbours are what is plugged into the first two ports.
func (b *Box) neighbours() (out [][2]string) {
	if b.phase() < phaseReady {
		return nil
	}
	there := []string{"uplink", "pier-switch"}
	if _, swapped := b.has(SwappedCables); swapped {
		slices.Reverse(there)
	}
	for i, p := range b.cabled() {
		if i < len(there) {
			out = append(out, [2]string{p, there[i]})
		}
	}
	return out
}

// ownKey is the key that the box keeps for itself. The caller holds the lock.
func (b *Box) ownKey() string {
	if b.st.Key == "" {
		return b.spec.Serial
	}
	return b.st.Key
}

// SetKey gives the box a key of its own.
func (b *Box) SetKey(key string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Key = key
}

// readable reports whether the box can read the secret of a tunnel. The caller holds the lock.
func (b *Box) readable(tunnel string) bool {
	for _, l := range strings.Split(section(b.st.Config, "tunnel "+tunnel), "\n") {
		if sealed, ok := strings.CutPrefix(strings.TrimSpace(l), "secret "+sealedMark); ok {
			key, _, _ := strings.Cut(sealed, ":")
			return key == b.ownKey()
		}
	}
	return true
}

// movesTo is the address at which the configuration says that the box is managed, when that is on loopback, as all boxes are; "" else. The port stays.
func movesTo(config, address string) string {
	for _, l := range strings.Split(section(config, "box"), "\n") {
		if host, ok := strings.CutPrefix(strings.TrimSpace(l), "manage "); ok && net.ParseIP(host).IsLoopback() {
			_, port, _ := net.SplitHostPort(address)
			return net.JoinHostPort(host, port)
		}
	}
	return ""
}

// relocate takes over the address of the configuration that starts. The caller holds the lock.
func (b *Box) relocate() {
	if at := movesTo(b.st.Config, b.st.Address); at != "" {
		b.st.Address = at
	}
}

// PowerOffAndOn takes the power away and gives it back: what was not kept is lost.
func (b *Box) PowerOffAndOn() { b.restart() }

// word gives the user another password.
func (s *shell) word(args []string) error {
	if len(args) != 2 || args[0] != "of" || args[1] != s.b.spec.User {
		return errors.New("word of USER")
	}
	var said [2]string
	for i, ask := range []string{"new: ", "again: "} {
		s.raw(ask)
		text, err := s.readLine(false)
		if err != nil {
			return errBye
		}
		said[i] = text
	}
	switch {
	case said[0] != said[1]:
		return errors.New("those are two words")
	case len(said[0]) < 8:
		return errors.New("a word has eight letters at least")
	}
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	s.b.st.Password = said[0]
	s.b.note("the word of %s is another one", s.b.spec.User)
	return s.b.save()
}

// lock gives the box a key of its own: one under which another box wrote its secrets, so that it can read them.
func (s *shell) lock(args []string) error {
	if len(args) != 2 || args[0] != "with" || strings.Contains(args[1], ":") {
		return errors.New("lock with KEY")
	}
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	s.b.st.Key = args[1]
	return s.b.save()
}

// tellKey says under which key the box writes its secrets.
func (s *shell) tellKey(g *glance) { s.say("  %s", g.key) }

// Factory is what somebody does who presses the reset button: the box is as it comes out of its crate, with its first password.
func (b *Box) Factory() error {
	b.spec.Blank = true
	if err := b.Reset(); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Holding.Cables = "no plan\n"
	b.host.Cut()
	return b.save()
}
