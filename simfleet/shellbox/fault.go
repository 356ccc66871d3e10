package shellbox

import (
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"

	"verimorph/simfleet/box"
)

// Names of faults, and of what a person does at the box.
const (
	DropTransfer    = "drop-transfer"
	CorruptTransfer = "corrupt-transfer"
	LowRoom         = "low-room"
	LowPlaces       = "low-places"
	InstallFails    = "install-fails"
	NeverReturn     = "never-return"
	SlowReturn      = "slow-return"
	OldVersion      = "old-version"
	NewHostKey      = "new-host-key"
	LoseConfig      = "lose-configuration"
	ServiceDown     = "service-down"
	PartBad         = "part-bad"
	StuckWork       = "stuck-work"
	ComponentFails  = "component-fails"
	RefusesFile     = "refuses-file"
	Mute            = "mute"
	NoLicence       = "no-licence"
	LogErrors       = "log-errors"
	ClockWrong      = "clock-wrong"
	UsersLate       = "users-late"
	Chatter         = "chatter"
	SwappedUnit     = "swapped-unit"
	StaysAlone      = "stays-alone"
	LosesItsWay     = "loses-its-way"
	ByHandKey       = "by-hand-key-to-service"
	ByHandCard      = "by-hand-card-in"
	CardRots        = "card-rots"
)

// FaultTexts says what each does.
var FaultTexts = map[string]string{
	DropTransfer:     "a file that comes breaks off after VALUE bytes",
	CorruptTransfer:  "one byte of a file that comes is wrong",
	LowRoom:          "only VALUE bytes are left for files",
	LowPlaces:        "only VALUE bytes are left where installations lie",
	InstallFails:     "the next installation breaks half-way",
	NeverReturn:      "the next start does not come back",
	SlowReturn:       "starting takes VALUE times as long",
	OldVersion:       "the next start is from the old installation again",
	NewHostKey:       "the next start makes another host key",
	LoseConfig:       "the next start of another installation has an empty configuration",
	ServiceDown:      "after the next start one service stays down, with VALUE 1 at once",
	PartBad:          "a part is out of order after the next start, with VALUE 1 at once",
	StuckWork:        "draining never comes to an end",
	ComponentFails:   "the next update of a component fails",
	RefusesFile:      "the next file that is put back is refused",
	Mute:             "connections are accepted and nothing is ever said",
	LogErrors:        "the next start leaves errors in its records",
	ClockWrong:       "its clock is VALUE seconds ahead",
	UsersLate:        "after each start the right password is refused for VALUE seconds",
	Chatter:          "it prints messages by itself, and its answers come in odd pieces",
	SwappedUnit:      "another unit of the same model stands in its place",
	NeverCalls:       "it does not ask what it is to become",
	PowerInTheMiddle: "the power goes once while it becomes what it was handed",
	StaysAlone:       "told whom to follow, it starts anew in its factory state and stands alone",
	LosesItsWay:      "told whom to follow, it never arrives there",
	NoLicence:        "its licences have run out, until another is added",
	ByHandKey:        "somebody turns the key switch to service",
	ByHandCard:       "somebody puts a card with all images of the maker in",
	CardRots:         "what is written onto a card is not what can be read from it",
}

// needed is what a box has to be for a fault to make sense; those that are not named go with any box that runs firmware.
var needed = map[string]func(b *Box) bool{
	NeverCalls:       func(b *Box) bool { return b.Calls != "" },
	PowerInTheMiddle: func(b *Box) bool { return b.Calls != "" },
	StaysAlone:       func(b *Box) bool { return b.m.Firmware.Follows },
	LosesItsWay:      func(b *Box) bool { return b.m.Firmware.Follows },
	LowPlaces:        func(b *Box) bool { return b.m.Firmware.Unpack },
	NoLicence:        func(b *Box) bool { return b.m.Firmware.Rights != nil },
	ByHandKey:        func(b *Box) bool { return b.m.Firmware.Variables != nil },
	ByHandCard:       func(b *Box) bool { return b.m.Firmware.Medium != "" },
	CardRots:         func(b *Box) bool { return b.m.Firmware.Medium != "" },
	StuckWork:        func(b *Box) bool { return b.m.Firmware.Drains },
	LoseConfig:       func(b *Box) bool { return b.m.Firmware.Areas > 1 },
	ComponentFails:   func(b *Box) bool { return b.m.Firmware.Components != nil },
}

