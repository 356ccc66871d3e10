package server

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"sync"

	"verimorph/api/gen"
	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/store"
)

// catalogues keeps the parsed catalogue until a file is loaded, by this process or another.
type catalogues struct {
	mu    sync.Mutex
	mark  int64
	cat   *catalog.Catalogue
	files []store.CatalogueFile
}

// catalogue returns what is loaded now, and a mark that grows with every load.
func (s *Server) catalogue(ctx context.Context) (*catalog.Catalogue, []store.CatalogueFile, int64, error) {
	mark, err := s.Store.CatalogueMark(ctx)
	if err != nil {
		return nil, nil, 0, err
	}
	c := &s.catalogs
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.cat != nil && c.mark == mark {
		return c.cat, c.files, mark, nil
	}
	files, err := s.Store.Catalogue(ctx)
	if err != nil {
		return nil, nil, 0, err
	}
	cat := &catalog.Catalogue{}
	for _, f := range files {
		fam, found := catalog.ReadFile(f.Name, []byte(f.Content))
		if fam != nil {
			found = cat.Add(fam)
		}
		if errs := found.Errors(); len(errs) > 0 {
			return nil, nil, 0, fmt.Errorf("the loaded catalogue cannot be used: %w", errs)
		}
	}
	c.cat, c.files, c.mark = cat, files, mark
	return cat, files, mark, nil
}

// plan answers a path question with the planner of the loaded catalogue.
func (s *Server) plan(ctx context.Context, ask func(*catalog.Catalogue, *path.Planner) error) error {
	cat, _, mark, err := s.catalogue(ctx)
	if err != nil {
		return err
	}
	s.planning.Lock()
	defer s.planning.Unlock()
	if s.planner == nil || s.planMark != mark {
		s.planner, s.planMark = path.NewPlanner(cat), mark
	}
	return ask(cat, s.planner)
}

// GetCatalogue lists what is loaded.
func (s *Server) GetCatalogue(ctx context.Context, _ gen.GetCatalogueRequestObject) (gen.GetCatalogueResponseObject, error) {
	cat, files, _, err := s.catalogue(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.GetCatalogue200JSONResponse{Items: []gen.CatalogueFile{}}
	for _, f := range files {
		for _, fam := range cat.Families {
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
	fam, found := catalog.ReadFile(r.File, data)
	if fam != nil {
		// It must go together with the other files that are loaded.
		cat, _, _, err := s.catalogue(ctx)
		if err != nil {
			return nil, err
		}
		rest := &catalog.Catalogue{}
		for _, f := range cat.Families {
			if f.File != r.File {
				rest.Families = append(rest.Families, f)
			}
		}
		found = append(found, rest.Add(fam)...)
	}
	if errs := found.Errors(); len(errs) > 0 {
		return nil, newProblem(422, "bad-request", "The catalogue file is not right", "%s", errs)
	}
	sum := sha256.Sum256(data)
	changed, err := s.Store.LoadCatalogue(ctx, r.File, string(data), hex.EncodeToString(sum[:]), user(ctx))
	if err != nil {
		return nil, err
	}
	out := gen.LoadCatalogue200JSONResponse{File: r.File, Changed: changed, Doubts: []string{}}
	for _, f := range found {
		out.Doubts = append(out.Doubts, f.String())
	}
	return out, nil
}
