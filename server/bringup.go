package server

import (
	"context"
	"fmt"

	"verimorph/api/gen"
	"verimorph/core/change"
	"verimorph/core/template"
	"verimorph/planning"
)

// Templates, and bringing blank devices up.

// ListTemplates answers with all of them, without their texts.
func (s *Server) ListTemplates(ctx context.Context, _ gen.ListTemplatesRequestObject) (gen.ListTemplatesResponseObject, error) {
	all, err := s.Store.Templates(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.ListTemplates200JSONResponse{Items: []gen.Template{}}
	for _, rec := range all {
		t, err := s.template(ctx, rec.Name)
		if err != nil {
			return nil, err
		}
		t.Text = nil
		out.Items = append(out.Items, t)
	}
	return out, nil
}

// GetTemplate answers with one.
func (s *Server) GetTemplate(ctx context.Context, r gen.GetTemplateRequestObject) (gen.GetTemplateResponseObject, error) {
	t, err := s.template(ctx, r.Name)
	return gen.GetTemplate200JSONResponse(t), err
}

// template is one in the form of the contract.
func (s *Server) template(ctx context.Context, name string) (gen.Template, error) {
	t, text, err := s.Planner.Template(ctx, name)
	if err != nil {
		return gen.Template{}, err
	}
	rec, err := s.Store.Template(ctx, name)
	if err != nil {
		return gen.Template{}, err
	}
	out := gen.Template{Name: name, Title: t.Title, Models: append([]string{}, t.Models...), Values: []gen.TemplateValue{}, Text: &text, UpdatedBy: rec.UpdatedBy, UpdatedAt: rec.UpdatedAt}
	for _, v := range t.Values {
		value := gen.TemplateValue{Name: v.Name, Type: gen.TemplateValueType(v.Type), Help: optional(v.Help)}
		if v.Type != template.Secret {
			value.Default = optional(v.Default)
		}
		if v.Optional {
			value.Optional = &v.Optional
		}
		if len(v.Of) > 0 {
			value.Of = &v.Of
		}
		out.Values = append(out.Values, value)
	}
	return out, nil
}

// PutTemplate keeps one.
func (s *Server) PutTemplate(ctx context.Context, r gen.PutTemplateRequestObject) (gen.PutTemplateResponseObject, error) {
	if r.Body == nil {
		return nil, badRequest("the template is missing")
	}
	if _, err := s.Planner.PutTemplate(ctx, actor(ctx), r.Name, *r.Body); err != nil {
		return nil, err
	}
	t, err := s.template(ctx, r.Name)
	return gen.PutTemplate200JSONResponse(t), err
}

// DeleteTemplate forgets one.
func (s *Server) DeleteTemplate(ctx context.Context, r gen.DeleteTemplateRequestObject) (gen.DeleteTemplateResponseObject, error) {
	return gen.DeleteTemplate204Response{}, s.Planner.DeleteTemplate(ctx, actor(ctx), r.Name)
}

// FillTemplate tells what a template makes of the values of some devices.
func (s *Server) FillTemplate(ctx context.Context, r gen.FillTemplateRequestObject) (gen.FillTemplateResponseObject, error) {
	var rows []template.Row
	for _, row := range r.Body.Rows {
		rows = append(rows, template.Row{Device: row.Device, Line: value(row.Line), Values: value(row.Values)})
	}
	filled, err := s.Planner.FillTemplate(ctx, r.Name, rows, value(r.Body.File), value(r.Body.Values))
	if err != nil {
		return nil, err
	}
	out := gen.FillTemplate200JSONResponse{Items: []gen.Filled{}}
	for _, f := range filled {
		out.Items = append(out.Items, gen.Filled{Device: f.Device, Text: optional(f.Text), Used: apiUsed(f.Used), Wrong: append([]string{}, f.Wrong...)})
	}
	return out, nil
}

func apiUsed(used []template.Used) []gen.UsedValue {
	out := []gen.UsedValue{}
	for _, u := range used {
		x := gen.UsedValue{Name: u.Name, Value: u.Value, From: u.From}
		if len(u.Over) > 0 {
			x.Over = &u.Over
		}
		out = append(out, x)
	}
	return out
}

// BringUp drafts bringing a device up.
func (s *Server) BringUp(ctx context.Context, r gen.BringUpRequestObject) (gen.BringUpResponseObject, error) {
	b := r.Body
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, b, func() (int64, error) {
		w := change.Wish{Device: b.Device, ComesBackAt: value(b.ComesBackAt), Aim: change.Aim{To: value(b.To)},
			BringUp: &change.BringUpWish{Template: value(b.Template), Backup: value(b.Backup), Serial: value(b.Serial), KeepPassword: value(b.KeepPassword), Content: value(b.Content), Calls: value(b.Calls), Model: value(b.Model)}}
		keys := map[string]string{}
		for _, l := range value(b.Licences) {
			w.Licences, keys[l.Name] = append(w.Licences, l.Name), value(l.Key)
		}
		in := planning.BringUp{Sources: sourcesOf(b), Password: value(b.NewPassword)}
		if b.Configuration != nil {
			w.BringUp.File, in.Text = b.Configuration.Name, &b.Configuration.Text
		}
		return s.Planner.DraftBringUp(ctx, actor(ctx), w, in, keys, termsOf(b.Terms))
	})
	if err != nil {
		return nil, err
	}
	c, err := s.change(ctx, n)
	return gen.BringUp201JSONResponse(c), err
}

// sourcesOf are where the values of a bring-up come from, the strongest first.
func sourcesOf(b *gen.NewBringUp) []template.Source {
	out := []template.Source{{Name: "the call", Values: value(b.Values)}}
	if b.Row != nil {
		out = append(out, template.Source{Name: rowName(value(b.File), value(b.Row.Line)), Values: value(b.Row.Values)})
	}
	return out
}

// rowName names a line of a table.
func rowName(file string, line int) string { return fmt.Sprintf("%s, line %d", file, line) }
