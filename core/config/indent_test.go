package config

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Tabs indent as blanks do: up to the next multiple of eight.
func TestTabsAndMixedIndents(t *testing.T) {
	for text, edited := range map[string]string{
		"a 1\n\tb 2\n\t\tc 3\n\tx 4\n":           "a 1\n\tb 2\n\t\tc 3\n\tx 9\n\tnew 1\n",
		"a 1\n\tb 2\n        x 4\n":              "a 1\n\tb 2\n        x 9\n        new 1\n",
		"a 1\n  b 2\n\tc 3\n  x 4\n":             "a 1\n  b 2\n\tc 3\n  x 9\n  new 1\n",
		"z\n  y 1\na 1\n\tb 2\n\tx 4\n":          "z\n  y 1\na 1\n\tb 2\n\tx 9\n\tnew 1\n",
		"a 1\n  \tb 2 # tabs\tinside\t\n\tx 4\n": "a 1\n  \tb 2 # tabs\tinside\t\n  \tx 9\n  \tnew 1\n",
	} {
		d, broken := Parse("x", text, BlockIndent)
		require.Empty(t, broken, text)
		assert.Equal(t, text, d.Print())
		a := d.Root.Child("a")
		x := a.Child("x")
		require.NotNil(t, x, text)
		x.SetWords([]Word{{Text: "9"}})
		a.Insert(-1, NewNode("new", "1"))
		got := d.Print()
		again, broken := Parse("x", got, BlockIndent)
		require.Empty(t, broken, got)
		assert.NotNil(t, again.Root.Child("a").Child("new"))
		if !strings.Contains(text, "        x") { // either is right there
			assert.Equal(t, edited, got)
		}
	}
	_, broken := Parse("x", "a 1\n\tb 2\n    c 3\n", BlockIndent)
	require.NotEmpty(t, broken)
	assert.Equal(t, "x:3:5: indented by 4, but its block began with 8 on line 2", broken[0].Error())
}

// Comments over several lines stand between statements in every syntax of lines.
func TestBlockComments(t *testing.T) {
	for syntax, text := range map[Syntax]string{
		BlockIndent: "/* one\n * two\n */\na 1\n  /* b 2 */\n  c 3\n/* end */\n",
		Braces:      "/* one\n * two\n */\na { /* b 2 */\n  c 3;\n}\n/* end */\n",
		Dotted:      "/* one\n * two\n */\na = 1\n/* b.x = 2 */\nc = 3\n/* end */\n",
		INI:         "/* one\n * two\n */\na = 1\n/* [x] */\nc = 3\n/* end */\n",
	} {
		d, broken := Parse("x", text, syntax)
		require.Empty(t, broken, syntax)
		assert.Equal(t, text, d.Print())
		var got []string
		list, beside := d.AllComments()
		for i, c := range list {
			got = append(got, fmt.Sprint(c.Line, " ", c.Text, " at ", beside[i].Name))
		}
		require.Len(t, got, 4, "%s: %s", syntax, got)
		assert.Equal(t, "1 one at a", got[0])
		assert.Equal(t, "2 two at a", got[1])
		assert.Contains(t, got[3], "end at ")
		assert.Equal(t, 4, d.Root.Child("a").Line)
		other, _ := Parse("x", strings.Replace(text, "two", "three", 1), syntax)
		c := Compare(d, other, nil)
		assert.True(t, c.Same())
		assert.NotEmpty(t, c.Differences)
		a := d.Root.Child("a")
		a.SetWords([]Word{{Text: "5"}})
		_, broken = Parse("x", d.Print(), syntax)
		require.Empty(t, broken, d.Print())
		assert.Equal(t, strings.Count(text, "/*"), strings.Count(d.Print(), "/*"), d.Print())

		_, broken = Parse("x", "/* never\n", syntax)
		require.NotEmpty(t, broken)
		assert.Equal(t, "x:1:1: a comment begins here and does not end; expected */", broken[0].Error())
		assert.NotContains(t, Simple(syntax, []string{"key"}, nil).MaskText("x", strings.Replace(text, "two", "the key is s3cret", 1)), "s3cret")
	}
}
