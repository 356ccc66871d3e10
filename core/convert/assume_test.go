package convert

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/config"
	"verimorph/core/version"
)

const leavesOut = `format: verimorph-schema/1
id: s1
family: toy
releases: "<2"
syntax: block-indent
types: {mode: {one-of: [fast, slow, eager]}, seconds: {range: [1, 86400]}}
statements:
  banner: {type: text, default: "all is well"}
  poll: {type: seconds, default: 300}
  log:
    statements:
      level: {type: word, default: info}
      keep: {type: count, default: 7, guarded: an audit needs it}
  vpn: {presence: true, statements: {mode: {type: mode, default: eager}}}
  strict: {statements: {server: {type: word, required: true}, wait: {type: seconds, default: 9}}}
  host:
    key: word
    words: [name]
    statements:
      mode: {type: mode, default: slow}
      idle: {type: seconds, default: 120}
      unit: {type: word, default: s}
      pin: {type: word, default: "0000", secret: true}
`

const says = `format: verimorph-schema/1
id: s2
family: toy
releases: ">=2"
syntax: %s
types: {mode: {one-of: [quick, slow]}}
statements:
  banner: {type: text, default: "all is well"}
  greeting: {type: text, default: ""}
  poll: {type: count, default: 5}
  minutes: {type: count, default: 10}
  log:
    statements:
      level: {type: word, default: warning}
      keep: {type: count, default: 7}
      days: {type: count, default: 1}
      minimum: word
  vpn: {presence: true, statements: {mode: {type: mode, default: slow}}}
  host:
    key: word
    words: [name]
    statements:
      mode: {type: mode, default: quick}
      idle: {type: word, default: 120s}
      after: {type: count, default: 120}
      low: {type: count, default: 1}
      pin: {type: word, default: "0000", secret: true}
`

// usual says what becomes of everything that leavesOut knows.
var usual = []string{"Z1, keep: banner", "Z2, keep: log", "Z3, adopt: log / level", "Z4, drop: poll, because: it is not asked any more", "Z5, keep: host", "Z6, adopt: host * / mode",
	"Z7, drop: host * / unit, because: seconds only", "Z8, adopt: host * / idle"}

// leftOut converts a text by some rules and the usual ones, but for some of those.
func leftOut(t *testing.T, syntax, rules, without, text string, change func(*Job)) *Result {
	t.Helper()
	f, found := catalog.ReadFile("toy.yaml", []byte(toy))
	require.Empty(t, found.Errors())
	cat := &catalog.Catalogue{}
	cat.Add(f)
	file := "format: verimorph-conversion/1\nid: c\nfrom: {schema: s1}\nto: {schema: s2}\nrules:\n" + rules
	for _, rule := range usual {
		if !strings.Contains(without, rule[:2]) {
			file += "  - {id: " + rule + "}\n"
		}
	}
	l, found := Load(cat, []File{{"s1.yaml", []byte(leavesOut)}, {"s2.yaml", fmt.Appendf(nil, says, syntax)}, {"c.yaml", []byte(file)}})
	require.Empty(t, found.Errors(), "%s", found.Error())
	d, broken := config.Parse("x", text, config.BlockIndent)
	require.Empty(t, broken)
	job := Job{From: Stop{"A", version.MustParse("1.0")}, To: Stop{"A", version.MustParse("2.0")}, Answers: map[string]string{}}
	if change != nil {
		change(&job)
	}
	r, err := l.Convert(job, d)
	require.NoError(t, err)
	require.Empty(t, Check(text, r.Text, r.S, r.T, r.Ledger), "%s", about(l, r))
	return r
}

