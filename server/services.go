package server

import (
	"context"
	"fmt"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/change"
	"verimorph/planning"
)

// Services that move from one gateway to another.

// ListServices answers with the services of a device.
func (s *Server) ListServices(ctx context.Context, r gen.ListServicesRequestObject) (gen.ListServicesResponseObject, error) {
	by := "naming"
	if r.Params.By != nil {
		by = *r.Params.By
	}
	l, err := s.Planner.ServicesOf(ctx, actor(ctx), r.Name, by, value(r.Params.Search), value(r.Params.Live))
	if err != nil {
		return nil, err
	}
	out := gen.ListServices200JSONResponse{Device: l.Device, Source: l.Source, At: l.At, Live: l.Live, Counts: l.Counts}
	out.Groups = append(out.Groups, make([]struct {
		Name     string             `json:"name"`
		Services []gen.ServiceStand `json:"services"`
	}, len(l.Groups))...)
	for i, g := range l.Groups {
		out.Groups[i].Name, out.Groups[i].Services = g.Name, apiServices(g.Services)
	}
	return out, nil
}

func apiServices(all []planning.ServiceStand) []gen.ServiceStand {
	out := []gen.ServiceStand{}
	for _, x := range all {
		y := gen.ServiceStand{Name: x.Name, Path: x.Path, Line: x.Line, Address: x.Address, Policy: x.Policy, Stands: gen.ServiceStands(x.Stands), Up: x.Up, To: optional(x.To), As: optional(x.As)}
		if x.Put != 0 {
			y.Put = &x.Put
		}
		if x.Off != 0 {
			y.Off = &x.Off
		}
		out = append(out, y)
	}
	return out
}

func servicesWish(b *gen.ServicesWish) change.ServicesWish {
	return change.ServicesWish{From: value(b.From), Services: b.Services, Rename: value(b.Rename), Use: value(b.Use), Conversion: value(b.Conversion), SameKey: value(b.SameKey),
		Checks: value(b.Checks), Unproven: value(b.Unproven)}
}

// PreviewServices says what it would do.
func (s *Server) PreviewServices(ctx context.Context, r gen.PreviewServicesRequestObject) (gen.PreviewServicesResponseObject, error) {
	p, err := s.Planner.PreviewServices(ctx, actor(ctx), r.Body.Device, servicesWish(r.Body))
	if err != nil {
		return nil, err
	}
	list := func(l []string) []string { return append([]string{}, l...) }
	out := gen.PreviewServices200JSONResponse{Device: p.Device, From: optional(p.From), At: p.At, SourceAt: optional(p.SourceAt), Services: apiServices(p.Services), Needs: []gen.CarveNeed{}, Decisions: p.Decisions,
		Sealed: list(p.Sealed), OwnKey: list(p.OwnKey), Differences: []gen.Difference{}, Text: p.Text, Both: list(p.Both), Remains: list(p.Remains), Refusals: list(p.Refusals), Notes: list(p.Notes)}
	if p.Conversion != 0 {
		out.Conversion = &p.Conversion
	}
	if p.Compared != nil {
		out.Differences = view.Differences(p.Compared)
	}
	if len(p.Needs) > 0 {
		err = same(p.Needs, &out.Needs)
	}
	return out, err
}

// DraftServices drafts it.
func (s *Server) DraftServices(ctx context.Context, r gen.DraftServicesRequestObject) (gen.DraftServicesResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, r.Body, func() (int64, error) {
		return s.Planner.DraftServices(ctx, actor(ctx), r.Body.Device, servicesWish(r.Body), termsOf(r.Body.Terms))
	})
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.DraftServices201JSONResponse(c), err
}

// ConvertServices begins a conversion of services.
func (s *Server) ConvertServices(ctx context.Context, r gen.ConvertServicesRequestObject) (gen.ConvertServicesResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, r.Body, func() (int64, error) {
		return s.Planner.ConvertServices(ctx, actor(ctx), r.Body.Device, servicesWish(r.Body), value(r.Body.ByHand))
	})
	if err != nil {
		return nil, err
	}
	out, err := s.conversion(ctx, fmt.Sprint(n))
	return gen.ConvertServices201JSONResponse(out), err
}
