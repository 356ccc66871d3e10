package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
)

// person answers whatever a change asks as somebody at the device would, until it ends. do is what is done at the box for a
// hand step, by a word of its text.
func (e *env) person(id string, do map[string]func()) gen.Change {
	e.t.Helper()
	for _, k := range listed(e.change(id).Checks) {
		if k.State == gen.CheckStateWarn {
			e.must("change", "accept-warnings", id, k.Name, "-reason", "seen and taken on")
		}
	}
	e.must("change", "approve", id)
	e.must("change", "start", id)
	for range 20 {
		ch := e.await(id, "ends or asks", func(ch gen.Change) bool { return ch.EndedAt != nil || ch.State == gen.ChangeStateAsking })
		if ch.EndedAt != nil {
			return ch
		}
		require.Equal(e.t, gen.QuestionKindHandStep, ch.Question.Kind, ch.Question.Text)
		for word, act := range do {
			if strings.Contains(ch.Question.Text, word) {
				act()
			}
		}
		e.must("change", "sign-off", id, "-text", "done and seen")
	}
	e.t.Fatalf("change %s asks without an end", id)
	return gen.Change{}
}

// listed is a list that may be absent.
func listed[T any](l *[]T) []T {
	if l == nil {
		return nil
	}
	return *l
}

// passes fails the test unless a change was done and its verdict is pass.
func (e *env) passes(ch gen.Change) {
	e.t.Helper()
	require.Equal(e.t, gen.ChangeStateDone, ch.State, "%v", value(ch.Failure))
	require.NotNil(e.t, ch.Verdict)
	for _, r := range ch.Verdict.Results {
		assert.Equal(e.t, gen.ResultStateMet, r.State, "%s: %s", r.Title, r.Evidence)
	}
	require.Equal(e.t, gen.VerdictVerdictPass, ch.Verdict.Verdict)
}

// back drafts the start of the previous installation.
func (e *env) back(device string, flags ...string) string {
	e.t.Helper()
	e.must("device", "refresh", device)
	var ch gen.Change
	require.NoError(e.t, json.Unmarshal([]byte(e.must(append([]string{"change", "back", device, "-json"}, flags...)...)), &ch))
	return fmt.Sprint(ch.Id)
}

// A firewall over four hops, one step down again, and its previous installation with the passwords that apply there.
func TestAFirewallUpDownAndBack(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "hollen-fw1", model: "TH-60", version: "4.2.3", idle: "4.2.1", olderPasswords: true})
	e.must("catalogue", "load", "../demo/catalog")
	e.addImages("th60-4.2.9.img", "th60-5.0.7.img", "th60-5.4.2.img", "th60-6.0.1.img")
	b := e.firewall("hollen-fw1")

	// The installation of 4.2.1 has passwords of its own; after that the way leads up from there.
	e.passes(e.person(e.back("hollen-fw1"), nil))
	assert.Equal(t, "4.2.1", b.Status().Version)
	id := fmt.Sprint(e.draft2("hollen-fw1", "-to", "6.0.1"))
	require.Len(t, e.change(id).Path.Hops, 4)
	ch := e.person(id, nil)
	e.passes(ch)
	assert.Equal(t, "6.0.1", b.Status().Version)
	assert.Equal(t, 4, b.Status().Fits)
	for hop := 1; hop < 4; hop++ {
		assert.Contains(t, stepOf(ch, hop, "prestage").Outcome, "is on the device", "the next image travelled while services started")
		assert.Equal(t, "is on the device", last(stepOf(ch, hop+1, "send").Outcome, len("is on the device")), "and was not sent again")
	}

	// Back to what ran before, with what was configured since; then down along a rule of the catalogue.
	e.passes(e.person(e.back("hollen-fw1", "-carry"), nil))
	assert.Equal(t, "5.4.2", b.Status().Version)
	e.passes(e.person(fmt.Sprint(e.draft2("hollen-fw1", "-to", "5.0.7")), nil))
	assert.Equal(t, "5.0.7", b.Status().Version)
	assert.Equal(t, 5, b.Status().Fits)
}

