package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"verimorph/api/gen"
	"verimorph/store"
)

// Evidence of hand steps.

// maxEvidence bounds one attached file in bytes.
const maxEvidence = 8 << 20

// evidenceLabel binds what is attached to its change.
func evidenceLabel(change int64) string { return fmt.Sprintf("evidence %d", change) }

func apiEvidence(e store.Evidence) gen.Evidence {
	return gen.Evidence{Id: e.ID, Step: e.Step, Name: e.Name, MediaType: e.MediaType, Size: e.Size, AddedBy: e.AddedBy, AddedAt: e.AddedAt}
}

// ListEvidence lists what was attached.
func (s *Server) ListEvidence(ctx context.Context, r gen.ListEvidenceRequestObject) (gen.ListEvidenceResponseObject, error) {
	es, err := s.Store.EvidenceOf(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	out := gen.ListEvidence200JSONResponse{Items: []gen.Evidence{}}
	for _, e := range es {
		out.Items = append(out.Items, apiEvidence(e))
	}
	return out, nil
}

// AddEvidence attaches a file to a hand step.
func (s *Server) AddEvidence(ctx context.Context, r gen.AddEvidenceRequestObject) (gen.AddEvidenceResponseObject, error) {
	data, err := io.ReadAll(io.LimitReader(r.Body, maxEvidence+1))
	if err != nil {
		return nil, err
	}
	c, err := s.Planner.Change(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	name := strings.TrimSpace(r.Params.Name)
	i := slices.IndexFunc(c.Steps, func(st store.Step) bool { return st.Plan.Number == r.Params.Step })
	switch {
	case len(data) == 0 || len(data) > maxEvidence:
		return nil, badRequest("a file of 1 byte to %d MiB is taken", maxEvidence>>20)
	case name == "" || strings.ContainsAny(name, "/\\\r\n\x00"):
		return nil, badRequest("name %q is no file name", r.Params.Name)
	case i < 0 || c.Steps[i].Plan.Kind != "hand":
		return nil, badRequest("step %d of change %d is no hand step", r.Params.Step, c.ID)
	}
	sealed, err := s.Vault.Seal(evidenceLabel(c.ID), data)
	if err != nil {
		return nil, err
	}
	e := store.Evidence{ChangeID: c.ID, Step: r.Params.Step, Name: name, MediaType: http.DetectContentType(data), Content: sealed, Size: int64(len(data)), AddedBy: user(ctx)}
	err = s.audited(ctx, "evidence added", c.Devices(), fmt.Sprintf("change %d, step %d: %s", c.ID, r.Params.Step, name), func(tx *store.Store) (err error) {
		e, err = tx.AddEvidence(ctx, e)
		return err
	})
	return gen.AddEvidence201JSONResponse(apiEvidence(e)), err
}

// GetEvidence answers with one attached file, never as something a browser would run.
func (s *Server) GetEvidence(ctx context.Context, r gen.GetEvidenceRequestObject) (gen.GetEvidenceResponseObject, error) {
	e, err := s.Store.Evidence(ctx, r.Id, r.Item)
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("change %d has no such file", r.Id)
	}
	if err != nil {
		return nil, err
	}
	data, err := s.Vault.Open(evidenceLabel(r.Id), e.Content)
	if err != nil {
		return nil, err
	}
	return gen.GetEvidence200ApplicationoctetStreamResponse{Body: bytes.NewReader(data), ContentLength: int64(len(data))}, nil
}
