package engine

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/prove"
	"verimorph/core/verify"
	"verimorph/simfleet/box"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
)

// firewalls are two of them as a pair, of which the first is active, with a started engine.
func firewalls(t *testing.T) (*rig, store.Device) {
	r := newRig(t, nil)
	mate := r.second()
	require.NoError(t, tarnholm.Join(r.box, r.mate))
	r.start()
	return r, mate
}

// together drafts a change of a pair from 5.0.7 to 5.4.2, proves it, and starts it.
func (r *rig) together(mate store.Device) int64 {
	single := r.change(r.draft("5.0.7", "5.4.2"))
	var way path.Path
	require.NoError(r.t, json.Unmarshal(single.Path, &way))
	j := change.EnsembleJob{Kind: change.Pair, Turns: []change.Turn{{Members: []int{1, 2}, Hops: []int{0, 0}}}}
	for i, d := range []store.Device{r.d, mate} {
		job := change.Job{Family: r.cat.Family("th"), Path: &way, Can: r.Profile(d).Abilities, Pace: r.Pace}
		j.Members = append(j.Members, change.EnsembleMember{Name: d.Name, Active: i == 0, Sync: true, Job: job})
	}
	plan, err := change.DraftEnsemble(j)
	require.NoError(r.t, err)
	require.True(r.t, prove.Check(plan.Proof()).Proved)
	c := store.Change{From: "5.0.7", To: "5.4.2", Path: single.Path, Kind: single.Kind}
	for _, s := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: s})
	}
	c.Members = []store.Member{{DeviceID: r.d.ID, Role: "active", Planned: store.Planned{Model: "TH-60", Serial: "S"}},
		{DeviceID: mate.ID, Role: "standby", Planned: store.Planned{Model: "TH-60", Serial: "S2"}}}
	id, err := r.Store.AddChange(r.t.Context(), access.Person("me", ""), c)
	require.NoError(r.t, err)
	r.release(id)
	return id
}

// accepted waits until a change rests, and accepts that there is no way back which is declared beforehand.
func (r *rig) accepted(id int64) store.Change {
	for range 4 {
		c := r.rest(id)
		if c.State != change.Asking || !slices.Contains(c.Question.Answers, change.Accept) {
			return c
		}
		if !strings.Contains(c.Question.Text, "Way back: none is known") {
			return c
		}
		require.NoError(r.t, r.Act(r.t.Context(), id, change.Accept, access.Person("me", ""), "the other one serves meanwhile"))
		time.Sleep(100 * time.Millisecond)
	}
	return r.rest(id)
}

// A pair is upgraded with its standby first: at no moment is the active one down, and each is switched to only when it is in sync.
func TestAPairIsUpgraded(t *testing.T) {
	t.Parallel()
	r, mate := firewalls(t)
	done := r.accepted(r.together(mate))
	require.Equal(t, change.Done, done.State, failure(done))
	v := verdictOf(t, done)
	assert.Equal(t, verify.Pass, v.Verdict, failure(done))
	assert.Equal(t, verify.Met, resultOf(v, "mate version").State)
	assert.Equal(t, verify.Met, resultOf(v, "version").State)
	assert.NotEmpty(t, done.Members[1].Readings, "each member has readings of its own")
	for _, b := range []*tarnholm.Box{r.box, r.mate} {
		assert.Equal(t, "5.4.2", b.Status().Version)
		assert.Equal(t, 2, b.Status().Boots)
	}
	p, err := r.Refresh(t.Context(), mate, access.Person("me", ""))
	require.NoError(t, err)
	assert.Equal(t, []string{"active", "S", "complete"}, []string{p.Role, p.Mate, p.Sync})
	assert.Equal(t, portrait.Yes, p.InSync)
	assert.NotContains(t, r.mate.Log(), "its mate went down, the sync was waits", "nobody took over who was not in sync")
	for _, line := range r.mate.Log() {
		assert.NotContains(t, line, "its mate went down", "the active one never went down under its users")
	}
}

// What goes wrong with one member leaves the other one serving as it did.
func TestAPairThatFails(t *testing.T) {
	t.Parallel()
	for fault, says := range map[string]string{
		tarnholm.NeverHot: "it is standby and not in sync yet: not begun", tarnholm.SyncStalls: "97 % mirrored", tarnholm.StaysStandby: "it was told to take over, and says it is standby",
		tarnholm.NeverReturn: "",
	} {
		t.Run(fault, func(t *testing.T) {
			t.Parallel()
			r, mate := firewalls(t)
			require.NoError(t, r.mate.Arm(fault, box.Fault{Times: -1}))
			c := r.accepted(r.together(mate))
			assert.NotEqual(t, change.Done, c.State)
			assert.Contains(t, failure(c), says)
			assert.Equal(t, "5.0.7", r.box.Status().Version, "the active one is left as it is")
			assert.Equal(t, 1, r.box.Status().Boots)
			p, err := r.Refresh(t.Context(), r.d, access.Person("me", ""))
			require.NoError(t, err)
			assert.Equal(t, "active", p.Role)
		})
	}
}

// Two that both say that they are active are never taken for a pair that is in sync.
func TestAPairWhoseRolesAreSplit(t *testing.T) {
	t.Parallel()
	r, mate := firewalls(t)
	require.NoError(t, r.box.Arm(tarnholm.SplitRoles, box.Fault{}))
	c := r.accepted(r.together(mate))
	assert.NotEqual(t, change.Done, c.State)
	assert.Contains(t, failure(c), "it says that it is active, though it should stand by")
}

// Whether a member is in sync is looked at again in the moment in which it is told to take over.
func TestTakeOverNeedsSync(t *testing.T) {
	t.Parallel()
	r, mate := firewalls(t)
	require.NoError(t, r.mate.Arm(tarnholm.SyncStalls, box.Fault{Times: -1}))
	w := r.prepare(r.begin("5.0.7", "5.4.2"))
	w.m.DeviceID = mate.ID
	err := takeOver(w, t.Context(), &store.Step{})
	assert.ErrorContains(t, err, "it is not in sync with the active one, so it does not take over: 97 % mirrored")
}
