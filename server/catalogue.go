package server

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"strings"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/catalog"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/yamldoc"
	"verimorph/device/cli"
	"verimorph/store"
)

// GetCatalogue lists what is loaded.
func (s *Server) GetCatalogue(ctx context.Context, _ gen.GetCatalogueRequestObject) (gen.GetCatalogueResponseObject, error) {
	now, err := s.Catalogues.Now(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.GetCatalogue200JSONResponse{Items: []gen.CatalogueFile{}, Configuration: configurationFiles(now)}
	for _, f := range now.Files {
		for _, fam := range now.Catalogue.Families {
			if fam.File == f.Name {
				item := gen.CatalogueFile{File: f.Name, Family: fam.Name, Title: fam.Title, Maker: fam.Maker, Releases: len(fam.Releases), Sha256: f.SHA256, LoadedBy: f.LoadedBy, LoadedAt: f.LoadedAt}
				for _, m := range fam.Models {
					item.Models = append(item.Models, m.Name)
				}
				out.Items = append(out.Items, item)
			}
		}
	}
	return out, nil
}

// LoadCatalogue checks and records a catalogue file.
func (s *Server) LoadCatalogue(ctx context.Context, r gen.LoadCatalogueRequestObject) (gen.LoadCatalogueResponseObject, error) {
	data, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	out, err := s.load(ctx, r.File, data, value(r.Params.Check), false)
	return gen.LoadCatalogue200JSONResponse(out), err
}

// load checks a file together with the others that are loaded, and records it unless it is only to be checked.
func (s *Server) load(ctx context.Context, file string, data []byte, checkOnly, restored bool) (out gen.Loaded, err error) {
	out = gen.Loaded{File: file, Doubts: []string{}}
	var fam *catalog.Family
	var found yamldoc.Findings
	switch {
	case cli.Mine(data):
		if found, err = s.checkDialect(ctx, file, data); err != nil {
			return out, err
		}
	case convert.Mine(data):
		if found, err = s.checkConfigurationFile(ctx, file, data); err != nil {
			return out, err
		}
	default:
		fam, found = catalog.ReadFile(file, data)
	}
	if fam != nil {
		cat, _, err := s.Planner.Catalogue(ctx)
		if err != nil {
			return out, err
		}
		rest := &catalog.Catalogue{}
		for _, f := range cat.Families {
			if f.File != file {
				rest.Families = append(rest.Families, f)
			}
		}
		found = append(found, rest.Add(fam)...)
	}
	if errs := found.Errors(); len(errs) > 0 {
		return out, newProblem(422, "bad-request", "The catalogue file is not right", "%s", errs)
	}
	for _, f := range found {
		out.Doubts = append(out.Doubts, f.String())
	}
	if checkOnly {
		return out, nil
	}
	sum := sha256.Sum256(data)
	err = s.audited(ctx, "catalogue file loaded", "", file+", SHA-256 "+hex.EncodeToString(sum[:]), func(tx *store.Store) (err error) {
		out.Changed, err = tx.LoadCatalogue(ctx, file, string(data), hex.EncodeToString(sum[:]), user(ctx), restored)
		return err
	})
	s.Engine.Reload()
	return out, err
}

// version finds one loaded version of a file.
func (s *Server) catalogueVersion(ctx context.Context, file string, id int64) (store.CatalogueFile, error) {
	all, err := s.Store.CatalogueVersions(ctx, file)
	if err != nil {
		return store.CatalogueFile{}, err
	}
	for _, v := range all {
		if v.ID == id {
			return v, nil
		}
	}
	return store.CatalogueFile{}, notFound("catalogue file %q has no version %d", file, id)
}

// ListCatalogueVersions lists every version of a file that was loaded.
func (s *Server) ListCatalogueVersions(ctx context.Context, r gen.ListCatalogueVersionsRequestObject) (gen.ListCatalogueVersionsResponseObject, error) {
	all, err := s.Store.CatalogueVersions(ctx, r.File)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, notFound("there is no catalogue file %q", r.File)
	}
	out := gen.ListCatalogueVersions200JSONResponse{Items: []gen.CatalogueVersion{}}
	for i, v := range all {
		out.Items = append(out.Items, gen.CatalogueVersion{Id: v.ID, Sha256: v.SHA256, Size: len(v.Content), LoadedBy: v.LoadedBy, LoadedAt: v.LoadedAt, Current: i == 0, Restored: v.Restored})
	}
	return out, nil
}

