package catalog

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"verimorph/core/version"
	"verimorph/core/yamldoc"
)

// Check looks for what contradicts itself inside one family: things named twice, unknown names, ranges without a
// release, rules that contradict each other or lead nowhere, releases nobody can reach, images without a hash, dates
// that disagree. The releases must be in ascending order.
func Check(f *Family) Findings { return check(f, nil, nil) }

// check is Check of a file. Of entries in which something is wrong already, by the list they stand in, nothing more is told, and nothing that
// may follow from them.
func check(f *Family, places *yamldoc.Places, wrong map[string]map[Position]bool) Findings {
	c := &checker{f: f, places: places, wrong: wrong, models: map[string]bool{}, trains: map[string]bool{}, conditions: map[string]bool{}, ids: map[string]bool{}}
	for _, m := range f.Models {
		c.models[m.Name] = true
	}
	for i := range f.Releases {
		c.trains[f.Releases[i].Train] = true
	}
	for _, q := range f.Conditions {
		c.conditions[q.Name] = true
	}
	c.checkModels()
	c.checkReleases()
	c.checkDates()
	c.checkRules()
	c.checkNames()
	c.checkComponents()
	if len(c.found.Errors()) == 0 && len(wrong) == 0 { // otherwise the hops mean nothing
		c.checkHops()
	}
	c.found.Sort()
	return c.found
}

type checker struct {
	f                               *Family
	models, trains, conditions, ids map[string]bool
	found                           Findings
	places                          *yamldoc.Places
	wrong                           map[string]map[Position]bool
}

func (c *checker) fail(at Position, hint, format string, args ...any) {
	c.add(at, at, false, hint, format, args...)
}

func (c *checker) doubt(at Position, hint, format string, args ...any) {
	c.add(at, at, true, hint, format, args...)
}

// add notes something about an entry at the place of the mistake itself.
func (c *checker) add(entry, at Position, doubt bool, hint, format string, args ...any) {
	for _, entries := range c.wrong {
		if entries[entry] {
			return
		}
	}
	c.found = append(c.found, Finding{Position: at, Doubt: doubt, Message: fmt.Sprintf(format, args...), Hint: hint})
}

func (c *checker) failIn(entry Position, field, hint, format string, args ...any) {
	c.add(entry, c.in(entry, field, ""), false, hint, format, args...)
}

// doubtIn is for doubts that rest on the other entries: where some cannot be read, nothing is said.
func (c *checker) doubtIn(entry Position, field, hint, format string, args ...any) {
	if _, broken := c.wrong["releases"]; !broken {
		c.add(entry, c.in(entry, field, ""), true, hint, format, args...)
	}
}

// in is the place of a field of an entry, or of a value in the list that it is.
func (c *checker) in(entry Position, field, value string) Position {
	return c.places.In(entry, field, value)
}

// lists are the fields in which names of a kind stand, and the lists that describe them.
var lists = map[string][2]string{"model": {"models", "models"}, "condition": {"condition", "conditions"}, "component": {"component", "components"}, "successor": {"successor", "models"}}

func (c *checker) known(at Position, what, kind string, names []string, among map[string]bool) {
	if _, broken := c.wrong[lists[kind][1]]; broken { // it may be one of those that cannot be read
		return
	}
	for _, name := range names {
		if !among[name] {
			hint := "the file describes none"
			if len(among) > 0 {
				hint = "known: " + strings.Join(slices.Sorted(maps.Keys(among)), ", ")
			}
			field := lists[kind][0]
			for _, other := range []string{"uses", "lacks"} {
				if place := c.in(at, other, name); kind == "condition" && place != at {
					field = other
				}
			}
			c.add(at, c.in(at, field, name), false, hint, "%s names %s %q, which the file does not describe", what, kind, name)
		}
	}
}

// id checks that what reasons cite is named once.
func (c *checker) id(at Position, id string) {
	if c.ids[id] {
		c.fail(at, "reasons cite rules by it", "id %q stands here twice", id)
	}
	c.ids[id] = true
}

// matched doubts a range in which no release lies.
func (c *checker) matched(at Position, what, field string, r version.Range) {
	if _, broken := c.wrong["releases"]; broken {
		return
	}
	if !r.IsZero() && !slices.ContainsFunc(c.f.Releases, func(rel Release) bool { return r.Contains(rel.Version) }) {
		hint := "check the range"
		var all []version.Version
		for _, rel := range c.f.Releases {
			all = append(all, rel.Version)
		}
		if near := r.Near(all); near != "" {
			hint = "write " + near
		}
		c.add(at, c.in(at, field, ""), true, hint, "%s: no release lies in %s: %s", what, field, r)
	}
}

