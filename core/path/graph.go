package path

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/portrait"
	"verimorph/core/version"
)

// graph answers which hops are possible for devices of one model that share the facts the catalogue asks about, under
// one policy. Releases are their indexes in the family.
type graph struct {
	*catalog.Hops
	f                                            *catalog.Family
	m                                            *catalog.Model
	p                                            *portrait.Portrait
	policy                                       Policy
	start                                        int                 // the release the portrait runs; its components are known from the portrait
	blocks                                       []*catalog.Citation // why a release is no stop; nil: it is one
	still                                        []int64             // milliseconds of a hop onto a release without its restarts
	restart                                      int64               // milliseconds of one restart
	fixedLow, fixedHigh, restartLow, restartHigh float64             // the same in seconds, without the image

	needs    []need // requirements that a person cannot put right, as they stand
	parts    []part // components
	class    []int  // releases of one class are alike to every rule as the end of a hop, and cost the same
	goesDown []bool // by class: some rule permits going down onto its releases
	kind     []int  // releases of one kind are alike as a stop, and neighbours; worked out when asked for
	said     map[[2]int][]catalog.Citation
}

type need struct {
	*catalog.Requirement
	install, leaving []bool
}

// part is a component with its row for each release.
type part struct {
	*catalog.Component
	rows []*catalog.ComponentRow
	have version.Version // on the device now; zero: not known
}

func newGraph(f *catalog.Family, m *catalog.Model, p *portrait.Portrait, start int, policy Policy) *graph {
	n := len(f.Releases)
	g := &graph{Hops: catalog.NewHops(f, m), f: f, m: m, p: p, policy: policy, start: start,
		blocks: make([]*catalog.Citation, n), still: make([]int64, n), said: map[[2]int][]catalog.Citation{}}
	g.fixedLow, g.fixedHigh = total(f, beforeRestart...)
	g.restartLow, g.restartHigh = total(f, afterRestart...)
	fixed := millis(g.fixedLow, g.fixedHigh)
	g.restart = millis(g.restartLow, g.restartHigh)
	for i := range f.Components {
		if c := g.part(&f.Components[i]); c != nil {
			g.parts = append(g.parts, *c)
		}
	}
	for b := range f.Releases {
		g.blocks[b] = g.whyNot(b)
		g.still[b] = fixed
		if im := f.Releases[b].Image(m.Name); im != nil && f.SendRate.Low > 0 {
			size := float64(im.Size)
			g.still[b] += millis(size/f.SendRate.High, size/f.SendRate.Low)
		}
	}
	for i := range f.Requirements {
		r := &f.Requirements[i]
		if !r.For(m.Name) || r.Remedy != "" {
			continue
		}
		if r.Kind != catalog.NeedContent {
			if met, _ := r.Met(p); met != catalog.No {
				continue
			}
		}
		in := need{Requirement: r, install: make([]bool, n), leaving: make([]bool, n)}
		for k := range f.Releases {
			in.install[k], in.leaving[k] = r.Install.Contains(f.Releases[k].Version), r.Leaving.Contains(f.Releases[k].Version)
		}
		g.needs = append(g.needs, in)
	}
	g.classify()
	return g
}

// part prepares a component; nil when it has nothing to do with the model.
func (g *graph) part(c *catalog.Component) *part {
	out, any := part{Component: c, rows: make([]*catalog.ComponentRow, len(g.f.Releases))}, false
	for b := range g.f.Releases {
		out.rows[b] = c.Row(g.version(b), g.m, g.p.Generation)
		any = any || out.rows[b] != nil
	}
	if v, err := version.Parse(g.p.Components[c.Name]); err == nil {
		out.have = v
	}
	if !any {
		return nil
	}
	return &out
}

// at is the component's version on a stop, as far as it is known: at the start the portrait's, elsewhere what the table
// brought. A row that asks for a least version leaves a later one alone.
func (c *part) at(g *graph, a int) version.Version {
	if a == g.start && !c.have.IsZero() {
		return c.have
	}
	return c.wanted(c.rows[a])
}

// wanted is the version on the device once a row is satisfied.
func (c *part) wanted(r *catalog.ComponentRow) version.Version {
	switch {
	case r == nil:
		return version.Version{}
	case !r.Version.IsZero():
		return r.Version
	case r.AtLeast.Less(c.have):
		return c.have
	}
	return r.AtLeast
}

// updated reports whether a hop brings the component along.
func (c *part) updated(g *graph, a, b int) bool {
	row := c.rows[b]
	if row == nil {
		return false
	}
	has := c.at(g, a)
	if !row.Version.IsZero() {
		return has.Compare(row.Version) != 0
	}
	return has.Less(row.AtLeast)
}

