package planning

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/store"
)

// A Restore is what putting parts of a backup back would do.
type Restore struct {
	Backup         store.Backup
	Device         string
	Model, Version string // of the device as it is now
	Replacement    bool   // it is another device than the one that the backup was taken from
	Parts          []RestorePart
	Refusals       []string // why it cannot be done as wished; none when it can
	Notes          []string

	device   store.Device
	manifest *backup.Manifest
	now      *portrait.Portrait
	wish     change.RestoreWish
	work     engine.RestoreWork
	steps    []change.Restored
}

// A RestorePart is what putting one part back would do.
type RestorePart struct {
	Name, Title, File string
	State             string // PartSame ...
	Save, Restart     bool   // what the device needs afterwards
	Note              string
	Comparison        *config.Comparison // nil where it was not compared by its words
}

// What putting a part back would do.
const (
	PartSame    = "same"
	PartChanges = "changes"
	PartNew     = "new"
	PartUnknown = "unknown"
)

func (r *Restore) refuse(format string, args ...any) {
	r.Refusals = append(r.Refusals, fmt.Sprintf(format, args...))
}
func (r *Restore) note(format string, args ...any) {
	r.Notes = append(r.Notes, fmt.Sprintf(format, args...))
}

// Preview says what a restore would do. It reads from the device what is there now.
func (s *Planner) Preview(ctx context.Context, by access.Actor, w change.RestoreWish) (*Restore, error) {
	b, m, err := s.Manifest(ctx, w.Backup)
	if err != nil {
		return nil, err
	}
	d, err := s.Device(ctx, cmp.Or(w.Device, b.Device))
	if err != nil {
		return nil, err
	}
	dialect := s.Engine.Profile(d)
	if dialect == nil {
		return nil, conflict("dialect %q of %s is not known here", d.Dialect, d.Name)
	}
	names := w.Parts
	if len(names) == 0 {
		names = allParts(dialect, m, d)
	}
	p, now, unread, err := s.Engine.PartsNow(ctx, d, names, by)
	if err != nil {
		return nil, err
	}
	out := &Restore{Backup: b, Device: d.Name, Model: p.Model, Version: p.Version, Replacement: m.Serial != "" && p.Serial != m.Serial, device: d,
		manifest: m, now: p, wish: w}
	out.work = engine.RestoreWork{Backup: b.ID, Model: p.Model, Serial: p.Serial, Replacement: out.Replacement}
	if out.Replacement {
		out.note("the backup was taken from serial %s, this device has %s", m.Serial, p.Serial)
	}
	if d.Dialect != m.Dialect && m.Dialect != "" {
		out.refuse("the backup is of a device that speaks %q, %s speaks %q; convert its configuration instead", m.Dialect, d.Name, d.Dialect)
	}
	if out.differs() {
		out.note("the backup was taken from %s with %s, the device is %s with %s", m.Model, m.Version, p.Model, p.Version)
	}
	if len(names) == 0 {
		out.refuse("no part of this backup can be put back on %s", d.Name)
	}
	for _, n := range names {
		part := m.Part(n)
		if part == nil {
			return nil, invalid("backup %d has no part %q; it has: %s", b.ID, n, strings.Join(partNames(m), ", "))
		}
		text, read := now[n]
		if err := s.previewPart(ctx, out, part, dialect.Part(n), text, read, unread[n]); err != nil {
			return nil, err
		}
	}
	if d.Open != nil {
		out.note("change %d is under way on %s", d.Open.ID, d.Name)
	}
	return out, nil
}

// differs reports whether the device is another model or runs another release than the bundle was taken from.
func (r *Restore) differs() bool {
	return r.Version != r.manifest.Version || r.Model != r.manifest.Model
}

// allParts are the parts that go back where none are named: all that can, but for a whole-system archive, and for licences on another device.
func allParts(dialect *device.Profile, m *backup.Manifest, d store.Device) (names []string) {
	for _, p := range m.Parts {
		if src := dialect.Part(p.Name); src != nil && src.Restore != nil && p.Kind != backup.System && !(p.Kind == backup.Licences && elsewhere(d, m)) {
			names = append(names, p.Name)
		}
	}
	return names
}

