package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/core/near"
	"verimorph/core/portrait"
	"verimorph/core/yamldoc"
	"verimorph/internal/catcache"
	"verimorph/planning"
	"verimorph/report"
	"verimorph/store"
)

// configurationFiles lists the schemas and conversions that are loaded.
func configurationFiles(now catcache.State) []gen.ConfigurationFile {
	out := []gen.ConfigurationFile{}
	for _, f := range now.Files {
		if !convert.Mine([]byte(f.Content)) {
			continue
		}
		item := gen.ConfigurationFile{File: f.Name, Kind: gen.ConfigurationFileKindConversion, Id: yamldoc.FieldOf([]byte(f.Content), "id"),
			Title: yamldoc.FieldOf([]byte(f.Content), "title"), LoadedBy: f.LoadedBy, LoadedAt: f.LoadedAt}
		if why := now.Trouble()[f.Name]; why != "" {
			item.Trouble = &why
		}

		if yamldoc.FormatOf([]byte(f.Content)) == config.SchemaFormat {
			item.Kind = gen.ConfigurationFileKindSchema
		}
		out = append(out, item)
	}
	return out
}

// checkConfigurationFile holds a schema or conversion against everything else that is loaded. What is wrong with other
// files only because of this one is part of the answer.
func (s *Server) checkConfigurationFile(ctx context.Context, file string, data []byte) (yamldoc.Findings, error) {
	now, err := s.Catalogues.Now(ctx)
	if err != nil {
		return nil, err
	}
	files := []convert.File{{Name: file, Data: data}}
	for _, f := range now.Files {
		if f.Name != file && convert.Mine([]byte(f.Content)) {
			files = append(files, convert.File{Name: f.Name, Data: []byte(f.Content)})
		}
	}
	_, found := convert.Load(now.Catalogue, files)
	return slices.DeleteFunc(found, func(f yamldoc.Finding) bool { return now.Trouble()[f.File] != "" && f.File != file }), nil
}

// source reads and parses what a caller named.
func (s *Server) source(ctx context.Context, r gen.ConfigurationSource) (*planning.Source, error) {
	return s.Planner.Source(ctx, planning.SourceRef{Backup: r.Backup, Text: r.Text, Name: value(r.Name), From: value(r.From)})
}

// CompareConfigurations compares two configurations.
func (s *Server) CompareConfigurations(ctx context.Context, r gen.CompareConfigurationsRequestObject) (gen.CompareConfigurationsResponseObject, error) {
	old, err := s.source(ctx, r.Body.Old)
	if err != nil {
		return nil, err
	}
	new, err := s.source(ctx, r.Body.New)
	if err != nil {
		return nil, err
	}
	c, err := compare(old, new)
	if err != nil {
		return nil, err
	}
	return gen.CompareConfigurations200JSONResponse{Items: view.Differences(c), Same: c.Same(), OldText: old.Schema.MaskText(old.Name, old.Text),
		NewText: new.Schema.MaskText(new.Name, new.Text)}, nil
}

// CompareBundles compares all files of a device with those of another time.
func (s *Server) CompareBundles(ctx context.Context, r gen.CompareBundlesRequestObject) (gen.CompareBundlesResponseObject, error) {
	var docs [2][]*config.Document
	about, masked := map[*config.Document]*config.Schema{}, [2]map[string]string{{}, {}}
	for i, b := range []gen.ConfigurationBundle{r.Body.Old, r.Body.New} {
		for _, f := range b.Files {
			src, err := s.source(ctx, gen.ConfigurationSource{Name: &f.Name, Text: &f.Text, From: &b.From})
			if err != nil {
				return nil, err
			}
			if masked[i][f.Name] != "" {
				return nil, badRequest("file %q is there twice on one side", f.Name)
			}
			docs[i], about[src.Document], masked[i][f.Name] = append(docs[i], src.Document), src.Schema, src.Schema.MaskText(f.Name, f.Text)
			if first := about[docs[0][0]]; first.Syntax != src.Schema.Syntax {
				return nil, conflict("%s writes %s and %s writes %s; they cannot be compared", r.Body.Old.From, first.Syntax, b.From, src.Schema.Syntax)
			}
		}
		if len(b.Files) == 0 {
			return nil, badRequest("a bundle holds at least one file")
		}
	}
	out := gen.CompareBundles200JSONResponse{Items: []gen.FileComparison{}, Same: true}
	for _, f := range config.CompareBundles(docs[0], docs[1], func(d *config.Document) *config.Schema { return about[d] }) {
		item := gen.FileComparison{State: gen.FileComparisonState(f.State), Items: []gen.Difference{}, Same: f.Same(), OldText: masked[0][f.Old],
			NewText: masked[1][f.New]}
		if f.Old != "" {
			item.Old = &f.Old
		}
		if f.New != "" {
			item.New = &f.New
		}
		if f.Comparison != nil {
			item.Items = view.Differences(f.Comparison)
		}
		out.Same = out.Same && item.Same
		out.Items = append(out.Items, item)
	}
	return out, nil
}

