package planning

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"verimorph/access"
	"verimorph/bootstrap"
	"verimorph/core/backup"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/template"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/store"
)

// Bringing blank devices up.

// A BringUp is what comes with the wish to bring a device up, and is not kept as it is: secrets.
type BringUp struct {
	Sources  []template.Source // of the values, the strongest first
	Password string            // that the device gets; "" draws one
	Text     *string           // its configuration, where that comes from a file; nil: it does not
}

// DraftBringUp drafts bringing a device up that is in the records with its first address and its first password.
func (s *Planner) DraftBringUp(ctx context.Context, by access.Actor, w change.Wish, in BringUp, keys map[string]string, t store.Terms) (int64, error) {
	return s.draftBringUp(ctx, by, w, in, keys, t, nil)
}

// draftBringUp is DraftBringUp; also is recorded together with the change, where it is not nil.
func (s *Planner) draftBringUp(ctx context.Context, by access.Actor, w change.Wish, in BringUp, keys map[string]string, t store.Terms, also func(*store.Store, int64, *store.Change) error) (int64, error) {
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
	if w.BringUp == nil || w.BringUp.Sources() > 1 {
		return 0, invalid("one of a template, a backup and a file says what it is configured with, not several")
	}
	if w.ComesBackAt != "" && !GoodAddress(w.ComesBackAt) {
		return 0, invalid("comesBackAt %q should look like 192.0.2.7:22", w.ComesBackAt)
	}
	d, err := s.Device(ctx, w.Device)
	if err != nil {
		return 0, err
	}
	b := &bringUp{s: s, w: &w, in: &in, d: d, profile: s.Engine.Profile(d)}
	if b.profile == nil {
		return 0, conflict("dialect %q is not known here", d.Dialect)
	}
	if err := b.configuration(ctx); err != nil { // before anything is asked of the device
		return 0, err
	}
	if w.BringUp.Calls {
		return b.expect(ctx, by, keys, t)
	}
	if b.p, err = s.Engine.Refresh(ctx, d, by); err != nil {
		return 0, conflict("%s cannot be looked at now, and what it lacks depends on what it is: %s", d.Name, err)
	}
	if err := b.rightUnit(ctx); err != nil {
		return 0, err
	}
	c, err := b.draft(ctx, by, keys)
	if err != nil {
		return 0, err
	}
	return s.recordWith(ctx, by, c, w, t, also)
}

// changeActor is how the name of an actor begins that is a change.
const changeActor = "change "

// A bringUp is such a draft in the making.
type bringUp struct {
	s       *Planner
	w       *change.Wish
	in      *BringUp
	d       store.Device
	profile *device.Profile
	p       *portrait.Portrait
	part    *device.Part // that is put; nil: none
	text    string       // of it
	models  []string     // that the template is for; none: any
	version string       // of the backup that it comes from
	backup  store.Backup // that
	family  *catalog.Family
}

// configuration works out what is put onto the device.
func (b *bringUp) configuration(ctx context.Context) error {
	u := b.w.BringUp
	if u.Sources() == 0 {
		return nil
	}
	i := slices.IndexFunc(b.profile.Parts, func(p device.Part) bool { return p.Kind == backup.Configuration && p.Restore != nil })
	if i < 0 {
		return conflict("no configuration can be put onto such a device: dialect %q restores none", b.d.Dialect)
	}
	b.part = &b.profile.Parts[i]
	switch {
	case u.Backup != 0:
		return b.fromBackup(ctx)
	case u.File != "" && b.in.Text == nil:
		return invalid("the text of %s is missing", u.File)
	case u.File != "":
		b.text = *b.in.Text
		return nil
	}
	t, _, err := b.s.Template(ctx, u.Template)
	if err != nil {
		return err
	}
	var used []template.Used
	var wrong []string
	if b.text, used, wrong = t.Fill(b.in.Sources...); len(wrong) > 0 {
		return invalid("template %s cannot be filled for %s: %s", u.Template, b.d.Name, strings.Join(wrong, "; "))
	}
	u.Used = nil
	for _, x := range used {
		u.Used = append(u.Used, change.UsedValue{Name: x.Name, Value: x.Value, From: x.From, Over: x.Over})
	}
	b.models = t.Models
	return nil
}

