package server

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"strings"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/backup"
	"verimorph/core/config"
	"verimorph/store"
)

// What became of the configurations of devices: their distinct states, what runs against what is saved, and where a text stands.

// maxHits bounds the answer of a search.
const maxHits = 500

// GetHistory answers with the distinct states of a device's configuration.
func (s *Server) GetHistory(ctx context.Context, r gen.GetHistoryRequestObject) (gen.GetHistoryResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
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
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	dialect := s.Engine.Profile(d)
	if dialect == nil || dialect.Role(backup.Running) == nil {
		return nil, conflict("dialect %q declares no running configuration", d.Dialect)
	}
	running, saved := dialect.Role(backup.Running), dialect.Role(backup.Saved)
	names := []string{running.Name}
	if saved != nil {
		names = append(names, saved.Name)
	}
	p, now, unread, err := s.Engine.PartsNow(ctx, d, names, actor(ctx))
	if err != nil {
		return nil, err
	}
	if why := unread[running.Name]; why != "" {
		return nil, conflict("%s", why)
	}
	part := &backup.Part{File: running.File, Syntax: running.Syntax}
	schema, err := s.Planner.SchemaFor(ctx, p, part)
	if err != nil {
		return nil, err
	}
	read := func(name, text string) (*config.Document, error) {
		doc, bad := schema.Parse(name, dialect.File(name).Steady(text))
		if len(bad) > 0 {
			return nil, newProblem(http.StatusUnprocessableEntity, "bad-request", "The configuration cannot be read", "%s", bad[0])
		}
		return doc, nil
	}
	have, err := read(running.File, string(now[running.Name]))
	if err != nil {
		return nil, err
	}
	out := gen.GetDrift200JSONResponse{Unsaved: []gen.Difference{}, SinceBackup: []gen.Difference{}}
	if saved != nil && now[saved.Name] != nil {
		kept, err := read(saved.File, string(now[saved.Name]))
		if err != nil {
			return nil, err
		}
		out.Unsaved = view.Differences(config.Compare(kept, have, schema))
	} else {
		out.Note = ptr("the device does not tell its saved configuration")
	}
	bs, err := s.Store.Backups(ctx, store.BackupList{Device: d.Name, Limit: 1})
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
		_, text, schema, err := s.Planner.BackupText(ctx, b.ID)
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
