package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"verimorph/core/change"
)

// A Change is the record of one change. Path, Readings and Verdict are JSON that the store does not look into.
type Change struct {
	ID                 int64
	DeviceID           int64
	Device             string
	State              change.State
	From, To           string
	Path               []byte
	CreatedBy          string
	CreatedAt          time.Time
	ApprovedBy         *string
	ApprovedAt         *time.Time
	StartedAt, EndedAt *time.Time
	Readings, Verdict  []byte
	Failure            *string
	Kind               string // Firmware or Restore
	Work               []byte // of a restore: what is put back, JSON
	ExpectsHostKey     bool   // the device may come with another host key
	Back               []change.Back
	BackPolicy         string // BackAutomatic or BackOffered
	Returning          *int   // the hop whose way back is being taken
	ReturnWhy          *string
	Planned            Planned
	WindowFrom         *time.Time
	WindowTo           *time.Time
	RestartFrom        *time.Time // the point of no return is not passed before
	WaitsUntil         *time.Time // of a scheduled change: it goes on by itself then
	Definitions        []byte     // of the readings, as they were when those before were taken; JSON
	Stands             []byte     // what ran and what lay in the slots when it was last found ready; JSON
	HoldAsked          bool       // somebody asked it to hold before it asked
	PausedBy           *string    // who asked it to hold
	StateSince         time.Time
	Now                time.Time       // by the clock of the database, when this was read
	Slots              json.RawMessage // of the device, when it was last looked at
	Wish               []byte          // what was asked for, JSON; nil where it cannot be drafted anew
	Question           *change.Question
	Accepted           []Acceptance
	Checks             []byte // the last look at whether it is ready, JSON
	CheckedAt          *time.Time
	Steps              []Step
}

// Planned is what the device was when the change was drafted; another device is not touched.
type Planned struct {
	Model  string `json:"model,omitempty"`
	Serial string `json:"serial,omitempty"`
	// ComesBackAt is the address at which it is expected once it was started anew; "": where it was.
	ComesBackAt string `json:"comesBackAt,omitempty"`
}

