package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/backup"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/store"
)

// What goes back onto a device that comes back empty.

// hopWork is what a firmware change puts back, by hop, and the licences that it brings.
type hopWork struct {
	Hops     map[int][]RestorePart `json:"hops"`
	From     map[int]int64         `json:"from,omitempty"`     // by hop: the backup that it was worked out from
	Licences map[string][]byte     `json:"licences,omitempty"` // sealed key by name
	Password []byte                `json:"password,omitempty"` // sealed: that a new device gets
	Values   []byte                `json:"values,omitempty"`   // sealed: what its configuration was filled with
	Replace  *ReplaceWork          `json:"replace,omitempty"`  // of a device that takes the place of another one
	Services *ServicesWork         `json:"services,omitempty"` // of services that are put onto a device, or taken off one
}

func (r *run) hopWork() (w hopWork, err error) {
	if len(r.c.Work) > 0 {
		err = json.Unmarshal(r.c.Work, &w)
	}
	if w.Hops == nil {
		w.Hops = map[int][]RestorePart{}
	}
	return w, err
}

func convertedBefore(r *run, _ context.Context, s *store.Step, _ bool) (bool, string, error) {
	w, err := r.hopWork()
	parts := w.Hops[s.Plan.Hop]
	var notes []string
	for _, p := range parts {
		notes = append(notes, strings.TrimSuffix(p.File+": "+p.Note, ": "))
	}
	return len(parts) > 0, strings.Join(notes, "; "), err
}

// convertParts works out what is put back on the device once the installation has reset it: every part of the hop's backup
// that can be put back, the configuration converted for the new release.
func convertParts(r *run, ctx context.Context, s *store.Step) error {
	h := r.hop(s)
	b, err := r.e.Store.BackupOf(ctx, r.c.ID, r.m.DeviceID, s.Plan.Hop)
	if err != nil {
		return records(err)
	}
	parts, err := r.partsOf(ctx, b)
	if err != nil {
		return err
	}
	if part := s.Plan.Part(); part != "" {
		parts = slices.DeleteFunc(parts, func(p RestorePart) bool { return p.Name != part })
	}
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	for i := range parts {
		p := &parts[i]
		if p.Kind != backup.Configuration {
			continue
		}
		text, err := r.e.Backups.Read(p.SHA256)
		if err != nil {
			return final("%s cannot be read from our own store: %w", p.Title, err)
		}
		out, note, err := r.e.convert(ctx, b, p.File, string(text), r.crossing(s.Plan.Hop))
		var open *openError
		if errors.As(err, &open) {
			to := stop(r.modelAfter(s), h.To.String())
			return &askError{change.Question{Kind: change.AskPerson, Step: s.Plan.Number, Answers: []change.Action{change.Retry, change.Leave}, Backup: b.ID, To: to,
				Text: fmt.Sprintf("%s. Nothing was changed. Work it out with: %s; then answer retry", open.Error(), open.how(b.ID, to))}, change.StepRunning}
		}
		if err != nil {
			return final("%s cannot be converted: %w", p.Title, err)
		}
		if p.Sealed, err = r.e.Vault.Seal(RestoreLabel(d.Name, p.Name), []byte(out)); err != nil {
			return err
		}
		p.Note = note
	}
	w, err := r.hopWork()
	if err != nil {
		return err
	}
	w.Hops[s.Plan.Hop] = parts
	if w.From == nil {
		w.From = map[int]int64{}
	}
	w.From[s.Plan.Hop] = b.ID
	data, err := json.Marshal(w)
	if err != nil {
		return err
	}
	if err := r.e.Store.SetWork(ctx, r.lease, r.c.ID, data); err != nil {
		return records(err)
	}
	r.c.Work = data
	_, s.Note, err = convertedBefore(r, ctx, s, true)
	return err
}

// partsOf lists the parts of a bundle that a reset device gets back.
func (r *run) partsOf(ctx context.Context, b store.Backup) (out []RestorePart, err error) {
	d, err := r.device(ctx)
	if err != nil {
		return nil, err
	}
	return r.e.PartsOf(b, d)
}

// PartsOf lists the parts of a bundle that a device in its factory state gets back.
func (e *Engine) PartsOf(b store.Backup, d store.Device) (out []RestorePart, err error) {
	m, err := e.Backups.Manifest(b.Manifest)
	if err != nil {
		return nil, final("backup %d cannot be read: %w", b.ID, err)
	}
	for _, want := range e.Profile(d).Abilities.Parts {
		i := slices.IndexFunc(m.Parts, func(p backup.Part) bool { return p.Name == want.Name })
		if i < 0 {
			return nil, final("backup %d lacks %s, which has to go back", b.ID, want.Title)
		}
		p := m.Parts[i]
		out = append(out, RestorePart{Name: p.Name, Title: p.Title, File: p.File, Kind: p.Kind, Syntax: p.Syntax, SHA256: p.SHA256})
	}
	return out, nil
}

// PutBackWork is the work of a change that puts parts of a backup onto a device in its first hop.
func PutBackWork(backup int64, parts []RestorePart) ([]byte, error) {
	return json.Marshal(hopWork{Hops: map[int][]RestorePart{0: parts}, From: map[int]int64{0: backup}})
}

// resets reports whether the hop of a step brings the device back in its factory state.
func (r *run) resets(hop int) bool {
	return hop >= 0 && hop < len(r.path.Hops) && r.path.Hops[hop].Config == catalog.ConfigReset
}
