package path

import (
	"cmp"
	"container/heap"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/catalog"
)

// alternatives lists the next best ways that are really different: two ways differ when at some stop they stand on
// releases of different kinds. Of the ways through the same kinds the best one stands for all. Ways that go past the
// aim and come back, or begin the wrong way round, are left out unless the best way itself does that.
//
// It deviates from each way found so far at each of its stops, forbidding the kinds that known ways with the same
// beginning go on with (Yen's scheme, over kinds instead of edges).
func (s *search) alternatives(t *tree, q Question) (out []Alternative) {
	best := t.stops(s.from)
	if len(best) < 2 {
		return nil
	}
	ways := ranked(t, best, q.Alternatives+1)
	for _, w := range ways[1:] {
		alt := Alternative{Resets: w.cost.resets, Restarts: w.cost.restarts}
		alt.Hops, _ = s.hops(t.g, q.Portrait, w.stops)
		for i := range alt.Hops {
			alt.Low, alt.High = alt.Low+alt.Hops[i].Low, alt.High+alt.Hops[i].High
		}
		alt.Why = differs(t.g, ways[0], w)
		out = append(out, alt)
	}
	return out
}

type way struct {
	stops []int
	cost  cost
}

// ranked returns up to n ways of really different kinds, the cheapest first, beginning with the best one.
func ranked(t *tree, best []int, n int) []way {
	kinds := t.g.kinds()
	found := []way{{best, t.cost[best[0]]}}
	known := map[string]bool{signature(kinds, best): true}
	lowest, highest := slices.Min(best), slices.Max(best)
	var waiting []way
	for len(found) < n {
		last := found[len(found)-1].stops
		var so cost
		for i := 0; i+1 < len(last); i++ {
			root := last[:i+1]
			banned := map[int]bool{}
			for _, w := range slices.Concat(found, waiting) {
				if len(w.stops) > i+1 && signature(kinds, w.stops[:i+1]) == signature(kinds, root) {
					banned[kinds[w.stops[i+1]]] = true
				}
			}
			if spur, c, ok := deviate(t, root, banned, lowest, highest); ok {
				stops := append(slices.Clone(root), spur...)
				if sign := signature(kinds, stops); !known[sign] {
					known[sign] = true
					waiting = append(waiting, way{stops, so.plus(c)})
				}
			}
			c, _ := t.g.hopCost(last[i], last[i+1])
			so = so.plus(c)
		}
		if len(waiting) == 0 {
			break
		}
		slices.SortStableFunc(waiting, func(a, b way) int {
			return cmp.Or(a.cost.compare(b.cost), cmp.Compare(len(a.stops), len(b.stops)), slices.Compare(b.stops, a.stops))
		})
		found, waiting = append(found, waiting[0]), waiting[1:]
	}
	return found
}

func signature(kinds, stops []int) string {
	var s strings.Builder
	for _, i := range stops {
		fmt.Fprint(&s, kinds[i], " ")
	}
	return s.String()
}

// deviate finds the best way from the last stop of a root to the aim that does not go on with a banned kind and stands
// on no kind twice, and keeps between two releases. The tree's costs are exact lower bounds, so few releases are looked at (A*).
func deviate(t *tree, root []int, banned map[int]bool, lowest, highest int) (spur []int, c cost, ok bool) {
	g, kinds := t.g, t.g.kinds()
	from := root[len(root)-1]
	gone := map[int]bool{}
	for _, i := range root {
		gone[kinds[i]] = true
	}
	type node struct {
		release, before int
		cost            cost
	}
	nodes := []node{{from, -1, cost{}}}
	open := frontier{{t.cost[from], 0}} // entries carry the index of a node
	onWay := func(n int, kind int) bool {
		for ; n > 0; n = nodes[n].before {
			if kinds[nodes[n].release] == kind {
				return true
			}
		}
		return false
	}
	settled := map[int]bool{}
	for len(open) > 0 {
		n := heap.Pop(&open).(entry).release
		at := nodes[n]
		if at.release == t.to {
			for k := n; k > 0; k = nodes[k].before {
				spur = append(spur, nodes[k].release)
			}
			slices.Reverse(spur)
			return spur, at.cost, true
		}
		if settled[at.release] {
			continue
		}
		settled[at.release] = true
		for b := len(g.f.Releases) - 1; b >= 0; b-- {
			if b < lowest || b > highest || b != t.to && t.next[b] == noWay || settled[b] || !g.allowed(b) || b != t.to && gone[kinds[b]] || n == 0 && banned[kinds[b]] || b != t.to && onWay(n, kinds[b]) {
				continue
			}
			// A stop of the aim's own kind brings nothing.
			if b != t.to && kinds[b] == kinds[t.to] {
				continue
			}
			hc, ok := g.hopCost(at.release, b)
			if !ok {
				continue
			}
			nodes = append(nodes, node{b, n, at.cost.plus(hc)})
			heap.Push(&open, entry{nodes[len(nodes)-1].cost.plus(t.cost[b]), len(nodes) - 1})
		}
	}
	return nil, cost{}, false
}

// differs says in words how another way compares with the best one.
func differs(g *graph, best, other way) string {
	var parts []string
	var over []string
	for _, i := range other.stops[1 : len(other.stops)-1] {
		if !slices.Contains(best.stops, i) {
			over = append(over, g.version(i).String())
		}
	}
	switch {
	case len(other.stops) == 2:
		parts = append(parts, "goes straight to the aim")
	case len(over) > 0:
		parts = append(parts, "stops at "+strings.Join(over, ", "))
	default:
		parts = append(parts, "leaves a stop out")
	}
	count := func(n int, word string) {
		if n == 1 || n == -1 {
			parts = append(parts, fmt.Sprintf("%+d %s", n, word))
		} else if n != 0 {
			parts = append(parts, fmt.Sprintf("%+d %ss", n, word))
		}
	}
	count(other.cost.resets-best.cost.resets, "configuration reset")
	count(other.cost.restarts-best.cost.restarts, "restart")
	if n := other.cost.merely - best.cost.merely; n > 0 {
		parts = append(parts, map[bool]string{true: "one more stop that is not preferred", false: fmt.Sprintf("%d more stops that are not preferred", n)}[n == 1])
	}
	for _, i := range other.stops[1:] {
		if g.f.Releases[i].Stage == catalog.Preview {
			parts = append(parts, "passes a preview release")
			break
		}
	}
	return strings.Join(parts, "; ")
}
