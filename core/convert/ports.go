package convert

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"verimorph/core/config"
	"verimorph/core/near"
	"verimorph/core/yamldoc"
)

// PortsFormat is the first line of a file that maps ports.
const PortsFormat = "verimorph-ports/1"

// A PortChoice says what becomes of a port of the source: exactly one of To, FoldInto and LeaveOut is set, or none when
// nobody has chosen.
type PortChoice struct {
	Port     string `json:"port"`
	To       string `json:"to,omitempty"`
	FoldInto string `json:"foldInto,omitempty"` // a port of the target that another one is mapped to
	LeaveOut string `json:"leaveOut,omitempty"` // why
	Why      string `json:"why,omitempty"`      // of a proposal
	Sure     bool   `json:"sure"`               // of a proposal: the same name and role, and not slower
	Chosen   bool   `json:"chosen"`             // by a person; a proposal otherwise
}

// target is the port of the target it ends on, or "".
func (c PortChoice) target() string { return cmp.Or(c.To, c.FoldInto) }

// ReadPorts reads a file that maps ports:
//
//	format: verimorph-ports/1
//	ports:
//	  p1: x1
//	  p2: {fold-into: x1}
//	  p3: {leave-out: the cameras move to the switch}
func ReadPorts(file string, data []byte) ([]PortChoice, yamldoc.Findings) {
	root, broken := yamldoc.Parse(file, data, "begin with: format: "+PortsFormat)
	if broken != nil {
		return nil, yamldoc.Findings{*broken}
	}
	r := &yamldoc.Reader{File: file}
	var out []PortChoice
	format, ignore := "", ""
	r.Fields(root, "a port file", []string{"format", "ports"}, fields{"format": r.OneOf(&format, PortsFormat), "from": r.Text(&ignore), "to": r.Text(&ignore), "ports": func(n *yaml.Node) {
		seen := map[string]bool{}
		r.Names(n, "ports", func(k, v *yaml.Node) {
			c := PortChoice{Port: k.Value, Chosen: true}
			if seen[k.Value] {
				r.Fail(k, "keep one of them", "port %q stands here twice", k.Value)
			}
			seen[k.Value] = true
			if v.Kind == yaml.ScalarNode {
				r.Text(&c.To)(v)
			} else {
				r.Fields(v, "a port", nil, fields{"fold-into": r.Text(&c.FoldInto), "leave-out": r.Text(&c.LeaveOut)})
				if (c.FoldInto == "") == (c.LeaveOut == "") {
					r.Fail(v, "write the name of a port, {fold-into: PORT} or {leave-out: WHY}", "it is not said what becomes of port %q", k.Value)
				}
			}
			out = append(out, c)
		})
	}})
	if len(r.Found) > 0 {
		return nil, r.Found
	}
	return out, nil
}

// CheckPorts holds chosen ports against those of two models. Every message says what to do.
func CheckPorts(chosen []PortChoice, from, to []config.Port, source, target Stop) (wrong []string) {
	has := func(list []config.Port, name string) bool {
		return slices.ContainsFunc(list, func(p config.Port) bool { return p.Name == name })
	}
	taken := map[string]string{}
	for _, c := range chosen {
		if c.To != "" {
			if other := taken[c.To]; other != "" {
				wrong = append(wrong, fmt.Sprintf("ports %s and %s both go to %s; fold one of them into it instead", other, c.Port, c.To))
			}
			taken[c.To] = c.Port
		}
	}
	for _, c := range chosen {
		if len(from) > 0 && !has(from, c.Port) {
			wrong = append(wrong, fmt.Sprintf("%s has no port %s%s", source.Model, c.Port, ports(c.Port, from)))
		}
		if t := c.target(); t != "" && len(to) > 0 && !has(to, t) {
			wrong = append(wrong, fmt.Sprintf("%s has no port %s for %s%s", target.Model, t, c.Port, ports(t, to)))
		}
		if c.FoldInto != "" && taken[c.FoldInto] == "" {
			wrong = append(wrong, fmt.Sprintf("port %s folds into %s, to which no port is mapped; map one of them to it", c.Port, c.FoldInto))
		}
	}
	return wrong
}

// ports says which ports there are besides one that is not: all, or of many those that are like it.
func ports(name string, list []config.Port) string {
	all := portNames(list)
	if hint := near.Hint(name, all); len(all) > 16 && hint != "" {
		return hint
	}
	return "; it has " + strings.Join(all, ", ")
}

