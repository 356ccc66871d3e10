package config

import "slices"

// NewNode makes a statement that stands in no file yet.
func NewNode(name string, words ...string) *Node {
	n := &Node{Name: name, mark: fresh | headChanged}
	for _, w := range words {
		n.Words = append(n.Words, Word{Text: w})
	}
	return n
}

// touch notes that something below n's parent changed.
func (n *Node) touch() {
	for p := n.Parent; p != nil && p.mark&restChanged == 0; p = p.Parent {
		p.mark |= restChanged
	}
}

// SetWords gives a statement other words. Comments beside it stay.
func (n *Node) SetWords(words []Word) {
	n.Words = words
	n.headChanged()
}

// Rename gives a statement another name.
func (n *Node) Rename(name string) {
	n.Name = name
	n.headChanged()
}

func (n *Node) headChanged() {
	n.mark |= headChanged
	n.touch()
	if n.Parent != nil && isAttribute(n) {
		n.Parent.headChanged() // it is part of its element's tag
	}
}

// Remove takes a statement, with all inside it, out of its document.
func (n *Node) Remove() {
	p := n.Parent
	if p == nil {
		return
	}
	if isAttribute(n) {
		p.headChanged()
	}
	n.touch()
	i := slices.Index(p.Children, n)
	p.Children = slices.Delete(slices.Clone(p.Children), i, i+1)
	n.Parent = nil
}

// Insert puts a statement that belongs to no document, or was removed from this one, among the children of n; at is its
// place, from 0; -1 stands for the end.
func (n *Node) Insert(at int, child *Node) {
	if at < 0 || at > len(n.Children) {
		at = len(n.Children)
	}
	for !isAttribute(child) && at < len(n.Children) && isAttribute(n.Children[at]) {
		at++ // attributes come before what stands inside
	}
	n.Children = slices.Insert(slices.Clone(n.Children), at, child)
	child.Parent = n
	child.touch()
	if n.Form == Plain && n.Parent != nil {
		n.Form = Block
		n.mark |= headChanged
	}
	if isAttribute(child) {
		n.headChanged()
	}
}

// Copy returns a deep copy of a statement that stands in no file.
func (n *Node) Copy() *Node {
	c := &Node{Name: n.Name, Words: slices.Clone(n.Words), Form: n.Form, Line: n.Line, Column: n.Column, mark: fresh | headChanged}
	for _, child := range n.Children {
		k := child.Copy()
		k.Parent = c
		c.Children = append(c.Children, k)
	}
	return c
}

// Clone returns a copy of a document that can be edited while the original stays as it is. twin, unless nil, is called
// with every node and its copy.
func (d *Document) Clone(twin func(old, new *Node)) *Document {
	var clone func(n, parent *Node) *Node
	clone = func(n, parent *Node) *Node {
		c := *n
		c.Parent, c.Words, c.Ref = parent, slices.Clone(n.Words), 0
		if c.Children = nil; len(n.Children) > 0 {
			c.Children = make([]*Node, len(n.Children))
			for i, k := range n.Children {
				c.Children[i] = clone(k, &c)
			}
		}
		if twin != nil {
			twin(n, &c)
		}
		return &c
	}
	out := *d
	out.Root = clone(d.Root, nil)
	return &out
}

// Empty makes a document without statements.
func Empty(name string, syntax Syntax) *Document { return (&Schema{Syntax: syntax}).Empty(name) }

// Empty makes a document without statements, to be written as the schema says.
func (s *Schema) Empty(name string) *Document {
	d := &Document{Name: name, Syntax: s.Syntax, blocks: s.TextBlocks, Root: &Node{Form: Block, mark: fresh | headChanged}}
	return d
}

// Changed reports whether a document was edited since it was parsed.
func (d *Document) Changed() bool { return d.Root.mark != 0 }

func isAttribute(n *Node) bool { return len(n.Name) > 1 && n.Name[0] == '@' }
