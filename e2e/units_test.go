package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet"
	"verimorph/simfleet/shellbox"
)

// flat is a text without its line ends.
func flat(text string) string { return strings.Join(strings.Fields(text), " ") }

// accepting answers what a change warns of, until it ends or asks something else.
func (e *env) accepting(id string) gen.Change {
	e.t.Helper()
	for {
		ch := e.await(id, "a question or an end", func(c gen.Change) bool { return c.Question != nil || c.EndedAt != nil })
		if ch.Question == nil || !slices.Contains(ch.Actions, "accept") {
			return ch
		}
		e.t.Logf("it asks: %s", ch.Question.Text)
		e.must("change", "accept", id)
	}
}

// A stack of four: what fills one of its units is proposed and removed, all of them have the release before any restarts, and they restart together.
func TestAStackByTheClient(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "hollen-sw1", maker: "Ostrevin", model: "L24", serial: "L24-30411", site: "Pier Hollen", version: "11.2.3", idle: "11.2.2", config: "hollen-sw1.conf", transfer: "pull-sftp",
		units: []shellbox.UnitSpec{{Serial: "L24-30412"}, {Serial: "L24-30417", Files: map[string]int64{"l24-11.1.4.pkg": 1310720}}, {Serial: "L24-30420"}}})
	e.must("catalogue", "load", "../demo/catalog/ostrevin-os.yaml")
	e.openSite()
	out := e.must("device", "show", "hollen-sw1")
	assert.Regexp(t, `unit 3 +11\.2\.3 +follower, serial L24-30417, in step, 0\.3 MiB of 2\.0 MiB free\n +files: l24-11\.1\.4\.pkg`, out)
	out = e.must("change", "draft", "hollen-sw1", "-to", "11.2.5", "-together")
	assert.Contains(t, flat(out), "nothing there needs l24-11.1.4.pkg (1.2 MiB): draft it with -clean-up 3:FILE")
	out = e.must("change", "draft", "hollen-sw1", "-to", "11.2.5", "-together", "-clean-up", "3:l24-11.1.4.pkg")
	assert.Contains(t, flat(out), "0.3 MiB of 2.0 MiB are free, and the change frees 1.2 MiB first")
	assert.Contains(t, e.must("change", "show", "2"), "4 units (1 leader, 2 follower, 3 follower, 4 follower); they restart together")
	assert.Contains(t, flat(out), "all 4 units start anew together: whoever they serve is cut off for")
	e.must("change", "accept-warnings", "2", "dark", "-reason", "nobody is on the pier")
	e.must("change", "approve", "2")
	e.must("change", "start", "2")
	ch := e.accepting("2")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
	units, cutOff := e.box("hollen-sw1").UnitStatus()
	assert.Zero(t, cutOff)
	for i, u := range units {
		assert.Equal(t, []any{"11.2.5", 1}, []any{u.Version, u.Starts}, "unit %d", i+1)
		assert.Empty(t, u.Files)
	}
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/devices/hollen-sw1"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		text("#units", "L24-30417"), text("#units", "in step"), shot("stack"), chromedp.Navigate("http://"+e.url+"/changes/2"), text("#proof", "The order is proved"), shot("stack-change"))
}

// controllers are two of them as a pair, with access points at five places and one that is alone at its own.
func controllers() []simulated {
	return []simulated{{name: "innersund-wc1", serial: "WC2-00071", mate: "innersund-wc2", maker: "Gullwire", model: "WC-2", version: "8.5.4", idle: "8.5.2", config: "innersund-wc1.conf", transfer: "pull-sftp",
		followers: []simfleet.Followers{{Name: "innersund-ap", Model: "AP-31", Serial: "AP31-", Count: 20, Places: []string{"hall", "deck", "quay", "office", "ramp"}},
			{Name: "innersund-mast", Model: "AP-31", Serial: "AP31-6", Count: 1, Places: []string{"mast"}},
			{Name: "innersund-new", Model: "AP-31", Serial: "AP31-77", Count: 2, Places: []string{"hall"}, New: true}}},
		{name: "innersund-wc2", serial: "WC2-00072", maker: "Gullwire", model: "WC-2", version: "8.5.4", idle: "8.5.2", config: "innersund-wc2.conf", transfer: "pull-sftp"}}
}

