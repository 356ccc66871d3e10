package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/store"
)

// Converting.

// A dataError says that what this installation holds cannot be used: its catalogue, its conversions, what somebody worked out. Waiting does
// not help, as it does when the database is away; somebody has to put it right.
type dataError struct{ err error }

func (e *dataError) Error() string {
	return "what this installation holds cannot be used: " + e.err.Error()
}
func (e *dataError) Unwrap() error { return e.err }

// unusable tells trouble with our records, which passes, from data that cannot be used.
func unusable(err error) error {
	if record := (*recordError)(nil); err == nil || errors.As(err, &record) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return &dataError{err}
}

// library is the conversions that are loaded.
func (e *Engine) library(ctx context.Context) (*convert.Library, error) {
	lib, err := e.Library(ctx)
	return lib, unusable(err)
}

// An openError says that a conversion needs a person: for what no rule decides, or for all of it, where the two do not convert.
type openError struct {
	what   string
	byHand bool
}

func (e *openError) Error() string { return e.what }

// how is the command with which somebody works it out.
func (e *openError) how(backup int64, to string) string {
	how := fmt.Sprintf("verimorph conversion start -backup %d -to %s", backup, to)
	if e.byHand {
		how += " -by-hand"
	}
	return how
}

// A crossing is what a configuration is converted from and to, each a MODEL@VERSION, and the ports that have another name afterwards.
type crossing struct {
	from, to string
	ports    []catalog.PortChange
}

// convert turns a configuration of a backup into that of another release, and of another model where the device goes on as one: by what a person worked out for
// it, else by the rules alone, which must leave nothing open.
func (e *Engine) convert(ctx context.Context, b store.Backup, file, text string, x crossing) (out, note string, err error) {
	if e.Worked != nil {
		out, note, ok, err := e.Worked(ctx, b, text, x.to)
		if err != nil || ok {
			return out, note, unusable(err)
		}
	}
	if e.Library == nil {
		return "", "", fmt.Errorf("no conversions are loaded")
	}
	lib, err := e.library(ctx)
	if err != nil {
		return "", "", err
	}
	f, err := lib.ParseStop(x.from)
	if err != nil {
		return "", "", err
	}
	t, err := lib.ParseStop(x.to)
	if err != nil {
		return "", "", err
	}
	doc, bad := lib.Schema(f).Parse(file, text)
	if len(bad) > 0 {
		return "", "", fmt.Errorf("%d lines are not understood, the first: %s", len(bad), bad[0])
	}
	r, err := lib.Convert(convert.Job{From: f, To: t, Ports: portsOf(x.ports)}, doc)
	if old := (*convert.TooOldError)(nil); errors.As(err, &old) {
		return "", "", &openError{fmt.Sprintf("The configuration of %s does not convert to %s", f, t), true}
	}
	if err != nil {
		return "", "", err
	}
	if wrong := convert.Check(text, r.Text, r.S, r.T, r.Ledger); len(wrong) > 0 {
		return "", "", fmt.Errorf("the ledger of the conversion does not add up: %s", strings.Join(wrong, "; "))
	}
	if !r.Ledger.Complete() {
		return "", "", &openError{what: fmt.Sprintf("The conversion of %s from %s to %s needs a person: %s", file, f, t, unclaimed(r.Ledger))}
	}
	return r.Text, fmt.Sprintf("converted from %s to %s, every statement accounted for", x.said(x.from), x.said(x.to)), nil
}

// Convert is convert for what is no change.
func (e *Engine) Convert(ctx context.Context, b store.Backup, text, model, from, to string) (out, note string, err error) {
	return e.convert(ctx, b, b.File, text, crossing{from: stop(model, from), to: stop(model, to)})
}

// ConvertTo turns the text of a backup, which is of a MODEL@VERSION, into that of another one, by what a person worked out for it, else by the rules alone. Where that leaves
// something open, the error says with which command it is worked out.
func (e *Engine) ConvertTo(ctx context.Context, b store.Backup, text, to string) (out, note string, err error) {
	out, note, err = e.convert(ctx, b, b.File, text, crossing{from: stop(b.Model, b.Version), to: to})
	if open := (*openError)(nil); errors.As(err, &open) {
		err = fmt.Errorf("%s. Work it out with: %s", open.what, open.how(b.ID, to))
	}
	return out, note, err
}

