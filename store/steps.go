package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/core/change"
)

// A Step is the record of one step.
type Step struct {
	Plan      change.Step      `db:"plan"`
	State     change.StepState `db:"state"`
	StartedAt *time.Time       `db:"started_at"`
	EndedAt   *time.Time       `db:"ended_at"`
	Attempts  int              `db:"attempts"`
	Fraction  float64          `db:"fraction"`
	Note      string           `db:"note"`
	Intent    []byte           `db:"intent"`
	Outcome   string           `db:"outcome"`
}

func addSteps(ctx context.Context, tx pgx.Tx, id int64, steps []Step) error {
	rows := make([][]any, 0, len(steps))
	for _, st := range steps {
		rows = append(rows, []any{id, st.Plan.Number, st.Plan})
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"steps"}, []string{"change_id", "number", "plan"}, pgx.CopyFromRows(rows))
	return err
}

func steps(ctx context.Context, tx pgx.Tx, id int64) ([]Step, error) {
	rows, err := tx.Query(ctx, `SELECT plan, state, started_at, ended_at, attempts, fraction, note, intent, outcome FROM steps WHERE change_id = $1 ORDER BY number`, id)
	if err != nil {
		return nil, err
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByName[Step])
	return slices.Clone(out), err // with no room to grow: a thousand changes keep theirs
}

// BeginStep records the intent to carry out a step, before the device is touched. The time of the first attempt and
// the first intent stay when the step is taken up again.
func (s *Store) BeginStep(ctx context.Context, l Lease, changeID int64, number int, intent []byte, detail string) error {
	_, err := s.fencedNote(ctx, l, changeID, number, "intent", detail,
		`state = $7, started_at = coalesce(started_at, now()), attempts = attempts + 1, intent = coalesce(intent, $8), note = ''`, change.StepRunning, intent)
	return err
}

// ResumeStep notes that a step which had begun was carried by nobody for a while: how long it took then says nothing about the device.
func (s *Store) ResumeStep(ctx context.Context, l Lease, changeID int64, number int, detail string) error {
	_, err := s.fencedNote(ctx, l, changeID, number, "resumed", detail, `paused = $7`, true)
	return err
}

// A Progress says how far a running step is and what is happening.
type Progress struct {
	Lease    Lease
	ChangeID int64
	Step     int
	Fraction float64
	Note     string
}

// PutProgress records how far many steps are, in one statement; what is not ours any more is left out.
func (s *Store) PutProgress(ctx context.Context, all []Progress) error {
	var changes, devices, fences []int64
	var numbers []int32
	var fractions []float64
	var notes []string
	for _, p := range all {
		changes, devices, fences = append(changes, p.ChangeID), append(devices, p.Lease.DeviceID), append(fences, p.Lease.Fence)
		numbers, fractions, notes = append(numbers, int32(p.Step)), append(fractions, p.Fraction), append(notes, p.Note)
	}
	_, err := s.db.Exec(ctx, `WITH written AS (
		UPDATE steps s SET fraction = v.fraction, note = v.note
		FROM unnest($1::bigint[], $2::int[], $3::float8[], $4::text[], $5::bigint[], $6::bigint[]) AS v (change_id, number, fraction, note, device_id, fence)
		JOIN leases l ON l.device_id = v.device_id AND l.fence = v.fence
		WHERE s.change_id = v.change_id AND s.number = v.number AND s.state = 'running' RETURNING s.change_id)
		SELECT count(pg_notify('verimorph_change', change_id::text)) FROM written`, changes, numbers, fractions, notes, devices, fences)
	return err
}

// EndStep records the outcome of a step, change.StepDone or change.StepFailed, and returns the state of the change: somebody
// may have asked it to pause.
func (s *Store) EndStep(ctx context.Context, l Lease, changeID int64, number int, state change.StepState, outcome string) (change.State, error) {
	return s.fencedNote(ctx, l, changeID, number, string(state), outcome, endOfStep(7), state, outcome)
}

// endOfStep is what becomes of a step that ends; its state and outcome are the parameters n and n+1.
func endOfStep(n int) string {
	return fmt.Sprintf(`state = $%[1]d, started_at = coalesce(started_at, now()), ended_at = now(), outcome = $%[2]d, note = '',
		fraction = CASE WHEN $%[1]d = 'done' THEN 1 ELSE fraction END`, n, n+1)
}

func endStep(ctx context.Context, tx pgx.Tx, l Lease, changeID int64, number int, state change.StepState, outcome string) error {
	_, err := tx.Exec(ctx, `UPDATE steps SET `+endOfStep(3)+` WHERE change_id = $1 AND number = $2`, changeID, number, state, outcome)
	if err != nil {
		return err
	}
	return note(ctx, tx, changeID, number, l.Fence, string(state), outcome)
}

// RedoStep sets a step back to waiting, because a later one found that it has to be done again.
func (s *Store) RedoStep(ctx context.Context, l Lease, changeID int64, number int, why string) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE steps SET state = $3, started_at = NULL, ended_at = NULL, intent = NULL, fraction = 0, outcome = '' WHERE change_id = $1 AND number = $2`, changeID, number, change.StepWaiting)
		if err != nil {
			return err
		}
		return note(ctx, tx, changeID, number, l.Fence, "again", why)
	})
}
