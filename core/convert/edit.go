package convert

import (
	"fmt"
	"slices"

	"verimorph/core/config"
)

// Kinds of hand edit.
const (
	EditSet    = "set"    // other words for a statement
	EditAdd    = "add"    // a statement with all inside it
	EditRemove = "remove" // a statement with all inside it
	EditOrder  = "order"  // another place in its block
)

// An Edit is one change of the result by hand.
type Edit struct {
	ID    int    `json:"id"`
	Kind  string `json:"kind"`
	Path  string `json:"path"`            // of the statement; of EditAdd the block it goes into
	After string `json:"after,omitempty"` // EditAdd, EditOrder: the label of the statement before it; "" stands for the first
	Text  string `json:"text"`            // what it says, masked
	By    string `json:"by,omitempty"`
	At    string `json:"at,omitempty"`
	Node  *Tree  `json:"node,omitempty"` // never leaves with a ledger: it may hold secrets
}

// A Tree is a statement by itself.
type Tree struct {
	Name     string        `json:"name"`
	Words    []config.Word `json:"words,omitempty"`
	Form     config.Form   `json:"form,omitempty"`
	Children []Tree        `json:"children,omitempty"`
}

func treeOf(n *config.Node) Tree {
	t := Tree{Name: n.Name, Words: slices.Clone(n.Words), Form: n.Form}
	for i := range t.Words {
		t.Words[i].Column = 0
	}
	for _, c := range n.Children {
		t.Children = append(t.Children, treeOf(c))
	}
	return t
}

func (t Tree) node() *config.Node {
	n := config.NewNode(t.Name)
	n.Words, n.Form = slices.Clone(t.Words), t.Form
	for _, c := range t.Children {
		n.Insert(-1, c.node())
	}
	return n
}

// Edits turns what differs from a result to a version of it that a person edited into hand edits.
func Edits(before, after *config.Document, t *config.Schema) (out []Edit) {
	label := func(n *config.Node) string {
		i := slices.Index(n.Parent.Children, n)
		if i == 0 {
			return ""
		}
		return t.Label(n.Parent.Children[i-1])
	}
	for _, d := range config.Compare(before, after, t).Differences {
		old, new := d.Nodes()
		switch d.Kind {
		case config.Removed, config.DefaultDropped:
			out = append(out, Edit{Kind: EditRemove, Path: t.Path(old), Text: t.Masked(old, false)})
		case config.Added, config.DefaultExplicit:
			tree := treeOf(new)
			out = append(out, Edit{Kind: EditAdd, Path: t.Path(new.Parent), After: label(new), Text: t.Masked(new, false), Node: &tree})
		case config.Moved:
			tree := treeOf(new)
			out = append(out, Edit{Kind: EditRemove, Path: t.Path(old), Text: t.Masked(old, false)},
				Edit{Kind: EditAdd, Path: t.Path(new.Parent), After: label(new), Text: t.Masked(new, false), Node: &tree})
		case config.Changed, config.Renamed:
			st := t.Describe(new)
			from, to := bearer(old, t.Describe(old)), bearer(new, st)
			tree := treeOf(to)
			tree.Children = nil
			out = append(out, Edit{Kind: EditSet, Path: t.Path(from), Text: t.Masked(to, true), Node: &tree})
		case config.Reordered:
			out = append(out, Edit{Kind: EditOrder, Path: t.Path(new), After: label(new), Text: t.Masked(new, true)})
		}
	}
	return out
}

// apply carries a hand edit out. It returns what is wrong when the edit no longer fits the result.
func (e Edit) apply(d *config.Document, t *config.Schema, after *origins, lost map[int]loss) error {
	n := t.Locate(d, e.Path)
	if n == nil {
		return fmt.Errorf("there is no %q any more", e.Path)
	}
	place := func(block *config.Node) int {
		for i, c := range block.Children {
			if e.After != "" && t.Label(c) == e.After {
				return i + 1
			}
		}
		if e.After == "" {
			return 0
		}
		return -1
	}
	hand := func(n *config.Node) {
		o := after.of(n)
		if o == nil {
			o = &origin{}
			after.put(n, o)
		}
		o.kind, o.rule, o.text = FromHand, fmt.Sprintf("edit %d", e.ID), e.By
		for _, item := range o.items { // whatever was open about it is settled
			delete(lost, item)
		}
	}
	switch e.Kind {
	case EditSet:
		n.Form = e.Node.Form
		n.SetWords(slices.Clone(e.Node.Words))
		if n.Name != e.Node.Name {
			n.Rename(e.Node.Name)
		}
		hand(n)
	case EditAdd:
		k := e.Node.node()
		n.Insert(place(n), k)
		t.WalkWith(k, func(k *config.Node, st *config.Statement) {
			if k.IsItem(st) {
				hand(k)
			}
		})
	case EditRemove:
		n.Walk(func(k *config.Node) {
			if o := after.of(k); o != nil {
				for _, item := range o.items {
					lost[item] = loss{false, fmt.Sprintf("edit %d", e.ID), "removed by hand", AskSettle}
				}
				after.put(k, nil)
			}
		})
		n.Remove()
	case EditOrder:
		block := n.Parent
		n.Remove()
		block.Insert(place(block), n)
	default:
		return fmt.Errorf("%q is not a kind of edit", e.Kind)
	}
	return nil
}
