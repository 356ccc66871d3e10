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

var perHop = []Kind{Check, Backup, Send, Checksum, Install, GoNoGo, Save, ChooseSlot, Restart, Link, Login, Confirm, Services, Tidy}

func draft(t *testing.T, from, to string, factor float64) []Step {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	p, err := path.NewPlanner(c).Find(path.Question{Portrait: &portrait.Portrait{Model: "TH-60", Version: from}, Aim: path.Aim{Version: to}})
	require.NoError(t, err)
	plan, err := Draft(Job{Family: c.Family("th"), Path: p, Can: slots, Pace: Pace{Factor: factor}})
	require.NoError(t, err)
	return plan.Steps
}

func TestDraft(t *testing.T) {
	steps := draft(t, "4.2.3", "5.4.2", 1)
	require.Len(t, steps, 1+3*len(perHop)+2+1, "two hops send ahead what the next needs")
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
			assert.False(t, s.SafePoint, "no resting before %s", s.Kind)
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
	_, err := Draft(Job{Family: &catalog.Family{}, Path: &path.Path{To: version.MustParse("5.4.2")}, Pace: Pace{Factor: 1}})
	assert.EqualError(t, err, "the device runs 5.4.2 already; there is nothing to change")
}

func TestStates(t *testing.T) {
	all := []State{Drafted, Approved, Running, Pausing, Paused, Scheduled, Asking, Done, Returned, Failed, Stopped}
	q := &Question{Kind: AskFailed, Answers: []Action{GoBack, Retry, Leave}}
	for _, s := range all {
		now := Situation{State: s, Question: q, CanGoBack: true, Approved: true}
		for _, a := range Possible(now) {
			to, err := Next(now, a)
			require.NoError(t, err)
			assert.NotEqual(t, s, to)
			assert.False(t, s.Over(), "%s is final", s)
			assert.False(t, to == Running && s == Drafted, "never started without approval")
		}
		assert.False(t, s.Open() && s.Over())
	}
	can := func(s Situation) []Action { return Possible(s) }
	assert.Equal(t, []Action{Retry, GoBack, Leave}, can(Situation{State: Asking, Question: q, Approved: true}), "a question has its own answers")
	assert.Equal(t, []Action{Approve, GoBack, Leave}, can(Situation{State: Asking, Question: q}), "what has to be approved again does not go on before that")
	assert.Empty(t, can(Situation{State: Asking, Approved: true}))
	assert.Equal(t, []Action{Resume, Stop}, can(Situation{State: Paused, Approved: true}), "nothing to go back from")
	assert.Equal(t, []Action{Resume, Stop, GoBack}, can(Situation{State: Paused, Approved: true, CanGoBack: true}))
	assert.Equal(t, []Action{Approve, Stop, GoBack}, can(Situation{State: Paused, CanGoBack: true}))
	assert.Equal(t, []Action{Early, Pause, Stop}, can(Situation{State: Scheduled, Approved: true, AtATime: true}), "one that goes on by itself does not go on before that without approval")
	assert.Equal(t, []Action{Start, Arm, Early, Stop}, can(Situation{State: Approved, Approved: true, Opens: true, AtATime: true}))
	assert.Equal(t, []Action{Start, Stop}, can(Situation{State: Approved, Approved: true}))
	for _, c := range []struct {
		s  Situation
		a  Action
		to State
	}{
		{Situation{State: Scheduled, AtATime: true, Begun: true}, Early, Paused}, {Situation{State: Scheduled, AtATime: true}, Early, Drafted},
		{Situation{State: Scheduled, Begun: true}, Pause, Paused}, {Situation{State: Scheduled}, Pause, Approved},
		{Situation{State: Asking, Question: q, Approved: true, PauseAsked: true}, Retry, Pausing}, {Situation{State: Asking, Question: q, Approved: true}, Retry, Running},
		{Situation{State: Asking, Question: q, Approved: true, PauseAsked: true}, GoBack, Running}, {Situation{State: Asking, Question: q}, Approve, Asking},
	} {
		to, err := Next(c.s, c.a)
		assert.NoError(t, err)
		assert.Equal(t, c.to, to, "%s of %+v", c.a, c.s)
	}
	_, err := Next(Situation{State: Drafted}, Start)
	assert.EqualError(t, err, "cannot start a change that is draft; possible now: [approve stop]")
	_, err = Next(Situation{State: Running}, Stop)
	assert.ErrorContains(t, err, "pause it first")
	_, err = Next(Situation{State: Done}, Resume)
	assert.ErrorContains(t, err, "nothing can be done")
	_, err = Next(Situation{State: Scheduled, Approved: true, AtATime: true}, Resume)
	assert.ErrorContains(t, err, "goes on by itself at the approved time")
	_, err = Next(Situation{State: Paused}, Resume)
	assert.ErrorContains(t, err, "has to be approved again")
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
		_, err := Draft(Job{Family: &catalog.Family{}, Path: &path.Path{Hops: []path.Hop{h}}, Can: slots, Pace: Pace{Factor: 1}})
		assert.ErrorContains(t, err, part)
	}
}

