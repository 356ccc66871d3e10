package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/config"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/store"
)

// The facts that the go/no-go checks look at.

// facts gathers what the checks of a hop look at. p is nil when the device cannot be reached.
func (e *Engine) facts(ctx context.Context, c *store.Change, way *path.Path, d store.Device, p *portrait.Portrait, hop int) (*ready.Facts, error) {
	dialect := e.Profile(d)
	if dialect == nil {
		return nil, final("dialect %q is not known here", d.Dialect)
	}
	can := dialect.Abilities
	f := &ready.Facts{Now: c.Now.In(e.Zone), BackIsAuto: c.BackPolicy == change.Automatic, HasSlots: !can.InPlace, FromFiles: can.FromFiles, CanSave: can.Save,
		WantModel: way.ModelAt(hop), WantSerial: c.First().Planned.Serial, WantVersion: c.From}
	stepFacts(f, c, dialect, p, hop)
	f.Single = c.Kind == change.SingleOperations
	if hop < len(way.Hops) {
		h := &way.Hops[hop]
		f.WantVersion, f.GoesOnAs = h.From.String(), h.NewModel
		if h.Platform != nil {
			for _, v := range h.Platform.Changes {
				f.WillChange = append(f.WillChange, v.Value)
			}
		}
	}
	if c.WindowFrom != nil {
		f.From = c.WindowFrom.In(e.Zone)
	}
	if c.WindowTo != nil {
		f.To = c.WindowTo.In(e.Zone)
	}
	if p != nil {
		portraitFacts(f, c, p)
		e.stores(ctx, f, dialect, way, p, hop)
	}
	if err := e.waysIn(ctx, f, d, way); err != nil {
		return nil, err
	}
	if c.RestartFrom != nil {
		f.RestartFrom = c.RestartFrom.In(e.Zone)
	}
	if hop < len(c.Back) && c.Back[hop].Way != change.NoWayBack {
		f.BackText, f.BackNeedless = c.Back[hop].Text, c.Back[hop].Way == change.BackNotNeeded
	}
	if c.Kind == change.Firmware || c.Kind == change.SingleOperations || bringsUp(c) {
		if err := e.files(ctx, f, c, way, p, hop, &can); err != nil {
			return nil, err
		}
	} else {
		f.Total, f.Need = max(f.Total, 1), 0 // nothing is sent
	}
	if last, err := e.Store.LastGoodBackup(ctx, d.ID); err == nil {
		age := e.since(last)
		f.BackupAge = &age
	} else if !errors.Is(err, store.ErrNotFound) {
		return nil, records(err)
	}
	if err := e.otherFacts(ctx, f, c, way, d, p, hop); err != nil {
		return nil, err
	}
	f.NewAddress = e.newAddress(ctx, c, d)
	if err := e.older(ctx, f, c, way); err != nil {
		return nil, err
	}
	return f, e.forecastInto(ctx, f, c)
}

// stepFacts are what the plan is about to do.
func stepFacts(f *ready.Facts, c *store.Change, dialect *device.Profile, p *portrait.Portrait, hop int) {
	for _, s := range c.Steps {
		k := s.Plan.Kind
		f.Writes = f.Writes || !s.Plan.Back && (k == change.Install || k == change.Clone)
		f.SavesFirst = f.SavesFirst || k == change.Save
		f.Starts = f.Starts || k == change.Restart || s.Plan.InPlace()
		f.Touches = f.Touches || k.Spec().Loses && !s.Plan.Back
		f.BackupSoon = f.BackupSoon || k == change.Backup && !s.Plan.Back
		if k == change.Clone && dialect.Copies != nil {
			f.Copy, f.CopyApart = dialect.Copies.Name(c.ID, c.From), dialect.Copies.Apart
		}
		if file := s.Plan.File(); k == change.ChooseSlot && s.Plan.Hop == hop && file != nil && p != nil && p.RunningSlot() != nil && p.RunningSlot().Name == file.Name && p.Version != file.Version {
			f.SameName = file.Name
		}
	}
}

