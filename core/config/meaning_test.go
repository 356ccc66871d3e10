package config

import (
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/version"
)

const spelled = `format: verimorph-schema/1
id: s
family: f
releases: ">=1"
syntax: %s
types:
  seconds: {range: [0, 86400], unit: s, units: {m: 60, h: 3600}}
  mode: {one-of: [auto, fast], ignore-case: true}
  names: {list-of: word}
  any-order: {list-of: word, unordered: true}
  numbers: {list-of: count}
statements:
  count: count
  seconds: {type: seconds, default: 300}
  address: {type: address, guarded: the site needs it}
  prefix: prefix
  network: network
  pair: {words: [address, mask]}
  mask: mask
  mac: mac
  numbers: numbers
  names: names
  any-order: any-order
  mode: mode
  peer: {key: word, words: [address], statements: {count: count}}
  rule: {key: position, words: [network, word]}
  last: {type: count, repeated: last}
  all: {type: count, repeated: all}
  once: count
`

func readSpelled(t require.TestingT, syntax string) *Schema {
	s, found := ReadSchema("s.yaml", []byte(strings.Replace(spelled, "%s", syntax, 1)), func(string) *version.Scheme { return version.Default }, func(string) *Schema { return nil })
	require.Empty(t, found.Errors())
	return s
}

// differs compares two texts and returns what differs, cosmetic things last.
func differs(t require.TestingT, s *Schema, old, new string) (kinds []string) {
	a, broken := s.Parse("old", old)
	require.Empty(t, broken, old)
	b, broken := s.Parse("new", new)
	require.Empty(t, broken, new)
	for _, d := range Compare(a, b, s).Differences {
		kinds = append(kinds, strings.TrimSuffix(d.Kind+" "+d.Path+" "+d.Note, " "))
	}
	return kinds
}

// The spellings that the documentation says mean the same, do; those of different rows do not.
func TestTheDocumentedSpellings(t *testing.T) {
	doc, err := os.ReadFile("../../docs/formats/schema.md")
	require.NoError(t, err)
	_, table, _ := strings.Cut(string(doc), "| type | mean the same |")
	table, _, _ = strings.Cut(table, "\n#")
	rows := regexp.MustCompile("(?m)^\\| (.*) \\| (`.*`) \\|$").FindAllStringSubmatch(table, -1)
	require.Len(t, rows, 11)
	names := []string{"count", "seconds", "address", "prefix", "network", "mask", "mac", "numbers", "names", "any-order", "mode"}
	s := readSpelled(t, "block-indent")
	for i, row := range rows {
		spellings := regexp.MustCompile("`([^`]*)`").FindAllStringSubmatch(row[2], -1)
		for _, other := range spellings[1:] {
			a, b := statement(names[i], spellings[0][1]), statement(names[i], other[1])
			assert.Equal(t, []string{"cosmetic " + names[i]}, differs(t, s, a, b), "%s%s", a, b)
		}
	}
}

func statement(name, value string) string {
	if strings.Contains(value, ", ") {
		value = `"` + value + `"`
	}
	return name + " " + value + "\n"
}

func TestWhatMeansTheSame(t *testing.T) {
	s := readSpelled(t, "block-indent")
	for _, c := range []struct {
		old, new string
		want     []string
	}{
		{"address 10.0.0.1\n", "address 10.0.0.2\n", []string{"changed address"}},
		{"pair 10.0.0.1 255.255.255.0\n", "pair 10.0.0.1/24\n", []string{"cosmetic pair"}},
		{"pair 10.0.0.1 255.255.255.0\n", "pair 10.0.0.1/25\n", []string{"changed pair"}},
		{"prefix 10.0.0.1/24\n", "prefix 10.0.0.2/24\n", []string{"changed prefix"}},
		{"prefix 2001:db8::1/64\n", "prefix 2001:DB8:0:0::1/ffff:ffff:ffff:ffff::\n", []string{"cosmetic prefix"}},
		{"seconds 5m\n", "\n", []string{"default-dropped seconds"}},
		{"seconds 1h\n", "seconds 60m\n", []string{"cosmetic seconds"}},
		{"numbers 1-3,7\n", "numbers 1-3,8\n", []string{"changed numbers"}},
		{"names a,b\n", "names b,a\n", []string{"changed names"}},
		{"peer 2001:db8::1\n  count 1\npeer 10.0.0.1\n", "peer 2001:DB8::1\n  count 01\npeer 10.0.0.1\n", []string{"cosmetic peer 2001:DB8::1", "cosmetic peer 2001:DB8::1 / count"}},
		{"rule 10.0.0.1 a\nrule 10.0.0.2 a\n", "rule 10.0.0.1/32 a\nrule 10.0.0.2 a\n", []string{"cosmetic rule 10.0.0.1/32 a"}},
		{"last 1\nlast 2\n", "last 2\nlast 1\n", []string{"reordered last"}},
		{"all 1\nall 2\n", "all 2\nall 1\n", []string{"cosmetic all"}},
		{"once 1\nonce 2\n", "once 2\nonce 1\n", []string{"reordered once"}},
		{"once 1\nmode fast\n", "mode fast\nonce 1\n", []string{"cosmetic mode"}},
	} {
		got := differs(t, s, c.old, c.new)
		assert.Equal(t, c.want, got[:min(len(got), len(c.want))], "%s%s", c.old, c.new)
		for _, d := range got[min(len(got), len(c.want)):] {
			assert.True(t, strings.HasPrefix(d, "cosmetic"), d)
		}
	}
	json := readSpelled(t, "json")
	assert.Equal(t, []string{"changed count the old side has a number or word without quotes, the new one text in quotes"}, differs(t, json, `{"count": 10}`, `{"count": "10"}`))
}

