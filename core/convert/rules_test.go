package convert

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/config"
	"verimorph/core/version"
)

// The schemas of the examples: one family in block-indent, its next train in JSON.
const fromSchema = `format: verimorph-schema/1
id: s1
family: toy
releases: "<2"
syntax: block-indent
types:
  host: {refers-to: [host], or: [any]}
  hosts: {list-of: host}
  mode: {one-of: [fast, slow]}
  port: {refers-to: [port]}
  ports: {list-of: port}
ports: {A: [{name: p1..3, speed: 100}], B: [{name: q1..2, speed: 1000}]}
statements:
  name: text
  size: count
  net: prefix
  old: text
  group: ports
  host:
    key: word
    words: [name]
    defines: host
    statements:
      at: address
      mode: {type: mode, default: slow}
      mask: text
      secret: {type: text, secret: true}
      limit: {type: count, guarded: it holds a flood back}
  port: {key: word, words: [name], defines: port, statements: {speed: count, to: hosts}}
  rule: {key: words, words: [host, host, "word?"]}
`

const toSchema = `format: verimorph-schema/1
id: s2
family: toy
releases: ">=2"
syntax: json
types:
  host: {refers-to: [host], or: [any]}
  hosts: {list-of: host}
  mode: {one-of: [quick, slow]}
  port: {refers-to: [port]}
  ports: {list-of: port}
  few: {range: [0, 50]}
ports: {A: [{name: p1..3, speed: 100}], B: [{name: q1..2, speed: 1000}]}
statements:
  title: text
  size: few
  place: text
  group: ports
  hosts:
    each:
      defines: host
      statements:
        address: text
        mode: {type: mode, default: quick}
        key: {type: text, secret: true}
        limit: {type: few, guarded: it holds a flood back}
        new: flag
        about: {statements: {a: text, b: text}}
  ports:
    items: {key: name, defines: port, statements: {name: name, speed: count, to: hosts}}
  rules:
    items: {key: position, statements: {from: host, to: host}}
`

// examples builds a library with the given rules.
func examples(t *testing.T, rules string) *Library {
	t.Helper()
	f, found := catalog.ReadFile("toy.yaml", []byte(toy))
	require.Empty(t, found.Errors())
	cat := &catalog.Catalogue{}
	cat.Add(f)
	l, found := Load(cat, []File{{"s1.yaml", []byte(fromSchema)}, {"s2.yaml", []byte(toSchema)},
		{"c.yaml", []byte("format: verimorph-conversion/1\nid: c\nfrom: {schema: s1}\nto: {schema: s2}\nrules:\n" + rules)}})
	require.Empty(t, found.Errors(), "%s", found.Error())
	return l
}

// example converts a text and returns the result without its blanks, and what became of each statement.
func example(t *testing.T, rules, text string, change func(*Job)) (string, []string, *Result) {
	t.Helper()
	l := examples(t, rules)
	d, broken := config.Parse("x", text, config.BlockIndent)
	require.Empty(t, broken)
	job := Job{From: Stop{"A", version.MustParse("1.0")}, To: Stop{"A", version.MustParse("2.0")}}
	if change != nil {
		change(&job)
	}
	r, err := l.Convert(job, d)
	require.NoError(t, err)
	require.Empty(t, Check(text, r.Text, r.S, r.T, r.Ledger), "%s", r.Text)
	var states []string
	for _, row := range r.Ledger.Source {
		s := row.Path + ": " + row.State
		if row.Reason != "" {
			s += ", " + row.Reason
		}
		states = append(states, s)
	}
	return strings.NewReplacer(" ", "", "\n", "").Replace(r.Text), states, r
}

