package config

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const pem = "-----BEGIN CERTIFICATE-----\nMIIB/aa+=\n# no comment\n-----END CERTIFICATE-----"

var banners = []TextBlock{{Begin: regexp.MustCompile(`\A(?:banner \S+ (\S))`), End: "{1}", Delimiter: "^"}, {Begin: regexp.MustCompile(`\A(?:script)`), End: "end-script"}}

// Raw texts of every form in every syntax of lines: what stands inside is one word, and what stands behind is read on.
func TestRawTexts(t *testing.T) {
	for _, c := range []struct {
		what, text string
		syntax     Syntax
		path       []string
		want       string
	}{
		{"here", "a 1\nnotice login <<EOT\n# hello; {\n  \"quote\n\nEOT\nb 2\n", BlockIndent, []string{"notice"}, "# hello; {\n  \"quote\n"},
		{"here, inside", "port p1\n  text <<END_1\nport p2\n  END\n  END_1\n  mtu 5\nb 2\n", BlockIndent, []string{"port", "text"}, "port p2\n  END"},
		{"empty", "a <<X\nX\nb 2\n", BlockIndent, []string{"a"}, ""},
		{"a certificate behind its statement", "cert web\n  " + strings.ReplaceAll(pem, "\n", "\n  ") + "\nb 2\n", BlockIndent, []string{"cert"}, pem},
		{"a certificate on its line", "cert web " + pem + "\nb 2\n", BlockIndent, []string{"cert"}, pem},
		{"a schema's", "banner login ^\nhello # ; you\n\n^\nb 2\n", BlockIndent, []string{"banner"}, "hello # ; you\n\n"},
		{"a schema's on one line", "banner login ~hi there~\nb 2\n", BlockIndent, []string{"banner"}, "hi there"},
		{"a schema's without a delimiter", "script\n if a { b }\nend-script\nb 2\n", BlockIndent, []string{"script"}, " if a { b }\n"},
		{"braces, here", "a {\n  notice login <<EOT\n}\n;\nEOT;\n  c 1; # x\n}\nb 2;\n", Braces, []string{"a", "notice"}, "}\n;"},
		{"braces, certificate", "cert " + pem + ";\nb 2;\n", Braces, []string{"cert"}, pem},
		{"braces, a schema's", "banner login ^ } ; ^;\nb 2;\n", Braces, []string{"banner"}, " } ; "},
		{"dotted", "x.notice = <<EOT\na.b = 1\n# c\nEOT\nb = 2\n", Dotted, []string{"x", "notice"}, "a.b = 1\n# c"},
		{"dotted, certificate", "x.cert = " + pem + "\nb = 2\n", Dotted, []string{"x", "cert"}, pem},
		{"ini", "b = 2\n[x]\nnotice = <<EOT\n[y]\n; c\nEOT\nc = 1\n", INI, []string{"x", "notice"}, "[y]\n; c"},
	} {
		t.Run(c.what, func(t *testing.T) {
			for _, text := range []string{c.text, strings.ReplaceAll(c.text, "\n", "\r\n")} {
				s := &Schema{Syntax: c.syntax, TextBlocks: banners}
				d, broken := s.Parse("x", text)
				require.Empty(t, broken)
				assert.Equal(t, text, d.Print())
				n := d.Root
				for _, name := range c.path {
					n = n.Child(name)
					require.NotNil(t, n, name)
				}
				assert.Equal(t, c.want, n.Words[len(n.Words)-1].Text)
				assert.True(t, n.IsRaw())
				b := d.Root.Child("b")
				require.NotNil(t, b)
				assert.Equal(t, "2", b.Value())
				assert.Equal(t, 1+strings.Count(text[:max(strings.Index(text, "b 2"), strings.Index(text, "b = 2"))], "\n"), b.Line)
				assert.Empty(t, d.Comments(n))

				// What is around it can be edited, and a change inside is a change.
				b.SetWords([]Word{{Text: "3"}})
				edited, broken := s.Parse("x", d.Print())
				require.Empty(t, broken, d.Print())
				assert.Equal(t, strings.Replace(strings.ReplaceAll(text, "b 2", "b 3"), "b = 2", "b = 3", 1), d.Print())
				if c.want != "" {
					old, _ := s.Parse("x", text)
					n.Words[len(n.Words)-1].Text = strings.Replace(c.want, c.want[:1], " "+c.want[:1], 1)
					n.SetWords(n.Words)
					new, broken := s.Parse("x", d.Print())
					require.Empty(t, broken, d.Print())
					var kinds []string
					for _, diff := range Compare(old, new, s).Differences {
						if strings.HasSuffix(diff.Path, c.path[len(c.path)-1]) || strings.Contains(diff.Path, c.path[len(c.path)-1]+" ") {
							kinds = append(kinds, diff.Kind)
						}
					}
					if !strings.HasPrefix(c.want, "-----") {
						assert.Contains(t, kinds, Changed, "%q\n%q", text, d.Print())
					}
				}
				assert.False(t, Compare(mustParse(t, s, text), edited, s).Same())
			}
		})
	}
}

