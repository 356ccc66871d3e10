package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/device"
	"verimorph/store"
)

// portraitPart is the part that we add ourselves: what the device was when the bundle was taken.
const portraitPart = "portrait"

// Backup takes a bundle of a device, outside a change. by is who wants it.
func (e *Engine) Backup(ctx context.Context, d store.Device, reason string, by access.Actor) (b store.Backup, err error) {
	attempt, err := e.Store.BeginAttempt(ctx, d.ID, reason)
	if err != nil {
		return b, err
	}
	defer func() { e.endAttempt(context.WithoutCancel(ctx), attempt, d, reason, b, err) }()
	asking, c, done, err := e.ask(ctx, d, by, "backup, "+reason)
	if err != nil {
		return b, err
	}
	defer done()
	return e.take(asking, c, store.Backup{DeviceID: d.ID, Device: d.Name, Reason: reason}, d)
}

// endAttempt records what came of an attempt and tells whoever wants to know.
func (e *Engine) endAttempt(ctx context.Context, attempt int64, d store.Device, reason string, b store.Backup, err error) {
	outcome, detail := store.AttemptComplete, ""
	var id *int64
	switch {
	case err != nil:
		outcome, detail = store.AttemptFailed, err.Error()
	case !b.Complete:
		outcome, detail = store.AttemptIncomplete, "it lacks: "+strings.Join(b.Lacks, ", ")
	}
	if b.ID != 0 {
		id = &b.ID
	}
	BackupsTaken.WithLabelValues(outcome).Inc()
	if err := e.Store.EndAttempt(ctx, attempt, outcome, detail, id); err != nil { // it is closed as lost later
		e.Log.Warn("cannot record what came of a backup", "device", d.Name, "err", err)
	}
	e.Log.Info("backup", "device", d.Name, "reason", reason, "outcome", outcome, "detail", detail)
	if outcome != store.AttemptComplete {
		e.notify(ctx, Notice{Event: "backup." + outcome, Device: d.Name, Text: fmt.Sprintf("The backup of %s (%s) is %s: %s", d.Name, reason, outcome, detail)})
	}
}

// take fetches every part that the dialect declares, stores the bundle whole, and records it. A part that cannot be read
// is named; when not even a connection is left, or nothing at all could be read, it is an error.
func (e *Engine) take(ctx context.Context, c *device.Client, b store.Backup, d store.Device) (store.Backup, error) {
	p, err := c.Portrait(ctx)
	if err != nil {
		return b, err
	}
	dialect := e.Profile(d)
	if len(dialect.Parts) == 0 {
		return b, fmt.Errorf("dialect %q declares no parts of a backup; add them under backup: in its file", d.Dialect)
	}
	defer c.CloseFiles()
	m := &backup.Manifest{Device: d.Name, Maker: p.Maker, Model: p.Model, Serial: p.Serial, Version: p.Version, Dialect: d.Dialect,
		TakenAt: e.now().UTC().Truncate(time.Second), Reason: b.Reason}
	content := map[string][]byte{}
	for i := range dialect.Parts {
		s := &dialect.Parts[i]
		data, proof, err := c.FetchPart(ctx, s.Name)
		k := device.KindOf(err)
		switch {
		case err == nil:
			m.Parts = append(m.Parts, backup.Part{Name: s.Name, Title: s.Title, Kind: s.Kind, Role: s.Role, File: s.File, Syntax: s.Syntax, Version: p.Version,
				By: s.By, Proof: proof})
			content[s.Name] = data
		case ctx.Err() != nil || k == device.Lost || k == device.Silent || k == "":
			// The connection is gone, or what the device still has to say would be taken for its next answer.
			return b, fmt.Errorf("%s: %w", s.Title, err)
		default:
			m.Lacks = append(m.Lacks, backup.Lack{Name: s.Name, Title: s.Title, Kind: s.Kind, Why: strings.TrimPrefix(err.Error(), d.Address+": "),
				Needed: !(s.Optional && k == device.Refused)})
		}
	}
	if len(content) == 0 {
		return b, fmt.Errorf("not one part could be read; the first: %s", m.Lacks[0].Why)
	}
	own, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return b, err
	}
	m.Parts = append(m.Parts, backup.Part{Name: portraitPart, Title: "Portrait", Kind: backup.Portrait, File: "portrait.json", Version: p.Version,
		By: device.ByPortrait, Proof: "ours"})
	content[portraitPart] = own
	// The device may have been restarted into another version in the middle: such a bundle would be of no version at all.
	after, err := c.Identity(ctx)
	if err != nil {
		return b, err
	}
	if after.Version != p.Version || after.Started != p.Started {
		return b, fmt.Errorf("the device was restarted while its backup was taken; it is not kept")
	}
	return e.keepBundle(ctx, m, content, b)
}

