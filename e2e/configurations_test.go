package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/core/config"
	"verimorph/core/convert"
)

const demoConfigs = "../demo/configs/"

// secretsOf are the secrets of the demo's large firewall, none of which may be seen anywhere.
func secretsOf(t *testing.T, name string) (out []string) {
	data, err := os.ReadFile(demoConfigs + name)
	require.NoError(t, err)
	for _, w := range strings.FieldsFunc(string(data), func(r rune) bool { return strings.ContainsRune(" \n\t\"<>;,", r) }) {
		if strings.HasPrefix(w, "demo-") {
			out = append(out, w)
		}
	}
	require.NotEmpty(t, out)
	return out
}

func hidesAll(t *testing.T, text string, secrets []string) {
	t.Helper()
	for _, s := range secrets {
		if strings.Contains(text, s) {
			t.Fatalf("a secret is shown: %s", s)
		}
	}
}

// The client without a service: exit codes, files written or not, reports, masking.
func TestConfigurationsOnPaper(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file := func(name, text string) string {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		return filepath.Join(dir, name)
	}
	offline := &env{t: t, dir: dir}
	data, err := os.ReadFile(demoConfigs + "control-fw1.cfg")
	require.NoError(t, err)
	secrets := secretsOf(t, "control-fw1.cfg")
	old := file("old.cfg", string(data))
	changed := strings.NewReplacer("198.51.100.10/28", "198.51.100.11/28", "name control-fw1", "name control-fw2", secrets[0], "another").Replace(string(data))

	out, _, code := offline.client("", "compare", old, file("same.cfg", strings.Replace(string(data), "# routes to the piers", "# routes", 1)))
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "Both mean the same; cosmetic differences: 1.")
	out, _, code = offline.client("", "compare", "-catalog", "../demo/catalog", "-schema", "th@4.2.9", old, file("new.cfg", changed), "-report", filepath.Join(dir, "diff.html"))
	assert.Equal(t, 1, code)
	assert.Less(t, strings.Index(out, "guarded: the box may be reached through this address"), strings.Index(out, "box / name"), "guarded settings come first")
	hidesAll(t, out, secrets)
	page, err := os.ReadFile(filepath.Join(dir, "diff.html"))
	require.NoError(t, err)
	hidesAll(t, string(page), secrets)
	assert.NotContains(t, string(page), "http", "a report needs nothing from elsewhere")
	out, _, code = offline.client("", "compare", "-json", "-catalog", "../demo/catalog", "-schema", "th@4.2.9", old, filepath.Join(dir, "new.cfg"))
	assert.Equal(t, 1, code)
	var ds []gen.Difference
	require.NoError(t, json.Unmarshal([]byte(out), &ds))
	assert.Len(t, ds, 3)
	_, stderr, code := offline.client("", "compare", old, file("broken.cfg", "box\n    name x\n  place y\n"))
	assert.Equal(t, 3, code)
	assert.Contains(t, stderr, "broken.cfg:3:3: indented by 2")
	for _, args := range [][]string{{"compare", old}, {"compare", "-schema", "th", old, old}, {"compare", "-catalog", "../demo/catalog", "-schema", "zz", old, old}, {"convert", old},
		{"convert", "-catalog", "../demo/catalog", "-from", "TH-61@4.2.9", "-to", "TH-60@5.4.2", old}, {"carve", "-catalog", "../demo/catalog", old}} {
		_, _, code = offline.client("", args...)
		assert.Equal(t, 2, code, "%v", args)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "a"), 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "b"), 0o700))
	file("a/main.cfg", "box\n  name x\n")
	file("a/gone.cfg", "a 1\n")
	file("b/main.cfg", "box\n  name y\n")
	out, _, code = offline.client("", "compare", filepath.Join(dir, "a"), filepath.Join(dir, "b"), "-report", filepath.Join(dir, "both.html"))
	both, err := os.ReadFile(filepath.Join(dir, "both.html"))
	require.NoError(t, err)
	assert.Contains(t, string(both), "gone.cfg: missing")
	assert.Contains(t, string(both), "main.cfg: box / name")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "changed  main.cfg")
	assert.Contains(t, out, "missing  gone.cfg")

	to := []string{"convert", "-catalog", "../demo/catalog", "-from", "TH-60@4.2.9", "-to", "TH-80@5.4.2"}
	result, ledger := filepath.Join(dir, "out.cfg"), filepath.Join(dir, "ledger.json")
	_, stderr, code = offline.client("", append(to, "-o", result, "-ledger", ledger, "-report", filepath.Join(dir, "r.txt"), old)...)
	assert.Equal(t, 2, code, stderr)
	out, _, code = offline.client("", append(to, "-o", result, "-ledger", ledger, "-report", filepath.Join(dir, "r.pdf"), old)...)
	assert.Equal(t, 1, code, "something needs a person")
	assert.Contains(t, out, "11 need a person")
	hidesAll(t, out, secrets)
	converted, err := os.ReadFile(result)
	require.NoError(t, err)
	assert.Contains(t, string(converted), secrets[1], "the result itself is whole")
	raw, err := os.ReadFile(ledger)
	require.NoError(t, err)
	hidesAll(t, string(raw), secrets)
	var l convert.Ledger
	require.NoError(t, json.Unmarshal(raw, &l))
	lib, found := convert.ReadDir(os.DirFS("../demo/catalog"))
	require.Empty(t, found.Errors())
	from, _ := lib.ParseStop("TH-60@4.2.9")
	target, _ := lib.ParseStop("TH-80@5.4.2")
	assert.Empty(t, convert.Check(string(data), string(converted), lib.Schema(from), lib.Schema(target), &l), "the files that were written add up")
	pdf, err := os.ReadFile(filepath.Join(dir, "r.pdf"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(pdf), "%PDF-"))

	ports, _, code := offline.client("", "ports", "-catalog", "../demo/catalog", "-from", "TH-60@4.2.9", "-to", "TH-80@5.4.2", old)
	assert.Equal(t, 0, code)
	args := append(to, "-ports", file("ports.yaml", ports), "-answer", "TU12=second", "-o", result, old)
	out, _, code = offline.client("", args...)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "3 need a person", "half duplex and the modem are left")
	_, stderr, code = offline.client("", append(to, "-ports", file("ports.yaml", strings.Replace(ports, "p1: x1", "p1: x9", 1)), "-o", filepath.Join(dir, "none.cfg"), old)...)
	assert.Equal(t, 3, code)
	assert.Contains(t, stderr, "TH-80 has no port x9 for p1")
	assert.NoFileExists(t, filepath.Join(dir, "none.cfg"), "nothing is written")
	out, _, code = offline.client("", "support", "-catalog", "../demo/catalog", "-from", "TH-60@4.2.9", "-to", "TH-60@5.4.2")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "= carries over")

	gateway := demoConfigs + "control-sg1.json"
	out, _, code = offline.client("", "carve", "-catalog", "../demo/catalog", "-from", "SG-5@3.8.4", "-by", "policy", gateway)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "office")
	out, _, code = offline.client("", "carve", "-catalog", "../demo/catalog", "-from", "SG-5@3.8.4", "-service", "tickets-web", "-rename", "tickets-web=shop", "-to", "SG-5@4.4.2", "-o", filepath.Join(dir, "part.json"), "-rest", filepath.Join(dir, "rest.json"), gateway)
	assert.Equal(t, 0, code, out)
	part, err := os.ReadFile(filepath.Join(dir, "part.json"))
	require.NoError(t, err)
	d, broken := config.Parse("part.json", string(part), config.JSON)
	require.Empty(t, broken)
	assert.Len(t, d.Root.Child("services").Children, 1)
}

