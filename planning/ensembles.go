package planning

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/ensemble"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/store"
)

// Ensembles: finding and declaring them, and drafting a change of all members at once.

// Declare records which devices form an ensemble. What the devices say otherwise is returned, and does not keep anybody from declaring it: it stops
// a change of the ensemble instead.
func (s *Planner) Declare(ctx context.Context, by access.Actor, name string, kind change.EnsembleKind, devices []string) error {
	least, most, known := ensemble.Members(kind)
	switch {
	case !GoodName(name):
		return invalid("%q is no name: letters, digits, dots, dashes and underscores, 64 at most", name)
	case !known:
		return invalid("there is no kind of ensemble %q; known: %s, %s", kind, change.Pair, change.Cluster)
	case len(devices) < least || len(devices) > most:
		return invalid("a %s has from %d to %d members, not %d", kind, least, most, len(devices))
	}
	for i, d := range devices {
		if slices.Contains(devices[:i], d) {
			return invalid("device %s is named twice", d)
		}
	}
	err := s.Store.Declare(ctx, by, name, kind, devices)
	var taken *store.NameTaken
	constraint, conflicting := store.Conflict(err)
	switch {
	case errors.As(err, &taken):
		return conflict("%s", taken)
	case conflicting && constraint == "one_ensemble":
		return conflict("one of these devices belongs to another ensemble; take it out of that first: verimorph ensemble list")
	case errors.Is(err, store.ErrNotFound):
		return notFound("one of %s is no device here", strings.Join(devices, ", "))
	}
	return err
}

// Ensemble returns one by name; an error of kind NotFound says that there is none.
func (s *Planner) Ensemble(ctx context.Context, name string) (store.Ensemble, error) {
	e, err := s.Store.Ensemble(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return e, notFound("there is no ensemble %q", name)
	}
	return e, err
}

// Portraits are those of the members as they were last looked at, under their names; one that was never looked at has an empty version.
func Portraits(e *store.Ensemble) (out []portrait.Portrait) {
	for _, m := range e.Members {
		var p portrait.Portrait
		if m.Portrait != nil && json.Unmarshal(m.Portrait, &p) != nil {
			p = portrait.Portrait{}
		}
		p.Name = m.Device
		out = append(out, p)
	}
	return out
}

