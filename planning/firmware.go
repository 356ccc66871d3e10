package planning

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"unicode"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/imagestore"
	"verimorph/store"
)

// Changes to another version.

// draftFirmware drafts a change along the path to a version.
func (s *Planner) draftFirmware(ctx context.Context, by access.Actor, d store.Device, w *change.Wish, keys map[string]string) (store.Change, error) {
	none := store.Change{}
	if err := checkLicences(w.Licences, keys); err != nil {
		return none, err
	}
	aim := w.Aim
	aim.Alternatives = 0
	p, err := s.Path(ctx, d, aim, w.Licences...)
	if err != nil {
		return none, err
	}
	if len(p.Hops) == 0 {
		return none, conflict("device %s runs %s already; there is nothing to change", d.Name, p.To)
	}
	if err := change.CheckSerials(w.Authorise); err != nil {
		return none, invalid("authorise: %s", err)
	}
	if err := s.childImages(ctx, s.Engine.Profile(d), PortraitOf(d), p); err != nil {
		return none, err
	}
	lacks := map[string]bool{}
	if s.Engine.Profile(d).Medium == "" { // else the files are carried in, and compared on the device
		fetches, err := s.fetchFor(ctx, by, p)
		if err != nil {
			return none, err
		}
		for _, f := range fetches {
			lacks[f.SHA256] = true
		}
	}
	for _, name := range w.CleanUp {
		for _, h := range p.Hops {
			if name == h.Image.File {
				return none, invalid("%s is an image of this change", name)
			}
		}
	}
	var getOn func(a, b string) bool
	if err := s.Ask(ctx, func(_ *catalog.Catalogue, planner *path.Planner) error {
		getOn = tolerated(planner, p.Model, []*path.Path{p})
		return nil
	}); err != nil {
		return none, err
	}
	plan, err := s.Steps(ctx, s.Engine.Profile(d).Abilities, p, func(j *change.Job) {
		j.Lacks = func(sum string) bool { return lacks[sum] }
		j.CleanUp, j.Licences, j.Both = w.CleanUp, w.Licences, w.Both
		j.Units, j.AtOnce, j.GetOn = unitsOf(d), w.Together, getOn
		j.Children, j.Authorise = childrenOf(d), w.Authorise
	})
	if err != nil {
		return none, conflict("%s", err)
	}
	data, err := json.Marshal(p)
	if err != nil {
		return none, err
	}
	c := store.Change{From: p.From.String(), To: p.To.String(), Path: data, Kind: change.Firmware}
	if len(keys) > 0 {
		if c.Work, err = engine.LicenceWork(s.Vault, d.Name, keys); err != nil {
			return none, err
		}
	}
	return withSteps(c, plan), nil
}

// childImages adds the images of the boxes that follow a device to a path, where it needs them as files of its own.
func (s *Planner) childImages(ctx context.Context, profile *device.Profile, now *portrait.Portrait, p *path.Path) error {
	if !profile.Abilities.Children.Files || now == nil {
		return nil
	}
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return err
	}
	change.AddChildImages(cat.Family(p.Family), now, p)
	return nil
}

// childrenOf are the boxes that follow a device, as it was last looked at.
func childrenOf(d store.Device) []change.ChildOf {
	p := PortraitOf(d)
	if p == nil {
		return nil
	}
	return change.ChildrenIn(p)
}

// unitsOf are the units of a device as it was last looked at.
func unitsOf(d store.Device) []change.UnitOf {
	p := PortraitOf(d)
	if p == nil {
		return nil
	}
	return change.UnitsIn(p)
}

// checkLicences reports what is wrong with licences and their keys. One without a key comes from the licence service.
func checkLicences(names []string, keys map[string]string) error {
	seen := map[string]bool{}
	for _, name := range names {
		switch key := keys[name]; {
		case !GoodName(name):
			return invalid("licence %q: a name has letters, digits, dots, dashes and underscores", name)
		case seen[name]:
			return invalid("licence %s is given twice", name)
		case len(key) > 4096 || strings.ContainsFunc(key, unicode.IsControl):
			return invalid("the key of licence %s has to be one line of up to 4096 characters", name)
		}
		seen[name] = true
	}
	return nil
}

// fetchFor begins downloads of what a path lacks; it fails when no release site has it.
func (s *Planner) fetchFor(ctx context.Context, by access.Actor, p *path.Path) ([]store.Fetch, error) {
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	var needed []catalog.Listed
	for _, l := range cat.Family(p.Family).Images() {
		if slices.Contains(imagestore.Sums(p), l.SHA256) {
			needed = append(needed, l)
		}
	}
	return s.fetchListed(ctx, by, needed)
}

// fetchListed begins downloads of those images that the image store lacks; it fails when no release site has one.
func (s *Planner) fetchListed(ctx context.Context, by access.Actor, images []catalog.Listed) ([]store.Fetch, error) {
	fetches, nowhere, err := s.Images.Want(ctx, images, "", by.String())
	if err != nil {
		return nil, err
	}
	if len(nowhere) > 0 {
		return nil, conflict("the image store lacks %s and no release site is known for it; add each with: verimorph image add FILE", strings.Join(nowhere, ", "))
	}
	return fetches, s.HandOut(ctx, fetches)
}

// HandOut gives those of some downloads to workers that wait for one.
func (s *Planner) HandOut(ctx context.Context, fs []store.Fetch) error {
	for _, f := range fs {
		if f.State == store.FetchWaiting {
			if err := s.Engine.HandOut(ctx, f.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// Steps lists the steps of a path and its ways back, with what was learnt about how long they take. wish may be nil.
func (s *Planner) Steps(ctx context.Context, can change.Abilities, p *path.Path, wish func(*change.Job)) (*change.Plan, error) {
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	f := cat.Family(p.Family)
	j := change.Job{Family: f, Path: p, Can: can, Pace: s.Pace, Old: s.old(ctx, f, p)}
	if wish != nil {
		wish(&j)
	}
	plan, err := change.Draft(j)
	if err != nil {
		return nil, err
	}
	return plan, s.Engine.Learn(ctx, p.Model, plan.Steps)
}

// old says which image brings the version back that a hop leaves, where a supported hop leads back.
func (s *Planner) old(ctx context.Context, f *catalog.Family, p *path.Path) func(int) *change.File {
	return func(hop int) *change.File {
		h := &p.Hops[hop]
		rel := f.Release(h.From)
		model := p.ModelAt(hop)
		if rel == nil || rel.Image(model) == nil || h.NewModel != "" { // no catalogue leads back from another platform
			return nil
		}
		var back *path.Path
		err := s.Ask(ctx, func(_ *catalog.Catalogue, planner *path.Planner) (err error) {
			back, err = planner.Find(path.Question{Portrait: &portrait.Portrait{Model: model, Version: h.To.String()}, Aim: path.Aim{Version: h.From.String()}, Policy: path.Policy{Reset: true, MaxHops: 1}})
			return err
		})
		if err != nil || len(back.Hops) != 1 {
			return nil
		}
		im := rel.Image(model)
		return &change.File{Name: im.File, SHA256: im.SHA256, Size: im.Size, Version: h.From.String()}
	}
}
