package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
)

// cupboard is a gauge that writes media, and a firewall for which they are made from files.
func cupboard() []simulated {
	return []simulated{{name: "marrow-gauge1", site: "Marrow Holm", maker: "Pellworth", model: "TG-1", serial: "TG1-0052", version: "F1.06", config: "marrow-gauge1.ini", lineOnly: true},
		{name: "gullnes-fw1", serial: "TH60-05120", site: "Gullnes", model: "TH-60", version: "5.0.7", idle: "5.0.6", flash: 16 << 20, sessions: 240}}
}

// writes has the gauge write a medium, with somebody who puts the card in.
func (e *env) writes(label string, more ...string) gen.Change {
	m := decode[gen.Medium](e.t, e.must(append([]string{"media", "make", label, "-device", "marrow-gauge1", "-json"}, more...)...))
	require.Equal(e.t, gen.MediumStateBeingMade, m.State)
	return e.person(fmt.Sprint(*m.Change), map[string]func(){"Put an empty medium": func() { require.NoError(e.t, e.box("marrow-gauge1").Arm(shellbox.ByHandCard, box.Fault{})) }})
}

// Media are things with a place and an age: a device writes one and reads it back, it grows old, comes back, and is looked at.
func TestMediaThatBringADeviceBack(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, cupboard()...)
	e.must("catalogue", "load", "../demo/catalog")
	e.refused(1, []string{"marrow-gauge1", "no medium is kept for it"}, "media", "overview", "-missing")
	e.refused(3, []string{"2 to 40 letters"}, "media", "make", "../x", "-device", "marrow-gauge1")
	e.refused(1, []string{"gullnes-fw1: such a device writes no medium that it reads back"}, "media", "make", "fw-1", "-device", "gullnes-fw1")
	e.passes(e.writes("gauge-1", "-place", "Marrow Holm, cabinet"))
	out := e.must("media", "list")
	for _, text := range []string{"gauge-1", "snapshot", "Marrow Holm, cabinet", "good", "0 days", "F1.06 with its configuration of"} {
		assert.Contains(t, out, text)
	}
	assert.Contains(t, e.must("change", "journal", "1"), "its configuration is that of backup 1")
	e.refused(1, []string{"medium gauge-1 is there already, of marrow-gauge1"}, "media", "make", "gauge-1", "-device", "gullnes-fw1", "-folder", filepath.Join(e.dir, "x"))

	// It comes back, and is what was written. Then the gauge is configured anew: the medium is older.
	card := e.box("marrow-gauge1").Card()
	assert.Contains(t, e.must("media", "return", "gauge-1", card, "-place", "office, safe"), "all as they were written")
	g := e.box("marrow-gauge1")
	require.NoError(t, g.Change("gauge.ini", strings.Replace(g.Part("gauge.ini"), "mean = 60", "mean = 90", 1)))
	e.must("backup", "take", "marrow-gauge1")
	e.refused(1, []string{"old", "the configuration was changed since (backup 2)"}, "media", "overview", "-missing")
	file := filepath.Join(card, "gauge-1")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(text, 'x'), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(card, "virus.exe"), nil, 0o600))
	e.refused(1, []string{"gauge-1: has", "virus.exe: does not belong on this medium"}, "media", "return", "gauge-1", card)
	assert.Contains(t, e.must("media", "list"), "damaged")
	e.refused(1, []string{"it was damaged when it was looked at last"}, "media", "overview", "-missing")
	require.NoError(t, os.Remove(filepath.Join(card, "virus.exe")))

	// Written anew under its label. A card that does not keep what is written is found out, and another one is put in.
	require.NoError(t, g.Arm(shellbox.CardRots, box.Fault{}))
	m := decode[gen.Medium](t, e.must("media", "make", "gauge-1", "-device", "marrow-gauge1", "-json"))
	e.refused(1, []string{fmt.Sprintf("change %d makes medium gauge-1 already", *m.Change)}, "media", "make", "gauge-1", "-device", "marrow-gauge1")
	id := fmt.Sprint(*m.Change)
	e.must("change", "approve", id)
	e.must("change", "start", id)
	asks := func(ch gen.Change) bool { return ch.State == gen.ChangeStateAsking || ch.EndedAt != nil }
	e.await(id, "asks for the card", asks)
	e.must("change", "sign-off", id, "-text", "it is in")
	ch := e.await(id, "finds out", func(ch gen.Change) bool {
		return asks(ch) && ch.Question != nil && ch.Question.Kind == gen.QuestionKindFailed
	})
	assert.Contains(t, ch.Question.Text, "the configuration on it is another one than the device runs")
	require.NoError(t, g.Heal(shellbox.CardRots))
	e.must("change", "retry", id)
	e.await(id, "asks to take it out", func(ch gen.Change) bool {
		return ch.State == gen.ChangeStateAsking && ch.Question.Kind == gen.QuestionKindHandStep
	})
	e.must("change", "sign-off", id, "-text", "it is out")
	e.passes(e.awaitEnd(id))
	assert.Contains(t, e.must("media", "return", "gauge-1", card), "all as they were written")
	e.fromFiles()
}

