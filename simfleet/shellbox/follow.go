package shellbox

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"
)

// Boxes that stand alone until they are told whom to follow, and stand alone again when they are given back: both times they lose what they were told before.

// Meet makes boxes known to each other: one of them can follow another, by its address.
func Meet(boxes ...*Box) {
	for _, b := range boxes {
		b.mu.Lock()
		b.known = boxes
		b.mu.Unlock()
	}
}

// hostOnly is the address of a box without its port.
func (b *Box) hostOnly() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	host, _, _ := net.SplitHostPort(b.Address)
	return host
}

// met is a box that is known, and that some test finds; nil when none is.
func (b *Box) met(is func(*Box) bool) *Box {
	b.mu.Lock()
	known := b.known
	b.mu.Unlock()
	if i := slices.IndexFunc(known, func(o *Box) bool { return o != b && is(o) }); i >= 0 {
		return known[i]
	}
	return nil
}

// Follow has a box forget what it was told and look for the one at an address, which it follows from then on.
func Follow(s *Shell, a map[string]string) error {
	b, address := s.b, a["controller"]
	leader := b.met(func(o *Box) bool { return o.herd != nil && (o.Address == address || o.hostOnly() == address) })
	var me follower
	stays := false
	s.locked(func(b *Box) {
		stays = b.hit(StaysAlone)
		b.anew()
		if !stays {
			b.st.Follows = address
		}
		if b.hit(LosesItsWay) {
			leader = nil
		}
		me = follower{FollowerSpec: FollowerSpec{Name: b.Name, Model: b.Model, Serial: b.Serial, Place: "new", Version: b.version(), New: true}, BootAt: time.Now()}
		_ = b.save()
		b.host.Cut()
	})
	if leader != nil && !stays {
		h := leader.herd
		h.mu.Lock()
		defer h.mu.Unlock()
		h.St.Followers = append(h.St.Followers, me)
		_ = h.save()
	}
	return errGone
}

// anew starts the box in its factory state. The caller holds the lock.
func (b *Box) anew() {
	b.factory()
	b.st.Started, b.st.BootAt = time.Now(), time.Now()
	b.st.Boots++
}

// GiveBack has a follower stand alone again.
func GiveBack(s *Shell, a map[string]string) error {
	serial := ""
	err := s.follower(a["child"], func(_ *Box, h *Herd, i int) error {
		serial = h.St.Followers[i].Serial
		h.St.Followers = slices.Delete(h.St.Followers, i, i+1)
		return nil
	})
	if err != nil {
		return err
	}
	if o := s.b.met(func(o *Box) bool { return o.Serial == serial }); o != nil {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.st.Follows = ""
		o.anew()
		return o.save()
	}
	return nil
}

// GroupFollower gives a follower the settings of a group.
func GroupFollower(s *Shell, a map[string]string) error {
	if a["group"] == "unknown" {
		return errors.New("there is no such group")
	}
	return s.follower(a["child"], func(_ *Box, h *Herd, i int) error {
		h.St.Followers[i].Group = a["group"]
		return nil
	})
}

// FollowsAddress is the address of whom the box follows; "" when it stands alone.
func (b *Box) FollowsAddress() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.st.Follows
}

// PressReset is what a person does at the box: it stands alone in its factory state.
func (b *Box) PressReset() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Follows = ""
	b.anew()
	return b.save()
}

// ChangePassword asks for a new password of a user, twice, without showing it.
func ChangePassword(s *Shell, a map[string]string) error {
	fmt.Fprint(s.w, "new: ")
	first, err := s.readLine(false)
	if err != nil {
		return errGone
	}
	fmt.Fprint(s.w, "again: ")
	again, err := s.readLine(false)
	if err != nil {
		return errGone
	}
	switch {
	case a["user"] != s.b.User:
		return errors.New("there is no such user")
	case first != again:
		return errors.New("those are two")
	case len(first) < 8:
		return errors.New("that is too short")
	}
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	s.b.st.Password = first
	return s.b.save()
}

// ownAddress is where a configuration says that the box is to be found, when that is on loopback, as all boxes are; "" else.
func ownAddress(config string) string {
	for _, l := range strings.Split(config, "\n") {
		if rest, ok := strings.CutPrefix(l, "box.address = 127."); ok {
			host, _, _ := strings.Cut("127."+strings.TrimSpace(rest), "/")
			return host
		}
	}
	return ""
}