// A gateway: back with the passwords of the older installation, drained, up, down, and over the border of a train.
func TestAGatewayUpDownAndBack(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "control-sg1", maker: "Brackmoor", model: "SG-5", serial: "SG5-00713", version: "3.8.4", idle: "3.8.2", config: "control-sg1.json", transfer: "http", olderPasswords: true})
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	b := e.box("control-sg1")
	e.must("change", "back", "control-sg1", "-preview")
	ch := e.person(e.back("control-sg1"), nil)
	e.passes(ch)
	assert.Equal(t, "3.8.2", b.Status().Version)
	assert.Equal(t, "no running work is left", stepOf(ch, 1, "drain").Outcome)
	assert.Equal(t, 0, b.Status().Installs)
	ch = e.person(fmt.Sprint(e.draft2("control-sg1", "-to", "3.8.5")), nil)
	e.passes(ch)
	assert.Equal(t, "3.8.5", b.Status().Version)
	assert.False(t, b.Status().Resting)
	e.passes(e.person(fmt.Sprint(e.draft2("control-sg1", "-to", "3.8.4")), nil))
	assert.Equal(t, "3.8.4", b.Status().Version)
	// Into a train that does not take all of its configuration: done, and what needs a person is told as a doubt.
	ch = e.person(fmt.Sprint(e.draft2("control-sg1", "-to", "4.0.3")), nil)
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", value(ch.Failure))
	assert.Equal(t, "4.0.3", b.Status().Version)
	assert.Equal(t, gen.VerdictVerdictDegraded, ch.Verdict.Verdict)
	assert.Contains(t, e.refused(1, nil, "change", "verdict", fmt.Sprint(ch.Id)), "ask who still needs them")
}

// The ramp controller and the tide gauge come back in their factory state, up and down; what moves a ramp is proved unchanged.
func TestFieldDevicesUpAndDown(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, ramp(), simulated{name: "marrow-gauge1", maker: "Pellworth", model: "TG-1", serial: "TG1-0052", version: "F1.06", config: "marrow-gauge1.ini", lineOnly: true})
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	r, g := e.box("marrow-ramp1"), e.box("marrow-gauge1")
	require.NoError(t, r.Arm(shellbox.ByHandKey, box.Fault{}))
	marks := r.Part("marks.map")
	for i, to := range []string{"F2.12", "F2.10"} {
		ch := e.person(fmt.Sprint(e.draft2("marrow-ramp1", "-to", to, "-reset")), nil)
		e.passes(ch)
		assert.Equal(t, to, r.Status().Version)
		assert.Equal(t, marks, r.Part("marks.map"))
		assert.Contains(t, r.Part("ramp.ini"), "release = "+to)
		assert.Contains(t, e.must("change", "verdict", fmt.Sprint(ch.Id)), "Guarded settings")
		ch = e.person(fmt.Sprint(e.draft2("marrow-gauge1", "-to", to, "-reset")), map[string]func(){"put the medium": func() { require.NoError(t, g.Arm(shellbox.ByHandCard, box.Fault{})) }})
		e.passes(ch)
		assert.Equal(t, to, g.Status().Version)
		assert.Equal(t, i+1, g.Status().Installs)
		assert.Contains(t, g.Part("gauge.ini"), "release = "+to)
	}
	assert.Contains(t, e.must("device", "console", "marrow-gauge1"), "done, starting anew", "the console line was recorded")
}

// A chassis with one supervisor: boot loader and port logic follow the main version, up and down.
func TestAChassisUpDownAndBack(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "vesterkai-core1", maker: "Ostrevin", model: "C8", serial: "C8-20117", version: "11.2.5", idle: "11.2.3", config: "vesterkai-core1.conf", transfer: "pull-sftp"})
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	b := e.box("vesterkai-core1")
	e.passes(e.person(fmt.Sprint(e.draft2("vesterkai-core1", "-to", "12.2.3")), nil))
	assert.Equal(t, "12.2.3", b.Status().Version)
	logic := b.Status().Components["logic"]
	e.passes(e.person(fmt.Sprint(e.draft2("vesterkai-core1", "-to", "12.1.3")), nil))
	assert.Equal(t, "12.1.3", b.Status().Version)
	assert.NotEqual(t, logic, b.Status().Components["logic"], "the logic goes down with it")
	ch := e.person(e.back("vesterkai-core1"), nil)
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", value(ch.Failure))
	assert.Equal(t, "12.2.3", b.Status().Version)
}