// FindEnsembles proposes ensembles from what devices say; those that are declared just so already are left out.
func (s *Planner) FindEnsembles(ctx context.Context) (out []ensemble.Found, err error) {
	var all []portrait.Portrait
	for d, err := range s.Store.AllDevices(ctx) {
		if err != nil {
			return nil, err
		}
		if p := PortraitOf(d); p != nil && (p.Mate != "" || p.Ensemble != "") {
			p.Name = d.Name
			all = append(all, *p)
		}
	}
	of, err := s.Store.EnsemblesOf(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range ensemble.Find(all) {
		in := map[string]bool{}
		for _, m := range f.Members {
			in[of[m]] = true
		}
		if together := len(in) == 1 && !in[""]; together && len(f.Doubts) == 0 {
			continue
		}
		for _, m := range f.Members {
			if of[m] != "" {
				f.Doubts = append(f.Doubts, fmt.Sprintf("%s belongs to %s, as it is declared", m, of[m]))
			}
		}
		out = append(out, f)
	}
	return out, nil
}

// fits refuses wishes that an ensemble cannot have.
func fits(w *change.Wish, name string) error {
	var cannot string
	switch {
	case w.Operations != nil:
		cannot = "single operations"
	case w.Back || w.Carry:
		cannot = "starting the previous installation"
	case w.Both:
		cannot = "installing into both slots"
	case len(w.Licences) > 0:
		cannot = "giving licences"
	case len(w.CleanUp) > 0:
		cannot = "removing files"
	case w.ComesBackAt != "":
		cannot = "coming back at another address"
	default:
		return nil
	}
	return invalid("%s is of single devices; %s is an ensemble: draft it for its members, one by one", cannot, name)
}

// draftEnsemble drafts a change of an ensemble to another version: a lane for each member, in an order that is proved. All members are looked at first,
// since who goes first depends on who serves now.
func (s *Planner) draftEnsemble(ctx context.Context, by access.Actor, e store.Ensemble, w *change.Wish) (store.Change, error) {
	none := store.Change{}
	if err := fits(w, e.Name); err != nil {
		return none, err
	}
	devices, facts, err := s.lookAtAll(ctx, by, &e)
	if err != nil {
		return none, err
	}
	aim := w.Aim
	aim.Alternatives = 0
	q, err := s.Question(ctx, &facts[0], aim)
	if err != nil {
		return none, err
	}
	d := &ensembleDraft{s: s, e: &e, devices: devices, facts: facts}
	if err := s.Ask(ctx, func(cat *catalog.Catalogue, planner *path.Planner) error {
		d.cat = cat
		if w.Together {
			if err := d.layTogether(planner, q); err != nil {
				return err
			}
		} else if err := d.layJoint(planner, q); err != nil {
			return err
		}
		d.getOn = tolerated(planner, facts[0].Model, d.ways)
		return nil
	}); err != nil {
		return none, err
	}
	return d.draft(ctx, by, w)
}

// tolerated says which versions of some ways may run side by side. A planner is for one caller at a time, so all pairs are asked now.
func tolerated(planner *path.Planner, model string, ways []*path.Path) func(a, b string) bool {
	var versions []string
	for _, p := range ways {
		versions = append(versions, p.From.String())
		for _, h := range p.Hops {
			versions = append(versions, h.To.String())
		}
	}
	slices.Sort(versions)
	versions = slices.Compact(versions)
	good := map[[2]string]bool{}
	for _, a := range versions {
		for _, b := range versions {
			_, good[[2]string{a, b}] = planner.GetOn(model, a, b)
		}
	}
	return func(a, b string) bool { return good[[2]string{a, b}] }
}

// lookAtAll looks at all members now, side by side.
func (s *Planner) lookAtAll(ctx context.Context, by access.Actor, e *store.Ensemble) (devices []store.Device, facts []portrait.Portrait, err error) {
	devices, facts = make([]store.Device, len(e.Members)), make([]portrait.Portrait, len(e.Members))
	errs := make([]error, len(e.Members))
	var group sync.WaitGroup
	for i, m := range e.Members {
		group.Go(func() {
			if devices[i], errs[i] = s.Device(ctx, m.Device); errs[i] != nil {
				return
			}
			if _, err := s.Engine.Refresh(ctx, devices[i], by); err != nil {
				errs[i] = conflict("%s cannot be looked at now, and who goes first depends on how all of them stand: %s", m.Device, err)
				return
			}
			if devices[i], errs[i] = s.Device(ctx, m.Device); errs[i] != nil {
				return
			}
			var p *portrait.Portrait
			if p, errs[i] = s.Facts(ctx, devices[i]); errs[i] == nil {
				facts[i] = *p
			}
		})
	}
	group.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, nil, err
	}
	var wrong []string
	for _, f := range ensemble.Check(e.Kind, facts) {
		if f.Wrong {
			wrong = append(wrong, f.Text+" ("+f.Remedy+")")
		}
	}
	if len(wrong) > 0 {
		return nil, nil, conflict("%s cannot be changed as it stands: %s", e.Name, strings.Join(wrong, "; "))
	}
	return devices, facts, nil
}

// An ensembleDraft is such a change in the making.
type ensembleDraft struct {
	s       *Planner
	cat     *catalog.Catalogue
	e       *store.Ensemble
	devices []store.Device
	facts   []portrait.Portrait
	ways    []*path.Path // of each member
	turns   []change.Turn
	getOn   func(a, b string) bool
}