// The service: conversions are kept encrypted, worked on, reported and forgotten.
func TestConfigurationsInTheService(t *testing.T) {
	t.Parallel()
	e := setUp(t, 40, simulated{name: "hollen-fw1", model: "TH-60", version: "4.2.9"})
	e.must("catalogue", "load", "../demo/catalog")
	secrets := secretsOf(t, "control-fw1.cfg")
	start := []string{"conversion", "start", "-from", "TH-60@4.2.9", "-to", "TH-80@5.4.2", demoConfigs + "control-fw1.cfg"}
	out := e.refused(1, nil, start...)
	assert.Contains(t, out, "11 need a person")
	hidesAll(t, out, secrets)
	assert.Contains(t, e.must("conversion", "list"), "control-fw1.cfg")
	shown, _, _ := e.client("", "conversion", "show", "1", "-text")
	hidesAll(t, shown, secrets)
	assert.Contains(t, shown, "  secret ***\n")

	edited := filepath.Join(e.dir, "edited.cfg")
	require.NoError(t, os.WriteFile(edited, []byte(strings.Replace(shown, "  idle-after 900\n", "  idle-after 60\n", 1)), 0o600))
	out = e.refused(1, nil, "conversion", "change", "1", "-answer", "TU12=second", "-edited", edited)
	assert.Contains(t, out, "edit 1 by engineer: set box / idle-after")
	assert.Contains(t, out, "4 need a person")
	require.NoError(t, os.WriteFile(edited, []byte(strings.Replace(shown, "  idle-after 900\n", "  idle-after 60\n  nonsense \"\n", 1)), 0o600))
	e.refused(1, []string{"a quoted word begins here and does not end"}, "conversion", "change", "1", "-edited", edited)
	require.NoError(t, os.WriteFile(edited, []byte("# only a remark\n"+e.result("1")), 0o600))
	e.refused(1, []string{"the text means the same as the result"}, "conversion", "change", "1", "-edited", edited)
	out = e.refused(1, nil, "conversion", "change", "1", "-undo", "1")
	assert.NotContains(t, out, "edit 1")
	e.refused(1, []string{"there is no hand edit 1"}, "conversion", "change", "1", "-undo", "1")

	for _, name := range []string{"r.html", "r.pdf"} {
		e.must("conversion", "report", "1", "-o", filepath.Join(e.dir, name))
		data, err := os.ReadFile(filepath.Join(e.dir, name))
		require.NoError(t, err)
		hidesAll(t, string(data), secrets)
		assert.Greater(t, len(data), 10_000)
	}
	e.refused(1, []string{"no conversions lead from"}, "conversion", "start", "-from", "TH-60@4.2.9", "-to", "RC-6@F3.05", demoConfigs+"control-fw1.cfg")
	e.refused(1, []string{"box:1:8: expected = and a value"}, "conversion", "start", "-from", "RC-6@F2.12", "-to", "RC-6@F3.05", box1(t, e))
	e.refused(1, []string{"there is no service"}, "conversion", "start", "-from", "SG-5@3.8.4", "-to", "SG-5@4.4.2", "-service", "nothing", demoConfigs+"control-sg1.json")
	assert.Contains(t, e.must("conversion", "start", "-from", "SG-5@3.8.4", "-to", "SG-5@4.4.2", "-service", "tickets-web,mail-web", demoConfigs+"control-sg1.json"), "carved out of")

	e.must("backup", "take", "hollen-fw1")
	assert.Contains(t, e.must("conversion", "start", "-backup", "1", "-to", "TH-60@5.4.2"), "of hollen-fw1, TH-60@4.2.9 to TH-60@5.4.2")
	// The device says what it takes of a result, and nothing is changed or left there.
	e.refused(1, []string{"hollen-fw1 is a TH-60 that runs 4.2.9; the result is for a TH-60 that runs 5.4.2"}, "conversion", "try", "3", "hollen-fw1")
	small, err := os.ReadFile(demoConfigs + "hollen-fw1.cfg")
	require.NoError(t, err)
	mine := filepath.Join(e.dir, "mine.cfg")
	require.NoError(t, os.WriteFile(mine, small, 0o600))
	before := e.must("device", "show", "hollen-fw1")
	e.must("conversion", "start", "-from", "TH-60@4.2.3", "-to", "TH-60@4.2.9", mine)
	assert.Contains(t, e.must("conversion", "try", "4", "hollen-fw1"), "hollen-fw1 takes it. Nothing was changed there.")
	text4 := e.must("conversion", "show", "4", "-text")
	require.NoError(t, os.WriteFile(mine, []byte(strings.Replace(text4, "port p4", "port p5", 1)+"port p7\n  role spare\n"), 0o600))
	e.refused(1, nil, "conversion", "change", "4", "-edited", mine)
	e.refused(1, nil, "conversion", "try", "4", "hollen-fw1")
	said, _, _ := e.client("", "conversion", "try", "4", "hollen-fw1")
	assert.Contains(t, said, "port p7: this box has no port p7")
	files := func(told string) string { _, rest, _ := strings.Cut(told, "flash"); return rest }
	assert.Equal(t, files(before), files(e.must("device", "show", "hollen-fw1")), "nothing is left on the device")
	// What is kept is sealed, and nothing of it is in the log.
	db, err := pgx.Connect(t.Context(), e.database)
	require.NoError(t, err)
	defer db.Close(t.Context())
	rows, err := db.Query(t.Context(), "SELECT encode(work, 'escape') FROM conversions")
	require.NoError(t, err)
	kept, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	assert.Len(t, kept, 4)
	for _, row := range kept {
		hidesAll(t, row, secrets)
		assert.NotContains(t, row, "tunnel")
	}
	hidesAll(t, e.log.String(), secrets)
	e.must("conversion", "remove", "1")
	e.refused(1, []string{"there is no conversion 1"}, "conversion", "show", "1")

	// Schemas and conversions are files like any other: checked, kept in versions.
	bad := filepath.Join(e.dir, "th-9.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("format: verimorph-schema/1\nid: th-9\nfamily: th\nreleases: \">=9\"\nextends: nothing\n"), 0o600))
	e.refused(1, []string{`th-9.yaml:5:10: error: schema "nothing" is not known`}, "catalogue", "load", bad)
	var cat struct {
		Configuration []gen.ConfigurationFile `json:"configuration"`
	}
	status, body, _ := e.call("GET", "/api/v1/catalogue", "")
	require.Equal(t, http.StatusOK, status)
	require.NoError(t, json.Unmarshal(body, &cat))
	assert.Greater(t, len(cat.Configuration), 20)
	for _, f := range cat.Configuration {
		assert.Nil(t, f.Trouble, "%s", f.File)
	}
	assert.Contains(t, e.must("catalogue", "list"), "Tarnholm train 4 to train 5")
	// A schema that takes away what a conversion needs is refused as long as that conversion is there.
	th6, err := os.ReadFile("../demo/catalog/schemas/th-6.yaml")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(e.dir, "th-6.yaml"), []byte(strings.Replace(string(th6), "far-end: address", "remote: address", 1)), 0o600))
	e.refused(1, []string{"th-5-6.yaml", `schema "th-6" has no "far-end"`}, "catalogue", "load", filepath.Join(e.dir, "th-6.yaml"))
}

