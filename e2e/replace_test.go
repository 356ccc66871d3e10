package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
)

// swap is the firewall of the demo's story that is replaced by a larger one, which comes out of its crate.
func swap() []simulated {
	return []simulated{{name: "marrow-fw1", serial: "TH60-05599", site: "Marrow Holm", model: "TH-60", version: "5.4.2", idle: "5.2.3", flash: 16 << 20, sessions: 240},
		{name: "marrow-fw2", serial: "TH80-00077", site: "Marrow Holm", model: "TH-80", version: "5.2.3", flash: 32 << 20, sessions: 240, blank: true, replaces: "marrow-fw1"}}
}

// portsOf writes a file that says where ports go.
func (e *env) portsOf(lines ...string) string {
	name := filepath.Join(e.dir, "ports.yaml")
	require.NoError(e.t, os.WriteFile(name, []byte("format: verimorph-ports/1\nports:\n  "+strings.Join(lines, "\n  ")+"\n"), 0o600))
	return name
}

// hands answers the hand steps of a change as somebody does who stands at the rack.
func (e *env) hands(id string, until func(gen.Change) bool) (ch gen.Change, asked []string) {
	e.t.Helper()
	for range 20 {
		ch = e.await(id, "a question or the end", func(c gen.Change) bool { return c.State == gen.ChangeStateAsking || until(c) })
		if ch.State != gen.ChangeStateAsking || ch.Question.Kind != gen.QuestionKindHandStep {
			return ch, asked
		}
		title := ch.Steps[ch.Question.Step-1].Title
		asked = append(asked, title)
		switch title {
		case "Disconnect marrow-fw1":
			require.NoError(e.t, e.firewall("marrow-fw1").Arm(tarnholm.Unplugged, box.Fault{}))
		case "Connect marrow-fw1":
			require.NoError(e.t, e.firewall("marrow-fw1").Heal(tarnholm.Unplugged))
		case "Disconnect marrow-fw2":
			require.NoError(e.t, e.firewall("marrow-fw2").Arm(tarnholm.Unplugged, box.Fault{}))
		}
		e.must("change", "sign-off", id, "-text", "done")
	}
	return ch, asked
}

func ended(c gen.Change) bool { return c.EndedAt != nil }

// A small firewall is replaced by its larger successor: what does not carry over is told first, decisions are made in a conversion, secrets under the old one's key are
// typed in again, hands move the cables, the readings of the old one are held against the new one; the old one is kept, serves again, and is released.
func TestAReplacement(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, swap()...)
	e.must("catalogue", "load", "../demo/catalog")
	e.must("backup", "take", "marrow-fw1")
	e.addImages("th80-5.4.2.img")
	id := e.decided()
	out := e.must("replace", "preview", "marrow-fw2", "-old", "marrow-fw1", "-to", "5.4.2")
	for _, says := range []string{"marrow-fw2 (TH-80@5.4.2) in the place of marrow-fw1 (TH-60@5.4.2)", "worked out in conversion " + id, "p1", "rack 1, panel 4", "x1", "two cameras hang on the switch now", "idle-after 300"} {
		assert.Contains(t, out, says)
	}
	out = e.must("replace", "draft", "marrow-fw2", "-old", "marrow-fw1", "-to", "5.4.2", "-serial", "TH80-00077")
	assert.Contains(t, out, "takes the place of marrow-fw1, with 5.4.2")
	for _, secret := range []string{"8d1f40a6c2", "typed again"} {
		assert.NotContains(t, out, secret)
	}
	sheet := filepath.Join(e.dir, "rack.html")
	e.must("replace", "sheet", "1", "-o", sheet)
	page, err := os.ReadFile(sheet)
	require.NoError(t, err)
	for _, says := range []string{"rack 1, panel 4", "left out: two cameras hang on the switch now", "Switch marrow-fw1 off", "Move the cable from port x1 of marrow-fw2 back to port p1 of marrow-fw1"} {
		assert.Contains(t, string(page), says)
	}
	e.must("replace", "sheet", "1", "-o", filepath.Join(e.dir, "rack.pdf"))
	e.must("change", "approve", "1")
	e.must("change", "start", "1")
	ch, asked := e.hands("1", ended)
	require.Equal(t, gen.ChangeStateDone, ch.State, e.must("change", "show", "1"))
	assert.Equal(t, []string{"Disconnect marrow-fw1", "Cable p1 to x1", "Cable p2 to p2", "Cable p4 to p4"}, asked)
	verdict := e.must("change", "verdict", "1")
	assert.Contains(t, verdict, "pass")
	assert.Contains(t, verdict, "as of the old device")
	e.refused(1, []string{"there is no change 9"}, "replace", "sheet", "9", "-o", sheet)
	config := e.firewall("marrow-fw2").Status().Config
	assert.Contains(t, config, `secret "typed again"`)
	assert.NotContains(t, config, "8d1f40a6c2")
	assert.Equal(t, e.access("marrow-fw1").Address, e.access("marrow-fw2").Address, "it answers at the address of the old one")
	e.kept()
}

