package shellbox

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
)

// Boxes that follow others: access points that look for a controller which serves, and forwarding nodes. They have no command line of their own here; whoever
// they follow lists them.

// Followers say what follows the boxes of a model, and how it behaves. Times are their own.
type Followers struct {
	Join    time.Duration // after whom they follow is ready: until the first has joined; the others come one after the other
	Between time.Duration // between two that join
	Fetch   time.Duration // an image
	Start   time.Duration // until it serves again
	Drains  bool          // it is taken out of service first: else whom it serves is cut off
	Empty   time.Duration // until it is drained
	Served  func(model, version string) bool
}

// A FollowerSpec says what a follower is.
type FollowerSpec struct {
	Name    string `yaml:"name"`
	Model   string `yaml:"model"`
	Serial  string `yaml:"serial"`
	Place   string `yaml:"place"`
	Group   string `yaml:"group"`   // "default" when left out
	Version string `yaml:"version"` // that of whom it follows when left out
	New     bool   `yaml:"new"`     // it waits to be let join
}

// A Herd is what follows a box, or a group of boxes together.
type Herd struct {
	mu     sync.Mutex
	file   string
	factor float64
	turn   int // whose turn it is to pass something on
	St     herdState
}

type herdState struct {
	Followers []follower
	Seats     int
	Faults    box.Faults
	CutOff    int       // how often users were cut off, since theirs was started anew undrained
	Lost      time.Time // until then what goes through is lost: nobody has noticed yet that one is gone
	Dark      []string  // places that have several followers, and at which all were away when one was started anew; each as often as that was
}

type follower struct {
	FollowerSpec
	Next     string
	Fetching string    // version
	Since    time.Time // of that
	BootAt   time.Time
	Loops    bool
	Gone     bool
	Resting  bool // takes nobody new
	RestAt   time.Time
	Starts   int
}

// Faults of followers. VALUE is which one, from 1.
const (
	FollowerLoops    = "follower-loops"
	FollowerGone     = "follower-gone"
	FollowerNoFetch  = "follower-no-fetch"
	FollowerNoDrain  = "follower-no-drain"
	FollowerSilent   = "follower-silent"
	FollowerHangOnce = "follower-hangs-once"
)

var herdFaultTexts = map[string]string{
	FollowerLoops: "follower VALUE starts again and again", FollowerGone: "follower VALUE joins somebody else", FollowerNoFetch: "follower VALUE fetches nothing",
	FollowerNoDrain: "follower VALUE does not drain", FollowerSilent: "follower VALUE comes back and carries no traffic", FollowerHangOnce: "follower VALUE hangs until it is told again",
}

// newHerd loads or makes what follows a box.
func newHerd(dir string, specs []FollowerSpec, seats int, version string, factor float64) (*Herd, error) {
	h := &Herd{file: filepath.Join(dir, "followers.json"), factor: max(factor, 1)}
	if data, err := os.ReadFile(h.file); err == nil {
		return h, json.Unmarshal(data, &h.St)
	}
	h.St.Seats, h.St.Faults = seats, box.Faults{}
	for _, s := range specs {
		if s.Version == "" {
			s.Version = version
		}
		h.St.Followers = append(h.St.Followers, follower{FollowerSpec: s, BootAt: time.Now().Add(-10 * time.Hour)})
	}
	return h, h.save()
}

func (h *Herd) save() error { return box.Save(h.file, &h.St) }

func (h *Herd) ago(t time.Time) time.Duration {
	return time.Duration(float64(time.Since(t)) * h.factor)
}

// hits reports whether a fault is set for a follower.
func (h *Herd) hits(fault string, i int) bool {
	f, ok := h.St.Faults[fault]
	return ok && f.Value == int64(i+1)
}

// tidy lets time pass for a follower: what was fetched is there.
func (h *Herd) tidy(i int, t *Followers) {
	f := &h.St.Followers[i]
	if f.Fetching != "" && h.ago(f.Since) >= t.Fetch && !h.hits(FollowerNoFetch, i) {
		f.Next, f.Fetching = f.Fetching, ""
	}
}

// state is how a follower stands with a box that has been ready for so long.
func (h *Herd) state(i int, b *Box, ready time.Duration) (state string, there bool) {
	f, t := &h.St.Followers[i], b.m.Firmware.Followers
	h.tidy(i, t)
	switch {
	case h.hits(FollowerGone, i), ready < t.Join+time.Duration(i)*t.Between:
		return "", false
	case f.New && h.ago(f.BootAt) < t.Start:
		return "", false
	case f.New:
		return "waits to be let in", true
	case !t.Served(f.Model, b.version()):
		return "", false
	case h.broken(FollowerLoops, i):
		return "started a moment ago, not in service", true
	}
	if since := h.ago(f.BootAt); since < t.Start {
		return fmt.Sprintf("starts %d%%", 100*since/t.Start), true
	}
	switch {
	case f.Loops:
		return "hangs", true
	case h.broken(FollowerSilent, i):
		return "joined, no traffic", true
	case f.Fetching != "":
		return "serves, fetches " + f.Fetching, true
	case f.Resting && (h.ago(f.RestAt) < t.Empty || h.hits(FollowerNoDrain, i)):
		return "serves its last users", true
	case f.Resting:
		return "empty", true
	}
	return "serves", true
}

