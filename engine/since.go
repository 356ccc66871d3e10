package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"verimorph/core/backup"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/store"
)

// What going back undoes: what was configured under the newer version after the device left the older one.

// Since is what was configured since a device left a version. Unknown says why nobody can tell; then there are no differences.
type Since struct {
	Backup      int64 // the last one taken under the older version, which is compared with; 0: there is none
	Differences []config.Difference
	Unknown     string
	Notes       []string
	CanCarry    bool // conversions lead from the newer version to the older
}

// Paths lists what differs, but for what only looks different.
func (s *Since) Paths() (out []string) {
	for _, d := range s.Differences {
		if d.Kind != config.Cosmetic {
			out = append(out, d.Path)
		}
	}
	return out
}

// Leaving is what a device runs and what it ran before, which it would go back to.
type Leaving struct {
	Model, Version string
	OldModel, Old  string               // OldModel is "" where it is the same
	Ports          []catalog.PortChange // that had another name then: from the old to the new
}

// SinceLeft compares the configuration of now with the last backup taken under the older version.
func (e *Engine) SinceLeft(ctx context.Context, d store.Device, x Leaving, now []byte) (out Since, err error) {
	model, from, oldModel, to := x.Model, x.Version, cmp.Or(x.OldModel, x.Model), x.Old
	bs, err := e.Store.Backups(ctx, store.BackupList{Device: d.Name, Limit: 200})
	if err != nil {
		return out, records(err)
	}
	i := slices.IndexFunc(bs, func(b store.Backup) bool {
		return b.Version == to && b.File != "" && (b.Model == "" || b.Model == oldModel)
	})
	if i < 0 {
		out.Unknown = fmt.Sprintf("there is no backup taken under %s, so nobody can say what was configured since", to)
		return out, nil
	}
	b := bs[i]
	out.Backup = b.ID
	text, err := e.Main(b)
	if err != nil {
		out.Unknown = err.Error()
		return out, nil
	}
	// What the newer version writes differently is no loss: the old text is carried to the form of now first.
	if from != to || model != oldModel {
		converted, _, err := e.convert(ctx, b, b.File, text, crossing{from: stop(oldModel, to), to: stop(model, from), ports: x.Ports})
		if record := (*recordError)(nil); errors.As(err, &record) {
			return out, err
		}
		if err == nil {
			text = converted
		} else {
			out.Notes = append(out.Notes, "the two versions write their configuration in different forms, and no complete conversion leads from one to the other; differences of form are among what is shown")
		}
	}
	schema, err := e.reading(ctx, model, from, "", b.File, string(now))
	if err != nil {
		return out, err
	}
	part := e.Profile(d).File(b.File)
	a, bad1 := schema.Parse(b.File, part.Steady(text))
	c, bad2 := schema.Parse(b.File, part.Steady(string(now)))
	if n := len(bad1) + len(bad2); n > 0 {
		out.Unknown = fmt.Sprintf("%d lines are not understood, so they are not compared", n)
		return out, nil
	}
	out.Differences = config.Compare(a, c, schema).Differences
	out.CanCarry = e.leads(ctx, model, from, to)
	return out, nil
}

// Carry works out what carrying the configuration of now across to another version does to it.
func (e *Engine) Carry(ctx context.Context, model, file, from, to string, now []byte) (*convert.Ledger, error) {
	if e.Library == nil {
		return nil, fmt.Errorf("no conversions are loaded")
	}
	lib, err := e.library(ctx)
	if err != nil {
		return nil, err
	}
	f, err := lib.ParseStop(model + "@" + from)
	if err != nil {
		return nil, err
	}
	t, err := lib.ParseStop(model + "@" + to)
	if err != nil {
		return nil, err
	}
	doc, bad := lib.Schema(f).Parse(file, string(now))
	if len(bad) > 0 {
		return nil, fmt.Errorf("%d lines are not understood, the first: %s", len(bad), bad[0])
	}
	r, err := lib.Convert(convert.Job{From: f, To: t}, doc)
	if err != nil {
		return nil, err
	}
	return r.Ledger, nil
}

