package main

import (
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const demoCatalogue = "../../demo/catalog"

// answer is the form of a path that scripts rely on; unknown names are of no concern, missing ones are.
type answer struct {
	Hops []struct {
		From, To, Rule, Why, Config string
		Images                      []map[string]any
		Restarts                    int
		Minutes                     struct{ Low, High float64 }
		Components, Notes           []map[string]any
		HandSteps                   []map[string]any `json:"hand_steps"`
	}
	Alternatives []map[string]any
	Refused      []struct{ From, To, Rule, Why string }
	Nearest      *string
	BlockedBy    []struct{ Rule, Why string } `json:"blocked_by"`
}

func askPath(t *testing.T, args ...string) (a answer, raw map[string]json.RawMessage, code int) {
	t.Helper()
	out, stderr, code := runWith(t, "", append([]string{"path", "-catalog", demoCatalogue, "-json"}, args...)...)
	require.NoError(t, json.Unmarshal([]byte(out), &a), "%s%s", out, stderr)
	require.NoError(t, json.Unmarshal([]byte(out), &raw))
	return a, raw, code
}

func TestPathForScripts(t *testing.T) {
	a, raw, code := askPath(t, "-model", "TH-60", "-from", "4.2.3", "-to", "5.4.2")
	assert.Equal(t, 0, code)
	for _, key := range []string{"hops", "alternatives", "refused", "nearest", "blocked_by"} {
		assert.Contains(t, raw, key)
	}
	assert.Equal(t, "null", string(raw["nearest"]))
	var hops []map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(raw["hops"], &hops))
	for _, key := range []string{"from", "to", "rule", "why", "images", "restarts", "minutes", "config", "components", "notes", "hand_steps"} {
		assert.Contains(t, hops[0], key)
		assert.NotEqual(t, "null", string(hops[0][key]), key)
	}
	require.Len(t, a.Hops, 3)
	assert.Equal(t, "TH-R2", a.Hops[1].Rule)
	assert.Contains(t, a.Hops[1].Why, "[TH-R8]")
	assert.Equal(t, "it is the aim", a.Hops[2].Why)
	assert.Positive(t, a.Hops[0].Minutes.Low)
	assert.Equal(t, "th60-4.2.9.img", a.Hops[0].Images[0]["file"])
	assert.Equal(t, "TH-R6", a.Refused[0].Rule)
	assert.Equal(t, "4.2.3", a.Refused[0].From)
	assert.Equal(t, "5.4.2", a.Refused[0].To)

	a, _, code = askPath(t, "-model", "TH-60", "-from", "5.4.2", "-to", "4.2.9")
	assert.Equal(t, 1, code)
	assert.Empty(t, a.Hops)
	assert.Equal(t, "5.0.6", *a.Nearest)
	assert.Contains(t, a.BlockedBy[0].Why, "no hop rule permits")

	for aim, to := range map[string]string{"preferred": "5.4.2", "newest": "6.0.1", "train:5.2": "5.2.3", "fixes:TAR-2025-04": "4.2.9"} {
		a, _, code = askPath(t, "-model", "TH-60", "-from", "4.2.3", "-aim", aim)
		require.Equal(t, 0, code, aim)
		assert.Equal(t, to, a.Hops[len(a.Hops)-1].To, aim)
	}
	a, _, code = askPath(t, "-model", "TH-66", "-from", "4.2.3", "-to", "5.4.2")
	assert.Equal(t, 1, code)
	assert.Contains(t, a.BlockedBy[0].Why, "model TH-66 is not in the catalogue")
	a, _, code = askPath(t, "-model", "TH-60", "-from", "4.2.3", "-to", "9.9.9")
	assert.Equal(t, 1, code)
	assert.Contains(t, a.BlockedBy[0].Why, "release 9.9.9 is not in the catalogue")
	a, _, code = askPath(t, "-model", "TH-60", "-from", "5.4.2", "-to", "5.4.2")
	assert.Equal(t, 0, code, "it is there")
	assert.Empty(t, a.Hops)

	a, _, code = askPath(t, "-portrait", "../../demo/portraits/innersund-wc.yaml", "-to", "9.0.2")
	assert.Equal(t, 0, code)
	assert.Len(t, a.Hops, 4)
	a, _, code = askPath(t, "-portrait", "../../demo/portraits/marrow-ramp.yaml", "-aim", "preferred", "-reset")
	assert.Equal(t, 0, code)
	assert.Equal(t, "after", a.Hops[0].HandSteps[0]["due"])
	assert.Equal(t, "web-manager", a.Hops[0].Components[0]["name"])
}

