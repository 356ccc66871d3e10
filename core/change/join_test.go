package change

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/prove"
)

// joinJob is a box that can come under a controller.
func joinJob() *JoinJob {
	j := &JoinJob{Controller: bySlots("8.5.4", "8.5.4"), Box: bySlots("8.5.2", "8.5.4"), Params: JoinParams{Controller: "wc1", Address: "192.0.2.1", Child: "ap1", Serial: "G1", Model: "AP"}}
	j.Controller.Can.Children = ChildAbilities{Told: true, Authorise: true, Group: true, Release: true}
	j.Box.Can.Follow = true
	j.Box.Can.Parts = []Restored{{Name: "running", Title: "point.conf", Configuration: true}}
	return j
}

// all are the steps of a plan, as "member kind".
func all(steps []Step) (out []string) {
	for _, s := range steps {
		out = append(out, fmt.Sprint(s.Member, " ", s.Kind))
	}
	return out
}

func TestABoxComesUnderAController(t *testing.T) {
	j := joinJob()
	j.Licences = []string{"access-200"}
	j.Controller.Can.Licence = true
	p, err := DraftJoin(j)
	require.NoError(t, err)
	assert.Equal(t, []string{"1 readings", "2 readings", "1 check", "2 check", "1 backup", "2 backup", "1 licence", "2 go-no-go", "2 become-managed", "1 join", "1 save", "0 verdict"}, all(p.Steps))
	managed := p.Steps[8]
	assert.Subset(t, managed.After, []int{7, 8}, "both are saved, and the licence is there, before the box loses its configuration")
	assert.True(t, managed.Irreversible())
	require.Len(t, p.Back, 2)
	assert.True(t, p.Back[1][0].Leads())
	assert.Equal(t, []string{"1 release-child", "2 link", "2 login", "2 version", "2 put-part", "2 services", "2 settle", "0 verdict"}, all(p.Back[1][0].Steps))

	p, err = DraftRelease(joinJob())
	require.NoError(t, err)
	assert.Equal(t, []string{"1 readings", "2 readings", "1 check", "2 check", "1 backup", "1 go-no-go", "1 release-child"}, all(p.Steps)[:7])
	j = joinJob()
	j.Managed, j.Empty = true, true
	p, err = DraftRelease(j)
	require.NoError(t, err)
	assert.NotContains(t, all(p.Steps), "2 readings", "it has no command line while it follows")
	assert.NotContains(t, all(p.Steps), "2 put-part")
	for what, spoil := range map[string]func(*JoinJob){
		"has no become-managed":                   func(j *JoinJob) { j.Box.Can.Follow = false },
		"does not tell what follows it":           func(j *JoinJob) { j.Controller.Can.Children.Told = false },
		"has no group-child":                      func(j *JoinJob) { j.Params.Group, j.Controller.Can.Children.Group = "staff", false },
		"has no add-licence, so licences are giv": func(j *JoinJob) { j.Licences = []string{"x"} },
	} {
		j := joinJob()
		spoil(j)
		_, err := DraftJoin(j)
		assert.ErrorContains(t, err, what)
	}
	j = joinJob()
	j.Controller.Can.Children.Release = false
	_, err = DraftRelease(j)
	assert.ErrorContains(t, err, "has no release-child")
}

// From wherever such a change rests: nobody says that a box is where it is not, and what it loses is put back.
func TestWhereABoxIs(t *testing.T) {
	for _, c := range []struct {
		name             string
		stand            JoinStand
		releasing, begun bool
		back             bool
		first            string
		says             string
	}{
		{"the controller is away", JoinStand{Alone: true}, false, true, false, "", "wc1 does not answer"},
		{"nothing was done", JoinStand{Answers: true, Alone: true}, false, false, false, "", "stands alone as before"},
		{"it lost its configuration and stands alone", JoinStand{Answers: true, Alone: true}, false, true, true, "2 link", "with the configuration that it had"},
		{"it joined", JoinStand{Answers: true, Listed: true}, false, true, true, "1 release-child", "is given back"},
		{"it is lost", JoinStand{Answers: true}, false, true, true, "2 hand", "neither follows wc1 nor answers"},
		{"it still follows", JoinStand{Answers: true, Listed: true}, true, true, false, "", "still follows wc1"},
		{"it stands alone", JoinStand{Answers: true, Alone: true}, true, true, true, "2 become-managed", "brought under it again"},
		{"it was given back and is lost", JoinStand{Answers: true}, true, true, true, "2 hand", "brought under it again"},
	} {
		h := joinJob().FromHere(c.stand, c.releasing, c.begun)
		assert.Equal(t, c.back, h.Back, c.name)
		assert.Contains(t, h.Why, c.says, c.name)
		if c.back {
			assert.Equal(t, c.first, all(h.Steps)[0], c.name)
			assert.Equal(t, "0 verdict", all(h.Steps)[len(h.Steps)-1], c.name)
		}
		for i, s := range h.Steps {
			assert.Equal(t, i+1, s.Number, c.name)
			assert.True(t, s.Back, c.name)
			for _, n := range s.After {
				assert.Less(t, n, s.Number, c.name)
			}
		}
	}
}

// All members down at once: nobody restarts before all were told what to start, and the plan is proved only since it says so.
func TestAllMembersTogether(t *testing.T) {
	j := alike(Pair, 2, 1, bySlots("5.0.7", "5.2.3", "5.4.2"))
	j.Together, j.SwitchBack = true, true
	j.GetOn = func(a, b string) bool { return a == b }
	p, err := DraftEnsemble(j)
	require.NoError(t, err)
	assert.Equal(t, []string{"1 install", "2 install", "1 choose-slot", "2 choose-slot", "1 restart", "1 version", "2 restart", "2 version", "1 sync", "2 sync"}, told(p)[:10])
	byNumber := map[int]Step{}
	for _, s := range p.Steps {
		byNumber[s.Number] = s
	}
	for _, s := range p.Steps {
		if s.Kind == Restart && s.Hop == 0 {
			var kinds []Kind
			for _, n := range s.After {
				kinds = append(kinds, byNumber[n].Kind)
			}
			assert.Equal(t, []Kind{ChooseSlot, ChooseSlot}, kinds, "both were told what to start")
		}
	}
	assert.True(t, prove.Check(p.Proof()).Proved)
	strict := p.Proof()
	strict.Rules = prove.Rules{Quorum: 1}
	r := prove.Check(strict)
	require.NotNil(t, r.Broken)
	for n := 3; n <= 4; n++ {
		j := alike(Cluster, n, 2, bySlots("5.0.7", "5.4.2"))
		j.Together = true
		p, err := DraftEnsemble(j)
		require.NoError(t, err)
		assert.True(t, prove.Check(p.Proof()).Proved, n)
	}
}