func TestAHopBeginsWithItsDownload(t *testing.T) {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	p, err := path.NewPlanner(c).Find(path.Question{Portrait: &portrait.Portrait{Model: "TH-60", Version: "4.2.3"}, Aim: path.Aim{Version: "5.4.2"}})
	require.NoError(t, err)
	late := p.Hops[2].Image
	plan, err := Draft(Job{Family: c.Family("th"), Path: p, Can: slots, Pace: Pace{Factor: 20}, Lacks: func(sum string) bool { return sum == late.SHA256 }})
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
	assert.True(t, fetches[0].SafePoint)
	assert.Greater(t, fetches[0].Expect.Limit, 600.0, "a poor line is no failure, and does not get quicker with the fleet")
}

// The choreography of devices with more abilities: what must come before what, and what comes back.
func TestChoreographies(t *testing.T) {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	plan := func(model, from, to, generation string, can Abilities, old func(int) *File) *Plan {
		p, err := path.NewPlanner(c).Find(path.Question{Portrait: &portrait.Portrait{Model: model, Version: from, Generation: generation, Components: map[string]string{"web-manager": "1.9", "drive-logic": "7", "boot-loader": "1.6", "logic": "44"}}, Aim: path.Aim{Version: to}, Policy: path.Policy{Reset: true}})
		require.NoError(t, err)
		plan, err := Draft(Job{Family: c.Family(p.Family), Path: p, Can: can, Pace: Pace{Factor: 20}, Old: old})
		require.NoError(t, err)
		require.Len(t, plan.Back, len(p.Hops), "a way back is declared for every hop")
		return plan
	}
	first := func(steps []Step, k Kind) int {
		for i, s := range steps {
			if s.Kind == k {
				return i
			}
		}
		return -1
	}
	inOrder := func(steps []Step, kinds ...Kind) {
		t.Helper()
		for i := 1; i < len(kinds); i++ {
			a, b := first(steps, kinds[i-1]), first(steps, kinds[i])
			require.GreaterOrEqual(t, a, 0, kinds[i-1])
			assert.Less(t, a, b, "%s before %s", kinds[i-1], kinds[i])
		}
	}
	// A gateway is drained after the last check and takes work again before anything else follows.
	drained := plan("SG-5", "3.8.4", "3.8.5", "2", Abilities{Drain: true, Components: []string{"signatures"}}, nil)
	inOrder(drained.Steps, Backup, Send, Checksum, Install, GoNoGo, Drain, ChooseSlot, Restart, Confirm, Services, Undrain, Tidy, Verify)
	assert.Equal(t, BackBySlot, drained.Back[0].Way)
	inOrder(drained.Back[0].Steps, ChooseSlot, Restart, Confirm, Services, Undrain, Verify)
	for _, s := range drained.Back[0].Steps {
		assert.True(t, s.Back)
		assert.NotEmpty(t, s.Title)
	}
	// A box that is overwritten and comes back empty gets everything back, component and hand step included.
	parts := []Restored{{Name: "running", Title: "ramp.ini"}, {Name: "marks", Title: "marks.map"}}
	old := func(hop int) *File { return &File{Name: "old.fw", Size: 10} }
	reset := plan("RC-6", "F1.06", "F2.12", "K2", Abilities{InPlace: true, Components: []string{"web-manager", "drive-logic"}, PowerCycle: true, Parts: parts}, old)
	inOrder(reset.Steps, Backup, Convert, Send, Checksum, GoNoGo, Install, Confirm, PutPart, Services, Component, Tidy, Hand, Verify)
	assert.Equal(t, -1, first(reset.Steps, ChooseSlot))
	assert.Equal(t, BackByReinstall, reset.Back[0].Way)
	inOrder(reset.Back[0].Steps, Send, Checksum, Install, Confirm, PutPart, Services, Verify)
	assert.Equal(t, NoWayBack, plan("RC-6", "F1.06", "F2.12", "K2", Abilities{InPlace: true, Components: []string{"web-manager", "drive-logic"}, Parts: parts}, nil).Back[0].Way)
	// Where the running installation can be copied first, the copy is the way back.
	copied := plan("RC-6", "F1.06", "F2.12", "K2", Abilities{InPlace: true, Clone: true, Components: []string{"web-manager", "drive-logic"}, Parts: parts}, nil)
	inOrder(copied.Steps, Checksum, Clone, GoNoGo, Install)
	assert.Equal(t, BackBySlot, copied.Back[0].Way)
	// On a medium that somebody carries in nothing is sent and nothing removed.
	carried := plan("TG-1", "F1.06", "F2.12", "", Abilities{InPlace: true, Media: true, Parts: parts[:1]}, nil)
	assert.Equal(t, -1, first(carried.Steps, Send))
	assert.Equal(t, -1, first(carried.Steps, Tidy))
	inOrder(carried.Steps, Hand, Checksum, Install)
	// A slot that can be tried once is kept only when the new version has shown itself.
	once := plan("C8", "11.2.5", "12.1.3", "S1", Abilities{Once: true, Unpack: true, Components: []string{"boot-loader", "logic"}, PowerCycle: true}, nil)
	inOrder(once.Steps, Component, Install, Unpack, GoNoGo, ChooseSlot, Restart, Confirm, KeepSlot, Services)
	assert.True(t, Of[SlotParams](&once.Steps[first(once.Steps, ChooseSlot)]).Once)
	// Without a device that can switch parts off and on, a person does.
	byHand := plan("C8", "12.1.3", "12.2.3", "S1", Abilities{Unpack: true, Components: []string{"boot-loader", "logic"}}, nil)
	i := first(byHand.Steps, Hand)
	require.GreaterOrEqual(t, i, 0)
	assert.Contains(t, Of[HandParams](&byHand.Steps[i]).Task, "switch line cards off and on")
	assert.Equal(t, PowerCycle, byHand.Steps[i+1].Kind)

	_, err := Draft(Job{Family: c.Family("os"), Path: &path.Path{Hops: []path.Hop{{Restarts: 1, Components: []path.Component{{Name: "logic", Title: "port logic", Trigger: "command"}}}}}, Can: slots})
	assert.ErrorContains(t, err, "brings port logic along, and its dialect does not say how")
	back, err := DraftBack(nil, Abilities{Drain: true, Save: true}, Pace{Factor: 1}, nil, "2", "1", "", false)
	require.NoError(t, err)
	inOrder(back.Steps, Readings, Check, Backup, GoNoGo, Drain, Save, ChooseSlot, Restart, Confirm, Services, Undrain, Verify)
	assert.Equal(t, -1, first(back.Steps, Convert))
	// With what was configured since, converted before anything is touched and put once the older version is up.
	back, err = DraftBack(nil, Abilities{Drain: true, Validate: true, Parts: []Restored{{Name: "users", Title: "users.tbl"}, {Name: "running", Title: "a.cfg", Configuration: true, Save: true}}}, Pace{Factor: 1}, nil, "2", "1", "", true)
	require.NoError(t, err)
	inOrder(back.Steps, Backup, Convert, GoNoGo, Drain, ChooseSlot, Restart, Confirm, Services, Validate, PutPart, Save, Undrain, Verify)
	assert.Equal(t, "running", Of[PartParams](&back.Steps[first(back.Steps, Convert)]).Part)
	assert.Equal(t, "running", Of[PartParams](&back.Steps[first(back.Steps, PutPart)]).Part, "the users stay those of the older version")
	_, err = DraftBack(nil, Abilities{}, Pace{Factor: 1}, nil, "2", "1", "", true)
	assert.ErrorContains(t, err, "nothing can be carried across")
	_, err = DraftBack(nil, Abilities{InPlace: true}, Pace{Factor: 1}, nil, "2", "1", "", false)
	assert.ErrorContains(t, err, "keeps no installation beside the running one")
}
