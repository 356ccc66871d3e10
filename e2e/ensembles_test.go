package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
)

// pair are two firewalls of which the first is active.
func pair() []simulated {
	return []simulated{{name: "north-fw1", serial: "N1", model: "TH-60", version: "5.0.7", mate: "north-fw2"}, {name: "north-fw2", serial: "N2", model: "TH-60", version: "5.0.7"}}
}

func (e *env) noteOf(fw string) string { return strings.Join(e.firewall(fw).Log(), "\n") }

// A pair is found, declared, drafted, watched on the board and upgraded in the console; the service is killed in the middle, and goes on.
func TestConsoleUpgradesAPair(t *testing.T) {
	t.Parallel()
	boxes := pair()
	if os.Getenv("SHOTS") != "" { // pictures are of the demo's data
		boxes = []simulated{{name: "vesterkai-fw1", serial: "TH80-00029", flash: 32 << 20, sessions: 5200, site: "Vesterkai terminal", model: "TH-80", version: "5.2.3", idle: "5.0.7", mate: "vesterkai-fw2"},
			{name: "vesterkai-fw2", serial: "TH80-00031", flash: 32 << 20, sessions: 5200, site: "Vesterkai terminal", model: "TH-80", version: "5.2.3", idle: "5.0.7"}}
	}
	first, second := boxes[0].name, boxes[1].name
	name := strings.TrimSuffix(first, "1")
	e := setUp(t, testFactor, boxes...)
	e.addImages(map[bool]string{true: "th60-5.4.2.img", false: "th80-5.4.2.img"}[boxes[0].model == "TH-60"])
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		text("[data-found]", first+" and "+second+" say that they are a pair."), clickText("button", "Declare as "+name), gone("[data-found]"),
		text(`[data-ensemble="`+name+`"]`, "standby"), text(`[data-ensemble="`+name+`"]`, "in sync"), shot("ensembles"),
		clickText("button", "Draft a change"), typed(`input[name=to]`, "5.4.2"), click("#draft-ensemble"), text("h1", "Change 1"), text("#proof", "The order is proved"),
		text(`[data-lane="`+second+`"]`, "standby"), text(`[data-clients="routed traffic"]`, "none expected"),
		click("#approve"), click("#start"), click("#sure"), visible(`[data-lane="`+first+`"] [data-state=done]`), text("#affected", "nobody"))
	// The keyboard goes from step to step, and says what each waits for.
	do(chromedp.Focus(chromedp.CSS(`[data-lane="`+first+`"] button`)), chromedp.KeyEvent("\uE004"), text("#chosen", first+", step 1: Take readings before"))
	do(visible(`[data-lane="`+second+`"] [data-state=running][aria-label*="Wait for link"], [data-lane="`+second+`"] [data-state=running][aria-label*="Wait for sign-in"], [data-lane="`+second+`"] [data-state=running][aria-label*="Wait until in sync"]`), shot("board"))
	e.killService()
	e.startService()
	e.signIn()
	ch := e.awaitEnd("1")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v", ch.Failure)
	do(text("#state", "done"), text("#verdict", "pass"))
	for _, fw := range []string{first, second} {
		assert.Equal(t, "5.4.2", e.firewall(fw).Status().Version)
		assert.Equal(t, 2, e.firewall(fw).Status().Boots, "each was started once")
		assert.NotContains(t, e.noteOf(fw), "its mate went down", "the active one never went down under its users")
	}
	out := e.must("change", "board", "1")
	assert.Contains(t, out, "order proved")
	assert.Contains(t, out, "outage none expected, none measured")
	out = e.must("ensemble", "list")
	assert.Regexp(t, second+` +active +5.4.2 +in sync: complete`, out)
	var tl gen.Timeline
	require.NoError(t, json.Unmarshal([]byte(e.must("change", "timeline", "1", "-json")), &tl))
	require.NotNil(t, tl.Measured)
	assert.Len(t, tl.Measured.Steps, len(ch.Steps))
	assert.Contains(t, e.must("change", "timeline", "1"), "nothing is noticed")
	assert.Contains(t, e.must("change", "show", "1"), second+", standby when it was drafted, from "+boxes[1].version+" to 5.4.2")
}

