package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/tarnholm"
	"verimorph/transfer"
)

// testFactor is how much faster than real the boxes in these tests are.
const testFactor = 300

var boxNumber atomic.Int32

// firewall starts a simulated firewall with the demo's configuration on an address of its own.
func firewall(t *testing.T, edit func(*tarnholm.Spec)) (*tarnholm.Box, testTarget) {
	config, err := os.ReadFile("../../demo/configs/hollen-fw1.cfg")
	require.NoError(t, err)
	ln, err := net.Listen("tcp", fmt.Sprintf("127.62.0.%d:0", boxNumber.Add(1)))
	require.NoError(t, err)
	spec := tarnholm.Spec{Name: "hollen-fw1", Model: "TH-60", Serial: "T1", Address: ln.Addr().String(), User: "bosun",
		Version: "4.2.9", Idle: "4.2.1", Flash: 16 << 20, Config: string(config), Sessions: 900}
	_ = ln.Close()
	if edit != nil {
		edit(&spec)
	}
	b, err := tarnholm.Open(spec, t.TempDir(), testFactor, slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err)
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	a := b.Access()
	return b, testTarget{Target: device.Target{Address: a.Address, SignIns: []device.SignIn{{ID: 1, User: a.User, Password: a.Password}}, Privileged: []device.SignIn{{ID: 2, Password: a.Watchword}}, HostKey: a.HostKey}, Dialect: dialect(t)}
}

func dialect(t *testing.T) *Dialect {
	all, err := ReadDialects(Builtin())
	require.NoError(t, err)
	return all["tarnholm"]
}

func dial(t *testing.T, target testTarget) *Client {
	c, err := Dial(t.Context(), target)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

func image(t *testing.T, model, version string) (file string, head []byte) {
	var b bytes.Buffer
	require.NoError(t, firmware.Make(&b, &firmware.Header{Maker: "Tarnholm", Models: []string{model}, Version: version, Payload: 2 << 20}))
	file = filepath.Join(t.TempDir(), "x.img")
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
	return file, b.Bytes()
}

func TestPortraitAndReadings(t *testing.T) {
	_, target := firewall(t, func(s *tarnholm.Spec) { s.Files = map[string]int64{"old.bin": 1000} })
	c := dial(t, target)
	p, err := c.Portrait(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "TH-60", p.Model)
	assert.Equal(t, "4.2.9", p.Version)
	assert.Equal(t, portrait.Yes, p.ServicesReady)
	assert.Equal(t, "a", p.RunningSlot().Name)
	assert.Equal(t, portrait.Slot{Name: "b", Version: "4.2.1", State: "good", Good: portrait.Yes, Next: portrait.No, Busy: portrait.No, Percent: -1}, *p.IdleSlot())
	assert.Equal(t, map[string]portrait.Room{"flash": {Total: 16 << 20, Free: 16<<20 - 1000}}, p.Storage)
	assert.EqualValues(t, 1000, p.File("old.bin").Size)

	r, err := c.Readings(t.Context(), c.d.Readings)
	require.NoError(t, err)
	for name, v := range r {
		assert.True(t, v.Known(), "%s: %s", name, v)
	}
	assert.Empty(t, p.NotUnderstood)
	assert.Equal(t, []string{"camera-vault", "crew-mail", "gate-readers", "web-tickets"}, r["translations"].Set)
	assert.Equal(t, verify.Value{Type: verify.Number, Number: 900}, r["sessions"])
	assert.Len(t, r["tunnels-up"].Set, 2)
}

func TestConfigurationIsFetchedWhole(t *testing.T) {
	b, target := firewall(t, nil)
	got, err := running(t, dial(t, target))
	require.NoError(t, err)
	assert.Equal(t, b.Status().Config, string(got))
}

func TestAnswersLongerThanAScreen(t *testing.T) {
	_, target := firewall(t, nil)
	d := *target.Dialect
	d.Setup = nil // leave paging on, so that the pauses have to be passed
	target.Dialect = &d
	c := dial(t, target)
	c.term, _ = c.open(t.Context())
	text, err := c.query(t.Context(), Query{Send: "tell config running"}, nil, nil)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(text, "# written by"), text[:30])
	assert.Contains(t, text, "user bosun\n  level raised\n")
	assert.NotContains(t, text, "more:")
}

