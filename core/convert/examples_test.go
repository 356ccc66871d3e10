package convert

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/config"
	doc "verimorph/core/examples"
	"verimorph/core/version"
)

// What the documentation says of rules is so.
func TestTheDocumentedConversions(t *testing.T) {
	const file, heading = "../../docs/formats/conversion.md", "## Examples"
	schemas := doc.Blocks(t, file, heading)
	require.Len(t, schemas, 2)
	f, found := catalog.ReadFile("toy.yaml", []byte(toy))
	require.Empty(t, found.Errors())
	cat := &catalog.Catalogue{}
	cat.Add(f)
	for _, row := range doc.Table(t, file, heading) {
		require.Len(t, row, 4, "%q", row)
		rules := "["
		for i, rule := range strings.Split(row[0], "}, {") {
			rules += fmt.Sprintf("%s{id: R%d, %s}", map[bool]string{true: ", "}[i > 0], i, strings.TrimSuffix(strings.TrimPrefix(rule, "{"), "}"))
		}
		for _, name := range []string{"idle", "mode"} {
			if !strings.Contains(rules, name) {
				rules += fmt.Sprintf(", {id: %s, drop: %s, because: x}", name, name)
			}
		}
		l, found := Load(cat, []File{{"from.yaml", []byte(schemas[0])}, {"to.yaml", []byte(schemas[1])}, {"c.yaml", []byte("format: verimorph-conversion/1\nid: c\nfrom: {schema: from}\nto: {schema: to}\nrules: " + rules + "]\n")}})
		require.Empty(t, found.Errors(), "%s: %s", rules, found.Error())
		source, want := row[1]+"\n", row[2]+"\n"
		if row[1] == "nothing" {
			source = ""
		}
		if row[2] == "nothing" {
			want = ""
		}
		d, broken := config.Parse("x", source, config.BlockIndent)
		require.Empty(t, broken)
		r, err := l.Convert(Job{From: Stop{"A", version.MustParse("1.0")}, To: Stop{"A", version.MustParse("2.0")}}, d)
		require.NoError(t, err)
		require.Empty(t, Check(source, r.Text, r.S, r.T, r.Ledger), rules)
		assert.Equal(t, want, r.Text, "%s\n%s", rules, source)
		if row[3] == "nothing" {
			row[3] = ""
		}
		assert.Equal(t, row[3], strings.Join(said(r.Ledger), ", "), "%s\n%s", rules, source)
	}
}

// said is what a ledger says of what stands in the source, of what it leaves out, and of comments.
func said(l *Ledger) (out []string) {
	add := func(what string, row SourceItem) {
		if row.Reason != "x" {
			out = append(out, strings.TrimSuffix(fmt.Sprintf("%s%s: %s, %s", what, row.Path, row.State, row.Reason), ", "))
		}
	}
	for _, row := range l.Source {
		add("", row)
	}
	for _, row := range l.Assumed {
		add("assumed ", row.SourceItem)
	}
	for _, c := range l.Comments {
		out = append(out, fmt.Sprintf("comment: %s", c.State))
	}
	return out
}
