package engine

import (
	"context"
	"errors"
	"strings"

	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/store"
)

// A hand step is done by a person, who signs it off.

func askHand(_ *run, _ context.Context, s *store.Step) error {
	return &askError{change.Question{Kind: change.AskHand, Step: s.Plan.Number, Text: "By hand: " + change.Of[change.HandParams](&s.Plan).Task, Answers: []change.Action{change.SignOff, change.Leave}}, change.StepRunning}
}

// Backup off the box.

// bundlesAtOnce is how many backups the changes of a process take at once.
const bundlesAtOnce = 150

func backupTaken(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	b, err := r.e.Store.BackupOf(ctx, r.c.ID, r.m.DeviceID, s.Plan.Hop)
	if errors.Is(err, store.ErrNotFound) {
		return false, "", nil
	}
	if err != nil {
		return false, "", records(err)
	}
	if b.Manifest == "" || !b.Complete || r.e.whole(b) != nil {
		return false, "", nil // recorded but not readable: take it again
	}
	return true, r.e.backupNote(ctx, b), nil
}

func takeBackup(r *run, ctx context.Context, s *store.Step) (err error) {
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	select { // what is read off a device is held in memory until it is stored
	case r.e.bundles <- struct{}{}:
		defer func() { <-r.e.bundles }()
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	attempt, err := r.e.Store.BeginAttempt(ctx, d.ID, backup.BeforeChange)
	if err != nil {
		return records(err)
	}
	hop := s.Plan.Hop
	b := store.Backup{DeviceID: r.m.DeviceID, Device: r.m.Device, ChangeID: &r.c.ID, Hop: &hop, Reason: backup.BeforeChange}
	defer func() { r.e.endAttempt(context.WithoutCancel(ctx), attempt, d, backup.BeforeChange, b, err) }()
	if b, err = r.e.take(ctx, c, b, d); err != nil {
		return err
	}
	if !b.Complete {
		return final("the backup is not complete, so nothing was changed; it lacks: %s. What could be read is kept as backup %d", strings.Join(b.Lacks, ", "), b.ID)
	}
	s.Note = r.e.backupNote(ctx, b)
	return nil
}

// Converting what is put back after a reset.

// Licences.
