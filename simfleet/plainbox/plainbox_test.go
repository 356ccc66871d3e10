package plainbox

import (
	"bufio"
	"bytes"
	"log/slog"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/config"
	"verimorph/simfleet/firmware"
)

func box(t *testing.T, spec Spec) *Box {
	spec.Name, spec.Serial, spec.User, spec.Address, spec.MediumDir = "box", "S", "hand", "127.0.0.1:0", t.TempDir()
	b, err := Open(spec, t.TempDir(), 5000, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	return b
}

// image puts an image onto the box.
func image(t *testing.T, b *Box, name, maker, model, version, part string) {
	var data bytes.Buffer
	require.NoError(t, firmware.Make(&data, &firmware.Header{Maker: maker, Models: []string{model}, Version: version, Part: part, Payload: 2000}))
	require.NoError(t, os.WriteFile(b.onShelf(name), data.Bytes(), 0o600))
}

func quiet(int) {}

func (b *Box) anew() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.restart()
}

func TestTwoPlaces(t *testing.T) {
	b := box(t, Spec{Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4", Older: "3.8.2", OlderPasswords: true, Config: `{"a": 1}`})
	version, older, plate := b.OlderWay()
	assert.Equal(t, "3.8.2", version)
	assert.Empty(t, plate)
	image(t, b, "other.img", "Brackmoor", "SG-9", "3.8.5", "")
	image(t, b, "part.img", "Brackmoor", "SG-5", "1", "signatures")
	image(t, b, "good.img", "Brackmoor", "SG-5", "3.8.5", "")
	require.NoError(t, os.WriteFile(b.onShelf("broken.img"), []byte("no image"), 0o600))
	for name, says := range map[string]string{"other.img": "that is for SG-9", "part.img": "that is for signatures", "broken.img": "that file is not right", "none.img": "no such file"} {
		assert.ErrorContains(t, b.install(name, 1, quiet), says)
	}
	assert.ErrorContains(t, b.install("good.img", 0, quiet), "that one is running")
	assert.Equal(t, []string{"3.8.4 good", "3.8.2 good"}, b.Status().Areas, "nothing was touched")

	require.NoError(t, b.choose(1, false))
	b.anew()
	assert.Equal(t, "3.8.2", b.Status().Version)
	password, _, _, _, _ := b.Ways()
	assert.Equal(t, older, password, "the older installation has its own password")
	require.NoError(t, b.install("good.img", 0, quiet))
	require.NoError(t, b.choose(0, true))
	b.anew()
	assert.Equal(t, "3.8.5", b.Status().Version)
	b.anew()
	assert.Equal(t, "3.8.2", b.Status().Version, "it was chosen for one start only")
	require.NoError(t, b.Arm(InstallFails, Fault{}))
	require.Error(t, b.install("good.img", 0, quiet))
	assert.ErrorContains(t, b.choose(0, false), "nothing in there can be started", "half an installation is none")
}

func TestFactoryState(t *testing.T) {
	b := box(t, Spec{Maker: "Pellworth", Model: "RC-6", Version: "F1.06", Config: "[file]\nrelease = F1.06\n[ramp bow]\ntwin = yes\n"})
	_, _, _, key, _ := b.Ways()
	_, _, plate := b.OlderWay()
	image(t, b, "a.fw", "Pellworth", "RC-6", "F2.12", "")
	require.NoError(t, b.install("a.fw", 0, quiet))
	st := b.Status()
	assert.Equal(t, "F2.12", st.Version)
	assert.NotContains(t, st.Main, "bow", "nothing of its configuration is left")
	password, _, _, other, _ := b.Ways()
	assert.Equal(t, plate, password)
	assert.NotEqual(t, key, other)
	s := &shell{b: b}
	assert.ErrorContains(t, s.putBack("ramp.ini", "[file]\nrelease = F1.06\n"), `the file is for "F1.06", this is F2.12`)
	require.NoError(t, s.putBack("ramp.ini", "[file]\nrelease = F2.12\n"))
	require.NoError(t, b.Arm(RefusesFile, Fault{}))
	assert.Error(t, s.putBack("ramp.ini", "[file]\nrelease = F2.12\n"))
	image(t, b, "d.bin", "Pellworth", "RC-6", "9", "drive-logic")
	require.NoError(t, b.update("drive-logic", "d.bin", quiet))
	assert.Equal(t, "7", b.Status().Components["drive-logic"], "it takes effect when the power goes off and on")
	require.NoError(t, b.cycle("drive-logic"))
	assert.Equal(t, "9", b.Status().Components["drive-logic"])
	assert.ErrorContains(t, b.update("web-manager", "d.bin", quiet), "not for web-manager")
	assert.Error(t, b.Arm("moonlight", Fault{}))
	assert.NotContains(t, b.FaultNames(), StuckWork, "it does not drain")

	// What a box is survives the end of the simulation.
	again, err := Open(b.Spec, b.dir, 5000, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	assert.Equal(t, "F2.12", again.Status().Version)
	require.NoError(t, again.Reset())
	assert.Equal(t, "F1.06", again.Status().Version)
}

func TestDrainingAndPacking(t *testing.T) {
	b := box(t, Spec{Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4", Config: "{}"})
	b.mu.Lock()
	assert.Equal(t, 400, b.flows())
	b.st.Resting, b.st.RestAt = true, time.Now().Add(-time.Second)
	assert.Zero(t, b.flows(), "after its own 40 seconds nothing is left")
	b.mu.Unlock()
	require.NoError(t, b.Arm(StuckWork, Fault{Times: -1}))
	b.mu.Lock()
	assert.Equal(t, 17, b.flows())
	b.mu.Unlock()

	c := box(t, Spec{Maker: "Ostrevin", Model: "C8", Version: "11.2.5", Config: "port c1-1 {\n    vlan 4;\n}\nvlan 4 {\n    title x;\n}\n"})
	image(t, c, "a.pkg", "Ostrevin", "C8", "12.1.3", "")
	require.NoError(t, c.install("a.pkg", 1, quiet))
	assert.Error(t, c.choose(1, false), "packed, it cannot be started")
	require.NoError(t, c.unpack(1, quiet))
	require.NoError(t, c.choose(1, false))
	c.anew()
	assert.Equal(t, "port c1-1 {\n    untagged 4;\n}\nvlan 4 {\n    title x;\n}\n", c.Status().Main, "train 12 writes it in its own words")
	require.NoError(t, c.choose(0, false))
	c.anew()
	assert.Contains(t, c.Status().Main, "    vlan 4;", "the older installation has its own")
	require.NoError(t, c.clone(1, quiet))
	assert.Equal(t, []string{"11.2.5 good", "11.2.5 good"}, c.Status().Areas)
}

// What a box says about its clock, its errors and where it keeps what, and what faults make of it.
func TestClockErrorsAndStores(t *testing.T) {
	b := box(t, Spec{Maker: "Ostrevin", Model: "C8", Version: "11.2.5", Older: "11.2.3", Config: "box {\n}\n"})
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	ask := func(do func(*shell, map[string]string) error) string {
		var out bytes.Buffer
		require.NoError(t, do(&shell{b: b, w: &out}, nil))
		return out.String()
	}
	told := func() time.Time {
		at, err := time.Parse("it is 2006-01-02T15:04:05Z07:00\r\n", ask(tellTime))
		require.NoError(t, err)
		return at
	}
	assert.WithinDuration(t, time.Now(), told(), 2*time.Second)
	require.NoError(t, b.Arm(ClockWrong, Fault{Value: 3600}))
	assert.WithinDuration(t, time.Now().Add(time.Hour), told(), 2*time.Second)

	assert.Equal(t, "0 in all\r\n", ask(tellMishaps))
	require.NoError(t, b.Arm(LogErrors, Fault{}))
	b.anew()
	first := ask(tellMishaps)
	assert.Contains(t, first, "wrong: start 2: a part answered late")
	b.anew()
	assert.Equal(t, first, ask(tellMishaps), "it strikes once, and what is written stays")

	assert.Contains(t, ask(tellFiles), "store places 3145728 of 8388608")
	image(t, b, "good.pkg", "Ostrevin", "C8", "11.2.6", "")
	require.NoError(t, b.Arm(LowPlaces, Fault{Value: 100}))
	assert.Contains(t, ask(tellFiles), "store places 100 of 8388608")
	assert.ErrorContains(t, b.install("good.pkg", 1, quiet), "no room for it in places")
	assert.Equal(t, []string{"11.2.5 good", "11.2.3 good"}, b.Status().Areas, "nothing was touched")
	require.NoError(t, b.Heal(LowPlaces))
	require.NoError(t, b.install("good.pkg", 1, quiet))

	gateway := box(t, Spec{Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4", Config: "{}"})
	assert.NotContains(t, gateway.FaultNames(), LowPlaces, "it has one storage")
	assert.Contains(t, gateway.FaultNames(), NoLicence)
	assert.NotContains(t, b.FaultNames(), NoLicence)
}

// A licence is given for one box and one purpose, and survives the end of the simulation.
func TestLicencesOfABox(t *testing.T) {
	dir := t.TempDir()
	spec := Spec{Name: "box", Serial: "S", User: "hand", Address: "127.0.0.1:0", Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4", Config: "{}"}
	open := func() *Box {
		b, err := Open(spec, dir, 5000, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		return b
	}
	b := open()
	rights := func() string {
		var out bytes.Buffer
		require.NoError(t, tellInside(&shell{b: b, w: &out}, nil))
		return out.String()
	}
	assert.Contains(t, rights(), "right gateway-2")
	require.NoError(t, b.Arm(NoLicence, Fault{}))
	assert.NotContains(t, rights(), "right ")
	give := func(name, key string) error {
		var out bytes.Buffer
		err := admit(&shell{b: b, w: &out, in: bufio.NewReader(strings.NewReader(key + "\r"))}, map[string]string{"right": name})
		assert.NotContains(t, out.String(), key, "it is not shown")
		return err
	}
	assert.ErrorContains(t, give("gateway-full", LicenceKey("T", "gateway-full")), "that key is not for gateway-full of S")
	assert.ErrorContains(t, give("gateway-full", LicenceKey("S", "gateway-2")), "that key is not for gateway-full of S")
	require.NoError(t, give("gateway-full", LicenceKey("S", "gateway-full")))
	require.NoError(t, give("gateway-full", LicenceKey("S", "gateway-full")), "again does no harm")
	b = open()
	assert.Contains(t, rights(), "right gateway-full")
	assert.NotContains(t, rights(), "right gateway-2")
	require.NoError(t, b.Heal(NoLicence))
	assert.Contains(t, rights(), "right gateway-2")
}

// A gateway reads its configuration into the language of the other train, and what both offer comes back as it was.
func TestAGatewayConvertsItsServices(t *testing.T) {
	text, err := os.ReadFile("../../demo/configs/control-sg1.json")
	require.NoError(t, err)
	three := string(text)
	four := services(three, "3.8.4", "4.0.3")
	doc, broken := config.Parse("x", four, config.JSON)
	require.Empty(t, broken)
	web := doc.Root.Child("services").Child("tickets-web")
	assert.Equal(t, "443", web.Child("listen").Child("port").Value())
	assert.Equal(t, "second", web.Child("cipher-set").Value(), "train 3 assumes it, train 4 does not")
	assert.NotContains(t, four, `"ciphers"`)
	assert.Equal(t, brackmoor.serves(three), brackmoor.serves(four), "it does the same for its users")
	back := services(four, "4.0.3", "3.8.4")
	doc, broken = config.Parse("x", back, config.JSON)
	require.Empty(t, broken)
	assert.Equal(t, "443", doc.Root.Child("services").Child("tickets-web").Child("port").Value())
	assert.NotContains(t, back, `"listen"`)
	assert.Equal(t, four, services(four, "4.0.3", "4.4.2"), "within a train nothing changes")
	assert.Equal(t, "{ nonsense", services("{ nonsense", "3.8.4", "4.0.3"))
}
