package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/outage"
	"verimorph/core/ready"
)

// A Change is the record of one change. Path and Verdict are JSON that the store does not look into.
type Change struct {
	ID             int64            `db:"id"`
	State          change.State     `db:"state"`
	From           string           `db:"from_version"`
	To             string           `db:"to_version"`
	Path           []byte           `db:"path"`
	CreatedBy      string           `db:"created_by"`
	CreatedAt      time.Time        `db:"created_at"`
	ApprovedBy     *string          `db:"approved_by"`
	ApprovedAt     *time.Time       `db:"approved_at"`
	StartedAt      *time.Time       `db:"started_at"`
	EndedAt        *time.Time       `db:"ended_at"`
	Verdict        []byte           `db:"verdict"`
	Failure        *string          `db:"failure"`
	Kind           string           `db:"kind"`             // change.Firmware, change.Restoring ...
	Work           []byte           `db:"work"`             // of a restore: what is put back, JSON
	ExpectsHostKey bool             `db:"expects_host_key"` // the device may come with another host key
	Back           []change.Back    `db:"back"`
	BackPolicy     string           `db:"back_policy"` // change.Automatic or change.Offered
	Returning      *int             `db:"going_back"`  // the hop whose way back is being taken
	ReturnWhy      *string          `db:"return_why"`
	WindowFrom     *time.Time       `db:"window_from"`
	WindowTo       *time.Time       `db:"window_to"`
	RestartFrom    *time.Time       `db:"restart_from"` // the point of no return is not passed before
	WaitsUntil     *time.Time       `db:"waits_until"`  // of a scheduled change: it goes on by itself then
	PauseAsked     bool             `db:"pause_asked"`  // somebody asked it to pause before it asked
	PausedBy       *string          `db:"paused_by"`    // who asked it to pause
	StateSince     time.Time        `db:"state_since"`
	Now            time.Time        `db:"now"`  // by the clock of the database, when this was read
	Wish           *change.Wish     `db:"wish"` // what was asked for; nil where it cannot be drafted anew
	Question       *change.Question `db:"question"`
	Accepted       []Acceptance     `db:"accepted"`
	Checks         []ready.Check    `db:"checks"` // the last look at whether it is ready
	CheckedAt      *time.Time       `db:"checked_at"`
	Members        []Member         `db:"members"`  // the devices that it concerns, in the order of their numbers
	Ensemble       *change.Ensemble `db:"ensemble"` // of a change of one; nil else
	HalfWay        *change.HalfWay  `db:"half_way"` // of an ensemble whose change rests, or goes back: how it goes on from there
	Units          *change.Units    `db:"units"`    // of a device with several; nil else
	Children       *change.Children `db:"children"` // of a device that others follow; nil else
	Probes         []outage.Watch   `db:"probes"`   // what was asked all the time while it ran
	Steps          []Step           `db:"-"`
}

// A Member is a device that a change concerns.
type Member struct {
	Number   int             `json:"number"` // from 1
	DeviceID int64           `json:"device_id"`
	Device   string          `json:"device"` // its name
	Role     string          `json:"role"`   // among the members; "" where there is one
	Planned  Planned         `json:"planned"`
	Stands   json.RawMessage `json:"stands"`   // what ran and what lay in the slots when it was last found ready; nil: not known
	Slots    json.RawMessage `json:"slots"`    // of the device, when it was last looked at
	Portrait json.RawMessage `json:"portrait"` // version, role and sync of then, in a change of several

	Readings    json.RawMessage `json:"readings"`    // from before the change; nil: not taken
	Definitions json.RawMessage `json:"definitions"` // of the readings, as they were when those before were taken
	Verdict     json.RawMessage `json:"verdict"`     // what was concluded of it, in a change of several; nil: nothing yet

	Path json.RawMessage `json:"path"` // its own, in a change of several; nil: that of the change
	Back []change.Back   `json:"back"` // its own ways back, by hop
}

// Planned is what a device was when the change was drafted; another device is not touched.
type Planned struct {
	Model  string `json:"model,omitempty"`
	Serial string `json:"serial,omitempty"`
	// ComesBackAt is the address at which it is expected once it was started anew; "": where it was.
	ComesBackAt string `json:"comesBackAt,omitempty"`
	// HostKey is the host key that it shows, in authorized-keys form, and Pins are the keys of its certificates by protocol, where it is another unit
	// than the one in the records; "": those of the records.
	HostKey string            `json:"hostKey,omitempty"`
	Pins    map[string]string `json:"pins,omitempty"`
	Bench   int64             `json:"bench,omitempty"` // the device by which that unit was reached before
	// Became is what it was seen to be after it went on as another model; nil: it did not.
	Became *Became `json:"became,omitempty"`
}

// Became is what a device is that went on as another model.
type Became struct {
	Model  string `json:"model"`
	Serial string `json:"serial,omitempty"`
}

// First is the member with the lowest number; every change has one.
func (c *Change) First() *Member {
	if len(c.Members) == 0 {
		return &Member{Number: 1}
	}
	return &c.Members[0]
}

