package planning

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/version"
	"verimorph/engine"
	"verimorph/store"
)

// draftOperations drafts a change of single operations.
func (s *Planner) draftOperations(ctx context.Context, by access.Actor, d store.Device, asked []change.Asked) (none store.Change, err error) {
	p := PortraitOf(d)
	if p == nil {
		return none, conflict("nobody has looked at device %s yet; refresh it first", d.Name)
	}
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return none, err
	}
	f := cat.FamilyOfModel(p.Model)
	var children []string // models
	for _, c := range p.Children {
		if !slices.Contains(children, c.Model) {
			children = append(children, c.Model)
		}
	}
	r, err := s.resolve(f, p.Model, children, asked)
	if err != nil {
		return none, err
	}
	dialect := s.Engine.Profile(d)
	if lacks := dialect.Lacks; r.firmware && len(lacks) > 0 {
		return none, conflict("dialect %q has no %s; add these verbs to it, or do it by hand", d.Dialect, strings.Join(lacks, ", "))
	}
	fetches, err := s.fetchListed(ctx, by, r.missing)
	if err != nil {
		return none, err
	}
	comes := map[string]bool{}
	for _, x := range fetches {
		comes[x.SHA256] = true
	}
	for i, o := range r.operations {
		if f, ok := o.Params.(change.FileParams); ok && f.File != nil {
			f.File = dialect.Abilities.Called(f.File)
			r.operations[i].Params = f
		}
	}
	job := change.OperationsJob{Family: f, Can: dialect.Abilities, Pace: s.Pace, From: p.Version, Lacks: func(sum string) bool { return comes[sum] }, Operations: r.operations}
	job.Children = change.ChildrenIn(p)
	job.Slots = startable(p, &dialect.Abilities)
	if idle := p.IdleSlot(); idle != nil && idle.Good == portrait.Yes {
		job.Idle = idle.Version
	}
	for _, slot := range p.Slots {
		if slot.Next == portrait.Yes && !slot.Running {
			job.Next = slot.Version
		}
	}
	plan, in, to, err := change.DraftOperations(job)
	if err != nil {
		return none, conflict("%s", err)
	}
	if err := s.Engine.Learn(ctx, p.Model, plan.Steps); err != nil {
		return none, err
	}
	c := store.Change{From: p.Version, To: to, Kind: change.SingleOperations}
	if c.Path, err = operationsPath(f, p.Model, p.Version, in, to, r.operations); err != nil {
		return none, err
	}
	if len(r.keys) > 0 {
		if c.Work, err = engine.LicenceWork(s.Vault, d.Name, r.keys); err != nil {
			return none, err
		}
	}
	return withSteps(c, plan), nil
}

// resolved are operations with their files and parts looked up.
type resolved struct {
	operations []change.Operation
	keys       map[string]string // of licences, by name
	missing    []catalog.Listed  // images that the image store lacks
	firmware   bool              // one of them needs the verbs that change firmware
}

// startable is what each slot holds that can be started, by name.
func startable(p *portrait.Portrait, can *change.Abilities) map[string]string {
	out := map[string]string{}
	for _, slot := range p.Slots {
		if slot.Good == portrait.Yes || can.FromFiles && slot.Good == portrait.Unknown {
			out[slot.Name] = slot.Version
		}
	}
	return out
}

