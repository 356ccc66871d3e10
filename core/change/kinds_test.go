package change

import (
	"encoding/json"
	"reflect"
	"testing"

	"verimorph/core/catalog"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Every row of the registry holds together, and each kind has one.
func TestRegistryOfKinds(t *testing.T) {
	seen := map[Kind]bool{}
	for i := range Kinds {
		s := &Kinds[i]
		assert.False(t, seen[s.Kind], "%s is described twice", s.Kind)
		seen[s.Kind] = true
		assert.Same(t, s, s.Kind.Spec())
		assert.Equal(t, s.Kind.Is(Send, Fetch, Component, Prestage, RestartUnits), s.Moves, "%s: how long a file travels tells nothing about another one; how long a start takes does", s.Kind)
		assert.Equal(t, s.Kind.Is(Restart, RestartUnits, HandOver, AwaitUnits, Link, Login, Confirm, KeepSlot, Readings, JoinController), s.NoRest, s.Kind)
		assert.Equal(t, s.Kind.Is(ChooseSlot, Restart, RestartUnits, Install, BecomeManaged, ReleaseChild, Hand, PutPart), s.Irreversible != nil, s.Kind)
		assert.True(t, s.Writes || !s.Loses && (s.Irreversible == nil || s.Kind == Hand) && !s.OnlyOnce, "%s loses or starts something, so it writes", s.Kind)
		if s.Irreversible != nil {
			assert.False(t, s.Kind == Hand && s.Irreversible(s.Params.Zero), "what hands do cuts nothing off unless it says so")
			s.Irreversible(s.Params.Zero)
		}
		if s.Alone == nil {
			continue
		}
		assert.NotEmpty(t, s.Alone.Help, s.Kind)
		switch s.Alone.Takes {
		case TakesNothing:
			assert.True(t, s.Params == nil || s.Kind == Restart, "%s has parameters that nobody gives", s.Kind)
		case TakesImage, TakesFiles, TakesPart, TakesLicence, TakesText, TakesOnce, TakesSlot, TakesName:
			require.NotNil(t, s.Params, s.Kind)
		default:
			t.Errorf("%s takes %q, which nobody knows", s.Kind, s.Alone.Takes)
		}
	}
	unknown := Kind("fly").Spec()
	assert.Equal(t, "fly", unknown.Title)
	assert.False(t, (&Step{Kind: "fly"}).Irreversible())
}

func TestIrreversible(t *testing.T) {
	for _, c := range []struct {
		s    Step
		want bool
	}{
		{Step{Kind: ChooseSlot, Params: SlotParams{Once: true}}, true},
		{Step{Kind: Restart, Params: RestartParams{}}, true},
		{Step{Kind: Restart, Params: RestartParams{"logic"}}, false},
		{Step{Kind: Install, Params: InstallParams{}}, false},
		{Step{Kind: Install, Params: InstallParams{InPlace: true}}, true},
		{Step{Kind: Backup}, false},
	} {
		assert.Equal(t, c.want, c.s.Irreversible(), "%+v", c.s)
	}
}

// drawParams draws parameters of a kind.
func drawParams(t *rapid.T, k Kind) Params {
	spec := k.Spec()
	if spec.Params == nil {
		return nil
	}
	v := reflect.New(reflect.TypeOf(spec.Params.Zero)).Elem()
	for i := range v.NumField() {
		switch f := v.Field(i); f.Interface().(type) {
		case string:
			f.SetString(rapid.StringMatching(`[a-z]{0,5}`).Draw(t, "text"))
		case UnitScope:
			f.Set(reflect.ValueOf(rapid.SampledFrom([]UnitScope{AnyUnits, OneUnit, RestOfUnits}).Draw(t, "units")))
		case bool:
			f.SetBool(rapid.Bool().Draw(t, "flag"))
		case []string:
			f.Set(reflect.ValueOf(rapid.SliceOfN(rapid.StringMatching(`[a-z]{1,5}`), 1, 3).Draw(t, "names")))
		case *File:
			if rapid.Bool().Draw(t, "file") {
				f.Set(reflect.ValueOf(&File{Name: "a.img", SHA256: "s", Size: 7, Component: rapid.SampledFrom([]string{"", "logic"}).Draw(t, "component"), Version: "2"}))
			}
		default:
			t.Fatalf("a field of type %s cannot be drawn", f.Type())
		}
	}
	return v.Interface().(Params)
}

// What is stored is read back as it was, and stays as it is when it is upgraded once more.
func TestStoredSteps(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		k := rapid.SampledFrom(Kinds).Draw(t, "kind").Kind
		s := Step{Number: 3, Member: rapid.IntRange(0, 4).Draw(t, "member"), After: rapid.SampledFrom([][]int{nil, {1}, {1, 2}}).Draw(t, "after"), Hop: rapid.IntRange(-2, 3).Draw(t, "hop"), Kind: k, Title: "x", Expect: catalog.Span{Low: 1, High: 2.5, Limit: 9}, SafePoint: rapid.Bool().Draw(t, "safe"), Back: rapid.Bool().Draw(t, "back"), Params: drawParams(t, k)}
		data, err := json.Marshal(s)
		require.NoError(t, err)
		var got Step
		require.NoError(t, json.Unmarshal(data, &got))
		require.Equal(t, s, got)
		again, err := Upgrade(data)
		require.NoError(t, err)
		require.Equal(t, data, again)
	})
	var s Step
	require.NoError(t, json.Unmarshal([]byte(`{"number":1,"kind":"fly","params":{"high":true}}`), &s), "whoever carries it out refuses it")
	assert.Nil(t, s.Params)
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"number":1,"kind":"hand","params":{"task":7}}`), &s), `the parameters of a step "hand" cannot be read`)
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"number":"1"}`), &s), "number")
}

