package convert

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"verimorph/core/config"
)

func published(t *testing.T, name string) *jsonschema.Schema {
	doc, err := os.ReadFile("../../docs/formats/" + name)
	require.NoError(t, err)
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(doc))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource(name, v))
	s, err := c.Compile(name)
	require.NoError(t, err)
	return s
}

// The published JSON Schemas and the readers agree: on the demo's files, and on each of them with one thing wrong.
func TestPublishedSchemasAgreeWithTheReaders(t *testing.T) {
	l := demo(t)
	for folder, name := range map[string]string{"schemas": "schema.schema.json", "conversions": "conversion.schema.json"} {
		s := published(t, name)
		files, err := filepath.Glob("../../demo/catalog/" + folder + "/*.yaml")
		require.NoError(t, err)
		require.NotEmpty(t, files)
		reads := func(data []byte) bool {
			if folder == "schemas" {
				_, found := config.ReadSchema("x.yaml", data, l.scheme, l.schema)
				return len(found.Errors()) == 0
			}
			_, found := Read("x.yaml", data, l.schema, l.scheme)
			return len(found.Errors()) == 0
		}
		valid := func(data []byte) bool {
			var v any
			require.NoError(t, yaml.Unmarshal(data, &v))
			return s.Validate(v) == nil
		}
		for _, file := range files {
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.True(t, reads(data), file)
			assert.True(t, valid(data), "%s", file)
			for _, c := range [][2]string{{"\nid: ", "\nidd: "}, {"\nfrom: {schema", "\nfrom: {schemes"}, {"keep: ", "keeps: "}, {"because: ", "reason: "}, {"question: ", "ask: "}, {"values: {", "worths: {"},
				{"key: word", "keys: word"}, {"guarded: ", "watched: "}, {"\nsyntax: ", "\nsyntax: very-"}, {"range: [", "range: [0, "}, {"refers-to: ", "refers: "}, {"speed: 1", "speed: fast1"}, {"format: verimorph-", "format: other-"}} {
				if !strings.Contains(string(data), c[0]) {
					continue
				}
				bad := []byte(strings.Replace(string(data), c[0], c[1], 1))
				assert.False(t, reads(bad), "%s: %s", file, c[1])
				assert.False(t, valid(bad), "%s: %s", file, c[1])
			}
		}
	}
	var kindsPublished []string
	raw, err := os.ReadFile("../../docs/formats/conversion.schema.json")
	require.NoError(t, err)
	for kind := range kinds {
		if strings.Contains(string(raw), `"`+kind+`"`) {
			kindsPublished = append(kindsPublished, kind)
		}
	}
	slices.Sort(kindsPublished)
	assert.Len(t, kindsPublished, len(kinds))
}
