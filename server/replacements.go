package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"verimorph/api/gen"
	"verimorph/core/change"
	"verimorph/core/ready"
	"verimorph/engine"
	"verimorph/planning"
	"verimorph/report"
	"verimorph/store"
)

// Devices that take the place of others.

// ListReplacements answers with them, newest first.
func (s *Server) ListReplacements(ctx context.Context, r gen.ListReplacementsRequestObject) (gen.ListReplacementsResponseObject, error) {
	limit, before, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	all, err := s.Store.Replacements(ctx, value(r.Params.Device), before, limit+1)
	if err != nil {
		return nil, err
	}
	items, next, err := listed(all, limit, func(x store.Replacement) any { return x.Change }, always(apiReplacement))
	return gen.ListReplacements200JSONResponse{Items: items, Next: next}, err
}

// replacementsOf are those that are done and concern a device; nil: none.
func (s *Server) replacementsOf(ctx context.Context, device string) (*[]gen.Replacement, error) {
	all, err := s.Store.Replacements(ctx, device, 0, 20)
	var out []gen.Replacement
	for _, x := range all {
		if x.State == change.Done {
			out = append(out, apiReplacement(x))
		}
	}
	if out == nil {
		return nil, err
	}
	return &out, err
}

func apiReplacement(x store.Replacement) gen.Replacement {
	return gen.Replacement{Change: x.Change, State: gen.ChangeState(x.State), Old: x.Old, New: x.New, OldModel: x.OldModel, NewModel: x.NewModel, Conversion: x.Conversion, CreatedAt: x.CreatedAt,
		EndedAt: x.EndedAt, Kept: x.Kept(), ReleasedAt: x.ReleasedAt, ReleasedBy: optional(x.ReleasedBy), PutBack: x.PutBack}
}

// replaceWish is what a call asks for.
func replaceWish(b *gen.NewReplacement) (w change.Wish, keys map[string]string) {
	w = change.Wish{Device: b.Device, Aim: change.Aim{To: value(b.To)}, ComesBackAt: value(b.ComesBackAt), Replace: &change.ReplaceWish{Old: b.Old, Conversion: value(b.Conversion), Dead: value(b.Dead),
		OwnAddress: value(b.OwnAddress), KeepPassword: value(b.KeepPassword), Serial: value(b.Serial), Defaults: string(value(b.Defaults))}}
	keys = map[string]string{}
	for _, l := range value(b.Licences) {
		w.Licences, keys[l.Name] = append(w.Licences, l.Name), value(l.Key)
	}
	return w, keys
}

// PreviewReplacement says what it takes.
func (s *Server) PreviewReplacement(ctx context.Context, r gen.PreviewReplacementRequestObject) (gen.PreviewReplacementResponseObject, error) {
	w, _ := replaceWish(r.Body)
	p, err := s.Planner.PreviewReplacement(ctx, actor(ctx), w)
	if err != nil {
		return nil, err
	}
	out, err := apiPreview(p)
	return gen.PreviewReplacement200JSONResponse(out), err
}

func apiPreview(p *planning.Replacement) (out gen.ReplacementPreview, err error) {
	out = gen.ReplacementPreview{Old: p.Old, New: p.New, From: p.From, To: p.To, Source: p.Source, Decisions: p.Decisions, Support: []gen.SupportRow{}, Cables: []gen.Cable{},
		Secrets: append([]string{}, p.Secrets...), Defaults: []gen.DefaultStatement{}, Refusals: append([]string{}, p.Refusals...), Notes: append([]string{}, p.Notes...)}
	if p.Backup != 0 {
		out.Backup = &p.Backup
	}
	if p.Conversion != 0 {
		out.Conversion = &p.Conversion
	}
	for _, c := range p.Cables {
		x := gen.Cable{From: c.From, To: optional(c.To), LeftOut: optional(c.LeftOut), Label: optional(p.Labels[c.From])}
		if c.Folded {
			x.Folded = &c.Folded
		}
		out.Cables = append(out.Cables, x)
	}
	for _, d := range p.Defaults {
		out.Defaults = append(out.Defaults, gen.DefaultStatement{Path: d.Path, Text: d.Text})
	}
	if len(p.Support) > 0 {
		err = same(p.Support, &out.Support)
	}
	return out, err
}

