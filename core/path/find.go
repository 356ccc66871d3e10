package path

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/near"
	"verimorph/core/portrait"
	"verimorph/core/version"
)

// A Planner answers path questions about one catalogue and remembers what it worked out, so that many devices of one
// model with one aim cost one search. It is not safe for concurrent use.
type Planner struct {
	cat    *catalog.Catalogue
	family map[string]*catalog.Family // by model
	graphs map[string]*graph
	trees  map[treeKey]*tree
	others map[string]*Planner // by family and versions that are not described but run on devices
}

type treeKey struct {
	g     *graph
	model string // of the aim
	to    int
	hops  int // limit; 0: none
}

// NewPlanner returns a planner over a catalogue that must not change afterwards.
func NewPlanner(c *catalog.Catalogue) *Planner {
	p := &Planner{cat: c, family: map[string]*catalog.Family{}, graphs: map[string]*graph{}, trees: map[treeKey]*tree{}, others: map[string]*Planner{}}
	for _, f := range c.Families {
		for _, m := range f.Models {
			p.family[m.Name] = f
		}
	}
	return p
}

// beside returns a planner that knows versions which are not described but lie inside what is: between two releases, or in a range from which
// hops lead. It returns nil where one does not.
func (p *Planner) beside(f *catalog.Family, names ...string) *Planner {
	key := f.Name + "\x00" + strings.Join(names, "\x00")
	if other := p.others[key]; other != nil {
		return other
	}
	var versions []version.Version
	for _, name := range names {
		v, err := f.Scheme.Parse(name)
		if err != nil || len(f.Releases) == 0 || f.Spelled(name) != nil {
			return nil
		}
		inside := f.Releases[0].Version.Less(v) && v.Less(f.Releases[len(f.Releases)-1].Version)
		if !inside && !slices.ContainsFunc(f.Rules, func(r catalog.Rule) bool {
			return r.Kind == catalog.KindHop && !r.From.IsZero() && r.From.String() != "any" && r.From.Contains(v)
		}) {
			return nil
		}
		versions = append(versions, v)
	}
	if len(p.others) >= maxGraphs/100 {
		clear(p.others)
	}
	other := NewPlanner(p.cat)
	family := f.Beside(versions)
	for _, m := range family.Models {
		other.family[m.Name] = family
	}
	p.others[key] = other
	return other
}

// Find returns the best path for a portrait. Errors are *UnknownError and *NoPathError.
func (p *Planner) Find(q Question) (*Path, error) {
	s, err := p.seek(q)
	if err != nil {
		return nil, err
	}
	targets, why, err := s.targets(s.f, s.m.Name, s.from, q)
	if err != nil {
		return nil, err
	}
	var first *NoPathError
	for _, target := range targets {
		t := s.tree(target, q.Policy)
		if t.found(s.from) {
			path := s.path(t, q)
			path.Aim = why
			if n := q.Policy.MaxHops; n > 0 && len(path.Hops) > n { // only where the platform changes: else the search knows the limit
				first = tooLong(path, n)
				continue
			}
			if q.Alternatives > 0 && t.to >= 0 && q.Policy.MaxHops == 0 {
				path.Alternatives = s.alternatives(t, q)
			}
			return path, nil
		}
		if first == nil {
			first = s.noPath(t, target, q)
			first.Aim = why
		}
	}
	return nil, first
}

// tooLong says that a policy allows fewer hops than there are.
func tooLong(p *Path, limit int) *NoPathError {
	return &NoPathError{Family: p.Family, Model: p.Model, From: p.From, To: p.To, Aim: p.Aim, Changes: []string{"the policy allowed more hops"},
		Blocks: []catalog.Citation{{Text: fmt.Sprintf("the policy allows %d hops, the shortest way takes %d", limit, len(p.Hops)), At: p.Hops[0].Permit.At}}}
}

