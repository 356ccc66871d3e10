package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// A CatalogueFile is one loaded catalogue file.
type CatalogueFile struct {
	ID            int64
	Name, Content string
	SHA256        string
	LoadedBy      string
	LoadedAt      time.Time
	Restored      bool // it came from going back to an older version
}

// LoadCatalogue records a new version of a catalogue file, unless the newest one has the same content.
func (s *Store) LoadCatalogue(ctx context.Context, name, content, sum, by string, restored bool) (changed bool, err error) {
	tag, err := s.db.Exec(ctx, `INSERT INTO catalogue_files (name, content, sha256, loaded_by, restored) SELECT $1, $2, $3, $4, $5
		WHERE $3 IS DISTINCT FROM (SELECT sha256 FROM catalogue_files WHERE name = $1 ORDER BY id DESC LIMIT 1)`, name, content, sum, by, restored)
	return err == nil && tag.RowsAffected() == 1, err
}

// Catalogue returns the newest version of every file, by name.
func (s *Store) Catalogue(ctx context.Context) ([]CatalogueFile, error) {
	rows, err := s.db.Query(ctx, `SELECT DISTINCT ON (name) id, name, content, sha256, loaded_by, loaded_at, restored FROM catalogue_files ORDER BY name, id DESC`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[CatalogueFile])
}

// CatalogueMark changes whenever a file was loaded.
func (s *Store) CatalogueMark(ctx context.Context) (mark int64, err error) {
	err = s.db.QueryRow(ctx, `SELECT coalesce(max(id), 0) FROM catalogue_files`).Scan(&mark)
	return mark, err
}

// CatalogueVersions lists every version of a file that was loaded, newest first.
func (s *Store) CatalogueVersions(ctx context.Context, name string) ([]CatalogueFile, error) {
	rows, err := s.db.Query(ctx, `SELECT id, name, content, sha256, loaded_by, loaded_at, restored FROM catalogue_files WHERE name = $1 ORDER BY id DESC`, name)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[CatalogueFile])
}

// An Advisory is an imported CSAF document.
type Advisory struct {
	ID         string
	Document   []byte // JSON
	ImportedBy string
	ImportedAt time.Time
}

// PutAdvisory records an advisory in place of an older one with the same number.
func (s *Store) PutAdvisory(ctx context.Context, a Advisory) error {
	_, err := s.db.Exec(ctx, `INSERT INTO advisories (id, document, imported_by) VALUES ($1, $2, $3)
		ON CONFLICT (id) DO UPDATE SET document = $2, imported_by = $3, imported_at = now()`, a.ID, a.Document, a.ImportedBy)
	return err
}

// Advisories lists the imported advisories by number.
func (s *Store) Advisories(ctx context.Context) ([]Advisory, error) {
	rows, err := s.db.Query(ctx, `SELECT id, document, imported_by, imported_at FROM advisories ORDER BY id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Advisory])
}

// DeleteAdvisory forgets an advisory.
func (s *Store) DeleteAdvisory(ctx context.Context, id string) error {
	return s.gone(ctx, `DELETE FROM advisories WHERE id = $1`, id)
}

// gone runs a deletion; nothing to delete is ErrNotFound.
func (s *Store) gone(ctx context.Context, query string, args ...any) error {
	tag, err := s.db.Exec(ctx, query, args...)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}