func TestAnUpgradeByHand(t *testing.T) {
	b, target := firewall(t, nil)
	c := dial(t, target)
	file, _ := image(t, "TH-60", "5.0.7")
	s := &transfer.Server{}
	web := httptest.NewServer(s)
	defer web.Close()
	s.Base = web.URL
	url, _ := s.Offer(file, time.Minute)
	require.NoError(t, c.FetchImage(t.Context(), url, "x.img", nil))
	sum, err := c.Checksum(t.Context(), "x.img")
	require.NoError(t, err)
	assert.Len(t, sum.Sum, 64)
	last := 0.0
	require.NoError(t, c.Install(t.Context(), "x.img", "b", func(f float64) { last = f }))
	assert.Equal(t, 1.0, last, "progress was seen to the end")
	require.NoError(t, c.Save(t.Context()))
	require.NoError(t, c.ChooseSlot(t.Context(), "b", ""))
	require.NoError(t, c.Restart(t.Context()))

	_, err = Dial(t.Context(), target)
	assert.Equal(t, device.Unreachable, device.KindOf(err), "right after the restart nothing answers: %v", err)
	var seen []device.ErrorKind
	require.Eventually(t, func() bool {
		c, err := Dial(t.Context(), target)
		if err != nil {
			seen = append(seen, device.KindOf(err))
			return false
		}
		defer c.Close()
		p, err := c.Portrait(t.Context())
		if err != nil {
			seen = append(seen, device.KindOf(err))
			return false
		}
		return p.Version == "5.0.7" && p.ServicesReady == portrait.Yes && p.RunningSlot().Name == "b"
	}, 10*time.Second, 10*time.Millisecond, "%v", seen)
	assert.Contains(t, b.Status().Config, "rewrite web-tickets\n  match outside", "the supported hop converts address translation")
}

func TestForcedUnsupportedJumpLosesTranslations(t *testing.T) {
	b, target := firewall(t, func(s *tarnholm.Spec) { s.Version = "4.2.3" })
	c := dial(t, target)
	file, _ := image(t, "TH-60", "5.4.2")
	files, err := c.SFTP()
	require.NoError(t, err)
	require.NoError(t, transfer.Push(t.Context(), files, file, "x.img", nil))
	err = c.Install(t.Context(), "x.img", "b", nil)
	assert.Equal(t, device.Refused, device.KindOf(err))
	assert.ErrorContains(t, err, "5.4.2 does not follow 4.2.3")
	_, err = c.query(t.Context(), Query{Send: "fit x.img into b regardless", Raised: true, Wait: 60}, nil, nil)
	require.NoError(t, err)
	require.NoError(t, c.ChooseSlot(t.Context(), "b", ""))
	require.NoError(t, c.Restart(t.Context()))
	assert.Equal(t, "5.4.2", b.Status().Version)
	assert.NotContains(t, b.Status().Config, "web-tickets")
}

func TestUnsavedConfigurationIsLost(t *testing.T) {
	b, target := firewall(t, nil)
	c := dial(t, target)
	_, err := c.query(t.Context(), Query{Send: "write port p2 / role crew", Raised: true}, nil, nil)
	require.NoError(t, err)
	p, err := c.Portrait(t.Context())
	require.NoError(t, err)
	assert.Equal(t, portrait.Yes, p.Unsaved)
	require.NoError(t, c.Restart(t.Context()))
	assert.NotContains(t, b.Status().Config, "role crew")
}

func TestBadDays(t *testing.T) {
	b, target := firewall(t, nil)
	t.Run("wrong password", func(t *testing.T) {
		bad := target
		bad.SignIns = []device.SignIn{{User: "bosun", Password: "tide-and-wind"}}
		_, err := Dial(t.Context(), bad)
		assert.Equal(t, device.SignInRefused, device.KindOf(err))
		assert.NotContains(t, err.Error(), "tide-and-wind")
	})
	t.Run("wrong privileged password", func(t *testing.T) {
		bad := target
		bad.Privileged = []device.SignIn{{Password: "tide-and-wind"}}
		err := dial(t, bad).Save(t.Context())
		assert.Equal(t, device.SignInRefused, device.KindOf(err))
		assert.NotContains(t, err.Error(), "tide-and-wind")
	})
	t.Run("host key changed", func(t *testing.T) {
		other, _ := firewall(t, nil)
		bad := target
		bad.HostKey = other.Access().HostKey
		_, err := Dial(t.Context(), bad)
		assert.Equal(t, device.HostKeyChanged, device.KindOf(err))
		assert.ErrorContains(t, err, "forget the pinned key")
	})
	t.Run("nothing there", func(t *testing.T) {
		bad := target
		bad.Address = "127.62.0.250:2022"
		_, err := Dial(t.Context(), bad)
		assert.Equal(t, device.Unreachable, device.KindOf(err))
	})
	t.Run("image for another model", func(t *testing.T) {
		c := dial(t, target)
		file, _ := image(t, "TH-80", "5.0.7")
		files, err := c.SFTP()
		require.NoError(t, err)
		require.NoError(t, transfer.Push(t.Context(), files, file, "y.img", nil))
		err = c.Install(t.Context(), "y.img", "b", nil)
		assert.Equal(t, device.Refused, device.KindOf(err))
		assert.ErrorContains(t, err, "is for TARNHOLM TH-80")
		assert.Equal(t, 0, b.Status().Fits, "nothing was written")
	})
	t.Run("no room", func(t *testing.T) {
		require.NoError(t, b.Arm(tarnholm.LowFlash, box.Fault{Value: 1 << 20}))
		defer func() { _ = b.Heal(tarnholm.LowFlash) }()
		c := dial(t, target)
		file, _ := image(t, "TH-60", "5.0.7")
		files, err := c.SFTP()
		require.NoError(t, err)
		assert.ErrorContains(t, transfer.Push(t.Context(), files, file, "z.img", nil), "no room on flash")
	})
	t.Run("transfer drops and resumes", func(t *testing.T) {
		require.NoError(t, b.Arm(tarnholm.DropTransfer, box.Fault{Value: 1 << 20}))
		file, raw := image(t, "TH-60", "5.0.7")
		c := dial(t, target)
		files, err := c.SFTP()
		require.NoError(t, err)
		require.Error(t, transfer.Push(t.Context(), files, file, "w.img", nil))
		c = dial(t, target)
		files, err = c.SFTP()
		require.NoError(t, err)
		require.NoError(t, transfer.Push(t.Context(), files, file, "w.img", nil))
		p, err := c.Portrait(t.Context())
		require.NoError(t, err)
		assert.EqualValues(t, len(raw), p.File("w.img").Size)
	})
	t.Run("a command that is none", func(t *testing.T) {
		_, err := dial(t, target).Checksum(t.Context(), "x.img; cycle")
		assert.Equal(t, device.NotUnderstood, device.KindOf(err))
		assert.ErrorContains(t, err, "cannot be part of a command")
	})
	t.Run("given up in the middle", func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		c, err := Dial(ctx, target)
		require.NoError(t, err)
		cancel()
		_, err = c.Portrait(ctx)
		assert.Error(t, err)
	})
}

