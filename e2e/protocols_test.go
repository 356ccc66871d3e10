package e2e

import (
	"context"
	"fmt"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/calderpath"
)

// A router is upgraded over NETCONF and gNOI through the client: where it offers them is set, its certificate is pinned, shown and forgotten, and what it says by syslog meanwhile
// stands in the journal.
func TestManagementProtocols(t *testing.T) {
	t.Parallel()
	e := setUp(t, 20, simulated{name: "tern-rt1", maker: "Calderpath", model: "V1", version: "7.4.6", config: "tern-rt1.xml"})
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	router := e.fleet.Box("tern-rt1").(*calderpath.Box)

	e.refused(3, []string{`protocol "pigeon" is not known`}, "device", "set", "tern-rt1", "-services", "pigeon=127.0.0.1:1")
	e.refused(3, []string{"should look like 192.0.2.7:9339"}, "device", "set", "tern-rt1", "-services", "gnoi=nowhere")
	e.must("device", "set", "tern-rt1", "-services", "gnoi="+router.GRPC()+",gnmi="+router.GRPC())
	shown := e.must("device", "show", "tern-rt1")
	assert.Contains(t, shown, "gnoi      "+router.GRPC())
	assert.Contains(t, shown, "images by gNOI (os.Install)")
	assert.Contains(t, e.must("dialect", "coverage", "../device/cli/dialects/calderpath.yaml"), "restart, by gnoi")

	c := decode[gen.Change](t, e.must("change", "draft", "tern-rt1", "-to", "7.4.7", "-json"))
	host, _, err := net.SplitHostPort(e.url)
	require.NoError(t, err)
	stop := make(chan struct{})
	defer sync.OnceFunc(func() { close(stop) })()
	go func() { // it says the same all the time; what comes before the change works on it is nobody's
		conn, err := net.Dial("udp", host+":5514")
		if !assert.NoError(t, err) {
			return
		}
		defer conn.Close()
		for {
			_, _ = conn.Write([]byte("<27>1 - tern-rt1 fand - - - a fan stands still"))
			select {
			case <-stop:
				return
			case <-time.After(200 * time.Millisecond):
			}
		}
	}()
	c = e.run(c.Id)
	require.Equal(t, gen.ChangeStateDone, c.State, value(c.Failure))
	require.NotNil(t, c.Verdict)
	assert.Equal(t, "degraded", string(c.Verdict.Verdict), "an error that nobody expected is a doubt")
	version, installs, _ := router.Stands()
	assert.Equal(t, "7.4.7", version)
	assert.Equal(t, 1, installs)
	assert.Contains(t, e.must("change", "journal", fmt.Sprint(c.Id)), "tern-rt1 says by syslog: error: fand: a fan stands still")

	assert.Contains(t, e.must("device", "show", "tern-rt1"), "certificate with the key sha256:")
	e.protocolsInTheConsole(router.GRPC())
	shown = e.must("device", "show", "tern-rt1")
	assert.NotContains(t, shown, "certificate with the key", "the console has them forgotten")
	assert.Contains(t, shown, "snmp      127.0.0.9:1161", "the console has set it")
	e.must("device", "set", "tern-rt1", "-services", "-")
	assert.NotContains(t, e.must("device", "show", "tern-rt1"), "127.0.0.9:1161")

	_, stderr, code := e.client("harbour-only\n", "credential", "add", "-device", "tern-rt1", "-kind", "snmp-community")
	require.Equal(t, 0, code, stderr)
	e.refused(2, []string{"-cert-file and -key-file are needed"}, "credential", "add", "-device", "tern-rt1", "-kind", "certificate")
	list := e.must("credential", "list", "-device", "tern-rt1")
	assert.Contains(t, list, "snmp-community")
	assert.NotContains(t, list, "harbour-only")
}

// protocolsInTheConsole looks at the router's page, has its keys forgotten, and sets where another protocol is offered.
func (e *env) protocolsInTheConsole(grpc string) {
	do := doer(e.t, browser(e.t))
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), visible("#settings, main"),
		chromedp.Navigate("http://"+e.url+"/devices/tern-rt1"), visible("#settings"), text("dl", "sha256:"), text("dl", grpc), usable("router"),
		click("#settings"), visible(`input[name=services]`), usable("router-settings"),
		typed(`input[name=services]`, ", snmp=127.0.0.9:1161"), click("#write-settings"), text("dl", "127.0.0.9:1161"),
		clickText("button", "Host key"), visible(`input[name=host-key]`), usable("router-key"), clickText("button", "Forget them"),
		gone(`input[name=host-key]`))
}

// usable checks the page for what keeps people out of it.
func usable(name string) act {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		return none, accessible(ctx, t, name)
	}
}
