package config

import "strings"

// An Item is a statement that says something itself, with all that a ledger or a report shows of it.
type Item struct {
	Node      *Node
	Statement *Statement
	Around    string // path of the block it stands in; "" at the top
	Path      string
	Text      string // masked
	Section   string
	Guarded   string
	Seq       int // the how many-th statement of the document it is in the order of Walk, from 0
}

// Items lists the statements of a document that say something themselves, in the order of the tree.
func (s *Schema) Items(d *Document) []Item {
	out := make([]Item, 0, d.size()+64) // a few may be added
	seq := 0
	s.items(d.Root, s.top(), "", "", false, &seq, &out)
	return out
}

// size is how many nodes a document has.
func (d *Document) size() (n int) {
	d.Root.Walk(func(*Node) { n++ })
	return n
}

// Sayings are the statements that Items lists, without what is shown of them.
func (s *Schema) Sayings(d *Document) []*Node {
	out := make([]*Node, 0, d.size())
	walkWith(d.Root, s.top(), func(n *Node, st *Statement) {
		if n.IsItem(st) {
			out = append(out, n)
		}
	})
	return out
}

func (s *Schema) items(n *Node, st *Statement, around, section string, secret bool, seq *int, out *[]Item) {
	w := &surroundings{block: n}
	for _, c := range n.Children {
		*seq++
		cs := st.of(c)
		from, hidden := s.secret(c, cs)
		if secret {
			from, hidden = 0, true
		}
		label := s.labelIn(c, cs, hidden, w)
		path := label
		if around != "" {
			path = around + " / " + label
		}
		under := section
		if cs != nil && cs.Section != "" {
			under = cs.Section
		} else if under == "" {
			under = c.Name
		}
		if c.IsItem(cs) {
			it := Item{Node: c, Statement: cs, Around: around, Path: path, Section: under, Seq: *seq}
			if cs != nil {
				it.Guarded = cs.Guarded
			}
			it.Text = oneLine(c, from, hidden)
			*out = append(*out, it)
		}
		if len(c.Children) > 0 {
			s.items(c, cs, path, under, hidden && inheritsSecret(cs), seq, out)
		}
	}
}

// oneLine is a statement's name and words, secret ones masked.
func oneLine(n *Node, from int, hidden bool) string {
	if hidden && from < len(n.Words) {
		shown := &Node{Name: n.Name, Words: n.Words[:from]}
		return strings.TrimPrefix(shown.Text()+strings.Repeat(" "+Mask, len(n.Words)-from), " ")
	}
	return n.Text()
}

// Locate returns the statement that a readable path speaks of, or nil.
func (s *Schema) Locate(d *Document, path string) *Node {
	if path == "" {
		return d.Root
	}
	var in func(n *Node, path string) *Node
	in = func(n *Node, path string) *Node {
		for _, c := range n.Children {
			label := s.Label(c)
			if label == path {
				return c
			}
			if strings.HasPrefix(path, label+" / ") {
				if found := in(c, path[len(label)+3:]); found != nil {
					return found
				}
			}
		}
		return nil
	}
	return in(d.Root, path)
}
