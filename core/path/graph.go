package path

import (
	"fmt"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/version"
)

// graph answers, for one model of one family under one policy, which hops are supported. Releases are their indexes
// in the family; ranges are worked out once into one flag a release, since the search asks for every pair.
type graph struct {
	f         *catalog.Family
	m         *catalog.Model
	policy    Policy
	rules     []compiled
	preferred map[string]int // newest preferred release by train
	mayRun    []bool         // allowed as a stop
	hopTime   []float64      // seconds to install and return, by release
	class     []int          // releases of one class are alike to every rule as the end of a hop, and cost the same
	goesDown  []bool         // by class: some rule permits going down onto its releases
	said      map[[2]int][]Citation
}

type compiled struct {
	*catalog.Rule
	a, b     []bool // hop: from, to; crossing: leave-from, land-on; leave-train: the train, -
	crossing int    // index of the first release at or after the crossing
}

func newGraph(f *catalog.Family, m *catalog.Model, policy Policy) *graph {
	n := len(f.Releases)
	g := &graph{f: f, m: m, policy: policy, preferred: map[string]int{}, mayRun: make([]bool, n), hopTime: make([]float64, n), said: map[[2]int][]Citation{}}
	flags := func(has func(*catalog.Release) bool) []bool {
		out := make([]bool, n)
		for i := range f.Releases {
			out[i] = has(&f.Releases[i])
		}
		return out
	}
	in := func(r version.Range) []bool {
		return flags(func(rel *catalog.Release) bool { return r.Contains(rel.Version) })
	}
	for i := range f.Releases {
		if r := &f.Releases[i]; r.Stage == catalog.Preferred {
			g.preferred[r.Train] = i
		}
		g.mayRun[i] = g.whyNot(i) == nil
		low, high := g.seconds(i)
		g.hopTime[i] = (low + high) / 2
	}
	for i := range f.Rules {
		r := &f.Rules[i]
		if !r.For(m.Name) {
			continue
		}
		c := compiled{Rule: r}
		switch r.Kind {
		case catalog.KindHop:
			c.a, c.b = in(r.From), in(r.To)
		case catalog.KindLeaveTrain:
			c.a = flags(func(rel *catalog.Release) bool { return r.Train == "" || rel.Train == r.Train })
		case catalog.KindCrossing:
			c.a, c.b = in(r.LeaveFrom), in(r.LandOn)
			for c.crossing < n && f.Releases[c.crossing].Version.Less(r.Crossing) {
				c.crossing++
			}
		}
		g.rules = append(g.rules, c)
	}
	g.classify()
	return g
}

// classify finds which releases no rule tells apart as the end of a hop.
func (g *graph) classify() {
	left := map[string]bool{} // trains that a rule speaks about
	for i := range g.rules {
		if c := &g.rules[i]; c.Kind == catalog.KindLeaveTrain {
			for k, in := range c.a {
				left[g.f.Releases[k].Train] = left[g.f.Releases[k].Train] || in
			}
		}
	}
	ids := map[string]int{}
	for b := range g.f.Releases {
		rel := &g.f.Releases[b]
		key := fmt.Appendf(nil, "%v %v %v ", g.hopTime[b], rel.Stage == catalog.Preferred, g.mayRun[b])
		if left[rel.Train] {
			key = append(key, rel.Train...)
		}
		down := false
		for i := range g.rules {
			c := &g.rules[i]
			bit := byte('0')
			if c.Kind == catalog.KindHop && c.b[b] {
				bit = '1'
				down = down || c.Down
			}
			if c.Kind == catalog.KindCrossing && c.crossing <= b {
				bit = map[bool]byte{true: '1', false: '2'}[c.b[b]]
			}
			key = append(key, ' ', bit)
		}
		id, ok := ids[string(key)]
		if !ok {
			id = len(ids)
			ids[string(key)] = id
			g.goesDown = append(g.goesDown, false)
		}
		g.class = append(g.class, id)
		g.goesDown[id] = g.goesDown[id] || down
	}
}

func (g *graph) version(i int) version.Version { return g.f.Releases[i].Version }
func (g *graph) allowed(i int) bool            { return g.mayRun[i] }

// whyNot says why a release cannot be a stop on this model; nil when it can.
func (g *graph) whyNot(i int) *Citation {
	r := &g.f.Releases[i]
	switch {
	case !g.m.Last.Contains(r.Version):
		text := fmt.Sprintf("%s may run %s only, not %s", g.m.Name, g.m.Last, r.Version)
		if g.m.LastText != "" {
			text += ": " + g.m.LastText
		}
		return &Citation{Text: text, At: g.m.At}
	case r.Stage == catalog.Withdrawn:
		return &Citation{Text: fmt.Sprintf("%s was withdrawn by the maker", r.Version), At: r.At}
	case r.Stage == catalog.Preview && !g.policy.Previews:
		return &Citation{Text: fmt.Sprintf("%s is a preview release, which the policy leaves out", r.Version), At: r.At}
	case r.Image(g.m.Name) == nil:
		return &Citation{Text: fmt.Sprintf("%s has no image for %s", r.Version, g.m.Name), At: r.At}
	}
	return nil
}

