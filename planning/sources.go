package planning

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/core/portrait"
	"verimorph/store"
)

// PortraitOf is what a device was found to be last; nil when nobody has looked yet.
func PortraitOf(d store.Device) *portrait.Portrait {
	var p portrait.Portrait
	if d.Portrait == nil || json.Unmarshal(d.Portrait, &p) != nil {
		return nil
	}
	return &p
}

// A SourceRef names a configuration: a backup, or a text.
type SourceRef struct {
	Backup *int64
	Text   *string
	Name   string // of a text; "configuration" when left out
	From   string // MODEL@VERSION that wrote it; of a backup "" is what the records say
}

// A Source is a configuration that a caller named, with what is known about it.
type Source struct {
	Name     string
	Text     string
	At       convert.Stop // zero: not known
	Schema   *config.Schema
	Document *config.Document
	Library  *convert.Library
}

// Source reads and parses what a caller named.
func (s *Planner) Source(ctx context.Context, r SourceRef) (*Source, error) {
	now, err := s.Catalogues.Now(ctx)
	if err != nil {
		return nil, err
	}
	out := &Source{Library: now.Library()}
	from := r.From
	switch {
	case r.Backup != nil && r.Text != nil:
		return nil, invalid("a source is a backup or a text, not both")
	case r.Backup != nil:
		b, text, schema, err := s.BackupText(ctx, *r.Backup)
		if err != nil {
			return nil, err
		}
		out.Name, out.Text, out.Schema = fmt.Sprintf("%s of %s", b.File, b.Device), text, schema
		if at, ok := s.StopOf(ctx, out.Library, b); from == "" && ok {
			from = at.String()
		}
	case r.Text != nil:
		out.Name, out.Text = r.Name, *r.Text
		if out.Name == "" {
			out.Name = "configuration"
		}
		if from == "" {
			return nil, invalid("a text needs from: the MODEL@VERSION that wrote it")
		}
	default:
		return nil, invalid("a source is a backup or a text; it names neither")
	}
	if from != "" { // a backup of a device nobody has looked at can be read and compared all the same
		if out.At, err = out.Library.ParseStop(from); err != nil {
			return nil, invalid("%s", err)
		}
		out.Schema = out.Library.Schema(out.At)
	}
	if out.Schema.Syntax == "" {
		return nil, conflict("the catalogue does not say how %s is written; give its family configuration: with syntax:", out.Name)
	}
	var broken []*config.ParseError
	out.Document, broken = out.Schema.Parse(out.Name, out.Text)
	if len(broken) > 0 {
		lines := make([]string, 0, len(broken))
		for _, b := range broken {
			lines = append(lines, b.Error())
		}
		return nil, &Error{Unreadable, strings.Join(lines, "\n")}
	}
	return out, nil
}

// NotConvertible says why something cannot be converted.
func NotConvertible(err error) error {
	var old *convert.TooOldError
	if errors.As(err, &old) {
		return &Error{NoRules, err.Error()}
	}
	return conflict("%s", err)
}

// BackupText reads the main configuration of a backup and what its family says about its words.
func (s *Planner) BackupText(ctx context.Context, id int64) (store.Backup, string, *config.Schema, error) {
	b, err := s.Backup(ctx, id)
	if err != nil {
		return b, "", nil, err
	}
	if b.File == "" {
		return b, "", nil, conflict("backup %d of %s has no configuration in it", b.ID, b.Device)
	}
	text, err := s.Engine.Main(b)
	if err != nil {
		return b, "", nil, damaged("backup %d: %s; look with: verimorph backup check", id, err)
	}
	schema, err := s.SchemaOf(ctx, b)
	return b, text, schema, err
}

// SchemaOf is what is known about the configuration in a backup: by its model and release, else by the family that speaks
// the device's dialect.
func (s *Planner) SchemaOf(ctx context.Context, b store.Backup) (*config.Schema, error) {
	now, err := s.Catalogues.Now(ctx)
	if err != nil {
		return nil, err
	}
	if at, ok := s.StopOf(ctx, now.Library(), b); ok {
		return now.Library().Schema(at), nil
	}
	d, err := s.Device(ctx, b.Device)
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

// StopOf is the model and release that wrote the configuration in a backup.
func (s *Planner) StopOf(ctx context.Context, lib *convert.Library, b store.Backup) (convert.Stop, bool) {
	model := b.Model
	if model == "" { // taken by a first version
		if d, err := s.Device(ctx, b.Device); err == nil {
			if p := PortraitOf(d); p != nil {
				model = p.Model
			}
		}
	}
	at, err := lib.ParseStop(model + "@" + b.Version)
	return at, model != "" && err == nil
}
