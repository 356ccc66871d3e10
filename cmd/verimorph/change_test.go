package main

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
)

// What a change says before, during and after, in words and by exit code.
func TestChangesInWords(t *testing.T) {
	at := time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)
	automatic := gen.TermsWayBackAutomatic
	checks := []gen.Check{{Name: "room", Title: "Room for the files", State: gen.CheckStateStop, Evidence: "9.0 MiB are needed", Remedy: ptrTo("remove files")},
		{Name: "health", Title: "Health", State: gen.CheckStateWarn, Evidence: "fan-1: stands still", Remedy: ptrTo("repair it"), AcceptedBy: ptrTo("mate"), Reason: ptrTo("a spare comes")},
		{Name: "reach", Title: "Reachable", State: gen.CheckStatePass, Evidence: "signed in as bosun"}}
	draft := running()
	draft.Id, draft.State, draft.StartedAt, draft.Checks, draft.ComesBackAt = 1, gen.ChangeStateDraft, nil, &checks, ptrTo("127.0.0.2:2022")
	draft.Terms = &gen.Terms{WayBack: &automatic}
	draft.WaysBack = &[]gen.WayBack{{Hop: 1, Way: "slot", Text: "start the installation of 1 again"}, {Hop: 2, Way: "", Text: "none: no supported hop leads back"}}
	draft.Actions = []gen.Action{gen.ActionApprove, gen.ActionStop}
	for i := range draft.Steps {
		draft.Steps[i].State, draft.Steps[i].StartedAt, draft.Steps[i].EndedAt = gen.StepStateWaiting, nil, nil
	}
	draft.Steps[1].Text = ptrTo("junk.bin, old.log")
	fine := draft
	fine.Id = 5
	fine.Checks = ptrTo(checks[1:])

	asks := running()
	asks.Id, asks.State, asks.Actions = 2, gen.ChangeStateAsking, []gen.Action{gen.ActionGoBack, gen.ActionLeave}
	asks.Question = &gen.Question{Kind: "failed", Step: 4, Text: "Ports up: 1 of 4 missing", Answers: asks.Actions}

	back := running()
	back.Id, back.State, back.EndedAt, back.Failure = 3, gen.ChangeStateReturned, &at, ptrTo("The way back was taken because: Ports up")
	back.Verdict = &gen.Verdict{Verdict: gen.VerdictVerdictPass, Results: []gen.Result{{Title: "Ports up", State: gen.ResultStateMet, Evidence: "all 4 are there"}}}

	worse := running()
	worse.Id, worse.State, worse.EndedAt = 4, gen.ChangeStateDone, &at
	worse.Verdict = &gen.Verdict{Verdict: gen.VerdictVerdictDegraded, Results: []gen.Result{{Title: "Licences", State: gen.ResultStateUnmet, Severity: "degraded", Evidence: "1 of 2 missing: wide"}}}

	diff := gen.Difference{Kind: "removed", Path: "rewrite web", Old: "to 10.0.0.1", OldLine: 4}
	losses := gen.Losses{From: "3", To: "2", Way: "start the installation in slot a again", Backup: ptrTo(int64(8)), Configuration: []gen.Difference{diff}, Services: []string{"guest pages, which this device uses: they came with 3"}, Credentials: []string{}, Notes: []string{"back up now"}}
	set := gen.ReadingSet{Id: 6, At: at, Version: "3", By: "engineer", Readings: []gen.Measured{{Name: "ports-up", Value: "p1, p2"}}}
	says(t, map[string]any{
		"GET /changes/1": draft, "POST /changes/1/ready": draft, "POST /changes/5/ready": fine, "POST /changes/1/accept-warnings": draft, "PUT /changes/1/terms": draft, "POST /changes/1/approve": draft,
		"GET /changes/2": asks, "GET /changes/3": back, "GET /changes/4": worse, "POST /changes/2/go-back": asks,
		"GET /changes/2/way-back": losses, "GET /devices/fw1/back-preview": losses,
		"GET /changes/2/evidence":           map[string]any{"items": []gen.Evidence{{Id: 1, Step: 4, Name: "port.png", MediaType: "image/png", Size: 2048, AddedBy: "mate", AddedAt: at}}},
		"GET /changes/3/journal":            gen.JournalPage{Items: []gen.JournalEntry{{Id: 1, At: at, Event: "drafted", Detail: "by me"}, {Id: 2, Step: 4, At: at, Event: "intent", Detail: "Install"}}},
		"GET /change-policy":                gen.ChangePolicy{SecondPerson: true, WayBack: "automatic"},
		"GET /devices/fw1/readings":         gen.ReadingSetPage{Items: []gen.ReadingSet{set}},
		"POST /devices/fw1/readings":        set,
		"POST /devices/fw1/verify":          gen.Comparison{Before: set, Now: set, Verdict: *worse.Verdict},
		"POST /devices/fw2/verify":          gen.Comparison{Before: set, Now: set, Verdict: *back.Verdict},
		"GET /own-readings":                 gen.OwnReadingList{Items: []gen.OwnReading{{Id: ptrTo(int64(3)), Name: ptrTo("boots-from"), Group: ptrTo("piers"), Dialect: "tarnholm", AddedBy: ptrTo("mate")}}},
		"GET /devices/gauge1/console-log":   gen.ConsoleLog{Items: []gen.ConsolePiece{}},
		"POST /changes":                     draft,
		"POST /changes/2/sign-off":          asks,
		"GET /devices/gauge1/readings":      gen.ReadingSetPage{Items: []gen.ReadingSet{}},
		"DELETE /own-readings/3":            nil,
		"PUT /change-policy":                nil,
		"POST /changes/1/evidence/nonsense": nil,
	}, map[string]said{
		"change show 1":  {exitDone, []string{"comes back at 127.0.0.2:2022", "junk.bin, old.log", "Readiness", "x stop room", "to do: remove files", "accepted by mate: a spare comes", "Way back, automatic", "hop 2: none: no supported hop", "Possible now: approve, stop"}},
		"change show 2":  {exitDone, []string{"It needs you: Ports up: 1 of 4 missing", "verimorph change go-back 2, or verimorph change leave 2"}},
		"change show 3":  {exitDone, []string{"Taken back: The way back was taken", "Verdict: pass"}},
		"change check 1": {exitNo, []string{"9.0 MiB are needed"}},
		"change check 5": {exitDone, []string{"signed in as bosun"}},
		"change accept-warnings 1 health -reason": {exitUsage, nil},
		"change accept-warnings 1 health":         {exitUsage, []string{"-reason is needed"}},
		"change terms 1 -back perhaps":            {exitUsage, []string{"offered or automatic"}},
		"change terms 1 -window-from noon":        {exitUsage, []string{"noon"}},
		"change losses 2":                         {exitDone, []string{"Going back from 3 to 2: start the installation in slot a again", "rewrite web", "guest pages", "Credentials that apply then, in this order\n  none", "back up now"}},
		"change back fw1 -preview":                {exitDone, []string{"Going back from 3 to 2"}},
		"change evidence 2":                       {exitDone, []string{"port.png", "mate"}},
		"change go-back 2":                        {exitDone, []string{"Change 2 is asking."}},
		"change sign-off 2 -text done":            {exitDone, []string{"Change 2 is asking."}},
		"change verdict 3":                        {exitDone, []string{"+ Ports up"}},
		"change verdict 4":                        {exitNo, []string{"Verdict: degraded", "1 of 2 missing: wide"}},
		"change verdict 1":                        {exitNo, []string{"Change 1 has no verdict; it is draft."}},
		"change journal 3":                        {exitDone, []string{"drafted", "intent"}},
		"change policy":                           {exitDone, []string{"Approval: by somebody else", "taken without asking"}},
		"change evidence 2 -get 9":                {exitFailed, []string{"nothing with the number 9 is attached"}},
		"change show x":                           {exitUsage, []string{`"x" is not the number of a change`}},
		"change show 0":                           {exitUsage, nil},
		"reading take fw1":                        {exitDone, []string{"Readings 6 of fw1, which runs 3", "p1, p2"}},
		"reading list fw1":                        {exitDone, []string{"engineer"}},
		"reading added":                           {exitDone, []string{"boots-from", "piers", "mate"}},
		"reading add nowhere.yaml":                {exitUsage, []string{"-dialect is needed"}},
		"reading remove three":                    {exitUsage, []string{`"three" is not the number of a reading`}},
		"reading remove 3":                        {exitDone, nil},
		"verify fw1":                              {exitNo, []string{"against readings 6", "Verdict: degraded"}},
		"verify fw2 -before 6":                    {exitDone, []string{"Verdict: pass"}},
		"device console gauge1":                   {exitDone, nil},
	})
}

