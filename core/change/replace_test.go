package change

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/replace"
	"verimorph/core/version"
)

func replaceJob() *ReplaceJob {
	stays := func(model string) *path.Path {
		v := version.MustParse("5.4.2")
		return &path.Path{Family: "th", Model: model, From: v, To: v, Hops: []path.Hop{{From: v, To: v, Config: catalog.ConfigKept, Restarts: 1}}}
	}
	can := Abilities{Save: true, Restart: true, Validate: true, Password: true, Licence: true, Parts: []Restored{{Name: "running", Title: "running.cfg", Save: true, Configuration: true}, {Name: "users", Title: "users"}}}
	return &ReplaceJob{New: Job{Family: &catalog.Family{}, Path: stays("TH-80"), Can: can}, Old: Job{Family: &catalog.Family{}, Path: stays("TH-60"), Can: can}, NewName: "new", OldName: "old", Password: true, Address: "192.0.2.7:22",
		Cables: []replace.Cable{{From: "p1", To: "x1"}, {From: "p2", To: "p1"}, {From: "p3", To: "p1", Folded: true}, {From: "p4", LeftOut: "unused"}}, Labels: map[string]string{"p1": "rack 1"}}
}

// titles are those of steps, with the member that each is of.
func titles(steps []Step) (out []string) {
	for _, s := range steps {
		out = append(out, string(rune('0'+s.Member))+" "+s.Title)
	}
	return out
}

func TestAReplacement(t *testing.T) {
	j := replaceJob()
	p, err := DraftReplace(j)
	require.NoError(t, err)
	assert.Equal(t, []string{"2 Take readings before", "2 Take a backup", "1 Check that all is ready", "1 Set a new password", "1 Take a backup", "1 Compare with the old device", "1 Have the device read it first: running.cfg",
		"1 Put the configuration", "1 Save configuration", "1 Go/no-go check", "1 Disconnect old", "1 Cable p1 to x1", "1 See port x1", "1 Cable p2 to p1", "1 See port p1", "1 Cable p3 to p1",
		"1 Restart", "1 Wait for link", "1 Wait for sign-in", "1 Confirm running version", "1 Wait for services", "0 Compare readings, conclude"}, titles(p.Steps))
	assert.Contains(t, p.Steps[5].After, 2, "what was converted is held against the backup of the old one")
	for _, s := range p.Steps {
		hand := Of[HandParams](&s)
		assert.Equal(t, s.Kind == Hand, hand.Cuts, s.Title)
		if s.Member == TheOld {
			assert.False(t, s.Kind.Spec().Writes, "%s: the old one is not written to", s.Title)
		}
	}
	assert.Contains(t, Of[HandParams](&p.Steps[11]).Task, "port p1 (rack 1) of old to port x1 of new")
	assert.Equal(t, BackByReinstall, p.Back[1][0].Way)

	j.Dead = true
	p, err = DraftReplace(j)
	require.NoError(t, err)
	for _, s := range p.Steps {
		assert.NotEqual(t, TheOld, s.Member, s.Title)
		assert.NotEqual(t, "Disconnect old", s.Title, "it does not answer anyhow")
	}
	assert.Equal(t, NoWayBack, p.Back[1][0].Way)

	for says, spoil := range map[string]func(*ReplaceJob){
		"its dialect restores none":       func(j *ReplaceJob) { j.New.Can.Parts = j.New.Can.Parts[1:] },
		"its dialect has no set-password": func(j *ReplaceJob) { j.New.Can.Password = false },
		"its dialect has no add-licence":  func(j *ReplaceJob) { j.New.Can.Licence, j.New.Licences = false, []string{"full"} },
		"its dialect has no restart":      func(j *ReplaceJob) { j.New.Can.InPlace, j.New.Can.Restart = true, false },
	} {
		j := replaceJob()
		spoil(j)
		_, err := DraftReplace(j)
		assert.ErrorContains(t, err, says)
	}
}

func TestAReplacementThatRests(t *testing.T) {
	j := replaceJob()
	h := j.FromHere(ReplaceStand{})
	assert.False(t, h.Back)
	assert.Contains(t, h.Why, "old serves as before")

	h = j.FromHere(ReplaceStand{Off: true})
	require.True(t, h.Back)
	assert.Equal(t, []string{"2 Disconnect new", "2 Connect old", "2 Wait for link", "2 Wait for sign-in", "2 Confirm running version", "2 Wait for services", "2 Compare readings", "0 Compare readings, conclude"}, titles(h.Steps))

	h = j.FromHere(ReplaceStand{Off: true, Moved: 2})
	require.True(t, h.Back)
	assert.Equal(t, []string{"2 Disconnect new", "2 Cable p1 back to p2", "2 Cable x1 back to p1", "2 Connect old"}, titles(h.Steps)[:4], "what was moved last goes back first")
	for _, s := range h.Steps {
		assert.True(t, s.Back)
		assert.False(t, Of[HandParams](&s).Cuts)
	}

	j.Dead = true
	assert.False(t, j.FromHere(ReplaceStand{Off: true, Moved: 2}).Back, "there is nothing to go back to")
}

func TestADeviceThatServesAgain(t *testing.T) {
	p := DraftPutBack(replaceJob())
	assert.Equal(t, []string{"1 Disconnect new", "1 Cable p1 back to p3", "1 Cable p1 back to p2", "1 Cable x1 back to p1", "1 Connect old", "1 Wait for link", "1 Wait for sign-in", "1 Confirm running version", "1 Wait for services",
		"0 Compare readings, conclude"}, titles(p.Steps))
	for i, s := range p.Steps {
		assert.Equal(t, i+1, s.Number)
		assert.False(t, s.Back)
	}
}
