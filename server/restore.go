package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/store"
)

// Restores: what one would change, and drafting it.

// wish works out what a restore would do.
type wish struct {
	b       store.Backup
	m       *backup.Manifest
	d       store.Device
	p       *device.Portrait
	work    engine.RestoreWork
	steps   []change.Restored
	preview gen.RestorePreview
}

func (s *Server) wish(ctx context.Context, id int64, w gen.RestoreWish) (*wish, error) {
	b, m, err := s.manifest(ctx, id)
	if err != nil {
		return nil, err
	}
	name := value(w.Device)
	if name == "" {
		name = b.Device
	}
	d, err := s.device(ctx, name)
	if err != nil {
		return nil, err
	}
	dialect := s.Engine.Dialects[d.Dialect]
	if dialect == nil {
		return nil, conflict("dialect %q of %s is not known here", d.Dialect, d.Name)
	}
	names := value(w.Parts)
	if len(names) == 0 {
		for _, p := range m.Parts {
			if src := dialect.Part(p.Name); src != nil && src.Restore != nil && p.Kind != backup.System && !(p.Kind == backup.Licences && elsewhere(d, m)) {
				names = append(names, p.Name)
			}
		}
	}
	p, now, unread, err := s.Engine.PartsNow(ctx, d, names, user(ctx))
	if err != nil {
		return nil, err
	}
	out := &wish{b: b, m: m, d: d, p: p}
	v := &out.preview
	*v = gen.RestorePreview{Backup: apiBackup(b), Device: d.Name, Model: p.Model, Version: p.Version, Parts: []gen.RestorePartPreview{}, Refusals: []string{}, Notes: []string{}}
	refuse := func(format string, args ...any) { v.Refusals = append(v.Refusals, fmt.Sprintf(format, args...)) }
	v.Replacement = m.Serial != "" && p.Serial != m.Serial
	out.work = engine.RestoreWork{Backup: b.ID, Model: p.Model, Serial: p.Serial, Replacement: v.Replacement}
	if v.Replacement {
		v.Notes = append(v.Notes, fmt.Sprintf("the backup was taken from serial %s, this device has %s", m.Serial, p.Serial))
	}
	if d.Dialect != m.Dialect && m.Dialect != "" {
		refuse("the backup is of a device that speaks %q, %s speaks %q; convert its configuration instead", m.Dialect, d.Name, d.Dialect)
	}
	differs := p.Version != m.Version || p.Model != m.Model
	if differs {
		v.Notes = append(v.Notes, fmt.Sprintf("the backup was taken from %s with %s, the device is %s with %s", m.Model, m.Version, p.Model, p.Version))
	}
	if len(names) == 0 {
		refuse("no part of this backup can be put back on %s", d.Name)
	}
	for _, n := range names {
		part := m.Part(n)
		if part == nil {
			return nil, badRequest("backup %d has no part %q; it has: %s", id, n, strings.Join(partNames(m), ", "))
		}
		src := dialect.Part(n)
		pv := gen.RestorePartPreview{Name: n, Title: part.Title, File: part.File, State: gen.RestorePartPreviewStateUnknown, Differences: []gen.Difference{}}
		if src == nil || src.Restore == nil {
			refuse("%s cannot be put back on a device of this kind", part.Title)
			v.Parts = append(v.Parts, pv)
			continue
		}
		pv.Save, pv.Restart = src.Restore.Save, src.Restore.Restart
		data, err := s.Backups.Read(part.SHA256)
		if err != nil {
			return nil, newProblem(http.StatusInternalServerError, "internal", "The backup cannot be read", "backup %d: %s", id, err)
		}
		rp := engine.RestorePart{Name: n, Title: part.Title, File: part.File, Kind: part.Kind, Syntax: part.Syntax, SHA256: part.SHA256}
		switch {
		case differs && part.Kind == backup.System:
			refuse("%s holds the system of %s; it fits no other version and no other model", part.Title, m.Version)
		case differs && part.Kind == backup.Boot:
			refuse("%s belong to the installations that were there then", part.Title)
		case differs && part.Kind == backup.Configuration:
			if data, rp.Note, err = s.converted(ctx, b, m, p, data, w.Conversion); err != nil {
				refuse("%s: %s", part.Title, err)
			} else if rp.Sealed, err = s.Vault.Seal(engine.RestoreLabel(d.Name, n), data); err != nil {
				return nil, err
			}
		case v.Replacement && part.Kind == backup.Licences:
			v.Notes = append(v.Notes, "licences are for one serial; the device may refuse those of another")
		case w.Conversion != nil && part.Kind == backup.Configuration:
			refuse("model and version are those of the backup; there is nothing to convert")
		}
		pv.Note = rp.Note
		if part.Kind == backup.System {
			pv.State, pv.Note = gen.RestorePartPreviewStateChanges, "everything on the device becomes as it was; the archive is not compared"
		} else if text, ok := now[n]; ok {
			if err := s.compareParts(ctx, &pv, part, p, text, data); err != nil {
				return nil, err
			}
			var guarded []string
			for _, x := range pv.Differences {
				if x.Guarded != nil && string(x.Kind) != config.Cosmetic {
					guarded = append(guarded, x.Path)
				}
			}
			if len(guarded) > 0 && !value(w.AcceptGuarded) {
				refuse("%d guarded %s would change: %s. Read the differences, then say that it may be", len(guarded), map[bool]string{true: "setting", false: "settings"}[len(guarded) == 1], strings.Join(guarded, "; "))
			}
		} else {
			pv.State, pv.Note = gen.RestorePartPreviewStateNew, strings.TrimSpace(pv.Note+" "+unread[n])
		}
		out.work.Parts = append(out.work.Parts, rp)
		out.steps = append(out.steps, change.Restored{Name: n, Title: part.File, Save: pv.Save, Restart: pv.Restart, Configuration: part.Kind == backup.Configuration})
		v.Parts = append(v.Parts, pv)
	}
	if d.OpenChange != nil {
		v.Notes = append(v.Notes, fmt.Sprintf("change %d is under way on %s", *d.OpenChange, d.Name))
	}
	return out, nil
}

