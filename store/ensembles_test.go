package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/ready"
)

func TestEnsemblesInTheRecords(t *testing.T) {
	t.Parallel()
	s := open(t)
	for _, name := range []string{"a", "b", "c", "d"} {
		addDevice(t, s, name)
	}
	require.NoError(t, s.Declare(t.Context(), me, "front", change.Pair, []string{"b", "a"}))
	e, err := s.Ensemble(t.Context(), "front")
	require.NoError(t, err)
	assert.Equal(t, []string{"b", "a"}, []string{e.Members[0].Device, e.Members[1].Device}, "in the order in which they were declared")
	of, err := s.EnsemblesOf(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"a": "front", "b": "front"}, of)
	d, err := s.Device(t.Context(), "a")
	require.NoError(t, err)
	assert.Equal(t, "front", *d.Ensemble)

	// A name belongs to one thing, a device to one ensemble, and nothing is half declared.
	var taken *NameTaken
	assert.ErrorAs(t, s.Declare(t.Context(), me, "c", change.Pair, []string{"c", "d"}), &taken)
	assert.ErrorAs(t, s.AddDevice(t.Context(), Device{Name: "front", Address: "127.0.0.1:22", Dialect: "d"}, nil, nil), &taken)
	constraint, conflict := Conflict(s.Declare(t.Context(), me, "back", change.Pair, []string{"a", "c"}))
	assert.Equal(t, []any{"one_ensemble", true}, []any{constraint, conflict})
	assert.ErrorIs(t, s.Declare(t.Context(), me, "front", change.Pair, []string{"c", "moon"}), ErrNotFound)
	assert.ErrorContains(t, s.Declare(t.Context(), access.Service("nightly"), "back", change.Pair, []string{"c", "d"}), "right to administer")
	assert.ErrorIs(t, s.DeleteEnsemble(t.Context(), me, "back"), ErrNotFound)
	all, err := s.Ensembles(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Len(t, all[0].Members, 2)
	require.NoError(t, s.Declare(t.Context(), me, "front", change.Pair, []string{"c", "d"}), "it gets these instead")
	require.NoError(t, s.DeleteEnsemble(t.Context(), me, "front"))
}

// Who belongs to an ensemble stays while a change works on one of those who do, or are to.
func TestMembersStayUnderAChange(t *testing.T) {
	t.Parallel()
	s := open(t)
	a := addDevice(t, s, "a")
	addDevice(t, s, "b")
	c := addDevice(t, s, "c")
	require.NoError(t, s.Declare(t.Context(), me, "front", change.Pair, []string{"a", "b"}))
	addChange(t, s, c, true)
	var busy *BusyError
	assert.ErrorAs(t, s.Declare(t.Context(), me, "front", change.Pair, []string{"a", "c"}), &busy)
	assert.Equal(t, "c", busy.Device)
	addChange(t, s, a, true)
	assert.ErrorAs(t, s.Declare(t.Context(), me, "front", change.Pair, []string{"b", "a"}), &busy)
	assert.ErrorAs(t, s.DeleteEnsemble(t.Context(), me, "front"), &busy)
}

// The way back of an ensemble is that from where it rests: its steps follow those that are there, each behind the ones it waits for.
func TestAnEnsembleGoesBackFromWhereItRests(t *testing.T) {
	t.Parallel()
	s := open(t)
	a, b := addDevice(t, s, "a"), addDevice(t, s, "b")
	id, err := s.AddChange(t.Context(), me, Change{From: "1", To: "2", Path: []byte(`{}`), Ensemble: &change.Ensemble{Name: "front", Kind: change.Pair, Active: 1},
		Members: []Member{{DeviceID: a.ID, Role: "active", Path: []byte(`{"from": "1"}`), Back: []change.Back{}}, {DeviceID: b.ID, Role: "standby", Path: []byte(`{}`), Back: []change.Back{{Text: "somehow"}}}},
		Steps:   []Step{{Plan: change.Step{Number: 1, Member: 2, Kind: change.Check, Title: "look"}}, {Plan: change.Step{Number: 2, Kind: change.Verify}}}})
	require.NoError(t, err)
	require.NoError(t, s.Act(t.Context(), id, change.Approve, access.Person("me", ""), "", nil))
	require.NoError(t, start(t, s, id, "me", nil))
	l := acquire(t, s, b, time.Minute)
	require.NoError(t, s.BeginStep(t.Context(), l, id, 1, nil, ""))
	for name, step := range map[string]string{"a": "", "b": "look"} {
		d, err := s.Device(t.Context(), name)
		require.NoError(t, err)
		assert.Equal(t, step, d.Open.Step, "a device is told to be at a step of its own")
	}
	assert.ErrorContains(t, s.Act(t.Context(), id, change.GoBack, access.Person("me", ""), "", nil), "cannot go-back")
	h := &change.HalfWay{Back: true, Why: "it is half-done", Hops: []int{0, 0}, To: []string{"1", "1"}, Active: 1,
		Steps: []change.Step{{Number: 1, Member: 2, Kind: change.Restart, After: []int{}}, {Number: 2, Kind: change.Verify, After: []int{1}}}}
	require.NoError(t, s.SetHalfWay(t.Context(), l, id, h))
	asked, err := s.Ask(t.Context(), l, id, change.Question{Kind: change.AskFailed, Step: 1, Text: "what now", Answers: []change.Action{change.GoBack}}, change.StepFailed, "it broke")
	require.NoError(t, err)
	require.True(t, asked)
	require.NoError(t, s.Act(t.Context(), id, change.GoBack, access.Person("me", ""), "", nil))
	of, err := s.Changes(t.Context(), "front", 0, 10)
	require.NoError(t, err)
	assert.Len(t, of, 1, "it is one of the ensemble, and of each member")
	c, err := s.Change(t.Context(), id)
	require.NoError(t, err)
	require.Len(t, c.Steps, 4)
	assert.Equal(t, []int{4, 3}, []int{c.Steps[3].Plan.Number, c.Steps[3].Plan.After[0]})
	assert.Equal(t, change.StepSkipped, c.Steps[1].State)
	assert.Equal(t, h.To, c.HalfWay.To, "where each goes back to stays known")
	assert.Equal(t, []string{"somehow"}, []string{c.WaysBack(&c.Members[1])[0].Text})
	assert.False(t, c.CanGoBack(), "it is on its way")
}

// What is found of one member leaves what was found of the others.
func TestChecksOfMembers(t *testing.T) {
	t.Parallel()
	s := open(t)
	id := addChange(t, s, addDevice(t, s, "a"), false)
	of := func(device, name string) ready.Check { return ready.OfMember([]ready.Check{{Name: name}}, device)[0] }
	require.NoError(t, s.SetChecks(t.Context(), id, []ready.Check{{Name: "proof"}, of("a", "room"), of("b", "room")}))
	require.NoError(t, s.SetMemberChecks(t.Context(), id, 1, "b", []ready.Check{of("b", "slots")}, nil))
	c, err := s.Change(t.Context(), id)
	require.NoError(t, err)
	var names []string
	for _, k := range c.Checks {
		names = append(names, k.Name)
	}
	assert.Equal(t, []string{"proof", "room a", "slots b"}, names)
	require.NoError(t, s.SetMemberChecks(t.Context(), id, 1, "", []ready.Check{{Name: "room"}}, []byte(`{}`)))
	c, err = s.Change(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, c.Checks, 1, "in a change of one they are all there is")
}
