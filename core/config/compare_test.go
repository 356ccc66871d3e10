package config

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/version"
)

var simple = Simple(BlockIndent, []string{"secret"}, []string{"policy"})

const pier = `format: verimorph-schema/1
id: t-1
family: t
releases: ">=1"
syntax: block-indent
types:
  role: {one-of: [outside, inside, cameras]}
  port: {refers-to: [port], or: [any]}
  ports: {list-of: port}
  switch: {one-of: ["on", "off"]}
  mbit: {range: [10, 100000], unit: Mbit/s}
ports:
  T-4: [{name: p1..4, speed: 1000}]
services: {entries: [service *], address: address, naming: "^([a-z]+)-"}
statements:
  box:
    section: General
    statements: {name: {type: name, required: true}, place: text}
  port:
    key: word
    defines: port
    words: [name]
    statements:
      role: role
      address: {type: prefix, guarded: it is the way to the box}
      link: {one-of-is: x}
`

func readSchema(t testing.TB, text string) *Schema {
	s, found := ReadSchema("s.yaml", []byte(text), func(string) *version.Scheme { return version.Default }, func(string) *Schema { return nil })
	require.Empty(t, found)
	return s
}

// pierSchema describes the block-indent sample and more.
func pierSchema(t testing.TB) *Schema {
	return readSchema(t, strings.Replace(pier, "      link: {one-of-is: x}\n", `      link: {words: [switch], default: "on"}
      speed: {type: mbit, default: "1000"}
  user:
    key: word
    words: [name]
    section: People
    statements:
      secret: {words: [word, "word?"], secret: true}
      level: {type: word, default: plain}
  policy:
    key: word
    words: [name]
    ordered: true
    section: Rules
    statements:
      allow: {key: words, words: ["word..."]}
      deny: {key: words, words: ["word..."]}
  service:
    key: word
    words: [name]
    statements: {address: address, via: ports}
`, 1)+"")
}

func TestSchemaErrorsHavePlaces(t *testing.T) {
	_, found := ReadSchema("s.yaml", []byte(pier), func(string) *version.Scheme { return version.Default }, func(string) *Schema { return nil })
	require.NotEmpty(t, found)
	assert.Contains(t, found[0].String(), `s.yaml:26:14: error: a statement has no field "one-of-is"`)
	for change, want := range map[[2]string]string{
		{"role: role", "role: rolle"}:                                                      `type "rolle" is not known`,
		{"refers-to: [port]", "refers-to: [harbour]"}:                                      `type "port" refers to "harbour", which no statement defines`,
		{"syntax: block-indent", "syntax: spaces"}:                                         `"spaces" is not known here`,
		{"statements: {name: {type: name", "statements: {name: {words: ['word...', name]"}: "nothing can stand behind any number of words",
		{"family: t", "family: t\nextends: t-0"}:                                           `schema "t-0" is not known`,
		{`naming: "^([a-z]+)-"`, `naming: "(["`}:                                           "missing closing",
		{`releases: ">=1"`, `releases: ">="`}:                                              "range",
	} {
		_, found := ReadSchema("s.yaml", []byte(strings.Replace(strings.Replace(pier, "      link: {one-of-is: x}\n", "", 1), change[0], change[1], 1)),
			func(string) *version.Scheme { return version.Default }, func(string) *Schema { return nil })
		require.NotEmpty(t, found, "%v", change)
		assert.Contains(t, found.Error(), want)
	}
}

func compareText(t testing.TB, syntax Syntax, s *Schema, old, new string) []Difference {
	return Compare(parse(t, syntax, old), parse(t, syntax, new), s).Differences
}

