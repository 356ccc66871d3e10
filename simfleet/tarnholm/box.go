// Package tarnholm simulates Tarnholm TH firewalls: two slots, a flash of fixed size, running and saved
// configuration, restarts that take their time, sessions and tunnels that return late. A box speaks SSH and SFTP on an
// address of its own and keeps its state on disk, so that it survives the end of the simulation.
//
// Everything a box says is invented; nothing here is shared with the code that talks to boxes.
package tarnholm

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"verimorph/simfleet/box"
)

// A Spec says what a box is when it is taken out of its carton.
type Spec struct {
	Name, Model, Serial string
	Address             string // host:port of its SSH server
	User                string
	Password, Watchword string // drawn at random when empty
	Version, Idle       string // running version; version in the other slot, may be empty
	Flash               int64  // bytes for files
	Files               map[string]int64
	Config              string
	Sessions            int
	OlderPasswords      bool   // the installation in the other slot has passwords of its own
	Line                string // host:port of its console line; "": none
	Blank               bool   // as it comes out of its crate
}

// Maker is who makes these firewalls.
const Maker = "Tarnholm"

// A Box is one simulated firewall.
type Box struct {
	OnVerb func(verb string) // hears of every command before it is carried out; nil: nobody

	spec   Spec
	dir    string
	factor float64
	log    *slog.Logger

	spare    int64      // bytes that are free at least
	flashMu  sync.Mutex // one piece at a time goes into the flash
	mu       sync.Mutex
	st       state
	ensemble *ensemble // nil: it stands alone
	before   *Box      // whose place it takes; nil: nobody's
	host     *box.Host
}

// state is what the box keeps on disk.
type state struct {
	HostKey             string           `json:"hostKey"`
	Password, Watchword string           //
	Slots               map[string]*slot `json:"slots"`
	Running             string           `json:"running"`
	Next                string           `json:"next"`
	Config              string           `json:"config"` // running configuration
	BootAt              time.Time        `json:"bootAt"` // when the current start began, real time
	Boots               int              `json:"boots"`
	Fits                int              `json:"fits"`             // installations ever begun
	Sent                int              `json:"sent,omitempty"`   // images that arrived whole
	Spoilt              int              `json:"spoilt,omitempty"` // installations that were spoilt by another one
	Bricks              int              `json:"bricks,omitempty"` // starts from what cannot be started
	Faults              box.Faults       `json:"faults"`
	Log                 []string         `json:"log"`
	Holding             holding          `json:"holding"`
	Pending             *archive         `json:"pending,omitempty"` // an archive that the next start unpacks
	Refusals            int              `json:"refusals"`          // sign-ins in a row
	Active              bool             `json:"active,omitempty"`  // of a pair
	Address             string           `json:"address,omitempty"` // of its SSH server
	Key                 string           `json:"key,omitempty"`     // under which it writes secrets; "": its serial
}

type slot struct {
	Version  string `json:"version"`
	State    string `json:"state"`  // "good", "fitting", "broken", "empty"
	Config   string `json:"config"` // saved configuration
	Wrote    string `json:"wrote"`  // version that wrote it
	Fresh    bool   `json:"fresh"`  // not started since it was fitted
	Progress int    `json:"progress"`
	// Passwords that apply when it runs from here; empty: those that applied before.
	Password, Watchword string `json:",omitempty"`
}

// Open loads a box from its folder, or makes a new one there.
func Open(spec Spec, dir string, factor float64, log *slog.Logger) (*Box, error) {
	b := &Box{spec: spec, dir: dir, factor: factor, log: log.With("box", spec.Name)}
	b.host = b.network()
	if err := os.MkdirAll(filepath.Join(dir, "flash"), 0o700); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(b.stateFile())
	if os.IsNotExist(err) {
		return b, b.unpack()
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, &b.st); err != nil {
		return nil, fmt.Errorf("%s: %w", b.stateFile(), err)
	}
	if b.st.Address == "" {
		b.st.Address = spec.Address
	}
	if b.st.Holding == (holding{}) { // made before boxes held anything beside their configuration
		b.st.Holding = b.newHolding()
	}
	for name, s := range b.st.Slots {
		if s.State == "fitting" { // the power went while it was written
			s.State = "broken"
			b.note("slot %s: writing was cut short", name)
		}
	}
	return b, b.save()
}

