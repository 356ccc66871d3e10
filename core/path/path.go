// Package path computes the supported way from one firmware version to another, with the rule behind every hop and
// the refusal behind every jump not taken.
//
// Cost is lexicographic: configuration resets first, then restarts, then expected seconds, then stops that are merely
// allowed and not preferred. Among ways that cost the same the one with the newer next stop wins, so that the answer
// is always the same.
package path

import (
	"cmp"
	"container/heap"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/version"
)

// Policy says what a path may do.
type Policy struct {
	Previews bool // pass through or end at preview releases
	Reset    bool // take hops that reset the configuration
}

// A Path is a supported way. Hops is empty when the device is where it should be.
type Path struct {
	Family, Model string
	From, To      version.Version
	Hops          []Hop
	NotTaken      []Jump // the direct jump first, then shorter cuts
	Notes         []string
}

// A Hop is one stop to the next.
type Hop struct {
	From, To  version.Version
	Stage     catalog.Stage
	Permit    Citation   // the rule that permits it
	Because   []Citation // why this stop is needed: what refuses going past it; empty for the aim itself
	Config    string     // catalog.ConfigKept, ConfigConverted or ConfigReset
	Image     catalog.Image
	Low, High float64 // expected seconds, at the device's own pace
	Notes     []string
}

// A Jump is a tempting hop that is not supported.
type Jump struct {
	From, To version.Version
	Refusals []Citation
}

// A Citation names a rule and what it says here.
type Citation struct {
	Rule string // identifier of the rule; "" when no rule speaks (nothing permits it)
	Text string
	At   catalog.Position
}

func (c Citation) String() string {
	if c.Rule == "" {
		return c.Text
	}
	return c.Text + " [" + c.Rule + "]"
}

// A NoPathError says why there is no path and how far one could get.
type NoPathError struct {
	Model    string
	From, To version.Version
	Blocks   []Citation      // what refuses the aim itself or the direct jump
	Nearest  version.Version // the reachable release closest to the aim; zero when there is none
}

func (e *NoPathError) Error() string {
	var s strings.Builder
	fmt.Fprintf(&s, "no supported path for %s from %s to %s", e.Model, e.From, e.To)
	for i, b := range e.Blocks {
		s.WriteString(map[bool]string{true: ": ", false: "; "}[i == 0])
		s.WriteString(b.String())
	}
	if !e.Nearest.IsZero() {
		fmt.Fprintf(&s, "; the nearest release that can be reached is %s", e.Nearest)
	}
	return s.String()
}

// An UnknownError says that a version or model is not in the catalogue, with what is.
type UnknownError struct {
	What, Name, Family string
	Near               []string // known names that look alike, best first
}

func (e *UnknownError) Error() string {
	s := fmt.Sprintf("%s %s is not in the catalogue", e.What, e.Name)
	if e.Family != "" {
		s += " of family " + e.Family
	}
	if len(e.Near) > 0 {
		s += "; known and near: " + strings.Join(e.Near, ", ")
	}
	return s
}

// A Planner answers path questions about one catalogue and remembers what it worked out, so that many devices of one
// model with one aim cost one search. It is not safe for concurrent use.
type Planner struct {
	cat    *catalog.Catalogue
	family map[string]*catalog.Family // by model
	graphs map[graphKey]*graph
	trees  map[treeKey]*tree
}

type graphKey struct {
	model  string
	policy Policy
}

type treeKey struct {
	graphKey
	to int
}

// NewPlanner returns a planner over a catalogue that must not change afterwards.
func NewPlanner(c *catalog.Catalogue) *Planner {
	p := &Planner{cat: c, family: map[string]*catalog.Family{}, graphs: map[graphKey]*graph{}, trees: map[treeKey]*tree{}}
	for _, f := range c.Families {
		for _, m := range f.Models {
			p.family[m.Name] = f
		}
	}
	return p
}

// Find returns the best path for a model. Errors are *UnknownError and *NoPathError.
func (p *Planner) Find(model string, from, to version.Version, policy Policy) (*Path, error) {
	f := p.family[model]
	if f == nil {
		return nil, &UnknownError{What: "model", Name: model, Near: nearModels(p.cat, model)}
	}
	i, err := index(f, from)
	if err != nil {
		return nil, err
	}
	j, err := index(f, to)
	if err != nil {
		return nil, err
	}
	key := treeKey{graphKey{model, policy}, j}
	t := p.trees[key]
	if t == nil {
		g := p.graphs[key.graphKey]
		if g == nil {
			g = newGraph(f, f.Model(model), policy)
			p.graphs[key.graphKey] = g
		}
		t = grow(g, j)
		p.trees[key] = t
	}
	if i != j && t.next[i] < 0 {
		return nil, t.noPath(i)
	}
	return t.path(i), nil
}

// tree holds, for one aim, the best next stop from every release.
type tree struct {
	g    *graph
	to   int
	next []int // index of the next stop; -1: no way
	cost []cost
}

// cost is compared field by field.
type cost struct {
	resets, restarts int
	seconds          float64
	merely           int // stops that are not preferred releases
}