// Steps of format 1, as a database of the previous version holds them.
func TestUpgradeOfSteps(t *testing.T) {
	file := &File{Name: "2.img", SHA256: "s", Size: 9, Version: "2"}
	for old, want := range map[string]Step{
		`{"Number":1,"Hop":-1,"Kind":"readings","Title":"Take readings before","Expect":{"Low":1,"High":2,"Limit":3},"StopsBefore":false}`: {Number: 1, Member: 1, Hop: -1, Kind: Readings, Title: "Take readings before", Expect: catalog.Span{Low: 1, High: 2, Limit: 3}},
		`{"Number":2,"Kind":"point","Title":"Check before no return","StopsBefore":true}`:                                                  {Number: 2, Member: 1, Kind: GoNoGo, Title: "Go/no-go check", SafePoint: true},
		`{"Number":3,"Kind":"ahead","Title":"Send ahead for the next hop"}`:                                                                {Number: 3, Member: 1, Kind: Prestage, Title: "Prestage for the next hop"},
		`{"Number":4,"Kind":"send","Title":"Send image","File":{"Name":"2.img","SHA256":"s","Size":9,"Version":"2"}}`:                      {Number: 4, Member: 1, Kind: Send, Title: "Send image", Params: FileParams{File: file}},
		`{"Number":4,"Kind":"checksum","Title":"t","Media":true}`:                                                                          {Number: 4, Member: 1, Kind: Checksum, Title: "t", Params: FileParams{Medium: true}},
		`{"Number":5,"Kind":"power","Title":"Wait for logic","Part":"logic","Wants":"7","Text":"hand"}`:                                    {Number: 5, Member: 1, Kind: PowerCycle, Title: "Wait for logic", Params: PowerParams{"logic", "7", true}},
		`{"Number":6,"Kind":"install","Title":"t","InPlace":true,"Other":true,"Back":true}`:                                                {Number: 6, Member: 1, Kind: Install, Title: "t", Back: true, Params: InstallParams{InPlace: true, OtherSlot: true}},
		`{"Number":7,"Kind":"component","Title":"t","Part":"logic","Wants":"7"}`:                                                           {Number: 7, Member: 1, Kind: Component, Title: "t", Params: ComponentParams{Component: "logic", Version: "7"}},
		`{"Number":8,"Kind":"restart","Title":"t","Part":"logic"}`:                                                                         {Number: 8, Member: 1, Kind: Restart, Title: "t", Params: RestartParams{"logic"}},
		`{"Number":9,"Kind":"hand","Title":"t","Text":"look"}`:                                                                             {Number: 9, Member: 1, Kind: Hand, Title: "t", Params: HandParams{Task: "look"}},
		`{"Number":9,"Kind":"put-part","Title":"t","Part":"running"}`:                                                                      {Number: 9, Member: 1, Kind: PutPart, Title: "t", Params: PartParams{Part: "running"}},
		`{"Number":9,"Kind":"licence","Title":"t","Part":"full"}`:                                                                          {Number: 9, Member: 1, Kind: Licence, Title: "t", Params: LicenceParams{"full"}},
		`{"Number":9,"Kind":"choose-slot","Title":"t","Once":true}`:                                                                        {Number: 9, Member: 1, Kind: ChooseSlot, Title: "t", Params: SlotParams{Once: true}},
		`{"Number":9,"Kind":"clean-up","Title":"t","Names":["x"]}`:                                                                         {Number: 9, Member: 1, Kind: CleanUp, Title: "t", Params: CleanUpParams{[]string{"x"}}},
	} {
		data, err := Upgrade([]byte(old))
		require.NoError(t, err)
		var got Step
		require.NoError(t, json.Unmarshal(data, &got), "%s", data)
		assert.Equal(t, want, got, old)
	}
	_, err := Upgrade([]byte(`[]`))
	assert.Error(t, err)
}

