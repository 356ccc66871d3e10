package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every mutant of the list can still be made: what it changes stands in its file exactly once, and a test of that name is in its package.
// Whether the test notices the fault is seen when the mutants run.
func TestTheListFitsTheCode(t *testing.T) {
	t.Chdir("../..")
	list, err := read("mutants/mutants.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, list)
	for _, m := range list {
		text, err := os.ReadFile(m.File)
		require.NoError(t, err, m.Name)
		assert.Equal(t, 1, strings.Count(string(text), m.From), "%s: how often what it changes stands in %s", m.Name, m.File)
		assert.NotEqual(t, m.From, m.To, m.Name)
		tests := testsOf(t, m.Package)
		for name := range strings.SplitSeq(m.Run, "|") {
			name, _, _ = strings.Cut(name, "/")
			assert.True(t, strings.Contains(tests, "func "+name), "%s: no test %s in %s", m.Name, name, m.Package)
		}
	}
}

// testsOf is the source of a package's tests.
func testsOf(t *testing.T, dir string) string {
	files, err := filepath.Glob(filepath.Join(dir, "*_test.go"))
	require.NoError(t, err)
	var all strings.Builder
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		all.Write(text)
	}
	return all.String()
}
