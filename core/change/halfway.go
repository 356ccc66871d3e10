package change

import (
	"fmt"
	"slices"

	"verimorph/core/prove"
)

// When the change of an ensemble comes to rest half-done, either those members that moved are taken back, or the others are brought along. Which
// of the two is safe follows from how the members stand; the half that serves goes on serving in both.

// A Stand is how a member stands when its change has come to rest.
type Stand struct {
	Up, Active   bool
	Shown        bool   // on the version that it runs, as the active one where there is a switch
	Runs, Starts string // versions: that it runs, and that it starts next; of a member that is not up they are not known
}

// A HalfWay says how an ensemble goes on from where its change came to rest. Hops and To have a place for each member.
type HalfWay struct {
	Back  bool     `json:"back"`            // those that moved are taken back
	Why   string   `json:"why"`             // in a sentence
	Steps []Step   `json:"steps,omitempty"` // of the way back, in lanes; none when there is none that keeps somebody serving
	Hops  []int    `json:"hops,omitempty"`  // the hop of its own path that the way back undoes
	To    []string `json:"to,omitempty"`    // the version that it runs then
	// Active is the member that served when this was decided, from 1.
	Active int `json:"active,omitempty"`
	ends   map[int]int
}

// FromHere says how to go on from where the members stand.
func (p *EnsemblePlan) FromHere(stands []Stand) HalfWay {
	w := &halfWay{p: p, stands: stands, out: HalfWay{ends: map[int]int{}}, last: make([]int, len(stands)+1)}
	w.locate()
	w.decide()
	return w.out
}

// A halfWay is such a decision in the making.
type halfWay struct {
	p      *EnsemblePlan
	stands []Stand
	before []string // by member: the version that it had before the turn in which the change rests
	hops   []int    // by member: its hop in that turn, or where it stands on its path
	whole  bool     // all members took that turn
	last   []int    // by member: its last step of the way back
	out    HalfWay
}

func (w *halfWay) name(i int) string { return w.p.job.Members[i].Name }

// locate finds the turn in which the change rests: the last one that a member has begun.
func (w *halfWay) locate() {
	w.before, w.hops, w.whole = make([]string, len(w.stands)), make([]int, len(w.stands)), true
	for i, s := range w.stands {
		w.before[i] = s.Runs
		w.hops[i] = min(max(w.p.at(i, s.Runs), 0), max(len(w.p.job.Members[i].Job.Path.Hops)-1, 0))
	}
	turn := -1
	for t := len(w.p.job.Turns) - 1; t >= 0 && turn < 0; t-- {
		for k, m := range w.p.job.Turns[t].Members {
			if s, hop := w.stands[m-1], w.p.job.Turns[t].Hops[k]; s.Up && (w.p.at(m-1, s.Runs) > hop || w.p.at(m-1, s.Starts) > hop) {
				turn = t
			}
		}
	}
	if turn < 0 {
		return
	}
	for k, m := range w.p.job.Turns[turn].Members {
		hop := w.p.job.Turns[turn].Hops[k]
		w.hops[m-1], w.before[m-1] = hop, w.p.job.Members[m-1].Job.Path.Hops[hop].From.String()
	}
	for i := range w.stands {
		w.whole = w.whole && w.moved(i)
	}
}

// at is where a version stands on the path of a member: 0 is where it comes from, -1 nowhere.
func (p *EnsemblePlan) at(member int, version string) int {
	way := p.job.Members[member].Job.Path
	if version == way.From.String() {
		return 0
	}
	for i := range way.Hops {
		if way.Hops[i].To.String() == version {
			return i + 1
		}
	}
	return -1
}

// moved reports whether a member that answers took the turn, or is to take it with its next start.
func (w *halfWay) moved(i int) bool {
	s := w.stands[i]
	return s.Up && (s.Runs != w.before[i] || s.Starts != w.before[i])
}

func (w *halfWay) decide() {
	var moved, away []string
	active := -1
	for i, s := range w.stands {
		switch {
		case !s.Up:
			away = append(away, w.name(i))
		case w.moved(i):
			moved = append(moved, w.name(i))
		}
		if s.Up && s.Active {
			active = i
		}
	}
	w.out.Active = active + 1
	switch {
	case len(away) == len(w.stands):
		w.out.Why = "no member answers; bring one back by hand first"
	case active < 0:
		w.out.Why = "no member that answers is the active one; have one take over by hand first"
	case len(moved) == 0 && len(away) == 0:
		w.out.Why = fmt.Sprintf("all members run %s; nothing has to be undone", list(w.versions()))
	case len(moved) == 0:
		w.out.Why = fmt.Sprintf("%s serves on %s as before; %s does not answer, and is for a person to bring back", w.name(active), w.stands[active].Runs, list(away))
	case w.whole && w.stands[active].Shown:
		w.out.Why = fmt.Sprintf("all members run %s; nothing has to be undone", list(w.versions()))
	case w.stands[active].Runs != w.before[active] && w.stands[active].Shown:
		w.out.Why = fmt.Sprintf("%s serves on %s and has shown itself there; the others are brought along", w.name(active), w.stands[active].Runs)
	case len(w.stands)-len(away)-1 < w.p.job.quorum() && w.restarts():
		w.out.Why = fmt.Sprintf("%s does not answer, so no other member may go down; bring it back by hand first", list(away))
	default:
		w.back(active)
	}
}

