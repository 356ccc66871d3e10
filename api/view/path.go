package view

import (
	"fmt"
	"strings"

	"verimorph/api/gen"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
)

// A Has says whether the image store has a SHA-256.
type Has = func(sha256 string) bool

// there answers whether an image is in a store; nil where no store was asked.
func there(has Has, sha256 string) *bool {
	if has == nil {
		return nil
	}
	return ptr(has(sha256))
}

// A Draft lists the steps that take a device over hops; nil when no change can do that.
type Draft = func(*path.Path) []change.Step

// Path shows a path. The times of hops are those of the steps of a draft, or, where there is none, the catalogue's.
func Path(p *path.Path, draft Draft, has Has) gen.Path {
	out := gen.Path{Found: true, Family: p.Family, Model: p.Model, From: p.From.String(), To: p.To.String(), Aim: p.Aim, Hops: []gen.Hop{},
		Alternatives: []gen.Alternative{}, Refused: []gen.Refused{}, BlockedBy: []gen.Blocked{}, WouldHelp: []string{}, Notes: orEmpty(p.Notes)}
	out.Hops = hops(p, draft, has)
	for _, a := range p.Alternatives {
		alt := gen.Alternative{Hops: hops(&path.Path{Family: p.Family, Model: p.Model, To: p.To, Hops: a.Hops}, draft, has), Restarts: a.Restarts, Resets: a.Resets, Why: a.Why}
		for _, h := range alt.Hops {
			alt.Minutes.Low, alt.Minutes.High = alt.Minutes.Low+h.Minutes.Low, alt.Minutes.High+h.Minutes.High
		}
		out.Alternatives = append(out.Alternatives, alt)
	}
	for _, j := range p.NotTaken {
		for _, c := range j.Refusals {
			r := gen.Refused{From: j.From.String(), To: j.To.String(), Rule: c.Rule, Why: c.Text}
			r.File, r.Line = at(c)
			out.Refused = append(out.Refused, r)
		}
	}
	return out
}

func hops(p *path.Path, draft Draft, has Has) []gen.Hop {
	out := []gen.Hop{}
	for i := range p.Hops {
		h := hop(&p.Hops[i], has)
		h.Why = why(&p.Hops[i], i == len(p.Hops)-1)
		out = append(out, h)
	}
	var steps []change.Step
	if draft != nil {
		steps = draft(p)
	}
	if len(steps) == 0 {
		return out
	}
	for i := range out {
		out[i].Low, out[i].High = 0, 0
	}
	for _, s := range steps {
		if s.Hop >= 0 && s.Hop < len(out) {
			out[s.Hop].Low += s.Expect.Low
			out[s.Hop].High += s.Expect.High
		}
	}
	for i := range out {
		out[i].Minutes = minutes(out[i].Low, out[i].High)
	}
	return out
}

// NoPath shows why there is none, in the form of a path without hops.
func NoPath(e *path.NoPathError) gen.Path {
	out := gen.Path{Family: e.Family, Model: e.Model, From: e.From.String(), To: e.To.String(), Aim: e.Aim, Hops: []gen.Hop{}, Alternatives: []gen.Alternative{},
		Refused: []gen.Refused{}, BlockedBy: []gen.Blocked{}, WouldHelp: orEmpty(e.Changes), Notes: []string{}}
	for _, c := range e.Blocks {
		b := gen.Blocked{Rule: c.Rule, Why: c.Text}
		b.File, b.Line = at(c)
		out.BlockedBy = append(out.BlockedBy, b)
	}
	if !e.Nearest.IsZero() {
		near := e.Nearest.String()
		out.Nearest = &near
		if e.Beyond {
			out.Notes = append(out.Notes, near+" lies beyond the aim: nothing before it can be reached")
		}
	}
	return out
}

// Joint shows the way of an ensemble.
func Joint(j *path.Joint, has Has) gen.Path {
	out := Path(j.Paths[0], nil, has)
	out.Aim, out.Hops, out.Notes = j.Aim, []gen.Hop{}, append(out.Notes, j.Notes...)
	moves := []gen.Move{}
	for i := range j.Moves {
		m := &j.Moves[i]
		gm := gen.Move{Members: m.Members, Model: m.Model, Hop: i}
		gm.Beside = []gen.Beside{}
		for _, b := range m.Beside {
			gm.Beside = append(gm.Beside, gen.Beside{What: b.What, On: b.On, Rule: b.Permit.Rule, Why: b.Permit.Text})
		}
		moves = append(moves, gm)
		h := hop(&m.Hop, has)
		h.Why = why(&m.Hop, m.Hop.To.Compare(j.Paths[0].To) == 0)
		n := float64(len(m.Members)) // one after the other
		h.Low, h.High = h.Low*n, h.High*n
		h.Minutes = minutes(h.Low, h.High)
		out.Hops = append(out.Hops, h)
	}
	out.Moves = &moves
	return out
}

