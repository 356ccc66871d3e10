package change

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/prove"
	"verimorph/core/version"
)

// alike is an ensemble of n alike members of which one is active, that take the hops of a job together.
func alike(kind EnsembleKind, n, active int, job Job) EnsembleJob {
	j := EnsembleJob{Kind: kind}
	for i := range n {
		j.Members = append(j.Members, EnsembleMember{Name: fmt.Sprint("m", i+1), Active: i+1 == active, Sync: true, Job: job})
	}
	for hop := range job.Path.Hops {
		var t Turn
		for i := range n {
			t.Members, t.Hops = append(t.Members, i+1), append(t.Hops, hop)
		}
		j.Turns = append(j.Turns, t)
	}
	return j
}

// uneven has each member but the active one begin further on: skip says how many hops each need not take any more.
func uneven(j EnsembleJob, skip []int) EnsembleJob {
	hops := j.Members[0].Job.Path.Hops
	j.Turns = nil
	for i := range j.Members {
		way := *j.Members[i].Job.Path
		way.Hops = way.Hops[skip[i]:]
		way.From = hops[skip[i]].From
		j.Members[i].Job.Path = &way
	}
	for hop := range hops {
		var t Turn
		for i := range j.Members {
			if hop >= skip[i] {
				t.Members, t.Hops = append(t.Members, i+1), append(t.Hops, hop-skip[i])
			}
		}
		j.Turns = append(j.Turns, t)
	}
	return j
}

// bySlots is a device with two slots, along some versions.
func bySlots(versions ...string) Job {
	j := Job{Family: &catalog.Family{}, Pace: Pace{Factor: 1}, Path: &path.Path{}, Can: Abilities{Save: true}}
	for i := range versions[1:] {
		j.Path.Hops = append(j.Path.Hops, path.Hop{From: version.MustParse(versions[i]), To: version.MustParse(versions[i+1]), Restarts: 1, Config: catalog.ConfigKept,
			Image: catalog.Image{File: versions[i+1] + ".img", Size: 100, SHA256: versions[i+1]}})
	}
	j.Path.From, j.Path.To = version.MustParse(versions[0]), version.MustParse(versions[len(versions)-1])
	return j
}

// told are the steps that matter between members, as "member kind".
func told(p *EnsemblePlan) (out []string) {
	for _, s := range p.Steps {
		if s.Kind.Is(Install, ChooseSlot, Restart, Confirm, Sync, Switch, Settle, Verify) {
			out = append(out, fmt.Sprint(s.Member, " ", s.Kind))
		}
	}
	return out
}

func TestPairIsChangedStandbyFirst(t *testing.T) {
	p, err := DraftEnsemble(alike(Pair, 2, 1, bySlots("5.0.7", "5.4.2")))
	require.NoError(t, err)
	assert.Equal(t, []string{"1 install", "2 install", "2 choose-slot", "2 restart", "2 version", "2 sync", "2 switch-over", "2 settle",
		"1 choose-slot", "1 restart", "1 version", "1 sync", "2 settle", "0 verdict"}, told(p))
	proof := prove.Check(p.Proof())
	assert.True(t, proof.Proved, "%+v", proof)

	// After two hops the roles have changed twice, and nobody was switched to for nothing.
	j := alike(Pair, 2, 1, bySlots("5.0.7", "5.2.3", "5.4.2"))
	p, err = DraftEnsemble(j)
	require.NoError(t, err)
	switches := slices.DeleteFunc(told(p), func(s string) bool { return s[2:] != string(Switch) })
	assert.Equal(t, []string{"2 switch-over", "1 switch-over"}, switches)
	assert.True(t, prove.Check(p.Proof()).Proved)
	j.GetOn = func(a, b string) bool { return !(a == "5.0.7" && b == "5.2.3" || a == "5.2.3" && b == "5.0.7") }
	p, err = DraftEnsemble(j)
	require.NoError(t, err)
	r := prove.Check(p.Proof())
	require.NotNil(t, r.Broken)
	assert.Equal(t, "m1 runs 5.0.7 beside m2 with 5.2.3", r.Broken.Text)

	j = alike(Pair, 2, 2, bySlots("5.0.7", "5.4.2"))
	j.SwitchBack = true
	p, err = DraftEnsemble(j)
	require.NoError(t, err)
	steps := told(p)
	assert.Equal(t, []string{"2 sync", "2 switch-over", "2 settle", "0 verdict"}, steps[len(steps)-4:])
	assert.True(t, prove.Check(p.Proof()).Proved)
}

