// Package e2e tests the whole system the way people meet it: the built service with its own PostgreSQL database and a
// simulated fleet, through the client, the API and the console.
package e2e

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"verimorph/api/gen"
	"verimorph/core/catalog"
	"verimorph/internal/dbtest"
	"verimorph/simfleet"
	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
)

var (
	binDir, imageDir string
	number           atomic.Int32 // of environments: each has its own addresses
)

func TestMain(m *testing.M) { os.Exit(testMain(m)) }

func testMain(m *testing.M) int {
	dir, err := os.MkdirTemp("", "verimorph-e2e-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	binDir, imageDir = filepath.Join(dir, "bin"), filepath.Join(dir, "images")
	if err := os.Mkdir(binDir, 0o755); err != nil {
		panic(err)
	}
	build := exec.Command("go", "build", "-race", "-o", binDir, "../cmd/verimorph", "../cmd/verimorphd")
	if out, err := build.CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%v\n%s", err, out))
	}
	c, found := catalog.ReadDir(os.DirFS("../demo/catalog"))
	if len(found.Errors()) > 0 {
		panic(found)
	}
	c.Families = []*catalog.Family{c.Family("th"), c.Family("pw")} // those of other makers come from the release site, or on a card
	if _, err := firmware.MakeAll(c, imageDir); err != nil {
		panic(err)
	}
	return dbtest.Main(m)
}

// env is one installation with its fleet.
type env struct {
	t        *testing.T
	n        int32
	dir      string
	factor   float64
	database string
	password string
	fleet    *simfleet.Fleet
	service  *exec.Cmd
	log      *syncBuffer
	url      string
	transfer string
	calls    string // where new devices call
	offline  string // age recipients beside the installation
	control  string // URL of the simulated fleet's control, when the service is to know it
}

type syncBuffer struct {
	mu  chan struct{}
	buf bytes.Buffer
}

func newSyncBuffer() *syncBuffer { return &syncBuffer{mu: make(chan struct{}, 1)} }

func (s *syncBuffer) Write(p []byte) (int, error) {
	s.mu <- struct{}{}
	defer func() { <-s.mu }()
	return s.buf.Write(p)
}

func (s *syncBuffer) String() string {
	s.mu <- struct{}{}
	defer func() { <-s.mu }()
	return s.buf.String()
}

// simulated describes one simulated firewall of a test.
type simulated struct {
	name, site, model, version, idle, transfer string
	serial                                     string
	flash                                      int64  // bytes; 0: 24 MiB
	sessions                                   int    // 0: 900
	mate, cluster                              string // that stands by for it; that it belongs to
	maker, config                              string // of boxes that are no firewalls; config is a file of the demo
	olderPasswords                             bool
	edit                                       *strings.Replacer // of its configuration
	lineOnly                                   bool              // it has a console line and nothing else
	faults                                     map[string]box.Fault
	units                                      []shellbox.UnitSpec // beside the first one
	followers                                  []simfleet.Followers
	blank                                      bool   // as it comes out of its crate
	replaces                                   string // the one whose cables it gets once that is unplugged
	calls                                      bool   // a blank one that asks the service what it is to become; it is not in the records
}

// hollen is the firewall of the demo's story.
func hollen() simulated {
	return simulated{name: "hollen-fw1", model: "TH-60", version: "4.2.3", idle: "4.2.1"}
}

// setUp starts a fleet and a service and loads everything that the boxes need. Time runs factor times faster.
func setUp(t *testing.T, factor float64, boxes ...simulated) *env {
	t.Helper()
	e := &env{t: t, n: number.Add(1), dir: t.TempDir(), factor: factor, log: newSyncBuffer()}
	e.database = dbtest.New(t)
	e.url, e.transfer, e.calls = freeAddress(t), freeAddress(t), freeAddress(t)
	e.startFleet(boxes)
	t.Cleanup(e.killService)
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("the service's log:\n%s", tail(e.log.String(), 6000))
		}
	})
	e.startService()
	e.signIn()
	e.must(append([]string{"catalogue", "load", "../demo/catalog/tarnholm-th.yaml"}, firewallFiles()...)...)
	for _, b := range boxes {
		if !b.calls {
			e.addDevice(b)
		}
	}
	return e
}

