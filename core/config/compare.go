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
	ids            map[string]int32 // of groups; kept with the next two so that they need not be made for each block
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
	c.all(pairs, st)
	kind := Cosmetic
	if c.s.ordered(b, st) || b.Form == List && (st == nil || st.Items == nil) {
		kind = Reordered
	}
	out := moved(pairs)
	decides := c.decides(pairs, out, kind, st)
	for _, p := range out {
		kind := kind
		if decides(p) {
			kind = Reordered
		}
		if st != nil && st.KeyInside() && p.b.Name == string(st.Key) {
			kind = Reordered // the first of them is the key
		}
		c.note(kind, p.a, p.b)
	}
}

// decides tells, of statements that moved, those that have changed places with another one of the same identity: which of them counts may
// have changed. Where a schema says that all of them count, their order is nobody's.
func (c *comparer) decides(pairs, out []pair, kind string, st *Statement) func(pair) bool {
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
		if kind == Reordered {
			break
		}
		if id := identity(p); id != "" {
			places[id] = nil
		}
	}
	if len(places) == 0 {
		return func(pair) bool { return false }
	}
	for _, p := range pairs {
		id := identity(p)
		if list, looked := places[id]; looked {
			places[id] = append(list, p)
		}
	}
	swapped := make(map[string]bool, len(places))
	for id, list := range places {
		swapped[id] = len(moved(list)) > 0
	}
	return func(p pair) bool { return swapped[identity(p)] } // among all, others of the same identity may be the ones that moved
}

// alike pairs statements that follow each other in the same order and are alike to the byte, or are blocks with the same
// header, without looking for their identity. In most comparisons these are nearly all. found has the pair of each statement of the new
// side, used those of the old side that have one; n is how many there are.
func (c *comparer) alike(as, bs []*Node, st *Statement) (found []pair, used []bool, n int) {
	found, used = make([]pair, len(bs)), make([]bool, len(as))
	header := func(x, y *Node) bool { return x.Name == y.Name && sameWords(x.Words, y.Words) }
	unique := c.unique(as, bs)
	patience := 1000 // where nothing goes on together, that is not looked for at each statement
	for i, j := 0, 0; i < len(as) && j < len(bs); {
		a, b := as[i], bs[j]
		same := a.Name == b.Name && c.same(a, b)
		di, dj := 1, 1
		switch {
		case same:
		case !header(a, b):
			di, dj = 0, 0
			for k := 1; k <= 32 && patience > 0; k++ { // something came or went: look ahead for where the two go on together
				if i+k < len(as) && header(as[i+k], b) {
					di = k
					break
				}
				if j+k < len(bs) && header(a, bs[j+k]) {
					dj = k
					break
				}
			}
			if di+dj == 0 {
				di, dj = 1, 1
				patience--
			}
			i, j = i+di, j+dj
			continue
		default:
			ns := st.of(b)
			if len(b.Words) == 0 || len(a.Children) == 0 || len(b.Children) == 0 || ns != nil && (ns.KeyInside() || ns.Key == KeyPosition) || !unique(b) {
				i, j = i+1, j+1
				continue
			}
		}
		found[j], used[i] = pair{a, b, int32(i), int32(j), same, false}, true
		n++
		i, j = i+1, j+1
	}
	return found, used, n
}

