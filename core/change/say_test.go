package change

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/version"
)

func TestSpans(t *testing.T) {
	span := func(low, high, limit float64) catalog.Span {
		return catalog.Span{Low: low, High: high, Limit: limit}
	}
	near := func(want, got catalog.Span) {
		t.Helper()
		assert.InDeltaSlice(t, []float64{want.Low, want.High, want.Limit}, []float64{got.Low, got.High, got.Limit}, 1e-9)
	}
	near(span(10, 20, 300), Pace{Factor: 1}.Scale(span(10, 20, 300)))
	near(span(1, 2.4, 30.4), Pace{Factor: 10}.Scale(span(10, 20, 300)))
	near(span(1, 2.4, 15), Pace{Factor: 10}.Scale(span(10, 20, 100)))
	near(span(1, 2.4, 40), Pace{Factor: 10, Floor: 40}.Scale(span(10, 20, 300)))
	near(span(1, 52, 3100), fetchSpan(125e6))
	near(span(10, 20, 200), sendSpan(catalog.Rate{Low: 10, High: 20}, 200))
	near(span(0.5, 1, 60), sendSpan(catalog.Rate{Low: 10, High: 20}, 10))
	near(fallback, sendSpan(catalog.Rate{High: 20}, 10))
}

func TestLists(t *testing.T) {
	for want, names := range map[string][]string{"": nil, "a": {"a"}, "a and b": {"a", "b"}, "a, b and c": {"a", "b", "c"}} {
		assert.Equal(t, want, list(names))
	}
}

// What each step of a hop with a base image, a component that is cycled by hand or by command, licences and old files names.
func TestWhatStepsName(t *testing.T) {
	v := version.MustParse
	hop := func(from, to string) path.Hop {
		return path.Hop{From: v(from), To: v(to), Restarts: 1, Config: catalog.ConfigKept, Image: catalog.Image{File: to + ".img", Size: 100, SHA256: "sum" + to}}
	}
	one := hop("1", "2")
	one.Others = []path.OtherImage{{Image: catalog.Image{File: "base.img", SHA256: "b", Size: 10}, Role: "base", Version: "2"}, {Image: catalog.Image{File: "logic.bin", SHA256: "l", Size: 10}, Role: "logic", Version: "7"}}
	one.Components = []path.Component{
		{Name: "logic", Title: "port logic", To: "7", Low: 10, High: 200, Order: "before", Trigger: catalog.TriggerPowerCycle, Restarts: "the line cards"},
		{Name: "portal", Title: "the portal", To: "3", Low: 10, High: 50, Order: "after", Trigger: catalog.TriggerItself},
	}
	job := func(can Abilities) Job {
		can.Components, can.Licence = []string{"logic"}, true
		return Job{Family: &catalog.Family{}, Path: &path.Path{From: v("1"), To: v("3"), Hops: []path.Hop{one, hop("2", "3")}}, Can: can, Pace: Pace{Factor: 1},
			Licences: []string{"full"}, CleanUp: []string{"junk.bin"}}
	}
	plan, err := Draft(job(Abilities{PowerCycle: true}))
	require.NoError(t, err)
	assert.Equal(t, -1, plan.Steps[0].Hop, "readings belong to no hop")
	var told []string
	of := func(kind Kind) (out []Step) {
		for _, s := range plan.Steps {
			if s.Kind == kind {
				out = append(out, s)
			}
		}
		return out
	}
	for _, s := range of(Send) {
		told = append(told, s.Title+": "+s.File().Name+" for "+s.File().Component)
	}
	assert.Equal(t, []string{"Send logic.bin: logic.bin for logic", Send.Spec().Title + ": 2.img for ", Send.Spec().Title + ": base.img for ", Send.Spec().Title + ": 3.img for "}, told)
	assert.Len(t, of(Licence), 1, "a licence is added once")
	assert.Len(t, of(CleanUp), 1)
	component := of(Component)
	assert.Equal(t, []string{"Update port logic", "Wait for the portal"}, []string{component[0].Title, component[1].Title})
	assert.Equal(t, "logic.bin", component[0].File().Name)
	assert.Nil(t, component[1].File(), "the main image brings it")
	assert.Equal(t, []float64{600, 300}, []float64{component[0].Expect.Limit, component[1].Expect.Limit})
	cycle := of(PowerCycle)
	require.Len(t, cycle, 1)
	assert.Equal(t, []string{"Power off and on: the line cards", "7"}, []string{cycle[0].Title, Of[PowerParams](&cycle[0]).Version})
	assert.Empty(t, of(Hand))

	plan, err = Draft(job(Abilities{}))
	require.NoError(t, err)
	assert.True(t, Of[PowerParams](&of(PowerCycle)[0]).ByHand)
	assert.Equal(t, "switch the line cards off and on, so that port logic takes effect", Of[HandParams](&of(Hand)[0]).Task)

	for _, s := range plan.Back[0].Steps {
		assert.Equal(t, s.Kind == ChooseSlot, s.Title == "Choose the slot that ran before", s.Kind)
	}
	assert.Empty(t, Beyond(Abilities{Components: []string{"logic"}}, &one))
	assert.Equal(t, "the hop from 1 to 2 brings port logic along, and its dialect does not say how, which a change cannot carry out on such a device", Beyond(Abilities{}, &one))
}

// What belongs to no hop says so, and a configuration can be the first part that is put.
func TestStepsOfNoHop(t *testing.T) {
	acts, _, _, err := DraftOperations(OperationsJob{Can: able, Pace: Pace{Factor: 1}, From: "1", Idle: "0", Operations: []Operation{{Kind: Backup}}})
	require.NoError(t, err)
	running := []Restored{{Name: "running", Title: "a.cfg", Configuration: true}}
	back, err := DraftBack(nil, Abilities{Parts: running}, Pace{Factor: 1}, nil, "2", "1", "", true)
	require.NoError(t, err)
	restore, err := DraftRestore(nil, running, true, Pace{Factor: 1})
	require.NoError(t, err)
	assert.Equal(t, []int{-1, -1, -1}, []int{acts.Steps[0].Hop, back.Steps[0].Hop, restore[slices.Index(kindsOf(restore), Validate)].Hop})
}
