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
	"verimorph/core/version"
)

// jobs are changes of any kind of device along any path.
var jobs = rapid.Custom(func(t *rapid.T) Job {
	can := Abilities{InPlace: rapid.Bool().Draw(t, "in place"), Once: rapid.Bool().Draw(t, "once"), Clone: rapid.Bool().Draw(t, "clone"), Unpack: rapid.Bool().Draw(t, "unpack"),
		Drain: rapid.Bool().Draw(t, "drain"), Save: rapid.Bool().Draw(t, "save"), Media: rapid.Bool().Draw(t, "media"), PowerCycle: rapid.Bool().Draw(t, "power cycle"),
		Components: []string{"logic", "portal"}, Parts: []Restored{{Name: "running", Title: "main.ini", Save: rapid.Bool().Draw(t, "save after"), Restart: rapid.Bool().Draw(t, "restart after")}}}
	j := Job{Family: &catalog.Family{}, Can: can, Pace: Pace{Factor: 1}, Path: &path.Path{}}
	if rapid.Bool().Draw(t, "old image") {
		j.Old = func(hop int) *File { return &File{Name: fmt.Sprintf("old%d.img", hop), Size: 10, SHA256: "old"} }
	}
	if rapid.Bool().Draw(t, "clean up") {
		j.CleanUp = []string{"junk.bin"}
	}
	j.Both = !can.InPlace && rapid.Bool().Draw(t, "both")
	lacks := rapid.Bool().Draw(t, "lacks")
	j.Lacks = func(string) bool { return lacks }
	for i := range rapid.IntRange(1, 4).Draw(t, "hops") {
		h := path.Hop{From: version.MustParse(fmt.Sprint(i + 1)), To: version.MustParse(fmt.Sprint(i + 2)), Restarts: 1, Config: catalog.ConfigKept, Image: catalog.Image{File: fmt.Sprintf("i%d.img", i), Size: 100, SHA256: fmt.Sprint("sum", i)}}
		if rapid.Bool().Draw(t, "resets") {
			h.Config = catalog.ConfigReset
		}
		for _, name := range []string{"logic", "portal"} {
			if rapid.Bool().Draw(t, name) {
				h.Components = append(h.Components, path.Component{Name: name, Title: name, To: "2", Low: 1, High: 2, Order: rapid.SampledFrom([]string{"before", "after"}).Draw(t, "order"),
					Trigger: rapid.SampledFrom([]string{catalog.TriggerItself, catalog.TriggerCommand, catalog.TriggerRestart, catalog.TriggerPowerCycle}).Draw(t, "trigger")})
			}
		}
		for _, due := range []string{"before", "after"} {
			if rapid.Bool().Draw(t, "hand "+due) {
				h.HandSteps = append(h.HandSteps, path.HandStep{Due: due, Text: "look " + due, Matters: rapid.SampledFrom([]catalog.Truth{catalog.Yes, catalog.Unknown}).Draw(t, "matters")})
			}
		}
		j.Path.Hops = append(j.Path.Hops, h)
	}
	j.Path.From, j.Path.To = j.Path.Hops[0].From, j.Path.Hops[len(j.Path.Hops)-1].To
	return j
})

// Whatever a device can do and whatever a hop brings: what protects it is there, and stands where it must.
func TestDraftsOfAnyKind(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		j := jobs.Draw(t, "job")
		plan, err := Draft(j)
		require.NoError(t, err)
		hops := len(j.Path.Hops)
		require.Len(t, plan.Back, hops, "a way back, or that there is none, is declared for every hop")
		assert.Equal(t, Readings, plan.Steps[0].Kind)
		assert.Equal(t, Verify, plan.Steps[len(plan.Steps)-1].Kind)
		for i, s := range plan.Steps {
			assert.Equal(t, i+1, s.Number)
			assert.NotEmpty(t, s.Title, s.Kind)
			assert.LessOrEqual(t, s.Expect.Low, s.Expect.High, s.Kind)
			assert.LessOrEqual(t, s.Expect.High, s.Expect.Limit, s.Kind)
			assert.Positive(t, s.Expect.Limit, "%s would wait for ever", s.Kind)
			assert.False(t, s.Back)
			if i > 0 && i < len(plan.Steps)-1 {
				assert.GreaterOrEqual(t, s.Hop, plan.Steps[i-1].Hop, "hop after hop")
			}
		}
		for n := range hops {
			steps := slices.DeleteFunc(slices.Clone(plan.Steps), func(s Step) bool { return s.Hop != n })
			protects(t, j, n, steps)
			waysBack(t, j, plan.Back[n])
		}
	})
}