func (c *checker) checkModels() {
	seen := map[string]bool{}
	for _, m := range c.f.Models {
		if seen[m.Name] {
			c.failIn(m.At, "name", "keep one of them", "model %q stands here twice", m.Name)
		}
		seen[m.Name] = true
		if !slices.ContainsFunc(c.f.Releases, func(r Release) bool { return m.Last.Contains(r.Version) }) {
			c.doubtIn(m.At, "runs", "check runs:", "model %q may run none of the releases", m.Name)
		}
	}
	if len(c.f.Models) == 0 {
		c.fail(Position{File: c.f.File, Line: 1, Column: 1}, "add models:", "the family has no model")
	}
}

func (c *checker) checkReleases() {
	f := c.f
	files := map[string]*Image{}
	for i := range f.Releases {
		r := &f.Releases[i]
		if i > 0 && f.Releases[i-1].Version.Compare(r.Version) == 0 {
			c.failIn(r.At, "version", "keep one of them", "release %s stands here twice", r.Version)
		} else if i > 0 && f.Releases[i-1].Version.Order(r.Version) == 0 {
			c.failIn(r.At, "version", "keep one of them", "release %s stands here twice, written differently: %s and %s are one version", r.Version, f.Releases[i-1].Version, r.Version)
		}
		has := map[string]bool{}
		for k := range r.Images {
			im := &r.Images[k]
			c.known(im.At, "an image of release "+r.Version.String(), "model", im.Models, c.models)
			c.checkImage(im, files)
			for _, m := range im.Models {
				if has[m] {
					c.fail(im.At, "keep one of them", "release %s has two images for model %s", r.Version, m)
				}
				has[m] = true
			}
		}
		if len(r.Images) == 0 && r.Stage != Withdrawn {
			c.doubt(r.At, "it can be passed through only with an image", "release %s has no image", r.Version)
		}
		if !r.Base.IsZero() {
			base := f.Release(r.Base)
			switch {
			case base == nil && c.wrong["releases"] != nil:
			case base == nil:
				c.failIn(r.At, "base", "", "release %s needs the base image of %s, which the file does not describe", r.Version, r.Base)
			case base == r:
				c.failIn(r.At, "base", "leave base: out", "release %s names itself as its base", r.Version)
			default:
				for m := range has {
					if base.Image(m) == nil {
						c.doubtIn(r.At, "base", "add the image to the base release", "release %s needs the base image of %s, which has none for model %s", r.Version, r.Base, m)
					}
				}
			}
		}
		for k := range r.Notes {
			c.checkWhen(r.Notes[k].At, "a note of release "+r.Version.String(), &r.Notes[k].When)
		}
	}
}

// checkImage finds images without a hash, and one file name for two contents.
func (c *checker) checkImage(im *Image, files map[string]*Image) {
	if im.SHA256 == "" {
		c.doubt(im.At, "add sha256:; without it the file is never taken", "image %s has no hash", im.File)
	}
	if other := files[im.File]; other != nil && other.SHA256 != im.SHA256 {
		c.fail(im.At, "give every image a name of its own", "image file %q has two different hashes", im.File)
	}
	files[im.File] = im
}

func (c *checker) checkWhen(at Position, what string, w *When) {
	c.known(at, what, "model", w.Models, c.models)
	c.known(at, what, "condition", slices.Concat(w.Uses, w.Lacks), c.conditions)
	generations := map[string]bool{}
	for _, m := range c.f.Models {
		for _, g := range m.Generations {
			generations[g] = true
		}
	}
	c.known(at, what, "generation", w.Generations, generations)
}

// checkDates finds dates that disagree: inside a train a later version that is older, and releases that a model may run
// although they came out after its support ended.
func (c *checker) checkDates() {
	newest := map[string]*Release{}
	for i := range c.f.Releases {
		r := &c.f.Releases[i]
		if r.Date.IsZero() {
			continue
		}
		if before := newest[r.Train]; before != nil && r.Date.Before(before.Date) {
			c.doubtIn(r.At, "date", "check both dates", "release %s is dated %s, but %s before it is dated %s", r.Version, r.Date.Format("2006-01-02"), before.Version, before.Date.Format("2006-01-02"))
		}
		newest[r.Train] = r
	}
	for i := range c.f.Models {
		m := &c.f.Models[i]
		if m.EndOfSupport.IsZero() || m.Last.IsZero() {
			continue
		}
		for k := range c.f.Releases {
			if r := &c.f.Releases[k]; m.Last.Contains(r.Version) && r.Image(m.Name) != nil && r.Date.After(m.EndOfSupport) {
				c.doubtIn(m.At, "end-of-support", "correct runs: or end-of-support:", "model %s may run %s, dated %s, after its end of support on %s", m.Name, r.Version, r.Date.Format("2006-01-02"), m.EndOfSupport.Format("2006-01-02"))
				break
			}
		}
	}
}

