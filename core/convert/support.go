package convert

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/config"
)

// How well a section carries over.
const (
	CarriesOver  = "carries-over"
	WithChanges  = "with-changes"
	NotSupported = "not-supported"
)

// A Support tells, before anybody starts, what becomes of the sections of a configuration.
type Support struct {
	From     Party            `json:"from"`
	To       Party            `json:"to"`
	Stages   []StageName      `json:"stages"`
	Guessed  bool             `json:"guessed"`
	Sections []SectionSupport `json:"sections"`
}

// A SectionSupport is what becomes of one section.
type SectionSupport struct {
	Section string          `json:"section"`
	Verdict string          `json:"verdict"`
	Notes   []StatementNote `json:"notes"` // of statements that do not simply carry over
}

// A StatementNote is what becomes of statements of one kind.
type StatementNote struct {
	Path    string `json:"path"`
	Verdict string `json:"verdict"`
	Why     string `json:"why"`
}

// traced is a kind of statement on its way through the stages.
type traced struct {
	section, first string // as the source has it
	path           []string
	verdict        string
	why            []string
}

// Support reads from the rules what becomes of every kind of statement. It knows nothing of a configuration's content:
// what depends on values or conditions counts as carried over with changes.
func (l *Library) Support(from, to Stop, byHand bool) (*Support, error) {
	stages, err := l.Plan(from, to, byHand)
	if err != nil {
		return nil, err
	}
	s, t := stages[0].S, stages[len(stages)-1].T
	out := &Support{From: Party{Model: from.Model, Version: from.Version.String(), Schema: s.ID}, To: Party{Model: to.Model, Version: to.Version.String(), Schema: t.ID}}
	var all []*traced
	collect(s.Top, nil, from, &all)
	for _, st := range stages {
		out.Stages = append(out.Stages, StageName{st.name(), st.From.String(), st.To.String()})
		out.Guessed = out.Guessed || st.Guessed
		for _, x := range all {
			if x.verdict != NotSupported {
				st.trace(x)
			}
		}
	}
	for _, x := range all {
		i := slices.IndexFunc(out.Sections, func(s SectionSupport) bool { return s.Section == x.section })
		if i < 0 {
			i = len(out.Sections)
			out.Sections = append(out.Sections, SectionSupport{Section: x.section, Notes: []StatementNote{}})
		}
		if x.verdict != CarriesOver {
			out.Sections[i].Notes = append(out.Sections[i].Notes, StatementNote{x.first, x.verdict, strings.Join(x.why, "; ")})
		}
	}
	for i := range out.Sections {
		sec := &out.Sections[i]
		n, lost := 0, 0
		for _, x := range all {
			if x.section == sec.Section {
				n++
				lost += btoi(x.verdict == NotSupported)
			}
		}
		switch {
		case lost == n:
			sec.Verdict = NotSupported
		case len(sec.Notes) > 0:
			sec.Verdict = WithChanges
		default:
			sec.Verdict = CarriesOver
		}
	}
	return out, nil
}

// collect lists the kinds of statements of a schema that say something themselves.
func collect(st *config.Statement, path []string, at Stop, into *[]*traced) {
	visit := func(name string, c *config.Statement) {
		if c == nil || !c.Exists(at.Model, at.Version) {
			return
		}
		p := append(slices.Clip(path), name)
		if !c.IsBlock() || len(c.Words) > 0 || c.ByName {
			*into = append(*into, &traced{section: cmp.Or(c.Section, p[0]), first: strings.Join(p, " / "), path: p, verdict: CarriesOver})
		}
		collect(c, p, at, into)
	}
	names := make([]string, 0, len(st.Statements))
	for name := range st.Statements {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		visit(name, st.Statements[name])
	}
	visit("*", st.Each)
	visit("*", st.Items)
}

