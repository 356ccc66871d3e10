package change

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/version"
)

// slots is a device with two slots and nothing special.
var slots = Abilities{Save: true}

var perHop = []Kind{Check, Backup, Send, Checksum, Install, Point, Save, ChooseSlot, Restart, Link, Login, Confirm, Services, Tidy}

func draft(t *testing.T, from, to string, factor float64) []Step {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	p, err := path.NewPlanner(c).Find(path.Question{Portrait: &portrait.Portrait{Model: "TH-60", Version: from}, Aim: path.Aim{Version: to}})
	require.NoError(t, err)
	plan, err := Draft(Job{Family: c.Family("th"), Path: p, Can: slots, Pace: Pace{factor}})
	require.NoError(t, err)
	return plan.Steps
}

func TestDraft(t *testing.T) {
	steps := draft(t, "4.2.3", "5.4.2", 1)
	require.Len(t, steps, 1+3*len(perHop)+1)
	assert.Equal(t, Readings, steps[0].Kind)
	assert.Equal(t, Verify, steps[len(steps)-1].Kind)
	at := map[Kind]int{}
	for i, s := range steps {
		assert.Equal(t, i+1, s.Number)
		assert.NotEmpty(t, s.Title)
		assert.LessOrEqual(t, s.Expect.Low, s.Expect.High)
		assert.LessOrEqual(t, s.Expect.High, s.Expect.Limit, s.Title)
		if s.Hop == 0 {
			at[s.Kind] = i
		}
	}
	// What must come before what, whatever else changes: nothing touches the box before its backup is off it, and
	// nothing is started that was not compared.
	for _, order := range [][2]Kind{{Check, Send}, {Backup, Send}, {Checksum, Install}, {Install, Save}, {Save, ChooseSlot}, {ChooseSlot, Restart}, {Restart, Confirm}, {Confirm, Tidy}} {
		assert.Less(t, at[order[0]], at[order[1]], "%s before %s", order[0], order[1])
	}
	for _, s := range steps {
		if s.Kind == Restart || s.Kind == Link || s.Kind == Confirm {
			assert.False(t, s.StopsBefore, "no resting before %s", s.Kind)
		}
	}
	install := steps[at[Install]]
	assert.Equal(t, catalog.Span{Low: 60, High: 110, Limit: 600}, install.Expect)
	last := steps[len(steps)-1]
	assert.Equal(t, 30.0, last.Expect.Low)
	assert.Equal(t, 100.0, last.Expect.High)
}

func TestPace(t *testing.T) {
	fast := draft(t, "4.2.3", "4.2.9", 60)
	slow := draft(t, "4.2.3", "4.2.9", 1)
	for i := range fast {
		assert.Less(t, fast[i].Expect.Low, slow[i].Expect.Low)
		assert.LessOrEqual(t, fast[i].Expect.High, fast[i].Expect.Limit)
		assert.GreaterOrEqual(t, fast[i].Expect.Limit, 6.0)
	}
}

func TestNothingToDo(t *testing.T) {
	_, err := Draft(Job{Family: &catalog.Family{}, Path: &path.Path{To: version.MustParse("5.4.2")}, Pace: Pace{1}})
	assert.EqualError(t, err, "the device runs 5.4.2 already; there is nothing to change")
}

func TestStates(t *testing.T) {
	all := []State{Drafted, Approved, Running, Holding, Held, Asking, Done, Returned, Failed, Stopped}
	q := &Question{Kind: AskFailed, Answers: []Action{GoBack, Retry, Leave}}
	for _, s := range all {
		for _, a := range Possible(s, q, true) {
			to, err := Next(s, a, q, true)
			require.NoError(t, err)
			assert.NotEqual(t, s, to)
			assert.False(t, s.Over(), "%s is final", s)
			assert.False(t, to == Running && s == Drafted, "never started without approval")
		}
		assert.False(t, s.Open() && s.Over())
	}
	assert.Equal(t, []Action{Retry, GoBack, Leave}, Possible(Asking, q, true), "a question has its own answers")
	assert.Empty(t, Possible(Asking, nil, true))
	assert.Equal(t, []Action{Resume, Stop}, Possible(Held, nil, false), "nothing to go back from")
	assert.Equal(t, []Action{Resume, Stop, GoBack}, Possible(Held, nil, true))
	_, err := Next(Drafted, Start, nil, false)
	assert.EqualError(t, err, "cannot start a change that is draft; possible now: [approve stop]")
	_, err = Next(Running, Stop, nil, false)
	assert.ErrorContains(t, err, "hold it first")
	_, err = Next(Done, Resume, nil, false)
	assert.ErrorContains(t, err, "nothing can be done")
}

func TestDraftRefusesWhatItCannotDo(t *testing.T) {
	hop := path.Hop{From: version.MustParse("1"), To: version.MustParse("2"), Restarts: 1}
	for part, change := range map[string]func(*path.Hop){
		"another model":            func(h *path.Hop) { h.NewModel = "M2" },
		"brings port logic along":  func(h *path.Hop) { h.Components = []path.Component{{Title: "port logic"}} },
		"resets the configuration": func(h *path.Hop) { h.Config = catalog.ConfigReset },
		"without a restart":        func(h *path.Hop) { h.Restarts = 0 },
	} {
		h := hop
		change(&h)
		_, err := Draft(Job{Family: &catalog.Family{}, Path: &path.Path{Hops: []path.Hop{h}}, Can: slots, Pace: Pace{1}})
		assert.ErrorContains(t, err, part)
	}
}

func TestAHopBeginsWithItsDownload(t *testing.T) {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	p, err := path.NewPlanner(c).Find(path.Question{Portrait: &portrait.Portrait{Model: "TH-60", Version: "4.2.3"}, Aim: path.Aim{Version: "5.4.2"}})
	require.NoError(t, err)
	late := p.Hops[2].Image
	plan, err := Draft(Job{Family: c.Family("th"), Path: p, Can: slots, Pace: Pace{20}, Lacks: func(sum string) bool { return sum == late.SHA256 }})
	require.NoError(t, err)
	steps := plan.Steps
	var fetches []Step
	for i, s := range steps {
		if s.Kind == Fetch {
			fetches = append(fetches, s)
			assert.Equal(t, Check, steps[i+1].Kind)
		}
	}
	require.Len(t, fetches, 1)
	assert.Equal(t, 2, fetches[0].Hop)
	assert.True(t, fetches[0].StopsBefore)
	assert.Greater(t, fetches[0].Expect.Limit, 600.0, "a poor line is no failure, and does not get quicker with the fleet")
}
