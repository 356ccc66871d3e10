package store

import (
	"context"
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

const conversionColumns = `id, name, from_stop, to_stop, work, revision, created_by, created_at`

// AddConversion records a conversion and returns its id. seal gets the id, because what is sealed is bound to it.
func (s *Store) AddConversion(ctx context.Context, c Conversion, seal func(id int64) ([]byte, error)) (id int64, err error) {
	err = pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, `INSERT INTO conversions (name, from_stop, to_stop, work, created_by) VALUES ($1, $2, $3, '', $4) RETURNING id`, c.Name, c.From, c.To, c.CreatedBy).Scan(&id); err != nil {
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
	tag, err := s.Pool.Exec(ctx, `UPDATE conversions SET work = $3, revision = revision + 1 WHERE id = $1 AND revision = $2`, id, revision, work)
	return err == nil && tag.RowsAffected() == 1, err
}

// Conversion returns one conversion.
func (s *Store) Conversion(ctx context.Context, id int64) (c Conversion, err error) {
	rows, err := s.Pool.Query(ctx, `SELECT `+conversionColumns+` FROM conversions WHERE id = $1`, id)
	if err != nil {
		return c, err
	}
	c, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Conversion])
	return c, one(err)
}

// Conversions lists conversions, newest first, without their work.
func (s *Store) Conversions(ctx context.Context, before int64, limit int) ([]Conversion, error) {
	rows, err := s.Pool.Query(ctx, `SELECT id, name, from_stop, to_stop, ''::bytea, revision, created_by, created_at FROM conversions WHERE $1 = 0 OR id < $1 ORDER BY id DESC LIMIT $2`, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Conversion])
}

// ConversionsTo lists the conversions to a stop, newest first, with their work.
func (s *Store) ConversionsTo(ctx context.Context, to string) ([]Conversion, error) {
	rows, err := s.Pool.Query(ctx, `SELECT `+conversionColumns+` FROM conversions WHERE to_stop = $1 ORDER BY id DESC`, to)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Conversion])
}

// DeleteConversion forgets a conversion.
func (s *Store) DeleteConversion(ctx context.Context, id int64) error {
	return s.gone(ctx, `DELETE FROM conversions WHERE id = $1`, id)
}
