package server

import (
	"context"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/change"
)

// Restores: what one would change, and drafting it.

// restoreWishOf is what a call asks for of a backup.
func restoreWishOf(id int64, w *gen.RestoreWish) change.RestoreWish {
	return change.RestoreWish{Backup: id, Device: value(w.Device), Parts: value(w.Parts), Conversion: value(w.Conversion), ExpectNewHostKey: value(w.ExpectNewHostKey), AcceptGuarded: value(w.AcceptGuarded)}
}

// PreviewRestore answers with what a restore would change.
func (s *Server) PreviewRestore(ctx context.Context, r gen.PreviewRestoreRequestObject) (gen.PreviewRestoreResponseObject, error) {
	p, err := s.Planner.Preview(ctx, actor(ctx), restoreWishOf(r.Id, r.Body))
	if err != nil {
		return nil, err
	}
	out := gen.PreviewRestore200JSONResponse{Backup: apiBackup(p.Backup), Device: p.Device, Model: p.Model, Version: p.Version, Replacement: p.Replacement, Parts: []gen.RestorePartPreview{}, Refusals: append([]string{}, p.Refusals...), Notes: append([]string{}, p.Notes...)}
	for _, part := range p.Parts {
		pv := gen.RestorePartPreview{Name: part.Name, Title: part.Title, File: part.File, State: gen.RestorePartPreviewState(part.State), Save: part.Save, Restart: part.Restart, Note: part.Note, Differences: []gen.Difference{}}
		if part.Comparison != nil {
			pv.Differences = view.Differences(part.Comparison)
		}
		out.Parts = append(out.Parts, pv)
	}
	return out, nil
}

// DraftRestore drafts a restore.
func (s *Server) DraftRestore(ctx context.Context, r gen.DraftRestoreRequestObject) (gen.DraftRestoreResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, r.Body, func() (int64, error) {
		return s.Planner.DraftRestore(ctx, actor(ctx), restoreWishOf(r.Id, r.Body))
	})
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.DraftRestore201JSONResponse(c), err
}