// Explain answers about one hop straight from the portrait's version to the aim's: the rule that permits it, or all that
// refuses it. Errors are *UnknownError and, when the aim chooses nothing, *NoPathError.
func (p *Planner) Explain(q Question) (to version.Version, permit *catalog.Citation, refusals []catalog.Citation, err error) {
	s, err := p.seek(q)
	if err != nil {
		return to, nil, nil, err
	}
	targets, _, err := s.targets(s.f, s.m.Name, s.from, q)
	if err != nil {
		return to, nil, nil, err
	}
	i := targets[0].release
	to = s.f.Releases[i].Version
	g := s.graph(s.m, q.Portrait, s.from, q.Policy)
	if why := g.blocks[i]; why != nil {
		refusals = append(refusals, *why)
	}
	if i == s.from {
		return to, &catalog.Citation{Text: "it runs there already", At: s.f.Releases[i].At}, nil, nil
	}
	refusals = append(refusals, g.refusals(s.from, i)...)
	if len(refusals) > 0 {
		return to, nil, refusals, nil
	}
	r := g.Permit(s.from, i, q.Policy.Reset)
	return to, &catalog.Citation{Rule: r.ID, Text: r.Text, At: r.At}, nil, nil
}

// MayRun lists the releases of a model's family, newest first, each with why the model may not run it; nil when it may.
func (p *Planner) MayRun(model string) (f *catalog.Family, notRun []*catalog.Citation, err error) {
	f = p.family[model]
	if f == nil {
		return nil, nil, &UnknownError{What: "model", Name: model, Near: nearModels(p.cat, model)}
	}
	h := catalog.NewHops(f, f.Model(model))
	for i := range f.Releases {
		notRun = append(notRun, h.WhyNot(i))
	}
	return f, notRun, nil
}

// maxGraphs bounds what a planner remembers.
const maxGraphs = 5000

// search is one question with the family, model and release it is about.
type search struct {
	*Planner
	q    Question
	f    *catalog.Family
	m    *catalog.Model
	from int

	undescribed bool // the portrait's version is not in the catalogue
}

func (p *Planner) seek(q Question) (*search, error) {
	s := &search{Planner: p, q: q, f: p.family[q.Portrait.Model]}
	if s.f == nil {
		return nil, &UnknownError{What: "model", Name: q.Portrait.Model, Near: nearModels(p.cat, q.Portrait.Model)}
	}
	s.m = s.f.Model(q.Portrait.Model)
	var err error
	if s.from, err = index(s.f, q.Portrait.Version); err != nil {
		beside := p.beside(s.f, q.Portrait.Version)
		if beside == nil {
			return nil, err
		}
		if s, err = beside.seek(q); err == nil {
			s.undescribed = true
		}
		return s, err
	}
	for _, name := range q.Policy.Services {
		if !slices.ContainsFunc(s.f.Services, func(s catalog.Service) bool { return s.Name == name }) {
			e := &UnknownError{What: "service", Name: name, Family: s.f.Name}
			for _, s := range s.f.Services {
				e.Near = append(e.Near, s.Name)
			}
			return nil, e
		}
	}
	return s, nil
}

func (s *search) graph(m *catalog.Model, p *portrait.Portrait, start int, policy Policy) *graph {
	policy.MaxHops = 0 // the graph does not depend on it
	key := fmt.Sprintf("%s %v %s", m.Name, policy, factsKey(s.f, m, p, start))
	g := s.graphs[key]
	if g == nil {
		if len(s.graphs) >= maxGraphs { // questions on paper never end; what is still wanted is soon worked out again
			clear(s.graphs)
			clear(s.trees)
		}
		g = newGraph(s.f, m, p, start, policy)
		s.graphs[key] = g
	}
	return g
}

// tree returns the ways to a target from every release of the portrait's model.
func (s *search) tree(to target, policy Policy) *tree {
	g := s.graph(s.m, s.q.Portrait, s.from, policy)
	t := s.treeOf(g, to, nil)
	if policy.MaxHops > 0 && to.model == s.m.Name && t.found(s.from) && len(t.stops(s.from))-1 > policy.MaxHops {
		key := treeKey{g, to.model, to.release, policy.MaxHops}
		if s.trees[key] == nil {
			s.trees[key] = growWithin(g, to.release, policy.MaxHops)
		}
		return s.trees[key]
	}
	return t
}

// treeOf grows the tree of a graph; when the aim is another model, from the platform changes that lead towards it. seen
// keeps models from going round in a circle.
func (s *search) treeOf(g *graph, to target, seen []string) *tree {
	key := treeKey{g, to.model, to.release, 0}
	if t := s.trees[key]; t != nil {
		return t
	}
	var t *tree
	if g.m.Name == to.model {
		t = grow(g, to.release, nil)
	} else {
		t = grow(g, noWay, s.changes(g, to, append(seen, g.m.Name)))
	}
	if len(seen) == 0 || g.m.Name == to.model { // a tree grown in the middle of a chain knows only part of the ways
		s.trees[key] = t
	}
	return t
}

