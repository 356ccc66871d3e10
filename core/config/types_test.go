package config

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/version"
)

func TestBuiltInTypes(t *testing.T) {
	s := &Schema{}
	for name, c := range map[string]struct{ right, wrong []string }{
		"text":        {[]string{"", "a b", "å"}, nil},
		"word":        {[]string{"a", "10.0.0.1"}, []string{"", "a b"}},
		"name":        {[]string{"a", "p1", "hollen-fw1.x_y"}, []string{"", "-a", "a b", "å"}},
		"number":      {[]string{"1", "-0.35", "1e3"}, []string{"", "x", "1,5"}},
		"count":       {[]string{"0", "64871"}, []string{"", "-1", "1.5", "1234567890123456789"}},
		"address":     {[]string{"10.0.0.1", "fe80::1"}, []string{"10.0.0", "10.0.0.1/24", "host"}},
		"prefix":      {[]string{"10.0.0.1/24", "::/0"}, []string{"10.0.0.1", "10.0.0.0/33"}},
		"network":     {[]string{"10.0.0.1", "10.0.0.0/8"}, []string{"10", "any"}},
		"mac":         {[]string{"02:00:5e:10:00:01"}, []string{"02:00", "x"}},
		"port-number": {[]string{"0", "443", "65535"}, []string{"65536", "-1", "http"}},
		"flag":        {[]string{"true", "false"}, []string{"yes", ""}},
	} {
		typ := s.Type(name + "...")
		require.NotNil(t, typ, name)
		assert.NotEmpty(t, typ.Expects())
		for _, w := range c.right {
			assert.Empty(t, s.wrong(typ, w, nil), "%s %q", name, w)
		}
		for _, w := range c.wrong {
			assert.Contains(t, s.wrong(typ, w, nil), "expected ", "%s %q", name, w)
		}
	}
	assert.Nil(t, s.Type("nothing"))
}

const kinds = `format: verimorph-schema/1
id: k
family: t
releases: any
syntax: block-indent
types:
  power: {range: [0, 30], unit: dBm, or: [auto]}
  code: {match: '[A-Z]{2}[0-9]+'}
  pool: {refers-to: [pool, group], or: [none]}
  pools: {list-of: pool}
  codes: {list-of: code}
statements:
  power: power
  code: code
  codes: codes
  pool: {key: word, words: [name], defines: pool, statements: {size: {type: count, releases: ">=2"}, wide: {type: flag, models: [B]}}}
  group: {key: word, words: [name], defines: group, statements: {of: {type: pools, required: true}}}
  use: pool
  role: {type: name, defines: role}
`

func TestTypesOfASchema(t *testing.T) {
	s := readSchema(t, kinds)
	for text, want := range map[string]string{
		"power 30\n":                  "",
		"power auto\n":                "",
		"power 31\n":                  `"31" does not fit; expected a number from 0 to 30 dBm or auto`,
		"code AB12\n":                 "",
		"code XAB12\n":                `"XAB12" does not fit; expected a code`,
		"codes \"AB1, CD2,\"\n":       "",
		"codes AB1,x\n":               `"x" does not fit; expected a code`,
		"use none\n":                  "",
		"use p\n":                     `there is no pool or group "p"`,
		"pool p\nuse p\n":             "",
		"group g\n  of p,q\npool p\n": `there is no pool or group "q"`,
		"group g\n":                   `"of" is missing`,
		"pool p\n  size 1\n":          "release 1.0 has no size",
		"pool p\n  wide true\n":       "A has no wide",
		"nothing\n":                   "nothing is not known here; expected one of code, codes, group, pool, power, role, use",
		"pool p\n  odd 1\n":           "odd is not known here; expected one of size, wide",
		"power 1 2\n":                 "one value too many; expected 1",
	} {
		var said []string
		for _, f := range s.Check(parse(t, BlockIndent, text), "A", version.MustParse("1.0")) {
			said = append(said, f.Message)
		}
		assert.Equal(t, want, strings.Join(said, "; "), text)
	}
	assert.Empty(t, s.Check(parse(t, BlockIndent, "pool p\n  size 1\n  wide true\n"), "B", version.MustParse("2.0")))
	assert.Empty(t, s.Check(parse(t, BlockIndent, "pool p\n  size 1\n  wide true\n"), "", version.Version{}), "what depends on model or release is left out")
}