// leads reports whether conversions lead from one version to another.
func (e *Engine) leads(ctx context.Context, model, from, to string) bool {
	if e.Library == nil {
		return false
	}
	lib, err := e.library(ctx)
	if err != nil {
		return false
	}
	at, err := lib.ParseStop(model + "@" + from)
	if err != nil {
		return false
	}
	v, err := version.Parse(to)
	if err != nil {
		return false
	}
	_, err = lib.Plan(at, convert.Stop{Model: model, Version: v}, false)
	return err == nil
}

// undone fills in what a start of the previous installation undoes. c is nil when the device cannot be asked.
func (e *Engine) undone(ctx context.Context, f *ready.Facts, c *store.Change, way *path.Path, d store.Device, p *portrait.Portrait, client *device.Client) error {
	if c.Kind != change.Return || p == nil || client == nil {
		return nil
	}
	if e.Profile(d).Abilities.FromFiles { // the configuration is not that of an installation: what was configured stays
		return nil
	}
	f.GoesBack = true
	if slices.ContainsFunc(c.Steps, func(s store.Step) bool { return s.Plan.Kind == change.Convert && !s.Plan.Back }) {
		f.Carried = true
		return nil
	}
	source := e.Profile(d).Role(backup.Running)
	if source == nil {
		f.UndoneUnknown = "its dialect does not say how the running configuration is read"
		return nil
	}
	now, _, err := client.FetchPart(ctx, source.Name)
	if k := device.KindOf(err); k == device.Refused || k == device.NotUnderstood {
		f.UndoneUnknown = "the configuration of now cannot be read: " + err.Error()
		return nil
	}
	if err != nil {
		return err
	}
	old := way.LastModel()
	s, err := e.SinceLeft(ctx, d, Leaving{Model: p.Model, Version: p.Version, OldModel: old, Old: c.To, Ports: way.Renamed(old, p.Model)}, now)
	if err != nil {
		return err
	}
	f.Undone, f.UndoneUnknown, f.UndoneBackup, f.CanCarry = s.Paths(), s.Unknown, s.Backup, s.CanCarry
	return nil
}

// older fills in what speaks against the release that a downgrade leads to.
func (e *Engine) older(ctx context.Context, f *ready.Facts, c *store.Change, way *path.Path) error {
	from, bad1 := version.Parse(c.From)
	to, bad2 := version.Parse(c.To)
	if bad1 != nil || bad2 != nil || !to.Less(from) || c.Kind != change.Firmware && c.Kind != change.Return {
		return nil
	}
	f.Older = c.To
	if e.Named != nil {
		named, unknown, err := e.Named(ctx, way.LastModel(), c.To)
		if err != nil {
			return unusable(err)
		}
		for _, id := range named {
			f.Against = append(f.Against, "advisory "+id+" names it")
		}
		for _, id := range unknown {
			f.Against = append(f.Against, "whether advisory "+id+" names it is not known, since its stored document cannot be used")
		}
	}
	if e.Catalogue == nil {
		return nil
	}
	cat, err := e.Catalogue(ctx)
	if err != nil {
		return unusable(err)
	}
	family := cat.FamilyOfModel(way.LastModel())
	if family == nil {
		return nil
	}
	if r := family.Release(to); r != nil && r.Stage == catalog.Withdrawn {
		f.Against = append(f.Against, "its maker has withdrawn it")
	}
	if m := family.Model(way.LastModel()); m != nil && !m.EndOfSupport.IsZero() && m.EndOfSupport.Before(c.Now) {
		f.Against = append(f.Against, fmt.Sprintf("support of %s ended on %s", m.Name, m.EndOfSupport.Format(time.DateOnly)))
	}
	return nil
}
