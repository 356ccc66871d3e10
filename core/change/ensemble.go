package change

import (
	"cmp"
	"fmt"
	"slices"

	"verimorph/core/prove"
)

// Changes of several boxes: each member has a lane. What disturbs nobody goes side by side; what takes a member down goes in an order, behind
// barriers, so that somebody serves at every moment. [DraftEnsemble] puts the lanes together out of the hops of single devices, and
// [EnsemblePlan.Proof] is what is to be proved about them before anybody approves it.

// EnsembleKind is how the members of an ensemble depend on each other.
type EnsembleKind string

// The kinds of ensembles.
const (
	Pair    EnsembleKind = "pair"    // one serves, the other takes over
	Cluster EnsembleKind = "cluster" // more than half have to be up; one leads
)

// An EnsembleMember is one box of an ensemble, with its own way through the hops.
type EnsembleMember struct {
	Name   string
	Active bool   // it serves, or leads
	Sync   bool   // it is in sync with the one that does
	Job    Job    // its path holds its own hops
	Back   []Back // by hop: how it goes back, where that was declared before; nil: as the job says
}

// A Turn is a hop that some members take, at the same place of the joint path.
type Turn struct {
	Members []int `json:"members"` // their numbers, from 1
	Hops    []int `json:"hops"`    // for each of them: which hop of its own path it is, from 0
}

// An Ensemble is what a change of one was drafted from, as it is stored with the change.
type Ensemble struct {
	Name       string       `json:"name"`
	Kind       EnsembleKind `json:"kind"`
	Turns      []Turn       `json:"turns"`
	SwitchBack bool         `json:"switchBack,omitempty"`
	Together   bool         `json:"together,omitempty"` // all members are down at once, which a person accepts
	Active     int          `json:"active"`             // the member that served when it was drafted, from 1
	Proof      Proof        `json:"proof"`
}

// A Proof is what was found when every order of a plan was walked with every single failure ([prove.Check]).
type Proof struct {
	Proved bool     `json:"proved"`
	States int      `json:"states"`           // that were walked
	GaveUp string   `json:"gaveUp,omitempty"` // why it is not proved although nothing was found
	Rule   string   `json:"rule,omitempty"`   // that is broken
	Text   string   `json:"text,omitempty"`   // how
	Trace  []string `json:"trace,omitempty"`  // what leads there, step by step
}

// ProofOf walks a plan and tells what was found.
func ProofOf(p *EnsemblePlan) Proof { return proofOf(p.Proof(), parts) }

// proofOf walks a plan whose steps were split into so many.
func proofOf(p *prove.Plan, parts int) Proof {
	r := prove.Check(p)
	out := Proof{Proved: r.Proved, States: r.States, GaveUp: r.GaveUp}
	if v := r.Broken; v != nil {
		out.Rule, out.Text = v.Rule, v.Text
		for _, e := range v.Trace {
			e.Step /= parts // as the plan numbers it
			out.Trace = append(out.Trace, e.String())
		}
	}
	return out
}

// An EnsembleJob is what a change of an ensemble is drafted from.
type EnsembleJob struct {
	Kind    EnsembleKind
	Members []EnsembleMember
	Turns   []Turn // in the order of the joint path
	// GetOn reports whether two versions may run side by side for the time of the change; nil: any may.
	GetOn func(a, b string) bool
	// SwitchBack has the member that was active before be the active one again in the end.
	SwitchBack bool
	// Together has all members go down at once, also where somebody could serve meanwhile.
	Together bool
	// Children are the boxes that follow the ensemble; Authorise are serials of new ones that are let join.
	Children  []ChildOf
	Authorise []string
}

// An EnsemblePlan is the steps of a change of an ensemble.
type EnsemblePlan struct {
	Steps []Step
	Back  [][]Back // by member and hop: how one member goes back
	job   *EnsembleJob
	ends  map[int]int // by number of a step that chooses or installs: the version that starts then, as an index into names
	names []string    // versions, each once
}

