package config

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// samples holds one small configuration of each syntax with the awkward parts of that syntax.
var samples = map[Syntax]string{
	BlockIndent: "# pier Hollen\nbox\n  name hollen-fw1\n  place \"Pier \\\"Hollen\\\"\" # by the gate\n\nport p1\n  role outside\n  address 198.51.100.2/28\nport p2\nuser bosun\n  secret aa11 bb22\npolicy edge\n  allow tcp 443\n  allow udp 500\n  deny any\n# end\n",
	Braces:      "# stack\nbox { name gullnes-sw1; place \"Pier; {3}\"; } # short\nvlan 20 {\n    title guests;   # people on board\n    filter {\n        allow tcp 80;\n        deny any;\n    }\n}\nempty { }\nlog;\n",
	Dotted:      "# controllers\nbox.name = innersund-wc1\nradio.5.power = 14 # dBm\nbox.place = \"Pier # 5\"\nroute.\"10.0.0.0/8\".via = 10.1.1.1\nradio.5 = on\nnothing =\n",
	INI:         "; ramp\nversion = F1.06\n[drive 1]\nspeed = 30 ; percent\ntitle = \"bow; ramp\"\n\n[drive \"b 2\"]\nspeed=25\n[empty]\n",
	JSON:        "{\n  \"name\": \"sg5\",\n  \"ports\": [\n    {\"name\": \"p1\", \"mtu\": 1500, \"up\": true},\n    {\"name\": \"p2\", \"note\": \"a \\\"b\\\" \\u00e5\"}\n  ],\n  \"none\": null, \"list\": [], \"deep\": {}\n}\n",
	XML:         "<?xml version=\"1.0\"?>\n<!-- V1 -->\n<router name=\"mv &amp; tern\">\n  <port id='p1'>\n    <mtu unit=\"byte\">1500</mtu>\n    <up/>\n    <note>a &lt; b</note>\n  </port>\n  <empty></empty>\n</router>\n",
}

func parse(t testing.TB, syntax Syntax, text string) *Document {
	t.Helper()
	d, broken := Parse("x", text, syntax)
	require.Empty(t, broken, "%s", text)
	return d
}

// outline writes a tree in a way that has nothing to do with its syntax.
func outline(n *Node) string {
	var b strings.Builder
	var walk func(*Node, int)
	walk = func(n *Node, depth int) {
		fmt.Fprintf(&b, "%s%q %q\n", strings.Repeat(" ", depth), n.Name, texts(n.Words))
		for _, c := range n.Children {
			walk(c, depth+1)
		}
	}
	walk(n, 0)
	return b.String()
}

func TestTreesOfAllSyntaxes(t *testing.T) {
	for syntax, want := range map[Syntax]string{
		BlockIndent: `"" [] / "box" [] / "name" ["hollen-fw1"] / "place" ["Pier \"Hollen\""] / "port" ["p1"] / "role" ["outside"] / "address" ["198.51.100.2/28"] / "port" ["p2"] / "user" ["bosun"] / "secret" ["aa11" "bb22"] / "policy" ["edge"] / "allow" ["tcp" "443"] / "allow" ["udp" "500"] / "deny" ["any"]`,
		Braces:      `"" [] / "box" [] / "name" ["gullnes-sw1"] / "place" ["Pier; {3}"] / "vlan" ["20"] / "title" ["guests"] / "filter" [] / "allow" ["tcp" "80"] / "deny" ["any"] / "empty" [] / "log" []`,
		Dotted:      `"" [] / "box" [] / "name" ["innersund-wc1"] / "place" ["Pier # 5"] / "radio" [] / "5" ["on"] / "power" ["14"] / "route" [] / "10.0.0.0/8" [] / "via" ["10.1.1.1"] / "nothing" [""]`,
		INI:         `"" [] / "version" ["F1.06"] / "drive" ["1"] / "speed" ["30"] / "title" ["bow; ramp"] / "drive" ["b 2"] / "speed" ["25"] / "empty" []`,
		JSON:        `"" [] / "name" ["sg5"] / "ports" [] / "" [] / "name" ["p1"] / "mtu" ["1500"] / "up" ["true"] / "" [] / "name" ["p2"] / "note" ["a \"b\" å"] / "none" ["null"] / "list" [] / "deep" []`,
		XML:         `"" [] / "router" [] / "@name" ["mv & tern"] / "port" [] / "@id" ["p1"] / "mtu" ["1500"] / "@unit" ["byte"] / "up" [] / "note" ["a < b"] / "empty" []`,
	} {
		d := parse(t, syntax, samples[syntax])
		var got []string
		for _, l := range strings.Split(strings.TrimSpace(outline(d.Root)), "\n") {
			got = append(got, strings.TrimSpace(l))
		}
		assert.Equal(t, want, strings.Join(got, " / "), syntax)
		assert.Equal(t, samples[syntax], d.Print())
		assert.Equal(t, syntax, Guess("x.cfg", samples[syntax]))
	}
}

