package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"verimorph/api/gen"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/ensemble"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/verify"
	"verimorph/planning"
	"verimorph/store"
)

// Ensembles, and what a change of one shows besides.

// ListEnsembles answers with all of them.
func (s *Server) ListEnsembles(ctx context.Context, _ gen.ListEnsemblesRequestObject) (gen.ListEnsemblesResponseObject, error) {
	all, err := s.Store.Ensembles(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.ListEnsembles200JSONResponse{Items: []gen.Ensemble{}}
	for i := range all {
		e, err := s.apiEnsemble(ctx, &all[i])
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, e)
	}
	return out, nil
}

// FindEnsembles answers with what devices say they form.
func (s *Server) FindEnsembles(ctx context.Context, _ gen.FindEnsemblesRequestObject) (gen.FindEnsemblesResponseObject, error) {
	found, err := s.Planner.FindEnsembles(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.FindEnsembles200JSONResponse{Items: []gen.FoundEnsemble{}}
	for _, f := range found {
		out.Items = append(out.Items, gen.FoundEnsemble{Name: f.Name, Kind: gen.EnsembleKind(f.Kind), Devices: f.Members, Doubts: append([]string{}, f.Doubts...)})
	}
	return out, nil
}

// GetEnsemble answers with one.
func (s *Server) GetEnsemble(ctx context.Context, r gen.GetEnsembleRequestObject) (gen.GetEnsembleResponseObject, error) {
	out, err := s.ensemble(ctx, r.Name)
	return gen.GetEnsemble200JSONResponse(out), err
}

// DeclareEnsemble records which devices form one.
func (s *Server) DeclareEnsemble(ctx context.Context, r gen.DeclareEnsembleRequestObject) (gen.DeclareEnsembleResponseObject, error) {
	if err := s.Planner.Declare(ctx, actor(ctx), r.Name, change.EnsembleKind(r.Body.Kind), r.Body.Devices); err != nil {
		return nil, err
	}
	out, err := s.ensemble(ctx, r.Name)
	return gen.DeclareEnsemble200JSONResponse(out), err
}

// DeleteEnsemble forgets one.
func (s *Server) DeleteEnsemble(ctx context.Context, r gen.DeleteEnsembleRequestObject) (gen.DeleteEnsembleResponseObject, error) {
	err := s.Store.DeleteEnsemble(ctx, actor(ctx), r.Name)
	if errors.Is(err, store.ErrNotFound) {
		err = notFound("there is no ensemble %q", r.Name)
	}
	return gen.DeleteEnsemble204Response{}, err
}

func (s *Server) ensemble(ctx context.Context, name string) (gen.Ensemble, error) {
	e, err := s.Planner.Ensemble(ctx, name)
	if err != nil {
		return gen.Ensemble{}, err
	}
	return s.apiEnsemble(ctx, &e)
}

func (s *Server) apiEnsemble(ctx context.Context, e *store.Ensemble) (gen.Ensemble, error) {
	out := gen.Ensemble{Name: e.Name, Kind: gen.EnsembleKind(e.Kind), CreatedBy: e.CreatedBy, CreatedAt: e.CreatedAt,
		Members: []gen.EnsembleMember{}, Findings: []gen.EnsembleFinding{}}
	members := planning.Portraits(e)
	for i := range members {
		p := &members[i]
		out.Members = append(out.Members, gen.EnsembleMember{Device: p.Name, Model: optional(p.Model), Serial: optional(p.Serial), Version: optional(p.Version),
			Role: optional(p.Role), Serves: p.Serves(), Sync: optional(p.Sync), InSync: p.InSync.Bool()})
		d, err := s.Store.DeviceByID(ctx, e.Members[i].DeviceID)
		if err != nil {
			return out, err
		}
		if n := d.OpenChange(); n != nil {
			out.OpenChange = n
		}
	}
	for _, f := range ensemble.Check(e.Kind, members) {
		out.Findings = append(out.Findings, gen.EnsembleFinding{Wrong: f.Wrong, Text: f.Text, Remedy: f.Remedy})
	}
	return out, nil
}

// apiTogether adds what a change of several devices shows besides.
func apiTogether(out *gen.Change, c *store.Change) error {
	if texts := concerns(c); len(texts) > 0 {
		out.Concerns = &texts
	}
	if c.Units != nil {
		out.Proof = apiProof(&c.Units.Proof)
	}
	if len(c.Members) < 2 {
		return nil
	}
	list := []gen.ChangeMember{}
	for i := range c.Members {
		m := &c.Members[i]
		item := gen.ChangeMember{Number: m.Number, Device: m.Device, Role: m.Role, From: c.From, To: c.To, WaysBack: []string{}}
		var way path.Path
		if m.Path != nil {
			if err := json.Unmarshal(m.Path, &way); err != nil {
				return err
			}
			item.From, item.To = way.From.String(), way.To.String()
		}
		for _, b := range c.WaysBack(m) {
			item.WaysBack = append(item.WaysBack, b.Text)
		}
		var p portrait.Portrait
		if m.Portrait != nil && json.Unmarshal(m.Portrait, &p) == nil {
			item.Now, item.RoleNow, item.Sync = optional(p.Version), optional(p.Role), optional(p.Sync)
		}
		var v verify.Verdict
		if m.Verdict != nil && json.Unmarshal(m.Verdict, &v) == nil {
			item.Verdict = optional(v.Verdict)
		}
		list = append(list, item)
	}
	out.Members = &list
	if h := c.HalfWay; h != nil && (c.State.Open() || c.Returning != nil) {
		out.HalfWay = &h.Why
	}
	if e := c.Ensemble; e != nil {
		out.Ensemble = &e.Name
		out.Proof = apiProof(&e.Proof)
	}
	return nil
}

func apiProof(p *change.Proof) *gen.Proof {
	out := &gen.Proof{Proved: p.Proved, States: p.States, GaveUp: optional(p.GaveUp), Rule: optional(p.Rule), Text: optional(p.Text)}
	if len(p.Trace) > 0 {
		out.Trace = &p.Trace
	}
	return out
}

// concerns says what else changes with a device: its units, and the boxes that follow it.
func concerns(c *store.Change) (out []string) {
	if u := c.Units; u != nil {
		how := "they restart one after the other, while another one serves"
		if len(u.Dark) > 0 {
			how = "they restart together"
		}
		out = append(out, change.UnitText(u.Units)+"; "+how)
	}
	if f := c.Children; f != nil {
		text := fmt.Sprintf("%d %s follow it; they start anew in waves, so that others serve at every place", len(f.Children), f.Called)
		switch {
		case f.OneByOne:
			text = fmt.Sprintf("%d %s follow it; one by one they are drained and start anew", len(f.Children), f.Called)
		case f.AtOnce:
			text = fmt.Sprintf("%d %s follow it; they start anew by themselves, all at once", len(f.Children), f.Called)
		}
		out = append(out, text)
		for _, model := range slices.Sorted(maps.Keys(f.Dropped)) {
			n := 0
			for _, child := range f.Children {
				if child.Model == model {
					n++
				}
			}
			out = append(out, fmt.Sprintf("%d of model %s do not come back: %s", n, model, f.Dropped[model]))
		}
	}
	return out
}

// GetTimeline answers when each step is expected and what clients notice, and beside it what was measured.
func (s *Server) GetTimeline(ctx context.Context, r gen.GetTimelineRequestObject) (gen.GetTimelineResponseObject, error) {
	c, err := s.Planner.Change(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	expected, measured, err := s.timeline(ctx, &c)
	if err != nil {
		return nil, err
	}
	out := gen.GetTimeline200JSONResponse{Expected: apiTimeline(expected)}
	if measured != nil {
		out.Measured = ptr(apiTimeline(measured))
	}
	for _, w := range c.Probes {
		p := gen.Probe{Device: w.Device, Target: w.Target, Asked: w.Asked, Lost: w.Lost, Longest: w.Longest, Unwatched: w.Unwatched, Gaps: []gen.ProbeGap{}}
		for _, g := range w.Gaps {
			gap := gen.ProbeGap{From: g.From, To: g.To}
			if g.Open && c.State.Open() {
				gap.Open = &g.Open
			}
			p.Gaps = append(p.Gaps, gap)
		}
		add(&out.Probes, p)
	}
	return out, nil
}

// timeline is when each step of a change is expected and what clients notice, and what was measured; nil before it was started.
func (s *Server) timeline(ctx context.Context, c *store.Change) (expected, measured *change.Timeline, err error) {
	effects, err := effectsOf(c)
	if err != nil {
		return nil, nil, err
	}
	active := 0
	if c.Ensemble != nil {
		active = c.Ensemble.Active
	}
	var plan, done []change.Step
	var times []change.When
	for i := range c.Steps {
		st := &c.Steps[i]
		if !st.Plan.Back {
			plan = append(plan, st.Plan)
		}
		if c.StartedAt == nil || st.StartedAt == nil || st.State == change.StepSkipped {
			continue
		}
		end := c.Now
		if st.EndedAt != nil {
			end = *st.EndedAt
		}
		done = append(done, st.Plan)
		times = append(times, change.When{Number: st.Plan.Number, Member: st.Plan.Member,
			From: max(st.StartedAt.Sub(*c.StartedAt).Seconds(), 0), To: max(end.Sub(*c.StartedAt).Seconds(), 0)})
	}
	lasts, err := s.Engine.Lasting(ctx, c, plan)
	if err != nil {
		return nil, nil, err
	}
	expected = change.Lay(plan, func(st *change.Step) float64 { return lasts[st.Number].Half }, effects, active)
	if len(done) > 0 {
		measured = change.Measured(done, times, effects, active)
	}
	return expected, measured, nil
}

// effectsOf are the effects that the catalogue lists for the hops of a change, each once.
func effectsOf(c *store.Change) (out []catalog.Effect, err error) {
	for _, data := range c.Paths() {
		var p path.Path
		if err := json.Unmarshal(data, &p); err != nil {
			return nil, err
		}
		for _, h := range p.Hops {
			for _, e := range h.Effects {
				if !slices.ContainsFunc(out, func(o catalog.Effect) bool { return o.Step == e.Step && o.Clients == e.Clients }) {
					out = append(out, e)
				}
			}
		}
	}
	slices.SortStableFunc(out, func(a, b catalog.Effect) int { return strings.Compare(a.Clients, b.Clients) })
	return out, nil
}

func apiTimeline(t *change.Timeline) gen.TimelineOf {
	out := gen.TimelineOf{Seconds: t.Seconds, Steps: []gen.TimelineStep{}, Clients: []gen.TimelineClients{}}
	for _, w := range t.Steps {
		out.Steps = append(out.Steps, gen.TimelineStep{Number: w.Number, Member: w.Member, From: w.From, To: w.To})
	}
	for _, n := range t.Clients {
		item := gen.TimelineClients{Clients: n.Clients, Outage: n.Outage, Degraded: n.Less, Parts: []gen.TimelinePart{}}
		for _, p := range n.Parts {
			item.Parts = append(item.Parts, gen.TimelinePart{From: p.From, To: p.To, Effect: gen.TimelinePartEffect(p.Effect), Text: p.Text, Member: p.Member})
		}
		out.Clients = append(out.Clients, item)
	}
	return out
}
