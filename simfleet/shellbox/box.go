// Package shellbox simulates devices whose command line is a table of commands. The makers' packages say how their boxes behave ([Behaviour]):
// what they call things, what they can, how their firmware changes. From that a box gives and takes the parts of a backup (over HTTP
// with a token, by sending and fetching files over FTP and TFTP, or typed at the console line), and changes its firmware: in areas of which one is
// started, or in place with a return to the factory state. It keeps everything on disk, takes its own time for it, and goes wrong as its faults
// say.
//
// Everything a box says is invented; nothing here is shared with the code that talks to boxes.
package shellbox

import (
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
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

	"golang.org/x/crypto/ssh"
)

// A Spec says what a box is.
type Spec struct {
	Name, Maker, Model, Serial, Version string
	Older                               string    // version in the other area; "" is empty
	OlderPasswords                      bool      // it has a password of its own
	Address                             string    // host:port of its SSH side
	Line                                string    // host:port of its console line; "": none
	LineOnly                            bool      // it has no other side
	Blank                               bool      // as it comes out of its crate: in its factory state
	Calls                               string    // URL of the bootstrap server that it asks what it is to become; "": none
	Identity                            *Identity // with which it does; nil: it has none
	User, Password, Config              string
	Lines                               map[string]string // boxes whose console lines are plugged into this one: name and host:port
	MediumDir                           string            // what a card holds that somebody puts in
	Units                               []UnitSpec        // beside the first one
	Followers                           []FollowerSpec    // that follow it, or its pair or cluster
	Seats                               int               // how many may
}

// A Box is one simulated box.
type Box struct {
	OnVerb func(verb string) // hears of every command before it is carried out; nil: nobody

	Spec
	m      Behaviour
	dir    string
	factor float64
	log    *slog.Logger
	host   *box.Host
	web    *http.Server
	at     string // of the web side
	moves  string // address after the next start
	group  *Group // nil: it stands alone
	herd   *Herd  // what follows it, or its group; nil: nothing
	known  []*Box // whom it could follow, or who could follow it
	asks   func() // ends its calls
	mu     sync.Mutex
	st     state
}

type state struct {
	HostKey, Password, Token string
	Plate                    string // password of the factory state
	Parts                    map[string]string
	Started                  time.Time

	Areas               []area
	Running, Next, Once int // Once is -1 when none is chosen
	BootAt              time.Time
	Boots, Installs     int
	Sent                int // files that arrived whole
	Spoilt, Bricks      int // installations that another one spoilt, and starts from what cannot be started
	Components, Pending map[string]string
	CycledAt            time.Time
	Variables           map[string]string
	Resting             bool
	RestAt              time.Time
	Medium              bool
	Rights              []string // licences
	Mishaps             []string // what its records say went wrong
	Faults              box.Faults
	Units               []unit
	Leader              int    // which of them leads
	Follows             string // address of whom it follows; "": it stands alone
	Onboarded           bool   // it has become what it was handed when it called
	CutOff              int    // how often whoever is served was cut off although another unit could have served
}

// Open loads a box that behaves in some way from its folder, or makes a new one there. Time runs factor times faster.
func Open(m Behaviour, spec Spec, dir string, factor float64, log *slog.Logger) (*Box, error) {
	b := &Box{Spec: spec, m: m, dir: dir, factor: max(factor, 1), log: log.With("box", spec.Name)}
	b.host = b.network()
	if err := os.MkdirAll(filepath.Join(dir, "files"), 0o700); err != nil {
		return nil, err
	}
	if m.Firmware.Followers != nil {
		herd, err := newHerd(dir, spec.Followers, spec.Seats, spec.Version, factor)
		if err != nil {
			return nil, err
		}
		b.herd = herd
	}
	data, err := os.ReadFile(b.file())
	if os.IsNotExist(err) {
		return b, b.Reset()
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, &b.st); err != nil {
		return nil, fmt.Errorf("%s: %w", b.file(), err)
	}
	if b.st.Rights == nil {
		b.st.Rights = slices.Clone(b.m.Firmware.Rights)
	}
	if b.st.Units == nil {
		b.unpackUnits()
	}
	if b.st.Areas == nil { // made before the firmware of such boxes could change
		b.unpackFirmware()
	}
	for i, a := range b.st.Areas {
		if a.State == "writing" { // the power went while it was written
			b.st.Areas[i].State = "broken"
		}
	}
	return b, b.save()
}

