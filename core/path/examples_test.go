package path

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/examples"
)

// What the documentation says of paths is so.
func TestTheDocumentedPaths(t *testing.T) {
	const file, heading = "../../docs/formats/catalogue.md", "### Examples"
	f, found := catalog.ReadFile("toy.yaml", []byte(examples.Blocks(t, file, heading)[0]))
	require.Empty(t, found.Errors(), "%s", found.Error())
	c := &catalog.Catalogue{}
	c.Add(f)
	for _, row := range examples.Table(t, file, heading) {
		got := ""
		p, err := find(NewPlanner(c), row[0], row[1])
		if err != nil {
			got = err.Error()
		} else {
			stops := []string{p.From.String()}
			for _, h := range p.Hops {
				stops = append(stops, h.To.String())
			}
			got = strings.Join(append([]string{strings.Join(stops, " > ")}, p.Notes...), "; ")
		}
		assert.Equal(t, row[2], got, "%s to %s", row[0], row[1])
	}
}
