package convert

import (
	"slices"
	"strings"

	"verimorph/core/config"
	"verimorph/core/version"
)

// The audit of what the source leaves out. For each default that is in use on the source it works out what is in effect on the target, from
// the two trees and the two schemas alone, and holds the ledger against it.

// An effect is a default of the source that is in use.
type effect struct {
	block  *config.Node
	path   string // of what stands in the block, as leaf.around gives it
	names  []string
	st     *config.Statement
	within []place // the items around it, the innermost last
}

// An effectKey is where something is left out, and the names from there to it.
type effectKey struct {
	at    place
	names string
}

func (e effect) key() effectKey {
	return effectKey{place{e.block.Line, e.block.Column}, strings.Join(e.names, "\x00")}
}

// effects lists the defaults of the source that are in use.
func effects(d *config.Document, s *config.Schema, p Party, fragment bool) (out []effect) {
	v := version.Version{}
	if parsed, err := version.Parse(p.Version); err == nil {
		v = parsed
	}
	var unwritten func(e effect, st *config.Statement)
	unwritten = func(e effect, st *config.Statement) {
		for _, k := range st.Implied() {
			if !k.Exists(p.Model, v) || len(e.names) == 0 && e.block.Child(k.Name) != nil {
				continue
			}
			next := e
			next.names = append(slices.Clip(e.names), k.Name)
			if next.st = k; k.HasDefault {
				out = append(out, next)
				continue
			}
			next.path += "\x00" + k.Name
			unwritten(next, k)
		}
	}
	var walk func(n *config.Node, st *config.Statement, path string, within []place)
	walk = func(n *config.Node, st *config.Statement, path string, within []place) {
		if n.Parent != nil || !fragment {
			unwritten(effect{block: n, path: path, within: within}, st)
		}
		for i, c := range n.Children {
			cs := st.Inside(c.Name)
			if len(c.Children) == 0 && len(cs.Implied()) == 0 {
				continue
			}
			around := within
			if at := speaker(c, cs); at != nil {
				around = append(slices.Clip(within), place{at.Line, at.Column})
			}
			walk(c, cs, path+"\x00"+step(c, cs, i), around)
		}
	}
	walk(d.Root, s.Top, "", nil)
	return out
}

// speaker is the statement that says what a block is: itself, or its key inside; nil when the block only holds what is in it.
func speaker(n *config.Node, st *config.Statement) *config.Node {
	if st != nil && st.KeyInside() && len(n.Words) == 0 {
		return n.Child(string(st.Key))
	}
	if len(n.Words) > 0 || len(n.Children) == 0 && n.Form != config.Group || st != nil && st.ByName && n.Form != config.Group {
		return n
	}
	return nil
}

// assumed checks that each default of the source is accounted for, once, and that what the ledger says of it is in effect on the target.
func (k *audit) assumed(source, target *config.Document, s, t *config.Schema, l *Ledger, from, to *leaves) {
	inUse := effects(source, s, l.From, l.Fragment)
	if len(inUse) == 0 && len(l.Assumed) == 0 {
		for _, row := range l.Target {
			if len(row.Assumed) > 0 {
				k.say("target line %d names something left out, of which the ledger does not speak", row.Line)
			}
		}
		return
	}
	rows := make(map[effectKey]AssumedItem, len(l.Assumed))
	for i, row := range l.Assumed {
		key := effectKey{place{row.Line, row.Column}, strings.Join(row.Inside, "\x00")}
		if _, twice := rows[key]; twice {
			k.say("what is left out at %d:%d (%s) is claimed twice", row.Line, row.Column, strings.Join(row.Inside, " / "))
		}
		rows[key] = row
		for n, x := range row.Targets {
			if x < 0 || x >= len(l.Target) || slices.Contains(row.Targets[:n], x) || !slices.Contains(l.Target[x].Assumed, i) {
				k.say("what is left out at line %d: its target %d does not exist, is named twice, or does not say that it comes from here", row.Line, x)
				return
			}
		}
	}
	links := 0
	for i := range l.Target {
		links += len(l.Target[i].Assumed)
	}
	for _, row := range l.Assumed {
		links -= len(row.Targets)
	}
	if links != 0 {
		k.say("%d statements of the target name something left out that does not say that it goes there", links)
	}
	hands := map[place]bool{} // where a person wrote something
	for i := range l.Target {
		if row := &l.Target[i]; row.Origin == FromHand {
			hands[place{row.Line, row.Column}] = true
		}
	}
	byHand := func(n *config.Node) bool { return len(hands) > 0 && hands[place{n.Line, n.Column}] }
	became := func(at place) *SourceItem {
		if i := from.find(at.line, at.column); i >= 0 {
			return &l.Source[from.rows[i]-1]
		}
		return &SourceItem{} // the key of an entry that says nothing
	}
	for _, e := range inUse {
		row, listed := AssumedItem{}, false
		if len(rows) > 0 {
			row, listed = rows[e.key()]
		}
		if !listed {
			k.plain(e, target, t, l, to, became, byHand)
			continue
		}
		delete(rows, e.key())
		k.listed(row, e, target, t, l, to, byHand)
	}
	for _, row := range rows {
		k.say("the ledger says that line %d leaves out %s, which is not so", row.Line, strings.Join(row.Inside, " / "))
	}
}

