package engine

import (
	"context"
	"fmt"
	"net"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
)

// second adds another firewall to a rig.
func (r *rig) second() (d store.Device) {
	r.mate, d = r.another("mate", "S2")
	return d
}

// another is one more firewall.
func (r *rig) another(name, serial string) (*tarnholm.Box, store.Device) {
	configuration, err := os.ReadFile("../demo/configs/gullnes-fw1.cfg")
	require.NoError(r.t, err)
	ln, err := net.Listen("tcp", place())
	require.NoError(r.t, err)
	address := ln.Addr().String()
	_ = ln.Close()
	b, err := tarnholm.Open(tarnholm.Spec{Name: name, Model: "TH-60", Serial: serial, Address: address, User: "bosun", Version: "5.0.7", Idle: "5.0.6", Flash: 16 << 20, Config: string(configuration), Sessions: 100}, r.t.TempDir(), factor, r.Log)
	require.NoError(r.t, err)
	require.NoError(r.t, b.Start())
	r.t.Cleanup(b.Stop)
	a := b.Access()
	require.NoError(r.t, r.Store.AddDevice(r.t.Context(), store.Device{Name: name, Address: a.Address, Dialect: "tarnholm", Settings: store.Settings{Transfer: "sftp"}}, PasswordCredentials(a.User, true, access.Person("me", "")), func(c *store.Credential, id int64) ([]byte, error) {
		return SealCredential(r.Vault, id, Secret{Password: map[string]string{KindPassword: a.Password, KindPrivileged: a.Watchword}[c.Kind]})
	}))
	d, err := r.Store.Device(r.t.Context(), name)
	require.NoError(r.t, err)
	return b, d
}

// pair is a started change of both devices: each takes a backup, the second saves after the first, then somebody does something by hand for the
// change as a whole, and it ends with a verdict.
func (r *rig) pair(mate store.Device) int64 {
	var c store.Change
	span := r.change(r.draft("5.0.7", "5.4.2")).Steps[0].Plan.Expect
	span.Limit = 60
	for i, s := range []change.Step{
		{Member: 1, Hop: -1, Kind: change.Readings},
		{Member: 1, Hop: 0, Kind: change.Backup, SafePoint: true},
		{Member: 2, Hop: 0, Kind: change.Backup, SafePoint: true},
		{Member: 1, Hop: 0, Kind: change.Save, SafePoint: true},
		{Member: 2, Hop: 0, Kind: change.Save, SafePoint: true, After: []int{3, 4}},
		{Member: 0, Hop: 0, Kind: change.Hand, SafePoint: true, Params: change.HandParams{Task: "look at both"}},
		{Member: 2, Hop: 0, Kind: change.Save, SafePoint: true},
		{Member: 0, Hop: -1, Kind: change.Verify, SafePoint: true},
	} {
		s.Number, s.Title, s.Expect = i+1, s.Kind.Spec().Title, span
		c.Steps = append(c.Steps, store.Step{Plan: s})
	}
	c.From, c.To, c.Kind, c.Path = "5.0.7", "5.0.7", change.SingleOperations, []byte(`{"Model": "TH-60", "From": "5.0.7", "To": "5.0.7", "Hops": [{"From": "5.0.7", "To": "5.0.7"}]}`)
	planned := func(serial string) store.Planned { return store.Planned{Model: "TH-60", Serial: serial} }
	c.Members = []store.Member{{DeviceID: r.d.ID, Planned: planned("S")}, {DeviceID: mate.ID, Role: "standby", Planned: planned("S2")}}
	id, err := r.Store.AddChange(r.t.Context(), access.Person("me", ""), c)
	require.NoError(r.t, err)
	require.NoError(r.t, r.Act(r.t.Context(), id, change.Approve, access.Person("me", ""), ""))
	require.NoError(r.t, r.Store.SetChecks(r.t.Context(), id, nil))
	require.NoError(r.t, r.Act(r.t.Context(), id, change.Start, access.Person("me", ""), ""))
	return id
}