// previewPart says what putting one part back would do, and what will be put. now is what is on the device, where it was read; unread says why
// it was not.
func (s *Planner) previewPart(ctx context.Context, out *Restore, part *backup.Part, src *device.Part, now []byte, read bool, unread string) error {
	pv := RestorePart{Name: part.Name, Title: part.Title, File: part.File, State: PartUnknown}
	if src == nil || src.Restore == nil {
		out.refuse("%s cannot be put back on a device of this kind", part.Title)
		out.Parts = append(out.Parts, pv)
		return nil
	}
	pv.Save, pv.Restart = src.Restore.Save, src.Restore.Restart
	data, err := s.Backups.Read(part.SHA256)
	if err != nil {
		return damaged("backup %d: %s", out.Backup.ID, err)
	}
	rp := engine.RestorePart{Name: part.Name, Title: part.Title, File: part.File, Kind: part.Kind, Syntax: part.Syntax, SHA256: part.SHA256}
	if data, err = s.fit(ctx, out, part, &rp, data); err != nil {
		return err
	}
	pv.Note = rp.Note
	switch {
	case part.Kind == backup.System:
		pv.State, pv.Note = PartChanges, "everything on the device becomes as it was; the archive is not compared"
	case read:
		if err := s.compareParts(ctx, &pv, part, src, out.now, now, data); err != nil {
			return err
		}
		out.guard(&pv)
	default:
		pv.State, pv.Note = PartNew, strings.TrimSpace(pv.Note+" "+unread)
	}
	out.work.Parts = append(out.work.Parts, rp)
	out.steps = append(out.steps, change.Restored{Name: part.Name, Title: part.File, Save: pv.Save, Restart: pv.Restart,
		Configuration: part.Kind == backup.Configuration})
	out.Parts = append(out.Parts, pv)
	return nil
}

// fit returns what of a part will be put: its own content, or a configuration converted for what the device runs. What does not fit is refused.
func (s *Planner) fit(ctx context.Context, out *Restore, part *backup.Part, rp *engine.RestorePart, data []byte) ([]byte, error) {
	m := out.manifest
	switch {
	case out.differs() && part.Kind == backup.System:
		out.refuse("%s holds the system of %s; it fits no other version and no other model", part.Title, m.Version)
	case out.differs() && part.Kind == backup.Boot:
		out.refuse("%s belong to the installations that were there then", part.Title)
	case out.differs() && part.Kind == backup.Configuration:
		fresh, note, err := s.converted(ctx, out.Backup, m, out.now, data, out.wish.Conversion)
		if err != nil {
			out.refuse("%s: %s", part.Title, err)
			return fresh, nil
		}
		rp.Note = note
		rp.Sealed, err = s.Vault.Seal(engine.RestoreLabel(out.Device, part.Name), fresh)
		return fresh, err
	case out.Replacement && part.Kind == backup.Licences:
		out.note("licences are for one serial; the device may refuse those of another")
	case out.wish.Conversion != 0 && part.Kind == backup.Configuration:
		out.refuse("model and version are those of the backup; there is nothing to convert")
	}
	return data, nil
}

// guard refuses guarded settings that would change, unless somebody said that they may.
func (r *Restore) guard(pv *RestorePart) {
	if pv.Comparison == nil || r.wish.AcceptGuarded {
		return
	}
	var guarded []string
	for _, x := range pv.Comparison.Differences {
		if x.Guarded != "" && x.Kind != config.Cosmetic {
			guarded = append(guarded, x.Path)
		}
	}
	if len(guarded) > 0 {
		r.refuse("%d guarded %s would change: %s. Read the differences, then say that it may be", len(guarded),
			map[bool]string{true: "setting", false: "settings"}[len(guarded) == 1], strings.Join(guarded, "; "))
	}
}

