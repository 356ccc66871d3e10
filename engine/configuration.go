package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/verify"
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
	now, _, err := c.FetchPart(ctx, source)
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
	same, err := r.e.same(ctx, b.Model, b.Version, RestorePart{File: source.File, Syntax: source.Syntax}, was, now)
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
		return s.Plan.InPlace
	case change.ChooseSlot, change.PutPart:
		return true
	case change.Restart:
		return r.bySlot(s)
	}
	return false
}

// backedUp is the newest backup of a hop of the change with a main configuration, and how that is read from the device; source is nil
// when there is none.
func (r *run) backedUp(ctx context.Context, hop int) (b store.Backup, source *device.PartSource, err error) {
	b, err = r.e.Store.BackupOf(ctx, r.c.ID, hop)
	if errors.Is(err, store.ErrNotFound) && r.c.Kind == store.Restore {
		b, err = r.e.Store.BackupOf(ctx, r.c.ID, -1)
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
	parts := r.e.Dialects[d.Dialect].Backup
	if i := slices.IndexFunc(parts, func(p device.PartSource) bool { return p.File == b.File && p.Kind == backup.Configuration }); i >= 0 {
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
	b, err := r.e.Store.BackupOf(ctx, r.c.ID, *old.Hop)
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
	a, bad1 := schema.Parse(old.File, was)
	b, bad2 := schema.Parse(new.File, is)
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
	all, err := r.e.Store.BackupsOf(ctx, r.c.ID)
	if err != nil {
		return records(err)
	}
	i := slices.IndexFunc(all, func(x store.Backup) bool { return x.Hop != nil && b.Hop != nil && *x.Hop == *b.Hop })
	if i < 0 || all[i].ID == b.ID {
		return nil
	}
	name := "guarded " + b.SHA256[:12]
	if r.c.Accepts(name) {
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
	q := change.Question{Kind: change.AskWarn, Step: s.Plan.Number, Checks: []string{name}, Answers: []change.Action{change.Accept, change.Retry, change.Leave}, Backup: b.ID,
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
	all, err := r.e.Store.BackupsOf(ctx, r.c.ID)
	n := 0
	for _, x := range all {
		if x.Hop != nil && b.Hop != nil && *x.Hop == *b.Hop {
			n++
		}
	}
	return err != nil || n > 1
}

// What the verdict says of the configuration.

// A stretch is a part of a change over which a configuration should only have changed as the conversions account for: from one backup to
// another, or to what runs now. A hand that changes the configuration in between ends one stretch and begins the next.
type stretch struct {
	from store.Backup
	to   store.Backup // its ID is 0: what runs now
}

// stretches are those of a change from a hop on, from its backups in the order in which they were taken. A stretch also ends where the hop
// cut begins, when that is not below 0: what its end should be is known from what was put back there.
func stretches(all []store.Backup, first, cut int) (out []stretch) {
	var cur, before *store.Backup // what the stretch begins with; the backup before this one
	for i := range all {
		b := &all[i]
		if b.Hop == nil || *b.Hop < first || b.File == "" || !b.Complete {
			continue
		}
		switch {
		case cur == nil, *b.Hop == first: // until the first hop was carried out the newest counts
			cur = b
		case *before.Hop == *b.Hop: // backed up again: somebody changed it after the first backup of this hop
			if cur != before {
				out = append(out, stretch{*cur, *before})
			}
			cur = b
		case *b.Hop == cut:
			out = append(out, stretch{*cur, *b})
			cur = b
		}
		before = b
	}
	if cur != nil {
		out = append(out, stretch{from: *cur})
	}
	return out
}

// judgeConfiguration holds the configuration that runs now against what should have become of the one that ran before: what
// the conversions account for may differ, guarded settings may not. What cannot be compared is not proven.
func (r *run) judgeConfiguration(ctx context.Context, s *store.Step) ([]verify.Result, error) {
	work, err := r.hopWork()
	if err != nil {
		return nil, final("the record of what was put back cannot be read: %w", err)
	}
	last := len(r.path.Hops) - 1
	if r.c.Kind != store.Firmware && r.c.Kind != store.GoBack {
		return nil, nil
	}
	all, err := r.e.Store.BackupsOf(ctx, r.c.ID)
	if err != nil {
		return nil, records(err) // a verdict without the configuration is not made because the records are away
	}
	hop, cut := 0, -1
	if s.Plan.Back {
		hop = s.Plan.Hop
	} else if len(work.Hops[last]) > 0 {
		cut = last
	}
	parts := stretches(all, hop, cut)
	if s.Plan.Back && len(parts) > 1 {
		parts = parts[len(parts)-1:] // what came before is not undone by going back
	}
	if s.Plan.Back {
		if before := beforeBack(all, hop); before != nil && len(parts) > 0 {
			parts = append([]stretch{{parts[0].from, *before}}, parts...)
		}
	}
	if len(parts) == 0 {
		return []verify.Result{uncompared("this change has no complete backup with a configuration")}, nil
	}
	j := configurationJudgement{r: r, step: s, work: work, back: r.c.Kind == store.GoBack && !s.Plan.Back && len(work.Hops[last]) == 0}
	for _, part := range parts {
		if err := j.stretch(ctx, part); err != nil {
			return nil, err
		}
	}
	return j.results(), nil
}

func uncompared(why string) verify.Result {
	return verify.Result{Reading: readConfig, Title: "Configuration", State: verify.NotProven, Severity: verify.Degrades, Evidence: "not compared: " + why}
}

// A configurationJudgement gathers what differs over the stretches of a change.
type configurationJudgement struct {
	r              *run
	step           *store.Step
	work           hopWork
	guarded, other []string
	held           int // guarded settings that were compared last
	notes, unknown []string
	back           bool     // the previous installation is started with what was saved under it: what differs was configured since
	since          []string // what was configured after the backup of a hop whose way back was taken; it is undone
	gone           []string // what was there before the hop and no longer after it; it is back
	undone         bool     // since was compared
	asWanted       compared // what was compared, for what it should be
	sinceBackup    compared // and for what was configured since
}

// compared names what was compared with what.
type compared struct{ was, is []string }

func (c *compared) add(st stretch, to string) {
	c.was = append(c.was, fmt.Sprintf("backup %d, of %s", st.from.ID, st.from.Version))
	if st.to.ID != 0 {
		c.is = append(c.is, fmt.Sprintf("backup %d, of %s", st.to.ID, to))
	} else {
		c.is = append(c.is, fmt.Sprintf("what runs now, of %s", to))
	}
}

func told(parts []string) *verify.Value {
	return &verify.Value{Type: verify.Text, Text: strings.Join(parts, "; ")}
}

// stretch compares one stretch.
func (j *configurationJudgement) stretch(ctx context.Context, st stretch) error {
	r := j.r
	cannot := func(format string, args ...any) error {
		j.unknown = append(j.unknown, fmt.Sprintf(format, args...))
		return nil
	}
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	from, to := st.from.Version, r.goal(j.step)
	if st.to.ID != 0 {
		to = st.to.Version
	}
	for _, v := range []string{from, to} {
		if schema, err := r.e.schema(ctx, r.path.Model, v); err != nil {
			return err
		} else if schema == nil {
			return cannot("no schema for %s %s", r.path.Model, v)
		}
	}
	schema, err := r.e.schema(ctx, r.path.Model, to)
	if err != nil {
		return err
	}
	want, note, err := j.wanted(ctx, d, st, from, to)
	switch record, data := (*recordError)(nil), (*dataError)(nil); {
	case errors.As(err, &record) || errors.As(err, &data) || errors.As(err, new(*finalError)):
		return err
	case err != nil: // nobody can say what it should be: that is a doubt, not a fault
		return cannot("%s", err)
	}
	have, err := j.has(ctx, d, st)
	if err != nil {
		return err
	}
	since := j.back || j.step.Plan.Back && st.to.ID != 0 // what differs was configured since, and is undone
	var gone []string
	guarded, other, held, err := differ(st.from.File, want, have, schema, func(x config.Difference) bool {
		if x.Kind != config.Removed || !since || j.back {
			return true
		}
		gone = append(gone, x.Path) // the new installation lost it, as a rule: that it comes back undoes nothing
		return false
	})
	if err != nil {
		return cannot("%s", err)
	}
	if since {
		j.sinceBackup.add(st, to)
		j.since, j.gone, j.undone = append(append(j.since, guarded...), other...), append(j.gone, gone...), true
		return nil
	}
	j.asWanted.add(st, to)
	j.guarded, j.other, j.held = append(j.guarded, guarded...), append(j.other, other...), held
	j.notes = append(j.notes, note)
	return nil
}

// wanted is the text that a stretch should end with.
func (j *configurationJudgement) wanted(ctx context.Context, d store.Device, st stretch, from, to string) (text, note string, err error) {
	r := j.r
	last := len(r.path.Hops) - 1
	if st.to.ID == 0 && !j.step.Plan.Back {
		for _, p := range j.work.Hops[last] { // what should be there is what was put back
			if p.File != st.from.File || p.Sealed == nil {
				continue
			}
			data, err := r.e.Vault.Open(RestoreLabel(d.Name, p.Name), p.Sealed)
			if err != nil {
				return "", "", final("what was put back cannot be read: %w", err)
			}
			return string(data), p.Note, nil
		}
	}
	if text, err = r.e.Main(st.from); err != nil {
		return "", "", final("%w", err)
	}
	if from == to {
		return text, fmt.Sprintf("as it was in backup %d", st.from.ID), nil
	}
	return r.e.convert(ctx, st.from, st.from.File, text, r.path.Model, from, to)
}

// has is the text that a stretch ends with.
func (j *configurationJudgement) has(ctx context.Context, d store.Device, st stretch) (string, error) {
	if st.to.ID != 0 {
		text, err := j.r.e.Main(st.to)
		if err != nil {
			return "", final("%w", err)
		}
		return text, nil
	}
	c, err := j.r.connect(ctx)
	if err != nil {
		return "", err
	}
	parts := j.r.e.Dialects[d.Dialect].Backup
	i := slices.IndexFunc(parts, func(p device.PartSource) bool { return p.File == st.from.File && p.Kind == backup.Configuration })
	if i < 0 {
		return "", final("the dialect has no part %s any more, which the backup holds", st.from.File)
	}
	now, _, err := c.FetchPart(ctx, &parts[i])
	return string(now), err
}

func (j *configurationJudgement) results() (out []verify.Result) {
	if len(j.unknown) > 0 {
		out = append(out, uncompared(strings.Join(j.unknown, "; ")))
	}
	add := func(c compared, reading, title, severity string, met bool, format string, args ...any) {
		state := verify.Met
		if !met {
			state = verify.Unmet
		}
		out = append(out, verify.Result{Reading: reading, Title: title, State: state, Severity: severity, Before: told(c.was), After: told(c.is), Evidence: fmt.Sprintf(format, args...)})
	}
	back := ""
	if len(j.gone) > 0 {
		back = fmt.Sprintf("; %d statements that were no longer there are back: %s", len(j.gone), first(j.gone, 5))
	}
	switch {
	case len(j.since) > 0:
		add(j.sinceBackup, readSince, "Configured since", verify.Degrades, false, "going back undid %d statements: %s; they are in the backup that was taken before%s", len(j.since), first(j.since, 5), back)
	case j.undone:
		add(j.sinceBackup, readSince, "Configured since", verify.Degrades, true, "nothing was configured since that going back undid%s", back)
	}
	if len(j.notes) == 0 {
		return out
	}
	note := strings.Join(slices.Compact(j.notes), "; ")
	switch {
	case len(j.guarded) > 0:
		add(j.asWanted, readGuarded, "Guarded settings", verify.Fails, false, "%d differ: %s", len(j.guarded), first(j.guarded, 5))
	case j.held > 0:
		add(j.asWanted, readGuarded, "Guarded settings", verify.Fails, true, "all %d are as they should be, read from the device", j.held)
	}
	if len(j.other) > 0 {
		add(j.asWanted, readConfig, "Configuration", verify.Degrades, false, "%d statements differ from what it should be (%s): %s", len(j.other), note, first(j.other, 5))
	} else {
		add(j.asWanted, readConfig, "Configuration", verify.Degrades, true, "%s", note)
	}
	return out
}

// differ compares two texts by a schema, and names what differs and counts: guarded settings, and others.
func differ(file, want, have string, schema *config.Schema, counts func(config.Difference) bool) (guarded, other []string, held int, err error) {
	a, bad1 := schema.Parse(file, want)
	b, bad2 := schema.Parse(file, have)
	if n := len(bad1) + len(bad2); n > 0 {
		return nil, nil, 0, fmt.Errorf("%d lines of it are not understood", n)
	}
	for _, x := range config.Compare(a, b, schema).Differences {
		switch {
		case x.Kind == config.Cosmetic || !counts(x):
		case x.Guarded != "":
			guarded = append(guarded, x.Path+" ("+x.Guarded+")")
		default:
			other = append(other, x.Path)
		}
	}
	for _, it := range schema.Items(a) {
		if it.Guarded != "" {
			held++
		}
	}
	return guarded, other, held, nil
}
