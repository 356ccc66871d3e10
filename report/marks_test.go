package report

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The console shows the same signs and words as reports do.
func TestTheConsoleHasTheSameMarks(t *testing.T) {
	data, err := os.ReadFile("../web/src/shared/marks.tsx")
	require.NoError(t, err)
	found := map[string]Mark{}
	for _, m := range regexp.MustCompile(`(?m)^  "?([a-z-]+)"?: \{\s*sign: "(.)",\s*words: "([^"]+)"`).FindAllSubmatch(data, -1) {
		found[string(m[1])] = Mark{string(m[2]), string(m[3])}
	}
	for kind, mark := range Marks {
		assert.Equal(t, mark, found[kind], kind)
	}
}