// An Acceptance is a warning that a person took on.
type Acceptance struct {
	Check  string    `json:"check"`
	By     string    `json:"by"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Accepts reports whether a warning of that name was accepted.
func (c *Change) Accepts(check string) bool {
	return slices.ContainsFunc(c.Accepted, func(a Acceptance) bool { return a.Check == check })
}

// CanGoBack reports whether something was done that a declared way back undoes.
func (c *Change) CanGoBack() bool {
	hop, ok := c.Passed()
	return ok && c.WayBack(hop) != nil
}

// WayBack is the declared way back of a hop while there is one that can be taken: not while it is being taken, and not once the
// installation that it would start was overwritten, as somebody asked for.
func (c *Change) WayBack(hop int) *change.Back {
	if c.Returning != nil || hop < 0 || hop >= len(c.Back) || !c.Back[hop].Leads() {
		return nil
	}
	if b := &c.Back[hop]; b.Way != change.BackBySlot || !c.overwritten(hop) && !c.broken(hop) {
		return b
	}
	return nil
}

// overwritten reports whether the slot that the way back of a hop starts is written, or was, by a later hop, or by what somebody wanted in
// both slots.
func (c *Change) overwritten(hop int) bool {
	return slices.ContainsFunc(c.Steps, func(s Step) bool {
		writes := s.Plan.Kind == change.Install && !s.Plan.InPlace || s.Plan.Kind == change.Clone
		return writes && !s.Plan.Back && (s.Plan.Other || s.Plan.Hop > hop) && s.State != change.StepWaiting && s.State != change.StepSkipped
	})
}

// broken reports whether the device said, when it was last looked at, that what the way back of a hop starts cannot be started.
func (c *Change) broken(hop int) bool {
	var slots []struct {
		Version, Good, Busy string
		Running             bool
	}
	from := ""
	var way struct{ Hops []struct{ From string } }
	if json.Unmarshal(c.Slots, &slots) != nil || json.Unmarshal(c.Path, &way) != nil {
		return false
	}
	if from = c.From; hop < len(way.Hops) && way.Hops[hop].From != "" {
		from = way.Hops[hop].From
	}
	for _, s := range slots {
		if !s.Running && s.Version == from && s.Good != "no" {
			return false
		}
	}
	return slices.ContainsFunc(slots, func(s struct {
		Version, Good, Busy string
		Running             bool
	}) bool {
		return !s.Running && s.Version == from && s.Good == "no" && s.Busy != "yes"
	})
}

// Passed is the last hop that went past its point of no return.
func (c *Change) Passed() (hop int, ok bool) {
	for _, s := range c.Steps {
		if s.Plan.Irreversible() && !s.Plan.Back && s.Plan.Hop >= 0 && s.State != change.StepWaiting && s.State != change.StepSkipped {
			hop, ok = s.Plan.Hop, true
		}
	}
	return hop, ok
}

// Begun reports whether a step of the change was begun.
func (c *Change) Begun() bool {
	return slices.ContainsFunc(c.Steps, func(s Step) bool { return s.State != change.StepWaiting })
}

// Licences lists the licences that steps of the change give the device.
func (c *Change) Licences() (out []string) {
	for _, s := range c.Steps {
		if s.Plan.Kind == change.Licence {
			out = append(out, s.Plan.Part)
		}
	}
	return out
}

// Possible lists what can be asked of the change now.
func (c *Change) Possible() []change.Action {
	return change.Possible(c.Situation())
}

// Situation is what decides what can be asked of the change now.
func (c *Change) Situation() change.Situation {
	return change.Situation{State: c.State, Question: c.Question, CanGoBack: c.CanGoBack(), Approved: c.ApprovedBy != nil, Begun: c.StartedAt != nil,
		Opens: c.WindowFrom != nil && c.WindowFrom.After(c.Now), AtATime: c.WaitsUntil != nil || c.RestartFrom != nil && c.RestartFrom.After(c.Now), HoldAsked: c.HoldAsked}
}

// occupies is the condition under which a change keeps others off its device.
func occupies(table string) string {
	return fmt.Sprintf(`(%[1]s.state IN ('running', 'holding', 'held', 'asking') OR %[1]s.state = 'scheduled' AND %[1]s.started_at IS NOT NULL)`, table)
}

// Kinds of changes.
const (
	Firmware = "firmware"
	Restore  = "restore"
	Acts     = "acts" // single steps that a person put together
	GoBack   = "back" // start the installation in the other slot again
)

// What happens when a change fails after the point of no return.
const (
	BackAutomatic = "automatic"
	BackOffered   = "offered"
)

// A Step is the record of one step.
type Step struct {
	Plan               change.Step
	State              change.StepState
	StartedAt, EndedAt *time.Time
	Attempts           int
	Fraction           float64
	Note               string
	Intent             []byte
	Outcome            string
}

const changeColumns = `c.id, c.device_id, d.name, c.state, c.from_version, c.to_version, c.path, c.created_by, c.created_at, c.approved_by,
	c.approved_at, c.started_at, c.ended_at, c.readings, c.verdict, c.failure, c.kind, c.work, c.expects_host_key,
	c.back, c.back_policy, c.going_back, c.return_why, c.planned, c.window_from, c.window_to, c.restart_from, c.waits_until, c.wish, c.question, c.accepted, c.checks, c.checked_at,
	c.definitions, c.stands, c.hold_asked, c.paused_by, c.state_since, now(), d.portrait->'Slots' FROM changes c JOIN devices d ON d.id = c.device_id`

func scanChange(r pgx.Row) (c Change, err error) {
	err = one(r.Scan(&c.ID, &c.DeviceID, &c.Device, &c.State, &c.From, &c.To, &c.Path, &c.CreatedBy, &c.CreatedAt, &c.ApprovedBy,
		&c.ApprovedAt, &c.StartedAt, &c.EndedAt, &c.Readings, &c.Verdict, &c.Failure, &c.Kind, &c.Work, &c.ExpectsHostKey,
		&c.Back, &c.BackPolicy, &c.Returning, &c.ReturnWhy, &c.Planned, &c.WindowFrom, &c.WindowTo, &c.RestartFrom, &c.WaitsUntil, &c.Wish, &c.Question, &c.Accepted, &c.Checks, &c.CheckedAt,
		&c.Definitions, &c.Stands, &c.HoldAsked, &c.PausedBy, &c.StateSince, &c.Now, &c.Slots))
	return c, err
}

// AddChange records a draft with its steps and returns its number.
func (s *Store) AddChange(ctx context.Context, c Change) (id int64, err error) {
	err = s.tx(ctx, func(tx pgx.Tx) error {
		if c.Kind == "" {
			c.Kind = Firmware
		}
		if c.BackPolicy == "" {
			c.BackPolicy = BackOffered
		}
		if c.Back == nil {
			c.Back = []change.Back{}
		}
		if err := tx.QueryRow(ctx, `INSERT INTO changes (device_id, state, from_version, to_version, path, created_by, kind, work, expects_host_key, back, back_policy, planned, window_from, window_to, restart_from, wish)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16) RETURNING id`,
			c.DeviceID, change.Drafted, c.From, c.To, c.Path, c.CreatedBy, c.Kind, c.Work, c.ExpectsHostKey, c.Back, c.BackPolicy, c.Planned, c.WindowFrom, c.WindowTo, c.RestartFrom, c.Wish).Scan(&id); err != nil {
			return err
		}
		if err := addSteps(ctx, tx, id, c.Steps); err != nil {
			return err
		}
		return note(ctx, tx, id, 0, 0, "drafted", "by "+c.CreatedBy)
	})
	return id, err
}

func addSteps(ctx context.Context, tx pgx.Tx, id int64, steps []Step) error {
	rows := make([][]any, 0, len(steps))
	for _, st := range steps {
		rows = append(rows, []any{id, st.Plan.Number, st.Plan})
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"steps"}, []string{"change_id", "number", "plan"}, pgx.CopyFromRows(rows))
	return err
}

// Change returns a change with its steps.
func (s *Store) Change(ctx context.Context, id int64) (Change, error) {
	var c Change
	err := pgx.BeginTxFunc(ctx, s.Pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) (err error) {
		if c, err = scanChange(tx.QueryRow(ctx, `SELECT `+changeColumns+` WHERE c.id = $1`, id)); err != nil {
			return err
		}
		c.Steps, err = steps(ctx, tx, id)
		return err
	})
	return c, err
}

func steps(ctx context.Context, tx pgx.Tx, id int64) ([]Step, error) {
	rows, err := tx.Query(ctx, `SELECT plan, state, started_at, ended_at, attempts, fraction, note, intent, outcome FROM steps WHERE change_id = $1 ORDER BY number`, id)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Step])
}

// Changes lists changes without steps, newest first, of one device or of all (""), before a number (0: from the newest).
func (s *Store) Changes(ctx context.Context, device string, before int64, limit int) ([]Change, error) {
	rows, err := s.Pool.Query(ctx, `SELECT `+changeColumns+` WHERE ($1 = '' OR d.name = $1) AND ($2 = 0 OR c.id < $2) ORDER BY c.id DESC LIMIT $3`, device, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (Change, error) { return scanChange(r) })
}

// Act carries out a person's action on a change: it moves the state as change.Next allows, does what the action says with the
// records, and calls then in the same transaction. text is the person's words: a reason, what was seen. An action that is
// not possible is a *ActionError; a device that is taken is a *BusyError.
func (s *Store) Act(ctx context.Context, id int64, a change.Action, by, text string, then func(pgx.Tx, change.State) error) error {
	var c Change
	err := s.tx(ctx, func(tx pgx.Tx) (err error) {
		if c, err = scanChange(tx.QueryRow(ctx, `SELECT `+changeColumns+` WHERE c.id = $1 FOR UPDATE OF c`, id)); err != nil {
			return err
		}
		if c.Steps, err = steps(ctx, tx, id); err != nil {
			return err
		}
		to, err := change.Next(c.Situation(), a)
		if err != nil {
			return &ActionError{err}
		}
		// Going before the approved time changes what was approved: the time, and the window that was given for it.
		if _, err := tx.Exec(ctx, `UPDATE changes SET state = $2,
			question    = CASE WHEN $3 = 'approve' THEN question END,
			waits_until = CASE WHEN $3 = 'approve' THEN waits_until WHEN $3 = 'arm' THEN window_from END,
			restart_from = CASE WHEN $3 = 'early' THEN NULL ELSE restart_from END,
			window_from  = CASE WHEN $3 = 'early' THEN NULL ELSE window_from END,
			approved_by = CASE $3 WHEN 'approve' THEN $4 WHEN 'early' THEN NULL ELSE approved_by END,
			approved_at = CASE $3 WHEN 'approve' THEN now() WHEN 'early' THEN NULL ELSE approved_at END,
			paused_by   = CASE WHEN $3 IN ('hold', 'early') THEN $4 WHEN $3 IN ('approve', 'arm') THEN paused_by END,
			hold_asked  = CASE WHEN $3 = 'approve' THEN hold_asked ELSE false END,
			started_at  = CASE WHEN $3 = 'start' THEN now() ELSE started_at END,
			ended_at    = CASE WHEN $3 IN ('stop', 'leave') THEN now() ELSE ended_at END
			WHERE id = $1`, id, to, a, by); err != nil {
			return err
		}
		if err := note(ctx, tx, id, 0, 0, string(a), strings.TrimSuffix("by "+by+": "+text, ": ")); err != nil {
			return err
		}
		if err := c.answer(ctx, tx, a, by, text); err != nil {
			return err
		}
		if then != nil {
			if err := then(tx, to); err != nil {
				return err
			}
		}
		return notify(ctx, tx, id)
	})
	if constraint, ok := Conflict(err); ok && constraint == "one_open_change" {
		busy := &BusyError{Device: c.Device}
		if err := s.Pool.QueryRow(ctx, `SELECT id, state FROM changes WHERE device_id = $1 AND `+occupies("changes"), c.DeviceID).Scan(&busy.Change, &busy.State); err != nil {
			return err
		}
		return busy
	}
	return err
}

// answer does with the records what an answer to a question says.
func (c *Change) answer(ctx context.Context, tx pgx.Tx, a change.Action, by, text string) error {
	switch a {
	case change.SignOff:
		said := strings.TrimSuffix("signed off by "+by+": "+text, ": ")
		if _, err := tx.Exec(ctx, `UPDATE steps SET state = $3, started_at = coalesce(started_at, now()), ended_at = now(), fraction = 1, note = '', outcome = $4 WHERE change_id = $1 AND number = $2`,
			c.ID, c.Question.Step, change.StepDone, said); err != nil {
			return err
		}
		return note(ctx, tx, c.ID, c.Question.Step, 0, string(change.StepDone), said)
	case change.Accept: // how long the person took is not how long the step takes
		if _, err := tx.Exec(ctx, `UPDATE steps SET started_at = now(), paused = false WHERE change_id = $1 AND number = $2 AND state <> 'waiting'`, c.ID, c.Question.Step); err != nil {
			return err
		}
		return accept(ctx, tx, c, c.Question.Checks, by, text)
	case change.Retry: // what was intended stays known: the step begins with a look at the device
		_, err := tx.Exec(ctx, `UPDATE steps SET state = CASE WHEN state = 'waiting' THEN state ELSE $3 END, started_at = CASE WHEN state <> 'waiting' THEN now() END, paused = false, ended_at = NULL, outcome = '' WHERE change_id = $1 AND number = $2`, c.ID, c.Question.Step, change.StepRunning)
		return err
	case change.Leave:
		_, err := tx.Exec(ctx, `UPDATE changes SET failure = $2 WHERE id = $1`, c.ID, fmt.Sprintf("%s. %s left the device as it stands.", strings.TrimSuffix(c.Question.Text, "."), by))
		return err
	case change.GoBack:
		why := "a person asked for it"
		if c.Question != nil {
			why = c.Question.Text
		}
		hop, _ := c.Passed()
		return takeBack(ctx, tx, c, hop, 0, why)
	}
	return nil
}

func accept(ctx context.Context, tx pgx.Tx, c *Change, checks []string, by, reason string) error {
	for _, check := range checks {
		if !c.Accepts(check) {
			c.Accepted = append(c.Accepted, Acceptance{check, by, reason, time.Now().UTC()})
		}
	}
	_, err := tx.Exec(ctx, `UPDATE changes SET accepted = $2 WHERE id = $1`, c.ID, c.Accepted)
	return err
}

// AcceptChecks records that a person takes warnings on, before the start.
func (s *Store) AcceptChecks(ctx context.Context, id int64, checks []string, by, reason string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := scanChange(tx.QueryRow(ctx, `SELECT `+changeColumns+` WHERE c.id = $1 FOR UPDATE OF c`, id))
		if err != nil {
			return err
		}
		if c.State != change.Drafted && c.State != change.Approved {
			return &ActionError{fmt.Errorf("warnings of a change that is %s are accepted when it asks for it", c.State)}
		}
		if err := accept(ctx, tx, &c, checks, by, reason); err != nil {
			return err
		}
		detail := fmt.Sprintf("%s, by %s: %s", strings.Join(checks, ", "), by, reason)
		if c.State == change.Approved { // who approved it did not know of that
			if err := void(ctx, tx, id, change.Drafted); err != nil {
				return err
			}
			detail += "; it has to be approved again"
		}
		if err := note(ctx, tx, id, 0, 0, "accepted", detail); err != nil {
			return err
		}
		return notify(ctx, tx, id)
	})
}

// void takes the approval of a change back, since what was approved has changed.
func void(ctx context.Context, tx pgx.Tx, id int64, to change.State) error {
	_, err := tx.Exec(ctx, `UPDATE changes SET state = $2, approved_by = NULL, approved_at = NULL WHERE id = $1`, id, to)
	return err
}

// Terms say when a change may run, and what happens when it fails.
type Terms struct {
	WindowFrom, WindowTo *time.Time
	RestartFrom          *time.Time
	BackPolicy           string
}

// SetTerms sets them. What was approved has to be approved again. A change that rests or asks may be given other times; the way back
// stays as it was declared.
func (s *Store) SetTerms(ctx context.Context, id int64, t Terms, by string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := scanChange(tx.QueryRow(ctx, `SELECT `+changeColumns+` WHERE c.id = $1 FOR UPDATE OF c`, id))
		if err != nil {
			return err
		}
		to := c.State
		switch c.State {
		case change.Drafted, change.Held, change.Asking:
		case change.Approved:
			to = change.Drafted
		case change.Scheduled: // at which moment it goes on is worked out anew
			if to = change.Held; c.StartedAt == nil {
				to = change.Drafted
			}
		default:
			return &ActionError{fmt.Errorf("the terms of a change that is %s stay as they are; hold it first", c.State)}
		}
		if c.StartedAt != nil {
			t.BackPolicy = c.BackPolicy
		}
		if _, err := tx.Exec(ctx, `UPDATE changes SET window_from = $2, window_to = $3, restart_from = $4, back_policy = $5, waits_until = NULL,
			paused_by = CASE WHEN state = 'scheduled' THEN $6 ELSE paused_by END WHERE id = $1`, id, t.WindowFrom, t.WindowTo, t.RestartFrom, t.BackPolicy, by); err != nil {
			return err
		}
		if err := void(ctx, tx, id, to); err != nil {
			return err
		}
		detail := "by " + by
		if c.ApprovedBy != nil {
			detail += "; it has to be approved again"
		}
		if err := note(ctx, tx, id, 0, 0, "terms", detail); err != nil {
			return err
		}
		return notify(ctx, tx, id)
	})
}

// takeBack skips what is left and adds the steps of a hop's way back.
func takeBack(ctx context.Context, tx pgx.Tx, c *Change, hop int, fence int64, why string) error {
	if c.WayBack(hop) == nil {
		return fmt.Errorf("change %d declares no way back for hop %d", c.ID, hop+1)
	}
	if _, err := tx.Exec(ctx, `UPDATE steps SET state = CASE WHEN state = 'running' THEN 'failed' ELSE 'skipped' END, ended_at = CASE WHEN state = 'running' THEN now() END, note = '' WHERE change_id = $1 AND state IN ('waiting', 'running')`, c.ID); err != nil {
		return err
	}
	var more []Step
	for i, st := range c.Back[hop].Steps {
		st.Number = len(c.Steps) + i + 1
		more = append(more, Step{Plan: st})
	}
	if err := addSteps(ctx, tx, c.ID, more); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `UPDATE changes SET going_back = $2, return_why = $3 WHERE id = $1`, c.ID, hop, why); err != nil {
		return err
	}
	return note(ctx, tx, c.ID, 0, fence, "going back", c.Back[hop].Text)
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

// Ask makes a change wait for a person. state is what becomes of the step that asks.
func (s *Store) Ask(ctx context.Context, l Lease, changeID int64, q change.Question, state change.StepState, outcome string) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		if state == change.StepFailed {
			if err := endStep(ctx, tx, l, changeID, q.Step, state, outcome); err != nil {
				return err
			}
		} else if _, err := tx.Exec(ctx, `UPDATE steps SET state = $3, started_at = CASE WHEN $3 = 'waiting' THEN NULL ELSE coalesce(started_at, now()) END, note = $4 WHERE change_id = $1 AND number = $2`, changeID, q.Step, state, outcome); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `UPDATE changes SET state = $2, question = $3, hold_asked = state = 'holding' WHERE id = $1 AND state IN ('running', 'holding')`, changeID, change.Asking, q); err != nil {
			return err
		}
		return note(ctx, tx, changeID, q.Step, l.Fence, "asks", q.Text)
	})
}

// SetChecks records a look at whether a change is ready, and how the device stands; stands is nil when that is not to be remembered.
func (s *Store) SetChecks(ctx context.Context, changeID int64, checks, stands []byte) error {
	_, err := s.Pool.Exec(ctx, `UPDATE changes SET checks = $2, checked_at = now(), stands = coalesce($3, stands) WHERE id = $1`, changeID, checks, stands)
	return err
}

// Times are when a change may run, and what time it is by the clock of the database, which all workers share.
type Times struct {
	Now, WindowFrom, WindowTo, RestartFrom time.Time // zero: none
}

// RestartWithin is how long a change may pass its point of no return from the time that was given for that, where no end was given.
const RestartWithin = 4 * time.Hour

// Times reads them now.
func (s *Store) Times(ctx context.Context, changeID int64) (t Times, err error) {
	var from, to, restart *time.Time
	err = one(s.Pool.QueryRow(ctx, `SELECT clock_timestamp(), window_from, coalesce(window_to, restart_from + $2), restart_from FROM changes WHERE id = $1`, changeID, RestartWithin).Scan(&t.Now, &from, &to, &restart))
	for at, into := range map[*time.Time]*time.Time{from: &t.WindowFrom, to: &t.WindowTo, restart: &t.RestartFrom} {
		if at != nil {
			*into = *at
		}
	}
	return t, err
}

// Faults counts how often the service broke off in a step.
func (s *Store) Faults(ctx context.Context, changeID int64, number int) (n int, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT count(*) FROM journal WHERE change_id = $1 AND step = $2 AND event = 'fault'`, changeID, number).Scan(&n)
	return n, err
}

