package store

import (
	"fmt"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
)

// asking makes a running change with a hop past its point of no return that asks something.
func asking(t *testing.T, s *Store, q change.Question) (id int64, l Lease) {
	d := addDevice(t, s, "a"+time.Now().Format("150405.000000"))
	back := []change.Back{{Way: change.BackBySlot, Text: "start 1 again", Steps: []change.Step{{Hop: 0, Kind: change.ChooseSlot, Back: true}, {Hop: 0, Kind: change.Verify, Back: true}}}}
	c := Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}"), Back: back}
	for i, k := range []change.Kind{change.Readings, change.ChooseSlot, change.Hand, change.Verify} {
		hop := 0
		if k == change.Readings || k == change.Verify {
			hop = -1
		}
		c.Steps = append(c.Steps, Step{Plan: change.Step{Number: i + 1, Hop: hop, Kind: k}})
	}
	id, err := s.AddChange(t.Context(), me, c)
	require.NoError(t, err)
	require.NoError(t, s.Act(t.Context(), id, change.Approve, access.Person("me", ""), "", nil))
	require.NoError(t, start(t, s, id, "me", nil))
	l = acquire(t, s, d, time.Hour)
	for n := 1; n <= 2; n++ {
		require.NoError(t, s.BeginStep(t.Context(), l, id, n, []byte(`{"slot": "b"}`), ""))
		_, err := s.EndStep(t.Context(), l, id, n, change.StepDone, "so")
		require.NoError(t, err)
	}
	asked, err := s.Ask(t.Context(), l, id, q, change.StepRunning, q.Text)
	require.NoError(t, err)
	require.True(t, asked)
	return id, l
}

func TestAnswers(t *testing.T) {
	s, ctx := open(t), t.Context()
	get := func(id int64) Change {
		c, err := s.Change(ctx, id)
		require.NoError(t, err)
		return c
	}
	all := []change.Action{change.SignOff, change.Accept, change.Retry, change.GoBack, change.Leave}
	q := func(kind string) change.Question {
		return change.Question{Kind: kind, Step: 3, Text: "what now?", Answers: all, Checks: []string{"health"}}
	}

	id, _ := asking(t, s, q(change.AskHand))
	c := get(id)
	assert.Equal(t, change.Asking, c.State)
	assert.Equal(t, "what now?", c.Question.Text)
	ids, err := s.Orphans(ctx)
	require.NoError(t, err)
	assert.NotContains(t, ids, id, "nobody works on a change that asks")
	require.NoError(t, s.Act(ctx, id, change.SignOff, access.Person("mate", ""), "seen", nil))
	c = get(id)
	assert.Equal(t, change.Running, c.State)
	assert.Nil(t, c.Question)
	assert.Equal(t, change.StepDone, c.Steps[2].State)
	assert.Equal(t, "signed off by mate: seen", c.Steps[2].Outcome)
	var action *access.Refusal
	assert.ErrorAs(t, s.Act(ctx, id, change.SignOff, access.Person("mate", ""), "", nil), &action, "an answer counts once")

	id, _ = asking(t, s, q(change.AskWarn))
	require.NoError(t, s.Act(ctx, id, change.Accept, access.Person("mate", ""), "spare fan", nil))
	c = get(id)
	assert.True(t, c.Accepts("health"))
	assert.False(t, c.Accepts("window"))
	assert.Equal(t, "spare fan", c.Accepted[0].Reason)

	id, _ = asking(t, s, q(change.AskFailed))
	require.NoError(t, s.Act(ctx, id, change.Retry, access.Person("mate", ""), "", nil))
	assert.Equal(t, change.StepRunning, get(id).Steps[2].State, "it begins with a look at the device")

	id, l := asking(t, s, q(change.AskFailed))
	c = get(id)
	assert.True(t, c.CanGoBack())
	require.NoError(t, s.Act(ctx, id, change.GoBack, access.Person("mate", ""), "", nil))
	c = get(id)
	require.Len(t, c.Steps, 6)
	assert.Equal(t, []change.StepState{change.StepDone, change.StepDone, change.StepFailed, change.StepSkipped, change.StepWaiting, change.StepWaiting},
		[]change.StepState{c.Steps[0].State, c.Steps[1].State, c.Steps[2].State, c.Steps[3].State, c.Steps[4].State, c.Steps[5].State})
	assert.Equal(t, 5, c.Steps[4].Plan.Number)
	assert.Equal(t, 0, *c.Returning)
	assert.Equal(t, "what now?", *c.ReturnWhy)
	assert.False(t, c.CanGoBack(), "once is enough")
	require.NoError(t, s.EndChange(ctx, l, id, Ending{Step: 6, StepState: change.StepDone, State: change.Returned, Failure: "why"}))
	assert.Equal(t, change.Returned, get(id).State)

	id, _ = asking(t, s, q(change.AskFailed))
	require.NoError(t, s.Act(ctx, id, change.Leave, access.Person("mate", ""), "", nil))
	c = get(id)
	assert.Equal(t, change.Failed, c.State)
	assert.Equal(t, "what now?. mate left the device as it stands.", *c.Failure)
	assert.NotNil(t, c.EndedAt)

	// The journal is only added to.
	_, err = s.Pool.Exec(ctx, `UPDATE journal SET detail = 'nothing happened'`)
	assert.ErrorContains(t, err, "only added to")
	_, err = s.Pool.Exec(ctx, `DELETE FROM journal`)
	assert.ErrorContains(t, err, "only added to")
}

