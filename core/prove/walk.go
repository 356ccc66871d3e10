package prove

import (
	"fmt"
	"slices"
)

// A node is a place on the way: what is done, how the ensemble stands, and whether something has failed.
type node struct {
	done   [MostSteps / 64]uint64 // by index
	failed int16                  // index of the step that failed, from 1; 0: none has
	state  State
}

func (n *node) has(i int) bool { return n.done[i/64]&(1<<(i%64)) != 0 }
func (n *node) add(i int)      { n.done[i/64] |= 1 << (i % 64) }

// A link is how one got to a node.
type link struct {
	from  *node
	event Event
}

// A walk goes through all that a plan allows.
type walk struct {
	p      *Plan
	steps  []Step  // those with an effect
	needs  [][]int // by index: indices of the steps that have to be over first
	most   int
	seen   map[node]link
	queue  []node
	rested map[State]bool // from which the way back was walked
	broken *Violation
	gaveUp string
	back   bool  // it is itself a way back: nothing fails on it
	to     []int // of a way back: the version that each member runs in the end
}

func newWalk(p *Plan) (*walk, error) {
	if err := p.check(); err != nil {
		return nil, err
	}
	w := &walk{p: p, steps: compact(p.Steps), most: p.Most, seen: map[node]link{}, rested: map[State]bool{}}
	if w.most == 0 {
		w.most = mostStates
	}
	w.order()
	return w, nil
}

// order turns numbers of steps into indices.
func (w *walk) order() {
	index := map[int]int{}
	for i, s := range w.steps {
		index[s.Number] = i
		var needs []int
		for _, n := range s.After {
			needs = append(needs, index[n])
		}
		w.needs = append(w.needs, needs)
	}
}

func (w *walk) walk() {
	w.start(begin(w.p.Members))
}

// start walks from one state on.
func (w *walk) start(s State) {
	first := node{state: s}
	w.seen[first], w.queue = link{}, append(w.queue, first)
	if rule, text := w.holds(&s); rule != "" {
		w.broken = &Violation{Rule: rule, Text: text}
	}
	for len(w.queue) > 0 && w.broken == nil && w.gaveUp == "" {
		n := w.queue[len(w.queue)-1]
		w.queue = w.queue[:len(w.queue)-1]
		w.from(&n)
	}
}

// from goes all the ways that lead on from a node.
func (w *walk) from(n *node) {
	rests, ends := true, true // it can come to rest here; nothing is left to do
	for i := range w.steps {
		st := &w.steps[i]
		if n.has(i) || int(n.failed) == i+1 || slices.ContainsFunc(w.needs[i], func(k int) bool { return !n.has(k) }) {
			continue
		}
		rests, ends = rests && st.Rest, false
		if n.failed != 0 && st.Rest {
			continue
		}
		if rule, text := w.allowed(&n.state, st); rule != "" {
			w.breaks(n, rule, text, w.event(st, ""))
			return
		}
		next := *n
		next.add(i)
		next.state.apply(st, w.p.Rules.Serving)
		w.reach(n, &next, w.event(st, ""))
		if n.failed != 0 || w.back {
			continue
		}
		for _, f := range failures(&n.state, st) {
			next := *n
			next.failed, next.state = int16(i+1), f.then
			w.reach(n, &next, w.event(st, f.text))
		}
	}
	if rests && (ends || !w.back) {
		w.rest(n)
	}
}

// reach takes a node up that was not seen before.
func (w *walk) reach(from, to *node, e Event) {
	if _, seen := w.seen[*to]; seen || w.broken != nil || w.gaveUp != "" {
		return
	}
	if len(w.seen) >= w.most {
		w.gaveUp = fmt.Sprintf("there are more than %d states; the plan was not walked to its end", w.most)
		return
	}
	w.seen[*to] = link{from, e}
	if rule, text := w.holds(&to.state); rule != "" {
		w.breaks(from, rule, text, e)
		return
	}
	w.queue = append(w.queue, *to)
}

// breaks notes a rule that is broken behind a node, by an event.
func (w *walk) breaks(n *node, rule, text string, e Event) {
	w.broken = &Violation{Rule: rule, Text: text, Trace: append(w.trace(n), e)}
}

// trace is how one gets to a node.
func (w *walk) trace(n *node) (out []Event) {
	for l := w.seen[*n]; l.from != nil; l = w.seen[*l.from] {
		out = append(out, l.event)
	}
	slices.Reverse(out)
	return out
}

func (w *walk) event(st *Step, failed string) Event {
	return Event{Step: st.Number, Title: w.p.name(st.Member) + ": " + st.Title, Failed: failed, Back: w.back}
}

// rest looks at a node where the change comes to rest, or ends: the way back that is claimed there must lead back.
func (w *walk) rest(n *node) {
	if w.back {
		if rule, text := w.returned(&n.state); rule != "" && w.broken == nil {
			w.broken = &Violation{Rule: rule, Text: text, Trace: w.trace(n)}
		}
		return
	}
	if w.p.Back == nil || w.rested[n.state] {
		return
	}
	w.rested[n.state] = true
	steps, to, claimed := w.p.Back(n.state)
	if !claimed {
		return
	}
	way := &Plan{Members: w.p.Members, Steps: steps, Rules: w.p.Rules, Most: w.most}
	b, err := newWalk(way)
	if err != nil {
		w.broken = &Violation{Rule: "the way back is no plan", Text: err.Error(), Trace: w.trace(n)}
		return
	}
	b.back, b.to = true, to
	b.start(n.state)
	switch {
	case b.gaveUp != "":
		w.gaveUp = "the way back: " + b.gaveUp
	case b.broken != nil:
		w.broken = b.broken
		w.broken.Trace = append(w.trace(n), b.broken.Trace...)
	}
}
