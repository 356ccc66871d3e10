package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/plainbox"
	"verimorph/simfleet/tarnholm"
)

// ramp is the ramp controller of the demo.
func ramp() box {
	return box{name: "marrow-ramp1", maker: "Pellworth", model: "RC-6", serial: "RC6-118", version: "F1.06", config: "marrow-ramp1.ini", transfer: "tftp", site: "Marrow Holm"}
}

// withFieldImages loads the whole catalogue and the images of the field devices.
func (e *env) withFieldImages() {
	e.t.Helper()
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	e.must("fetch", "rc6-F2.12.fw", "rc6-web-2.4.zip")
	a := e.access("marrow-ramp1")
	out, stderr, code := e.client(a.Plate+"\n", "credential", "add", "-device", "marrow-ramp1", "-user", a.User)
	require.Equal(e.t, 0, code, out+stderr)
}

// Ready or not, through the client: what stops, what warns, who accepts, who approves, and the window.
func TestReadyOrNot(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen(), ramp())
	e.addImages("th60-4.2.9.img")
	e.withFieldImages()
	id := fmt.Sprint(e.draft2("marrow-ramp1", "-to", "F2.12", "-reset"))
	out := e.refused(1, []string{"the key switch must stand at service", "turn the key switch", "Way back"}, "change", "check", id)
	assert.Contains(t, out, "512.0 KiB are free")
	e.must("change", "approve", id)
	e.refused(1, []string{"not ready: ", "the key switch must stand at service"}, "change", "start", id)
	require.NoError(t, e.fleet.Plain("marrow-ramp1").Arm(plainbox.ByHandKey, plainbox.Fault{}))
	e.refused(1, []string{"there are warnings: Way back", "way-back"}, "change", "start", id)
	e.refused(2, []string{"-reason is needed"}, "change", "accept-warnings", id, "way-back")
	e.refused(3, []string{`there is no check "moon"`}, "change", "accept-warnings", id, "moon", "-reason", "because")
	e.refused(1, []string{"only warnings can be accepted"}, "change", "accept-warnings", id, "reach", "-reason", "because")
	assert.Contains(t, e.must("change", "accept-warnings", id, "way-back", "-reason", "a crane stands by"), "accepted by engineer: a crane stands by")

	// New terms have to be approved anew; a window that is too short does not let it start.
	until := time.Now().Add(time.Minute + time.Second).Format("2006-01-02 15:04")
	e.must("change", "terms", id, "-window-until", until, "-back", "automatic")
	assert.Equal(t, gen.ChangeStateDraft, e.change(id).State)
	e.refused(1, []string{"cannot start a change that is draft"}, "change", "start", id)
	e.must("change", "approve", id)
	assert.Contains(t, e.refused(1, nil, "change", "start", id), "could not finish and still go back")
	e.refused(2, []string{"is no time"}, "change", "terms", id, "-window-until", "soon")
	e.refused(3, []string{"the window ends before it begins"}, "change", "terms", id, "-window-from", "2031-01-02 02:00", "-window-until", "2031-01-01 02:00")
	e.must("change", "terms", id, "-window-from", "2031-01-01 02:00", "-window-until", "2031-01-01 04:00")
	e.must("change", "approve", id)
	assert.Contains(t, e.refused(1, nil, "change", "start", id), "it opens at 2031-01-01")

	// Approval by a second person, where the policy asks for it.
	assert.Contains(t, e.must("change", "policy"), "Approval: by anybody.")
	assert.Contains(t, e.must("change", "policy", "-second-person"), "by somebody else than who drafted it")
	e.must("change", "terms", id)
	e.refused(1, []string{"was drafted by you", "somebody else"}, "change", "approve", id)
	cmd := exec.Command(filepath.Join(binDir, "verimorphd"), "-database", e.database, "new-user", "mate")
	password, err := cmd.Output()
	require.NoError(t, err)
	_, stderr, code := e.client(string(password), "sign-in", "mate", "-server", "http://"+e.url)
	require.Equal(t, 0, code, stderr)
	e.must("change", "approve", id)
	e.must("change", "start", id)

	// The hand step: evidence goes with it, and only then it is done.
	e.await(id, "asks", func(ch gen.Change) bool { return ch.State == gen.ChangeStateAsking || ch.EndedAt != nil })
	assert.Contains(t, e.refused(1, nil, "change", "watch", id), "It needs you: By hand: move every ramp once")
	picture := filepath.Join(e.dir, "movement.png")
	require.NoError(t, os.WriteFile(picture, []byte("\x89PNG\r\n\x1a\nnot much of a picture"), 0o600))
	assert.Contains(t, e.must("change", "evidence", id, picture), "Attached movement.png")
	e.refused(1, []string{"cannot resume a change that is asking"}, "change", "resume", id)
	e.must("change", "sign-off", id, "-text", "bow and stern moved freely")
	ch := e.awaitEnd(id)
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", ch.Failure)
	assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict)
	assert.Contains(t, e.must("change", "show", id), "signed off by mate: bow and stern moved freely")
	status, body, header := e.call(http.MethodGet, "/api/v1/changes/"+id+"/evidence/1", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, string(body), "not much of a picture")
	assert.Contains(t, header.Get("Content-Type"), "octet-stream")
	status, _, _ = e.call(http.MethodPost, "/api/v1/changes/"+id+"/evidence?step=1&name=x", "abc", "Content-Type", "application/octet-stream")
	assert.Equal(t, 400, status, "step 1 is no hand step")
}

