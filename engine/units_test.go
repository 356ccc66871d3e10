package engine

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/simfleet/box"
	"verimorph/simfleet/shellbox"
	"verimorph/store"
)

// stack is a stack of four, whose versions get on with each other inside a train.
func stack(t *testing.T, together bool, more ...int64) *field {
	f := newField(t, shellbox.Spec{Maker: "Ostrevin", Model: "L24", Version: "11.2.3", Older: "11.2.2",
		Units: []shellbox.UnitSpec{{Serial: "S-2"}, {Serial: "S-3", Files: map[string]int64{"l24-11.1.4.pkg": 900_000 + sum(more)}}, {Serial: "S-4"}}}, "hollen-sw1.conf", "pull-sftp")
	f.atOnce = together
	return f
}

func sum(sizes []int64) (all int64) {
	for _, n := range sizes {
		all += n
	}
	return all
}

// chassis is one with two supervisors.
func chassis(t *testing.T) *field {
	return newField(t, shellbox.Spec{Maker: "Ostrevin", Model: "C8", Version: "11.2.5", Older: "11.2.3", Units: []shellbox.UnitSpec{{Serial: "S-2"}}}, "vesterkai-core1.conf", "pull-sftp")
}

// allOn fails the test unless all units run a version and are in step.
func (f *field) allOn(version string, others ...int) {
	f.t.Helper()
	units, cutOff := f.plain.UnitStatus()
	for i, u := range units {
		assert.Equal(f.t, version, u.Version, "unit %d", i+1)
		assert.Equal(f.t, "in step", u.State, "unit %d", i+1)
	}
	assert.Zero(f.t, cutOff, "nobody was cut off while another unit could have served")
}

// starts are how often each unit was started.
func (f *field) starts() (out []int) {
	units, _ := f.plain.UnitStatus()
	for _, u := range units {
		out = append(out, u.Starts)
	}
	return out
}

// accepting takes the warnings on that a change asks about, until it ends or asks something else.
func (f *field) accepting(id int64) change.State {
	for {
		c := f.rest(id)
		if c.State != change.Asking || !slices.Contains(c.Question.Answers, change.Accept) {
			return c.State
		}
		f.answer(id, change.Accept, "it is what the window is for")
	}
}

func TestAStackRestartsTogether(t *testing.T) {
	t.Parallel()
	f := stack(t, true)
	f.start()
	id := f.draft("11.2.5")
	c := f.change(id)
	require.NotNil(t, c.Units)
	assert.Equal(t, []int{0}, c.Units.Dark)
	assert.True(t, c.Units.Proof.Proved)
	f.release(id)
	asked := f.asks(id, change.AskWarn, "all 4 units start anew together: whoever they serve is cut off for")
	assert.Contains(t, asked.Question.Checks, ready.Dark)
	require.Equal(t, change.Done, f.accepting(id), failure(f.change(id)))
	assert.Equal(t, verify.Pass, verdictOf(t, f.change(id)).Verdict, failure(f.change(id)))
	f.allOn("11.2.5")
	assert.Equal(t, []int{1, 1, 1, 1}, f.starts())
	assert.Contains(t, f.step(id, change.AwaitUnits).Outcome, "all 4 units are there, run 11.2.5 and are well")
}

func TestAStackGoesOneAfterTheOther(t *testing.T) {
	t.Parallel()
	f := stack(t, false)
	f.start()
	id := f.draft("11.2.5")
	assert.Empty(t, f.change(id).Units.Dark)
	f.release(id)
	c := f.rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
	f.allOn("11.2.5")
	assert.Equal(t, []int{1, 1, 1, 1}, f.starts())
	units, _ := f.plain.UnitStatus()
	assert.False(t, units[0].Leads, "another one took over")
}