// A pair of controllers with its access points: they fetch the image beforehand, one controller takes over from the other, and they start anew in waves.
func TestControllersByTheClient(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, controllers()...)
	e.must("catalogue", "load", "../demo/catalog/gullwire-gw.yaml")
	e.openSite()
	e.must("ensemble", "find", "-declare")
	out := e.must("change", "draft", "innersund-wc", "-to", "8.5.5", "-authorise", "AP31-770001")
	assert.Contains(t, flat(out), "it may have 600; 21 follow it, and 1 more are let in; not let in, since nobody stated their serials: innersund-new2 AP31-770002")
	assert.NotContains(t, flat(out), "about 0.0 s")
	assert.Contains(t, e.must("change", "show", "1"), "21 access points follow it; they start anew in waves, so that others serve at every place")
	e.must("change", "accept-warnings", "1", "places innersund-wc1", "-reason", "the mast can wait")
	e.must("change", "approve", "1")
	e.must("change", "start", "1")
	ch := e.accepting("1")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
	assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict, "%+v", ch.Verdict)
	points, _, dark := e.box("innersund-wc1").Followers()
	if points[0].State == "away" {
		points, _, dark = e.box("innersund-wc2").Followers()
	}
	assert.Empty(t, dark, "no place with several was without")
	for _, p := range points[:21] {
		assert.Equal(t, []any{"8.5.5", 1, "serves"}, []any{p.Version, p.Starts, p.State}, p.Name)
	}
	assert.False(t, points[21].New, "its serial was stated")
	assert.True(t, points[22].New, "nobody stated its serial")
	for _, name := range []string{"innersund-wc1", "innersund-wc2"} {
		assert.Zero(t, e.box(name).Cold(), "nobody took over who was not in step")
		assert.Equal(t, "8.5.5", e.box(name).Status().Version)
	}
	assert.Contains(t, e.must("change", "show", "1"), "21 of 21 follow innersund-wc2 and run 8.5.5")
}

// A cluster of three controllers with 500 access points: all are preloaded, joined and verified. It has the machine to itself: what is asked of 500 of them so
// often is no neighbour for tests that watch a page.
func TestFiveHundredAccessPoints(t *testing.T) {
	var boxes []simulated
	var places []string
	for i := range 60 {
		places = append(places, fmt.Sprintf("pier-%d", i+1))
	}
	for i := range 3 {
		b := simulated{name: fmt.Sprintf("wc%d", i+1), serial: fmt.Sprintf("W%d", i+1), cluster: "harbour", maker: "Gullwire", model: "WC-2", version: "8.5.4", idle: "8.5.2", config: "innersund-wc1.conf", transfer: "pull-sftp"}
		if i == 0 {
			b.followers = []simfleet.Followers{{Name: "ap", Model: "AP-31", Serial: "AP31-", Count: 500, Places: places}}
		}
		boxes = append(boxes, b)
	}
	e := setUp(t, testFactor, boxes...)
	e.must("catalogue", "load", "../demo/catalog/gullwire-gw.yaml")
	e.openSite()
	e.must("ensemble", "find", "-declare")
	e.must("change", "draft", "harbour", "-to", "8.5.5")
	assert.Contains(t, e.must("change", "show", "1"), "500 access points follow it")
	e.must("change", "approve", "1")
	e.must("change", "start", "1")
	ch := e.accepting("1")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
	assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict, "%+v", ch.Verdict)
	for _, name := range []string{"wc1", "wc2", "wc3"} {
		points, _, dark := e.box(name).Followers()
		assert.Empty(t, dark)
		for _, p := range points {
			assert.Equal(t, []any{"8.5.5", 1}, []any{p.Version, p.Starts}, p.Name)
		}
		assert.Zero(t, e.box(name).Cold())
	}
	assert.Contains(t, e.must("change", "show", "1"), "500 of 500 follow")
}

// Through a controller: it stays as it is, and brings an image onto its access points.
func TestAnImageThroughAController(t *testing.T) {
	t.Parallel()
	wc := controllers()[0]
	wc.mate = ""
	e := setUp(t, testFactor, wc)
	e.must("catalogue", "load", "../demo/catalog/gullwire-gw.yaml")
	e.openSite()
	out := e.must("change", "operations", "innersund-wc1", "restart-children:ap31-8.5.5.img")
	assert.Contains(t, out, "Drafted change 1")
	e.must("change", "accept-warnings", "1", "places", "-reason", "the mast can wait")
	e.must("change", "approve", "1")
	e.must("change", "start", "1")
	ch := e.accepting("1")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
	assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict, "%+v", ch.Verdict)
	assert.Equal(t, "8.5.4", e.box("innersund-wc1").Status().Version)
	points, _, dark := e.box("innersund-wc1").Followers()
	assert.Empty(t, dark)
	for _, p := range points[:21] {
		assert.Equal(t, []any{"8.5.5", 1}, []any{p.Version, p.Starts}, p.Name)
	}
	e.refused(3, []string{`the catalogue knows no file "wc2-8.5.5.img" for a AP-31; list`}, "change", "operations", "innersund-wc1", "restart-children:wc2-8.5.5.img")
}