// SetPlanned records what the device is, where the draft did not say.
func (s *Store) SetPlanned(ctx context.Context, l Lease, changeID int64, p Planned) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE changes SET planned = $2 WHERE id = $1`, changeID, p)
		return err
	})
}

// StepSeconds are how long steps took on devices of a model, by kind, newest first, at most limit of each kind. Steps that nobody carried
// for a while do not count.
func (s *Store) StepSeconds(ctx context.Context, model string, limit int) (map[string][]float64, error) {
	rows, err := s.Pool.Query(ctx, `SELECT kind, seconds FROM (
		SELECT s.plan->>'Kind' AS kind, extract(epoch FROM s.ended_at - s.started_at)::float8 AS seconds,
			row_number() OVER (PARTITION BY s.plan->>'Kind' ORDER BY s.ended_at DESC) AS n
		FROM steps s JOIN changes c ON c.id = s.change_id
		WHERE c.planned->>'model' = $1 AND s.state = 'done' AND NOT s.paused AND s.plan->>'Kind' <> 'hand') t WHERE n <= $2`, model, limit)
	if err != nil {
		return nil, err
	}
	out := map[string][]float64{}
	var kind string
	var seconds float64
	_, err = pgx.ForEachRow(rows, []any{&kind, &seconds}, func() error { out[kind] = append(out[kind], seconds); return nil })
	return out, err
}

// An ActionError says that an action is not possible in the state a change is in.
type ActionError struct{ Err error }

func (e *ActionError) Error() string { return e.Err.Error() }

// A JournalEntry is one line of a change's journal.
type JournalEntry struct {
	ID            int64
	Step          int
	At            time.Time
	Event, Detail string
}

// Journal lists the entries of a change after a number, oldest first.
func (s *Store) Journal(ctx context.Context, changeID, after int64, limit int) ([]JournalEntry, error) {
	rows, err := s.Pool.Query(ctx, `SELECT id, step, at, event, detail FROM journal WHERE change_id = $1 AND id > $2 ORDER BY id LIMIT $3`, changeID, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[JournalEntry])
}

func note(ctx context.Context, tx pgx.Tx, changeID int64, step int, fence int64, event, detail string) error {
	_, err := tx.Exec(ctx, `INSERT INTO journal (change_id, step, fence, event, detail) VALUES ($1, $2, $3, $4, $5)`, changeID, step, fence, event, detail)
	return err
}

// ErrFenced is returned for a write by a worker that has lost its lease: another one carries on.
var ErrFenced = errors.New("the lease on the device was lost to another worker")

// A Lease is the right to work on a device. Its fence grows with every holder; writes with an old one fail.
type Lease struct {
	DeviceID int64
	Fence    int64
	holder   string
}

// Acquire takes the lease of a device when it is free or has run out; ok is false when somebody else holds it.
func (s *Store) Acquire(ctx context.Context, deviceID int64, holder string, ttl time.Duration) (l Lease, ok bool, err error) {
	l = Lease{DeviceID: deviceID, holder: holder}
	err = s.Pool.QueryRow(ctx, `INSERT INTO leases (device_id, holder, fence, expires_at) VALUES ($1, $2, 1, now() + $3)
		ON CONFLICT (device_id) DO UPDATE SET holder = $2, fence = leases.fence + 1, expires_at = now() + $3
		WHERE leases.expires_at < now() RETURNING fence`, deviceID, holder, ttl).Scan(&l.Fence)
	if errors.Is(err, pgx.ErrNoRows) {
		return l, false, nil
	}
	return l, err == nil, err
}

// RenewAll extends leases in one statement and returns the devices whose lease is still ours; the others are lost.
func (s *Store) RenewAll(ctx context.Context, ls []Lease, ttl time.Duration) (ours []int64, err error) {
	var devices, fences []int64
	for _, l := range ls {
		devices, fences = append(devices, l.DeviceID), append(fences, l.Fence)
	}
	rows, err := s.Pool.Query(ctx, `UPDATE leases l SET expires_at = now() + $3 FROM unnest($1::bigint[], $2::bigint[]) AS v (device_id, fence)
		WHERE l.device_id = v.device_id AND l.fence = v.fence RETURNING l.device_id`, devices, fences, ttl)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// Release gives a lease back at once.
func (s *Store) Release(ctx context.Context, l Lease) error {
	_, err := s.Pool.Exec(ctx, `UPDATE leases SET expires_at = now() - interval '1 second' WHERE device_id = $1 AND fence = $2`, l.DeviceID, l.Fence)
	return err
}

// Orphans are running changes that nobody holds the lease of.
func (s *Store) Orphans(ctx context.Context) (ids []int64, err error) {
	rows, err := s.Pool.Query(ctx, `SELECT c.id FROM changes c LEFT JOIN leases l ON l.device_id = c.device_id
		WHERE c.state IN ('running', 'holding') AND (l.expires_at IS NULL OR l.expires_at < now())`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// fenced runs f in a transaction that only the holder of the lease can commit, and tells listeners.
func (s *Store) fenced(ctx context.Context, l Lease, changeID int64, f func(pgx.Tx) error) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		var ok bool
		if err := tx.QueryRow(ctx, `SELECT fence = $2 FROM leases WHERE device_id = $1 FOR SHARE`, l.DeviceID, l.Fence).Scan(&ok); err != nil {
			return err
		}
		if !ok {
			return ErrFenced
		}
		if err := f(tx); err != nil {
			return err
		}
		return notify(ctx, tx, changeID)
	})
}

// fencedNote writes a line of the journal and, with it, what set says of its step ("" leaves the step alone), and tells
// listeners: one statement, so one transaction, that fails when the fence is not ours any more. set may use $7 and $8. It
// returns the state of the change.
func (s *Store) fencedNote(ctx context.Context, l Lease, changeID int64, number int, event, detail, set string, args ...any) (state change.State, err error) {
	write := ""
	if set != "" {
		write = `written AS (UPDATE steps SET ` + set + ` FROM fence WHERE ours = 1 AND change_id = $3 AND number = $4),`
	}
	err = s.Pool.QueryRow(ctx, `WITH fence AS MATERIALIZED (SELECT 1 / (CASE WHEN (SELECT fence FROM leases WHERE device_id = $1 FOR SHARE) = $2 THEN 1 ELSE 0 END) AS ours),
		`+write+` noted AS (INSERT INTO journal (change_id, step, fence, event, detail) SELECT $3, $4, $2, $5, $6 FROM fence WHERE ours = 1)
		SELECT c.state FROM fence, changes c, pg_notify('verimorph_change', $3::bigint::text) WHERE c.id = $3`,
		append([]any{l.DeviceID, l.Fence, changeID, number, event, detail}, args...)...).Scan(&state)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "22012" { // division by zero
		return "", ErrFenced
	}
	return state, err
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
	_, err := s.Pool.Exec(ctx, `WITH written AS (
		UPDATE steps s SET fraction = v.fraction, note = v.note
		FROM unnest($1::bigint[], $2::int[], $3::float8[], $4::text[], $5::bigint[], $6::bigint[]) AS v (change_id, number, fraction, note, device_id, fence)
		JOIN leases l ON l.device_id = v.device_id AND l.fence = v.fence
		WHERE s.change_id = v.change_id AND s.number = v.number AND s.state = 'running' RETURNING s.change_id)
		SELECT count(pg_notify('verimorph_change', change_id::text)) FROM written`, changes, numbers, fractions, notes, devices, fences)
	return err
}

// NoteStep adds a line to the journal without changing the step.
func (s *Store) NoteStep(ctx context.Context, l Lease, changeID int64, number int, event, detail string) error {
	_, err := s.fencedNote(ctx, l, changeID, number, event, detail, "")
	return err
}

// EndStep records the outcome of a step, change.StepDone or change.StepFailed, and returns the state of the change: somebody
// may have asked it to hold.
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

// SetReadings records the readings before the change with their definitions, which are those of the change from then on, and keeps the
// readings also as a set to compare with later.
func (s *Store) SetReadings(ctx context.Context, l Lease, changeID, deviceID int64, version string, readings, definitions []byte) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE changes SET readings = $2, definitions = $3 WHERE id = $1`, changeID, readings, definitions); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `INSERT INTO reading_sets (device_id, change_id, version, readings, taken_by) VALUES ($1, $2, $3, $4, $5)`, deviceID, changeID, version, readings, fmt.Sprintf("change %d", changeID))
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

