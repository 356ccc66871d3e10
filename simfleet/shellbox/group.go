package shellbox

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"
)

// Boxes of one model that stand in for each other: a pair, of which one is active, or a cluster, of which one leads. Whoever serves has the followers.

// mirrorTime is how long a box needs to mirror what the one that serves knows, in the box's own time, once both are up.
const mirrorTime = 60 * time.Second

// A Group is the link between boxes.
type Group struct {
	mu     sync.Mutex // before those of the boxes
	name   string     // of a cluster; "" of a pair
	boxes  []*Box
	leader int
	cold   int // how often one took over that was not in step
}

// Group faults.
const (
	SyncStalls = "sync-stalls"
	SyncNever  = "sync-never"
	SplitRoles = "split-roles"
	Usurps     = "usurps"
	StaysBack  = "stays-standby"
)

var groupFaultTexts = map[string]string{
	SyncStalls: "mirroring stands still at 97 %", SyncNever: "mirroring never begins", SplitRoles: "it says that it serves, whoever does",
	Usurps: "it takes over by itself after its next start", StaysBack: "it does not take over when it is told to",
}

// Join makes a pair of two boxes, or a cluster of more under a name; the first one serves. They have what follows the first one in common.
func Join(name string, boxes ...*Box) error {
	if name == "" && len(boxes) != 2 || name != "" && len(boxes) < 3 {
		return fmt.Errorf("%d boxes are neither a pair nor a cluster", len(boxes))
	}
	g := &Group{name: name, boxes: boxes}
	for _, b := range boxes {
		b.mu.Lock()
		b.group, b.herd = g, boxes[0].herd
		b.mu.Unlock()
	}
	return nil
}

// phaseOf is the phase of a box and how long it has been ready.
func (b *Box) phaseOf() (phase int, since time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.phase(), b.readyFor()
}

// armed reports whether a fault is set.
func (b *Box) armed(name string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	_, ok := b.st.Faults[name]
	return ok
}

// settle has another one serve when the one that did is away. The caller holds the lock of the group.
func (g *Group) settle() {
	for i, b := range g.boxes {
		if phase, _ := b.phaseOf(); i != g.leader && phase == ready {
			b.mu.Lock()
			usurps := b.hit(Usurps)
			b.mu.Unlock()
			if usurps {
				g.leader = i
			}
		}
	}
	if phase, _ := g.boxes[g.leader].phaseOf(); phase == ready {
		return
	}
	for i, b := range g.boxes {
		if phase, since := b.phaseOf(); i != g.leader && phase == ready {
			if since < mirrorTime {
				g.cold++
			}
			g.leader = i
			return
		}
	}
}

// serves reports whether the box is the one that serves. The caller holds no lock of a box.
func (b *Box) serves() bool {
	b.mu.Lock()
	g := b.group
	b.mu.Unlock()
	if g == nil {
		return true
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.settle()
	return g.boxes[g.leader] == b
}

// mirrors is how far a box mirrors the one that serves, in its own words. The caller holds the lock of the group.
func (g *Group) mirrors(b *Box) string {
	lead := g.boxes[g.leader]
	_, mine := b.phaseOf()
	_, its := lead.phaseOf()
	up := min(mine, its)
	switch {
	case up < 0:
		return "waits"
	case b.armed(SyncNever) || lead.armed(SyncNever):
		return "not begun"
	}
	done := min(float64(up)/float64(mirrorTime), 1)
	if b.armed(SyncStalls) || lead.armed(SyncStalls) {
		done = min(done, 0.97)
	}
	if done >= 1 {
		return "complete"
	}
	return fmt.Sprintf("%.0f %% mirrored", done*100)
}

// TellGroup says which role the box has, beside whom or among whom, and how far it mirrors.
func TellGroup(s *Shell, _ map[string]string) error {
	b := s.b
	b.mu.Lock()
	g := b.group
	b.mu.Unlock()
	if g == nil {
		s.say("alone")
		return nil
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.settle()
	words := map[bool]string{true: "active", false: "standby"}
	if g.name != "" {
		words = map[bool]string{true: "leader", false: "follower"}
	}
	leads := g.boxes[g.leader] == b || b.armed(SplitRoles)
	how := g.mirrors(b)
	if g.boxes[g.leader] == b { // it tells of the one that is furthest
		how = "waits"
		for _, o := range g.boxes {
			if o != b {
				if h := g.mirrors(o); how == "waits" || h == "complete" {
					how = h
				}
			}
		}
	}
	if g.name != "" {
		s.say("%s of %s, %s", words[leads], g.name, how)
		return nil
	}
	mate := g.boxes[1-slices.Index(g.boxes, b)]
	s.say("%s beside %s, %s", words[leads], mate.Serial, how)
	return nil
}

// TakeOver makes the box the one that serves.
func TakeOver(s *Shell, _ map[string]string) error {
	b := s.b
	b.mu.Lock()
	g := b.group
	b.mu.Unlock()
	if g == nil {
		return errors.New("it stands alone")
	}
	if b.armed(StaysBack) {
		return nil
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.mirrors(b) != "complete" {
		g.cold++
	}
	g.leader = slices.Index(g.boxes, b)
	return nil
}

// Cold counts how often a box took over that was not in step.
func (b *Box) Cold() int {
	if b.group == nil {
		return 0
	}
	b.group.mu.Lock()
	defer b.group.mu.Unlock()
	return b.group.cold
}

// groupFaults are those of boxes in a group.
func (b *Box) groupFaults() (names []string) {
	if b.group == nil {
		return nil
	}
	for name := range groupFaultTexts {
		names = append(names, name)
	}
	return names
}
