package planning

import (
	"context"
	"errors"
	"time"

	"verimorph/core/backup"
	"verimorph/core/catalog"
	"verimorph/engine"
	"verimorph/internal/catcache"
	"verimorph/store"
)

// Device returns a device by name.
func (s *Planner) Device(ctx context.Context, name string) (store.Device, error) {
	d, err := s.Store.Device(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return d, notFound("there is no device %q; the fleet is listed by: verimorph device list", name)
	}
	return d, err
}

// Backup returns the record of a bundle; one that was let go is not found any more.
func (s *Planner) Backup(ctx context.Context, id int64) (store.Backup, error) {
	b, err := s.Store.Backup(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return b, notFound("there is no backup %d", id)
	}
	if err == nil && b.GoneAt != nil {
		return b, notFound("backup %d of %s was let go on %s: %s", id, b.Device, b.GoneAt.Format(time.DateOnly), b.GoneWhy)
	}
	return b, err
}

// Manifest returns a bundle's record with what it consists of.
func (s *Planner) Manifest(ctx context.Context, id int64) (store.Backup, *backup.Manifest, error) {
	b, err := s.Backup(ctx, id)
	if err != nil {
		return b, nil, err
	}
	m, err := s.Backups.Manifest(b.Manifest)
	if err != nil {
		return b, nil, damaged("backup %d: %s; look with: verimorph backup check", id, err)
	}
	return b, m, nil
}

// Records marks what is trouble with the records among the errors of what is loaded, for the engine: a change waits until that has passed. Data
// that cannot be used asks a person.
func Records(err error) error {
	if errors.As(err, new(*catcache.RecordsError)) {
		return engine.Records(err)
	}
	return err
}

// Catalogue returns what is loaded now, and a mark that grows with every load.
func (s *Planner) Catalogue(ctx context.Context) (*catalog.Catalogue, int64, error) {
	now, err := s.Catalogues.Now(ctx)
	return now.Catalogue, now.Mark, err
}
