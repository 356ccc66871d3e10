package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/core/change"
	"verimorph/core/outage"
)

// What a worker writes about a change that it carries, with its fence.

// SetHalfWay records how an ensemble goes on from where its change comes to rest; nil: that is not known.
func (s *Store) SetHalfWay(ctx context.Context, l Lease, changeID int64, h *change.HalfWay) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE changes SET half_way = $2 WHERE id = $1`, changeID, h)
		return err
	})
}

// TakeBack begins the way back of a hop because a step failed. The step is closed in the same moment.
func (s *Store) TakeBack(ctx context.Context, l Lease, c *Change, hop, failed int, why string) error {
	return s.fenced(ctx, l, c.ID, func(tx pgx.Tx) error {
		if err := endStep(ctx, tx, l, c.ID, failed, change.StepFailed, why); err != nil {
			return err
		}
		return takeBack(ctx, tx, c, hop, l.Fence, why)
	})
}

// Ask makes a change wait for a person, and reports whether it does. state is what becomes of the step that asks. A change that does not run any
// more, because the lane of another member asks already, keeps that question; then the step stays as it is, and asks when it is taken up again.
func (s *Store) Ask(ctx context.Context, l Lease, changeID int64, q change.Question, state change.StepState, outcome string) (asked bool, err error) {
	err = s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		// A hand step that was signed off meanwhile is not asked for again: whoever asks does not know of it yet.
		tag, err := tx.Exec(ctx, `UPDATE changes SET state = $2, question = $3, pause_asked = state = 'pausing' WHERE id = $1
			AND state IN ('running', 'pausing') AND NOT ($4 AND EXISTS (SELECT 1 FROM steps WHERE change_id = $1 AND number = $5 AND state = 'done'))`,
			changeID, change.Asking, q, q.Kind == change.AskHand, q.Step)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		asked = true
		if state == change.StepFailed {
			if err := endStep(ctx, tx, l, changeID, q.Step, state, outcome); err != nil {
				return err
			}
		} else if _, err := tx.Exec(ctx, `UPDATE steps SET state = $3, started_at = CASE WHEN $3 = 'waiting' THEN NULL ELSE coalesce(started_at, now()) END, note = $4 WHERE change_id = $1 AND number = $2`, changeID, q.Step, state, outcome); err != nil {
			return err
		}
		return note(ctx, tx, changeID, q.Step, l.Fence, "asks", q.Text)
	})
	return asked && err == nil, err
}

// SetPlanned records what the device of a member is, where the draft did not say.
func (s *Store) SetPlanned(ctx context.Context, l Lease, changeID int64, member int, p Planned) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE members SET planned = $3 WHERE change_id = $1 AND number = $2`, changeID, member, p)
		return err
	})
}

// SetReadings records the readings of a member before the change with their definitions, which are its own from then on, and keeps the
// readings also as a set to compare with later.
func (s *Store) SetReadings(ctx context.Context, l Lease, changeID, deviceID int64, version string, readings, definitions []byte) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE members SET readings = $3, definitions = $4 WHERE change_id = $1
			AND device_id = $2`, changeID, deviceID, readings, definitions); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `INSERT INTO reading_sets (device_id, change_id, version, readings, taken_by)
			VALUES ($1, $2, $3, $4, $5)`, deviceID, changeID, version, readings, fmt.Sprintf("change %d", changeID))
		return err
	})
}

// SetConclusion records what was concluded of a member.
func (s *Store) SetConclusion(ctx context.Context, l Lease, changeID int64, member int, verdict []byte) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE members SET verdict = $3 WHERE change_id = $1 AND number = $2`, changeID, member, verdict)
		return err
	})
}

// SetWork records what a change puts back.
func (s *Store) SetWork(ctx context.Context, l Lease, changeID int64, work []byte) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE changes SET work = $2 WHERE id = $1`, changeID, work)
		return err
	})
}

// SetVerdict records a verdict that does not end the change.
func (s *Store) SetVerdict(ctx context.Context, l Lease, changeID int64, verdict []byte) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE changes SET verdict = $2 WHERE id = $1`, changeID, verdict)
		return err
	})
}

