package store

import (
	"context"
	"crypto/sha256"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Conversion is a configuration that is being converted. Work is sealed; the store does not look into it.
type Conversion struct {
	ID        int64
	Name      string
	From, To  string // MODEL@VERSION
	Work      []byte
	Revision  int64 // grows with every write
	CreatedBy string
	CreatedAt time.Time
}

// sumOf is by what the source of a conversion is found again.
func sumOf(source string) []byte {
	sum := sha256.Sum256([]byte(source))
	return sum[:]
}

const conversionColumns = `id, name, from_stop AS "from", to_stop AS "to", work, revision, created_by, created_at`

// AddConversion records a conversion of a source and returns its id. seal gets the id, because what is sealed is bound to it.
func (s *Store) AddConversion(ctx context.Context, c Conversion, source string, seal func(id int64) ([]byte, error)) (id int64, err error) {
	err = pgx.BeginFunc(ctx, s.db, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, `INSERT INTO conversions (name, from_stop, to_stop, work, created_by, source_sum) VALUES ($1, $2, $3, '', $4, $5) RETURNING id`, c.Name, c.From, c.To, c.CreatedBy, sumOf(source)).Scan(&id); err != nil {
			return err
		}
		work, err := seal(id)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `UPDATE conversions SET work = $2 WHERE id = $1`, id, work)
		return err
	})
	return id, err
}

// PutConversion writes the work of a conversion, unless another write came first: then it reports false.
func (s *Store) PutConversion(ctx context.Context, id, revision int64, work []byte) (bool, error) {
	tag, err := s.db.Exec(ctx, `UPDATE conversions SET work = $3, revision = revision + 1 WHERE id = $1 AND revision = $2`, id, revision, work)
	return err == nil && tag.RowsAffected() == 1, err
}

// Conversion returns one conversion.
func (s *Store) Conversion(ctx context.Context, id int64) (c Conversion, err error) {
	rows, err := s.db.Query(ctx, `SELECT `+conversionColumns+` FROM conversions WHERE id = $1`, id)
	if err != nil {
		return c, err
	}
	c, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Conversion])
	return c, one(err)
}

// Conversions lists conversions, newest first, without their work.
func (s *Store) Conversions(ctx context.Context, before int64, limit int) ([]Conversion, error) {
	rows, err := s.db.Query(ctx, `SELECT id, name, from_stop AS "from", to_stop AS "to", ''::bytea AS work, revision, created_by, created_at FROM conversions WHERE $1 = 0 OR id < $1 ORDER BY id DESC LIMIT $2`, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Conversion])
}

// ConversionsOf lists the conversions of a source to a stop, newest first, with their work; also those of which it is not known
// what they are of.
func (s *Store) ConversionsOf(ctx context.Context, source, to string) ([]Conversion, error) {
	rows, err := s.db.Query(ctx, `SELECT `+conversionColumns+` FROM conversions WHERE to_stop = $1 AND (source_sum = $2 OR source_sum IS NULL) ORDER BY id DESC`, to, sumOf(source))
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Conversion])
}

// DeleteConversion forgets a conversion.
func (s *Store) DeleteConversion(ctx context.Context, id int64) error {
	return s.gone(ctx, `DELETE FROM conversions WHERE id = $1`, id)
}