// Where the source says nothing, what it assumes arrives on the target through the same rules as a written value, or a person is asked.
func TestWhatIsLeftOutArrives(t *testing.T) {
	const decide = "  - {id: A, decide: banner, question: which, choices: [{answer: greet, text: g, to: greeting}, {answer: no, text: n, drop: not wanted}]}\n"
	for _, c := range []struct {
		what, rules, without, text, want string
		assumed                          []string
		answer                           [2]string
	}{
		{what: "kept, and the target assumes the same", text: "host a\n", want: "host a\n"},
		{what: "kept under another default", without: "Z8", text: "host a\n", want: "host a\n  idle 120\n", assumed: []string{"host a / idle: kept"}},
		{what: "moved", rules: "  - {id: A, move: banner, to: greeting}\n", without: "Z1", want: "greeting \"all is well\"\n", assumed: []string{"banner: moved"}},
		{what: "computed", rules: "  - {id: A, compute: 'poll *s', to: 'minutes {= s / 60}'}\n", want: "minutes 5\n", assumed: []string{"poll: changed"}},
		{what: "computed to what the target assumes", rules: "  - {id: A, compute: 'poll *s', to: 'poll {= s / 60}'}\n", assumed: []string{"poll: unsaid as poll 5"}},
		{what: "computed, but written", rules: "  - {id: A, compute: 'poll *s', to: 'minutes {= s / 60}'}\n", text: "poll 60\n", want: "minutes 1\n"},
		{what: "computed into what it does not take", rules: "  - {id: A, compute: 'poll *s', to: 'host main / mode {= s}'}\n",
			assumed: []string{`poll: needs-person, A@2.0 does not take it: "300" does not fit; expected one of quick, slow`}},
		{what: "mapped", rules: "  - {id: A, map: 'log / level *l', values: {info: notice}}\n", without: "Z3", want: "log\n  level notice\n", assumed: []string{"log / level: changed"}},
		{what: "mapped without a counterpart", rules: "  - {id: A, map: 'log / level *l', values: {debug: debug}}\n", without: "Z3", assumed: []string{`log / level: needs-person, "info" has no counterpart`}},
		{what: "mapped without a counterpart, settled", rules: "  - {id: A, map: 'log / level *l', values: {debug: debug}}\n", without: "Z3", answer: [2]string{"settled @ log / level", "nobody reads it"},
			assumed: []string{`log / level: dropped, settled by hand: nobody reads it`}},
		{what: "split", rules: "  - {id: A, split: 'log / keep *d', into: ['log / days {d}', 'log / minimum \"{d}d\"']}\n", want: "log\n  days 7\n  minimum 7d\n",
			assumed: []string{"log / keep: needs-person, guarded, an audit needs it; it became days 7"}},
		{what: "split, and accepted", rules: "  - {id: A, split: 'log / keep *d', into: ['log / days {d}', 'log / minimum \"{d}d\"']}\n", want: "log\n  days 7\n  minimum 7d\n",
			answer: [2]string{"guarded @ log / keep", Accept}, assumed: []string{"log / keep: changed, guarded; the difference was accepted"}},
		{what: "merged with what is written", rules: "  - {id: A, merge: ['host *h / idle *n', 'host *h / unit *u'], to: 'host {h} / idle \"{n}{u}\"'}\n", without: "Z7 Z8", text: "host a\n  idle 60\n",
			want: "host a\n  idle 60s\n", assumed: []string{"host a / unit: merged"}},
		{what: "merged to what the target assumes", rules: "  - {id: A, merge: ['host *h / idle *n', 'host *h / unit *u'], to: 'host {h} / idle \"{n}{u}\"'}\n", without: "Z7 Z8", text: "host a\n",
			want: "host a\n", assumed: []string{"host a / idle: unsaid as idle 120s", "host a / unit: unsaid as idle 120s"}},
		{what: "nothing to merge it with", rules: "  - {id: A, merge: ['poll *n', 'strict / wait *u'], to: 'minutes {n}{u}'}\n",
			assumed: []string{"poll: dropped, what belongs to {u} is not there, so there is nothing that it could be for"}},
		{what: "the block around it moved", rules: "  - {id: A, rename: 'host *h', to: 'host h-{h}'}\n", without: "Z8", text: "host a\n", want: "host h-a\n  idle 120\n", assumed: []string{"host a / idle: moved"}},
		{what: "no rule, another default", without: "Z4", assumed: []string{"poll: needs-person, no rule says what becomes of it"}},
		{what: "no rule, the same default", without: "Z1"},
		{what: "a rule writes something there", rules: "  - {id: A, add: log / level error, text: errors are enough}\n", without: "Z3", want: "log\n  level error\n",
			assumed: []string{"log / level: dropped, a rule writes it: errors are enough"}},
		{what: "a rule writes what the target assumes", rules: "  - {id: A, add: log / keep 7, text: said for once}\n", want: "log\n  keep 7\n", assumed: []string{"log / keep: kept"}},
		{what: "something else came there", rules: "  - {id: A, move: host *h / unit, to: log / level}\n", without: "Z3 Z7", text: "host a\n  unit ms\n", want: "host a\nlog\n  level ms\n",
			assumed: []string{"log / level: needs-person, the result says there: level ms"}},
		{what: "the same came there", rules: "  - {id: A, move: host *h / unit, to: log / level}\n", without: "Z3 Z7", text: "host a\n  unit info\n", want: "host a\nlog\n  level info\n", assumed: []string{"log / level: merged"}},
		{what: "a decision", rules: decide, without: "Z1", assumed: []string{"banner: needs-person, which"}},
		{what: "a decision, answered", rules: decide, without: "Z1", answer: [2]string{"A", "greet"}, want: "greeting \"all is well\"\n", assumed: []string{"banner: moved"}},
		{what: "a decision against it", rules: decide, without: "Z1", answer: [2]string{"A", "no"}, assumed: []string{"banner: dropped, not wanted"}},
		{what: "its entry needs a person", without: "Z5", text: "host a\n"},
		{what: "a block whose presence says something, absent", rules: "  - {id: A, move: vpn / mode, to: log / minimum}\n"},
		{what: "a block whose presence says something", rules: "  - {id: A, move: vpn / mode, to: log / minimum}\n", text: "vpn\n", want: "log\n  minimum eager\n", assumed: []string{"vpn / mode: moved"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			r := leftOut(t, "block-indent", c.rules, c.without, c.text, func(j *Job) {
				if c.answer[0] != "" {
					j.Answers[c.answer[0]] = c.answer[1]
				}
			})
			assert.Equal(t, c.want, r.Text)
			var got []string
			for _, row := range r.Ledger.Assumed {
				assert.Positive(t, row.Line)
				assert.NotContains(t, row.Text+row.Reason, "0000")
				s := row.Path + ": " + row.State
				if row.Same != nil {
					s += " as " + row.Same.Text
				}
				if row.Reason != "" {
					s += ", " + row.Reason
				}
				if usual := strings.HasPrefix(row.Rule, "Z"); !usual || row.State != Dropped && row.State != Unsaid {
					got = append(got, s)
				}
			}
			assert.Equal(t, c.assumed, got)
			for _, row := range r.Ledger.Target {
				assert.Positive(t, row.Line)
			}
		})
	}
}

