package server

import (
	"context"
	"encoding/json"
	"errors"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
)

// FindPath answers with the supported path of a device.
func (s *Server) FindPath(ctx context.Context, r gen.FindPathRequestObject) (gen.FindPathResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	b := r.Body
	p, err := s.Planner.Path(ctx, d, aimOf(gen.Aim{To: b.To, ToModel: b.ToModel, Previews: b.Previews, Reset: b.Reset, MaxHops: b.MaxHops, Services: b.Services, DropChildren: b.DropChildren, Alternatives: b.Alternatives}), value(b.WithLicences)...)
	var no *path.NoPathError
	if errors.As(err, &no) {
		return gen.FindPath200JSONResponse(view.NoPath(no)), nil
	}
	if err != nil {
		return nil, err
	}
	// Where a change can carry the path out, the times are those of its steps.
	can := change.Abilities{}
	if dialect := s.Engine.Profile(d); dialect != nil {
		can = dialect.Abilities
	}
	draft := func(p *path.Path) []change.Step {
		plan, err := s.Planner.Steps(ctx, can, p, nil)
		if err != nil {
			return nil
		}
		return plan.Steps
	}
	out := view.Path(p, draft, s.Blobs.Has)
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
	q, err := s.Planner.Question(ctx, p, aimOf(gen.Aim{To: b.To, ToModel: b.ToModel, Previews: b.Previews, Reset: b.Reset, MaxHops: b.MaxHops, Services: b.Services, DropChildren: b.DropChildren, Alternatives: b.Alternatives}))
	return p, q, err
}

// PlanPath answers about a device or an ensemble that is typed in.
func (s *Server) PlanPath(ctx context.Context, r gen.PlanPathRequestObject) (gen.PlanPathResponseObject, error) {
	p, q, err := s.paper(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	var out gen.Path
	err = s.Planner.Ask(ctx, func(_ *catalog.Catalogue, planner *path.Planner) error {
		if len(p.Members) > 0 {
			j, err := planner.FindJoint(p.Members, q)
			if err == nil {
				out = view.Joint(j, s.Blobs.Has)
			}
			return err
		}
		found, err := planner.Find(q)
		if err == nil {
			out = view.Path(found, nil, s.Blobs.Has)
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
	err = s.Planner.Ask(ctx, func(_ *catalog.Catalogue, planner *path.Planner) error {
		to, permit, refusals, err := planner.Explain(q)
		if err == nil {
			out = view.Explanation(p.Version, to, permit, refusals)
		}
		return err
	})
	return gen.ExplainHop200JSONResponse(out), err
}