// A release into both slots: only once the readings have shown that it does its job, and then nothing leads back any more.
func TestBothSlots(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "good", model: "TH-60", version: "5.0.7", idle: "5.0.6"}, simulated{name: "bad", model: "TH-60", version: "5.0.7", idle: "5.0.6"}, simulated{name: "odd", model: "TH-60", version: "5.0.7", idle: "5.0.6"})
	e.addImages("th60-5.4.2.img")
	require.NoError(t, e.firewall("bad").Arm(tarnholm.TunnelDown, box.Fault{}))
	require.NoError(t, e.firewall("odd").Arm(tarnholm.LogErrors, box.Fault{}))
	slots := func(device string) string {
		e.must("device", "refresh", device)
		return e.must("device", "show", device)
	}
	good, bad, odd := fmt.Sprint(e.draft2("good", "-to", "5.4.2", "-both")), fmt.Sprint(e.draft2("bad", "-to", "5.4.2", "-both")), fmt.Sprint(e.draft2("odd", "-to", "5.4.2", "-both"))
	for _, id := range []string{bad, odd} {
		e.must("change", "approve", id)
		e.must("change", "start", id)
	}
	e.passes(e.person(good, nil))
	assert.NotContains(t, slots("good"), "5.0.7")
	assert.Equal(t, 2, e.firewall("good").Status().Fits)
	e.refused(1, []string{"both slots of good hold 5.4.2"}, "change", "back", "good")

	asks := func(id string) gen.Change {
		return e.await(id, "asks", func(ch gen.Change) bool { return ch.State == gen.ChangeStateAsking || ch.EndedAt != nil })
	}
	ch := asks(bad)
	require.NotNil(t, ch.Question, "%v", value(ch.Failure))
	assert.Contains(t, ch.Question.Text, "the other slot is not written")
	assert.Contains(t, ch.Question.Answers, gen.ActionGoBack, "the way back is still there")
	assert.Contains(t, slots("bad"), "5.0.7")
	ch = asks(odd)
	require.NotNil(t, ch.Question, "%v", value(ch.Failure))
	assert.Contains(t, ch.Question.Text, "The previous installation is overwritten next, and not all is as it was: Errors in the log (1 new: the packet engine was started twice)")
	e.must("change", "accept", odd, "-text", "a known one")
	ch = e.awaitEnd(odd)
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", value(ch.Failure))
	assert.Equal(t, gen.VerdictVerdictDegraded, ch.Verdict.Verdict, "what is missing stays told")
}

func last(s string, n int) string { return s[max(0, len(s)-n):] }

