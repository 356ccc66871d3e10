package config

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const sample = `# pier Hollen
box
  name hollen-fw1
  place "Pier \"Hollen\"" # by the gate

port p1
  role outside
  address 198.51.100.2/28
user bosun
  secret aa11 bb22
policy edge
  allow tcp 443
  allow udp 500
  deny any
# end
`

var schema = Schema{Secrets: []string{"secret"}, Ordered: []string{"policy"}}

func parse(t *testing.T, text string) *Document {
	d, broken := Parse("x.cfg", text)
	require.Empty(t, broken)
	return d
}

func TestTree(t *testing.T) {
	d := parse(t, sample)
	require.Len(t, d.Nodes, 4)
	box := d.Nodes[0]
	assert.Equal(t, "box", box.Text())
	assert.Equal(t, 2, box.Line)
	assert.Equal(t, `Pier "Hollen"`, box.Children[1].Words[1].Text)
	assert.Equal(t, `place "Pier \"Hollen\""`, box.Children[1].Text())
	assert.Equal(t, 3, box.Children[1].Column)
	assert.Len(t, d.Nodes[3].Children, 3)
}

func TestPrintIsByteIdentical(t *testing.T) {
	for _, text := range []string{sample, "", "\n\n", "# only", "a\r\n  b\r\n", "a", "a\n   b\n   c\n\n  \n", "\tx\n", "a \"b\n"} {
		d, _ := Parse("x", text)
		if len(d.Nodes) > 0 || text != "\tx\n" {
			assert.Equal(t, text, d.Print())
		}
	}
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`(( {0,4}([a-z]{1,3}|"[a-z ]{0,3}"|#x|"|	)){0,4}\r?\n?){0,8}`).Draw(t, "text")
		if d, _ := Parse("x", text); d.Print() != text {
			t.Fatalf("%q printed as %q", text, d.Print())
		}
	})
}

func TestBrokenPlaces(t *testing.T) {
	for text, want := range map[string]string{
		"a\n\tb\n":           "x.cfg:2:1: a tab in the indentation; expected spaces",
		"box \"open\nport\n": "x.cfg:1:5: a quoted word begins here",
		"a\n  b\n   c\n d\n": "x.cfg:4:2: indented by 1, but its block began with 2 on line 2",
		"  a\n":              "x.cfg:1:3: indented by 2, but no statement above it is a block",
		"a \"b\"c\n":         "x.cfg:1:6: expected a space after the closing quote",
		"a b\x01\n":          "x.cfg:1:4: a control character (code 1)",
	} {
		_, broken := Parse("x.cfg", text)
		require.NotEmpty(t, broken, "%q", text)
		assert.Contains(t, broken[0].Error(), want)
	}
	d, broken := Parse("x", "box \"open\nport p1\n  up\n")
	assert.Len(t, broken, 1)
	assert.Len(t, d.Nodes, 1, "the sound part is kept")
}

func TestCompare(t *testing.T) {
	change := func(pairs ...string) []Difference {
		return Compare(parse(t, sample), parse(t, strings.NewReplacer(pairs...).Replace(sample)), schema)
	}
	assert.Empty(t, change("# pier Hollen", "# other", "box\n", "box   # x\n"))

	d := change("address 198.51.100.2/28", "address 198.51.100.3/28")
	require.Len(t, d, 1)
	assert.Equal(t, Difference{Kind: Changed, Path: "port p1 / address", Old: "address 198.51.100.2/28", New: "address 198.51.100.3/28", OldLine: 8, NewLine: 8}, d[0])

	d = change("bb22", "cc33")
	require.Len(t, d, 1)
	assert.True(t, d[0].Secret)
	assert.Equal(t, "secret *** ***", d[0].New, "changed is seen, the value is not")

	d = change("port p1\n  role outside\n  address 198.51.100.2/28\n", "")
	require.Len(t, d, 1)
	assert.Equal(t, Removed, d[0].Kind)
	assert.Equal(t, "port p1\n  role outside\n  address 198.51.100.2/28", d[0].Old)

	d = change("  allow tcp 443\n  allow udp 500\n  deny any\n", "  deny any\n  allow tcp 443\n  allow udp 500\n")
	require.Len(t, d, 1, "one entry moved is one difference")
	assert.Equal(t, Reordered, d[0].Kind)
	assert.Equal(t, "deny any", d[0].New)

	d = change("  allow udp 500\n", "  allow udp 501\n")
	assert.Equal(t, []string{Added, Removed}, []string{d[0].Kind, d[1].Kind}, "a repeated keyword is matched by all its words")

	swapped := "port p1\n  role outside\n  address 198.51.100.2/28\nuser bosun\n  secret aa11 bb22\n"
	assert.Empty(t, change(swapped, "user bosun\n  secret aa11 bb22\nport p1\n  role outside\n  address 198.51.100.2/28\n"))
}

func TestCompareWithItselfIsEmpty(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`([a-c]( [a-c]){0,2}\n(  [a-c]( [a-c])?\n){0,3}){0,6}`).Draw(t, "text")
		d, _ := Parse("x", text)
		e, _ := Parse("x", text)
		if diff := Compare(d, e, Schema{Ordered: []string{"a"}}); len(diff) != 0 {
			t.Fatalf("%v", diff)
		}
	})
}

func TestMasked(t *testing.T) {
	got := Masked(sample+"# secret old99\nuser x\n  secret \"q q\n", schema)
	for _, s := range []string{"aa11", "bb22", "old99", "q q"} {
		assert.NotContains(t, got, s)
	}
	assert.Contains(t, got, "  secret *** ***\n")
	assert.Contains(t, got, "  address 198.51.100.2/28\n")
}
