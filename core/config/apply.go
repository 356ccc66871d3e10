package config

import "slices"

// Apply carries a comparison out on the old configuration: it returns a copy of it that means the same as the new one.
// Cosmetic differences are left out.
func (c *Comparison) Apply() *Document {
	twin := map[*Node]*Node{}
	out := c.a.Clone(func(old, new *Node) { twin[old] = new })
	placed := map[*Node]*Node{} // statements of the new configuration to those of the result
	pairs := c.twins()
	for b, a := range pairs {
		placed[b] = twin[a]
	}
	for _, d := range c.Differences {
		switch d.Kind {
		case Removed, Moved, DefaultDropped:
			twin[d.old].Remove()
		case Changed, Renamed:
			n := twin[d.old]
			n.Form = d.new.Form
			if n.Name != d.new.Name {
				n.Rename(d.new.Name)
			}
			n.SetWords(slices.Clone(d.new.Words))
			if key := c.keys[d.new]; key != nil && pairs[key] != nil {
				twin[pairs[key]].SetWords(slices.Clone(key.Words))
			}
		}
	}
	reordered := map[*Node]bool{}
	for _, d := range c.Differences {
		switch d.Kind {
		case Added, Moved, DefaultExplicit:
			parent := placed[d.new.Parent]
			siblings := d.new.Parent.Children
			at := 0
			for i := slices.Index(siblings, d.new) - 1; i >= 0; i-- {
				if before := placed[siblings[i]]; before != nil && before.Parent == parent {
					at = 1 + slices.Index(parent.Children, before)
					break
				}
			}
			at = c.between(parent, siblings, d.new, placed, at)
			n := d.new.Copy()
			parent.Insert(at, n)
			placed[d.new] = n
		case Reordered:
			reordered[d.new.Parent] = true
		}
	}
	for b := range reordered {
		n := placed[b]
		order := map[*Node]int{}
		for i, k := range b.Children {
			if placed[k] != nil {
				order[placed[k]] = i
			}
		}
		list := slices.Clone(n.Children)
		slices.SortStableFunc(list, func(x, y *Node) int { return order[x] - order[y] })
		for _, k := range list {
			k.Remove()
			n.Insert(-1, k)
		}
	}
	return out
}

// between moves the place at which a copy of n comes into a block, so that it stands among those of its identity as n does: which of them
// counts may be decided by their order.
func (c *Comparison) between(block *Node, siblings []*Node, n *Node, placed map[*Node]*Node, at int) int {
	around := c.s.Describe(n.Parent)
	id := c.deciding(n, around.of(n))
	behind := false
	for _, k := range siblings {
		if behind = behind || k == n; id == "" || k == n || placed[k] == nil || placed[k].Parent != block || c.deciding(k, around.of(k)) != id {
			continue
		}
		if i := slices.Index(block.Children, placed[k]); !behind && at <= i {
			at = i + 1
		} else if behind && at > i {
			return i
		}
	}
	return at
}