// HeldNow moves a change that was asked to hold to held, and reports whether it did.
func (s *Store) HeldNow(ctx context.Context, l Lease, changeID int64) (held bool, err error) {
	var asked bool
	if err := one(s.Pool.QueryRow(ctx, `SELECT c.state = $3 FROM changes c JOIN leases l ON l.device_id = c.device_id AND l.fence = $2 WHERE c.id = $1`, changeID, l.Fence, change.Holding).Scan(&asked)); errors.Is(err, ErrNotFound) {
		return false, ErrFenced
	} else if err != nil || !asked {
		return false, err
	}
	err = s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `UPDATE changes SET state = $2 WHERE id = $1 AND state = $3`, changeID, change.Held, change.Holding)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		held = true
		return note(ctx, tx, changeID, 0, l.Fence, "held", "at a safe point")
	})
	return held, err
}

// RestUntil schedules a running change for a moment, when it goes on by itself; not when somebody asked it to hold, who then says when.
func (s *Store) RestUntil(ctx context.Context, l Lease, changeID int64, until time.Time) error {
	return s.fenced(ctx, l, changeID, func(tx pgx.Tx) error {
		var to change.State
		if err := one(tx.QueryRow(ctx, `UPDATE changes SET state = CASE WHEN state = 'running' THEN 'scheduled' ELSE 'held' END, waits_until = CASE WHEN state = 'running' THEN $2::timestamptz END
			WHERE id = $1 AND state IN ('running', 'holding') RETURNING state`, changeID, until).Scan(&to)); err != nil {
			return err
		}
		// The step that waits is begun anew then: how long it took tells nothing if the waiting is in it.
		if _, err := tx.Exec(ctx, `UPDATE steps SET state = 'waiting', started_at = NULL, paused = false WHERE change_id = $1 AND state = 'running'`, changeID); err != nil {
			return err
		}
		if to == change.Held {
			return note(ctx, tx, changeID, 0, l.Fence, "held", "at a safe point")
		}
		return note(ctx, tx, changeID, 0, l.Fence, "scheduled", "until "+until.UTC().Format(time.RFC3339)+", when it goes on by itself")
	})
}