func TestCompareByIdentity(t *testing.T) {
	text := samples[BlockIndent]
	change := func(s *Schema, pairs ...string) []Difference {
		return compareText(t, BlockIndent, s, text, strings.NewReplacer(pairs...).Replace(text))
	}
	only := func(ds []Difference) Difference {
		t.Helper()
		var real []Difference
		for _, d := range ds {
			if d.Kind != Cosmetic {
				real = append(real, d)
			}
		}
		require.Len(t, real, 1, "%+v", ds)
		d := real[0]
		d.old, d.new = nil, nil
		return d
	}
	for _, s := range []*Schema{simple, pierSchema(t)} {
		cosmetic := change(s, "# pier Hollen", "# other", "box\n", "box   # x\n", "# end", "# fin")
		require.Len(t, cosmetic, 2)
		assert.Equal(t, []string{Cosmetic, Cosmetic}, []string{cosmetic[0].Kind, cosmetic[1].Kind})
		assert.True(t, Compare(parse(t, BlockIndent, text), parse(t, BlockIndent, strings.Replace(text, "# end", "#", 1)), s).Same())

		d := only(change(s, "bb22", "cc33"))
		assert.True(t, d.Secret)
		assert.Equal(t, "secret *** ***", d.New, "changed is seen, the value is not")

		d = only(change(s, "  allow tcp 443\n  allow udp 500\n  deny any\n", "  deny any\n  allow tcp 443\n  allow udp 500\n"))
		assert.Equal(t, []string{Reordered, "deny any"}, []string{d.Kind, d.New}, "one entry moved is one difference")

		swapped := compareText(t, BlockIndent, s, text, strings.Replace(strings.Replace(text, "port p2\n", "", 1), "# end\n", "port p2\n# end\n", 1))
		assert.Equal(t, Cosmetic, swapped[0].Kind, "order outside of ordered blocks says nothing")

		d = only(change(s, "port p1\n  role outside\n  address 198.51.100.2/28\n", ""))
		assert.Equal(t, []string{Removed, "port p1\n  role outside\n  address 198.51.100.2/28"}, []string{d.Kind, d.Old})

		d = only(change(s, "port p1\n", "port p4\n"))
		assert.Equal(t, []string{Renamed, "port p1", "port p4"}, []string{d.Kind, d.OldPath, d.Path})

		d = only(change(s, "  address 198.51.100.2/28\nport p2\n", "port p2\n  address 198.51.100.2/28\n"))
		assert.Equal(t, []string{Moved, "port p1 / address", "port p2 / address"}, []string{d.Kind, d.OldPath, d.Path})
	}
	s := pierSchema(t)
	guarded := change(s, "hollen-fw1", "hollen-fw2", "198.51.100.2/28", "198.51.100.3/28")
	require.Len(t, guarded, 2)
	assert.Equal(t, Difference{Kind: Changed, Path: "port p1 / address", Old: "address 198.51.100.2/28", New: "address 198.51.100.3/28", OldLine: 8, NewLine: 8,
		Guarded: "it is the way to the box", Section: "port", old: guarded[0].old, new: guarded[0].new}, guarded[0], "guarded ones come first")
	assert.Equal(t, "General", guarded[1].Section)
	assert.Equal(t, "it is the way to the box", only(change(s, "port p1\n  role outside\n  address 198.51.100.2/28\n", "")).Guarded, "also inside a block that went")

	d := only(change(s, "  role outside\n", "  role outside\n  link on\n"))
	assert.Equal(t, []string{DefaultExplicit, "link on"}, []string{d.Kind, d.New})
	ds := compareText(t, BlockIndent, s, "port p1\n  speed 1000\n", "port p1\n")
	assert.Equal(t, DefaultDropped, only(ds).Kind)
	ds = compareText(t, BlockIndent, s, "port p1\n  speed 100\n", "port p1\n")
	assert.Equal(t, Removed, only(ds).Kind)
}