// decided works the conversion out: it tells first what is open, each as one decision.
func (e *env) decided() (id string) {
	e.t.Helper()
	stdout, stderr, code := e.client("", "replace", "preview", "marrow-fw2", "-old", "marrow-fw1", "-to", "5.4.2")
	require.Equal(e.t, 1, code, stdout+stderr)
	for _, says := range []string{"2 decisions are open", "secret under a key of marrow-fw1: tunnel control-room / secret", "port p1 to x1 is only proposed", "SECTION"} {
		assert.Contains(e.t, stdout, says)
	}
	e.refused(1, []string{"2 decisions are open"}, "replace", "draft", "marrow-fw2", "-old", "marrow-fw1", "-to", "5.4.2")
	e.refused(1, []string{"conversion secrets 1"}, "conversion", "start", "-backup", "1", "-to", "TH-80@5.4.2")
	e.refused(1, []string{"secret ***"}, "conversion", "change", "1", "-ports", e.portsOf("p1: x1", "p2: p2", "p3: {leave-out: two cameras hang on the switch now}", "p4: p4"), "-accept", "port p3 / address")
	out, stderr, code := e.client("typed again\n", "conversion", "secrets", "1")
	require.Equal(e.t, 0, code, out+stderr)
	assert.NotContains(e.t, out+stderr, "typed again")
	return "1"
}

// kept looks at the old device afterwards: it is the way back until it is released.
func (e *env) kept() {
	t := e.t
	assert.Contains(t, e.must("replace", "list"), "is kept: the way back")
	assert.Contains(t, e.must("device", "show", "marrow-fw2"), "in place  of marrow-fw1, by change 1")
	assert.Contains(t, e.must("device", "show", "marrow-fw1"), "replaced  by marrow-fw2, with change 1; it is kept: the way back")
	e.refused(1, []string{"marrow-fw1 is kept as it was: it is the way back of change 1"}, "change", "draft", "marrow-fw1", "-to", "5.2.3")
	e.must("replace", "back", "1")
	e.must("change", "approve", "2")
	e.must("change", "start", "2")
	ch, asked := e.hands("2", ended)
	require.Equal(t, gen.ChangeStateDone, ch.State, e.must("change", "show", "2"))
	assert.Equal(t, []string{"Disconnect marrow-fw2", "Cable p4 back to p4", "Cable p2 back to p2", "Cable x1 back to p1", "Connect marrow-fw1"}, asked)
	assert.Contains(t, e.must("change", "verdict", "2"), "pass")
	assert.Contains(t, e.must("replace", "list", "marrow-fw1"), "serves again, by change 2")
	e.refused(1, []string{"serves again already, by change 2"}, "replace", "release", "1", "-because", "a month without trouble")
}

// What cannot be replaced so, and what is not right about it, is told before anything is begun.
func TestReplacementsThatAreRefused(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, append(swap(), hollen())...)
	e.must("catalogue", "load", "../demo/catalog")
	e.must("backup", "take", "marrow-fw1")
	for says, args := range map[string][]string{
		"marrow-fw2 cannot take its own place":                                       {"-old", "marrow-fw2"},
		`there is no device "marrow-fw9"`:                                            {"-old", "marrow-fw9"},
		"has the serial TH80-00077, and TH80-1 was meant: another unit was unpacked": {"-old", "marrow-fw1", "-serial", "TH80-1"},
		"there is no complete backup of hollen-fw1, and it does not answer":          {"-old", "hollen-fw1", "-dead"},
		"there is no conversion 7":                                                   {"-old", "marrow-fw1", "-conversion", "7"},
	} {
		stdout, stderr, code := e.client("", append([]string{"replace", "draft", "marrow-fw2"}, args...)...)
		assert.NotZero(t, code, says)
		assert.Contains(t, stdout+stderr, says)
	}
	e.refused(1, []string{"need a person"}, "conversion", "start", "-backup", "1", "-to", "TH-80@5.4.2")
	e.refused(1, []string{"conversion 1 is of TH-60@5.4.2, and hollen-fw1 is TH-60@4.2.3 now"}, "replace", "draft", "marrow-fw2", "-old", "hollen-fw1", "-to", "5.4.2", "-conversion", "1")
	e.refused(1, []string{"conversion 1 is for TH-80@5.4.2, and marrow-fw2 is to run TH-80@5.2.3"}, "replace", "draft", "marrow-fw2", "-old", "marrow-fw1", "-conversion", "1")
	e.archive()
	e.refused(1, []string{"change 1 replaced no device"}, "replace", "back", "1")
	e.refused(2, []string{"-because"}, "replace", "release", "1")
	_, stderr, _ := e.client("", "replace", "draft", "marrow-fw2")
	assert.Contains(t, stderr, "-old")
}