// result is what a conversion makes, secrets masked.
func (e *env) result(id string) string {
	out, _, _ := e.client("", "conversion", "show", id, "-text")
	return out
}

// box1 writes a file that is no configuration of a ramp controller.
func box1(t *testing.T, e *env) string {
	name := filepath.Join(e.dir, "box")
	require.NoError(t, os.WriteFile(name, []byte("box:1:1\n"), 0o600))
	return name
}

// atStart puts the cursor at the start of an editor.
func atStart(sel string) act {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[bool](`(() => { const c = document.querySelector("`+sel+`"); c.focus(); getSelection().collapse(c.firstChild, 0); return true })()`)(ctx, t)
		time.Sleep(200 * time.Millisecond) // the editor takes the selection over
		return none, err
	}
}

// The workbench in a browser.
func TestConsoleConfigurations(t *testing.T) {
	t.Parallel()
	e := setUp(t, 40, simulated{name: "hollen-fw1", model: "TH-60", version: "4.2.9"})
	e.must("catalogue", "load", "../demo/catalog")
	e.must("backup", "take", "hollen-fw1")
	e.must("backup", "take", "hollen-fw1")
	e.refused(1, nil, "conversion", "start", "-from", "TH-60@4.2.9", "-to", "TH-80@5.4.2", demoConfigs+"control-fw1.cfg")
	ctx := browser(t)
	do := doer(t, ctx)
	do(chromedp.Navigate("http://"+e.url+"/"), visible(`input[name=password]`), typed(`input[name=password]`, e.password), entered(`input[name=password]`),
		text("main", "hollen-fw1"), clickText("a", "Configurations"), text("main", "control-fw1.cfg"), clickText("a", "control-fw1.cfg"),
		text("main", "11 need a person"), text(".cm-merge-a", "name control-fw1"), text("[role=tablist]", "Decisions (7 open)"), top(), shot("workbench"),
		// A look at one item moves both texts to it.
		clickText("button", "tunnel hollen-18 / cipher"), text(".cm-merge-a", "tunnel hollen-18"), text(".cm-merge-b", "tunnel hollen-18"),
		clickText("button", "Decisions"), clickText("button", "second for all like it"), text("main", "4 need a person"), text("[role=tablist]", "Decisions"), lacks("[role=tablist]", "open"),
		clickText("button", "Ports"), text("main", "proposed: the same role, outside"), chosen(`select[aria-label="Port p6 goes to"]`, "leave"), clickText("button", "Confirm this mapping"),
		lacks("[role=tablist] ~ div", "proposed"), clickText("button", "Ledger"), text("main", "guarded, the box may be reached through this address; it was dropped"),
		clickText("button", "Accept this guarded difference"), lacks("main", "it was dropped"),
		// An edit that is discarded is gone, and while there is one, decisions wait.
		click(".cm-merge-b .cm-line"), atStart(".cm-merge-b .cm-content"), chromedp.KeyEvent("nonsense\r"), text("[role=status]", "The result was edited"), text(".cm-merge-b", "nonsense"),
		clickText("button", "Discard"), lacks("main", "The result was edited"), lacks(".cm-merge-b", "nonsense"),
		// An edit by hand is kept, shown as such, and undone.
		click(".cm-merge-b .cm-line"), atStart(".cm-merge-b .cm-content"), chromedp.KeyEvent("sign-in\r  tries 3\r"), clickText("button", "Keep hand edits"), text("[role=tablist]", "Hand edits (1)"),
		clickText("button", "Hand edits"), text("main", "sign-in"), click(`button[aria-label="Undo edit 1"]`), text("[role=tablist]", "Hand edits (0)"),
		clickText("button", "Checks"), text("main", "No device of the fleet is a TH-80 that runs 5.4.2"))
	// What the source leaves out, and comments that do not come along.
	hut := filepath.Join(e.dir, "hut.cfg")
	require.NoError(t, os.WriteFile(hut, []byte("box\n  name hut\nport p1\n  role outside\n  duplex half # for the old switch\n"), 0o600))
	e.refused(1, []string{"1 dropped"}, "conversion", "start", "-from", "TH-60@4.2.9", "-to", "TH-60@5.4.2", hut)
	e.must("conversion", "start", "-backup", "1", "-to", "TH-60@4.2.9")
	do(clickText("a", "Configurations"), clickText("a", "hut.cfg"), clickText("button", "Ledger"), clickText("button", "left out, defaults"), text("main", "report / facility"), text("main", "left out"), text("main", "train 5 reports everything under one facility"),
		clickText("summary", "Comments that are dropped or may be untrue now: 1"), text("details", "# for the old switch"), text("details", "line 5; its statement needs a person"),
		clickText("button", "for the old switch"), text(".cm-merge-a", "duplex half"))
	// A device of the fleet is asked about a result that is for it.
	do(clickText("a", "Configurations"), clickText("a", "hollen-fw1"), text("main", "complete"), clickText("button", "Checks"), clickText("button", "Ask it"), text("[role=status]", "hollen-fw1 takes it"))
	// Two files that differ, and a gateway whose services are carved out.
	data, err := os.ReadFile(demoConfigs + "marrow-ramp1.ini")
	require.NoError(t, err)
	changed := filepath.Join(e.dir, "after.ini")
	require.NoError(t, os.WriteFile(changed, []byte(strings.NewReplacer("upper-limit = 8200", "upper-limit = 8900", "language = en", "language = sv").Replace(string(data))), 0o600))
	ramp, err := filepath.Abs(demoConfigs + "marrow-ramp1.ini")
	require.NoError(t, err)
	gateway, err := filepath.Abs(demoConfigs + "control-sg1.json")
	require.NoError(t, err)
	upload := func(sel, file string) act { return chromedp.SetUploadFiles(chromedp.CSS(sel), []string{file}) }
	do(clickText("a", "Configurations"), clickText("button", "Compare"), upload(`input[aria-label="Old: a file"]`, ramp), typed("fieldset:nth-of-type(1) input:not([type])", "RC-6@F1.06"),
		upload(`input[aria-label="New: a file"]`, changed), typed("fieldset:nth-of-type(2) input:not([type])", "RC-6@F1.06"), click("main section button"),
		text("main", "2 changed"), text("main", "guarded: it moves a ramp"), clickText("button", "panel / language"), text(".cm-merge-b", "language = sv"), shot("compare"))
	both := func(sel string, names ...string) act { return chromedp.SetUploadFiles(chromedp.CSS(sel), names) }
	do(clickText("label", "All files of a device at once"), both(`input[aria-label="Old: files"]`, ramp), typed("fieldset:nth-of-type(1) input:not([type])", "RC-6@F1.06"),
		both(`input[aria-label="New: files"]`, ramp, changed), typed("fieldset:nth-of-type(2) input:not([type])", "RC-6@F1.06"), click("main section button"),
		text("main", "after.ini"), text("main", "new"), text("main", "marrow-ramp1.ini"))
	do(clickText("button", "Carve out services"), upload(`input[aria-label="Gateway: a file"]`, gateway), typed("fieldset input:not([type])", "SG-5@3.8.4"), text("main", "tickets-api"),
		click(`input[aria-label="tickets-web"]`), click(`input[aria-label="tickets-api"]`), text("main", "2 services with what they need"), text("main", "stays as well"), top(), shot("carve"))
}

