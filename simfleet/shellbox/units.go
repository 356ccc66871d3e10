package shellbox

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"verimorph/simfleet/firmware"
)

// Boxes of several units: stacks, and chassis with two supervisors. One unit leads, and speaks for all of them; each runs firmware of its own.

// Crew is how the units of a box behave. Times are the box's own, after the start of a unit.
type Crew struct {
	Leads, Follows string        // what the roles are called
	Room           int64         // bytes on each unit
	Takes          int64         // bytes of an installation on a unit
	Apart          time.Duration // between the return of one unit and of the next, when all start
	Load           time.Duration // after it is up: until it has loaded what its ports run
	Align          time.Duration // then: until it is in step with the one that leads
	Components     []string      // of the box's components, those that each unit has of its own
	Single         bool          // a unit can be started by itself, and hand over
}

// A UnitSpec says what a unit is, beside the first one.
type UnitSpec struct {
	Serial string           `yaml:"serial"`
	Files  map[string]int64 `yaml:"files"` // what else lies on it: name and bytes
}

type unit struct {
	Serial     string
	Version    string
	Held       []string // releases that lie on it, the one that runs among them; two at most
	Files      map[string]int64
	Components map[string]string
	BootAt     time.Time
	Copies     time.Time // when it began to copy a release; zero: it does not
	Gone       bool      // it does not come back
	Starts     int
}

// Faults of units.
const (
	UnitNoRoom    = "unit-no-room"
	UnitOld       = "unit-old-release"
	UnitGone      = "unit-gone"
	SlowMicrocode = "slow-microcode"
	NeverHot      = "never-hot"
	LeaderSwaps   = "leader-swaps"
	BothLead      = "both-lead"
)

// unitFaultTexts says what each does.
var unitFaultTexts = map[string]string{
	UnitNoRoom: "unit VALUE has no room", UnitOld: "unit VALUE starts with its old release", UnitGone: "unit VALUE does not come back from its next start",
	SlowMicrocode: "what the ports run takes ten times as long to load", NeverHot: "no unit gets further than 97 %", LeaderSwaps: "after the next start of all another unit leads",
	BothLead: "two units say that they lead",
}

// unpackUnits gives the box its units. The caller holds the lock, or is alone.
func (b *Box) unpackUnits() {
	b.st.Units, b.st.Leader, b.st.CutOff = nil, 0, 0
	k := b.m.Firmware.Crew
	if k == nil {
		return
	}
	for i, spec := range append([]UnitSpec{{Serial: b.Serial}}, b.Spec.Units...) {
		u := unit{Serial: spec.Serial, Version: b.Version, Held: []string{b.Version}, Files: maps.Clone(spec.Files), Components: map[string]string{}, BootAt: time.Now().Add(-10 * time.Hour)}
		if i > 0 && spec.Serial == "" {
			u.Serial = fmt.Sprintf("%s-%d", b.Serial, i+1)
		}
		for _, c := range k.Components {
			u.Components[c] = b.m.Firmware.Components[c]
		}
		b.st.Units = append(b.st.Units, u)
	}
}

// ofUnits reports whether each unit has a component of its own.
func (b *Box) ofUnits(component string) bool {
	return b.m.Firmware.Crew != nil && slices.Contains(b.m.Firmware.Crew.Components, component)
}

// ago is the box's own time since a moment.
func (b *Box) ago(t time.Time) time.Duration {
	return time.Duration(float64(time.Since(t)) * b.factor)
}

// stage is how far a unit is since its start. The caller holds the lock.
func (b *Box) stage(i int) (state string, there bool) {
	u, k, t := &b.st.Units[i], b.m.Firmware.Crew, &b.m.Firmware
	if u.Gone {
		return "", false
	}
	if _, never := b.st.Faults[NeverHot]; never && i != b.st.Leader {
		return "aligns 97%", true
	}
	load := k.Load
	if _, slow := b.st.Faults[SlowMicrocode]; slow {
		load *= 10
	}
	switch since := b.ago(u.BootAt); {
	case since < t.Login:
		return "", false
	case since < t.Ready:
		return "starts", true
	case since < t.Ready+load:
		return fmt.Sprintf("loads its ports %d%%", 100*(since-t.Ready)/load), true
	case i != b.st.Leader && since < t.Ready+load+k.Align:
		return fmt.Sprintf("aligns %d%%", 100*(since-t.Ready-load)/k.Align), true
	}
	if !u.Copies.IsZero() && b.ago(u.Copies) < t.Install {
		return fmt.Sprintf("copies %d%%", 100*b.ago(u.Copies)/t.Install), true
	}
	if u.Version != b.version() {
		return "in step, other release", true
	}
	return "in step", true
}