func (b *Box) file() string { return filepath.Join(b.dir, "state.json") }

// Reset unpacks the box anew; its ways in stay.
func (b *Box) Reset() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.st.HostKey == "" {
		b.st.HostKey, b.st.Token, b.st.Plate, b.st.Password = box.NewHostKey(), box.Random(16), box.Random(16), b.Password
		if b.st.Password == "" {
			b.st.Password = box.Random(16)
		}
	}
	b.st.Parts, b.st.Started = b.m.Parts(b.Name, b.Serial), time.Now().Add(-time.Hour)
	b.st.Parts[b.m.Main] = strings.ReplaceAll(b.Config, "{{random}}", box.Random(16))
	b.unpackFirmware()
	if b.Blank {
		b.factory()
		b.st.Installs, b.st.Boots = 0, 1
	}
	if err := errors.Join(os.RemoveAll(filepath.Join(b.dir, "files")), os.MkdirAll(filepath.Join(b.dir, "files"), 0o700)); err != nil {
		return err
	}
	return b.save()
}

// unpackFirmware gives the box its first installations.
func (b *Box) unpackFirmware() {
	t := &b.m.Firmware
	b.st.Areas = []area{{Version: b.Version, State: "good"}}
	for i := 1; i < t.Areas; i++ {
		a := area{State: "empty"}
		if b.Older != "" && i == 1 {
			a = area{Version: b.Older, State: "good", Config: b.st.Parts[b.m.Main]}
			if b.OlderPasswords {
				a.Password = box.Random(16)
			}
		}
		b.st.Areas = append(b.st.Areas, a)
	}
	b.st.Running, b.st.Next, b.st.Once = 0, 0, -1
	b.st.BootAt, b.st.Boots, b.st.Installs = time.Now().Add(-10*time.Hour), 1, 0
	b.st.Components, b.st.Variables = maps.Clone(t.Components), maps.Clone(t.Variables)
	b.st.Rights = slices.Clone(t.Rights)
	b.unpackUnits()
	b.st.Pending, b.st.Faults, b.st.Resting, b.st.Medium = map[string]string{}, box.Faults{}, false, false
}

func (b *Box) save() error {
	return box.Save(b.file(), &b.st)
}

// Part returns what lies under a name, for tests.
func (b *Box) Part(name string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.st.Parts[name]
}

// Change puts something else under a name, as somebody at the box would.
func (b *Box) Change(name, text string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Parts[name] = text
	return b.save()
}

// PowerOffAndOn takes the power from the box and gives it back.
func (b *Box) PowerOffAndOn() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.restart()
}

// Access implements box.Box.
func (b *Box) Access() box.Access {
	b.mu.Lock()
	defer b.mu.Unlock()
	a := box.Access{Name: b.Name, Address: b.Address, User: b.User, Password: b.st.Password, HostKey: box.PublicKey(b.st.HostKey), Token: b.st.Token, Web: b.at, Line: b.Line, LineOnly: b.LineOnly, Dialect: b.m.Dialect, Calls: b.Calls != ""}
	for i, area := range b.st.Areas {
		if i != b.st.Running && area.Password != "" {
			a.OlderVersion, a.OlderPassword = area.Version, area.Password
		}
	}
	if b.m.Firmware.Reset || b.m.Firmware.Follows && !b.Blank {
		a.Plate = b.st.Plate
	}
	return a
}