func TestTermsAndAcceptance(t *testing.T) {
	s, ctx := open(t), t.Context()
	d := addDevice(t, s, "a")
	id, err := s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}")})
	require.NoError(t, err)
	require.NoError(t, s.Act(ctx, id, change.Approve, access.Person("you", ""), "", nil))
	until := time.Now().Add(time.Hour).Truncate(time.Second)
	require.NoError(t, s.SetTerms(ctx, id, Terms{WindowTo: &until, BackPolicy: change.Automatic}, access.Person("me", "")))
	c, err := s.Change(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, change.Drafted, c.State, "what was approved has to be approved anew")
	assert.Nil(t, c.ApprovedBy)
	assert.True(t, until.Equal(*c.WindowTo))
	assert.Equal(t, change.Automatic, c.BackPolicy)
	require.NoError(t, s.Act(ctx, id, change.Approve, access.Person("you", ""), "", nil))
	require.NoError(t, s.TakeOn(ctx, id, []string{"health"}, access.Person("me", ""), "because"))
	c, err = s.Change(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, change.Drafted, c.State, "who approved it did not know of the warning")
	assert.Nil(t, c.ApprovedBy)
	require.NoError(t, s.Act(ctx, id, change.Approve, access.Person("you", ""), "", nil))
	require.NoError(t, start(t, s, id, "you", func(pgx.Tx, change.State) error { return nil }))
	var action *access.Refusal
	assert.ErrorAs(t, s.SetTerms(ctx, id, Terms{BackPolicy: change.Offered}, access.Person("me", "")), &action)
	assert.ErrorAs(t, s.TakeOn(ctx, id, []string{"window"}, access.Person("me", ""), "because"), &action)
	assert.ErrorIs(t, s.SetTerms(ctx, 999, Terms{BackPolicy: change.Offered}, access.Person("me", "")), ErrNotFound)
}