// Whatever the members can do and whatever the hops bring: the plan is proved.
func TestEnsemblesOfAnyKindAreProved(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		job := jobs.Draw(t, "job")
		kind, n := Pair, 2
		if rapid.Bool().Draw(t, "cluster") {
			kind, n = Cluster, rapid.IntRange(3, 5).Draw(t, "members")
		}
		j := alike(kind, n, rapid.IntRange(1, n).Draw(t, "active"), job)
		if hops := len(job.Path.Hops); rapid.Bool().Draw(t, "uneven") {
			skip := make([]int, n)
			for i := range skip {
				skip[i] = rapid.IntRange(0, hops-1).Draw(t, "skip")
			}
			skip[rapid.IntRange(0, n-1).Draw(t, "furthest back")] = 0
			j = uneven(j, skip)
		}
		j.SwitchBack = rapid.Bool().Draw(t, "switch back")
		p, err := DraftEnsemble(j)
		require.NoError(t, err)
		for i, s := range p.Steps {
			require.Equal(t, i+1, s.Number)
			require.NotNil(t, s.After, "what it waits for is said")
			for _, before := range s.After {
				require.Less(t, before, s.Number)
			}
		}
		r := prove.Check(p.Proof())
		require.True(t, r.Proved, "%+v %v", r, r.Broken)
	})
}

// Whichever barrier between members is dropped, and whichever step that the others rely on is left out: it is found out.
func TestMutatedChoreographies(t *testing.T) {
	for name, j := range map[string]EnsembleJob{
		"pair": alike(Pair, 2, 1, bySlots("5.0.7", "5.4.2")), "pair over two hops": alike(Pair, 2, 2, bySlots("5.0.7", "5.2.3", "5.4.2")),
		"cluster of 3": alike(Cluster, 3, 1, bySlots("5.0.7", "5.4.2")), "cluster of 5": alike(Cluster, 5, 3, bySlots("5.0.7", "5.4.2")),
	} {
		right, err := DraftEnsemble(j)
		require.NoError(t, err)
		require.True(t, prove.Check(right.Proof()).Proved, name)
		for i, s := range right.Steps {
			for _, before := range s.After {
				if s.Member == 0 || right.Steps[before-1].Member == s.Member {
					continue
				}
				bad := *right
				bad.Steps = slices.Clone(right.Steps)
				bad.Steps[i].After = slices.DeleteFunc(slices.Clone(s.After), func(n int) bool { return n == before })
				assert.NotNil(t, prove.Check(bad.Proof()).Broken, "%s: step %d of %d does not wait for step %d", name, s.Number, s.Member, before)
			}
			if s.Kind.Is(Sync, Switch, Settle) && slices.ContainsFunc(right.Steps, func(o Step) bool { return o.Member != s.Member && o.Member != 0 && slices.Contains(o.After, s.Number) }) {
				bad := *right
				bad.Steps = slices.Clone(right.Steps)
				bad.Steps[i].Kind = Tidy // it is there, and does nothing
				assert.NotNil(t, prove.Check(bad.Proof()).Broken, "%s: without step %d, %s of %d", name, s.Number, s.Kind, s.Member)
			}
		}
	}
}

