package catalog

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func demo(t testing.TB) *Catalogue {
	c, found := ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	return c
}

func TestTheDemoCatalogueIsCleanAndBigEnough(t *testing.T) {
	models, releases := 0, 0
	for _, f := range demo(t).Families {
		models, releases = models+len(f.Models), releases+len(f.Releases)
	}
	assert.GreaterOrEqual(t, models, 12)
	assert.GreaterOrEqual(t, releases, 150)
}