// DraftEnsemble lists the steps that take an ensemble along its joint path. It fails when a member cannot take one of its hops, and when there is
// not the one active member that a switch needs.
func DraftEnsemble(j EnsembleJob) (*EnsemblePlan, error) {
	if err := j.check(); err != nil {
		return nil, err
	}
	d := &ensembleDraft{j: &j, p: PlanOf(&j), last: make([]int, len(j.Members)+1), active: 1 + slices.IndexFunc(j.Members, func(m EnsembleMember) bool { return m.Active })}
	first := d.active
	for i := range j.Members {
		d.lane(i+1, j.Members[i].Job.step(-1, Readings))
	}
	for _, t := range j.Turns {
		if j.Together {
			d.turnTogether(&t)
		} else {
			d.turn(&t)
		}
	}
	if last := len(j.Members[first-1].Job.Path.Hops) - 1; j.SwitchBack && (d.active != first || j.Together) {
		d.switchTo(first, last)
		if steps := j.follow(first, last); len(steps) > 0 {
			d.lane(first, steps[len(steps)-1]) // they join once more
		}
	}
	for i := range j.Members[1:] { // the first one is looked at by the verdict
		m := i + 2
		if n := d.last[m]; n == len(d.p.Steps) && d.p.Steps[n-1].Kind == Settle {
			continue // it was compared just now
		}
		s := j.Members[m-1].Job.step(len(j.Members[m-1].Job.Path.Hops)-1, Settle)
		s.Title = "Compare readings"
		d.lane(m, s)
	}
	s := j.Members[0].Job.verify()
	s.Member = 0
	d.add(s, slices.DeleteFunc(slices.Clone(d.last[1:]), func(n int) bool { return n == 0 })...)
	return d.p, nil
}

// PlanOf is the plan of a job without its steps: what is needed to say how a change goes on that was drafted from it before.
func PlanOf(j *EnsembleJob) *EnsemblePlan {
	p := &EnsemblePlan{job: j, ends: map[int]int{}}
	for i := range j.Members {
		m := &j.Members[i]
		back := m.Back
		for hop := range m.Job.Path.Hops {
			if m.Back == nil {
				back = append(back, m.Job.back(hop))
			}
		}
		p.Back = append(p.Back, back)
		p.version(m.Job.Path.From.String())
		for _, h := range m.Job.Path.Hops {
			p.version(h.To.String())
		}
	}
	return p
}

// quorum is how many members have to be up at every moment.
func (j *EnsembleJob) quorum() int {
	if j.Kind == Cluster {
		return len(j.Members)/2 + 1
	}
	return 1
}

func (j *EnsembleJob) check() error {
	if len(j.Members) < 2 {
		return fmt.Errorf("an ensemble has two members at least, not %d", len(j.Members))
	}
	if j.Kind == Pair && len(j.Members) != 2 {
		return fmt.Errorf("a pair has two members, not %d", len(j.Members))
	}
	var active []string
	for i := range j.Members {
		m := &j.Members[i]
		if m.Active {
			active = append(active, m.Name)
		}
		for _, h := range m.Job.Path.Hops {
			if what := m.Job.beyond(&h); what != "" {
				return fmt.Errorf("%s: the hop from %s to %s %s, which a change cannot carry out; do it by hand, or look for another path", m.Name, h.From, h.To, what)
			}
		}
	}
	switch len(active) {
	case 0:
		return fmt.Errorf("no member says that it is the active one; look at them again before anything is changed")
	case 1:
		return nil
	}
	return fmt.Errorf("%s say that they are active, all of them; bring the ensemble to one active member before anything is changed", list(active))
}

// An ensembleDraft is a plan in the making.
type ensembleDraft struct {
	j      *EnsembleJob
	p      *EnsemblePlan
	last   []int // by member: its last step; 0: none yet
	active int   // the member that serves at this place of the plan
	gate   int   // step that the next member waits for before it goes down; 0: none
	taken  []int // members that took the hop of this turn already, in their order
}

// add adds a step that comes after others.
func (d *ensembleDraft) add(s Step, after ...int) int {
	s.Number = len(d.p.Steps) + 1
	if s.Title == "" {
		s.Title = s.Kind.Spec().Title
	}
	slices.Sort(after)
	s.After = slices.Compact(slices.DeleteFunc(after, func(n int) bool { return n == 0 }))
	if s.After == nil {
		s.After = []int{} // it waits for nobody; nil would be: for all before it
	}
	d.p.Steps = append(d.p.Steps, s)
	if s.Member > 0 {
		d.last[s.Member] = s.Number
	}
	return s.Number
}

