// Package calderpath simulates the routers of Calderpath. They have a few words on a command line; their configuration goes over NETCONF,
// their firmware over gNOI, and what they measure over gNMI and SNMP. They start packages as they lie on their storage: the one that was activated, or
// the one before when that cannot be started.
//
// Their state is kept on disk ([Open]); [Box] is a [verimorph/simfleet/box.Box]. Nothing here is shared with the code that talks to devices, but the files
// that the open protocols are published in.
package calderpath

import (
	"bytes"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/snmpagent"
	"verimorph/simfleet/terminal"
)

// Maker is the maker's name, as fleet files say it.
const Maker = "Calderpath"

// What can go wrong with such a box.
const (
	BadStart     = "bad-start"      // the package that was activated cannot be started: the box starts the one before
	BreaksStream = "breaks-stream"  // the transfer of a package breaks off half-way
	Damages      = "damages"        // the package that arrives is damaged
	NewKey       = "new-key"        // it shows another certificate
	Mute         = "mute"           // it says nothing
	PortDown     = "port-down"      // a port stays down after the next start
	KeepsOld     = "keeps-old"      // a configuration that was committed is taken back, as if nobody confirmed it
	NotActivated = "not-activated"  // it says that it activates a package, and does not
	Complains    = "complains"      // it reports a fault to whoever listens, after its next start
	Forgets      = "forgets-config" // it starts with an empty configuration
	KeepsSerial  = "keeps-serial"   // it goes on as another platform with the serial that it had
	LosesLicence = "loses-licence"  // it goes on as another platform without its licences
	LosesName    = "loses-name"     // it goes on as another platform with a serial of another kind
)

var faults = []box.FaultKind{
	{Name: BadStart, Text: "the activated package cannot be started; the one before is"},
	{Name: BreaksStream, Text: "the transfer of a package breaks off half-way"},
	{Name: Damages, Text: "a package that arrives is damaged"},
	{Name: NewKey, Text: "it shows another certificate"},
	{Name: Mute, Text: "connections are accepted and nothing is ever said"},
	{Name: PortDown, Text: "the last port stays down after the next start"},
	{Name: KeepsOld, Text: "a committed configuration is taken back"},
	{Name: NotActivated, Text: "it says that it activates a package, and does not"},
	{Name: Complains, Text: "it reports a fault by itself after its next start"},
	{Name: Forgets, Text: "it starts with an empty configuration"},
	{Name: KeepsSerial, Text: "it goes on as another platform with the serial that it had"},
	{Name: LosesLicence, Text: "it goes on as another platform without its licences"},
	{Name: LosesName, Text: "it goes on as another platform with a serial of another kind"},
}

// A Spec says what a box is.
type Spec struct {
	Name, Model, Serial, Address, User, Password, Version, Config string
	Other                                                         string // version of a second package on its storage; "": none
	GRPC                                                          string // host:port of gNOI and gNMI; "": the usual port beside its address
	SNMP                                                          string // host:port of SNMP; "": port 1161 beside its address
	Storage                                                       int64  // bytes; 0: 4 MiB
	Memory                                                        int64  // bytes that the host gives it; 0: 4 GiB
	HostKind                                                      string // of the machine on which it is virtual; "": host-b
	Licences                                                      []string
}

// A Box is one simulated router.
type Box struct {
	spec   Spec
	dir    string
	factor float64
	log    *slog.Logger
	host   *box.Host
	rpc    *rpcHost
	agent  *snmpagent.Agent
	mu     sync.Mutex
	st     state
	nc     store // what NETCONF sessions share
}

type state struct {
	HostKey, Password string
	Model, Serial     string   // what it is now
	Licences          []string // classes
	Engine            string   // identifier of its SNMP engine, hexadecimal
	Before            string   // host key that it showed as the other platform
	Community         string   // of SNMP
	Certificate, Key  []byte   // DER
	Config            string
	Keys              string // its key ring
	Running, Next     string // packages
	BootAt            time.Time
	Boots, Installs   int
	Failed            string // why the activated package was not started; "": it was
	DownPort          bool
	Faults            box.Faults
}

var rise = box.Rise{Answers: 30 * time.Second, SignsIn: 45 * time.Second, AllUp: 90 * time.Second}

