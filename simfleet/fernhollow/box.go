// Package fernhollow simulates a small box on which writing a dialect can be practised (docs/walkthrough.md). Its command line is as awkward as
// command lines are: a prompt for each mode, in colours; a greeting with a line that looks like a prompt; a pager; work in the background;
// questions before what cannot be undone; numbers with separators; a time in its configuration that differs at every look; a sum that is weak; images in
// a folder. It starts images as they lie on its storage, by a list of boot statements.
//
// Its state is kept on disk ([Open]); [Box] is a [verimorph/simfleet/box.Box].
package fernhollow

import (
	"bytes"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/terminal"
)

// Maker is the maker's name, as fleet files say it.
const Maker = "Fernhollow"

// Images is the folder of images, as commands name it.
const Images = "store:/images/"

// What can go wrong with such a box.
const (
	BadStart = "bad-start" // the first image of the boot list cannot be started: the box starts the second
	JobFails = "job-fails" // work in the background goes wrong
	Mute     = "mute"      // it says nothing
)

var faults = []box.FaultKind{
	{Name: BadStart, Text: "the first image of the boot list cannot be started; the second is"},
	{Name: JobFails, Text: "work in the background goes wrong"},
	{Name: Mute, Text: "connections are accepted and nothing is ever said"},
}

// A Spec says what a box is.
type Spec struct {
	Name, Model, Serial, Address, User, Password, Privileged, Version, Config string
	Line                                                                      string // host:port of its console line; "": none
	Storage                                                                   int64  // bytes
}

// A Box is one simulated box.
type Box struct {
	spec   Spec
	dir    string
	factor float64
	host   *box.Host
	mu     sync.Mutex
	st     state
}

type state struct {
	HostKey, Password, Privileged string
	Config, Sealed                string   // running and saved configuration
	Boot                          []string // names of images, in the order in which they are tried
	Running                       string   // image
	BootAt                        time.Time
	Boots, JobsBegun              int
	Jobs                          []job
	Faults                        box.Faults

	// Of boxes with named copies.
	System           string // version of the system
	SystemAt         time.Time
	From, Next, Once string // which installation runs, and which is started next
	Copies           []copied
	InMenu           bool // it hangs in its boot menu
}

// job is work in the background.
type job struct {
	Began  time.Time
	Failed string // "": it goes well
	Result string
}

// jobTakes is how long work in the background takes.
const jobTakes = 20 * time.Second

var rise = box.Rise{Answers: 25 * time.Second, SignsIn: 35 * time.Second, AllUp: 60 * time.Second}

// Open loads a box from its folder, or makes a new one there. Time runs factor times faster.
func Open(spec Spec, dir string, factor float64, log *slog.Logger) (*Box, error) {
	b := &Box{spec: spec, dir: dir, factor: max(factor, 1)}
	b.host = &box.Host{Name: spec.Name, Line: spec.Line, Attend: b.line, Address: func() string { return b.spec.Address }, State: b.network, SignIn: b.signIn, Request: b.request, Log: log, Factor: factor,
		HostKey: func() string { b.mu.Lock(); defer b.mu.Unlock(); return b.st.HostKey }}
	if err := os.MkdirAll(b.store(), 0o700); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(filepath.Join(dir, "state.json"))
	if os.IsNotExist(err) {
		return b, b.Reset()
	}
	if err == nil {
		err = json.Unmarshal(data, &b.st)
	}
	return b, err
}

func (b *Box) store() string { return filepath.Join(b.dir, "images") }

func imageName(version string) string { return "lb-" + version + ".img" }

// Reset implements box.Box: what runs is the only image on its storage.
func (b *Box) Reset() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	st := state{HostKey: b.st.HostKey, Password: b.st.Password, Privileged: b.st.Privileged, Config: b.spec.Config, Sealed: b.spec.Config, Boots: 1,
		Running: imageName(b.spec.Version), Boot: []string{imageName(b.spec.Version)}, BootAt: time.Now().Add(-time.Duration(float64(23*24*time.Hour) / b.factor)), Faults: box.Faults{},
		System: b.spec.Version, SystemAt: time.Now().Add(-24 * time.Hour), From: system, Next: system}
	if st.HostKey == "" {
		st.HostKey, st.Password, st.Privileged = box.NewHostKey(), b.spec.Password, b.spec.Privileged
		for _, p := range []*string{&st.Password, &st.Privileged} {
			if *p == "" {
				*p = box.Random(16)
			}
		}
	}
	b.st = st
	var image bytes.Buffer
	err := firmware.Make(&image, &firmware.Header{Maker: Maker, Models: []string{b.spec.Model}, Version: b.spec.Version, Payload: 128 << 10})
	return errors.Join(err, os.RemoveAll(b.store()), os.MkdirAll(b.store(), 0o700), os.WriteFile(filepath.Join(b.store(), st.Running), image.Bytes(), 0o600), b.save())
}

// save writes the state; the caller holds the lock.
func (b *Box) save() error {
	return box.Save(filepath.Join(b.dir, "state.json"), &b.st)
}

// Start implements box.Box.
func (b *Box) Start() error { return b.host.Start() }

