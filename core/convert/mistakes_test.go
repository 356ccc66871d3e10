package convert

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
)

// loads reads the schemas and a conversion with something changed in one of them, and returns what is found.
func loads(t *testing.T, source, target, rules string) string {
	t.Helper()
	f, found := catalog.ReadFile("toy.yaml", []byte(toy))
	require.Empty(t, found.Errors())
	cat := &catalog.Catalogue{}
	cat.Add(f)
	_, found = Load(cat, []File{{"s1.yaml", []byte(source)}, {"s2.yaml", []byte(target)}, {"c.yaml", []byte("format: verimorph-conversion/1\nid: c\nfrom: {schema: s1}\nto: {schema: s2}\nrules:\n" + rules)}})
	return found.Error()
}

// Mistakes in schemas and conversions are told where they are, all at once, and what follows from them is not.
func TestMistakesAreToldWhereTheyAre(t *testing.T) {
	const keep = "  - {id: R, keep: size}\n"
	for _, c := range []struct {
		what, old, new, rules string
		want                  []string
	}{
		{what: "nothing"},
		{what: "a wrong key", old: "    key: word\n    words: [name]\n    defines: host", new: "    key: wrod\n    words: [name]\n    defines: host",
			want: []string{`s1.yaml:20:10: error: the key "wrod" is neither a way to tell entries apart nor a statement inside; known and near: word`}},
		{what: "a default outside its type", old: "default: slow", new: "default: sluggish", want: []string{`s1.yaml:25:35: error: the default does not fit the type of its own statement: "sluggish" does not fit; expected one of fast, slow`}},
		{what: "a default of several words", old: "  size: count", new: "  size: {type: count, default: x y}", want: []string{`the default does not fit the type of its own statement: "x y" does not fit`}},
		{what: "a kind that nothing defines", old: "host: {refers-to: [host], or: [any]}", new: "host: {refers-to: [hots], or: [any]}", want: []string{`s1.yaml:7:22: error: type "host" refers to "hots", which no statement defines`}},
		{what: "two at once", old: "  mode: {one-of: [fast, slow]}\n", new: "  mode: {match: 'a('}\n  none: {list-of: nothing}\n",
			want: []string{`s1.yaml:9:17: error: the group that begins at character 2 ("(") has no closing )`, `s1.yaml:10:19: error: type "nothing" is not known`}},
		{what: "values that the source cannot have", rules: "  - {id: R, map: 'host *h / mode *m', values: {fats: quick, slow: slow}, to: 'hosts / {h} / mode {m}'}\n",
			want: []string{`c.yaml:6:48: error: the source cannot say this: "fats" does not fit; expected one of fast, slow`}},
		{what: "values that the target cannot have", rules: "  - {id: R, map: 'host *h / mode *m', values: {fast: rapid, slow: slow}, to: 'hosts / {h} / mode {m}'}\n",
			want: []string{`c.yaml:6:54: error: the target cannot say this: "rapid" does not fit; expected one of quick, slow`}},
		{what: "a name that is not kept", rules: "  - {id: R, move: 'host *host', to: 'hosts / {hots}'}\n", want: []string{`c.yaml:6:37: error: {hots} is used but not kept; known and near: host`}},
		{what: "a place that is not there", rules: "  - {id: R, move: size, to: 'sizes'}\n  - {id: S, move: naem, to: title}\n",
			want: []string{`c.yaml:6:29: error: schema "s2" has no "sizes" for step 1 of "sizes"; known and near: size`, `c.yaml:7:19: error: schema "s1" has no "naem" in "the top"; known and near: name`}},
	} {
		t.Run(c.what, func(t *testing.T) {
			require.Contains(t, fromSchema, c.old)
			rules := c.rules
			if rules == "" {
				rules = keep
			}
			got := loads(t, strings.Replace(fromSchema, c.old, c.new, 1), toSchema, rules)
			lines := strings.Split(got, "\n")
			if c.want == nil {
				assert.Empty(t, got)
				return
			}
			assert.Len(t, lines, len(c.want), got)
			for _, want := range c.want {
				assert.Contains(t, got, want)
			}
		})
	}
}