// Another syntax changes nothing about what is left out, and a part of a configuration leaves nothing out at its top.
func TestWhatIsLeftOutInOtherSyntaxesAndParts(t *testing.T) {
	for _, syntax := range []string{"braces", "dotted", "ini", "json", "xml"} {
		r := leftOut(t, syntax, "  - {id: A, compute: 'poll *s', to: 'log / days {= s / 60}'}\n", "", "", nil)
		days := r.T.Locate(r.Document, "log / days")
		require.NotNil(t, days, syntax)
		assert.Equal(t, "5", days.Value(), syntax)
	}
	part := func(j *Job) { j.Fragment = true }
	r := leftOut(t, "block-indent", "  - {id: A, compute: 'poll *s', to: 'log / days {= s / 60}'}\n", "Z8", "host a\n", part)
	assert.Equal(t, "host a\n  idle 120\n", r.Text)
}

// The audit finds what is done to the account of what is left out.
func TestTamperedAccountsOfWhatIsLeftOut(t *testing.T) {
	const rules = "  - {id: A, compute: 'poll *s', to: 'minutes {= s / 60}'}\n  - {id: B, compute: 'log / keep *d', to: 'log / keep {= d}'}\n"
	row := func(l *Ledger, path string) *AssumedItem {
		return &l.Assumed[slices.IndexFunc(l.Assumed, func(row AssumedItem) bool { return row.Path == path })]
	}
	for what, c := range map[string]struct {
		tamper func(*Ledger)
		finds  string
	}{
		"a row is missing": {func(l *Ledger) {
			l.Assumed = slices.DeleteFunc(l.Assumed, func(row AssumedItem) bool { return row.Path == "log / level" })
		}, "the target does not, and it is not accounted for"},
		"a row is there twice": {func(l *Ledger) { l.Assumed = append(l.Assumed, *row(l, "banner")) }, "claimed twice"},
		"a row too many": {func(l *Ledger) {
			more := *row(l, "banner")
			more.Inside = []string{"nothing"}
			l.Assumed = append(l.Assumed, more)
		}, "which is not so"},
		"another state":                  {func(l *Ledger) { row(l, "poll").State = Kept }, "which is not true"},
		"no link":                        {func(l *Ledger) { row(l, "poll").Targets = nil }, "does not say that it goes there"},
		"a link elsewhere":               {func(l *Ledger) { row(l, "poll").Targets = []int{7} }, "does not exist"},
		"no reason":                      {func(l *Ledger) { row(l, "log / level").Reason = "" }, "without a reason"},
		"unsaid, but nobody says where":  {func(l *Ledger) { row(l, "banner").Same = nil }, "but not where"},
		"unsaid, but the target says it": {func(l *Ledger) { row(l, "banner").Same.At = "minutes" }, "but the target says"},
		"unsaid of nothing":              {func(l *Ledger) { row(l, "banner").Same.At = "log / minimum" }, "assumes nothing for"},
		"a rule that stands for it":      {func(l *Ledger) { l.Target[0].Origin = FromRule }, "stands for something left out"},
	} {
		r := leftOut(t, "block-indent", rules, "Z4", "", nil)
		c.tamper(r.Ledger)
		assert.Contains(t, strings.Join(Check("", r.Text, r.S, r.T, r.Ledger), "\n"), c.finds, what)
	}
}