// Open loads a box from its folder, or makes a new one there. Time runs factor times faster.
func Open(spec Spec, dir string, factor float64, log *slog.Logger) (*Box, error) {
	if spec.Storage == 0 {
		spec.Storage = 4 << 20
	}
	if spec.GRPC == "" {
		host, _, err := net.SplitHostPort(spec.Address)
		if err != nil {
			return nil, err
		}
		spec.GRPC = net.JoinHostPort(host, "9339")
	}
	if spec.SNMP == "" {
		host, _, err := net.SplitHostPort(spec.Address)
		if err != nil {
			return nil, err
		}
		spec.SNMP = net.JoinHostPort(host, "1161")
	}
	b := &Box{spec: spec, dir: dir, factor: max(factor, 1), log: log}
	b.host = &box.Host{Name: spec.Name, Address: func() string { return b.spec.Address }, State: b.network, SignIn: b.signIn, Request: b.request,
		Log: log, Factor: factor,
		HostKey: func() string { b.mu.Lock(); defer b.mu.Unlock(); return b.st.HostKey }}
	b.rpc = &rpcHost{b: b}
	b.agent = &snmpagent.Agent{Objects: b.objects, Community: func() string { b.mu.Lock(); defer b.mu.Unlock(); return b.st.Community },
		Answers: func() bool { at := b.network(); return at.SignIn && !at.Mute }}
	if err := os.MkdirAll(b.packages(), 0o700); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(filepath.Join(dir, "state.json"))
	if os.IsNotExist(err) {
		return b, b.Reset()
	}
	if err == nil {
		err = json.Unmarshal(data, &b.st)
	}
	if err == nil && (b.st.Running == "" || b.st.Community == "" || b.st.Model == "") { // made before such boxes could change their firmware, spoke SNMP, or changed their platform
		return b, b.Reset()
	}
	return b, err
}

func (b *Box) packages() string { return filepath.Join(b.dir, "packages") }

// packageName is the file of a version, as the maker names it.
func packageName(model, version string) string {
	return strings.ToLower(model) + "-" + version + ".bin"
}

// Reset implements box.Box.
func (b *Box) Reset() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	st := state{HostKey: b.st.HostKey, Password: b.st.Password, Community: b.st.Community, Certificate: b.st.Certificate, Key: b.st.Key,
		Config: strings.ReplaceAll(b.spec.Config, "{{random}}", box.Random(16)), Keys: "key ring " + box.Random(16) + box.Random(16) + "\n",
		Model: b.spec.Model, Serial: b.spec.Serial, Licences: b.spec.Licences, Engine: engineOf(b.spec.Serial),
		Running: packageName(b.spec.Model, b.spec.Version), Next: packageName(b.spec.Model, b.spec.Version), BootAt: time.Now().Add(-10 * time.Hour), Boots: 1, Faults: box.Faults{}}
	if st.HostKey == "" {
		st.HostKey, st.Password = box.NewHostKey(), b.spec.Password
		if st.Password == "" {
			st.Password = box.Random(16)
		}
	}
	if st.Community == "" {
		st.Community = box.Random(16)
	}
	err := errors.Join(os.RemoveAll(b.packages()), os.MkdirAll(b.packages(), 0o700))
	for _, version := range []string{b.spec.Version, b.spec.Other} {
		if version == "" {
			continue
		}
		var image bytes.Buffer
		err = errors.Join(err, firmware.Make(&image, &firmware.Header{Maker: Maker, Models: []string{b.spec.Model}, Version: version, Payload: 192 << 10}),
			os.WriteFile(filepath.Join(b.packages(), packageName(b.spec.Model, version)), image.Bytes(), 0o600))
	}
	if st.Certificate == nil {
		var bad error
		st.Certificate, st.Key, bad = newCertificate(b.spec.Name)
		err = errors.Join(err, bad)
	}
	b.st = st
	return errors.Join(err, b.save())
}

// save writes the state; the caller holds the lock.
func (b *Box) save() error {
	return box.Save(filepath.Join(b.dir, "state.json"), &b.st)
}

// Start implements box.Box.
func (b *Box) Start() error {
	return errors.Join(b.host.Start(), b.rpc.start(), b.agent.Start(b.spec.SNMP))
}

// Stop implements box.Box.
func (b *Box) Stop() {
	b.host.Stop()
	b.rpc.stop()
	b.agent.Stop()
}

// Access implements box.Box.
func (b *Box) Access() box.Access {
	b.mu.Lock()
	defer b.mu.Unlock()
	return box.Access{Name: b.spec.Name, Address: b.spec.Address, User: b.spec.User, Password: b.st.Password, HostKey: box.PublicKey(b.st.HostKey),
		Dialect: "calderpath", Community: b.st.Community}
}

// GRPC is where gNOI and gNMI are offered, for tests.
func (b *Box) GRPC() string { return b.spec.GRPC }

// SNMP is where SNMP is offered, for tests.
func (b *Box) SNMP() string { return b.spec.SNMP }

