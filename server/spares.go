package server

import (
	"bytes"
	"context"

	"verimorph/api/gen"
	"verimorph/planning"
	"verimorph/report"
	"verimorph/store"
)

// Units in stock.

// ListSpares answers with the units, by model and serial.
func (s *Server) ListSpares(ctx context.Context, r gen.ListSparesRequestObject) (gen.ListSparesResponseObject, error) {
	all, err := s.Store.Spares(ctx, value(r.Params.All))
	if err != nil {
		return nil, err
	}
	out := gen.ListSpares200JSONResponse{Items: []gen.Spare{}}
	for i := range all {
		x, err := s.spareOf(ctx, &all[i])
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, x)
	}
	return out, nil
}

// spareOf tells of a unit, with what comes next.
func (s *Server) spareOf(ctx context.Context, x *store.Spare) (gen.Spare, error) {
	u := x.Unit()
	out := gen.Spare{Serial: x.Serial, Model: x.Model, Version: x.Version, Licences: append([]string{}, x.Licences...), Place: x.Place, State: gen.SpareState(u.State()), For: optional(x.For), Site: optional(x.Site),
		Bench: optional(x.Bench), Backup: x.Backup, Prepare: x.Prepare, Swap: x.Swap, Out: x.Out, Was: optional(x.Was), ShippedAt: x.ShippedAt, Parcel: optional(x.Parcel), ArrivedAt: x.ArrivedAt,
		WipedAt: x.WipedAt, Wiped: optional(x.Wiped), RetiredAt: x.RetiredAt, Retired: optional(x.Retired), CreatedAt: x.CreatedAt}
	if u.Ready() {
		stale, err := s.Planner.Stale(ctx, x)
		if err != nil {
			return out, err
		}
		out.Stale = &stale
	}
	out.Next = u.Next(value(out.Stale))
	return out, nil
}

func (s *Server) spare(ctx context.Context, serial string) (gen.Spare, error) {
	x, err := s.Planner.Spare(ctx, serial)
	if err != nil {
		return gen.Spare{}, err
	}
	return s.spareOf(ctx, &x)
}

// AddSpare puts a unit in stock.
func (s *Server) AddSpare(ctx context.Context, r gen.AddSpareRequestObject) (gen.AddSpareResponseObject, error) {
	b := r.Body
	x, err := s.Planner.AddSpare(ctx, actor(ctx), store.Spare{Serial: b.Serial, Model: b.Model, Version: value(b.Version), Licences: value(b.Licences), Place: value(b.Place), Bench: value(b.Bench)})
	if err != nil {
		return nil, err
	}
	out, err := s.spareOf(ctx, &x)
	return gen.AddSpare201JSONResponse(out), err
}

// CoverSpares says of each device which unit would stand in for it.
func (s *Server) CoverSpares(ctx context.Context, _ gen.CoverSparesRequestObject) (gen.CoverSparesResponseObject, error) {
	all, err := s.Planner.Covers(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.CoverSpares200JSONResponse{Items: []gen.SpareCover{}}
	for _, c := range all {
		out.Items = append(out.Items, gen.SpareCover{Device: c.Device, Site: c.Site, Model: c.Model, State: gen.SpareCoverState(c.State), Serial: optional(c.Serial), Why: c.Why})
	}
	return out, nil
}

// PrepareSpare drafts that.
func (s *Server) PrepareSpare(ctx context.Context, r gen.PrepareSpareRequestObject) (gen.PrepareSpareResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, []any{r.Serial, r.Body}, func() (int64, error) {
		return s.Planner.PrepareSpare(ctx, actor(ctx), r.Serial, planning.Preparing{For: r.Body.For, Bench: r.Body.Bench, To: value(r.Body.To), SameKey: value(r.Body.SameKey), Terms: termsOf(r.Body.Terms)})
	})
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.PrepareSpare201JSONResponse(c), err
}

// ShipSpare records that a unit travels.
func (s *Server) ShipSpare(ctx context.Context, r gen.ShipSpareRequestObject) (gen.ShipSpareResponseObject, error) {
	if err := s.Planner.ShipSpare(ctx, actor(ctx), r.Serial, value(r.Body.Parcel)); err != nil {
		return nil, err
	}
	x, err := s.spare(ctx, r.Serial)
	return gen.ShipSpare200JSONResponse(x), err
}

// SwapSpare drafts that a unit goes into service.
func (s *Server) SwapSpare(ctx context.Context, r gen.SwapSpareRequestObject) (gen.SwapSpareResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, []any{r.Serial, r.Body}, func() (int64, error) {
		return s.Planner.SwapSpare(ctx, actor(ctx), r.Serial, value(r.Body.Address), termsOf(r.Body.Terms), 0)
	})
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.SwapSpare201JSONResponse(c), err
}

// ArriveSpare records that a unit is back.
func (s *Server) ArriveSpare(ctx context.Context, r gen.ArriveSpareRequestObject) (gen.ArriveSpareResponseObject, error) {
	if err := s.Planner.ArriveSpare(ctx, actor(ctx), r.Serial, value(r.Body.Place)); err != nil {
		return nil, err
	}
	x, err := s.spare(ctx, r.Serial)
	return gen.ArriveSpare200JSONResponse(x), err
}

// WipedSpare proves that a unit is wiped.
func (s *Server) WipedSpare(ctx context.Context, r gen.WipedSpareRequestObject) (gen.WipedSpareResponseObject, error) {
	if _, err := s.Planner.WipedSpare(ctx, actor(ctx), r.Serial, r.Body.Bench, value(r.Body.Same)); err != nil {
		return nil, err
	}
	x, err := s.spare(ctx, r.Serial)
	return gen.WipedSpare200JSONResponse(x), err
}

// RetireSpare takes a unit out of the stock.
func (s *Server) RetireSpare(ctx context.Context, r gen.RetireSpareRequestObject) (gen.RetireSpareResponseObject, error) {
	return gen.RetireSpare204Response{}, s.Planner.RetireSpare(ctx, actor(ctx), r.Serial, r.Body.Reason)
}

// PrintSpare writes what travels with a unit.
func (s *Server) PrintSpare(ctx context.Context, r gen.PrintSpareRequestObject) (gen.PrintSpareResponseObject, error) {
	p, err := s.Planner.Packing(ctx, r.Serial)
	if err != nil {
		return nil, err
	}
	note := report.Packing{Site: p.Site, Device: p.Device, Serial: p.Serial, Model: p.Model, Version: p.Version, Parcel: p.Parcel, Back: p.Back, Facts: p.Facts}
	for _, c := range p.Cables {
		note.Cables = append(note.Cables, report.SheetCable{From: c[0], Label: c[1], To: c[0]})
	}
	for _, t := range p.Tasks {
		note.Tasks = append(note.Tasks, report.SheetTask{Text: t})
	}
	var b bytes.Buffer
	if value(r.Params.Format) == gen.Pdf {
		if err := note.PDF(&b); err != nil {
			return nil, err
		}
		return gen.PrintSpare200ApplicationpdfResponse{Body: &b, ContentLength: int64(b.Len())}, nil
	}
	if err := note.HTML(&b); err != nil {
		return nil, err
	}
	return gen.PrintSpare200TexthtmlResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}