// What goes wrong with one unit is told with its name, and nobody who is served notices.
func TestUnitsThatGoWrong(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		fault    string
		value    int64
		together bool
		says     string
		state    change.State
	}{
		"one has no room":                   {shellbox.UnitNoRoom, 3, false, "Room on unit 3", change.Failed},
		"one missed it, all together":       {shellbox.UnitOld, 3, true, "", change.Done},
		"one missed it, rolling":            {shellbox.UnitOld, 3, false, "", change.Done},
		"one does not come back":            {shellbox.UnitGone, 2, true, "unit 2 is not there", change.Asking},
		"none gets hot":                     {shellbox.NeverHot, 0, false, "aligns 97%", change.Asking},
		"the ports load ten times as long":  {shellbox.SlowMicrocode, 0, true, "", change.Done},
		"another one leads after the start": {shellbox.LeaderSwaps, 0, true, "", change.Done},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f := stack(t, c.together)
			f.start()
			id := f.draft("11.2.5")
			f.release(id)
			require.NoError(t, f.plain.Arm(c.fault, box.Fault{Value: c.value, Times: 1}))
			assert.Equal(t, c.state, f.accepting(id), failure(f.change(id)))
			assert.Contains(t, failure(f.change(id)), c.says)
			if c.state == change.Done {
				assert.Equal(t, verify.Pass, verdictOf(t, f.change(id)).Verdict, failure(f.change(id)))
				f.allOn("11.2.5")
			}
			_, cutOff := f.plain.UnitStatus()
			assert.Zero(t, cutOff)
		})
	}
}

// What fills a unit is proposed by its name, and removed by the change when a person says so.
func TestAUnitIsCleaned(t *testing.T) {
	t.Parallel()
	f := stack(t, true, 400_000)
	p, err := f.Refresh(t.Context(), f.d, access.Person("me", ""))
	require.NoError(t, err)
	require.Len(t, p.Units, 4)
	assert.Equal(t, "leader", p.Units[0].Role)
	assert.Equal(t, []portrait.File{{Name: "l24-11.1.4.pkg", Size: 1_300_000}}, p.Units[2].Files)
	assert.Empty(t, p.Files)
	assert.Equal(t, "1.6", p.Components["boot-loader"])
	room := func(files ...string) ready.Check {
		c := f.change(f.draft("11.2.5"))
		if len(files) > 0 {
			c.Steps[1].Plan = change.Step{Kind: change.CleanUp, Params: change.CleanUpParams{Files: files}}
		}
		checks, err := f.Ready(t.Context(), &c, access.Person("me", ""))
		require.NoError(t, err)
		return checks[slices.IndexFunc(checks, func(k ready.Check) bool { return k.Name == "room 3" })]
	}
	k := room()
	assert.Equal(t, ready.Stop, k.State, k.Evidence)
	assert.Contains(t, k.Remedy, "nothing there needs l24-11.1.4.pkg (1.2 MiB): draft it with -clean-up 3:FILE")
	assert.Equal(t, ready.Pass, room("3:l24-11.1.4.pkg").State)
}

func TestAChassisWithTwoSupervisors(t *testing.T) {
	t.Parallel()
	f := chassis(t)
	f.start()
	id := f.draft("11.2.7")
	c := f.change(id)
	assert.Empty(t, c.Units.Dark)
	var kinds []string
	for _, s := range c.Steps {
		kinds = append(kinds, string(s.Plan.Kind))
	}
	assert.Contains(t, strings.Join(kinds, " "), "spread go-no-go choose-slot restart-units hand-over link login settle restart-units version units")
	f.release(id)
	c = f.rest(id)
	require.Equal(t, change.Done, c.State, failure(c))
	assert.Equal(t, verify.Pass, verdictOf(t, c).Verdict, failure(c))
	f.allOn("11.2.7")
	assert.Equal(t, []int{1, 1}, f.starts())
	assert.Equal(t, 1, f.plain.Status().Boots, "the chassis itself never went down")
}

// A unit that is not hot in the moment of the hand-over is never handed over to.
func TestAHandOverNeedsAHotUnit(t *testing.T) {
	t.Parallel()
	f := chassis(t)
	require.NoError(t, f.plain.Arm(shellbox.NeverHot, box.Fault{}))
	id := f.draft("11.2.7")
	w := f.prepare(id)
	i := slices.IndexFunc(w.c.Steps, func(s store.Step) bool { return s.Plan.Kind == change.HandOver })
	w.c.Steps[i].Plan.Hop = -1 // it leads to what runs: all that is missing is that the other one is hot
	w.c.To = "11.2.5"
	assert.ErrorContains(t, handOver(w, t.Context(), &w.c.Steps[i]), `no unit on 11.2.5 could take over: unit 2, standby, runs 11.2.5 and is "aligns 97%"`)
	_, cutOff := f.plain.UnitStatus()
	assert.Zero(t, cutOff)
}