func (a cost) compare(b cost) int {
	return cmp.Or(cmp.Compare(a.resets, b.resets), cmp.Compare(a.restarts, b.restarts), cmp.Compare(a.seconds, b.seconds), cmp.Compare(a.merely, b.merely))
}

func (a cost) plus(b cost) cost {
	return cost{a.resets + b.resets, a.restarts + b.restarts, a.seconds + b.seconds, a.merely + b.merely}
}

// grow searches backwards from the aim: it settles release after release in the order of the cost of their ways to the
// aim. Costs only grow along a way, so a settled release never changes (Dijkstra).
//
// Releases that the rules do not tell apart and that cost the same need to be looked at once: of those the newest
// serves every start that any of them serves, unless hops go down onto them.
func grow(g *graph, to int) *tree {
	n := len(g.f.Releases)
	t := &tree{g: g, to: to, next: make([]int, n), cost: make([]cost, n)}
	for i := range t.next {
		t.next[i] = -1
	}
	if !g.allowed(to) {
		return t
	}
	t.next[to] = to
	settled, served := make([]bool, n), map[int]cost{}
	open := frontier{{cost{}, to}}
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
			if t.next[a] >= 0 {
				k = c.compare(t.cost[a])
			}
			if k < 0 || k == 0 && b > t.next[a] {
				t.next[a], t.cost[a] = b, c
				heap.Push(&open, entry{c, a})
			}
		}
	}
	t.next[to] = -1
	return t
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

func (t *tree) path(i int) *Path {
	g := t.g
	p := &Path{Family: g.f.Name, Model: g.m.Name, From: g.version(i), To: g.version(t.to)}
	stops := append(make([]int, 0, 8), i)
	for s := i; s != t.to; {
		s = t.next[s]
		stops = append(stops, s)
	}
	p.Hops = make([]Hop, 0, len(stops)-1)
	p.NotTaken = make([]Jump, 0, len(stops)*(len(stops)-1)/2)
	for k := 1; k < len(stops); k++ {
		a, b := stops[k-1], stops[k]
		rel := &g.f.Releases[b]
		rule := g.permit(a, b)
		h := Hop{From: g.version(a), To: g.version(b), Stage: rel.Stage, Config: rule.Config, Notes: rel.Notes,
			Permit: Citation{rule.ID, rule.Text, rule.At}, Image: *rel.Image(g.m.Name)}
		h.Low, h.High = g.seconds(b)
		if k+1 < len(stops) {
			h.Because = g.refusals(a, stops[k+1])
		}
		p.Hops = append(p.Hops, h)
	}
	// Every cut across two or more hops, the longest first: these are the jumps somebody in a hurry would try.
	for span := len(stops) - 1; span >= 2; span-- {
		for k := 0; k+span < len(stops); k++ {
			if r := g.refusals(stops[k], stops[k+span]); len(r) > 0 {
				p.NotTaken = append(p.NotTaken, Jump{g.version(stops[k]), g.version(stops[k+span]), r})
			}
		}
	}
	if newest := g.newestAllowed(); newest >= 0 && !g.m.Last.IsZero() {
		p.Notes = append(p.Notes, fmt.Sprintf("%s may run %s (%s); the last release that fits is %s", g.m.Name, g.m.Last, g.m.LastText, g.version(newest)))
	}
	return p
}

func (t *tree) noPath(i int) *NoPathError {
	g := t.g
	e := &NoPathError{Model: g.m.Name, From: g.version(i), To: g.version(t.to)}
	if why := g.whyNot(t.to); why != nil {
		e.Blocks = append(e.Blocks, *why)
	} else {
		e.Blocks = g.refusals(i, t.to)
	}
	// Forward reach from i, then the release closest to the aim from the side of i.
	reached, queue := map[int]bool{i: true}, []int{i}
	for len(queue) > 0 {
		a := queue[0]
		queue = queue[1:]
		for b := range g.f.Releases {
			if !reached[b] && g.allowed(b) {
				if _, ok := g.hopCost(a, b); ok {
					reached[b] = true
					queue = append(queue, b)
				}
			}
		}
	}
	best := -1
	for b := range reached {
		if b != i && (best < 0 || distance(b, t.to) < distance(best, t.to) || distance(b, t.to) == distance(best, t.to) && b > best) {
			best = b
		}
	}
	if best >= 0 && distance(best, t.to) < distance(i, t.to) {
		e.Nearest = g.version(best)
	}
	return e
}

func distance(a, b int) int { return max(a-b, b-a) }

func index(f *catalog.Family, v version.Version) (int, error) {
	i, ok := slices.BinarySearchFunc(f.Releases, v, func(r catalog.Release, v version.Version) int { return r.Version.Compare(v) })
	if ok {
		return i, nil
	}
	e := &UnknownError{What: "release", Name: v.String(), Family: f.Name}
	for _, k := range []int{i - 1, i, i + 1} {
		if k >= 0 && k < len(f.Releases) {
			e.Near = append(e.Near, f.Releases[k].Version.String())
		}
	}
	return 0, e
}

func nearModels(c *catalog.Catalogue, model string) (near []string) {
	for _, f := range c.Families {
		for _, m := range f.Models {
			if len(model) > 0 && strings.EqualFold(m.Name[:1], model[:1]) {
				near = append(near, m.Name)
			}
		}
	}
	return near
}
