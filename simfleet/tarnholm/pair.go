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
// down, the other takes over, in sync or not.

// syncTime is how long a standby needs to mirror what the active one knows, in the box's own time, once both are up.
const syncTime = 60 * time.Second

// stallsAt is how far a sync gets that stalls.
const stallsAt = 0.97

var errAlone = errors.New("there is no mate")

// A pair is the link between two boxes.
type pair struct {
	mu    sync.Mutex // before those of the boxes
	boxes [2]*Box
}

// Join makes a pair of two boxes, of which the first is active, unless they changed roles since they were joined before.
func Join(active, standby *Box) error {
	p := &pair{boxes: [2]*Box{active, standby}}
	changed := standby.isActive()
	for i, b := range p.boxes {
		b.mu.Lock()
		b.pair, b.st.Active = p, (i == 0) != changed
		err := b.save()
		b.mu.Unlock()
		if err != nil {
			return err
		}
	}
	return nil
}

func (p *pair) mate(b *Box) *Box {
	if p.boxes[0] == b {
		return p.boxes[1]
	}
	return p.boxes[0]
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

// progress is how far the sync is, 0 to 1, as both boxes tell it. One that is in the way of a sync says so in words.
func (p *pair) progress() (done float64, waits string) {
	var least time.Duration = -2
	for _, b := range p.boxes {
		up := b.readyFor()
		if up < 0 {
			return 0, "waits for " + b.spec.Serial
		}
		if least == -2 || up < least {
			least = up
		}
	}
	done = min(float64(least)/float64(syncTime), 1)
	for _, b := range p.boxes {
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

// sync is the state of the sync in the words of the boxes.
func (p *pair) sync() string {
	done, waits := p.progress()
	switch {
	case waits != "":
		return waits
	case done < 1:
		return fmt.Sprintf("%.0f %% mirrored", done*100)
	}
	return "complete"
}

// link is the pair that a box is one of; nil: it stands alone.
func (b *Box) link() *pair {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.pair
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
	b.note("%s: %s", map[bool]string{true: "active", false: "standby"}[active], why)
	_ = b.save()
}

// goesDown is called before a box goes down: the other one takes over when it is up.
func (b *Box) goesDown() {
	p := b.link()
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	mate := p.mate(b)
	b.mu.Lock()
	split := b.hit(SplitRoles)
	b.mu.Unlock()
	switch {
	case split && !b.isActive():
		b.setActive(true, "it does not hear its mate")
	case b.isActive() && mate.readyFor() >= 0:
		mate.setActive(true, "its mate went down, the sync was "+p.sync())
		if !split {
			b.setActive(false, "it goes down")
		}
	}
}

// take makes a box the active one.
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
	if text := p.sync(); text != "complete" {
		return errors.New("not in sync: " + text)
	}
	s.b.mu.Lock()
	stays := s.b.hit(StaysStandby)
	s.b.mu.Unlock()
	if stays {
		return nil
	}
	p.mate(s.b).setActive(false, "its mate takes over")
	s.b.setActive(true, "told to take over")
	return nil
}

// tellPair are the lines that a box of a pair tells of it.
func (s *shell) tellPair() {
	p := s.b.link()
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	s.say("  role      %s", map[bool]string{true: "active", false: "standby"}[s.b.isActive()])
	s.say("  mate      %s", p.mate(s.b).spec.Serial)
	s.say("  sync      %s", p.sync())
}

// Log is what the box noted, for tests.
func (b *Box) Log() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.st.Log)
}