// fromBackup takes the configuration of a backup; what it has to be converted to is known once the device was looked at.
func (b *bringUp) fromBackup(ctx context.Context) error {
	rec, err := b.s.Store.Backup(ctx, b.w.BringUp.Backup)
	if errors.Is(err, store.ErrNotFound) {
		return notFound("there is no backup %d", b.w.BringUp.Backup)
	}
	if err != nil {
		return err
	}
	if b.text, err = b.s.Engine.Main(rec); err != nil {
		return damaged("backup %d cannot be read: %s", rec.ID, err)
	}
	b.backup, b.version = rec, rec.Version
	if rec.Model == "" || b.w.BringUp.Calls { // it is not looked at before it is handed what it gets
		b.models = []string{rec.Model}
	}
	return nil
}

// converted turns the configuration of a backup into one for the device and the release that is wanted, where that is another one. Another unit than the one that wrote it
// cannot read secrets under a key which that one keeps for itself.
func (b *bringUp) converted(ctx context.Context, to version.Version) error {
	from, at := b.backup.Model+"@"+b.version, b.p.Model+"@"+to.String()
	spare := b.w.BringUp.For != ""
	if b.version == "" || at == from && !spare {
		return nil
	}
	if spare {
		text, _, ok, err := b.s.worked(ctx, b.text, at, func(w *Work) bool { return w.Other })
		if ok {
			b.text = text
		}
		if ok || err != nil {
			return err
		}
	}
	if at != from {
		text, _, err := b.s.Engine.ConvertTo(ctx, b.backup, b.text, at)
		if err != nil {
			return conflict("backup %d is of %s, and the device is to be %s; convert it first: %s", b.backup.ID, from, at, err)
		}
		b.text = text
	}
	if !spare || b.w.BringUp.SameKey {
		return nil
	}
	n, err := b.ownSecrets(ctx, at)
	if err == nil && n > 0 {
		err = conflict("%s written under a key that the unit at the site keeps for itself, and another one cannot read that. Give both the same key and say so (-same-key), or type each in again: "+
			"verimorph conversion start -backup %d -to %s -other-unit, then conversion secrets", plural(n, "secret is", "secrets are"), b.backup.ID, at)
	}
	return err
}

// readable refuses a file that is no configuration of the device on the release that is wanted, with the places that are not understood. Where nobody described its
// configuration, the device itself says so.
func (b *bringUp) readable(ctx context.Context, to version.Version) error {
	if b.w.BringUp.File == "" {
		return nil
	}
	src, err := b.s.Source(ctx, SourceRef{Text: &b.text, Name: b.w.BringUp.File, From: b.p.Model + "@" + to.String()})
	switch {
	case IsKind(err, Unreadable):
		return err
	case err != nil:
		return nil // no catalogue says how it is written
	}
	for _, f := range src.Schema.Check(src.Document, src.At.Model, src.At.Version) {
		if !f.Doubt && !f.Missing {
			return &Error{Unreadable, b.w.BringUp.File + ":" + f.String()}
		}
	}
	return nil
}

// ownSecrets counts the secrets that are written under a key of the unit. Where nobody described the configuration, there are none that anybody knows.
func (b *bringUp) ownSecrets(ctx context.Context, at string) (n int, err error) {
	lib, err := b.s.Engine.Library(ctx)
	if err != nil {
		return 0, err
	}
	stop, err := lib.ParseStop(at)
	if err != nil {
		return 0, nil
	}
	schema := lib.Schema(stop)
	if schema == nil || schema.OwnKey == nil {
		return 0, nil
	}
	doc, bad := schema.Parse(b.backup.File, b.text)
	if len(bad) > 0 {
		return 0, conflict("%d lines of backup %d are not understood, the first: %s", len(bad), b.backup.ID, bad[0])
	}
	doc.Root.Walk(func(x *config.Node) {
		if schema.SecretLike(x, schema.OwnKey) {
			n++
		}
	})
	return n, nil
}

// rightUnit refuses a device that is another one than was meant, or that is in the records under another name.
func (b *bringUp) rightUnit(ctx context.Context) error {
	u := b.w.BringUp
	if u.Serial != "" && b.p.Serial != u.Serial {
		return conflict("the device at %s has the serial %s, and %s was meant: another unit was unpacked. Nothing was written to it",
			b.d.Address, b.p.Serial, u.Serial)
	}
	if len(b.models) > 0 && !slices.Contains(b.models, b.p.Model) {
		return conflict("the device at %s is a %s, and what it is to be configured with is for %s. Nothing was written to it",
			b.d.Address, b.p.Model, strings.Join(b.models, ", "))
	}
	if b.p.Serial == "" {
		return nil
	}
	other, err := b.s.Store.DeviceOfSerial(ctx, b.p.Serial)
	if err != nil {
		return err
	}
	if other != "" && other != b.d.Name {
		return conflict("the unit with the serial %s is known as %s already; look whether that stands where it is meant to, and remove the one that is wrong",
			b.p.Serial, other)
	}
	return nil
}

