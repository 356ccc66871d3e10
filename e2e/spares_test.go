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

// stock is a firewall at a site, and a unit of its model on the bench.
func stock() []simulated {
	return []simulated{{name: "gullnes-fw1", serial: "TH60-05120", site: "Gullnes", model: "TH-60", version: "5.0.7", idle: "5.0.6", flash: 16 << 20, sessions: 240},
		{name: "bench-1", serial: "TH60-09001", site: "Bench", model: "TH-60", version: "5.0.6", flash: 16 << 20, sessions: 240, blank: true, replaces: "gullnes-fw1"}}
}

// A unit in stock is prepared for a site on the bench, travels, takes the place of the one there; that one comes back, is wiped, and is in stock.
func TestASpareGoesToItsSite(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, stock()...)
	e.must("catalogue", "load", "../demo/catalog")
	e.addImages("th60-5.0.7.img")
	e.must("device", "refresh", "gullnes-fw1")
	e.refused(1, []string{"gullnes-fw1", "no unit of its model is in stock"}, "spare", "overview", "-missing")
	e.refused(1, []string{"is known as gullnes-fw1."}, "spare", "add", "TH60-05120", "-model", "TH-60")
	e.refused(1, []string{"is known as bench-1", "-bench bench-1"}, "spare", "add", "TH60-09001", "-model", "TH-60")
	e.must("spare", "add", "TH60-09001", "-model", "TH-60", "-place", "store, shelf 2", "-bench", "bench-1")
	e.refused(1, []string{"is in stock already"}, "spare", "add", "TH60-09001", "-model", "TH-60", "-bench", "bench-1")
	e.refused(1, []string{"take one first"}, "spare", "prepare", "TH60-09001", "-for", "gullnes-fw1", "-bench", "bench-1")
	e.must("reading", "take", "gullnes-fw1")
	e.must("backup", "take", "gullnes-fw1")

	e.must("spare", "prepare", "TH60-09001", "-for", "gullnes-fw1", "-bench", "bench-1")
	assert.Contains(t, e.must("spare", "list"), "preparing")
	require.Equal(t, gen.ChangeStateDone, e.run(1).State, e.must("change", "show", "1"))
	assert.Contains(t, e.must("change", "verdict", "1"), "pass")
	out := e.must("spare", "list")
	assert.Contains(t, out, "prepared")
	assert.Contains(t, out, "ship it, or keep it at hand")
	assert.Equal(t, "5.0.7", e.firewall("bench-1").Status().Version)
	assert.Contains(t, e.must("spare", "overview"), "it holds the configuration of now")
	e.packed()
	e.must("spare", "ship", "TH60-09001", "-parcel", "RX-20881")

	// The site's configuration is changed while the unit travels: that is told before, and not proven afterwards.
	fw := e.firewall("gullnes-fw1")
	require.NoError(t, fw.Change("10.9.0.0/16", "10.8.0.0/16"))
	e.must("backup", "take", "gullnes-fw1")
	assert.Contains(t, e.must("spare", "list"), "out of date")
	e.refused(1, []string{"stale", "was changed since it was prepared"}, "spare", "overview", "-missing")
	e.swapped()

	e.refused(1, []string{"is in service, and cannot be shipped"}, "spare", "ship", "TH60-09001")
	e.must("spare", "back", "TH60-05120", "-place", "bench")
	assert.Contains(t, e.must("spare", "list"), "prove that it is wiped")
	e.wiped()
}

// wiped brings the old unit to its factory state on the bench: until then it is found out.
func (e *env) wiped() {
	t, old := e.t, e.firewall("gullnes-fw1")
	require.NoError(t, old.Heal(tarnholm.Unplugged))
	a := e.access("gullnes-fw1")
	out, stderr, code := e.client(a.Password+"\n"+a.Watchword+"\n", "device", "add", "bench-2", "-address", a.Address, "-dialect", a.Dialect, "-user", a.User, "-transfer", "sftp")
	require.Zero(t, code, out+stderr)
	said := e.refused(1, []string{"the unit is not wiped: of gullnes-fw1 there is still", "Running configuration: box / name gullnes-fw1", "more"}, "spare", "wiped", "TH60-05120", "-bench", "bench-2")
	assert.NotContains(t, said, "secret ")
	e.refused(1, []string{"has the serial TH60-09001, and TH60-05120 was meant"}, "spare", "wiped", "TH60-05120", "-bench", "bench-1")
	assert.Contains(t, said, "(-same)")
	require.NoError(t, old.Factory())
	e.must("device", "forget-key", "bench-2")
	out = e.must("spare", "wiped", "TH60-05120", "-bench", "bench-2")
	assert.Contains(t, out, "in stock")
	assert.Contains(t, out, "Wiped: nothing of backup")
	assert.Contains(t, e.must("audit", "-device", "gullnes-fw1"), "spare wiped")
	e.must("spare", "retire", "TH60-05120", "-because", "its supply hums")
	assert.NotContains(t, e.must("spare", "list"), "TH60-05120")
	assert.Contains(t, e.must("spare", "list", "-all"), "retired")
}