// compare compares two sources by what is known about the new one.
func compare(old, new *planning.Source) (*config.Comparison, error) {
	if old.Schema.Syntax != new.Schema.Syntax {
		return nil, conflict("%s is written as %s and %s as %s; they cannot be compared", old.Name, old.Schema.Syntax, new.Name, new.Schema.Syntax)
	}
	return config.Compare(old.Document, new.Document, new.Schema), nil
}

// FindServices groups the services of a gateway.
func (s *Server) FindServices(ctx context.Context, r gen.FindServicesRequestObject) (gen.FindServicesResponseObject, error) {
	src, err := s.source(ctx, r.Body.Source)
	if err != nil {
		return nil, err
	}
	groups, err := convert.FindServices(src.Schema, src.Document, r.Body.By)
	if err != nil {
		return nil, conflict("%s", err)
	}
	out := gen.FindServices200JSONResponse{Items: []gen.ServiceGroup{}}
	return out, same(groups, &out.Items)
}

// CarveServices shows what would be carved out.
func (s *Server) CarveServices(ctx context.Context, r gen.CarveServicesRequestObject) (gen.CarveServicesResponseObject, error) {
	src, err := s.source(ctx, r.Body.Source)
	if err != nil {
		return nil, err
	}
	c, err := carve(src, r.Body.Carve)
	if err != nil {
		return nil, err
	}
	var out gen.CarveServices200JSONResponse
	if err := same(c, &out); err != nil {
		return nil, err
	}
	out.Text, out.Rest = src.Schema.MaskText(src.Name, c.Text), src.Schema.MaskText(src.Name, c.Rest)
	return out, nil
}

func carve(src *planning.Source, c gen.Carve) (*convert.Carved, error) {
	if len(c.Services) == 0 {
		return nil, badRequest("name at least one service")
	}
	out, err := convert.CarveOut(src.Schema, src.Document, convert.Carving{Services: c.Services, Rename: value(c.Rename), Use: value(c.Use)})
	if err != nil {
		return nil, conflict("%s", err)
	}
	return out, nil
}

// same carries a value of the core over into the form of the contract, whose fields have the same names.
func same(from, to any) error {
	data, err := json.Marshal(from)
	if err == nil {
		err = json.Unmarshal(data, to)
	}
	return err
}

// GetSupport tells what carries over.
func (s *Server) GetSupport(ctx context.Context, r gen.GetSupportRequestObject) (gen.GetSupportResponseObject, error) {
	now, err := s.Catalogues.Now(ctx)
	if err != nil {
		return nil, err
	}
	from, err := now.Library().ParseStop(r.Params.From)
	if err != nil {
		return nil, badRequest("%s", err)
	}
	to, err := now.Library().ParseStop(r.Params.To)
	if err != nil {
		return nil, badRequest("%s", err)
	}
	table, err := now.Library().Support(from, to, value(r.Params.ByHand))
	if err != nil {
		return nil, planning.NotConvertible(err)
	}
	var out gen.GetSupport200JSONResponse
	return out, same(table, &out)
}

