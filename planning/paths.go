package planning

import (
	"context"
	"encoding/json"
	"errors"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/store"
)

// Facts are what a device is, as far as it is known: its last portrait, and what its newest saved configuration
// says about the catalogue's conditions.
func (s *Planner) Facts(ctx context.Context, d store.Device) (*portrait.Portrait, error) {
	if d.Portrait == nil {
		return nil, conflict("nobody has looked at device %s yet; refresh it first", d.Name)
	}
	var p portrait.Portrait
	if err := json.Unmarshal(d.Portrait, &p); err != nil {
		return nil, err
	}
	p.Name = d.Name
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	if f := cat.FamilyOfModel(p.Model); f != nil && len(f.Conditions) > 0 {
		p.Uses = s.Engine.Uses(ctx, f, d)
	}
	return &p, nil
}

// Question turns an aim, as somebody writes it, into a question for a planner. Advisories that were imported come before what the
// catalogue itself says is fixed.
func (s *Planner) Question(ctx context.Context, p *portrait.Portrait, a change.Aim) (path.Question, error) {
	aim, err := path.ParseAim(strings.TrimSpace(a.To))
	if err != nil {
		return path.Question{}, invalid("%s", err)
	}
	aim.Model = a.ToModel
	if aim.AsMember != "" {
		if aim.AsMember, err = s.runs(ctx, aim.AsMember); err != nil {
			return path.Question{}, err
		}
	}
	if aim.Fixes != "" {
		if aim.Affected, err = s.affected(ctx, aim.Fixes); err != nil {
			return path.Question{}, err
		}
	}
	return path.Question{Portrait: p, Aim: aim, Alternatives: min(a.Alternatives, 5), Policy: path.Policy{Previews: a.Previews, Reset: a.Reset,
		MaxHops: a.MaxHops, Services: a.Services, DropChildren: a.DropChildren}}, nil
}

// runs is the version that a device of that name runs; any other name is handed back as it is.
func (s *Planner) runs(ctx context.Context, name string) (string, error) {
	d, err := s.Store.Device(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return name, nil
	}
	if err != nil {
		return "", err
	}
	p, err := s.Facts(ctx, d)
	if err != nil {
		return "", err
	}
	return p.Version, nil
}

// Path computes the path for a device from its last portrait.
func (s *Planner) Path(ctx context.Context, d store.Device, aim change.Aim, licences ...string) (p *path.Path, err error) {
	facts, err := s.Facts(ctx, d)
	if err != nil {
		return nil, err
	}
	facts.Given = licences
	q, err := s.Question(ctx, facts, aim)
	if err != nil {
		return nil, err
	}
	err = s.Ask(ctx, func(_ *catalog.Catalogue, planner *path.Planner) error {
		p, err = planner.Find(q)
		return err
	})
	if err != nil {
		return nil, err
	}
	return p, s.listLost(ctx, d, p)
}
