package access

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/change"
	"verimorph/core/ready"
)

func reason(t require.TestingT, err error) Reason {
	var r *Refusal
	require.ErrorAs(t, err, &r)
	return r.Reason
}

// drafted is a change that somebody drafted and found ready a minute ago.
func drafted(state change.State) *Facts {
	now := time.Now()
	return &Facts{Change: 7, CreatedBy: "me", Situation: change.Situation{State: state, Approved: state != change.Drafted}, Looked: true, Now: now, CheckedAt: now.Add(-time.Minute)}
}

func TestRights(t *testing.T) {
	me, service, nobody := Person("me", "192.0.2.7:5"), Service("the schedule"), Actor{}
	for _, r := range []Right{Draft, Approve, Operate, Administer} {
		assert.NoError(t, May(me, r))
		assert.Equal(t, NoRight, reason(t, May(nobody, r)))
	}
	assert.NoError(t, May(service, Operate))
	assert.ErrorContains(t, May(service, Approve), "the schedule may not do that: it needs the right to approve")
	assert.ErrorContains(t, May(nobody, Draft), "nobody may not")
	assert.Equal(t, []string{"me", "192.0.2.7:5", "the schedule", "change 9"}, []string{me.String(), me.From(), service.String(), Carrying(9).String()})
	assert.Equal(t, []any{false, true, int64(9), int64(0)}, []any{me.IsService(), service.IsService(), Carrying(9).Change(), me.Change()})
	text, err := me.MarshalText()
	require.NoError(t, err)
	assert.Equal(t, "me", string(text))
}

// A draft is taken away by whoever may draft, as drafting it anew does; what was approved is stopped by whoever may operate.
func TestWhoMayStop(t *testing.T) {
	drafter, operator := Actor{name: "d", rights: []Right{Draft}}, Actor{name: "o", rights: []Right{Operate}}
	to, err := Decide(drafter, change.Stop, "", drafted(change.Drafted))
	require.NoError(t, err)
	assert.Equal(t, change.Stopped, to)
	_, err = Decide(operator, change.Stop, "", drafted(change.Drafted))
	assert.Equal(t, NoRight, reason(t, err))
	_, err = Decide(drafter, change.Stop, "", drafted(change.Approved))
	assert.Equal(t, NoRight, reason(t, err))
	_, err = Decide(operator, change.Stop, "", drafted(change.Approved))
	assert.NoError(t, err)
}

// What the prover found unsafe is approved by nobody.
func TestAnUnsafeOrderIsNotApproved(t *testing.T) {
	f := drafted(change.Drafted)
	f.Unsafe = "all members are down"
	_, err := Decide(Person("boss", ""), change.Approve, "", f)
	var refused *Refusal
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, NotReady, refused.Reason)
	assert.Contains(t, refused.Text, "the order of its steps is not safe, so it cannot be approved: all members are down")
	f.Unsafe = ""
	_, err = Decide(Person("boss", ""), change.Approve, "", f)
	assert.NoError(t, err)
}

func TestSecondPerson(t *testing.T) {
	f := drafted(change.Drafted)
	to, err := Decide(Person("me", ""), change.Approve, "", f)
	require.NoError(t, err)
	assert.Equal(t, change.Approved, to)
	f.Policy.SecondPerson = true
	_, err = Decide(Person("me", ""), change.Approve, "", f)
	assert.Equal(t, ByPolicy, reason(t, err))
	assert.ErrorContains(t, err, "change 7 was drafted by you")
	_, err = Decide(Person("mate", ""), change.Approve, "", f)
	assert.NoError(t, err)
	// What is accepted after the approval is not what was approved.
	f = drafted(change.Asking)
	f.Policy.SecondPerson, f.Situation.Question = true, &change.Question{Answers: []change.Action{change.Accept, change.Retry}}
	_, err = Decide(Person("me", ""), change.Accept, "it will do", f)
	assert.Equal(t, ByPolicy, reason(t, err))
	_, err = Decide(Person("me", ""), change.Retry, "", f)
	assert.NoError(t, err)
	_, err = Decide(Person("mate", ""), change.Accept, " a ", f)
	assert.Equal(t, Incomplete, reason(t, err))
}