// ProposePorts proposes where the ports in use go: by role, name and speed. Ports that were chosen keep their place.
func ProposePorts(used []string, from, to []config.Port, chosen []PortChoice) []PortChoice {
	port := func(list []config.Port, name string) (config.Port, bool) {
		i := slices.IndexFunc(list, func(p config.Port) bool { return p.Name == name })
		if i < 0 {
			return config.Port{Name: name}, false
		}
		return list[i], true
	}
	taken := map[string]bool{}
	for _, c := range chosen {
		taken[c.To] = true
	}
	out := slices.Clone(chosen)
	var open []config.Port
	for _, name := range used {
		if !slices.ContainsFunc(chosen, func(c PortChoice) bool { return c.Port == name }) {
			p, _ := port(from, name)
			open = append(open, p)
		}
	}
	// The ports of a role first, so that one without a role does not take the last place of a role.
	order := slices.Clone(open)
	slices.SortStableFunc(order, func(a, b config.Port) int { return cmp.Compare(b.Speed*btoi(b.Role != ""), a.Speed*btoi(a.Role != "")) })
	found := map[string]PortChoice{}
	for _, p := range order {
		best, score := config.Port{}, -1
		for _, q := range to {
			if taken[q.Name] {
				continue
			}
			s := 8*btoi(q.Role == p.Role) + 4*btoi(q.Speed >= p.Speed) + 2*btoi(q.Name == p.Name) + btoi(q.Speed == p.Speed)
			if s > score {
				best, score = q, s
			}
		}
		c := PortChoice{Port: p.Name}
		if score < 0 {
			c.Why = "no port is left; fold it into another or leave it out"
		} else {
			taken[best.Name] = true
			c.To, c.Sure = best.Name, best.Name == p.Name && best.Role == p.Role && best.Speed >= p.Speed
			why := []string{}
			if best.Role == p.Role && p.Role != "" {
				why = append(why, "the same role, "+p.Role)
			} else if best.Role != p.Role {
				why = append(why, fmt.Sprintf("another role, %s for %s", cmp.Or(best.Role, "none"), cmp.Or(p.Role, "none")))
			}
			if best.Name == p.Name {
				why = append(why, "the same name")
			}
			if len(why) == 0 {
				why = append(why, "the next free port")
			}
			switch {
			case best.Speed < p.Speed:
				why = append(why, fmt.Sprintf("slower: %d for %d Mbit/s", best.Speed, p.Speed))
			case best.Speed > p.Speed:
				why = append(why, fmt.Sprintf("%d for %d Mbit/s", best.Speed, p.Speed))
			}
			c.Why = strings.Join(why, "; ")
		}
		found[p.Name] = c
	}
	for _, p := range open {
		out = append(out, found[p.Name])
	}
	slices.SortStableFunc(out, func(a, b PortChoice) int { return cmp.Compare(slices.Index(used, a.Port), slices.Index(used, b.Port)) })
	return out
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// UsedPorts are the ports a configuration speaks of, in its order.
func UsedPorts(s *config.Schema, d *config.Document) (out []string) {
	s.WalkWith(d.Root, func(n *config.Node, st *config.Statement) {
		if st != nil && st.Defines == "port" {
			if name := s.KeyOf(n, st); name != "" && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	})
	return out
}

// mapPorts gives the ports of the tree the names they have on the target and lets references follow.
func (r *stageRun) mapPorts(choices []PortChoice) {
	t := r.stage.T
	to := map[string]PortChoice{}
	for _, c := range choices {
		to[c.Port] = c
	}
	type entry struct {
		n    *config.Node
		st   *config.Statement
		name string // on the source
	}
	var all []entry
	t.WalkWith(r.out.Root, func(n *config.Node, st *config.Statement) {
		if st != nil && st.Defines == "port" {
			all = append(all, entry{n, st, t.KeyOf(n, st)})
		}
	})
	gone := map[*config.Node]bool{}
	at := map[*config.Node]map[string]*config.Node{} // the ports of a block by their new name
	rename := func(e entry, name string) {
		t.Rekey(e.n, e.st, name)
		at[e.n.Parent][name] = e.n
		if o := r.after.of(bearer(e.n, e.st)); o != nil {
			o.rule = join(o.rule, PortsRule)
		}
	}
	for _, fold := range []bool{false, true} { // those that others fold into go first
		for _, e := range all {
			c := to[e.name]
			if (c.FoldInto != "") != fold {
				continue
			}
			if at[e.n.Parent] == nil {
				at[e.n.Parent] = map[string]*config.Node{}
			}
			switch {
			case c.To != "":
				rename(e, c.To)
				if !c.Chosen && !c.Sure {
					r.flag(bearer(e.n, e.st), fmt.Sprintf("port %s to %s is only proposed (%s); confirm it", e.name, c.To, c.Why))
				}
			case c.FoldInto != "":
				into := at[e.n.Parent][c.FoldInto]
				if into == nil { // in this block nothing else went there
					rename(e, c.FoldInto)
					continue
				}
				r.fold(e.n, e.st, into)
				gone[e.n] = true
			default:
				l := loss{c.LeaveOut == "", PortsRule, cmp.Or(c.LeaveOut, c.Why, fmt.Sprintf("nothing is said about where port %s goes", e.name)), AskPorts}
				e.n.Walk(func(k *config.Node) { r.loseTarget(k, l) })
				gone[e.n] = true
			}
		}
	}
	config.RemoveAll(gone)
	t.WalkWith(r.out.Root, func(n *config.Node, st *config.Statement) {
		followed := false
		t.References(n, st, func(kinds []string, name string, set func(string)) {
			if c := to[name]; slices.Contains(kinds, "port") && c.target() != "" && c.target() != name {
				set(c.target())
				followed = true
			}
		})
		if followed {
			t.Unrepeat(n, st) // two ports of a list may have become one
			if o := r.after.of(n); o != nil {
				o.rule = join(o.rule, PortsRule)
			}
		}
	})
}

// PortsRule stands in ledgers for the mapping of ports.
const PortsRule = "ports"

// fold puts what stands inside a port into another one; what contradicts needs a person.
func (r *stageRun) fold(n *config.Node, st *config.Statement, into *config.Node) {
	t := r.stage.T
	merge := func(a, b *config.Node) {
		o, p := r.after.of(a), r.after.of(b)
		if o == nil || p == nil {
			return
		}
		if p.items = append(p.items, o.items...); slices.ContainsFunc(p.items, func(i int) bool { return i < r.real }) {
			p.kind = FromSource
		}
		p.rule = join(p.rule, PortsRule)
	}
	merge(bearer(n, st), bearer(into, st))
	r.foldUnsaid(n, into, st, bearer(into, st), t.Label(into))
	for _, k := range slices.Clone(n.Children) {
		ks := st.Inside(k.Name)
		if st.KeyInside() && k.Name == string(st.Key) {
			continue
		}
		other := t.Find(into, st, t.Segment(k, ks))
		switch {
		case other == nil:
			k.Remove()
			into.Append(k)
		case t.Masked(other, false) == t.Masked(k, false) && !t.IsSecret(k):
			var pairs [2][]*config.Node
			for i, x := range []*config.Node{k, other} {
				x.Walk(func(y *config.Node) { pairs[i] = append(pairs[i], y) })
			}
			for i := range pairs[0] {
				merge(pairs[0][i], pairs[1][i])
			}
		default:
			l := loss{true, PortsRule, fmt.Sprintf("its port is folded into %s, which says something else: %s", t.Label(into), t.Masked(other, true)), AskSettle}
			k.Walk(func(x *config.Node) { r.loseTarget(x, l) })
		}
	}
}

// foldUnsaid looks at what only one of two ports says, which become one: the other one assumes a default there. Where that is something else,
// a person has to look, and what was written stays out.
func (r *stageRun) foldUnsaid(n, into *config.Node, st *config.Statement, port *config.Node, label string) {
	t := r.stage.T
	for _, is := range st.Implied() {
		if !is.Exists(r.stage.To.Model, r.stage.To.Version) {
			continue
		}
		var a, b *config.Node
		if n != nil {
			a = n.Child(is.Name)
		}
		if into != nil {
			b = into.Child(is.Name)
		}
		switch {
		case (a == nil) == (b == nil) && is.HasDefault, a == nil && b == nil:
		case !is.HasDefault:
			r.foldUnsaid(a, b, is, port, label)
		case a != nil && !t.SaysDefault(a, is):
			r.loseTarget(a, loss{true, PortsRule, fmt.Sprintf("its port is folded into %s, which assumes %q there", label, is.Default), AskSettle})
			a.Remove()
		case b != nil && !t.SaysDefault(b, is):
			l := loss{true, PortsRule, fmt.Sprintf("its port is folded into %s, which says something else: %s", label, t.Masked(b, true)), AskSettle}
			if o, ok := r.passed[omissionKey{n, is.Name}]; ok {
				r.lost[r.omit(o)] = l
			} else if o := r.after.of(port); o != nil { // it has no item of its own, so it goes with its port
				for _, item := range o.items {
					r.lost[item] = l
				}
			}
		}
	}
}

// loseTarget notes that a statement of the target goes away again.
func (r *stageRun) loseTarget(n *config.Node, l loss) {
	o := r.after.of(n)
	if o == nil {
		return
	}
	r.after.put(n, nil)
	for _, item := range o.items {
		if had, ok := r.lost[item]; !ok || !had.person {
			r.lost[item] = l
		}
	}
}

// flag notes that a statement of the target is there but needs a person.
func (r *stageRun) flag(n *config.Node, reason string) {
	if o := r.after.of(n); o != nil {
		for _, item := range o.items {
			r.lost[item] = loss{true, PortsRule, reason, AskPorts}
		}
	}
}
