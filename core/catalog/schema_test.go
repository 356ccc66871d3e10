package catalog

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

func schema(t *testing.T) *jsonschema.Schema {
	doc, err := os.ReadFile("../../docs/formats/catalogue.schema.json")
	require.NoError(t, err)
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(doc))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("catalogue.schema.json", v))
	s, err := c.Compile("catalogue.schema.json")
	require.NoError(t, err)
	return s
}

// plainYAML is a file's content as JSON has it: dates and versions as text.
func plainYAML(t *testing.T, data []byte) any {
	var n yaml.Node
	require.NoError(t, yaml.Unmarshal(data, &n))
	var texts func(*yaml.Node)
	texts = func(n *yaml.Node) {
		if n.Kind == yaml.ScalarNode && n.Tag == "!!timestamp" {
			n.Tag = "!!str"
		}
		for _, c := range n.Content {
			texts(c)
		}
	}
	texts(&n)
	var v any
	require.NoError(t, n.Decode(&v))
	data, err := json.Marshal(v)
	require.NoError(t, err)
	v, err = jsonschema.UnmarshalJSON(bytes.NewReader(data))
	require.NoError(t, err)
	return v
}

// TestTheSchemaSaysWhatTheReaderTakes checks the published schema against the demo and against mistakes that the reader
// refuses.
func TestTheSchemaSaysWhatTheReaderTakes(t *testing.T) {
	s := schema(t)
	files, err := filepath.Glob("../../demo/catalog/*.yaml")
	require.NoError(t, err)
	require.Len(t, files, 7)
	for _, name := range files {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.NoError(t, s.Validate(plainYAML(t, data)), name)
	}
	assert.NoError(t, s.Validate(plainYAML(t, []byte(rich))))
	for _, c := range [][2]string{
		{"maker: Lodvik\n", ""}, {"catalogue/1", "catalogue/2"}, {"kind: memory, bytes: 10", "kind: memory"},
		{"hand-step: look again, due: after", "hand-step: look again"}, {`[A], version: "1"`, `[A]`}, {"kind: crossing, crossing: L2.0", "kind: crossing"},
		{"between: members", "between: friends"}, {"effect: outage", "effect: doom"}, {"config: converted", "config: lost"}, {"models: [LV-1], size: 1", "models: [LV-1], size: 0"},
		{"file: lo.img", "file: ../lo.img"}, {"role: controller", "role: king"}, {"kind: memory,", "kind: memory, variable: x,"}, {"stage: preferred", "stage: old"},
	} {
		text := strings.Replace(rich, c[0], c[1], 1)
		require.NotEqual(t, rich, text)
		assert.Error(t, s.Validate(plainYAML(t, []byte(text))), "%v", c)
		_, found := ReadFile("x.yaml", []byte(text))
		assert.NotEmpty(t, found.Errors(), "%v", c)
	}
}