// Two devices in one change: both work side by side, what has to wait waits, and while a person is asked nothing goes on. Both devices are
// taken for as long as the change is open, and by nobody else.
func TestTwoMembers(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	mate := r.second()
	id := r.pair(mate)
	r.start()
	asking := r.await(id, change.Asking)
	require.NotNil(t, asking.Question)
	assert.Equal(t, 6, asking.Question.Step)
	states := func(c store.Change) (out []change.StepState) {
		for _, s := range c.Steps {
			out = append(out, s.State)
		}
		return out
	}
	done, waiting := change.StepDone, change.StepWaiting
	assert.Equal(t, []change.StepState{done, done, done, done, done, change.StepRunning, waiting, waiting}, states(asking))
	assert.False(t, asking.Steps[4].StartedAt.Before(*asking.Steps[3].EndedAt), "the second saves once the first has")
	assert.Equal(t, "box, mate", asking.Devices())
	for _, d := range []store.Device{r.d, mate} {
		bs, err := r.Store.BackupsOf(t.Context(), id, d.ID)
		require.NoError(t, err)
		require.Len(t, bs, 1, "each device has a backup of its own")
		assert.Equal(t, d.Name, bs[0].Device)
	}

	var busy *store.BusyError
	other, err := r.Store.AddChange(t.Context(), access.Person("me", ""), store.Change{Members: []store.Member{{DeviceID: mate.ID}}, From: "1", To: "2", Path: []byte("{}")})
	require.NoError(t, err)
	require.NoError(t, r.Act(t.Context(), other, change.Approve, access.Person("me", ""), ""))
	require.NoError(t, r.Store.SetChecks(t.Context(), other, nil))
	require.ErrorAs(t, r.Act(t.Context(), other, change.Start, access.Person("me", ""), ""), &busy)
	assert.Equal(t, []any{"mate", id}, []any{busy.Device, busy.Change})

	require.NoError(t, r.Act(t.Context(), id, change.SignOff, access.Person("me", ""), "seen"))
	ended := r.awaitEnd(id)
	assert.Equal(t, change.Done, ended.State, failure(ended))
	assert.Equal(t, []change.StepState{done, done, done, done, done, done, done, done}, states(ended))
	for _, name := range []string{"box", "mate"} {
		d, err := r.Store.Device(t.Context(), name)
		require.NoError(t, err)
		assert.Nil(t, d.Open)
		assert.Eventually(t, func() bool { // the leases are given back once the end of the change is written
			_, free, err := r.Store.Acquire(t.Context(), d.ID, "somebody", time.Second)
			return assert.NoError(t, err) && free
		}, 5*time.Second, 20*time.Millisecond, "its lease was given back")
	}
}

// Somebody presses pause while both lanes work: the change pauses once both are at rest, and goes on with both.
func TestTwoMembersPause(t *testing.T) {
	t.Parallel()
	r := newRig(t, nil)
	id := r.pair(r.second())
	r.at(0, change.Backup, "performed", func(*run, *store.Step) {
		assert.NoError(t, r.Act(context.Background(), id, change.Pause, access.Person("me", ""), ""))
	})
	r.start()
	paused := r.await(id, change.Paused)
	for _, s := range paused.Steps {
		assert.NotEqual(t, change.StepRunning, s.State, "%d: nothing runs while it is paused", s.Plan.Number)
	}
	require.NoError(t, r.Act(t.Context(), id, change.Resume, access.Person("me", ""), ""))
	r.await(id, change.Asking)
}

// Whatever the plan: no step begins before what has to come first is over, every lane ends, and none waits for ever when one stops all.
func TestBoards(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		members := rapid.IntRange(1, 4).Draw(t, "members")
		var c store.Change
		for i := range members {
			c.Members = append(c.Members, store.Member{Number: i + 1})
		}
		n := rapid.IntRange(1, 20).Draw(t, "steps")
		for i := 1; i <= n; i++ {
			s := change.Step{Number: i, Member: rapid.IntRange(0, members).Draw(t, "member")}
			if s.Member != 0 && i > 1 && rapid.IntRange(0, 3).Draw(t, "kind") == 0 {
				s.After = []int{rapid.IntRange(1, i-1).Draw(t, "after")}
			}
			c.Steps = append(c.Steps, store.Step{Plan: s})
		}
		stopAt := rapid.IntRange(0, n).Draw(t, "stop") // the step that stops all; 0: none
		b := newBoard(&c)
		begun, over := make(chan int, n), make(chan int, n)
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		ends := make(chan error, members)
		for i := range c.Members {
			r := &run{c: view(&c, &c.Members[i]), m: &c.Members[i], board: b, first: i == 0}
			go func() {
				defer b.leave()
				ends <- func() error {
					for k := range r.c.Steps {
						s := &r.c.Steps[k]
						if b.rests() {
							return nil
						}
						mine, goes, err := r.turn(ctx, s)
						if err != nil || !goes {
							return err
						}
						if !mine {
							continue
						}
						for k := range c.Steps { // what has to come first, told anew
							p := &c.Steps[k].Plan
							first := slices.Contains(s.Plan.After, p.Number)
							if s.Plan.After == nil {
								first = p.Number < s.Plan.Number && (p.Member == 0 || s.Plan.Member == 0 || p.Member == s.Plan.Member)
							}
							b.mu.Lock()
							over := b.over[p.Number]
							b.mu.Unlock()
							if first && !over {
								return fmt.Errorf("step %d began before step %d was over", s.Plan.Number, p.Number)
							}
						}
						begun <- s.Plan.Number
						if s.Plan.Number == stopAt {
							return b.stop(ctx)
						}
						over <- s.Plan.Number
						b.done(s.Plan.Number)
					}
					return nil
				}()
			}()
		}
		for range members {
			require.NoError(t, <-ends)
		}
		close(begun)
		var order []int
		for k := range begun {
			order = append(order, k)
		}
		if stopAt == 0 || !slices.Contains(order, stopAt) {
			if stopAt == 0 {
				assert.Len(t, order, n, "everything was done")
			}
		}
		slices.Sort(order)
		assert.Equal(t, len(order), len(slices.Compact(order)), "and once")
	})
}
