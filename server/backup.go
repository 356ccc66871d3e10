package server

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"unicode/utf8"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/backup"
	"verimorph/store"
)

func apiBackup(b store.Backup) gen.Backup {
	out := gen.Backup{Id: b.ID, Device: b.Device, Change: b.ChangeID, Version: b.Version, Model: b.Model, File: b.File, Sha256: b.SHA256, Size: b.Size, TakenAt: b.TakenAt,
		Reason: gen.BackupReason(b.Reason), Complete: b.Complete, Lacks: b.Lacks, Held: b.Held, GoneAt: b.GoneAt}
	if b.Hop != nil {
		out.Hop = ptr(max(*b.Hop+1, 0))
	}
	if b.GoneWhy != "" {
		out.GoneWhy = &b.GoneWhy
	}
	if out.Lacks == nil {
		out.Lacks = []string{}
	}
	return out
}

// shown reports whether a part can be shown as text with its secrets masked: configurations, when it is known which words
// are secret, and parts that hold none.
func shown(p *backup.Part) bool {
	switch p.Kind {
	case backup.Configuration, backup.Plan, backup.Boot, backup.Portrait:
		return true
	}
	return false
}

// GetBackup answers with one backup and its parts.
func (s *Server) GetBackup(ctx context.Context, r gen.GetBackupRequestObject) (gen.GetBackupResponseObject, error) {
	b, m, err := s.Planner.Manifest(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	out := gen.GetBackup200JSONResponse{Backup: apiBackup(b), Parts: []gen.BackupPart{}, Lacks: []gen.BackupLack{}}
	dialect := s.Engine.Profile(store.Device{Dialect: m.Dialect})
	for i := range m.Parts {
		p := &m.Parts[i]
		ap := gen.BackupPart{Name: p.Name, Title: p.Title, Kind: p.Kind, File: p.File, Sha256: p.SHA256, Size: p.Size, By: p.By, Proof: p.Proof, Readable: shown(p)}
		if p.Syntax != "" {
			ap.Syntax = &p.Syntax
		}
		if dialect != nil {
			src := dialect.Part(p.Name)
			ap.Restorable = src != nil && src.Restore != nil
		}
		out.Parts = append(out.Parts, ap)
	}
	for _, l := range m.Lacks {
		out.Lacks = append(out.Lacks, gen.BackupLack{Name: l.Name, Title: l.Title, Kind: l.Kind, Why: l.Why, Needed: l.Needed})
	}
	return out, nil
}

// masked is a part as text with its secrets masked, or why it is not shown.
func (s *Server) masked(ctx context.Context, b store.Backup, p *backup.Part) (string, error) {
	if !shown(p) {
		return "", conflict("%s is a secret as a whole, so it is not shown; export the bundle as an encrypted archive, or restore it", p.Title)
	}
	data, err := s.Backups.Read(p.SHA256)
	if err != nil {
		return "", newProblem(http.StatusInternalServerError, "internal", "The backup cannot be read", "backup %d: %s", b.ID, err)
	}
	if !utf8.Valid(data) {
		return "", conflict("%s is no text", p.Title)
	}
	if p.Kind != backup.Configuration {
		return string(data), nil
	}
	schema, err := s.Planner.SchemaOf(ctx, b)
	if err != nil {
		return "", err
	}
	return schema.MaskText(p.File, string(data)), nil
}

// ReadPart answers with one part as text.
func (s *Server) ReadPart(ctx context.Context, r gen.ReadPartRequestObject) (gen.ReadPartResponseObject, error) {
	b, m, err := s.Planner.Manifest(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	p := m.Part(r.Part)
	if p == nil {
		return nil, notFound("backup %d has no part %q", r.Id, r.Part)
	}
	text, err := s.masked(ctx, b, p)
	return gen.ReadPart200TextResponse(text), err
}

// HoldBackup keeps a backup.
func (s *Server) HoldBackup(ctx context.Context, r gen.HoldBackupRequestObject) (gen.HoldBackupResponseObject, error) {
	if strings.TrimSpace(r.Body.Reason) == "" {
		return nil, badRequest("a hold needs a reason")
	}
	b, err := s.Planner.Backup(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return gen.HoldBackup204Response{}, s.audited(ctx, "backup held", b.Device, fmt.Sprintf("backup %d: %s", b.ID, r.Body.Reason), func(tx *store.Store) error {
		return tx.HoldBackup(ctx, b.ID, r.Body.Reason, user(ctx))
	})
}

// ReleaseBackup ends a hold.
func (s *Server) ReleaseBackup(ctx context.Context, r gen.ReleaseBackupRequestObject) (gen.ReleaseBackupResponseObject, error) {
	b, err := s.Planner.Backup(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return gen.ReleaseBackup204Response{}, s.audited(ctx, "backup released", b.Device, fmt.Sprintf("backup %d", b.ID), func(tx *store.Store) error {
		return tx.HoldBackup(ctx, b.ID, "", user(ctx))
	})
}

// TakeBackup takes a bundle of a device now.
func (s *Server) TakeBackup(ctx context.Context, r gen.TakeBackupRequestObject) (gen.TakeBackupResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Body.Device)
	if err != nil {
		return nil, err
	}
	b, err := s.Engine.Backup(ctx, d, backup.OnDemand, actor(ctx))
	if err != nil {
		return nil, err
	}
	if b, err = s.Store.Backup(ctx, b.ID); err != nil {
		return nil, err
	}
	return gen.TakeBackup201JSONResponse(apiBackup(b)), nil
}

// ListBackups answers with a page of backups.
func (s *Server) ListBackups(ctx context.Context, r gen.ListBackupsRequestObject) (gen.ListBackupsResponseObject, error) {
	limit, before, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	bs, err := s.Store.Backups(ctx, store.BackupList{Device: value(r.Params.Device), Find: value(r.Params.Find), Before: before, Limit: limit + 1})
	if err != nil {
		return nil, err
	}
	items, next, err := listed(bs, limit, func(b store.Backup) any { return b.ID }, always(apiBackup))
	return gen.ListBackups200JSONResponse{Items: items, Next: next}, err
}

// ReadBackup answers with a configuration, secrets masked.
func (s *Server) ReadBackup(ctx context.Context, r gen.ReadBackupRequestObject) (gen.ReadBackupResponseObject, error) {
	_, text, schema, err := s.Planner.BackupText(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return gen.ReadBackup200TextResponse(schema.MaskText("backup", text)), nil
}

// CompareBackups answers with what differs between two configurations.
func (s *Server) CompareBackups(ctx context.Context, r gen.CompareBackupsRequestObject) (gen.CompareBackupsResponseObject, error) {
	old, err := s.source(ctx, gen.ConfigurationSource{Backup: &r.Id})
	if err != nil {
		return nil, err
	}
	new, err := s.source(ctx, gen.ConfigurationSource{Backup: &r.Other})
	if err != nil {
		return nil, err
	}
	c, err := compare(old, new)
	if err != nil {
		return nil, err
	}
	_, a, err := s.Planner.Manifest(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	_, b, err := s.Planner.Manifest(ctx, r.Other)
	if err != nil {
		return nil, err
	}
	out := gen.CompareBackups200JSONResponse{Items: view.Differences(c), Parts: []gen.PartComparison{}}
	for _, d := range backup.Compare(a, b) {
		out.Parts = append(out.Parts, gen.PartComparison{Name: d.Name, Title: d.Title, State: gen.PartComparisonState(d.State)})
	}
	return out, nil
}