func TestCompareInOtherSyntaxes(t *testing.T) {
	for _, c := range []struct {
		syntax             Syntax
		old, new           string
		kind, path, before string
	}{
		{JSON, `{"ports":[{"name":"p1","mtu":1},{"name":"p2","mtu":2}]}`, `{"ports":[{"name":"p2","mtu":2},{"name":"p1","mtu":3}]}`, Changed, "ports / p1 / mtu", "mtu 1"},
		{JSON, `{"a":1}`, `{"a":"1"}`, Changed, "a", "a 1"},
		{JSON, `{"a":[1,2,3]}`, `{"a":[1,3]}`, Removed, "a / 2", "2"},
		{JSON, `{"a":{}}`, `{"a":[]}`, Changed, "a", "a"},
		{JSON, `[1]`, `{}`, Changed, "", "(the whole file)"},
		{JSON, `{"ports":[{"name":"p1","mtu":1500,"role":"x"}]}`, `{"ports":[{"name":"p9","mtu":1500,"role":"x"}]}`, Renamed, "ports / p9", "name \"p1\"\nmtu 1500\nrole \"x\""},
		{XML, `<a><p id="1"><m>5</m></p><p id="2"><m>6</m></p></a>`, `<a><p id="2"><m>6</m></p><p id="1"><m>7</m></p></a>`, Changed, "a / p 1 / m", "m 5"},
		{BlockIndent, "box\n  name x\n  place here\n", "box\n  name y\n  place here\n", Changed, "box / name", "name x"},
		{Braces, "box { name x; }\n", "box { name y; }\n", Changed, "box / name", "name x"},
		{BlockIndent, "port p1\n  name x\nport p2\n  name y\n", "port p2\n  name y\nport p1\n  name z\n", Changed, "port p1 / name", "name x"},
		{XML, `<a b="1"/>`, `<a b="2"/>`, Changed, "a / @b", "@b 1"},
		{Dotted, "a.b = 1\nc.d = 2\n", "c.d = 2\na.b = 3\n", Changed, "a / b", "b 1"},
		{INI, "[drive 1]\nspeed = 5\n[drive 2]\nspeed = 6\n", "[drive 2]\nspeed = 6\n[drive 1]\nspeed = 7\n", Changed, "drive 1 / speed", "speed 5"},
		{Braces, "vlan 1 { title a; }\nvlan 2 { title b; }\n", "vlan 1 { title a; }\nvlan 2 { title c; }\n", Changed, "vlan 2 / title", "title b"},
	} {
		s := Simple(c.syntax, nil, nil)
		if c.syntax == XML { // a schema says how repeated elements are told apart; without one it is guessed
			s = &Schema{Syntax: XML}
		}
		ds := compareText(t, c.syntax, s, c.old, c.new)
		require.NotEmpty(t, ds, "%+v", c)
		assert.Equal(t, []string{c.kind, c.path, c.before}, []string{ds[0].Kind, ds[0].Path, ds[0].Old}, "%s %+v", c.syntax, ds)
	}
}

// says is all that a tree says, where the order of statements says nothing.
func says(n *Node) string {
	var inside []string
	for _, k := range n.Children {
		inside = append(inside, says(k))
	}
	if n.Form != List {
		slices.Sort(inside)
	}
	return fmt.Sprintf("%q %q [%s]", n.Name, texts(n.Words), strings.Join(inside, " "))
}

