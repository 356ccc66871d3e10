package advisory

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/version"
)

func read(t *testing.T) *Advisory {
	data, err := os.ReadFile("../../demo/advisories/tar-2026-01.json")
	require.NoError(t, err)
	a, err := Read(data)
	require.NoError(t, err)
	return a
}

func TestReadAndMap(t *testing.T) {
	a := read(t)
	assert.Equal(t, "TAR-2026-01", a.ID)
	assert.Equal(t, "Tarnholm product safety", a.Publisher)
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	fs := a.Families(c)
	require.Len(t, fs, 1)
	for release, want := range map[string]Status{"5.0.6": Affected, "5.0.7": Affected, "5.2.0": Affected, "5.2.3": Fixed, "5.4.0": Affected, "5.4.2": Fixed, "6.0.1": NotAffected, "4.2.9": "", "nonsense/": ""} {
		got, _ := a.Status(fs[0], "TH-60", release)
		assert.Equal(t, want, got, release)
	}
	got, remedy := a.Status(fs[0], "TH-80", "5.4.0")
	assert.Equal(t, Affected, got)
	assert.Contains(t, remedy, "5.4.2")
	other, _ := a.Status(c.Family("os"), "L24", "11.2.3")
	assert.Empty(t, other)
}

func TestReadRefuses(t *testing.T) {
	for text, part := range map[string]string{
		`{`:                                   "line 1, column",
		`[]`:                                  "not a CSAF document",
		`{}`:                                  "csaf_version is missing",
		`{"document":{"csaf_version":"1.2"}}`: "2.0 can be read",
		`{"document":{"csaf_version":"2.0"}}`: "tracking.id",
		`{"document":{"csaf_version":"2.0","tracking":{"id":"A"}},"vulnerabilities":[{"product_status":{"fixed":["P9"]}}]}`: `product "P9"`,
		"{\n\"document\": {\n x": "line 3, column",
	} {
		_, err := Read([]byte(text))
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), part)
	}
	deep := func(n int) []byte {
		tree := strings.Repeat(`{"category":"x","name":"n","branches":[`, n) + strings.Repeat(`]}`, n)
		return []byte(`{"document":{"csaf_version":"2.0","tracking":{"id":"A"}},"product_tree":{"branches":[` + tree + `]}}`)
	}
	_, err := Read(deep(1000))
	assert.NoError(t, err)
	_, err = Read(deep(20000))
	assert.ErrorContains(t, err, "exceeded max depth", "it does not run out of stack")
}

func TestVersRanges(t *testing.T) {
	for _, c := range []struct{ text, in, out string }{
		{"vers:generic/>=5.0|<5.0.7", "5.0 5.0.6", "4.9 5.0.7 6"},
		{"vers:generic/<5.0.7", "1 5.0.6", "5.0.7"},
		{"vers:generic/>5.2", "5.2.1 9", "5.2 5.1"},
		{"vers:generic/>=5.0|<5.0.7|>=5.2|<5.2.3", "5.0.1 5.2 5.2.2", "5.0.7 5.1 5.2.3"},
		{"vers:generic/5.0.1|5.0.3", "5.0.1 5.0.3", "5.0.2"},
		{"vers:generic/>=5|!=5.1|<=6", "5 5.0.9 6", "5.1 6.0.1"},
		{"vers:generic/*", "1 9", ""},
		{">=5.0|<6", "5.5", "6"},
	} {
		r, err := VersRange(version.Default, c.text)
		require.NoError(t, err)
		for _, v := range strings.Fields(c.in) {
			assert.True(t, r(version.MustParse(v)), "%s has %s", c.text, v)
		}
		for _, v := range strings.Fields(c.out) {
			assert.False(t, r(version.MustParse(v)), "%s has not %s", c.text, v)
		}
	}
	for _, bad := range []string{"vers:generic", "vers:generic/>=", "vers:generic/x/y"} {
		_, err := VersRange(version.Default, bad)
		assert.Error(t, err, bad)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"document":{"csaf_version":"2.0","tracking":{"id":"A"}}}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		if a, err := Read(data); err == nil && a.ID == "" {
			t.Fatal("an advisory without a number")
		}
	})
}
