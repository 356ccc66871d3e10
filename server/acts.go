package server

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"verimorph/api/gen"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/version"
	"verimorph/engine"
	"verimorph/store"
)

// draftActs drafts a change of single steps.
func (s *Server) draftActs(ctx context.Context, d store.Device, wish []gen.Act) (none store.Change, err error) {
	p := portraitOf(d)
	if p == nil {
		return none, conflict("nobody has looked at device %s yet; refresh it first", d.Name)
	}
	cat, _, _, err := s.catalogue(ctx)
	if err != nil {
		return none, err
	}
	f := cat.FamilyOfModel(p.Model)
	lacks := map[string]bool{}
	job := change.ActsJob{Family: f, Can: s.Engine.Dialects[d.Dialect].Abilities(), Pace: s.Pace, From: p.Version, Lacks: func(sum string) bool { return lacks[sum] }}
	if idle := p.IdleSlot(); idle != nil && idle.Good == portrait.Yes {
		job.Idle = idle.Version
	}
	for _, slot := range p.Slots {
		if slot.Next == portrait.Yes && !slot.Running {
			job.Next = slot.Version
		}
	}
	var licences []gen.NewLicence
	var missing []catalog.Listed
	touchesFirmware := false
	for i, w := range wish {
		if !w.Kind.Valid() {
			return none, badRequest("act %d: there is no %q", i+1, w.Kind)
		}
		a := change.Act{Kind: change.Kind(w.Kind), Part: value(w.Part), Names: value(w.Files), Text: strings.TrimSpace(value(w.Text)), Once: value(w.Once)}
		switch a.Kind {
		case change.Send, change.Checksum, change.Install, change.Component:
			touchesFirmware = true
			l, err := imageNamed(f, p.Model, value(w.File))
			if err != nil {
				return none, err
			}
			if isComponent := a.Kind == change.Component; isComponent != (l.Part != "") && (isComponent || a.Kind == change.Install) {
				return none, badRequest("act %d: %s is %s", i+1, l.File, map[bool]string{true: "a main image, no component", false: "for the component " + l.Part + ", not to be installed by itself"}[isComponent])
			}
			if a.Kind == change.Component {
				a.Part = l.Part
			}
			a.File = &change.File{Name: l.File, SHA256: l.SHA256, Size: l.Size, Component: l.Part, Version: l.Version}
			if a.Kind != change.Checksum && !s.Images.Has(l.SHA256) {
				missing = append(missing, *l)
			}
		case change.CleanUp:
			if len(a.Names) == 0 {
				return none, badRequest("act %d: clean-up needs the names of the files", i+1)
			}
		case change.Licence:
			licences = append(licences, gen.NewLicence{Name: a.Part, Key: value(w.Key)})
		case change.Hand:
			if a.Text == "" {
				return none, badRequest("act %d: say what is to be done by hand", i+1)
			}
		case change.ChooseSlot, change.Restart:
			touchesFirmware = true
		}
		job.Acts = append(job.Acts, a)
	}
	if missingVerbs := s.Engine.Dialects[d.Dialect].LacksForFirmware(); touchesFirmware && len(missingVerbs) > 0 {
		return none, conflict("dialect %q has no %s; add these verbs to it, or do it by hand", d.Dialect, strings.Join(missingVerbs, ", "))
	}
	fetches, err := s.fetchListed(ctx, missing)
	if err != nil {
		return none, err
	}
	for _, x := range fetches {
		lacks[x.SHA256] = true
	}
	keys, err := licencesOf(licences)
	if err != nil {
		return none, err
	}
	plan, in, to, err := change.DraftActs(job)
	if err != nil {
		return none, conflict("%s", err)
	}
	if err := s.Engine.Learn(ctx, p.Model, plan.Steps); err != nil {
		return none, err
	}
	c := store.Change{From: p.Version, To: to, Kind: store.Acts, Back: plan.Back}
	if c.Path, err = actsPath(f, p.Model, p.Version, in, to, job.Acts); err != nil {
		return none, err
	}
	if len(keys) > 0 {
		if c.Work, err = engine.LicenceWork(s.Vault, d.Name, keys); err != nil {
			return none, err
		}
	}
	return withSteps(c, plan.Steps), nil
}

// imageNamed is the image of a model that has a file name.
func imageNamed(f *catalog.Family, model, file string) (*catalog.Listed, error) {
	if f == nil {
		return nil, conflict("no catalogue that is loaded knows a model %q, so none of its files is known", model)
	}
	all := f.Images()
	i := slices.IndexFunc(all, func(l catalog.Listed) bool { return l.File == file && slices.Contains(l.Models, model) })
	if i < 0 {
		return nil, badRequest("the catalogue knows no file %q for a %s; list them with: verimorph image list", file, model)
	}
	return &all[i], nil
}

// actsPath is what single steps lead along: the one stop at which they happen. in is the version that is installed or started, to
// the one that runs afterwards.
func actsPath(f *catalog.Family, model, from, in, to string, acts []change.Act) ([]byte, error) {
	versions := make([]version.Version, 3)
	for i, text := range []string{from, in, to} {
		v, err := version.Parse(text)
		if err != nil {
			return nil, conflict("the version %q cannot be read", text)
		}
		versions[i] = v
	}
	hop := path.Hop{From: versions[0], To: versions[1], Config: catalog.ConfigKept, Permit: catalog.Citation{Text: "single steps, as a person put them together"}}
	for _, a := range acts {
		if a.Kind == change.Install {
			hop.Image = catalog.Image{File: a.File.Name, SHA256: a.File.SHA256, Size: a.File.Size, Models: []string{model}}
		}
		if a.Kind == change.Restart {
			hop.Restarts = 1
		}
	}
	way := path.Path{Model: model, From: versions[0], To: versions[2], Hops: []path.Hop{hop}}
	if f != nil {
		way.Family = f.Name
	}
	return json.Marshal(way)
}
