package path

import (
	"container/heap"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/portrait"
)

// A Joint is the way of an ensemble whose members move one at a time, so that at every moment the versions that stand
// side by side are ones the maker tolerates.
type Joint struct {
	Family string
	Aim    string
	Moves  []Move
	Paths  []*Path // one for each group of alike members, as it came out; alternatives are left out
	Notes  []string
}

// A Move takes alike members over one hop, one after the other.
type Move struct {
	Members []string
	Model   string
	Hop     Hop
	Beside  []Beside // what stands beside them meanwhile on another version
}

// Beside is another version that is in use during a move, with the rule that tolerates it.
type Beside struct {
	What   string // names of members, or "each other"
	On     string // version
	Permit catalog.Citation
}

// group is a number of members that are alike: same model, version and facts.
type group struct {
	*search
	names  []string
	t      *tree
	target int
}

// mayPart is up to how many members it is looked at whether alike ones should take different ways.
const mayPart = 4

// besides returns a planner that also knows the versions of members which are not described, and what is to be said about them.
func (p *Planner) besides(members []portrait.Portrait) (*Planner, []string) {
	strange := map[*catalog.Family][]string{}
	var notes []string
	for i := range members {
		m := &members[i]
		f := p.family[m.Model]
		if f == nil || f.Named(m.Version) >= 0 || slices.Contains(strange[f], m.Version) || p.beside(f, m.Version) == nil {
			continue
		}
		strange[f] = append(strange[f], m.Version)
		notes = append(notes, fmt.Sprintf("%s itself is not described; it is treated as the releases around it", m.Version))
	}
	for f, versions := range strange {
		slices.Sort(versions)
		if other := p.beside(f, versions...); other != nil {
			return other, notes // members of several families are refused anyway
		}
	}
	return p, notes
}

// maxJoint bounds the states that a joint search looks at.
const maxJoint = 200_000

// FindJoint returns the way of an ensemble. All members must be of one family. Errors are *UnknownError and
// *NoPathError.
func (p *Planner) FindJoint(members []portrait.Portrait, q Question) (*Joint, error) {
	for i := range members {
		if q.Aim.AsMember != "" && q.Aim.AsMember == members[i].Name {
			q.Aim.AsMember = members[i].Version
		}
	}
	p, strange := p.besides(members)
	groups, err := p.groups(members, q)
	if err != nil {
		return nil, err
	}
	f := groups[0].f
	for _, g := range groups {
		if g.f != f {
			return nil, &NoPathError{Model: g.m.Name, From: g.f.Releases[g.from].Version, Aim: "one aim", Blocks: []catalog.Citation{{
				Text: fmt.Sprintf("%s is of family %s and %s of family %s; members of an ensemble are of one family", groups[0].m.Name, f.Name, g.m.Name, g.f.Name), At: g.m.At}}}
		}
	}
	targets, why, err := p.targets(f, groups[0].m.Name, groups[0].from, Question{Portrait: groups[0].q.Portrait, Aim: q.Aim, Policy: q.Policy})
	if err != nil {
		return nil, err
	}
	var first error
	for _, target := range targets {
		moves, whole, err := joint(groups, target, q.Policy)
		kept := len(groups) < len(members)
		if kept && len(members) <= mayPart {
			// Few members can also go each on its own; then one may go ahead of another that is like it, or another way.
			apart := split(groups)
			if alone, less, e := joint(apart, target, q.Policy); e == nil && (err != nil || less.compare(whole) < 0) {
				groups, moves, err = apart, alone, nil
			}
			kept = false // both were looked at
		}
		if err == nil {
			out := &Joint{Family: f.Name, Aim: why, Moves: moves, Notes: strange}
			for _, g := range groups {
				if kept && len(g.names) > 1 {
					out.Notes = append(out.Notes, fmt.Sprintf("%s are alike and were kept together, on one way; whether another way for some of them would be cheaper was not looked at, since there are more than %d members", strings.Join(g.names, ", "), mayPart))
				}
			}
			for _, g := range groups {
				alone := g.alone(moves)
				if n := q.Policy.MaxHops; n > 0 && len(alone.Hops) > n {
					return nil, tooLong(alone, n)
				}
				out.Paths = append(out.Paths, alone)
			}
			return out, nil
		}
		if first == nil {
			first = err
		}
	}
	return nil, first
}

