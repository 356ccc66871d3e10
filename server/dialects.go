package server

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"slices"

	"verimorph/api/gen"
	"verimorph/core/yamldoc"
	"verimorph/device"
	"verimorph/device/cli"
	"verimorph/store"
)

// Dialects: which there are, and the workshop for people who write them.

// checkDialect finds what is wrong with a dialect file. Its name may be that of a built-in dialect, which it takes the place of, and not that of another
// file.
func (s *Server) checkDialect(ctx context.Context, file string, data []byte) (yamldoc.Findings, error) {
	d, found := cli.Check(file, data)
	if d == nil {
		return found, nil
	}
	now, err := s.Catalogues.Now(ctx)
	if err != nil {
		return nil, err
	}
	for _, other := range now.Dialects {
		if other.Name == d.Name && other.File != file {
			found = append(found, yamldoc.Finding{Position: yamldoc.Position{File: file, Line: 1, Column: 1}, Message: "dialect " + d.Name + " is loaded from " + other.File + " already", Hint: "give it another name, or load it under that file name"})
		}
	}
	return found, nil
}

// ListDialects lists the kinds of devices that the service can speak with.
func (s *Server) ListDialects(ctx context.Context, _ gen.ListDialectsRequestObject) (gen.ListDialectsResponseObject, error) {
	now, err := s.Catalogues.Now(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.ListDialects200JSONResponse{Items: []gen.Dialect{}}
	loaded := map[string]bool{}
	for _, d := range now.Dialects {
		item := gen.Dialect{Name: d.Name, Source: gen.DialectSourceLoaded, File: &d.File, Lacks: []string{}, Trouble: optional(d.Trouble)}
		if d.Dialect != nil {
			item.Lacks, loaded[d.Name] = append(item.Lacks, d.Dialect.Profile().Lacks...), true
		}
		for _, f := range now.Files {
			if f.Name == d.File {
				item.LoadedBy, item.LoadedAt, item.Version = &f.LoadedBy, &f.LoadedAt, &f.ID
			}
		}
		out.Items = append(out.Items, item)
	}
	for name, driver := range s.Engine.Drivers {
		if !loaded[name] {
			out.Items = append(out.Items, gen.Dialect{Name: name, Source: gen.DialectSourceBuiltIn, Lacks: append([]string{}, driver.Profile().Lacks...)})
		}
	}
	slices.SortFunc(out.Items, func(a, b gen.Dialect) int { return bytes.Compare([]byte(a.Name), []byte(b.Name)) })
	return out, nil
}

// GetDialect answers with the text of a dialect.
func (s *Server) GetDialect(_ context.Context, r gen.GetDialectRequestObject) (gen.GetDialectResponseObject, error) {
	d, ok := s.Engine.Driver(r.Name).(*cli.Dialect)
	if !ok {
		return nil, notFound("there is no dialect %q", r.Name)
	}
	return gen.GetDialect200JSONResponse{Name: d.Name, Text: d.Text()}, nil
}

// CheckDialect finds what is wrong with a dialect, and lists what it can do.
func (s *Server) CheckDialect(_ context.Context, r gen.CheckDialectRequestObject) (gen.CheckDialectResponseObject, error) {
	d, found := cli.Check("dialect", []byte(r.Body.Text))
	out := gen.CheckDialect200JSONResponse{Findings: []gen.DialectFinding{}, Coverage: []gen.DialectCoverage{}, Askable: []gen.DialectQuestion{}}
	for _, f := range found {
		out.Findings = append(out.Findings, gen.DialectFinding{Line: f.Line, Column: f.Column, Doubt: f.Doubt, Message: f.Message, Hint: optional(f.Hint)})
	}
	if d == nil {
		return out, nil
	}
	for _, c := range d.Coverage() {
		out.Coverage = append(out.Coverage, gen.DialectCoverage{Kind: c.Kind, Name: c.Name, Has: c.Has, Without: c.Without, By: optional(c.By)})
	}
	for _, a := range d.Askable() {
		out.Askable = append(out.Askable, question(a))
	}
	return out, nil
}

func question(a cli.Asked) gen.DialectQuestion {
	return gen.DialectQuestion{Kind: gen.DialectQuestionKind(a.Kind), Name: a.Name, Writes: a.Writes, Takes: append([]string{}, a.Takes...)}
}

// TryDialect tries queries of a dialect on a device of the fleet.
func (s *Server) TryDialect(ctx context.Context, r gen.TryDialectRequestObject) (gen.TryDialectResponseObject, error) {
	b := r.Body
	dev, err := s.Planner.Device(ctx, b.Device)
	if err != nil {
		return nil, err
	}
	d, err := s.dialectToTry(b, dev.Dialect)
	if err != nil {
		return nil, err
	}
	asked, err := d.Select(value(b.Queries), value(b.Write))
	if err != nil {
		return nil, badRequest("%s", err)
	}
	sum := sha256.Sum256([]byte(d.Text()))
	if err := s.audited(ctx, "dialect tried", dev.Name, fmt.Sprintf("%s, SHA-256 %x: %s", d.Name, sum, names(asked)), func(*store.Store) error { return nil }); err != nil {
		return nil, err
	}
	out := gen.TryDialect200JSONResponse{Items: []gen.DialectTrial{}}
	var rec *cli.Recording
	err = s.Engine.WithTarget(ctx, dev, actor(ctx), "trying a dialect", func(ctx context.Context, t device.Target) (err error) {
		rec, err = d.TryAll(ctx, t, asked, value(b.Fill), func(t cli.Trial) { out.Items = append(out.Items, trial(t)) })
		return err
	})
	if err != nil && len(out.Items) == 0 {
		return nil, err
	}
	if err != nil { // the rest was not tried
		out.Trouble = optional(err.Error())
	}
	if rec != nil {
		rec.Device = dev.Name
		var text bytes.Buffer
		if err := rec.Write(&text); err != nil {
			return nil, err
		}
		out.Recording = text.String()
	}
	return out, nil
}

// dialectToTry is the dialect in a request, or the one of the device.
func (s *Server) dialectToTry(b *gen.DialectTry, name string) (*cli.Dialect, error) {
	if text := value(b.Text); text != "" {
		d, found := cli.Check("dialect", []byte(text))
		if d == nil {
			return nil, newProblem(422, "bad-request", "The dialect cannot be used", "%s", found.Errors())
		}
		return d, nil
	}
	d, ok := s.Engine.Driver(name).(*cli.Dialect)
	if !ok {
		return nil, badRequest("%q is no dialect that can be tried; give its text", name)
	}
	return d, nil
}

func names(all []cli.Asked) string {
	out := ""
	for i, a := range all {
		if i > 0 {
			out += ", "
		}
		out += a.Name
	}
	return out
}

func trial(t cli.Trial) gen.DialectTrial {
	out := gen.DialectTrial{Question: question(t.Asked), Sent: append([]string{}, t.Sent...), Answer: t.Answer, Marks: []gen.DialectMark{}, Fields: map[string]string{}, Rows: []map[string]string{},
		Table: optional(t.Table), Trouble: optional(t.Trouble), Milliseconds: t.Took.Milliseconds()}
	for _, m := range t.Marks {
		out.Marks = append(out.Marks, gen.DialectMark{From: m.From, To: m.To, Group: m.Group})
	}
	for k, v := range t.Fields {
		out.Fields[k] = v
	}
	out.Rows = append(out.Rows, t.Rows...)
	out.Value = optional(t.Shown)
	return out
}