func TestPlaces(t *testing.T) {
	for syntax, want := range map[Syntax]string{
		BlockIndent: "place 4:3 9", Braces: "title 4:5 11", Dotted: "power 3:1 17", INI: "title 5:1 9", JSON: "note 5:20 28", XML: "mtu 5:5 22",
	} {
		found := ""
		parse(t, syntax, samples[syntax]).Root.Walk(func(n *Node) {
			if n.Name == strings.Fields(want)[0] {
				found = fmt.Sprintf("%s %d:%d %d", n.Name, n.Line, n.Column, n.Words[0].Column)
			}
		})
		assert.Equal(t, want, found)
	}
}

func TestBrokenPlaces(t *testing.T) {
	for _, c := range []struct {
		syntax     Syntax
		text, want string
		sound      string // what is left of the tree
	}{
		{BlockIndent, "box \"open\nport\n", "x:1:5: a quoted word begins here and does not end", "port"},
		{BlockIndent, "a\n  b\n   c\n d\n", "x:4:2: indented by 1, but its block began with 2 on line 2", "a b c d"},
		{BlockIndent, "  a\n", "x:1:3: indented by 2, but no statement above it is a block", "a"},
		{BlockIndent, "a \"b\"c\n", "x:1:6: expected a space after the closing quote", ""},
		{BlockIndent, "a b\x01\nc\n", "x:1:4: a control character (code 1)", "c"},
		{BlockIndent, "a \xff\nc\n", "x:1:3: byte 0xff is not UTF-8", "c"},
		{Braces, "a {\n b;\n", "x:1:1: a block begins here and does not end; expected }", "a b"},
		{Braces, "a;\n}\nb;\n", "x:2:1: a closing } without a block", "a b"},
		{Braces, "a b\nc d;\n", "x:1:4: the line ends here; expected ; or {", "c"},
		{Braces, "{ a; }\n", "x:1:1: a block without a name", " a"},
		{Braces, ";", "x:1:1: a ; without a statement", ""},
		{Braces, "a \"b\"c;\nd;", "x:1:6: expected a space, ; or { after", "d"},
		{Dotted, "a.b 5\nc = 1\n", "x:1:5: expected . or = after a name", "c"},
		{Dotted, "a..b = 5\n", "x:1:3: expected a name", ""},
		{Dotted, "a = \"x\" y\n", "x:1:9: expected the end of the line or a comment", ""},
		{INI, "[a\nb = 1\n", "x:1:3: a section begins on this line and does not end; expected ]", "b"},
		{INI, "[]\nb\nc=1\n", "x:1:2: expected the name of a section", "c"},
		{INI, "[a] b\n", "x:1:5: expected the end of the line or a comment after ]", ""},
		{JSON, `{"a": 1, "b" 2, "c": 3}`, "x:1:14: expected : after the name \"b\"", "a c"},
		{JSON, `{"a": 1, "a": 2}`, `x:1:10: "a" stands in this object twice, before on line 1`, "a a"},
		{JSON, `{"a": 01, "b": tru, "c": [1, 2}, "d": 4}`, `x:1:7: this is not a value`, ""},
		{JSON, `{"a": 1,}`, "x:1:9: a comma before }", "a"},
		{JSON, `[1 2]`, "x:1:4: expected a comma or ]", " "},
		{JSON, `{"a": "x` + "\n" + `"}`, "x:1:9: a control character (code 10) inside a string", ""},
		{JSON, `{"a": "\ud800"}`, "x:1:8: half of a surrogate pair", ""},
		{JSON, `{} x`, "x:1:4: expected the end of the file", ""},
		{JSON, ``, "x:1:1: the file is empty", ""},
		{XML, "<a><b></a>", "x:1:7: expected </b> for the element on line 1 before </a>", "a b"},
		{XML, "<a>\n<b>", "x:2:1: element b begins here and does not end", "a b"},
		{XML, "<a></b></a>", "x:1:4: </b> closes nothing; expected </a>", "a"},
		{XML, "<a x=1/>", "x:1:6: expected the value of attribute x in quotes", ""},
		{XML, `<a x="1" x="2"/>`, "x:1:10: attribute x stands here twice", "a @x @x"},
		{XML, "<a>&b;</a>", "x:1:4: reference &b; is not known", "a"},
		{XML, "<!DOCTYPE a [<!ENTITY b \"bb\"><!ENTITY c \"&b;&b;\">]><a>&c;</a>", "x:1:1: a document type declaration", "a"},
		{XML, "<a/><b/>", "x:1:5: a second element beside the first", "a b"},
		{XML, "x<a/>", "x:1:1: text outside of an element", "a"},
		{XML, "", "x:1:1: expected an element", ""},
	} {
		d, broken := Parse("x", c.text, c.syntax)
		require.NotEmpty(t, broken, "%q", c.text)
		assert.Contains(t, broken[0].Error(), c.want, "%q", c.text)
		assert.Equal(t, c.text, d.Print())
		if c.sound != "" {
			var names []string
			d.Root.Walk(func(n *Node) { names = append(names, n.Name) })
			assert.Equal(t, c.sound, strings.Join(names[1:], " "), "%q", c.text)
		}
	}
}

