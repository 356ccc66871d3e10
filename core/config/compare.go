package config

import (
	"cmp"
	"hash/maphash"
	"maps"
	"runtime"
	"slices"
	"sort"
	"sync"
)

// Kinds of difference.
const (
	Added           = "added"
	Removed         = "removed"
	Changed         = "changed"          // same identity, other value
	Moved           = "moved"            // the same statement in another block
	Renamed         = "renamed"          // an entry under another key
	Reordered       = "reordered"        // in a block whose order matters
	DefaultExplicit = "default-explicit" // what the device assumed anyway is written out
	DefaultDropped  = "default-dropped"  // what was written out is what the device assumes
	Cosmetic        = "cosmetic"         // comments, blanks, quotes, or order where it does not matter
)

// A Difference is one statement that is not the same in two configurations.
type Difference struct {
	Kind             string
	Path             string // labels of the blocks around it and its own, joined by " / "
	OldPath          string // where it was, when it moved or has another name
	Old, New         string // its text on either side with all inside it, secrets masked; "" where it is absent
	OldLine, NewLine int    // 0 where it is absent
	Secret           bool   // the text is masked, wholly or in part
	Guarded          string // why it must not change by itself; "" when it may
	Section          string // what the schema lists it under
	Service          string // the service it belongs to
	Note             string // what cannot be seen in Old and New: code points, empty lists, text against number; "" when all can

	old, new *Node
}

// A Comparison is what differs from one configuration to another.
type Comparison struct {
	Differences []Difference // guarded ones first, then in the order of the new configuration; cosmetic ones last

	a, b  *Document
	s     *Schema
	pairs [][2]*Node      // statements of a and b, where they were looked at one by one
	keys  map[*Node]*Node // of entries of b that have another key: the statement inside that holds it
}

// Same reports whether the two mean the same.
func (c *Comparison) Same() bool {
	return !slices.ContainsFunc(c.Differences, func(d Difference) bool { return d.Kind != Cosmetic })
}

// Compare lists the differences from a to b. Statements are matched by identity as the schema gives it. Where it says
// nothing, a block is identified by all its words, an item of a list or a repeated element by its name or id, and any
// other statement by its name, or by all its words where that name occurs more than once. s may be nil.
func Compare(a, b *Document, s *Schema) *Comparison {
	if s == nil {
		s = &Schema{}
	}
	c := &comparer{Comparison: Comparison{a: a, b: b, s: s, keys: map[*Node]*Node{}}, seed: maphash.MakeSeed()}
	c.pairs = append(c.pairs, [2]*Node{a.Root, b.Root})
	c.lists(a.Root, b.Root, s.top())
	if (a.Root.Form == List) != (b.Root.Form == List) || !c.sameWords(a.Root, b.Root) {
		c.note(Changed, a.Root, b.Root)
	}
	c.begin()
	if !c.clean(a) || !c.clean(b) || a.source[a.Root.close:] != b.source[b.Root.close:] {
		c.tail()
	}
	c.settle()
	c.show()
	c.sort()
	return &c.Comparison
}

// sort puts guarded differences first and cosmetic ones last, each in the order of the new configuration.
func (c *comparer) sort() {
	type key struct{ rank, place, was int }
	keys := make([]key, len(c.Differences))
	for i := range c.Differences {
		d := &c.Differences[i]
		keys[i] = key{rank(d), place(d), i}
	}
	before := func(a, b key) int {
		return cmp.Or(a.rank-b.rank, a.place-b.place, a.was-b.was)
	}
	if slices.IsSortedFunc(keys, before) {
		return
	}
	slices.SortFunc(keys, before)
	sorted := make([]Difference, len(keys))
	for i, k := range keys {
		sorted[i] = c.Differences[k.was]
	}
	c.Differences = sorted
}

func rank(d *Difference) int {
	switch {
	case d.Kind == Cosmetic:
		return 2
	case d.Guarded != "":
		return 0
	}
	return 1
}

func place(d *Difference) int {
	if d.NewLine > 0 {
		return d.NewLine
	}
	return d.OldLine
}

type comparer struct {
	Comparison
	seed           maphash.Seed
	blocks         map[*Node]*surroundings // where differences are
	last           *surroundings           // the last one that was looked up
	noted          []noted
	ids            map[uint64]int32 // of groups; kept with the next two so that they need not be made for each block
	found          []group
	id             []byte
	removed, added []loose // not matched in their own block
}