func value(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}

// The contract of configurations: what is refused and why, once is once, and two at the same time do not undo each other.
func TestCallsOfConfigurations(t *testing.T) {
	t.Parallel()
	e := setUp(t, 40, simulated{name: "hollen-fw1", model: "TH-60", version: "4.2.9"})
	e.must("catalogue", "load", "../demo/catalog")
	text, err := os.ReadFile(demoConfigs + "hollen-fw1.cfg")
	require.NoError(t, err)
	body := func(v any) string {
		data, err := json.Marshal(v)
		require.NoError(t, err)
		return string(data)
	}
	good := m{"text": string(text), "from": "TH-60@4.2.9", "name": "hollen.cfg"}
	for _, c := range []struct {
		method, path string
		body         any
		status       int
		says         string
	}{
		{"POST", "/conversions", m{"source": m{}, "to": "TH-60@5.4.2"}, 400, "it names neither"},
		{"POST", "/conversions", m{"source": m{"backup": 1, "text": "x"}, "to": "TH-60@5.4.2"}, 400, "not both"},
		{"POST", "/conversions", m{"source": m{"text": "x"}, "to": "TH-60@5.4.2"}, 400, "a text needs from"},
		{"POST", "/conversions", m{"source": m{"text": "x", "from": "TH-60"}, "to": "TH-60@5.4.2"}, 400, "expected MODEL@VERSION"},
		{"POST", "/conversions", m{"source": good, "to": "TH-99@5.4.2"}, 400, "is not in the catalogue"},
		{"POST", "/conversions", m{"source": m{"backup": 77}, "to": "TH-60@5.4.2"}, 404, "there is no backup 77"},
		{"POST", "/conversions", m{"source": m{"text": "a \"b\n", "from": "TH-60@4.2.9"}, "to": "TH-60@5.4.2"}, 422, "configuration:1:3"},
		{"POST", "/conversions", m{"source": m{"text": "a.b = 1", "from": "AP-31@9.2.3"}, "to": "WC-2@9.2.3"}, 409, "no schema describes"},
		{"POST", "/conversions", m{"source": good, "to": "RC-6@F3.05"}, 409, "no conversions lead from"},
		{"GET", "/conversions/99", nil, 404, "there is no conversion 99"},
		{"PATCH", "/conversions/99", m{}, 404, "there is no conversion 99"},
		{"DELETE", "/conversions/99", nil, 404, "there is no conversion 99"},
		{"GET", "/conversions/99/report", nil, 404, "there is no conversion 99"},
		{"POST", "/conversions/99/try", m{"device": "hollen-fw1"}, 404, "there is no conversion 99"},
		{"GET", "/configurations/support?from=TH-60@4.2.9&to=nothing", nil, 400, "expected MODEL@VERSION"},
		{"GET", "/configurations/support?from=RC-6@F3.05&to=TH-60@5.4.2", nil, 409, "no conversions lead from"},
		{"POST", "/configurations/services", m{"source": good, "by": "policy"}, 409, "does not say where services are"},
		{"POST", "/configurations/compare", m{"old": good, "new": m{"text": "{}", "from": "SG-5@3.8.4"}}, 409, "they cannot be compared"},
	} {
		sent := ""
		if c.body != nil {
			sent = body(c.body)
		}
		status, answer, _ := e.call(c.method, "/api/v1"+c.path, sent)
		assert.Equal(t, c.status, status, "%s %s: %s", c.method, c.path, answer)
		assert.Contains(t, string(answer), c.says, "%s %s", c.method, c.path)
	}
	// A comparison shows both texts, and no secret.
	status, answer, _ := e.call("POST", "/api/v1/configurations/compare", body(m{"old": good, "new": m{"text": strings.Replace(string(text), "secret {{random}}", "secret other", 1), "from": "TH-60@4.2.9"}}))
	require.Equal(t, 200, status)
	var cmp gen.ConfigurationComparison
	require.NoError(t, json.Unmarshal(answer, &cmp))
	require.Len(t, cmp.Items, 1)
	assert.True(t, cmp.Items[0].Secret)
	assert.NotContains(t, string(answer), "other")
	assert.Equal(t, strings.Count(string(text), "\n"), strings.Count(cmp.OldText, "\n"), "lines stay where they are")

	// All files of a device at once.
	file := func(name, text string) m { return m{"name": name, "text": text} }
	bundles := m{"old": m{"from": "TH-60@4.2.9", "files": []m{file("a.cfg", string(text)), file("b.cfg", "user x\n  secret aa11\n"), file("c.cfg", "port p1\n  role old\n")}},
		"new": m{"from": "TH-60@4.2.9", "files": []m{file("a.cfg", "# other\n"+string(text)), file("b.cfg", "user x\n  secret bb22\n"), file("d.cfg", "port p1\n  role old\n"), file("e.cfg", "box\n  name e\n")}}}
	status, answer, _ = e.call("POST", "/api/v1/configurations/compare-bundles", body(bundles))
	require.Equal(t, 200, status, "%s", answer)
	var files struct {
		Same  bool
		Items []gen.FileComparison
	}
	require.NoError(t, json.Unmarshal(answer, &files))
	var said []string
	for _, f := range files.Items {
		said = append(said, fmt.Sprintf("%s %s>%s %t", f.State, value(f.Old), value(f.New), f.Same))
	}
	assert.Equal(t, []string{"changed a.cfg>a.cfg true", "changed b.cfg>b.cfg false", "new >e.cfg false", "renamed c.cfg>d.cfg false"}, said)
	assert.False(t, files.Same)
	assert.NotContains(t, string(answer), "aa11")
	status, answer, _ = e.call("POST", "/api/v1/configurations/compare-bundles", body(m{"old": m{"from": "TH-60@4.2.9", "files": []m{file("a", "x"), file("a", "y")}}, "new": m{"from": "TH-60@4.2.9", "files": []m{file("a", "x")}}}))
	assert.Equal(t, 400, status)
	assert.Contains(t, string(answer), "is there twice on one side")

	// Once is once.
	create := body(m{"source": good, "to": "TH-80@5.4.2"})
	var ids []int64
	for range 2 {
		status, answer, _ = e.call("POST", "/api/v1/conversions", create, "Idempotency-Key", "k1")
		require.Equal(t, 201, status, "%s", answer)
		var c gen.Conversion
		require.NoError(t, json.Unmarshal(answer, &c))
		ids = append(ids, c.Id)
	}
	assert.Equal(t, ids[0], ids[1])
	here := fmt.Sprintf("/api/v1/conversions/%d", ids[0])
	for sent, says := range map[string]string{
		`{"ports":[{"port":"p1","to":"x1","leaveOut":"y","sure":false,"chosen":true}]}`: "say exactly one of to, foldInto and leaveOut",
		`{"ports":[{"port":"p1","to":"x9","sure":false,"chosen":true}]}`:                "TH-80 has no port x9 for p1",
		`{"undo":5}`:                                         "there is no hand edit 5",
		`{"text":"box\n    x\n  y\n"}`:                       "indented by 2, but its block began with 4",
		`{"answers":{"settled @ box / nmae":"it is"}}`:       "there is no \\\"box / nmae\\\" to settle; known and near: box / name",
		`{"answers":{"settled @ box / name":""}}`:            "nothing was said about",
		`{"text":"box\n  name x\nuser new\n  secret ***\n"}`: "no secret of the result belongs there",
	} {
		status, answer, _ = e.call("PATCH", here, sent)
		assert.GreaterOrEqual(t, status, 400, "%s", sent)
		assert.Less(t, status, 500, "%s", sent)
		assert.Contains(t, string(answer), says)
	}
	// Of several that change it at the same moment, each either comes through whole or is told to look again.
	var all sync.WaitGroup
	statuses := make([]int, 6)
	for i := range statuses {
		all.Go(func() {
			statuses[i], _, _ = e.call("PATCH", here, fmt.Sprintf(`{"answers":{"settled @ box / name":"for reason %d"}}`, i))
		})
	}
	all.Wait()
	through := 0
	for _, s := range statuses {
		assert.Contains(t, []int{200, 409}, s)
		through += map[int]int{200: 1}[s]
	}
	assert.Positive(t, through)
	db, err := pgx.Connect(t.Context(), e.database)
	require.NoError(t, err)
	defer db.Close(t.Context())
	var revision int
	require.NoError(t, db.QueryRow(t.Context(), "SELECT revision FROM conversions WHERE id = $1", ids[0]).Scan(&revision))
	assert.Equal(t, through, revision, "what was refused left nothing")

	// Services of a gateway: found, shown, carved out, with what stays.
	gateway, err := os.ReadFile(demoConfigs + "control-sg1.json")
	require.NoError(t, err)
	src := m{"text": string(gateway), "from": "SG-5@3.8.4"}
	status, answer, _ = e.call("POST", "/api/v1/configurations/services", body(m{"source": src, "by": "address"}))
	require.Equal(t, 200, status)
	assert.Contains(t, string(answer), `"shared-front"`)
	status, answer, _ = e.call("POST", "/api/v1/configurations/carve", body(m{"source": src, "carve": m{"services": []string{"small-3"}, "rename": m{"small-3": "tide-feed"}}}))
	require.Equal(t, 200, status, "%s", answer)
	var carved gen.Carved
	require.NoError(t, json.Unmarshal(answer, &carved))
	assert.Contains(t, carved.Text, `"tide-feed"`)
	assert.NotContains(t, carved.Rest, `"small-3"`)
	for _, n := range carved.Needs {
		assert.Equal(t, n.Kind != "pool", n.Shared, "%s %s", n.Kind, n.Name)
	}
	hidesAll(t, string(answer), secretsOf(t, "control-sg1.json"))
}
