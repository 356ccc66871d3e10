package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
)

// runWith runs the client against a server, with a session file of its own.
func runWith(t *testing.T, url string, args ...string) (stdout, stderr string, code int) {
	t.Setenv("VERIMORPH_SESSION", filepath.Join(t.TempDir(), "s.json"))
	t.Setenv("VERIMORPH_TOKEN", "tok")
	t.Setenv("VERIMORPH_SERVER", url)
	var out, errs bytes.Buffer
	code = run(t.Context(), args, &out, &errs)
	return out.String(), errs.String(), code
}

func TestEveryCommandHasHelp(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range commands() {
		assert.False(t, seen[c.name], "%s is there twice", c.name)
		seen[c.name] = true
		out, _, code := runWith(t, "", append([]string{"help"}, strings.Fields(c.name)...)...)
		assert.Equal(t, exitDone, code, c.name)
		for _, text := range []string{"verimorph " + c.name, c.short, "Example:\n  verimorph " + strings.Fields(c.name)[0], "-json", "Exit codes"} {
			assert.Contains(t, out, text, c.name)
		}
		out, _, code = runWith(t, "", append(strings.Fields(c.name), "-h")...)
		assert.Equal(t, exitDone, code)
		assert.Contains(t, out, "Exit codes")
		if c.min > 0 {
			_, stderr, code := runWith(t, "", strings.Fields(c.name)...)
			assert.Equal(t, exitUsage, code, c.name)
			assert.Contains(t, stderr, "it takes: verimorph "+c.name)
		}
	}
	out, _, code := runWith(t, "", "help")
	assert.Equal(t, exitDone, code)
	assert.Contains(t, out, "change watch CHANGE")
	_, _, code = runWith(t, "")
	assert.Equal(t, exitUsage, code)
	_, stderr, code := runWith(t, "", "change", "explode")
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, stderr, "change draft DEVICE", "what there is of that kind")
}

func TestFlagsStandAnywhere(t *testing.T) {
	for _, args := range [][]string{{"-to", "5", "a", "b"}, {"a", "-to", "5", "b"}, {"a", "b", "-to=5"}} {
		fs := flag.NewFlagSet("x", flag.ContinueOnError)
		to := fs.String("to", "", "")
		got, err := parse(fs, args)
		require.NoError(t, err)
		assert.Equal(t, []string{"a", "b"}, got)
		assert.Equal(t, "5", *to)
	}
	fs := flag.NewFlagSet("x", flag.ContinueOnError)
	got, err := parse(fs, []string{"a", "--", "-b"})
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "-b"}, got)
}

func TestText(t *testing.T) {
	for seconds, want := range map[float64]string{0.2: "0 s", 28: "28 s", 60: "1 min", 95: "1 min 35 s", 245: "4 min 5 s", 3599.6: "1 h", 3601: "1 h", 3900: "1 h 5 min", 90000: "25 h"} {
		assert.Equal(t, want, duration(seconds))
	}
	for want, s := range map[string][2]float64{"28 s to 1 min 35 s": {28, 95}, "17 to 45 min": {1014, 2700}, "5 to 10 s": {5, 10}, "4 to 8 min": {240, 480}, "9 min 50 s to 12 min": {590, 700}, "50 min to 1 h 10 min": {3000, 4200}, "1 to 2 h": {3600, 7200},
		"1 h 5 min to 1 h 20 min": {3900, 4800}} {
		assert.Equal(t, want, span(s[0], s[1]))
	}
	assert.Equal(t, "a…", cut("abc", 2))
	assert.Equal(t, "ab", cut("ab", 2))
	assert.Equal(t, "", cut("ab", 0))
	assert.Equal(t, "one two\n  three", wrap("one  two three", 8, "  "))
	assert.Equal(t, "just now", ago(time.Now()))
	assert.Equal(t, "3 min ago", ago(time.Now().Add(-200*time.Second)))
	assert.Equal(t, "5 h ago", ago(time.Now().Add(-5*time.Hour)))
	assert.Equal(t, "2020-01-02", ago(time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC)))
	assert.Equal(t, "[#####-----]", bar(0.5, 10))
	assert.Equal(t, "[----]", bar(0, 4))
	assert.Equal(t, "[####]", bar(1, 4))
	var b bytes.Buffer
	table(&b, [][]string{{"A", "LONG"}, {"äöü", "x", ""}})
	assert.Equal(t, "A    LONG\näöü  x\n", b.String())
	c := &client{}
	assert.Equal(t, "x", c.paint(red, "x"), "no colours but on a terminal")
	c.colour = true
	assert.Equal(t, "\x1b[31mx\x1b[0m", c.paint(red, "x"))
}