func TestReadingSetsAndEvidence(t *testing.T) {
	s, ctx := open(t), t.Context()
	d := addDevice(t, s, "a")
	one, err := s.AddReadings(ctx, ReadingSet{DeviceID: d.ID, Version: "1", Readings: []byte(`{}`), By: "me"})
	require.NoError(t, err)
	two, err := s.AddReadings(ctx, ReadingSet{DeviceID: d.ID, Version: "2", Readings: []byte(`{}`), By: "me"})
	require.NoError(t, err)
	sets, err := s.ReadingSets(ctx, d.ID, 0, 10)
	require.NoError(t, err)
	require.Len(t, sets, 2)
	assert.Equal(t, two.ID, sets[0].ID, "the newest first")
	got, err := s.ReadingSet(ctx, d.ID, one.ID)
	require.NoError(t, err)
	assert.Equal(t, "1", got.Version)
	_, err = s.ReadingSet(ctx, d.ID+1, one.ID)
	assert.ErrorIs(t, err, ErrNotFound, "of another device")

	for _, group := range []string{"", "piers"} {
		_, err := s.PutOwnReading(ctx, OwnReading{Group: group, Dialect: "tarnholm", Name: "x", Definition: "name: x", AddedBy: "me"})
		require.NoError(t, err)
	}
	own, err := s.OwnReadings(ctx, "tarnholm", []string{"piers"})
	require.NoError(t, err)
	require.Len(t, own, 2)
	assert.Equal(t, "piers", own[1].Group, "that of a group comes after that of every device, and wins")
	own, err = s.OwnReadings(ctx, "tarnholm", nil)
	require.NoError(t, err)
	assert.Len(t, own, 1)
	require.NoError(t, s.DeleteOwnReading(ctx, own[0].ID))
	assert.ErrorIs(t, s.DeleteOwnReading(ctx, own[0].ID), ErrNotFound)

	id, err := s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}")})
	require.NoError(t, err)
	e, err := s.AddEvidence(ctx, Evidence{ChangeID: id, Step: 1, Name: "a.png", MediaType: "image/png", Content: []byte("sealed"), Size: 6, AddedBy: "me"})
	require.NoError(t, err)
	list, err := s.EvidenceOf(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, list[0].Content, "a list brings no content")
	e, err = s.Evidence(ctx, id, e.ID)
	require.NoError(t, err)
	assert.Equal(t, "sealed", string(e.Content))
	_, err = s.Evidence(ctx, id+1, e.ID)
	assert.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, s.AddConsole(ctx, d.ID, nil, "one"))
	require.NoError(t, s.AddConsole(ctx, d.ID, &id, "two"))
	pieces, err := s.ConsoleLog(ctx, d.ID, id, 0, 10)
	require.NoError(t, err)
	require.Len(t, pieces, 1)
	assert.Equal(t, "two", pieces[0].Text)
}