// TimeHasCome takes up the changes that wait for a moment which has come by the clock of the database, and calls then for each in
// the same transaction. One whose approval was taken back waits on, and one whose device is taken by another change, too.
func (s *Store) TimeHasCome(ctx context.Context, then func(pgx.Tx, int64) error) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `UPDATE changes c SET state = $1, waits_until = NULL, started_at = coalesce(started_at, now()) WHERE state = $2 AND waits_until <= now() AND approved_by IS NOT NULL
			AND (started_at IS NOT NULL OR NOT EXISTS (SELECT FROM changes o WHERE o.device_id = c.device_id AND o.id <> c.id AND (`+occupies("o")+` OR o.state = $2 AND o.waits_until <= now() AND o.id < c.id))) RETURNING id`, change.Running, change.Scheduled)
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
		tag, err := tx.Exec(ctx, `UPDATE changes SET state = $2, ended_at = now(), verdict = coalesce($3, verdict), failure = nullif($4, '') WHERE id = $1 AND state IN ('running', 'holding')`,
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

// CountChanges counts changes by state.
func (s *Store) CountChanges(ctx context.Context) (map[string]int64, error) {
	return s.counts(ctx, `SELECT state, count(*) FROM changes GROUP BY state`)
}

// counts runs a query for states and numbers.
func (s *Store) counts(ctx context.Context, query string) (map[string]int64, error) {
	rows, err := s.Pool.Query(ctx, query)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	var state string
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&state, &n}, func() error { out[state] = n; return nil })
	return out, err
}