// groups puts alike members together, controllers first.
func (p *Planner) groups(members []portrait.Portrait, q Question) (out []*group, err error) {
	byFacts := map[string]*group{}
	for i := range members {
		m := &members[i]
		s, err := p.seek(Question{Portrait: m, Aim: q.Aim, Policy: q.Policy})
		if err != nil {
			return nil, fmt.Errorf("member %s: %w", m.Name, err)
		}
		facts := *m // what is told about a move must be true for each of its members; who it is and how far it mirrors another one decides nothing
		facts.Name, facts.Serial, facts.Mate, facts.Sync, facts.InSync, facts.UptimeSeconds, facts.Started = "", "", "", "", "", 0, ""
		if rank(m.Role) == rank("") {
			facts.Role = ""
		}
		data, err := json.Marshal(facts)
		if err != nil {
			return nil, err
		}
		key := string(data)
		g := byFacts[key]
		if g == nil {
			g = &group{search: s}
			byFacts[key] = g
			out = append(out, g)
		}
		g.names = append(g.names, m.Name)
	}
	slices.SortStableFunc(out, func(a, b *group) int { return rank(a.m.Role) - rank(b.m.Role) })
	return out, nil
}

// split gives every member a group of its own.
func split(groups []*group) (out []*group) {
	for _, g := range groups {
		for _, name := range g.names {
			out = append(out, &group{search: g.search, names: []string{name}})
		}
	}
	return out
}

// rank says who goes first: controllers, then whoever is neither, then children.
func rank(role string) int {
	switch role {
	case "controller":
		return 0
	case "child":
		return 2
	}
	return 1
}

// joint searches over where each group stands. What each group would need alone is an exact lower bound of the rest (A*).
func joint(groups []*group, to target, policy Policy) ([]Move, cost, error) {
	policy.MaxHops = 0 // counted afterwards
	for _, g := range groups {
		own := target{g.m.Name, to.release}
		g.t, g.target = g.tree(own, policy), to.release
		if !g.t.found(g.from) {
			return nil, cost{}, g.noPath(g.t, own, g.q)
		}
	}
	type node struct {
		at            []int
		before, moved int
		cost          cost
	}
	rest := func(at []int) (c cost) {
		for i, g := range groups {
			c = c.plus(times(g.t.cost[at[i]], len(g.names)))
		}
		return c
	}
	start := make([]int, len(groups))
	for i, g := range groups {
		start[i] = g.from
	}
	nodes := []node{{at: start, before: -1}}
	open := frontier{{rest(start), 0}}
	settled := map[string]bool{}
	for len(open) > 0 && len(nodes) < maxJoint {
		n := heap.Pop(&open).(entry).release
		at := nodes[n].at
		if !slices.ContainsFunc(at, func(a int) bool { return a != to.release }) {
			var way []int
			for k := n; k > 0; k = nodes[k].before {
				way = append(way, k)
			}
			slices.Reverse(way)
			var moves []Move
			facts := make([]*portrait.Portrait, len(groups))
			for i, g := range groups {
				facts[i] = g.q.Portrait
			}
			for i, k := range way {
				past := -1 // where the same group goes next
				for _, later := range way[i+1:] {
					if nodes[later].moved == nodes[k].moved {
						past = nodes[later].at[nodes[k].moved]
						break
					}
				}
				who := nodes[k].moved
				m := describeMove(groups, facts[who], nodes[nodes[k].before].at, who, nodes[k].at[who], past)
				facts[who] = afterHop(facts[who], m.Hop.Config)
				moves = append(moves, m)
			}
			return moves, nodes[n].cost, nil
		}
		if key := fmt.Sprint(at); settled[key] {
			continue
		} else {
			settled[key] = true
		}
		for i := len(groups) - 1; i >= 0; i-- { // of equal ways the one that was put last is looked at first
			g := groups[i]
			for b := range g.f.Releases {
				if b == at[i] || !g.t.g.allowed(b) || !g.t.found(b) || !together(groups, at, i, b) {
					continue
				}
				c, ok := g.t.g.hopCost(at[i], b)
				if !ok {
					continue
				}
				next := slices.Clone(at)
				next[i] = b
				nodes = append(nodes, node{next, n, i, nodes[n].cost.plus(times(c, len(g.names)))})
				heap.Push(&open, entry{nodes[len(nodes)-1].cost.plus(rest(next)), len(nodes) - 1})
			}
		}
	}
	return nil, cost{}, notTogether(groups, to)
}

func times(c cost, n int) cost {
	return cost{c.resets * n, c.restarts * n, c.millis * int64(n), c.merely * n}
}

