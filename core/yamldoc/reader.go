// Package yamldoc reads YAML files of our own formats: every value is checked where it stands, and what is wrong becomes
// a finding with file, line and column instead of ending the reading at the first mistake.
package yamldoc

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"verimorph/core/version"
)

// A Node is a value in a file with its position.
type Node = yaml.Node

// A Read function takes a value from a node, or notes what is wrong with it.
type Read = func(*Node)

// A Reader walks YAML nodes and collects findings.
type Reader struct {
	File   string
	Scheme *version.Scheme // how versions and ranges are read
	Found  Findings
}

// Parse reads the first document of a file; it returns nil and a finding when it is not well-formed or empty.
func Parse(file string, data []byte, hint string) (*Node, *Finding) {
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		return nil, malformed(file, err)
	}
	if len(doc.Content) == 0 {
		return nil, &Finding{Position: Position{file, 1, 1}, Message: "the file is empty", Hint: hint}
	}
	return doc.Content[0], nil
}

var yamlLine = regexp.MustCompile(`line (\d+)`)

func malformed(file string, err error) *Finding {
	f := Finding{Position: Position{file, 1, 1}, Message: strings.TrimPrefix(err.Error(), "yaml: "), Hint: "the file is not well-formed YAML"}
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		f.Line, _ = strconv.Atoi(m[1])
	}
	return &f
}

// At is the position of a node.
func (r *Reader) At(n *Node) Position { return Position{r.File, n.Line, n.Column} }

// Fail notes an error.
func (r *Reader) Fail(n *Node, hint, format string, args ...any) {
	r.Found = append(r.Found, Finding{Position: r.At(n), Message: fmt.Sprintf(format, args...), Hint: hint})
}

// Fields walks a mapping: known keys go to their functions; others, repeated ones and required ones that are absent are
// findings.
func (r *Reader) Fields(n *Node, what string, required []string, known map[string]Read) {
	if n.Kind != yaml.MappingNode {
		r.Fail(n, "write it as key: value lines", "%s must be a mapping", what)
		return
	}
	seen := make(map[string]bool, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		read, ok := known[key.Value]
		switch {
		case !ok:
			r.Fail(key, "known here: "+strings.Join(slices.Sorted(maps.Keys(known)), ", "), "%s has no field %q", what, key.Value)
		case seen[key.Value]:
			r.Fail(key, "keep one of them", "%s has %q twice", what, key.Value)
		case value.Kind == yaml.AliasNode:
			r.Fail(value, "write the value out", "references such as *%s are not used in this format", value.Value)
		default:
			read(value)
		}
		seen[key.Value] = true
	}
	for _, k := range required {
		if !seen[k] {
			r.Fail(n, "add "+k+": ...", "%s lacks %q", what, k)
		}
	}
}

// Names walks a mapping whose keys are names the file chooses.
func (r *Reader) Names(n *Node, what string, each func(key, value *Node)) {
	if n.Kind != yaml.MappingNode {
		r.Fail(n, "write it as name: value lines", "%s must be a mapping", what)
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		each(n.Content[i], n.Content[i+1])
	}
}

// Items walks a list.
func (r *Reader) Items(n *Node, what string, each Read) {
	if n.Kind != yaml.SequenceNode {
		r.Fail(n, "write it as a list", "%s must be a list", what)
		return
	}
	for _, item := range n.Content {
		each(item)
	}
}

// scalar hands on a value that is one word or sentence.
func (r *Reader) scalar(read func(n *Node, text string)) Read {
	return func(n *Node) {
		if n.Kind != yaml.ScalarNode || n.Value == "" {
			r.Fail(n, "", "expected a single value")
			return
		}
		read(n, n.Value)
	}
}

// Text takes text that is not empty.
func (r *Reader) Text(into *string) Read {
	return r.scalar(func(_ *Node, text string) { *into = text })
}

// Texts takes a list of texts.
func (r *Reader) Texts(into *[]string) Read {
	return func(n *Node) {
		r.Items(n, "this", func(n *Node) {
			var s string
			r.Text(&s)(n)
			*into = append(*into, s)
		})
	}
}

// OneOf takes one of some words.
func (r *Reader) OneOf(into *string, words ...string) Read {
	return r.scalar(func(n *Node, text string) {
		if !slices.Contains(words, text) {
			r.Fail(n, "use one of: "+strings.Join(words, ", "), "%q is not known here", text)
		}
		*into = text
	})
}

// Bool takes true or false.
func (r *Reader) Bool(into *bool) Read {
	return r.scalar(func(n *Node, text string) {
		if text != "true" && text != "false" {
			r.Fail(n, "write true or false", "%q is neither true nor false", text)
		}
		*into = text == "true"
	})
}

// Date takes a day such as 2026-05-01.
func (r *Reader) Date(into *time.Time) Read {
	return r.scalar(func(n *Node, text string) {
		d, err := time.Parse(time.DateOnly, text)
		if err != nil {
			r.Fail(n, "write it as 2026-05-01", "%q is not a date", text)
		}
		*into = d
	})
}

// Version takes a version of the reader's scheme.
func (r *Reader) Version(into *version.Version) Read {
	return r.scalar(func(n *Node, text string) {
		v, err := r.Scheme.Parse(text)
		if err != nil {
			r.Fail(n, "", "%s", err)
		}
		*into = v
	})
}

// Range takes a range of versions of the reader's scheme.
func (r *Reader) Range(into *version.Range) Read {
	return r.scalar(func(n *Node, text string) {
		v, err := r.Scheme.ParseRange(text)
		if err != nil {
			r.Fail(n, "", "%s", err)
		}
		*into = v
	})
}

// Count takes a whole number from least to most.
func (r *Reader) Count(into *int, least, most int) Read {
	return r.scalar(func(n *Node, text string) {
		v, err := strconv.Atoi(text)
		if err != nil || v < least || v > most {
			r.Fail(n, fmt.Sprintf("a whole number from %d to %d", least, most), "%q does not fit", text)
		}
		*into = v
	})
}

// Bytes takes a size in bytes above 0.
func (r *Reader) Bytes(into *int64) Read {
	return r.scalar(func(n *Node, text string) {
		v, err := strconv.ParseInt(text, 10, 64)
		if err != nil || v <= 0 {
			r.Fail(n, "a whole number of bytes above 0", "%q is not a size", text)
		}
		*into = v
	})
}

// Numbers takes a list of exactly count numbers in ascending order, none below 0; it returns nil when it is not one.
func (r *Reader) Numbers(n *Node, count int) []float64 {
	var v []float64
	err := n.Decode(&v)
	if err == nil && (len(v) != count || !slices.IsSorted(v) || v[0] < 0 || math.IsNaN(v[0]) || math.IsInf(v[len(v)-1], 0)) {
		err = errors.New("not ascending")
	}
	if err != nil {
		r.Fail(n, map[int]string{2: "write [low, high]", 3: "write [low, high, hard limit] in seconds"}[count], "expected %d numbers in ascending order", count)
		return nil
	}
	return v
}

var fieldLine = regexp.MustCompile(`(?m)^([a-z-]+):[ \t]*["']?([^"'#\r\n]*?)["']?[ \t]*(?:#.*)?\r?$`)

// FieldOf returns a field among the first lines of a file without reading the rest; "" when it has none.
func FieldOf(data []byte, name string) string {
	for _, m := range fieldLine.FindAllSubmatch(data[:min(len(data), 4096)], -1) {
		if string(m[1]) == name {
			return string(m[2])
		}
	}
	return ""
}

// FormatOf is what a file says about its format.
func FormatOf(data []byte) string { return FieldOf(data, "format") }