// at is the first step of a kind, -1 when there is none.
func at(steps []Step, kinds ...Kind) int {
	return slices.IndexFunc(steps, func(s Step) bool { return slices.Contains(kinds, s.Kind) })
}

func protects(t *rapid.T, j Job, n int, steps []Step) {
	h := &j.Path.Hops[n]
	point, backup, check := at(steps, GoNoGo), at(steps, Backup), at(steps, Check)
	touched := slices.IndexFunc(steps, func(s Step) bool { return s.Irreversible() })
	require.GreaterOrEqual(t, check, 0)
	require.Greater(t, backup, check, "nothing is read off a device that is not the right one")
	require.Greater(t, point, backup)
	require.Greater(t, touched, point, "the last look comes before the point of no return")
	for _, k := range []Kind{Send, CleanUp, Component, Install} {
		if i := at(steps, k); i >= 0 {
			assert.Greater(t, i, backup, "%s before the backup", k)
		}
	}
	for i, s := range steps {
		if s.Kind == Checksum || s.Kind == Send {
			assert.NotNil(t, s.File())
		}
		if s.Kind == Send {
			assert.Equal(t, Checksum, steps[i+1].Kind, "what was sent is compared")
			assert.Equal(t, s.File(), steps[i+1].File())
		}
	}
	image := slices.IndexFunc(steps, func(s Step) bool { return s.Kind == Checksum && s.File().Component == "" })
	require.GreaterOrEqual(t, image, 0)
	assert.Less(t, image, at(steps, Install), "nothing is installed that was not compared")
	assert.Greater(t, at(steps, Confirm), touched, "that it runs the new version is seen")
	assert.Greater(t, at(steps, Services), at(steps, Confirm))
	assert.Equal(t, at(steps, Drain) >= 0, at(steps, Undrain) >= 0, "what was drained takes work again")
	assert.Equal(t, j.Can.Drain, at(steps, Drain) > point)
	assert.Equal(t, h.Config == catalog.ConfigReset, at(steps, Convert) >= 0)
	assert.Equal(t, h.Config == catalog.ConfigReset, at(steps, PutPart) > at(steps, Confirm), "what a reset took is put back")
	assert.Equal(t, n == 0 && len(j.CleanUp) > 0, at(steps, CleanUp) >= 0)
	assert.Equal(t, j.Can.Media, at(steps, Send) < 0, "nothing is sent to a device that is fed by hand")
	assert.Equal(t, j.Lacks(""), at(steps, Fetch) >= 0)
	last := n == len(j.Path.Hops)-1
	ahead := at(steps, Prestage)
	assert.Equal(t, !last && !j.Can.Media, ahead >= 0, "the next hop's images travel while services start")
	if ahead >= 0 {
		assert.Less(t, at(steps, Confirm), ahead)
		assert.Less(t, ahead, at(steps, Services))
	}
	other := slices.IndexFunc(steps, func(s Step) bool { return s.OtherSlot() })
	assert.Equal(t, j.Both && last, other >= 0, "the previous installation is overwritten where somebody asked for it, and nowhere else")
	if other >= 0 {
		assert.Less(t, at(steps, Services), at(steps, Settle))
		assert.Less(t, at(steps, Settle), other, "only once the new one has shown itself")
	}
	if !j.Can.Media {
		assert.Greater(t, at(steps, Tidy), other, "what was sent goes last")
	}
	if j.Can.InPlace {
		assert.Equal(t, -1, at(steps, ChooseSlot, Unpack, KeepSlot))
		assert.Equal(t, j.Can.Clone, at(steps, Clone) >= 0)
	} else {
		choose := at(steps, ChooseSlot)
		require.GreaterOrEqual(t, choose, 0)
		assert.Equal(t, j.Can.Once, Of[SlotParams](&steps[choose]).Once)
		assert.Equal(t, j.Can.Once, at(steps, KeepSlot) > at(steps, Confirm), "a slot that is tried is kept once it has shown itself")
		assert.Equal(t, Restart, steps[choose+1].Kind, "nothing comes between the choice and the start")
	}
	for _, c := range h.Components {
		i := slices.IndexFunc(steps, func(s Step) bool { return s.Kind == Component && s.Component() == c.Name })
		require.GreaterOrEqual(t, i, 0)
		assert.Equal(t, c.To, Of[ComponentParams](&steps[i]).Version)
		assert.Equal(t, c.Order == "before", i < point)
	}
	for _, s := range h.HandSteps {
		i := slices.IndexFunc(steps, func(x Step) bool { return x.Kind == Hand && Of[HandParams](&x).Task == s.Text })
		require.GreaterOrEqual(t, i, 0)
		assert.Equal(t, s.Due == "before", i < point)
	}
	for i := touched + 1; i < at(steps, Confirm); i++ {
		assert.False(t, steps[i].SafePoint, "no resting between two installations, before %s", steps[i].Kind)
	}
}

