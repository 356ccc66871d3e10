package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/device"
	"verimorph/store"
)

// The configuration right before it is overwritten, reset or converted. A change may rest for days between its backup and its installation:
// what was configured meanwhile must be neither lost nor called as it should be.

// backupBeforeBack is the number under which the backup right before the way back of a hop is kept, beside the backups of the hops.
func backupBeforeBack(hop int) int { return -2 - hop }

// beforeBack is the backup that was taken right before the way back of a hop; nil when there was nothing to take one of.
func beforeBack(all []store.Backup, hop int) *store.Backup {
	for i := range all {
		if b := &all[i]; b.Hop != nil && *b.Hop == backupBeforeBack(hop) && b.File != "" && b.Complete {
			return b
		}
	}
	return nil
}

// backUpBeforeBack takes a backup before a way back undoes what was configured since, where the device can be asked: what cannot be read
// keeps no device from going back.
func (r *run) backUpBeforeBack(ctx context.Context, s *store.Step) error {
	for i := range r.c.Steps {
		if st := &r.c.Steps[i]; st.Plan.Back && st.Plan.Number < s.Plan.Number {
			return nil // only before the first of its steps
		}
	}
	if s.State != change.StepWaiting || r.lookNow(ctx) == nil {
		return nil
	}
	again := store.Step{Plan: s.Plan}
	again.Plan.Hop = backupBeforeBack(s.Plan.Hop)
	err := takeBackup(r, ctx, &again)
	if record := (*recordError)(nil); errors.As(err, &record) || errors.Is(err, store.ErrFenced) || ctx.Err() != nil {
		return err
	}
	note := again.Note
	if err != nil {
		note = "what was configured since could not be backed up: " + err.Error()
	}
	return records(r.e.Store.NoteStep(ctx, r.lease, r.c.ID, s.Plan.Number, "backup before going back", note))
}