// Paths are the paths that a change goes along, each as it is stored: one, or one for each member.
func (c *Change) Paths() (out [][]byte) {
	for _, m := range c.Members {
		if m.Path != nil {
			out = append(out, m.Path)
		}
	}
	if out == nil && len(c.Path) > 0 {
		out = append(out, c.Path)
	}
	return out
}

// Devices names the devices that a change concerns.
func (c *Change) Devices() string {
	var names []string
	for _, m := range c.Members {
		names = append(names, m.Device)
	}
	return strings.Join(names, ", ")
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

// CanGoBack reports whether something was done that a declared way back undoes. Of an ensemble that follows from how its members stood when the
// change came to rest.
func (c *Change) CanGoBack() bool {
	if len(c.Members) > 1 {
		return c.Returning == nil && c.HalfWay != nil && c.HalfWay.Back
	}
	hop, ok := c.Passed()
	return ok && c.WayBack(hop) != nil
}

// WaysBack are the declared ways back of a member, by hop.
func (c *Change) WaysBack(m *Member) []change.Back {
	if m.Path != nil {
		return m.Back
	}
	return c.Back
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
		writes := s.Plan.Kind == change.Install && !s.Plan.InPlace() || s.Plan.Kind == change.Clone
		return writes && !s.Plan.Back && (s.Plan.OtherSlot() || s.Plan.Hop > hop) && s.State != change.StepWaiting && s.State != change.StepSkipped
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
	if json.Unmarshal(c.First().Slots, &slots) != nil || json.Unmarshal(c.Path, &way) != nil {
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

// IsLooked reports whether the device is looked at before the change starts. One that is put back is off until its cables are in it again. Where services move,
// the devices are read when that is drafted, and once more before anything is put.
func (c *Change) IsLooked() bool {
	return !slices.Contains([]string{change.Restoring, change.PuttingBack, change.Swapping, change.MakingMedium, change.Moving, change.Withdrawing}, c.Kind)
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
			out = append(out, change.Of[change.LicenceParams](&s.Plan).Licence)
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
		Opens: c.WindowFrom != nil && c.WindowFrom.After(c.Now), AtATime: c.WaitsUntil != nil || c.RestartFrom != nil && c.RestartFrom.After(c.Now), PauseAsked: c.PauseAsked}
}

// changeColumns are those of a [Change], by name.
const changeColumns = `c.id, c.state, c.from_version, c.to_version, c.path, c.created_by, c.created_at, c.approved_by, c.approved_at, c.started_at, c.ended_at,
	c.verdict, c.failure, c.kind, c.work, c.expects_host_key, c.back, c.back_policy, c.going_back, c.return_why, c.window_from, c.window_to,
	c.restart_from, c.waits_until, c.wish, c.question, c.accepted, c.checks, c.checked_at, c.pause_asked, c.paused_by, c.state_since, c.ensemble, c.half_way, c.units, c.children, c.probes, now() AS now,
	(SELECT jsonb_agg(jsonb_strip_nulls(jsonb_build_object(
		'number', m.number, 'device_id', m.device_id, 'device', d.name, 'role', m.role, 'planned', m.planned, 'stands', m.stands,
		'slots', d.portrait->'slots', 'readings', m.readings, 'definitions', m.definitions, 'verdict', m.verdict, 'path', m.path, 'back', m.back,
		'portrait', CASE WHEN c.ensemble IS NOT NULL THEN
			jsonb_build_object('version', d.portrait->>'version', 'role', d.portrait->>'role', 'sync', d.portrait->>'sync') END)) ORDER BY m.number)
		FROM members m JOIN devices d ON d.id = m.device_id WHERE m.change_id = c.id) AS members FROM changes c`

// oneChange returns a change without its steps.
func oneChange(ctx context.Context, q db, id int64, lock string) (Change, error) {
	rows, err := q.Query(ctx, `SELECT `+changeColumns+` WHERE c.id = $1 `+lock, id)
	if err != nil {
		return Change{}, err
	}
	c, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Change])
	return c, one(err)
}

// locked returns a change with its steps, and keeps others from writing it until the transaction ends.
func locked(ctx context.Context, tx pgx.Tx, id int64) (Change, error) {
	c, err := oneChange(ctx, tx, id, `FOR UPDATE OF c`)
	if err == nil {
		c.Steps, err = steps(ctx, tx, id)
	}
	return c, err
}

