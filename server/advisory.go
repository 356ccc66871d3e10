package server

import (
	"context"
	"encoding/json"
	"errors"

	"verimorph/api/gen"
	"verimorph/core/advisory"
	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/imagestore"
	"verimorph/store"
)

// AddAdvisory imports a CSAF document.
func (s *Server) AddAdvisory(ctx context.Context, r gen.AddAdvisoryRequestObject) (gen.AddAdvisoryResponseObject, error) {
	data, err := json.Marshal(r.Body)
	if err != nil {
		return nil, err
	}
	a, err := advisory.Read(data)
	if err != nil {
		return nil, badRequest("the document cannot be used: %s", err)
	}
	cat, _, err := s.Planner.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	if len(a.Families(cat)) == 0 {
		return nil, newProblem(422, "bad-request", "The advisory does not concern us", "none of the products of %s is a model or family of the catalogue", a.ID)
	}
	if old, err := s.Planner.Advisory(ctx, a.ID); err == nil && old.Released > a.Released { // RFC 3339 in UTC sorts as text
		return nil, conflict("revision %s of %s, released %s, is newer than this one of %s", old.Revision, a.ID, old.Released, a.Released)
	}
	if err := s.audited(ctx, "advisory imported", "", a.ID, func(tx *store.Store) error {
		return tx.PutAdvisory(ctx, store.Advisory{ID: a.ID, Document: data, ImportedBy: user(ctx)})
	}); err != nil {
		return nil, err
	}
	fleet, err := s.fleet(ctx)
	return gen.AddAdvisory200JSONResponse(apiAdvisory(a, cat, fleet)), err
}

func apiAdvisory(a *advisory.Advisory, cat *catalog.Catalogue, fleet []imagestore.Running) gen.Advisory {
	out := gen.Advisory{Id: a.ID, Title: a.Title, Publisher: a.Publisher, Severity: a.Severity, Summary: a.Summary, Released: a.Released, Revision: a.Revision, Cves: a.CVEs, Families: []string{}}
	if out.Cves == nil {
		out.Cves = []string{}
	}
	for _, f := range a.Families(cat) {
		out.Families = append(out.Families, f.Name)
	}
	for _, d := range fleet {
		if f := cat.FamilyOfModel(d.Model); f != nil {
			if status, _ := a.Status(f, d.Model, d.Version); status == advisory.Affected {
				out.Affected++
			}
		}
	}
	return out
}

// ListAdvisories lists the imported advisories.
func (s *Server) ListAdvisories(ctx context.Context, _ gen.ListAdvisoriesRequestObject) (gen.ListAdvisoriesResponseObject, error) {
	all, unusable, err := s.Planner.EveryAdvisory(ctx)
	if err != nil {
		return nil, err
	}
	cat, _, err := s.Planner.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	fleet, err := s.fleet(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.ListAdvisories200JSONResponse{Items: []gen.Advisory{}}
	for _, a := range all {
		out.Items = append(out.Items, apiAdvisory(a, cat, fleet))
	}
	bad, err := json.Marshal(unusable)
	if err == nil && len(unusable) > 0 {
		err = json.Unmarshal(bad, &out.Unusable)
	}
	return out, err
}

// DeleteAdvisory forgets an advisory.
func (s *Server) DeleteAdvisory(ctx context.Context, r gen.DeleteAdvisoryRequestObject) (gen.DeleteAdvisoryResponseObject, error) {
	err := s.audited(ctx, "advisory deleted", "", r.Name, func(tx *store.Store) error { return tx.DeleteAdvisory(ctx, r.Name) })
	if errors.Is(err, store.ErrNotFound) {
		err = notFound("there is no advisory %q", r.Name)
	}
	return gen.DeleteAdvisory204Response{}, err
}

// GetAdvisory shows an advisory with the releases and devices it speaks about, and for each affected device the path to
// the oldest release that fixes it.
func (s *Server) GetAdvisory(ctx context.Context, r gen.GetAdvisoryRequestObject) (gen.GetAdvisoryResponseObject, error) {
	a, err := s.Planner.Advisory(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	cat, _, err := s.Planner.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	fleet, err := s.fleet(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.GetAdvisory200JSONResponse{Advisory: apiAdvisory(a, cat, fleet), Releases: []gen.AdvisoryRelease{}, Says: a.Says(), Devices: []gen.AdvisoryDevice{}}
	for _, f := range a.Families(cat) {
		for i := len(f.Releases) - 1; i >= 0; i-- {
			v := f.Releases[i].Version.String()
			for _, m := range f.Models { // the same for all models in nearly every document
				if status, _ := a.Status(f, m.Name, v); status != "" {
					out.Releases = append(out.Releases, gen.AdvisoryRelease{Family: f.Name, Version: v, Status: string(status)})
					break
				}
			}
		}
	}
	for _, d := range fleet {
		f := cat.FamilyOfModel(d.Model)
		if f == nil {
			continue
		}
		status, remediation := a.Status(f, d.Model, d.Version)
		if status == "" {
			continue
		}
		item := gen.AdvisoryDevice{Device: d.Device, Model: d.Model, Version: d.Version, Status: string(status), Remediation: remediation}
		if status == advisory.Affected {
			if err := s.wayOut(ctx, &item, a.ID); err != nil {
				return nil, err
			}
		}
		out.Devices = append(out.Devices, item)
	}
	return out, nil
}

// wayOut finds the path of an affected device to a release that fixes the advisory.
func (s *Server) wayOut(ctx context.Context, item *gen.AdvisoryDevice, id string) error {
	d, err := s.Planner.Device(ctx, item.Device)
	if err != nil {
		return err
	}
	p, err := s.Planner.Path(ctx, d, aimOf(gen.Aim{To: "fixes:" + id}))
	var no *path.NoPathError
	var unknown *path.UnknownError
	switch {
	case errors.As(err, &no), errors.As(err, &unknown):
		item.Why = ptr(err.Error())
		return nil
	case err != nil:
		return err
	}
	item.FixedBy = ptr(p.To.String())
	stops := []string{}
	for _, h := range p.Hops {
		stops = append(stops, h.To.String())
	}
	item.Stops = &stops
	return nil
}
