package planning

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"verimorph/access"
	"verimorph/core/template"
	"verimorph/store"
)

// Templates of configurations.

// mostTemplate is how large one may be, in bytes.
const mostTemplate = 4 << 20

func templateLabel(name string) string { return "template " + name }

// PutTemplate keeps a template under a name. What is wrong with it is told with its places.
func (s *Planner) PutTemplate(ctx context.Context, by access.Actor, name, text string) (*template.Template, error) {
	switch {
	case !GoodName(name):
		return nil, invalid("%q is no name: letters, digits, dots, dashes and underscores", name)
	case len(text) > mostTemplate:
		return nil, invalid("a template may have %d bytes", mostTemplate)
	}
	t, found := template.Read(name, text)
	if len(found) > 0 {
		var lines []string
		for _, f := range found {
			lines = append(lines, f.String())
		}
		return nil, invalid("%s", strings.Join(lines, "\n"))
	}
	sealed, err := s.Vault.Seal(templateLabel(name), []byte(text))
	if err != nil {
		return nil, err
	}
	return t, s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "template kept", Detail: name}, tx.PutTemplate(ctx, store.Template{Name: name, Title: t.Title, Sealed: sealed, UpdatedBy: by.String()})
	})
}

// Template opens one, with its text.
func (s *Planner) Template(ctx context.Context, name string) (*template.Template, string, error) {
	rec, err := s.Store.Template(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, "", notFound("there is no template %q; list them with: verimorph template list", name)
	}
	if err != nil {
		return nil, "", err
	}
	text, err := s.Vault.Open(templateLabel(name), rec.Sealed)
	if err != nil {
		return nil, "", damaged("template %s cannot be read: %s", name, err)
	}
	t, found := template.Read(name, string(text))
	if len(found) > 0 {
		return nil, "", damaged("template %s cannot be read any more: %s", name, found[0])
	}
	return t, string(text), nil
}

// DeleteTemplate forgets one.
func (s *Planner) DeleteTemplate(ctx context.Context, by access.Actor, name string) error {
	err := s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "template deleted", Detail: name}, tx.DeleteTemplate(ctx, name)
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("there is no template %q", name)
	}
	return err
}

// A Filled is what a template makes of the values of one device, or all that is wrong with them.
type Filled struct {
	Device string
	Text   string // with *** in the place of secrets
	Used   []template.Used
	Wrong  []string
}

// FillTemplate fills a template for several devices. What is wrong with any of them is told of all; nothing is kept.
func (s *Planner) FillTemplate(ctx context.Context, name string, rows []template.Row, file string, call map[string]string) ([]Filled, error) {
	t, _, err := s.Template(ctx, name)
	if err != nil {
		return nil, err
	}
	var out []Filled
	for _, r := range rows {
		f := Filled{Device: r.Device}
		from := []template.Source{{Name: "the call", Values: call}, {Name: fmt.Sprintf("%s, line %d", file, r.Line), Values: r.Values}}
		_, f.Used, f.Wrong = t.Fill(from...)
		f.Text = t.Shown(from...)
		out = append(out, f)
	}
	return out, nil
}
