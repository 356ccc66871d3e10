package planning

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/core/replace"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/store"
)

// What a new device is configured with that takes the place of another one: where that comes from, and what is open about it.

// source finds the configuration of the old device: what somebody worked out, the device itself, or its newest backup.
func (r *replacing) source(ctx context.Context, by access.Actor) error {
	s := r.s
	if r.wish.Conversion != 0 {
		_, w, err := s.OpenWork(ctx, r.wish.Conversion)
		if err != nil {
			return err
		}
		r.work, r.out.From, r.out.Source = w, w.From, fmt.Sprintf("conversion %d, of %s", r.wish.Conversion, w.Name)
		switch {
		case w.Fragment:
			return conflict("conversion %d is of a part of a configuration, and a device needs a whole one", r.wish.Conversion)
		case w.To != r.out.To:
			return conflict("conversion %d is for %s, and %s is to run %s: start one for that, or say another release", r.wish.Conversion, w.To, r.d.Name, r.out.To)
		}
		if err := r.ofOld(ctx); err != nil || r.wish.Dead {
			return err
		}
		now, _, err := r.live(ctx, by)
		if err != nil {
			return err
		}
		r.out.From, r.out.Source = w.From, fmt.Sprintf("conversion %d, of %s", r.wish.Conversion, w.Name)
		return r.asConverted(ctx, now)
	}
	text, name, err := "", "", error(nil)
	if r.wish.Dead {
		text, name, err = r.newestBackup(ctx)
	} else {
		text, name, err = r.live(ctx, by)
	}
	if err != nil || r.out.From == "" {
		return err
	}
	r.work = &Work{Name: name, Source: text, From: r.out.From, To: r.out.To, Answers: map[string]string{}}
	list, err := s.Store.ConversionsOf(ctx, text, r.out.To)
	if err != nil {
		return err
	}
	for _, c := range list { // what somebody began to work out says more than the rules alone
		if w, err := s.WorkOf(c); err == nil && w.Source == text && !w.Fragment {
			r.work, r.out.Conversion = w, c.ID
			break
		}
	}
	return nil
}

// ofOld refuses the conversion of a configuration that is not known to be one of the old device.
func (r *replacing) ofOld(ctx context.Context) error {
	model, _, _ := strings.Cut(r.work.From, "@")
	if r.was != nil && r.was.Model != model {
		return conflict("conversion %d is of a %s, and %s is a %s", r.wish.Conversion, model, r.old.Name, r.was.Model)
	}
	all, err := r.s.Store.Backups(ctx, store.BackupList{Device: r.old.Name, Limit: 20})
	if err != nil {
		return err
	}
	for _, b := range all {
		if text, err := r.s.Engine.Main(b); err == nil && text == r.work.Source {
			r.out.Backup = b.ID
			return nil
		}
	}
	if r.wish.Dead {
		r.out.note("what conversion %d converts is in no backup of %s; whether it is that of the device is for you to know", r.wish.Conversion, r.old.Name)
	}
	return nil
}

// asConverted refuses a conversion of a configuration that the old device does not have now.
func (r *replacing) asConverted(ctx context.Context, now string) error {
	part := r.s.Engine.Profile(r.old).File(strings.TrimSuffix(r.work.Name, " of "+r.old.Name))
	source := part.Steady(r.work.Source)
	if now = part.Steady(now); source == now {
		return nil
	}
	was, err := r.s.Source(ctx, SourceRef{Text: &source, Name: r.work.Name, From: r.work.From})
	if err != nil {
		return err
	}
	is, err := r.s.Source(ctx, SourceRef{Text: &now, Name: r.old.Name, From: r.was.Model + "@" + r.was.Version})
	if err != nil {
		return err
	}
	if was.At.String() != is.At.String() {
		r.out.refuse("conversion %d is of %s, and %s is %s now", r.wish.Conversion, was.At, r.old.Name, is.At)
		return nil
	}
	var other []string
	for _, x := range config.Compare(was.Document, is.Document, is.Schema).Differences {
		if x.Kind != config.Cosmetic {
			other = append(other, x.Path)
		}
	}
	if n := len(other); n > 0 {
		r.out.refuse("%s otherwise on %s now than in what conversion %d converts: %s; convert it as it is now", plural(n, "statement is", "statements are"), r.old.Name, r.wish.Conversion,
			strings.Join(other[:min(n, 5)], ", "))
	}
	return nil
}