// CreateConversion converts a configuration and keeps the work.
func (s *Server) CreateConversion(ctx context.Context, r gen.CreateConversionRequestObject) (gen.CreateConversionResponseObject, error) {
	id, err := s.once(ctx, r.Params.IdempotencyKey, r.Body, func() (string, error) {
		src, err := s.source(ctx, r.Body.Source)
		if err != nil {
			return "", err
		}
		if src.At.Model == "" {
			return "", conflict("nobody has looked at the device of this backup yet, so its model is not known; refresh it, or say from: MODEL@VERSION")
		}
		w := planning.Work{Name: src.Name, Source: src.Text, From: src.At.String(), To: r.Body.To, ByHand: value(r.Body.ByHand), Other: value(r.Body.OtherUnit), Answers: map[string]string{}}
		if r.Body.Carve != nil {
			c, err := carve(src, *r.Body.Carve)
			if err != nil {
				return "", err
			}
			w.Source, w.Fragment = c.Text, true
			w.Name = strings.Join(r.Body.Carve.Services, ", ") + ", carved out of " + src.Name
		}
		id, err := s.Planner.StartConversion(ctx, actor(ctx), &w)
		return fmt.Sprint(id), err
	})
	if err != nil {
		return nil, err
	}
	out, err := s.conversion(ctx, id)
	return gen.CreateConversion201JSONResponse(out), err
}

// conversion shows a conversion by its id.
func (s *Server) conversion(ctx context.Context, id string) (out gen.Conversion, err error) {
	var n int64
	if _, err := fmt.Sscan(id, &n); err != nil {
		return out, err
	}
	c, w, err := s.Planner.OpenWork(ctx, n)
	if err != nil {
		return out, err
	}
	return s.show(ctx, c, w)
}

func (s *Server) show(ctx context.Context, c store.Conversion, w *planning.Work) (out gen.Conversion, err error) {
	r, err := s.Planner.Convert(ctx, w)
	if err != nil {
		return out, err
	}
	return workbench(c, w, r)
}

// workbench is a conversion in the form of the contract, masked.
func workbench(c store.Conversion, w *planning.Work, r *convert.Result) (out gen.Conversion, err error) {
	out = gen.Conversion{Id: c.ID, Name: c.Name, From: c.From, To: c.To, CreatedBy: c.CreatedBy, CreatedAt: c.CreatedAt, Complete: r.Ledger.Complete(),
		SourceText: r.S.MaskText(w.Name, w.Source), ResultText: r.T.MaskText(w.Name, r.Text), SourcePorts: []gen.ModelPort{}, TargetPorts: []gen.ModelPort{}}
	for _, p := range r.S.Ports[r.Ledger.From.Model] {
		out.SourcePorts = append(out.SourcePorts, gen.ModelPort{Name: p.Name, Speed: p.Speed, Role: p.Role})
	}
	for _, p := range r.T.Ports[r.Ledger.To.Model] {
		out.TargetPorts = append(out.TargetPorts, gen.ModelPort{Name: p.Name, Speed: p.Speed, Role: p.Role})
	}
	// Lists that are empty are lists all the same.
	l := *r.Ledger
	l.Questions, l.Ports, l.Findings, l.Edits = append([]convert.Question{}, l.Questions...), append([]convert.PortChoice{},
		l.Ports...), append([]config.Finding{}, l.Findings...), append([]convert.Edit{}, l.Edits...)
	return out, same(l, &out.Ledger)
}