// schemaFor draws schemas that describe the trees drawNode makes, or parts of them.
func schemaFor(t *rapid.T) *Schema {
	s := &Schema{Ordered: rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b"}), 0, 1).Draw(t, "ordered")}
	if rapid.Bool().Draw(t, "described") {
		key := rapid.SampledFrom([]Key{KeyWord, KeyWords, KeyPosition, "a"})
		s.Top = &Statement{Key: KeyOnce, Statements: map[string]*Statement{}}
		for _, name := range []string{"a", "b"} {
			st := &Statement{Name: name, Key: key.Draw(t, "key"), Ordered: rapid.Bool().Draw(t, "order"), Statements: map[string]*Statement{}}
			st.Statements["c"] = &Statement{Name: "c", Key: KeyWords}
			s.Top.Statements[name] = st
		}
	}
	return s
}

func TestCompareProperties(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		syntax := Syntax(rapid.SampledFrom(Syntaxes).Draw(t, "syntax"))
		draw := func() *Document {
			d := Empty("x", syntax)
			for range rapid.IntRange(1, 5).Draw(t, "statements") {
				n := drawNode(t, syntax, 2)
				if (syntax == JSON || syntax == Dotted) && d.Root.Child(n.Name) != nil {
					continue
				}
				d.Root.Insert(-1, n)
				if syntax == XML {
					break
				}
			}
			text := d.Print()
			e, broken := Parse("x", text, syntax)
			if len(broken) > 0 {
				t.Fatalf("%s in %s", broken[0], text)
			}
			return e
		}
		s := schemaFor(t)
		a := draw()
		b := draw()
		if rapid.Bool().Draw(t, "related") {
			// The same statements with some of them elsewhere, in another order, or gone.
			b = a.Clone(nil)
			var all []*Node
			b.Root.Walk(func(n *Node) {
				if n.Parent != nil && n.Parent != b.Root {
					all = append(all, n)
				}
			})
			for range rapid.IntRange(0, min(3, len(all))).Draw(t, "changes") {
				n := rapid.SampledFrom(all).Draw(t, "n")
				if p := n.Parent; p != nil && (syntax == BlockIndent || syntax == Braces) {
					n.Remove()
					if rapid.Bool().Draw(t, "elsewhere") {
						p.Insert(rapid.IntRange(-1, len(p.Children)).Draw(t, "at"), n)
					}
				} else if len(n.Words) == 1 && syntax == Dotted {
					n.SetWords([]Word{{Text: "other"}})
				}
			}
			b, _ = Parse("x", b.Print(), syntax)
		}
		if syntax == Dotted { // lines of one block need not stand together
			lines := rapid.Permutation(Lines(b.Print())).Draw(t, "lines")
			b, _ = Parse("x", strings.Join(lines, "\n")+"\n", syntax)
		}
		again, _ := Parse("x", a.Print(), syntax)
		if ds := Compare(a, again, s).Differences; len(ds) != 0 {
			t.Fatalf("compared with itself: %+v\n%s", ds, a.Print())
		}
		c := Compare(a, b, s)
		if c.Same() && says(a.Root) != says(b.Root) {
			t.Fatalf("no difference from\n%sto\n%s", a.Print(), b.Print())
		}
		got := c.Apply()
		if rest := Compare(got, b, s); !rest.Same() {
			t.Fatalf("from\n%sto\n%sgot\n%sleft: %+v\nby: %+v", a.Print(), b.Print(), got.Print(), rest.Differences, c.Differences)
		}
		if a.Changed() || b.Changed() {
			t.Fatal("comparing or applying changed its input")
		}
	})
}

func TestMaskingKeepsShape(t *testing.T) {
	for syntax, c := range map[Syntax]struct{ text, want string }{
		BlockIndent: {"user a\n  secret aa11 \"b b\" # note\n  # secret old99\n  level x # was secret zz\nx secret k1 k2\n", "user a\n  secret *** *** # note\n  # ***\n  level x # ***\nx secret *** ***\n"},
		Braces:      {"user a { secret aa11; level x; }\nsecret \"a;b\" c { x; } # secret zz\n", "user a { secret ***; level x; }\nsecret *** *** { x; } # ***\n"},
		Dotted:      {"u.a.secret = aa11 # n\nu.a.secret2 = b\n# u.secret = zz\n", "u.a.secret = *** # n\nu.a.secret2 = b\n# ***\n"},
		INI:         {"[user a]\nsecret = aa11 ; n\n; secret = zz\n", "[user a]\nsecret = *** ; n\n; ***\n"},
		JSON:        {"{\"users\": [{\"name\": \"a\",\n \"secret\":\"aa11\"}]}\n", "{\"users\": [{\"name\": \"a\",\n \"secret\": \"***\"}]}\n"},
		XML:         {"<a><!-- the\nsecret zz -->\n<secret x='1'>aa\n11</secret><b secret=\"bb\"/></a>\n", "<a><!-- *** \n-->\n<secret x='1'>***\n</secret><b secret=\"***\"/></a>\n"},
	} {
		s := Simple(syntax, []string{"secret"}, nil)
		got := s.MaskText("x", c.text)
		assert.Equal(t, c.want, got, syntax)
		assert.Equal(t, strings.Count(c.text, "\n"), strings.Count(got, "\n"))
		for _, cut := range []int{len(c.text) / 2, len(c.text) * 2 / 3, len(c.text) - 3} {
			broken := s.MaskText("x", c.text[:cut])
			for _, secret := range []string{"aa11", "zz", "b b", "k1"} {
				assert.NotContains(t, broken, secret, "%s, cut at %d: %q", syntax, cut, c.text[:cut])
			}
		}
	}
}

