package e2e

import (
	"net/http/httptest"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/box"
	"verimorph/simfleet/licences"
	"verimorph/simfleet/shellbox"
)

// A licence from the licence service: what the service would refuse is told before anything begins; then it is taken, once, and its key is never shown.
func TestALicenceComesFromItsService(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "control-sg1", maker: "Brackmoor", model: "SG-5", serial: "SG5-00713", version: "4.2.2", config: "control-sg1.json", transfer: "http"})
	e.must("catalogue", "load", "../demo/catalog")
	require.NoError(t, e.box("control-sg1").Arm(shellbox.NoLicence, box.Fault{}))
	e.must("device", "refresh", "control-sg1")
	id := e.operations("control-sg1", "licence:gateway-full")
	assert.Contains(t, e.must("change", "show", id), "no licence service is set up")
	assert.Contains(t, e.must("licence-service", "show"), "None is set up")
	service := licences.New("C-1", "secret", map[string]int{"gateway-full": 1}, map[string][]string{"gateway-full": {"OTHER"}})
	web := httptest.NewServer(service.Handler())
	defer web.Close()
	set := func(password string) string {
		out, stderr, code := e.client(password+"\n", "licence-service", "set", "-url", web.URL, "-user", "C-1")
		require.Equal(t, 0, code, out+stderr)
		return out
	}
	e.refused(2, []string{"-url and -user are needed"}, "licence-service", "set", "-url", web.URL)
	_, stderr, code := e.client("x\n", "licence-service", "set", "-url", "http://u:p@h/", "-user", "C-1")
	assert.Equal(t, 3, code)
	assert.Contains(t, stderr, "without a name or password in it")

	// In the console it is set, too, and its password is not shown.
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), text("table", "control-sg1"),
		clickText("a", "Images"), text("#licence-service", "None yet"), click("#set-licence-service"), typed("input[name=licence-service-url]", "here"), typed("input[name=licence-service-user]", "C-1"),
		typed("input[name=licence-service-password]", "unsaid"), click("[role=dialog] button[type=submit]"), text("[role=dialog]", "should look like https://licences.example"),
		emptied("input[name=licence-service-url]"), typed("input[name=licence-service-url]", web.URL), click("[role=dialog] button[type=submit]"), text("#licence-service", web.URL), lacks("body", "unsaid"), shot("licence-service"))

	e.must("change", "approve", id)
	assert.NotContains(t, set("wrong"), "wrong")
	e.refused(1, []string{"there is no such contract"}, "change", "start", id)
	set("secret")
	assert.Contains(t, e.must("licence-service", "show"), web.URL+" as C-1")
	e.refused(1, []string{"licence gateway-full from the licence service", "all of them are with other devices"}, "change", "start", id)
	assert.Equal(t, []string{"OTHER"}, service.Taken("gateway-full"), "nothing was taken")

	more := licences.New("C-1", "secret", map[string]int{"gateway-full": 2}, map[string][]string{"gateway-full": {"OTHER"}})
	web.Config.Handler = more.Handler()
	e.must("change", "start", id)
	c := e.awaitEnd(id)
	require.Equal(t, gen.ChangeStateDone, c.State, "%v", value(c.Failure))
	assert.Equal(t, []string{"OTHER", "SG5-00713"}, more.Taken("gateway-full"))
	out := e.must("change", "show", id)
	assert.Contains(t, out, "the device has the licence gateway-full")
	for _, text := range []string{out, e.must("change", "journal", id), e.log.String()} {
		assert.NotContains(t, text, shellbox.LicenceKey("SG5-00713", "gateway-full"))
		assert.NotContains(t, text, "secret")
	}
}
