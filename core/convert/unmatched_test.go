package convert

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A slip of the finger does not look like a decision.
func TestWhatMatchesNothing(t *testing.T) {
	const rules = `  - {id: R, move: host *h, to: 'hosts / {h}'}
  - {id: S, compute: 'host *h / limit *l', to: 'hosts / {h} / limit {= l / 2}'}
  - {id: T, adopt: host * / mode}
  - {id: Q1, decide: old, question: which, choices: [{answer: left, text: t, to: place}, {answer: right, text: t, drop: not wanted}]}
  - {id: P, move: port *p, to: 'ports / {p}'}
`
	other := func(j *Job) { j.To.Model = "B" }
	_, _, r := example(t, rules, "host alpha\n  limit 10\nold x\nport p1\nname n\n", other)
	for _, c := range []struct {
		answers map[string]string
		ports   []PortChoice
		want    []string
	}{
		{answers: map[string]string{"guarded @ host alpha / limit": Accept, "Q1": "left", "Q1 @ old": "right", "settled @ name": "why", "settled @ host alpha": "why"}, ports: []PortChoice{{Port: "p1"}, {Port: "p3"}}},
		{answers: map[string]string{"guarded @ host alhpa / limit": Accept}, want: []string{`nothing guarded is called "host alhpa / limit"; known and near: host alpha / limit`}},
		{answers: map[string]string{"guarded @ name": Accept}, want: []string{`"name" is not guarded, so nothing is to be accepted`}},
		{answers: map[string]string{"settled @ host alph": "why"}, want: []string{`there is no "host alph" to settle; known and near: host alpha, host alpha / limit, host alpha / mode`}},
		{answers: map[string]string{"settled @ gone": ""}},
		{answers: map[string]string{"Q2": "left"}, want: []string{`no rule asks for "Q2"; known and near: Q1`}},
		{answers: map[string]string{"Q1 @ odl": "left"}, want: []string{`Q1 asks nothing about "odl"; known and near: Q1 @ old, Q1`}},
		{answers: map[string]string{"Q1": "up"}, want: []string{`"up" is no answer to Q1; it may be answered: left, right`}},
		{ports: []PortChoice{{Port: "q9"}}, want: []string{"A has no port q9"}},
		{ports: []PortChoice{{Port: "p11"}}, want: []string{"A has no port p11; known and near: p1"}},
	} {
		assert.Equal(t, c.want, r.Unmatched(c.answers, c.ports))
	}
	_, _, r = example(t, rules, "port p1\n", nil)
	assert.Equal(t, []string{"the model stays A, so no port goes elsewhere; leave the mapping of ports out"}, r.Unmatched(nil, []PortChoice{{Port: "p1"}}))
}