func TestPathWrongUse(t *testing.T) {
	for _, args := range [][]string{
		{}, {"-to", "5"}, {"-model", "TH-60", "-from", "4.2.3"}, {"-model", "TH-60", "-from", "4.2.3", "-to", "5", "-aim", "newest"},
		{"-model", "TH-60", "-from", "4.2.3", "-aim", "best"}, {"-model", "TH-60", "-to", "5"}, {"hollen-fw1", "-to", "5"},
		{"-model", "TH-60", "-from", "4.2.3", "-to", "5", "-hops", "-1"}, {"-model", "TH-60", "-from", "4.2.3", "-to", "5", "-alternatives", "9"},
	} {
		_, stderr, code := runWith(t, "", append([]string{"path", "-catalog", demoCatalogue}, args...)...)
		assert.Equal(t, exitUsage, code, "%v: %s", args, stderr)
	}
	_, stderr, code := runWith(t, "", "path", "-catalog", "no/such/folder", "-model", "TH-60", "-from", "4.2.3", "-to", "5.4.2")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, "no/such/folder")
	file := filepath.Join(t.TempDir(), "p.yaml")
	require.NoError(t, os.WriteFile(file, []byte("format: verimorph-portrait/1\nmodle: TH-60\n"), 0o600))
	_, stderr, code = runWith(t, "", "path", "-catalog", demoCatalogue, "-portrait", file, "-to", "5.4.2")
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, stderr, `p.yaml:2:1: error: a portrait has no field "modle"`)
}

func TestPathToRead(t *testing.T) {
	out, _, code := runWith(t, "", "path", "-catalogue", demoCatalogue, "-model", "L24", "-from", "11.1.2", "-aim", "preferred", "-alternatives", "2")
	assert.Equal(t, 0, code)
	for _, text := range []string{"L24 from 11.1.2 to 12.2.3: 3 hops", "12.2.3 is the newest preferred one", "base l24-12.2.0.pkg", "after the image: port logic 44 to 52 (power-cycle, restarts line cards, 4 to 8 min)",
		"needs, not known: the boot variable start-from must be clear", "Not 11.1.2 to 12.2.3:", "Other ways:", "the hardware generation is not known", "outage for wired clients during restart"} {
		assert.Contains(t, out, text)
	}
	out, _, code = runWith(t, "", "path", "-catalog", demoCatalogue, "-model", "TH-40", "-from", "4.2.3", "-to", "6.0.1")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "There is no supported path for TH-40 from 4.2.3 to 6.0.1.")
	assert.Contains(t, out, "The nearest release that can be reached is 5.4.2.")
	out, _, code = runWith(t, "", "path", "-catalog", demoCatalogue, "-model", "V1", "-from", "7.0.2", "-to-model", "V2", "-aim", "train:8.2")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "goes on as V2")
	out, _, _ = runWith(t, "", "path", "-catalog", demoCatalogue, "-portrait", "../../demo/portraits/innersund-wc.yaml", "-to", "9.0.2")
	assert.Contains(t, out, "move 3: innersund-wc1 then innersund-wc2: 8.8.5 to 9.0.2")
	assert.Contains(t, out, "beside innersund-ap1, innersund-ap2 on 8.8.5: GW-S6")
}

func TestExplain(t *testing.T) {
	out, _, code := runWith(t, "", "explain", "-catalog", demoCatalogue, "-model", "TH-60", "-from", "4.2.3", "-to", "5.4.2")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "4.2.3 to 5.4.2 is refused")
	assert.Contains(t, out, "TH-R6")
	out, _, code = runWith(t, "", "explain", "-catalog", demoCatalogue, "-model", "TH-60", "-from", "4.2.9", "-to", "5.0.7")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "is supported: TH-R2")
	out, _, code = runWith(t, "", "explain", "-catalog", demoCatalogue, "-model", "TH-60", "-from", "4.2.9", "-to", "9")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "not in the catalogue")
}

func TestAdvisoriesOffline(t *testing.T) {
	a, _, code := askPath(t, "-model", "TH-60", "-from", "5.0.7", "-aim", "fixes:TAR-2026-01", "-advisories", "../../demo/advisories")
	assert.Equal(t, 0, code)
	assert.Equal(t, "5.2.3", a.Hops[0].To)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.json"), []byte("{"), 0o600))
	_, stderr, code := runWith(t, "", "path", "-catalog", demoCatalogue, "-model", "TH-60", "-from", "5.0.7", "-aim", "fixes:X", "-advisories", dir)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, "x.json cannot be used: line 1")
}

