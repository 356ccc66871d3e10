package e2e

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/core/onboarding"
	"verimorph/simfleet"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
)

// calling are access points as they come out of their crates, which ask the service what they are to become.
func calling(serials ...string) (out []simulated) {
	for i, s := range serials {
		out = append(out, simulated{name: fmt.Sprintf("new%d", i+1), maker: "Gullwire", model: "AP-31", serial: s, version: "8.5.2", config: "innersund-sa1.conf", calls: true})
	}
	return out
}

// expect drafts that a device is brought up when it calls.
func (e *env) expect(code int, name, serial, to string, more ...string) string {
	e.t.Helper()
	a := e.access(name)
	host, _, err := net.SplitHostPort(a.Address)
	require.NoError(e.t, err)
	args := append([]string{"bring-up", name, "-calls", "-address", a.Address, "-dialect", a.Dialect, "-user", a.User, "-serial", serial, "-model", "AP-31", "-to", to, "-template", "point", "-set", "name=" + name, "-set", "place=Kiosk",
		"-set", "address=" + host + "/24", "-set", "phrase=hush hush"}, more...)
	stdout, stderr, got := e.client(a.Password+"\n", args...)
	require.Equal(e.t, code, got, stdout+stderr)
	return stdout + stderr
}

// callAs makes a call of a device to the bootstrap server, with a certificate that an authority gives out.
func (e *env) callAs(by *onboarding.Authority, serial, method, path, body string) (code int, text string) {
	e.t.Helper()
	cert, key, err := by.Give("AP-31", serial)
	require.NoError(e.t, err)
	r, err := http.NewRequestWithContext(e.t.Context(), method, "https://"+e.calls+path, strings.NewReader(body))
	require.NoError(e.t, err)
	c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true, Certificates: []tls.Certificate{{Certificate: [][]byte{cert.Raw}, PrivateKey: key}}}}}
	resp, err := c.Do(r)
	require.NoError(e.t, err)
	defer resp.Body.Close()
	out, err := io.ReadAll(resp.Body)
	require.NoError(e.t, err)
	return resp.StatusCode, string(out)
}

// making is the makers' side: who made the devices, and who owns them.
type making struct {
	*env
	owner string // a certificate in PEM
}

func (m *making) state() string { return filepath.Join(m.dir, "fleet") }

func (m *making) text(file string) string {
	m.t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(m.t, err)
	return string(data)
}

func (m *making) write(name string, text []byte, err error) string {
	m.t.Helper()
	require.NoError(m.t, err)
	name = filepath.Join(m.dir, name)
	require.NoError(m.t, os.WriteFile(name, text, 0o600))
	return name
}

// certificate is a file with that of the maker.
func (m *making) certificate() string {
	text, err := simfleet.MakerCertificate("Gullwire", m.state())
	return m.write("maker.pem", text, err)
}

// voucher is a file with the voucher of a device for the owner.
func (m *making) voucher(serial string) string {
	text, err := simfleet.Voucher("Gullwire", m.state(), serial, []byte(m.owner))
	return m.write(serial+".vcj", text, err)
}

// hostile calls the bootstrap server as nobody should: nothing of what is handed out comes back. One device waits for its data; the change of the other is over.
func (m *making) hostile(over, waits string) {
	t := m.t
	known, err := onboarding.ReadAuthority([]byte(m.text(filepath.Join(m.state(), "maker-gullwire.pem"))))
	require.NoError(t, err)
	forger, err := onboarding.NewAuthority("Gullwire devices")
	require.NoError(t, err)
	rpc := "/restconf/operations/ietf-sztp-bootstrap-server:"
	for _, c := range []struct {
		by           *onboarding.Authority
		serial       string
		method, path string
		body         string
		code         int
		says         string
	}{
		{forger, waits, "POST", rpc + "get-bootstrapping-data", "{}", 403, "no maker that is known gave that certificate out"},
		{known, over, "POST", rpc + "get-bootstrapping-data", "{}", 404, "nobody expects"},
		{known, "", "POST", rpc + "get-bootstrapping-data", "{}", 404, "nobody expects"},
		{known, waits, "POST", rpc + "get-bootstrapping-data", "{", 400, "malformed-message"},
		{known, waits, "POST", rpc + "report-progress", "{}", 400, "progress-type is missing"},
		{known, waits, "POST", rpc + "report-progress", strings.Repeat("x", 2<<20), 400, "malformed-message"},
		{known, waits, "GET", "/images/" + strings.Repeat("0", 64), "", 404, "no image that the device is to run"},
		{known, waits, "GET", "/images/..%2F..%2Fkey", "", 404, "no image that the device is to run"},
		{known, waits, "GET", "/.well-known/host-meta", "", 200, "/restconf"},
	} {
		code, says := m.callAs(c.by, c.serial, c.method, c.path, c.body)
		assert.Equal(t, c.code, code, c.path+c.body[:min(len(c.body), 10)])
		assert.Contains(t, says, c.says)
		assert.NotContains(t, says, "hush")
	}
	_, err = (&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}).Post("https://"+m.calls+rpc+"get-bootstrapping-data", "application/yang-data+json", strings.NewReader("{}"))
	assert.Error(t, err, "who shows no certificate is not heard")
	ours, _, err := onboarding.ReadPEM([]byte(m.owner))
	require.NoError(t, err)
	late, err := onboarding.MakeVoucher(&onboarding.Voucher{Serial: waits, Pinned: ours[0], Created: time.Now().Add(-2 * time.Hour), Expires: time.Now().Add(-time.Hour)}, known.Certificate, known.Key)
	m.refused(3, []string{"the voucher for " + waits + " counted until"}, "bootstrap", "voucher", m.write("late.vcj", late, err))
}