func (c *checker) checkRules() {
	f := c.f
	for i := range f.Rules {
		r := &f.Rules[i]
		what := "rule " + r.ID
		c.id(r.At, r.ID)
		c.known(r.At, what, "model", r.Models, c.models)
		switch r.Kind {
		case KindHop, KindPlatformChange:
			c.matched(r.At, what, "from", r.From)
			c.matched(r.At, what, "to", r.To)
			if r.Kind == KindPlatformChange {
				c.known(r.At, what, "model", []string{r.FromModel, r.ToModel}, c.models)
				if r.FromModel == r.ToModel {
					c.failIn(r.At, "to-model", "name two models", "rule %s changes nothing", r.ID)
				}
				c.platform(r, what)
			}
		case KindLeaveTrain:
			if r.Train != "" && !c.trains[r.Train] && c.wrong["releases"] != nil {
				break // it may be one of those that cannot be read
			}
			if r.Train != "" && !c.trains[r.Train] {
				c.failIn(r.At, "train", "known: "+strings.Join(slices.Sorted(maps.Keys(c.trains)), ", "), "rule %s: no release belongs to train %q", r.ID, r.Train)
			} else if r.Train != "" && f.NewestPreferred(r.Train) == nil {
				c.doubtIn(r.At, "train", "the rule does nothing there", "rule %s: train %q has no preferred release", r.ID, r.Train)
			}
		case KindCrossing:
			if !r.LandOn.IsZero() && !slices.ContainsFunc(f.Releases, func(rel Release) bool {
				return r.LandOn.Contains(rel.Version) && !rel.Version.Less(r.Crossing)
			}) {
				c.doubtIn(r.At, "land-on", "nothing can cross there", "rule %s: no release from %s on lies in land-on: %s", r.ID, r.Crossing, r.LandOn)
			}
			if !r.LeaveFrom.IsZero() && !slices.ContainsFunc(f.Releases, func(rel Release) bool {
				return r.LeaveFrom.Contains(rel.Version) && rel.Version.Less(r.Crossing)
			}) {
				c.doubtIn(r.At, "leave-from", "nothing can cross there", "rule %s: no release before %s lies in leave-from: %s", r.ID, r.Crossing, r.LeaveFrom)
			}
		}
	}
}

// platform looks at what a change of platform says of ports and values: each of them once.
func (c *checker) platform(r *Rule, what string) {
	to, values := map[string]string{}, map[string]bool{}
	for _, p := range r.Ports {
		if other := to[p.To]; other != "" {
			c.failIn(r.At, "ports", "each port has a name of its own", "%s: the ports %s and %s both become %s", what, other, p.From, p.To)
		}
		to[p.To] = p.From
	}
	for _, v := range r.Changes {
		if values[v.Value] {
			c.failIn(r.At, "will-change", "keep one of them", "%s: the value %s stands here twice", what, v.Value)
		}
		values[v.Value] = true
	}
}

// checkNames looks through conditions, services, requirements, skew and effects.
func (c *checker) checkNames() {
	f := c.f
	seen := map[string]bool{}
	for _, q := range f.Conditions {
		if seen[q.Name] {
			c.fail(q.At, "keep one of them", "condition %q stands here twice", q.Name)
		}
		seen[q.Name] = true
	}
	components := map[string]bool{}
	for i := range f.Components {
		components[f.Components[i].Name] = true
	}
	for _, s := range f.Services {
		what := "service " + s.Name
		c.known(s.At, what, "model", s.Models, c.models)
		c.matched(s.At, what, "runs", s.Runs)
		if s.Condition != "" {
			c.known(s.At, what, "condition", []string{s.Condition}, c.conditions)
		}
	}
	for i := range f.Requirements {
		r := &f.Requirements[i]
		what := "requirement " + r.ID
		c.id(r.At, r.ID)
		c.known(r.At, what, "model", r.Models, c.models)
		c.matched(r.At, what, "install", r.Install)
		c.matched(r.At, what, "leaving", r.Leaving)
		for _, name := range []string{r.Uses, r.Lacks} {
			if name != "" {
				c.known(r.At, what, "condition", []string{name}, c.conditions)
			}
		}
		if r.Kind == NeedContent {
			c.known(r.At, what, "component", []string{r.Component}, components)
		}
	}
	for i := range f.Skew {
		s := &f.Skew[i]
		c.id(s.At, s.ID)
		c.matched(s.At, "skew "+s.ID, "one", s.One)
		c.matched(s.At, "skew "+s.ID, "other", s.Other)
	}
	for i := range f.Effects {
		c.checkWhen(f.Effects[i].At, "an effect", &f.Effects[i].When)
	}
	for _, m := range f.Models {
		if m.Successor != "" {
			c.known(m.At, "model "+m.Name, "successor", []string{m.Successor}, c.models)
		}
	}
}