// ReadCatalogueVersion answers with the text of a version.
func (s *Server) ReadCatalogueVersion(ctx context.Context, r gen.ReadCatalogueVersionRequestObject) (gen.ReadCatalogueVersionResponseObject, error) {
	v, err := s.catalogueVersion(ctx, r.File, r.Id)
	if err != nil {
		return nil, err
	}
	return gen.ReadCatalogueVersion200ApplicationyamlResponse{Body: strings.NewReader(v.Content), ContentLength: int64(len(v.Content))}, nil
}

// RestoreCatalogueVersion loads an older version again as the newest.
func (s *Server) RestoreCatalogueVersion(ctx context.Context, r gen.RestoreCatalogueVersionRequestObject) (gen.RestoreCatalogueVersionResponseObject, error) {
	v, err := s.catalogueVersion(ctx, r.File, r.Id)
	if err != nil {
		return nil, err
	}
	out, err := s.load(ctx, r.File, []byte(v.Content), false, true)
	return gen.RestoreCatalogueVersion200JSONResponse(out), err
}

// CompareCatalogueVersions says what differs from one version to another.
func (s *Server) CompareCatalogueVersions(ctx context.Context, r gen.CompareCatalogueVersionsRequestObject) (gen.CompareCatalogueVersionsResponseObject, error) {
	var fams []*catalog.Family
	for _, id := range []int64{r.Id, r.Other} {
		v, err := s.catalogueVersion(ctx, r.File, id)
		if err != nil {
			return nil, err
		}
		if convert.Mine([]byte(v.Content)) || cli.Mine([]byte(v.Content)) {
			return nil, conflict("%q is no catalogue file of a family; read both versions instead", r.File)
		}
		fam, found := catalog.ReadFile(v.Name, []byte(v.Content))
		if fam == nil {
			return nil, conflict("version %d can no longer be read by this service: %s", id, found[0])
		}
		fams = append(fams, fam)
	}
	out := gen.CompareCatalogueVersions200JSONResponse{Items: []gen.CatalogueDifference{}}
	for _, d := range catalog.Compare(fams[0], fams[1]) {
		out.Items = append(out.Items, gen.CatalogueDifference{Kind: gen.CatalogueDifferenceKind(d.Kind), What: d.What, Detail: d.Detail})
	}
	return out, nil
}

// GetFamily answers with everything the catalogue says about a family.
func (s *Server) GetFamily(ctx context.Context, r gen.GetFamilyRequestObject) (gen.GetFamilyResponseObject, error) {
	cat, _, err := s.Planner.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	f := cat.Family(r.Family)
	if f == nil {
		return nil, notFound("the catalogue has no family %q", r.Family)
	}
	return gen.GetFamily200JSONResponse(view.Family(f, s.Blobs.Has)), nil
}

// ListModelReleases lists the releases of a model's family and which it may run.
func (s *Server) ListModelReleases(ctx context.Context, r gen.ListModelReleasesRequestObject) (gen.ListModelReleasesResponseObject, error) {
	items, err := s.releases(ctx, r.Model, "")
	return gen.ListModelReleases200JSONResponse{Items: items}, err
}

func (s *Server) releases(ctx context.Context, model, running string) (items []gen.Release, err error) {
	err = s.Planner.Ask(ctx, func(_ *catalog.Catalogue, p *path.Planner) error {
		f, notRun, err := p.MayRun(model)
		if err == nil {
			items = view.Releases(f, model, running, notRun, s.Blobs.Has)
		}
		return err
	})
	return items, err
}