// Blank devices that ask by themselves (RFC 8572): nothing is handed to a device without its maker's certificate, without a voucher, to one that nobody expects, or
// before the change runs; then it is handed release and configuration, the power goes in the middle of one, and the verdict of both holds.
func TestDevicesThatCall(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, calling("AP31-9901", "AP31-9902", "AP31-9903")...)
	e.must("catalogue", "load", "../demo/catalog/gullwire-gw.yaml")
	e.openSite()
	file := filepath.Join(e.dir, "point.tpl")
	require.NoError(t, os.WriteFile(file, []byte(pointTemplate), 0o600))
	e.must("template", "put", file)
	require.NoError(t, e.box("new2").Arm(shellbox.PowerInTheMiddle, box.Fault{}))

	by := &making{env: e, owner: e.must("bootstrap", "owner")}
	trust := by.certificate()
	stranger := &making{env: e, owner: by.text(trust)}
	e.refused(3, []string{"the voucher for AP31-9901 was made for another owner"}, "bootstrap", "voucher", stranger.voucher("AP31-9901"))
	e.refused(3, []string{"PEM"}, "bootstrap", "trust", file)
	assert.Contains(t, e.must("bootstrap", "list"), "No device may call yet")

	out := e.expect(1, "new1", "AP31-9901", "8.5.5")
	assert.Contains(t, out, "is being fetched")
	require.Eventually(t, func() bool { return strings.Contains(e.must("image", "list"), "8.5.5") }, 60*time.Second, 200*time.Millisecond)
	e.expect(3, "new1", "AP31-9901", "8.9.9")
	for i := 1; i <= 2; i++ {
		out := e.expect(0, fmt.Sprintf("new%d", i), fmt.Sprintf("AP31-990%d", i), "8.5.5")
		assert.NotContains(t, out, "hush")
	}
	out = e.must("change", "show", "1")
	assert.Contains(t, out, "there is no ownership voucher for AP31-9901")
	e.must("change", "approve", "1")
	e.refused(1, []string{"not ready", "there is no ownership voucher for AP31-9901"}, "change", "start", "1")
	e.must("bootstrap", "voucher", by.voucher("AP31-9901"), by.voucher("AP31-9902"))
	e.must("bootstrap", "trust", trust)
	for _, id := range []string{"1", "2"} {
		e.must("change", "check", id)
	}
	e.must("change", "approve", "2")
	assert.Equal(t, "8.5.2", e.box("new1").Status().Version, "nothing is handed out before the change runs")
	for _, id := range []string{"1", "2"} {
		e.must("change", "start", id)
	}
	for id, name := range map[string]string{"1": "new1", "2": "new2"} {
		ch := e.awaitEnd(id)
		require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
		assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict, "%+v", ch.Verdict)
		st := e.box(name).Status()
		assert.Equal(t, "8.5.5", st.Version)
		assert.Contains(t, st.Main, `wlan.tills.passphrase = "hush hush"`)
		assert.NotContains(t, e.must("change", "show", id), "hush")
	}
	out = e.must("bootstrap", "list")
	assert.Regexp(t, `AP31-9902 +new2 +2 +done +there +\S.* bootstrap-complete`, out)
	assert.Equal(t, "8.5.2", e.box("new3").Status().Version, "nobody expected it")

	// One that does not call is waited for, and told of; then it does.
	require.NoError(t, e.box("new3").Arm(shellbox.NeverCalls, box.Fault{}))
	e.must("bootstrap", "voucher", by.voucher("AP31-9903"))
	e.expect(0, "new3", "AP31-9903", "8.5.5", "-start")
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), click("#bring-up"),
		text(`[data-call=AP31-9903]`, "it has not called yet"), text(`[data-call=AP31-9901]`, "it is what it was handed"), shot("calls"))
	e.await("3", "tells that nobody called", func(ch gen.Change) bool {
		return strings.Contains(stepOf(ch, 1, "call").Note, "AP31-9903 has not called yet")
	})
	by.hostile("AP31-9901", "AP31-9903")
	require.NoError(t, e.box("new3").Heal(shellbox.NeverCalls))
	ch := e.awaitEnd("3")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
}
