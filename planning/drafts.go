package planning

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/media"
	"verimorph/engine"
	"verimorph/store"
)

// Draft drafts what somebody wishes, records it, and looks whether it may start. keys are those of its licences, by name. Images that are missing
// are fetched from the release sites.
func (s *Planner) Draft(ctx context.Context, by access.Actor, w change.Wish, keys map[string]string, t store.Terms) (int64, error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	t, err := s.Terms(ctx, t)
	if err != nil {
		return 0, err
	}
	if e, err := s.Store.Ensemble(ctx, w.Device); err == nil {
		c, err := s.draftEnsemble(ctx, by, e, &w)
		if err != nil {
			return 0, err
		}
		return s.record(ctx, by, c, w, t)
	} else if !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	d, err := s.Device(ctx, w.Device)
	if err != nil {
		return 0, err
	}
	if err := s.Store.NotKept(ctx, d.ID); err != nil { // before anything is fetched or asked for it
		return 0, err
	}
	dialect := s.Engine.Profile(d)
	if dialect == nil {
		return 0, conflict("dialect %q is not known here", d.Dialect)
	}
	if lacks := dialect.Lacks; len(lacks) > 0 && w.Operations == nil && w.Join == nil && !w.Release {
		return 0, conflict("dialect %q cannot change firmware: it has no %s; add these verbs to it, or do it by hand", d.Dialect, strings.Join(lacks, ", "))
	}
	m := store.Member{DeviceID: d.ID}
	if p := PortraitOf(d); p != nil {
		m.Planned = store.Planned{Model: p.Model, Serial: p.Serial}
	}
	if w.ComesBackAt != "" {
		if !GoodAddress(w.ComesBackAt) {
			return 0, invalid("comesBackAt %q should look like 192.0.2.7:22", w.ComesBackAt)
		}
		m.Planned.ComesBackAt = w.ComesBackAt
	}
	if under := engine.Follows(&d); under != "" && !w.Release {
		return 0, &engine.FollowsError{Device: d.Name, Controller: under}
	}
	if w.Join != nil || w.Release {
		c, err := s.draftJoin(ctx, by, d, &w, keys)
		if err != nil {
			return 0, err
		}
		return s.record(ctx, by, c, w, t)
	}
	var c store.Change
	switch {
	case w.Operations != nil:
		c, err = s.draftOperations(ctx, by, d, w.Operations)
	case w.Back:
		c, err = s.draftBack(ctx, d, w.Carry)
	default:
		c, err = s.draftFirmware(ctx, by, d, &w, keys)
	}
	if err != nil {
		return 0, err
	}
	c.Members = []store.Member{m}
	return s.record(ctx, by, c, w, t)
}

// record records a draft, and looks whether it may start.
func (s *Planner) record(ctx context.Context, by access.Actor, c store.Change, w change.Wish, t store.Terms) (int64, error) {
	return s.recordWith(ctx, by, c, w, t, nil)
}

// recordWith is record; also is written in the same transaction, where it is not nil.
func (s *Planner) recordWith(ctx context.Context, by access.Actor, c store.Change, w change.Wish, t store.Terms, also func(*store.Store, int64, *store.Change) error) (id int64, err error) {
	c.WindowFrom, c.WindowTo, c.RestartFrom, c.BackPolicy = t.WindowFrom, t.WindowTo, t.RestartFrom, t.BackPolicy
	w.Format, c.Wish = change.WishFormat, &w
	if err := s.Store.Together(ctx, func(tx *store.Store) error {
		if id, err = tx.AddChange(ctx, by, c); err != nil || also == nil {
			return err
		}
		return also(tx, id, &c)
	}); err != nil {
		return 0, err
	}
	return id, s.Look(ctx, by, id)
}

// Redraft drafts what was asked for with a change once more, from where its device stands now, and stops the older draft.
func (s *Planner) Redraft(ctx context.Context, by access.Actor, id int64) (int64, error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	c, err := s.Change(ctx, id)
	if err != nil {
		return 0, err
	}
	switch {
	case c.State.Open():
		return 0, conflict("change %d is %s; it is drafted anew once it has ended", c.ID, c.State)
	case c.Wish == nil:
		return 0, conflict("what was asked for with change %d was not recorded; draft it again", c.ID)
	}
	d, err := s.Store.DeviceByID(ctx, c.First().DeviceID)
	if err != nil {
		return 0, err
	}
	if c.Ensemble == nil && c.Wish.Swap == nil { // the members of an ensemble are looked at when it is drafted
		if _, err := s.Engine.Refresh(ctx, d, by); err != nil {
			return 0, err
		}
	}
	fresh, err := s.again(ctx, by, &c, d)
	if err != nil || c.State.Over() {
		return fresh, err
	}
	return fresh, s.Engine.Act(ctx, c.ID, change.Stop, by, fmt.Sprintf("drafted anew as change %d", fresh))
}