func TestEachKindOfRule(t *testing.T) {
	for _, c := range []struct {
		what, rules, text, want string
		states                  []string
		change                  func(*Job)
	}{
		{what: "move, with the words going along", rules: `  - {id: R, move: name, to: title}`, text: "name box\n", want: `{"title":"box"}`, states: []string{"name: moved"}},
		{what: "nothing claims it", rules: `  - {id: R, move: name, to: title}`, text: "name box\nsize 5\n", want: `{"title":"box"}`, states: []string{"name: moved", "size: needs-person, no rule says what becomes of it"}},
		{what: "keep in another syntax", rules: `  - {id: R, keep: size}`, text: "size 5\n", want: `{"size":5}`, states: []string{"size: kept"}},
		{what: "the target does not take the value", rules: `  - {id: R, keep: size}`, text: "size 500\n", want: `{}`, states: []string{`size: needs-person, A@2.0 does not take it: "500" does not fit; expected a number from 0 to 50`}},
		{what: "the target does not know it", rules: "  - {id: R, keep: size}\n  - {id: S, keep: old}", text: "old x\n", want: `{}`, states: []string{"old: needs-person, A@2.0 does not take it: old is not known here; expected one of group, hosts, place, ports, rules, size, title"}},
		{what: "a block whose words become names", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, move: host *h / at, to: 'hosts / {h} / address'}", text: "host a\n  at 10.0.0.1\n",
			want: `{"hosts":{"a":{"address":"10.0.0.1","mode":"slow"}}}`, states: []string{"host a: moved", "host a / at: moved"}},
		{what: "map", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, map: host *h / mode *m, values: {fast: quick}, otherwise: keep, to: 'hosts / {h} / mode {m}'}", text: "host a\n  mode fast\nhost b\n  mode slow\n",
			want: `{"hosts":{"a":{"mode":"quick"},"b":{"mode":"slow"}}}`, states: []string{"host a: moved", "host a / mode: changed", "host b: moved", "host b / mode: moved"}},
		{what: "map without a counterpart", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, map: host *h / mode *m, values: {slow: slow}, to: 'hosts / {h} / mode {m}'}", text: "host a\n  mode fast\n",
			want: `{"hosts":{"a":{}}}`, states: []string{"host a: moved", `host a / mode: needs-person, "fast" has no counterpart`}},
		{what: "split", rules: "  - {id: R, split: 'net *n', into: ['title {= network(n)}', 'size {= length(n)}']}", text: "net 10.1.2.3/22\n", want: `{"title":"10.1.0.0/22","size":22}`, states: []string{"net: changed"}},
		{what: "merge", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, merge: ['host *h / at *a', 'host *h / mask *m'], missing: {m: '24'}, to: 'hosts / {h} / address \"{a}/{m}\"'}", text: "host a\n  at 10.0.0.1\n  mask 25\nhost b\n  at 10.0.0.2\n",
			want:   `{"hosts":{"a":{"address":"10.0.0.1/25","mode":"slow"},"b":{"address":"10.0.0.2/24","mode":"slow"}}}`,
			states: []string{"host a: moved", "host a / at: merged", "host a / mask: merged", "host b: moved", "host b / at: changed"}},
		{what: "merge that lacks a part", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, merge: ['host *h / at *a', 'host *h / mask *m'], to: 'hosts / {h} / address \"{a}/{m}\"'}", text: "host a\n  at 10.0.0.1\n",
			want: `{"hosts":{"a":{"mode":"slow"}}}`, states: []string{"host a: moved", "host a / at: needs-person, what belongs to {m} is missing, so it cannot be merged"}},
		{what: "compute", rules: "  - {id: R, compute: 'size *s', to: 'size {= s / 10}'}", text: "size 250\n", want: `{"size":25}`, states: []string{"size: changed"}},
		{what: "compute that cannot be", rules: "  - {id: R, compute: 'name *s', to: 'size {= s / 10}'}", text: "name x\n", want: `{}`, states: []string{`name: needs-person, "x" is not a number`}},
		{what: "add", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, add: 'hosts / {h} / new true', for: host *h, when: {lacks: ['host {h} / mode fast']}, text: x}\n  - {id: T, keep: host * / mode}\n  - {id: U, adopt: host * / mode}",
			text: "host a\nhost b\n  mode slow\n", want: `{"hosts":{"a":{"new":true},"b":{"mode":"slow","new":true}}}`, states: []string{"host a: moved", "host b: moved", "host b / mode: moved"}},
		{what: "adopt the new default", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, adopt: host * / mode}", text: "host a\n  limit 5\n", want: `{"hosts":{"a":{"limit":5}}}`, states: []string{"host a: moved", "host a / limit: moved"}},
		{what: "drop", rules: `  - {id: R, drop: old, because: it is gone}`, text: "old x\n", want: `{}`, states: []string{"old: dropped, it is gone"}},
		{what: "person", rules: `  - {id: R, person: old, because: look at it}`, text: "old x\n", want: `{}`, states: []string{"old: needs-person, look at it"}},
		{what: "decide, unanswered", rules: `  - {id: R, decide: old, question: which, choices: [{answer: a, text: t, to: place}, {answer: b, text: t, drop: not wanted}]}`, text: "old x\n", want: `{}`, states: []string{"old: needs-person, which"}},
		{what: "decide, to a place", rules: `  - {id: R, decide: old, question: which, choices: [{answer: a, text: t, to: place}, {answer: b, text: t, drop: not wanted}]}`, text: "old x\n", want: `{"place":"x"}`, states: []string{"old: moved"},
			change: func(j *Job) { j.Answers = map[string]string{"R": "a"} }},
		{what: "decide, to drop", rules: `  - {id: R, decide: old, question: which, choices: [{answer: a, text: t, to: place}, {answer: b, text: t, drop: not wanted}]}`, text: "old x\n", want: `{}`, states: []string{"old: dropped, not wanted"},
			change: func(j *Job) { j.Answers = map[string]string{"R @ old": "b", "R": "a"} }},
		{what: "an answer that is none", rules: `  - {id: R, decide: old, question: which, choices: [{answer: a, text: t, to: place}]}`, text: "old x\n", want: `{}`, states: []string{"old: needs-person, which"},
			change: func(j *Job) { j.Answers = map[string]string{"R": "z"} }},
		{what: "the first rule wins", rules: "  - {id: R, drop: old, because: first, when: {has: [name]}}\n  - {id: S, move: old, to: place}", text: "old x\n", want: `{"place":"x"}`, states: []string{"old: moved"}},
		{what: "a condition on content", rules: "  - {id: R, drop: old, because: first, when: {has: [name]}}\n  - {id: S, move: old, to: place}\n  - {id: T, move: name, to: title}", text: "name n\nold x\n", want: `{"title":"n"}`, states: []string{"name: moved", "old: dropped, first"}},
		{what: "references follow a rename", rules: "  - {id: R, rename: host *h, to: 'hosts / h-{h}'}\n  - {id: S, split: 'rule *a *b', into: ['rules / 1 / from {a}', 'rules / 1 / to {b}']}\n  - {id: T, adopt: host * / mode}", text: "host a\nrule a any\n",
			want: `{"hosts":{"h-a":{}},"rules":[{"from":"h-a","to":"any"}]}`, states: []string{"host a: changed", "rule a any: changed"}},
		{what: "a reference that is left open", rules: "  - {id: R, drop: host, because: gone}\n  - {id: S, split: 'rule *a *b', into: ['rules / 1 / from {a}', 'rules / 1 / to {b}']}", text: "host a\nrule a any\n",
			want: `{"rules":[{"to":"any"}]}`, states: []string{"host a: dropped, gone", `rule a any: needs-person, A@2.0 does not take it: there is no host "a"`}},
		{what: "secrets are carried, not shown", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, move: host *h / secret, to: 'hosts / {h} / key'}\n  - {id: T, adopt: host * / mode}", text: "host a\n  secret aa11\n",
			want: `{"hosts":{"a":{"key":"aa11"}}}`, states: []string{"host a: moved", "host a / secret: moved"}},
		{what: "a guarded value that changes", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, compute: 'host *h / limit *l', to: 'hosts / {h} / limit {= l / 2}'}\n  - {id: T, adopt: host * / mode}", text: "host a\n  limit 10\n",
			want: `{"hosts":{"a":{"limit":5}}}`, states: []string{"host a: moved", "host a / limit: needs-person, guarded, it holds a flood back; it became limit 5"}},
		{what: "a guarded value that was accepted", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, compute: 'host *h / limit *l', to: 'hosts / {h} / limit {= l / 2}'}\n  - {id: T, adopt: host * / mode}", text: "host a\n  limit 10\n",
			want: `{"hosts":{"a":{"limit":5}}}`, states: []string{"host a: moved", "host a / limit: changed, guarded; the difference was accepted"},
			change: func(j *Job) { j.Answers = map[string]string{"guarded @ host a / limit": Accept} }},
		{what: "ports of another model, in lists, too", rules: "  - {id: R, move: port *p, to: 'ports / {p}'}", text: "port p1\n  speed 5\nport p2\n  speed 6\n", want: `{"ports":[{"name":"q1","speed":5},{"name":"q2","speed":6}]}`,
			states: []string{"port p1: changed", "port p1 / speed: moved", "port p2: changed", "port p2 / speed: moved"},
			change: func(j *Job) {
				j.To.Model, j.Ports = "B", []PortChoice{{Port: "p1", To: "q1", Chosen: true}, {Port: "p2", To: "q2", Chosen: true}}
			}},
		{what: "a folded port that agrees", rules: "  - {id: R, move: port *p, to: 'ports / {p}'}", text: "port p1\n  speed 5\nport p2\n  speed 5\n", want: `{"ports":[{"name":"q1","speed":5}]}`,
			states: []string{"port p1: merged", "port p1 / speed: merged", "port p2: merged", "port p2 / speed: merged"},
			change: func(j *Job) {
				j.To.Model, j.Ports = "B", []PortChoice{{Port: "p1", To: "q1", Chosen: true}, {Port: "p2", FoldInto: "q1", Chosen: true}}
			}},
		{what: "lists follow folded ports, each once", rules: "  - {id: R, move: port *p, to: 'ports / {p}'}\n  - {id: S, keep: group}", text: "port p1\nport p2\nport p3\ngroup \"p3, p1,p2,p1\"\n",
			want:   `{"ports":[{"name":"q1"},{"name":"q2"}],"group":"q1,q2"}`,
			states: []string{"port p1: merged", "port p2: changed", "port p3: merged", "group: changed"},
			change: func(j *Job) {
				j.To.Model, j.Ports = "B", []PortChoice{{Port: "p1", To: "q1", Chosen: true}, {Port: "p2", To: "q2", Chosen: true}, {Port: "p3", FoldInto: "q1", Chosen: true}}
			}},
		{what: "ports that change places", rules: "  - {id: R, move: port *p, to: 'ports / {p}'}\n  - {id: S, keep: group}", text: "port p1\n  speed 1\nport p2\n  speed 2\ngroup p1\n",
			want:   `{"ports":[{"name":"q2","speed":1},{"name":"q1","speed":2}],"group":"q2"}`,
			states: []string{"port p1: changed", "port p1 / speed: moved", "port p2: changed", "port p2 / speed: moved", "group: changed"},
			change: func(j *Job) {
				j.To.Model, j.Ports = "B", []PortChoice{{Port: "p1", To: "q2", Chosen: true}, {Port: "p2", To: "q1", Chosen: true}}
			}},
		{what: "map without a place, inside a block that went elsewhere", rules: "  - {id: R, move: host *h, to: 'hosts / {h}'}\n  - {id: S, map: host * / mode *m, values: {fast: quick}}", text: "host a\n  mode fast\n",
			want: `{"hosts":{"a":{"mode":"quick"}}}`, states: []string{"host a: moved", "host a / mode: changed"}},
		{what: "a whole that was decided away, with a rule for a part", rules: "  - {id: R, decide: host *h, question: which, choices: [{answer: a, text: t, drop: not wanted}]}\n  - {id: S, move: host *h / at, to: 'hosts / {h} / address'}", text: "host a\n  at 10.0.0.1\n",
			want: `{}`, states: []string{"host a: dropped, not wanted", "host a / at: dropped, not wanted"}, change: func(j *Job) { j.Answers = map[string]string{"R": "a"} }},
		{what: "a third port for which there is no room", rules: "  - {id: R, move: port *p, to: 'ports / {p}'}", text: "port p1\nport p2\nport p3\n", want: `{"ports":[{"name":"q1"},{"name":"q2"}]}`,
			states: []string{"port p1: changed", "port p2: changed", "port p3: needs-person, no port is left; fold it into another or leave it out"},
			change: func(j *Job) {
				j.To.Model, j.Ports = "B", []PortChoice{{Port: "p1", To: "q1", Chosen: true}, {Port: "p2", To: "q2", Chosen: true}}
			}},
	} {
		t.Run(c.what, func(t *testing.T) {
			got, states, r := example(t, c.rules+"\n", c.text, c.change)
			assert.Equal(t, c.want, got)
			assert.Equal(t, c.states, states)
			for _, row := range r.Ledger.Source {
				assert.NotContains(t, fmt.Sprint(row), "aa11")
			}
		})
	}
}