// What would take much memory is refused or read within bounds; what hangs meets the time limit of all tests.
func TestHostileInput(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	for name, c := range map[string]struct {
		syntax Syntax
		text   string
		want   string
	}{
		"deep objects":   {JSON, strings.Repeat(`{"a":`, 200_000), "more than 500 deep"},
		"deep lists":     {JSON, strings.Repeat(`[`, 500_000), "more than 500 deep"},
		"deep elements":  {XML, strings.Repeat(`<a>`, 200_000), "more than 500 deep"},
		"deep blocks":    {Braces, strings.Repeat("a {\n", 200_000), "more than 500 deep"},
		"deep lines":     {BlockIndent, deepLines(2000), "more than 500 deep"},
		"deep names":     {Dotted, strings.Repeat("a.", 200_000) + "a = 1", "more than 500 deep"},
		"many items":     {JSON, "[" + strings.Repeat("1,", MaxNodes) + "1]", "more than 2097152 statements"},
		"many lines":     {BlockIndent, strings.Repeat("a\n", MaxNodes), "more than 2097152 statements"},
		"large":          {JSON, strings.Repeat(" ", MaxSize+1), "configurations of up to 67108864 are read"},
		"one long line":  {Dotted, "a = " + strings.Repeat("x", 10_000_000), ""},
		"one long text":  {XML, "<a>" + strings.Repeat("x ", 10_000_000) + "</a>", ""},
		"many on a line": {JSON, `{"a":[` + strings.Repeat(`"x",`, 300_000) + `1]}`, ""},
		"many tags":      {XML, "<a>" + strings.Repeat("<b/>", 300_000) + "</a>", ""},
		"many quotes":    {BlockIndent, "a " + strings.Repeat(`"b" `, 500_000), ""},
		"many broken":    {Braces, strings.Repeat("}", 500_000), "a closing }"},
		"many unclosed":  {JSON, strings.Repeat(`{"a" `, 200_000), "expected :"},
		"open quotes":    {XML, strings.Repeat(`<a b="`, 200_000), ""},
		"junk":           {JSON, strings.Repeat("\x00\xff{[\"", 200_000), "expected a value"},
	} {
		t.Run(name, func(t *testing.T) {
			d, broken := Parse("x", c.text, c.syntax)
			if c.want != "" {
				require.NotEmpty(t, broken)
				assert.Contains(t, broken[0].Message, c.want)
			}
			assert.LessOrEqual(t, len(broken), maxBroken)
			if len(c.text) <= MaxSize {
				assert.True(t, d.Print() == c.text)
			}
		})
	}
}

func deepLines(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i) + "a\n")
	}
	return b.String()
}

