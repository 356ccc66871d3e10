package config

import (
	"slices"
	"strings"
)

// Derive makes a document without statements, to be written as the schema says, that can take copies of d's, which keep the comments around
// them and the way they are written.
func (s *Schema) Derive(d *Document) *Document {
	root := *d.Root
	root.Children, root.mark = nil, root.mark|restChanged
	return &Document{Name: d.Name, Syntax: d.Syntax, Root: &root, source: d.source, blocks: s.TextBlocks}
}

// Head copies a statement of a document, without what stands inside it, for the document derived from that one.
func (n *Node) Head() *Node {
	c := *n
	c.Parent, c.Children, c.Words, c.Ref = nil, nil, slices.Clone(n.Words), 0
	if len(n.Children) > 0 {
		c.mark |= restChanged
	}
	return &c
}

// Append puts a statement last inside n. It is Insert for building large trees.
func (n *Node) Append(child *Node) {
	if isAttribute(child) || n.Form == Plain && n.Parent != nil {
		n.Insert(-1, child)
		return
	}
	n.Children = append(n.Children, child)
	child.Parent = n
	child.touch()
}

// RemoveAll takes many statements out of their documents at once.
func RemoveAll(nodes map[*Node]bool) {
	parents := map[*Node]bool{}
	for n := range nodes {
		if n.Parent != nil {
			parents[n.Parent] = true
			n.touch()
			if isAttribute(n) {
				n.Parent.headChanged()
			}
		}
	}
	for p := range parents {
		p.Children = slices.DeleteFunc(slices.Clone(p.Children), func(n *Node) bool { return nodes[n] })
	}
	for n := range nodes {
		n.Parent = nil
	}
}

// Segment is what a path says of a statement: its name, and then its words or the key that stands inside it. An item of
// a list has no name.
func (s *Schema) Segment(n *Node, st *Statement) []string {
	if st == nil {
		if n.Name == "" {
			if k := keyChild(n); k != nil {
				return []string{k.Value()}
			}
			return texts(n.Words)
		}
		return append([]string{n.Name}, texts(n.Words)...)
	}
	out := make([]string, 0, 1+len(n.Words))
	if n.Name != "" {
		out = append(out, n.Name)
	}
	if st.KeyInside() {
		if k := n.Child(string(st.Key)); k != nil {
			out = append(out, k.Value())
		}
	}
	for _, w := range n.Words {
		out = append(out, w.Text)
	}
	return out
}

// KeyInside reports whether the key of an entry is a statement inside it, whose name is st.Key.
func (st *Statement) KeyInside() bool {
	switch st.Key {
	case KeyOnce, KeyWord, KeyWords, KeyPosition, "":
		return false
	}
	return true
}

// IsBlock reports whether statements can stand inside.
func (st *Statement) IsBlock() bool {
	return st != nil && (len(st.Statements) > 0 || st.Each != nil || st.Items != nil)
}

// Inside is the description of a statement of a name inside a block; nil when it is not known there.
func (st *Statement) Inside(name string) *Statement {
	if st == nil {
		return nil
	}
	if st.Items != nil {
		return st.Items
	}
	if c := st.Statements[name]; c != nil {
		return c
	}
	return st.Each
}

// Build makes the statement that a segment of a path speaks of, as the schema's syntax writes it inside a block described
// by within, which may be nil. It does not put it there.
func (s *Schema) Build(within *Statement, segment []string) (*Node, *Statement) {
	st := within.Inside(segment[0])
	n := NewNode(segment[0])
	rest := segment[1:]
	if within != nil && within.Items != nil {
		n.Name, rest = "", segment
	}
	if st != nil && st.KeyInside() && len(rest) > 0 {
		key := NewNode(string(st.Key))
		key.Words = s.words(st.Statements[string(st.Key)], rest[:1])
		n.Form = Block
		n.Insert(-1, key)
		rest = rest[1:]
	}
	if !(s.Syntax == JSON && st.IsBlock()) { // an object has no words; without a key, its place tells it apart
		n.Words = s.words(st, rest)
	}
	switch {
	case st.IsBlock() && s.Syntax == Dotted && len(n.Words) == 0:
		n.Form = Group
	case st.IsBlock() && st.Items != nil && s.Syntax == JSON:
		n.Form = List
	case st.IsBlock() && s.Syntax != BlockIndent:
		n.Form = Block
	}
	return n, st
}