// packed looks at what travels with the unit.
func (e *env) packed() {
	file := filepath.Join(e.dir, "parcel.html")
	e.must("spare", "note", "TH60-09001", "-o", file)
	page, err := os.ReadFile(file)
	require.NoError(e.t, err)
	for _, says := range []string{"Gullnes", "gullnes-fw1", "serial TH60-09001", "See that the serial on the unit is TH60-09001", "the unit with the serial TH60-05120", "release 5.0.7"} {
		assert.Contains(e.t, string(page), says)
	}
	e.must("spare", "note", "TH60-09001", "-o", filepath.Join(e.dir, "parcel.pdf"))
}

// swapped puts the unit in service, as somebody does at the site.
func (e *env) swapped() {
	t := e.t
	e.must("spare", "swap", "TH60-09001", "-address", e.access("bench-1").Address)
	e.must("change", "approve", "2")
	e.must("change", "start", "2")
	ch := e.await("2", "the hand step", func(c gen.Change) bool { return c.State == gen.ChangeStateAsking || c.EndedAt != nil })
	require.Equal(t, gen.ChangeStateAsking, ch.State, e.must("change", "show", "2"))
	assert.Contains(t, ch.Question.Text, "TH60-09001")
	require.NoError(t, e.firewall("gullnes-fw1").Arm(tarnholm.Unplugged, box.Fault{}))
	e.must("change", "sign-off", "2", "-text", "done")
	ch = e.await("2", "its end, or a question", func(c gen.Change) bool {
		return c.EndedAt != nil || c.State == gen.ChangeStateAsking && c.Question.Kind != gen.QuestionKindHandStep
	})
	require.Equal(t, gen.ChangeStateDone, ch.State, e.must("change", "show", "2"))
	verdict, _, code := e.client("", "change", "verdict", "2")
	verdict = strings.Join(strings.Fields(verdict), " ")
	assert.Equal(t, 1, code, "degraded is not pass")
	for _, says := range []string{"degraded", "Serial of the unit as the spare", "was TH60-05120, is TH60-09001", "backup restore"} {
		assert.Contains(t, verdict, says)
	}
	shown := e.must("device", "show", "gullnes-fw1")
	assert.Contains(t, shown, "serial TH60-09001")
	assert.Contains(t, shown, e.access("bench-1").Address)
	list := e.must("spare", "list")
	assert.Contains(t, list, "in service")
	assert.Contains(t, list, "coming back")
}

// In the console: a unit is put in stock, prepared and sent, and the page says what comes next each time; hands are led on a phone.
func TestConsoleKeepsSpares(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, stock()...)
	e.must("catalogue", "load", "../demo/catalog")
	e.addImages("th60-5.0.7.img")
	e.must("reading", "take", "gullnes-fw1")
	e.must("backup", "take", "gullnes-fw1")
	do := doer(t, browser(t))
	page := "http://" + e.url + "/spares"
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), click("#spares"), text("h1", "Spares"),
		text("[data-site=Gullnes]", "gullnes-fw1"), text("#without", "none"), typed("input[name=spare-serial]", "TH80-07001"), typed("input[name=spare-model]", "TH-80"), typed("input[name=spare-place]", "store, shelf 3"), click("#add-spare"), text("[data-spare='TH80-07001']", "in stock"),
		typed("input[name=spare-serial]", "TH60-09001"), typed("input[name=spare-model]", "TH-60"), click("#add-spare"), text("body", "is known as bench-1"), typed("input[name=spare-bench]", "bench-1"), click("#add-spare"), text("[data-spare='TH60-09001']", "in stock"), text("#without", "in doubt"),
		click("[data-act='prepare TH60-09001']"), typed("#spare-for input", "gullnes"), clickText("*[@role='option']", "gullnes-fw1"), typed("#spare-bench input", "bench"), clickText("*[@role='option']", "bench-1"), visible("input[name=sameKey]"), shot("spare-prepare"), click("#spare-act"),
		text("h1", "Change 1"))
	require.Equal(t, gen.ChangeStateDone, e.run(1).State, e.must("change", "show", "1"))
	do(chromedp.Navigate(page), text("[data-spare='TH60-09001']", "prepared"), click("[data-act='ship TH60-09001']"), typed("input[name=parcel]", "RX-20881"), click("#spare-act"), text("[data-spare='TH60-09001']", "shipped"), text("#without", "Every device"), shot("spares"),
		click("[data-act='swap TH60-09001']"), typed("input[name=address]", e.access("bench-1").Address), click("#spare-act"), text("h1", "Change 2"), text("main", "is a prepared unit from now on"))
	e.must("change", "approve", "2")
	e.must("change", "start", "2")
	do(chromedp.EmulateViewport(390, 844), chromedp.Navigate("http://"+e.url+"/changes/2"), text("#question", "Switch off the unit that stands there (serial TH60-05120)"), shot("spare-hands"))
}