// listed checks a default of which the ledger speaks.
func (k *audit) listed(row AssumedItem, e effect, target *config.Document, t *config.Schema, l *Ledger, to *leaves, byHand func(*config.Node) bool) {
	is := leaf{around: e.path, n: config.NewNode(e.st.Name, e.st.DefaultWords()...), guarded: e.st.Guarded != ""}
	if row.State != Unsaid {
		k.source(&row.SourceItem, is, l, to)
		return
	}
	if row.Same == nil || len(row.Targets) > 0 {
		k.say("%s is said to be left out on both sides, but not where", row.Path)
		return
	}
	if n := t.Locate(target, row.Same.At); n != nil && !byHand(n) {
		k.say("%s is said to be left out on both sides, but the target says %s", row.Path, t.Masked(n, true))
	}
	st, steps := t.Top, strings.Split(row.Same.At, " / ")
	for _, label := range steps {
		name, _, _ := strings.Cut(label, " ")
		st = st.Inside(name)
	}
	switch {
	case st == nil || !st.HasDefault:
		k.say("%s is said to be left out on both sides, but the target assumes nothing for %s", row.Path, row.Same.At)
	case row.Rule == "" && st.Default != e.st.Default:
		k.say("%s is said to be assumed alike, but the source assumes %q and the target %q", row.Path, e.st.Default, st.Default)
	}
}

// plain checks a default of which the ledger does not speak: it goes with its block, or the target assumes the same there and says nothing.
func (k *audit) plain(e effect, target *config.Document, t *config.Schema, l *Ledger, to *leaves, became func(place) *SourceItem, byHand func(*config.Node) bool) {
	for _, at := range e.within {
		if row := became(at); len(row.Targets) == 0 || row.State == NeedsPerson || row.State == Merged && !strings.Contains(row.Rule, PortsRule) {
			return
		}
	}
	blocks, names := []*config.Node{target.Root}, strings.Split(strings.TrimPrefix(e.path, "\x00"), "\x00")
	if e.path == "" {
		names = nil
	}
	if n := len(e.within); n > 0 {
		inner := became(e.within[n-1])
		blocks, names = nil, names[len(names)-k.below(e):]
		for _, x := range inner.Targets {
			n := to.at(l.Target[x].Line, l.Target[x].Column).n
			if byHand(n) {
				continue
			}
			if st := t.Describe(n.Parent); st != nil && st.KeyInside() && n.Name == string(st.Key) {
				n = n.Parent
			}
			blocks = append(blocks, n)
		}
	}
	for _, n := range blocks {
		st := t.Describe(n)
		for _, name := range append(names, e.st.Name) {
			if n != nil {
				n = n.Child(name)
			}
			st = st.Inside(name)
		}
		switch {
		case n != nil && byHand(n):
		case n != nil && strings.Join(words(n), " ") != e.st.Default:
			k.say("the source assumes %q for %s at line %d, which is not accounted for", e.st.Default, strings.Join(e.names, " / "), e.block.Line)
		case n == nil && (st == nil || !st.HasDefault || st.Default != e.st.Default):
			k.say("the source assumes %q for %s at line %d, the target does not, and it is not accounted for", e.st.Default, strings.Join(e.names, " / "), e.block.Line)
		}
	}
}

// below is how many blocks stand between the innermost item around a default and the default.
func (k *audit) below(e effect) int {
	n := len(e.names) - 1
	for b := e.block; b.Parent != nil; b = b.Parent {
		at := e.within[len(e.within)-1]
		if b.Line == at.line && b.Column == at.column || slices.ContainsFunc(b.Children, func(c *config.Node) bool { return c.Line == at.line && c.Column == at.column }) {
			break
		}
		n++
	}
	return n
}