// A change that waits for its time goes on once by itself when the moment has come; one that somebody asked to hold does not; whoever
// resumes it does not wait any more.
func TestWaitingForATime(t *testing.T) {
	s, ctx := open(t), t.Context()
	waiting := func(name string, until time.Time, hold bool) int64 {
		d := addDevice(t, s, name)
		at := until
		id, err := s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}"), RestartFrom: &at, Steps: []Step{{Plan: change.Step{Number: 1, Kind: change.GoNoGo}}}})
		require.NoError(t, err)
		require.NoError(t, s.Act(ctx, id, change.Approve, access.Person("you", ""), "", nil))
		require.NoError(t, start(t, s, id, "you", nil))
		l, ok, err := s.Acquire(ctx, d.ID, "w", time.Minute)
		require.NoError(t, err)
		require.True(t, ok)
		require.NoError(t, s.BeginStep(ctx, l, id, 1, nil, "point"))
		if hold {
			require.NoError(t, s.Act(ctx, id, change.Pause, access.Person("you", ""), "", nil))
		}
		require.NoError(t, s.RestUntil(ctx, l, id, until))
		assert.ErrorIs(t, s.RestUntil(ctx, Lease{DeviceID: d.ID, Fence: l.Fence - 1}, id, until), ErrFenced)
		return id
	}
	past, future := time.Now().Add(-time.Second), time.Now().Add(time.Hour)
	come, held, later := waiting("a", past, false), waiting("b", past, true), waiting("c", future, false)
	var began []int64
	take := func(_ pgx.Tx, id int64) error { began = append(began, id); return nil }
	c, err := s.Change(ctx, come)
	require.NoError(t, err)
	assert.Equal(t, change.Scheduled, c.State)
	assert.True(t, c.State.Open(), "it occupies its device")
	assert.Equal(t, change.StepWaiting, c.Steps[0].State, "it is begun anew then")
	assert.Nil(t, c.Steps[0].StartedAt, "how long it took does not count the wait")
	require.ErrorContains(t, s.TimeHasCome(ctx, func(pgx.Tx, int64) error { return fmt.Errorf("nobody took it") }), "nobody took it")
	require.NoError(t, s.TimeHasCome(ctx, take))
	require.NoError(t, s.TimeHasCome(ctx, take))
	assert.Equal(t, []int64{come}, began, "once, and only the one whose time has come")
	c, err = s.Change(ctx, come)
	require.NoError(t, err)
	assert.Equal(t, change.Running, c.State)
	assert.NotNil(t, c.RestartFrom, "what was approved stays in its record")
	c, err = s.Change(ctx, held)
	require.NoError(t, err)
	assert.Equal(t, change.Paused, c.State)
	assert.Nil(t, c.WaitsUntil)
	require.NoError(t, s.Act(ctx, held, change.Resume, access.Person("you", ""), "", nil))
	c, err = s.Change(ctx, held)
	require.NoError(t, err)
	assert.NotNil(t, c.RestartFrom, "it was held, not waiting: it waits when it comes there again")
	told := waiting("d", past, false)
	require.NoError(t, s.Act(ctx, told, change.Pause, access.Person("you", ""), "", nil))
	require.NoError(t, s.TimeHasCome(ctx, take))
	assert.Len(t, began, 1, "it was told not to go on by itself")
	c, err = s.Change(ctx, told)
	require.NoError(t, err)
	assert.Equal(t, change.Paused, c.State)
	assert.Equal(t, "you", *c.PausedBy)
	// Nobody goes before the approved time by resuming: that is an act of its own, and has to be approved again.
	var no *access.Refusal
	require.ErrorAs(t, s.Act(ctx, later, change.Resume, access.Person("me", ""), "", nil), &no)
	require.NoError(t, s.Act(ctx, later, change.Early, access.Person("me", ""), "the ferry is late", nil))
	c, err = s.Change(ctx, later)
	require.NoError(t, err)
	assert.Equal(t, change.Paused, c.State)
	assert.Nil(t, c.RestartFrom)
	assert.Nil(t, c.WaitsUntil)
	assert.Nil(t, c.ApprovedBy)
	require.ErrorAs(t, s.Act(ctx, later, change.Resume, access.Person("me", ""), "", nil), &no)
	assert.ErrorContains(t, no, "approved again")
	require.NoError(t, s.Act(ctx, later, change.Approve, access.Person("you", ""), "", nil))
	require.NoError(t, s.Act(ctx, later, change.Resume, access.Person("me", ""), "", nil))
	c, err = s.Change(ctx, later)
	require.NoError(t, err)
	assert.Equal(t, change.Running, c.State)
}

// An approved change that is armed starts by itself when its window opens; not when its approval was taken back, nor while another change
// has its device.
func TestArmedChanges(t *testing.T) {
	s, ctx := open(t), t.Context()
	d := addDevice(t, s, "a")
	opens := time.Now().Add(time.Hour).Truncate(time.Millisecond)
	add := func() int64 {
		id, err := s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}"), WindowFrom: &opens})
		require.NoError(t, err)
		require.NoError(t, s.Act(ctx, id, change.Approve, access.Person("you", ""), "", nil))
		return id
	}
	armed, other := add(), add()
	require.NoError(t, s.Act(ctx, armed, change.Arm, access.Person("me", ""), "", nil))
	c, err := s.Change(ctx, armed)
	require.NoError(t, err)
	assert.Equal(t, change.Scheduled, c.State)
	assert.True(t, opens.Equal(*c.WaitsUntil))
	began := map[int64]int{}
	take := func(_ pgx.Tx, id int64) error { began[id]++; return nil }
	require.NoError(t, s.TimeHasCome(ctx, take))
	assert.Empty(t, began)
	come := func() {
		_, err := s.Pool.Exec(ctx, `UPDATE changes SET waits_until = now() - interval '1 second' WHERE state = 'scheduled'`)
		require.NoError(t, err)
		require.NoError(t, s.TimeHasCome(ctx, take))
	}
	require.NoError(t, s.SetTerms(ctx, armed, Terms{WindowFrom: &opens, BackPolicy: change.Offered}, access.Person("me", "")))
	come()
	assert.Empty(t, began, "it has to be approved again")
	require.NoError(t, s.Act(ctx, armed, change.Approve, access.Person("you", ""), "", nil))
	require.NoError(t, s.Act(ctx, armed, change.Arm, access.Person("me", ""), "", nil))
	require.NoError(t, start(t, s, other, "me", nil))
	come()
	assert.Empty(t, began, "another change has the device")
	_, err = s.Pool.Exec(ctx, `UPDATE changes SET state = 'done' WHERE id = $1`, other)
	require.NoError(t, err)
	come()
	assert.Equal(t, map[int64]int{armed: 1}, began)
	c, err = s.Change(ctx, armed)
	require.NoError(t, err)
	assert.Equal(t, change.Running, c.State)
	assert.NotNil(t, c.StartedAt)
	third := add()
	require.NoError(t, s.Act(ctx, third, change.Arm, access.Person("me", ""), "", nil))
	require.NoError(t, s.Act(ctx, third, change.Pause, access.Person("me", ""), "", nil))
	c, err = s.Change(ctx, third)
	require.NoError(t, err)
	assert.Equal(t, change.Approved, c.State, "disarmed")
}

