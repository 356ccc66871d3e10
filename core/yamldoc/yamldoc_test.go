package yamldoc

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/version"
)

// reading reads a mapping with one field "x" and returns what was found.
func reading(t *testing.T, text string, read func(*Reader) Read) Findings {
	t.Helper()
	root, broken := Parse("f.yaml", []byte(text), "hint")
	require.Nil(t, broken)
	r := &Reader{File: "f.yaml", Scheme: version.Default}
	r.Fields(root, "it", nil, map[string]Read{"x": read(r)})
	return r.Found
}

func TestValues(t *testing.T) {
	var s string
	var ss []string
	var b bool
	var d time.Time
	var v version.Version
	var g version.Range
	var n int
	var size int64
	for _, c := range []struct {
		good, bad string
		place     string
		message   string
		read      func(*Reader) Read
	}{
		{"word", "[a]", "1:4", "expected a single value", func(r *Reader) Read { return r.Text(&s) }},
		{"[a, b]", "a", "1:4", "this must be a list", func(r *Reader) Read { return r.Texts(&ss) }},
		{"up", "sideways", "1:4", `"sideways" is not known here (use one of: up, down)`, func(r *Reader) Read { return r.OneOf(&s, "up", "down") }},
		{"true", "yes", "1:4", `"yes" is neither true nor false`, func(r *Reader) Read { return r.Bool(&b) }},
		{"2026-05-01", "1.5.2026", "1:4", `"1.5.2026" is not a date`, func(r *Reader) Read { return r.Date(&d) }},
		{"5.0-rc1", "5/0", "1:4", "character 2", func(r *Reader) Read { return r.Version(&v) }},
		{`">=5 <6"`, `">=5 |"`, "1:4", "one side of | is empty", func(r *Reader) Read { return r.Range(&g) }},
		{"3", "12", "1:4", "a whole number from 1 to 9", func(r *Reader) Read { return r.Count(&n, 1, 9) }},
		{"99999999999", "0", "1:4", `"0" is not a size`, func(r *Reader) Read { return r.Bytes(&size) }},
	} {
		assert.Empty(t, reading(t, "x: "+c.good, c.read))
		found := reading(t, "x: "+c.bad, c.read)
		require.NotEmpty(t, found, c.bad)
		assert.True(t, strings.HasPrefix(found[0].String(), "f.yaml:"+c.place+": error: "), found[0].String())
		assert.Contains(t, found[0].String(), c.message)
		assert.NotEmpty(t, reading(t, "x:", c.read), "an empty value")
	}
	assert.Equal(t, []string{"a", "b"}, ss[:2])
}

func TestNumbers(t *testing.T) {
	for text, good := range map[string]bool{"[1, 2, 3]": true, "[0, 0, 0]": true, "[1, 2]": false, "[3, 2, 1]": false, "[-1, 2, 3]": false, "[a, b, c]": false, "1": false, "[.nan, 1, 2]": false, "[1, 2, .inf]": false} {
		root, _ := Parse("f", []byte(text), "")
		r := &Reader{File: "f"}
		v := r.Numbers(root, 3)
		assert.Equal(t, good, v != nil, text)
		assert.Equal(t, good, len(r.Found) == 0, text)
	}
}

func TestStructure(t *testing.T) {
	var s string
	text := func(r *Reader) Read { return r.Text(&s) }
	assert.Contains(t, reading(t, "y: 1", text).Error(), `f.yaml:1:1: error: it has no field "y" (known here: x)`)
	assert.Contains(t, reading(t, "x: 1\nx: 2", text).Error(), `f.yaml:2:1: error: it has "x" twice`)
	assert.Contains(t, reading(t, "- 1", text).Error(), "it must be a mapping")
	assert.Contains(t, reading(t, "y: &a 1\nx: *a", text).Error(), "references such as *a")
	_, broken := Parse("f", nil, "begin so")
	assert.Equal(t, "f:1:1: error: the file is empty (begin so)", broken.String())
	_, broken = Parse("f", []byte("a: b\n  c: [\n"), "")
	require.NotNil(t, broken)
	assert.Positive(t, broken.Line)

	r := &Reader{File: "f"}
	root, _ := Parse("f", []byte("a: 1\nb: 2"), "")
	var names []string
	r.Names(root, "it", func(k, v *Node) { names = append(names, k.Value+v.Value) })
	assert.Equal(t, []string{"a1", "b2"}, names)
	r.Names(root.Content[1], "that", nil)
	assert.Contains(t, r.Found.Error(), "that must be a mapping")
}

func TestFindings(t *testing.T) {
	fs := Findings{{Position: Position{"b", 1, 1}, Message: "x"}, {Position: Position{"a", 2, 1}, Doubt: true, Message: "y", Hint: "z"}, {Position: Position{"a", 1, 9}, Message: "w"}}
	fs.Sort()
	assert.Equal(t, "a:1:9: error: w\na:2:1: doubt: y (z)\nb:1:1: error: x", fs.Error())
	assert.Len(t, fs.Errors(), 2)
}