// lane adds a step behind the last one of its member.
func (d *ensembleDraft) lane(member int, s Step, after ...int) int {
	s.Member = member
	return d.add(s, append(after, d.last[member])...)
}

// turn takes members over one hop: all of them get ready side by side; then they go down one after the other, the active one last.
func (d *ensembleDraft) turn(t *Turn) {
	cutover := map[int][]Step{}
	hops := map[int]int{}
	for i, m := range t.Members {
		hops[m] = t.Hops[i]
		job := d.j.Members[m-1].Job
		job.InEnsemble = true
		if m == d.active { // whoever serves has the children
			job.Children = d.j.Children
		}
		steps := job.hop(t.Hops[i])
		at := max(0, slices.IndexFunc(steps, func(s Step) bool { return s.Kind.Is(GoNoGo, Component, PowerCycle, Restart) })) // from here on it disturbs
		for _, s := range steps[:at] {
			d.lane(m, s)
		}
		cutover[m] = steps[at:]
	}
	order := slices.Clone(t.Members)
	d.taken = nil
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(d.rank(a), d.rank(b)) })
	for _, m := range order {
		d.member(m, hops[m], cutover[m])
		d.taken = append(d.taken, m)
	}
	if hop, took := hops[d.active]; took {
		for _, s := range d.j.follow(d.active, hop) {
			d.gate = d.lane(d.active, s, d.gate)
		}
	}
}

// turnTogether takes members over one hop at once: nobody is told what it starts next before all are ready for it, and nobody restarts before all were told.
// Who serves afterwards is for them to settle, so all are waited for.
func (d *ensembleDraft) turnTogether(t *Turn) {
	lanes := make([][]Step, len(t.Members))
	for i, m := range t.Members {
		job := d.j.Members[m-1].Job
		job.InEnsemble = true
		if m == d.active {
			job.Children = d.j.Children
		}
		steps := job.hop(t.Hops[i])
		at := max(0, slices.IndexFunc(steps, func(s Step) bool { return s.Kind.Is(GoNoGo, Component, PowerCycle, Restart) }))
		for _, s := range steps[:at] {
			d.lane(m, s)
		}
		lanes[i] = steps[at:]
	}
	barrier := func(is func(*Step) bool) {
		gate := slices.Clone(d.last[1:])
		for i, m := range t.Members {
			first := true
			for len(lanes[i]) > 0 && !is(&lanes[i][0]) {
				s := lanes[i][0]
				lanes[i] = lanes[i][1:]
				after := []int{}
				if first {
					after, first = gate, false
				}
				if n := d.lane(m, s, after...); s.Kind.Is(ChooseSlot, Install) {
					d.p.ends[n] = d.version(m, t.Hops[i])
				}
			}
		}
	}
	barrier(func(s *Step) bool {
		return s.Kind.Is(Drain, Save, ChooseSlot, Component, PowerCycle, Restart) || s.InPlace()
	})
	barrier(func(s *Step) bool { return s.Kind == Restart || s.InPlace() })
	barrier(func(*Step) bool { return false })
	gate := slices.Clone(d.last[1:])
	for i, m := range t.Members {
		d.lane(m, d.j.Members[m-1].Job.step(t.Hops[i], Sync), gate...)
	}
	if steps := d.j.follow(d.active, t.Hops[max(0, slices.Index(t.Members, d.active))]); len(steps) > 0 {
		d.lane(d.active, d.j.Members[d.active-1].Job.step(t.Hops[0], Switch), slices.Clone(d.last[1:])...) // whoever serves has the children
		for _, s := range steps {
			d.lane(d.active, s)
		}
	}
}

// follow lists the steps by which the children of an ensemble follow a hop, on the member that serves then.
func (j *EnsembleJob) follow(member, hop int) []Step {
	job := j.Members[member-1].Job
	job.Children, job.Authorise = j.Children, j.Authorise
	return job.bringBack(hop)
}

// ChildrenOf is what is stored of the children of an ensemble; nil where it has none.
func (j *EnsembleJob) ChildrenOf() *Children {
	i := max(0, slices.IndexFunc(j.Members, func(m EnsembleMember) bool { return m.Active }))
	job := j.Members[i].Job
	job.Children, job.Authorise = j.Children, j.Authorise
	return job.ChildrenOf()
}