// unpack gives the box its first state.
func (b *Box) unpack() error {
	s := b.spec
	idle := &slot{State: "empty"}
	if s.Blank {
		s.Config = blankConfig
	}
	config := "# written by " + s.Version + "\n" + strings.ReplaceAll(s.Config, "{{random}}", box.Random(20))
	if s.Idle != "" {
		idle = &slot{Version: s.Idle, State: "good", Config: config, Wrote: s.Version}
	}
	b.st = state{
		HostKey: box.NewHostKey(), Password: orRandom(s.Password), Watchword: orRandom(s.Watchword),
		Slots:   map[string]*slot{"a": {Version: s.Version, State: "good", Config: config, Wrote: s.Version}, "b": idle},
		Running: "a", Next: "a", Config: config, Faults: map[string]box.Fault{},
		BootAt: time.Now().Add(-time.Hour), Boots: 1, // it has been running for long
	}
	b.st.Holding, b.st.Address = b.newHolding(), s.Address
	if s.OlderPasswords {
		idle.Password, idle.Watchword = box.Random(12), box.Random(12)
	}
	for name, size := range s.Files {
		if err := os.WriteFile(b.onFlash(name), make([]byte, size), 0o600); err != nil {
			return err
		}
	}
	return b.save()
}

// Reset throws the box's state away and unpacks it anew; its passwords and host key stay.
func (b *Box) Reset() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := os.RemoveAll(filepath.Join(b.dir, "flash")); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(b.dir, "flash"), 0o700); err != nil {
		return err
	}
	key, password, watchword, older := b.st.HostKey, b.st.Password, b.st.Watchword, *b.st.Slots["b"]
	if err := b.unpack(); err != nil {
		return err
	}
	b.st.HostKey, b.st.Password, b.st.Watchword = key, password, watchword
	if b.st.Slots["b"].Password != "" && older.Password != "" {
		b.st.Slots["b"].Password, b.st.Slots["b"].Watchword = older.Password, older.Watchword
	}
	return b.save()
}

func (b *Box) stateFile() string { return filepath.Join(b.dir, "state.json") }
func (b *Box) onFlash(name string) string {
	return filepath.Join(b.dir, "flash", filepath.Base(name))
}
func (b *Box) sim(d time.Duration) time.Duration { return time.Duration(float64(d) / b.factor) }

// save writes the state whole or not at all. The caller holds the lock, or is alone.
func (b *Box) save() error {
	data, err := json.Marshal(&b.st)
	if err != nil {
		return err
	}
	tmp := b.stateFile() + ".new"
	if err := os.WriteFile(tmp, data, 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, b.stateFile())
}

// note adds a line to the box's own log.
func (b *Box) note(format string, args ...any) {
	line := fmt.Sprintf(format, args...)
	b.st.Log = append(b.st.Log, time.Now().UTC().Format(time.DateTime)+"  "+line)
	if len(b.st.Log) > 200 {
		b.st.Log = b.st.Log[len(b.st.Log)-200:]
	}
	b.log.Info(line)
}

// Access implements box.Box.
func (b *Box) Access() box.Access {
	b.mu.Lock()
	defer b.mu.Unlock()
	a := box.Access{Name: b.spec.Name, Address: b.st.Address, User: b.spec.User, Password: b.st.Password, Watchword: b.st.Watchword,
		HostKey: box.PublicKey(b.st.HostKey), Dialect: "tarnholm", Line: b.spec.Line}
	for name, s := range b.st.Slots {
		if name != b.st.Running && s.Password != "" {
			a.OlderVersion, a.OlderPassword, a.OlderWatchword = s.Version, s.Password, s.Watchword
		}
	}
	return a
}

// A Status is a look from outside, for tests and for the fleet's own page.
type Status struct {
	Name, Running, Version, Next string
	Phase                        string
	Boots, Fits, Spoilt, Bricks  int
	Sent                         int
	Slots                        map[string][2]string // version and state by slot
	Faults                       map[string]box.Fault
	Config                       string
	Refusals                     int
	Holding                      map[string]string
}

// Status returns where the box stands.
func (b *Box) Status() Status {
	b.mu.Lock()
	defer b.mu.Unlock()
	faults := map[string]box.Fault{}
	for k, v := range b.st.Faults {
		faults[k] = v
	}
	slots := map[string][2]string{}
	for name, s := range b.st.Slots {
		slots[name] = [2]string{s.Version, s.State}
	}
	return Status{b.spec.Name, b.st.Running, b.st.Slots[b.st.Running].Version, b.st.Next, b.phase().String(), b.st.Boots, b.st.Fits, b.st.Spoilt, b.st.Bricks, b.st.Sent, slots, faults, b.st.Config, b.st.Refusals, map[string]string{"users": b.st.Holding.Users, "licences": b.st.Holding.Licences, "certs": b.st.Holding.Certs, "cables": b.st.Holding.Cables}}
}

// Look implements box.Box.
func (b *Box) Look() box.Look {
	st := b.Status()
	out := box.Look{Name: st.Name, Maker: Maker, Model: b.spec.Model, Version: st.Version, Phase: st.Phase, Faults: st.Faults}
	for _, name := range FaultNames {
		out.Can = append(out.Can, box.FaultKind{Name: name, Text: FaultTexts[name]})
	}
	return out
}

func orRandom(s string) string {
	if s == "" {
		return box.Random(12)
	}
	return s
}