// keepBundle stores a bundle and records it.
func (e *Engine) keepBundle(ctx context.Context, m *backup.Manifest, content map[string][]byte, b store.Backup) (store.Backup, error) {
	sum, err := e.Backups.Put(m, content)
	if err != nil {
		return b, fmt.Errorf("store the backup: %w", err)
	}
	b = record(m, sum, b)
	b.ID, err = e.Store.AddBackup(ctx, b)
	return b, records(err)
}

// record fills in what the records say of a bundle.
func record(m *backup.Manifest, sum string, b store.Backup) store.Backup {
	b.Manifest, b.Version, b.Model, b.TakenAt, b.Complete, b.Reason, b.Size = sum, m.Version, m.Model, m.TakenAt, m.Complete(), m.Reason, m.Size()
	if p := m.Main(); p != nil {
		b.File, b.SHA256 = p.File, p.SHA256
	}
	for _, l := range m.Lacks {
		if l.Needed {
			b.Lacks = append(b.Lacks, l.Title)
		}
	}
	return b
}

// Import takes over a bundle that was taken elsewhere.
func (e *Engine) Import(ctx context.Context, d store.Device, m *backup.Manifest, content map[string][]byte) (store.Backup, error) {
	m.Device, m.Reason, m.ID = d.Name, backup.Imported, ""
	return e.keepBundle(ctx, m, content, store.Backup{DeviceID: d.ID, Device: d.Name})
}

// adopt brings records and store together at the start: bundles of the first versions are taken over, and a bundle that
// was stored when the process died before it was recorded is recorded.
func (e *Engine) adopt(ctx context.Context) error {
	if err := e.moveOldPasswords(ctx); err != nil {
		return err
	}
	if err := e.adoptFirst(ctx); err != nil {
		return err
	}
	kept, gone, err := e.Store.Manifests(ctx)
	if err != nil {
		return err
	}
	there, err := e.Backups.Bundles()
	if err != nil {
		return err
	}
	for _, sum := range there {
		if _, known := kept[sum]; known || gone[sum] {
			continue
		}
		m, err := e.Backups.Manifest(sum)
		if err != nil {
			e.Log.Error("a bundle that nobody recorded cannot be read", "bundle", sum, "err", err)
			continue
		}
		d, err := e.Store.Device(ctx, m.Device)
		if errors.Is(err, store.ErrNotFound) {
			e.Log.Warn("a bundle is of a device that is not in the fleet; it is kept", "bundle", sum, "device", m.Device)
			continue
		}
		if err != nil {
			return err
		}
		b := record(m, sum, store.Backup{DeviceID: d.ID, Device: d.Name})
		if _, err := e.Store.AddBackup(ctx, b); err != nil {
			return err
		}
		e.Log.Info("a bundle was stored but not recorded; it is recorded now", "device", d.Name, "bundle", sum)
	}
	return nil
}

// adoptFirst takes over configurations that the first versions kept one by one.
func (e *Engine) adoptFirst(ctx context.Context) error {
	old, err := e.Store.Unadopted(ctx)
	if err != nil || len(old) == 0 {
		return err
	}
	for _, b := range old {
		data, err := e.readFirst(b.SHA256)
		if err != nil {
			e.Log.Error("a backup of an earlier version cannot be read; its record stays", "backup", b.ID, "err", err)
			continue
		}
		d, err := e.Store.DeviceByID(ctx, b.DeviceID)
		if err != nil {
			return err
		}
		m := &backup.Manifest{Device: b.Device, Dialect: d.Dialect, Version: b.Version, TakenAt: b.TakenAt, Reason: backup.OnDemand,
			Parts: []backup.Part{{Name: "running", Title: "Running configuration", Kind: backup.Configuration, File: b.File, Version: b.Version,
				By: "sftp", Proof: "read twice"}}}
		sum, err := e.Backups.Put(m, map[string][]byte{"running": data})
		if err != nil {
			return err
		}
		if err := e.Store.AdoptBackup(ctx, b.ID, sum); err != nil {
			return err
		}
	}
	return nil
}