func TestAStartNeedsALook(t *testing.T) {
	me := Person("me", "")
	for name, c := range map[string]struct {
		edit func(*Facts)
		says string // "": it may
	}{
		"ready":         {func(*Facts) {}, ""},
		"passes":        {func(f *Facts) { f.Checks = []ready.Check{{Name: "room", State: ready.Pass}} }, ""},
		"never looked":  {func(f *Facts) { f.CheckedAt = time.Time{} }, "nobody has looked at the device just before"},
		"long ago":      {func(f *Facts) { f.CheckedAt = f.Now.Add(-LookLasts - time.Second) }, "nobody has looked"},
		"no look meant": {func(f *Facts) { f.Looked, f.CheckedAt = false, time.Time{} }, ""},
		"stops": {func(f *Facts) {
			f.Checks = []ready.Check{{Name: "room", Title: "Room", State: ready.Stop, Evidence: "none"}}
		}, "not ready: "},
		"warns": {func(f *Facts) { f.Checks = []ready.Check{{Name: "room", Title: "Room", State: ready.Warn}} }, "accept each by name with a reason: room"},
		"warns, taken on": {func(f *Facts) {
			f.Checks, f.Accepts = []ready.Check{{Name: "room", State: ready.Warn}}, func(check string) bool { return check == "room" }
		}, ""},
		"another is taken on": {func(f *Facts) {
			f.Checks, f.Accepts = []ready.Check{{Name: "room", State: ready.Warn}}, func(check string) bool { return check == "reach" }
		}, "there are warnings"},
	} {
		f := drafted(change.Approved)
		c.edit(f)
		to, err := Decide(me, change.Start, "", f)
		if c.says == "" {
			assert.NoError(t, err, name)
			assert.Equal(t, change.Running, to, name)
			continue
		}
		assert.Equal(t, NotReady, reason(t, err), name)
		assert.ErrorContains(t, err, c.says, name)
	}
}

func TestActsThatMakeNoSense(t *testing.T) {
	me := Person("me", "")
	_, err := Decide(me, "fly", "", drafted(change.Drafted))
	assert.Equal(t, WrongState, reason(t, err))
	_, err = Decide(me, change.Resume, "", drafted(change.Drafted))
	assert.Equal(t, WrongState, reason(t, err))
	_, err = Decide(me, change.Early, "", drafted(change.Scheduled))
	assert.ErrorContains(t, err, "say why it has to go before")
	_, err = Decide(me, change.SetTerms, "", drafted(change.Running))
	assert.ErrorContains(t, err, "pause it first")
}

// Whoever has no right is refused whatever the state; whoever has it gets the state that the core says, or its refusal.
func TestDecisionsFollowTheCore(t *testing.T) {
	acts := []change.Action{change.Approve, change.Start, change.Arm, change.Early, change.Pause, change.Resume, change.Stop, change.SignOff, change.Accept, change.Retry, change.GoBack, change.Leave, change.SetTerms, change.TakeOn}
	for _, a := range acts {
		assert.Contains(t, needs, a)
	}
	rapid.Check(t, func(t *rapid.T) {
		f := drafted(rapid.SampledFrom([]change.State{change.Drafted, change.Approved, change.Running, change.Pausing, change.Paused, change.Scheduled, change.Asking, change.Done, change.Failed, change.Stopped}).Draw(t, "state"))
		f.Situation.CanGoBack, f.Situation.Opens, f.Situation.AtATime = rapid.Bool().Draw(t, "back"), rapid.Bool().Draw(t, "opens"), rapid.Bool().Draw(t, "time")
		if f.Situation.State == change.Asking {
			f.Situation.Question = &change.Question{Answers: rapid.SliceOf(rapid.SampledFrom(acts[7:12])).Draw(t, "answers")}
		}
		a := rapid.SampledFrom(acts).Draw(t, "act")
		_, err := Decide(Actor{}, a, "because", f)
		require.Equal(t, NoRight, reason(t, err))
		want, no := change.Next(f.Situation, a)
		got, err := Decide(Person("mate", ""), a, "because", f)
		require.Equal(t, no == nil, err == nil, "%v", err)
		if err == nil {
			require.Equal(t, want, got)
		}
	})
}

func ExampleDecide() {
	now := time.Date(2026, 2, 3, 2, 0, 0, 0, time.UTC)
	f := &Facts{Change: 7, CreatedBy: "ada", Situation: change.Situation{State: change.Drafted}, Policy: change.Policy{SecondPerson: true}, Now: now}
	_, err := Decide(Person("ada", ""), change.Approve, "", f)
	var refusal *Refusal
	fmt.Println(errors.As(err, &refusal), refusal.Reason)
	to, _ := Decide(Person("bo", ""), change.Approve, "", f)
	fmt.Println(to)
	// Output:
	// true policy
	// approved
}