// elsewhere reports whether a device is known to be another one than the bundle was taken from.
func elsewhere(d store.Device, m *backup.Manifest) bool {
	p := PortraitOf(d)
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
func (s *Planner) converted(ctx context.Context, b store.Backup, m *backup.Manifest, p *portrait.Portrait, text []byte, conversion int64) (out []byte,
	note string, err error) {
	from, to := m.Model+"@"+m.Version, p.Model+"@"+p.Version
	wk := &Work{Name: b.File, Source: string(text), From: from, To: to, Answers: map[string]string{}}
	if conversion != 0 {
		if _, wk, err = s.OpenWork(ctx, conversion); err != nil {
			return nil, "", err
		}
		if wk.Source != string(text) || wk.Fragment {
			return nil, "", fmt.Errorf("conversion %d is not of this backup's configuration", conversion)
		}
		if wk.To != to {
			return nil, "", fmt.Errorf("conversion %d is for %s, the device is %s", conversion, wk.To, to)
		}
	}
	r, err := s.Convert(ctx, wk)
	if err != nil {
		return nil, "", err
	}
	if !r.Ledger.Complete() {
		return nil, "", fmt.Errorf("its conversion from %s to %s needs a person: work it out first (verimorph conversion start -backup %d -to %s), then restore with that conversion", from, to, b.ID, to)
	}
	return []byte(r.Text), fmt.Sprintf("converted from %s to %s", from, to), nil
}

// compareParts says what putting a part back would change, from what is on the device to what would be put.
func (s *Planner) compareParts(ctx context.Context, pv *RestorePart, part *backup.Part, src *device.Part, p *portrait.Portrait, now, data []byte) error {
	pv.State = PartChanges
	if src.Same(now, data) {
		pv.State = PartSame
		return nil
	}
	if part.Syntax == "" {
		pv.Note = strings.TrimSpace(fmt.Sprintf("%s %d bytes on the device, %d in the backup", pv.Note, len(now), len(data)))
		return nil
	}
	schema, err := s.SchemaFor(ctx, p, part)
	if IsKind(err, NotNow) { // it can be put back all the same
		pv.Note = strings.TrimSpace(pv.Note + " " + err.Error())
		return nil
	}
	if err != nil {
		return err
	}
	a, bad1 := schema.Parse(part.File, src.Steady(string(now)))
	b, bad2 := schema.Parse(part.File, src.Steady(string(data)))
	if len(bad1)+len(bad2) > 0 {
		pv.Note = strings.TrimSpace(fmt.Sprintf("%s; %d lines on the device and %d in the backup are not understood, so they are not compared",
			pv.Note, len(bad1), len(bad2)))
		return nil
	}
	pv.Comparison = config.Compare(a, b, schema)
	if pv.Comparison.Same() {
		pv.State = PartSame
	}
	return nil
}

// SchemaFor is what is known about a configuration of a device as it is now.
func (s *Planner) SchemaFor(ctx context.Context, p *portrait.Portrait, part *backup.Part) (*config.Schema, error) {
	now, err := s.Catalogues.Now(ctx)
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

// DraftRestore drafts a restore and records it.
func (s *Planner) DraftRestore(ctx context.Context, by access.Actor, w change.RestoreWish) (int64, error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	r, err := s.Preview(ctx, by, w)
	if err != nil {
		return 0, err
	}
	if len(r.Refusals) > 0 {
		return 0, conflict("%s", strings.Join(r.Refusals, "; "))
	}
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return 0, err
	}
	steps, err := change.DraftRestore(cat.FamilyOfModel(r.Model), r.steps, s.Engine.Profile(r.device).Abilities.Validate, s.Pace)
	if err != nil {
		return 0, conflict("%s", err)
	}
	w.Device = r.Device
	c := store.Change{Members: []store.Member{{DeviceID: r.device.ID}}, From: r.Version, To: r.Version, Path: []byte("{}"), Kind: change.Restoring,
		ExpectsHostKey: w.ExpectNewHostKey,
		Wish:           &change.Wish{Format: change.WishFormat, Restore: &w}}
	if c.Work, err = json.Marshal(r.work); err != nil {
		return 0, err
	}
	return s.Store.AddChange(ctx, by, withSteps(c, &change.Plan{Steps: steps}))
}