// portraitFacts are what the device says of itself.
func portraitFacts(f *ready.Facts, c *store.Change, p *portrait.Portrait) {
	f.Model, f.Serial, f.Version, f.Unsaved = p.Model, p.Serial, p.Version, p.Unsaved
	if bringsUp(c) && slices.ContainsFunc(c.Steps, func(s store.Step) bool {
		return s.Plan.Kind == change.PutPart && s.State != change.StepWaiting
	}) {
		f.Unsaved = portrait.No // it is what the change has put, and saves
	}
	if unitHas(c, p.Serial) {
		f.WantSerial = p.Serial
	}
	if b := c.First().Planned.Became; b != nil && b.Model == f.WantModel {
		f.WantSerial = b.Serial
	}
	_, room, _ := p.ImageRoom()
	f.Total, f.Free = room.Total, room.Free
	f.Services, f.NotUnderstood = p.ServicesReady, p.NotUnderstood
	f.Role, f.Mate, f.Sync, f.InSync = p.Role, p.Mate, p.Sync, p.InSync
	f.Together = c.First().Role != ""
	f.Modules = p.Modules
	if idle := p.IdleSlot(); idle != nil {
		f.Idle, f.IdleHolds, f.IdleBusy, f.IdleBroken = idle.Name, idle.Version, idle.Busy == portrait.Yes, idle.Broken()
	}
	if running := p.RunningSlot(); running != nil {
		f.RunningIn = running.Name
	}
}

// otherFacts are prerequisites, licences, and those about what belongs to the device: its units, what follows it, what is to follow it.
func (e *Engine) otherFacts(ctx context.Context, f *ready.Facts, c *store.Change, way *path.Path, d store.Device, p *portrait.Portrait, hop int) error {
	if err := e.needs(ctx, f, c, way, d, p, hop); err != nil {
		return err
	}
	wanted, err := e.wantedLicences(ctx, c, d.Name, p)
	if err != nil {
		return err
	}
	f.Needs = append(f.Needs, wanted...)
	if err := e.unitFacts(ctx, f, c, way, p, hop); err != nil {
		return err
	}
	if err := e.childFacts(ctx, f, c, p); err != nil {
		return err
	}
	if err := e.joinFacts(ctx, f, c, p); err != nil {
		return err
	}
	return nil
}

// stores looks at the storages beside that for files. What the idle slot holds makes room for what is written into it, by what the
// catalogue says it takes.
func (e *Engine) stores(ctx context.Context, f *ready.Facts, d *device.Profile, way *path.Path, p *portrait.Portrait, hop int) {
	for _, name := range slices.Sorted(maps.Keys(p.Storage)) {
		room := p.Storage[name]
		if !room.NoImages {
			continue
		}
		out := ready.Store{Name: name, Room: room}
		if name == d.Places && f.Writes && hop < len(way.Hops) {
			out.Need = max(way.Hops[hop].Image.Installed-e.takes(ctx, way, f.IdleHolds), 0)
		}
		f.Stores = append(f.Stores, out)
	}
}

// takes is how much an installation of a version takes in its slot; 0 when nobody knows.
func (e *Engine) takes(ctx context.Context, way *path.Path, v string) int64 {
	parsed, err := version.Parse(v)
	if err != nil || e.Catalogue == nil {
		return 0
	}
	cat, err := e.Catalogue(ctx)
	if err != nil {
		return 0
	}
	f := cat.Family(way.Family)
	if f == nil || f.Release(parsed) == nil || f.Release(parsed).Image(way.Model) == nil {
		return 0
	}
	return f.Release(parsed).Image(way.Model).Installed
}

