package config

import (
	"sort"
	"strings"
)

// Kinds of difference.
const (
	Added     = "added"
	Removed   = "removed"
	Changed   = "changed"   // same identity, other value
	Reordered = "reordered" // in a block whose order matters
)

// A Difference is one statement that is not the same in two configurations.
type Difference struct {
	Kind             string
	Path             string // the blocks around it and its own identity, joined by " / "
	Old, New         string // its text on either side, secrets masked; "" where it is absent
	OldLine, NewLine int    // 0 where it is absent
	Secret           bool   // the text is masked
}

// Compare lists the differences from a to b, in the order of b with removals where they stood. Statements are matched
// by identity: a block by all its words, any other statement by its keyword, or by all its words where the keyword
// occurs more than once. Spacing, comments, blank lines and (outside ordered blocks) order are not differences.
func Compare(a, b *Document, s Schema) []Difference {
	var out []Difference
	compareNodes(a.Nodes, b.Nodes, nil, s, false, &out)
	sort.SliceStable(out, func(i, j int) bool { return place(out[i]) < place(out[j]) })
	return out
}

func place(d Difference) int {
	if d.NewLine > 0 {
		return d.NewLine
	}
	return d.OldLine
}

func compareNodes(as, bs []*Node, path []string, s Schema, ordered bool, out *[]Difference) {
	many := map[string]bool{}
	for _, side := range [][]*Node{as, bs} {
		count := map[string]int{}
		for _, n := range side {
			if count[n.Keyword()]++; count[n.Keyword()] > 1 {
				many[n.Keyword()] = true
			}
		}
	}
	identity := func(n *Node) string {
		if len(n.Children) > 0 || many[n.Keyword()] || len(n.Words) == 1 {
			return n.Text()
		}
		return n.Keyword()
	}
	old := map[string][]*Node{}
	for _, n := range as {
		old[identity(n)] = append(old[identity(n)], n)
	}
	matched := map[*Node]bool{}
	var pairs []pair
	for _, n := range bs {
		id := identity(n)
		if len(old[id]) == 0 {
			report(Added, nil, n, path, s, out)
			continue
		}
		o := old[id][0]
		old[id] = old[id][1:]
		matched[o] = true
		pairs = append(pairs, pair{o, n})
		if o.Text() != n.Text() {
			report(Changed, o, n, path, s, out)
		}
		compareNodes(o.Children, n.Children, append(path[:len(path):len(path)], mask(n, s)), s, contains(s.Ordered, n.Keyword()), out)
	}
	for _, n := range as {
		if !matched[n] {
			report(Removed, n, nil, path, s, out)
		}
	}
	if ordered {
		for _, p := range moved(pairs) {
			report(Reordered, p.a, p.b, path, s, out)
		}
	}
}

type pair struct{ a, b *Node }

// moved returns the pairs outside a longest run that keeps its order, so that moving one entry is one difference.
func moved(pairs []pair) (out []pair) {
	best, prev := make([]int, len(pairs)), make([]int, len(pairs))
	end := -1
	for i := range pairs {
		best[i], prev[i] = 1, -1
		for j := range i {
			if pairs[j].a.Line < pairs[i].a.Line && best[j]+1 > best[i] {
				best[i], prev[i] = best[j]+1, j
			}
		}
		if end < 0 || best[i] > best[end] {
			end = i
		}
	}
	stays := map[int]bool{}
	for ; end >= 0; end = prev[end] {
		stays[end] = true
	}
	for i, p := range pairs {
		if !stays[i] {
			out = append(out, p)
		}
	}
	return out
}

// report adds one difference and, for a block that came or went, its whole content as one.
func report(kind string, a, b *Node, path []string, s Schema, out *[]Difference) {
	d := Difference{Kind: kind}
	n := b
	if a != nil {
		d.Old, d.OldLine = maskDeep(a, s, kind == Changed || kind == Reordered), a.Line
		d.Secret = s.secretFrom(a) >= 0
	}
	if b != nil {
		d.New, d.NewLine = maskDeep(b, s, kind == Changed || kind == Reordered), b.Line
		d.Secret = d.Secret || s.secretFrom(b) >= 0
	} else {
		n = a
	}
	own := n.Keyword()
	if len(n.Children) > 0 {
		own = mask(n, s)
	}
	d.Path = strings.Join(append(path[:len(path):len(path)], own), " / ")
	*out = append(*out, d)
}

// mask is the statement's text with *** for its secret words.
func mask(n *Node, s Schema) string {
	from := s.secretFrom(n)
	if from < 0 {
		return n.Text()
	}
	return joinWords(n.Words[:from]) + strings.Repeat(" ***", len(n.Words)-from)
}

func maskDeep(n *Node, s Schema, flat bool) string {
	text := mask(n, s)
	if !flat {
		for _, c := range n.Children {
			text += "\n  " + strings.ReplaceAll(maskDeep(c, s, false), "\n", "\n  ")
		}
	}
	return text
}
