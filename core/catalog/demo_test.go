package catalog

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/config"
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

func TestWhatAConfigurationFulfils(t *testing.T) {
	f := demo(t).Family("th")
	for name, want := range map[string]map[string]bool{
		"hollen-fw1.cfg":  {"tunnels": true, "translation": true, "old-translation": true},
		"gullnes-fw1.cfg": {"translation": true, "old-translation": false},
	} {
		text, err := os.ReadFile("../../demo/configs/" + name)
		require.NoError(t, err)
		doc, broken := config.Parse(name, string(text), config.BlockIndent)
		require.Empty(t, broken)
		got := f.Fulfilled(doc)
		for condition, has := range want {
			assert.Equal(t, has, got[condition], "%s %s", name, condition)
		}
	}
	doc, _ := config.Parse("x", "tunnel a\n  peer far away\nring\n", config.BlockIndent)
	g := &Family{Conditions: []Condition{{Name: "peer", Has: []string{"tunnel/peer far"}}, {Name: "near", Has: []string{"tunnel/peer near"}}, {Name: "either", Has: []string{"nothing", "ring"}}, {Name: "too deep", Has: []string{"ring/port"}}, {Name: "never"}}}
	assert.Equal(t, map[string]bool{"peer": true, "near": false, "either": true, "too deep": false, "never": false}, g.Fulfilled(doc))
}
