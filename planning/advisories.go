package planning

import (
	"context"

	"verimorph/core/advisory"
	"verimorph/engine"
)

// An UnusableAdvisory is a stored document that cannot be used. It disables only itself.
type UnusableAdvisory struct {
	ID  string `json:"id"`
	Why string `json:"why"`
}

func (s *Planner) EveryAdvisory(ctx context.Context) (out []*advisory.Advisory, unusable []UnusableAdvisory, err error) {
	all, err := s.Store.Advisories(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, rec := range all {
		a, err := advisory.Read(rec.Document)
		if err != nil {
			s.Log.Warn("a stored advisory cannot be read", "id", rec.ID, "err", err)
			unusable = append(unusable, UnusableAdvisory{rec.ID, err.Error()})
			continue
		}
		out = append(out, a)
	}
	return out, unusable, nil
}

// NamedBy lists the imported advisories that call a release affected, or say that it is still being looked into, and those of which nobody
// knows, since their documents cannot be used.
func (s *Planner) NamedBy(ctx context.Context, model, release string) (ids, unknown []string, err error) {
	all, unusable, err := s.EveryAdvisory(ctx)
	if err != nil {
		return nil, nil, engine.Records(err)
	}
	for _, u := range unusable {
		unknown = append(unknown, u.ID)
	}
	if len(all) == 0 {
		return nil, unknown, nil
	}
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return nil, nil, Records(err)
	}
	for _, a := range all {
		if a.Affects(cat)(model, release) {
			ids = append(ids, a.ID)
		}
	}
	return ids, unknown, nil
}

func (s *Planner) Advisory(ctx context.Context, id string) (*advisory.Advisory, error) {
	all, unusable, err := s.EveryAdvisory(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range all {
		if a.ID == id {
			return a, nil
		}
	}
	for _, u := range unusable {
		if u.ID == id {
			return nil, conflict("the stored document of %s cannot be used: %s; import one that can, or delete it", id, u.Why)
		}
	}
	return nil, notFound("there is no advisory %q; import it first", id)
}

// affected tells which releases an imported advisory affects; nil when it was not imported, so that what the catalogue
// itself says counts.
func (s *Planner) affected(ctx context.Context, id string) (func(model, version string) bool, error) {
	a, err := s.Advisory(ctx, id)
	if IsKind(err, NotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	return a.Affects(cat), nil
}