// changes lists, by release, the best platform change that leads towards the aim.
func (s *search) changes(g *graph, to target, seen []string) map[int]change {
	out := map[int]change{}
	for i := range s.f.Rules {
		r := &s.f.Rules[i]
		if r.Kind != catalog.KindPlatformChange || r.FromModel != g.m.Name || slices.Contains(seen, r.ToModel) || r.Config == catalog.ConfigReset && !g.policy.Reset {
			continue
		}
		there := carriedOver(g.p, r)
		h := s.graph(s.f.Model(r.ToModel), there, noWay, g.policy)
		then := s.treeOf(h, to, seen)
		for b := range s.f.Releases {
			if !r.To.Contains(g.version(b)) || !h.allowed(b) || !then.found(b) {
				continue
			}
			c := cost{restarts: r.Restarts, millis: h.still[b] + int64(r.Restarts)*h.restart}
			if r.Config == catalog.ConfigReset {
				c.resets = 1
			}
			if s.f.Releases[b].Stage != catalog.Preferred {
				c.merely = 1
			}
			whole := c.plus(then.cost[b])
			for a := range s.f.Releases {
				if !r.From.Contains(g.version(a)) || !g.allowed(a) && a != g.start {
					continue
				}
				best, ok := out[a]
				if !ok || whole.compare(best.cost.plus(best.then.cost[best.to])) < 0 || whole == best.cost.plus(best.then.cost[best.to]) && b > best.to {
					out[a] = change{r, b, then, c}
				}
			}
		}
	}
	return out
}

// carriedOver is what is known of a device that goes on as another model: nothing but licences and the configuration comes along to another machine. The
// same machine keeps its memory, its storage and its host.
func carriedOver(p *portrait.Portrait, r *catalog.Rule) *portrait.Portrait {
	out := &portrait.Portrait{Model: r.ToModel, Licences: p.Licences, Uses: p.Uses, Children: p.Children}
	if r.InPlace {
		out.Platform, out.Memory, out.Storage, out.FileSystem = p.Platform, p.Memory, p.Storage, p.FileSystem
	}
	return out
}

// path tells the way of a tree from the portrait's release.
func (s *search) path(t *tree, q Question) *Path {
	p := &Path{Family: s.f.Name, Model: s.m.Name, From: t.g.version(s.from)}
	i, facts := s.from, q.Portrait
	for {
		stops := t.stops(i)
		var hops []Hop
		hops, facts = s.hops(t.g, facts, stops)
		p.Hops = append(p.Hops, hops...)
		p.NotTaken = append(p.NotTaken, jumps(t.g, stops)...)
		i = stops[len(stops)-1]
		p.To = t.g.version(i)
		c, ok := t.change[i]
		if !ok || i == t.to {
			break
		}
		facts = carriedOver(facts, c.rule)
		p.Hops = append(p.Hops, s.changeHop(t.g, facts, i, c))
		facts = afterHop(facts, c.rule.Config)
		t, i = c.then, c.to
		p.To = t.g.version(i)
	}
	if s.undescribed {
		p.Notes = append(p.Notes, fmt.Sprintf("%s itself is not described; it is treated as the releases around it, of train %s", p.From, s.f.Releases[s.from].Train))
	}
	if newest := newestAllowed(t.g); newest >= 0 && (!t.g.m.Last.IsZero() || !t.g.m.EndOfSupport.IsZero()) {
		p.Notes = append(p.Notes, lastNote(t.g, newest))
	}
	for _, slot := range q.Portrait.Slots {
		if slot.Running || slot.Version != p.To.String() || len(p.Hops) == 0 || p.Hops[len(p.Hops)-1].NewModel != "" {
			continue
		}
		// An image that is started as it lies there has no configuration of its own.
		if slot.Name == slot.Version || q.Portrait.File(slot.Name) != nil {
			p.Notes = append(p.Notes, fmt.Sprintf("%s lies on the device already", slot.Version))
		} else {
			p.Notes = append(p.Notes, fmt.Sprintf("slot %s holds %s already; starting it would bring back the configuration and passwords that were saved there", slot.Name, slot.Version))
		}
	}
	if s.q.Portrait.Generation == "" && len(s.m.Generations) > 1 && slices.ContainsFunc(p.Hops, func(h Hop) bool { return len(h.Components) > 0 }) {
		p.Notes = append(p.Notes, fmt.Sprintf("the hardware generation is not known; components are told as for %s %s, look before you start", s.m.Name, s.m.Generations[0]))
	}
	return p
}