func minutes(low, high float64) gen.Minutes { return gen.Minutes{Low: low / 60, High: high / 60} }

func at(c catalog.Citation) (file *string, line *int) {
	if c.At.File == "" {
		return nil, nil
	}
	return &c.At.File, &c.At.Line
}

// platform is nil where the hop stays on its platform.
func platform(p *path.Platform) *gen.PlatformChange {
	if p == nil {
		return nil
	}
	out := &gen.PlatformChange{InPlace: p.InPlace, Ports: []gen.PortChange{}, WillChange: []gen.ForetoldValue{}}
	for _, c := range p.Ports {
		out.Ports = append(out.Ports, gen.PortChange{From: c.From, To: c.To})
	}
	for _, f := range p.Changes {
		v := gen.ForetoldValue{Value: f.Value, Text: f.Text}
		if f.Becomes != "" {
			v.Becomes = &f.Becomes
		}
		out.WillChange = append(out.WillChange, v)
	}
	return out
}

func hop(h *path.Hop, has Has) gen.Hop {
	out := gen.Hop{From: h.From.String(), To: h.To.String(), Stage: string(h.Stage), Rule: h.Permit.Rule, Permit: citation(h.Permit), Because: Citations(h.Because),
		Config: gen.HopConfig(h.Config), Restarts: h.Restarts, Low: h.Low, High: h.High, Minutes: minutes(h.Low, h.High), Lost: orEmpty(h.Lost),
		Images: []gen.HopImage{}, Components: []gen.HopComponent{}, Notes: []gen.HopNote{}, HandSteps: []gen.HandStep{}, Prerequisites: []gen.Prerequisite{}, Effects: []gen.Effect{}}
	if h.NewModel != "" {
		out.NewModel = &h.NewModel
	}
	out.Platform = platform(h.Platform)
	image := func(im *catalog.Image, role, version string) {
		if im.File == "" { // nothing is installed: it lies on the device
			return
		}
		out.Images = append(out.Images, gen.HopImage{File: im.File, Role: role, Version: version, Size: im.Size, Sha256: im.SHA256, There: there(has, im.SHA256)})
	}
	image(&h.Image, "install", h.To.String())
	for i := range h.Others {
		image(&h.Others[i].Image, h.Others[i].Role, h.Others[i].Version)
	}
	for _, c := range h.Components {
		out.Components = append(out.Components, gen.HopComponent{Name: c.Name, Title: c.Title, From: c.From, To: c.To, Order: gen.HopComponentOrder(c.Order), Trigger: c.Trigger,
			Restarts: c.Restarts, Interrupts: c.Interrupts, Minutes: minutes(c.Low, c.High)})
	}
	for _, n := range h.Notes {
		out.Notes = append(out.Notes, gen.HopNote{Kind: n.Kind, Text: n.Text, Matters: matters(n.Matters), When: n.When})
	}
	for _, s := range h.HandSteps {
		out.HandSteps = append(out.HandSteps, gen.HandStep{Due: gen.HandStepDue(s.Due), Text: s.Text, Matters: matters(s.Matters), When: s.When})
	}
	for _, p := range h.Prerequisites {
		out.Prerequisites = append(out.Prerequisites, gen.Prerequisite{Rule: p.ID, Kind: p.Kind, Text: p.Text, Evidence: p.Evidence, Remedy: p.Remedy,
			State: map[catalog.Truth]gen.PrerequisiteState{catalog.Yes: gen.PrerequisiteStateMet, catalog.No: gen.PrerequisiteStateUnmet, catalog.Unknown: gen.PrerequisiteStateUnknown}[p.State]})
	}
	for _, e := range h.Effects {
		out.Effects = append(out.Effects, gen.Effect{Step: e.Step, Clients: e.Clients, Effect: gen.EffectEffect(e.Effect), Text: e.Text})
	}
	return out
}

func matters(t catalog.Truth) gen.Matters {
	if t == catalog.Yes {
		return gen.MattersYes
	}
	return gen.MattersUnknown
}

// why says in one sentence why a path stops where a hop ends.
func why(h *path.Hop, aim bool) string {
	switch {
	case h.NewModel != "":
		return "the platform changes to " + h.NewModel
	case aim:
		return "it is the aim"
	case len(h.Because) == 0: // the hop onwards is supported, but is cheaper or tolerated from here only
		return "the way on begins here"
	}
	var texts []string
	for _, c := range h.Because {
		texts = append(texts, c.String())
	}
	return fmt.Sprintf("going past it is refused: %s", strings.Join(texts, "; "))
}

func citation(c catalog.Citation) gen.Citation {
	out := gen.Citation{Text: c.Text}
	if c.Rule != "" {
		out.Rule = &c.Rule
	}
	out.File, out.Line = at(c)
	return out
}

// Citations shows reasons.
func Citations(cs []catalog.Citation) []gen.Citation {
	out := []gen.Citation{}
	for _, c := range cs {
		out = append(out, citation(c))
	}
	return out
}