func mustParse(t require.TestingT, s *Schema, text string) *Document {
	d, broken := s.Parse("x", text)
	require.Empty(t, broken)
	return d
}

func TestBrokenRawTexts(t *testing.T) {
	for text, want := range map[string]string{
		"a 1\nb <<EOT\nc\n":                    "x:2:3: a text begins here and does not end; expected a line EOT",
		"a 1\nb -----BEGIN X-----\nc\n":        "x:2:3: a text begins here and does not end; expected -----END ...-----",
		"banner m ^\nc\n":                      "x:1:10: a text begins here and does not end; expected ^",
		"-----BEGIN X-----\n-----END X-----\n": "x:1:1: a text without a statement before it that it belongs to",
		"a <<E\nE\n  b\n":                      "",
		"banner m ^x^ y\n":                     "x:1:13: expected the end of the line behind a text",
	} {
		_, broken := (&Schema{Syntax: BlockIndent, TextBlocks: banners}).Parse("x", text)
		if want == "" {
			assert.Empty(t, broken)
			continue
		}
		require.NotEmpty(t, broken, text)
		assert.Equal(t, want, broken[0].Error())
	}
	_, broken := Parse("x", "a <<E\nE\nb;\n", Braces)
	require.NotEmpty(t, broken)
	assert.Equal(t, "x:2:2: expected ; behind a text", broken[0].Error())
}

// What is secret in a raw text is masked, and the lines stay.
func TestRawTextsAreMasked(t *testing.T) {
	for syntax, text := range map[Syntax]string{BlockIndent: "a 1\nkey main <<E\nsecret-1\nE\nb 2\n", Braces: "a 1;\nkey main <<E\nsecret-1\nE;\nb 2;\n", Dotted: "x.key = <<E\nsecret-1\nE\nb = 2\n", INI: "[x]\nkey = <<E\nsecret-1\nE\nb = 2\n"} {
		s := Simple(syntax, []string{"key"}, nil)
		masked := s.MaskText("x", text)
		assert.NotContains(t, masked, "secret-1", syntax)
		assert.Equal(t, strings.Count(text, "\n"), strings.Count(masked, "\n"), masked)
		assert.Contains(t, masked, "2")
		d := mustParse(t, s, text)
		d.Root.Walk(func(n *Node) { assert.NotContains(t, s.Masked(n, true), "secret-1") })
	}
}

// Whatever text a statement of any syntax is given, it is read back as it was written.
func TestRawTextsAreReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"", "TEXT", "TEXT_", " a", "b ", "# c", "^", "x;", "}", "\"", "[s]", "a = <<TEXT", "-----BEGIN X-----", "é"}), 2, 6).Draw(t, "lines"), "\n")
		syntax := rapid.SampledFrom([]Syntax{BlockIndent, Braces, Dotted, INI}).Draw(t, "syntax")
		s := &Schema{Syntax: syntax}
		if syntax == BlockIndent || syntax == Braces {
			s.TextBlocks = banners
		}
		d := s.Empty("x")
		n := NewNode(rapid.SampledFrom([]string{"banner", "other"}).Draw(t, "name"))
		if syntax == BlockIndent || syntax == Braces {
			n.Words = append(n.Words, Word{Text: "login"})
		}
		n.Words = append(n.Words, Word{Text: text})
		d.Root.Insert(-1, n)
		d.Root.Insert(-1, NewNode("b", "2"))
		got, broken := s.Parse("x", d.Print())
		if len(broken) > 0 || len(got.Root.Children) != 2 || got.Root.Children[0].Words[len(n.Words)-1].Text != text {
			t.Fatalf("%v\n%s\n%q", broken, d.Print(), text)
		}
	})
}
