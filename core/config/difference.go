package config

import (
	"cmp"
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
			own := *c // with surroundings of its own
			own.blocks = map[*Node]*surroundings{}
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
	var old, new shown
	if a != nil {
		old = c.shown(a, flat)
		d.Old, d.OldLine = old.text, a.Line
	}
	if b != nil {
		new = c.shown(b, flat)
		d.New, d.NewLine = new.text, b.Line
	} else {
		new = old
	}
	if a != nil && b != nil {
		d.Note = c.unseen(a, b, *d)
	}
	d.Path = new.path()
	if d.Kind == Moved || d.Kind == Renamed {
		d.OldPath = old.path()
	}
	d.Section = new.top
	if st := new.st; st != nil {
		d.Service = st.Service
		d.Section = cmp.Or(st.Section, d.Section)
	}
	d.Secret = old.secret || new.secret
	for _, side := range []shown{old, new} {
		if d.Kind == Cosmetic || side.n == nil {
			continue
		}
		if side.st != nil { // the schema hands it down to what stands inside
			d.Guarded = side.st.Guarded
		}
		if d.Guarded == "" && !flat && d.Kind != Reordered {
			d.Guarded = c.guardInside(side.n, side.st)
		}
		if d.Guarded != "" {
			break
		}
	}
}

// shown is a statement as a difference shows it.
type shown struct {
	n      *Node
	st     *Statement
	secret bool // it, or a block around it, holds secret words
	text   string
	label  string
	top    string // name of the top block that it is in
	around *surroundings
}

func (c *comparer) shown(n *Node, flat bool) shown {
	if n.Parent == nil {
		return shown{n: n, st: c.s.top(), text: c.s.maskedAs(n, nil, false, flat)}
	}
	w := c.around(n.Parent)
	st, secret := c.s.describe(n, w)
	top := w.top
	if w.up == nil {
		top = n.Name
	}
	return shown{n, st, secret, c.s.maskedAs(n, st, w.secret, flat), c.s.labelIn(n, st, secret, w), top, w}
}

func (s shown) path() string {
	if s.around == nil {
		return ""
	}
	return s.around.inside(s.label)
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
func (c *comparer) guardInside(n *Node, st *Statement) (why string) {
	if st == nil {
		return ""
	}
	for _, k := range n.Children {
		inner := st.of(k)
		if inner != nil && inner.Guarded != "" {
			return inner.Guarded
		}
		if why = c.guardInside(k, inner); why != "" {
			return why
		}
	}
	return ""
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