// DraftReplacement drafts it.
func (s *Server) DraftReplacement(ctx context.Context, r gen.DraftReplacementRequestObject) (gen.DraftReplacementResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, r.Body, func() (int64, error) {
		w, keys := replaceWish(r.Body)
		return s.Planner.DraftReplacement(ctx, actor(ctx), w, value(r.Body.NewPassword), keys, termsOf(r.Body.Terms))
	})
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.DraftReplacement201JSONResponse(c), err
}

// PutBackReplaced drafts that the old device serves again.
func (s *Server) PutBackReplaced(ctx context.Context, r gen.PutBackReplacedRequestObject) (gen.PutBackReplacedResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, r.Id, func() (int64, error) {
		return s.Planner.DraftPutBack(ctx, actor(ctx), r.Id, store.Terms{})
	})
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.PutBackReplaced201JSONResponse(c), err
}

// ReleaseReplaced gives the old device free.
func (s *Server) ReleaseReplaced(ctx context.Context, r gen.ReleaseReplacedRequestObject) (gen.ReleaseReplacedResponseObject, error) {
	if err := s.Planner.ReleaseReplaced(ctx, actor(ctx), r.Id, r.Body.Reason); err != nil {
		return nil, err
	}
	x, err := s.Store.Replacement(ctx, r.Id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, conflict("change %d replaced no device", r.Id)
	}
	return gen.ReleaseReplaced200JSONResponse(apiReplacement(x)), err
}

// PrintReplacement writes what somebody takes along to the rack.
func (s *Server) PrintReplacement(ctx context.Context, r gen.PrintReplacementRequestObject) (gen.PrintReplacementResponseObject, error) {
	c, err := s.Planner.Change(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	sheet, err := s.sheet(ctx, &c)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if value(r.Params.Format) == gen.Pdf {
		if err := sheet.PDF(&b); err != nil {
			return nil, err
		}
		return gen.PrintReplacement200ApplicationpdfResponse{Body: &b, ContentLength: int64(b.Len())}, nil
	}
	if err := sheet.HTML(&b); err != nil {
		return nil, err
	}
	return gen.PrintReplacement200TexthtmlResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

// sheet is that of a change that replaces a device.
func (s *Server) sheet(ctx context.Context, c *store.Change) (*report.Sheet, error) {
	w, err := engine.Replaced(c)
	if err != nil {
		return nil, err
	}
	if w == nil || len(c.Members) != 2 {
		return nil, conflict("change %d replaces no device", c.ID)
	}
	job, err := s.Engine.ReplaceJob(ctx, c)
	if err != nil {
		return nil, err
	}
	out := &report.Sheet{Title: fmt.Sprintf("%s in the place of %s, change %d", job.NewName, job.OldName, c.ID), Old: job.OldName, New: job.NewName}
	out.Facts = [][2]string{{"New device", fmt.Sprintf("%s %s, %s", c.Members[0].Planned.Model, c.Members[0].Planned.Serial, c.To)},
		{"Old device", fmt.Sprintf("%s %s. It stays as it is", c.Members[1].Planned.Model, c.Members[1].Planned.Serial)}}
	if c.WindowFrom != nil && c.WindowTo != nil {
		zone := s.Engine.Zone
		out.Facts = append(out.Facts, [2]string{"Window", c.WindowFrom.In(zone).Format(ready.Stamp) + " to " + c.WindowTo.In(zone).Format(ready.Stamp)})
	}
	for _, x := range w.Cables {
		row := report.SheetCable{From: x.From, Label: w.Labels[x.From], To: x.To}
		switch {
		case x.To == "":
			row.Note = "left out: " + x.LeftOut
		case x.Folded:
			row.Note = "together with another one"
		}
		out.Cables = append(out.Cables, row)
	}
	for i := range c.Steps {
		if st := &c.Steps[i].Plan; st.Kind == change.Hand && !st.Back {
			out.Hands = append(out.Hands, report.SheetTask{Number: st.Number, Text: change.Of[change.HandParams](st).Task})
		}
	}
	for _, st := range job.FromHere(change.ReplaceStand{Off: true, Moved: len(w.Cables)}).Steps {
		if st.Kind == change.Hand {
			out.Back = append(out.Back, report.SheetTask{Text: change.Of[change.HandParams](&st).Task})
		}
	}
	return out, nil
}