// freeOn is the room on a unit. The caller holds the lock.
func (b *Box) freeOn(i int) int64 {
	u, k := &b.st.Units[i], b.m.Firmware.Crew
	if f, ok := b.st.Faults[UnitNoRoom]; ok && f.Value == int64(i+1) {
		return 4096
	}
	free := k.Room - k.Takes*int64(len(u.Held))
	for _, size := range u.Files {
		free -= size
	}
	return max(free, 0)
}

// TellUnits lists the units.
func TellUnits(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) {
		n := 0
		for i := range b.st.Units {
			u := &b.st.Units[i]
			state, there := b.stage(i)
			if !there {
				continue
			}
			n++
			role := b.m.Firmware.Crew.Follows
			if _, both := b.st.Faults[BothLead]; i == b.st.Leader || both && i == 1 {
				role = b.m.Firmware.Crew.Leads
			}
			s.say("unit %d %s %s %s %s holds %s room %d of %d: %s", i+1, role, b.Model, u.Serial, u.Version, strings.Join(u.Held, ","), b.freeOn(i), b.m.Firmware.Crew.Room, state)
			for _, name := range slices.Sorted(maps.Keys(u.Files)) {
				s.say("on %d %s %d", i+1, name, u.Files[name])
			}
			for _, name := range sortedKeys(u.Components) {
				s.say("inner %s %s of %d", name, u.Components[name], i+1)
			}
		}
		s.say("%d units", n)
	})
	return nil
}

// unitOf is the unit that a command names. The caller holds the lock.
func (b *Box) unitOf(a map[string]string) (int, error) {
	n, err := strconv.Atoi(a["unit"])
	if err != nil || n < 1 || n > len(b.st.Units) {
		return 0, errors.New("there is no such unit")
	}
	if _, there := b.stage(n - 1); !there {
		return 0, errors.New("that unit does not answer")
	}
	return n - 1, nil
}

// SpreadPlace brings what a place holds onto all units. One that has no room is told, and the others have it all the same.
func SpreadPlace(s *Shell, a map[string]string) error {
	b := s.b
	b.mu.Lock()
	n := place(a)
	if n < 0 || n >= len(b.st.Areas) || b.st.Areas[n].State != "good" {
		b.mu.Unlock()
		return errors.New("nothing that could be spread is in there")
	}
	version, units := b.st.Areas[n].Version, len(b.st.Units)
	b.mu.Unlock()
	var full []string
	for i := range units {
		time.Sleep(b.sim(b.m.Firmware.Install / 8))
		b.mu.Lock()
		u := &b.st.Units[i]
		_, there := b.stage(i)
		switch {
		case !there:
		case slices.Contains(u.Held, version):
		case b.freeOn(i)+b.m.Firmware.Crew.Takes*int64(len(u.Held)-1) < b.m.Firmware.Crew.Takes:
			full = append(full, fmt.Sprintf("unit %d", i+1))
		default: // what does not run gives way
			u.Held = []string{u.Version, version}
		}
		b.mu.Unlock()
		s.percent(100 * (i + 1) / units)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := b.save(); err != nil || len(full) == 0 {
		return err
	}
	return fmt.Errorf("no room on %s", strings.Join(full, ", "))
}

// startUnit starts a unit with what it has ready. The caller holds the lock.
func (b *Box) startUnit(i int, to string) {
	u := &b.st.Units[i]
	u.Starts++
	u.BootAt, u.Copies = time.Now(), time.Time{}
	if f, ok := b.st.Faults[UnitOld]; ok && f.Value == int64(i+1) && f.Armed() {
		b.hit(UnitOld)
		return
	}
	if f, ok := b.st.Faults[UnitGone]; ok && f.Value == int64(i+1) && f.Armed() {
		b.hit(UnitGone)
		u.Gone = true
		return
	}
	if slices.Contains(u.Held, to) {
		u.Version = to
	}
}

// startAll starts all units from what the box starts; they come back one after the other. The caller holds the lock.
func (b *Box) startAll() {
	for i := range b.st.Units {
		b.startUnit(i, b.version())
		b.st.Units[i].BootAt = time.Now().Add(b.sim(time.Duration(i) * b.m.Firmware.Crew.Apart))
	}
	if b.hit(LeaderSwaps) {
		b.st.Leader = 1
	}
	if len(b.st.Units) == 1 {
		b.st.Units[0].Version, b.st.Units[0].Held = b.version(), []string{b.version()}
	}
	if n := len(b.st.Units); n > 0 && b.st.Units[b.st.Leader].Version != b.version() { // one that has the release leads
		for i := range b.st.Units {
			if b.st.Units[i].Version == b.version() {
				b.st.Leader = i
			}
		}
	}
	if len(b.st.Units) > 0 {
		b.st.Units[b.st.Leader].BootAt = time.Now()
	}
}

// willStart is the version that is started next. The caller holds the lock.
func (b *Box) willStart() string {
	if b.st.Once >= 0 {
		return b.st.Areas[b.st.Once].Version
	}
	return b.st.Areas[b.st.Next].Version
}

// RestartUnit starts one unit. When it is the one that leads, whoever is served is cut off.
func RestartUnit(s *Shell, a map[string]string) error {
	var err error
	s.locked(func(b *Box) {
		var i int
		if i, err = b.unitOf(a); err != nil {
			return
		}
		if i == b.st.Leader {
			b.st.CutOff++
			b.restart()
			err = errGone
			return
		}
		b.startUnit(i, b.willStart())
		err = b.save()
	})
	return err
}

// HandOver has a unit take over that follows. When none is in step, whoever is served is cut off.
func HandOver(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) {
		to := -1
		for i := range b.st.Units {
			state, there := b.stage(i)
			ready := i != b.st.Leader && there && strings.HasPrefix(state, "in step")
			if ready && (to < 0 || b.st.Units[i].Version == b.willStart()) {
				to = i
			}
		}
		if to < 0 {
			b.st.CutOff++
			b.restart()
			return
		}
		b.st.Leader = to
		for i, area := range b.st.Areas {
			if area.Version == b.st.Units[to].Version && i != b.st.Running {
				b.runFrom(i)
				break
			}
		}
		_ = b.save()
		b.host.Cut()
	})
	return errGone
}

