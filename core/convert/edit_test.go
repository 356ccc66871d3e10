package convert

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/config"
	"verimorph/core/version"
)

// Whatever a person makes of a result, the hand edits that are read from it make the same of it again, and the ledger
// adds up with them.
func TestHandEditsGiveWhatWasWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := drawLibrary(t)
		source := drawSource(t, l.Schemas[0])
		job := drawJob(t)
		first, err := l.Convert(job, source)
		if err != nil {
			t.Fatal(err)
		}
		before, _ := config.Parse("x", first.Text, first.T.Syntax)
		after, _ := config.Parse("x", first.Text, first.T.Syntax)
		for range rapid.IntRange(1, 3).Draw(t, "edits") {
			var all []*config.Node
			after.Root.Walk(func(n *config.Node) {
				if n.Parent != nil {
					all = append(all, n)
				}
			})
			if len(all) == 0 {
				t.SkipNow()
			}
			n := rapid.SampledFrom(all).Draw(t, "n")
			switch rapid.IntRange(0, 2).Draw(t, "kind") {
			case 0:
				if len(n.Words) == 1 && len(n.Children) == 0 {
					n.SetWords([]config.Word{{Text: rapid.SampledFrom([]string{"11", "12", "13"}).Draw(t, "word"), Quoted: n.Words[0].Quoted}})
				}
			case 1:
				n.Remove()
			case 2:
				if len(n.Children) > 0 && n.Child("s") == nil && n.Parent != after.Root {
					k := config.NewNode("s", "by hand")
					k.Words[0].Quoted = first.T.Syntax == config.JSON
					n.Insert(-1, k)
				}
			}
		}
		text := after.Print()
		edited, broken := config.Parse("x", text, first.T.Syntax)
		if len(broken) > 0 {
			t.Fatalf("%s\n%s", broken[0], text)
		}
		job.Edits = Edits(before, edited, first.T)
		second, err := l.Convert(job, source)
		if err != nil {
			t.Fatal(err)
		}
		got, _ := config.Parse("x", second.Text, second.T.Syntax)
		if c := config.Compare(edited, got, first.T); !c.Same() {
			t.Fatalf("wanted\n%s\ngot\n%s\nfrom\n%s\nby %+v\nleft %+v", text, second.Text, first.Text, job.Edits, c.Differences)
		}
		if wrong := Check(source.Print(), second.Text, second.S, second.T, second.Ledger); len(wrong) > 0 {
			t.Fatalf("%v\n%s\nby %+v\n%s", wrong, second.Text, job.Edits, about(l, second))
		}
		// Without them the result is what it was.
		job.Edits = nil
		again, err := l.Convert(job, source)
		if err != nil || again.Text != first.Text {
			t.Fatalf("undone: %v\n%s", err, again.Text)
		}
	})
}

func TestEachKindOfEdit(t *testing.T) {
	const rules = "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, move: host *h / at, to: 'hosts / {h} / address'}\n  - {id: T, adopt: host * / mode}\n  - {id: U, keep: size}\n"
	const text = "size 5\nhost a\n  at 10.0.0.1\nhost b\n  at 10.0.0.2\n"
	word := func(name, w string) *Tree { return &Tree{Name: name, Words: []config.Word{{Text: w, Quoted: true}}} }
	for _, c := range []struct {
		what   string
		edit   Edit
		want   string
		states []string
	}{
		{"set", Edit{Kind: EditSet, Path: "hosts / a / address", Node: word("address", "10.0.0.9")}, `{"size":5,"hosts":{"a":{"address":"10.0.0.9"},"b":{"address":"10.0.0.2"}}}`, []string{"size: kept", "host a: moved", "host a / at: changed", "host b: moved", "host b / at: moved"}},
		{"add", Edit{Kind: EditAdd, Path: "hosts / a", Node: word("key", "aa11")}, `{"size":5,"hosts":{"a":{"key":"aa11","address":"10.0.0.1"},"b":{"address":"10.0.0.2"}}}`, []string{"size: kept", "host a: moved", "host a / at: moved", "host b: moved", "host b / at: moved"}},
		{"remove", Edit{Kind: EditRemove, Path: "hosts / b"}, `{"size":5,"hosts":{"a":{"address":"10.0.0.1"}}}`, []string{"size: kept", "host a: moved", "host a / at: moved", "host b: dropped, removed by hand", "host b / at: dropped, removed by hand"}},
		{"order", Edit{Kind: EditOrder, Path: "hosts / b"}, `{"size":5,"hosts":{"b":{"address":"10.0.0.2"},"a":{"address":"10.0.0.1"}}}`, []string{"size: kept", "host a: moved", "host a / at: moved", "host b: moved", "host b / at: moved"}},
	} {
		got, states, r := example(t, rules, text, func(j *Job) { j.Edits = []Edit{c.edit} })
		assert.Equal(t, c.want, got, c.what)
		assert.Equal(t, c.states, states, c.what)
		require.Len(t, r.Ledger.Edits, 1)
		assert.Nil(t, r.Ledger.Edits[0].Node, "a ledger holds no secrets")
		for _, row := range r.Ledger.Target {
			assert.NotContains(t, row.Text, "aa11")
		}
	}
	_, _, r := example(t, rules, text, func(j *Job) { j.Edits = []Edit{{Kind: "paint", Path: "size"}} })
	assert.Contains(t, r.Ledger.Findings[0].Message, `"paint" is not a kind of edit`)
}