// PauseAsked reports whether somebody asked a change to pause.
func (s *Store) PauseAsked(ctx context.Context, l Lease, changeID int64) (asked bool, err error) {
	err = one(s.db.QueryRow(ctx, `SELECT c.state = $3 FROM changes c JOIN leases l ON l.device_id = $4 AND l.fence = $2
		WHERE c.id = $1`, changeID, l.Fence, change.Pausing, l.DeviceID).Scan(&asked))
	if errors.Is(err, ErrNotFound) {
		return false, ErrFenced
	}
	return asked, err
}

// PausedNow moves a change that was asked to pause to paused, and reports whether it did.
func (s *Store) PausedNow(ctx context.Context, l Lease, changeID int64) (paused bool, err error) {
	err = s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `UPDATE changes SET state = $2 WHERE id = $1 AND state = $3`, changeID, change.Paused, change.Pausing)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		paused = true
		return note(ctx, tx, changeID, 0, l.Fence, "paused", "at a safe point")
	})
	return paused, err
}

// RestUntil schedules a running change for a moment, when it goes on by itself; not when somebody asked it to pause, who then says when.
func (s *Store) RestUntil(ctx context.Context, l Lease, changeID int64, until time.Time) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		var to change.State
		if err := one(tx.QueryRow(ctx, `UPDATE changes SET state = CASE WHEN state = 'running' THEN 'scheduled' ELSE 'paused' END, waits_until = CASE WHEN state = 'running' THEN $2::timestamptz END
			WHERE id = $1 AND state IN ('running', 'pausing') RETURNING state`, changeID, until).Scan(&to)); err != nil {
			return err
		}
		// The step that waits is begun anew then: how long it took tells nothing if the waiting is in it.
		if _, err := tx.Exec(ctx, `UPDATE steps SET state = 'waiting', started_at = NULL, paused = false WHERE change_id = $1
			AND state = 'running'`, changeID); err != nil {
			return err
		}
		if to == change.Paused {
			return note(ctx, tx, changeID, 0, l.Fence, "paused", "at a safe point")
		}
		return note(ctx, tx, changeID, 0, l.Fence, "scheduled", "until "+until.UTC().Format(time.RFC3339)+", when it goes on by itself")
	})
}

// TimeHasCome takes up the changes that wait for a moment which has come by the clock of the database, and calls then for each in
// the same transaction. One whose approval was taken back waits on, and one whose device is taken by another change, too.
func (s *Store) TimeHasCome(ctx context.Context, then func(pgx.Tx, int64) error) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `UPDATE changes c SET state = $1, waits_until = NULL, started_at = coalesce(started_at, now()) WHERE state = $2
			AND waits_until <= now() AND approved_by IS NOT NULL
			AND (started_at IS NOT NULL OR NOT EXISTS (SELECT FROM members mine JOIN members m ON m.device_id = mine.device_id JOIN changes o ON o.id = m.change_id
				WHERE mine.change_id = c.id AND o.id <> c.id AND (m.open OR o.state = $2 AND o.waits_until <= now() AND o.id < c.id)))
					RETURNING id`, change.Running, change.Scheduled)
		if err != nil {
			return err
		}
		ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
		if err != nil {
			return err
		}
		for _, id := range ids {
			if err := errors.Join(note(ctx, tx, id, 0, 0, "resume", "its time has come"), then(tx, id), notify(ctx, tx, id)); err != nil {
				return err
			}
		}
		return nil
	})
}

// An Ending is the end of a change together with that of its last step: nobody ever sees one without the other.
type Ending struct {
	Step      int
	StepState change.StepState
	Outcome   string // of the step
	State     change.State
	Verdict   []byte
	Failure   string
}

// EndChange closes a running change.
func (s *Store) EndChange(ctx context.Context, l Lease, changeID int64, e Ending) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		if err := endStep(ctx, tx, l, changeID, e.Step, e.StepState, e.Outcome); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `UPDATE changes SET state = $2, ended_at = now(), verdict = coalesce($3, verdict), failure = nullif($4, '')
			WHERE id = $1 AND state IN ('running', 'pausing')`,
			changeID, e.State, e.Verdict, e.Failure)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return fmt.Errorf("change %d is not running any more", changeID)
		}
		return note(ctx, tx, changeID, 0, l.Fence, string(e.State), e.Failure)
	})
}

// SetProbes records how what is asked all the time has answered so far.
func (s *Store) SetProbes(ctx context.Context, l Lease, changeID int64, probes []outage.Watch) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE changes SET probes = $2 WHERE id = $1`, changeID, probes)
		return err
	})
}
