package shellbox_test

import (
	"bytes"
	"log/slog"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/simfleet"
	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/shellbox"
)

func open(t *testing.T, spec shellbox.Spec) *shellbox.Box {
	spec.Name, spec.Serial, spec.User, spec.Address, spec.MediumDir = "box", "S", "hand", "127.0.0.1:0", t.TempDir()
	b, err := simfleet.OpenShellBox(spec, t.TempDir(), 5000, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	return b
}

// image puts an image onto the box.
func image(t *testing.T, b *shellbox.Box, name, maker, model, version, part string) {
	var data bytes.Buffer
	require.NoError(t, firmware.Make(&data, &firmware.Header{Maker: maker, Models: []string{model}, Version: version, Part: part, Payload: 2000}))
	require.NoError(t, os.WriteFile(b.Shelf(name), data.Bytes(), 0o600))
}

func TestTwoPlaces(t *testing.T) {
	b := open(t, shellbox.Spec{Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4", Older: "3.8.2", OlderPasswords: true, Config: `{"a": 1}`})
	a := b.Access()
	version, older, plate := a.OlderVersion, a.OlderPassword, a.Plate
	assert.Equal(t, "3.8.2", version)
	assert.Empty(t, plate)
	image(t, b, "other.img", "Brackmoor", "SG-9", "3.8.5", "")
	image(t, b, "part.img", "Brackmoor", "SG-5", "1", "signatures")
	image(t, b, "good.img", "Brackmoor", "SG-5", "3.8.5", "")
	require.NoError(t, os.WriteFile(b.Shelf("broken.img"), []byte("no image"), 0o600))
	for name, says := range map[string]string{"other.img": "that is for SG-9", "part.img": "that is for signatures", "broken.img": "that file is not right", "none.img": "no such file"} {
		assert.ErrorContains(t, b.Put(name, 1), says)
	}
	assert.ErrorContains(t, b.Put("good.img", 0), "that one is running")
	assert.Equal(t, []string{"3.8.4 good", "3.8.2 good"}, b.Status().Areas, "nothing was touched")

	require.NoError(t, b.ChoosePlace(1, false))
	b.PowerOffAndOn()
	assert.Equal(t, "3.8.2", b.Status().Version)
	assert.Equal(t, older, b.Access().Password, "the older installation has its own password")
	require.NoError(t, b.Put("good.img", 0))
	require.NoError(t, b.ChoosePlace(0, true))
	b.PowerOffAndOn()
	assert.Equal(t, "3.8.5", b.Status().Version)
	b.PowerOffAndOn()
	assert.Equal(t, "3.8.2", b.Status().Version, "it was chosen for one start only")
	require.NoError(t, b.Arm(shellbox.InstallFails, box.Fault{}))
	require.Error(t, b.Put("good.img", 0))
	assert.ErrorContains(t, b.ChoosePlace(0, false), "nothing in there can be started", "half an installation is none")
}

func TestFactoryState(t *testing.T) {
	b := open(t, shellbox.Spec{Maker: "Pellworth", Model: "RC-6", Version: "F1.06", Config: "[file]\nrelease = F1.06\n[ramp bow]\ntwin = yes\n"})
	before := b.Access()
	image(t, b, "a.fw", "Pellworth", "RC-6", "F2.12", "")
	require.NoError(t, b.Put("a.fw", 0))
	st := b.Status()
	assert.Equal(t, "F2.12", st.Version)
	assert.NotContains(t, st.Main, "bow", "nothing of its configuration is left")
	after := b.Access()
	assert.Equal(t, before.Plate, after.Password)
	assert.NotEqual(t, before.HostKey, after.HostKey)
	assert.ErrorContains(t, b.PutBack("ramp.ini", "[file]\nrelease = F1.06\n"), `the file is for "F1.06", this is F2.12`)
	require.NoError(t, b.PutBack("ramp.ini", "[file]\nrelease = F2.12\n"))
	require.NoError(t, b.Arm(shellbox.RefusesFile, box.Fault{}))
	assert.Error(t, b.PutBack("ramp.ini", "[file]\nrelease = F2.12\n"))
	image(t, b, "d.bin", "Pellworth", "RC-6", "9", "drive-logic")
	require.NoError(t, b.UpdateComponent("drive-logic", "d.bin"))
	assert.Equal(t, "7", b.Status().Components["drive-logic"], "it takes effect when the power goes off and on")
	require.NoError(t, b.CycleComponent("drive-logic"))
	assert.Equal(t, "9", b.Status().Components["drive-logic"])
	assert.ErrorContains(t, b.UpdateComponent("web-manager", "d.bin"), "not for web-manager")
	assert.Error(t, b.Arm("moonlight", box.Fault{}))
	assert.NotContains(t, b.FaultNames(), shellbox.StuckWork, "it does not drain")

	// What a box is survives the end of the simulation.
	again, err := simfleet.OpenShellBox(b.Spec, b.Folder(), 5000, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	assert.Equal(t, "F2.12", again.Status().Version)
	require.NoError(t, again.Reset())
	assert.Equal(t, "F1.06", again.Status().Version)
}

func TestDrainingAndPacking(t *testing.T) {
	b := open(t, shellbox.Spec{Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4", Config: "{}"})
	assert.Equal(t, 400, b.Flows())
	b.RestSince(time.Now().Add(-time.Second))
	assert.Zero(t, b.Flows(), "after its own 40 seconds nothing is left")
	require.NoError(t, b.Arm(shellbox.StuckWork, box.Fault{Times: -1}))
	assert.Equal(t, 17, b.Flows())

	c := open(t, shellbox.Spec{Maker: "Ostrevin", Model: "C8", Version: "11.2.5", Config: "port c1-1 {\n    vlan 4;\n}\nvlan 4 {\n    title x;\n}\n"})
	image(t, c, "a.pkg", "Ostrevin", "C8", "12.1.3", "")
	require.NoError(t, c.Put("a.pkg", 1))
	assert.Error(t, c.ChoosePlace(1, false), "packed, it cannot be started")
	require.NoError(t, c.UnpackPlace(1))
	require.NoError(t, c.ChoosePlace(1, false))
	c.PowerOffAndOn()
	assert.Equal(t, "port c1-1 {\n    untagged 4;\n}\nvlan 4 {\n    title x;\n}\n", c.Status().Main, "train 12 writes it in its own words")
	require.NoError(t, c.ChoosePlace(0, false))
	c.PowerOffAndOn()
	assert.Contains(t, c.Status().Main, "    vlan 4;", "the older installation has its own")
	require.NoError(t, c.ClonePlace(1))
	assert.Equal(t, []string{"11.2.5 good", "11.2.5 good"}, c.Status().Areas)
}

// What a box says about its clock, its errors and where it keeps what, and what faults make of it.
func TestClockErrorsAndStores(t *testing.T) {
	b := open(t, shellbox.Spec{Maker: "Ostrevin", Model: "C8", Version: "11.2.5", Older: "11.2.3", Config: "box {\n}\n"})
	require.NoError(t, b.Start())
	t.Cleanup(b.Stop)
	ask := func(do shellbox.Verb) string {
		out, err := b.Ask(do, nil, "")
		require.NoError(t, err)
		return out
	}
	told := func() time.Time {
		at, err := time.Parse("it is 2006-01-02T15:04:05Z07:00\r\n", ask(shellbox.TellTime))
		require.NoError(t, err)
		return at
	}
	assert.WithinDuration(t, time.Now(), told(), 2*time.Second)
	require.NoError(t, b.Arm(shellbox.ClockWrong, box.Fault{Value: 3600}))
	assert.WithinDuration(t, time.Now().Add(time.Hour), told(), 2*time.Second)

	assert.Equal(t, "0 in all\r\n", ask(shellbox.TellMishaps))
	require.NoError(t, b.Arm(shellbox.LogErrors, box.Fault{}))
	b.PowerOffAndOn()
	first := ask(shellbox.TellMishaps)
	assert.Contains(t, first, "wrong: start 2: a part answered late")
	b.PowerOffAndOn()
	assert.Equal(t, first, ask(shellbox.TellMishaps), "it strikes once, and what is written stays")

	assert.Contains(t, ask(shellbox.TellFiles), "store places 3145728 of 8388608")
	image(t, b, "good.pkg", "Ostrevin", "C8", "11.2.6", "")
	require.NoError(t, b.Arm(shellbox.LowPlaces, box.Fault{Value: 100}))
	assert.Contains(t, ask(shellbox.TellFiles), "store places 100 of 8388608")
	assert.ErrorContains(t, b.Put("good.pkg", 1), "no room for it in places")
	assert.Equal(t, []string{"11.2.5 good", "11.2.3 good"}, b.Status().Areas, "nothing was touched")
	require.NoError(t, b.Heal(shellbox.LowPlaces))
	require.NoError(t, b.Put("good.pkg", 1))

	gateway := open(t, shellbox.Spec{Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4", Config: "{}"})
	assert.NotContains(t, gateway.FaultNames(), shellbox.LowPlaces, "it has one storage")
	assert.Contains(t, gateway.FaultNames(), shellbox.NoLicence)
	assert.NotContains(t, b.FaultNames(), shellbox.NoLicence)
}

// A licence is given for one box and one purpose, and survives the end of the simulation.
func TestLicencesOfABox(t *testing.T) {
	dir := t.TempDir()
	spec := shellbox.Spec{Name: "box", Serial: "S", User: "hand", Address: "127.0.0.1:0", Maker: "Brackmoor", Model: "SG-5", Version: "3.8.4", Config: "{}"}
	reopen := func() *shellbox.Box {
		b, err := simfleet.OpenShellBox(spec, dir, 5000, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		return b
	}
	b := reopen()
	rights := func() string {
		out, err := b.Ask(shellbox.TellInside, nil, "")
		require.NoError(t, err)
		return out
	}
	assert.Contains(t, rights(), "right gateway-2")
	require.NoError(t, b.Arm(shellbox.NoLicence, box.Fault{}))
	assert.NotContains(t, rights(), "right ")
	give := func(name, key string) error {
		out, err := b.Ask(shellbox.Admit, map[string]string{"right": name}, key+"\r")
		assert.NotContains(t, out, key, "it is not shown")
		return err
	}
	assert.ErrorContains(t, give("gateway-full", shellbox.LicenceKey("T", "gateway-full")), "that key is not for gateway-full of S")
	assert.ErrorContains(t, give("gateway-full", shellbox.LicenceKey("S", "gateway-2")), "that key is not for gateway-full of S")
	require.NoError(t, give("gateway-full", shellbox.LicenceKey("S", "gateway-full")))
	require.NoError(t, give("gateway-full", shellbox.LicenceKey("S", "gateway-full")), "again does no harm")
	b = reopen()
	assert.Contains(t, rights(), "right gateway-full")
	assert.NotContains(t, rights(), "right gateway-2")
	require.NoError(t, b.Heal(shellbox.NoLicence))
	assert.Contains(t, rights(), "right gateway-2")
}