// A hold that was asked for is not forgotten because the change asked in the meantime.
func TestAPauseSurvivesAQuestion(t *testing.T) {
	s, ctx := open(t), t.Context()
	d := addDevice(t, s, "a")
	id, err := s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}"), Steps: []Step{{Plan: change.Step{Number: 1, Kind: change.Hand}}}})
	require.NoError(t, err)
	require.NoError(t, s.Act(ctx, id, change.Approve, access.Person("you", ""), "", nil))
	require.NoError(t, start(t, s, id, "you", nil))
	l, _, err := s.Acquire(ctx, d.ID, "w", time.Minute)
	require.NoError(t, err)
	require.NoError(t, s.Act(ctx, id, change.Pause, access.Person("mate", ""), "", nil))
	asked, err := s.Ask(ctx, l, id, change.Question{Kind: change.AskHand, Step: 1, Answers: []change.Action{change.SignOff}}, change.StepRunning, "")
	require.NoError(t, err)
	require.True(t, asked)
	// Another lane that fails meanwhile neither takes the question's place nor closes a step that nobody is asked about.
	asked, err = s.Ask(ctx, l, id, change.Question{Kind: change.AskFailed, Step: 1}, change.StepFailed, "it broke")
	require.NoError(t, err)
	assert.False(t, asked)
	c, err := s.Change(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, change.AskHand, c.Question.Kind)
	assert.Equal(t, change.StepRunning, c.Steps[0].State)
	require.NoError(t, s.Act(ctx, id, change.SignOff, access.Person("you", ""), "done", nil))
	c, err = s.Change(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, change.Pausing, c.State)
	paused, err := s.PausedNow(ctx, l, id)
	require.NoError(t, err)
	assert.True(t, paused)
}

// The way back is gone once the slot that it would start is written, as somebody asked for.
func TestTheWayBackThatIsGivenUp(t *testing.T) {
	steps := []Step{{Plan: change.Step{Kind: change.ChooseSlot}, State: change.StepDone}, {Plan: change.Step{Kind: change.Install, Params: change.InstallParams{OtherSlot: true}}, State: change.StepWaiting}}
	c := Change{Back: []change.Back{{Way: change.BackBySlot}, {Way: change.BackNotNeeded}, {Way: change.NoWayBack}}, Steps: steps}
	assert.NotNil(t, c.WayBack(0))
	assert.Nil(t, c.WayBack(1))
	assert.Nil(t, c.WayBack(2))
	assert.Nil(t, c.WayBack(3))
	assert.True(t, c.CanGoBack())
	for _, state := range []change.StepState{change.StepRunning, change.StepFailed, change.StepDone} {
		steps[1].State = state
		assert.False(t, c.CanGoBack(), "%s", state)
	}
	steps[1].State = change.StepSkipped
	assert.True(t, c.CanGoBack(), "it was never begun")
	c.From = "1"
	c.Members = []Member{{Number: 1}}
	c.Path, c.Members[0].Slots = []byte(`{"hops":[{"from":"1"}]}`), []byte(`[{"Name":"a","Version":"1","Good":"no"},{"Name":"b","Version":"2","Running":true}]`)
	assert.False(t, c.CanGoBack(), "what lies there cannot be started")
	c.Members[0].Slots = []byte(`[{"Name":"a","Version":"1","Good":"yes"},{"Name":"b","Version":"2","Running":true}]`)
	assert.True(t, c.CanGoBack())
	next := append(steps, Step{Plan: change.Step{Kind: change.Install, Hop: 1}, State: change.StepRunning})
	c.Steps = next
	assert.False(t, c.CanGoBack(), "the next hop writes over it")
	next[2].State = change.StepWaiting
	assert.True(t, c.CanGoBack())
}