// What a schema does not know is masked by its name, and what it forgets to call secret by the family's words.
func TestUnknownStatementsAreMaskedByTheirName(t *testing.T) {
	s := pierSchema(t)
	got := s.MaskText("x", "box\n  name a\n  password aa11\n  passwords bb22\n")
	assert.Equal(t, "box\n  name a\n  password ***\n  passwords bb22\n", got)
	for _, f := range s.Check(parse(t, BlockIndent, "box\n  name a\n  password aa11\n"), "", version.Version{}) {
		assert.NotContains(t, f.String(), "aa11")
	}
}

func TestCheckAgainstSchema(t *testing.T) {
	s := pierSchema(t)
	for text, want := range map[string]string{
		samples[BlockIndent]:                    "",
		"box\n  nam x\n":                        `2:3: box / nam: nam is not known here; expected one of name, place | 1:1: box: "name" is missing`,
		"port p9\n":                             "1:1: port p9: T-4 has no port p9; it has p1, p2, p3, p4",
		"port p1\n  role upside\n":              `2:8: port p1 / role: "upside" does not fit; expected one of outside, inside, cameras`,
		"port p1\nport p1\n":                    "2:1: port p1: it stands here already, on line 1",
		"port p1\n  address 10.0.0.1\n":         `2:11: port p1 / address: "10.0.0.1" does not fit; expected an address with its prefix length`,
		"port p1\n  role\n":                     "2:3: port p1 / role: 1 of its values are missing; expected one of outside, inside, cameras",
		"port p1\n  role inside x\n":            "2:3: port p1 / role: one value too many; expected 1",
		"port p1\nservice s\n  via p1,p7,any\n": `3:7: service s / via: there is no port "p7"`,
		"user x\n  secret \"two words\"\n":      "2:10: user x / secret: the value does not fit; expected one word",
		"port p1\n  speed 5\n":                  `2:9: port p1 / speed: "5" does not fit; expected a number from 10 to 100000 Mbit/s`,
	} {
		var got []string
		for _, f := range s.Check(parse(t, BlockIndent, text), "T-4", version.MustParse("1.2")) {
			got = append(got, f.String())
		}
		assert.Equal(t, want, strings.Join(got, " | "), "%s", text)
	}
}

func TestBundles(t *testing.T) {
	file := func(name, text string) *Document {
		d, _ := Parse(name, text, BlockIndent)
		return d
	}
	got := CompareBundles(
		[]*Document{file("main.cfg", "a 1\nb 2\n"), file("old.cfg", "x 1\n  y 2\n"), file("gone.cfg", "g 1\n")},
		[]*Document{file("main.cfg", "a 1\nb 3\n"), file("newer.cfg", "x 1\n  y 2\n"), file("fresh.cfg", "f 1\n")}, func(*Document) *Schema { return nil })
	var said []string
	for _, f := range got {
		said = append(said, f.State+" "+f.Old+">"+f.New)
	}
	assert.Equal(t, []string{"changed main.cfg>main.cfg", "missing gone.cfg>", "new >fresh.cfg", "renamed old.cfg>newer.cfg"}, said)
	assert.Len(t, got[0].Comparison.Differences, 1)
}

func TestDemoConfigurationsRead(t *testing.T) {
	names, err := os.ReadDir("../../demo/configs")
	require.NoError(t, err)
	for _, f := range names {
		text, err := os.ReadFile("../../demo/configs/" + f.Name())
		require.NoError(t, err)
		d, broken := Parse(f.Name(), string(text), Guess(f.Name(), string(text)))
		assert.Empty(t, broken, f.Name())
		assert.Equal(t, string(text), d.Print())
	}
}
