package e2e

import (
	"encoding/json"
	"fmt"
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
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
)

// operations drafts a change of single operations.
func (e *env) operations(device string, acts ...string) string {
	e.t.Helper()
	e.must("device", "refresh", device)
	var ch gen.Change
	require.NoError(e.t, json.Unmarshal([]byte(e.must(append([]string{"change", "operations", "-json", device}, acts...)...)), &ch))
	assert.Equal(e.t, gen.ChangeKindOperations, ch.Kind)
	return fmt.Sprint(ch.Id)
}

// Steps that stand alone, on a firewall: an image is sent by day, installed another day, chosen and started by night; each is a
// change with its check and its verdict.
func TestSingleSteps(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "gullnes-fw1", model: "TH-60", version: "5.0.7", idle: "5.0.6"})
	e.addImages("th60-5.4.2.img")
	b := e.firewall("gullnes-fw1")
	onFlash := filepath.Join(e.dir, "fleet", "gullnes-fw1", "flash", "th60-5.4.2.img")

	e.passes(e.person(e.operations("gullnes-fw1", "backup", "send:th60-5.4.2.img"), nil))
	assert.FileExists(t, onFlash)
	assert.Equal(t, 0, b.Status().Fits)
	ch := e.person(e.operations("gullnes-fw1", "checksum:th60-5.4.2.img", "install:th60-5.4.2.img"), nil)
	e.passes(ch)
	assert.Equal(t, 1, b.Status().Fits)
	assert.Equal(t, "5.0.7", b.Status().Version, "it is not started")
	assert.Equal(t, 1, b.Status().Boots)
	e.passes(e.person(e.operations("gullnes-fw1", "clean-up:th60-5.4.2.img"), nil))
	assert.NoFileExists(t, onFlash)

	// What is unsaved is lost by a restart, and by nothing else.
	e.typeAt(b.Access(), "raise", b.Access().Watchword, "write port p3 / note spare")
	assert.Contains(t, e.must("change", "check", e.operations("gullnes-fw1", "backup")), "nothing is started anew")
	e.refused(1, []string{"a restart would lose the"}, "change", "check", e.operations("gullnes-fw1", "restart"))
	e.passes(e.person(e.operations("gullnes-fw1", "save"), nil))

	// Chosen and started: that can be undone, and what failed is.
	require.NoError(t, b.Arm(tarnholm.LoseTranslations, box.Fault{}))
	id := e.operations("gullnes-fw1", "choose-slot", "restart")
	e.must("change", "terms", id, "-back", "automatic")
	ch = e.person(id, nil)
	require.Equal(t, gen.ChangeStateReturned, ch.State, "%v", value(ch.Failure))
	assert.Equal(t, "5.0.7", b.Status().Version)
	require.NoError(t, b.Heal(tarnholm.LoseTranslations))
	ch = e.person(e.operations("gullnes-fw1", "choose-slot", "restart"), nil)
	e.passes(ch)
	assert.Equal(t, "5.4.2", b.Status().Version)
	assert.Equal(t, 1, b.Status().Fits, "it was installed once, days ago")

	// A restart by itself has nothing that would have to be undone, and says so; when it fails, a person is asked.
	id = e.operations("gullnes-fw1", "restart")
	assert.Contains(t, e.must("change", "check", id), "nothing would have to be undone")
	require.NoError(t, b.Arm(tarnholm.TunnelDown, box.Fault{}))
	e.must("change", "approve", id)
	e.must("change", "start", id)
	ch = e.await(id, "asks", func(ch gen.Change) bool { return ch.State == gen.ChangeStateAsking || ch.EndedAt != nil })
	require.NotNil(t, ch.Question, "%v", value(ch.Failure))
	assert.Equal(t, []gen.Action{gen.ActionRetry, gen.ActionLeave}, ch.Question.Answers)
	require.NoError(t, b.Heal(tarnholm.TunnelDown))
	e.must("change", "retry", id)
	e.passes(e.awaitEnd(id))
	assert.Equal(t, "5.4.2", b.Status().Version)

	e.refused(2, []string{`there is no operation "dance"`, "choose-slot[:SLOT][:once]"}, "change", "operations", "gullnes-fw1", "dance")
	e.refused(2, []string{"send needs something after a colon"}, "change", "operations", "gullnes-fw1", "send")
	e.refused(2, []string{"backup takes nothing after a colon"}, "change", "operations", "gullnes-fw1", "backup:x")
	e.refused(3, []string{`the catalogue knows no file "moon.img" for a TH-60`}, "change", "operations", "gullnes-fw1", "install:moon.img")
	e.refused(3, []string{`knows no file "th40-5.4.2.img" for a TH-60`}, "change", "operations", "gullnes-fw1", "send:th40-5.4.2.img")
	e.refused(1, []string{"its dialect has no drain"}, "change", "operations", "gullnes-fw1", "drain")
	e.refused(1, []string{"a restart has to follow it at once"}, "change", "operations", "gullnes-fw1", "choose-slot", "save", "restart")
	status, body, _ := e.call(http.MethodPost, "/api/v1/changes", `{"device":"gullnes-fw1","to":"operations","operations":[{"kind":"dance"}]}`, "Idempotency-Key", "k1")
	assert.Equal(t, 400, status, string(body))
	status, body, _ = e.call(http.MethodPost, "/api/v1/changes", `{"device":"gullnes-fw1","to":"operations","operations":[]}`, "Idempotency-Key", "k2")
	assert.Equal(t, 409, status, string(body))
}