// Without a schema, statements of one name that change places may decide what holds; others do not.
func TestOrderWithoutASchema(t *testing.T) {
	for _, c := range []struct {
		syntax   Syntax
		old, new string
		want     []string
	}{
		{BlockIndent, "port p1\n  mtu 1\n  mtu 2\n", "port p1\n  mtu 2\n  mtu 1\n", []string{"reordered port p1 / mtu"}},
		{BlockIndent, "name a\nhost b\n", "host b\nname a\n", []string{"cosmetic host"}},
		{BlockIndent, "port p1\n  a 1\nport p2\n  a 2\n", "port p2\n  a 2\nport p1\n  a 1\n", []string{"cosmetic port p2"}},
		{Braces, "mtu 1;\nmtu 2;\n", "mtu 2;\nmtu 1;\n", []string{"reordered mtu"}},
		{Dotted, "a.mtu = 1\na.mtu = 2\n", "a.mtu = 2\na.mtu = 1\n", []string{"reordered a / mtu"}},
		{INI, "[a]\nmtu = 1\nmtu = 2\n", "[a]\nmtu = 2\nmtu = 1\n", []string{"reordered a / mtu"}},
		{XML, "<a><m>1</m><m>2</m></a>", "<a><m>2</m><m>1</m></a>", []string{"reordered a / m"}},
		{JSON, `{"a": 1, "b": 2}`, `{"b": 2, "a": 1}`, []string{"cosmetic b"}},
		{JSON, `{"a": [1, 2]}`, `{"a": [2, 1]}`, []string{"reordered a / 2"}},
	} {
		assert.Equal(t, c.want, differs(t, Simple(c.syntax, nil, nil), c.old, c.new), c.old)
	}
}

func TestWhatCannotBeSeen(t *testing.T) {
	lines := Simple(BlockIndent, nil, nil)
	for _, c := range []struct{ old, new, want string }{
		{"name a\u200bb\n", "name ab\n", "changed name they look the same, but the old one has U+200B (zero width space)"},
		{"name é\n", "name e\u0301\n", "changed name they look the same, in different normal forms: U+00E9 on the old side, U+0065 U+0301 on the new one"},
		{"name p1\n", "name р1\n", "changed name they look the same, but the old one has U+0070, the new one has U+0440 (looks like p)"},
		{"name \"a b\"\n", "name \"a\u00a0b\"\n", "changed name they look the same, but the old one has U+0020 (blank), the new one has U+00A0 (no-break space)"},
		{"\ufeffname a\n", "name a\n", "cosmetic (begin of file) only the old one begins with U+FEFF (byte order mark)"},
		{"name a\n", "name b\n", "changed name"},
		{"name é\n", "name è\n", "changed name"},
	} {
		assert.Equal(t, []string{c.want}, differs(t, lines, c.old, c.new))
	}
	assert.Equal(t, []string{"changed a the old side has an empty list [], the new one an empty object {}"}, differs(t, Simple(JSON, nil, nil), `{"a": []}`, `{"a": {}}`))
	hidden := differs(t, Simple(BlockIndent, []string{"code"}, nil), "code a\u200bb\n", "code ab\n")
	assert.Equal(t, []string{"changed code they look the same, but are not"}, hidden, "what is secret is not told")
}

// A byte order mark stays where it is, whatever is edited.
func TestTheByteOrderMarkStays(t *testing.T) {
	for syntax, text := range map[Syntax]string{BlockIndent: "# c\na 1\nb 2\n", Braces: "# c\na 1;\nb 2;\n", Dotted: "# c\na = 1\nb = 2\n", INI: "# c\na = 1\nb = 2\n", JSON: "{\"a\": 1, \"b\": 2}\n"} {
		d, broken := Parse("x", bom+text, syntax)
		require.Empty(t, broken, syntax)
		assert.Equal(t, 1, d.Root.Children[0].Column-map[Syntax]int{JSON: 4}[syntax], syntax)
		assert.Equal(t, bom+text, d.Print())
		d.Root.Child("b").SetWords([]Word{{Text: "3"}})
		assert.Equal(t, bom+strings.Replace(text, "2", "3", 1), d.Print(), syntax)
	}
}

// A number means the same with leading zeros, and a list of numbers the same in any order and grouping.
func TestSpellingsOfNumbers(t *testing.T) {
	s := readSpelled(t, "block-indent")
	rapid.Check(t, func(t *rapid.T) {
		list := rapid.SliceOfN(rapid.IntRange(0, 40), 1, 12).Draw(t, "list")
		shuffled := rapid.Permutation(list).Draw(t, "shuffled")
		spell := func(of []int) string {
			var out []string
			for _, n := range of {
				out = append(out, strings.Repeat("0", rapid.IntRange(0, 2).Draw(t, "zeros"))+strconv.Itoa(n))
			}
			return strings.Join(out, ",")
		}
		inner := s.Types["numbers"]
		a, b := s.meaning(inner, spell(list)), s.meaning(inner, spell(shuffled))
		if a != b || s.meaning(inner, a) != a {
			t.Fatalf("%s and %s", a, b)
		}
	})
}
