package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
)

// ramp is the ramp controller of the demo.
func ramp() simulated {
	return simulated{name: "marrow-ramp1", maker: "Pellworth", model: "RC-6", serial: "RC6-118", version: "F1.06", config: "marrow-ramp1.ini", transfer: "tftp", site: "Marrow Holm"}
}

// withFieldImages loads the whole catalogue and the images of the field devices.
func (e *env) withFieldImages() {
	e.t.Helper()
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	e.must("fetch", "rc6-F2.12.fw", "rc6-web-2.4.zip")
}

// Readiness, through the client: what stops, what warns, who accepts, who approves, and the window.
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
	require.NoError(t, e.box("marrow-ramp1").Arm(shellbox.ByHandKey, box.Fault{}))
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
	assert.Contains(t, e.must("change", "evidence", id), "movement.png")
	copied := filepath.Join(e.dir, "copied.png")
	e.must("change", "evidence", id, "-get", "1", "-o", copied)
	data, err := os.ReadFile(copied)
	require.NoError(t, err)
	assert.Equal(t, "\x89PNG\r\n\x1a\nnot much of a picture", string(data))
	e.refused(3, []string{"exists"}, "change", "evidence", id, "-get", "1", "-o", copied)
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
	assert.Equal(t, gen.ChangeKindBack, ch.Kind)
	back := fmt.Sprint(ch.Id)
	e.must("change", "approve", back)
	e.must("change", "start", back)
	ch = e.awaitEnd(back)
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", ch.Failure)
	assert.Equal(t, "4.2.3", e.firewall("hollen-fw1").Status().Version)
	assert.Equal(t, 1, e.firewall("hollen-fw1").Status().Fits, "nothing was installed for it")
	e.refused(1, []string{"nothing to go back from"}, "change", "losses", fmt.Sprint(e.draft("hollen-fw1", "4.2.9")))
}

// The console when something goes wrong: faults are chosen on their page, the change asks, what would be lost is shown, and it
// goes back.
func TestConsoleAsks(t *testing.T) {
	t.Parallel()
	e := setUpSimulated(t, 40, simulated{name: "gullnes-fw1", serial: "TH60-05120", site: "Gullnes", model: "TH-60", version: "5.0.7", idle: "5.0.6", sessions: 860}, ramp())
	e.addImages("th60-5.4.2.img")
	e.withFieldImages()
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), text("table", "gullnes-fw1"))
	do(clickText("a", "Simulated,"), text("h1", "Simulated fleet"), text("table", "marrow-ramp1"))
	do(chosen(`tr[data-device="gullnes-fw1"] select`, tarnholm.LoseTranslations), text("table", "the next restart loses address translation"), click(`tr[data-device="gullnes-fw1"] button[type=submit]`), text(`tr[data-device="gullnes-fw1"]`, "lose-translations"))
	do(chosen(`tr[data-device="marrow-ramp1"] select`, shellbox.ByHandKey), click(`tr[data-device="marrow-ramp1"] button[type=submit]`), shot("faults"))

	id := e.begin("gullnes-fw1", "5.4.2")
	do(clickText("a", "Changes"), clickText("a", id), text("#question", "It failed after the point of no return"), text("#question", "Address translation rules"), text("#losses", "Going back from 5.4.2 to 5.0.7"),
		text("#losses", "Credentials that apply then"), text("#state", "asking"), top(), shot("asking"),
		click("#go-back"), text("#state", "returned"), text("#verdict", "verdict: pass"), text("main", "Way back of hop 1"))
	assert.Equal(t, "5.0.7", e.firewall("gullnes-fw1").Status().Version)

	// A draft that is not ready, and a hand step.
	r := fmt.Sprint(e.draft2("marrow-ramp1", "-to", "F2.12", "-reset"))
	do(clickText("a", "Changes"), clickText("a", r), text("main", "Readiness"), text(`tr[data-check="way-back"]`, "none is known"), clickText("button", "Accept"), typed("input[name=reason]", "a crane stands by"), click("#take-on"), text("main", "Accepted by engineer: a crane stands by"),
		click("#terms"), chosen("#way", "automatic"), click("#write-terms"), text("main", "taken without asking"),
		click("#approve"), text("#state", "approved"), click("#start"), visible("#sure"), click("#sure"),
		text("#question", "move every ramp once"), typed("input[name=words]", "moved"), click("#sign-off"), text("#state", "done"), text("main", "Guarded settings"))

	// Readings of a device at any time, and its previous installation.
	do(clickText("a", "Fleet"), clickText("a", "gullnes-fw1"), click("#measure"), text("main", "last measured"), click("#verify"), text("main", "Now (5.0.7)"), click("#back"), text("#losses", "Going back from 5.0.7 to 5.4.2"), chromedp.KeyEvent("\x1b"), gone("[role=dialog]"))
}