// broken reports whether a fault that shows when a follower starts has come out.
func (h *Herd) broken(fault string, i int) bool {
	return h.hits(fault, i) && h.St.Followers[i].Starts > 0
}

// up reports whether a follower works, whoever it follows.
func (h *Herd) up(i int, t *Followers) bool {
	f := &h.St.Followers[i]
	return !f.New && !f.Loops && !h.broken(FollowerLoops, i) && !h.broken(FollowerSilent, i) && h.ago(f.BootAt) >= t.Start
}

// serving reports whether a follower takes whoever comes.
func (h *Herd) serving(i int, t *Followers) bool { return h.up(i, t) && !h.St.Followers[i].Resting }

// used reports whether somebody is still served by a follower that works.
func (h *Herd) used(i int, t *Followers) bool {
	f := &h.St.Followers[i]
	return h.up(i, t) && (!f.Resting || h.ago(f.RestAt) < t.Empty || h.hits(FollowerNoDrain, i))
}

// start starts a follower anew, with what it fetched for the release of whom it follows, or fetching that first.
func (h *Herd) start(i int, to string, t *Followers) {
	f := &h.St.Followers[i]
	h.tidy(i, t)
	if t.Drains && h.used(i, t) {
		h.St.CutOff++
		h.St.Lost = time.Now().Add(200 * time.Millisecond)
	}
	f.Starts++
	f.BootAt = time.Now()
	if f.Next != to && f.Version != to { // it fetches it while it is down
		f.BootAt = time.Now().Add(time.Duration(float64(t.Fetch) / h.factor))
	}
	if !h.hits(FollowerNoFetch, i) {
		f.Version, f.Next, f.Fetching = to, "", ""
	}
	f.Loops = h.hits(FollowerHangOnce, i) && f.Starts == 1
	h.noteDark(t)
}

// noteDark notes at which places all are away at once, where there are several.
func (h *Herd) noteDark(t *Followers) {
	all, away := map[string]int{}, map[string]int{}
	for i := range h.St.Followers {
		f := &h.St.Followers[i]
		if f.New || h.hits(FollowerGone, i) {
			continue
		}
		all[f.Place]++
		if !h.serving(i, t) {
			away[f.Place]++
		}
	}
	for place, n := range all {
		if n > 1 && away[place] == n {
			h.St.Dark = append(h.St.Dark, place)
		}
	}
}

// passes is the name of a follower that takes what comes new; "" when there is none, or nobody has noticed yet that one is gone.
func (h *Herd) passes(t *Followers) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	if time.Now().Before(h.St.Lost) {
		return ""
	}
	for k := range h.St.Followers {
		i := (k + h.turn) % len(h.St.Followers)
		if h.serving(i, t) && !h.hits(FollowerGone, i) {
			h.turn = i + 1
			return h.St.Followers[i].Name
		}
	}
	return ""
}

// Through opens an address behind those that follow a box. What is asked there over HTTP is answered with the name of the one that passes it on, or lost. It is
// closed by the function that it returns.
func (b *Box) Through(address string) (stop func(), at string, err error) {
	if b.herd == nil {
		return nil, "", errors.New("nothing follows it")
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, "", err
	}
	s := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		name := b.herd.passes(b.m.Firmware.Followers)
		if name == "" {
			panic(http.ErrAbortHandler) // closes the connection
		}
		_, _ = io.WriteString(w, name)
	})}
	go func() { _ = s.Serve(l) }()
	return func() { _ = s.Close() }, l.Addr().String(), nil
}

// readyFor is how long the box has been ready. The caller holds the lock.
func (b *Box) readyFor() time.Duration {
	if b.phase() < ready {
		return -1
	}
	return b.since() - b.m.Firmware.Ready
}

// TellFollowers lists what follows the box: only whoever serves has any.
func TellFollowers(s *Shell, _ map[string]string) error {
	serves := s.b.serves()
	s.locked(func(b *Box) {
		n := 0
		if b.herd != nil && serves {
			b.herd.mu.Lock()
			defer b.herd.mu.Unlock()
			for i := range b.herd.St.Followers {
				f := &b.herd.St.Followers[i]
				state, there := b.herd.state(i, b, b.readyFor())
				if !there {
					continue
				}
				n++
				group := ""
				if !s.b.m.Firmware.Followers.Drains { // nodes have no groups
					group = " of " + cmp.Or(f.Group, "default")
				}
				s.say("%s %s %s at %s%s runs %s next %s: %s", f.Name, f.Model, f.Serial, f.Place, group, f.Version, cmp.Or(f.Next, "-"), state)
			}
		}
		s.say("%d of %d", n, b.seats())
	})
	return nil
}

func (b *Box) seats() int {
	if b.herd == nil {
		return 0
	}
	return b.herd.St.Seats
}