// Readings at any time, and those that a company adds; going back weeks later with what it would lose.
func TestVerifyAndGoBack(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen())
	e.addImages("th60-4.2.9.img")
	e.refused(1, []string{"no readings of hollen-fw1 were taken yet"}, "verify", "hollen-fw1")
	assert.Contains(t, e.must("reading", "take", "hollen-fw1"), "ports-up")
	assert.Contains(t, e.must("verify", "hollen-fw1"), "Verdict: pass")
	own := filepath.Join(e.dir, "own.yaml")
	require.NoError(t, os.WriteFile(own, []byte("name: boots-from\ntitle: Slot it starts from\ntype: text\nsend: tell boot\nmatch: '(?m)from (?P<value>\\S+),'\nexpect: {rule: equals, value: c, severity: degraded}\n"), 0o600))
	assert.Contains(t, e.must("reading", "add", "-dialect", "tarnholm", own), "boots-from")
	assert.Contains(t, e.must("reading", "added"), "boots-from")
	assert.Contains(t, e.refused(1, []string{"Verdict: degraded"}, "verify", "hollen-fw1", "-before", "1"), "is a; c is expected")
	e.must("reading", "remove", "1")
	require.NoError(t, os.WriteFile(own, []byte("name: bad\nsend: tell boot\n"), 0o600))
	e.refused(3, []string{"the reading cannot be used", "bad needs a name, a match"}, "reading", "add", "-dialect", "tarnholm", own)
	e.refused(1, []string{"device hollen-fw1 has no readings 99"}, "verify", "hollen-fw1", "-before", "99")

	id := e.begin("hollen-fw1", "4.2.9")
	require.Equal(t, gen.ChangeStateDone, e.awaitEnd(id).State)
	out := e.must("change", "back", "hollen-fw1", "-preview")
	assert.Contains(t, out, "Going back from 4.2.9 to 4.2.3")
	assert.Contains(t, out, "password of bosun")
	var ch gen.Change
	require.NoError(t, json.Unmarshal([]byte(e.must("change", "back", "hollen-fw1", "-json")), &ch))
	assert.Equal(t, gen.Back, ch.Kind)
	back := fmt.Sprint(ch.Id)
	e.must("change", "approve", back)
	e.must("change", "start", back)
	ch = e.awaitEnd(back)
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", ch.Failure)
	assert.Equal(t, "4.2.3", e.fleet.Box("hollen-fw1").Status().Version)
	assert.Equal(t, 1, e.fleet.Box("hollen-fw1").Status().Fits, "nothing was installed for it")
	e.refused(1, []string{"nothing to go back from"}, "change", "losses", fmt.Sprint(e.draft("hollen-fw1", "4.2.9")))
}

