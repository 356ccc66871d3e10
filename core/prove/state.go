package prove

import "slices"

// A member's state is a few bits and its versions.
type memberState struct {
	up, active, sync, serves bool
	shown                    bool  // on the version that it runs
	runs, starts             uint8 // versions: that it runs, and that it starts next
}

// A State is how the ensemble stands.
type State struct {
	members [MostMembers]memberState
	n       int
}

// Up reports whether a member answers. Members are numbered from 1, here and below.
func (s State) Up(member int) bool { return s.members[member-1].up }

// Active reports whether a member has the active role.
func (s State) Active(member int) bool { return s.members[member-1].active }

// InSync reports whether a member is in sync with the active one.
func (s State) InSync(member int) bool { return s.members[member-1].sync }

// Runs is the version that a member runs, or ran when it was last up.
func (s State) Runs(member int) int { return int(s.members[member-1].runs) }

// Shown reports whether a member has shown itself on the version that it runs.
func (s State) Shown(member int) bool { return s.members[member-1].shown }

// Starts is the version that a member starts next.
func (s State) Starts(member int) int { return int(s.members[member-1].starts) }

// ups is how many members are up.
func (s *State) ups() (n int) {
	for i := range s.n {
		if s.members[i].up {
			n++
		}
	}
	return n
}

// begin is how an ensemble stands at the beginning.
func begin(members []Member) State {
	s := State{n: len(members)}
	for i, m := range members {
		s.members[i] = memberState{up: true, serves: true, active: m.Active, sync: m.Sync || m.Active, shown: true, runs: uint8(m.Version), starts: uint8(m.Version)}
	}
	return s
}

// apply is what a step does. serving: a member shows itself only while it is the active one.
func (s *State) apply(st *Step, serving bool) {
	if st.Effect == None {
		return
	}
	m := &s.members[st.Member-1]
	switch st.Effect {
	case Commits:
		if m.starts = uint8(st.Version); m.starts != m.runs {
			m.shown = false
		}
	case Down:
		m.up, m.sync, m.serves = false, false, false
	case Up:
		m.up, m.runs, m.serves, m.sync = true, m.starts, true, m.active
	case Sync:
		m.sync = true
	case Switch:
		s.switchTo(st.Member)
	case Shows:
		m.shown = m.shown || m.active || !serving
	case Drained:
		m.serves = false
	case Serves:
		m.serves = true
	}
}

// switchTo makes a member the active one. It has to show itself as such.
func (s *State) switchTo(member int) {
	for i := range s.n {
		m := &s.members[i]
		m.shown = m.shown && (i != member-1 || m.active)
		m.active = i == member-1
	}
}

// A failure is one way in which a step fails: what it is called, and how the ensemble stands then.
type failure struct {
	text string
	then State
}

// failures are the ways in which a step can fail.
func failures(s *State, st *Step) (out []failure) {
	add := func(text string, change func(*State)) {
		then := *s
		change(&then)
		out = append(out, failure{text, then})
	}
	m := st.Member - 1
	add("it fails, and nothing has changed", func(*State) {})
	switch st.Effect {
	case Up:
		out = out[:0] // a member that went down comes back in some way, or does not
		add("it does not come back", func(*State) {})
		add("it comes back with the version before", func(t *State) {
			t.members[m].up, t.members[m].serves, t.members[m].starts = true, true, t.members[m].runs
		})
	case Switch:
		for i := range s.n {
			if i != m && s.members[i].up && !s.members[i].active {
				add("it goes to another member", func(t *State) { t.switchTo(i + 1) })
			}
		}
	}
	return out
}

// compact takes the steps without an effect out, and passes on what they kept: the order, and that the change may come to rest before them.
func compact(steps []Step) []Step {
	type passed struct {
		needs []int // of steps with an effect
		rest  bool
	}
	by := map[int]passed{}
	var out []Step
	for _, s := range steps {
		var p passed
		for _, n := range s.After {
			p.needs = append(p.needs, by[n].needs...)
			p.rest = p.rest || by[n].rest
		}
		slices.Sort(p.needs)
		p.needs = slices.Compact(p.needs)
		p.rest = p.rest || s.Rest
		if s.Effect == None {
			by[s.Number] = p
			continue
		}
		s.After, s.Rest = p.needs, p.rest
		by[s.Number] = passed{needs: []int{s.Number}}
		out = append(out, s)
	}
	return out
}
