package planning

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"verimorph/access"
	"verimorph/core/backup"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/media"
	"verimorph/store"
)

// Media that are kept somewhere to bring a device back.

// A KeptMedium is a medium, with where it stands and in what it is older than its device.
type KeptMedium struct {
	store.Medium
	State media.State
	Older []string // of a good one
}

// Media lists the media.
func (s *Planner) Media(ctx context.Context, all bool) ([]KeptMedium, error) {
	list, err := s.Store.Media(ctx, all)
	if err != nil {
		return nil, err
	}
	out := []KeptMedium{}
	for _, m := range list {
		x, err := s.kept(ctx, m)
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// Medium is the medium with a label.
func (s *Planner) Medium(ctx context.Context, label string) (KeptMedium, error) {
	m, err := s.Store.Medium(ctx, label)
	if errors.Is(err, store.ErrNotFound) {
		return KeptMedium{}, notFound("no medium is called %q", label)
	}
	if err != nil {
		return KeptMedium{}, err
	}
	return s.kept(ctx, m)
}

func (s *Planner) kept(ctx context.Context, m store.Medium) (KeptMedium, error) {
	x := m.Medium()
	out := KeptMedium{Medium: m, State: x.State()}
	if m.DeviceID == nil || out.State != media.Good && out.State != media.Unconfirmed {
		return out, nil
	}
	n, err := s.nowFor(ctx, *m.DeviceID, &m)
	out.Older = x.Older(n)
	return out, err
}

// nowFor is what the device of a medium is by now.
func (s *Planner) nowFor(ctx context.Context, id int64, m *store.Medium) (n media.Now, err error) {
	d, err := s.Store.DeviceByID(ctx, id)
	if err != nil {
		return n, err
	}
	if p := PortraitOf(d); p != nil {
		n.Model, n.Version = p.Model, p.Version
	}
	if n.Config, err = s.configNow(ctx, d, m.Holds, m.Backup); err != nil {
		return n, err
	}
	b, err := s.newestBackup(ctx, d)
	if b != nil {
		n.Backup = b.ID
	}
	return n, err
}

// A MediaCover says which medium would bring a device back.
type MediaCover struct {
	Device, Site, Model string
	media.Cover
}

// MediaCovers says of each device which medium would bring it back.
func (s *Planner) MediaCovers(ctx context.Context) ([]MediaCover, error) {
	list, err := s.Store.Media(ctx, false)
	if err != nil {
		return nil, err
	}
	of := map[int64][]store.Medium{}
	for _, m := range list {
		if m.DeviceID != nil {
			of[*m.DeviceID] = append(of[*m.DeviceID], m)
		}
	}
	out := []MediaCover{}
	for d, err := range s.Store.AllDevices(ctx) {
		if err != nil {
			return nil, err
		}
		c := MediaCover{Device: d.Name, Site: d.Site}
		p := PortraitOf(d)
		if p != nil {
			c.Model = p.Model
		}
		best := media.CoverOf(d.Name, media.Now{}, nil)
		rank := []string{media.CoverNone, media.CoverDoubt, media.CoverOld, media.CoverGood}
		for i := range of[d.ID] {
			m := &of[d.ID][i]
			n, err := s.nowFor(ctx, d.ID, m)
			if err != nil {
				return nil, err
			}
			x := m.Medium()
			x.Device = d.Name
			one := media.CoverOf(d.Name, n, []media.Medium{x})
			if best.Label == "" || slices.Index(rank, one.State) > slices.Index(rank, best.State) {
				best = one
			}
		}
		c.Cover = best
		out = append(out, c)
	}
	return out, nil
}

// goodLabel is what a medium may be called: it is a file name on it, too.
var goodLabel = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]{1,39}$`)

// A NewMedium is a medium that is to be made.
type NewMedium struct {
	Label, Kind, Device, Place string
	Terms                      store.Terms
	Instead                    int64 // the draft that is drafted anew; 0: none
}

// MakeMedium records a medium that is to be made. Of one that the device writes it drafts the change that does it; its number is the answer.
func (s *Planner) MakeMedium(ctx context.Context, by access.Actor, n NewMedium) (int64, error) {
	if err := access.May(by, access.Draft); err != nil {
		return 0, err
	}
	switch {
	case !goodLabel.MatchString(n.Label):
		return 0, invalid("label %q: 2 to 40 letters, digits, - and _, such as gauge-2026-11", n.Label)
	case n.Kind != media.Snapshot && n.Kind != media.Recovery:
		return 0, invalid("kind %q is neither %s nor %s", n.Kind, media.Snapshot, media.Recovery)
	case len(n.Place) > 400:
		return 0, invalid("the place has up to 400 characters")
	}
	d, err := s.Device(ctx, n.Device)
	if err != nil {
		return 0, err
	}
	old, err := s.Store.Medium(ctx, n.Label)
	switch known := err == nil; {
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return 0, err
	case known && (old.DeviceID == nil || *old.DeviceID != d.ID || old.Kind != n.Kind):
		return 0, conflict("medium %s is there already, of %s; call the new one something else, or retire that one", n.Label, old.Device)
	case known && old.ChangeID != nil && old.Change != nil && !old.Change.Over() && *old.ChangeID != n.Instead:
		return 0, conflict("change %d makes medium %s already", *old.ChangeID, n.Label)
	}
	m := store.Medium{Label: n.Label, Kind: n.Kind, DeviceID: &d.ID, Device: d.Name, Place: n.Place, CreatedBy: by.String()}
	if p := PortraitOf(d); p != nil {
		m.Model, m.Version = p.Model, p.Version
	}
	if n.Kind == media.Recovery {
		if old.ID != 0 {
			return 0, nil // its content is made anew when it is asked for
		}
		return 0, s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
			return store.Line{Event: "medium added", Device: d.Name, Detail: n.Label}, tx.AddMedium(ctx, m)
		})
	}
	c, err := s.mediumChange(ctx, by, d, &n)
	if err != nil {
		return 0, err
	}
	m.Version = c.From
	var id int64
	return id, s.Store.Together(ctx, func(tx *store.Store) (err error) {
		if id, err = tx.AddChange(ctx, by, c); err != nil {
			return err
		}
		if old.ID != 0 {
			return tx.MediumAgain(ctx, old.ID, id, m.Version)
		}
		m.ChangeID = &id
		return tx.AddMedium(ctx, m)
	})
}

// mediumChange is the change by which a device writes a medium.
func (s *Planner) mediumChange(ctx context.Context, by access.Actor, d store.Device, n *NewMedium) (c store.Change, err error) {
	t, err := s.Terms(ctx, n.Terms)
	if err != nil {
		return c, err
	}
	profile := s.Engine.Profile(d)
	if profile == nil {
		return c, conflict("dialect %q of %s is not known here", d.Dialect, d.Name)
	}
	p, err := s.Engine.Refresh(ctx, d, by)
	if err != nil {
		return c, err
	}
	job, err := s.staying(ctx, profile.Abilities, p.Model, p.Version, "the device writes what it is onto a medium", 0)
	if err != nil {
		return c, err
	}
	wish := change.MediumWish{Label: n.Label, Place: n.Place}
	plan, err := change.DraftMedium(&change.MediumJob{Job: job, Device: d.Name, MediumWish: wish})
	if err != nil {
		return c, conflict("%s: %s", d.Name, err)
	}
	c = store.Change{Kind: change.MakingMedium, From: p.Version, To: p.Version, Wish: &change.Wish{Format: change.WishFormat, Device: d.Name, Medium: &wish}}
	if c.Path, err = json.Marshal(job.Path); err != nil {
		return c, err
	}
	c.Members = []store.Member{{DeviceID: d.ID, Planned: store.Planned{Model: p.Model, Serial: p.Serial}}}
	c.WindowFrom, c.WindowTo, c.RestartFrom, c.BackPolicy = t.WindowFrom, t.WindowTo, t.RestartFrom, t.BackPolicy
	return withSteps(c, plan), nil
}

// A Recovery is what goes onto a medium that is made from files.
type Recovery struct {
	Medium   store.Medium
	Backup   store.Backup
	Manifest *backup.Manifest
	Files    []media.File // images, which the image store has
}

// RecoveryOf says what goes onto a medium: the image of the release of the newest backup of its device, and that backup.
func (s *Planner) RecoveryOf(ctx context.Context, by access.Actor, label string) (*Recovery, error) {
	if err := access.May(by, access.Draft); err != nil {
		return nil, err
	}
	x, err := s.Medium(ctx, label)
	if err != nil {
		return nil, err
	}
	switch {
	case x.Kind != media.Recovery:
		return nil, conflict("medium %s is written by %s itself", label, x.Device)
	case x.State == media.Retired:
		return nil, conflict("medium %s is retired", label)
	case x.DeviceID == nil:
		return nil, conflict("the device of medium %s is gone", label)
	}
	d, err := s.Store.DeviceByID(ctx, *x.DeviceID)
	if err != nil {
		return nil, err
	}
	b, err := s.newestBackup(ctx, d)
	if err != nil {
		return nil, err
	}
	if b == nil {
		return nil, conflict("there is no complete backup of %s; take one first: verimorph backup take %s", d.Name, d.Name)
	}
	out := &Recovery{Medium: x.Medium, Backup: *b}
	if _, out.Manifest, err = s.Manifest(ctx, b.ID); err != nil {
		return nil, err
	}
	if out.Files, err = s.imagesOf(ctx, b.Model, b.Version); err != nil {
		return nil, err
	}
	for _, f := range out.Files { // checked again before use: a damaged file is never given out
		if !s.Blobs.Has(f.SHA256) {
			return nil, conflict("the image store lacks %s; add it, or fetch it first", f.Name)
		}
		if err := s.Blobs.Verify(f.SHA256); err != nil {
			return nil, conflict("image %s: %s; add or fetch it first", f.Name, err)
		}
	}
	return out, nil
}

// imagesOf are the image of a release for a model, and that of its base.
func (s *Planner) imagesOf(ctx context.Context, model, at string) (files []media.File, err error) {
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	f := cat.FamilyOfModel(model)
	if f == nil {
		return nil, conflict("no catalogue that is loaded knows a model %q, so it is not known which image brings it back", model)
	}
	add := func(v, role string) (*catalog.Release, error) {
		i := slices.IndexFunc(f.Releases, func(r catalog.Release) bool { return r.Version.String() == v })
		if i < 0 || f.Releases[i].Image(model) == nil {
			return nil, conflict("the catalogue has no image of release %s for %s", v, model)
		}
		im := f.Releases[i].Image(model)
		files = append(files, media.File{Name: im.File, Size: im.Size, SHA256: im.SHA256, Version: v, Role: role, Hop: 1})
		return &f.Releases[i], nil
	}
	rel, err := add(at, "install")
	if err != nil {
		return nil, err
	}
	if !rel.Base.IsZero() {
		_, err = add(rel.Base.String(), "base")
	}
	return files, err
}

// PackedMedium records what was given out for a medium.
func (s *Planner) PackedMedium(ctx context.Context, by access.Actor, r *Recovery, files []media.File) error {
	return s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "medium packed", Device: r.Medium.Device, Detail: fmt.Sprintf("%s, with backup %d", r.Medium.Label, r.Backup.ID)},
			tx.MediumPacked(ctx, r.Medium.ID, r.Backup.Version, files, r.Backup.ID, r.Backup.SHA256)
	})
}

// mostProblems is how many of what is wrong with a medium are kept.
const mostProblems = 50

// CheckMedium holds what somebody found on a medium against what was written onto it. place is where it lies from now on; "": where it did.
func (s *Planner) CheckMedium(ctx context.Context, by access.Actor, label string, found []media.Found, place string) error {
	if err := access.May(by, access.Draft); err != nil {
		return err
	}
	x, err := s.Medium(ctx, label)
	if err != nil {
		return err
	}
	if x.WrittenAt == nil || x.State == media.Retired {
		return conflict("medium %s is %s; there is nothing to compare with", label, strings.ReplaceAll(string(x.State), "-", " "))
	}
	if len(place) > 400 {
		return invalid("the place has up to 400 characters")
	}
	problems := media.Check(&media.Manifest{Files: x.Files}, found)
	if n := len(problems) - mostProblems; n > 0 {
		problems = append(problems[:mostProblems], fmt.Sprintf("and %d more", n))
	}
	return s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		err := tx.MediumChecked(ctx, x.ID, problems)
		if err == nil && place != "" {
			err = tx.PlaceMedium(ctx, x.ID, place)
		}
		return store.Line{Event: "medium checked", Device: x.Device, Detail: fmt.Sprintf("%s, %d problems", label, len(problems))}, err
	})
}

// PlaceMedium records where a medium lies.
func (s *Planner) PlaceMedium(ctx context.Context, by access.Actor, label, place string) error {
	if err := access.May(by, access.Draft); err != nil {
		return err
	}
	x, err := s.Medium(ctx, label)
	if err != nil {
		return err
	}
	if place == "" || len(place) > 400 {
		return invalid("the place has 1 to 400 characters")
	}
	return s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "medium moved", Device: x.Device, Detail: label + " to " + place}, tx.PlaceMedium(ctx, x.ID, place)
	})
}

// RetireMedium takes a medium out of use for good.
func (s *Planner) RetireMedium(ctx context.Context, by access.Actor, label, why string) error {
	if err := access.May(by, access.Approve); err != nil {
		return err
	}
	x, err := s.Medium(ctx, label)
	if err != nil {
		return err
	}
	if x.State == media.Making && x.ChangeID != nil {
		return conflict("change %d makes medium %s; carry it out, or stop it first", *x.ChangeID, label)
	}
	return s.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "medium retired", Device: x.Device, Detail: label + ": " + why}, tx.RetireMedium(ctx, x.ID, why)
	})
}