// The console when something goes wrong: faults are chosen on their page, the change asks, what would be lost is shown, and it
// goes back.
func TestConsoleAsks(t *testing.T) {
	t.Parallel()
	e := setUpSimulated(t, 40, box{name: "gullnes-fw1", serial: "TH60-05120", site: "Gullnes", model: "TH-60", version: "5.0.7", idle: "5.0.6", sessions: 860}, ramp())
	e.addImages("th60-5.4.2.img")
	e.withFieldImages()
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), text("table", "gullnes-fw1"))
	do(clickText("a", "Simulated fleet"), text("h1", "Simulated fleet"), text("table", "marrow-ramp1"))
	do(chosen(`tr[data-device="gullnes-fw1"] select`, tarnholm.LoseTranslations), text("table", "the next restart loses address translation"), click(`tr[data-device="gullnes-fw1"] button[type=submit]`), text(`tr[data-device="gullnes-fw1"]`, "lose-translations"))
	do(chosen(`tr[data-device="marrow-ramp1"] select`, plainbox.ByHandKey), click(`tr[data-device="marrow-ramp1"] button[type=submit]`), shot("faults"))

	id := e.begin("gullnes-fw1", "5.4.2")
	do(clickText("a", "Changes"), clickText("a", id), text("#question", "It failed after the point of no return"), text("#question", "Address translation rules"), text("#losses", "Going back from 5.4.2 to 5.0.7"),
		text("#losses", "Credentials that apply then"), text("#state", "asking"), top(), shot("asking"),
		click("#go-back"), text("#state", "returned"), text("#verdict", "verdict: pass"), text("main", "Way back of hop 1"))
	assert.Equal(t, "5.0.7", e.fleet.Box("gullnes-fw1").Status().Version)

	// A draft that is not ready, and a hand step.
	r := fmt.Sprint(e.draft2("marrow-ramp1", "-to", "F2.12", "-reset"))
	do(clickText("a", "Changes"), clickText("a", r), text("main", "Ready or not"), text(`tr[data-check="way-back"]`, "none is known"), clickText("button", "Accept"), typed("input[name=reason]", "a crane stands by"), click("#take-on"), text("main", "Accepted by engineer: a crane stands by"),
		click("#terms"), chosen("#way", "automatic"), click("#write-terms"), text("main", "taken without asking"),
		click("#approve"), text("#state", "approved"), click("#start"), visible("#sure"), click("#sure"),
		text("#question", "move every ramp once"), typed("input[name=words]", "moved"), click("#sign-off"), text("#state", "done"), text("main", "Guarded settings"))

	// Readings of a device at any time, and its previous installation.
	do(clickText("a", "Fleet"), clickText("a", "gullnes-fw1"), click("#measure"), text("main", "last measured"), click("#verify"), text("main", "Now (5.0.7)"), click("#back"), text("#losses", "Going back from 5.0.7 to 5.4.2"), chromedp.KeyEvent("\x1b"), gone("[role=dialog]"))
}

// setUpSimulated is setUp with a service that knows the fleet's control.
func setUpSimulated(t *testing.T, factor float64, boxes ...box) *env {
	t.Helper()
	e := setUp(t, factor, boxes...)
	control := httptest.NewServer(e.fleet.Handler())
	t.Cleanup(control.Close)
	e.control = control.URL
	e.killService()
	e.startService()
	return e
}

// draft2 drafts a change with any flags.
func (e *env) draft2(device string, flags ...string) int64 {
	e.t.Helper()
	var ch gen.Change
	require.NoError(e.t, json.Unmarshal([]byte(e.must(append([]string{"change", "draft", device, "-json"}, flags...)...)), &ch))
	return ch.Id
}