// unique tells whether a block's name and first word stand once on either side.
func (c *comparer) unique(as, bs []*Node) func(*Node) bool {
	var several map[uint64]uint8 // by name and first word: 1 and 2 for once and more on the old side, 4 and 8 on the new
	short := func(n *Node) uint64 {
		return maphash.String(c.seed, n.Name)*31 + maphash.String(c.seed, n.Words[0].Text)
	}
	return func(n *Node) bool {
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
}

// match pairs the statements that are left by identity. Where several have it, those that are alike belong together; the
// others are paired in their order. It returns those that are left over on either side.
func (c *comparer) match(as, bs []*Node, found []pair, used []bool, st *Statement) (gone, come []int) {
	join := func(i, j int32) { found[j], used[i] = pair{as[i], bs[j], i, j, c.same(as[i], bs[j]), false}, true }
	for _, g := range c.groups(as, bs, found, used, st) {
		if len(g.as) > 0 && len(g.bs) > 0 && len(g.as)+len(g.bs) > 2 {
			likes := map[string][]int32{}
			for _, i := range g.as {
				k := c.content(as[i], st.of(as[i]))
				likes[k] = append(likes[k], i)
			}
			g.bs = slices.DeleteFunc(g.bs, func(j int32) bool {
				k := c.content(bs[j], st.of(bs[j]))
				list := likes[k]
				if len(list) == 0 {
					return false
				}
				likes[k] = list[1:]
				join(list[0], j)
				return true
			})
			g.as = slices.DeleteFunc(g.as, func(i int32) bool { return used[i] })
		}
		for k := range min(len(g.as), len(g.bs)) {
			join(g.as[k], g.bs[k])
		}
	}
	for i := range as {
		if !used[i] {
			gone = append(gone, i)
		}
	}
	for j := range bs {
		if found[j].a == nil {
			come = append(come, j)
		}
	}
	return gone, come
}

// A group is the statements of both sides that have one identity.
type group struct{ as, bs []int32 }

// groups gathers the statements without a partner by their identity. What it returns is good until it is called again.
func (c *comparer) groups(as, bs []*Node, found []pair, used []bool, st *Statement) []group {
	name := c.names(as, bs, st)
	if c.ids == nil {
		c.ids = map[string]int32{}
	}
	clear(c.ids)
	list := c.found[:0]
	ones := make([]int32, 0, len(as)+len(bs)) // most groups have one of each
	at := func(n *Node) *group {
		c.id = name(c.id[:0], n)
		k, known := c.ids[string(c.id)]
		if !known {
			k = int32(len(list))
			c.ids[string(c.id)] = k
			list = append(list, group{})
		}
		return &list[k]
	}
	add := func(to []int32, i int) []int32 {
		if to != nil {
			return append(to, int32(i))
		}
		ones = append(ones, int32(i))
		return ones[len(ones)-1 : len(ones) : len(ones)]
	}
	for i, n := range as {
		if !used[i] {
			g := at(n)
			g.as = add(g.as, i)
		}
	}
	for j, n := range bs {
		if found[j].a == nil {
			g := at(n)
			g.bs = add(g.bs, j)
		}
	}
	c.found = list
	return list
}

// A pair is a statement on both sides.
type pair struct {
	a, b    *Node
	i, j    int32 // their places
	same    bool
	renamed bool
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

// names returns a function that appends the identity of a statement in a block to a text.
func (c *comparer) names(as, bs []*Node, st *Statement) func(to []byte, n *Node) []byte {
	lines := c.b.Syntax == BlockIndent || c.b.Syntax == Braces || c.b.Syntax == INI
	repeated := sync.OnceValue(func() func(string) bool { return c.several(as, bs, lines) })
	keyed := func(to []byte, n *Node, key string) []byte {
		return append(append(append(to, n.Name...), 0), key...)
	}
	return func(to []byte, n *Node) []byte {
		ns := st.of(n)
		if ns != nil {
			if ns.Key == KeyPosition {
				return keyed(to, n, c.content(n, ns))
			}
			return keyed(to, n, c.s.keyMeaning(n, ns))
		}
		switch {
		case n.Name == "" && len(n.Children) == 0:
			return append(to, n.Value()...)
		case n.Form == Block && n.Name == "" || repeated()(n.Name):
			if k := keyChild(n); k != nil && !lines { // where blocks have words, those tell them apart
				return keyed(to, n, k.Value())
			}
			if n.Name == "" {
				return keyed(to, n, c.content(n, ns))
			}
			to = append(append(to, n.Name...), 0)
			for i := range n.Words {
				if i > 0 {
					to = append(to, ' ')
				}
				to = append(to, n.Words[i].Text...)
			}
			return to
		}
		return append(to, n.Name...)
	}
}

// several tells whether there are several statements of a name on one side, or, in lines, blocks, whose words are names.
func (c *comparer) several(as, bs []*Node, lines bool) func(name string) bool {
	sides := [][]*Node{as, bs}
	if len(as)+len(bs) < long {
		return func(name string) bool {
			for _, side := range sides {
				count := 0
				for _, n := range side {
					if n.Name != name {
						continue
					}
					if count++; count == 2 || lines && len(n.Children) > 0 {
						return true
					}
				}
			}
			return false
		}
	}
	many := map[string]bool{}
	for _, side := range sides {
		last := "" // most stand beside another of their name
		count := map[string]int{}
		for _, n := range side {
			if n.Name == last && many[last] {
				continue
			}
			last = n.Name
			if count[n.Name]++; count[n.Name] == 2 || lines && len(n.Children) > 0 {
				many[n.Name] = true
			}
		}
	}
	return func(name string) bool { return many[name] }
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

// renamed pairs entries that came with entries that went when they hold the same, or most of the same, under another key. It returns
// what is left of either.
func (c *comparer) renamed(as, bs []*Node, gone, come []int, found []pair, st *Statement) (stillGone, stillCome []int) {
	if len(gone) == 0 || len(come) == 0 || len(gone)*len(come) > 250_000 {
		return gone, come
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
			found[j] = pair{as[best], b, int32(best), int32(j), false, true}
		}
	}
	gone = slices.DeleteFunc(gone, func(i int) bool { return taken[i] })
	come = slices.DeleteFunc(come, func(j int) bool { return found[j].a != nil })
	return gone, come
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