// What goes wrong in the middle: the standby that moved is taken back at a person's word, and the active one never noticed.
func TestAPairGoesBackByTheClient(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, pair()...)
	e.addImages("th60-5.4.2.img")
	assert.Contains(t, e.must("ensemble", "find"), "declare it with: verimorph ensemble declare north-fw north-fw1 north-fw2")
	assert.Contains(t, e.must("ensemble", "find", "-declare"), "declared as north-fw")
	assert.Contains(t, e.must("ensemble", "find"), "No device says that it belongs to an ensemble which is not declared.")
	require.NoError(t, e.firewall("north-fw2").Arm(tarnholm.StaysStandby, box.Fault{Times: -1}))
	out := e.must("change", "draft", "north-fw", "-to", "5.4.2", "-switch-back")
	assert.Contains(t, out, "Drafted change 1: north-fw from 5.0.7 to 5.4.2")
	e.must("change", "approve", "1")
	e.must("change", "start", "1")

	// While it goes on, a change of one of its members is refused.
	e.must("change", "draft", "north-fw1", "-to", "5.4.2")
	e.refused(1, []string{"change 1 occupies the device"}, "change", "check", "2")

	ch := e.await("1", "a question", func(c gen.Change) bool { return c.Question != nil || c.EndedAt != nil })
	require.NotNil(t, ch.Question, "%v", ch.Failure)
	assert.Contains(t, ch.Question.Text, "north-fw2: Switch over")
	assert.Contains(t, ch.Question.Text, "nobody who serves on a newer version than 5.0.7 has shown itself there, so those that moved are taken back")
	assert.Contains(t, e.must("change", "board", "1"), "How it goes on from here:")
	losses := e.must("change", "losses", "1")
	assert.Contains(t, losses, "Going back from 5.4.2 to 5.0.7")
	assert.Contains(t, losses, "this is what north-fw2 would lose")
	e.must("change", "go-back", "1")
	ch = e.awaitEnd("1")
	require.Equal(t, gen.ChangeStateReturned, ch.State, "%v", ch.Failure)
	assert.Equal(t, []string{"5.0.7", "5.0.7"}, []string{e.firewall("north-fw1").Status().Version, e.firewall("north-fw2").Status().Version})
	assert.Equal(t, []int{1, 3}, []int{e.firewall("north-fw1").Status().Boots, e.firewall("north-fw2").Status().Boots})
	e.refused(1, []string{"has nothing to go back from as its members stand"}, "change", "losses", "1")
	assert.Contains(t, e.must("ensemble", "delete", "north-fw"), "its devices stay")
}

// A cluster that devices say they form is declared and upgraded; one of them ran another version than the rest, and comes along.
func TestAClusterByTheClient(t *testing.T) {
	t.Parallel()
	hub := func(n, version string) simulated {
		return simulated{name: "hub" + n, serial: "H" + n, model: "TH-60", version: version, cluster: "core-hub"}
	}
	e := setUp(t, testFactor, hub("1", "5.0.7"), hub("2", "5.0.6"), hub("3", "5.0.7"))
	e.addImages("th60-5.4.2.img")
	assert.Contains(t, e.must("ensemble", "find"), "declare it with: verimorph ensemble declare -kind cluster core-hub hub1 hub2 hub3")
	e.must("ensemble", "find", "-declare")
	assert.Contains(t, e.must("ensemble", "show", "core-hub"), "the members run different versions: 5.0.7, 5.0.6")
	out := e.must("change", "draft", "core-hub", "-to", "5.4.2")
	assert.Contains(t, out, "core-hub from 5.0.7, 5.0.6 to 5.4.2")
	e.must("change", "accept-warnings", "1", "ensemble", "-reason", "that is what this change is for")
	e.must("change", "approve", "1")
	e.must("change", "start", "1")
	ch := e.awaitEnd("1")
	require.Equal(t, gen.ChangeStateDone, ch.State, "%v %v", ch.Failure, ch.Question)
	for _, fw := range []string{"hub1", "hub2", "hub3"} {
		assert.Equal(t, []any{"5.4.2", 2}, []any{e.firewall(fw).Status().Version, e.firewall(fw).Status().Boots})
		assert.NotContains(t, e.noteOf(fw), "its mate went down")
	}
	require.Len(t, *ch.Members, 3)
	assert.Equal(t, "5.0.6", (*ch.Members)[1].From)
}