// way is the path to the wanted release, with a place at its end for what is done there.
func (b *bringUp) way(ctx context.Context) (*path.Path, *catalog.Family, error) {
	cat, _, err := b.s.Catalogue(ctx)
	if err != nil {
		return nil, nil, err
	}
	now, err := version.Parse(b.p.Version)
	if err != nil {
		return nil, nil, conflict("the version %q cannot be read", b.p.Version)
	}
	p := &path.Path{Model: b.p.Model, From: now, To: now}
	if strings.TrimSpace(b.w.To) != "" {
		aim := b.w.Aim
		aim.Alternatives = 0
		d, err := b.s.Device(ctx, b.d.Name) // as it was just seen
		if err != nil {
			return nil, nil, err
		}
		if p, err = b.s.Path(ctx, d, aim, b.w.Licences...); err != nil {
			return nil, nil, err
		}
	}
	if err := b.converted(ctx, p.To); err != nil {
		return nil, nil, err
	}
	if err := b.readable(ctx, p.To); err != nil {
		return nil, nil, err
	}
	f := familyOrNone(cat, b.p.Model)
	p.Family = f.Name
	p.Hops = append(p.Hops, stays(p.To, "what is done on the release that was reached"))
	return p, f, nil
}

func (b *bringUp) draft(ctx context.Context, by access.Actor, keys map[string]string) (none store.Change, err error) {
	p, f, err := b.way(ctx)
	if err != nil {
		return none, err
	}
	b.family = f
	j, secrets, err := b.job(ctx, by, p, keys)
	if err != nil {
		return none, err
	}
	plan, err := change.DraftBringUp(*j)
	if err != nil {
		return none, conflict("%s", err)
	}
	if err := b.s.Engine.Learn(ctx, b.p.Model, plan.Steps); err != nil {
		return none, err
	}
	c := store.Change{Kind: change.BringingUp, From: b.p.Version, To: p.To.String()}
	if c.Work, err = engine.BringUpWork(b.s.Vault, b.d.Name, secrets); err != nil {
		return none, err
	}
	if c.Path, err = json.Marshal(p); err != nil {
		return none, err
	}
	c.Members = []store.Member{{DeviceID: b.d.ID, Planned: store.Planned{Model: b.p.Model, Serial: b.p.Serial, ComesBackAt: b.w.ComesBackAt}}}
	return withSteps(c, plan), nil
}

// job is what the steps of a device that was blank are drafted from, and what is kept sealed for them.
func (b *bringUp) job(ctx context.Context, by access.Actor, p *path.Path, keys map[string]string) (*change.BringUpJob, engine.BringUpSecrets, error) {
	s, none := b.s, engine.BringUpSecrets{}
	lacks := map[string]bool{}
	if firmware := len(p.Hops) > 1; firmware {
		if missing := b.profile.Lacks; len(missing) > 0 {
			return nil, none, conflict("dialect %q cannot change firmware: it has no %s", b.d.Dialect, strings.Join(missing, ", "))
		}
		real := *p
		real.Hops = p.Hops[:len(p.Hops)-1]
		fetches, err := s.fetchFor(ctx, by, &real)
		if err != nil {
			return nil, none, err
		}
		for _, x := range fetches {
			lacks[x.SHA256] = true
		}
	}
	content, err := b.content(ctx, by, p, lacks)
	if err != nil {
		return nil, none, err
	}
	j := &change.BringUpJob{Put: b.part != nil, Content: content, Password: !b.w.BringUp.KeepPassword && b.profile.Abilities.Password}
	if j.Password && b.in.Password == "" {
		all, err := s.Store.Credentials(ctx, b.d.ID)
		if err != nil {
			return nil, none, err
		}
		// One that a change has set is no first password any more.
		j.Password = !slices.ContainsFunc(all, func(c store.Credential) bool { return strings.HasPrefix(c.CreatedBy, changeActor) && c.DeviceID != nil })
	}
	if !b.profile.Abilities.Password && !b.w.BringUp.KeepPassword {
		return nil, none, conflict("dialect %q has no set-password, so the first password would stay; say that it is to (keepPassword), or set it by hand and replace the credentials",
			b.d.Dialect)
	}
	j.Job = change.Job{Family: b.family, Path: p, Can: b.profile.Abilities, Pace: s.Pace, Old: s.old(ctx, b.family, p), Licences: b.w.Licences,
		Lacks: func(sum string) bool { return lacks[sum] }}
	secrets := engine.BringUpSecrets{Licences: keys, Values: b.values(), Text: b.text, Hop: len(p.Hops) - 1}
	if j.Password {
		if secrets.Password = b.in.Password; secrets.Password == "" {
			secrets.Password = rand.Text()
		}
	}
	if b.part != nil {
		secrets.Part = &engine.RestorePart{Name: b.part.Name, Title: b.part.Title, File: b.part.File, Kind: b.part.Kind, Syntax: b.part.Syntax}
	}
	return j, secrets, nil
}