func waysBack(t *rapid.T, j Job, b Back) {
	assert.NotEmpty(t, b.Text)
	switch {
	case !j.Can.InPlace, j.Can.Clone:
		assert.Equal(t, BackBySlot, b.Way)
		assert.Equal(t, ChooseSlot, b.Steps[0].Kind)
	case j.Old != nil:
		assert.Equal(t, BackByReinstall, b.Way)
		assert.Less(t, at(b.Steps, Checksum), at(b.Steps, Install))
		assert.Less(t, at(b.Steps, Confirm), at(b.Steps, PutPart), "its configuration comes back with it")
		assert.Equal(t, "old", b.Steps[at(b.Steps, Install)].File().SHA256)
	default:
		assert.Equal(t, NoWayBack, b.Way)
		assert.Empty(t, b.Steps)
		return
	}
	assert.Equal(t, Verify, b.Steps[len(b.Steps)-1].Kind, "going back has its verdict, too")
	assert.Equal(t, j.Can.Drain, at(b.Steps, Undrain) >= 0)
	for _, s := range b.Steps {
		assert.True(t, s.Back)
		assert.NotEmpty(t, s.Title)
		assert.Positive(t, s.Expect.Limit)
		assert.Equal(t, s.Kind == Hand, s.SafePoint)
		assert.NotContains(t, []Kind{Backup, CleanUp, Clone, Drain}, s.Kind, "going back takes nothing more away")
	}
}

// Where images are started from files the configuration is not theirs: the way back of a hop that converts it puts that of the backup back, too.
func TestTheWayBackOfAnImageThatStays(t *testing.T) {
	hop := func(config string) path.Hop {
		return path.Hop{From: version.MustParse("1"), To: version.MustParse("2"), Config: config, Restarts: 1, Image: catalog.Image{File: "2.img"}}
	}
	kinds := func(b Back) (out []Kind) {
		for _, s := range b.Steps {
			assert.True(t, s.Back)
			out = append(out, s.Kind)
		}
		return out
	}
	draft := func(config string, parts ...Restored) Back {
		plan, err := Draft(Job{Family: &catalog.Family{}, Path: &path.Path{Hops: []path.Hop{hop(config)}}, Pace: Pace{Factor: 1}, Can: Abilities{FromFiles: true, Parts: parts}})
		require.NoError(t, err)
		for _, s := range plan.Steps {
			assert.NotContains(t, []Kind{Install, Unpack, Tidy}, s.Kind)
			if s.Kind == ChooseSlot {
				assert.Equal(t, "2.img", s.File().Name)
			}
		}
		return plan.Back[0]
	}
	running := Restored{Name: "running", Title: "a.cfg", Configuration: true, Save: true}
	kept := draft(catalog.ConfigKept, running)
	assert.Equal(t, []Kind{ChooseSlot, Restart, Link, Login, Confirm, Services, Verify}, kinds(kept))
	converted := draft(catalog.ConfigConverted, running)
	assert.Equal(t, []Kind{ChooseSlot, Restart, Link, Login, Confirm, PutPart, Save, Services, Verify}, kinds(converted))
	assert.Equal(t, "start the image of 1 again, which stays on the device and put the configuration of the backup back", converted.Text)
	assert.Contains(t, draft(catalog.ConfigConverted).Text, "the configuration stays as 2 made it")
	_, err := Draft(Job{Family: &catalog.Family{}, Path: &path.Path{Hops: []path.Hop{hop(catalog.ConfigKept)}}, Both: true, Can: Abilities{FromFiles: true}})
	assert.ErrorContains(t, err, "no second slot")
}