// elsewhere reports whether a device is known to be another one than the bundle was taken from.
func elsewhere(d store.Device, m *backup.Manifest) bool {
	p := portraitOf(d)
	return p != nil && m.Serial != "" && p.Serial != m.Serial
}

func partNames(m *backup.Manifest) (out []string) {
	for _, p := range m.Parts {
		out = append(out, p.Name)
	}
	return out
}

// converted is a configuration for the model and release that the device has now: by the result of a conversion that
// somebody worked on, or by the rules alone when they leave nothing open.
func (s *Server) converted(ctx context.Context, b store.Backup, m *backup.Manifest, p *device.Portrait, text []byte, conversion *int64) (out []byte, note string, err error) {
	from, to := m.Model+"@"+m.Version, p.Model+"@"+p.Version
	wk := &work{Name: b.File, Source: string(text), From: from, To: to, Answers: map[string]string{}}
	if conversion != nil {
		if _, wk, err = s.open(ctx, *conversion); err != nil {
			return nil, "", err
		}
		if wk.Source != string(text) || wk.Fragment {
			return nil, "", fmt.Errorf("conversion %d is not of this backup's configuration", *conversion)
		}
		if wk.To != to {
			return nil, "", fmt.Errorf("conversion %d is for %s, the device is %s", *conversion, wk.To, to)
		}
	}
	r, err := s.convert(ctx, wk)
	if err != nil {
		var p *problem
		if errors.As(err, &p) {
			return nil, "", errors.New(p.Detail)
		}
		return nil, "", err
	}
	if !r.Ledger.Complete() {
		return nil, "", fmt.Errorf("its conversion from %s to %s needs a person: work it out first (verimorph conversion start -backup %d -to %s), then restore with that conversion", from, to, b.ID, to)
	}
	return []byte(r.Text), fmt.Sprintf("converted from %s to %s", from, to), nil
}