// content looks up the files of components that the device is to have, and begins to fetch those that are not here.
func (b *bringUp) content(ctx context.Context, by access.Actor, p *path.Path, lacks map[string]bool) (files []*change.File, err error) {
	if len(b.w.BringUp.Content) == 0 {
		return nil, nil
	}
	cat, _, err := b.s.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	f := cat.FamilyOfModel(b.p.Model)
	if f == nil {
		return nil, conflict("no catalogue that is loaded knows a model %q, so its content is not known", b.p.Model)
	}
	var asked []change.Asked
	for _, name := range b.w.BringUp.Content {
		asked = append(asked, change.Asked{Kind: change.Component, File: name})
	}
	r, err := b.s.resolve(f, b.p.Model, nil, asked)
	if err != nil {
		return nil, err
	}
	fetches, err := b.s.fetchListed(ctx, by, r.missing)
	if err != nil {
		return nil, err
	}
	for _, x := range fetches {
		lacks[x.SHA256] = true
	}
	for _, o := range r.operations {
		files = append(files, b.profile.Abilities.Called(o.Params.(change.ComponentParams).File))
	}
	return files, nil
}

// values are those of all sources, the strongest counting, to draft it anew.
func (b *bringUp) values() map[string]string {
	out := map[string]string{}
	for _, src := range slices.Backward(b.in.Sources) {
		for k, v := range src.Values {
			if v != "" {
				out[k] = v
			}
		}
	}
	return out
}

// redraftBringUp drafts bringing a device up once more, with the values of before.
func (s *Planner) redraftBringUp(ctx context.Context, by access.Actor, c *store.Change, d store.Device, keys map[string]string, t store.Terms) (int64, error) {
	values, err := engine.BringUpValues(s.Vault, d.Name, c.Work)
	if err != nil {
		return 0, conflict("the values of its template cannot be read any more (%s); draft it again with them", err)
	}
	w := *c.Wish
	w.Device = d.Name
	again := *w.BringUp
	w.BringUp = &again
	in := BringUp{Sources: []template.Source{{Name: "the draft before", Values: values}}}
	if again.File != "" {
		text, err := engine.BringUpText(s.Vault, d.Name, c.Work)
		if err != nil {
			return 0, conflict("its configuration cannot be read any more (%s); draft it again with the file", err)
		}
		in.Text = &text
	}
	return s.DraftBringUp(ctx, by, w, in, keys, t)
}

// expect drafts bringing a device up that asks by itself. It is not looked at: it is still in its crate.
func (b *bringUp) expect(ctx context.Context, by access.Actor, keys map[string]string, t store.Terms) (int64, error) {
	s, u := b.s, b.w.BringUp
	switch {
	case u.Serial == "" || u.Model == "":
		return 0, invalid("of a device that asks by itself its serial and its model have to be said")
	case b.part == nil:
		return 0, invalid("a device that asks by itself is handed a configuration: name a template or a backup")
	case len(b.models) > 0 && !slices.Contains(b.models, u.Model):
		return 0, invalid("what it is to be configured with is for %s, and the device is a %s", strings.Join(b.models, ", "), u.Model)
	}
	b.p = &portrait.Portrait{Model: u.Model, Serial: u.Serial}
	if err := b.rightUnit(ctx); err != nil {
		return 0, err
	}
	im, f, err := b.image(ctx, by)
	if err != nil {
		return 0, err
	}
	p := &path.Path{Family: f.Name, Model: u.Model, From: im.version, To: im.version, Hops: []path.Hop{stays(im.version, "a new device takes it over by itself")}}
	j := change.BringUpJob{Calls: true, Password: !u.KeepPassword && b.profile.Abilities.Password,
		Job: change.Job{Family: f, Path: p, Can: b.profile.Abilities, Pace: s.Pace, Licences: b.w.Licences}}
	plan, err := change.DraftBringUp(j)
	if err != nil {
		return 0, conflict("%s", err)
	}
	secrets := engine.BringUpSecrets{Licences: keys, Values: b.values(), Text: b.text,
		Part: &engine.RestorePart{Name: b.part.Name, Title: b.part.Title, File: b.part.File, Kind: b.part.Kind, Syntax: b.part.Syntax}}
	if j.Password {
		if secrets.Password = b.in.Password; secrets.Password == "" {
			secrets.Password = rand.Text()
		}
	}
	c := store.Change{Kind: change.BringingUp, From: im.version.String(), To: im.version.String()}
	if c.Work, err = engine.BringUpWork(s.Vault, b.d.Name, secrets); err != nil {
		return 0, err
	}
	if c.Path, err = json.Marshal(p); err != nil {
		return 0, err
	}
	c.Members = []store.Member{{DeviceID: b.d.ID, Planned: store.Planned{Model: u.Model, Serial: u.Serial, ComesBackAt: b.w.ComesBackAt}}}
	h := bootstrap.Handout{ImageName: f.Name, ImageRelease: im.version.String(), ImageFile: im.File, ImageSHA256: im.SHA256, Configuration: b.text}
	return s.recordCalled(ctx, by, withSteps(c, plan), *b.w, t, &h)
}