// fromFiles makes a medium of images and an encrypted backup.
func (e *env) fromFiles() {
	t, stick := e.t, filepath.Join(e.dir, "stick")
	make := []string{"media", "make", "fw-1", "-device", "gullnes-fw1", "-folder", stick, "-place", "Gullnes, drawer"}
	e.refused(1, []string{"take one first"}, make...)
	e.must("backup", "take", "gullnes-fw1")
	e.refused(1, []string{"the image store lacks th60-5.0.7.img"}, make...)
	e.addImages("th60-5.0.7.img")
	out, stderr, code := e.client("a long enough word\n", append(make, "-password")...)
	require.Zero(t, code, out+stderr)
	assert.Contains(t, out, "2 files, all as they were written")
	assert.Contains(t, e.must("media", "check", stick), "brings gullnes-fw1 (TH-60) back to 5.0.7 with backup 4")
	archive, err := filepath.Glob(stick + "/*.age")
	require.NoError(t, err)
	require.Len(t, archive, 1)
	data, err := os.ReadFile(archive[0])
	require.NoError(t, err)
	assert.NotContains(t, string(data), "name gullnes-fw1")
	assert.Contains(t, string(data), "-> scrypt ")
	if dir := os.Getenv("SHOTS"); dir != "" {
		page, _ := os.ReadFile(stick + "/INSTRUCTIONS.html")
		_ = os.WriteFile(dir+"/recovery.html", page, 0o600)
	}
	sheet, err := os.ReadFile(stick + "/INSTRUCTIONS.html")
	require.NoError(t, err)
	assert.Contains(t, string(sheet), "backup 4")
	assert.NotContains(t, string(sheet)+e.must("audit"), "a long enough word")
	assert.Contains(t, e.must("media", "overview"), "Gullnes")
	e.must("media", "place", "fw-1", "van 3")
	assert.Contains(t, e.must("media", "list"), "van 3")
	e.refused(2, []string{"say why"}, "media", "retire", "fw-1")
	assert.Contains(t, e.must("media", "retire", "fw-1", "-because", "worn"), "Destroy it")
	assert.NotContains(t, e.must("media", "list"), "van 3")
	assert.Contains(t, e.must("media", "list", "-all"), "retired")
}

// In the console: which devices have a medium, and making one.
func TestConsoleKeepsMedia(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, cupboard()...)
	e.must("catalogue", "load", "../demo/catalog")
	do := doer(t, browser(t))
	page := "http://" + e.url + "/media"
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), click("#media"), text("h1", "Media"), text("#without-media", "2 of 2 devices"),
		typed("input[name=medium-label]", "gauge-1"), typed("#medium-device input", "gauge"), clickText("*[@role='option']", "marrow-gauge1"), typed("input[name=medium-place]", "Marrow Holm, cabinet"), click("#make-medium"), text("h1", "Change 1"), text("main", "writes medium gauge-1"))
	e.passes(e.person("1", map[string]func(){"Put an empty medium": func() { require.NoError(t, e.box("marrow-gauge1").Arm(shellbox.ByHandCard, box.Fault{})) }}))
	do(chromedp.Navigate(page), text("[data-medium=gauge-1]", "good"), text("#without-media", "1 of 2 devices"), shot("media"), click("[data-act='place gauge-1']"), typed("input[name=place]", "office, safe"), click("#medium-act"), text("main", "office, safe"),
		click("[data-act='retire gauge-1']"), typed("input[name=reason]", "the card is worn"), click("#medium-act"), lacks("main", "office, safe"))
}
