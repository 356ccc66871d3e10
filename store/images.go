package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// An Image is a firmware file in the image store.
type Image struct {
	SHA256, File    string
	Size            int64
	Family, Version string
	Models          []string
	AddedBy         string
	AddedAt         time.Time
	Part            string // component it is for; "" for a main image
	Signed          bool   // its maker's signature was checked
}

const imageColumns = `sha256, file, size, family, version, models, added_by, added_at, part, signed`

// AddImage records an image and reports whether it was there already. What is recorded stays, but a signature that was
// checked now is remembered.
func (s *Store) AddImage(ctx context.Context, im Image) (already bool, err error) {
	err = s.db.QueryRow(ctx, `INSERT INTO images (sha256, file, size, family, version, models, added_by, part, signed) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		ON CONFLICT (sha256) DO UPDATE SET signed = images.signed OR $9 RETURNING xmax <> 0`, im.SHA256, im.File, im.Size, im.Family, im.Version, im.Models, im.AddedBy, im.Part, im.Signed).Scan(&already)
	return already, err
}

// Image returns an image by its sum.
func (s *Store) Image(ctx context.Context, sum string) (im Image, err error) {
	rows, err := s.db.Query(ctx, `SELECT `+imageColumns+` FROM images WHERE sha256 = $1`, sum)
	if err != nil {
		return im, err
	}
	im, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Image])
	return im, one(err)
}

// DeleteImage forgets an image.
func (s *Store) DeleteImage(ctx context.Context, sum string) error {
	return s.gone(ctx, `DELETE FROM images WHERE sha256 = $1`, sum)
}

// Images lists images by file name, after a name, at most limit.
func (s *Store) Images(ctx context.Context, after string, limit int) ([]Image, error) {
	rows, err := s.db.Query(ctx, `SELECT `+imageColumns+` FROM images WHERE file > $1 ORDER BY file LIMIT $2`, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Image])
}

// OpenPaths returns the paths of changes that may still run, with the change's number and device.
func (s *Store) OpenPaths(ctx context.Context) ([]OpenPath, error) {
	rows, err := s.db.Query(ctx, `SELECT c.id AS change, d.name AS device, c.path FROM changes c JOIN members m ON m.change_id = c.id AND m.number = 1 JOIN devices d ON d.id = m.device_id
		WHERE c.state IN ('draft', 'approved', 'running', 'pausing', 'paused', 'scheduled', 'asking') ORDER BY c.id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[OpenPath])
}

// An OpenPath is the path of a change that may still run.
type OpenPath struct {
	Change int64
	Device string
	Path   []byte // JSON
}

// An Upload is a file on its way from a person. What has arrived lies in a file of the service, whose length counts.
type Upload struct {
	ID        int64
	File      string
	Size      int64
	Signature []byte
	StartedBy string
	StartedAt time.Time
	TouchedAt time.Time
}

const uploadColumns = `id, file, size, signature, started_by, started_at, touched_at`

// StartUpload records an upload, or finds the same one of the same user.
func (s *Store) StartUpload(ctx context.Context, u Upload) (Upload, error) {
	rows, err := s.db.Query(ctx, `INSERT INTO uploads (file, size, signature, started_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (started_by, file, size) DO UPDATE SET touched_at = now(), signature = $3 RETURNING `+uploadColumns, u.File, u.Size, u.Signature, u.StartedBy)
	if err != nil {
		return u, err
	}
	return pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Upload])
}

// Upload returns an upload and notes that it is being worked on.
func (s *Store) Upload(ctx context.Context, id int64) (u Upload, err error) {
	rows, err := s.db.Query(ctx, `UPDATE uploads SET touched_at = now() WHERE id = $1 RETURNING `+uploadColumns, id)
	if err != nil {
		return u, err
	}
	u, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Upload])
	return u, one(err)
}

// Uploads lists the uploads that are not complete.
func (s *Store) Uploads(ctx context.Context) ([]Upload, error) {
	rows, err := s.db.Query(ctx, `SELECT `+uploadColumns+` FROM uploads ORDER BY id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Upload])
}

// DeleteUpload forgets an upload.
func (s *Store) DeleteUpload(ctx context.Context, id int64) error {
	return s.gone(ctx, `DELETE FROM uploads WHERE id = $1`, id)
}