// running is a change in the middle of its second hop.
func running() gen.Change {
	at := func(s int) *time.Time { v := time.Date(2026, 1, 1, 0, 0, s, 0, time.UTC); return &v }
	step := func(n, hop int, title string, state gen.StepState, from, to *time.Time) gen.Step {
		return gen.Step{Number: n, Hop: hop, Title: title, State: state, Low: 5, High: 10, Limit: 60, StartedAt: from, EndedAt: to}
	}
	done, now, later := gen.StepStateDone, gen.StepStateRunning, gen.StepStateWaiting
	ch := gen.Change{Id: 7, Device: "fw1", State: gen.ChangeStateRunning, From: "1", To: "3", StartedAt: at(0), Now: *at(30), RemainingLow: 10, RemainingHigh: 25,
		Path: &gen.Path{Hops: []gen.Hop{{From: "1", To: "2"}, {From: "2", To: "3"}}},
		Steps: []gen.Step{
			step(1, 0, "Take readings before", done, at(0), at(5)),
			step(2, 1, "Send image", done, at(5), at(12)), step(3, 1, "Restart", done, at(12), at(20)),
			step(4, 2, "Send image", now, at(28), nil), step(5, 2, "Restart", later, nil, nil),
			step(6, 0, "Compare readings, conclude", later, nil, nil),
		}}
	ch.Steps[3].Fraction, ch.Steps[3].Note = 0.5, "half sent"
	return ch
}

func TestScreen(t *testing.T) {
	c := &client{out: &bytes.Buffer{}}
	ch := running()
	lines := strings.Join(c.screen(ch, ch.Now), "\n")
	for _, text := range []string{
		"Change 7  fw1 from 1 to 3  running", "58 %  30 s gone, 10 to 25 s to go", "+ Hop 1 of 2  1 to 2", "15 s", "> Hop 2 of 2  2 to 3",
		"2 s of 5 to 10 s            [####----]  50 %  half sent", "  Restart", "  Compare readings, conclude",
	} {
		assert.Contains(t, lines, text)
	}
	for _, l := range c.screen(ch, ch.Now) {
		assert.LessOrEqual(t, len([]rune(l)), 100, l)
	}
	ch.Steps[3].Fraction = 0
	assert.InDelta(t, 0.7, fraction(ch.Steps[3], ch.Now.Add(5*time.Second)), 0.01, "by time, when the step does not say")
	assert.InDelta(t, 0.95, fraction(ch.Steps[3], ch.Now.Add(time.Hour)), 0.01, "never full before it is done")
	ch.Steps[3].State, ch.Steps[3].Outcome = gen.StepStateFailed, "the cable is out"
	assert.Contains(t, c.stepLine(ch.Steps[3], ch.Now, 120), "x Send image")
	assert.Contains(t, c.stepLine(ch.Steps[3], ch.Now, 120), "the cable is out")
}

func TestDrawingInAPipeSaysEachThingOnce(t *testing.T) {
	var b bytes.Buffer
	d := &drawing{c: &client{out: &b}, seen: map[int]string{}}
	ch := running()
	for range 3 {
		d.draw(ch, ch.Now)
	}
	assert.Equal(t, 5, strings.Count(b.String(), "\n"), b.String())
	assert.Contains(t, b.String(), "running   Send image (hop 2, to 3): expected 5 to 10 s, limit 1 min")
	b.Reset()
	d.say("the service is away; trying again")
	d.say("the service is away; trying again")
	assert.Equal(t, 1, strings.Count(b.String(), "\n"))
	assert.NotContains(t, b.String(), "\x1b")
}