// What is not right about a unit is told before anything is written: secrets that it could not read, another unit on the bench, another change for it.
func TestSparesThatAreNotReady(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "marrow-fw1", serial: "TH60-05599", site: "Marrow Holm", model: "TH-60", version: "5.4.2", idle: "5.2.3", flash: 16 << 20, sessions: 240},
		simulated{name: "bench-1", serial: "TH60-09001", site: "Bench", model: "TH-60", version: "5.4.2", flash: 16 << 20, sessions: 240, blank: true, replaces: "marrow-fw1"})
	e.must("catalogue", "load", "../demo/catalog")
	e.must("backup", "take", "marrow-fw1")
	e.must("spare", "add", "TH60-09001", "-model", "TH-60", "-bench", "bench-1")
	e.must("spare", "add", "TH60-09002", "-model", "TH-60")
	prepare := []string{"spare", "prepare", "TH60-09001", "-for", "marrow-fw1", "-bench", "bench-1"}
	for says, args := range map[string][]string{
		"no unit with the serial":                   {"spare", "ship", "TH60-1"},
		"is in stock, and cannot be put in service": {"spare", "swap", "TH60-09001"},
		"is in stock, and cannot be packed":         {"spare", "note", "TH60-09001", "-o", e.dir + "/x.html"},
		"another unit was unpacked":                 {"spare", "prepare", "TH60-09002", "-for", "marrow-fw1", "-bench", "bench-1"},
		"the device at the site":                    {"spare", "prepare", "TH60-09001", "-for", "marrow-fw1", "-bench", "marrow-fw1"},
		"no catalogue that is loaded knows a model": {"spare", "add", "X1", "-model", "XX-1"},
		"1 secret is written under a key that":      prepare,
		`there is no device "bench-9"`:              {"spare", "add", "TH60-7", "-model", "TH-60", "-bench", "bench-9"},
		"say why, with -because":                    {"spare", "retire", "TH60-09002"},
		"say how it is reached on the bench":        {"spare", "wiped", "TH60-09002"},
	} {
		stdout, stderr, code := e.client("", args...)
		assert.NotZero(t, code, says)
		assert.Contains(t, stdout+stderr, says)
	}
	e.refused(1, []string{"conversion secrets"}, "conversion", "start", "-backup", "1", "-to", "TH-60@5.4.2", "-other-unit")
	out, stderr, code := e.client("typed again\n", "conversion", "secrets", "1")
	require.Zero(t, code, out+stderr)
	e.must(prepare...)
	e.refused(1, []string{"change 1 prepares unit TH60-09001 already"}, prepare...)
	assert.Contains(t, e.must("change", "redraft", "1"), "change 2")
	require.Equal(t, gen.ChangeStateDone, e.run(2).State, e.must("change", "show", "2"))
	config := e.firewall("bench-1").Status().Config
	assert.Contains(t, config, `secret "typed again"`)
	assert.NotContains(t, config, "sealed:")
	assert.Contains(t, e.must("spare", "list"), "prepared")
	assert.NotContains(t, e.must("audit"), "typed again")
	e.must("spare", "swap", "TH60-09001")
	e.refused(1, []string{"change 3 puts into service unit TH60-09001 already"}, "spare", "swap", "TH60-09001")
	assert.NotContains(t, e.must("spare", "list"), "TH60-05599", "the unit at the site is in service still")
}
