package path

import (
	"cmp"
	"container/heap"

	"verimorph/core/catalog"
)

// cost is compared in the order of resets, restarts, weighed time, stops that are merely allowed, and time.
type cost struct {
	resets, restarts int
	millis           int64 // expected milliseconds: whole numbers, so that adding up in another order gives the same sum
	merely           int   // stops that are not preferred releases
}

// timeStep is the difference in time that a person cares about, in milliseconds: a stop that is not a preferred release counts as that much
// more. So a smaller difference never wins over a preferred release. Rounding times would not do: next to the edge of a step, a
// tenth of a second would decide after all.
const timeStep = 5 * 60 * 1000

func (a cost) weighed() int64 { return a.millis + int64(a.merely)*timeStep }

func (a cost) compare(b cost) int {
	return cmp.Or(cmp.Compare(a.resets, b.resets), cmp.Compare(a.restarts, b.restarts), cmp.Compare(a.weighed(), b.weighed()), cmp.Compare(a.merely, b.merely))
}

func (a cost) plus(b cost) cost {
	return cost{a.resets + b.resets, a.restarts + b.restarts, a.millis + b.millis, a.merely + b.merely}
}

// tree holds, for one aim, the best next stop from every release.
type tree struct {
	g      *graph
	to     int            // the aim; -1 when it belongs to another model
	next   []int          // index of the next stop; -1: no way; -2: the platform changes here
	cost   []cost         // of the way to the aim
	change map[int]change // where the platform changes
	steps  [][]int        // with a limit on hops: next stop by hops left, from 1
}

const (
	noWay      = -1
	platformed = -2
)

// change is a hop that goes on as another model.
type change struct {
	rule *catalog.Rule
	to   int   // release of the other model
	then *tree // how it goes on there
	cost cost  // of the hop alone
}

// found reports whether there is a way from a release.
func (t *tree) found(a int) bool { return a == t.to || t.next[a] != noWay }

// grow searches backwards from the aim: it settles release after release in the order of the cost of their ways to the
// aim. Costs only grow along a way, so a settled release never changes (Dijkstra).
//
// Releases that nothing tells apart and that cost the same need to be looked at once: of those the newest serves every
// start that any of them serves, unless hops go down onto them.
func grow(g *graph, to int, changes map[int]change) *tree {
	n := len(g.f.Releases)
	t := &tree{g: g, to: to, next: make([]int, n), cost: make([]cost, n), change: changes}
	for i := range t.next {
		t.next[i] = noWay
	}
	var open frontier
	if to >= 0 {
		if !g.allowed(to) {
			return t
		}
		t.next[to] = to
		open = append(open, entry{cost{}, to})
	}
	for a, c := range changes {
		t.next[a], t.cost[a] = platformed, c.cost.plus(c.then.cost[c.to])
		open = append(open, entry{t.cost[a], a})
	}
	heap.Init(&open)
	settled, served := make([]bool, n), map[int]cost{}
	for len(open) > 0 {
		e := heap.Pop(&open).(entry)
		b := e.release
		if settled[b] || e.cost != t.cost[b] {
			continue // a cheaper way was found since
		}
		settled[b] = true
		if !g.allowed(b) {
			continue // it may be a start, not a stop
		}
		if c, ok := served[g.class[b]]; ok && c == t.cost[b] && !g.goesDown[g.class[b]] {
			continue
		}
		served[g.class[b]] = t.cost[b]
		for a := range n {
			if settled[a] {
				continue
			}
			c, ok := g.hopCost(a, b)
			if !ok {
				continue
			}
			c = c.plus(t.cost[b])
			k := -1
			if t.next[a] != noWay {
				k = c.compare(t.cost[a])
			}
			if k < 0 || k == 0 && b > t.next[a] && t.next[a] >= 0 {
				t.next[a], t.cost[a] = b, c
				heap.Push(&open, entry{c, a})
			}
		}
	}
	if to >= 0 {
		t.next[to] = noWay
	}
	return t
}

// growWithin is grow under a limit on the number of hops: the best ways with one hop, then with at most two, and so on.
func growWithin(g *graph, to, hops int) *tree {
	n := len(g.f.Releases)
	t := &tree{g: g, to: to, next: make([]int, n), cost: make([]cost, n)}
	have := make([]bool, n)
	if g.allowed(to) {
		have[to] = true
	}
	last := make([]cost, n)
	for range hops {
		cur, curHave, next := make([]cost, n), make([]bool, n), make([]int, n)
		for a := range n {
			next[a] = noWay
			if a == to {
				curHave[a] = have[a]
				continue
			}
			for b := n - 1; b >= 0; b-- {
				if !have[b] || b != to && !g.allowed(b) || a == b {
					continue
				}
				if c, ok := g.hopCost(a, b); ok {
					if c = c.plus(last[b]); !curHave[a] || c.compare(cur[a]) < 0 {
						cur[a], curHave[a], next[a] = c, true, b
					}
				}
			}
		}
		t.steps = append(t.steps, next)
		last, have = cur, curHave
	}
	copy(t.cost, last)
	for a := range t.next {
		t.next[a] = noWay
		if len(t.steps) > 0 {
			t.next[a] = t.steps[len(t.steps)-1][a]
		}
	}
	return t
}

// stops lists the releases of the way from one of them, itself included, up to the aim or to where the platform changes.
func (t *tree) stops(i int) []int {
	stops := append(make([]int, 0, 8), i)
	for k := len(t.steps) - 1; i != t.to && t.next[i] != platformed; k-- {
		if t.steps != nil {
			i = t.steps[k][i]
		} else {
			i = t.next[i]
		}
		stops = append(stops, i)
	}
	return stops
}

// frontier is a heap of releases by cost, the newest first among equals.
type frontier []entry

type entry struct {
	cost    cost
	release int
}

func (f frontier) Len() int { return len(f) }
func (f frontier) Less(i, j int) bool {
	if c := f[i].cost.compare(f[j].cost); c != 0 {
		return c < 0
	}
	return f[i].release > f[j].release
}
func (f frontier) Swap(i, j int) { f[i], f[j] = f[j], f[i] }
func (f *frontier) Push(x any)   { *f = append(*f, x.(entry)) }
func (f *frontier) Pop() any {
	old := *f
	e := old[len(old)-1]
	*f = old[:len(old)-1]
	return e
}
