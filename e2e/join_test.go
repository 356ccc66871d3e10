package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
)

// An access point that stands alone comes under a pair of controllers by the client, and stands alone again in the console: each time it is where it was said
// to go, and in the end it has what it had.
func TestAnAccessPointComesUnderAController(t *testing.T) {
	t.Parallel()
	boxes := append(controllers(), simulated{name: "innersund-sa1", maker: "Gullwire", model: "AP-31", serial: "AP31-4401", version: "8.5.2", config: "innersund-sa1.conf", transfer: "pull-sftp", site: "Innersund"},
		simulated{name: "innersund-sa2", maker: "Gullwire", model: "AP-12", serial: "AP12-4402", version: "8.2.4", config: "innersund-sa2.conf", transfer: "pull-sftp", site: "Innersund"})
	e := setUp(t, testFactor, boxes...)
	e.must("catalogue", "load", "../demo/catalog/gullwire-gw.yaml")
	e.must("ensemble", "find", "-declare")
	before := e.box("innersund-sa1").Status().Main

	out := e.must("change", "join", "innersund-sa1", "innersund-wc", "-group", "staff")
	assert.Contains(t, flat(out), "Drafted change 1: innersund-sa1 comes under innersund-wc1, in")
	e.must("change", "approve", "1")
	e.must("change", "start", "1")
	ch := e.accepting("1")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
	assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict, "%+v", ch.Verdict)
	out = e.must("device", "show", "innersund-sa1")
	assert.Contains(t, out, "follows   innersund-wc1, which manages it")
	assert.Regexp(t, `innersund-sa1 +AP-31 +new +staff +8\.5\.4 +- +serves|innersund-sa1 +AP-31 +new +staff +8\.5\.4 +serves`, e.must("device", "show", "innersund-wc1"))
	assert.Contains(t, e.must("device", "refresh", "innersund-sa1"), "8.5.4")
	e.refused(1, []string{"innersund-sa1 follows innersund-wc1 and has no command line of its own", "verimorph change release innersund-sa1"}, "backup", "take", "innersund-sa1")
	e.refused(1, []string{"innersund-sa1 follows innersund-wc1"}, "change", "draft", "innersund-sa1", "-to", "8.5.5")
	e.refused(3, []string{"one word of letters"}, "change", "join", "innersund-sa2", "innersund-wc1", "-group", "two words")
	e.refused(1, []string{"follows nobody"}, "change", "release", "innersund-sa2")

	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/devices/innersund-sa1"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		text("body", "It is managed by"), click("#release"), shot("release"), click("#draft-release"), text("h1", "Change 2"), text("body", "innersund-sa1 leaves innersund-wc1 and stands alone"),
		click("#approve"), click("#start"), click("#sure"))
	ch = e.accepting("2")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
	do(text("#state", "done"), text("#verdict", "pass"), shot("release-done"))
	assert.Equal(t, before, e.box("innersund-sa1").Status().Main, "it has what it had")
	do(chromedp.Navigate("http://"+e.url+"/devices/innersund-sa1"), click("#join"), typed(`input[name=controller]`, "innersund-wc"), typed(`input[name=group]`, "staff"), shot("join"),
		click("#draft-join"), text("h1", "Change 3"), text("body", "innersund-sa1 comes under innersund-wc1"), shot("join-draft"))
}

// All members of a pair go down at once: nobody can start it before that was accepted, and what was cut off is measured from outside and printed.
func TestAPairTogetherByTheClient(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, pair()...)
	e.addImages("th60-5.4.2.img")
	stop, at, err := e.firewall("north-fw1").Through("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(stop)
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		click("#declare-ensemble"), typed(`input[name=ensemble-name]`, "north"))
	for _, fw := range []string{"north-fw1", "north-fw2"} {
		do(typed(`[role=combobox]`, fw), clickText(`*[@role="option"]`, fw), text(`[aria-label=Members]`, fw))
	}
	do(shot("declare"), click("#declare"), text(`[data-ensemble=north]`, "in sync"))
	e.must("device", "set", "north-fw1", "-probes", "http://"+at)
	e.refused(3, []string{"an http or https URL, or tcp:HOST:PORT"}, "device", "set", "north-fw1", "-probes", "ping:10.0.0.1")
	assert.Contains(t, e.must("device", "show", "north-fw1"), "probe     http://"+at)
	out := e.must("change", "draft", "north", "-to", "5.4.2", "-together")
	assert.Contains(t, flat(out), "all 2 members start anew together: whoever they serve is cut off for")
	e.must("change", "approve", "1")
	e.refused(1, []string{"dark"}, "change", "start", "1")
	e.must("change", "accept-warnings", "1", "dark", "-reason", "nobody is on the pier")
	e.must("change", "approve", "1")
	for _, name := range []string{"forecast.html", "forecast.pdf"} {
		file := filepath.Join(e.dir, name)
		assert.Contains(t, e.must("change", "timeline", "1", "-o", file), "Written to")
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		if filepath.Ext(name) == ".pdf" {
			assert.True(t, bytes.HasPrefix(data, []byte("%PDF-")), "a PDF")
			continue
		}
		assert.Contains(t, string(data), "Forecast of change 1: north, from 5.0.7 to 5.4.2")
		assert.Contains(t, string(data), "proved: ")
		assert.Contains(t, string(data), "Choose slot for next start")
	}
	e.must("change", "start", "1")
	ch := e.awaitEnd("1")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
	assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict, "%+v", ch.Verdict)
	for _, fw := range []string{"north-fw1", "north-fw2"} {
		assert.Equal(t, 2, e.firewall(fw).Status().Boots, "each was started once")
	}
	assert.Regexp(t, `Measured at http://\S+ of north-fw1: [1-9]\d* interruptions?, the longest \d+\.\d s; \d+ of \d+ did not answer`, flat(e.must("change", "timeline", "1")))
	do(chromedp.Navigate("http://"+e.url+"/changes/1"), text(`[data-probe]`, "interruption"), shot("together"))
}
