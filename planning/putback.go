package planning

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/store"
)

// A device that was replaced serves again, or is released.

// DraftPutBack drafts that a device serves again that was replaced.
func (s *Planner) DraftPutBack(ctx context.Context, by access.Actor, id int64, t store.Terms) (int64, error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	t, err := s.Terms(ctx, t)
	if err != nil {
		return 0, err
	}
	rec, c, err := s.keptBy(ctx, id)
	if err != nil {
		return 0, err
	}
	job, err := s.Engine.ReplaceJob(ctx, &c)
	if err != nil {
		return 0, err
	}
	if job.Dead {
		return 0, conflict("%s did not answer when it was replaced, so there is nothing to go back to", rec.Old)
	}
	plan := change.DraftPutBack(job)
	m := c.Members[change.TheOld-1]
	back := store.Change{Kind: change.PuttingBack, From: job.Old.Path.From.String(), To: job.Old.Path.From.String(), Path: m.Path,
		Members: []store.Member{{DeviceID: m.DeviceID, Planned: m.Planned, Readings: m.Readings, Definitions: m.Definitions}}}
	w := change.Wish{Device: rec.Old, PutBack: &change.PutBackWish{Change: id}}
	back = withSteps(back, plan)
	back.WindowFrom, back.WindowTo, back.RestartFrom, back.BackPolicy = t.WindowFrom, t.WindowTo, t.RestartFrom, t.BackPolicy
	w.Format, back.Wish = change.WishFormat, &w
	return s.Store.AddChange(ctx, by, back)
}

// keptBy is a replacement whose old device is kept.
func (s *Planner) keptBy(ctx context.Context, id int64) (store.Replacement, store.Change, error) {
	rec, err := s.Store.Replacement(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return rec, store.Change{}, notFound("change %d replaced no device", id)
	}
	if err != nil {
		return rec, store.Change{}, err
	}
	switch {
	case rec.State != change.Done:
		return rec, store.Change{}, conflict("change %d is %s; %s is kept once it is done", id, rec.State, rec.Old)
	case rec.PutBack != nil:
		return rec, store.Change{}, conflict("%s serves again already, by change %d", rec.Old, *rec.PutBack)
	case rec.ReleasedAt != nil:
		return rec, store.Change{}, conflict("%s was released by %s at %s, and is the way back no longer", rec.Old, rec.ReleasedBy, rec.ReleasedAt.UTC().Format("2006-01-02 15:04 MST"))
	}
	c, err := s.Change(ctx, id)
	return rec, c, err
}

// ReleaseReplaced gives an old device free: it is the way back no longer.
func (s *Planner) ReleaseReplaced(ctx context.Context, by access.Actor, id int64, why string) error {
	if err := access.May(by, access.Approve); err != nil {
		return err
	}
	if len(strings.TrimSpace(why)) < 3 {
		return invalid("say why it is not needed as the way back any more")
	}
	rec, _, err := s.keptBy(ctx, id)
	if err != nil {
		return err
	}
	return s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "replaced device released", Device: rec.Old, Detail: fmt.Sprintf("change %d, in which %s took its place: %s", id, rec.New, strings.TrimSpace(why))},
			tx.ReleaseReplaced(ctx, id, by.String())
	})
}
