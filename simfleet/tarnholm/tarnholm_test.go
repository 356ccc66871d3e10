package tarnholm

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
)

const factor = 400

var boxes atomic.Int32

func newSpec(t *testing.T) Spec {
	config, err := os.ReadFile("../../demo/configs/hollen-fw1.cfg")
	require.NoError(t, err)
	ln, err := net.Listen("tcp", fmt.Sprintf("127.64.0.%d:0", boxes.Add(1)))
	require.NoError(t, err)
	defer ln.Close()
	return Spec{Name: "box", Model: "TH-60", Serial: "S", Address: ln.Addr().String(), User: "bosun", Version: "4.2.9", Idle: "4.2.1", Flash: 8 << 20, Config: string(config), Sessions: 100}
}

func start(t *testing.T, spec Spec, dir string) *Box {
	b, err := Open(spec, dir, factor, slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(func() {
		defer func() { _ = recover() }() // stopped by the test already
		b.Stop()
	})
	return b
}

// talk signs in and types lines, waiting for the end of each answer; it returns everything that was seen.
func talk(t *testing.T, b *Box, height int, lines ...string) string {
	t.Helper()
	conn, err := ssh.Dial("tcp", b.spec.Address, &ssh.ClientConfig{User: "bosun", Auth: []ssh.AuthMethod{ssh.Password(b.Access().Password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 5 * time.Second})
	require.NoError(t, err)
	defer conn.Close()
	s, err := conn.NewSession()
	require.NoError(t, err)
	require.NoError(t, s.RequestPty("vt100", height, 80, nil))
	in, err := s.StdinPipe()
	require.NoError(t, err)
	var out bytes.Buffer
	r, err := s.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, s.Shell())
	done := make(chan struct{})
	go func() { _, _ = io.Copy(&out, r); close(done) }()
	for _, l := range lines {
		_, _ = io.WriteString(in, l)
		if !strings.HasSuffix(l, " ") {
			_, _ = io.WriteString(in, "\r")
		}
		time.Sleep(15 * time.Millisecond)
	}
	_, _ = io.WriteString(in, "bye\r")
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		t.Fatal("the box does not hang up")
	}
	return strings.ReplaceAll(out.String(), "\r\n", "\n")
}

func raised(b *Box, lines ...string) []string {
	return append([]string{"page off", "raise", b.Access().Watchword}, lines...)
}

func put(t *testing.T, b *Box, name, model, version string) {
	var img bytes.Buffer
	require.NoError(t, firmware.Make(&img, &firmware.Header{Maker: "Tarnholm", Models: []string{model}, Version: version, Payload: 100_000}))
	require.NoError(t, os.WriteFile(b.onFlash(name), img.Bytes(), 0o600))
}

func TestWhatReleasesMakeOfAConfiguration(t *testing.T) {
	old := "# written by 4.2.9\nbox\n  name x\ntranslate web\n  arrive outside a\n  deliver b\ntunnel t\n  peer p\n"
	for _, c := range []struct {
		wrote, to string
		has, not  string
		lost      int
	}{
		{"4.2.9", "5.0.7", "rewrite web\n  match outside a\n  to b\n", "translate", 0},
		{"4.2.3", "5.0.7", "tunnel t", "web", 3},
		{"4.2.9", "5.4.2", "tunnel t", "web", 3},
		{"4.2.3", "4.2.9", "translate web", "rewrite", 0},
		{"5.4.2", "6.0.1", "far-end p", "peer", 0},
		{"6.0.1", "5.4.2", "peer p", "far-end", 0},
		{"5.0.7", "4.2.9", "name x", "tunnel", 2},
	} {
		got, lost := convert(old, c.wrote, c.to)
		if c.wrote == "6.0.1" {
			got, lost = convert(strings.ReplaceAll(old, "peer", "far-end"), c.wrote, c.to)
		}
		assert.Equal(t, c.lost, lost, "%s to %s", c.wrote, c.to)
		assert.Contains(t, got, c.has, "%s to %s", c.wrote, c.to)
		assert.NotContains(t, got, c.not, "%s to %s", c.wrote, c.to)
		assert.True(t, strings.HasPrefix(got, "# written by "+c.to+"\n"))
	}
}

func TestShell(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	out := talk(t, b, 50, "tell box", "tell ports", "tell tunnels", "tell sessions", "tell nothing", "frob", "keep", "raise", "wrong", "help")
	for _, text := range []string{
		"running   4.2.9 in slot a", "services  ready", "  p1    up", "control-room         up", "  open 100",
		"no: tell what? one of: box | slots", `no: "frob" is not a verb; try help`, "no: not at this level; raise first", "no: wrong watchword", "  fit     FILE into a | b [regardless]",
	} {
		assert.Contains(t, out, text)
	}
	assert.NotContains(t, out, b.Access().Watchword)
	assert.NotContains(t, talk(t, b, 50, raised(b)...), b.Access().Watchword, "what is typed there is not echoed")
}

func TestPaging(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	whole := b.Status().Config
	stopped := talk(t, b, 10, "tell config running", "q ")
	assert.Contains(t, stopped, "[more: space, all: a, end: q]")
	assert.NotContains(t, stopped, "user bosun")
	last := whole[strings.LastIndex(whole, "user bosun"):]
	assert.Contains(t, talk(t, b, 10, "tell config running", "a "), last)
	assert.Contains(t, talk(t, b, 10, "page off", "tell config running"), last)
}

func TestUnsavedIsLostAndSavedIsKept(t *testing.T) {
	dir := t.TempDir()
	b := start(t, newSpec(t), dir)
	out := talk(t, b, 50, raised(b, "write port p2 / role crew", "tell box")...)
	assert.Contains(t, out, "unsaved   yes")
	require.Contains(t, b.Status().Config, "port p2\n  role crew\n")
	b.restart()
	assert.NotContains(t, b.Status().Config, "role crew")
	assert.Equal(t, phaseOff.String(), b.Status().Phase)
	require.Eventually(t, func() bool { return b.Status().Phase == "ready" }, 10*time.Second, 5*time.Millisecond)
	talk(t, b, 50, raised(b, "write port p2 / role crew", "write port p9 / role spare", "keep")...)
	b.restart()
	assert.Contains(t, b.Status().Config, "role crew")
	assert.Contains(t, b.Status().Config, "port p9\n  role spare\n")

	// The state survives the end of the simulation.
	b.Stop()
	again, err := Open(b.spec, dir, factor, slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err)
	assert.Equal(t, b.Status().Config, again.Status().Config)
	assert.Equal(t, b.Access(), again.Access())
	assert.Equal(t, 3, again.Status().Boots)
}

func TestFit(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	put(t, b, "good.img", "TH-60", "5.0.7")
	put(t, b, "other.img", "TH-80", "5.0.7")
	put(t, b, "far.img", "TH-60", "5.4.2")
	require.NoError(t, os.WriteFile(b.onFlash("junk.img"), []byte("junk"), 0o600))
	half, err := os.ReadFile(b.onFlash("good.img"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(b.onFlash("half.img"), half[:50_000], 0o600))
	half[60_000] ^= 1
	require.NoError(t, os.WriteFile(b.onFlash("bad.img"), half, 0o600))
	out := talk(t, b, 50, raised(b, "fit other.img into b", "fit junk.img into b", "fit half.img into b", "fit bad.img into b", "fit none.img into b", "fit ../x into b",
		"fit good.img into a", "fit far.img into b", "fit good.img into c", "next c", "sum none.img", "drop none.img", "fetch x")...)
	for _, text := range []string{
		"no: other.img is for TARNHOLM TH-80, this is a Tarnholm TH-60", "no: junk.img: too short for an image", "no: half.img: payload has", "no: bad.img: payload does not match its sum",
		"no: there is no file none.img", "no: which file?", "no: slot a is running", "no: 5.4.2 does not follow 4.2.9; add regardless", "no: fit FILE into a or b", "no: next a or b?", "no: fetch ADDRESS as FILE",
	} {
		assert.Contains(t, out, text)
	}
	assert.Equal(t, 0, b.Status().Fits)

	require.NoError(t, b.fit("5.0.7", "b", false, func(int) {}))
	assert.Equal(t, 1, b.Status().Fits)
	assert.Contains(t, talk(t, b, 50, raised(b, "next b", "tell slots")...), "b     5.0.7        good, next")

	require.NoError(t, b.Arm(FitFails, box.Fault{}))
	assert.ErrorContains(t, b.fit("5.0.7", "b", false, func(int) {}), "writing slot b failed at 50 %")
	assert.Contains(t, talk(t, b, 50, raised(b, "next b")...), "no: slot b is broken")
}

func TestPowerCutWhileWriting(t *testing.T) {
	dir := t.TempDir()
	spec := newSpec(t)
	b, err := Open(spec, dir, 1, slog.New(slog.NewTextHandler(io.Discard, nil))) // at real pace, so that it is caught in the act
	require.NoError(t, err)
	go func() { _ = b.fit("5.0.7", "b", false, func(int) {}) }()
	require.Eventually(t, func() bool { return b.Status().Fits == 1 }, 20*time.Second, time.Millisecond)
	assert.ErrorContains(t, b.fit("5.0.7", "b", false, func(int) {}), "slot b is spoilt")
	b.Stop()
	again, err := Open(spec, dir, factor, slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err)
	assert.Equal(t, "broken", again.st.Slots["b"].State)
}

func TestGoingBackBringsTheOldConfiguration(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	require.NoError(t, b.fit("5.0.7", "b", false, func(int) {}))
	b.mu.Lock()
	b.st.Next = "b"
	b.mu.Unlock()
	b.restart()
	assert.Contains(t, b.Status().Config, "rewrite web-tickets")
	b.mu.Lock()
	b.st.Next = "a"
	b.mu.Unlock()
	b.restart()
	assert.Equal(t, "4.2.9", b.Status().Version)
	assert.Contains(t, b.Status().Config, "translate web-tickets")
}

func TestServicesComeBackLate(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	b.mu.Lock()
	defer b.mu.Unlock()
	at := func(d time.Duration) { b.st.BootAt = time.Now().Add(-time.Duration(float64(d) / factor)) }
	at(phaseBegins[phaseReady] + time.Second)
	assert.Empty(t, b.tunnelsUp())
	assert.Less(t, b.sessions(), 50)
	at(phaseBegins[phaseReady] + tunnelGap + 2*time.Second)
	assert.Len(t, b.tunnelsUp(), 1)
	at(phaseBegins[phaseReady] + time.Hour)
	assert.Len(t, b.tunnelsUp(), 2)
	assert.Equal(t, 100, b.sessions())
	b.st.Config, _ = dropBlocks(b.st.Config, "translate")
	assert.Equal(t, 30, b.sessions(), "without translation most sessions cannot be")
	b.st.Faults[SlowReturn] = box.Fault{Value: 3}
	at(phaseBegins[phaseReady])
	assert.Equal(t, phaseOff, b.phase(), "three times as long")
}

func TestFlash(t *testing.T) {
	spec := newSpec(t)
	spec.Files = map[string]int64{"old.bin": 1000}
	b := start(t, spec, t.TempDir())
	conn, err := ssh.Dial("tcp", b.spec.Address, &ssh.ClientConfig{User: "bosun", Auth: []ssh.AuthMethod{ssh.Password(b.Access().Password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	require.NoError(t, err)
	defer conn.Close()
	c, err := sftp.NewClient(conn)
	require.NoError(t, err)
	list, err := c.ReadDir(".")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "old.bin", list[0].Name())

	f, err := c.Create("new.bin")
	require.NoError(t, err)
	_, err = f.Write(make([]byte, 9<<20))
	assert.ErrorContains(t, err, "no room on flash")
	_ = f.Close()
	require.NoError(t, c.Remove("new.bin"))
	assert.Error(t, c.Rename("old.bin", "x"), "no such verb")
	assert.Error(t, c.Mkdir("d"))
	_, err = c.Create("/a/b")
	assert.Error(t, err, "no folders")
	_, err = c.Open("../state.json")
	assert.Error(t, err, "nothing outside the flash")
	_, err = os.Stat(filepath.Join(b.dir, "state.json"))
	require.NoError(t, err)

	running, err := c.Open("running.cfg")
	require.NoError(t, err)
	data, err := io.ReadAll(running)
	require.NoError(t, err)
	assert.Equal(t, b.Status().Config, string(data))

	require.NoError(t, b.Arm(LowFlash, box.Fault{Value: 500}))
	assert.Contains(t, talk(t, b, 50, "tell flash"), "free 500")
	require.NoError(t, b.Heal(LowFlash))
	assert.NotContains(t, talk(t, b, 50, "tell flash"), "free 500")
}

func TestStartingBoxAnswersInStages(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	b.restart()
	seen := map[string]bool{}
	require.Eventually(t, func() bool {
		c, err := net.DialTimeout("tcp", b.spec.Address, time.Second)
		if err != nil {
			seen["off"] = true
			return false
		}
		defer c.Close()
		_, _, _, err = ssh.NewClientConn(c, b.spec.Address, &ssh.ClientConfig{User: "bosun", Auth: []ssh.AuthMethod{ssh.Password(b.Access().Password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
		if err != nil {
			seen["link"] = true
			return false
		}
		seen["login"] = true
		return b.Status().Phase == "ready"
	}, 20*time.Second, time.Millisecond)
	assert.Equal(t, map[string]bool{"off": true, "link": true, "login": true}, seen)
}

func TestFaultNames(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	assert.ErrorContains(t, b.Arm("explodes", box.Fault{}), `fault "explodes" is not known; known: chatter, clock-wrong, corrupt-transfer`)
	require.NoError(t, b.Arm(TunnelDown, box.Fault{Times: 2}))
	b.mu.Lock()
	hits := []bool{b.hit(TunnelDown), b.hit(TunnelDown), b.hit(TunnelDown), b.hit(NeverReturn)}
	b.mu.Unlock()
	assert.Equal(t, []bool{true, true, false, false}, hits)
	key := b.Access().HostKey
	require.NoError(t, b.Arm(NewHostKey, box.Fault{}))
	b.restart()
	assert.NotEqual(t, key, b.Access().HostKey)
	require.NoError(t, b.Reset())
	assert.Equal(t, "4.2.9", b.Status().Version)
	assert.Empty(t, b.Status().Faults)
}

func TestDamagedStateIsSaid(t *testing.T) {
	dir := t.TempDir()
	spec := newSpec(t)
	_, err := Open(spec, dir, 1, slog.Default())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "state.json"), []byte("{"), 0o600))
	_, err = Open(spec, dir, 1, slog.Default())
	require.ErrorContains(t, err, "state.json")
	assert.False(t, errors.Is(err, os.ErrNotExist))
}

// What a firewall says about its routes, neighbours, clock and log, and what faults make of it.
func TestRoutesNeighboursClockAndLog(t *testing.T) {
	b := start(t, newSpec(t), t.TempDir())
	out := talk(t, b, 24, "page off", "tell routes", "tell neighbours", "tell clock")
	for _, text := range []string{"0.0.0.0/0 in use", "p1   uplink", "p2   pier-switch", time.Now().UTC().Format("2006-01-02T15:")} {
		assert.Contains(t, out, text)
	}
	require.NoError(t, b.Arm(ClockWrong, box.Fault{Value: 7200}))
	require.NoError(t, b.Arm(LogErrors, box.Fault{}))
	assert.Contains(t, talk(t, b, 24, "tell clock"), time.Now().UTC().Add(2*time.Hour).Format("2006-01-02T15:"))
	assert.NotContains(t, talk(t, b, 24, "page off", "tell log"), "error: ")
	b.restart()
	b.mu.Lock()
	routes, neighbours := b.routes(), b.neighbours()
	b.mu.Unlock()
	assert.Empty(t, routes, "they come back when it is ready")
	assert.Empty(t, neighbours)
	require.Eventually(t, func() bool { return b.Status().Phase == "ready" }, 20*time.Second, 10*time.Millisecond)
	assert.Contains(t, talk(t, b, 24, "page off", "tell log"), "error: the packet engine was started twice")
	assert.Contains(t, talk(t, b, 24, "tell routes"), "in use")
}

// The console line tells what happens while the box starts, to whoever was there before and says nothing.
func TestTheLineTellsAStart(t *testing.T) {
	spec := newSpec(t)
	host, _, _ := net.SplitHostPort(spec.Address)
	spec.Line = net.JoinHostPort(host, "7001")
	b := start(t, spec, t.TempDir())
	c, err := net.Dial("tcp", spec.Line)
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, b.Arm(SlowReturn, box.Fault{Value: 4, Times: -1}))
	time.Sleep(100 * time.Millisecond)
	b.restart()
	_ = c.SetReadDeadline(time.Now().Add(20 * time.Second))
	seen := ""
	for buf := make([]byte, 200); !strings.Contains(seen, "services come next"); {
		n, err := c.Read(buf)
		require.NoError(t, err, seen)
		seen += string(buf[:n])
	}
	assert.Contains(t, seen, "name: ", "it waited for somebody to sign in")
	assert.Contains(t, seen, "starting from slot a: 4.2.9")
}