// follower calls f with the follower that a command names, when the box serves.
func (s *Shell) follower(name string, f func(b *Box, h *Herd, i int) error) (err error) {
	serves := s.b.serves()
	s.locked(func(b *Box) {
		if b.herd == nil || !serves {
			err = errors.New("nobody follows this one now")
			return
		}
		h := b.herd
		h.mu.Lock()
		defer h.mu.Unlock()
		i := slices.IndexFunc(h.St.Followers, func(f follower) bool { return f.Name == name || f.Serial == name })
		if i < 0 {
			err = errors.New("nothing of that name follows this one")
			return
		}
		if _, there := h.state(i, b, b.readyFor()); !there {
			err = errors.New("that one is not there")
			return
		}
		err = errors.Join(f(b, h, i), h.save())
	})
	return err
}

// FetchAll has all followers for which a file is fetch it while they work.
func FetchAll(s *Shell, a map[string]string) error {
	data, err := s.b.read(a["file"])
	if err != nil {
		return err
	}
	head, err := firmware.Read(strings.NewReader(string(data)))
	if err != nil {
		return fmt.Errorf("that file is not right: %w", err)
	}
	serves := s.b.serves()
	s.locked(func(b *Box) {
		if b.herd == nil || !serves {
			return
		}
		b.herd.mu.Lock()
		defer b.herd.mu.Unlock()
		for i := range b.herd.St.Followers {
			f := &b.herd.St.Followers[i]
			if slices.Contains(head.Models, f.Model) && f.Version != head.Version && f.Next != head.Version {
				f.Fetching, f.Since = head.Version, time.Now()
			}
		}
		err = b.herd.save()
	})
	return err
}

// StartFollower starts one anew, with what it fetched, else with the release of the box.
func StartFollower(s *Shell, a map[string]string) error {
	return s.follower(a["child"], func(b *Box, h *Herd, i int) error {
		h.tidy(i, b.m.Firmware.Followers)
		to := b.version()
		if next := h.St.Followers[i].Next; next != "" { // what it was told to fetch
			to = next
		}
		h.start(i, to, b.m.Firmware.Followers)
		return nil
	})
}

// RestFollower takes one out of service.
func RestFollower(s *Shell, a map[string]string) error {
	return s.follower(a["child"], func(_ *Box, h *Herd, i int) error {
		if f := &h.St.Followers[i]; !f.Resting {
			f.Resting, f.RestAt = true, time.Now()
		}
		return nil
	})
}

// WakeFollower has one serve again.
func WakeFollower(s *Shell, a map[string]string) error {
	return s.follower(a["child"], func(_ *Box, h *Herd, i int) error {
		h.St.Followers[i].Resting = false
		return nil
	})
}

// LetIn lets a new one join.
func LetIn(s *Shell, a map[string]string) error {
	return s.follower(a["serial"], func(b *Box, h *Herd, i int) error {
		in := 0
		for k := range h.St.Followers {
			if !h.St.Followers[k].New {
				in++
			}
		}
		if in >= h.St.Seats {
			return errors.New("there is no seat left")
		}
		f := &h.St.Followers[i]
		f.New = false
		if to := b.version(); f.Version != to { // it takes the release of whom it follows
			h.start(i, to, b.m.Firmware.Followers)
		}
		return nil
	})
}

// A FollowerStatus is a look at a follower from outside.
type FollowerStatus struct {
	Name, Version, State string
	Starts               int
	New                  bool
}

// Followers returns how they stand; cutOff counts those that were started anew undrained, dark how often all of a place with several were away at once.
func (b *Box) Followers() (all []FollowerStatus, cutOff int, dark []string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.herd == nil {
		return nil, 0, nil
	}
	b.herd.mu.Lock()
	defer b.herd.mu.Unlock()
	for i := range b.herd.St.Followers {
		f := &b.herd.St.Followers[i]
		state, there := b.herd.state(i, b, b.readyFor())
		if !there {
			state = "away"
		}
		all = append(all, FollowerStatus{f.Name, f.Version, state, f.Starts, f.New})
	}
	return all, b.herd.St.CutOff, b.herd.St.Dark
}

// herdFaults are those of what follows a box.
func (b *Box) herdFaults() (names []string) {
	if b.herd == nil {
		return nil
	}
	for name := range herdFaultTexts {
		names = append(names, name)
	}
	return names
}

// armHerd sets or heals (nil) a fault of a follower, and reports whether it is one.
func (b *Box) armHerd(name string, f *box.Fault) bool {
	if herdFaultTexts[name] == "" || b.herd == nil {
		return false
	}
	b.herd.mu.Lock()
	defer b.herd.mu.Unlock()
	if f == nil {
		delete(b.herd.St.Faults, name)
	} else {
		b.herd.St.Faults[name] = *f
	}
	_ = b.herd.save()
	return true
}

// Named makes followers of some models, spread over places: NAME1 to NAMEn.
func Named(name, model, serial string, n int, places ...string) (out []FollowerSpec) {
	for i := range n {
		out = append(out, FollowerSpec{Name: name + strconv.Itoa(i+1), Model: model, Serial: fmt.Sprintf("%s%04d", serial, i+1), Place: places[i%len(places)]})
	}
	return out
}