func lastNote(g *graph, newest int) string {
	var why []string
	if !g.m.Last.IsZero() {
		why = append(why, fmt.Sprintf("may run %s", g.m.Last))
		if g.m.LastText != "" {
			why[0] += " (" + g.m.LastText + ")"
		}
	}
	if !g.m.EndOfSupport.IsZero() {
		why = append(why, "is supported until "+g.m.EndOfSupport.Format("2006-01-02"))
	}
	text := fmt.Sprintf("%s %s; the last release that fits is %s", g.m.Name, strings.Join(why, " and "), g.version(newest))
	if g.m.Successor != "" {
		text += "; its successor is the " + g.m.Successor
	}
	return text
}

// jumps are the cuts across two or more hops, the longest first: what somebody in a hurry would try.
func jumps(g *graph, stops []int) (out []Jump) {
	for span := len(stops) - 1; span >= 2; span-- {
		for k := 0; k+span < len(stops); k++ {
			if r := g.refusals(stops[k], stops[k+span]); len(r) > 0 {
				out = append(out, Jump{g.version(stops[k]), g.version(stops[k+span]), r})
			}
		}
	}
	return out
}

func newestAllowed(g *graph) int {
	for i := len(g.blocks) - 1; i >= 0; i-- {
		if g.blocks[i] == nil {
			return i
		}
	}
	return -1
}

// noPath explains why there is none: what blocks, how far one gets, and what would have to change.
func (s *search) noPath(t *tree, to target, q Question) *NoPathError {
	g := t.g
	e := &NoPathError{Family: s.f.Name, Model: s.m.Name, From: g.version(s.from), To: s.f.Releases[to.release].Version}
	if to.model != s.m.Name {
		e.Blocks = []catalog.Citation{{Text: fmt.Sprintf("no platform change leads from %s on %s to %s on %s", e.From, s.m.Name, e.To, to.model), At: s.m.At}}
		for i := range s.f.Rules {
			if r := &s.f.Rules[i]; r.Kind == catalog.KindPlatformChange && r.FromModel == s.m.Name && r.ToModel == to.model {
				e.Blocks = append(e.Blocks, catalog.Citation{Rule: r.ID, Text: fmt.Sprintf("from %s to %s: %s", r.From, r.To, r.Text), At: r.At})
			}
		}
		e.Changes = s.wouldHelp(to, q)
		return e
	}
	if why := g.blocks[to.release]; why != nil {
		e.Blocks = append(e.Blocks, *why)
	} else {
		e.Blocks = slices.Clone(g.refusals(s.from, to.release))
	}
	if unlimited := s.treeOf(g, to, nil); q.Policy.MaxHops > 0 && unlimited.found(s.from) {
		e.Blocks = append([]catalog.Citation{{Text: fmt.Sprintf("the policy allows %d hops, the shortest way takes more", q.Policy.MaxHops), At: s.m.At}}, e.Blocks...)
	}
	if best := nearest(g, s.from, to.release, q.Policy.MaxHops); best >= 0 {
		e.Nearest, e.Beyond = g.version(best), (best > to.release) != (s.from > to.release)
	}
	e.Changes = s.wouldHelp(to, q)
	if s.m.Successor != "" && g.WhyNot(to.release) != nil {
		if next := s.f.Model(s.m.Successor); next != nil && next.Last.Contains(e.To) {
			e.Changes = append(e.Changes, fmt.Sprintf("the device were replaced by its successor %s, which may run %s", s.m.Successor, e.To))
		}
	}
	return e
}

// nearest is the release closest to the aim that can be reached and is closer than the start: one on this side of the aim, or, where there is
// none, one beyond it; -1 when there is neither.
func nearest(g *graph, from, to, hops int) int {
	reached, queue := map[int]int{from: 0}, []int{from}
	for len(queue) > 0 {
		a := queue[0]
		queue = queue[1:]
		if hops > 0 && reached[a] == hops {
			continue
		}
		for b := range g.f.Releases {
			if _, ok := reached[b]; !ok && g.allowed(b) {
				if _, ok := g.hopCost(a, b); ok {
					reached[b] = reached[a] + 1
					queue = append(queue, b)
				}
			}
		}
	}
	for _, beyond := range []bool{false, true} {
		best := -1
		for b := range reached {
			if b == from || (b > to) != (from > to) != beyond || distance(b, to) >= distance(from, to) {
				continue
			}
			if best < 0 || distance(b, to) < distance(best, to) {
				best = b
			}
		}
		if best >= 0 {
			return best
		}
	}
	return -1
}