// trace takes a kind of statement through one stage.
func (s Stage) trace(x *traced) {
	note := func(verdict, why string) {
		if verdict == NotSupported || x.verdict == CarriesOver {
			x.verdict = verdict
		}
		if !slices.Contains(x.why, why) && why != "" {
			x.why = append(x.why, why)
		}
	}
	src := describe(s.S, x.path)
	if s.Conversion != nil {
		whole, parts := s.rulesFor(x.path)
		for _, rule := range parts {
			note(WithChanges, "some of it: "+cmp.Or(rule.Text, rule.Ask, "rule "+rule.ID))
		}
		if whole == nil {
			if len(parts) == 0 {
				note(NotSupported, "no rule says what becomes of it")
			}
			return
		}
		rule := whole
		depth := len(rule.Of.segs)
		switch rule.Kind {
		case Drop, Person:
			note(NotSupported, rule.Text)
			return
		case Decide:
			note(WithChanges, rule.Ask)
		case Split, Merge, Map, Compute:
			if depth == len(x.path) {
				note(WithChanges, cmp.Or(rule.Text, "its values change"))
			}
			if rule.Kind == Split || rule.Kind == Merge {
				if t := append(slices.Clone(rule.Into), rule.To)[0]; t != nil {
					x.path = names(t)
				}
				return
			}
		}
		if rule.To != nil {
			x.path = append(names(rule.To), x.path[depth:]...)
		}
	}
	dst := describe(s.T, x.path)
	switch {
	case dst == nil || !dst.Exists(s.To.Model, s.To.Version):
		note(NotSupported, fmt.Sprintf("%s has no such statement", s.To))
	case s.Guessed && (src == nil || dst.Key != src.Key || !slices.Equal(dst.Words, src.Words)):
		note(NotSupported, "the two releases do not describe it alike")
	case src != nil && s.S != s.T && !sameValues(s.S, src, s.T, dst):
		note(WithChanges, "not all of its values are known to "+s.To.String())
	case src != nil && src.HasDefault && dst.HasDefault && src.Default != dst.Default:
		note(WithChanges, fmt.Sprintf("%s assumes %q where it says nothing, %s assumed %q; the old value is written out", s.To, dst.Default, s.From, src.Default))
	case src != nil && src.Defines == "port" && s.From.Model != s.To.Model:
		note(WithChanges, "its ports have other names or places")
	}
}

// rulesFor returns the rule that speaks of all statements of a kind, and those that speak of some of them.
func (s Stage) rulesFor(path []string) (whole *Rule, parts []*Rule) {
	for depth := len(path); depth > 0 && whole == nil; depth-- {
		for _, rule := range s.Conversion.Rules {
			if rule.Kind == Add || rule.Kind == Adopt {
				continue
			}
			for _, p := range append([]*pattern{rule.Of}, rule.More...) {
				if len(p.segs) != depth || !fits(p, path[:depth]) {
					continue
				}
				if partly(p, s.S) || !rule.When.always() {
					if depth == len(path) {
						parts = append(parts, rule)
					}
				} else if whole == nil {
					whole = rule
				}
			}
		}
	}
	return whole, parts
}

func fits(p *pattern, path []string) bool {
	for i, seg := range p.segs {
		if !seg[0].any && path[i] != seg[0].text && path[i] != "*" {
			return false
		}
	}
	return true
}

// partly reports whether a pattern speaks only of statements with certain words.
func partly(p *pattern, s *config.Schema) bool {
	for _, seg := range p.segs {
		for _, w := range seg[1:] {
			if !w.any {
				return true
			}
		}
	}
	return false
}

func names(t *template) (out []string) {
	for _, seg := range t.segs {
		if len(seg[0]) == 1 && seg[0][0].kind == 0 {
			out = append(out, seg[0][0].text)
		} else {
			out = append(out, "*")
		}
	}
	return out
}

func describe(s *config.Schema, path []string) *config.Statement {
	st := s.Top
	for _, name := range path {
		if st == nil {
			return nil
		}
		st = st.Inside(name)
	}
	return st
}

// sameValues reports whether everything one statement takes, the other takes too, as far as types tell.
func sameValues(s *config.Schema, a *config.Statement, t *config.Schema, b *config.Statement) bool {
	if len(b.Words) == 0 {
		return true
	}
	for i := range a.Words {
		x, y := s.TypeOf(a, i), t.TypeOf(b, i)
		if x == nil || y == nil || x.Expects() != y.Expects() && y.Name != "text" {
			return false
		}
	}
	return true
}