// The same on a gateway and a chassis: drained for a while, a licence, signature content, a part and its power, one start only.
func TestSingleStepsOfOtherBoxes(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "control-sg1", maker: "Brackmoor", model: "SG-5", serial: "SG5-00713", version: "3.8.4", idle: "3.8.2", config: "control-sg1.json", transfer: "http"},
		simulated{name: "vesterkai-core1", maker: "Ostrevin", model: "C8", serial: "C8-20117", version: "11.2.5", idle: "11.2.3", config: "vesterkai-core1.conf", transfer: "pull-sftp"}, ramp())
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	g, c := e.box("control-sg1"), e.box("vesterkai-core1")
	require.NoError(t, g.Arm(shellbox.NoLicence, box.Fault{}))
	key := filepath.Join(e.dir, "key")
	require.NoError(t, os.WriteFile(key, []byte(shellbox.LicenceKey("SG5-00713", "gateway-2")), 0o600))
	id := e.operations("control-sg1", "licence:gateway-2="+key, "drain", "hand:pull the spare cable", "undrain")
	ch := e.person(id, map[string]func(){"spare cable": func() { assert.True(t, g.Status().Resting, "it is drained meanwhile") }})
	e.passes(ch)
	assert.False(t, g.Status().Resting)
	assert.Contains(t, e.must("change", "show", id), "the device has the licence gateway-2")

	const content = "sg-signatures-2025.40.bin"
	before := g.Status().Components["signatures"]
	id = e.operations("control-sg1", "component:"+content)
	e.passes(e.person(id, nil))
	assert.NotEqual(t, before, g.Status().Components["signatures"])
	e.refused(3, []string{"is for the component signatures, not to be installed by itself"}, "change", "operations", "control-sg1", "install:"+content)

	// A start of the previous installation that is for once: the next one is from the usual place again.
	ch = e.person(e.operations("vesterkai-core1", "choose-slot:once", "restart"), nil)
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", value(ch.Failure))
	assert.Equal(t, "11.2.3", c.Status().Version)
	e.must("device", "refresh", "vesterkai-core1")
	e.refused(1, []string{"the next start is from the slot with 11.2.5, not from the one that runs 11.2.3"}, "change", "operations", "vesterkai-core1", "restart")
	ch = e.person(e.operations("vesterkai-core1", "choose-slot", "restart"), nil)
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", value(ch.Failure))
	assert.Equal(t, "11.2.5", c.Status().Version)

	e.refused(1, []string{"it has no second slot; what overwrites the running installation is drafted as a change to a version"}, "change", "operations", "marrow-ramp1", "install:rc6-F2.12.fw")
	e.refused(1, []string{"its dialect has no restart"}, "change", "operations", "marrow-ramp1", "restart")
	e.passes(e.person(e.operations("marrow-ramp1", "backup"), nil))
}

