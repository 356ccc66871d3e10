package planning

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/replace"
	"verimorph/core/verify"
	"verimorph/core/version"
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
	r.out.Labels, _ = s.cableLabels(ctx, r.old)
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