// together reports whether group i may go to b while the others stay where they are.
func together(groups []*group, at []int, i, b int) bool {
	g := groups[i]
	if len(g.names) > 1 && tolerate(g, g, at[i], b) == nil {
		return false
	}
	for j, other := range groups {
		if j != i && tolerate(g, other, b, at[j]) == nil {
			return false
		}
	}
	return true
}

// GetOn reports whether a model may run two versions side by side, as members of one ensemble, and which rule of its family says so. A version
// that is not described is treated as the releases around it.
func (p *Planner) GetOn(model, a, b string) (catalog.Citation, bool) {
	p, _ = p.besides([]portrait.Portrait{{Model: model, Version: a}, {Model: model, Version: b}})
	f := p.family[model]
	if f == nil {
		return catalog.Citation{}, a == b
	}
	m := f.Model(model)
	g := &group{search: &search{f: f, m: m}}
	x, y := f.Named(a), f.Named(b)
	if x < 0 || y < 0 {
		return catalog.Citation{}, a == b
	}
	s := tolerate(g, g, x, y)
	if s == nil {
		return catalog.Citation{}, false
	}
	return catalog.Citation{Rule: s.ID, Text: s.Text, At: s.At}, true
}

var equalVersions = &catalog.Skew{Text: "equal versions"}

// tolerate returns the rule that lets two members work side by side, nil when none does. Children among each other need
// none.
func tolerate(g, h *group, a, b int) *catalog.Skew {
	if a == b || g.m.Role == "child" && h.m.Role == "child" {
		return equalVersions
	}
	between := catalog.SkewMembers
	if (g.m.Role == "child") != (h.m.Role == "child") {
		between = catalog.SkewChildren
		if g.m.Role == "child" { // one: the controller
			a, b = b, a
		}
	}
	ra, rb := &g.f.Releases[a], &g.f.Releases[b]
	for i := range g.f.Skew {
		s := &g.f.Skew[i]
		if s.Between != between || s.SameTrain && ra.Train != rb.Train {
			continue
		}
		if s.One.Contains(ra.Version) && s.Other.Contains(rb.Version) ||
			between == catalog.SkewMembers && s.One.Contains(rb.Version) && s.Other.Contains(ra.Version) {
			return s
		}
	}
	return nil
}

// describeMove tells about group i going to b; past is where it goes after that, -1 when it is there.
func describeMove(groups []*group, facts *portrait.Portrait, at []int, i, b, past int) Move {
	g := groups[i]
	m := Move{Members: g.names, Model: g.m.Name, Hop: g.hop(g.t.g, facts, at[i], b, past)}
	cite := func(s *catalog.Skew) catalog.Citation { return catalog.Citation{Rule: s.ID, Text: s.Text, At: s.At} }
	if s := tolerate(g, g, at[i], b); len(g.names) > 1 && s != equalVersions {
		m.Beside = append(m.Beside, Beside{"each other", g.f.Releases[at[i]].Version.String(), cite(s)})
	}
	for j, other := range groups {
		if s := tolerate(g, other, b, at[j]); j != i && s != equalVersions {
			m.Beside = append(m.Beside, Beside{strings.Join(other.names, ", "), other.f.Releases[at[j]].Version.String(), cite(s)})
		}
	}
	return m
}

// alone is the path of one group as the moves have it.
func (g *group) alone(moves []Move) *Path {
	p := &Path{Family: g.f.Name, Model: g.m.Name, From: g.f.Releases[g.from].Version, To: g.f.Releases[g.target].Version}
	for _, m := range moves {
		if slices.Equal(m.Members, g.names) {
			p.Hops = append(p.Hops, m.Hop)
		}
	}
	return p
}

// notTogether explains why the members cannot go although each could alone.
func notTogether(groups []*group, to target) *NoPathError {
	g := groups[0]
	e := &NoPathError{Family: g.f.Name, Model: g.m.Name, From: g.f.Releases[g.from].Version, To: g.f.Releases[to.release].Version}
	for i, a := range groups {
		for _, b := range groups[i:] {
			if a == b && len(a.names) == 1 {
				continue
			}
			for _, stop := range a.t.stops(a.from)[1:] {
				if tolerate(a, b, stop, b.from) == nil {
					e.Blocks = append(e.Blocks, catalog.Citation{Text: fmt.Sprintf("no skew rule tolerates %s on %s beside %s on %s", a.m.Name, a.f.Releases[stop].Version, b.m.Name, b.f.Releases[b.from].Version),
						At: catalog.Position{File: a.f.File, Line: 1, Column: 1}})
					break
				}
			}
		}
	}
	e.Changes = append(e.Changes, "all members went down at the same time, which interrupts service")
	return e
}