// classify finds which releases nothing tells apart as the end of a hop.
func (g *graph) classify() {
	ids := map[string]int{}
	for b := range g.f.Releases {
		key, down := g.end(b)
		key = fmt.Appendf(key, " %v %v %v", g.still[b], g.f.Releases[b].Stage == catalog.Preferred, g.blocks[b] == nil)
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

// end describes a release as the end of a hop, by rules, requirements and component tables.
func (g *graph) end(b int) (key []byte, down bool) {
	key, down = g.End(b)
	for i := range g.needs {
		key = append(key, map[bool]byte{true: '1', false: '0'}[g.needs[i].install[b]])
	}
	for i := range g.parts {
		key = fmt.Appendf(key, " %p", g.parts[i].rows[b])
	}
	return key, down
}

// kinds gives each release the number of its kind: releases of one kind belong to one train, stand next to each other
// in the order of versions, and no rule, requirement or component table tells them apart at either end of a hop. How big
// an image is, or whether a release is preferred, makes no other kind. What cannot be a stop is a kind of its own and
// does not come between others.
func (g *graph) kinds() []int {
	if g.kind != nil {
		return g.kind
	}
	g.kind = make([]int, len(g.f.Releases))
	last, id, current := "", -1, -1
	for b := range g.f.Releases {
		if !g.allowed(b) && b != g.start {
			id++
			g.kind[b] = id
			continue
		}
		end, _ := g.end(b)
		key := fmt.Appendf(append(g.Start(b), end...), " %s %v", g.f.Releases[b].Train, b == g.start)
		for i := range g.needs {
			key = append(key, map[bool]byte{true: '1', false: '0'}[g.needs[i].leaving[b]])
		}
		if string(key) != last {
			id++
			current = id
		}
		g.kind[b], last = current, string(key)
	}
	return g.kind
}

func (g *graph) version(i int) version.Version { return g.f.Releases[i].Version }
func (g *graph) allowed(i int) bool            { return g.blocks[i] == nil }

// whyNot says why a release cannot be a stop of this device under this policy; nil when it can.
func (g *graph) whyNot(i int) *catalog.Citation {
	if why := g.WhyNot(i); why != nil {
		return why
	}
	r := &g.f.Releases[i]
	if r.Stage == catalog.Preview && !g.policy.Previews {
		return &catalog.Citation{Text: fmt.Sprintf("%s is a preview release, which the policy leaves out", r.Version), At: r.At}
	}
	for _, name := range g.policy.Services {
		if k := slices.IndexFunc(g.f.Services, func(s catalog.Service) bool { return s.Name == name }); k >= 0 {
			if s := &g.f.Services[k]; g.runs(s, i) == catalog.No {
				return &catalog.Citation{Rule: s.Name, Text: fmt.Sprintf("service %s, which must keep working, cannot run on %s: %s", s.Name, r.Version, s.Text), At: s.At}
			}
		}
	}
	if !g.policy.DropChildren {
		for _, c := range g.p.Children {
			if why := g.drops(c.Model, i); why != nil {
				return why
			}
		}
	}
	if _, room, known := g.p.ImageRoom(); known && room.Total > 0 {
		if size := g.imageBytes(i); size > room.Total {
			return &catalog.Citation{Text: fmt.Sprintf("the images of %s take %s, but the storage for them has %s in all", r.Version, catalog.Size(size), catalog.Size(room.Total)), At: r.At}
		}
	}
	return nil
}

// drops says why a release does not serve a child model; nil when it does or when nothing is known about the model.
func (g *graph) drops(model string, i int) *catalog.Citation {
	child := g.f.Model(model)
	if child == nil {
		return nil
	}
	why := child.Outgrown(&g.f.Releases[i])
	if why == nil {
		return nil
	}
	return &catalog.Citation{Text: fmt.Sprintf("%s no longer serves %s, which the device has as a child: %s", g.version(i), model, why.Text), At: why.At}
}

// runs answers whether the service can run on a release of this device.
func (g *graph) runs(s *catalog.Service, i int) catalog.Truth {
	switch {
	case !s.Runs.Contains(g.version(i)), len(s.Models) > 0 && !slices.Contains(s.Models, g.m.Name):
		return catalog.No
	case len(s.Generations) > 0 && g.p.Generation == "":
		return catalog.Unknown
	case len(s.Generations) > 0 && !slices.Contains(s.Generations, g.p.Generation):
		return catalog.No
	}
	return catalog.Yes
}

// imageBytes is the room that the images of a release take on the device: its own, its base's and those of components.
func (g *graph) imageBytes(b int) (size int64) {
	for _, im := range append(g.others(b, nil), OtherImage{Image: *g.f.Releases[b].Image(g.m.Name)}) {
		size += im.Size
	}
	return size
}

// others lists the files a stop needs beside the image to install; updated says which components are brought along, nil
// means all.
func (g *graph) others(b int, updated func(*part) bool) (out []OtherImage) {
	if base := g.f.Releases[b].Base; !base.IsZero() {
		if rel := g.f.Release(base); rel != nil && rel.Image(g.m.Name) != nil {
			out = append(out, OtherImage{*rel.Image(g.m.Name), "base", base.String()})
		}
	}
	for i := range g.parts {
		c := &g.parts[i]
		if row := c.rows[b]; row != nil && row.Image != nil && (updated == nil || updated(c)) {
			out = append(out, OtherImage{*row.Image, c.Name, c.wanted(row).String()})
		}
	}
	return out
}

// unmet returns the first requirement that keeps the device from a hop and cannot be put right.
func (g *graph) unmet(a, b int) *catalog.Requirement {
	for i := range g.needs {
		r := &g.needs[i]
		if !r.install[b] || !r.leaving[a] {
			continue
		}
		if r.Kind != catalog.NeedContent || g.content(r.Requirement, a, b) == catalog.No {
			return r.Requirement
		}
	}
	return nil
}

// content answers a requirement about a component when the device stands on a stop: what the hop itself brings before
// the main image counts.
func (g *graph) content(r *catalog.Requirement, a, b int) catalog.Truth {
	for i := range g.parts {
		c := &g.parts[i]
		if c.Name != r.Component {
			continue
		}
		has := c.at(g, a)
		if c.Order == "before" && c.rows[b] != nil {
			has = c.wanted(c.rows[b])
		}
		switch {
		case has.IsZero():
			return catalog.Unknown
		case has.Less(r.AtLeast):
			return catalog.No
		}
		return catalog.Yes
	}
	met, _ := r.Met(g.p)
	return met
}

// hopCost is the cost of one hop, and whether it is possible.
func (g *graph) hopCost(a, b int) (cost, bool) {
	r := g.Permit(a, b, g.policy.Reset)
	if r == nil || g.Refused(a, b) || len(g.needs) > 0 && g.unmet(a, b) != nil {
		return cost{}, false
	}
	c := cost{restarts: r.Restarts, millis: g.still[b] + int64(r.Restarts)*g.restart}
	for i := range g.parts {
		if p := &g.parts[i]; p.updated(g, a, b) {
			c.millis += millis(p.Duration.Low, p.Duration.High)
			if p.Interrupts() {
				c.restarts++
			}
		}
	}
	if r.Config == catalog.ConfigReset {
		c.resets = 1
	}
	if g.f.Releases[b].Stage != catalog.Preferred {
		c.merely = 1
	}
	return c, true
}

// refusals says why a pair is not possible; it is empty when it is. Ways to one aim share most of their stops, so what
// was said about a pair is kept; callers must not change it.
func (g *graph) refusals(a, b int) []catalog.Citation {
	said, ok := g.said[[2]int{a, b}]
	if !ok {
		said = g.Refusals(a, b, g.policy.Reset)
		if r := g.unmet(a, b); r != nil {
			said = append(said, catalog.Citation{Rule: r.ID, Text: fmt.Sprintf("%s needs a device that it is not: %s", g.version(b), r.Text), At: r.At})
		}
		g.said[[2]int{a, b}] = said
	}
	return said
}

// Steps every hop goes through, before its restart and from it on.
var (
	beforeRestart = []string{"check", "backup", "checksum", "install", "save", "choose-slot"}
	afterRestart  = []string{"restart", "link", "login", "version", "services"}
)

// millis is the middle of a range of seconds in milliseconds.
func millis(low, high float64) int64 { return int64(math.Round((low + high) * 500)) }

func total(f *catalog.Family, names ...string) (low, high float64) {
	for _, name := range names {
		s := f.Durations[name]
		low, high = low+s.Low, high+s.High
	}
	return low, high
}

// factsKey names the facts of a portrait that the family's rules ask about: devices with the same key share a graph.
func factsKey(f *catalog.Family, m *catalog.Model, p *portrait.Portrait, start int) string {
	var s strings.Builder
	for i := range f.Requirements {
		if r := &f.Requirements[i]; r.Remedy == "" {
			met, _ := r.Met(p)
			fmt.Fprint(&s, met)
		}
	}
	stated := false
	for i := range f.Components {
		if v, ok := p.Components[f.Components[i].Name]; ok {
			stated = true
			fmt.Fprintf(&s, " %s=%s", f.Components[i].Name, v)
		}
	}
	if stated { // the portrait speaks about the release it runs
		fmt.Fprint(&s, " at ", start)
	}
	if len(m.Generations) > 0 {
		fmt.Fprint(&s, " g", p.Generation)
	}
	for _, c := range p.Children {
		fmt.Fprint(&s, " c", c.Model)
	}
	if _, room, known := p.ImageRoom(); known {
		fmt.Fprint(&s, " t", room.Total)
	}
	return s.String()
}
