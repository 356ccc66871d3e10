package planning

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"verimorph/access"
	"verimorph/core/convert"
	"verimorph/engine"
	"verimorph/store"
)

// Work is what is kept, sealed, of a conversion.
type Work struct {
	Name     string               `json:"name"`
	Source   string               `json:"source"`
	From     string               `json:"from"`
	To       string               `json:"to"`
	ByHand   bool                 `json:"byHand"`
	Fragment bool                 `json:"fragment"`
	Other    bool                 `json:"otherUnit,omitempty"` // the result is for another unit than the one that wrote it
	Ports    []convert.PortChoice `json:"ports"`
	Answers  map[string]string    `json:"answers"`
	Edits    []convert.Edit       `json:"edits"`
	LastEdit int                  `json:"lastEdit"`
}

func workLabel(id int64) string { return fmt.Sprintf("conversion %d", id) }

// SealWork seals the work of a conversion.
func (s *Planner) SealWork(id int64, w *Work) ([]byte, error) {
	data, err := json.Marshal(w)
	if err != nil {
		return nil, err
	}
	return s.Vault.Seal(workLabel(id), data)
}

// Convert works a conversion out and has the audit check its ledger.
func (s *Planner) Convert(ctx context.Context, w *Work) (*convert.Result, error) {
	src, err := s.Source(ctx, SourceRef{Text: &w.Source, Name: w.Name, From: w.From})
	if err != nil {
		return nil, err
	}
	to, err := src.Library.ParseStop(w.To)
	if err != nil {
		return nil, invalid("%s", err)
	}
	r, err := src.Library.Convert(convert.Job{From: src.At, To: to, Ports: w.Ports, Answers: w.Answers, Edits: w.Edits, ByHand: w.ByHand, Fragment: w.Fragment, OtherUnit: w.Other}, src.Document)
	if err != nil {
		return nil, NotConvertible(err)
	}
	if wrong := convert.Check(w.Source, r.Text, r.S, r.T, r.Ledger); len(wrong) > 0 {
		return nil, fmt.Errorf("the ledger of a conversion does not add up: %s", strings.Join(wrong, "; "))
	}
	return r, nil
}

// StartConversion works a conversion out for the first time, and keeps it.
func (s *Planner) StartConversion(ctx context.Context, by access.Actor, w *Work) (id int64, err error) {
	if _, err := s.Convert(ctx, w); err != nil {
		return 0, err
	}
	err = s.Store.Audited(ctx, by, func(tx *store.Store) (l store.Line, err error) {
		id, err = tx.AddConversion(ctx, store.Conversion{Name: w.Name, From: w.From, To: w.To, CreatedBy: by.String()}, w.Source,
			func(id int64) ([]byte, error) { return s.SealWork(id, w) })
		return store.Line{Event: "conversion started", Detail: fmt.Sprintf("conversion %d, %s to %s", id, w.From, w.To)}, err
	})
	return id, err
}

// OpenWork reads a conversion's work.
func (s *Planner) OpenWork(ctx context.Context, id int64) (store.Conversion, *Work, error) {
	c, err := s.Store.Conversion(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return c, nil, notFound("there is no conversion %d", id)
	}
	if err != nil {
		return c, nil, err
	}
	w, err := s.WorkOf(c)
	return c, w, err
}

// WorkOf opens the work of a conversion.
func (s *Planner) WorkOf(c store.Conversion) (*Work, error) {
	data, err := s.Vault.Open(workLabel(c.ID), c.Work)
	if err != nil {
		return nil, err
	}
	var w Work
	return &w, json.Unmarshal(data, &w)
}

// Worked returns what a person worked out as the conversion of a configuration; ok is false when nobody did, or left
// something open. What cannot be read or used any more is an error: the rules alone would leave out what the person decided.
func (s *Planner) Worked(ctx context.Context, _ store.Backup, text, to string) (out, note string, ok bool, err error) {
	return s.worked(ctx, text, to, func(w *Work) bool { return true })
}

// worked is Worked, among the conversions that are wanted.
func (s *Planner) worked(ctx context.Context, text, to string, wanted func(*Work) bool) (out, note string, ok bool, err error) {
	list, err := s.Store.ConversionsOf(ctx, text, to)
	if err != nil {
		return "", "", false, engine.Records(err)
	}
	for _, c := range list {
		w, err := s.WorkOf(c)
		if err != nil {
			return "", "", false, fmt.Errorf("conversion %d to %s, by %s, cannot be read: %w; delete it and work it out again", c.ID, to, c.CreatedBy, err)
		}
		if w.Source != text || w.Fragment || !wanted(w) {
			continue
		}
		r, err := s.Convert(ctx, w)
		if err != nil {
			return "", "", false, Records(fmt.Errorf("what was worked out as conversion %d, by %s, cannot be used any more: %w", c.ID, c.CreatedBy, err))
		}
		if r.Ledger.Complete() {
			return r.Text, fmt.Sprintf("converted as worked out in conversion %d by %s", c.ID, c.CreatedBy), true, nil
		}
	}
	return "", "", false, nil
}
