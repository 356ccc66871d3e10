package engine

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/ready"
	"verimorph/store"
)

// An advisory that cannot be used may name the older release: that speaks against it until somebody knows.
func TestUnusableAdvisoriesSpeakAgainstAnOlderRelease(t *testing.T) {
	e := &Engine{Config: Config{Named: func(context.Context, string, string) (ids, unknown []string, err error) {
		return []string{"A-1"}, []string{"A-2"}, nil
	}}}
	against := func(from, to string) []string {
		f := &ready.Facts{}
		require.NoError(t, e.older(t.Context(), f, &store.Change{From: from, To: to, Kind: change.Firmware}, &path.Path{Model: "A"}))
		return f.Against
	}
	assert.Equal(t, []string{"advisory A-1 names it", "whether advisory A-2 names it is not known, since its stored document cannot be used"}, against("2.0", "1.0"))
	assert.Empty(t, against("1.0", "2.0"))
}
