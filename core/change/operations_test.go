package change

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// able is a device that can do everything.
var able = Abilities{Once: true, Clone: true, Unpack: true, Drain: true, Save: true, Components: []string{"logic"}, Licence: true, Restart: true, PowerCycle: true}

func img(v string) *File {
	return &File{Name: v + ".img", SHA256: "sum" + v, Size: 100, Version: v}
}

func TestActsBecomeSteps(t *testing.T) {
	logic := &File{Name: "logic.bin", SHA256: "l", Size: 10, Component: "logic", Version: "7"}
	for _, c := range []struct {
		name   string
		acts   []Operation
		want   []Kind // between the check and the verdict
		in, to string
		way    string
	}{
		{"a backup", []Operation{{Kind: Backup}}, []Kind{Backup}, "1", "1", BackNotNeeded},
		{"sent ahead", []Operation{{Kind: Send, Params: FileParams{File: img("2")}}}, []Kind{Send, Checksum}, "1", "1", BackNotNeeded},
		{"one that is still to be fetched", []Operation{{Kind: Send, Params: FileParams{File: img("9")}}}, []Kind{Fetch, Send, Checksum}, "1", "1", BackNotNeeded},
		{"looked at once more", []Operation{{Kind: Checksum, Params: FileParams{File: img("9")}}}, []Kind{Checksum}, "1", "1", BackNotNeeded},
		{"installed, not started", []Operation{{Kind: Install, Params: InstallParams{File: img("2")}}}, []Kind{Send, Checksum, Install, Unpack}, "2", "1", BackNotNeeded},
		{"installed and started", []Operation{{Kind: Install, Params: InstallParams{File: img("2")}}, {Kind: ChooseSlot}, {Kind: Restart}}, []Kind{Send, Checksum, Install, Unpack, GoNoGo, ChooseSlot, Restart, Link, Login, Confirm, Services}, "2", "2", BackBySlot},
		{"chosen for the next night", []Operation{{Kind: ChooseSlot}}, []Kind{GoNoGo, ChooseSlot}, "0", "1", BackNotNeeded},
		{"drained around a restart", []Operation{{Kind: Drain}, {Kind: Restart}, {Kind: Undrain}}, []Kind{Drain, GoNoGo, Restart, Link, Login, Confirm, Services, Undrain}, "1", "1", BackNotNeeded},
		{"a part and its power", []Operation{{Kind: Component, Params: ComponentParams{Component: "logic", File: logic}}, {Kind: PowerCycle, Params: PowerParams{Component: "logic"}}}, []Kind{Send, Checksum, Component, PowerCycle}, "1", "1", BackNotNeeded},
		{"odds and ends", []Operation{{Kind: CleanUp, Params: CleanUpParams{Files: []string{"x"}}}, {Kind: Licence, Params: LicenceParams{Licence: "full"}}, {Kind: Clone}, {Kind: Save}, {Kind: Hand, Params: HandParams{Task: "look"}}}, []Kind{CleanUp, Licence, Clone, Save, Hand}, "1", "1", BackNotNeeded},
	} {
		plan, in, to, err := DraftOperations(OperationsJob{Can: able, Pace: Pace{Factor: 1}, From: "1", Idle: "0", Lacks: func(sum string) bool { return sum == "sum9" }, Operations: c.acts})
		require.NoError(t, err, c.name)
		kinds := kindsOf(plan.Steps)
		assert.Equal(t, append(append([]Kind{Readings, Check}, c.want...), Verify), kinds, c.name)
		assert.Equal(t, [3]string{c.in, c.to, c.way}, [3]string{in, to, plan.Back[0].Way}, c.name)
		assert.Equal(t, c.way == BackBySlot, plan.Back[0].Leads())
		for i, s := range plan.Steps {
			assert.Equal(t, i+1, s.Number)
			assert.NotEmpty(t, s.Title)
			assert.Positive(t, s.Expect.Limit)
			if s.Kind == PowerCycle {
				assert.Equal(t, "7", Of[PowerParams](&s).Version, "it is known what has to be there after the power was off")
			}
		}
	}
}

