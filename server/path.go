package server

import (
	"context"
	"encoding/json"
	"errors"
	"strings"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/store"
)

// portraitOf is what a device is, as far as it is known: its last portrait, and what its newest saved configuration
// says about the catalogue's conditions.
func (s *Server) portraitOf(ctx context.Context, d store.Device) (*portrait.Portrait, error) {
	if d.Portrait == nil {
		return nil, conflict("nobody has looked at device %s yet; refresh it first", d.Name)
	}
	var p device.Portrait
	if err := json.Unmarshal(d.Portrait, &p); err != nil {
		return nil, err
	}
	out := engine.CorePortrait(d.Name, &p)
	cat, _, _, err := s.catalogue(ctx)
	if err != nil {
		return nil, err
	}
	if f := cat.FamilyOfModel(p.Model); f != nil && len(f.Conditions) > 0 {
		out.Uses = s.Engine.Uses(ctx, f, d)
	}
	return out, nil
}

// question turns an aim of the contract into one of the core. Advisories that were imported come before what the
// catalogue itself says is fixed.
func (s *Server) question(ctx context.Context, p *portrait.Portrait, a gen.Aim) (path.Question, error) {
	aim, err := path.ParseAim(strings.TrimSpace(a.To))
	if err != nil {
		return path.Question{}, badRequest("%s", err)
	}
	aim.Model = value(a.ToModel)
	if aim.AsMember != "" {
		if aim.AsMember, err = s.runs(ctx, aim.AsMember); err != nil {
			return path.Question{}, err
		}
	}
	if aim.Fixes != "" {
		if aim.Affected, err = s.affected(ctx, aim.Fixes); err != nil {
			return path.Question{}, err
		}
	}
	return path.Question{Portrait: p, Aim: aim, Alternatives: min(value(a.Alternatives), 5), Policy: path.Policy{Previews: value(a.Previews), Reset: value(a.Reset),
		MaxHops: value(a.MaxHops), Services: value(a.Services), DropChildren: value(a.DropChildren)}}, nil
}

// runs is the version that a device of that name runs; any other name is handed back as it is.
func (s *Server) runs(ctx context.Context, name string) (string, error) {
	d, err := s.Store.Device(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return name, nil
	}
	if err != nil {
		return "", err
	}
	p, err := s.portraitOf(ctx, d)
	if err != nil {
		return "", err
	}
	return p.Version, nil
}

// find computes the path for a device from its last portrait.
func (s *Server) find(ctx context.Context, d store.Device, aim gen.Aim, licences ...string) (p *path.Path, err error) {
	facts, err := s.portraitOf(ctx, d)
	if err != nil {
		return nil, err
	}
	facts.Given = licences
	q, err := s.question(ctx, facts, aim)
	if err != nil {
		return nil, err
	}
	err = s.plan(ctx, func(_ *catalog.Catalogue, planner *path.Planner) error {
		p, err = planner.Find(q)
		return err
	})
	return p, err
}

// FindPath answers with the supported path of a device.
func (s *Server) FindPath(ctx context.Context, r gen.FindPathRequestObject) (gen.FindPathResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	b := r.Body
	p, err := s.find(ctx, d, gen.Aim{To: b.To, ToModel: b.ToModel, Previews: b.Previews, Reset: b.Reset, MaxHops: b.MaxHops, Services: b.Services, DropChildren: b.DropChildren, Alternatives: b.Alternatives}, value(b.WithLicences)...)
	var no *path.NoPathError
	if errors.As(err, &no) {
		return gen.FindPath200JSONResponse(view.NoPath(no)), nil
	}
	if err != nil {
		return nil, err
	}
	// Where a change can carry the path out, the times are those of its steps.
	can := change.Abilities{}
	if dialect := s.Engine.Dialects[d.Dialect]; dialect != nil {
		can = dialect.Abilities()
	}
	draft := func(p *path.Path) []change.Step {
		plan, err := s.draft(ctx, can, p, func(*change.Job) {})
		if err != nil {
			return nil
		}
		return plan.Steps
	}
	out := view.Path(p, draft, s.Images.Has)
	for i := range p.Hops {
		if why := change.Beyond(can, &p.Hops[i]); why != "" {
			out.Hops[i].Cannot = &why
		}
	}
	return gen.FindPath200JSONResponse(out), nil
}

// paper reads the portrait of a question on paper.
func (s *Server) paper(ctx context.Context, b *gen.PaperAim) (*portrait.Portrait, path.Question, error) {
	data, err := json.Marshal(b.Portrait)
	if err != nil {
		return nil, path.Question{}, err
	}
	p, found := portrait.Read("portrait", data)
	if len(found) > 0 {
		return nil, path.Question{}, badRequest("%s", found)
	}
	q, err := s.question(ctx, p, gen.Aim{To: b.To, ToModel: b.ToModel, Previews: b.Previews, Reset: b.Reset, MaxHops: b.MaxHops, Services: b.Services, DropChildren: b.DropChildren, Alternatives: b.Alternatives})
	return p, q, err
}

// PlanPath answers about a device or an ensemble that is typed in.
func (s *Server) PlanPath(ctx context.Context, r gen.PlanPathRequestObject) (gen.PlanPathResponseObject, error) {
	p, q, err := s.paper(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	var out gen.Path
	err = s.plan(ctx, func(_ *catalog.Catalogue, planner *path.Planner) error {
		if len(p.Members) > 0 {
			j, err := planner.FindJoint(p.Members, q)
			if err == nil {
				out = view.Joint(j, s.Images.Has)
			}
			return err
		}
		found, err := planner.Find(q)
		if err == nil {
			out = view.Path(found, nil, s.Images.Has)
		}
		return err
	})
	var no *path.NoPathError
	if errors.As(err, &no) {
		out, err = view.NoPath(no), nil
	}
	return gen.PlanPath200JSONResponse(out), err
}

// ExplainHop says why one jump is supported or refused.
func (s *Server) ExplainHop(ctx context.Context, r gen.ExplainHopRequestObject) (gen.ExplainHopResponseObject, error) {
	p, q, err := s.paper(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	var out gen.Explanation
	err = s.plan(ctx, func(_ *catalog.Catalogue, planner *path.Planner) error {
		to, permit, refusals, err := planner.Explain(q)
		if err == nil {
			out = view.Explanation(p.Version, to, permit, refusals)
		}
		return err
	})
	return gen.ExplainHop200JSONResponse(out), err
}