// resolve looks up what somebody asks for. Which parameters an operation has follows from what its kind takes.
func (s *Planner) resolve(f *catalog.Family, model string, children []string, asked []change.Asked) (*resolved, error) {
	out := &resolved{keys: map[string]string{}}
	var licences []string
	for i, a := range asked {
		spec := a.Kind.Spec()
		if spec.Alone == nil {
			return nil, invalid("operation %d: there is no %q", i+1, a.Kind)
		}
		o := change.Operation{Kind: a.Kind}
		switch spec.Alone.Takes {
		case change.TakesImage:
			out.firmware = true
			models := []string{model}
			if a.Kind == change.RestartChildren {
				models = children
			}
			l, err := imageNamed(f, models, a.File)
			if err != nil {
				return nil, err
			}
			if o.Params, err = imageParams(i, a.Kind, l); err != nil {
				return nil, err
			}
			if p, ok := o.Params.(change.ChildParams); ok { // for the model that follows the device, of those that the image is for
				p.File.Model = models[slices.IndexFunc(models, func(m string) bool { return slices.Contains(l.Models, m) })]
			}
			if a.Kind != change.Checksum && !s.Blobs.Has(l.SHA256) {
				out.missing = append(out.missing, *l)
			}
		case change.TakesFiles:
			if len(a.Files) == 0 {
				return nil, invalid("operation %d: %s needs the names of the files", i+1, a.Kind)
			}
			o.Params = change.CleanUpParams{Files: a.Files}
		case change.TakesPart:
			o.Params = change.PowerParams{Component: a.Part}
		case change.TakesLicence:
			licences, out.keys[a.Part] = append(licences, a.Part), a.Key
			o.Params = change.LicenceParams{Licence: a.Part}
		case change.TakesText:
			if strings.TrimSpace(a.Text) == "" {
				return nil, invalid("operation %d: say what is to be done by hand", i+1)
			}
			o.Params = change.HandParams{Task: strings.TrimSpace(a.Text)}
		case change.TakesOnce:
			o.Params = change.SlotParams{Once: a.Once, Slot: a.Slot}
		case change.TakesSlot, change.TakesName:
			o.Params = change.SlotParams{Slot: a.Slot, Name: a.Name}
		}
		out.firmware = out.firmware || a.Kind.Is(change.ChooseSlot, change.Restart)
		out.operations = append(out.operations, o)
	}
	return out, checkLicences(licences, out.keys)
}

// imageParams are the parameters of an operation with an image of the catalogue.
func imageParams(i int, k change.Kind, l *catalog.Listed) (change.Params, error) {
	file := &change.File{Name: l.File, SHA256: l.SHA256, Size: l.Size, Component: l.Part, Version: l.Version}
	switch {
	case k == change.RestartChildren:
		return change.ChildParams{File: file}, nil
	case k == change.Component && l.Part == "":
		return nil, invalid("operation %d: %s is a main image, no component", i+1, l.File)
	case k == change.Install && l.Part != "":
		return nil, invalid("operation %d: %s is for the component %s, not to be installed by itself", i+1, l.File, l.Part)
	case k == change.Component:
		return change.ComponentParams{Component: l.Part, Version: l.Version, File: file}, nil
	case k == change.Install:
		return change.InstallParams{File: file}, nil
	}
	return change.FileParams{File: file}, nil
}

// imageNamed is the image of one of some models that has a file name.
func imageNamed(f *catalog.Family, models []string, file string) (*catalog.Listed, error) {
	switch {
	case len(models) == 0:
		return nil, conflict("nothing follows the device that could get an image; refresh it first")
	case f == nil:
		return nil, conflict("no catalogue that is loaded knows a model %q, so none of its files is known", models[0])
	}
	all := f.Images()
	i := slices.IndexFunc(all, func(l catalog.Listed) bool {
		return l.File == file && slices.ContainsFunc(l.Models, func(m string) bool { return slices.Contains(models, m) })
	})
	if i < 0 {
		return nil, invalid("the catalogue knows no file %q for a %s; list them with: verimorph image list", file, strings.Join(models, " or "))
	}
	return &all[i], nil
}

// operationsPath is what single operations lead along: the one stop at which they happen. in is the version that is installed or started, to
// the one that runs afterwards.
func operationsPath(f *catalog.Family, model, from, in, to string, operations []change.Operation) ([]byte, error) {
	versions := make([]version.Version, 3)
	for i, text := range []string{from, in, to} {
		v, err := version.Parse(text)
		if err != nil {
			return nil, conflict("the version %q cannot be read", text)
		}
		versions[i] = v
	}
	hop := path.Hop{From: versions[0], To: versions[1], Config: catalog.ConfigKept, Permit: catalog.Citation{Text: "single operations, as a person put them together"}}
	for _, o := range operations {
		switch p := o.Params.(type) {
		case change.InstallParams:
			hop.Image = catalog.Image{File: p.File.Name, SHA256: p.File.SHA256, Size: p.File.Size, Models: []string{model}}
		default:
			if o.Kind == change.Restart {
				hop.Restarts = 1
			}
		}
	}
	way := path.Path{Model: model, From: versions[0], To: versions[2], Hops: []path.Hop{hop}}
	if f != nil {
		way.Family = f.Name
	}
	return json.Marshal(way)
}
