package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/verify"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
	"verimorph/store"
)

// A stage is devices that depend on each other, ready for a change.
type stage struct {
	*rig
	begin func() int64                 // drafts the change and starts it
	arm   func(fault string, odd bool) // sets a fault; odd says which of several is hit
	down  func() bool                  // all of those that could serve are down
	// worse is what must not have happened, afterwards. What somebody took on may have: accepted are the names of those warnings.
	worse    func(accepted []string) []string
	accepted []string
}

// stages are the kinds of ensembles, with the faults that they have.
var stages = map[string]struct {
	faults []string
	set    func(t *testing.T) *stage
}{
	"pair":       {[]string{tarnholm.NeverHot, tarnholm.SyncStalls, tarnholm.SplitRoles, tarnholm.StaysStandby, tarnholm.NeverReturn, tarnholm.LowFlash, tarnholm.OldSlot, tarnholm.TunnelDown}, pairStage},
	"cluster":    {[]string{tarnholm.NeverHot, tarnholm.SyncStalls, tarnholm.NeverReturn, tarnholm.OldSlot, tarnholm.LowFlash}, clusterStage},
	"stack":      {[]string{shellbox.UnitNoRoom, shellbox.UnitOld, shellbox.UnitGone, shellbox.SlowMicrocode, shellbox.LeaderSwaps, shellbox.BothLead}, unitStage(func(t *testing.T) *field { return stack(t, false) }, "11.2.5")},
	"chassis":    {[]string{shellbox.NeverHot, shellbox.UnitOld, shellbox.UnitGone, shellbox.UnitNoRoom, shellbox.BothLead}, unitStage(chassis, "11.2.7")},
	"controller": {[]string{shellbox.FollowerLoops, shellbox.FollowerGone, shellbox.FollowerNoFetch, shellbox.FollowerHangOnce, shellbox.FollowerSilent}, followerStage(controller, "8.5.5")},
	"nodes":      {[]string{shellbox.FollowerNoDrain, shellbox.FollowerSilent, shellbox.FollowerGone, shellbox.FollowerLoops}, followerStage(nodes, "2024-autumn-3")},
}

func pairStage(t *testing.T) *stage {
	r, mate := firewalls(t)
	return tarnholmStage(r, []*tarnholm.Box{r.box, r.mate}, func() int64 { return r.together(mate) })
}

func clusterStage(t *testing.T) *stage {
	r := newRig(t, nil)
	mate := r.second()
	third, other := r.another("third", "S3")
	require.NoError(t, tarnholm.JoinCluster("hub", r.box, r.mate, third))
	r.start()
	return tarnholmStage(r, []*tarnholm.Box{r.box, r.mate, third}, func() int64 {
		id := r.draftedOf(change.Cluster, r.d, mate, other)
		r.release(id)
		return id
	})
}

func tarnholmStage(r *rig, boxes []*tarnholm.Box, begin func() int64) *stage {
	up := func(b *tarnholm.Box) bool { return b.Status().Phase == "ready" }
	return &stage{rig: r, begin: begin, worse: func([]string) []string { return nil },
		down: func() bool {
			n := 0
			for _, b := range boxes {
				if up(b) {
					n++
				}
			}
			return n <= (len(boxes)-1)/2 // of a pair none, of three fewer than two
		},
		arm: func(fault string, odd bool) {
			f := box.Fault{Times: 1}
			if fault == tarnholm.LowFlash {
				f = box.Fault{Value: 1000}
			}
			b := boxes[1]
			if odd {
				b = boxes[0]
			}
			_ = b.Arm(fault, f)
		}}
}

func unitStage(of func(*testing.T) *field, to string) func(*testing.T) *stage {
	return func(t *testing.T) *stage {
		f := of(t)
		f.start()
		return &stage{rig: f.rig, begin: func() int64 { id := f.draft(to); f.release(id); return id }, down: func() bool { return false },
			arm: func(fault string, odd bool) {
				_ = f.plain.Arm(fault, box.Fault{Value: map[bool]int64{false: 2, true: 1}[odd], Times: 1})
			},
			worse: func([]string) (out []string) {
				if _, cutOff := f.plain.UnitStatus(); cutOff > 0 {
					out = append(out, fmt.Sprintf("cut off %d times", cutOff))
				}
				return out
			}}
	}
}

func followerStage(of func(*testing.T) *field, to string) func(*testing.T) *stage {
	return func(t *testing.T) *stage {
		f := of(t)
		f.start()
		return &stage{rig: f.rig, begin: func() int64 { id := f.draft(to); f.release(id); return id }, down: func() bool { return false },
			arm: func(fault string, odd bool) {
				_ = f.plain.Arm(fault, box.Fault{Value: map[bool]int64{false: 2, true: 3}[odd]})
			},
			worse: func(accepted []string) (out []string) {
				_, cutOff, dark := f.plain.Followers()
				if cutOff > 0 {
					out = append(out, fmt.Sprintf("cut off %d times", cutOff))
				}
				for _, place := range dark {
					if !slices.Contains(accepted, checkPlace+" "+place) {
						out = append(out, "nobody served at "+place)
					}
				}
				return out
			}}
	}
}