// layJoint finds the way on which somebody serves at every moment.
func (d *ensembleDraft) layJoint(planner *path.Planner, q path.Question) error {
	j, err := planner.FindJoint(d.facts, q)
	if err != nil {
		return err
	}
	return d.lay(j)
}

// layTogether gives each member its own path: they take the same hop at the same time, so that no versions have to get on with each other.
func (d *ensembleDraft) layTogether(planner *path.Planner, q path.Question) error {
	most := 0
	for i := range d.facts {
		q.Portrait = &d.facts[i]
		p, err := planner.Find(q)
		if err != nil {
			return err
		}
		d.ways = append(d.ways, p)
		most = max(most, len(p.Hops))
	}
	if most == 0 {
		return conflict("all members of %s run %s already; there is nothing to change", d.e.Name, d.ways[0].To)
	}
	for hop := range most {
		t := change.Turn{}
		for i, p := range d.ways {
			if hop < len(p.Hops) {
				t.Members, t.Hops = append(t.Members, i+1), append(t.Hops, hop)
			}
		}
		d.turns = append(d.turns, t)
	}
	return nil
}

// lay splits a joint path into the paths of the members, and into turns: members that take the same hop one after the other share one.
func (d *ensembleDraft) lay(j *path.Joint) error {
	for i := range d.facts {
		p := &path.Path{Family: j.Family, Model: d.facts[i].Model, Aim: j.Aim, From: j.Paths[0].To, To: j.Paths[0].To, Notes: j.Notes}
		for _, m := range j.Moves {
			if slices.Contains(m.Members, d.facts[i].Name) {
				p.Hops = append(p.Hops, m.Hop)
			}
		}
		if len(p.Hops) > 0 {
			p.From = p.Hops[0].From
		}
		d.ways = append(d.ways, p)
	}
	if len(j.Moves) == 0 {
		return conflict("all members of %s run %s already; there is nothing to change", d.e.Name, j.Paths[0].To)
	}
	done := make([]int, len(d.facts)) // by member: hops that it took
	var before *path.Hop
	for k := range j.Moves {
		m := &j.Moves[k]
		if before == nil || !sameHop(before, &m.Hop) || d.inLastTurn(m.Members) {
			d.turns = append(d.turns, change.Turn{})
		}
		before = &m.Hop
		t := &d.turns[len(d.turns)-1]
		for i := range d.facts {
			if slices.Contains(m.Members, d.facts[i].Name) {
				t.Members, t.Hops = append(t.Members, i+1), append(t.Hops, done[i])
				done[i]++
			}
		}
	}
	return nil
}

func sameHop(a, b *path.Hop) bool {
	return a.From.String() == b.From.String() && a.To.String() == b.To.String()
}

// inLastTurn reports whether one of some members has taken a hop in the last turn already.
func (d *ensembleDraft) inLastTurn(names []string) bool {
	last := d.turns[len(d.turns)-1].Members
	return slices.ContainsFunc(last, func(n int) bool { return slices.Contains(names, d.facts[n-1].Name) })
}