// What is refused about ensembles, and why.
func TestCallsOfEnsembles(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, append(pair(), hollen())...)
	declared := m{"kind": "pair", "devices": []string{"north-fw1", "hollen-fw1"}}
	for _, c := range []struct {
		method, path string
		body         any
		status       int
		says         string
	}{
		{"PUT", "/ensembles/x", m{"kind": "heap", "devices": []string{"north-fw1", "north-fw2"}}, 400, "there is no kind of ensemble"},
		{"PUT", "/ensembles/x", m{"kind": "pair", "devices": []string{"north-fw1", "north-fw1"}}, 400, "named twice"},
		{"PUT", "/ensembles/x", m{"kind": "cluster", "devices": []string{"north-fw1", "north-fw2"}}, 400, "a cluster has from 3 to 8 members, not 2"},
		{"PUT", "/ensembles/a%20b", declared, 400, "is no name"},
		{"PUT", "/ensembles/x", m{"kind": "pair", "devices": []string{"north-fw1", "moon"}}, 404, "is no device here"},
		{"PUT", "/ensembles/north-fw2", declared, 409, "the name north-fw2 is taken by a device"},
		{"GET", "/ensembles/x", nil, 404, "there is no ensemble"},
		{"DELETE", "/ensembles/x", nil, 404, "there is no ensemble"},
		{"PUT", "/ensembles/odd", declared, 200, "north-fw1 says that its mate has the serial N2, which is no member"},
		{"PUT", "/ensembles/other", declared, 409, "belongs to another ensemble"},
		{"GET", "/found-ensembles", nil, 200, "north-fw1 belongs to odd, as it is declared"},
		{"POST", "/changes", m{"device": "odd", "to": "5.4.2"}, 409, "odd cannot be changed as it stands: north-fw1 says that its mate has the serial N2"},
		{"POST", "/changes", m{"device": "odd", "to": "x", "back": true}, 400, "starting the previous installation is of single devices; odd is an ensemble"},
		{"POST", "/devices", m{"name": "odd", "site": "", "address": "127.0.0.1:22", "dialect": "tarnholm", "user": "u", "password": "p"}, 409, "the name odd is taken by an ensemble"},
		{"GET", "/changes/7/timeline", nil, 404, "there is no change 7"},
		{"DELETE", "/ensembles/odd", nil, 204, ""},
	} {
		sent := []byte("")
		if c.body != nil {
			var err error
			sent, err = json.Marshal(c.body)
			require.NoError(t, err)
		}
		status, body, _ := e.call(c.method, "/api/v1"+c.path, string(sent))
		assert.Equal(t, c.status, status, "%s %s: %s", c.method, c.path, body)
		assert.Contains(t, string(body), c.says, "%s %s", c.method, c.path)
	}
	// Nothing is half declared, and every declaration stands in the audit.
	assert.NotContains(t, e.must("ensemble", "list"), "odd")
	status, body, _ := e.call("GET", "/api/v1/audit", "")
	require.Equal(t, http.StatusOK, status)
	assert.Contains(t, string(body), "odd, pair of north-fw1, hollen-fw1")
	assert.Contains(t, string(body), "ensemble deleted")

	// Whoever cannot be looked at now is named.
	e.must("ensemble", "declare", "north-fw", "north-fw1", "north-fw2")
	require.NoError(t, e.firewall("north-fw2").Arm(tarnholm.Mute, box.Fault{Times: -1}))
	e.refused(1, []string{"north-fw2 cannot be looked at now, and who goes first depends on how all of them stand"}, "change", "draft", "north-fw", "-to", "5.4.2")
}