// Look implements box.Box.
func (b *Box) Look() box.Look {
	b.mu.Lock()
	defer b.mu.Unlock()
	return box.Look{Name: b.spec.Name, Maker: Maker, Model: b.st.Model, Version: b.version(), Phase: rise.Phase(b.up()), Faults: b.st.Faults, Can: faults}
}

// Arm implements box.Box.
func (b *Box) Arm(name string, f box.Fault) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if name == NewKey {
		var err error
		if b.st.Certificate, b.st.Key, err = newCertificate(b.spec.Name); err != nil {
			return err
		}
		b.rpc.cut()
	}
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

// Stands is what runs, how often a package was taken, and how often the box was started, for tests.
func (b *Box) Stands() (version string, installs, boots int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.version(), b.st.Installs, b.st.Boots
}

// Config is the running configuration, for tests.
func (b *Box) Config() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.st.Config
}

// Part is the running configuration, which is the one part that can be changed, for tests.
func (b *Box) Part(string) string { return b.Config() }

// Change puts another running configuration there, as somebody at the box would.
func (b *Box) Change(_, config string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Config = config
	return b.save()
}

// up is the box's own time since its start; the caller holds the lock.
func (b *Box) up() time.Duration {
	return time.Duration(float64(time.Since(b.st.BootAt)) * b.factor)
}

// version is what runs; the caller holds the lock.
func (b *Box) version() string { return b.versionOf(b.st.Running) }

// versionOf is the version in the name of a package, behind that of the model.
func (b *Box) versionOf(name string) string {
	_, version, _ := strings.Cut(strings.TrimSuffix(name, ".bin"), "-")
	return version
}

func (b *Box) network() box.State {
	b.mu.Lock()
	defer b.mu.Unlock()
	_, mute := b.st.Faults[Mute]
	return box.State{Open: b.up() >= rise.Answers, SignIn: b.up() >= rise.SignsIn, Mute: mute}
}

func (b *Box) signIn(user, password string, _ net.Addr) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return user == b.spec.User && subtle.ConstantTimeCompare([]byte(password), []byte(b.st.Password)) == 1
}

// request answers a shell or NETCONF.
func (b *Box) request(s *box.Session, r *ssh.Request) bool {
	switch {
	case r.Type == "shell":
		go func() {
			t := terminal.New(s)
			defer t.Close()
			(&shell{b, t}).run()
		}()
	case r.Type == "subsystem" && box.Text(r) == "netconf":
		go func() {
			defer s.Close()
			b.netconf(s)
		}()
	default:
		return false
	}
	return true
}

// restart starts the activated package, or the one that ran when that cannot be started; the caller holds the lock.
func (b *Box) restart() {
	b.st.Failed = ""
	switch {
	case b.st.Faults.Hit(BadStart) || !b.starts(b.st.Next):
		b.st.Failed = b.versionOf(b.st.Next) + " cannot be started"
		b.st.Next = b.st.Running
	default:
		b.st.Running = b.st.Next
		b.becomes(b.modelOf(b.st.Running))
	}
	if b.st.Faults.Hit(Forgets) {
		b.st.Config = `<router name="factory"></router>`
	}
	b.st.DownPort = b.st.Faults.Hit(PortDown)
	b.st.BootAt = time.Now()
	b.st.Boots++
	b.nc.forget()
	_ = b.save()
	go func() { // whoever asked for it still gets an answer
		time.Sleep(50 * time.Millisecond)
		b.host.Cut()
		b.rpc.cut()
	}()
}

// starts reports whether a package is whole and for this box, as it is or as the other platform that it may go on as.
func (b *Box) starts(name string) bool {
	model := b.modelOf(name)
	return model != "" && (model == b.st.Model || b.mayBecome(model))
}

// free is how many bytes of the storage are free.
func (b *Box) free() int64 {
	free := b.spec.Storage
	entries, _ := os.ReadDir(b.packages())
	for _, e := range entries {
		if st, err := e.Info(); err == nil {
			free -= st.Size()
		}
	}
	return max(free, 0)
}

// portName is how the configuration names a port.
var portName = regexp.MustCompile(`<port>\s*<name>([^<]+)</name>`)

// ports are the ports by name, with whether each is up; the caller holds the lock.
func (b *Box) ports() (names []string, up map[string]bool) {
	up = map[string]bool{}
	for _, m := range portName.FindAllStringSubmatch(b.st.Config, -1) {
		names = append(names, m[1])
		up[m[1]] = b.up() >= rise.AllUp
	}
	if len(names) > 0 && b.st.DownPort {
		up[names[len(names)-1]] = false
	}
	return names, up
}