// draft drafts and proves the plan.
func (d *ensembleDraft) draft(ctx context.Context, by access.Actor, w *change.Wish) (store.Change, error) {
	none := store.Change{}
	job := change.EnsembleJob{Kind: d.e.Kind, Turns: d.turns, GetOn: d.getOn, SwitchBack: w.SwitchBack, Together: w.Together}
	if err := change.CheckSerials(w.Authorise); err != nil {
		return none, invalid("authorise: %s", err)
	}
	d.childImages()
	active := 0
	for i := range d.devices {
		j, err := d.job(ctx, by, i)
		if err != nil {
			return none, err
		}
		p := &d.facts[i]
		if p.Serves() {
			active = i + 1
		}
		job.Members = append(job.Members, change.EnsembleMember{Name: p.Name, Active: p.Serves(), Sync: p.InSync == portrait.Yes, Job: j})
	}
	if active > 0 && job.Members[active-1].Job.Can.Children.Told {
		job.Children, job.Authorise = change.ChildrenIn(&d.facts[active-1]), w.Authorise
	}
	plan, err := change.DraftEnsemble(job)
	if err != nil {
		return none, conflict("%s", err)
	}
	if err := d.learn(ctx, plan.Steps); err != nil {
		return none, err
	}
	c := store.Change{To: d.ways[0].To.String(), Kind: change.Firmware, Ensemble: &change.Ensemble{Name: d.e.Name, Kind: d.e.Kind, Turns: d.turns, SwitchBack: w.SwitchBack, Together: w.Together,
		Active: active, Proof: change.ProofOf(plan)}}
	var from []string
	for i := range d.devices {
		data, err := json.Marshal(d.ways[i])
		if err != nil {
			return none, err
		}
		if i+1 == active {
			c.Path = data
		}
		p := &d.facts[i]
		if !slices.Contains(from, p.Version) {
			from = append(from, p.Version)
		}
		back := plan.Back[i]
		if back == nil {
			back = []change.Back{}
		}
		c.Members = append(c.Members, store.Member{DeviceID: d.devices[i].ID, Role: p.Role, Planned: store.Planned{Model: p.Model, Serial: p.Serial}, Path: data, Back: back})
	}
	c.From = strings.Join(from, ", ")
	return withSteps(c, &change.Plan{Steps: plan.Steps, Children: job.ChildrenOf()}), nil
}

// job is what the lane of a member is drafted from. Images that are missing are fetched.
func (d *ensembleDraft) job(ctx context.Context, by access.Actor, i int) (change.Job, error) {
	s, p := d.s, d.ways[i]
	profile := s.Engine.Profile(d.devices[i])
	if profile == nil {
		return change.Job{}, conflict("%s: dialect %q is not known here", d.devices[i].Name, d.devices[i].Dialect)
	}
	lacks := slices.Clone(profile.Lacks)
	if !profile.Abilities.TakeOver {
		lacks = append(lacks, "take-over")
	}
	if len(lacks) > 0 {
		return change.Job{}, conflict("%s: dialect %q cannot change the firmware of a member of an ensemble: it has no %s; add these verbs to it, or do it by hand",
			d.devices[i].Name, d.devices[i].Dialect, strings.Join(lacks, ", "))
	}
	missing := map[string]bool{}
	if profile.Medium == "" && len(p.Hops) > 0 {
		fetches, err := s.fetchFor(ctx, by, p)
		if err != nil {
			return change.Job{}, err
		}
		for _, f := range fetches {
			missing[f.SHA256] = true
		}
	}
	f := d.cat.Family(p.Family)
	return change.Job{Family: f, Path: p, Can: profile.Abilities, Pace: s.Pace, Lacks: func(sum string) bool { return missing[sum] }, Old: s.old(ctx, f, p)}, nil
}

// childImages adds the images of the boxes that follow the ensemble to the path of each member that needs them as files of its own: whoever serves in the
// end gives them out.
func (d *ensembleDraft) childImages() {
	i := slices.IndexFunc(d.facts, func(p portrait.Portrait) bool { return p.Serves() })
	if i < 0 {
		return
	}
	for k, way := range d.ways {
		if profile := d.s.Engine.Profile(d.devices[k]); profile != nil && profile.Abilities.Children.Files {
			change.AddChildImages(d.cat.Family(way.Family), &d.facts[i], way)
		}
	}
}

// learn puts what was seen before on such devices into the expected times, for each member by its model.
func (d *ensembleDraft) learn(ctx context.Context, steps []change.Step) error {
	for i := range d.facts {
		var mine []change.Step
		var at []int
		for k := range steps {
			if steps[k].Member == i+1 || i == 0 && steps[k].Member == 0 {
				mine, at = append(mine, steps[k]), append(at, k)
			}
		}
		if err := d.s.Engine.Learn(ctx, d.facts[i].Model, mine); err != nil {
			return err
		}
		for n, k := range at {
			steps[k] = mine[n]
		}
	}
	return nil
}
