package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/calderpath"
)

// A virtual router goes on as the second platform and back, through the client: what will change is told before, was changed as foretold afterwards, and the way back
// knows what was configured since.
func TestAPlatformChange(t *testing.T) {
	t.Parallel()
	e := setUp(t, 20, simulated{name: "tern-rt1", maker: "Calderpath", model: "V1", version: "7.4.6", config: "tern-rt1.xml"})
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	router := e.fleet.Box("tern-rt1").(*calderpath.Box)
	e.must("device", "set", "tern-rt1", "-services", "gnoi="+router.GRPC()+",gnmi="+router.GRPC())
	e.must("device", "refresh", "tern-rt1")
	out := e.must("path", "tern-rt1", "-to", "7.4.7", "-to-model", "V2")
	for _, says := range []string{"V1 from 7.4.6 to 7.4.7 as V2", "goes on as V2", "on the same machine", "port0 becomes lane-1", "will change, serial: licence requests", "needs, ok: the second platform needs 2 GiB of memory (it has 4.0 GiB)"} {
		assert.Contains(t, out, says)
	}
	e.must("change", "draft", "tern-rt1", "-to", "7.4.7", "-to-model", "V2")
	assert.Contains(t, strings.Join(strings.Fields(e.must("change", "check", "1")), " "), "it goes on as V2; will change: serial, host-key, engine-id")
	require.Equal(t, gen.ChangeStateDone, e.run(1).State, e.must("change", "show", "1"))
	shown := e.must("change", "show", "1")
	for _, says := range []string{"from 7.4.6 to 7.4.7 as V2", "the device runs 7.4.7 as V2", "Serial of the unit as V2", "Verdict: pass"} {
		assert.Contains(t, shown, says)
	}
	assert.Contains(t, e.must("device", "show", "tern-rt1"), "Calderpath V2, serial V2-")

	require.NoError(t, router.Change("", strings.Replace(router.Config(), "10.71.0.5", "10.71.0.9", 1)))
	e.must("device", "refresh", "tern-rt1")
	losses := e.must("change", "back", "tern-rt1", "-preview")
	assert.Contains(t, losses, "10.71.0.9", "what was configured since, by the names of now")
	assert.NotContains(t, losses, "lane-1")
	e.refused(1, []string{"that of a V1, and this one is a V2"}, "change", "back", "tern-rt1", "-carry")
	e.must("change", "back", "tern-rt1")
	require.Equal(t, gen.ChangeStateDone, e.run(2).State, e.must("change", "show", "2"))
	assert.Contains(t, e.must("change", "show", "2"), "from 7.4.7 to 7.4.6 as V1")
	assert.Contains(t, e.must("device", "show", "tern-rt1"), "Calderpath V1")

	do := doer(t, browser(t))
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), visible("#replace"),
		chromedp.Navigate("http://"+e.url+"/changes/1"), text("main", "Hop 1 of 1: 7.4.6 to 7.4.7 as V2"), text("main", "Serial of the unit as V2"), shot("platform"),
		chromedp.Navigate("http://"+e.url+"/devices/tern-rt1"), visible("#to-model"), chosen("#to-model", "V2"), click("#aim"), clickText("*[@role='option']", "7.4.7"), text("main", "port0 becomes lane-1"), text("main", "it becomes V2-.+"), shot("platform-path"))
}
