package config

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/examples"
	"verimorph/core/version"
)

func documented(t *testing.T, file, heading string, s func(syntax Syntax) *Schema) {
	for _, row := range examples.Table(t, file, heading) {
		require.Len(t, row, 4, "%q", row)
		syntax, old, new, want := row[0], row[1]+"\n", row[2]+"\n", row[3]
		schema := s(Syntax(syntax))
		got := "nothing"
		if list := differs(t, schema, old, new); len(list) > 0 {
			got = strings.Join(list, ", ")
		}
		assert.Equal(t, want, got, fmt.Sprintf("%s:\n%sto\n%s", syntax, old, new))
	}
}

// What the documentation says of comparisons is so.
func TestTheDocumentedComparisons(t *testing.T) {
	documented(t, "../../docs/formats/configuration.md", "### Examples", func(syntax Syntax) *Schema { return Simple(syntax, UsualSecrets, []string{"acl"}) })
	text := examples.Blocks(t, "../../docs/formats/schema.md", "## Examples")[0]
	s, found := ReadSchema("s.yaml", []byte(text), func(string) *version.Scheme { return version.Default }, func(string) *Schema { return nil })
	require.Empty(t, found.Errors())
	documented(t, "../../docs/formats/schema.md", "## Examples", func(Syntax) *Schema { return s })
}
