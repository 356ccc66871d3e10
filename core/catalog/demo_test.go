package catalog

import (
	"os"
	"strings"
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
	// The other makers write other syntaxes.
	for name, want := range map[string]map[string]bool{
		"gw innersund-wc1.conf": {"mesh": true, "guest-portal": true}, "pw marrow-ramp1.ini": {"two-drives": true}, "sg control-sg1.json": {"old-ciphers": true, "inspection": true},
		"cr tern-rt1.xml": {"multicast": true, "classic-tunnels": true}, "os hollen-sw1.conf": {"ring": true, "clock": true}, "td control-td1.json": {"pools-v1": true},
	} {
		family, file, _ := strings.Cut(name, " ")
		f := demo(t).Family(family)
		text, err := os.ReadFile("../../demo/configs/" + file)
		require.NoError(t, err)
		doc, broken := config.Parse(file, string(text), config.Syntax(f.Configuration.Syntax))
		require.Empty(t, broken, file)
		assert.Equal(t, want, f.Fulfilled(doc), file)
		empty, _ := config.Parse(file, map[string]string{"sg": "{}", "td": "{}", "cr": "<router/>"}[family], config.Syntax(f.Configuration.Syntax))
		for condition, has := range f.Fulfilled(empty) {
			assert.False(t, has, "%s %s", file, condition)
		}
	}
	doc, _ := config.Parse("x", "tunnel a\n  peer far away\nring\n", config.BlockIndent)
	g := &Family{Conditions: []Condition{{Name: "peer", Has: []string{"tunnel/peer far"}}, {Name: "near", Has: []string{"tunnel/peer near"}}, {Name: "either", Has: []string{"nothing", "ring"}}, {Name: "too deep", Has: []string{"ring/port"}}, {Name: "never"}}}
	assert.Equal(t, map[string]bool{"peer": true, "near": false, "either": true, "too deep": false, "never": false}, g.Fulfilled(doc))
}
