package change

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/prove"
)

// manned is a device with n units, of which one is active, along some versions.
func manned(n, active int, versions ...string) Job {
	j := bySlots(versions...)
	j.Can.Once = true
	j.Can.Units = UnitAbilities{Told: true, Spread: true, Restart: true, HandOver: true, Components: true}
	for i := range n {
		j.Units = append(j.Units, UnitOf{Name: fmt.Sprint(i + 1), Active: i+1 == active})
	}
	return j
}

// unitKinds are the kinds of steps that matter between units.
func unitKinds(steps []Step) (out []string) {
	for _, s := range steps {
		if s.Kind.Is(Spread, ChooseSlot, Restart, RestartUnits, HandOver, Settle, AwaitUnits) {
			out = append(out, string(s.Kind)+string(Of[UnitParams](&s).Units))
		}
	}
	return out
}

func TestUnitsGoOneAfterTheOther(t *testing.T) {
	for n := 2; n <= 8; n++ {
		for active := 1; active <= n; active += n - 1 {
			plan, err := Draft(manned(n, active, "1", "2", "3"))
			require.NoError(t, err)
			hop := []string{"spread", "choose-slot", "restart-unitsone", "hand-over", "settle", "restart-unitsrest", "units"}
			assert.Equal(t, slices.Concat(hop, hop), unitKinds(plan.Steps))
			assert.True(t, plan.Units.Proof.Proved, "%d units, %d active: %+v", n, active, plan.Units.Proof)
			assert.Empty(t, plan.Units.Dark)
			for _, s := range plan.Steps {
				assert.False(t, s.Once() || s.Kind == KeepSlot, "the next start only would be that of the first unit")
			}
			assert.Equal(t, []string{"choose-slot", "restart-unitsone", "hand-over", "restart-unitsrest", "units"}, unitKinds(plan.Back[0].Steps))
		}
	}
}

// Together where they are told to, where versions do not get on, and where the device cannot do otherwise: the plan says so, hop by hop.
func TestUnitsThatRestartTogether(t *testing.T) {
	whole := []string{"spread", "choose-slot", "restart", "units"}
	for name, edit := range map[string]func(*Job){
		"told to":         func(j *Job) { j.AtOnce = true },
		"no hand-over":    func(j *Job) { j.Can.Units.HandOver = false },
		"no restart-unit": func(j *Job) { j.Can.Units.Restart = false },
		"nobody serves":   func(j *Job) { j.Units[0].Active = false },
	} {
		j := manned(4, 1, "1", "2")
		edit(&j)
		plan, err := Draft(j)
		require.NoError(t, err)
		assert.Equal(t, whole, unitKinds(plan.Steps), name)
		assert.Equal(t, []int{0}, plan.Units.Dark, name)
		assert.True(t, plan.Units.Proof.Proved, "%s: %+v", name, plan.Units.Proof)
	}
	j := manned(4, 1, "1", "2", "3")
	j.GetOn = func(a, b string) bool { return a == b || a == "1" && b == "2" || a == "2" && b == "1" }
	plan, err := Draft(j)
	require.NoError(t, err)
	assert.Equal(t, []int{1}, plan.Units.Dark, "1 and 2 may run side by side, 2 and 3 may not")
	assert.True(t, plan.Units.Proof.Proved, "%+v", plan.Units.Proof)
	plan, err = Draft(manned(1, 1, "1", "2"))
	require.NoError(t, err)
	assert.Nil(t, plan.Units)
	assert.Equal(t, []string{"choose-slot", "restart"}, unitKinds(plan.Steps))
}

// Every mutation of the order is caught.
func TestMutationsOfUnits(t *testing.T) {
	j := manned(4, 1, "1", "2")
	plan, err := Draft(j)
	require.NoError(t, err)
	proof := func(steps []Step) *prove.Violation {
		w := unitWalk{j: &j, active: 0}
		return prove.Check(w.plan(steps)).Broken
	}
	assert.Nil(t, proof(plan.Steps))
	without := func(kind Kind) []Step {
		return slices.DeleteFunc(slices.Clone(plan.Steps), func(s Step) bool { return s.Kind == kind })
	}
	for _, kind := range []Kind{Settle} {
		assert.NotNil(t, proof(without(kind)), "without %s", kind)
	}
	first := slices.IndexFunc(plan.Steps, func(s Step) bool { return s.Kind == RestartUnits })
	swapped := slices.Clone(plan.Steps)
	swapped[first].Params, swapped[first+5].Params = UnitParams{RestOfUnits}, UnitParams{OneUnit}
	assert.NotNil(t, proof(swapped), "all that stand by before one has shown itself")
	together := slices.Clone(plan.Steps)
	together[first] = j.step(0, Restart)
	together[first].Number = plan.Steps[first].Number
	assert.NotNil(t, proof(together), "all at once in a plan that does not say so")
}

