package prove

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lane are the steps of one member through a new version, each behind the one before; the first comes after what is given.
func lane(plan []Step, member, version int, after []int, effects ...Effect) []Step {
	for _, e := range effects {
		n := len(plan) + 1
		plan = append(plan, Step{Number: n, Title: string(e), Member: member, After: after, Effect: e, Version: version, Rest: e != Down && e != Up})
		after = []int{n}
	}
	return plan
}

func last(plan []Step) []int { return []int{len(plan)} }

func pairMembers() []Member {
	return []Member{{Name: "a", Active: true}, {Name: "b", Sync: true}}
}

// pair is the right order for a pair of which a is active: b, a switch to it, and a.
func pair() *Plan {
	steps := lane(nil, 2, 1, nil, Commits, Down, Up, Sync, Switch, Shows)
	steps = lane(steps, 1, 1, last(steps), Commits, Down, Up, Sync, Shows)
	return &Plan{Members: pairMembers(), Steps: steps, Rules: Rules{Versions: []string{"5.0.7", "5.4.2"}, Serving: true}}
}

func TestPair(t *testing.T) {
	r := Check(pair())
	assert.True(t, r.Proved, "%+v", r)
	assert.Greater(t, r.States, 20)

	skew := pair()
	skew.Rules.GetOn = func(int, int) bool { return false }
	r = Check(skew)
	require.NotNil(t, r.Broken)
	assert.Equal(t, GetsOn, r.Broken.Rule)
	assert.Equal(t, "a runs 5.0.7 beside b with 5.4.2", r.Broken.Text)
	assert.Equal(t, []string{"step 1, b: commits", "step 2, b: down", "step 3, b: up"}, lines(r.Broken))
}

func lines(v *Violation) (out []string) {
	for _, e := range v.Trace {
		out = append(out, e.String())
	}
	return out
}

// without is a plan in which a step is left out; what came after it comes after what it came after.
func without(steps []Step, number int) (out []Step) {
	var after []int
	for _, s := range steps {
		if s.Number == number {
			after = s.After
			continue
		}
		s.After = slices.Clone(s.After)
		if i := slices.Index(s.After, number); i >= 0 {
			s.After = append(slices.Delete(s.After, i, i+1), after...)
		}
		out = append(out, s)
	}
	return out
}

// swapped is a plan in which two steps change places, with what they do.
func swapped(steps []Step, i, k int) []Step {
	out := slices.Clone(steps)
	a, b := out[i], out[k]
	a.Number, b.Number, a.After, b.After = b.Number, a.Number, b.After, a.After
	out[i], out[k] = b, a
	return out
}

// Every order but the right one is found out: whichever barrier is dropped, and whichever two steps change places.
func TestMutationsOfAPair(t *testing.T) {
	right := pair()
	broken := func(steps []Step) string {
		r := Check(&Plan{Members: right.Members, Steps: steps, Rules: right.Rules})
		if r.Broken == nil {
			return ""
		}
		return r.Broken.Rule
	}
	for number, rule := range map[int]string{4: SwitchSync, 5: FirstShows, 6: FirstShows} {
		assert.Equal(t, rule, broken(without(right.Steps, number)), "without step %d", number)
	}
	dropped := slices.Clone(right.Steps)
	dropped[6].After = nil // a does not wait for b
	assert.NotEmpty(t, broken(dropped))
	dropped = slices.Clone(right.Steps)
	dropped[4].After = []int{3} // b is switched to as soon as it is up
	assert.Equal(t, SwitchSync, broken(dropped))
	for i := 3; i < 8; i++ { // from b's sync to a's restart
		assert.NotEmpty(t, broken(swapped(right.Steps, i, i+1)), "steps %d and %d", i+1, i+2)
	}
}