// versions are those that members run, each once.
func (w *halfWay) versions() (out []string) {
	for _, s := range w.stands {
		if s.Up && !slices.Contains(out, s.Runs) {
			out = append(out, s.Runs)
		}
	}
	return out
}

// restarts reports whether a member would have to go down to be taken back.
func (w *halfWay) restarts() bool {
	for i, s := range w.stands {
		if s.Up && s.Runs != w.before[i] {
			return true
		}
	}
	return false
}

// back takes those that moved back: the active one last, behind a switch to one that serves on the old version meanwhile.
func (w *halfWay) back(active int) {
	gate, other := 0, -1
	for i, s := range w.stands {
		if i == active || !s.Up {
			continue
		}
		if other < 0 {
			other = i
		}
		if w.moved(i) {
			if why := w.member(i, gate); why != "" {
				w.none(why)
				return
			}
			gate = w.last[i+1]
		}
	}
	s := w.stands[active]
	switch {
	case !w.moved(active):
	case s.Runs == w.before[active]: // only what it starts next is taken back, and it goes on serving
		w.member(active, gate)
	case other < 0:
		w.none(fmt.Sprintf("%s is the only member that answers, and serves on %s; to take it back would leave nobody", w.name(active), s.Runs))
		return
	default:
		gate = w.add(other, w.step(other, Sync), gate)
		gate = w.add(other, w.step(other, Switch), gate)
		if why := w.member(active, gate); why != "" {
			w.none(why)
			return
		}
	}
	serves := active
	if w.moved(active) && s.Runs != w.before[active] {
		serves = other
	}
	for _, st := range w.p.job.follow(serves+1, w.hops[serves]) {
		w.add(serves, st, gateOf(w.last))
	}
	w.compare()
	w.out.Back, w.out.Hops, w.out.To = true, w.hops, w.before
	w.out.Why = fmt.Sprintf("nobody who serves on a newer version than %s has shown itself there, so those that moved are taken back", w.before[active])
	if w.whole {
		w.out.Why = fmt.Sprintf("all members moved, and what serves has not shown itself, so they are taken back to %s one after the other", w.before[active])
	}
}

// gateOf is the last step of all lanes.
func gateOf(last []int) int { return slices.Max(last) }

func (w *halfWay) none(why string) { w.out.Steps, w.out.Why = nil, why }

// compare ends the way back: each member that answers is looked at, and the whole is concluded.
func (w *halfWay) compare() {
	for i, s := range w.stands {
		if i == 0 || !s.Up {
			continue // the first one is looked at by the verdict
		}
		step := w.step(i, Settle)
		step.Title = "Compare readings"
		w.add(i, step, 0)
	}
	s := marked(w.p.job.Members[0].Job.verify())
	s.Number, s.Member, s.After = len(w.out.Steps)+1, 0, slices.DeleteFunc(slices.Clone(w.last[1:]), func(n int) bool { return n == 0 })
	w.out.Steps = append(w.out.Steps, s)
}

func (w *halfWay) step(i int, k Kind) Step { return w.p.job.Members[i].Job.step(w.hops[i], k) }

// member takes one member back; why it cannot be, else.
func (w *halfWay) member(i, gate int) (why string) {
	m, s := &w.p.job.Members[i], w.stands[i]
	if s.Runs == w.before[i] { // it was not started yet
		w.choose(i, w.step(i, ChooseSlot), gate)
		return ""
	}
	b := w.p.Back[i][w.hops[i]]
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
	w.add(i, w.step(i, Sync), 0)
	return ""
}

// choose adds a step behind which a member starts the old version.
func (w *halfWay) choose(i int, s Step, gate int) {
	w.out.ends[w.add(i, s, gate)] = w.p.version(w.before[i])
}

func (w *halfWay) add(i int, s Step, gate int) int {
	s = marked(s)
	s.Number, s.Member = len(w.out.Steps)+1, i+1
	s.After = slices.DeleteFunc([]int{w.last[i+1], gate}, func(n int) bool { return n == 0 })
	w.out.Steps = append(w.out.Steps, s)
	w.last[i+1] = s.Number
	return s.Number
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
	for i := range stands {
		to = append(to, p.version(h.To[i]))
	}
	return back.proved(h.Steps), to, true
}