// All that is before the point of no return is done by day; there the change waits for the night, lets go of its device, survives
// that the service is killed, and goes on by itself. Whoever does not want to wait resumes it.
func TestRestartLater(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "a", model: "TH-60", version: "5.0.7", idle: "5.0.6"}, simulated{name: "b", model: "TH-60", version: "5.0.7", idle: "5.0.6"}, simulated{name: "c", model: "TH-60", version: "5.0.7", idle: "5.0.6"})
	e.addImages("th60-5.4.2.img")
	waits := func(id string) gen.Change {
		return e.await(id, "waits", func(ch gen.Change) bool { return ch.WaitsUntil != nil || ch.EndedAt != nil })
	}
	at := time.Now().Add(14 * time.Second)
	soon := fmt.Sprint(e.draft2("a", "-to", "5.4.2", "-restart-from", at.Format(time.RFC3339)))
	late := fmt.Sprint(e.draft2("b", "-to", "5.4.2", "-restart-from", "2031-01-01 02:00", "-window-until", "2031-01-01 04:00"))
	never := fmt.Sprint(e.draft2("c", "-to", "5.4.2", "-restart-from", "2031-01-01 02:00"))
	for _, id := range []string{soon, late, never} {
		e.must("change", "approve", id)
		e.must("change", "start", id)
	}
	ch := waits(soon)
	require.NotNil(t, ch.WaitsUntil, "%v", value(ch.Failure))
	assert.Equal(t, gen.ChangeStateScheduled, ch.State)
	assert.WithinDuration(t, at, *ch.WaitsUntil, time.Second)
	assert.Equal(t, 1, e.firewall("a").Status().Fits, "what comes before is done")
	assert.Equal(t, 1, e.firewall("a").Status().Boots)
	assert.Contains(t, e.must("change", "show", soon), "when it goes on by itself")
	require.NotNil(t, ch.Terms.WindowTo, "a time without an end gets one")
	assert.WithinDuration(t, at.Add(4*time.Hour), *ch.Terms.WindowTo, time.Second)
	e.killService()
	e.startService()
	ch = e.awaitEnd(soon)
	e.passes(ch)
	restarted := stepOf(ch, 1, "restart").StartedAt
	require.NotNil(t, restarted)
	assert.False(t, restarted.Before(at.Add(-time.Second)), "not before its time: %s, it was to be %s", restarted, at)
	assert.Equal(t, 1, e.firewall("a").Status().Fits)

	// Nobody goes before the approved time by resuming: that is an act of its own, with a reason, and is approved again.
	waits(late)
	e.refused(1, []string{"goes on by itself at the approved time"}, "change", "resume", late)
	e.refused(2, []string{"-now needs a -reason"}, "change", "start", late, "-now")
	assert.Contains(t, e.must("change", "start", late, "-now", "-reason", "the last ferry is cancelled"), "It has to be approved again: verimorph change approve "+late)
	e.refused(1, []string{"approved again"}, "change", "resume", late)
	assert.Equal(t, 1, e.firewall("b").Status().Boots)
	e.must("change", "approve", late)
	e.must("change", "resume", late)
	ch = e.awaitEnd(late)
	e.passes(ch)
	assert.Nil(t, ch.WaitsUntil)
	assert.Equal(t, "5.4.2", e.firewall("b").Status().Version)

	waits(never)
	assert.Contains(t, e.must("change", "pause", never), "paused by engineer since")
	assert.Nil(t, e.change(never).WaitsUntil, "it does not go on by itself any more")
	e.must("change", "stop", never)
	assert.Equal(t, "5.0.7", e.firewall("c").Status().Version)
	assert.Equal(t, 1, e.firewall("c").Status().Boots)
	e.refused(3, []string{"the window ends before the change may pass its point of no return"}, "change", "draft", "c", "-to", "5.4.2", "-restart-from", "2031-01-02 02:00", "-window-until", "2031-01-01 04:00")
}

