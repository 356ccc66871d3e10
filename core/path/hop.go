package path

import (
	"fmt"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/portrait"
)

// hops tells about the hops along some stops, and what is known about the device afterwards.
func (s *search) hops(g *graph, facts *portrait.Portrait, stops []int) (out []Hop, after *portrait.Portrait) {
	out = make([]Hop, 0, len(stops)-1)
	for k := 1; k < len(stops); k++ {
		past := -1
		if k+1 < len(stops) {
			past = stops[k+1]
		}
		h := s.hop(g, facts, stops[k-1], stops[k], past)
		out = append(out, h)
		facts = afterHop(facts, h.Config)
	}
	return out, facts
}

// afterHop is what is known about a device once it has taken a hop: of a configuration that was converted or reset nobody
// knows yet which conditions it fulfils.
func afterHop(p *portrait.Portrait, config string) *portrait.Portrait {
	if config == catalog.ConfigKept || p.Uses == nil {
		return p
	}
	out := *p
	out.Uses = nil
	return &out
}

// hop tells everything about one hop; past is the stop after it, -1 when it ends at the aim.
func (s *search) hop(g *graph, p *portrait.Portrait, a, b, past int) Hop {
	rule := g.Permit(a, b, g.policy.Reset)
	h := s.describe(g, p, a, b, rule)
	if past >= 0 {
		h.Because = g.refusals(a, past)
	}
	return h
}

// changeHop tells about going on as another model; facts are what is known of the device then.
func (s *search) changeHop(g *graph, facts *portrait.Portrait, a int, c change) Hop {
	h := s.describe(c.then.g, facts, noWay, c.to, c.rule)
	h.From, h.NewModel = g.version(a), c.rule.ToModel
	h.Platform = &Platform{InPlace: c.rule.InPlace, Ports: c.rule.Ports, Changes: c.rule.Changes}
	return h
}

// describe tells about a hop onto b; a is -1 when it comes from another platform.
func (s *search) describe(g *graph, p *portrait.Portrait, a, b int, rule *catalog.Rule) Hop {
	f, rel := g.f, &g.f.Releases[b]
	h := Hop{To: rel.Version, Stage: rel.Stage, Config: rule.Config, Restarts: rule.Restarts,
		Permit: catalog.Citation{Rule: rule.ID, Text: rule.Text, At: rule.At}, Image: *rel.Image(g.m.Name)}
	if a >= 0 {
		h.From = g.version(a)
		h.Components = g.brought(a, b)
	}
	if len(g.parts) > 0 || !rel.Base.IsZero() {
		h.Others = g.others(b, func(c *part) bool { return a >= 0 && c.updated(g, a, b) })
	}
	h.Low, h.High = g.fixedLow+float64(rule.Restarts)*g.restartLow, g.fixedHigh+float64(rule.Restarts)*g.restartHigh
	if f.SendRate.Low > 0 {
		h.Low += float64(h.Image.Size) / f.SendRate.High
		h.High += float64(h.Image.Size) / f.SendRate.Low
	}
	for _, c := range h.Components {
		h.Low, h.High = h.Low+c.Low, h.High+c.High
		if c.Interrupts {
			h.Restarts++
		}
	}
	if rule.HandStep != "" {
		h.HandSteps = append(h.HandSteps, HandStep{Due: rule.Due, Text: rule.HandStep, Matters: catalog.Yes})
	}
	h.notes(rel, p)
	h.prerequisites(g, p, a, b)
	h.effects(f, p, rule.Restarts)
	for i := range f.Services {
		if sv := &f.Services[i]; g.runs(sv, b) == catalog.No && (a < 0 || g.runs(sv, a) != catalog.No) {
			used, known := p.Uses[sv.Condition]
			switch {
			case sv.Condition != "" && known && !used:
			case sv.Condition != "" && known:
				h.Lost = append(h.Lost, fmt.Sprintf("%s, which this device uses: %s", sv.Name, sv.Text))
			default:
				h.Lost = append(h.Lost, fmt.Sprintf("%s, if this device uses it: %s", sv.Name, sv.Text))
			}
		}
	}
	return h
}

// brought lists the components a hop brings along, those before the main image first, each group in the order of the
// catalogue.
func (g *graph) brought(a, b int) (out []Component) {
	for _, order := range []string{"before", "after"} {
		for i := range g.parts {
			c := &g.parts[i]
			if c.Order != order || !c.updated(g, a, b) {
				continue
			}
			row := c.rows[b]
			out = append(out, Component{Name: c.Name, Title: c.Title, From: c.at(g, a).String(), To: c.wanted(row).String(), Order: c.Order, Trigger: c.Trigger,
				Restarts: c.Restarts, Interrupts: c.Interrupts(), Low: c.Duration.Low, High: c.Duration.High, At: row.At})
		}
	}
	return out
}

// notes sorts out which of a release's notes matter to this device.
func (h *Hop) notes(rel *catalog.Release, p *portrait.Portrait) {
	for i := range rel.Notes {
		n := &rel.Notes[i]
		matters := n.When.Holds(p)
		if matters == catalog.No {
			continue
		}
		h.Notes = append(h.Notes, Note{Kind: n.Kind, Text: n.Text, Matters: matters, When: n.When.String()})
		if n.HandStep != "" {
			h.HandSteps = append(h.HandSteps, HandStep{Due: n.Due, Text: n.HandStep, Matters: matters, When: n.When.String()})
		}
	}
}

func (h *Hop) prerequisites(g *graph, p *portrait.Portrait, a, b int) {
	var size int64 = h.Image.Size
	for _, im := range h.Others {
		size += im.Size
	}
	room := Prerequisite{Kind: catalog.NeedStorage, Text: catalog.Size(size) + " free for the images", State: catalog.Unknown, Evidence: "the free room is not known", Remedy: "remove files that are no longer needed"}
	if name, r, known := p.ImageRoom(); known {
		room.State, room.Evidence = catalog.Yes, fmt.Sprintf("%s are free on %s", catalog.Size(r.Free), name)
		if r.Free < size {
			room.State = catalog.No
		}
	}
	h.Prerequisites = append(h.Prerequisites, room)
	for i := range g.f.Requirements {
		r := &g.f.Requirements[i]
		if !r.For(g.m.Name) || !r.Install.Contains(g.version(b)) || a >= 0 && !r.Leaving.Contains(g.version(a)) {
			continue
		}
		state, has := r.Met(p)
		if r.Kind == catalog.NeedContent && a >= 0 {
			if after := g.content(r, a, b); after != state {
				state, has = after, "this way brings it along"
			}
		}
		h.Prerequisites = append(h.Prerequisites, Prerequisite{ID: r.ID, Kind: r.Kind, Text: r.Text, State: state, Evidence: has, Remedy: r.Remedy})
	}
}

func (h *Hop) effects(f *catalog.Family, p *portrait.Portrait, restarts int) {
	for i := range f.Effects {
		e := f.Effects[i]
		if restarts == 0 && slices.Contains(afterRestart, e.Step) || e.When.Holds(p) == catalog.No {
			continue
		}
		h.Effects = append(h.Effects, e)
	}
}
