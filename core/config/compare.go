package config

import (
	"hash/maphash"
	"slices"
	"sort"
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
	pairs map[*Node]*Node // statements of b to those of a, where they were looked at one by one
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
	c := &comparer{Comparison: Comparison{a: a, b: b, s: s, pairs: map[*Node]*Node{}, keys: map[*Node]*Node{}}, seed: maphash.MakeSeed()}
	c.pairs[b.Root] = a.Root
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
	out := c.Differences
	sort.SliceStable(out, func(i, j int) bool {
		if x, y := rank(out[i]), rank(out[j]); x != y {
			return x < y
		}
		return place(out[i]) < place(out[j])
	})
	return &c.Comparison
}

func rank(d Difference) int {
	switch {
	case d.Kind == Cosmetic:
		return 2
	case d.Guarded != "":
		return 0
	}
	return 1
}

func place(d Difference) int {
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

// lists compares what stands inside two nodes that are partners.
func (c *comparer) lists(a, b *Node, st *Statement) {
	as, bs := a.Children, b.Children
	pairs, usedA, usedB := c.alike(as, bs, st)
	var gone, come []int
	if len(pairs) < len(as) || len(pairs) < len(bs) {
		var more []pair
		more, gone, come = c.match(as, bs, usedA, usedB, st)
		pairs = append(pairs, more...)
	}
	for _, p := range c.renamed(as, bs, gone, come, st) {
		pairs = append(pairs, p)
		gone = slices.DeleteFunc(gone, func(i int) bool { return i == p.i })
		come = slices.DeleteFunc(come, func(j int) bool { return j == p.j })
	}
	for _, i := range gone {
		c.removed = append(c.removed, loose{as[i], st.of(as[i])})
	}
	for _, j := range come {
		c.added = append(c.added, loose{bs[j], st.of(bs[j])})
	}
	if byNew := func(x, y pair) int { return x.j - y.j }; !slices.IsSortedFunc(pairs, byNew) {
		slices.SortFunc(pairs, byNew)
	}
	for _, p := range pairs {
		c.pair(p, st)
	}
	kind := Cosmetic
	if c.s.ordered(b, st) || b.Form == List && (st == nil || st.Items == nil) {
		kind = Reordered
	}
	out := moved(pairs)
	decides := c.decides(pairs, out, kind, st)
	for _, p := range out {
		kind := kind
		if decides[p.b] {
			kind = Reordered
		}
		if st != nil && st.KeyInside() && p.b.Name == string(st.Key) {
			kind = Reordered // the first of them is the key
		}
		c.note(kind, p.a, p.b)
	}
}

// decides finds, among statements that moved, those that have changed places with another one of the same identity: which of them counts
// may have changed. Where a schema says that all of them count, their order is nobody's.
func (c *comparer) decides(pairs, out []pair, kind string, st *Statement) map[*Node]bool {
	if len(out) == 0 || kind == Reordered {
		return nil
	}
	identity := func(p pair) string {
		ns := st.of(p.b)
		switch {
		case ns != nil && (ns.Repeated == "all" || ns.Key == KeyPosition):
			return ""
		case ns != nil:
			return p.b.Name + "\x00" + c.s.keyMeaning(p.b, ns)
		case len(p.a.Children) > 0 || len(p.b.Children) > 0 || p.b.Name == "":
			return "" // a block, or an item of a list: its words or its place tell it apart
		}
		return p.b.Name
	}
	places := map[string][]pair{} // of those that moved, all of their identity, in the order of the new side
	for _, p := range out {
		if id := identity(p); id != "" {
			places[id] = nil
		}
	}
	if len(places) == 0 {
		return nil
	}
	for _, p := range pairs {
		id := identity(p)
		if list, looked := places[id]; looked {
			places[id] = append(list, p)
		}
	}
	swapped := map[string]bool{}
	for id, list := range places {
		swapped[id] = len(moved(list)) > 0
	}
	found := map[*Node]bool{}
	for _, p := range out { // among all, others of the same identity may be the ones that moved
		if swapped[identity(p)] {
			found[p.b] = true
		}
	}
	return found
}

// alike pairs statements that follow each other in the same order and are alike to the byte, or are blocks with the same
// header, without looking for their identity. In most comparisons these are nearly all.
func (c *comparer) alike(as, bs []*Node, st *Statement) (pairs []pair, usedA, usedB []bool) {
	pairs = make([]pair, 0, min(len(as), len(bs)))
	usedA, usedB = make([]bool, len(as)), make([]bool, len(bs))
	header := func(x, y *Node) bool { return x.Name == y.Name && sameWords(x.Words, y.Words) }
	var several map[uint64]uint8 // by name and first word: 1 and 2 for once and more on the old side, 4 and 8 on the new
	short := func(n *Node) uint64 {
		return maphash.String(c.seed, n.Name)*31 + maphash.String(c.seed, n.Words[0].Text)
	}
	unique := func(n *Node) bool {
		if several == nil {
			several = make(map[uint64]uint8, max(len(as), len(bs)))
			for k, side := range [][]*Node{as, bs} {
				once := uint8(1) << (2 * k)
				for _, n := range side {
					if len(n.Words) > 0 {
						id := short(n)
						several[id] |= once << ((several[id] / once) & 1)
					}
				}
			}
		}
		return several[short(n)]&(2|8) == 0
	}
	for i, j := 0, 0; i < len(as) && j < len(bs); {
		if as[i].Name == bs[j].Name && c.same(as[i], bs[j]) {
			pairs = append(pairs, pair{as[i], bs[j], i, j, true, false})
			usedA[i], usedB[j] = true, true
			i, j = i+1, j+1
			continue
		}
		di, dj := 1, 1
		if header(as[i], bs[j]) {
			if ns := st.of(bs[j]); len(bs[j].Words) > 0 && len(as[i].Children) > 0 && len(bs[j].Children) > 0 && (ns == nil || !ns.KeyInside() && ns.Key != KeyPosition) && unique(bs[j]) {
				pairs = append(pairs, pair{as[i], bs[j], i, j, false, false})
				usedA[i], usedB[j] = true, true
			}
		} else { // something came or went: look ahead for where the two go on together
			for k := 1; k <= 32; k++ {
				if i+k < len(as) && header(as[i+k], bs[j]) {
					di, dj = k, 0
					break
				}
				if j+k < len(bs) && header(as[i], bs[j+k]) {
					di, dj = 0, k
					break
				}
			}
		}
		i, j = i+di, j+dj
	}
	return pairs, usedA, usedB
}

// match pairs the statements that are left by identity. Where several have it, those that are alike belong together; the
// others are paired in their order.
func (c *comparer) match(as, bs []*Node, usedA, usedB []bool, st *Statement) (pairs []pair, gone, come []int) {
	name := c.names(as, bs, st)
	type group struct{ as, bs []int }
	groups := map[string]*group{}
	var order []*group
	at := func(id string) *group {
		g := groups[id]
		if g == nil {
			g = &group{}
			groups[id] = g
			order = append(order, g)
		}
		return g
	}
	for i, n := range as {
		if !usedA[i] {
			g := at(name(n))
			g.as = append(g.as, i)
		}
	}
	for j, n := range bs {
		if !usedB[j] {
			g := at(name(n))
			g.bs = append(g.bs, j)
		}
	}
	for _, g := range order {
		if len(g.as) > 0 && len(g.bs) > 0 && len(g.as)+len(g.bs) > 2 {
			likes := map[string][]int{}
			for _, i := range g.as {
				k := c.content(as[i], st.of(as[i]))
				likes[k] = append(likes[k], i)
			}
			taken := map[int]bool{}
			g.bs = slices.DeleteFunc(g.bs, func(j int) bool {
				k := c.content(bs[j], st.of(bs[j]))
				list := likes[k]
				if len(list) == 0 {
					return false
				}
				likes[k] = list[1:]
				taken[list[0]] = true
				pairs = append(pairs, pair{as[list[0]], bs[j], list[0], j, false, false})
				return true
			})
			g.as = slices.DeleteFunc(g.as, func(i int) bool { return taken[i] })
		}
		both := min(len(g.as), len(g.bs))
		for k := range both {
			pairs = append(pairs, pair{as[g.as[k]], bs[g.bs[k]], g.as[k], g.bs[k], false, false})
		}
		gone, come = append(gone, g.as[both:]...), append(come, g.bs[both:]...)
	}
	slices.Sort(gone)
	slices.Sort(come)
	return pairs, gone, come
}

// A pair is a statement on both sides.
type pair struct {
	a, b    *Node
	i, j    int // their places
	same    bool
	renamed bool
}

// pair compares two partners in a block described by within.
func (c *comparer) pair(p pair, within *Statement) {
	c.pairs[p.b] = p.a
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
	if st == nil || c.a.Syntax == JSON && sameWords(a.Words, b.Words) { // in JSON, text and number are not the same
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

// names returns the identity of statements in a block.
func (c *comparer) names(as, bs []*Node, st *Statement) func(*Node) string {
	var many map[string]bool // names of which there are several, or which are blocks where words are names
	lines := c.b.Syntax == BlockIndent || c.b.Syntax == Braces || c.b.Syntax == INI
	repeated := func(name string) bool {
		if many == nil {
			many = map[string]bool{}
			for _, side := range [][]*Node{as, bs} {
				count := make(map[string]int, len(side))
				for _, n := range side {
					if count[n.Name]++; count[n.Name] == 2 || len(n.Children) > 0 && lines {
						many[n.Name] = true
					}
				}
			}
		}
		return many[name]
	}
	return func(n *Node) string {
		ns := st.of(n)
		if ns != nil {
			if ns.Key == KeyPosition {
				return n.Name + "\x00" + c.content(n, ns)
			}
			return n.Name + "\x00" + c.s.keyMeaning(n, ns)
		}
		switch {
		case n.Name == "" && len(n.Children) == 0:
			return n.Value()
		case n.Form == Block && n.Name == "" || repeated(n.Name):
			if k := keyChild(n); k != nil && !lines { // where blocks have words, those tell them apart
				return n.Name + "\x00" + k.Value()
			}
			if n.Name == "" {
				return "\x00" + c.content(n, ns)
			}
			return n.Name + "\x00" + joinTexts(n.Words)
		}
		return n.Name
	}
}

// content is a short form of all that a node says.
func (c *comparer) content(n *Node, st *Statement) string {
	var h maphash.Hash
	h.SetSeed(c.seed)
	c.hash(&h, n, st)
	sum := h.Sum64()
	var b [8]byte
	for i := range b {
		b[i] = byte(sum >> (8 * i))
	}
	return string(b[:])
}

func (c *comparer) hash(h *maphash.Hash, n *Node, st *Statement) {
	_, _ = h.WriteString(n.Name)
	_ = h.WriteByte(0)
	if st != nil && len(st.Words) > 0 {
		_, _ = h.WriteString(c.s.Means(st, n.Words))
	} else {
		for _, w := range n.Words {
			_, _ = h.WriteString(w.Text)
			_ = h.WriteByte(0)
		}
	}
	if n.Form == List {
		_ = h.WriteByte(3)
	}
	for _, k := range n.Children {
		_ = h.WriteByte(1)
		c.hash(h, k, st.of(k))
	}
	_ = h.WriteByte(2)
}

// renamed pairs entries that came with entries that went when they hold the same, or most of the same, under another key.
func (c *comparer) renamed(as, bs []*Node, gone, come []int, st *Statement) (out []pair) {
	if len(gone) == 0 || len(come) == 0 || len(gone)*len(come) > 250_000 {
		return nil
	}
	taken := map[int]bool{}
	leaves := map[*Node]map[string]int{}
	inside := func(n *Node) map[string]int {
		if leaves[n] == nil {
			leaves[n] = map[string]int{}
			key := ""
			if ns := st.of(n); ns != nil {
				key = string(ns.Key)
			} else if k := keyChild(n); k != nil {
				key = k.Name
			}
			collect(n, "", key, leaves[n])
		}
		return leaves[n]
	}
	for _, j := range come {
		b := bs[j]
		if !mayBeRenamed(b, st) {
			continue
		}
		best, score := -1, 0.5
		for _, i := range gone {
			a := as[i]
			if taken[i] || a.Name != b.Name && (st == nil || st.Each == nil || st.of(a) != st.of(b)) || !mayBeRenamed(a, st) {
				continue
			}
			if v := likeness(inside(a), inside(b)); v > score {
				best, score = i, v
			}
		}
		if best >= 0 {
			taken[best] = true
			out = append(out, pair{as[best], b, best, j, false, true})
		}
	}
	return out
}

// mayBeRenamed reports whether a statement is an entry of a list that holds something to be recognised by.
func mayBeRenamed(n *Node, st *Statement) bool {
	if len(n.Children) == 0 {
		return false
	}
	ns := st.of(n)
	return ns == nil && (len(n.Words) > 0 || n.Name == "") || ns != nil && (ns.Key != KeyOnce || ns == st.Each) && ns.Key != KeyPosition
}

// collect counts the leaves of a node by path and value, its key aside.
func collect(n *Node, path, key string, into map[string]int) {
	for _, k := range n.Children {
		if k.Name == key && key != "" {
			continue
		}
		p := path + "\x01" + k.Name
		if len(k.Words) > 0 || len(k.Children) == 0 {
			into[p+"\x00"+joinTexts(k.Words)]++
		}
		collect(k, p, "", into)
	}
}

// likeness is the share of leaves that two entries have in common.
func likeness(a, b map[string]int) float64 {
	common, all := 0, 0
	for k, n := range a {
		common += min(n, b[k])
		all += n
	}
	for k, n := range b {
		all += max(n-a[k], 0)
	}
	if all == 0 {
		return 0
	}
	return float64(common) / float64(all)
}

// settle decides what became of statements without a partner in their own block: moved to another block, a default that
// came or went, or simply added and removed.
func (c *comparer) settle() {
	where := map[string][]loose{}
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

func (c *comparer) isDefault(l loose) bool {
	if l.st == nil || !l.st.HasDefault || len(l.n.Children) > 0 {
		return false
	}
	return joinTexts(l.n.Words) == l.st.Default || c.s.Means(l.st, l.n.Words) == c.s.Means(l.st, wordsOf(l.st.DefaultWords()))
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
	if slices.IsSortedFunc(pairs, func(x, y pair) int { return x.i - y.i }) {
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