// loose is a statement without a partner in its block.
type loose struct {
	n  *Node
	st *Statement
}

func (c *comparer) clean(d *Document) bool { return d.Root.mark == 0 }

// raw is the text of a node as it stands in its file, with all inside it; "" when it was edited.
func raw(d *Document, n *Node) string {
	if n.mark != 0 {
		return ""
	}
	return d.source[n.own:n.end]
}

// same reports whether two nodes are alike to the byte, so that nothing inside needs to be looked at.
func (c *comparer) same(a, b *Node) bool {
	x := raw(c.a, a)
	if x == "" || x != raw(c.b, b) {
		return false
	}
	for a.Form == Group { // what stands before it stands before its first statement
		a, b = a.Children[0], b.Children[0]
	}
	return c.lead(a, b)
}

func (c *comparer) lead(a, b *Node) bool {
	if c.a.Syntax == JSON || c.b.Syntax == JSON { // blanks between entries are nobody's
		return true
	}
	return a.mark|b.mark == 0 && c.a.source[a.lead:a.own] == c.b.source[b.lead:b.own]
}

// twins are statements of b with those of a, where they were looked at one by one.
func (c *Comparison) twins() map[*Node]*Node {
	out := make(map[*Node]*Node, len(c.pairs))
	for _, p := range c.pairs {
		out[p[1]] = p[0]
	}
	return out
}

// lists compares what stands inside two nodes that are partners.
func (c *comparer) lists(a, b *Node, st *Statement) {
	as, bs := a.Children, b.Children
	found, used, n := c.alike(as, bs, st)
	if n < len(as) || n < len(bs) {
		gone, come := c.match(as, bs, found, used, st)
		gone, come = c.renamed(as, bs, gone, come, found, st)
		for _, i := range gone {
			c.removed = append(c.removed, loose{as[i], st.of(as[i])})
		}
		for _, j := range come {
			c.added = append(c.added, loose{bs[j], st.of(bs[j])})
		}
	}
	pairs := slices.DeleteFunc(found, func(p pair) bool { return p.a == nil })
	kind := Cosmetic
	if c.s.ordered(b, st) || b.Form == List && (st == nil || st.Items == nil) {
		kind = Reordered
	}
	out := moved(pairs)
	var crossed map[string]bool
	if kind == Cosmetic && len(out) > 0 {
		out, crossed = c.order(pairs, out, st)
	}
	c.all(pairs, st)
	for _, p := range out {
		kind := kind
		if len(crossed) > 0 && crossed[c.ordering(p, st)] {
			kind = Reordered
		}
		if st != nil && st.KeyInside() && p.b.Name == string(st.Key) {
			kind = Reordered // the first of them is the key
		}
		c.note(kind, p.a, p.b)
	}
}

// order puts identical statements that were paired crosswise in their order, and tells of which identities the order was changed: which of
// them counts may have changed. Where a schema says that all of them count, their order is nobody's. out are the pairs that moved.
func (c *comparer) order(pairs, out []pair, st *Statement) (still []pair, crossed map[string]bool) {
	places := map[string][]int{} // of those that moved, all of their identity, in the order of the new side
	for _, p := range out {
		if id := c.ordering(p, st); id != "" {
			places[id] = nil
		}
	}
	if len(places) == 0 {
		return out, nil
	}
	for k, p := range pairs {
		id := c.ordering(p, st)
		if list, looked := places[id]; looked {
			places[id] = append(list, k)
		}
	}
	crossed = map[string]bool{}
	uncrossed := false
	byOld := func(x, y int) int { return int(pairs[x].i - pairs[y].i) }
	for id, list := range places {
		if slices.IsSortedFunc(list, byOld) {
			continue
		}
		says := func(k int, n int) bool { // the same on the old side as on the new
			return c.content(pairs[k].a, st.of(pairs[k].a)) == c.content(pairs[n].b, st.of(pairs[n].b))
		}
		if !says(slices.MinFunc(list, byOld), list[0]) {
			crossed[id] = true
			continue
		}
		old := make([]pair, len(list))
		sorted := slices.Clone(list)
		slices.SortFunc(sorted, byOld)
		for n, k := range sorted {
			old[n] = pairs[k]
		}
		for n, k := range list {
			if !says(sorted[n], k) {
				crossed[id] = true
				break
			}
		}
		if crossed[id] { // among all, others of the same identity may be the ones that moved
			continue
		}
		uncrossed = true
		for n, k := range list { // they say the same one after the other
			p := &pairs[k]
			p.a, p.i = old[n].a, old[n].i
			p.same = c.same(p.a, p.b)
		}
	}
	if uncrossed {
		out = moved(pairs)
	}
	return out, crossed
}