// readFirst reads a file that a first version sealed.
func (e *Engine) readFirst(sum string) ([]byte, error) {
	sealed, err := os.ReadFile(filepath.Join(e.Backups.Dir(), sum[:2], sum))
	if err != nil {
		return nil, err
	}
	data, err := e.Vault.Open("blob "+sum, sealed)
	if err != nil {
		return nil, err
	}
	if got := sha256.Sum256(data); hex.EncodeToString(got[:]) != sum {
		return nil, errors.New("it is damaged")
	}
	return data, nil
}

// Main reads the main configuration of a bundle: its text and what wrote it.
func (e *Engine) Main(b store.Backup) (string, error) {
	if b.File == "" {
		return "", fmt.Errorf("backup %d of %s has no configuration in it", b.ID, b.Device)
	}
	data, err := e.Backups.Read(b.SHA256)
	return string(data), err
}

// backupNote is the evidence of a bundle, with what a person should know of it.
func (e *Engine) backupNote(ctx context.Context, b store.Backup) string {
	note := fmt.Sprintf("backup %d: %d bytes in parts, read back", b.ID, b.Size)
	if !b.Complete {
		note += "; it lacks: " + strings.Join(b.Lacks, ", ")
	}
	// A line that we cannot read is kept like any other; whoever reads the change shall know of it.
	text, err := e.Main(b)
	if err != nil {
		return note
	}
	if schema, err := e.reading(ctx, b.Model, b.Version, "", b.File, text); err != nil {
		note += fmt.Sprintf("; whether each line of %s is understood is not known: %s", b.File, err)
	} else if _, broken := schema.Parse(b.File, text); len(broken) > 0 {
		note += fmt.Sprintf("; %d lines of %s are not understood, the first: %s", len(broken), b.File, broken[0])
	}
	return note
}

// whole reports whether every part of a bundle can be read now.
func (e *Engine) whole(b store.Backup) error {
	if err := e.Backups.Refresh(); err != nil {
		return err
	}
	m, err := e.Backups.Manifest(b.Manifest)
	if err != nil {
		return err
	}
	for _, p := range m.Parts {
		if _, err := e.Backups.Read(p.SHA256); err != nil {
			return fmt.Errorf("part %s: %w", p.Name, err)
		}
	}
	return nil
}

// A CheckResult is what a check of the whole store found, in the words of the records.
type CheckResult struct {
	Volumes, Bundles, Objects int
	Stored, Content           int64
	Damages                   []CheckDamage
	Took                      time.Duration
}

// A CheckDamage is one damage, with the backups that it hits.
type CheckDamage struct {
	Volume, What string
	Backups      []store.Backup
}

// CheckBackups proves the whole store against the records.
func (e *Engine) CheckBackups(ctx context.Context, deep bool) (*CheckResult, error) {
	began := e.now()
	kept, _, err := e.Store.Manifests(ctx)
	if err != nil {
		return nil, err
	}
	expect := make([]string, 0, len(kept))
	for sum := range kept {
		expect = append(expect, sum)
	}
	slices.Sort(expect)
	r, err := e.Backups.Check(ctx, checking(expect, deep))
	if err != nil {
		return nil, err
	}
	out := &CheckResult{Volumes: r.Volumes, Bundles: r.Bundles, Objects: r.Objects, Stored: r.Stored, Content: r.Content, Took: e.since(began)}
	var damaged []int64
	for _, d := range r.Damages {
		cd := CheckDamage{Volume: d.Volume, What: d.What}
		for _, sum := range d.Lost {
			b, err := e.Store.Backup(ctx, kept[sum])
			if err != nil {
				return nil, err
			}
			cd.Backups, damaged = append(cd.Backups, b), append(damaged, b.ID)
		}
		out.Damages = append(out.Damages, cd)
	}
	if err := e.Store.BackupsChecked(ctx, slices.Collect(maps.Values(kept)), damaged); err != nil {
		return nil, err
	}
	if len(out.Damages) > 0 {
		e.notify(ctx, Notice{Event: "backup.damage", Text: fmt.Sprintf("A check of the backup store found %d damages; the first: %s %s",
			len(out.Damages), out.Damages[0].Volume, out.Damages[0].What)})
	}
	return out, nil
}
