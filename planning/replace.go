package planning

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/replace"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/store"
)

// A device of another model takes the place of one.

// A Replacement is what it would take. Nothing is written to any device to find that out.
type Replacement struct {
	Old, New   string
	From, To   string // MODEL@VERSION: of the configuration that is converted, and of what the new device is to run
	Source     string // where the configuration was read
	Backup     int64  // that it was read from; 0: from the device itself
	Conversion int64  // that was worked out; 0: the rules alone
	Decisions  int    // that are open
	Support    []replace.Support
	Cables     []replace.Cable
	Labels     map[string]string // of cables, by the port of the old device
	Secrets    []string          // paths of secrets that are written under a key of the old device, and are open
	Defaults   []Default
	Refusals   []string // why it cannot be drafted as it stands; none when it can
	Notes      []string
}

// A Default is a statement that the new device makes by itself, and the converted configuration does not.
type Default struct{ Path, Text string }

func (r *Replacement) refuse(format string, args ...any) {
	r.Refusals = append(r.Refusals, fmt.Sprintf(format, args...))
}
func (r *Replacement) note(format string, args ...any) {
	r.Notes = append(r.Notes, fmt.Sprintf(format, args...))
}

// A replacing is such a draft in the making.
type replacing struct {
	*bringUp // of the new device
	out      *Replacement
	wish     *change.ReplaceWish
	old      store.Device
	was      *portrait.Portrait // of the old device, as far as it is known
	way      *path.Path         // of the new device
	work     *Work              // of the conversion
	result   *convert.Result
	before   verify.Readings // of an old device that does not answer
}

// PreviewReplacement says what it takes to put a device in the place of another one. Both are looked at, but for an old one that does not answer.
func (s *Planner) PreviewReplacement(ctx context.Context, by access.Actor, w change.Wish) (*Replacement, error) {
	r, err := s.replacement(ctx, by, &w)
	if err != nil {
		return nil, err
	}
	return r.out, nil
}

func (s *Planner) replacement(ctx context.Context, by access.Actor, w *change.Wish) (*replacing, error) {
	r, err := s.replacingOf(ctx, by, w)
	if err != nil {
		return nil, err
	}
	if err := r.source(ctx, by); err != nil {
		return nil, err
	}
	if r.work == nil {
		return r, nil // why is among the refusals
	}
	if err := r.convert(ctx); err != nil {
		return nil, err
	}
	if err := r.labels(ctx); err != nil {
		return nil, err
	}
	if r.result != nil {
		if err := r.defaults(ctx, by); err != nil {
			return nil, err
		}
	}
	return r, r.oldReadings(ctx)
}

// replacingOf finds the two devices and the way of the new one.
func (s *Planner) replacingOf(ctx context.Context, by access.Actor, w *change.Wish) (*replacing, error) {
	rw := w.Replace
	switch {
	case rw == nil || rw.Old == "":
		return nil, invalid("say which device is replaced (old)")
	case rw.Old == w.Device:
		return nil, invalid("%s cannot take its own place", w.Device)
	case rw.Defaults != "" && rw.Defaults != change.DropDefaults && rw.Defaults != change.KeepDefaults:
		return nil, invalid("defaults %q: what the new device says by itself is dropped (%s) or kept (%s)", rw.Defaults, change.DropDefaults, change.KeepDefaults)
	case w.ComesBackAt != "" && !GoodAddress(w.ComesBackAt):
		return nil, invalid("comesBackAt %q should look like 192.0.2.7:22", w.ComesBackAt)
	}
	d, err := s.Device(ctx, w.Device)
	if err != nil {
		return nil, err
	}
	old, err := s.Device(ctx, rw.Old)
	if err != nil {
		return nil, err
	}
	for _, x := range []store.Device{d, old} {
		switch {
		case x.Ensemble != nil:
			return nil, conflict("%s is a member of %s; take it out of that first, so that the others do not wait for it", x.Name, *x.Ensemble)
		case engine.Follows(&x) != "":
			return nil, &engine.FollowsError{Device: x.Name, Controller: engine.Follows(&x)}
		}
	}
	r := &replacing{wish: rw, old: old, was: PortraitOf(old), out: &Replacement{Old: old.Name, New: d.Name, Conversion: rw.Conversion}}
	r.bringUp = &bringUp{s: s, w: w, in: &BringUp{}, d: d, profile: s.Engine.Profile(d)}
	if r.profile == nil {
		return nil, conflict("dialect %q is not known here", d.Dialect)
	}
	i := slices.IndexFunc(r.profile.Abilities.Parts, func(p change.Restored) bool { return p.Configuration })
	if i < 0 {
		return nil, conflict("no configuration can be put onto %s: dialect %q restores none", d.Name, d.Dialect)
	}
	r.part = r.profile.Part(r.profile.Abilities.Parts[i].Name)
	if r.p, err = s.Engine.Refresh(ctx, d, by); err != nil {
		return nil, conflict("%s cannot be looked at now, and what it lacks depends on what it is: %s", d.Name, err)
	}
	if w.BringUp == nil {
		w.BringUp = &change.BringUpWish{Serial: rw.Serial, KeepPassword: rw.KeepPassword}
	}
	if err := r.rightUnit(ctx); err != nil {
		return nil, err
	}
	r.way, r.family, err = r.bringUp.way(ctx)
	if err == nil {
		r.out.To = r.p.Model + "@" + r.way.To.String()
	}
	return r, err
}

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
	was, err := r.s.Source(ctx, SourceRef{Text: &r.work.Source, Name: r.work.Name, From: r.work.From})
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
	return string(data), fmt.Sprintf("%s of %s", profile.Parts[i].File, r.old.Name), nil
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

