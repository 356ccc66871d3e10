package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Faults counts how often the service broke off in a step.
func (s *Store) Faults(ctx context.Context, changeID int64, number int) (n int, err error) {
	err = s.db.QueryRow(ctx, `SELECT count(*) FROM journal WHERE change_id = $1 AND step = $2 AND event = 'fault'`, changeID, number).Scan(&n)
	return n, err
}

// A JournalEntry is one line of a change's journal.
type JournalEntry struct {
	ID            int64
	Step          int
	At            time.Time
	Event, Detail string
}

// Journal lists the entries of a change after a number, oldest first.
func (s *Store) Journal(ctx context.Context, changeID, after int64, limit int) ([]JournalEntry, error) {
	rows, err := s.db.Query(ctx, `SELECT id, step, at, event, detail FROM journal WHERE change_id = $1 AND id > $2 ORDER BY id LIMIT $3`, changeID, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[JournalEntry])
}

func note(ctx context.Context, tx pgx.Tx, changeID int64, step int, fence int64, event, detail string) error {
	_, err := tx.Exec(ctx, `INSERT INTO journal (change_id, step, fence, event, detail) VALUES ($1, $2, $3, $4, $5)`, changeID, step, fence, event, detail)
	return err
}

// NoteStep adds a line to the journal without changing the step.
func (s *Store) NoteStep(ctx context.Context, l Lease, changeID int64, number int, event, detail string) error {
	_, err := s.fencedNote(ctx, l, changeID, number, event, detail, "")
	return err
}

// Events of the journal about what a device does in the background.
const (
	JobBegun = "job"
	JobOver  = "job over"
)

// LastJob is the verb and the job that a step began last and that is not known to have ended, as "VERB JOB"; "" when there is none.
func (s *Store) LastJob(ctx context.Context, changeID int64, number int) (note string, err error) {
	err = s.db.QueryRow(ctx, `SELECT coalesce((SELECT CASE event WHEN 'job' THEN detail ELSE '' END FROM journal
		WHERE change_id = $1 AND step = $2 AND event IN ('job', 'job over') ORDER BY id DESC LIMIT 1), '')`, changeID, number).Scan(&note)
	return note, err
}