// archive takes the configuration of an old device that does not answer from an archive with a password.
func (e *env) archive() {
	t, file := e.t, filepath.Join(e.dir, "a.tar.age")
	with := func(password string, args ...string) (string, int) {
		out, stderr, code := e.client(password+"\n", args...)
		return out + stderr, code
	}
	said, code := with("short", "backup", "export", "1", "-out", file, "-password")
	require.NotZero(t, code)
	assert.Contains(t, said, "8 characters at least")
	said, code = with("långt nog, %41", "backup", "export", "1", "-out", file, "-password")
	require.Zero(t, code, said)
	said, code = with("långt nog, A", "backup", "import", file, "-password")
	assert.NotZero(t, code)
	assert.Contains(t, said, "the password is wrong, or the archive is damaged")
	e.refused(1, []string{"it is encrypted with a password; say it (-password)"}, "backup", "import", file)
	said, code = with("långt nog, %41", "backup", "import", file, "-password", "-device", "hollen-fw1")
	require.Zero(t, code, said)
	require.NoError(t, e.firewall("marrow-fw1").Arm(tarnholm.Unplugged, box.Fault{}))
	e.refused(1, []string{"marrow-fw1 cannot be read now", "say so (dead)"}, "replace", "preview", "marrow-fw2", "-old", "marrow-fw1")
	e.refused(1, []string{"Configuration: backup 1, of", "2 decisions are open"}, "replace", "preview", "marrow-fw2", "-old", "marrow-fw1", "-dead", "-to", "5.4.2")
}

// In the console: what it takes is seen first, with what is open; then it is drafted, and hands are led through it on a phone.
func TestConsoleReplacesADevice(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, swap()...)
	e.must("catalogue", "load", "../demo/catalog")
	e.must("backup", "take", "marrow-fw1")
	e.addImages("th80-5.4.2.img")
	ctx := browser(t)
	do := doer(t, ctx)
	page := "http://" + e.url + "/replace"
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		click("#replace"), text("h1", "Replace devices"), typed("#replace-old input", "marrow-fw1"), clickText("*[@role='option']", "marrow-fw1"), typed("#replace-new input", "marrow-fw2"), clickText("*[@role='option']", "marrow-fw2"), typed("input[name=to]", "5.4.2"), click("#preview"),
		text("#preview-result", "2 decisions are open"), text("[data-section=Ports]", "only proposed"), text("#cables", "rack 1, panel 4"), shot("replace"))
	e.decided()
	do(click("#preview"), text("#preview-result", "It can be drafted"), lacks("#preview-result", "typed again"), lacks("#preview-result", "8d1f40a6c2"), shot("replace-ready"), click("#draft-replacement"), text("h1", "Change 1"), text("body", "takes the place of marrow-fw1"))
	e.must("change", "approve", "1")
	e.must("change", "start", "1")
	do(chromedp.EmulateViewport(390, 844), chromedp.Navigate("http://"+e.url+"/changes/1"), text("#question", "Switch marrow-fw1 off"), shot("replace-hands"))
	ch, _ := e.hands("1", ended)
	require.Equal(t, gen.ChangeStateDone, ch.State, e.must("change", "show", "1"))
	do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(page), text("[data-replacement='1']", "is kept"), shot("replace-list"), chromedp.Navigate("http://"+e.url+"/devices/marrow-fw2"), text("body", "took the place of marrow-fw1"))
}