// checkComponents finds rows that overlap, and releases that the table forgets.
func (c *checker) checkComponents() {
	seen := map[string]bool{}
	files := map[string]*Image{}
	for i := range c.f.Components {
		comp := &c.f.Components[i]
		if seen[comp.Name] {
			c.fail(comp.At, "keep one of them", "component %q stands here twice", comp.Name)
		}
		seen[comp.Name] = true
		for k := range comp.Rows {
			row := &comp.Rows[k]
			what := "component " + comp.Name
			c.known(row.At, what, "model", row.Models, c.models)
			c.matched(row.At, what, "releases", row.Releases)
			if row.Image != nil {
				c.known(row.Image.At, what, "model", row.Image.Models, c.models)
				c.checkImage(row.Image, files)
			}
		}
		for m := range c.f.Models {
			generations := c.f.Models[m].Generations
			if len(generations) == 0 {
				generations = []string{""}
			}
			for _, g := range generations {
				c.checkTable(comp, &c.f.Models[m], g)
			}
		}
	}
}

func (c *checker) checkTable(comp *Component, m *Model, generation string) {
	model := m.Name
	var with, without []*Release
	for i := range c.f.Releases {
		r := &c.f.Releases[i]
		if r.Image(model) == nil {
			continue
		}
		var rows []*ComponentRow
		for k := range comp.Rows {
			if comp.Rows[k].fits(r.Version, m, generation) {
				rows = append(rows, &comp.Rows[k])
			}
		}
		if len(rows) > 1 {
			c.fail(rows[1].At, "narrow one of the rows", "two rows of component %s speak about release %s of %s", comp.Name, r.Version, strings.TrimSpace(model+" "+generation))
			return
		}
		if len(rows) == 0 {
			without = append(without, r)
		} else {
			with = append(with, r)
		}
	}
	if len(with) > 0 && len(without) > 0 {
		c.doubtIn(comp.At, "rows", "add a row", "component %s has no row for release %s of %s", comp.Name, without[0].Version, strings.TrimSpace(model+" "+generation))
	}
}

// checkHops finds, model by model, what the rules make of each other: hop rules that overlap or contradict each other,
// that permit nothing after all, waypoints that lead nowhere, and releases nobody can reach.
func (c *checker) checkHops() {
	f := c.f
	permits, crossed := make([]bool, len(f.Rules)), make([]bool, len(f.Rules))
	var tangled []overlap
	unreached := map[int][]string{}
	for m := range f.Models {
		h := NewHops(f, &f.Models[m])
		for i := range h.rules {
			h.probe(&h.rules[i], f, permits, crossed)
		}
		tangled = append(tangled, h.overlaps()...)
		for _, b := range h.unreachable() {
			unreached[b] = append(unreached[b], f.Models[m].Name)
		}
	}
	for i := range f.Rules {
		r := &f.Rules[i]
		if r.Kind == KindHop && !permits[i] {
			c.doubt(r.At, "other rules refuse every hop it covers, or no release fits", "rule %s permits nothing", r.ID)
		}
		if r.Kind == KindCrossing && !crossed[i] {
			c.doubt(r.At, "no hop that it asks for is permitted by the other rules", "rule %s: the waypoint leads nowhere, nothing can cross %s", r.ID, r.Crossing)
		}
	}
	reported := map[[2]string]bool{}
	for _, o := range tangled {
		if key := [2]string{o.one.ID, o.other.ID}; !reported[key] {
			reported[key] = true
			hint, word := "narrow one of the ranges", "overlap"
			if o.one.Config != o.other.Config {
				word = fmt.Sprintf("contradict each other (configuration %s and %s)", o.one.Config, o.other.Config)
			}
			c.doubt(o.other.At, hint, "rules %s and %s %s: both speak about %s to %s", o.one.ID, o.other.ID, word, o.from, o.to)
		}
	}
	for _, b := range slices.Sorted(maps.Keys(unreached)) {
		c.doubt(f.Releases[b].At, "add a hop rule or withdraw it", "release %s cannot be reached on %s: no supported hop leads to it", f.Releases[b].Version, strings.Join(unreached[b], ", "))
	}
}