// A bad day: a fault that strikes when a step begins.
type badDay struct {
	kind, fault string
	step        int
}

// Every fault at every step of every kind of ensemble: the change is done, gone back or asks, what it says of itself is true, and never are all of those down
// that could serve. A few of them, drawn by chance, unless EVERY_FAULT is set.
func TestEveryFaultAtEveryStep(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	seed := uint64(time.Now().UnixNano())
	chance := rand.New(rand.NewPCG(seed, seed))
	t.Logf("seed %d", seed)
	for kind, k := range stages {
		steps := 34 // more than any of these plans has
		var days []badDay
		for _, fault := range k.faults {
			for step := 1; step <= steps; step++ {
				days = append(days, badDay{kind, fault, step})
			}
		}
		if os.Getenv("EVERY_FAULT") == "" {
			chance.Shuffle(len(days), func(a, b int) { days[a], days[b] = days[b], days[a] })
			days = days[:2]
		} else if only := os.Getenv("EVERY_FAULT"); only != "1" && only != kind {
			continue
		}
		for _, d := range days {
			t.Run(fmt.Sprintf("%s, %s at step %d", d.kind, d.fault, d.step), func(t *testing.T) {
				t.Parallel()
				d.happens(t, k.set(t))
			})
		}
	}
}

func (d *badDay) happens(t *testing.T, s *stage) {
	s.Pace.Floor = 6 // seconds: what does not come is not waited for longer
	var once sync.Once
	s.Engine.strike = func(_ *run, st *store.Step, at string) {
		if st.Plan.Number == d.step && at == "begun" {
			once.Do(func() { s.arm(d.fault, d.step%2 == 1) })
		}
	}
	watching, stop := context.WithCancel(t.Context())
	var allDown bool
	var watch sync.WaitGroup
	watch.Go(func() {
		for pause(watching, 5*time.Millisecond) == nil {
			allDown = allDown || s.down()
		}
	})
	id := s.begin()
	c := s.endOfDay(id)
	stop()
	watch.Wait()
	assert.False(t, allDown, "those that could serve were down, all of them: %s", failure(c))
	assert.Empty(t, s.worse(s.accepted), failure(c))
	assert.Contains(t, []change.State{change.Done, change.Returned, change.Failed, change.Asking}, c.State)
	if c.State == change.Done {
		assert.NotEqual(t, verify.Fail, verdictOf(t, c).Verdict)
	}
	if c.State == change.Asking {
		assert.NotEmpty(t, c.Question.Text)
		assert.NotContains(t, c.Question.Text, "is not understood", "what a box of ours says is read by its own dialect")
		assert.NotEmpty(t, c.Question.Answers)
	}
}

// endOfDay takes on what the change asks to be taken on, until it ends or asks for more than that.
func (s *stage) endOfDay(id int64) store.Change {
	for range 20 {
		c := s.rest(id)
		switch {
		case c.State == change.Asking && c.Question.Kind == change.AskHand:
			require.NoError(s.t, s.Act(s.t.Context(), id, change.SignOff, access.Person("me", ""), "seen"))
		case c.State == change.Asking && slices.Contains(c.Question.Answers, change.Accept) && !slices.ContainsFunc(c.Question.Checks, func(k string) bool { return strings.HasPrefix(k, checkDrain) }): // else somebody would be cut off
			s.accepted = append(s.accepted, c.Question.Checks...)
			require.NoError(s.t, s.Act(s.t.Context(), id, change.Accept, access.Person("me", ""), "it is what the window is for"))
		default:
			return c
		}
	}
	return s.change(id)
}

// The database away for three leases in the middle of a change of any kind of ensemble, and another worker at every step: it is done, nothing twice, and nobody
// who could serve was down.
func TestRecordsAwayInEveryKind(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	at := map[string]change.Kind{"pair": change.Restart, "cluster": change.Restart, "stack": change.RestartUnits, "chassis": change.HandOver, "controller": change.RestartChildren, "nodes": change.RestartChildren}
	for kind, k := range stages {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			s := k.set(t)
			var once sync.Once
			back := make(chan struct{})
			s.Engine.strike = func(_ *run, st *store.Step, when string) {
				if st.Plan.Kind == at[kind] && when == "begun" {
					once.Do(func() {
						go func() {
							defer close(back)
							(&subject{field: &field{rig: s.rig}}).away(3 * s.Engine.Lease)
						}()
					})
				}
			}
			c := s.endOfDay(s.begin())
			require.Equal(t, change.Done, c.State, failure(c))
			<-back // it was away: done is only what restarted
			assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
			assert.Empty(t, s.worse(s.accepted))
		})
	}
	t.Run("cluster, another worker takes over", func(t *testing.T) {
		t.Parallel()
		s := clusterStage(t)
		(&subject{field: &field{rig: s.rig}}).strikeEverywhere(strikes["another worker takes over"])
		c := s.endOfDay(s.begin())
		require.Equal(t, change.Done, c.State, failure(c))
		assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
		assert.Equal(t, []int{2, 2}, []int{s.box.Status().Boots, s.mate.Status().Boots}, "each was started once")
	})
}