// words turns texts into the words of a statement. Syntaxes with one value a statement take them joined.
func (s *Schema) words(st *Statement, list []string) (out []Word) {
	if len(list) > 1 && s.Syntax != BlockIndent && s.Syntax != Braces && !(s.Syntax == INI && st.IsBlock()) {
		list = []string{strings.Join(list, " ")}
	}
	for i, text := range list {
		w := Word{Text: text}
		if s.Syntax == JSON {
			w.Quoted = !isJSONWord(text) || !s.bare(st, i)
		}
		out = append(out, w)
	}
	return out
}

// bare reports whether JSON writes a value of the type without quotes.
func (s *Schema) bare(st *Statement, at int) bool {
	t := s.TypeOf(st, at)
	if t == nil {
		return true
	}
	return t.Ranged || t == builtIn["number"] || t == builtIn["count"] || t == builtIn["port-number"] || t == builtIn["flag"]
}

// Rewrite gives a statement that may come from a file other words, as the schema's syntax writes them; words that stay
// keep their form.
func (s *Schema) Rewrite(n *Node, st *Statement, list []string) {
	if slices.EqualFunc(n.Words, list, func(w Word, text string) bool { return w.Text == text }) {
		return
	}
	words := s.words(st, list)
	for i := range words {
		if i < len(n.Words) && (words[i].Text == n.Words[i].Text || s.Syntax != JSON) {
			words[i].Quoted = n.Words[i].Quoted
		}
	}
	n.SetWords(words)
}

// Rekey gives an object another name: its key, or its own name where that is the key. References are left as they are.
func (s *Schema) Rekey(n *Node, st *Statement, name string) {
	switch {
	case st.KeyInside():
		s.Rewrite(n.Child(string(st.Key)), st.Inside(string(st.Key)), []string{name})
	case len(n.Words) > 0:
		words := slices.Clone(n.Words)
		words[0].Text = name
		n.SetWords(words)
	default:
		n.Rename(name)
	}
}

// Find returns the statement inside a block that a segment speaks of: one with that name and key. It looks only at the
// key, not at other words.
func (s *Schema) Find(block *Node, within *Statement, segment []string) *Node {
	st := within.Inside(segment[0])
	for _, n := range block.Children {
		if s.sameKey(n, st, segment) {
			return n
		}
	}
	return nil
}

// sameKey reports whether a statement is the one a segment speaks of.
func (s *Schema) sameKey(n *Node, st *Statement, segment []string) bool {
	got := s.Segment(n, st)
	k := 1
	switch {
	case st == nil:
		k = len(segment)
	case st.Key == KeyWord || st.KeyInside():
		k = 2
	case st.Key == KeyWords || st.Key == KeyPosition:
		k = max(len(segment), len(got))
	}
	if n.Name == "" {
		k = 1
	}
	return slices.Equal(got[:min(k, len(got))], segment[:min(k, len(segment))])
}

// Unmask puts the words of an older configuration in place of *** where the two have the same statement, and returns how
// many are left that have no such word.
func (s *Schema) Unmask(masked, original *Document) (left int) {
	twins := Compare(original, masked, s).twins()
	masked.Root.Walk(func(n *Node) {
		for i, w := range n.Words {
			if w.Text != Mask {
				continue
			}
			if a := twins[n]; a != nil && i < len(a.Words) && len(a.Words) == len(n.Words) {
				words := slices.Clone(n.Words)
				words[i].Text, words[i].Quoted = a.Words[i].Text, a.Words[i].Quoted
				n.SetWords(words)
			} else {
				left++
			}
		}
	})
	return left
}