func TestActsThatCannotBe(t *testing.T) {
	chosen := []Operation{{Kind: ChooseSlot}, {Kind: Save}, {Kind: Restart}}
	for _, c := range []struct {
		can  Abilities
		idle string
		acts []Operation
		says string
	}{
		{able, "0", nil, "nothing to do"},
		{able, "0", []Operation{{Kind: Verify}}, "cannot stand alone"},
		{able, "0", []Operation{{Kind: Restart}, {Kind: Restart}}, "once in a change"},
		{able, "0", chosen, "a restart has to follow it at once"},
		{able, "0", []Operation{{Kind: Restart}, {Kind: ChooseSlot}}, "a restart has to follow it at once"},
		{able, "", []Operation{{Kind: ChooseSlot}}, "the other slot holds nothing"},
		{able, "0", []Operation{{Kind: ChooseSlot}, {Kind: Restart}, {Kind: Install, Params: InstallParams{File: img("2")}}}, "has to come before choose-slot"},
		{able, "0", []Operation{{Kind: ChooseSlot}, {Kind: Clone}}, "has to come before choose-slot"},
		{able, "0", []Operation{{Kind: Clone}, {Kind: ChooseSlot}}, "the copy is of what runs already"},
		{able, "0", []Operation{{Kind: Component, Params: ComponentParams{Component: "moon", File: img("1")}}}, "no component moon"},
		{Abilities{InPlace: true}, "", []Operation{{Kind: Install, Params: InstallParams{File: img("2")}}}, "no second slot"},
		{Abilities{InPlace: true}, "", []Operation{{Kind: Restart}}, "no restart"},
		{Abilities{Media: true}, "", []Operation{{Kind: Send, Params: FileParams{File: img("2")}}}, "carried in on a medium"},
		{Abilities{}, "", []Operation{{Kind: Drain}}, "no drain"},
		{Abilities{}, "", []Operation{{Kind: Licence, Params: LicenceParams{Licence: "x"}}}, "no add-licence"},
		{Abilities{}, "", []Operation{{Kind: Save}}, "no save"},
		{Abilities{}, "", []Operation{{Kind: Clone}}, "no clone"},
		{Abilities{}, "", []Operation{{Kind: PowerCycle}}, "no power-cycle"},
		{Abilities{}, "0", []Operation{{Kind: ChooseSlot, Params: SlotParams{Once: true}}}, "no choose-slot-once"},
	} {
		_, _, _, err := DraftOperations(OperationsJob{Can: c.can, Pace: Pace{Factor: 1}, From: "1", Idle: c.idle, Operations: c.acts})
		assert.ErrorContains(t, err, c.says)
	}
	_, _, _, err := DraftOperations(OperationsJob{Can: able, Pace: Pace{Factor: 1}, From: "1", Idle: "0", Next: "0", Operations: []Operation{{Kind: Restart}}})
	assert.ErrorContains(t, err, "the next start is from the slot with 0, not from the one that runs 1")
	_, _, to, err := DraftOperations(OperationsJob{Can: able, Pace: Pace{Factor: 1}, From: "1", Idle: "0", Next: "0", Operations: []Operation{{Kind: ChooseSlot}, {Kind: Restart}}})
	require.NoError(t, err)
	assert.Equal(t, "0", to)
}

// Whatever is put together: it begins with a look and ends with a verdict, nothing is started or chosen without the last look right
// before, and what runs afterwards changes only where a slot is chosen and started.
func TestActsOfAnyKind(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		acts := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Operation {
			switch o := (Operation{Kind: rapid.SampledFrom(Operations()).Draw(t, "kind").Kind}); o.Kind.Spec().Alone.Takes {
			case TakesImage:
				o.Params = map[Kind]Params{Send: FileParams{File: img("2")}, Checksum: FileParams{File: img("2")}, Install: InstallParams{File: img("2")}, Component: ComponentParams{Component: "logic", File: img("2")}}[o.Kind]
				return o
			case TakesOnce:
				o.Params = SlotParams{Once: rapid.Bool().Draw(t, "once")}
				return o
			default:
				return o
			}
		}), 1, 7).Draw(t, "acts")
		plan, in, to, err := DraftOperations(OperationsJob{Can: able, Pace: Pace{Factor: 1}, From: "1", Idle: "0", Operations: acts})
		if err != nil {
			return
		}
		kinds := kindsOf(plan.Steps)
		require.Equal(t, []Kind{Readings, Check}, kinds[:2])
		require.Equal(t, Verify, kinds[len(kinds)-1])
		for i, s := range plan.Steps {
			if s.Kind == ChooseSlot {
				assert.Equal(t, GoNoGo, kinds[i-1])
			}
			if s.Kind == Restart && kinds[i-1] != ChooseSlot {
				assert.Equal(t, GoNoGo, kinds[i-1])
			}
			if s.Kind == Install {
				assert.Equal(t, Checksum, kinds[i-1], "nothing is installed that was not compared")
			}
		}
		started := slices.Contains(kinds, ChooseSlot) && slices.Contains(kinds, Restart)
		assert.Equal(t, started, plan.Back[0].Leads())
		if started {
			assert.Equal(t, in, to)
		} else {
			assert.Equal(t, "1", to)
		}
	})
}

// Every kind has a title that fits its column, and none of two kinds are the same.
func TestTitlesFit(t *testing.T) {
	seen := map[string]Kind{}
	for _, s := range Kinds {
		kind, title := s.Kind, s.Title
		assert.NotEmpty(t, title, kind)
		assert.LessOrEqual(t, len(title), 30, "%s: %s", kind, title)
		assert.Empty(t, seen[title], "%s and %s are called the same", kind, seen[title])
		seen[title] = kind
	}
}

// Ways back that lead somewhere have steps; what is not needed and what is not known have none.
func TestWaysThatLead(t *testing.T) {
	for way, leads := range map[string]bool{BackBySlot: true, BackByReinstall: true, BackNotNeeded: false, NoWayBack: false} {
		b := Back{Way: way}
		assert.Equal(t, leads, b.Leads(), way)
	}
	plan, _, _, err := DraftOperations(OperationsJob{Can: able, Pace: Pace{Factor: 1}, From: "1", Idle: "0", Operations: []Operation{{Kind: ChooseSlot}, {Kind: Restart}}})
	require.NoError(t, err)
	require.NotEmpty(t, plan.Back[0].Steps)
	for _, s := range plan.Back[0].Steps {
		assert.True(t, s.Back)
		assert.False(t, s.SafePoint, "there is no resting on the way back")
	}
	plan, _, _, err = DraftOperations(OperationsJob{Can: able, Pace: Pace{Factor: 1}, From: "1", Idle: "0", Operations: []Operation{{Kind: Restart}}})
	require.NoError(t, err)
	assert.Empty(t, plan.Back[0].Steps)
}
