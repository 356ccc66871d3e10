// Package loaded keeps the catalogue that is loaded in the records, parsed, until a file is loaded by this process or
// another.
package loaded

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"verimorph/core/catalog"
	"verimorph/core/convert"
	"verimorph/store"
)

// A Catalogue is the loaded one.
type Catalogue struct {
	Store *store.Store
	mu    sync.Mutex
	now   State
}

// State is the catalogue at one moment. Nothing in it is changed afterwards.
type State struct {
	Catalogue *catalog.Catalogue
	Library   *convert.Library // the same, with schemas and conversions
	Files     []store.CatalogueFile
	Trouble   map[string]string // schema and conversion files that cannot be used now, and why
	Mark      int64 // grows with every load
}

// Now returns what is loaded.
func (c *Catalogue) Now(ctx context.Context) (State, error) {
	mark, err := c.Store.CatalogueMark(ctx)
	if err != nil {
		return State{}, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.now.Catalogue != nil && c.now.Mark == mark {
		return c.now, nil
	}
	files, err := c.Store.Catalogue(ctx)
	if err != nil {
		return State{}, err
	}
	cat := &catalog.Catalogue{}
	var mine []convert.File
	for _, f := range files {
		if convert.Mine([]byte(f.Content)) {
			mine = append(mine, convert.File{Name: f.Name, Data: []byte(f.Content)})
			continue
		}
		fam, found := catalog.ReadFile(f.Name, []byte(f.Content))
		if fam != nil {
			found = append(found, cat.Add(fam)...)
		}
		if errs := found.Errors(); len(errs) > 0 {
			return State{}, fmt.Errorf("the loaded catalogue cannot be used: %w", errs)
		}
	}
	lib, found := convert.Load(cat, mine)
	trouble := map[string]string{}
	for _, f := range found.Errors() {
		trouble[f.File] = strings.TrimPrefix(trouble[f.File]+"\n"+f.String(), "\n")
	}
	c.now = State{cat, lib, files, trouble, mark}
	return c.now, nil
}

// Parsed is Now without what surrounds the catalogue.
func (c *Catalogue) Parsed(ctx context.Context) (*catalog.Catalogue, error) {
	s, err := c.Now(ctx)
	return s.Catalogue, err
}