// A device that does not stand where it was planned any more: the change is stopped by that, and drafted anew it starts from where the
// device is. The old draft is given up, the new one wants its own approval; terms come along.
func TestDraftedAnew(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "a", model: "TH-60", version: "5.0.6", idle: "5.0.7"}, simulated{name: "b", model: "TH-60", version: "5.0.7", idle: "5.0.6"})
	e.addImages("th60-5.4.2.img")
	id := fmt.Sprint(e.draft2("a", "-to", "5.4.2", "-back", "automatic"))
	e.must("change", "approve", id)
	e.passes(e.person(e.operations("a", "choose-slot", "restart"), nil)) // somebody starts 5.0.7 meanwhile
	assert.Contains(t, e.refused(1, []string{"its version is 5.0.7, planned was 5.0.6"}, "change", "start", id), "verimorph change redraft")
	var ch gen.Change
	require.NoError(t, json.Unmarshal([]byte(e.must("change", "redraft", id, "-json")), &ch))
	assert.Equal(t, "5.0.7", ch.From)
	assert.Len(t, ch.Path.Hops, 1)
	assert.Equal(t, gen.ChangeStateDraft, ch.State)
	assert.Equal(t, gen.TermsWayBackAutomatic, *ch.Terms.WayBack)
	assert.Equal(t, gen.ChangeStateStopped, e.change(id).State)
	assert.Contains(t, e.must("change", "journal", id), fmt.Sprintf("drafted anew as change %d", ch.Id))
	e.passes(e.person(fmt.Sprint(ch.Id), nil))
	assert.Equal(t, "5.4.2", e.firewall("a").Status().Version)
	e.refused(1, []string{"runs 5.4.2 already"}, "change", "redraft", fmt.Sprint(ch.Id))
	e.refused(1, []string{"there is no change 99"}, "change", "redraft", "99")

	require.NoError(t, e.firewall("b").Arm(tarnholm.SlowReturn, box.Fault{Value: 3})) // so that it is seen while it is waited for, however busy the machine
	running := e.begin("b", "5.4.2")
	e.refused(1, []string{"it is drafted anew once it has ended"}, "change", "redraft", running)
	seen := e.await(running, "is waited for", func(ch gen.Change) bool { return ch.Awaited != nil && ch.Awaited.Text != "" || ch.EndedAt != nil })
	require.NotNil(t, seen.Awaited)
	assert.Less(t, seen.Awaited.Low, seen.Awaited.High)
	held := e.await(running, "may not be interrupted", func(ch gen.Change) bool { return ch.PausesAt != nil || ch.EndedAt != nil })
	if held.PausesAt != nil { // else it was quicker than we looked
		assert.Positive(t, *held.PausesMost)
	}
	e.passes(e.awaitEnd(running))
}

