package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Evidence is a file that a person attached to a hand step. Content is sealed.
type Evidence struct {
	ID, ChangeID    int64
	Step            int
	Name, MediaType string
	Content         []byte
	Size            int64
	AddedBy         string
	AddedAt         time.Time
}

// AddEvidence keeps a file.
func (s *Store) AddEvidence(ctx context.Context, e Evidence) (Evidence, error) {
	err := s.db.QueryRow(ctx, `INSERT INTO evidence (change_id, step, name, media_type, content, size, added_by) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id, added_at`,
		e.ChangeID, e.Step, e.Name, e.MediaType, e.Content, e.Size, e.AddedBy).Scan(&e.ID, &e.AddedAt)
	return e, err
}

// EvidenceOf lists what is attached to a change, without content.
func (s *Store) EvidenceOf(ctx context.Context, changeID int64) ([]Evidence, error) {
	rows, err := s.db.Query(ctx, `SELECT id, change_id, step, name, media_type, ''::bytea AS content, size, added_by, added_at FROM evidence WHERE change_id = $1 ORDER BY id`, changeID)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Evidence])
}

// Evidence returns one file.
func (s *Store) Evidence(ctx context.Context, changeID, id int64) (Evidence, error) {
	rows, err := s.db.Query(ctx, `SELECT id, change_id, step, name, media_type, content, size, added_by, added_at FROM evidence WHERE change_id = $1 AND id = $2`, changeID, id)
	if err != nil {
		return Evidence{}, err
	}
	e, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Evidence])
	return e, one(err)
}

// A ConsolePiece is what was seen on a console line at one moment.
type ConsolePiece struct {
	ID       int64
	At       time.Time
	ChangeID *int64
	Text     string
}

// AddConsole keeps a piece of a console line's output.
func (s *Store) AddConsole(ctx context.Context, deviceID int64, changeID *int64, text string) error {
	_, err := s.db.Exec(ctx, `INSERT INTO console_log (device_id, change_id, text) VALUES ($1, $2, $3)`, deviceID, changeID, text)
	return err
}

// ConsoleLog lists pieces after a number, oldest first; of one change, or of all (0).
func (s *Store) ConsoleLog(ctx context.Context, deviceID, changeID, after int64, limit int) ([]ConsolePiece, error) {
	rows, err := s.db.Query(ctx, `SELECT id, at, change_id, text FROM console_log WHERE device_id = $1 AND ($2 = 0 OR change_id = $2) AND id > $3 ORDER BY id LIMIT $4`, deviceID, changeID, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[ConsolePiece])
}
