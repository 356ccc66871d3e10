package yamldoc

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"verimorph/core/near"
)

// Struct reads a mapping into what v points to, by the yaml tags of its fields. Unlike yaml.Unmarshal it does not end at the first mistake: fields
// that are not known (with those that are spelled like them), fields that are there twice, and values of another kind are findings, each at its
// place. what names the mapping in them.
func (r *Reader) Struct(n *Node, what string, v any) { r.into(n, what, reflect.ValueOf(v).Elem()) }

var placeInFront = regexp.MustCompile(`^(yaml: )?(unmarshal errors:\n\s*)?line \d+(, column \d+)?: `)

func (r *Reader) into(n *Node, what string, v reflect.Value) {
	if n.Kind == yaml.AliasNode {
		r.Fail(n, "write the value out", "references such as *%s are not used in this format", n.Value)
		return
	}
	if _, ok := v.Addr().Interface().(yaml.Unmarshaler); ok {
		if err := n.Decode(v.Addr().Interface()); err != nil {
			r.Fail(n, "", "%s: %s", what, placeInFront.ReplaceAllString(err.Error(), ""))
		}
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		r.into(n, what, v.Elem())
	case reflect.Struct:
		r.fields(n, what, v)
	case reflect.Slice:
		r.Items(n, what, func(item *Node) {
			x := reflect.New(v.Type().Elem()).Elem()
			r.into(item, what, x)
			v.Set(reflect.Append(v, x))
		})
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		r.Names(n, what, func(key, value *Node) {
			k := reflect.ValueOf(key.Value).Convert(v.Type().Key())
			if v.MapIndex(k).IsValid() {
				r.Fail(key, "keep one of them", "%s has %q twice", what, key.Value)
				return
			}
			x := reflect.New(v.Type().Elem()).Elem()
			r.into(value, what+": "+key.Value, x)
			v.SetMapIndex(k, x)
		})
	default:
		r.scalarInto(n, what, v)
	}
}

func (r *Reader) scalarInto(n *Node, what string, v reflect.Value) {
	kind := map[reflect.Kind]string{reflect.String: "a text", reflect.Bool: "true or false", reflect.Int: "a whole number", reflect.Float64: "a number"}[v.Kind()]
	if n.Kind != yaml.ScalarNode {
		r.Fail(n, "write "+kind, "%s must be %s", what, kind)
		return
	}
	if v.Kind() == reflect.String {
		v.SetString(n.Value)
		return
	}
	if err := n.Decode(v.Addr().Interface()); err != nil {
		r.Fail(n, "write "+kind, "%s must be %s, not %q", what, kind, n.Value)
	}
}

// Tags are the names of the fields of a struct type in a file.
func Tags(t reflect.Type) (out []string) {
	for i := range t.NumField() {
		if tag, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ","); tag != "" {
			out = append(out, tag)
		}
	}
	slices.Sort(out)
	return out
}

func (r *Reader) fields(n *Node, what string, v reflect.Value) {
	if n.Kind != yaml.MappingNode {
		r.Fail(n, "write it as key: value lines", "%s must be a mapping", what)
		return
	}
	known := Tags(v.Type())
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		switch {
		case !slices.Contains(known, key.Value):
			hint := "known here: " + strings.Join(known, ", ")
			if like := near.Names(key.Value, known); len(like) > 0 {
				hint = "do you mean " + strings.Join(like, " or ") + "?"
			}
			r.Fail(key, hint, "%s has no field %q", what, key.Value)
		case seen[key.Value]:
			r.Fail(key, "keep one of them", "%s has %q twice", what, key.Value)
		default:
			r.into(value, key.Value, fieldOf(v, key.Value))
		}
		seen[key.Value] = true
	}
}

func fieldOf(v reflect.Value, name string) reflect.Value {
	for i := range v.NumField() {
		if tag, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("yaml"), ","); tag == name {
			return v.Field(i)
		}
	}
	panic(fmt.Sprintf("no field %s in %s", name, v.Type()))
}

// Find is the node at a path of field names and list indices (from 0): the deepest one of it that there is.
func Find(root *Node, path ...any) *Node {
	n := root
	for _, p := range path {
		var next *Node
		switch p := p.(type) {
		case string:
			next = Value(n, p)
		case int:
			if n.Kind == yaml.SequenceNode && p < len(n.Content) {
				next = n.Content[p]
			}
		}
		if next == nil {
			return n
		}
		n = next
	}
	return n
}