// What was asked for stays with the change, so that it can be asked for again; a change without it says so by having none.
func TestWhatWasAskedForIsKept(t *testing.T) {
	s, ctx := open(t), t.Context()
	d := addDevice(t, s, "a")
	at := time.Now().Add(time.Hour).Truncate(time.Millisecond)
	for _, wish := range []*change.Wish{{Format: change.WishFormat, Aim: change.Aim{To: "2"}}, nil} {
		id, err := s.AddChange(ctx, me, Change{Members: []Member{{DeviceID: d.ID}}, From: "1", To: "2", Path: []byte("{}"), Kind: change.SingleOperations, Wish: wish, RestartFrom: &at})
		require.NoError(t, err)
		c, err := s.Change(ctx, id)
		require.NoError(t, err)
		assert.Equal(t, wish, c.Wish)
		assert.Equal(t, change.SingleOperations, c.Kind)
		require.NotNil(t, c.RestartFrom)
		assert.True(t, at.Equal(*c.RestartFrom))
		require.NoError(t, s.SetTerms(ctx, id, Terms{BackPolicy: change.Offered}, access.Person("me", "")))
		c, err = s.Change(ctx, id)
		require.NoError(t, err)
		assert.Nil(t, c.RestartFrom, "what is not given is taken away")
	}
}

// How long a person took to answer is not how long a step takes.
func TestAnswersBeginTheClockAnew(t *testing.T) {
	s, ctx := open(t), t.Context()
	for _, answer := range []change.Action{change.Accept, change.Retry} {
		id, _ := asking(t, s, change.Question{Kind: change.AskWarn, Step: 3, Text: "what now?", Answers: []change.Action{change.Accept, change.Retry}, Checks: []string{"health"}})
		_, err := s.Pool.Exec(ctx, `UPDATE steps SET started_at = now() - interval '2 hours' WHERE change_id = $1`, id)
		require.NoError(t, err)
		require.NoError(t, s.Act(ctx, id, answer, access.Person("mate", ""), "seen", nil))
		c, err := s.Change(ctx, id)
		require.NoError(t, err)
		assert.WithinDuration(t, time.Now(), *c.Steps[2].StartedAt, time.Minute, "%s", answer)
		assert.Greater(t, time.Since(*c.Steps[0].StartedAt), time.Hour, "the others stay as they were")
	}
}

// What was worked out for a source and an aim is found, the newest first, and nothing else; of older records it is not known.
func TestConversionsOfASource(t *testing.T) {
	s, ctx := open(t), t.Context()
	add := func(source, to string) int64 {
		id, err := s.AddConversion(ctx, Conversion{Name: "c", From: "A@1", To: to}, source, func(id int64) ([]byte, error) { return fmt.Appendf(nil, "work %d", id), nil })
		require.NoError(t, err)
		return id
	}
	found := func(source, to string) (ids []int64) {
		list, err := s.ConversionsOf(ctx, source, to)
		require.NoError(t, err)
		for _, c := range list {
			ids = append(ids, c.ID)
			assert.Equal(t, fmt.Sprintf("work %d", c.ID), string(c.Work))
		}
		return ids
	}
	first, other, elsewhere, second := add("a", "A@2"), add("b", "A@2"), add("a", "A@3"), add("a", "A@2")
	assert.Equal(t, []int64{second, first}, found("a", "A@2"))
	assert.Equal(t, []int64{elsewhere}, found("a", "A@3"))
	assert.Empty(t, found("c", "A@2"))
	_, err := s.Pool.Exec(ctx, `UPDATE conversions SET source_sum = NULL WHERE id = $1`, other)
	require.NoError(t, err)
	assert.Equal(t, []int64{second, other, first}, found("a", "A@2"), "it may be of that source, too")
}