// The console: single steps put together, a change that waits for its time, a draft anew.
func TestConsoleSingleSteps(t *testing.T) {
	t.Parallel()
	e := setUp(t, 40, simulated{name: "gullnes-fw1", serial: "TH60-05120", site: "Gullnes", model: "TH-60", version: "5.0.7", idle: "5.0.6", sessions: 860},
		simulated{name: "vesterkai-core1", maker: "Ostrevin", model: "C8", serial: "C8-20117", site: "Vesterkai terminal", version: "11.2.5", idle: "11.2.3", config: "vesterkai-core1.conf", transfer: "pull-sftp"})
	e.must("catalogue", "load", "../demo/catalog")
	e.addImages("th60-5.2.3.img", "th60-5.4.2.img")
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), text("table", "gullnes-fw1"),
		clickText("a", "vesterkai-core1"), text("main", "boot-loader"), text("main", "all 7 are well"), text("main", "places: "), clickText("a", "Fleet"),
		clickText("a", "gullnes-fw1"), click("#single-operations"), visible("[role=dialog]"),
		click("#add-operation"), text("#operations", "Take a backup"),
		chosen("#operation", "send"), visible("input[name=operation-arg]"), typed("input[name=operation-arg]", "th60-5.4.2.img"), click("#add-operation"), text("#operations", "Send image: th60-5.4.2.img"),
		chosen("#operation", "hand"), visible("input[name=operation-arg]"), typed("input[name=operation-arg]", "look at the lights"), click("#add-operation"), text("#operations", "By hand: look at the lights"), shot("single-steps"),
		click("#draft-operations"), text("h1", "Change 1"), text("main", "single operations; it runs"), text("main", "nothing would have to be undone"),
		click("#approve"), text("#state", "approved"), click("#start"), visible("#sure"), click("#sure"),
		text("#question", "look at the lights"), typed("input[name=words]", "all green"), click("#sign-off"), text("#state", "done"), text("#verdict", "verdict: pass"))
	assert.FileExists(t, filepath.Join(e.dir, "fleet", "gullnes-fw1", "flash", "th60-5.4.2.img"))

	// By day up to the point of no return, the rest at its time; here nobody wants to wait.
	id := fmt.Sprint(e.draft2("gullnes-fw1", "-to", "5.4.2", "-restart-from", "2031-01-01 02:00"))
	do(clickText("a", "Changes"), text("table", "single operations"), clickText("a", id), text("main", "past the point of no return at"), click("#approve"), text("#state", "approved"), click("#start"), visible("#sure"), click("#sure"),
		text("#state", "scheduled"), text("#waits", "goes on by itself then"), click("#early"), visible("#sure"), typed("input[name=why]", "the last ferry is cancelled"), click("#sure"),
		text("#paused", "Paused by engineer"), text("#unapproved", "approved again"), click("#approve"), click("#resume"), visible("#sure"), click("#sure"), text("#awaited", "expected: "), text("#state", "done"))

	// What was configured on the newer version comes along to the older one.
	do(clickText("a", "Fleet"), clickText("a", "gullnes-fw1"), click("#back"), text("#losses", "Going back from 5.4.2 to 5.0.7"), click("input[name=carry]"), text("#carried", "Carried across"), click("#draft-back"), text("main", "Convert the configuration of now for 5.0.7"))

	// Somebody else moved the device on meanwhile: the draft is made anew from where it stands.
	moved := fmt.Sprint(e.draft2("gullnes-fw1", "-to", "5.2.3", "-reset"))
	e.passes(e.person(e.operations("gullnes-fw1", "choose-slot", "restart"), nil))
	do(clickText("a", "Changes"), clickText("a", moved), click("#look"), text(`tr[data-check="identity"]`, "its version is 5.0.7"), click("#redraft"), text("main", "5.0.7"), text("#state", "draft"))
	e.await(moved, "is given up", func(ch gen.Change) bool { return ch.State == gen.ChangeStateStopped })
}

// A configuration is read by the device before it is put: what it would refuse is told line by line, and nothing is put unless somebody
// takes that on.
func TestAConfigurationThatTheDeviceWouldRefuse(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "gullnes-fw1", model: "TH-60", version: "5.0.7", edit: strings.NewReplacer("route 0.0.0.0/0\n", "route 0.0.0.0/0\n  moon full\n")})
	e.must("backup", "take", "gullnes-fw1")
	var ch gen.Change
	require.NoError(t, json.Unmarshal([]byte(e.must("backup", "restore", "1", "-parts", "running", "-draft", "-json")), &ch))
	id := fmt.Sprint(ch.Id)
	e.must("change", "approve", id)
	e.must("change", "start", id)
	ch = e.await(id, "asks", func(ch gen.Change) bool { return ch.State == gen.ChangeStateAsking || ch.EndedAt != nil })
	require.NotNil(t, ch.Question, "%v", value(ch.Failure))
	assert.Contains(t, ch.Question.Text, "the device would refuse 1 lines of running.cfg: line 21. It was not put on the device")
	e.must("change", "leave", id)
	assert.Equal(t, gen.ChangeStateFailed, e.change(id).State)
	assert.NotContains(t, e.must("change", "journal", id), "back-running.cfg")
}