// waysIn looks for versions on the way for which no credential is meant.
func (e *Engine) waysIn(ctx context.Context, f *ready.Facts, d store.Device, way *path.Path) error {
	cs, err := e.Store.Credentials(ctx, d.ID)
	if err != nil {
		return records(err)
	}
	var versions []string
	for _, h := range way.Hops {
		versions = append(versions, h.From.String(), h.To.String())
	}
	for _, v := range versions {
		known := slices.ContainsFunc(cs, func(c store.Credential) bool {
			if c.Kind != KindPassword && c.Kind != KindKey && c.Kind != KindConsole {
				return false
			}
			r, err := version.ParseRange(c.Versions)
			parsed, bad := version.Parse(v)
			return c.Versions == "" || err == nil && bad == nil && r.Contains(parsed)
		})
		if !known && !slices.Contains(f.NoCredential, v) {
			f.NoCredential = append(f.NoCredential, v)
		}
	}
	return nil
}

// files looks at the files of the change: in our store, and what of this hop is still to come onto the device.
func (e *Engine) files(ctx context.Context, f *ready.Facts, c *store.Change, way *path.Path, p *portrait.Portrait, hop int, can *change.Abilities) error {
	media, byVersion := can.Media, can.ByVersion
	seen := map[string]bool{}
	var mine []string
	clean := map[string]bool{}
	for i := range c.Steps {
		s := &c.Steps[i].Plan
		if s.Kind == change.CleanUp && s.Hop == hop {
			for _, n := range change.Of[change.CleanUpParams](s).Files {
				clean[n] = true
			}
		}
		if s.Kind != change.Checksum || s.Hop < 0 || s.Back {
			continue
		}
		file := s.File()
		if file == nil {
			file = change.Image(&way.Hops[s.Hop])
		}
		if s.Hop == hop && !seen["hop "+file.Name] {
			seen["hop "+file.Name] = true
			mine = append(mine, file.Name)
			there := int64(0)
			if p != nil && p.File(file.Name) != nil {
				there = p.File(file.Name).Size
			} else if p != nil && byVersion && p.Slot(file.Name) != nil {
				there = file.Size
			}
			if !media {
				f.Need += max(file.Size-there, 0)
			}
		}
		if seen[file.SHA256] {
			continue
		}
		seen[file.SHA256] = true
		rf := ready.File{Name: file.Name, Size: file.Size, There: true}
		if fetch, err := e.Store.FetchOf(ctx, file.SHA256); err == nil && fetch.Open() {
			rf.There, rf.Comes = false, true
		} else if media && !e.Blobs.Has(file.SHA256) {
			// It is carried in: what lies on the medium is compared with the catalogue's hash on the device.
		} else if err := e.fileFits(ctx, file, cmp.Or(file.Model, way.ModelAt(s.Hop+1))); err != nil {
			var record *recordError
			if errors.As(err, &record) {
				return err
			}
			rf.There, rf.Why = false, err.Error()
		}
		f.Files = append(f.Files, rf)
	}
	if p != nil {
		installed := e.installed(ctx, way, p)
		files := slices.SortedFunc(slices.Values(p.Files), func(a, b portrait.File) int { return int(min(max(b.Size-a.Size, -1), 1)) })
		for _, file := range files {
			switch {
			case clean[file.Name]:
				f.Free += file.Size
			case slices.Contains(mine, file.Name):
			case spare(p, file.Name):
				f.Removable = append(f.Removable, fmt.Sprintf("%s (%s, an image that is neither started next nor second)", file.Name, ready.MiB(file.Size)))
			case installed[file.Name] != "":
				f.Installed = append(f.Installed, fmt.Sprintf("%s (%s, the image of %s)", file.Name, ready.MiB(file.Size), installed[file.Name]))
			case len(f.Removable) < 3:
				f.Removable = append(f.Removable, fmt.Sprintf("%s (%s)", file.Name, ready.MiB(file.Size)))
			}
		}
	}
	if hop < len(c.Back) && c.Back[hop].Way == change.BackByReinstall {
		for _, s := range c.Back[hop].Steps {
			if s.Kind == change.Install && s.File() != nil && !e.Blobs.Has(s.File().SHA256) {
				f.BackFile = s.File().Name
			}
		}
	}
	return nil
}