// firewallFiles say what the statements of the firewalls' configurations mean, and how they are converted.
func firewallFiles() []string {
	schemas, _ := filepath.Glob("../demo/catalog/schemas/th-*.yaml")
	conversions, _ := filepath.Glob("../demo/catalog/conversions/th-*.yaml")
	return append(schemas, conversions...)
}

// manages finds the address at which a configuration of the demo says that its box is managed.
var manages = regexp.MustCompile(`  manage 127\.\S+`)

func (e *env) startFleet(boxes []simulated) {
	file := simfleet.File{Format: simfleet.Format}
	for i, b := range boxes {
		text, err := os.ReadFile("../demo/configs/" + b.name + ".cfg")
		if err != nil {
			like := map[bool]string{true: "hollen-fw1", false: "gullnes-fw1"}[strings.HasPrefix(b.version, "4.")] // in the form of its train
			text, err = os.ReadFile("../demo/configs/" + like + ".cfg")
		}
		if b.config != "" {
			text, err = os.ReadFile("../demo/configs/" + b.config)
		}
		require.NoError(e.t, err)
		if b.edit != nil {
			text = []byte(b.edit.Replace(string(text)))
		}
		text = manages.ReplaceAll(text, fmt.Appendf(nil, "  manage 127.63.%d.%d", e.n, i+1))
		require.NoError(e.t, os.WriteFile(filepath.Join(e.dir, b.name+".cfg"), text, 0o600))
		address, line := fmt.Sprintf("127.63.%d.%d:2022", e.n, i+1), ""
		if b.lineOnly {
			address, line = "", fmt.Sprintf("127.63.%d.%d:7001", e.n, i+1)
		}
		file.Devices = append(file.Devices, simfleet.Device{Name: b.name, Mate: b.mate, Cluster: b.cluster, Line: line, LineOnly: b.lineOnly, Maker: cmp.Or(b.maker, "Tarnholm"), OlderPasswords: b.olderPasswords, Model: b.model, Serial: cmp.Or(b.serial, fmt.Sprint("S", i)), User: "bosun",
			Address: address, Version: b.version, Idle: b.idle, Flash: cmp.Or(b.flash, 24<<20), Config: b.name + ".cfg", Sessions: cmp.Or(b.sessions, 900), Faults: b.faults,
			Units: b.units, Followers: b.followers, Seats: 600, Replaces: b.replaces, Blank: b.blank || b.calls, Calls: map[bool]string{true: "https://" + e.calls}[b.calls]})
	}
	data, err := yaml.Marshal(file)
	require.NoError(e.t, err)
	name := filepath.Join(e.dir, "fleet.yaml")
	require.NoError(e.t, os.WriteFile(name, data, 0o600))
	require.NoError(e.t, os.Mkdir(filepath.Join(e.dir, "fleet"), 0o700))
	e.fleet, err = simfleet.Load(name, filepath.Join(e.dir, "fleet"), imageDir, e.factor, slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(e.t, err)
	require.NoError(e.t, e.fleet.Start())
	e.t.Cleanup(e.fleet.Stop)
}

// openSite starts the makers' release site with the images of the demo, and tells the service about it.
func (e *env) openSite() {
	e.t.Helper()
	c, found := catalog.ReadDir(os.DirFS("../demo/catalog"))
	require.Empty(e.t, found)
	site, err := e.fleet.OpenSite(c, "127.0.0.1:0")
	require.NoError(e.t, err)
	e.t.Cleanup(func() { _ = site.Close() })
	data, err := os.ReadFile(filepath.Join(e.dir, "fleet", "site.json"))
	require.NoError(e.t, err)
	var access struct{ URL, User, Password string }
	require.NoError(e.t, json.Unmarshal(data, &access))
	out, stderr, code := e.client(access.Password+"\n", "site", "set", "makers", "-url", access.URL, "-user", access.User)
	require.Equal(e.t, 0, code, out+stderr)
}

var addresses atomic.Int32

// freeAddress is an address that nothing else uses, and that nothing can take while a service is down: each has a loopback
// host of its own.
func freeAddress(*testing.T) string {
	n := addresses.Add(1)
	return fmt.Sprintf("127.63.%d.%d:8420", 200+n/200, 1+n%200)
}

// startService starts the service and waits until it is ready.
func (e *env) startService() {
	e.t.Helper()
	host, _, err := net.SplitHostPort(e.url)
	require.NoError(e.t, err)
	e.service = exec.Command(filepath.Join(binDir, "verimorphd"), "-listen", e.url, "-transfer-listen", e.transfer, "-bootstrap-listen", e.calls, "-data", filepath.Join(e.dir, "data"),
		"-time-factor", fmt.Sprint(e.factor), "-lease", "2s", "-receive-sftp", host+":0", "-receive-ftp", host+":0", "-receive-tftp", host+":0", "-offline-recipient", e.offline, "-simulation", e.control,
		"-syslog-udp", host+":5514", "-syslog-relays", "127.0.0.1", "-snmp-traps", host+":1162")
	e.service.Env = append(os.Environ(), "VERIMORPH_DATABASE_URL="+e.database, "GORACE=halt_on_error=1 atexit_sleep_ms=0")
	stdout := newSyncBuffer()
	e.service.Stdout, e.service.Stderr = stdout, e.log
	e.service.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(e.t, e.service.Start())
	require.Eventually(e.t, func() bool {
		resp, err := http.Get("http://" + e.url + "/readyz")
		if err != nil {
			return false
		}
		defer resp.Body.Close()
		return resp.StatusCode == http.StatusOK
	}, 30*time.Second, 20*time.Millisecond, "the service does not get ready")
	if _, after, ok := strings.Cut(stdout.String(), "Password, shown this once: "); ok {
		e.password, _, _ = strings.Cut(after, "\n")
	}
}

// killService is kill -9.
func (e *env) killService() {
	if e.service != nil && e.service.ProcessState == nil {
		_ = e.service.Process.Kill()
		_ = e.service.Wait()
	}
}

func (e *env) signIn() {
	e.t.Helper()
	out, stderr, code := e.client(e.password+"\n", "sign-in", "engineer", "-server", "http://"+e.url)
	require.Equal(e.t, 0, code, out+stderr)
}

func (e *env) addDevice(b simulated) {
	e.t.Helper()
	a := e.access(b.name)
	transfer := b.transfer
	if transfer == "" {
		transfer = "sftp"
	}
	add := []string{"device", "add", b.name, "-site", cmp.Or(b.site, "Pier Test"), "-address", a.Address, "-dialect", a.Dialect, "-user", a.User, "-transfer", transfer, "-web", a.Web}
	if b.lineOnly {
		line := e.box(b.name).Line
		add = append(add, "-address", line, "-console", line, "-console-only")
	}
	out, stderr, code := e.client(a.Password+"\n"+a.Watchword+"\n"+a.Token+"\n", add...)
	require.Equal(e.t, 0, code, out+stderr)
	for password, versions := range map[string]string{a.OlderPassword: a.OlderVersion, a.Plate: ""} {
		if password == "" {
			continue
		}
		out, stderr, code = e.client(password+"\n", "credential", "add", "-device", b.name, "-user", a.User, "-versions", versions)
		require.Equal(e.t, 0, code, out+stderr)
	}
	if a.OlderWatchword != "" {
		out, stderr, code = e.client(a.OlderWatchword+"\n", "credential", "add", "-device", b.name, "-kind", "privileged", "-versions", a.OlderVersion)
		require.Equal(e.t, 0, code, out+stderr)
	}
	if a.Community != "" {
		out, stderr, code = e.client(a.Community+"\n", "credential", "add", "-device", b.name, "-kind", "snmp-community")
		require.Equal(e.t, 0, code, out+stderr)
	}
	e.must("device", "refresh", b.name)
}

// access is how to get into a box.
func (e *env) access(name string) box.Access {
	b := e.fleet.Box(name)
	require.NotNil(e.t, b, name)
	return b.Access()
}

// firewall is a simulated firewall; box is a box of another maker.
func (e *env) firewall(name string) *tarnholm.Box {
	b, ok := e.fleet.Box(name).(*tarnholm.Box)
	require.True(e.t, ok, name)
	return b
}

func (e *env) box(name string) *shellbox.Box {
	b, ok := e.fleet.Box(name).(*shellbox.Box)
	require.True(e.t, ok, name)
	return b
}

// addImages puts images into the store.
func (e *env) addImages(names ...string) {
	e.t.Helper()
	for _, n := range names {
		e.must("image", "add", filepath.Join(imageDir, n))
	}
}

// client runs the built client.
func (e *env) client(stdin string, args ...string) (stdout, stderr string, code int) {
	e.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, filepath.Join(binDir, "verimorph"), args...)
	cmd.Env = append(os.Environ(), "VERIMORPH_SESSION="+filepath.Join(e.dir, "session.json"), "GORACE=atexit_sleep_ms=0")
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	_ = cmd.Run()
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// must runs the client and fails the test unless it exits 0.
func (e *env) must(args ...string) string {
	e.t.Helper()
	out, stderr, code := e.client("", args...)
	require.Equal(e.t, 0, code, "%v\n%s%s", args, out, stderr)
	return out
}

// refused runs the client and fails the test unless it exits with the code and says every text.
func (e *env) refused(code int, texts []string, args ...string) string {
	e.t.Helper()
	out, stderr, got := e.client("", args...)
	require.Equal(e.t, code, got, "%v\n%s%s", args, out, stderr)
	for _, text := range texts {
		require.Contains(e.t, out+stderr, text)
	}
	return out + stderr
}

// begin drafts, approves and starts a change and returns its number.
func (e *env) begin(device, to string) string {
	e.t.Helper()
	id := fmt.Sprint(e.draft(device, to))
	e.must("change", "approve", id)
	e.must("change", "start", id)
	return id
}

func (e *env) draft(device, to string) int64 {
	e.t.Helper()
	var ch gen.Change
	require.NoError(e.t, json.Unmarshal([]byte(e.must("change", "draft", device, "-to", to, "-json")), &ch))
	return ch.Id
}

func (e *env) change(id string) (ch gen.Change) {
	e.t.Helper()
	require.NoError(e.t, json.Unmarshal([]byte(e.must("change", "show", id, "-json")), &ch))
	return ch
}

// await waits until a change is as wanted.
func (e *env) await(id string, what string, is func(gen.Change) bool) (ch gen.Change) {
	e.t.Helper()
	require.Eventually(e.t, func() bool { ch = e.change(id); return is(ch) }, 90*time.Second, 30*time.Millisecond, "change %s: %s", id, what)
	return ch
}

func (e *env) awaitEnd(id string) gen.Change {
	e.t.Helper()
	return e.await(id, "ends", func(ch gen.Change) bool { return ch.EndedAt != nil })
}

// awaitStep waits until a step of a kind in a hop (from 1) runs.
func (e *env) awaitStep(id string, hop int, kind string) {
	e.t.Helper()
	e.await(id, "reaches "+kind, func(ch gen.Change) bool {
		for _, s := range ch.Steps {
			if s.Hop == hop && s.Kind == kind && s.State != gen.StepStateWaiting {
				return true
			}
		}
		return ch.EndedAt != nil
	})
}

func stepOf(ch gen.Change, hop int, kind string) gen.Step {
	for _, s := range ch.Steps {
		if s.Hop == hop && s.Kind == kind {
			return s
		}
	}
	return gen.Step{}
}

func tail(s string, n int) string { return s[max(0, len(s)-n):] }

var storyImages = []string{"th60-4.2.9.img", "th60-5.0.7.img", "th60-5.4.2.img"}