// cluster is n members of which the first leads: the others one by one, then a switch, then the first.
func cluster(n, quorum int) *Plan {
	p := &Plan{Rules: Rules{Quorum: quorum}}
	var after []int
	for i := range n {
		p.Members = append(p.Members, Member{Name: fmt.Sprint("n", i+1), Active: i == 0, Sync: true})
	}
	for i := 2; i <= n; i++ {
		p.Steps = lane(p.Steps, i, 1, after, Commits, Down, Up, Sync, Shows)
		after = last(p.Steps)
	}
	p.Steps = lane(p.Steps, 2, 1, after, Switch, Shows)
	p.Steps = lane(p.Steps, 1, 1, last(p.Steps), Commits, Down, Up, Sync, Shows)
	return p
}

func TestCluster(t *testing.T) {
	for n := 3; n <= 8; n++ {
		assert.True(t, Check(cluster(n, n-1)).Proved, n)
		r := Check(cluster(n, n))
		require.NotNil(t, r.Broken, n)
		assert.Equal(t, KeepsQuorum, r.Broken.Rule)
	}
	// Two at a time, behind the first: the quorum allows it while nobody fails.
	p := cluster(5, 3)
	p.Steps = nil
	p.Steps = lane(p.Steps, 2, 1, nil, Commits, Down, Up, Sync, Shows)
	first := last(p.Steps)
	for i := 3; i <= 4; i++ {
		p.Steps = lane(p.Steps, i, 1, first, Commits, Down, Up, Sync, Shows)
	}
	p.Rules.Together = true
	assert.True(t, Check(p).Proved)
	p.Steps = lane(p.Steps, 5, 1, first, Commits, Down, Up, Sync, Shows)
	r := Check(p)
	require.NotNil(t, r.Broken)
	assert.Equal(t, "2 of 5 members are up; 3 are needed", r.Broken.Text)
	p.Steps = p.Steps[:15]
	p.Rules.Together = false
	assert.Equal(t, FirstShows, Check(p).Broken.Rule, "the third begins before the second has shown itself")
}

// A stack restarts together, when somebody accepts that it is dark.
func TestStackIsDarkOnlyWhenThatIsAccepted(t *testing.T) {
	p := &Plan{Rules: Rules{Together: true, Interrupts: true}}
	for i := range 6 {
		p.Members = append(p.Members, Member{Name: fmt.Sprint("unit ", i+1), Active: i == 0, Sync: true})
		p.Steps = lane(p.Steps, i+1, 1, nil, Commits, Down, Up)
	}
	r := Check(p)
	require.NotNil(t, r.Broken)
	assert.Equal(t, NeverDark, r.Broken.Rule)
	p.Rules.Dark = true
	r = Check(p)
	assert.Nil(t, r.Broken)
	p.Most = 1000
	r = Check(p)
	assert.False(t, r.Proved)
	assert.Equal(t, "there are more than 1000 states; the plan was not walked to its end", r.GaveUp)
}

// What is right as long as nothing fails, and wrong when a single step does, is found out.
func TestFailuresAreWalked(t *testing.T) {
	p := cluster(3, 2) // the third begins as soon as the second was told to go down and up, whether it came back or not
	p.Steps = lane(nil, 2, 1, nil, Commits, Down)
	p.Steps = append(p.Steps, Step{Number: 3, Title: "up", Member: 2, After: []int{2}, Effect: Up})
	p.Steps = append(p.Steps, Step{Number: 4, Title: "commits", Member: 3, Effect: Commits, Version: 1}, Step{Number: 5, Title: "down", Member: 3, After: []int{3, 4}, Effect: Down},
		Step{Number: 6, Title: "up", Member: 3, After: []int{5}, Effect: Up})
	p.Rules.Together = true
	assert.True(t, Check(p).Proved)
	p.Back = func(s State) ([]Step, []int, bool) {
		return lane(nil, 2, 0, nil, Commits), []int{0, 0, 0}, !s.Up(2)
	}
	r := Check(p)
	require.NotNil(t, r.Broken, "only a failure leads to where this way back is claimed")
	assert.Equal(t, NotWhenDown, r.Broken.Rule)
	assert.Contains(t, fmt.Sprint(r.Broken.Trace), "step 3, n2: up: it does not come back")
	assert.Contains(t, fmt.Sprint(r.Broken.Trace), "way back, step 1, n2: commits")
}