func TestReferencesAreFoundAndFollow(t *testing.T) {
	s := readSchema(t, kinds)
	d := parse(t, BlockIndent, "pool a\npool b\ngroup g\n  of \"a, b,none\" # both\nuse a\nrole outside\n")
	defined := s.Defined(d)
	assert.Len(t, defined["pool"], 2)
	assert.Len(t, defined["role"]["outside"], 1, "a statement without a key defines its value")
	var seen []string
	s.WalkWith(d.Root, func(n *Node, st *Statement) {
		s.References(n, st, func(kinds []string, name string, set func(string)) {
			seen = append(seen, name+" of "+strings.Join(kinds, ","))
			if name == "a" {
				set("b")
			}
		})
		s.Unrepeat(n, st)
	})
	assert.Equal(t, []string{"a of pool,group", "b of pool,group", "a of pool,group"}, seen)
	assert.Equal(t, "pool a\npool b\ngroup g\n  of \"b,none\" # both\nuse b\nrole outside\n", d.Print())
	s.Rekey(d.Root.Children[0], s.Describe(d.Root.Children[0]), "c")
	assert.True(t, strings.HasPrefix(d.Print(), "pool c\n"))
}

func TestSchemasExtendOthers(t *testing.T) {
	base := readSchema(t, kinds)
	scheme := func(string) *version.Scheme { return version.Default }
	read := func(text string) (*Schema, error) {
		s, found := ReadSchema("x.yaml", []byte("format: verimorph-schema/1\nid: l\nfamily: t\nreleases: \">=3\"\nextends: k\n"+text), scheme, func(id string) *Schema {
			if id == "k" {
				return base
			}
			return nil
		})
		if len(found) > 0 {
			return s, found
		}
		return s, nil
	}
	s, err := read("without: [code, pool / size]\ntypes: {power: {range: [0, 300]}}\nstatements:\n  pool: {statements: {depth: count}}\n  extra: text\n")
	require.NoError(t, err)
	assert.Nil(t, s.Top.Statements["code"])
	assert.Nil(t, s.Top.Statements["pool"].Statements["size"])
	assert.NotNil(t, s.Top.Statements["pool"].Statements["depth"])
	assert.NotNil(t, s.Top.Statements["extra"])
	assert.Equal(t, Key(KeyWord), s.Top.Statements["pool"].Key, "what is not said again stays")
	assert.Empty(t, s.Check(parse(t, BlockIndent, "power 200\n"), "", version.Version{}))
	assert.NotNil(t, base.Top.Statements["pool"].Statements["size"], "the other schema is not touched")
	assert.NotEmpty(t, base.Check(parse(t, BlockIndent, "power 200\n"), "", version.Version{}))
	for text, want := range map[string]string{
		"without: [nothing]\n":              `x.yaml:6:11: error: there is no "nothing" to leave out`,
		"without: [pool / nothing]\n":       `there is no "pool / nothing" to leave out`,
		"without: [a / b]\n":                `there is no "a / b" to leave out`,
		"statements: {a: {type: nix}}\n":    `type "nix" is not known`,
		"types: {power: {range: [3, 1]}}\n": "expected two numbers",
		"ports: {A: [{name: p1}]}\n":        `ports lacks "speed"`,
		"services: {}\n":                    `services lacks "entries"`,
	} {
		_, err := read(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestPortsAreSpread(t *testing.T) {
	assert.Equal(t, []string{"p1", "p2", "p3"}, spread("p1..3"))
	assert.Equal(t, []string{"c2-9", "c2-10"}, spread("c2-9..10"))
	assert.Equal(t, []string{"up"}, spread("up"))
	assert.Empty(t, spread("p3..1"))
	assert.Len(t, spread("p1..99999"), 1000, "a slip of the pen takes no more than that")
}

func TestGuessing(t *testing.T) {
	for text, want := range map[string]Syntax{
		"<a/>": XML, "  \n<?xml?>": XML, "{\"a\":1}": JSON, "[\n1\n]\n": JSON, "[a]\nb = 1\n": INI, "; x\n[a b]\n": INI, "a.b = 1\nc.d = 2\n": Dotted, "a { b; }\nc;\n": Braces, "a b\n  c\n": BlockIndent, "": BlockIndent,
	} {
		assert.Equal(t, want, Guess("x", text), "%q", text)
	}
	assert.Equal(t, JSON, Guess("a.JSON", "x"))
	assert.Equal(t, INI, Guess("a.ini", "x"))
	assert.Equal(t, XML, Guess("a.xml", "x"))
	_, broken := Parse("x", "a", "spaces")
	require.Len(t, broken, 1)
	assert.Contains(t, broken[0].Message, `syntax "spaces" is not known; expected one of block-indent, braces`)
}