// What was asked for with a change of the previous version can be asked for again.
func TestUpgradeOfWishes(t *testing.T) {
	for _, c := range []struct {
		kind, old string
		want      Wish
	}{
		{Firmware, `{"device":"fw","to":"preferred","reset":true,"services":["tunnels"],"cleanUp":["x"],"licences":[{"key":"","name":"full"}],"both":true,"comesBackAt":"192.0.2.7:22"}`,
			Wish{Device: "fw", Aim: Aim{To: "preferred", Reset: true, Services: []string{"tunnels"}}, CleanUp: []string{"x"}, Licences: []string{"full"}, Both: true, ComesBackAt: "192.0.2.7:22"}},
		{SingleOperations, `{"device":"fw","to":"acts","acts":[{"kind":"send","file":"2.img"},{"kind":"choose-slot","once":true}]}`,
			Wish{Device: "fw", Aim: Aim{To: "acts"}, Operations: []Asked{{Kind: Send, File: "2.img"}, {Kind: ChooseSlot, Once: true}}}},
		{Return, `{"device":"fw","to":"","back":true,"carry":true}`, Wish{Device: "fw", Back: true, Carry: true}},
		{Restoring, `{"device":"fw","parts":["running"],"conversion":4,"expectNewHostKey":true}`, Wish{Restore: &RestoreWish{Backup: 7, Device: "fw", Parts: []string{"running"}, Conversion: 4, ExpectNewHostKey: true}}},
	} {
		data, err := UpgradeWish(c.kind, 7, []byte(c.old))
		require.NoError(t, err)
		var got Wish
		require.NoError(t, json.Unmarshal(data, &got))
		c.want.Format = WishFormat
		assert.Equal(t, c.want, got)
		again, err := UpgradeWish(c.kind, 7, data)
		require.NoError(t, err)
		assert.Equal(t, data, again)
	}
	_, err := UpgradeWish(Firmware, 0, []byte("["))
	assert.Error(t, err)
}
