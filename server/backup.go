package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"filippo.io/age"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/backup"
	"verimorph/core/config"
	"verimorph/core/convert"
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

// backup reads a record; a bundle that was let go is not found any more.
func (s *Server) backup(ctx context.Context, id int64) (store.Backup, error) {
	b, err := s.Store.Backup(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return b, notFound("there is no backup %d", id)
	}
	if err == nil && b.GoneAt != nil {
		return b, notFound("backup %d of %s was let go on %s: %s", id, b.Device, b.GoneAt.Format(time.DateOnly), b.GoneWhy)
	}
	return b, err
}

func (s *Server) manifest(ctx context.Context, id int64) (store.Backup, *backup.Manifest, error) {
	b, err := s.backup(ctx, id)
	if err != nil {
		return b, nil, err
	}
	m, err := s.Backups.Manifest(b.Manifest)
	if err != nil {
		return b, nil, newProblem(http.StatusInternalServerError, "internal", "The backup cannot be read", "backup %d: %s; look with: verimorph backup check", id, err)
	}
	return b, m, nil
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
	b, m, err := s.manifest(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	out := gen.GetBackup200JSONResponse{Backup: apiBackup(b), Parts: []gen.BackupPart{}, Lacks: []gen.BackupLack{}}
	dialect := s.Engine.Dialects[m.Dialect]
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
	schema, err := s.schemaOf(ctx, b)
	if err != nil {
		return "", err
	}
	return schema.MaskText(p.File, string(data)), nil
}

// ReadPart answers with one part as text.
func (s *Server) ReadPart(ctx context.Context, r gen.ReadPartRequestObject) (gen.ReadPartResponseObject, error) {
	b, m, err := s.manifest(ctx, r.Id)
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
	b, err := s.backup(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	if err := s.Store.HoldBackup(ctx, b.ID, r.Body.Reason, user(ctx)); err != nil {
		return nil, err
	}
	return gen.HoldBackup204Response{}, s.Store.Audit(ctx, user(ctx), "backup held", b.Device, fmt.Sprintf("backup %d: %s", b.ID, r.Body.Reason))
}

// ReleaseBackup ends a hold.
func (s *Server) ReleaseBackup(ctx context.Context, r gen.ReleaseBackupRequestObject) (gen.ReleaseBackupResponseObject, error) {
	b, err := s.backup(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	if err := s.Store.HoldBackup(ctx, b.ID, "", user(ctx)); err != nil {
		return nil, err
	}
	return gen.ReleaseBackup204Response{}, s.Store.Audit(ctx, user(ctx), "backup released", b.Device, fmt.Sprintf("backup %d", b.ID))
}

// ExportBackup answers with a bundle: masked texts, or everything encrypted.
func (s *Server) ExportBackup(ctx context.Context, r gen.ExportBackupRequestObject) (gen.ExportBackupResponseObject, error) {
	b, m, err := s.manifest(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if r.Params.Form == gen.Masked {
		kept := *m
		kept.Parts = nil
		texts := map[string][]byte{}
		for i := range m.Parts {
			p := m.Parts[i]
			text, err := s.masked(ctx, b, &p)
			if err != nil {
				kept.Lacks = append(kept.Lacks, backup.Lack{Name: p.Name, Title: p.Title, Kind: p.Kind, Why: "not exported in the open", Needed: true})
				continue
			}
			p.SHA256, p.Size, p.Proof = sum([]byte(text)), int64(len(text)), p.Proof+"; secrets masked for export"
			texts[p.Name] = []byte(text)
			kept.Parts = append(kept.Parts, p)
		}
		if err := backup.WriteArchive(&out, &kept, func(p *backup.Part) ([]byte, error) { return texts[p.Name], nil }); err != nil {
			return nil, err
		}
	} else {
		recipients, err := s.Vault.Recipients()
		if err != nil {
			return nil, err
		}
		for _, text := range value(r.Params.Recipient) {
			one, err := age.ParseX25519Recipient(text)
			if err != nil {
				return nil, badRequest("%q is no age recipient (age1...)", text)
			}
			recipients = append(recipients, one)
		}
		w, err := age.Encrypt(&out, recipients...)
		if err != nil {
			return nil, err
		}
		err = backup.WriteArchive(w, m, func(p *backup.Part) ([]byte, error) { return s.Backups.Read(p.SHA256) })
		if err = errors.Join(err, w.Close()); err != nil {
			return nil, err
		}
	}
	if err := s.Store.Audit(ctx, user(ctx), "backup exported", b.Device, fmt.Sprintf("backup %d, %s", b.ID, r.Params.Form)); err != nil {
		return nil, err
	}
	return gen.ExportBackup200ApplicationoctetStreamResponse{Body: &out, ContentLength: int64(out.Len())}, nil
}

// maxImport bounds a bundle that is taken over, in bytes.
const maxImport = 512 << 20

// ImportBackup takes a bundle over.
func (s *Server) ImportBackup(ctx context.Context, r gen.ImportBackupRequestObject) (gen.ImportBackupResponseObject, error) {
	data, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	refuse := func(err error) error {
		return newProblem(http.StatusUnprocessableEntity, "bad-request", "The bundle is refused", "%s", err)
	}
	if bytes.HasPrefix(data, []byte("age-encryption.org/")) {
		identities, err := s.Vault.Identities()
		if err != nil {
			return nil, err
		}
		plain, err := age.Decrypt(bytes.NewReader(data), identities...)
		if err == nil {
			data, err = io.ReadAll(io.LimitReader(plain, maxImport))
		}
		if err != nil {
			return nil, refuse(errors.New("it is damaged, or not encrypted to this installation; export it again with this installation's recipient (verimorph key show)"))
		}
	}
	m, parts, err := backup.ReadArchive(bytes.NewReader(data), maxImport)
	if err != nil {
		return nil, refuse(err)
	}
	for _, p := range m.Parts {
		if strings.Contains(p.Proof, "secrets masked") {
			return nil, refuse(errors.New("its secrets are masked, so it could never be restored; export it as an encrypted archive"))
		}
	}
	name := value(r.Params.Device)
	if name == "" {
		name = m.Device
	}
	d, err := s.device(ctx, name)
	if err != nil {
		return nil, err
	}
	b, err := s.Engine.Import(ctx, d, m, parts)
	if err != nil {
		return nil, err
	}
	if b, err = s.backup(ctx, b.ID); err != nil {
		return nil, err
	}
	return gen.ImportBackup201JSONResponse(apiBackup(b)), nil
}

// lateAfter is how much older than its schedule's last occurrence the last good backup may be.
const lateAfter = 2 * time.Hour

// GetBackupHealth answers with how the backups of each device are.
func (s *Server) GetBackupHealth(ctx context.Context, r gen.GetBackupHealthRequestObject) (gen.GetBackupHealthResponseObject, error) {
	limit, _, err := page(r.Params.Limit, nil)
	if err != nil {
		return nil, err
	}
	hs, err := s.Store.Health(ctx, value(r.Params.Cursor), limit+1)
	if err != nil {
		return nil, err
	}
	schedules, err := s.Store.BackupSchedules(ctx)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	items, next, err := listed(hs, limit, func(h store.Health) any { return h.Device }, always(func(h store.Health) gen.BackupHealth {
		return apiHealth(h, store.ScheduleOf(schedules, &store.Device{ID: h.DeviceID, Groups: h.Groups}), now)
	}))
	return gen.GetBackupHealth200JSONResponse{Items: items, Next: next}, err
}

func apiHealth(h store.Health, sch *store.BackupSchedule, now time.Time) gen.BackupHealth {
	out := gen.BackupHealth{Device: h.Device, Site: h.Site, LastGood: h.LastGood, LastGoodId: h.LastGoodID, Failures: h.Failures, Bundles: h.Bundles, Bytes: h.Bytes, Health: gen.BackupHealthHealthGood}
	scheduled := sch != nil && sch.Cron != ""
	if scheduled {
		out.Next = h.Next
	}
	if h.Last != nil {
		out.Last = ptr(apiAttempt(*h.Last))
	}
	switch {
	case h.Last == nil && h.LastGood == nil:
		out.Health = gen.BackupHealthHealthNever
	case h.Last != nil && h.Last.Outcome == store.AttemptFailed:
		out.Health = gen.BackupHealthHealthFailed
	case h.Last != nil && h.Last.Outcome == store.AttemptMissed:
		out.Health = gen.BackupHealthHealthMissed
	case h.Last != nil && h.Last.Outcome == store.AttemptIncomplete || h.LastGood == nil:
		out.Health = gen.BackupHealthHealthIncomplete
	case scheduled:
		if rhythm, err := backup.ReadSchedule(sch.Cron, time.Duration(sch.Spread)*time.Second); err == nil {
			if due := rhythm.Next(h.Device, *h.LastGood); now.Sub(due) > lateAfter {
				out.Health = gen.BackupHealthHealthLate
			}
		}
	}
	return out
}

func apiAttempt(a store.Attempt) gen.BackupAttempt {
	return gen.BackupAttempt{Id: a.ID, Device: a.Device, Reason: a.Reason, BeganAt: a.BeganAt, EndedAt: a.EndedAt, Outcome: gen.BackupAttemptOutcome(a.Outcome), Detail: a.Detail, Backup: a.BackupID}
}

// ListBackupAttempts answers with the latest attempts of a device.
func (s *Server) ListBackupAttempts(ctx context.Context, r gen.ListBackupAttemptsRequestObject) (gen.ListBackupAttemptsResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	as, err := s.Store.Attempts(ctx, d.ID, 50)
	if err != nil {
		return nil, err
	}
	out := gen.ListBackupAttempts200JSONResponse{Items: []gen.BackupAttempt{}}
	for _, a := range as {
		out.Items = append(out.Items, apiAttempt(a))
	}
	return out, nil
}

// GetHistory answers with the distinct states of a device's configuration.
func (s *Server) GetHistory(ctx context.Context, r gen.GetHistoryRequestObject) (gen.GetHistoryResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	bs, times, last, err := s.Store.States(ctx, d.ID, 500)
	if err != nil {
		return nil, err
	}
	out := gen.GetHistory200JSONResponse{Items: []gen.ConfigurationState{}}
	for i, b := range bs {
		out.Items = append(out.Items, gen.ConfigurationState{Backup: apiBackup(b), Times: times[i], LastSeen: last[i]})
	}
	return out, nil
}

// GetDrift asks the device now and says what runs against what is saved and what was backed up.
func (s *Server) GetDrift(ctx context.Context, r gen.GetDriftRequestObject) (gen.GetDriftResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	dialect := s.Engine.Dialects[d.Dialect]
	if dialect == nil || dialect.Part("running") == nil {
		return nil, conflict("dialect %q declares no running configuration", d.Dialect)
	}
	running := dialect.Part("running")
	names := []string{"running"}
	if dialect.Part("saved") != nil {
		names = append(names, "saved")
	}
	p, now, unread, err := s.Engine.PartsNow(ctx, d, names, user(ctx))
	if err != nil {
		return nil, err
	}
	if why := unread["running"]; why != "" {
		return nil, conflict("%s", why)
	}
	part := &backup.Part{File: running.File, Syntax: running.Syntax}
	schema, err := s.schemaFor(ctx, p, part)
	if err != nil {
		return nil, err
	}
	read := func(name, text string) (*config.Document, error) {
		doc, bad := schema.Parse(name, text)
		if len(bad) > 0 {
			return nil, newProblem(http.StatusUnprocessableEntity, "bad-request", "The configuration cannot be read", "%s", bad[0])
		}
		return doc, nil
	}
	have, err := read(running.File, string(now["running"]))
	if err != nil {
		return nil, err
	}
	out := gen.GetDrift200JSONResponse{Unsaved: []gen.Difference{}, SinceBackup: []gen.Difference{}}
	if text, ok := now["saved"]; ok {
		saved, err := read("saved", string(text))
		if err != nil {
			return nil, err
		}
		out.Unsaved = view.Differences(config.Compare(saved, have, schema))
	} else {
		out.Note = ptr("the device does not tell its saved configuration")
	}
	bs, err := s.Store.Backups(ctx, d.Name, 0, 1)
	if err != nil {
		return nil, err
	}
	if len(bs) == 0 || bs[0].File == "" {
		out.Note = ptr(strings.TrimPrefix(value(out.Note)+"; there is no backup yet", "; "))
		return out, nil
	}
	out.Backup = ptr(apiBackup(bs[0]))
	if bs[0].Version != p.Version {
		out.Note = ptr(fmt.Sprintf("the last backup was taken from %s, the device runs %s", bs[0].Version, p.Version))
	}
	text, err := s.Engine.Main(bs[0])
	if err != nil {
		return nil, err
	}
	old, err := read(bs[0].File, text)
	if err != nil {
		return nil, err
	}
	out.SinceBackup = view.Differences(config.Compare(old, have, schema))
	return out, nil
}

// maxHits bounds the answer of a search.
const maxHits = 500

// SearchBackups looks for a text in the latest configuration of every device. Secrets are masked before it looks: nobody
// can find one out by searching for it.
func (s *Server) SearchBackups(ctx context.Context, r gen.SearchBackupsRequestObject) (gen.SearchBackupsResponseObject, error) {
	expr := regexp.QuoteMeta(r.Body.Text)
	if value(r.Body.Pattern) {
		expr = r.Body.Text
	} else {
		expr = "(?i)" + expr
	}
	re, err := regexp.Compile(expr)
	if err != nil {
		return nil, badRequest("the pattern cannot be read: %s", err)
	}
	bs, err := s.Store.LatestBackups(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.SearchBackups200JSONResponse{Items: []gen.SearchHit{}, Unread: []string{}}
	for _, b := range bs {
		if d := value(r.Body.Device); d != "" && d != b.Device {
			continue
		}
		_, text, schema, err := s.backupText(ctx, b.ID)
		if err != nil {
			out.Unread = append(out.Unread, fmt.Sprintf("%s: %s", b.Device, asProblem(err).Detail))
			continue
		}
		out.Devices++
		for i, line := range config.Lines(schema.MaskText(b.File, text)) {
			if !re.MatchString(line) {
				continue
			}
			if len(out.Items) == maxHits {
				out.More = ptr(true)
				break
			}
			out.Items = append(out.Items, gen.SearchHit{Device: b.Device, Backup: b.ID, Version: b.Version, TakenAt: b.TakenAt, Line: i + 1, Text: strings.TrimRight(line, "\r\n")})
		}
	}
	return out, nil
}

// PruneBackups lets go what retention does not keep.
func (s *Server) PruneBackups(ctx context.Context, _ gen.PruneBackupsRequestObject) (gen.PruneBackupsResponseObject, error) {
	n, err := s.Engine.Prune(ctx)
	return gen.PruneBackups200JSONResponse{Let: n}, err
}

// CheckBackups proves the whole store.
func (s *Server) CheckBackups(ctx context.Context, r gen.CheckBackupsRequestObject) (gen.CheckBackupsResponseObject, error) {
	c, err := s.Engine.CheckBackups(ctx, value(r.Body.Deep))
	if err != nil {
		return nil, err
	}
	out := gen.CheckBackups200JSONResponse{Volumes: c.Volumes, Bundles: c.Bundles, Objects: c.Objects, Stored: c.Stored, Content: c.Content, Seconds: c.Took.Seconds(), Damages: []gen.BackupDamage{}}
	for _, d := range c.Damages {
		ad := gen.BackupDamage{Volume: d.Volume, What: d.What, Backups: []gen.Backup{}}
		for _, b := range d.Backups {
			ad.Backups = append(ad.Backups, apiBackup(b))
		}
		out.Damages = append(out.Damages, ad)
	}
	return out, nil
}

// ListBackupSchedules answers with all schedules.
func (s *Server) ListBackupSchedules(ctx context.Context, _ gen.ListBackupSchedulesRequestObject) (gen.ListBackupSchedulesResponseObject, error) {
	all, err := s.Store.BackupSchedules(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.ListBackupSchedules200JSONResponse{Items: []gen.BackupSchedule{}}
	for _, b := range all {
		out.Items = append(out.Items, apiSchedule(b))
	}
	return out, nil
}

func apiSchedule(b store.BackupSchedule) gen.BackupSchedule {
	out := gen.BackupSchedule{Id: &b.ID, When: b.Cron, SpreadMinutes: int(b.Spread / 60), KeepDays: b.KeepDays, KeepCount: b.KeepCount, ChangedBy: &b.ChangedBy, ChangedAt: &b.ChangedAt}
	if b.Device != "" {
		out.Device = &b.Device
	}
	if b.Group != "" {
		out.Group = &b.Group
	}
	return out
}

// PutBackupSchedule writes a schedule.
func (s *Server) PutBackupSchedule(ctx context.Context, r gen.PutBackupScheduleRequestObject) (gen.PutBackupScheduleResponseObject, error) {
	q := r.Body
	b := store.BackupSchedule{Group: value(q.Group), Cron: strings.TrimSpace(q.When), Spread: int64(q.SpreadMinutes) * 60, KeepDays: q.KeepDays, KeepCount: q.KeepCount, ChangedBy: user(ctx)}
	switch {
	case value(q.Device) != "" && b.Group != "":
		return nil, badRequest("a schedule is for a device or a group, not both")
	case q.KeepDays < 0 || q.KeepDays > 36500 || q.KeepCount < 0 || q.KeepCount > 100000:
		return nil, badRequest("keepDays is from 0 to 36500, keepCount from 0 to 100000")
	case q.SpreadMinutes < 0 || q.SpreadMinutes > 1440:
		return nil, badRequest("spreadMinutes is from 0 to 1440")
	}
	if b.Cron != "" {
		if _, err := backup.ReadSchedule(b.Cron, time.Duration(b.Spread)*time.Second); err != nil {
			return nil, badRequest("%s", err)
		}
	}
	if value(q.Device) != "" {
		d, err := s.device(ctx, *q.Device)
		if err != nil {
			return nil, err
		}
		b.DeviceID = &d.ID
	}
	if err := s.Store.PutBackupSchedule(ctx, b); err != nil {
		return nil, err
	}
	all, err := s.Store.BackupSchedules(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(x store.BackupSchedule) bool {
		return x.Group == b.Group && (x.DeviceID == nil) == (b.DeviceID == nil) && (b.DeviceID == nil || *x.DeviceID == *b.DeviceID)
	})
	if i < 0 {
		return nil, conflict("somebody else changed the schedule at the same time; look again")
	}
	return gen.PutBackupSchedule200JSONResponse(apiSchedule(all[i])), nil
}

// DeleteBackupSchedule deletes the schedule of a device or group.
func (s *Server) DeleteBackupSchedule(ctx context.Context, r gen.DeleteBackupScheduleRequestObject) (gen.DeleteBackupScheduleResponseObject, error) {
	err := s.Store.RemoveBackupSchedule(ctx, r.Id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("there is no schedule %d of a device or group; that of every device stays, give it an empty when to end it", r.Id)
	}
	return gen.DeleteBackupSchedule204Response{}, err
}

// TakeBackup takes a bundle of a device now.
func (s *Server) TakeBackup(ctx context.Context, r gen.TakeBackupRequestObject) (gen.TakeBackupResponseObject, error) {
	d, err := s.device(ctx, r.Body.Device)
	if err != nil {
		return nil, err
	}
	b, err := s.Engine.Backup(ctx, d, backup.OnDemand, user(ctx))
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
	bs, err := s.Store.Backups(ctx, value(r.Params.Device), before, limit+1)
	if err != nil {
		return nil, err
	}
	items, next, err := listed(bs, limit, func(b store.Backup) any { return b.ID }, always(apiBackup))
	return gen.ListBackups200JSONResponse{Items: items, Next: next}, err
}

// backupText reads the main configuration of a backup and what its family says about its words.
func (s *Server) backupText(ctx context.Context, id int64) (store.Backup, string, *config.Schema, error) {
	b, err := s.backup(ctx, id)
	if err != nil {
		return b, "", nil, err
	}
	if b.File == "" {
		return b, "", nil, conflict("backup %d of %s has no configuration in it", b.ID, b.Device)
	}
	text, err := s.Engine.Main(b)
	if err != nil {
		return b, "", nil, newProblem(http.StatusInternalServerError, "internal", "The backup cannot be read", "backup %d: %s; look with: verimorph backup check", id, err)
	}
	schema, err := s.schemaOf(ctx, b)
	return b, text, schema, err
}

// schemaOf is what is known about the configuration in a backup: by its model and release, else by the family that speaks
// the device's dialect.
func (s *Server) schemaOf(ctx context.Context, b store.Backup) (*config.Schema, error) {
	now, err := s.Loaded.Now(ctx)
	if err != nil {
		return nil, err
	}
	if at, ok := s.stopOf(ctx, now.Library(), b); ok {
		return now.Library().Schema(at), nil
	}
	d, err := s.device(ctx, b.Device)
	if err != nil {
		return nil, err
	}
	for _, f := range now.Catalogue.Families {
		if f.Dialect == d.Dialect {
			return f.Schema(), nil
		}
	}
	// Without a family nobody knows what is secret, so nothing may be shown.
	return nil, conflict("no catalogue file speaks about dialect %q, so it is not known which words are secret; load one first", d.Dialect)
}

// stopOf is the model and release that wrote the configuration in a backup.
func (s *Server) stopOf(ctx context.Context, lib *convert.Library, b store.Backup) (convert.Stop, bool) {
	model := b.Model
	if model == "" { // taken by a first version
		if d, err := s.device(ctx, b.Device); err == nil {
			if p := portraitOf(d); p != nil {
				model = p.Model
			}
		}
	}
	at, err := lib.ParseStop(model + "@" + b.Version)
	return at, model != "" && err == nil
}

// ReadBackup answers with a configuration, secrets masked.
func (s *Server) ReadBackup(ctx context.Context, r gen.ReadBackupRequestObject) (gen.ReadBackupResponseObject, error) {
	_, text, schema, err := s.backupText(ctx, r.Id)
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
	_, a, err := s.manifest(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	_, b, err := s.manifest(ctx, r.Other)
	if err != nil {
		return nil, err
	}
	out := gen.CompareBackups200JSONResponse{Items: view.Differences(c), Parts: []gen.PartComparison{}}
	for _, d := range backup.Compare(a, b) {
		out.Parts = append(out.Parts, gen.PartComparison{Name: d.Name, Title: d.Title, State: gen.PartComparisonState(d.State)})
	}
	return out, nil
}