// backOfPair takes what runs another version back, the standby first, when there is somebody to serve meanwhile.
func backOfPair(s State) (steps []Step, to []int, claimed bool) {
	for m := 1; m <= 2; m++ {
		if !s.Up(m) {
			return nil, nil, false
		}
	}
	order := []int{1, 2}
	if s.Active(1) {
		order = []int{2, 1}
	}
	var after []int
	for i, m := range order {
		if s.Runs(m) == 0 && s.Starts(m) == 0 {
			continue
		}
		effects := []Effect{Commits, Down, Up, Sync}
		if s.Runs(m) == 0 {
			effects = effects[:1] // only its choice is taken back
		}
		if i == 1 && s.Runs(m) != 0 {
			if !s.InSync(order[0]) && s.Runs(order[0]) == 0 && s.Starts(order[0]) == 0 {
				steps = lane(steps, order[0], 0, after, Sync)
				after = last(steps)
			}
			steps = lane(steps, order[0], 0, after, Switch)
			after = last(steps)
		}
		steps = lane(steps, m, 0, after, effects...)
		after = last(steps)
	}
	return steps, []int{0, 0}, true
}

// A way back that is claimed is walked from wherever the change can come to rest.
func TestWayBackIsWalked(t *testing.T) {
	p := pair()
	p.Back = backOfPair
	r := Check(p)
	require.Nil(t, r.Broken, "%v", r.Broken)
	assert.True(t, r.Proved)

	p.Back = func(s State) ([]Step, []int, bool) { // it takes a back while a serves
		return lane(nil, 1, 0, nil, Commits, Down, Up), []int{0, 0}, s.Runs(1) == 1
	}
	r = Check(p)
	require.NotNil(t, r.Broken)
	assert.True(t, r.Broken.Trace[len(r.Broken.Trace)-1].Back)
	p.Back = func(s State) ([]Step, []int, bool) { return nil, []int{0, 0}, s.Up(1) && s.Up(2) }
	assert.Equal(t, LeadsBack, Check(p).Broken.Rule)
}

// What cannot be walked is no proof.
func TestPlansThatAreNone(t *testing.T) {
	for says, p := range map[string]*Plan{
		"there are 0 members":                     {},
		"there are 17 members":                    {Members: make([]Member, 17)},
		"there are 513 steps that have an effect": {Members: pairMembers(), Steps: lane(nil, 1, 0, nil, slices.Repeat([]Effect{Shows}, 513)...)},
		"works on member 3, which is none":        {Members: pairMembers(), Steps: []Step{{Number: 1, Member: 3}}},
		"does not stand before it":                {Members: pairMembers(), Steps: []Step{{Number: 1, After: []int{2}}, {Number: 2}}},
		"there are two steps 1":                   {Members: pairMembers(), Steps: []Step{{Number: 1}, {Number: 1}}},
		"step 1 works on member 0, which is none": {Members: pairMembers(), Steps: []Step{{Number: 1, Effect: Down}}},
	} {
		r := Check(p)
		assert.False(t, r.Proved)
		assert.Contains(t, r.GaveUp, says)
	}
}

// Steps without an effect only pass on the order, and where the change may rest.
func TestStepsWithoutAnEffect(t *testing.T) {
	steps := []Step{{Number: 1, Member: 1, Effect: Commits, Version: 1, Rest: true}, {Number: 2, Member: 1, After: []int{1}, Rest: true}, {Number: 3, After: []int{2}},
		{Number: 4, Member: 1, After: []int{3}, Effect: Down}, {Number: 5, Member: 2, After: []int{3, 4}, Effect: Down}}
	got := compact(steps)
	require.Len(t, got, 3)
	assert.Equal(t, []int{1}, got[1].After)
	assert.True(t, got[1].Rest, "it rests before the one that has no effect")
	assert.Equal(t, []int{1, 4}, got[2].After)
}