func (g *graph) newestAllowed() int {
	for i := len(g.mayRun) - 1; i >= 0; i-- {
		if g.mayRun[i] {
			return i
		}
	}
	return -1
}

// hopCost is the cost of one hop, and whether it is supported.
func (g *graph) hopCost(a, b int) (cost, bool) {
	r := g.permit(a, b)
	if r == nil {
		return cost{}, false
	}
	for i := range g.rules {
		if g.rules[i].refuses(g, a, b) {
			return cost{}, false
		}
	}
	c := cost{restarts: 1, seconds: g.hopTime[b]}
	if r.Config == catalog.ConfigReset {
		c.resets = 1
	}
	if g.f.Releases[b].Stage != catalog.Preferred {
		c.merely = 1
	}
	return c, true
}

// permit returns the first hop rule that covers the pair, the gentlest on the configuration, or nil.
func (g *graph) permit(a, b int) *catalog.Rule {
	var best *catalog.Rule
	for i := range g.rules {
		r := &g.rules[i]
		if r.Kind != catalog.KindHop || r.Down != (b < a) || !r.a[a] || !r.b[b] {
			continue
		}
		if r.Config == catalog.ConfigReset && !g.policy.Reset {
			continue
		}
		if best == nil || harm(r.Config) < harm(best.Config) {
			best = r.Rule
		}
	}
	return best
}

func harm(config string) int {
	return map[string]int{catalog.ConfigKept: 0, catalog.ConfigConverted: 1, catalog.ConfigReset: 2}[config]
}

// refuses reports whether a restricting rule forbids the pair.
func (c *compiled) refuses(g *graph, a, b int) bool {
	switch c.Kind {
	case catalog.KindLeaveTrain:
		if a >= b || !c.a[a] || g.f.Releases[a].Train == g.f.Releases[b].Train {
			return false
		}
		best, ok := g.preferred[g.f.Releases[a].Train]
		return ok && a != best && g.mayRun[best]
	case catalog.KindCrossing:
		return a < c.crossing && c.crossing <= b && (!c.a[a] || !c.b[b])
	}
	return false
}

// refusals says why a pair is not supported: every restricting rule that forbids it, and, when no hop rule covers it,
// that nothing permits it. It is empty when the pair is supported. Ways to one aim share most of their stops, so what
// was said about a pair is kept; callers must not change it.
func (g *graph) refusals(a, b int) []Citation {
	said, ok := g.said[[2]int{a, b}]
	if !ok {
		said = g.refuse(a, b)
		g.said[[2]int{a, b}] = said
	}
	return said
}

func (g *graph) refuse(a, b int) (out []Citation) {
	from, to := g.version(a), g.version(b)
	for i := range g.rules {
		c := &g.rules[i]
		if !c.refuses(g, a, b) {
			continue
		}
		var text string
		switch c.Kind {
		case catalog.KindLeaveTrain:
			train := g.f.Releases[a].Train
			text = fmt.Sprintf("train %s is left only from its newest preferred release %s, not from %s", train, g.version(g.preferred[train]), from)
		case catalog.KindCrossing:
			var parts []string
			if !c.a[a] {
				parts = append(parts, fmt.Sprintf("must start from %s, not %s", c.LeaveFrom, from))
			}
			if !c.b[b] {
				parts = append(parts, fmt.Sprintf("must land on %s, not %s", c.LandOn, to))
			}
			text = fmt.Sprintf("a hop that crosses %s %s", c.Crossing, strings.Join(parts, " and "))
		}
		out = append(out, Citation{c.ID, text + ": " + c.Text, c.At})
	}
	if g.permit(a, b) == nil {
		text := fmt.Sprintf("no hop rule permits %s to %s", from, to)
		loose := *g
		loose.policy.Reset = true
		if r := loose.permit(a, b); r != nil {
			out = append(out, Citation{r.ID, text + " without a configuration reset, which the policy does not allow", r.At})
		} else {
			out = append(out, Citation{Text: text, At: catalog.Position{File: g.f.File, Line: 1, Column: 1}})
		}
	}
	return out
}

// perHop are the step kinds every hop goes through besides sending the image.
var perHop = []string{"check", "backup", "checksum", "install", "save", "choose-slot", "restart", "link", "login", "version", "services"}

// seconds is the expected range of one hop onto a release, at the device's own pace.
func (g *graph) seconds(b int) (low, high float64) {
	for _, name := range perHop {
		s := g.f.Durations[name]
		low, high = low+s.Low, high+s.High
	}
	if im := g.f.Releases[b].Image(g.m.Name); im != nil && g.f.SendRate.Low > 0 {
		low += float64(im.Size) / g.f.SendRate.High
		high += float64(im.Size) / g.f.SendRate.Low
	}
	return low, high
}