func TestEnsemblesThatCannotBeDrafted(t *testing.T) {
	none, both := alike(Pair, 2, 0, bySlots("1", "2")), alike(Pair, 2, 1, bySlots("1", "2"))
	both.Members[1].Active = true
	far := alike(Pair, 2, 1, bySlots("1", "2"))
	far.Members[1].Job = bySlots("1", "2")
	far.Members[1].Job.Path.Hops[0].NewModel = "X"
	for says, j := range map[string]EnsembleJob{
		"two members at least, not 1":              alike(Cluster, 1, 1, bySlots("1", "2")),
		"a pair has two members, not 3":            alike(Pair, 3, 1, bySlots("1", "2")),
		"no member says that it is the active one": none,
		"m1 and m2 say that they are active":       both,
		"m2: the hop from 1 to 2 goes on as another model, X, on another machine, which is a replacement, which a change": far,
	} {
		_, err := DraftEnsemble(j)
		assert.ErrorContains(t, err, says)
	}
}

// What to do with a pair whose change came to rest half-done follows from how its members stand, and says why.
func TestHalfDone(t *testing.T) {
	p, err := DraftEnsemble(alike(Pair, 2, 1, bySlots("5.0.7", "5.4.2")))
	require.NoError(t, err)
	at := func(active bool, runs, starts string) Stand {
		return Stand{Up: true, Active: active, Runs: runs, Starts: starts}
	}
	shown := at(true, "5.4.2", "5.4.2")
	shown.Shown = true
	old, moved := "5.0.7", "5.4.2"
	for name, c := range map[string]struct {
		stands []Stand
		back   bool
		why    string
		steps  []string
	}{
		"nothing moved": {[]Stand{at(true, old, old), at(false, old, old)}, false, "all members run 5.0.7; nothing has to be undone", nil},
		"only chosen":   {[]Stand{at(true, old, old), at(false, old, moved)}, true, "nobody who serves on a newer version than 5.0.7 has shown itself there", []string{"2 choose-slot", "2 settle", "0 verdict"}},
		"the standby":   {[]Stand{at(true, old, old), at(false, moved, moved)}, true, "those that moved are taken back", []string{"2 choose-slot", "2 restart", "2 version", "2 sync", "2 settle", "0 verdict"}},
		"has shown":     {[]Stand{at(false, old, old), shown}, false, "m2 serves on 5.4.2 and has shown itself there; the others are brought along", nil},
		"has not":       {[]Stand{at(false, old, old), at(true, moved, moved)}, true, "those that moved", []string{"1 sync", "1 switch-over", "2 choose-slot", "2 restart", "2 version", "2 sync", "2 settle", "0 verdict"}},
		"all moved": {[]Stand{at(false, moved, moved), at(true, moved, moved)}, true, "all members moved, and what serves has not shown itself, so they are taken back to 5.0.7 one after the other",
			[]string{"1 choose-slot", "1 restart", "1 version", "1 sync", "1 sync", "1 switch-over", "2 choose-slot", "2 restart", "2 version", "2 sync", "2 settle", "0 verdict"}},
		"all well":       {[]Stand{at(false, moved, moved), shown}, false, "all members run 5.4.2; nothing has to be undone", nil},
		"one is away":    {[]Stand{at(true, old, old), {}}, false, "m1 serves on 5.0.7 as before; m2 does not answer, and is for a person to bring back", nil},
		"the other away": {[]Stand{{}, at(true, moved, moved)}, false, "m1 does not answer, so no other member may go down; bring it back by hand first", nil},
		"nobody serves":  {[]Stand{at(false, old, old), at(false, moved, moved)}, false, "no member that answers is the active one", nil},
		"all away":       {[]Stand{{}, {}}, false, "no member answers", nil},
	} {
		h := p.FromHere(c.stands)
		assert.Contains(t, h.Why, c.why, name)
		assert.Equal(t, c.back, h.Back, name)
		assert.Equal(t, c.steps, told(&EnsemblePlan{Steps: h.Steps}), name)
		for _, s := range h.Steps {
			assert.True(t, s.Back, name)
		}
	}

	three, err := DraftEnsemble(alike(Cluster, 3, 1, bySlots("5.0.7", "5.4.2")))
	require.NoError(t, err)
	h := three.FromHere([]Stand{at(true, old, old), at(false, moved, moved), {}})
	assert.False(t, h.Back)
	assert.Equal(t, "m3 does not answer, so no other member may go down; bring it back by hand first", h.Why)
}