// ordering is deciding for a pair, of which one may be taken for a plain statement and the other for a block.
func (c *comparer) ordering(p pair, within *Statement) string {
	st := within.of(p.b)
	if st == nil && !(c.isBlock(p.b) && c.isBlock(p.a)) {
		return p.b.Name
	}
	return c.deciding(p.b, st)
}

// deciding is what statements share of which one counts, as their order decides; "" for those whose order is nobody's.
func (c *Comparison) deciding(n *Node, st *Statement) string {
	switch {
	case st != nil && (st.Repeated == "all" || st.Key == KeyPosition):
		return ""
	case st != nil:
		return n.Name + "\x00" + c.s.keyMeaning(n, st)
	case c.isBlock(n):
		return "" // its words tell it apart
	}
	return n.Name // "" for an item of a list: its place tells it apart
}

// isBlock reports whether a statement is a block, though nothing may stand inside it.
func (c *Comparison) isBlock(n *Node) bool {
	return len(n.Children) > 0 || n.Form == Block && c.b.Syntax != XML
}

// all compares partners in a block described by within. At the top there may be so many that all processors take part.
func (c *comparer) all(list []pair, within *Statement) {
	workers := runtime.GOMAXPROCS(0)
	if len(list) < 100*workers || list[0].b.Parent != c.b.Root {
		for _, p := range list {
			c.pair(p, within)
		}
		return
	}
	parts := make([]*comparer, workers)
	var running sync.WaitGroup
	for w := range parts {
		own := &comparer{Comparison: Comparison{a: c.a, b: c.b, s: c.s, keys: map[*Node]*Node{}}, seed: c.seed}
		parts[w] = own
		running.Go(func() {
			for _, p := range list[len(list)*w/workers : len(list)*(w+1)/workers] {
				own.pair(p, within)
			}
		})
	}
	running.Wait()
	for _, own := range parts {
		c.noted, c.pairs = append(c.noted, own.noted...), append(c.pairs, own.pairs...)
		c.removed, c.added = append(c.removed, own.removed...), append(c.added, own.added...)
		maps.Copy(c.keys, own.keys)
	}
}

// pair compares two partners in a block described by within.
func (c *comparer) pair(p pair, within *Statement) {
	c.pairs = append(c.pairs, [2]*Node{p.a, p.b})
	if p.same {
		return
	}
	st := within.of(p.b)
	switch {
	case p.renamed:
		c.note(Renamed, p.a, p.b)
		if key := holdsKey(p.b, st); key != nil {
			c.keys[p.b] = key
		}
	case c.keys[p.b.Parent] == p.b: // told already, as another name of its entry
	case !c.sameWords(p.a, p.b) && c.sameMeaning(p.a, p.b, st): // spelled differently
		c.note(Cosmetic, p.a, p.b)
	case !c.sameWords(p.a, p.b):
		c.note(Changed, p.a, p.b)
	case p.a.Form == List != (p.b.Form == List):
		c.note(Changed, p.a, p.b)
	case c.cosmetic(p.a, p.b):
		c.note(Cosmetic, p.a, p.b)
	}
	if len(p.a.Children) > 0 || len(p.b.Children) > 0 {
		c.lists(p.a, p.b, st)
	}
}

// sameWords reports whether two statements have the same words; in JSON the text "1" and the number 1 are not the same.
func (c *comparer) sameWords(a, b *Node) bool {
	if !sameWords(a.Words, b.Words) {
		return false
	}
	if c.a.Syntax == JSON && c.b.Syntax == JSON {
		for i := range a.Words {
			if a.Words[i].Quoted != b.Words[i].Quoted {
				return false
			}
		}
	}
	return true
}