// live reads it from the old device.
func (r *replacing) live(ctx context.Context, by access.Actor) (text, name string, err error) {
	s := r.s
	profile := s.Engine.Profile(r.old)
	if profile == nil {
		return "", "", conflict("dialect %q of %s is not known here", r.old.Dialect, r.old.Name)
	}
	i := slices.IndexFunc(profile.Parts, func(p device.Part) bool { return p.Kind == backup.Configuration })
	if i < 0 {
		return "", "", conflict("dialect %q of %s reads no configuration", r.old.Dialect, r.old.Name)
	}
	p, now, unread, err := s.Engine.PartsNow(ctx, r.old, []string{profile.Parts[i].Name}, by)
	if err != nil {
		return "", "", conflict("%s cannot be read now: %s. If it does not answer any more, say so (dead): then its newest backup is converted", r.old.Name, err)
	}
	data, read := now[profile.Parts[i].Name]
	if !read {
		return "", "", conflict("the configuration of %s cannot be read: %s", r.old.Name, unread[profile.Parts[i].Name])
	}
	r.was, r.out.From, r.out.Source = p, p.Model+"@"+p.Version, "read from "+r.old.Name+" just now"
	text, name = string(data), fmt.Sprintf("%s of %s", profile.Parts[i].File, r.old.Name)
	all, err := r.s.Store.Backups(ctx, store.BackupList{Device: r.old.Name, Limit: 1})
	if err != nil || len(all) == 0 {
		return text, name, err
	}
	// Lines that differ at every look say nothing: what was worked out of the newest backup is of the same configuration then.
	if was, err := r.s.Engine.Main(all[0]); err == nil && profile.Parts[i].Steady(was) == profile.Parts[i].Steady(text) {
		r.out.Backup = all[0].ID
		return was, name, nil
	}
	return text, name, nil
}

// newestBackup takes it from there.
func (r *replacing) newestBackup(ctx context.Context) (text, name string, err error) {
	all, err := r.s.Store.Backups(ctx, store.BackupList{Device: r.old.Name, Limit: 20})
	if err != nil {
		return "", "", err
	}
	i := slices.IndexFunc(all, func(b store.Backup) bool { return b.Complete && b.File != "" })
	if i < 0 {
		r.out.refuse("there is no complete backup of %s, and it does not answer; convert a file that holds its configuration (verimorph conversion start FILE -from MODEL@VERSION -to %s), and say that conversion", r.old.Name, r.out.To)
		return "", "", nil
	}
	b := all[i]
	if r.was != nil && b.Model != "" && b.Model != r.was.Model {
		r.out.refuse("backup %d, the newest complete one of %s, is of a %s, and the device is a %s; take or import one of the device itself", b.ID, r.old.Name, b.Model, r.was.Model)
		return "", "", nil
	}
	if text, err = r.s.Engine.Main(b); err != nil {
		return "", "", damaged("backup %d: %s", b.ID, err)
	}
	r.out.Backup, r.out.From, r.out.Source = b.ID, b.Model+"@"+b.Version, fmt.Sprintf("backup %d, of %s", b.ID, b.TakenAt.UTC().Format("2006-01-02 15:04 MST"))
	return text, fmt.Sprintf("%s of %s", b.File, b.Device), nil
}

// convert works the conversion out, and says what is open in it.
func (r *replacing) convert(ctx context.Context) error {
	s := r.s
	res, err := s.Convert(ctx, r.work)
	if IsKind(err, NoRules) {
		r.out.refuse("%s%s", err, r.convertsBest(ctx))
		return nil
	}
	if err != nil {
		return err
	}
	r.result = res
	l := res.Ledger
	r.out.Support = replace.SupportOf(l)
	rows := slices.Clone(l.Source)
	for _, a := range l.Assumed {
		rows = append(rows, a.SourceItem)
	}
	for _, row := range rows {
		if row.State != convert.NeedsPerson {
			continue
		}
		r.out.Decisions++
		if row.Ask == convert.AskSecret {
			r.out.Secrets = append(r.out.Secrets, row.Path)
		}
	}
	if n := len(r.out.Secrets); n > 0 {
		r.out.refuse("%s: %s. Give %s the same key and answer own-key=same, or type each in again (verimorph conversion secrets %s)", plural(n, "secret is", "secrets are")+" written under a key that "+r.old.Name+" keeps for itself",
			strings.Join(r.out.Secrets, ", "), r.d.Name, cmp.Or(numberOrNone(r.out.Conversion), "CONVERSION"))
	}
	if r.out.Cables, err = replace.CablesOf(l.Ports); err != nil {
		r.out.refuse("ports: %s", err)
	}
	if !l.Complete() {
		how := fmt.Sprintf("work it out in conversion %d", r.out.Conversion)
		if r.out.Conversion == 0 {
			how = fmt.Sprintf("start a conversion to %s, of a backup of %s that is of now, and decide there", r.out.To, r.old.Name)
		}
		r.out.refuse("%s open in the conversion from %s to %s; %s", plural(max(r.out.Decisions, 1), "decision is", "decisions are"), r.work.From, r.out.To, how)
	}
	return nil
}

