package prove

import "fmt"

// The rules, in the words in which a person reads them.
const (
	NeverDark   = "not all members are down at once"
	KeepsQuorum = "the quorum is kept"
	GetsOn      = "versions that do not get on never run side by side"
	SwitchSync  = "nobody is switched to who is down or not in sync"
	NoInterrupt = "the active member does not go down while another one could serve"
	FirstShows  = "nothing irreversible is done to another member before the first one has shown itself"
	NotWhenDown = "nothing is done to a member that is down"
	LeadsBack   = "a way back that is claimed leads back"
)

// name is a member's name; "" of the ensemble as a whole.
func (p *Plan) name(member int) string {
	if member == 0 {
		return "all"
	}
	return p.Members[member-1].Name
}

func (p *Plan) version(i uint8) string {
	if int(i) < len(p.Rules.Versions) {
		return p.Rules.Versions[i]
	}
	return fmt.Sprintf("version %d", i)
}

// holds looks at a state: which rule it breaks, and how; "" when none.
func (w *walk) holds(s *State) (rule, text string) {
	r, ups := &w.p.Rules, s.ups()
	switch {
	case ups == 0 && !r.Dark:
		return NeverDark, "all members are down"
	case ups < r.Quorum:
		return KeepsQuorum, fmt.Sprintf("%d of %d members are up; %d are needed", ups, s.n, r.Quorum)
	case r.GetOn == nil:
		return "", ""
	}
	for a := range s.n {
		for b := range a {
			x, y := &s.members[a], &s.members[b]
			if x.up && y.up && x.runs != y.runs && !r.GetOn(int(x.runs), int(y.runs)) {
				return GetsOn, fmt.Sprintf("%s runs %s beside %s with %s", w.p.name(b+1), w.p.version(y.runs), w.p.name(a+1), w.p.version(x.runs))
			}
		}
	}
	return "", ""
}

// allowed looks at a step before it is done: which rule it breaks, and how; "" when none.
func (w *walk) allowed(s *State, st *Step) (rule, text string) {
	r, m, name := &w.p.Rules, &s.members[st.Member-1], w.p.name(st.Member)
	switch st.Effect {
	case Switch:
		if !m.up {
			return SwitchSync, name + " becomes the active member, and is down"
		}
		if !m.sync && !m.active {
			return SwitchSync, name + " becomes the active member, and is not in sync"
		}
	case Up:
		if m.up {
			return NotWhenDown, name + " is awaited, and did not go down"
		}
	case Down:
		if !m.up {
			return NotWhenDown, name + " is to go down, and is down"
		}
		if other := w.couldServe(s, st.Member); m.active && m.serves && !r.Interrupts && other != 0 {
			return NoInterrupt, fmt.Sprintf("%s goes down while it is active; %s is up and could serve", name, w.p.name(other))
		}
	case Commits:
		if !m.up {
			return NotWhenDown, name + " is to start another version, and is down"
		}
		if other := w.unproved(s, st); other != 0 && !r.Together && !w.back {
			return FirstShows, fmt.Sprintf("%s is to start %s, and %s has not shown itself on it", name, w.p.version(uint8(st.Version)), w.p.name(other))
		}
	}
	return "", ""
}

// couldServe is another member that is up; 0: there is none.
func (w *walk) couldServe(s *State, member int) int {
	for i := range s.n {
		if i != member-1 && s.members[i].up {
			return i + 1
		}
	}
	return 0
}

// unproved is another member that starts or runs the version that a step is to start, and has not shown itself on it; 0: there is none.
func (w *walk) unproved(s *State, st *Step) int {
	for i := range s.n {
		m := &s.members[i]
		if i != st.Member-1 && int(m.starts) == st.Version && !m.shown {
			return i + 1
		}
	}
	return 0
}

// returned looks at the end of a way back: which rule it breaks; "" when none. A member that did not come back is not brought back by anybody.
func (w *walk) returned(s *State) (rule, text string) {
	for i := range s.n {
		m := &s.members[i]
		before := uint8(w.to[i])
		if m.up && m.runs != before {
			return LeadsBack, fmt.Sprintf("the way back ends with %s on %s, not on %s", w.p.name(i+1), w.p.version(m.runs), w.p.version(before))
		}
	}
	if s.ups() == 0 {
		return LeadsBack, "the way back ends with all members down"
	}
	return "", ""
}