// drawText draws text that often parses.
func drawText(t *rapid.T, syntax Syntax) string {
	pattern := map[Syntax]string{
		BlockIndent: `(( {0,4}([a-z]{1,3}|"[a-z ]{0,3}"|#x|"|	)){0,4}\r?\n?){0,8}`,
		Braces:      `((([a-z]{1,3}|"[a-z ;]{0,3}") ){1,2}(;|\{ ?|\{\}|\}|# x\n)\r?\n?){0,8}`,
		Dotted:      `(([a-c]|"x y")(\.[a-c]){0,2} ?= ?([a-z# ]{0,4}|"[a-z# ]{0,3}")\r?\n){0,8}`,
		INI:         `((\[[a-c]( [a-c])?\]|[a-c]{1,2} ?= ?[a-z; ]{0,4}|; x|) ?\r?\n){0,8}`,
		JSON:        `(\{"a":|\[|\]|\}|,|"[b-d]": ?|1|"x\\n"|true| |\n){0,12}`,
		XML:         `(<a( b="[a-z&]{0,2}")?/?>|</a>|<c>|</c>|x|&amp;|<!-- y -->|\n){0,8}`,
	}[syntax]
	return rapid.StringMatching(pattern).Draw(t, "text")
}

func TestPrintIsByteIdentical(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		syntax := Syntax(rapid.SampledFrom(Syntaxes).Draw(t, "syntax"))
		text := drawText(t, syntax)
		if d, _ := Parse("x", text, syntax); d.Print() != text {
			t.Fatalf("%q printed as %q", text, d.Print())
		}
	})
}

// nodeFor draws a tree that the syntax can write.
func drawNode(t *rapid.T, syntax Syntax, depth int) *Node {
	word := rapid.SampledFrom([]string{"a", "b", "c", "10.1.1.1/24", "x y", `q"q`, "", "7", "true", "#", ";", "a;b", "{", "[x]", "=", ".", "å", "<&>", `\`})
	name := rapid.SampledFrom([]string{"a", "b", "c", "d"})
	n := NewNode(name.Draw(t, "name"))
	leaf := depth == 0 || rapid.Bool().Draw(t, "leaf")
	switch syntax {
	case BlockIndent, Braces:
		for range rapid.IntRange(0, 2).Draw(t, "words") {
			n.Words = append(n.Words, Word{Text: word.Draw(t, "word")})
		}
	case INI:
		leaf = depth < 2
		if leaf {
			n.Words = []Word{{Text: word.Draw(t, "word")}}
		} else if n.Form = Block; rapid.Bool().Draw(t, "key") {
			n.Words = []Word{{Text: word.Draw(t, "word")}}
		}
	default:
		if leaf {
			n.Words = []Word{{Text: word.Draw(t, "word"), Quoted: syntax == JSON && rapid.Bool().Draw(t, "quoted")}}
		} else if n.Form = Block; syntax == Dotted {
			if n.Form = Group; rapid.Bool().Draw(t, "value") { // a statement may have both a value and others inside it
				n.Form, n.Words = Plain, []Word{{Text: word.Draw(t, "word")}}
			}
		}
	}
	if !leaf {
		for range rapid.IntRange(1, 3).Draw(t, "children") {
			c := drawNode(t, syntax, depth-1)
			if (syntax == JSON || syntax == Dotted) && n.Child(c.Name) != nil {
				continue
			}
			n.Insert(-1, c)
		}
	}
	return n
}

// A tree that was edited anywhere is printed so that reading it gives the edited tree.
func TestEditedTreesReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		syntax := Syntax(rapid.SampledFrom(Syntaxes).Draw(t, "syntax"))
		text := rapid.SampledFrom([]string{samples[syntax], strings.ReplaceAll(samples[syntax], "\n", "\r\n"), strings.TrimRight(samples[syntax], "\n")}).Draw(t, "text")
		d, _ := Parse("x", text, syntax)
		if rapid.Bool().Draw(t, "fresh") {
			if d = Empty("x", syntax); syntax == XML {
				d.Root.Insert(0, drawNode(t, syntax, 3))
			}
		}
		for range rapid.IntRange(1, 4).Draw(t, "edits") {
			var all []*Node
			d.Root.Walk(func(n *Node) {
				if n.Name != "#text" && !(syntax == XML && n == d.Root) {
					all = append(all, n)
				}
			})
			n := rapid.SampledFrom(all).Draw(t, "node")
			switch rapid.IntRange(0, 3).Draw(t, "kind") {
			case 0:
				if len(n.Words) > 0 && n != d.Root && (n.Form != Group) {
					n.SetWords([]Word{{Text: rapid.SampledFrom([]string{"z", "z z", `"`, "", "#z", "z;"}).Draw(t, "word")}})
				}
			case 1:
				if n.Parent != nil && !(syntax == XML && n.Parent == d.Root) {
					n.Remove()
				}
			case 2:
				block := len(n.Children) > 0 && !isAttribute(n) && !(syntax == XML && len(n.Words) > 0) || n == d.Root
				depth := 2
				if syntax == INI {
					block = n == d.Root || n.Form == Block
					depth = 1
					if n == d.Root {
						depth = 2
					}
				}
				if block {
					c := drawNode(t, syntax, depth)
					c.Name = rapid.SampledFrom([]string{"new1", "new2", "new3"}).Draw(t, "new")
					if n.Form == List {
						c.Name = ""
					}
					if n.Form == List || n.Child(c.Name) == nil {
						n.Insert(rapid.IntRange(-1, len(n.Children)).Draw(t, "at"), c)
					}
				}
			case 3:
				if n.Parent != nil && n.Name != "" && !isAttribute(n) && n.Parent.Child("other") == nil {
					n.Rename("other")
				}
			}
		}
		printed, places := d.PrintPlaces()
		got, broken := Parse("x", printed, syntax)
		if len(broken) > 0 {
			t.Fatalf("%s\n%s", broken[0], printed)
		}
		if want := tidy(d); outline(got.Root) != outline(want) {
			t.Fatalf("wanted\n%sgot\n%sfrom\n%s", outline(want), outline(got.Root), printed)
		}
		if syntax != Dotted && syntax != INI {
			var a, b []Place
			a = places
			got.Root.Walk(func(n *Node) { b = append(b, Place{n.Line, n.Column}) })
			if fmt.Sprint(a[1:]) != fmt.Sprint(b[1:]) {
				t.Fatalf("places %v, read back %v\n%s", a, b, printed)
			}
		}
	})
}