func numberOrNone(n int64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// convertsBest names the nearest release of the old device from which conversions lead to the new one.
func (r *replacing) convertsBest(ctx context.Context) string {
	now, err := r.s.Catalogues.Now(ctx)
	if err != nil {
		return ""
	}
	lib := now.Library()
	to, err := lib.ParseStop(r.out.To)
	model, at, _ := strings.Cut(r.work.From, "@")
	f := now.Catalogue.FamilyOfModel(model)
	v, bad := version.Parse(at)
	if err != nil || f == nil || bad != nil {
		return ""
	}
	for i := range f.Releases {
		rel := &f.Releases[i]
		from, err := lib.ParseStop(model + "@" + rel.Version.String())
		if err != nil || !v.Less(rel.Version) || rel.Image(model) == nil {
			continue
		}
		if _, err := lib.Plan(from, to, false); err != nil {
			continue
		}
		if _, err := r.s.Path(ctx, r.old, change.Aim{To: rel.Version.String()}); err == nil {
			return fmt.Sprintf(". From %s on it converts: bring %s there first (verimorph change draft %s -to %s)", rel.Version, r.old.Name, r.old.Name, rel.Version)
		}
	}
	return ""
}

// defaults are what the new device says by itself and the result does not. Where they are to be kept, they are added to it by hand edits, which its ledger tells.
func (r *replacing) defaults(ctx context.Context, by access.Actor) error {
	_, now, unread, err := r.s.Engine.PartsNow(ctx, r.d, []string{r.part.Name}, by)
	if err != nil {
		return conflict("%s cannot be read now: %s", r.d.Name, err)
	}
	data, read := now[r.part.Name]
	if !read {
		r.out.note("what %s says by itself cannot be read: %s", r.d.Name, unread[r.part.Name])
		return nil
	}
	schema := r.result.T
	itself, broken := schema.Parse(r.part.File, r.part.Steady(string(data)))
	if len(broken) > 0 {
		r.out.note("%d lines that %s says by itself are not understood, so its defaults are not told", len(broken), r.d.Name)
		return nil
	}
	both, _ := convert.PutInto(schema, r.result.Document, itself)
	for _, x := range config.Compare(r.result.Document, both, schema).Differences {
		if x.Kind == config.Added || x.Kind == config.DefaultExplicit {
			r.out.Defaults = append(r.out.Defaults, Default{x.Path, x.New})
		}
	}
	if r.wish.Defaults != change.KeepDefaults || len(r.out.Defaults) == 0 {
		return nil
	}
	edits := convert.Edits(r.result.Document, both, schema)
	kept := *r.work
	kept.Edits = slices.Clone(kept.Edits)
	for _, e := range edits {
		kept.LastEdit++
		e.ID, e.By = kept.LastEdit, "default of "+r.d.Name+", kept"
		kept.Edits = append(kept.Edits, e)
	}
	res, err := r.s.Convert(ctx, &kept)
	if err == nil {
		r.work, r.result = &kept, res
	}
	return err
}

// oldReadings are those that were recorded last of a device that does not answer.
func (r *replacing) oldReadings(ctx context.Context) error {
	if !r.wish.Dead {
		return nil
	}
	sets, err := r.s.Store.ReadingSets(ctx, r.old.ID, 0, 1)
	if err != nil {
		return err
	}
	if len(sets) == 0 {
		r.out.note("no readings of %s were ever recorded, so %s is held against what its configuration promises alone", r.old.Name, r.d.Name)
		return nil
	}
	r.out.note("%s is held against the readings of %s that were recorded at %s", r.d.Name, r.old.Name, sets[0].At.UTC().Format("2006-01-02 15:04 MST"))
	return json.Unmarshal(sets[0].Readings, &r.before)
}
