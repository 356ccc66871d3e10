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
	Store    *store.Store
	mu       sync.Mutex
	now      State
	families map[string]*catalog.Family // by name and hash of the file they were read from, so that each is read once
}

// State is the catalogue at one moment. Nothing in it is changed afterwards.
type State struct {
	Catalogue *catalog.Catalogue
	Files     []store.CatalogueFile
	Mark      int64 // grows with every load

	library func() (*convert.Library, map[string]string)
}

// Library is the catalogue with its schemas and conversions. They are read when somebody first asks.
func (s State) Library() *convert.Library {
	l, _ := s.library()
	return l
}

// Trouble says, by file, why schemas and conversions cannot be used now.
func (s State) Trouble() map[string]string {
	_, trouble := s.library()
	return trouble
}

func library(cat *catalog.Catalogue, files []convert.File) (*convert.Library, map[string]string) {
	l, found := convert.Load(cat, files)
	trouble := map[string]string{}
	for _, f := range found.Errors() {
		trouble[f.File] = strings.TrimPrefix(trouble[f.File]+"\n"+f.String(), "\n")
	}
	return l, trouble
}

// Now returns what is loaded.
func (c *Catalogue) Now(ctx context.Context) (State, error) {
	mark, err := c.Store.CatalogueMark(ctx)
	if err != nil {
		return State{}, &RecordsError{err}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.now.Catalogue != nil && c.now.Mark == mark {
		return c.now, nil
	}
	files, err := c.Store.Catalogue(ctx)
	if err != nil {
		return State{}, &RecordsError{err}
	}
	cat := &catalog.Catalogue{}
	var mine []convert.File
	families := map[string]*catalog.Family{}
	for _, f := range files {
		if convert.Mine([]byte(f.Content)) {
			mine = append(mine, convert.File{Name: f.Name, Data: []byte(f.Content)})
			continue
		}
		key := f.Name + " " + f.SHA256
		fam, found := c.families[key], catalog.Findings(nil)
		if fam == nil {
			fam, found = catalog.ReadFile(f.Name, []byte(f.Content))
		}
		if fam != nil {
			families[key] = fam
			found = append(found, cat.Add(fam)...)
		}
		if errs := found.Errors(); len(errs) > 0 {
			return State{}, fmt.Errorf("the loaded catalogue cannot be used: %w", errs)
		}
	}
	c.families = families
	c.now = State{cat, files, mark, sync.OnceValues(func() (*convert.Library, map[string]string) { return library(cat, mine) })}
	return c.now, nil
}

// A RecordsError says that the records could not be read, which passes; any other error says that what is loaded cannot be used.
type RecordsError struct{ Err error }

func (e *RecordsError) Error() string { return e.Err.Error() }

// Unwrap returns the error of the store.
func (e *RecordsError) Unwrap() error { return e.Err }

// Parsed is Now without what surrounds the catalogue.
func (c *Catalogue) Parsed(ctx context.Context) (*catalog.Catalogue, error) {
	s, err := c.Now(ctx)
	return s.Catalogue, err
}

// Library is the schemas and conversions of what is loaded.
func (c *Catalogue) Library(ctx context.Context) (*convert.Library, error) {
	s, err := c.Now(ctx)
	if err != nil {
		return nil, err
	}
	return s.Library(), nil
}