// tidy is the tree as it must read back: what a syntax cannot tell apart or orders itself is brought into one form.
func tidy(d *Document) *Node {
	c := d.Clone(nil)
	switch d.Syntax {
	case XML:
		c.Root.Walk(func(n *Node) {
			if !isAttribute(n) && n.Value() == "" {
				n.Words = nil
			}
		})
	case Dotted: // groups without statements leave nothing, and groups stand where their first statement does
		text := c.Print()
		e, _ := Parse("x", text, Dotted)
		names := func(d *Document) map[string]int {
			out := map[string]int{}
			var walk func(*Node, string)
			walk = func(n *Node, path string) {
				for _, k := range n.Children {
					p := path + "\x00" + k.Name
					if k.Form != Group && (len(k.Words) > 0 || len(k.Children) == 0) {
						out[p+" = "+k.Value()]++
					}
					walk(k, p)
				}
			}
			walk(d.Root, "")
			return out
		}
		if fmt.Sprint(names(c)) == fmt.Sprint(names(e)) {
			return e.Root
		}
	case INI:
		var loose, sections []*Node
		for _, n := range c.Root.Children {
			if n.Form == Block {
				sections = append(sections, n)
			} else {
				loose = append(loose, n)
			}
		}
		c.Root.Children = append(loose, sections...)
	}
	return c.Root
}

func FuzzParse(f *testing.F) {
	for i, s := range Syntaxes {
		f.Add(i, samples[Syntax(s)])
		f.Add(i, strings.ReplaceAll(samples[Syntax(s)], "\n", "\r\n"))
	}
	f.Fuzz(func(t *testing.T, which int, text string) {
		syntax := Syntax(Syntaxes[(which%len(Syntaxes)+len(Syntaxes))%len(Syntaxes)])
		d, broken := Parse("x", text, syntax)
		if d.Print() != text {
			t.Fatalf("%s: %q printed as %q", syntax, text, d.Print())
		}
		lines := strings.Count(text, "\n") + 1
		for _, b := range broken {
			if b.Line < 1 || b.Line > lines || b.Column < 1 {
				t.Fatalf("%s: %q: place out of range: %v", syntax, text, b)
			}
		}
		d.Root.Walk(func(n *Node) {
			for _, c := range n.Children {
				if c.Parent != n || c.Line < 1 || c.Line > lines {
					t.Fatalf("%s: %q: %q has line %d", syntax, text, c.Text(), c.Line)
				}
			}
		})
		if len(broken) > 0 {
			return
		}
		// Writing every statement anew gives text that reads back as the same tree.
		c := d.Clone(nil)
		c.Root.Walk(func(n *Node) { n.mark = fresh | headChanged })
		e, again := Parse("x", c.Print(), syntax)
		if len(again) > 0 || outline(e.Root) != outline(tidy(c)) {
			t.Fatalf("%s: %q written anew as %q: %v\n%s\n%s", syntax, text, c.Print(), again, outline(tidy(c)), outline(e.Root))
		}
	})
}