// sameConfiguration reads the main configuration again and holds it against the newest backup of the hop. When they differ, a new complete
// backup is taken, and what is put back is worked out again. A guarded setting that is no longer what was approved asks a person.
func (r *run) sameConfiguration(ctx context.Context, s *store.Step) error {
	if !r.overwrites(s) {
		return nil
	}
	b, source, err := r.backedUp(ctx, s.Plan.Hop)
	if err != nil || source == nil {
		return err
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	now, _, err := c.FetchPart(ctx, source.Name)
	if k := device.KindOf(err); k == device.Refused || k == device.NotUnderstood {
		return final("the configuration could not be read again before it is overwritten: %w", err)
	}
	if err != nil {
		return err
	}
	was, err := r.e.Backups.Read(b.SHA256)
	if err != nil {
		return final("backup %d cannot be read: %w", b.ID, err)
	}
	same, err := r.e.same(ctx, b.Model, b.Version, RestorePart{File: source.File, Syntax: source.Syntax}, source, was, now)
	if err != nil {
		return err
	}
	if !same {
		if b, err = r.backUpAgain(ctx, s, b); err != nil {
			return err
		}
	}
	if err := r.guardedStill(ctx, s, b); err != nil {
		return err
	}
	return r.convertAgain(ctx, s, b)
}

// overwrites reports whether a step begins to put something in the place of what is configured now.
func (r *run) overwrites(s *store.Step) bool {
	switch s.Plan.Kind {
	case change.Install:
		return s.Plan.InPlace()
	case change.ChooseSlot, change.PutPart:
		return true
	case change.Restart:
		return r.bySlot(s)
	}
	return false
}

// backedUp is the newest backup of a hop of the change with a main configuration, and how that is read from the device; source is nil
// when there is none.
func (r *run) backedUp(ctx context.Context, hop int) (b store.Backup, source *device.Part, err error) {
	b, err = r.e.Store.BackupOf(ctx, r.c.ID, r.m.DeviceID, hop)
	if errors.Is(err, store.ErrNotFound) && r.c.Kind == change.Restoring {
		b, err = r.e.Store.BackupOf(ctx, r.c.ID, r.m.DeviceID, -1)
	}
	if errors.Is(err, store.ErrNotFound) {
		return b, nil, nil
	}
	if err != nil {
		return b, nil, records(err)
	}
	d, err := r.device(ctx)
	if err != nil || b.File == "" {
		return b, nil, err
	}
	parts := r.e.Profile(d).Parts
	if i := slices.IndexFunc(parts, func(p device.Part) bool { return p.File == b.File && p.Kind == backup.Configuration }); i >= 0 {
		source = &parts[i]
	}
	return b, source, nil
}

// backUpAgain takes another backup of the hop, because the configuration is no longer the one of the last.
func (r *run) backUpAgain(ctx context.Context, s *store.Step, old store.Backup) (store.Backup, error) {
	again := store.Step{Plan: s.Plan}
	again.Plan.Hop = *old.Hop
	if err := takeBackup(r, ctx, &again); err != nil {
		return old, err
	}
	b, err := r.e.Store.BackupOf(ctx, r.c.ID, r.m.DeviceID, *old.Hop)
	if err != nil {
		return old, records(err)
	}
	note := fmt.Sprintf("the configuration was changed after backup %d was taken: %s. %s", old.ID, r.differences(ctx, old, b), again.Note)
	r.log.Warn("the configuration was changed after its backup", "old", old.ID, "new", b.ID)
	return b, records(r.e.Store.NoteStep(ctx, r.lease, r.c.ID, s.Plan.Number, "backup again", note))
}

// compared is the differences between the main configurations of two backups, by the schema of their release where there is one.
func (r *run) compared(ctx context.Context, old, new store.Backup) (*config.Comparison, error) {
	was, err := r.e.Main(old)
	if err != nil {
		return nil, err
	}
	is, err := r.e.Main(new)
	if err != nil {
		return nil, err
	}
	model := r.path.Model
	if model == "" {
		model = new.Model
	}
	schema, err := r.e.reading(ctx, model, new.Version, "", new.File, is)
	if err != nil {
		return nil, err
	}
	d, err := r.device(ctx)
	if err != nil {
		return nil, err
	}
	part := r.e.Profile(d).File(new.File)
	a, bad1 := schema.Parse(old.File, part.Steady(was))
	b, bad2 := schema.Parse(new.File, part.Steady(is))
	if len(bad1)+len(bad2) > 0 {
		return nil, fmt.Errorf("%d lines are not understood", len(bad1)+len(bad2))
	}
	c := config.Compare(a, b, schema)
	return c, nil
}

func (r *run) differences(ctx context.Context, old, new store.Backup) string {
	c, err := r.compared(ctx, old, new)
	if err != nil {
		return "what differs cannot be told: " + err.Error()
	}
	var paths []string
	for _, d := range c.Differences {
		if d.Kind != config.Cosmetic {
			paths = append(paths, d.Path)
		}
	}
	return first(paths, 5)
}

// guardedStill asks when a guarded setting is not what it was when the change took its first backup: what is approved is what was known then.
func (r *run) guardedStill(ctx context.Context, s *store.Step, b store.Backup) error {
	all, err := r.e.Store.BackupsOf(ctx, r.c.ID, r.m.DeviceID)
	if err != nil {
		return records(err)
	}
	i := slices.IndexFunc(all, func(x store.Backup) bool { return x.Hop != nil && b.Hop != nil && *x.Hop == *b.Hop })
	if i < 0 || all[i].ID == b.ID {
		return nil
	}
	name := "guarded " + b.SHA256[:12]
	if r.accepts(name) {
		return nil
	}
	c, err := r.compared(ctx, all[i], b)
	if data := (*dataError)(nil); errors.As(err, &data) {
		return err
	}
	var guarded []string
	switch {
	case err != nil:
		guarded = []string{"whether one differs cannot be told: " + err.Error()}
	default:
		for _, d := range c.Differences {
			if d.Guarded != "" && d.Kind != config.Cosmetic {
				guarded = append(guarded, fmt.Sprintf("%s (%s)", d.Path, d.Guarded))
			}
		}
	}
	if len(guarded) == 0 {
		return nil
	}
	q := change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: []string{r.named(name)}, Answers: []change.Action{change.Accept, change.Retry, change.Leave}, Backup: b.ID,
		Text: fmt.Sprintf("Guarded settings were changed on the device after this change was approved: %s. They are in backup %d, and go along if you accept that; else put them back on the device and answer retry", first(guarded, 5), b.ID)}
	if r.canGoBack(r.seen) {
		q.Answers = append(q.Answers, change.GoBack)
	}
	return &askError{q, s.State}
}

// convertAgain works out again what is put back, when it was worked out from an older backup than the newest.
func (r *run) convertAgain(ctx context.Context, s *store.Step, b store.Backup) error {
	i := slices.IndexFunc(r.c.Steps, func(st store.Step) bool {
		return st.Plan.Kind == change.Convert && st.Plan.Hop == s.Plan.Hop && !st.Plan.Back && st.State == change.StepDone
	})
	if i < 0 || s.Plan.Back {
		return nil
	}
	w, err := r.hopWork()
	if err != nil {
		return final("the record of what is put back cannot be read: %w", err)
	}
	if w.From[s.Plan.Hop] == b.ID || w.From[s.Plan.Hop] == 0 && !r.several(ctx, b) {
		return nil
	}
	again := r.c.Steps[i]
	again.Plan.Number = s.Plan.Number // the question, if there is one, belongs to the step that waits for the answer
	err = convertParts(r, ctx, &again)
	if ask := (*askError)(nil); errors.As(err, &ask) {
		ask.state = s.State
		return ask
	}
	if err != nil {
		return err
	}
	return records(r.e.Store.NoteStep(ctx, r.lease, r.c.ID, s.Plan.Number, "converted again", again.Note))
}

// several reports whether a hop has more than one backup; then work of an earlier version of the service may be of an older one.
func (r *run) several(ctx context.Context, b store.Backup) bool {
	all, err := r.e.Store.BackupsOf(ctx, r.c.ID, r.m.DeviceID)
	n := 0
	for _, x := range all {
		if x.Hop != nil && b.Hop != nil && *x.Hop == *b.Hop {
			n++
		}
	}
	return err != nil || n > 1
}

// What the verdict says of the configuration.