func TestDrawingOnATerminalReplacesItself(t *testing.T) {
	var b bytes.Buffer
	c := &client{out: &b, terminal: true}
	d := &drawing{c: c, seen: map[int]string{}, screen: c.screen}
	ch := running()
	d.draw(ch, ch.Now)
	first := strings.Count(b.String(), "\n")
	b.Reset()
	d.draw(ch, ch.Now)
	assert.True(t, strings.HasPrefix(b.String(), fmt.Sprintf("\x1b[%dA", first)), "it goes up as many lines as it drew")
}

func TestWatchSurvivesTheService(t *testing.T) {
	var calls atomic.Int32
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer tok", r.Header.Get("Authorization"))
		ch := running()
		switch calls.Add(1) {
		case 1: // breaks off in the middle
		case 2:
			http.Error(w, "starting", http.StatusServiceUnavailable)
			return
		default:
			end := ch.Now
			ch.State, ch.EndedAt = gen.ChangeStateDone, &end
			ch.Verdict = &gen.Verdict{Verdict: gen.VerdictVerdictPass, Results: []gen.Result{{Title: "Ports up", State: gen.ResultStateMet, Evidence: "all 4 are there"}}}
		}
		w.Header().Set("Content-Type", "text/event-stream")
		data, _ := json.Marshal(ch)
		fmt.Fprintf(w, ": hello\n\nevent: change\ndata: %s\n\n", data)
	}))
	defer web.Close()
	out, stderr, code := runWith(t, web.URL, "change", "watch", "7")
	assert.Equal(t, exitDone, code, stderr)
	assert.Contains(t, out, "the service is away; trying again")
	assert.Contains(t, out, "Verdict: pass\n  + Ports up")
	assert.EqualValues(t, 3, calls.Load())
}

func TestAnswersOfAServiceThatIsNone(t *testing.T) {
	answer := func(status int, body string) string {
		web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(status)
			_, _ = w.Write([]byte(body))
		}))
		t.Cleanup(web.Close)
		return web.URL
	}
	for _, c := range []struct {
		status int
		body   string
		code   int
		want   string
	}{
		{200, "<html>", exitFailed, "cannot be read"},
		{500, "<html>", exitFailed, "the service answers 500 Internal Server Error without saying why"},
		{409, `{"status":409,"detail":"not now"}`, exitNo, "not now"},
		{401, `{"status":401,"type":"not-signed-in","detail":"sign in first"}`, exitFailed, "verimorph sign-in"},
		{502, `{"status":502,"detail":"device silent"}`, exitFailed, "device silent"},
	} {
		_, stderr, code := runWith(t, answer(c.status, c.body), "device", "list")
		assert.Equal(t, c.code, code, c.body)
		assert.Contains(t, stderr, c.want)
	}
	_, stderr, code := runWith(t, answer(200, "{}"), "change", "watch", "1")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, "does not send events")
}

func TestTokensGoOnlyToWhoeverGaveThem(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("VERIMORPH_SESSION", filepath.Join(dir, "deep", "s.json"))
	t.Setenv("VERIMORPH_SERVER", "")
	t.Setenv("VERIMORPH_TOKEN", "")
	require.NoError(t, remember(remembered{"http://127.0.0.1:1", "secret"}))
	st, err := os.Stat(filepath.Join(dir, "deep", "s.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	c := &client{}
	require.NoError(t, c.where())
	assert.Equal(t, "secret", c.token)
	c = &client{server: "http://127.0.0.1:2"}
	require.NoError(t, c.where())
	assert.Empty(t, c.token)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "deep", "s.json"), []byte("{"), 0o600))
	assert.ErrorContains(t, (&client{}).where(), "is damaged; sign in again")
}

func TestAllCollectsPages(t *testing.T) {
	got, err := all(func(cursor *string) ([]int, *string, error) {
		if cursor == nil {
			next := "2"
			return []int{1, 2}, &next, nil
		}
		return []int{3}, nil, nil
	})
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 3}, got)
	_, err = all(func(*string) ([]int, *string, error) { return nil, nil, context.Canceled })
	assert.ErrorIs(t, err, context.Canceled)
}