// Stop implements box.Box.
func (b *Box) Stop() { b.host.Stop() }

// Access implements box.Box.
func (b *Box) Access() box.Access {
	b.mu.Lock()
	defer b.mu.Unlock()
	return box.Access{Name: b.spec.Name, Address: b.spec.Address, User: b.spec.User, Password: b.st.Password, Watchword: b.st.Privileged, HostKey: box.PublicKey(b.st.HostKey), Line: b.spec.Line, Dialect: map[bool]string{false: "fernhollow", true: "fernhollow-5"}[b.copies()]}
}

// Look implements box.Box.
func (b *Box) Look() box.Look {
	b.mu.Lock()
	defer b.mu.Unlock()
	return box.Look{Name: b.spec.Name, Maker: Maker, Model: b.spec.Model, Version: b.version(), Phase: rise.Phase(b.up()), Faults: b.st.Faults, Can: faults}
}

// Arm implements box.Box.
func (b *Box) Arm(name string, f box.Fault) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := b.st.Faults.Arm(name, f, faults); err != nil {
		return err
	}
	return b.save()
}

// Heal implements box.Box.
func (b *Box) Heal(name string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.st.Faults, name)
	return b.save()
}

// Boots is how often the box was started, for tests.
func (b *Box) Boots() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.st.Boots
}

// Config is the running configuration, for tests.
func (b *Box) Config() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.st.Config
}

// up is the box's own time since its start; the caller holds the lock.
func (b *Box) up() time.Duration { return b.since(b.st.BootAt) }

// since is the box's own time since a moment.
func (b *Box) since(t time.Time) time.Duration {
	return time.Duration(float64(time.Since(t)) * b.factor)
}

// version is what runs; the caller holds the lock.
func (b *Box) version() string {
	return strings.TrimSuffix(strings.TrimPrefix(b.st.Running, "lb-"), ".img")
}

func (b *Box) network() box.State {
	b.mu.Lock()
	defer b.mu.Unlock()
	_, mute := b.st.Faults[Mute]
	return box.State{Open: !b.st.InMenu && b.up() >= rise.Answers, SignIn: !b.st.InMenu && b.up() >= rise.SignsIn, Mute: mute}
}

func (b *Box) signIn(user, password string, _ net.Addr) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return user == b.spec.User && subtle.ConstantTimeCompare([]byte(password), []byte(b.st.Password)) == 1
}

// request answers a shell or SFTP.
func (b *Box) request(s *box.Session, r *ssh.Request) bool {
	switch {
	case r.Type == "shell":
		go func() {
			t := terminal.New(s)
			defer t.Close()
			(&shell{b: b, out: t, height: max(s.Height, 10)}).run()
		}()
	case r.Type == "subsystem" && box.Text(r) == "sftp":
		go func() {
			defer s.Close()
			f := &folder{b}
			_ = sftp.NewRequestServer(s, sftp.Handlers{FileGet: f, FilePut: f, FileCmd: f, FileList: f}, sftp.WithRSAllocator()).Serve()
		}()
	default:
		return false
	}
	return true
}

// restart starts the first image of the boot list that can be started, with the sealed configuration; the caller holds the lock.
func (b *Box) restart() {
	if b.copies() {
		b.startNext()
		return
	}
	for i, name := range b.st.Boot {
		if i == 0 && b.st.Faults.Hit(BadStart) || !b.starts(name) {
			continue
		}
		b.st.Running = name
		break
	}
	b.st.Config, b.st.BootAt, b.st.Jobs = b.st.Sealed, time.Now(), nil
	b.st.Boots++
	_ = b.save()
}

// starts reports whether an image is whole and for this box.
func (b *Box) starts(name string) bool {
	f, err := os.Open(filepath.Join(b.store(), name))
	if err != nil {
		return false
	}
	defer f.Close()
	h, err := firmware.Read(f)
	return err == nil && slices.Contains(h.Models, b.spec.Model)
}

// room is what the storage has in all and free, in bytes.
func (b *Box) room() (total, free int64) {
	entries, _ := os.ReadDir(b.store())
	free = b.spec.Storage
	for _, e := range entries {
		if st, err := e.Info(); err == nil {
			free -= st.Size()
		}
	}
	return b.spec.Storage, max(free, 0)
}

// plain is the name of an image in the folder of images, as a command names it.
func plain(path string) (string, error) {
	name := strings.TrimPrefix(path, Images)
	if name == path || name == "" || name != filepath.Base(name) {
		return "", fmt.Errorf("images are named with their folder, as in %slb-1.0.img", Images)
	}
	return name, nil
}

// BootList is the boot list as the box prints it, for tests.
func (b *Box) BootList() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	text, _ := b.tell("boot")
	return strings.Split(strings.TrimSuffix(text, "\n"), "\n")
}

// JobsBegun is how often work in the background was begun, for tests.
func (b *Box) JobsBegun() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.st.JobsBegun
}

// name is the box's name, as its configuration says it.
func (b *Box) name() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	for line := range strings.Lines(b.st.Config) {
		if name, ok := strings.CutPrefix(strings.TrimSpace(line), "name "); ok {
			return name
		}
	}
	return b.spec.Name
}