// What holds for every change, what is measured beside the dialects, how a device is reached, and what a draft may say besides its
// aim: all of it in the console, and seen through the client.
func TestConsoleRules(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen())
	e.addImages("th60-4.2.9.img")
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), text("table", "hollen-fw1"),
		clickText("a", "Changes"), click("#rules"), text("h1", "Rules for changes"), text("main", "None yet."),
		click("#second-person"), chosen("#policy-way", "automatic"))
	out := ""
	assert.Eventually(t, func() bool {
		out = e.must("change", "policy")
		return strings.Contains(out, "by somebody else than who drafted it") && strings.Contains(out, "without asking")
	}, 10*time.Second, 200*time.Millisecond)
	require.Contains(t, out, "Approval: by somebody else than who drafted it.\nWhen a change fails after the point of no return, the way back is taken without asking.")
	do(click("#second-person"))

	// A reading that cannot be used says why and keeps what was typed; a good one counts at once, for its group only.
	do(click("#add-reading"), visible("[role=dialog]"), chosen("#reading-dialect", "tarnholm"), typed(`input[name=reading-group]`, "piers"), typed(`textarea[name=definition]`, "x: y"), click("#write-reading"), text("[role=dialog] [role=alert]", "the reading cannot be used"),
		emptied(`textarea[name=definition]`), typed(`textarea[name=definition]`, "name: boots-from\ntitle: Slot it starts from\ntype: text\nsend: tell boot\nmatch: 'from (?P<value>[a-z]),'\nexpect: {rule: unchanged, severity: degraded}\n"), click("#write-reading"), gone("[role=dialog]"),
		text("table", "group piers, tarnholm"), shot("rules"))
	assert.NotContains(t, e.must("reading", "take", "hollen-fw1"), "boots-from")

	// How the device is reached, how files get there, and its groups.
	do(clickText("a", "Fleet"), clickText("a", "hollen-fw1"), click("#settings"), typed(`input[name=groups]`, "piers"), chosen("#transfer", "pull-sftp"), typed(`input[name=via]`, "moon"), click("#write-settings"), text("[role=dialog] [role=alert]", "moon"),
		emptied(`input[name=via]`), typed(`input[name=console]`, "127.0.0.1:7"), click("#write-settings"), gone("[role=dialog]"), text("main", "images by SFTP, fetched by the device"), text("main", "Console line"))
	assert.Contains(t, e.must("reading", "take", "hollen-fw1"), "boots-from")
	var d gen.Device
	require.NoError(t, json.Unmarshal([]byte(e.must("device", "show", "hollen-fw1", "-json")), &d))
	assert.Equal(t, []string{"piers"}, d.Groups)
	assert.Equal(t, gen.PullSftp, d.Transfer)
	assert.Equal(t, "127.0.0.1:7", value(d.Reach.Console))
	assert.Empty(t, value(d.Reach.Via))
	do(click("#settings"), chosen("#transfer", "sftp"), click("#write-settings"), gone("[role=dialog]"), text("main", "images by SFTP"))

	// A draft with files to remove first and another address afterwards.
	e.must("device", "refresh", "hollen-fw1")
	do(chromedp.Focus(chromedp.CSS(`#aim`)), chromedp.KeyEvent(" "), visible(`[role=option]`), chromedp.KeyEvent("4.2.9"), chromedp.KeyEvent("\r"), click("#more"), typed(`input[name=clean-up]`, "old.log"), typed(`input[name=comes-back-at]`, "nowhere"), click("#draft"), text("[role=alert]", "should look like"),
		emptied(`input[name=comes-back-at]`), typed(`input[name=comes-back-at]`, "127.0.0.2:2022"), click("#draft"), text("h1", "Change 1"), text("main", "taken without asking"))
	out = e.must("change", "show", "1")
	assert.Contains(t, out, "127.0.0.2:2022")
	assert.Contains(t, out, "old.log")

	// What was added is taken away again.
	do(clickText("a", "Changes"), click("#rules"), click(`button[aria-label="Take away boots-from"]`), text("main", "None yet."))
	assert.NotContains(t, e.must("reading", "added"), "boots-from")
}

