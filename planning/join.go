package planning

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"regexp"
	"slices"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/version"
	"verimorph/engine"
	"verimorph/store"
)

// Boxes that come under a controller, and stand alone again.

// The roles of the two members of such a change.
const (
	roleController = "controller"
	roleBox        = "box"
)

// groupForm is how groups of a controller are named: one word, since it goes into a command.
var groupForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:/-]{0,63}$`)

// joinSteps are the kinds of steps in which clients notice such a change.
var joinSteps = []change.Kind{change.BecomeManaged, change.JoinController, change.ReleaseChild}

// A joinDraft is such a change in the making.
type joinDraft struct {
	s               *Planner
	w               *change.Wish
	controller, box store.Device
	now, alone      *portrait.Portrait // of the controller, and of the box: by itself, or by the word of the controller
	job             change.JoinJob
	member          store.Member // the box
}

// draftJoin drafts a change that brings a box under a controller, or takes it from there. Both are looked at first.
func (s *Planner) draftJoin(ctx context.Context, by access.Actor, box store.Device, w *change.Wish, keys map[string]string) (none store.Change, err error) {
	d := &joinDraft{s: s, w: w, box: box}
	if err := d.check(keys); err != nil {
		return none, err
	}
	under := engine.Follows(&box)
	if w.Join != nil {
		under = w.Join.Controller
	}
	if d.controller, err = s.serving(ctx, by, under); err != nil {
		return none, err
	}
	if d.controller.ID == box.ID {
		return none, invalid("%s cannot follow itself", box.Name)
	}
	if err := d.look(ctx, by); err != nil {
		return none, err
	}
	if err := d.jobs(ctx); err != nil {
		return none, err
	}
	c := store.Change{Kind: change.Joining}
	draft := change.DraftJoin
	if w.Release {
		c.Kind, draft = change.Releasing, change.DraftRelease
		if c.Work, err = d.before(ctx); err != nil {
			return none, err
		}
	} else if len(keys) > 0 {
		if c.Work, err = engine.LicenceWork(s.Vault, d.controller.Name, keys); err != nil {
			return none, err
		}
	}
	plan, err := draft(&d.job)
	if err != nil {
		return none, conflict("%s", err)
	}
	if err := s.Engine.Learn(ctx, d.now.Model, plan.Steps); err != nil {
		return none, err
	}
	return d.change(c, plan)
}

// check refuses what such a wish cannot have.
func (d *joinDraft) check(keys map[string]string) error {
	w, under := d.w, engine.Follows(&d.box)
	switch {
	case w.Join != nil && w.Release:
		return invalid("either it comes under a controller or it stands alone again, not both")
	case w.Operations != nil || w.Back || w.Carry || w.Both || w.To != "" || len(w.CleanUp) > 0 || len(w.Authorise) > 0:
		return invalid("what comes under a controller, or leaves it, is not changed otherwise in the same change; draft that for itself")
	case w.Release && under == "":
		return conflict("%s follows nobody, as it was last seen; refresh it if it does by now", d.box.Name)
	case w.Join != nil && w.Join.Group != "" && !groupForm.MatchString(w.Join.Group):
		return invalid("group %q: one word of letters, digits, dots, dashes and underscores", w.Join.Group)
	case w.Join != nil && w.Join.Address != "" && !groupForm.MatchString(w.Join.Address):
		return invalid("address %q: a host name or an address", w.Join.Address)
	case w.Join == nil && len(w.Licences) > 0:
		return invalid("a box that stands alone again is given no licence")
	}
	return checkLicences(w.Licences, keys)
}

// serving is the device of a name, or of an ensemble of that name the one that serves.
func (s *Planner) serving(ctx context.Context, by access.Actor, name string) (store.Device, error) {
	e, err := s.Store.Ensemble(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return s.Device(ctx, name)
	}
	if err != nil {
		return store.Device{}, err
	}
	devices, facts, err := s.lookAtAll(ctx, by, &e)
	if err != nil {
		return store.Device{}, err
	}
	for i := range facts {
		if facts[i].Serves() {
			return devices[i], nil
		}
	}
	return store.Device{}, conflict("no member of %s says that it serves", name)
}

// look looks at the controller, and at the box: by itself, or by the word of the controller.
func (d *joinDraft) look(ctx context.Context, by access.Actor) (err error) {
	if d.now, err = d.s.Engine.Refresh(ctx, d.controller, by); err != nil {
		return conflict("%s cannot be looked at now: %s", d.controller.Name, err)
	}
	if d.alone, err = d.s.Engine.Refresh(ctx, d.box, by); err != nil {
		return conflict("%s cannot be looked at now: %s", d.box.Name, err)
	}
	switch {
	case d.w.Release && d.alone.Follows == "":
		return conflict("%s stands alone already", d.box.Name)
	case d.alone.Serial == "":
		return conflict("%s does not tell its serial, by which its controller could be told which box it is", d.box.Name)
	}
	return nil
}

// jobs prepares what the plan is drafted from.
func (d *joinDraft) jobs(ctx context.Context) error {
	s, j := d.s, &d.job
	cat, _, err := s.Catalogue(ctx)
	if err != nil {
		return err
	}
	j.Params = change.JoinParams{Controller: d.controller.Name, Child: d.box.Name, Serial: d.alone.Serial, Model: d.alone.Model}
	j.Params.Address, _, _ = net.SplitHostPort(d.controller.Address)
	if d.w.Join != nil {
		j.Params.Group = d.w.Join.Group
		if d.w.Join.Address != "" {
			j.Params.Address = d.w.Join.Address
		}
	} else if child := d.now.ChildBySerial(d.alone.Serial); child != nil {
		j.Params.Name, j.Params.Group = child.Name, child.Group
	}
	j.Licences, j.Managed, j.Empty = d.w.Licences, d.w.Release, d.w.Empty
	for _, m := range []struct {
		device   store.Device
		p        *portrait.Portrait
		from, to string
		job      *change.Job
	}{{d.controller, d.now, d.now.Version, d.now.Version, &j.Controller}, {d.box, d.alone, d.alone.Version, d.now.Version, &j.Box}} {
		profile := s.Engine.Profile(m.device)
		if profile == nil {
			return conflict("%s: dialect %q is not known here", m.device.Name, m.device.Dialect)
		}
		way := &path.Path{Model: m.p.Model}
		f := cat.FamilyOfModel(m.p.Model)
		if f != nil {
			way.Family = f.Name
		} else {
			f = &catalog.Family{}
		}
		if way.From, err = version.Parse(m.from); err == nil {
			way.To, err = version.Parse(m.to)
		}
		if err != nil {
			return conflict("a version of %s cannot be read: %s", m.device.Name, err)
		}
		way.Hops = []path.Hop{{From: way.From, To: way.To, Config: catalog.ConfigKept, Restarts: 1, Permit: catalog.Citation{Text: "a box comes under a controller, or stands alone again"},
			Effects: slices.DeleteFunc(slices.Clone(f.Effects), func(e catalog.Effect) bool {
				return !slices.Contains(joinSteps, change.Kind(e.Step)) || e.When.Holds(m.p) == catalog.No
			})}}
		*m.job = change.Job{Family: f, Path: way, Can: profile.Abilities, Pace: s.Pace}
	}
	return nil
}

// before finds what the box was when it stood alone last: its backup, which is put back, and its readings, which are compared with. It returns the work of
// the change.
func (d *joinDraft) before(ctx context.Context) ([]byte, error) {
	if d.w.Empty {
		return nil, nil
	}
	s := d.s
	all, err := s.Store.Backups(ctx, store.BackupList{Device: d.box.Name, Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(all) == 0 || !all[0].Complete {
		return nil, conflict("there is no complete backup of %s from when it stood alone; with -empty it stays in its factory state", d.box.Name)
	}
	b := all[0]
	to, err := version.Parse(b.Version)
	if err != nil {
		return nil, conflict("the version of backup %d cannot be read: %s", b.ID, err)
	}
	d.job.Box.Path.To, d.job.Box.Path.Hops[0].To = to, to
	parts, err := s.Engine.PartsOf(b, d.box)
	if err != nil {
		return nil, conflict("%s", err)
	}
	sets, err := s.Store.ReadingSets(ctx, d.box.ID, 0, 1)
	if err != nil {
		return nil, err
	}
	if len(sets) > 0 {
		d.job.Measured, d.member.Readings = true, sets[0].Readings
	}
	return engine.PutBackWork(b.ID, parts)
}

// change puts the record together.
func (d *joinDraft) change(c store.Change, plan *change.EnsemblePlan) (store.Change, error) {
	var ways [2][]byte
	for i, job := range []*change.Job{&d.job.Controller, &d.job.Box} {
		var err error
		if ways[i], err = json.Marshal(job.Path); err != nil {
			return c, err
		}
	}
	c.From, c.To, c.Path = d.job.Box.Path.From.String(), d.job.Controller.Path.To.String(), ways[0]
	box := d.member
	box.DeviceID, box.Role, box.Planned, box.Path, box.Back = d.box.ID, roleBox, store.Planned{Model: d.alone.Model, Serial: d.alone.Serial}, ways[1], plan.Back[1]
	c.Members = []store.Member{{DeviceID: d.controller.ID, Role: roleController, Planned: store.Planned{Model: d.now.Model, Serial: d.now.Serial}, Path: ways[0], Back: plan.Back[0]}, box}
	return withSteps(c, &change.Plan{Steps: plan.Steps}), nil
}