// AddChange records a draft with its steps and members, and a line in the audit, and returns its number.
func (s *Store) AddChange(ctx context.Context, by access.Actor, c Change) (id int64, err error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	if len(c.Members) == 0 {
		return 0, errors.New("a change concerns at least one device")
	}
	err = s.tx(ctx, func(tx pgx.Tx) error {
		c.Kind, c.BackPolicy = cmp.Or(c.Kind, change.Firmware), cmp.Or(c.BackPolicy, change.Offered)
		if err := (&Store{s.Pool, tx}).notKept(ctx, &c); err != nil {
			return err
		}
		if c.Back == nil {
			c.Back = []change.Back{}
		}
		if err := tx.QueryRow(ctx, `INSERT INTO changes (state, from_version, to_version, path, created_by, kind, work, expects_host_key, back, back_policy, window_from, window_to, restart_from, wish, plan_format, ensemble, units, children)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18) RETURNING id`,
			change.Drafted, c.From, c.To, c.Path, by, c.Kind, c.Work, c.ExpectsHostKey, c.Back, c.BackPolicy, c.WindowFrom, c.WindowTo, c.RestartFrom, c.Wish, change.PlanFormat, c.Ensemble, c.Units, c.Children).Scan(&id); err != nil {
			return err
		}
		for i, m := range c.Members {
			if _, err := tx.Exec(ctx, `INSERT INTO members (change_id, number, device_id, role, planned, path, back, readings, definitions)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`, id, i+1, m.DeviceID, m.Role, m.Planned, m.Path, m.Back, m.Readings, m.Definitions); err != nil {
				return err
			}
		}
		if err := addSteps(ctx, tx, id, c.Steps); err != nil {
			return err
		}
		if err := audit(ctx, tx, by, "change drafted", c.First().DeviceID, fmt.Sprintf("change %d, %s", id, c.Kind)); err != nil {
			return err
		}
		return note(ctx, tx, id, 0, 0, "drafted", "by "+by.String())
	})
	return id, err
}

// Change returns a change with its steps.
func (s *Store) Change(ctx context.Context, id int64) (Change, error) {
	var c Change
	err := pgx.BeginTxFunc(ctx, s.Pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) (err error) {
		if c, err = oneChange(ctx, tx, id, ""); err != nil {
			return err
		}
		c.Steps, err = steps(ctx, tx, id)
		return err
	})
	return c, err
}

// Changes lists changes without steps, newest first, of one device or ensemble or of all (""), before a number (0: from the newest).
func (s *Store) Changes(ctx context.Context, device string, before int64, limit int) ([]Change, error) {
	of := ""
	if device != "" {
		of = ` AND (c.id IN (SELECT m.change_id FROM members m JOIN devices d ON d.id = m.device_id WHERE d.name = $3) OR c.ensemble->>'name' = $3)`
	}
	args := []any{before, limit}
	if device != "" {
		args = append(args, device)
	}
	rows, err := s.db.Query(ctx, `SELECT `+changeColumns+` WHERE ($1 = 0 OR c.id < $1)`+of+` ORDER BY c.id DESC LIMIT $2`, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Change])
}

// SetChecks records a look at whether a change is ready.
func (s *Store) SetChecks(ctx context.Context, changeID int64, checks []ready.Check) error {
	_, err := s.db.Exec(ctx, `UPDATE changes SET checks = $2, checked_at = now() WHERE id = $1`, changeID, checks)
	return err
}

// SetMemberChecks records what a member was found to be before it goes on, and how its device stands; stands is nil when that is not to be remembered.
// device is its name in a change of several, where what was found of the others stays; "" in a change of one.
func (s *Store) SetMemberChecks(ctx context.Context, changeID int64, member int, device string, checks []ready.Check, stands []byte) error {
	if checks == nil {
		checks = []ready.Check{}
	}
	_, err := s.db.Exec(ctx, `WITH m AS (UPDATE members SET stands = coalesce($4, stands) WHERE change_id = $1 AND number = $2)
		UPDATE changes SET checked_at = now(), checks = CASE WHEN $5 = '' THEN $3::jsonb ELSE
			(SELECT coalesce(jsonb_agg(k ORDER BY n), '[]') FROM jsonb_array_elements(CASE jsonb_typeof(checks) WHEN 'array' THEN checks ELSE '[]' END) WITH ORDINALITY AS x (k, n)
				WHERE coalesce(k->>'member', '') <> $5) || $3::jsonb END
			WHERE id = $1`, changeID, member, checks, stands, device)
	return err
}

// Times are when a change may run, and what time it is by the clock of the database, which all workers share.
type Times struct {
	Now, WindowFrom, WindowTo, RestartFrom time.Time // zero: none
}

// Times reads them now.
func (s *Store) Times(ctx context.Context, changeID int64) (t Times, err error) {
	var from, to, restart *time.Time
	err = one(s.db.QueryRow(ctx, `SELECT clock_timestamp(), window_from, coalesce(window_to, restart_from + $2), restart_from FROM changes
		WHERE id = $1`, changeID, change.RestartWithin).Scan(&t.Now, &from, &to, &restart))
	for at, into := range map[*time.Time]*time.Time{from: &t.WindowFrom, to: &t.WindowTo, restart: &t.RestartFrom} {
		if at != nil {
			*into = *at
		}
	}
	return t, err
}

// CountChanges counts changes by state.
func (s *Store) CountChanges(ctx context.Context) (map[string]int64, error) {
	return s.counts(ctx, `SELECT state, count(*) FROM changes GROUP BY state`)
}

// counts runs a query for states and numbers.
func (s *Store) counts(ctx context.Context, query string) (map[string]int64, error) {
	rows, err := s.db.Query(ctx, query)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	var state string
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&state, &n}, func() error { out[state] = n; return nil })
	return out, err
}
