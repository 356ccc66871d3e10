package convert

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/config"
)

const commentedSource = `# the lobby
host a # by the door
  # two minutes
  idle 120
# a day -- at least
poll 300
host b # gone soon
# kept for the audit
# and for us
log
  level info # quiet
# end of file
`

// Comments come along into every syntax that has them.
func TestCommentsComeAlong(t *testing.T) {
	const rules = "  - {id: A, drop: host b, because: it is gone}\n  - {id: B, compute: 'poll *s', to: 'poll {= s / 60 + 1}'}\n"
	for syntax, want := range map[string]string{
		"block-indent": "# the lobby\nhost a # by the door\n  # two minutes\n  idle 120\n# a day -- at least\npoll 6\n# kept for the audit\n# and for us\nlog\n  level info # quiet\n# end of file\n",
		"braces":       "# the lobby\n# by the door\nhost a {\n  # two minutes\n  idle 120;\n}\n# a day -- at least\npoll 6;\n# kept for the audit\n# and for us\nlog {\n  # quiet\n  level info;\n}\n# end of file\n",
		"dotted":       "# the lobby\n# by the door\nhost = a\n# two minutes\nhost.idle = 120\n# a day -- at least\npoll = 6\n# kept for the audit\n# and for us\n# quiet\nlog.level = info\n# end of file\n",
		"ini":          "# a day -- at least\npoll = 6\n# the lobby\n# by the door\n[host a]\n# two minutes\nidle = 120\n# kept for the audit\n# and for us\n[log]\n# quiet\nlevel = info\n# end of file\n",
	} {
		t.Run(syntax, func(t *testing.T) {
			r := leftOut(t, syntax, rules, "Z4", commentedSource, nil)
			assert.Equal(t, want, r.Text)
			var got []string
			for _, c := range r.Ledger.Comments {
				got = append(got, fmt.Sprintf("%d %s: %s %s", c.Line, c.Text, c.State, c.Reason))
			}
			assert.Equal(t, []string{"1 the lobby: kept ", "2 by the door: kept ", "3 two minutes: kept ", "5 a day -- at least: kept it may be untrue now: poll 300 became poll 6",
				"7 gone soon: dropped its statement is left out: it is gone", "8 kept for the audit: kept ", "9 and for us: kept ", "11 quiet: kept ", "12 end of file: kept "}, got)
			lines := config.Lines(r.Text)
			assert.Contains(t, lines[r.Ledger.Comments[2].Target-1], "120", "the line of its statement")
		})
	}
	r := leftOut(t, "json", rules, "Z4", commentedSource, nil)
	for _, c := range r.Ledger.Comments {
		assert.Equal(t, Dropped, c.State)
		assert.Equal(t, "json has no comments", c.Reason)
	}
	require.Len(t, r.Ledger.Comments, 9)
}

// XML has comments of another form, and no two dashes in them.
func TestCommentsOfXML(t *testing.T) {
	d, broken := config.Parse("x", "<box><!-- of\n two lines --><host id=\"a\"><!-- inside --><idle>5<!-- late --></idle></host><!-- last --></box>\n<!-- end -->\n", config.XML)
	require.Empty(t, broken)
	var got []string
	list, beside := d.AllComments()
	for i, c := range list {
		got = append(got, fmt.Sprint(c.Line, " ", c.Text, " at ", beside[i].Name))
	}
	assert.Equal(t, []string{"1 of at host", "2 two lines at host", "2 inside at idle", "2 late at idle", "2 last at box", "3 end at "}, got)
	for text, want := range map[string]string{"a -- b": "<!-- a - - b -->", "a---": "<!-- a- - - -->", "-": "<!-- - -->", "": "<!--  -->", "a-": "<!-- a- -->"} {
		assert.Equal(t, want, config.XML.Comment(text))
		_, broken := config.Parse("x", config.XML.Comment(text)+"<a/>", config.XML)
		assert.Empty(t, broken)
	}
}

// The audit finds what is done to the account of comments.
func TestTamperedComments(t *testing.T) {
	for what, c := range map[string]struct {
		tamper func(l *Ledger)
		finds  string
	}{
		"a row is missing":         {func(l *Ledger) { l.Comments = l.Comments[1:] }, "lines of comments"},
		"another text":             {func(l *Ledger) { l.Comments[0].Text = "x" }, "is missing"},
		"dropped without a reason": {func(l *Ledger) { l.Comments[0].State = Dropped }, "without a reason"},
		"said to be kept":          {func(l *Ledger) { l.Comments[4].State = Kept }, "is not in the target"},
		"no state":                 {func(l *Ledger) { l.Comments[0].State = "" }, "has state"},
	} {
		r := leftOut(t, "braces", "  - {id: A, drop: host b, because: it is gone}\n", "", commentedSource, nil)
		c.tamper(r.Ledger)
		require.NotEmpty(t, Check(commentedSource, r.Text, r.S, r.T, r.Ledger), what)
		assert.Contains(t, Check(commentedSource, r.Text, r.S, r.T, r.Ledger)[0], c.finds, what)
	}
}