// labels are those of the cables of the old device, by its newest backup: a plan has lines of a port, a tab and where its cable goes.
func (r *replacing) labels(ctx context.Context) error {
	r.out.Labels = map[string]string{}
	all, err := r.s.Store.Backups(ctx, store.BackupList{Device: r.old.Name, Limit: 1})
	if err != nil || len(all) == 0 {
		return err
	}
	m, err := r.s.Engine.Backups.Manifest(all[0].Manifest)
	if err != nil {
		return nil // a plan only helps
	}
	for _, p := range m.Parts {
		if p.Kind != backup.Plan {
			continue
		}
		data, err := r.s.Backups.Read(p.SHA256)
		if err != nil {
			return nil
		}
		for line := range strings.Lines(string(bytes.TrimSpace(data))) {
			if port, where, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok {
				r.out.Labels[port] = where
			}
		}
	}
	return nil
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

// DraftReplacement drafts putting a device in the place of another one.
func (s *Planner) DraftReplacement(ctx context.Context, by access.Actor, w change.Wish, password string, keys map[string]string, t store.Terms) (int64, error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	t, err := s.Terms(ctx, t)
	if err != nil {
		return 0, err
	}
	if err := checkLicences(w.Licences, keys); err != nil {
		return 0, err
	}
	r, err := s.replacement(ctx, by, &w)
	if err != nil {
		return 0, err
	}
	if len(r.out.Refusals) > 0 {
		return 0, conflict("%s", strings.Join(r.out.Refusals, "; "))
	}
	r.in.Password = password
	r.text = r.result.Text
	c, err := r.draft(ctx, by, keys)
	if err != nil {
		return 0, err
	}
	w.BringUp, w.Format = nil, change.WishFormat
	c.Wish = &w
	c.WindowFrom, c.WindowTo, c.RestartFrom, c.BackPolicy = t.WindowFrom, t.WindowTo, t.RestartFrom, t.BackPolicy
	var id int64
	if err := s.Store.Together(ctx, func(tx *store.Store) error {
		if id, err = tx.AddChange(ctx, by, c); err != nil {
			return err
		}
		var conversion *int64
		if r.out.Conversion != 0 {
			conversion = &r.out.Conversion
		}
		return tx.AddReplacement(ctx, id, r.old.ID, r.d.ID, conversion)
	}); err != nil {
		return 0, err
	}
	return id, s.Look(ctx, by, id)
}

// draft makes the record of the change.
func (r *replacing) draft(ctx context.Context, by access.Actor, keys map[string]string) (none store.Change, err error) {
	up, secrets, err := r.job(ctx, by, r.way, keys)
	if err != nil {
		return none, err
	}
	j := &change.ReplaceJob{New: up.Job, NewName: r.d.Name, OldName: r.old.Name, Password: up.Password, Cables: r.out.Cables, Labels: r.out.Labels, Dead: r.wish.Dead}
	at := r.w.ComesBackAt
	if !r.wish.OwnAddress {
		j.Address, at = r.old.Address, cmp.Or(at, r.old.Address)
	}
	if j.Old, err = r.oldJob(ctx); err != nil {
		return none, err
	}
	plan, err := change.DraftReplace(j)
	if err != nil {
		return none, conflict("%s", err)
	}
	if err := r.s.Engine.Learn(ctx, r.p.Model, plan.Steps); err != nil {
		return none, err
	}
	work, err := engine.BringUpWork(r.s.Vault, r.d.Name, secrets)
	if err != nil {
		return none, err
	}
	c := store.Change{Kind: change.Replacing, From: r.p.Version, To: r.way.To.String()}
	if c.Work, err = engine.WithReplacement(r.s.Vault, r.old.Name, work, engine.ReplaceWork{Cables: r.out.Cables, Labels: r.out.Labels, Address: j.Address, At: r.work.From, File: r.part.File, To: r.out.To, Before: r.before}, r.work.Source); err != nil {
		return none, err
	}
	ways := [2][]byte{}
	for i, p := range []*path.Path{r.way, j.Old.Path} {
		if ways[i], err = json.Marshal(p); err != nil {
			return none, err
		}
	}
	c.Path = ways[0]
	was := store.Planned{}
	if r.was != nil {
		was = store.Planned{Model: r.was.Model, Serial: r.was.Serial}
	}
	c.Members = []store.Member{
		{DeviceID: r.d.ID, Role: engine.RoleNew, Planned: store.Planned{Model: r.p.Model, Serial: r.p.Serial, ComesBackAt: at}, Path: ways[0], Back: plan.Back[0]},
		{DeviceID: r.old.ID, Role: engine.RoleOld, Planned: was, Path: ways[1], Back: plan.Back[1]}}
	return withSteps(c, &change.Plan{Steps: plan.Steps}), nil
}

// oldJob is the old device, which stays on its release.
func (r *replacing) oldJob(ctx context.Context) (change.Job, error) {
	profile := r.s.Engine.Profile(r.old)
	if profile == nil {
		return change.Job{}, conflict("dialect %q of %s is not known here", r.old.Dialect, r.old.Name)
	}
	model, at, _ := strings.Cut(r.work.From, "@")
	v, err := version.Parse(at)
	if err != nil {
		return change.Job{}, conflict("the version %q of %s cannot be read", at, r.old.Name)
	}
	way := &path.Path{Model: model, From: v, To: v, Hops: []path.Hop{stays(v, "the old device stays as it is")}}
	cat, _, err := r.s.Catalogue(ctx)
	if err != nil {
		return change.Job{}, err
	}
	f := familyOrNone(cat, model)
	way.Family = f.Name
	return change.Job{Family: f, Path: way, Can: profile.Abilities, Pace: r.s.Pace}, nil
}

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
	job, err := s.Engine.ReplaceJobOf(ctx, &c)
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
