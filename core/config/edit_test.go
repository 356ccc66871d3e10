package config

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/version"
)

// find returns the first node of a name.
func find(t *testing.T, d *Document, name string) *Node {
	t.Helper()
	var out *Node
	d.Root.Walk(func(n *Node) {
		if out == nil && n.Name == name && n.Parent != nil {
			out = n
		}
	})
	require.NotNil(t, out, name)
	return out
}

// What was not edited stays as it stood, to the byte; what was is written as the syntax writes it.
func TestEditsTouchOnlyWhatTheyMust(t *testing.T) {
	for _, c := range []struct {
		what   string
		syntax Syntax
		text   string
		edit   func(t *testing.T, d *Document)
		want   string
	}{
		{"a value beside a comment", BlockIndent, "a  # x\n   b   1   # keep me\n   c 2\n", func(t *testing.T, d *Document) { find(t, d, "b").SetWords([]Word{{Text: "two words"}}) }, "a  # x\n   b \"two words\"   # keep me\n   c 2\n"},
		{"a new statement takes the indentation of its block", BlockIndent, "a\n   b 1\nz\n", func(t *testing.T, d *Document) { find(t, d, "a").Insert(-1, NewNode("c", "2")) }, "a\n   b 1\n   c 2\nz\n"},
		{"a block inside a statement that had none", BlockIndent, "a 1\r\nz\r\n", func(t *testing.T, d *Document) { find(t, d, "a").Insert(-1, NewNode("c", "2")) }, "a 1\r\n  c 2\r\nz\r\n"},
		{"a file without its last line end", BlockIndent, "a 1", func(t *testing.T, d *Document) { d.Root.Insert(-1, NewNode("b", "2")) }, "a 1\nb 2\n"},
		{"a removed block takes its comment along", BlockIndent, "a\n# about b\nb\n  c\nd\n", func(t *testing.T, d *Document) { find(t, d, "b").Remove() }, "a\nd\n"},
		{"braces on one line", Braces, "a { b 1; } # x\nz;\n", func(t *testing.T, d *Document) { find(t, d, "b").SetWords([]Word{{Text: "a;b"}}) }, ""},
		{"a statement becomes a block", Braces, "a 1; # x\n", func(t *testing.T, d *Document) { find(t, d, "a").Insert(-1, NewNode("c", "2")) }, "a 1 { # x\n  c 2;\n}\n"},
		{"a new dotted line follows its group", Dotted, "a.b = 1 # one\nx.y = 2\n", func(t *testing.T, d *Document) { find(t, d, "a").Insert(-1, NewNode("c", "3")) }, "a.b = 1 # one\na.c = 3\nx.y = 2\n"},
		{"a renamed group is renamed on all its lines", Dotted, "a.b = 1 # one\nx.y = 2\na.c = \"3 # 4\"\n", func(t *testing.T, d *Document) { find(t, d, "a").Rename("q r") }, "\"q r\".b = 1 # one\nx.y = 2\n\"q r\".c = \"3 # 4\"\n"},
		{"a value in a section", INI, "; top\n[s one]\nk=1 ; c\nl = 2\n", func(t *testing.T, d *Document) { find(t, d, "k").SetWords([]Word{{Text: "a ; b"}}) }, "; top\n[s one]\nk = \"a ; b\" ; c\nl = 2\n"},
		{"a section gets another name", INI, "[s one] ; c\nk=1\n", func(t *testing.T, d *Document) { find(t, d, "s").SetWords([]Word{{Text: "two"}}) }, "[s two] ; c\nk=1\n"},
		{"a member is removed with its comma", JSON, "{\n  \"a\": 1,\n  \"b\": 2,\n  \"c\": 3\n}\n", func(t *testing.T, d *Document) { find(t, d, "b").Remove() }, "{\n  \"a\": 1,\n  \"c\": 3\n}\n"},
		{"the last member is removed", JSON, "{\n  \"a\": 1,\n  \"b\": 2\n}\n", func(t *testing.T, d *Document) { find(t, d, "b").Remove() }, "{\n  \"a\": 1\n}\n"},
		{"a number stays a number", JSON, "{\"a\": 1, \"b\": \"1\"}", func(t *testing.T, d *Document) { find(t, d, "a").SetWords([]Word{{Text: "2"}}) }, "{\"a\": 2, \"b\": \"1\"}"},
		{"text that is no word of JSON is quoted", JSON, "[1]", func(t *testing.T, d *Document) { d.Root.Children[0].SetWords([]Word{{Text: "01"}}) }, "[\"01\"]"},
		{"a new member on a line of its own", JSON, "{\n    \"a\": 1\n}\n", func(t *testing.T, d *Document) { d.Root.Insert(-1, NewNode("é", "x\"y")) }, "{\n    \"a\": 1,\n    \"é\": \"x\\\"y\"\n}\n"},
		{"an attribute", XML, "<a  x='1' y=\"2\"><b/></a>\n", func(t *testing.T, d *Document) { find(t, d, "@x").SetWords([]Word{{Text: "<\""}}) }, "<a x=\"&lt;&quot;\" y=\"2\"><b/></a>\n"},
		{"text of an element", XML, "<a>\n <b c='1'>x</b>\n <!-- z -->\n <d/>\n</a>\n", func(t *testing.T, d *Document) { find(t, d, "b").SetWords([]Word{{Text: "y & z"}}) }, "<a>\n <b c=\"1\">y &amp; z</b>\n <!-- z -->\n <d/>\n</a>\n"},
		{"an element inside an empty one", XML, "<a>\n  <b/>\n</a>\n", func(t *testing.T, d *Document) { find(t, d, "b").Insert(-1, NewNode("c", "1")) }, ""},
	} {
		t.Run(c.what, func(t *testing.T) {
			d := parse(t, c.syntax, c.text)
			before := d.Clone(nil)
			c.edit(t, d)
			if c.want == "" { // how blanks fall there is not promised
				again := parse(t, c.syntax, d.Print())
				assert.Equal(t, outline(d.Root), outline(again.Root))
			} else {
				assert.Equal(t, c.want, d.Print())
			}
			assert.True(t, d.Changed())
			assert.Equal(t, c.text, before.Print(), "a clone is a document of its own")
		})
	}
}