// Components that each unit has of its own go with the units: those of the one that goes first before it starts anew, the others later.
func TestComponentsOfUnits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		j := jobs.Draw(t, "job")
		n := rapid.IntRange(2, 5).Draw(t, "units")
		j.Can.Units = UnitAbilities{Told: true, Restart: rapid.Bool().Draw(t, "restart"), HandOver: true, Components: rapid.Bool().Draw(t, "components")}
		for i := range n {
			j.Units = append(j.Units, UnitOf{Name: fmt.Sprint(i + 1), Active: i == 0, Components: []string{"logic"}})
		}
		plan, err := Draft(j)
		require.NoError(t, err)
		require.True(t, plan.Units.Proof.Proved, "%+v", plan.Units.Proof)
		for hop := range j.Path.Hops {
			rolls := !slices.Contains(plan.Units.Dark, hop)
			standby, rest := 0, 0
			for _, s := range plan.Steps {
				if s.Kind == Component && s.Hop == hop && s.Component() == "logic" {
					switch Of[ComponentParams](&s).Units {
					case StandbyUnits:
						standby++
					case RestOfUnits:
						rest++
					case AnyUnits:
						require.False(t, j.Can.Units.Components, "a component of units is updated on units")
					}
				}
			}
			require.Equal(t, standby, rest, "what the first one gets, the others get")
			require.True(t, rolls || standby == 0)
		}
	})
}

// In no wave are all of a place that has several, everybody is in one, and nobody goes twice.
func TestWaves(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var all []ChildOf
		for i := range rapid.IntRange(0, 60).Draw(t, "children") {
			all = append(all, ChildOf{Name: fmt.Sprint(i), Place: rapid.SampledFrom([]string{"", "a", "b", "c"}).Draw(t, "place")})
		}
		in, places := map[string]int{}, map[string]int{}
		for _, c := range all {
			places[c.Place]++
		}
		waves := Waves(all, false)
		for w, names := range waves {
			away := map[string]int{}
			for _, name := range names {
				in[name]++
				i := slices.IndexFunc(all, func(c ChildOf) bool { return c.Name == name })
				away[all[i].Place]++
			}
			for place, n := range away {
				require.False(t, n == places[place] && n > 1, "wave %d takes all %d of %q", w+1, n, place)
				require.False(t, places[place] == 1 && w < len(waves)-1, "who is alone goes last")
			}
		}
		for _, c := range all {
			require.Equal(t, 1, in[c.Name], c.Name)
		}
		require.Len(t, Waves(all, true), len(all))
	})
}

// An image goes onto the children of its model, and onto nobody else; where there is none of that model, nothing is drafted.
func TestAnImageForChildren(t *testing.T) {
	file := &File{Name: "b.img", Version: "2", Model: "B"}
	a := OperationsJob{Can: Abilities{Children: ChildAbilities{Told: true, Preload: true, Files: true, Restart: true}}, Pace: Pace{Factor: 1}, From: "1",
		Children: []ChildOf{{Name: "a1", Model: "A"}, {Name: "b1", Model: "B"}, {Name: "b2", Model: "B"}}, Operations: []Operation{{RestartChildren, ChildParams{File: file}}}}
	plan, _, _, err := DraftOperations(a)
	require.NoError(t, err)
	var told []string
	for _, s := range plan.Steps {
		if s.Kind.Is(Preload, RestartChildren, AwaitChildren) {
			p := Of[ChildParams](&s)
			require.Equal(t, file, p.File)
			told = append(told, fmt.Sprint(s.Kind, p.Names))
		}
	}
	assert.Equal(t, []string{"preload[b1 b2]", "restart-children[b1]", "restart-children[b2]", "children[b1 b2]"}, told)
	a.Children = a.Children[:1]
	_, _, _, err = DraftOperations(a)
	assert.ErrorContains(t, err, "b.img is for no model that follows the device; refresh the device if one does by now")
}

func TestStatedSerials(t *testing.T) {
	stated := []string{"AP31-0007", "AP31-0100..AP31-0199", "9..12"}
	for serial, want := range map[string]bool{"AP31-0007": true, "AP31-0100": true, "AP31-0199": true, "AP31-0200": false, "AP31-150": false, "AP31-00150": false, "XP31-0150": false,
		"AP31-015x": false, "": false, "10": false, "9": true} {
		assert.Equal(t, want, SerialIn(serial, stated), serial)
	}
	assert.NoError(t, CheckSerials(stated[:2]))
	for _, bad := range []string{"", "a b", "A1..B2", "A5..A3", "A1..A10", "x..y", "..", "A1..", strings70} {
		assert.Error(t, CheckSerials([]string{bad}), bad)
	}
}

const strings70 = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"
