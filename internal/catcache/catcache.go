// Package catcache is a cache of the loaded catalogue in parsed form. The records hold the files as text; reading and checking all of them
// takes seconds in a large installation. [Cache.Now] answers from memory as long as nobody has loaded a file, in this process or in another:
// it asks the records for a mark that grows with every load.
//
// A failure of the records is a [*RecordsError]. A schema or conversion that cannot be used now is no error: [State.Trouble] tells why.
package catcache

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"verimorph/core/catalog"
	"verimorph/core/convert"
	"verimorph/core/yamldoc"
	"verimorph/device"
	"verimorph/device/cli"
	"verimorph/store"
)

// A Cache holds the catalogue as it was loaded last. It is ready for use once Store is set, and safe for use by several goroutines.
type Cache struct {
	Store    *store.Store
	mu       sync.Mutex
	now      State
	families map[string]*catalog.Family // by name and hash of the file they were read from, so that each is read once
	dialects map[string]DialectFile     // likewise
}

// State is the catalogue at one moment. Nothing in it is changed afterwards.
type State struct {
	Catalogue *catalog.Catalogue
	Files     []store.CatalogueFile
	Mark      int64 // grows with every load
	Dialects  []DialectFile

	library func() (*convert.Library, map[string]string)
}

// A DialectFile is a dialect that was loaded. One that cannot be used now disables only itself.
type DialectFile struct {
	File    string
	Name    string
	Dialect *cli.Dialect // nil: it cannot be used
	Trouble string       // why
}

// Drivers are the loaded dialects that can be used, as drivers by name. Of two with one name the file that comes last counts.
func (s State) Drivers() map[string]device.Driver {
	out := map[string]device.Driver{}
	for _, d := range s.Dialects {
		if d.Dialect != nil {
			out[d.Name] = d.Dialect
		}
	}
	return out
}

func dialect(file string, data []byte) DialectFile {
	d, found := cli.Check(file, data)
	if d == nil {
		return DialectFile{File: file, Name: yamldoc.FieldOf(data, "dialect"), Trouble: found.Errors().Error()}
	}
	return DialectFile{File: file, Name: d.Name, Dialect: d}
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
func (c *Cache) Now(ctx context.Context) (State, error) {
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
	dialects, inOrder := map[string]DialectFile{}, []DialectFile{}
	for _, f := range files {
		if cli.Mine([]byte(f.Content)) {
			key := f.Name + " " + f.SHA256
			d, known := c.dialects[key]
			if !known {
				d = dialect(f.Name, []byte(f.Content))
			}
			dialects[key], inOrder = d, append(inOrder, d)
			continue
		}
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
	c.families, c.dialects = families, dialects
	c.now = State{cat, files, mark, inOrder, sync.OnceValues(func() (*convert.Library, map[string]string) { return library(cat, mine) })}
	return c.now, nil
}

// A RecordsError says that the records could not be read, which passes; any other error says that what is loaded cannot be used.
type RecordsError struct{ Err error }

func (e *RecordsError) Error() string { return e.Err.Error() }

// Unwrap returns the error of the store.
func (e *RecordsError) Unwrap() error { return e.Err }

// Drivers are the dialects of what is loaded.
func (c *Cache) Drivers(ctx context.Context) (map[string]device.Driver, error) {
	s, err := c.Now(ctx)
	if err != nil {
		return nil, err
	}
	return s.Drivers(), nil
}

// Parsed is Now without what surrounds the catalogue.
func (c *Cache) Parsed(ctx context.Context) (*catalog.Catalogue, error) {
	s, err := c.Now(ctx)
	return s.Catalogue, err
}

// Library is the schemas and conversions of what is loaded.
func (c *Cache) Library(ctx context.Context) (*convert.Library, error) {
	s, err := c.Now(ctx)
	if err != nil {
		return nil, err
	}
	return s.Library(), nil
}
