package planning

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/version"
	"verimorph/store"
)

// draftBack drafts the start of the installation in the other slot; with carry, the configuration of now comes along.
func (s *Planner) draftBack(ctx context.Context, d store.Device, carry bool) (store.Change, error) {
	none := store.Change{}
	p := PortraitOf(d)
	if p == nil {
		return none, conflict("nobody has looked at device %s yet; refresh it first", d.Name)
	}
	dialect := s.Engine.Profile(d)
	idle, err := previousOf(d, p, &dialect.Abilities)
	if err != nil {
		return none, err
	}
	previous, named := "", ""
	if idle != nil {
		previous = idle.Version
		if many(&dialect.Abilities) {
			named = idle.Name
		}
	}
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return none, err
	}
	f := cat.FamilyOfModel(p.Model)
	was, platform := platformBefore(f, p, idle)
	if previous == p.Version && was == "" {
		return none, conflict("both slots of %s hold %s; there is no previous installation", d.Name, previous)
	}
	if was != "" && (platform == nil || carry) {
		return none, conflict("the installation in slot %s of %s is that of a %s, and this one is a %s; what was configured since is not carried across, and the catalogue has to say "+
			"with in-place how one goes on as the other. Start it without -carry, or by hand", idle.Name, d.Name, was, p.Model)
	}
	plan, err := change.DraftBack(f, dialect.Abilities, s.Pace, unitsOf(d), p.Version, previous, named, carry)
	if err != nil {
		return none, conflict("%s", err)
	}
	from, err := version.Parse(p.Version)
	if err != nil {
		return none, conflict("the version %q cannot be read", p.Version)
	}
	to, err := version.Parse(previous)
	if err != nil {
		return none, conflict("the version %q in the other slot cannot be read", previous)
	}
	starts := "it starts with the configuration that was saved under it"
	if dialect.Abilities.FromFiles {
		starts = "it starts with the configuration of now"
	}
	way := path.Path{Model: p.Model, From: from, To: to, Hops: []path.Hop{{From: from, To: to, Config: catalog.ConfigKept, Restarts: 1,
		Permit: catalog.Citation{Text: "the installation lies in slot " + idle.Name + "; " + starts}, NewModel: was, Platform: platform}}}
	if f != nil {
		way.Family = f.Name
	}
	data, err := json.Marshal(way)
	if err != nil {
		return none, err
	}
	c := store.Change{From: p.Version, To: previous, Path: data, Kind: change.Return}
	return withSteps(c, plan), nil
}

// platformBefore is the model that the installation in a slot belongs to, where that is another one, and what changes when it is started again: what the change of
// platform changed, the other way round. The platform is nil where the catalogue does not say that the same machine goes on.
func platformBefore(f *catalog.Family, p *portrait.Portrait, slot *portrait.Slot) (model string, platform *path.Platform) {
	if f == nil || slot == nil {
		return "", nil
	}
	for _, l := range f.Images() {
		if l.File == slot.Name && !slices.Contains(l.Models, p.Model) && len(l.Models) > 0 {
			model = l.Models[0]
		}
	}
	for i := range f.Rules {
		r := &f.Rules[i]
		if model == "" || r.Kind != catalog.KindPlatformChange || r.FromModel != model || r.ToModel != p.Model || !r.InPlace {
			continue
		}
		platform = &path.Platform{InPlace: true}
		for _, c := range r.Ports {
			platform.Ports = append(platform.Ports, catalog.PortChange{From: c.To, To: c.From})
		}
		for _, v := range r.Changes {
			platform.Changes = append(platform.Changes, catalog.Foretold{Value: v.Value, Text: v.Text})
		}
	}
	return model, platform
}

// many reports whether such a device may have any number of installations.
func many(can *change.Abilities) bool { return can.FromFiles || can.Copies }

// previousOf is the installation of a device beside the running one: that in the idle slot, and where there may be any number of them the one
// that the device has as its second, else the only one. It is nil where the device has one installation for good.
func previousOf(d store.Device, p *portrait.Portrait, can *change.Abilities) (*portrait.Slot, error) {
	if !many(can) {
		idle := p.IdleSlot()
		if !can.InPlace && (idle == nil || idle.Version == "" || idle.Good != portrait.Yes) {
			return nil, conflict("device %s shows no installation beside the running one that it calls good; draft a change to a version instead", d.Name)
		}
		return idle, nil
	}
	var all []*portrait.Slot
	for i := range p.Slots {
		slot := &p.Slots[i]
		good := slot.Good == portrait.Yes || can.FromFiles && slot.Good == portrait.Unknown
		switch {
		case slot.Running || slot.Version == "" || !good:
		case slot.Second == portrait.Yes:
			return slot, nil
		default:
			all = append(all, slot)
		}
	}
	switch len(all) {
	case 0:
		return nil, conflict("device %s shows no installation beside the running one that could be started; draft a change to a version instead", d.Name)
	case 1:
		return all[0], nil
	}
	var names []string
	for _, slot := range all {
		names = append(names, fmt.Sprintf("%s (%s)", slot.Name, slot.Version))
	}
	return nil, conflict("device %s has several installations beside the running one: %s; name the one to start: verimorph change operations %s choose-slot:NAME restart", d.Name, strings.Join(names, ", "), d.Name)
}