// rank puts the active member behind the others.
func (d *ensembleDraft) rank(m int) int {
	if m == d.active {
		return 1
	}
	return 0
}

// member takes one member down and up again. When it is the active one, another one takes over first, and has to show itself.
func (d *ensembleDraft) member(m, hop int, steps []Step) {
	if m == d.active {
		d.switchTo(d.successor(m), hop)
	}
	for _, s := range steps {
		n := d.lane(m, s, d.gate)
		d.gate = 0
		if s.Kind.Is(ChooseSlot, Install) {
			d.p.ends[n] = d.version(m, hop)
		}
	}
	job := &d.j.Members[m-1].Job
	d.gate = d.lane(m, job.step(hop, Sync))
	if d.j.Kind == Cluster {
		d.gate = d.lane(m, job.step(hop, Settle))
	}
}

// successor is the member that takes over: the one that took the hop first, else any other.
func (d *ensembleDraft) successor(m int) int {
	if len(d.taken) > 0 {
		return d.taken[0]
	}
	if m == 1 {
		return 2
	}
	return 1
}

// switchTo has a member become the active one, and compares what it does as such.
func (d *ensembleDraft) switchTo(m, hop int) {
	job := &d.j.Members[m-1].Job
	d.lane(m, job.step(hop, Switch), d.gate)
	s := job.step(hop, Settle)
	s.Title = "Compare after the switch"
	d.gate, d.active = d.lane(m, s), m
}

// version is the index of the version that a hop of a member leads to.
func (d *ensembleDraft) version(m, hop int) int {
	return d.p.version(d.j.Members[m-1].Job.Path.Hops[hop].To.String())
}

// version is the index of a version, which is a new one when it was not seen before.
func (p *EnsemblePlan) version(name string) int {
	i := slices.Index(p.names, name)
	if i < 0 {
		i = len(p.names)
		p.names = append(p.names, name)
	}
	return i
}

// effects are what steps of a kind do to an ensemble. What is not named does nothing to it.
var effects = map[Kind][]prove.Effect{
	ChooseSlot: {prove.Commits}, Restart: {prove.Down}, Login: {prove.Up}, Sync: {prove.Sync}, Switch: {prove.Switch}, Settle: {prove.Shows},
	Drain: {prove.Drained}, Undrain: {prove.Serves},
}

// Proof is the plan as it is proved.
func (p *EnsemblePlan) Proof() *prove.Plan {
	out := &prove.Plan{Rules: prove.Rules{Serving: p.job.Kind == Pair}}
	out.Rules.Quorum = p.job.quorum()
	if p.job.Together {
		out.Rules = prove.Rules{Dark: true, Together: true, Interrupts: true}
	}
	for i := range p.job.Members {
		m := &p.job.Members[i]
		out.Members = append(out.Members, prove.Member{Name: m.Name, Version: p.version(m.Job.Path.From.String()), Active: m.Active, Sync: m.Sync})
	}
	if p.job.GetOn != nil && !p.job.Together { // side by side they are only while somebody fails to return
		out.Rules.GetOn = func(a, b int) bool { return p.job.GetOn(p.names[a], p.names[b]) }
	}
	out.Back = p.claimed
	out.Steps = p.proved(p.Steps)
	out.Rules.Versions = p.names
	return out
}

// parts is how many effects a step has at most.
const parts = 2

// proved are steps as they are proved. One with two effects becomes two: an installation over the running one is a choice and a restart.
func (p *EnsemblePlan) proved(steps []Step) (out []prove.Step) {
	for i := range steps {
		s := &steps[i]
		does := effects[s.Kind]
		if s.InPlace() {
			does = []prove.Effect{prove.Commits, prove.Down}
		}
		if len(does) == 0 || s.Member == 0 {
			does = []prove.Effect{prove.None}
		}
		var after []int
		for _, n := range s.After {
			after = append(after, n*parts+parts-1)
		}
		for k := range parts {
			one := prove.Step{Number: s.Number*parts + k, Title: s.Title, Member: s.Member, After: after, Version: p.ends[s.Number], Rest: s.SafePoint && k == 0}
			if k < len(does) {
				one.Effect = does[k]
			}
			out, after = append(out, one), []int{one.Number}
		}
	}
	return out
}
