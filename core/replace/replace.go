// Package replace holds what it takes to put a device of another model in the place of one: how much of its configuration carries over ([SupportOf]),
// which cable goes where ([CablesOf]), and what the new device has to show where the old one was measured ([Expected]).
//
// The configuration itself is converted by core/convert; its ledger and its mapping of ports are what this package reads. Nothing here speaks with a device.
package replace

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"verimorph/core/convert"
	"verimorph/core/verify"
)

// A Support says of one section of a configuration how much of it the other model takes over. The numbers count statements; they add up to all of
// those that the section has.
type Support struct {
	Section string `json:"section"`
	Carries int    `json:"carries"` // says the same there
	Changes int    `json:"changes"` // says it in another way, or in another place
	Not     int    `json:"not"`     // has no place there, or was left out, with a reason
	Person  int    `json:"person"`  // a person has to decide
	Reasons []Why  `json:"reasons"` // why something does not carry over, or needs a person; each reason once
}

// A Why is a reason, and how many statements it is about.
type Why struct {
	Text   string `json:"text"`
	First  string `json:"first"` // the first statement that it is about
	Line   int    `json:"line"`  // of that, in the source
	Count  int    `json:"count"`
	Person bool   `json:"person"` // a person has to decide
}

// SupportOf is the support table of a conversion, in the order in which the sections first come in the source.
func SupportOf(l *convert.Ledger) []Support {
	var order []string
	of := map[string]*Support{}
	for i := range l.Source {
		row := &l.Source[i]
		s := of[row.Section]
		if s == nil {
			s = &Support{Section: row.Section, Reasons: []Why{}}
			of[row.Section], order = s, append(order, row.Section)
		}
		switch row.State {
		case convert.Kept:
			s.Carries++
		case convert.Dropped:
			s.Not++
			s.why(row, false)
		case convert.NeedsPerson:
			s.Person++
			s.why(row, true)
		default:
			s.Changes++
		}
	}
	out := make([]Support, 0, len(order))
	for _, name := range order {
		out = append(out, *of[name])
	}
	return out
}

func (s *Support) why(row *convert.SourceItem, person bool) {
	text := cmp.Or(row.Reason, "no reason is given")
	i := slices.IndexFunc(s.Reasons, func(w Why) bool { return w.Text == text && w.Person == person })
	if i < 0 {
		s.Reasons = append(s.Reasons, Why{Text: text, First: row.Path, Line: row.Line, Person: person})
		i = len(s.Reasons) - 1
	}
	s.Reasons[i].Count++
}

// A Cable says where a cable goes that is plugged into a port of the old device.
type Cable struct {
	From    string `json:"from"`              // port of the old device
	To      string `json:"to,omitempty"`      // port of the new one; "": it is left out
	LeftOut string `json:"leftOut,omitempty"` // why
	Folded  bool   `json:"folded,omitempty"`  // another cable goes to that port, too: what hangs on this one has to reach it in another way
}

// CablesOf is where the cables go by a mapping of ports, in its order. A port of which nothing was decided is an error.
func CablesOf(ports []convert.PortChoice) (out []Cable, err error) {
	var open []string
	for _, p := range ports {
		c := Cable{From: p.Port, To: cmp.Or(p.To, p.FoldInto), LeftOut: p.LeaveOut, Folded: p.FoldInto != ""}
		if c.To == "" && c.LeftOut == "" {
			open = append(open, p.Port)
		}
		out = append(out, c)
	}
	if len(open) > 0 {
		return nil, fmt.Errorf("nothing was decided about %s; map each to a port of the new device, fold it into another, or leave it out", strings.Join(open, ", "))
	}
	return out, nil
}

// goes maps the ports of the old device to those of the new one; a port that is left out is not in it.
func goes(cables []Cable) map[string]string {
	out := map[string]string{}
	for _, c := range cables {
		if c.To != "" {
			out[c.From] = c.To
		}
	}
	return out
}

// Expected is what readings of the old device become on the new one. byPort names the readings whose values begin with the name of a port: those follow
// the cables. notes say what is not looked for any more, and why; a port that no cable is known for keeps its name.
func Expected(before verify.Readings, byPort map[string]bool, cables []Cable) (out verify.Readings, notes map[string]string) {
	out, notes = maps.Clone(before), map[string]string{}
	if out == nil {
		out = verify.Readings{}
	}
	to := goes(cables)
	left := map[string]string{}
	for _, c := range cables {
		if c.To == "" {
			left[c.From] = c.LeftOut
		}
	}
	for name, v := range before {
		if !byPort[name] || v.Type != verify.Set {
			continue
		}
		moved := verify.Value{Type: verify.Set}
		var gone []string
		for _, element := range v.Set {
			port, rest := cutPort(element)
			if why, isLeft := left[port]; isLeft {
				gone = append(gone, fmt.Sprintf("%s (%s)", element, why))
				continue
			}
			moved.Set = append(moved.Set, join(cmp.Or(to[port], port), rest))
		}
		slices.Sort(moved.Set)
		moved.Set = slices.Compact(moved.Set)
		out[name] = moved
		if len(gone) > 0 {
			notes[name] = "not looked for, since the port is left out: " + strings.Join(gone, ", ")
		}
	}
	return out, notes
}

// Spaced is a value with single spaces, so that names of ports of other lengths do not make a difference.
func Spaced(v verify.Value) verify.Value {
	if v.Type != verify.Set {
		return v
	}
	out := verify.Value{Type: verify.Set}
	for _, element := range v.Set {
		out.Set = append(out.Set, join(cutPort(element)))
	}
	slices.Sort(out.Set)
	out.Set = slices.Compact(out.Set)
	return out
}

// cutPort splits a value into the port that it begins with and what it says of that.
func cutPort(element string) (port, rest string) {
	words := strings.Fields(element)
	if len(words) == 0 {
		return "", ""
	}
	return words[0], strings.Join(words[1:], " ")
}

func join(port, rest string) string { return strings.TrimSpace(port + " " + rest) }

// Misplaced says in sentences which cables are not where they should be, by what is at each port: want is what should be there (see [Expected]), is what
// was read. Two that are swapped make one sentence.
func Misplaced(want, is verify.Value) (out []string) {
	at := func(v verify.Value) map[string][]string { // ports by what is there
		m := map[string][]string{}
		for _, element := range v.Set {
			if port, what := cutPort(element); what != "" {
				m[what] = append(m[what], port)
			}
		}
		return m
	}
	should, now := at(want), at(is)
	moved := map[string]string{} // from the port where it should be to the one where it is
	var order, what []string
	for _, thing := range slices.Sorted(maps.Keys(should)) {
		if len(should[thing]) != 1 || len(now[thing]) != 1 || should[thing][0] == now[thing][0] {
			continue
		}
		moved[should[thing][0]] = now[thing][0]
		order, what = append(order, should[thing][0]), append(what, thing)
	}
	told := map[string]bool{}
	for i, port := range order {
		other := moved[port]
		switch {
		case told[port]:
		case moved[other] == port && other != port:
			told[other] = true
			out = append(out, fmt.Sprintf("the cables at %s and %s are swapped: %s is at %s", port, other, what[i], other))
		default:
			out = append(out, fmt.Sprintf("%s is at %s, and should be at %s", what[i], other, port))
		}
	}
	return out
}
