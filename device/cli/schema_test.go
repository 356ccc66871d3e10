package cli

import (
	"bytes"
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"verimorph/device"
)

const schemaFile = "../../docs/formats/dialect.schema.json"

// The published JSON Schema is what the types say, with the comments of their fields; UPDATE=1 writes it anew.
func TestSchemaFollowsTheTypes(t *testing.T) {
	want := schema(t)
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile(schemaFile, want, 0o644))
	}
	got, err := os.ReadFile(schemaFile)
	require.NoError(t, err)
	assert.Equal(t, string(want), string(got), "UPDATE=1 go test -run TestSchemaFollowsTheTypes ./device/cli")
}

// The schema takes what the reader takes, and refuses fields and values that the reader refuses.
func TestSchemaAndReaderAgree(t *testing.T) {
	var doc any
	data, err := os.ReadFile(schemaFile)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(data, &doc))
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("dialect.schema.json", doc))
	s, err := compiler.Compile("dialect.schema.json")
	require.NoError(t, err)
	valid := func(text string) error {
		var v any
		require.NoError(t, yaml.Unmarshal([]byte(text), &v))
		plain, err := json.Marshal(v)
		require.NoError(t, err)
		x, err := jsonschema.UnmarshalJSON(bytes.NewReader(plain))
		require.NoError(t, err)
		return s.Validate(x)
	}
	assert.NoError(t, valid(gale))
	names, err := fs.Glob(Builtin(), "*.yaml")
	require.NoError(t, err)
	for _, name := range names {
		text, err := fs.ReadFile(Builtin(), name)
		require.NoError(t, err)
		assert.NoError(t, valid(string(text)), name)
	}
	for _, change := range [][2]string{{"settle: 0.05", "settled: 0.05"}, {"times: 2", "times: two"}, {"key: true, refusal", "key: maybe, refusal"}, {"kind: refused", "kind: never"}, {"verbs:\n", "verbs:\n  fly: {send: x}\n"}, {"format: verimorph-dialect/2", "format: verimorph-dialect/9"}} {
		broken := strings.Replace(gale, change[0], change[1], 1)
		require.NotEqual(t, gale, broken)
		assert.Error(t, valid(broken), change[1])
		_, err := ReadDialect([]byte(broken))
		assert.Error(t, err, change[1])
	}
}

// schema makes the JSON Schema of dialect files.
func schema(t *testing.T) []byte {
	m := schemaMaker{comments: comments(t, ".", ".."), defs: map[string]any{}}
	root := m.object(reflect.TypeFor[Dialect]())
	root["$schema"], root["title"] = "https://json-schema.org/draft/2020-12/schema", "Dialects, "+DialectFormat
	root["required"] = []string{"format", "dialect", "portrait"}
	properties := root["properties"].(map[string]any)
	properties["format"] = map[string]any{"enum": []string{DialectFormat, dialectFormat1}}
	properties["installs"] = map[string]any{"enum": []string{BySlots, InPlace, FromFiles}}
	verbs := map[string]any{}
	for name, params := range verbParams {
		text := "Nothing is filled in."
		if len(params) > 0 {
			text = "Filled in: {" + strings.Join(params, "}, {") + "}."
		}
		verbs[name] = map[string]any{"$ref": "#/$defs/Query", "description": text}
	}
	properties["verbs"] = map[string]any{"type": "object", "additionalProperties": false, "properties": verbs}
	root["$defs"] = m.defs
	out, err := json.MarshalIndent(root, "", " ")
	require.NoError(t, err)
	return append(out, '\n')
}

type schemaMaker struct {
	comments map[string]string // by type and field
	defs     map[string]any
}

func (m *schemaMaker) of(t reflect.Type) map[string]any {
	switch {
	case t == reflect.TypeFor[device.Pattern]():
		return map[string]any{"type": "string", "format": "regex"}
	case t == reflect.TypeFor[device.ErrorKind]():
		return map[string]any{"enum": append(slices.Clone(refusalKinds), device.SignInRefused)}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return m.of(t.Elem())
	case reflect.Slice:
		return map[string]any{"type": "array", "items": m.of(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": m.of(t.Elem())}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.String: // YAML takes what looks like a number or a yes for one
		return map[string]any{"type": []string{"string", "number", "boolean"}}
	}
	if t.Name() == "" {
		return m.object(t)
	}
	if m.defs[t.Name()] == nil {
		m.defs[t.Name()] = map[string]any{} // types that hold themselves
		m.defs[t.Name()] = m.object(t)
	}
	return map[string]any{"$ref": "#/$defs/" + t.Name()}
}

func (m *schemaMaker) object(t reflect.Type) map[string]any {
	properties := map[string]any{}
	for i := range t.NumField() {
		f := t.Field(i)
		if tag := f.Tag.Get("yaml"); tag != "" {
			p := m.of(f.Type)
			if text := m.comments[t.Name()+"."+f.Name]; text != "" {
				p["description"] = text
			}
			properties[tag] = p
		}
	}
	return map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
}

// comments are those behind the fields of the structs in some folders.
func comments(t *testing.T, folders ...string) map[string]string {
	out := map[string]string{}
	for _, folder := range folders {
		files, err := fs.Glob(os.DirFS(folder), "*.go")
		require.NoError(t, err)
		for _, name := range files {
			file, err := parser.ParseFile(token.NewFileSet(), folder+"/"+name, nil, parser.ParseComments)
			require.NoError(t, err)
			ast.Inspect(file, func(n ast.Node) bool {
				spec, ok := n.(*ast.TypeSpec)
				if !ok {
					return true
				}
				if s, ok := spec.Type.(*ast.StructType); ok {
					for _, f := range s.Fields.List {
						for _, id := range f.Names {
							out[spec.Name.Name+"."+id.Name] = strings.TrimSpace(f.Comment.Text())
						}
					}
				}
				return true
			})
		}
	}
	return out
}
