package server

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/core/change"
	"verimorph/core/ready"
	"verimorph/store"
)

// What a change shows of its terms and checks is what its record says.
func TestTermsOfAChange(t *testing.T) {
	checks := []ready.Check{{Name: "room", State: ready.Warn, Evidence: "little"}, {Name: "reach", State: ready.Pass}}
	c := store.Change{BackPolicy: change.Automatic, Checks: checks, Accepted: []store.Acceptance{{Check: "room", By: "mate", Reason: "it will do"}, {Check: "reach", By: "mate", Reason: "no matter"}}}
	var out gen.Change
	apiTerms(&out, &c)
	apiChecks(&out, &c)
	assert.Equal(t, gen.TermsWayBackAutomatic, *out.Terms.WayBack)
	assert.Nil(t, out.WaitsUntil)
	require.Len(t, *out.Checks, 2)
	assert.Equal(t, "it will do", *(*out.Checks)[0].Reason)
	assert.Nil(t, (*out.Checks)[1].AcceptedBy, "what passes needs no accepting")
}

// What a call asks for is kept without keys.
func TestWishesOfCalls(t *testing.T) {
	key := "k"
	w, keys, err := wishOf(&gen.NewChange{Device: "a", To: "1", Licences: &[]gen.NewLicence{{Name: "full", Key: &key}}, Both: new(true),
		Operations: &[]gen.Operation{{Kind: "licence", Part: new("gate"), Key: &key}, {Kind: "choose-slot", Once: new(true)}}})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"full": key}, keys)
	assert.Equal(t, []string{"full"}, w.Licences)
	assert.Equal(t, []change.Asked{{Kind: change.Licence, Part: "gate", Key: key}, {Kind: change.ChooseSlot, Once: true}}, w.Operations)
	assert.True(t, w.Both)
	data, err := json.Marshal(w)
	require.NoError(t, err)
	assert.NotContains(t, string(data), `"k"`)
	none, _, err := wishOf(&gen.NewChange{Device: "a", To: "1", Operations: &[]gen.Operation{}})
	require.NoError(t, err)
	assert.NotNil(t, none.Operations, "none is not the same as not asked for")
}

// The registry is served as it is.
func TestStepKindsAreServed(t *testing.T) {
	r, err := (&Server{}).ListStepKinds(t.Context(), gen.ListStepKindsRequestObject{})
	require.NoError(t, err)
	items := r.(gen.ListStepKinds200JSONResponse).Items
	require.Len(t, items, len(change.Kinds))
	alone := 0
	for i, k := range change.Kinds {
		assert.Equal(t, []string{string(k.Kind), k.Title}, []string{items[i].Kind, items[i].Title})
		assert.Equal(t, k.Alone != nil, items[i].Operation != nil, k.Kind)
		if k.Alone != nil {
			alone++
			assert.True(t, items[i].Operation.Takes.Valid(), "%q is not in the contract", k.Alone.Takes)
		}
	}
	assert.Len(t, change.Operations(), alone)
}