func TestManyAreRemovedAtOnce(t *testing.T) {
	d := parse(t, XML, `<a x="1" y="2"><b/><c/><d><e/></d></a>`)
	gone := map[*Node]bool{}
	for _, name := range []string{"@x", "c", "e"} {
		gone[find(t, d, name)] = true
	}
	RemoveAll(gone)
	again := parse(t, XML, d.Print())
	assert.Equal(t, outline(d.Root), outline(again.Root))
	assert.NotContains(t, d.Print(), "<c/>")
	assert.Contains(t, d.Print(), `y="2"`)
}

func TestSecretsArePutBackByIdentity(t *testing.T) {
	s := pierSchema(t)
	text := "box\n  name a\nuser x\n  secret aa11 bb22\n  level plain\nuser y\n  secret cc33\n"
	original := parse(t, BlockIndent, text)
	masked := strings.Replace(s.MaskText("x", text), "level plain", "level raised", 1)
	require.NotContains(t, masked, "aa11")
	edited := parse(t, BlockIndent, "user y\n  secret ***\nuser z\n  secret ***\n"+strings.Replace(masked, "user y\n  secret ***\n", "", 1))
	assert.Equal(t, 1, s.Unmask(edited, original), "a new user has no secret yet")
	got := edited.Print()
	assert.Contains(t, got, "user x\n  secret aa11 bb22\n  level raised\n")
	assert.Contains(t, got, "user y\n  secret cc33\n")
	assert.Contains(t, got, "user z\n  secret ***\n")
}

func TestPathsLeadBack(t *testing.T) {
	s := pierSchema(t)
	d := parse(t, BlockIndent, samples[BlockIndent])
	for _, it := range s.Items(d) {
		assert.Equal(t, it.Path, s.Path(it.Node))
		assert.Same(t, it.Node, s.Locate(d, it.Path), it.Path)
	}
	assert.Same(t, d.Root, s.Locate(d, ""))
	assert.Nil(t, s.Locate(d, "port p1 / nothing"))
	var paths []string
	for _, it := range s.Items(d) {
		paths = append(paths, it.Path+": "+it.Text)
	}
	assert.Contains(t, paths, "user bosun / secret: secret *** ***")
	assert.Contains(t, paths, "policy edge / allow tcp 443: allow tcp 443")
}

// Statements are built as each syntax writes them, from the same path.
func TestBuildInEachSyntax(t *testing.T) {
	const body = "types: {few: {range: [0, 9]}}\nstatements:\n"
	for syntax, c := range map[Syntax]struct{ statements, path, want string }{
		BlockIndent: {"  port: {key: word, words: [name], statements: {mtu: few}}\n", "port p1|mtu 5", "port p1\n  mtu 5\n"},
		Braces:      {"  port: {key: word, words: [name], statements: {mtu: few}}\n", "port p1|mtu 5", "port p1 {\n  mtu 5;\n}\n"},
		INI:         {"  port: {key: word, words: [name], statements: {mtu: few}}\n", "port p1|mtu 5", "[port p1]\nmtu = 5\n"},
		Dotted:      {"  port: {each: {statements: {mtu: few}}}\n", "port|p1|mtu 5", "port.p1.mtu = 5\n"},
		JSON:        {"  port: {items: {key: name, statements: {name: name, mtu: few}}}\n", "port|p1|mtu 5", "{\n  \"port\": [\n    {\n      \"name\": \"p1\",\n      \"mtu\": 5\n    }\n  ]\n}\n"},
		XML:         {"  port: {key: '@name', statements: {'@name': name, mtu: few}}\n", "port p1|mtu 5", "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<port name=\"p1\">\n  <mtu>5</mtu>\n</port>\n"},
	} {
		s := readSchema(t, "format: verimorph-schema/1\nid: x\nfamily: t\nreleases: any\nsyntax: "+string(syntax)+"\n"+body+c.statements)
		d := Empty("x", syntax)
		at, st := d.Root, s.Top
		for _, step := range strings.Split(c.path, "|") {
			var n *Node
			within := st
			n, st = s.Build(within, strings.Fields(step))
			at.Append(n)
			assert.Same(t, n, s.Find(at, within, strings.Fields(step)), "%s %s", syntax, step)
			at = n
		}
		assert.Equal(t, c.want, d.Print(), syntax)
		again := parse(t, syntax, d.Print())
		assert.Empty(t, s.Check(again, "", version.Version{}), syntax)
		assert.True(t, Compare(d, again, s).Same(), syntax)
	}
}