// compareParts says what putting a part back would change, from what is on the device to what would be put.
func (s *Server) compareParts(ctx context.Context, pv *gen.RestorePartPreview, part *backup.Part, p *device.Portrait, now, data []byte) error {
	pv.State = gen.RestorePartPreviewStateChanges
	if bytes.Equal(now, data) {
		pv.State = gen.RestorePartPreviewStateSame
		return nil
	}
	if part.Syntax == "" {
		pv.Note = strings.TrimSpace(fmt.Sprintf("%s %d bytes on the device, %d in the backup", pv.Note, len(now), len(data)))
		return nil
	}
	schema, err := s.schemaFor(ctx, p, part)
	var unknown *problem
	if errors.As(err, &unknown) { // it can be put back all the same
		pv.Note = strings.TrimSpace(pv.Note + " " + unknown.Detail)
		return nil
	}
	if err != nil {
		return err
	}
	a, bad1 := schema.Parse(part.File, string(now))
	b, bad2 := schema.Parse(part.File, string(data))
	if len(bad1)+len(bad2) > 0 {
		pv.Note = strings.TrimSpace(fmt.Sprintf("%s; %d lines on the device and %d in the backup are not understood, so they are not compared", pv.Note, len(bad1), len(bad2)))
		return nil
	}
	c := config.Compare(a, b, schema)
	pv.Differences = view.Differences(c)
	if c.Same() {
		pv.State = gen.RestorePartPreviewStateSame
	}
	return nil
}

// schemaFor is what is known about a configuration of a device as it is now.
func (s *Server) schemaFor(ctx context.Context, p *device.Portrait, part *backup.Part) (*config.Schema, error) {
	now, err := s.Loaded.Now(ctx)
	if err != nil {
		return nil, err
	}
	if at, err := now.Library().ParseStop(p.Model + "@" + p.Version); err == nil {
		if schema := now.Library().Schema(at); schema.Syntax != "" {
			return schema, nil
		}
	}
	return nil, conflict("no catalogue file says which words of %s are secret, so its differences cannot be shown; load one first", part.File)
}

// PreviewRestore answers with what a restore would change.
func (s *Server) PreviewRestore(ctx context.Context, r gen.PreviewRestoreRequestObject) (gen.PreviewRestoreResponseObject, error) {
	w, err := s.wish(ctx, r.Id, *r.Body)
	if err != nil {
		return nil, err
	}
	return gen.PreviewRestore200JSONResponse(w.preview), nil
}

// DraftRestore drafts a restore.
func (s *Server) DraftRestore(ctx context.Context, r gen.DraftRestoreRequestObject) (gen.DraftRestoreResponseObject, error) {
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, r.Body, func() (int64, error) { return s.draftedRestore(ctx, r.Id, *r.Body) })
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.DraftRestore201JSONResponse(c), err
}

// draftedRestore drafts what is asked for of a backup and records it.
func (s *Server) draftedRestore(ctx context.Context, id int64, asked gen.RestoreWish) (int64, error) {
	w, err := s.wish(ctx, id, asked)
	if err != nil {
		return 0, err
	}
	if len(w.preview.Refusals) > 0 {
		return 0, conflict("%s", strings.Join(w.preview.Refusals, "; "))
	}
	cat, _, _, err := s.catalogue(ctx)
	if err != nil {
		return 0, err
	}
	steps, err := change.DraftRestore(cat.FamilyOfModel(w.p.Model), w.steps, s.Engine.Dialects[w.d.Dialect].Abilities().Validate, s.Pace)
	if err != nil {
		return 0, conflict("%s", err)
	}
	c := store.Change{DeviceID: w.d.ID, From: w.p.Version, To: w.p.Version, Path: []byte("{}"), CreatedBy: user(ctx), Kind: store.Restore, ExpectsHostKey: value(asked.ExpectNewHostKey)}
	if c.Work, err = json.Marshal(w.work); err != nil {
		return 0, err
	}
	asked.Device = &w.d.Name
	if c.Wish, err = json.Marshal(asked); err != nil {
		return 0, err
	}
	return s.Store.AddChange(ctx, withSteps(c, steps))
}