// Times of windows: the next one when only the hour is said, also when that is tomorrow.
func TestMoments(t *testing.T) {
	zone := time.FixedZone("far", 3*3600)
	now := time.Date(2026, 12, 31, 22, 30, 0, 0, zone)
	for text, want := range map[string]time.Time{
		"23:00":                time.Date(2026, 12, 31, 23, 0, 0, 0, zone),
		"02:00":                time.Date(2027, 1, 1, 2, 0, 0, 0, zone),
		"22:30":                time.Date(2027, 1, 1, 22, 30, 0, 0, zone),
		"2026-12-31 23:15":     time.Date(2026, 12, 31, 23, 15, 0, 0, zone),
		"2026-12-31T23:15":     time.Date(2026, 12, 31, 23, 15, 0, 0, zone),
		"2026-12-31T23:15:00Z": time.Date(2026, 12, 31, 23, 15, 0, 0, time.UTC),
	} {
		got, err := moment(text, now)
		require.NoError(t, err, text)
		assert.True(t, want.Equal(got), "%s is %s", text, got)
	}
	for _, text := range []string{"", "soon", "24:10", "2026-13-01 00:00", "2"} {
		_, err := moment(text, now)
		assert.ErrorContains(t, err, "is no time", text)
	}
}

// What a person waits for stands in one line: single steps, a change that waits for its time, one that may not be interrupted.
func TestWaitingInWords(t *testing.T) {
	at := time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)
	ch := running()
	ch.Kind, ch.From, ch.To = gen.ChangeKindOperations, "1", "1"
	assert.Equal(t, "single operations; it runs 1", way(ch))
	assert.Equal(t, "single operations", work(ch))
	ch.To = "2"
	assert.Equal(t, "from 1 to 2", way(ch), "a slot is started by them")
	ch.PausesAt, ch.PausesMost = ptrTo("Wait for services"), ptrTo(75.0)
	assert.Equal(t, `it may not be interrupted before "Wait for services", in 1 min 15 s at most`, resting(ch))

	var out bytes.Buffer
	c := &client{out: &out}
	ch.State = gen.ChangeStateScheduled
	ch.Terms, ch.WaitsUntil = &gen.Terms{RestartFrom: &at, WayBack: ptrTo(gen.TermsWayBackOffered)}, &at
	c.printChange(ch)
	for _, text := range []string{"passes its point of no return at 2026-02-03", "scheduled until 2026-02-03", "when it goes on by itself; pause keeps it from that", "it may not be interrupted before"} {
		assert.Contains(t, out.String(), text)
	}
	ch.Awaited = &gen.Awaited{Since: at, Low: 480, High: 1200, Text: "link up, sign-in is not answered yet"}
	lines := c.screen(ch, at.Add(11*time.Minute))
	assert.Contains(t, lines[2], "11 min so far, 8 to 20 min expected: link up, sign-in is not answered yet")
}