// GetConversion answers with a conversion.
func (s *Server) GetConversion(ctx context.Context, r gen.GetConversionRequestObject) (gen.GetConversionResponseObject, error) {
	c, w, err := s.Planner.OpenWork(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	out, err := s.show(ctx, c, w)
	return gen.GetConversion200JSONResponse(out), err
}

// ListConversions lists conversions.
func (s *Server) ListConversions(ctx context.Context, r gen.ListConversionsRequestObject) (gen.ListConversionsResponseObject, error) {
	limit, before, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	all, err := s.Store.Conversions(ctx, before, limit+1)
	if err != nil {
		return nil, err
	}
	items, next, err := listed(all, limit, func(c store.Conversion) any { return c.ID }, always(func(c store.Conversion) gen.ConversionSummary {
		return gen.ConversionSummary{Id: c.ID, Name: c.Name, From: c.From, To: c.To, CreatedBy: c.CreatedBy, CreatedAt: c.CreatedAt}
	}))
	return gen.ListConversions200JSONResponse{Items: items, Next: next}, err
}

// ChangeConversion takes what a person chose and works the conversion out again. Nothing is kept when it cannot be.
func (s *Server) ChangeConversion(ctx context.Context, r gen.ChangeConversionRequestObject) (gen.ChangeConversionResponseObject, error) {
	c, w, err := s.Planner.OpenWork(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	if err := s.choose(ctx, w, r.Body); err != nil {
		return nil, err
	}
	res, err := s.Planner.Convert(ctx, w)
	if err != nil {
		return nil, err
	}
	if wrong := res.Unmatched(value(r.Body.Answers), w.Ports); len(wrong) > 0 {
		return nil, newProblem(http.StatusUnprocessableEntity, "bad-request", "What was said matches nothing", "%s", strings.Join(wrong, "\n"))
	}
	out, err := workbench(c, w, res)
	if err != nil {
		return nil, err
	}
	sealed, err := s.Planner.SealWork(c.ID, w)
	if err != nil {
		return nil, err
	}
	ok := false
	err = s.audited(ctx, "conversion changed", "", fmt.Sprintf("conversion %d", c.ID), func(tx *store.Store) (err error) {
		ok, err = tx.PutConversion(ctx, c.ID, c.Revision, sealed)
		return err
	})
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, conflict("somebody else changed conversion %d at the same time; look at it and try again", c.ID)
	}
	return gen.ChangeConversion200JSONResponse(out), nil
}

func (s *Server) choose(ctx context.Context, w *planning.Work, b *gen.ConversionChange) error {
	if b.Ports != nil {
		w.Ports = nil
		for _, p := range *b.Ports {
			c := convert.PortChoice{Port: p.Port, To: value(p.To), FoldInto: value(p.FoldInto), LeaveOut: value(p.LeaveOut), Chosen: true}
			n := 0
			for _, set := range []string{c.To, c.FoldInto, c.LeaveOut} {
				if set != "" {
					n++
				}
			}
			if n != 1 {
				return badRequest("port %q: say exactly one of to, foldInto and leaveOut", p.Port)
			}
			w.Ports = append(w.Ports, c)
		}
	}
	if b.Answers != nil {
		w.Answers = maps.Clone(w.Answers)
		for k, v := range *b.Answers {
			if len(v) > 500 || strings.ContainsFunc(v, unicode.IsControl) {
				return badRequest("the answer to %q has to be one line of up to 500 characters", k)
			}
			if _, said := w.Answers[k]; !said && v == "" {
				return badRequest("nothing was said about %q, so there is nothing to take back%s", k, near.Hint(k, slices.Collect(maps.Keys(w.Answers))))
			}
			if w.Answers[k] = v; v == "" {
				delete(w.Answers, k)
			}
		}
	}
	if b.Undo != nil {
		n := len(w.Edits)
		w.Edits = slices.DeleteFunc(w.Edits, func(e convert.Edit) bool { return e.ID == *b.Undo })
		if len(w.Edits) == n {
			return notFound("there is no hand edit %d", *b.Undo)
		}
	}
	if b.Text != nil {
		return s.edit(ctx, w, *b.Text)
	}
	return nil
}

// edit turns a text that a person edited into hand edits.
func (s *Server) edit(ctx context.Context, w *planning.Work, text string) error {
	r, err := s.Planner.Convert(ctx, w)
	if err != nil {
		return err
	}
	before, _ := r.T.Parse(w.Name, r.Text)
	after, broken := r.T.Parse("result", text)
	if len(broken) > 0 {
		return newProblem(http.StatusUnprocessableEntity, "bad-request", "The text cannot be read", "%s", broken[0])
	}
	if left := r.T.Unmask(after, before); left > 0 {
		return newProblem(http.StatusUnprocessableEntity, "bad-request", "A secret is not known",
			"%d values are ***, but no secret of the result belongs there; write the value itself", left)
	}
	edits := convert.Edits(before, after, r.T)
	if len(edits) == 0 {
		return newProblem(http.StatusUnprocessableEntity, "bad-request", "Nothing to keep",
			"the text means the same as the result; comments, blanks, and order where it does not matter are not kept as hand edits")
	}
	for _, e := range edits {
		w.LastEdit++
		e.ID, e.By, e.At = w.LastEdit, user(ctx), time.Now().UTC().Format(time.RFC3339)
		w.Edits = append(w.Edits, e)
	}
	return nil
}

// TryConversion has a device read the result as it would before using it.
func (s *Server) TryConversion(ctx context.Context, r gen.TryConversionRequestObject) (gen.TryConversionResponseObject, error) {
	_, w, err := s.Planner.OpenWork(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	if w.Fragment {
		return nil, conflict("this is a part of a configuration; a device reads only whole ones")
	}
	res, err := s.Planner.Convert(ctx, w)
	if err != nil {
		return nil, err
	}
	d, err := s.Planner.Device(ctx, r.Body.Device)
	if err != nil {
		return nil, err
	}
	to := res.Ledger.To
	said, err := s.Engine.TryConfiguration(ctx, d, func(p *portrait.Portrait) error {
		if p.Model != to.Model || p.Version != to.Version {
			return conflict("device %s is a %s that runs %s; the result is for a %s that runs %s, and another would judge it wrongly", d.Name,
				p.Model, p.Version, to.Model, to.Version)
		}
		return nil
	}, []byte(res.Text), actor(ctx))
	if err != nil {
		return nil, err
	}
	out := gen.TryConversion200JSONResponse{Device: d.Name, Items: []gen.ConfigurationFinding{}}
	doc, _ := res.T.Parse(w.Name, res.Text)
	at := map[int]*config.Node{}
	doc.Root.Walk(func(n *config.Node) {
		if n.Parent != nil && at[n.Line] == nil {
			at[n.Line] = n
		}
	})
	secret := map[string]bool{} // a device may repeat what it does not take
	doc.Root.Walk(func(n *config.Node) {
		if res.T.IsSecret(n) {
			for _, word := range n.Words {
				secret[word.Text] = true
			}
		}
	})
	for _, m := range said {
		f := gen.ConfigurationFinding{Line: m.Line, Column: 1, Message: m.Text}
		if n := at[m.Line]; n != nil {
			f.Path, f.Column = res.T.Path(n), n.Column
		}
		for word := range secret {
			if word != "" {
				f.Message = strings.ReplaceAll(f.Message, word, config.Mask)
			}
		}
		out.Items = append(out.Items, f)
	}
	return out, nil
}

// DeleteConversion forgets a conversion.
func (s *Server) DeleteConversion(ctx context.Context, r gen.DeleteConversionRequestObject) (gen.DeleteConversionResponseObject, error) {
	err := s.audited(ctx, "conversion deleted", "", fmt.Sprintf("conversion %d", r.Id), func(tx *store.Store) error { return tx.DeleteConversion(ctx, r.Id) })
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("there is no conversion %d", r.Id)
	}
	return gen.DeleteConversion204Response{}, err
}

// ReportConversion writes the report of a conversion.
func (s *Server) ReportConversion(ctx context.Context, r gen.ReportConversionRequestObject) (gen.ReportConversionResponseObject, error) {
	_, w, err := s.Planner.OpenWork(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	res, err := s.Planner.Convert(ctx, w)
	if err != nil {
		return nil, err
	}
	rep := report.Conversion(res.Ledger, res.S.MaskText(w.Name, w.Source), res.T.MaskText(w.Name, res.Text))
	var b bytes.Buffer
	if value(r.Params.Format) == gen.Pdf {
		if err := rep.PDF(&b); err != nil {
			return nil, err
		}
		return gen.ReportConversion200ApplicationpdfResponse{Body: &b, ContentLength: int64(b.Len())}, nil
	}
	if err := rep.HTML(&b); err != nil {
		return nil, err
	}
	return gen.ReportConversion200TexthtmlResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}
