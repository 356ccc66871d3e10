package change

import (
	"fmt"
	"slices"

	"verimorph/core/path"
	"verimorph/core/prove"
)

// When the change of an ensemble comes to rest half-done, either those members that moved are taken back, or the others are brought along. Which
// of the two is safe follows from how the members stand; the half that serves goes on serving in both.

// A Stand is how a member stands when its change has come to rest.
type Stand struct {
	Up, Active   bool
	Shown        bool   // on the version that it runs, as the active one where there is a switch
	Runs, Starts string // versions: that it runs, and that it starts next
}

// A HalfWay says how an ensemble goes on from where its change came to rest.
type HalfWay struct {
	Back  bool   // those that moved are taken back
	Why   string // in a sentence
	Steps []Step // of the way back, in lanes; none when there is none that keeps somebody serving
	ends  map[int]int
}

// FromHere says how to go on from where the members stand.
func (p *EnsemblePlan) FromHere(stands []Stand) HalfWay {
	w := &halfWay{p: p, stands: stands, out: HalfWay{ends: map[int]int{}}, last: make([]int, len(stands)+1)}
	w.decide()
	return w.out
}

// A halfWay is such a decision in the making.
type halfWay struct {
	p      *EnsemblePlan
	stands []Stand
	from   string // the version from which the members moved
	last   []int  // by member: its last step of the way back
	out    HalfWay
}

func (w *halfWay) name(i int) string { return w.p.job.Members[i].Name }

func (w *halfWay) decide() {
	var moved, away []string
	active := -1
	w.from = w.oldest()
	for i, s := range w.stands {
		switch {
		case !s.Up:
			away = append(away, w.name(i))
		case s.Runs != w.from || s.Starts != w.from:
			moved = append(moved, w.name(i))
		}
		if s.Up && s.Active {
			active = i
		}
	}
	switch {
	case len(away) == len(w.stands):
		w.out.Why = "no member answers; bring one back by hand first"
	case active < 0:
		w.out.Why = "no member that answers is the active one; have one take over by hand first"
	case len(moved) == 0 && len(away) == 0:
		w.out.Why = fmt.Sprintf("all members run %s; nothing has to be undone", w.from)
	case len(moved) == 0:
		w.out.Why = fmt.Sprintf("%s serves on %s as before; %s does not answer, and is for a person to bring back", w.name(active), w.from, list(away))
	case w.stands[active].Runs != w.from && w.stands[active].Shown:
		w.out.Why = fmt.Sprintf("%s serves on %s and has shown itself there; the others are brought along", w.name(active), w.stands[active].Runs)
	case len(w.stands)-len(away)-1 < w.p.job.quorum() && w.restarts():
		w.out.Why = fmt.Sprintf("%s does not answer, so no other member may go down; bring it back by hand first", list(away))
	default:
		w.back(active)
	}
}

// restarts reports whether a member would have to go down to be taken back.
func (w *halfWay) restarts() bool {
	return slices.ContainsFunc(w.stands, func(s Stand) bool { return s.Up && s.Runs != w.from })
}

// oldest is the version from which the members of this turn moved: of those that members run, the one that comes first on the way.
func (w *halfWay) oldest() string {
	best := len(w.p.names)
	for _, s := range w.stands {
		if i := slices.Index(w.p.names, s.Runs); s.Up && i >= 0 {
			best = min(best, i)
		}
	}
	if best == len(w.p.names) {
		return ""
	}
	return w.p.names[best]
}

// back takes those that moved back: the active one last, behind a switch to one that serves on the old version meanwhile.
func (w *halfWay) back(active int) {
	gate := 0
	for i, s := range w.stands {
		if i != active && s.Up && (s.Runs != w.from || s.Starts != w.from) {
			if why := w.member(i, gate); why != "" {
				w.none(why)
				return
			}
			gate = w.last[i+1]
		}
	}
	s := w.stands[active]
	switch {
	case s.Runs == w.from && s.Starts == w.from:
	case s.Runs == w.from: // only what it starts next is taken back, and it goes on serving
		w.member(active, gate)
	default:
		other := slices.IndexFunc(w.stands, func(o Stand) bool { return o.Up && !o.Active })
		if other < 0 {
			w.none(fmt.Sprintf("%s is the only member that answers, and serves on %s; to take it back would leave nobody", w.name(active), s.Runs))
			return
		}
		job := &w.p.job.Members[other].Job
		gate = w.add(other, job.step(w.hop(other), Sync), gate)
		gate = w.add(other, job.step(w.hop(other), Switch), gate)
		if why := w.member(active, gate); why != "" {
			w.none(why)
			return
		}
	}
	w.out.Back = true
	w.out.Why = fmt.Sprintf("nobody who serves on a newer version than %s has shown itself there, so those that moved are taken back", w.from)
}

func (w *halfWay) none(why string) { w.out.Steps, w.out.Why = nil, why }

// member takes one member back; why it cannot be, else.
func (w *halfWay) member(i, gate int) (why string) {
	m, s, hop := &w.p.job.Members[i], w.stands[i], w.hop(i)
	if s.Runs == w.from { // it was not started yet
		w.choose(i, m.Job.step(hop, ChooseSlot), gate)
		return ""
	}
	b := m.Job.back(hop)
	if !b.Leads() {
		return fmt.Sprintf("%s cannot be taken back by a change: %s", m.Name, b.Text)
	}
	for _, st := range b.Steps {
		switch {
		case st.Kind == Verify: // it is that of the whole
		case st.Kind.Is(ChooseSlot, Install):
			w.choose(i, st, gate)
		default:
			w.add(i, st, gate)
		}
		gate = 0
	}
	w.add(i, m.Job.step(hop, Sync), 0)
	return ""
}

// choose adds a step behind which a member starts the old version.
func (w *halfWay) choose(i int, s Step, gate int) {
	w.out.ends[w.add(i, s, gate)] = w.p.version(w.from)
}

func (w *halfWay) add(i int, s Step, gate int) int {
	s = marked(s)
	s.Number, s.Member = len(w.out.Steps)+1, i+1
	s.After = slices.DeleteFunc([]int{w.last[i+1], gate}, func(n int) bool { return n == 0 })
	w.out.Steps = append(w.out.Steps, s)
	w.last[i+1] = s.Number
	return s.Number
}

// hop is the hop of a member that leads away from the old version.
func (w *halfWay) hop(i int) int {
	hops := w.p.job.Members[i].Job.Path.Hops
	return max(0, slices.IndexFunc(hops, func(h path.Hop) bool { return h.From.String() == w.from }))
}

// claimed is the way back that is claimed from a state that the prover walks.
func (p *EnsemblePlan) claimed(s prove.State) (steps []prove.Step, to []int, claimed bool) {
	stands := make([]Stand, len(p.job.Members))
	for i := range stands {
		m := i + 1
		stands[i] = Stand{Up: s.Up(m), Active: s.Active(m), Shown: s.Shown(m), Runs: p.names[s.Runs(m)], Starts: p.names[s.Starts(m)]}
	}
	h := p.FromHere(stands)
	if !h.Back {
		return nil, nil, false
	}
	back := *p
	back.ends = h.ends
	for range stands {
		to = append(to, p.version((&halfWay{p: p, stands: stands}).oldest()))
	}
	return back.proved(h.Steps), to, true
}
