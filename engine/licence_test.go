package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/store"
)

// Licences are asked about for the member that gets them, unless it has them or brings their keys.
func TestWhichLicencesAreWanted(t *testing.T) {
	t.Parallel()
	f := crate(t)
	work, err := LicenceWork(f.Vault, "controller", map[string]string{"seats": "", "radio": "a key"})
	require.NoError(t, err)
	c := &store.Change{Work: work, Members: []store.Member{{Planned: store.Planned{Serial: "S"}}}}
	wanted := func(device string, has ...string) []string {
		needs, err := f.wantedLicences(t.Context(), c, device, &portrait.Portrait{Licences: has})
		require.NoError(t, err)
		var out []string
		for _, n := range needs {
			require.NotNil(t, n.Met)
			assert.False(t, *n.Met)
			assert.Equal(t, "no licence service is set up", n.Evidence)
			out = append(out, n.Check)
		}
		return out
	}
	assert.Empty(t, wanted("box"), "another member gets them, for whom they are sealed")
	for _, name := range []string{"seats", "radio"} {
		s := change.Step{Kind: change.Licence, Params: change.LicenceParams{Licence: name}}
		c.Steps = append(c.Steps, store.Step{Plan: s})
	}
	assert.Equal(t, []string{"licence seats"}, wanted("controller"))
	assert.Empty(t, wanted("controller", "seats"))
}
