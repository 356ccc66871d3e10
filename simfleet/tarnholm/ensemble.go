package tarnholm

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// Two boxes of one model can be a pair: one is active, the other stands by and mirrors what the active one knows. When the active one goes
// down, the other takes over, in sync or not. Three and more can be a cluster: one leads, the others follow it and mirror what it knows, and all of it
// passes something on only while more than half of them are up.

// syncTime is how long a box needs to mirror what the one that serves knows, in the box's own time, once both are up.
const syncTime = 60 * time.Second

// stallsAt is how far a sync gets that stalls.
const stallsAt = 0.97

var errAlone = errors.New("there is no mate")

// An ensemble is the link between boxes.
type ensemble struct {
	mu    sync.Mutex // before those of the boxes
	name  string     // of a cluster; "" of a pair
	boxes []*Box
}

// Join makes a pair of two boxes, of which the first is active, unless they changed roles since they were joined before.
func Join(active, standby *Box) error { return join(&ensemble{boxes: []*Box{active, standby}}) }

// JoinCluster makes a cluster of boxes, of which the first leads, unless another one did when they were joined before.
func JoinCluster(name string, boxes ...*Box) error {
	if len(boxes) < 3 {
		return fmt.Errorf("cluster %s: it has %d boxes; a cluster has three at least", name, len(boxes))
	}
	return join(&ensemble{name: name, boxes: boxes})
}

func join(p *ensemble) error {
	first := max(0, slices.IndexFunc(p.boxes, func(b *Box) bool { return b.isActive() }))
	if p.name == "" && p.boxes[1].isActive() { // both may say so, after they were split
		first = 1
	}
	for i, b := range p.boxes {
		b.mu.Lock()
		b.ensemble, b.st.Active = p, i == first
		err := b.save()
		b.mu.Unlock()
		if err != nil {
			return err
		}
	}
	return nil
}

// others are the boxes of the ensemble beside one.
func (p *ensemble) others(b *Box) []*Box {
	return slices.DeleteFunc(slices.Clone(p.boxes), func(o *Box) bool { return o == b })
}

// words are what a box that serves is called, and one that does not.
func (p *ensemble) words() map[bool]string {
	if p.name != "" {
		return map[bool]string{true: "leader", false: "follower"}
	}
	return map[bool]string{true: "active", false: "standby"}
}

// readyFor is how long a box has been up with its services, in its own time; negative: it is not yet.
func (b *Box) readyFor() time.Duration {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.phase() < phaseReady {
		return -1
	}
	return b.since() - phaseBegins[phaseReady]
}

// mirrors is how far boxes mirror each other, 0 to 1. One that is in the way of that says so in words.
func (p *ensemble) mirrors(boxes ...*Box) (done float64, waits string) {
	least := time.Duration(-2)
	for _, b := range boxes {
		up := b.readyFor()
		if up < 0 {
			return 0, "waits for " + b.spec.Serial
		}
		if least == -2 || up < least {
			least = up
		}
	}
	done = min(float64(least)/float64(syncTime), 1)
	for _, b := range boxes {
		b.mu.Lock()
		if f, ok := b.has(NeverHot); ok && f.Armed() {
			done, waits = 0, "not begun"
		}
		if f, ok := b.has(SyncStalls); ok && f.Armed() {
			done = min(done, stallsAt)
		}
		b.mu.Unlock()
	}
	return done, waits
}

// sync is the state of the sync as a box tells it: one that follows tells how far it is, one that leads tells of the one that is furthest.
func (p *ensemble) sync(b *Box) string {
	best, text := 0.0, "waits for a leader"
	for i, o := range p.others(b) {
		if p.name != "" && !b.isActive() && !o.isActive() {
			continue // two that follow have nothing to mirror of each other
		}
		if done, waits := p.mirrors(b, o); done > best || i == 0 || !b.isActive() {
			best, text = done, waits
		}
	}
	switch {
	case text != "":
		return text
	case best < 1:
		return fmt.Sprintf("%.0f %% mirrored", best*100)
	}
	return "complete"
}

// link is the ensemble that a box is one of; nil: it stands alone.
func (b *Box) link() *ensemble {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.ensemble
}

func (b *Box) isActive() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.st.Active
}

func (b *Box) setActive(active bool, why string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.st.Active == active {
		return
	}
	b.st.Active = active
	b.note("%s: %s", b.ensemble.words()[active], why)
	_ = b.save()
}

// goesDown is called before a box goes down: another one takes over when it is up.
func (b *Box) goesDown() {
	p := b.link()
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	b.mu.Lock()
	split := b.hit(SplitRoles)
	b.mu.Unlock()
	if split && !b.isActive() {
		b.setActive(true, "it does not hear its mate")
		return
	}
	if !b.isActive() {
		return
	}
	for _, o := range p.others(b) {
		if o.readyFor() < 0 {
			continue
		}
		o.setActive(true, "its mate went down, the sync was "+p.sync(o))
		if !split {
			b.setActive(false, "it goes down")
		}
		return
	}
}

// take makes a box the one that serves.
func (s *shell) take(args []string) error {
	if strings.Join(args, " ") != "over" {
		return errors.New("take over")
	}
	p := s.b.link()
	if p == nil {
		return errAlone
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if s.b.isActive() {
		return errors.New("active already")
	}
	if text := p.sync(s.b); text != "complete" {
		return errors.New("not in sync: " + text)
	}
	s.b.mu.Lock()
	stays := s.b.hit(StaysStandby)
	s.b.mu.Unlock()
	if stays {
		return nil
	}
	for _, o := range p.others(s.b) {
		o.setActive(false, "its mate takes over")
	}
	s.b.setActive(true, "told to take over")
	return nil
}

// tellEnsemble are the lines that a box tells of its ensemble.
func (s *shell) tellEnsemble() {
	p := s.b.link()
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	s.say("  role      %s", p.words()[s.b.isActive()])
	if p.name != "" {
		s.say("  cluster   %s", p.name)
	} else {
		s.say("  mate      %s", p.others(s.b)[0].spec.Serial)
	}
	s.say("  sync      %s", p.sync(s.b))
}

// Log is what the box noted, for tests.
func (b *Box) Log() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.st.Log)
}