func TestCatalogCheckForScripts(t *testing.T) {
	out, _, code := runWith(t, "", "catalog", "check", demoCatalogue)
	assert.Equal(t, 0, code)
	assert.Empty(t, out, "clean and quiet in a pipe")
	dir := t.TempDir()
	text, err := os.ReadFile(demoCatalogue + "/tarnholm-th.yaml")
	require.NoError(t, err)
	broken := strings.NewReplacer("stage: withdrawn", "stage: gone", "id: TH-R3", "id: TH-R2").Replace(string(text))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "th.yaml"), []byte(broken), 0o600))
	out, _, code = runWith(t, "", "catalog", "check", dir)
	assert.Equal(t, 1, code)
	for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
		assert.Regexp(t, regexp.MustCompile(`^th\.yaml:\d+:\d+: .+`), line)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "th.yaml"), []byte(strings.Replace(string(text), ", sha256: ad6b4edc9a300e8ee7b78173e6376f9ce57f0a268e7883d6d6d1ab22a1df27ab", "", 1)), 0o600))
	out, _, code = runWith(t, "", "catalog", "check", dir, "-json")
	assert.Equal(t, 1, code, "a doubt is a finding too")
	var found []struct {
		File, Message, Hint string
		Line, Column        int
		Doubt               bool
	}
	require.NoError(t, json.Unmarshal([]byte(out), &found))
	require.Len(t, found, 1)
	assert.True(t, found[0].Doubt)
	assert.Equal(t, "image th40-4.2.1.img has no hash", found[0].Message)
	assert.Positive(t, found[0].Line*found[0].Column)
	out, _, code = runWith(t, "", "catalog", "check", t.TempDir())
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "no catalogue file found")
}

func TestCatalogueRunsOffline(t *testing.T) {
	out, _, code := runWith(t, "", "catalogue", "runs", "TH-40", "-catalog", demoCatalogue)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "no: TH-40 may run <6 only, not 6.0.1")
	assert.Contains(t, out, "no: 5.0.1 was withdrawn by the maker")
	_, stderr, code := runWith(t, "", "catalogue", "runs", "NOPE", "-catalog", demoCatalogue)
	assert.Equal(t, 1, code)
	assert.Contains(t, stderr, "model NOPE is not in the catalogue")
}

// What is no file, such as a device or a pipe, is written into: no file takes its place.
func TestWritingIntoWhatIsNoFile(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	read := make(chan string, 1)
	go func() { data, _ := os.ReadFile(pipe); read <- string(data) }()
	require.NoError(t, writeFile(pipe, func(w io.Writer) error { _, err := io.WriteString(w, "text"); return err }))
	assert.Equal(t, "text", <-read)
	st, err := os.Stat(pipe)
	require.NoError(t, err)
	assert.Equal(t, os.ModeNamedPipe, st.Mode().Type())
	assert.ErrorContains(t, writeFile(t.TempDir(), func(io.Writer) error { return nil }), "is a folder")
}

// Dialect files are checked without a service: what is wrong is said with its place, and what a change could not do with it.
func TestDialectsOnPaper(t *testing.T) {
	bad := filepath.Join(t.TempDir(), "g.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("format: verimorph-dialect/2\ndialect: g\nprmpt: x\n"), 0o600))
	out, _, code := runWith(t, "", "dialect", "check", bad)
	assert.Equal(t, exitNo, code)
	assert.Contains(t, out, `g.yaml:3:1: error: a dialect has no field "prmpt" (do you mean prompt?)`)
	out, _, code = runWith(t, "", "dialect", "check", "-json", bad)
	assert.Equal(t, exitNo, code)
	var found []struct {
		Line    int
		Doubt   bool
		Message string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &found))
	assert.Equal(t, 3, found[0].Line)
	_, stderr, code := runWith(t, "", "dialect", "coverage", bad)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, "g.yaml:3:1")
	_, stderr, code = runWith(t, "", "dialect", "check", bad+"x")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, "no such file")

	good := "../../device/cli/dialects/pellworth-gauge.yaml"
	out, _, code = runWith(t, "", "dialect", "check", good)
	assert.Equal(t, []any{0, "No finding.\n"}, []any{code, out})
	out, _, code = runWith(t, "", "dialect", "coverage", good)
	assert.Equal(t, 0, code)
	assert.Regexp(t, `(?m)^\+  verb +install *$`, out)
	assert.Regexp(t, `(?m)^-  verb +drain +the device is not taken out of service before a restart$`, out)
}
