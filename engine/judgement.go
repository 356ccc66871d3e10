package engine

import (
	"cmp"
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
	if bringsUp(r.c) {
		return r.judgePut(ctx, work.Hops[last], last)
	}
	if r.c.Kind == change.Swapping {
		return r.judgeSwapped(ctx, s)
	}
	if change.MovesServices(r.c.Kind) && !s.Plan.Back {
		return r.judgePut(ctx, work.Hops[last], last)
	}
	if r.c.Kind != change.Firmware && r.c.Kind != change.Return && !change.MovesServices(r.c.Kind) {
		return nil, nil
	}
	all, err := r.e.Store.BackupsOf(ctx, r.c.ID, r.m.DeviceID)
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
	d, err := r.device(ctx)
	if err != nil {
		return nil, err
	}
	own := !r.e.Profile(d).Abilities.FromFiles // each installation has a configuration of its own
	j := configurationJudgement{r: r, step: s, work: work, back: own && r.c.Kind == change.Return && !s.Plan.Back && len(work.Hops[last]) == 0}
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
	x := j.crossing(st, from, to)
	for _, at := range []string{x.from, x.to} {
		model, v, _ := strings.Cut(at, "@")
		if schema, err := r.e.schema(ctx, model, v); err != nil {
			return err
		} else if schema == nil {
			if same, err := j.same(ctx, d, st); err != nil || same {
				j.asWanted.add(st, to)
				j.notes = append(j.notes, fmt.Sprintf("the same line for line as in backup %d; what its lines mean is not known, since there is no schema for %s %s", st.from.ID, model, v))
				return err
			}
			return cannot("no schema for %s %s", model, v)
		}
	}
	model, _, _ := strings.Cut(x.to, "@")
	schema, err := r.e.schema(ctx, model, to)
	if err != nil {
		return err
	}
	want, note, err := j.wanted(ctx, d, st, x)
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
	steady := r.e.Profile(d).File(st.from.File)
	guarded, other, held, err := differ(st.from.File, steady.Steady(want), steady.Steady(have), schema, func(x config.Difference) bool {
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

// same reports whether a stretch ends with the text that it began with, but for the lines that differ at every look.
func (j *configurationJudgement) same(ctx context.Context, d store.Device, st stretch) (bool, error) {
	before, err := j.r.e.Main(st.from)
	if err != nil {
		return false, final("%w", err)
	}
	after, err := j.has(ctx, d, st)
	if err != nil {
		return false, err
	}
	p := j.r.e.Profile(d).File(st.from.File)
	return p.Steady(before) == p.Steady(after), nil
}

// wanted is the text that a stretch should end with.
func (j *configurationJudgement) wanted(ctx context.Context, d store.Device, st stretch, x crossing) (text, note string, err error) {
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
	if x.from == x.to {
		return text, fmt.Sprintf("as it was in backup %d", st.from.ID), nil
	}
	return r.e.convert(ctx, st.from, st.from.File, text, x)
}

// crossing is what the configuration of a stretch is converted from and to. Backups say of which model they are.
func (j *configurationJudgement) crossing(st stretch, from, to string) crossing {
	way := &j.r.path
	begins, ends := way.ModelAt(0), j.r.modelAfter(j.step)
	if st.from.Model != "" {
		begins = st.from.Model
	}
	if st.to.ID != 0 {
		ends = cmp.Or(st.to.Model, begins)
	}
	return crossing{from: stop(begins, from), to: stop(ends, to), ports: way.Renamed(begins, ends)}
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
	parts := j.r.e.Profile(d).Parts
	i := slices.IndexFunc(parts, func(p device.Part) bool { return p.File == st.from.File && p.Kind == backup.Configuration })
	if i < 0 {
		return "", final("the dialect has no part %s any more, which the backup holds", st.from.File)
	}
	now, _, err := c.FetchPart(ctx, parts[i].Name)
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