// familyOrNone is the family of a model; an empty one where no catalogue knows it.
func familyOrNone(cat *catalog.Catalogue, model string) *catalog.Family {
	if f := cat.FamilyOfModel(model); f != nil {
		return f
	}
	return &catalog.Family{}
}

// stays is a place in a path for what is done on a release: no hop to another one.
func stays(on version.Version, text string) path.Hop {
	return path.Hop{From: on, To: on, Config: catalog.ConfigKept, Restarts: 1, Permit: catalog.Citation{Text: text}}
}

// staying is the job of a device that stays on its release, on which something is done.
func (s *Planner) staying(ctx context.Context, can change.Abilities, model, release, text string, restarts int) (j change.Job, err error) {
	v, err := version.Parse(release)
	if err != nil {
		return j, conflict("the release %q cannot be read", release)
	}
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return j, err
	}
	f := familyOrNone(cat, model)
	hop := stays(v, text)
	hop.Restarts = restarts
	return change.Job{Family: f, Can: can, Pace: s.Pace, Path: &path.Path{Family: f.Name, Model: model, From: v, To: v, Hops: []path.Hop{hop}}}, nil
}

// An imageOf is the image of a release for a model.
type imageOf struct {
	catalog.Image
	version version.Version
}

// image is the image that the device is to run, which has to be here: it is handed out from our own store.
func (b *bringUp) image(ctx context.Context, by access.Actor) (out imageOf, f *catalog.Family, err error) {
	s, u := b.s, b.w.BringUp
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return out, nil, err
	}
	if f = cat.FamilyOfModel(u.Model); f == nil {
		return out, nil, conflict("no catalogue that is loaded knows a model %q", u.Model)
	}
	if out.version, err = version.Parse(strings.TrimSpace(b.w.To)); err != nil {
		return out, nil, invalid("of a device that asks by itself the release has to be said as a version; %q is none", b.w.To)
	}
	rel := f.Release(out.version)
	if rel == nil || rel.Image(u.Model) == nil {
		return out, nil, invalid("the catalogue has no image of %s for a %s", out.version, u.Model)
	}
	out.Image = *rel.Image(u.Model)
	for _, l := range f.Images() {
		if l.SHA256 == out.SHA256 && !s.Blobs.Has(out.SHA256) {
			if _, err := s.fetchListed(ctx, by, []catalog.Listed{l}); err != nil {
				return out, nil, err
			}
			return out, nil, conflict("%s is not in the image store yet; it is being fetched. Draft it again once it is there", out.File)
		}
	}
	return out, f, nil
}

// recordCalled records a draft with what the device is handed once it calls.
func (s *Planner) recordCalled(ctx context.Context, by access.Actor, c store.Change, w change.Wish, t store.Terms, h *bootstrap.Handout) (int64, error) {
	data, err := json.Marshal(h)
	if err != nil {
		return 0, err
	}
	serial := w.BringUp.Serial
	sealed, err := s.Vault.Seal(bootstrap.HandoutLabel(serial), data)
	if err != nil {
		return 0, err
	}
	c.WindowFrom, c.WindowTo, c.RestartFrom, c.BackPolicy = t.WindowFrom, t.WindowTo, t.RestartFrom, t.BackPolicy
	w.Format, c.Wish = change.WishFormat, &w
	var id int64
	if err := s.Store.Together(ctx, func(tx *store.Store) error {
		if id, err = tx.AddChange(ctx, by, c); err != nil {
			return err
		}
		return tx.PutCall(ctx, serial, id, sealed)
	}); err != nil {
		return 0, err
	}
	return id, s.Look(ctx, by, id)
}
