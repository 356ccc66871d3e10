package config

import (
	"slices"
	"strings"
)

// surroundings are what is known of a block for all that stands inside it, so that it is worked out once: to find a label may mean to look
// at all that stands beside it.
type surroundings struct {
	block  *Node
	up     *surroundings // of the block around it; nil for the root
	st     *Statement
	secret bool   // it, or a block around it, holds secret words
	label  string // its own
	top    string // name of the top block that it is in; "" for the root

	path   string         // worked out when it is first asked for
	places map[*Node]int  // of statements in a long block
	names  map[string]int // how many of a name there are in a long block
}

// long is from how many statements on a block is counted through once instead of each time.
const long = 32

// place is which of its block's statements a node is, from 0.
func (w *surroundings) place(n *Node) int {
	if len(w.block.Children) < long {
		return slices.Index(w.block.Children, n)
	}
	if w.places == nil {
		w.places = make(map[*Node]int, len(w.block.Children))
		for i, k := range w.block.Children {
			w.places[k] = i
		}
	}
	return w.places[n]
}

// repeated reports whether another statement of a node's name stands beside it.
func (w *surroundings) repeated(n *Node) bool {
	if len(w.block.Children) < long {
		return slices.ContainsFunc(w.block.Children, func(o *Node) bool { return o != n && o.Name == n.Name })
	}
	if w.names == nil {
		w.names = map[string]int{}
		for _, k := range w.block.Children {
			w.names[k.Name]++
		}
	}
	return w.names[n.Name] > 1
}

// describe returns what the schema says of a statement in the block, and whether it, or a block around it, holds secret words.
func (s *Schema) describe(n *Node, w *surroundings) (st *Statement, secret bool) {
	st, secret = w.st.of(n), w.secret
	if !secret {
		_, secret = s.secret(n, st)
	}
	return st, secret
}

// around returns what is known of a block, which may be the root.
func (c *comparer) around(block *Node) *surroundings {
	if c.last != nil && c.last.block == block {
		return c.last
	}
	w := c.blocks[block]
	if w == nil {
		w = &surroundings{block: block, st: c.s.top()}
		if block.Parent != nil {
			w.up = c.around(block.Parent)
			w.st, w.secret = c.s.describe(block, w.up)
			w.label = c.s.labelIn(block, w.st, w.secret, w.up)
			if w.top = w.up.top; w.up.up == nil {
				w.top = block.Name
			}
		}
		c.blocks[block] = w
	}
	c.last = w
	return w
}

// inside is the readable path of something in the block that has a label.
func (w *surroundings) inside(label string) string {
	if w.up == nil {
		return label
	}
	if w.path == "" {
		labels := []string{w.label}
		for v := w.up; v.up != nil; v = v.up {
			labels = append(labels, v.label)
		}
		slices.Reverse(labels)
		w.path = strings.Join(labels, " / ")
	}
	return w.path + " / " + label
}