// sameMeaning reports whether the words of two statements mean the same.
func (c *comparer) sameMeaning(a, b *Node, st *Statement) bool {
	if st == nil || (len(a.Words) == 0) != (len(b.Words) == 0) || c.a.Syntax == JSON && sameWords(a.Words, b.Words) { // in JSON, text and number are not the same
		return false
	}
	return c.s.Means(st, a.Words) == c.s.Means(st, b.Words)
}

// holdsKey is the statement inside an entry that holds its key, or nil.
func holdsKey(n *Node, st *Statement) *Node {
	if st == nil {
		return keyChild(n)
	}
	return n.Child(string(st.Key))
}

// cosmetic reports whether the headers of two statements that mean the same are written differently.
func (c *comparer) cosmetic(a, b *Node) bool {
	if a.mark|b.mark != 0 || a.Form == Group || b.Form == Group {
		return false
	}
	if !c.lead(a, b) || c.a.source[a.close:a.end] != c.b.source[b.close:b.end] && c.a.Syntax != JSON && c.b.Syntax != JSON {
		return true
	}
	return c.a.source[a.own:a.open] != c.b.source[b.own:b.open]
}

// settle decides what became of statements without a partner in their own block: moved to another block, a default that
// came or went, or simply added and removed.
func (c *comparer) settle() {
	where := map[uint64][]loose{}
	if len(c.removed) > 0 && len(c.added) > 0 {
		for _, l := range c.removed {
			if c.worthMoving(l) {
				k := c.content(l.n, l.st)
				where[k] = append(where[k], l)
			}
		}
	}
	gone := map[*Node]bool{}
	for _, l := range c.added {
		kind := Added
		if len(where) > 0 && c.worthMoving(l) {
			k := c.content(l.n, l.st)
			if list := where[k]; len(list) > 0 {
				where[k] = list[1:]
				gone[list[0].n] = true
				c.note(Moved, list[0].n, l.n)
				continue
			}
		}
		if c.isDefault(l) {
			kind = DefaultExplicit
		}
		c.note(kind, nil, l.n)
	}
	for _, l := range c.removed {
		switch {
		case gone[l.n]:
		case c.isDefault(l):
			c.note(DefaultDropped, l.n, nil)
		default:
			c.note(Removed, l.n, nil)
		}
	}
}

// worthMoving reports whether a statement says enough to be recognised in another block: "on" does not.
func (c *comparer) worthMoving(l loose) bool {
	if len(l.n.Children) > 0 {
		return true
	}
	return len(joinTexts(l.n.Words)) >= 6 && !c.isDefault(l)
}

func (c *comparer) isDefault(l loose) bool { return c.s.SaysDefault(l.n, l.st) }

// SaysDefault reports whether a statement says what is assumed where it is absent. st, its description, may be nil.
func (s *Schema) SaysDefault(n *Node, st *Statement) bool {
	if st == nil || !st.HasDefault || len(n.Children) > 0 {
		return false
	}
	return joinTexts(n.Words) == st.Default || s.Means(st, n.Words) == s.Means(st, wordsOf(st.DefaultWords()))
}

func wordsOf(texts []string) (out []Word) {
	for _, t := range texts {
		out = append(out, Word{Text: t})
	}
	return out
}

// moved returns the pairs, given in the order of the new side, outside a longest run that keeps the old order, so that
// moving one entry is one difference.
func moved(pairs []pair) (out []pair) {
	if slices.IsSortedFunc(pairs, func(x, y pair) int { return int(x.i - y.i) }) {
		return nil
	}
	// The longest increasing subsequence, by patience sorting.
	var tops []int // index of the pair that ends the shortest-ending run of each length
	prev := make([]int, len(pairs))
	for i, p := range pairs {
		k := sort.Search(len(tops), func(k int) bool { return pairs[tops[k]].i >= p.i })
		if prev[i] = -1; k > 0 {
			prev[i] = tops[k-1]
		}
		if k == len(tops) {
			tops = append(tops, i)
		} else {
			tops[k] = i
		}
	}
	stays := make([]bool, len(pairs))
	for i := tops[len(tops)-1]; i >= 0; i = prev[i] {
		stays[i] = true
	}
	for i, p := range pairs {
		if !stays[i] {
			out = append(out, p)
		}
	}
	return out
}