// A half-done chassis goes back the way it came: whoever serves goes on serving.
func TestAChassisGoesBack(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		at, fault string
		value     int64
		starts    []int
		says      string
	}{
		"none gets hot":                {string(change.RestartUnits), shellbox.NeverHot, 0, []int{0, 0}, "aligns 97%"},
		"it serves, and not as before": {string(change.HandOver), shellbox.ServiceDown, 1, []int{0, 2}, "the readings do not satisfy what is expected, so no other unit is started anew"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f := chassis(t)
			f.policy = change.Automatic
			struck := false
			f.Engine.strike = func(_ *run, s *store.Step, at string) {
				switch {
				case string(s.Plan.Kind) == c.at && at == "begun" && !struck:
					struck = true
					require.NoError(t, f.plain.Arm(c.fault, box.Fault{Value: c.value, Times: 1}))
				case s.Plan.Back:
					require.NoError(t, f.plain.Heal(c.fault))
				}
			}
			f.start()
			id := f.draft("11.2.7")
			f.release(id)
			done := f.rest(id)
			require.Equal(t, change.Returned, done.State, failure(done))
			assert.Contains(t, failure(done), c.says)
			assert.Equal(t, verify.Pass, verdictOf(t, done).Verdict, failure(done))
			f.allOn("11.2.5")
			assert.Equal(t, c.starts, f.starts())
			assert.Equal(t, 1, f.plain.Status().Boots, "the chassis itself never went down")
		})
	}
}

// Whatever strikes in the middle of whatever step of a stack, a chassis or a controller: the change is done, each unit and each access point was started
// once, and nobody was cut off.
func TestStrikesInEveryStepOfUnits(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip()
	}
	for name, c := range map[string]struct {
		of func(t *testing.T) *field
		to string
	}{
		"stack":      {func(t *testing.T) *field { return stack(t, false) }, "11.2.5"},
		"chassis":    {chassis, "11.2.7"},
		"controller": {controller, "8.5.5"},
		"nodes":      {nodes, "2024-autumn-3"},
	} {
		for _, strike := range []string{"another worker takes over", "the network is away for a while"} {
			hit := strikes[strike]
			t.Run(name+", "+strike, func(t *testing.T) {
				t.Parallel()
				s := (&subject{field: c.of(t), to: c.to}).wired()
				s.strikeEverywhere(hit)
				s.start()
				done := s.toTheEnd(s.drafted())
				require.Equal(t, change.Done, done.State, failure(done))
				assert.Equal(t, verify.Pass, verdictOf(t, done).Verdict, failure(done))
				version, installs, _ := s.stands()
				assert.Equal(t, []any{c.to, 1}, []any{version, installs})
				if name == "stack" || name == "chassis" {
					s.allOn(c.to)
					assert.Equal(t, slices.Repeat([]int{1}, len(s.starts())), s.starts(), "each unit was started once")
					return
				}
				points, cutOff, dark := s.plain.Followers()
				assert.Zero(t, cutOff)
				assert.Empty(t, dark)
				for _, p := range points[:min(19, len(points))] {
					assert.Equal(t, []any{c.to, 1}, []any{p.Version, p.Starts}, p.Name)
				}
			})
		}
	}
}

// A unit that joined since the draft, or another one in the place of one, keeps the change from going on.
func TestUnitsThatAreNotAsTheyWere(t *testing.T) {
	t.Parallel()
	f := stack(t, true)
	c := f.change(f.draft("11.2.5"))
	look := func(edit func(*change.Units)) ready.Check {
		again := *c.Units
		again.Units = slices.Clone(c.Units.Units)
		edit(&again)
		with := c
		with.Units = &again
		checks, err := f.Ready(t.Context(), &with, access.Person("me", ""))
		require.NoError(t, err)
		return checks[slices.IndexFunc(checks, func(k ready.Check) bool { return k.Name == ready.UnitsCheck })]
	}
	assert.Equal(t, ready.Pass, look(func(*change.Units) {}).State)
	k := look(func(u *change.Units) { u.Units = u.Units[:3] })
	assert.Equal(t, ready.Stop, k.State)
	assert.Contains(t, k.Evidence, "unit 4 was not there when the change was drafted")
	assert.Contains(t, look(func(u *change.Units) { u.Units = append(u.Units, change.UnitOf{Name: "5"}) }).Evidence, "unit 5 is not there")
	assert.Contains(t, look(func(u *change.Units) { u.Units[1].Serial = "X" }).Evidence, "unit 2 has the serial S-2, and had X when the change was drafted")
	require.NoError(t, f.plain.Arm(shellbox.BothLead, box.Fault{}))
	assert.Contains(t, look(func(*change.Units) {}).Evidence, "2 units say that they serve, and one does")
}