type overlap struct {
	one, other *Rule
	from, to   version.Version
}

// probe notes whether a hop rule permits anything, and whether anything gets across a crossing.
func (h *Hops) probe(c *compiled, f *Family, permits, crossed []bool) {
	i := slices.IndexFunc(f.Rules, func(r Rule) bool { return r.ID == c.ID })
	switch {
	case c.Kind == KindHop && !permits[i]:
		permits[i] = h.some(c.a, c.b, func(a, b int) bool {
			return c.Down == (b < a) && (!c.SameTrain || f.Releases[a].Train == f.Releases[b].Train) && !h.Refused(a, b)
		})
	case c.Kind == KindCrossing && !crossed[i]:
		crossed[i] = h.some(c.a, c.b, func(a, b int) bool {
			return a < c.crossing && c.crossing <= b && h.Permit(a, b, true) != nil && !h.Refused(a, b)
		})
	}
}

// some reports whether a pair of flagged releases that the model may run has a property.
func (h *Hops) some(from, to []bool, has func(a, b int) bool) bool {
	for b := len(to) - 1; b >= 0; b-- {
		if !to[b] || h.notRun[b] != nil {
			continue
		}
		for a := range from {
			if a != b && from[a] && has(a, b) {
				return true
			}
		}
	}
	return false
}

// overlaps finds pairs of hop rules that speak about the same hop.
func (h *Hops) overlaps() (out []overlap) {
	for i := range h.rules {
		for k := i + 1; k < len(h.rules); k++ {
			one, other := &h.rules[i], &h.rules[k]
			if one.Kind != KindHop || other.Kind != KindHop || one.Down != other.Down {
				continue
			}
			a, b := both(one.a, other.a), both(one.b, other.b)
			if len(a) == 0 || len(b) == 0 {
				continue
			}
			if from, to, ok := h.widest(a, b, one.Down, one.SameTrain || other.SameTrain); ok {
				out = append(out, overlap{one.Rule, other.Rule, h.version(from), h.version(to)})
			}
		}
	}
	return out
}

// widest is the widest hop of a direction from some releases to others, inside one train where that is asked; false when there is none.
func (h *Hops) widest(a, b []int, down, sameTrain bool) (from, to int, ok bool) {
	if down {
		slices.Reverse(a)
	} else {
		slices.Reverse(b)
	}
	for _, from := range a {
		for _, to := range b {
			if c := cmp.Compare(to, from); c != 0 && (c < 0) == down && (!sameTrain || h.Family.Releases[from].Train == h.Family.Releases[to].Train) {
				return from, to, true
			}
		}
	}
	return 0, 0, false
}

func both(x, y []bool) (out []int) {
	for i := range x {
		if x[i] && y[i] {
			out = append(out, i)
		}
	}
	return out
}

// unreachable lists releases that the model may run and no supported hop leads to. The oldest that it may run is left
// out: boxes come with it.
func (h *Hops) unreachable() (out []int) {
	first := true
	for b := range h.notRun {
		if h.notRun[b] != nil {
			continue
		}
		if first {
			first = false
			continue
		}
		reached := false
		for a := b - 1; a >= 0 && !reached; a-- {
			reached = h.notRun[a] == nil && h.Permit(a, b, true) != nil && !h.Refused(a, b)
		}
		for a := b + 1; a < len(h.notRun) && !reached; a++ {
			reached = h.notRun[a] == nil && h.Permit(a, b, true) != nil && !h.Refused(a, b)
		}
		if !reached && !h.isTargetOfChange(b) {
			out = append(out, b)
		}
	}
	return out
}

// isTargetOfChange reports whether a platform change brings boxes onto a release of this model.
func (h *Hops) isTargetOfChange(b int) bool {
	return slices.ContainsFunc(h.Family.Rules, func(r Rule) bool {
		return r.Kind == KindPlatformChange && r.ToModel == h.Model.Name && r.To.Contains(h.version(b))
	})
}
