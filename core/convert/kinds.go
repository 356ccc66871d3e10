package convert

import (
	"fmt"
	"slices"
	"strings"

	"verimorph/core/config"
)

// The kinds of rules that do more than to carry a statement to a place.

// A merging gathers the statements that become one.
type merging struct {
	rule  *Rule
	caps  captures
	nodes []*config.Node
}

// mapped carries a statement over with another value for the last word its pattern kept.
func (r *stageRun) mapped(n *config.Node, st *config.Statement, segment []string, used int, around cover, rule *Rule, c captures) {
	at := -1
	for i, w := range rule.Of.segs[len(rule.Of.segs)-1] {
		if w.any && !w.rest {
			at = i
		}
	}
	if at < 0 || at >= len(segment) {
		r.lose(n, loss{true, rule.ID, "the rule keeps no word to map", AskSettle})
		return
	}
	old := segment[at]
	new, known := rule.Values[old]
	if !known {
		switch rule.Else {
		case "keep":
			new = old
		case "", "person":
			if r.stage.S.IsSecret(n) {
				old = config.Mask
			}
			l := loss{true, rule.ID, fmt.Sprintf("%q has no counterpart", old), AskSettle}
			r.lose(n, l)
			r.children(n, st, cover{lost: &l})
			return
		default:
			new = rule.Else
		}
	}
	name := rule.Of.segs[len(rule.Of.segs)-1][at].text
	for i := range c {
		if c[i].name == name {
			c[i].words = []string{new}
		}
	}
	if rule.To == nil { // in the counterpart of its block, wherever that went
		to := slices.Clone(segment)
		to[at] = new
		r.keepAs(n, st, segment, to, around, rule.ID)
		return
	}
	r.place(n, st, segment, used, rule, rule.To, c)
}

// gather keeps a statement for a rule that merges it with others: those whose common words are the same.
func (r *stageRun) gather(n *config.Node, rule *Rule, c captures) {
	shared := rule.Of.names()
	for _, p := range rule.More {
		names := p.names()
		shared = slices.DeleteFunc(shared, func(name string) bool { return !slices.Contains(names, name) })
	}
	key := rule.ID
	for _, name := range shared {
		words, _ := c.get(name)
		key += "\x00" + strings.Join(words, " ")
	}
	m := r.merges[key]
	if m == nil {
		m = &merging{rule: rule}
		r.merges[key] = m
		r.order = append(r.order, key)
	}
	m.nodes = append(m.nodes, n)
	for _, k := range c {
		if k.name != "value" {
			m.caps = append(m.caps, k)
		}
	}
}

// merge makes one statement of several.
func (r *stageRun) merge(m *merging) {
	for name, text := range m.rule.Missing {
		if _, ok := m.caps.get(name); !ok {
			m.caps = append(m.caps, capture{name, []string{text}})
		}
	}
	for _, name := range m.rule.To.names() {
		if _, ok := m.caps.get(name); !ok {
			l := loss{true, m.rule.ID, "what belongs to {" + name + "} is missing, so it cannot be merged", AskSettle}
			if !slices.ContainsFunc(m.nodes, func(n *config.Node) bool { return !r.assumed[n] }) {
				l.person, l.reason = false, "what belongs to {"+name+"} is not there, so there is nothing that it could be for"
			}
			for _, n := range m.nodes {
				r.lose(n, l)
			}
			return
		}
	}
	if len(m.nodes) > 1+len(m.rule.More) {
		for _, n := range m.nodes {
			r.lose(n, loss{true, m.rule.ID, "there are more statements to merge than the rule speaks of", AskSettle})
		}
		return
	}
	for _, n := range m.nodes {
		st := r.stage.S.Describe(n)
		for _, k := range n.Children {
			r.sts = r.chain(k)
			r.loseAll(k, st.Inside(k.Name), loss{true, m.rule.ID, "it stands inside a statement that was merged", AskSettle})
		}
	}
	node := r.create(m.rule, m.rule.To, m.caps, m.nodes[0], nil)
	if node == nil {
		for _, n := range m.nodes {
			r.lose(n, loss{true, m.rule.ID, "it could not be merged", AskSettle})
		}
		return
	}
	for _, n := range m.nodes[1:] {
		r.claim(node, r.stage.T.Describe(node), n, nil, m.rule.ID)
		r.annotate(node, n)
	}
}

// add puts a statement into the target that the source does not have, unless it is there already.
func (r *stageRun) add(rule *Rule, c captures) error {
	if !r.holds(rule.When, c) {
		return nil
	}
	to, err := rule.To.fill(c)
	if err != nil {
		return fmt.Errorf("rule %s: %w", rule.ID, err)
	}
	parent, pst := r.out.Root, r.stage.T.Top
	for i, segment := range to {
		found := r.indexed(parent, pst, segment)
		if i == len(to)-1 {
			if found == nil {
				r.create(rule, rule.To, c, nil, &origin{kind: FromRule, rule: rule.ID, text: rule.Text})
			}
			return nil
		}
		if found == nil {
			if rule.Of != nil { // what it was for did not come over
				return nil
			}
			break
		}
		parent, pst = found, pst.Inside(segment[0])
	}
	r.create(rule, rule.To, c, nil, &origin{kind: FromRule, rule: rule.ID, text: rule.Text})
	return nil
}

// follow lets references follow what was renamed.
func (r *stageRun) follow() {
	if len(r.renames) == 0 {
		return
	}
	t := r.stage.T
	t.WalkWith(r.out.Root, func(n *config.Node, st *config.Statement) {
		t.References(n, st, func(kinds []string, name string, set func(string)) {
			for _, kind := range kinds {
				if to, ok := r.renames[kind][name]; ok {
					set(to)
					if o := r.after.of(n); o != nil {
						o.rule = join(o.rule, r.by[kind+"\x00"+to].ID)
					}
					return
				}
			}
		})
	})
}

// decide asks a person, or does what was answered.
func (r *stageRun) decide(n *config.Node, st *config.Statement, segment []string, used int, around cover, rule *Rule, c captures) {
	path := r.stage.S.Path(n)
	q := Question{Rule: rule.ID, Path: path, Text: rule.Ask, Line: n.Line}
	for _, choice := range rule.Choices {
		q.Choices = append(q.Choices, Answer{choice.Answer, choice.Text})
	}
	answer, ok := r.answers[rule.ID+" @ "+path]
	if !ok {
		answer, ok = r.answers[rule.ID]
	}
	if i := slices.IndexFunc(rule.Choices, func(x Choice) bool { return x.Answer == answer }); ok && i >= 0 {
		q.Answer = answer
		r.asked = append(r.asked, q)
		choice := rule.Choices[i]
		switch {
		case choice.Drop != "":
			r.loseAll(n, st, loss{false, rule.ID, choice.Drop, AskSettle})
		case choice.To != nil:
			r.place(n, st, segment, used, rule, choice.To, c)
		default:
			r.keep(n, st, segment, around, rule.ID)
		}
		return
	}
	r.asked = append(r.asked, q)
	r.loseAll(n, st, loss{true, rule.ID, rule.Ask, AskAnswer})
}