// Parts are put into configurations of every syntax, and putting them twice changes nothing.
func TestPutIntoEachSyntax(t *testing.T) {
	const head = "format: verimorph-schema/1\nid: x\nfamily: toy\nreleases: any\nsyntax: "
	const lines = "\nstatements:\n  pool: {key: word, words: [name], defines: pool, statements: {size: count}}\n  front: {key: word, words: [name], defines: front, statements: {pool: p}}\ntypes: {p: {refers-to: [pool]}}\nservices: {entries: [front *], naming: '^([a-z]+)-', policy: pool}\n"
	const named = "\nstatements:\n  pool: {each: {defines: pool, statements: {size: count}}}\n  front: {each: {defines: front, statements: {pool: p}}}\ntypes: {p: {refers-to: [pool]}}\nservices: {entries: [front / *], naming: '^([a-z]+)-', policy: pool}\n"
	const elements = "\nstatements:\n  g:\n    statements:\n      pool: {key: '@n', defines: pool, statements: {'@n': name, size: count}}\n      front: {key: '@n', defines: front, statements: {'@n': name, pool: p}}\ntypes: {p: {refers-to: [pool]}}\nservices: {entries: [g / front *], naming: '^([a-z]+)-', policy: pool}\n"
	for syntax, c := range map[config.Syntax]struct{ schema, text, home, front string }{
		config.BlockIndent: {lines, "pool a\n  size 1\npool b\n  size 2\nfront web-1\n  pool a\nfront web-2\n  pool a\nfront mail-1\n  pool b\n", "pool z\n  size 9\n", "front shop"},
		config.Braces:      {lines, "pool a { size 1; }\npool b { size 2; }\nfront web-1 { pool a; }\nfront web-2 { pool a; }\nfront mail-1 { pool b; }\n", "pool z { size 9; }\n", "front shop"},
		config.INI:         {lines, "[pool a]\nsize = 1\n[pool b]\nsize = 2\n[front web-1]\npool = a\n[front web-2]\npool = a\n[front mail-1]\npool = b\n", "[pool z]\nsize = 9\n", "front shop"},
		config.Dotted:      {named, "pool.a.size = 1\npool.b.size = 2\nfront.web-1.pool = a\nfront.web-2.pool = a\nfront.mail-1.pool = b\n", "pool.z.size = 9\n", "front / shop"},
		config.JSON:        {named, `{"pool": {"a": {"size": 1}, "b": {"size": 2}}, "front": {"web-1": {"pool": "a"}, "web-2": {"pool": "a"}, "mail-1": {"pool": "b"}}}`, `{"pool": {"z": {"size": 9}}}`, "front / shop"},
		config.XML:         {elements, `<g><pool n="a"><size>1</size></pool><pool n="b"><size>2</size></pool><front n="web-1"><pool>a</pool></front><front n="web-2"><pool>a</pool></front><front n="mail-1"><pool>b</pool></front></g>`, `<g><pool n="z"><size>9</size></pool></g>`, "g / front shop"},
	} {
		s, found := config.ReadSchema("s.yaml", []byte(head+string(syntax)+c.schema), func(string) *version.Scheme { return version.Default }, func(string) *config.Schema { return nil })
		require.Empty(t, found, "%s", syntax)
		parse := func(text string) *config.Document {
			d, broken := config.Parse("x", text, syntax)
			require.Empty(t, broken, "%s: %s", syntax, text)
			return d
		}
		d := parse(c.text)
		require.Empty(t, s.Check(d, "", version.Version{}), syntax)
		groups, err := FindServices(s, d, ByNaming)
		require.NoError(t, err)
		require.Len(t, groups, 2, syntax)
		assert.Len(t, groups[0].Services, 2, syntax)
		carved, err := CarveOut(s, d, Carving{Services: []string{"web-1"}, Rename: map[string]string{"web-1": "shop", "a": "pier-a"}})
		require.NoError(t, err)
		require.Len(t, carved.Needs, 1, syntax)
		assert.True(t, carved.Needs[0].Shared, "%s: web-2 stays and needs it", syntax)
		part := parse(carved.Text)
		assert.Empty(t, s.Check(part, "", version.Version{}), "%s: %s", syntax, carved.Text)
		home, conflicts := PutInto(s, parse(c.home), part)
		assert.Empty(t, conflicts, syntax)
		whole := parse(home.Print())
		assert.Empty(t, s.Check(whole, "", version.Version{}), "%s: %s", syntax, home.Print())
		assert.NotNil(t, s.Locate(whole, c.front), "%s: %s", syntax, home.Print())
		again, conflicts := PutInto(s, whole, part)
		assert.Empty(t, conflicts, syntax)
		assert.True(t, config.Compare(whole, again, s).Same(), syntax)
		rest := parse(carved.Rest)
		assert.Empty(t, s.Check(rest, "", version.Version{}), syntax)
		assert.NotContains(t, carved.Rest, "web-1")
		// All that need it go: then it goes, too.
		carved, err = CarveOut(s, d, Carving{Services: []string{"web-1", "web-2"}})
		require.NoError(t, err)
		assert.False(t, carved.Needs[0].Shared, syntax)
		left, err := FindServices(s, parse(carved.Rest), ByPolicy)
		require.NoError(t, err)
		require.Len(t, left, 1)
		assert.Equal(t, "b", left[0].Name)
	}
}