// FaultNames are those that such boxes know, sorted.
func (b *Box) FaultNames() (names []string) {
	for name := range FaultTexts {
		if fits := needed[name]; b.m.Firmware.Areas > 0 && (fits == nil || fits(b)) {
			names = append(names, name)
		}
	}
	names = slices.Concat(names, b.unitFaults(), b.herdFaults(), b.groupFaults())
	slices.Sort(names)
	return names
}

// Arm gives the box a fault, or has a person do something at it.
func (b *Box) Arm(name string, f box.Fault) error {
	if err := box.Known(name, b.FaultNames()); err != nil {
		return err
	}
	if b.armHerd(name, &f) {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	switch name {
	case ByHandKey:
		b.st.Variables["key-switch"] = "service"
	case ByHandCard:
		b.st.Medium = true
	case NoLicence:
		b.st.Rights = []string{}
	default:
		b.st.Faults[name] = f
	}
	return b.save()
}

// LicenceKey is what whoever sells licences gives for one of a box.
func LicenceKey(serial, licence string) string {
	sum := sha256.Sum256([]byte(serial + " may be " + licence))
	return fmt.Sprintf("%x", sum[:10])
}

// admit gives the box a licence. The key is asked for and not shown.
func Admit(s *Shell, args map[string]string) error {
	fmt.Fprint(s.w, "key: ")
	key, err := s.readLine(false)
	if err != nil {
		return errGone
	}
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	if key != LicenceKey(s.b.Serial, args["right"]) {
		return fmt.Errorf("that key is not for %s of %s", args["right"], s.b.Serial)
	}
	if !slices.Contains(s.b.st.Rights, args["right"]) {
		s.b.st.Rights = append(s.b.st.Rights, args["right"])
	}
	return s.b.save()
}

// Heal takes a fault away.
func (b *Box) Heal(name string) error {
	if b.armHerd(name, nil) {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	switch name {
	case ByHandKey:
		b.st.Variables["key-switch"] = "run"
	case ByHandCard:
		b.st.Medium = false
	case NoLicence:
		b.st.Rights = slices.Clone(b.m.Firmware.Rights)
	}
	delete(b.st.Faults, name)
	return b.save()
}

// hit lets an armed fault strike and reports whether it did. The caller holds the lock.
func (b *Box) hit(name string) bool {
	struck := b.st.Faults.Hit(name)
	if struck {
		b.log.Info("fault strikes", "fault", name)
	}
	return struck
}

// A Status is a look from outside.
type Status struct {
	Name, Version, Phase string
	Sent, Spoilt, Bricks int
	Boots, Installs      int
	Faults               map[string]box.Fault
	Areas                []string
	Resting              bool
	Components           map[string]string
	Main                 string
	Password             string
}

// Status returns where the box stands.
func (b *Box) Status() Status {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := Status{Name: b.Name, Version: b.version(), Phase: phaseNames[b.phase()], Boots: b.st.Boots, Installs: b.st.Installs,
		Sent: b.st.Sent, Spoilt: b.st.Spoilt, Bricks: b.st.Bricks, Faults: map[string]box.Fault{}, Resting: b.st.Resting,
		Components: map[string]string{}, Main: b.st.Parts[b.m.Main], Password: b.st.Password}
	for k, v := range b.st.Faults {
		s.Faults[k] = v
	}
	for k, v := range b.st.Components {
		s.Components[k] = v
	}
	for _, a := range b.st.Areas {
		s.Areas = append(s.Areas, strings.TrimSpace(a.Version+" "+a.State))
	}
	return s
}

// Look implements box.Box.
func (b *Box) Look() box.Look {
	st := b.Status()
	out := box.Look{Name: st.Name, Maker: b.Maker, Model: b.Model, Version: st.Version, Phase: st.Phase, Faults: st.Faults, Can: []box.FaultKind{}}
	for _, name := range b.FaultNames() {
		out.Can = append(out.Can, box.FaultKind{Name: name, Text: FaultTexts[name] + unitFaultTexts[name] + herdFaultTexts[name] + groupFaultTexts[name]})
	}
	return out
}