func (s *Planner) again(ctx context.Context, by access.Actor, c *store.Change, d store.Device) (int64, error) {
	w := *c.Wish
	if w.Restore != nil {
		again := *w.Restore
		again.AcceptGuarded = false // that was of what was shown then
		return s.DraftRestore(ctx, by, again)
	}
	keys, err := engine.LicenceKeys(s.Vault, d.Name, c.Work)
	if err != nil {
		return 0, conflict("the keys of its licences cannot be read any more (%s); draft it again with them", err)
	}
	for i := range w.Operations {
		if o := &w.Operations[i]; o.Kind == change.Licence {
			o.Key = keys[o.Part]
		}
	}
	w.Device = d.Name
	switch {
	case c.Ensemble != nil:
		w.Device = c.Ensemble.Name
	case w.Join != nil || w.Release: // its first member is the controller
		w.Device = c.Members[1].Device
	}
	terms := store.Terms{WindowFrom: c.WindowFrom, WindowTo: c.WindowTo, RestartFrom: c.RestartFrom, BackPolicy: c.BackPolicy}
	switch {
	case w.Medium != nil:
		return s.MakeMedium(ctx, by, NewMedium{Label: w.Medium.Label, Kind: media.Snapshot, Device: d.Name, Place: w.Medium.Place, Terms: terms, Instead: c.ID})
	case w.Move != nil:
		move := *w.Move
		move.Instead = c.ID
		return s.DraftServices(ctx, by, d.Name, move, terms)
	case w.Swap != nil:
		return s.SwapSpare(ctx, by, w.Swap.Serial, w.ComesBackAt, terms, c.ID)
	case w.BringUp != nil && w.BringUp.For != "":
		return s.PrepareSpare(ctx, by, w.BringUp.Serial, Preparing{For: w.BringUp.For, Bench: d.Name, To: w.To, SameKey: w.BringUp.SameKey, Terms: terms, Instead: c.ID})
	}
	if w.PutBack != nil {
		return s.DraftPutBack(ctx, by, w.PutBack.Change, terms)
	}
	t := store.Terms{WindowFrom: c.WindowFrom, WindowTo: c.WindowTo, RestartFrom: c.RestartFrom, BackPolicy: c.BackPolicy}
	if w.Replace != nil {
		return s.DraftReplacement(ctx, by, w, "", keys, t)
	}
	if w.BringUp != nil {
		return s.redraftBringUp(ctx, by, c, d, keys, t)
	}
	return s.Draft(ctx, by, w, keys, t)
}

// Look sees whether a change may start. That the device does not answer is one of the answers.
func (s *Planner) Look(ctx context.Context, by access.Actor, id int64) error {
	c, err := s.Store.Change(ctx, id)
	if err != nil {
		return err
	}
	_, err = s.Engine.Ready(ctx, &c, by)
	return err
}

// Act carries out an act on a change. Before a start the device is looked at, so that the gate knows how it stands.
func (s *Planner) Act(ctx context.Context, by access.Actor, id int64, a change.Action, text string) error {
	c, err := s.Change(ctx, id)
	if err != nil {
		return err
	}
	if c.Kind != change.PuttingBack && (a == change.Start || a == change.Arm) { // it may have been drafted before another device took the place of this one
		for _, m := range c.Members {
			if err := s.Store.NotKept(ctx, m.DeviceID); err != nil {
				return err
			}
		}
	}
	if _, err := change.Next(c.Situation(), a); a == change.Start && err == nil && c.IsLooked() {
		if _, err := s.Engine.Ready(ctx, &c, by); err != nil {
			return err
		}
	}
	return s.Engine.Act(ctx, id, a, by, text)
}

// Change loads a change; an error of kind NotFound says that there is none.
func (s *Planner) Change(ctx context.Context, id int64) (store.Change, error) {
	c, err := s.Store.Change(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return c, notFound("there is no change %d", id)
	}
	return c, err
}

func withSteps(c store.Change, plan *change.Plan) store.Change {
	c.Back, c.Units, c.Children = plan.Back, plan.Units, plan.Children
	for _, st := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: st})
	}
	return c
}