// Start implements box.Box: SSH on its address, the web side on the next port, and its console line. While the box is off, nothing answers at its
// addresses but the line.
func (b *Box) Start() error {
	if b.m.Web && !b.LineOnly {
		host, port, _ := net.SplitHostPort(b.Address)
		n, _ := strconv.Atoi(port)
		ln, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(n+1)))
		if err != nil {
			return fmt.Errorf("box %s: %w", b.Name, err)
		}
		b.at = "http://" + ln.Addr().String()
		b.web = &http.Server{Handler: http.HandlerFunc(b.answer), ReadHeaderTimeout: 5 * time.Second}
		go func() { _ = b.web.Serve(ln) }()
	}
	if err := b.host.Start(); err != nil {
		return err
	}
	b.startCalling()
	return nil
}

// Stop implements box.Box.
func (b *Box) Stop() {
	if b.asks != nil {
		b.asks()
	}
	b.host.Stop()
	if b.web != nil {
		_ = b.web.Close()
	}
}

// network is the box's network side.
func (b *Box) network() *box.Host {
	return &box.Host{Name: b.Name, PassesOn: b.m.PassesOn, Line: b.Line, LineOnly: b.LineOnly, Attend: b.watchLine, Log: b.log, Factor: b.factor,
		Address: func() string {
			b.mu.Lock()
			defer b.mu.Unlock()
			return b.Address
		},
		State: func() box.State {
			b.mu.Lock()
			defer b.mu.Unlock()
			_, mute := b.st.Faults[Mute]
			alone := b.st.Follows == "" // else it speaks with whom it follows only
			return box.State{Open: alone && b.phase() >= linkUp, SignIn: b.phase() >= loginUp, Mute: mute}
		},
		HostKey: func() string {
			b.mu.Lock()
			defer b.mu.Unlock()
			return b.st.HostKey
		},
		SignIn: func(user, password string, _ net.Addr) bool {
			b.mu.Lock()
			defer b.mu.Unlock()
			return !b.usersLate() && user == b.User && subtle.ConstantTimeCompare([]byte(password), []byte(b.st.Password)) == 1
		},
		Request: func(s *box.Session, r *ssh.Request) bool {
			switch {
			case r.Type == "shell":
				go b.shell(s)
			default:
				return false
			}
			return true
		}}
}

// answer is the web side: parts are read and written under /parts/NAME, with the token.
func (b *Box) answer(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.phase() < loginUp {
		http.Error(w, "starting", http.StatusServiceUnavailable)
		return
	}
	if subtle.ConstantTimeCompare([]byte(r.Header.Get("Authorization")), []byte("Bearer "+b.st.Token)) != 1 {
		http.Error(w, "no", http.StatusUnauthorized)
		return
	}
	name, ok := strings.CutPrefix(r.URL.Path, "/parts/")
	if _, there := b.st.Parts[name]; !ok || !there {
		http.Error(w, "nothing of that name", http.StatusNotFound)
		return
	}
	if r.Method == http.MethodPut {
		data, err := io.ReadAll(io.LimitReader(r.Body, 8<<20))
		if err != nil || !json.Valid(data) {
			http.Error(w, "that is no JSON", http.StatusUnprocessableEntity)
			return
		}
		b.st.Parts[name] = string(data)
		_ = b.save()
		w.WriteHeader(http.StatusNoContent)
		return
	}
	_, _ = io.WriteString(w, b.st.Parts[name])
}

// usersLate reports whether the box does not know its users yet, though it answers. The caller holds the lock.
func (b *Box) usersLate() bool {
	f, ok := b.st.Faults[UsersLate]
	return ok && b.st.Boots > 1 && b.since() < b.m.Firmware.Login+time.Duration(f.Value)*time.Second
}

// serial is the number of the unit that stands there. The caller holds the lock.
func (b *Box) serial() string {
	if _, swapped := b.st.Faults[SwappedUnit]; swapped {
		return b.Serial + "-SWAPPED"
	}
	return b.Serial
}