func TestDialectErrors(t *testing.T) {
	text, err := builtin.ReadFile("dialects/tarnholm.yaml")
	require.NoError(t, err)
	for name, c := range map[string][3]string{
		"format":      {"verimorph-dialect/1", "x", "is neither verimorph-dialect/2 nor verimorph-dialect/1"},
		"key":         {"setup:", "sutep:", `d.yaml:8:1: error: a dialect has no field "sutep" (do you mean setup?)`},
		"pattern":     {`(?P<name>\S+) [~=] `, `(?P<name>\S+`, "d.yaml:6:9: error: prompt: the group that begins at character 1"},
		"strange":     {"  save: {send: keep", "  shave: {send: x}\n  save: {send: keep", "shave is not a verb"},
		"placeholder": {"'next {slot}'", "'next {url}'", "there is no {url} here"},
		"reading":     {"rule: at-least, percent", "rule: atleast, percent", "sessions needs"},
	} {
		broken := strings.Replace(string(text), c[0], c[1], 1)
		require.NotEqual(t, string(text), broken, name)
		_, err := ReadDialects(fstest.MapFS{"d.yaml": {Data: []byte(broken)}})
		assert.ErrorContains(t, err, c[2], name)
		assert.ErrorContains(t, err, "d.yaml:", name)
	}
}

func TestTryingAConfigurationChangesNothing(t *testing.T) {
	_, target := firewall(t, nil)
	c := dial(t, target)
	before, err := running(t, c)
	require.NoError(t, err)
	p, err := c.Portrait(t.Context())
	require.NoError(t, err)
	said, err := c.TryConfiguration(t.Context(), before)
	require.NoError(t, err)
	assert.Empty(t, said, "a box takes its own configuration")
	said, err = c.TryConfiguration(t.Context(), []byte("box\n  name x\nport p9\n  role a\n  link maybe\nrewrite w\n  to 1.2.3.4\ntunnel t\n  cipher fourth\n"))
	require.NoError(t, err)
	assert.Equal(t, []device.Message{{Line: 3, Text: "this box has no port p9"}, {Line: 5, Text: `link is on or off, not "maybe"`}, {Line: 6, Text: `"rewrite" is not understood by 4.2.9`}, {Line: 9, Text: `there is no cipher "fourth"`}}, said)
	after, err := running(t, c)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
	again, err := c.Portrait(t.Context())
	require.NoError(t, err)
	assert.Equal(t, p.Files, again.Files, "the file is removed again")

	// A dialect that reads fewer messages than the device gives is found out.
	deaf := *target.Dialect
	deaf.Verbs = maps.Clone(deaf.Verbs)
	q := deaf.Verbs["try-configuration"]
	q.Match = device.Pattern{Regexp: regexp.MustCompile(`(?m)^  line (?P<line>3): (?P<message>.+)$`)}
	deaf.Verbs["try-configuration"] = q
	target.Dialect = &deaf
	_, err = dial(t, target).TryConfiguration(t.Context(), []byte("box\nport p9\nport p8\n"))
	assert.ErrorContains(t, err, `it speaks of "2" messages, but 1 were understood`)
	delete(deaf.Verbs, "try-configuration")
	_, err = dial(t, target).TryConfiguration(t.Context(), before)
	assert.ErrorContains(t, err, "has no try-configuration")
}

// running fetches the running configuration.
func running(t *testing.T, c *Client) ([]byte, error) {
	data, _, err := c.fetchPart(t.Context(), c.d.part("running"))
	return data, err
}
