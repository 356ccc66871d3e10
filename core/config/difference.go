package config

import (
	"fmt"
	"runtime"
	"strings"
	"sync"
)

// What is shown of a difference.

// note adds one difference. What is shown of it is worked out at the end.
func (c *comparer) note(kind string, a, b *Node) {
	c.noted = append(c.noted, noted{kind, a, b})
}

// noted is a difference of which nothing is worked out yet.
type noted struct {
	kind     string
	old, new *Node
}

// show works out what is shown of the differences. There may be a hundred thousand of them, so all processors take part.
func (c *comparer) show() {
	whole := len(c.Differences) // what is about the files as wholes is told already
	c.Differences = append(c.Differences, make([]Difference, len(c.noted))...)
	list := c.Differences[whole:]
	workers := min(runtime.GOMAXPROCS(0), 1+len(list)/1000)
	each := (len(list) + workers - 1) / workers
	var all sync.WaitGroup
	for w := range workers {
		all.Go(func() {
			own := *c // with paths of its own
			own.blocks = map[*Node]string{}
			for i := w * each; i < min((w+1)*each, len(list)); i++ {
				own.fill(c.noted[i], &list[i])
			}
		})
	}
	all.Wait()
}

// fill works out what is shown of a difference.
func (c *comparer) fill(of noted, d *Difference) {
	a, b := of.old, of.new
	d.Kind, d.old, d.new = of.kind, a, b
	flat := d.Kind == Changed || d.Kind == Cosmetic
	n := b
	if a != nil {
		d.Old, d.OldLine = c.s.Masked(a, flat), a.Line
	}
	if b != nil {
		d.New, d.NewLine = c.s.Masked(b, flat), b.Line
	} else {
		n = a
	}
	if a != nil && b != nil {
		d.Note = c.unseen(a, b, *d)
	}
	d.Path = c.path(n)
	if d.Kind == Moved || d.Kind == Renamed {
		d.OldPath = c.path(a)
	}
	d.Section, d.Service = c.s.Section(n), c.s.Service(n)
	for _, side := range []*Node{a, b} {
		if side == nil {
			continue
		}
		d.Secret = d.Secret || c.s.IsSecret(side)
		if d.Guarded = c.s.Guard(side); d.Guarded == "" && !flat && d.Kind != Reordered {
			d.Guarded = c.guardInside(side)
		}
		if d.Guarded != "" {
			break
		}
	}
	if d.Kind == Cosmetic {
		d.Guarded = ""
	}
}

// path is Schema.Path; that of a block is worked out once, since to find its label may mean to look at all that stands inside or beside it.
func (c *comparer) path(n *Node) string {
	if n.Parent == nil || n.Parent.Parent == nil {
		return c.s.Path(n)
	}
	around, known := c.blocks[n.Parent]
	if !known {
		around = c.path(n.Parent)
		c.blocks[n.Parent] = around
	}
	return around + " / " + c.s.Label(n)
}

// unseen tells what cannot be seen of a difference.
func (c *comparer) unseen(a, b *Node, d Difference) string {
	sides := func(n *Node, what string) string {
		if n.Form == List {
			return what + " list []"
		}
		return what + " object {}"
	}
	switch {
	case d.Kind == Changed && (a.Form == List) != (b.Form == List) && (a.Form == Block || b.Form == Block):
		return fmt.Sprintf("the old side has %s, the new one %s", sides(a, map[bool]string{true: "an empty", false: "a"}[len(a.Children) == 0]), sides(b, map[bool]string{true: "an empty", false: "a"}[len(b.Children) == 0]))
	case d.Kind == Changed && c.a.Syntax == JSON && sameWords(a.Words, b.Words) && len(a.Words) == 1:
		kind := map[bool]string{true: "text in quotes", false: "a number or word without quotes"}
		return fmt.Sprintf("the old side has %s, the new one %s", kind[a.Words[0].Quoted], kind[b.Words[0].Quoted])
	case d.Kind == Reordered || d.Kind == Moved:
		return ""
	}
	if a.plain() && b.plain() {
		return ""
	}
	if note := Unseen(a.Text(), b.Text()); note != "" {
		if from, secret := c.s.secret(a, c.s.Describe(a)); !secret || Unseen((&Node{Name: a.Name, Words: a.Words[:min(from, len(a.Words))]}).Text(), (&Node{Name: b.Name, Words: b.Words[:min(from, len(b.Words))]}).Text()) != "" {
			return note
		}
		return "they look the same, but are not"
	}
	return ""
}

// plain reports whether a statement's name and words are all ASCII.
func (n *Node) plain() bool {
	if !ascii(n.Name) {
		return false
	}
	for i := range n.Words {
		if !ascii(n.Words[i].Text) {
			return false
		}
	}
	return true
}

// guardInside returns why something inside a node must not change by itself, or "".
func (c *comparer) guardInside(n *Node) (why string) {
	if c.s.Top == nil {
		return ""
	}
	c.s.WalkWith(n, func(_ *Node, st *Statement) {
		if why == "" && st != nil {
			why = st.Guarded
		}
	})
	return why
}

// Nodes are the statement on either side; nil where it is absent.
func (d Difference) Nodes() (old, new *Node) { return d.old, d.new }

// begin notes a byte order mark that only one of the two begins with.
func (c *comparer) begin() {
	a, b := strings.HasPrefix(c.a.source, bom), strings.HasPrefix(c.b.source, bom)
	if a == b {
		return
	}
	side := map[bool]string{true: "old", false: "new"}[a]
	c.Differences = append(c.Differences, Difference{Kind: Cosmetic, Path: "(begin of file)", OldLine: 1, NewLine: 1, old: c.a.Root, new: c.b.Root,
		Note: "only the " + side + " one begins with U+FEFF (byte order mark)"})
}

// tail notes what differs behind the last statement.
func (c *comparer) tail() {
	if c.a.Root.mark|c.b.Root.mark != 0 || c.a.Syntax == JSON {
		return
	}
	d := Difference{Kind: Cosmetic, Path: "(end of file)", old: c.a.Root, new: c.b.Root}
	d.OldLine = 1 + strings.Count(c.a.source[:c.a.Root.close], "\n")
	d.NewLine = 1 + strings.Count(c.b.source[:c.b.Root.close], "\n")
	c.Differences = append(c.Differences, d)
}