// A conversion that needs a person stops the change before anything is touched, and says how to go on; what was worked out is what is
// put back, and what the verdict holds the device against.
func TestAConversionIsWorkedOutOnTheWay(t *testing.T) {
	t.Parallel()
	b := ramp()
	b.version, b.edit = "F2.12", strings.NewReplacer("release = F1.06", "release = F2.12")
	e := setUp(t, testFactor, b)
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	r := e.box("marrow-ramp1")
	require.NoError(t, r.Arm(shellbox.ByHandKey, box.Fault{}))
	id := fmt.Sprint(e.draft2("marrow-ramp1", "-to", "F3.05", "-reset"))
	for _, k := range *e.change(id).Checks {
		if k.State == gen.CheckStateWarn {
			e.must("change", "accept-warnings", id, k.Name, "-reason", "seen and taken on")
		}
	}
	e.must("change", "approve", id)
	e.must("change", "start", id)
	ch := e.await(id, "asks", func(ch gen.Change) bool { return ch.EndedAt != nil || ch.State == gen.ChangeStateAsking })
	require.Equal(t, gen.ChangeStateAsking, ch.State, "%v", value(ch.Failure))
	assert.Contains(t, ch.Question.Text, "Nothing was changed. Work it out with: verimorph conversion start -backup 1 -to RC-6@F3.05; then answer retry")
	e.must("change", "retry", id) // too early: it asks again
	ch = e.await(id, "asks again", func(ch gen.Change) bool { return ch.State == gen.ChangeStateAsking })
	assert.Contains(t, ch.Question.Text, "needs a person")
	assert.Zero(t, r.Status().Installs)

	do := doer(t, browser(t))
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`), text("table", "marrow-ramp1"),
		chromedp.Navigate("http://"+e.url+"/changes/"+id), text("#question", "The configuration needs decisions"), click("#work-out"), text("main", "choose how long it sounds"))
	e.refused(1, []string{"7 need a person", `-accept "drive 6 / speed"`, `-settle "ramp stern / horn=WHY"`}, "conversion", "show", "1")
	shown, _, _ := e.client("", "conversion", "show", "1", "-text")
	edited := filepath.Join(e.dir, "ramp.ini")
	require.NoError(t, os.WriteFile(edited, []byte(strings.Replace(shown, "[tide]", "[warning]\nhorn = 8\n\n[tide]", 1)), 0o600))
	accept := []string{"conversion", "change", "1", "-edited", edited}
	for n := 1; n <= 6; n++ {
		accept = append(accept, "-accept", fmt.Sprintf("drive %d / speed", n))
	}
	e.refused(1, []string{"1 needs a person", "edit 1 by engineer: add at the top: "}, accept...)
	e.refused(2, []string{"expected PATH=WHY"}, "conversion", "change", "1", "-settle", "ramp stern / horn")
	e.refused(3, []string{"has to be one line of up to 500 characters"}, "conversion", "change", "1", "-settle", "ramp stern / horn="+strings.Repeat("long ", 200))
	e.must("conversion", "change", "1", "-settle", "ramp stern / horn=it is in the section warning")
	e.refused(1, []string{"1 needs a person"}, "conversion", "change", "1", "-settle-not", "ramp stern / horn")
	do(chromedp.Navigate("http://"+e.url+"/configurations/1"), text("main", "needs a person"), text("main", "choose how long it sounds"), typed("input[name=settled]", "the one horn sounds for 8 s"), entered("input[name=settled]"), text("main", "complete"),
		clickText("button", "dropped"), text("main", "settled by hand: the one horn sounds for 8 s"),
		chromedp.Navigate("http://"+e.url+"/changes/"+id), click("#retry"))
	ch = e.await(id, "ends or asks", func(ch gen.Change) bool {
		return ch.EndedAt != nil || ch.Question != nil && ch.Question.Kind == gen.QuestionKindHandStep
	})
	require.Nil(t, ch.EndedAt, "%v", value(ch.Failure))
	e.must("change", "sign-off", id, "-text", "done and seen")
	ch = e.awaitEnd(id)
	e.passes(ch)
	for _, says := range []string{"rate = 84", "rate = 120", "[warning]", "horn = 8"} {
		assert.Contains(t, r.Part("ramp.ini"), says)
	}
	assert.NotContains(t, r.Part("ramp.ini"), "speed =")
	assert.Contains(t, e.must("change", "show", id), "converted as worked out in conversion 1 by engineer")
	assert.Equal(t, 1, r.Status().Installs)
}

// What was worked out by day is what the verdict by night holds the device against: nothing is a doubt any more.
func TestAConversionWorkedOutBefore(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, simulated{name: "control-sg1", maker: "Brackmoor", model: "SG-5", serial: "SG5-00713", version: "3.8.4", idle: "3.8.2", config: "control-sg1.json", transfer: "http"})
	e.must("catalogue", "load", "../demo/catalog")
	e.openSite()
	e.must("backup", "take", "control-sg1")
	first := e.change(fmt.Sprint(e.draft2("control-sg1", "-to", "4.0.3")))
	i := slices.IndexFunc(*first.Checks, func(k gen.Check) bool { return k.Name == "conversion" })
	require.GreaterOrEqual(t, i, 0, "that it leaves something open is told by day")
	assert.Equal(t, gen.CheckStateWarn, (*first.Checks)[i].State)
	assert.Contains(t, (*first.Checks)[i].Evidence, "ask who still needs them")
	assert.Contains(t, value((*first.Checks)[i].Remedy), "verimorph conversion start -backup 1 -to SG-5@4.0.3")
	e.refused(1, []string{"4 need a person", "ask who still needs them"}, "conversion", "start", "-backup", "1", "-to", "SG-5@4.0.3")
	out, _, _ := e.client("", "conversion", "show", "1", "-json") // it exits 1: something is open
	shown := decode[gen.Conversion](t, out)
	settle := []string{"conversion", "change", "1"}
	for _, row := range shown.Ledger.Source {
		if row.Ask != nil && *row.Ask == gen.SourceItemAskSettle {
			settle = append(settle, "-settle", row.Path+"=nobody needs them any more")
		}
	}
	require.Len(t, settle, 3+2*4)
	e.must(settle...)
	assert.NotContains(t, e.must("change", "check", fmt.Sprint(first.Id)), "Conversion")
	e.passes(e.person(fmt.Sprint(first.Id), nil))
	assert.Equal(t, "4.0.3", e.box("control-sg1").Status().Version)
	assert.Contains(t, e.must("change", "verdict", "1"), "converted as worked out in conversion 1 by engineer")
}