// spare reports whether a file is an image that the device could start, and that nothing needs: neither what runs, nor what is started next or second.
func spare(p *portrait.Portrait, name string) bool {
	slot := p.Slot(name)
	return slot != nil && !slot.Running && slot.Next == portrait.No && slot.Second == portrait.No
}

// installed are the files that the catalogue lists for what runs on a device and for what it could fall back to: the version of each.
func (e *Engine) installed(ctx context.Context, way *path.Path, p *portrait.Portrait) map[string]string {
	out := map[string]string{}
	if e.Catalogue == nil {
		return out
	}
	cat, err := e.Catalogue(ctx)
	if err != nil || cat.Family(way.Family) == nil {
		return out
	}
	family := cat.Family(way.Family)
	for _, name := range append([]string{p.Version}, slotVersions(p)...) {
		v, err := version.Parse(name)
		release := family.Release(v)
		if err != nil || release == nil {
			continue
		}
		for _, r := range []*catalog.Release{release, family.Release(release.Base)} { // what it builds on is part of it
			if r != nil && r.Image(p.Model) != nil {
				out[r.Image(p.Model).File] = name
			}
		}
	}
	return out
}

func slotVersions(p *portrait.Portrait) (out []string) {
	for _, s := range p.Slots {
		out = append(out, s.Version)
	}
	return out
}

// needs holds the device against the prerequisites of the hop.
func (e *Engine) needs(ctx context.Context, f *ready.Facts, c *store.Change, way *path.Path, d store.Device, p *portrait.Portrait, hop int) error {
	if e.Catalogue == nil || hop >= len(way.Hops) || c.Kind != change.Firmware && !bringsUp(c) {
		return nil
	}
	cat, err := e.Catalogue(ctx)
	if err != nil {
		return unusable(err)
	}
	family := cat.Family(way.Family)
	if family == nil {
		return nil
	}
	facts := &portrait.Portrait{}
	if p != nil {
		*facts = *p
		facts.Name = d.Name
	}
	facts.Uses, facts.Given = e.uses(ctx, family, d), c.Licences()
	kinds := map[string]string{catalog.NeedBootVariable: ready.Variables, catalog.NeedLicence: ready.Licences}
	for _, q := range way.Hops[hop].Prerequisites {
		i := slices.IndexFunc(family.Requirements, func(r catalog.Requirement) bool { return r.ID == q.ID })
		if i < 0 || q.ID == "" { // the room for the images is counted from the files
			continue
		}
		r := &family.Requirements[i]
		state, evidence := r.Met(facts)
		if r.Kind == catalog.NeedContent {
			state, evidence = q.State, q.Evidence // the way itself may bring it along
		}
		n := ready.Need{Check: kinds[r.Kind], Text: q.Text, Evidence: evidence, What: q.Remedy}
		if n.Check == "" {
			n.Check = ready.Prerequisites
		}
		if state != catalog.Unknown {
			met := state == catalog.Yes
			n.Met = &met
		}
		n.Check += " " + q.ID
		f.Needs = append(f.Needs, n)
	}
	return nil
}

// uses says which conditions of the catalogue the newest saved configuration fulfils; nil when nobody knows.
func (e *Engine) uses(ctx context.Context, family *catalog.Family, d store.Device) map[string]bool {
	bs, err := e.Store.Backups(ctx, store.BackupList{Device: d.Name, Limit: 1})
	if err != nil || len(bs) == 0 || bs[0].File == "" {
		return nil
	}
	text, err := e.Main(bs[0])
	if err != nil {
		return nil
	}
	schema, err := e.reading(ctx, bs[0].Model, bs[0].Version, config.Syntax(family.Configuration.Syntax), bs[0].File, text)
	if err != nil {
		return nil
	}
	doc, broken := schema.Parse(bs[0].File, text)
	if len(broken) > 0 {
		return nil
	}
	return family.Fulfilled(doc)
}

// Uses is uses for callers that know the device's model only.
func (e *Engine) Uses(ctx context.Context, family *catalog.Family, d store.Device) map[string]bool {
	return e.uses(ctx, family, d)
}