func distance(a, b int) int { return max(a-b, b-a) }

// wouldHelp tries what a person could give way on, one thing at a time.
func (s *search) wouldHelp(to target, q Question) (out []string) {
	try := func(text string, p *portrait.Portrait, policy Policy) {
		other := &search{Planner: s.Planner, q: Question{Portrait: p}, f: s.f, m: s.m, from: s.from}
		if t := other.tree(to, policy); t.found(s.from) {
			out = append(out, text)
		}
	}
	relax := func(text string, when bool, change func(*Policy)) {
		if when {
			policy := q.Policy
			change(&policy)
			try(text, q.Portrait, policy)
		}
	}
	relax("the policy allowed a configuration reset", !q.Policy.Reset, func(p *Policy) { p.Reset = true })
	relax("the policy allowed preview releases", !q.Policy.Previews, func(p *Policy) { p.Previews = true })
	relax("the policy allowed more hops", q.Policy.MaxHops > 0, func(p *Policy) { p.MaxHops = 0 })
	relax("services might stop working", len(q.Policy.Services) > 0, func(p *Policy) { p.Services = nil })
	relax("child models might be dropped", !q.Policy.DropChildren && len(q.Portrait.Children) > 0, func(p *Policy) { p.DropChildren = true })
	for i := range s.f.Requirements {
		r := &s.f.Requirements[i]
		if met, has := r.Met(q.Portrait); met == catalog.No && r.Remedy == "" && r.For(s.m.Name) {
			try(fmt.Sprintf("the device met %s: %s (%s)", r.ID, r.Text, has), fulfilled(q.Portrait, r), q.Policy)
		}
	}
	if len(out) == 0 {
		policy := q.Policy
		policy.Reset, policy.Previews, policy.Services, policy.DropChildren, policy.MaxHops = true, true, nil, true, 0
		try("the policy allowed resets, previews, any number of hops and lost services all together", q.Portrait, policy)
	}
	return out
}

// fulfilled is the portrait of a device that meets a requirement.
func fulfilled(p *portrait.Portrait, r *catalog.Requirement) *portrait.Portrait {
	out := *p
	switch r.Kind {
	case catalog.NeedStorage:
		out.Storage = nil
	case catalog.NeedMemory:
		out.Memory = r.Bytes
	case catalog.NeedPlatform:
		out.Platform = r.OneOf[0]
	case catalog.NeedFileSystem:
		out.FileSystem = r.OneOf[0]
	case catalog.NeedLicence:
		out.Licences = append(slices.Clone(p.Licences), r.OneOf[0])
	case catalog.NeedContent:
		out.Components = map[string]string{}
		for k, v := range p.Components {
			out.Components[k] = v
		}
		out.Components[r.Component] = r.AtLeast.String()
	case catalog.NeedBootVariable:
		out.BootVariables = map[string]string{r.Variable: r.Value}
	case catalog.NeedConfiguration:
		out.Uses = map[string]bool{}
		for k, v := range p.Uses {
			out.Uses[k] = v
		}
		if r.Uses != "" {
			out.Uses[r.Uses] = true
		}
		if r.Lacks != "" {
			out.Uses[r.Lacks] = false
		}
	}
	return &out
}

func index(f *catalog.Family, text string) (int, error) {
	if i := f.Named(text); i >= 0 {
		return i, nil
	}
	e := &UnknownError{What: "release", Name: text, Family: f.Name}
	if r := f.Spelled(text); r != nil {
		e.Spelled = r.Version.String()
		return 0, e
	}
	v, err := f.Scheme.Parse(text)
	if err != nil {
		return 0, errors.Join(e, err)
	}
	i, _ := slices.BinarySearchFunc(f.Releases, v, func(r catalog.Release, v version.Version) int { return r.Version.Compare(v) })
	for _, k := range []int{i - 1, i, i + 1} {
		if k >= 0 && k < len(f.Releases) {
			e.Near = append(e.Near, f.Releases[k].Version.String())
		}
	}
	return 0, e
}

// nearModels lists the models whose names are like one.
func nearModels(c *catalog.Catalogue, name string) []string {
	var all []string
	for _, f := range c.Families {
		for _, m := range f.Models {
			all = append(all, m.Name)
		}
	}
	return near.Names(name, all)
}