// BringAlong gives a unit the release that runs; it starts anew with it.
func BringAlong(s *Shell, a map[string]string) error {
	b := s.b
	b.mu.Lock()
	defer b.mu.Unlock()
	i, err := b.unitOf(a)
	if err != nil {
		return err
	}
	u := &b.st.Units[i]
	if !u.Copies.IsZero() {
		return errors.New("it copies already")
	}
	u.Copies = time.Now()
	version := b.version()
	time.AfterFunc(b.sim(b.m.Firmware.Install), func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		if u := &b.st.Units[i]; !u.Copies.IsZero() {
			if !slices.Contains(u.Held, version) {
				u.Held = []string{u.Version, version}
			}
			b.startUnit(i, version)
			_ = b.save()
		}
	})
	return b.save()
}

// CleanUnit removes a file from a unit.
func CleanUnit(s *Shell, a map[string]string) error {
	var err error
	s.locked(func(b *Box) {
		var i int
		if i, err = b.unitOf(a); err != nil {
			return
		}
		if _, there := b.st.Units[i].Files[a["file"]]; !there {
			err = errors.New("that unit has no such file")
			return
		}
		delete(b.st.Units[i].Files, a["file"])
		err = b.save()
	})
	return err
}

// UpdateUnit writes a component of a unit.
func UpdateUnit(s *Shell, a map[string]string) error {
	b := s.b
	data, err := b.read(a["file"])
	if err != nil {
		return err
	}
	h, err := firmware.Read(strings.NewReader(string(data)))
	if err != nil || h.Part != a["inner"] || !slices.Contains(h.Models, b.Model) {
		return errors.New("that file is not for it")
	}
	for p := 25; p <= 100; p += 25 {
		time.Sleep(b.sim(6 * time.Second))
		s.percent(p)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	i, err := b.unitOf(a)
	if err != nil {
		return err
	}
	if b.hit(ComponentFails) {
		return errors.New("the part did not take it")
	}
	b.st.Units[i].Components[a["inner"]] = h.Version
	return b.save()
}

// A UnitStatus is a look at a unit from outside.
type UnitStatus struct {
	Version, State string
	Starts         int
	Leads          bool
	Files          []string
	Components     map[string]string
}

// UnitStatus returns how the units stand, and how often whoever is served was cut off although another unit could have served.
func (b *Box) UnitStatus() (units []UnitStatus, cutOff int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range b.st.Units {
		u := &b.st.Units[i]
		state, there := b.stage(i)
		if !there {
			state = "away"
		}
		units = append(units, UnitStatus{u.Version, state, u.Starts, i == b.st.Leader, slices.Sorted(maps.Keys(u.Files)), maps.Clone(u.Components)})
	}
	return units, b.st.CutOff
}

// unitFaults are those that a box with several units knows.
func (b *Box) unitFaults() []string {
	if len(b.Spec.Units) == 0 {
		return nil
	}
	return slices.Collect(maps.Keys(unitFaultTexts))
}