// said is a stop as a person reads it: without the model, where that stays.
func (x *crossing) said(at string) string {
	m, _, _ := strings.Cut(x.from, "@")
	if n, _, _ := strings.Cut(x.to, "@"); m == n {
		return strings.TrimPrefix(at, m+"@")
	}
	return at
}

// unclaimed tells what of a ledger needs a person.
func unclaimed(l *convert.Ledger) string {
	var open []string
	for _, row := range l.Source {
		if row.State == convert.NeedsPerson {
			open = append(open, fmt.Sprintf("line %d, %s (%s)", row.Line, row.Path, row.Reason))
		}
	}
	for _, row := range l.Assumed {
		if row.State == convert.NeedsPerson {
			open = append(open, fmt.Sprintf("left out, %s (the source assumes %s; %s)", row.Path, row.Text, row.Reason))
		}
	}
	if len(open) == 0 {
		return "it leaves questions open"
	}
	return first(open, 3)
}

// openConversion finds out whether the conversion that a change goes by leaves something to a person, as far as the last backup tells: the
// device converts its configuration to that of the last release, or the file that a reset device gets back is converted for each hop.
func (e *Engine) openConversion(ctx context.Context, f *ready.Facts, c *store.Change, way *path.Path, d store.Device, p *portrait.Portrait) error {
	if p == nil || c.Kind != change.Firmware || len(way.Hops) == 0 {
		return nil
	}
	last := len(way.Hops)
	if i := slices.IndexFunc(c.Steps, func(s store.Step) bool { return s.Plan.Kind == change.Convert && !s.Plan.Back }); i >= 0 {
		last = c.Steps[i].Plan.Hop + 1
	} else if !slices.ContainsFunc(way.Hops, func(h path.Hop) bool { return h.Config == catalog.ConfigConverted }) {
		return nil
	}
	x := crossing{from: stop(way.Model, p.Version), to: stop(way.ModelAt(last), way.Hops[last-1].To.String()), ports: way.Renamed(way.Model, way.ModelAt(last))}
	for _, at := range []string{x.from, x.to} {
		model, v, _ := strings.Cut(at, "@")
		if s, err := e.schema(ctx, model, v); s == nil {
			return err // nobody described it
		}
	}
	bs, err := e.Store.Backups(ctx, store.BackupList{Device: d.Name, Limit: 1})
	if err != nil {
		return records(err)
	}
	if len(bs) == 0 || bs[0].File == "" || bs[0].Version != p.Version {
		return nil
	}
	text, err := e.Main(bs[0])
	if err != nil {
		return nil // the change takes a backup of its own before it touches the device
	}
	_, _, err = e.convert(ctx, bs[0], bs[0].File, text, x)
	if record := (*recordError)(nil); errors.As(err, &record) {
		return err
	}
	if err != nil {
		open := &openError{what: err.Error()}
		errors.As(err, &open)
		f.ConversionOpen, f.ConversionHow = open.what, open.how(bs[0].ID, x.to)
	}
	return nil
}

// schema is the schema that describes the configuration of a model at a release, or nil.
func (e *Engine) schema(ctx context.Context, model, release string) (*config.Schema, error) {
	if e.Library == nil {
		return nil, nil
	}
	lib, err := e.library(ctx)
	if err != nil {
		return nil, err
	}
	at, err := lib.ParseStop(model + "@" + release)
	if err != nil {
		return nil, nil // nobody described it
	}
	if s := lib.Schema(at); s.Syntax != "" && s.ID != "" {
		return s, nil
	}
	return nil, nil
}

// reading is the schema by which a configuration is read: that of its release where somebody described it, else one that knows the syntax
// alone, which is guessed when "" is given.
func (e *Engine) reading(ctx context.Context, model, release string, syntax config.Syntax, file, text string) (*config.Schema, error) {
	schema, err := e.schema(ctx, model, release)
	if err != nil || schema != nil && (syntax == "" || schema.Syntax == syntax) {
		return schema, err
	}
	if syntax == "" {
		syntax = config.Guess(file, text)
	}
	return config.Simple(syntax, nil, nil), nil
}