// The contract of carrying changes out: what is refused and why.
func TestCallsOfCarrying(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen())
	e.addImages("th60-4.2.9.img")
	e.draft2("hollen-fw1", "-to", "4.2.9")
	reading := func(definition string) m { return m{"dialect": "tarnholm", "definition": definition} }
	const good = "name: x\nsend: tell boot\ntype: text\nmatch: '(?P<value>a)'\nexpect: {rule: unchanged, severity: fail}\n"
	for _, c := range []struct {
		method, path string
		body         any
		status       int
		says         string
	}{
		{"POST", "/changes", m{"device": "nobody", "to": "4.2.9"}, 404, "there is no device"},
		{"POST", "/changes", m{"device": "hollen-fw1", "to": "9.9"}, 404, "9.9"},
		{"POST", "/changes", m{"device": "hollen-fw1", "to": "4.2.9", "comesBackAt": "there"}, 400, "should look like 192.0.2.7:22"},
		{"POST", "/changes", m{"device": "hollen-fw1", "to": "4.2.9", "cleanUp": []string{"th60-4.2.9.img"}}, 400, "is an image of this change"},
		{"POST", "/changes", m{"device": "hollen-fw1", "to": "4.2.9", "terms": m{"wayBack": "maybe"}}, 400, "offered or automatic"},
		{"POST", "/changes/1/dance", nil, 400, "there is no action"},
		{"POST", "/changes/99/start", nil, 404, "there is no change 99"},
		{"POST", "/changes/1/start", nil, 409, "cannot start a change that is draft"},
		{"POST", "/changes/1/sign-off", nil, 409, "cannot sign-off a change that is draft"},
		{"POST", "/changes/1/accept", m{"text": " "}, 400, "say why the warnings are accepted"},
		{"POST", "/changes/1/go-back", nil, 409, "cannot go-back a change that is draft"},
		{"POST", "/changes/99/ready", nil, 404, "there is no change 99"},
		{"POST", "/changes/99/accept-warnings", m{"checks": []string{"room"}, "reason": "because"}, 404, "there is no change 99"},
		{"POST", "/changes/1/accept-warnings", m{"checks": []string{}, "reason": "because"}, 400, "name the warnings"},
		{"POST", "/changes/1/accept-warnings", m{"checks": []string{"room"}, "reason": " x "}, 400, "say why"},
		{"PUT", "/changes/99/terms", m{}, 404, "there is no change 99"},
		{"PUT", "/changes/1/terms", m{"wayBack": "maybe"}, 400, "offered or automatic"},
		{"GET", "/changes/99/way-back", nil, 404, "there is no change 99"},
		{"GET", "/changes/1/way-back", nil, 409, "nothing to go back from"},
		{"POST", "/changes/1/evidence?step=1&name=x", nil, 400, "1 byte to 8 MiB"},
		{"POST", "/changes/1/evidence?step=1&name=a/b", "x", 400, "is no file name"},
		{"POST", "/changes/99/evidence?step=1&name=x", "x", 404, "there is no change 99"},
		{"GET", "/changes/1/evidence/7", nil, 404, "no such file"},
		{"GET", "/devices/nobody/back-preview", nil, 404, "there is no device"},
		{"GET", "/devices/nobody/readings", nil, 404, "there is no device"},
		{"GET", "/devices/hollen-fw1/readings?limit=0", nil, 400, "limit must be"},
		{"POST", "/devices/nobody/readings", nil, 404, "there is no device"},
		{"POST", "/devices/hollen-fw1/verify", m{}, 409, "verimorph reading take hollen-fw1"},
		{"POST", "/devices/hollen-fw1/verify", m{"before": 7}, 404, "verimorph reading list hollen-fw1"},
		{"GET", "/devices/nobody/console-log", nil, 404, "there is no device"},
		{"PUT", "/own-readings", m{"dialect": "whalesong", "definition": good}, 400, "is not known; known: "},
		{"PUT", "/own-readings", reading("x"), 400, "cannot be used"},
		{"PUT", "/own-readings", reading(strings.Replace(good, "unchanged", "keeps-all", 1)), 400, "keeps-all is a rule for sets, not for a text"},
		{"PUT", "/own-readings", reading(strings.Replace(good, "unchanged", "at-least", 1)), 400, "at-least is a rule for numbers and sets"},
		{"PUT", "/own-readings", reading(strings.Replace(good, "(?P<value>a)", "(a", 1)), 400, "line 4"},
		{"PUT", "/own-readings", reading(strings.Replace(good, "severity: fail", "severity: bad", 1)), 400, "neither fail nor degraded"},
		{"DELETE", "/own-readings/9", nil, 404, "there is no added reading 9"},
		{"PUT", "/change-policy", m{"secondPerson": false, "wayBack": "maybe"}, 400, "offered or automatic"},
		{"GET", "/simulation", nil, 404, "nothing is simulated here"},
		{"PUT", "/simulation/hollen-fw1/faults/mute", m{}, 404, "nothing is simulated here"},
		{"PATCH", "/devices/hollen-fw1", m{"transfer": "pigeon"}, 400, "pigeon"},
		{"PATCH", "/devices/hollen-fw1", m{"reach": m{"console": "there"}}, 400, "should look like 192.0.2.7:7001"},
		{"PATCH", "/devices/hollen-fw1", m{"reach": m{"only": true}}, 400, "only needs the address of that line"},
		{"PATCH", "/devices/hollen-fw1", m{"reach": m{"enter": "call x"}}, 400, "on the device that via names"},
		{"PATCH", "/devices/hollen-fw1", m{"reach": m{"via": "hollen-fw1"}}, 400, "through itself"},
		{"PATCH", "/devices/hollen-fw1", m{"reach": m{"via": "nobody"}}, 404, "there is no device"},
	} {
		sent, headers := "", []string(nil)
		switch b := c.body.(type) {
		case string:
			sent = b
		case m:
			data, err := json.Marshal(b)
			require.NoError(t, err)
			sent = string(data)
		}
		if strings.Contains(c.path, "/evidence?") {
			headers = []string{"Content-Type", "application/octet-stream"}
		}
		status, answer, _ := e.call(c.method, "/api/v1"+c.path, sent, headers...)
		assert.Equal(t, c.status, status, "%s %s: %s", c.method, c.path, answer)
		assert.Contains(t, string(answer), c.says, "%s %s", c.method, c.path)
	}
	assert.Equal(t, gen.ChangeStateDraft, e.change("1").State, "nothing of that moved the change")
	// What a device is reached through must not lead round in a circle.
	status, body, _ := e.call("POST", "/api/v1/devices", `{"name": "behind", "address": "127.0.0.1:9", "dialect": "tarnholm", "user": "u", "password": "p", "reach": {"via": "hollen-fw1"}}`)
	require.Equal(t, 201, status, string(body))
	status, body, _ = e.call("PATCH", "/api/v1/devices/hollen-fw1", `{"reach": {"via": "behind"}}`)
	assert.Equal(t, 400, status)
	assert.Contains(t, string(body), "leads round in a circle")
}

