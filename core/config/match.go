package config

import (
	"encoding/binary"
	"hash/maphash"
	"slices"
	"sync"
)

// Which statement of one configuration is which of the other.

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
			likes := map[uint64][]int32{}
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
	if c.ids == nil || len(as)+len(bs) > 10*long {
		c.ids = make(map[uint64]int32, max(len(as), len(bs)))
	}
	clear(c.ids)
	list := c.found[:0]
	ones := make([]int32, 0, len(as)+len(bs)) // most groups have one of each
	at := func(n *Node) *group {
		c.id = name(c.id[:0], n)
		id := maphash.Bytes(c.seed, c.id)
		k, known := c.ids[id]
		if !known {
			k = int32(len(list))
			c.ids[id] = k
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
				return binary.NativeEndian.AppendUint64(keyed(to, n, ""), c.content(n, ns))
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
				return binary.NativeEndian.AppendUint64(keyed(to, n, ""), c.content(n, ns))
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

// content is a short form of all that a node says. Two that say something else have the same with a probability of 2^-64, whatever their
// texts are: each comparison has a seed of its own.
func (c *comparer) content(n *Node, st *Statement) uint64 {
	var h maphash.Hash
	h.SetSeed(c.seed)
	c.hash(&h, n, st)
	return h.Sum64()
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