// A device that lacks the licence of the train it is to run: the change stops before it begins, unless it brings the licence.
func TestALicenceComesWithTheChange(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "control-sg1", maker: "Brackmoor", model: "SG-5", serial: "SG5-00713", version: "4.2.2", config: "control-sg1.json", transfer: "http", edit: strings.NewReplacer(`"ciphers": "first"`, `"ciphers": "second"`)})
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	require.NoError(t, e.box("control-sg1").Arm(shellbox.NoLicence, box.Fault{}))
	e.must("device", "refresh", "control-sg1")
	e.refused(1, []string{"there would be one if the device met SG-Q3", "it has no licence"}, "change", "draft", "control-sg1", "-to", "4.4.2")
	file, key := filepath.Join(e.dir, "full.key"), shellbox.LicenceKey("SG5-00713", "gateway-full")
	require.NoError(t, os.WriteFile(file, []byte(key+"\n"), 0o600))
	e.refused(2, []string{"should look like NAME=FILE"}, "change", "draft", "control-sg1", "-to", "4.4.2", "-licence", file)
	e.refused(3, []string{"no such file"}, "change", "draft", "control-sg1", "-to", "4.4.2", "-licence", "gateway-full=nowhere.key")
	e.refused(3, []string{"a name has letters"}, "change", "draft", "control-sg1", "-to", "4.4.2", "-licence", "a b="+file)
	e.refused(3, []string{"is given twice"}, "change", "draft", "control-sg1", "-to", "4.4.2", "-licence", "x="+file, "-licence", "x="+file)
	e.passes(e.person(e.operations("control-sg1", "component:sg-signatures-2025.40.bin"), nil)) // the content that its release asks for
	e.must("path", "control-sg1", "-to", "4.4.2", "-with-licences", "gateway-full")
	e.refused(2, []string{"-with-licences is for a device"}, "path", "-model", "SG-5", "-from", "4.2.2", "-to", "4.4.2", "-with-licences", "gateway-full")

	// In the console the key is typed in, and never shown.
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), text("table", "control-sg1"),
		clickText("a", "control-sg1"), visible("#aim"), chromedp.Focus(chromedp.CSS(`#aim`)), chromedp.KeyEvent(" "), visible(`[role=option]`), chromedp.KeyEvent("4.4.2"), chromedp.KeyEvent("\r"), text("main", "There is no supported path"), click("#more"),
		typed("input[name=licence]", "gateway-full"), typed("input[name=licence-key]", key), click("#add-licence"), text("#licences li", "gateway-full"), visible("#draft"),
		click("#draft"), text("#state", "draft"), text("main", "Add licence gateway-full"))
	first := e.change("2")
	require.Equal(t, "4.4.2", first.To)

	// The draft made anew brings it along, too.
	id := fmt.Sprint(decode[gen.Change](t, e.must("change", "redraft", "2", "-json")).Id)
	do(text("#state", "stopped"), visible("#redraft"))
	c := e.change(id)
	for _, k := range *c.Checks {
		if k.State == gen.CheckStateWarn {
			e.must("change", "accept-warnings", id, k.Name, "-reason", "it was looked at")
		}
		if k.Name == "licence SG-Q3" {
			assert.Contains(t, k.Evidence, "it has no licence; it is given gateway-full first")
		}
	}
	e.must("change", "approve", id)
	e.must("change", "start", id)
	c = e.awaitEnd(id)
	require.Equal(t, gen.ChangeStateDone, c.State, "%v", value(c.Failure))
	out := e.must("change", "show", id)
	assert.Contains(t, out, "Add licence gateway-full")
	assert.Contains(t, out, "the device has the licence gateway-full")
	page, err := chromedp.Run(ctx, chromedp.Evaluate[string]("document.documentElement.outerHTML"))
	require.NoError(t, err)
	for _, text := range []string{page, out, e.must("change", "show", id, "-json"), e.must("change", "journal", id), e.log.String()} {
		assert.NotContains(t, text, key)
	}
}

// m is a body of JSON.
type m = map[string]any

// setUpSimulated is setUp with a service that knows the fleet's control.
func setUpSimulated(t *testing.T, factor float64, boxes ...simulated) *env {
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
