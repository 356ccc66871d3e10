package convert

import (
	"fmt"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/config"
	"verimorph/core/version"
)

// A Stage is one step of a plan: from one schema to the next by a conversion, or, without one, from one model or release
// to another whose configurations are written alike.
type Stage struct {
	Conversion *Conversion // nil: what both know is carried over
	From, To   Stop
	S, T       *config.Schema
	Guessed    bool // no conversion is known: only what is certain is carried over
}

func (s Stage) name() string {
	switch {
	case s.Conversion != nil:
		return s.Conversion.ID
	case s.Guessed:
		return "by hand"
	}
	return "carried over"
}

// A TooOldError says that no known conversions lead from one configuration to another.
type TooOldError struct {
	From, To Stop
	S, T     *config.Schema
}

func (e *TooOldError) Error() string {
	return fmt.Sprintf("no conversions lead from %s (schema %s) to %s (schema %s) with confidence; carry it over by hand, side by side, with what is certain filled in", e.From, e.S.ID, e.To, e.T.ID)
}

// Plan finds the conversions from one model and release to another: as few as can be. byHand allows a single stage that
// carries over only what is certain, where there are none. Errors: a model or schema that is not known, TooOldError.
func (l *Library) Plan(from, to Stop, byHand bool) ([]Stage, error) {
	s, err := l.need(from)
	if err != nil {
		return nil, err
	}
	t, err := l.need(to)
	if err != nil {
		return nil, err
	}
	for _, c := range l.Conversions { // inside one schema
		if c.From.Schema == s.ID && s == t && from.String() != to.String() && c.To.Schema == t.ID && c.From.covers(from) && c.To.covers(to) {
			return []Stage{{Conversion: c, From: from, To: to, S: s, T: t}}, nil
		}
	}
	end := l.search(from, to, s, t)
	if end == nil {
		if byHand {
			return []Stage{{From: from, To: to, S: s, T: t, Guessed: true}}, nil
		}
		return nil, &TooOldError{from, to, s, t}
	}
	return end.stages(from, to, s, t), nil
}

// A station is where a search for conversions may stand: a schema, in which a model writes its configuration.
type station struct {
	schema *config.Schema
	model  string
}

// A visit is a station, and the stage that led there from another one; before is nil at the begin.
type visit struct {
	station
	before *visit
	stage  Stage
}

// search finds the shortest way over conversions, breadth first; nil when there is none.
func (l *Library) search(from, to Stop, s, t *config.Schema) *visit {
	start := &visit{station: station{s, from.Model}, stage: Stage{To: from, T: s}}
	seen := map[station]bool{start.station: true}
	queue := []*visit{start}
	visit := func(v *visit) {
		if v != nil && !seen[v.station] {
			seen[v.station] = true
			queue = append(queue, v)
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		v := queue[0]
		if v.schema == t && v.model == to.Model {
			return v
		}
		for _, c := range l.Conversions {
			visit(l.along(c, v, to))
		}
		if v.model != to.Model {
			visit(l.toModel(v, to, t))
		}
	}
	return nil
}

// along is where a conversion leads from a place; nil where it does not begin there, or leads to no release on the way.
func (l *Library) along(c *Conversion, v *visit, to Stop) *visit {
	at, before := v.stage.To, v
	if c.From.Schema != v.schema.ID || len(c.From.Models) > 0 && !slices.Contains(c.From.Models, at.Model) {
		return nil
	}
	if !c.From.Releases.Contains(at.Version) { // first to a release from which it leads on
		on, ok := l.stopIn(v.schema, at.Model, to, c.From.Releases)
		if !ok {
			return nil
		}
		before = &visit{v.station, v, Stage{From: at, To: on, S: v.schema, T: v.schema}}
		at = on
	}
	next := station{l.schema(c.To.Schema), at.Model}
	if len(c.To.Models) > 0 && !slices.Contains(c.To.Models, at.Model) {
		if !slices.Contains(c.To.Models, to.Model) {
			return nil
		}
		next.model = to.Model
	}
	stop, ok := l.stopIn(next.schema, next.model, to, c.To.Releases)
	if !ok {
		return nil
	}
	return &visit{next, before, Stage{Conversion: c, From: at, To: stop, S: v.schema, T: next.schema}}
}

// toModel goes on to another model whose configurations are written alike, at the same release where it can be; nil where there is none.
func (l *Library) toModel(v *visit, to Stop, t *config.Schema) *visit {
	stop, ok := l.stopIn(v.schema, to.Model, Stop{to.Model, v.stage.To.Version}, version.Range{})
	if v.schema == t {
		stop, ok = to, true
	}
	if !ok {
		return nil
	}
	return &visit{station{v.schema, to.Model}, v, Stage{From: v.stage.To, To: stop, S: v.schema, T: v.schema}}
}

// stages are those that led to a place, so that the last one ends at the release that is wanted.
func (v *visit) stages(from, to Stop, s, t *config.Schema) (out []Stage) {
	for ; v.before != nil; v = v.before {
		out = append(out, v.stage)
	}
	slices.Reverse(out)
	if len(out) == 0 {
		out = []Stage{{From: from, To: to, S: s, T: t}}
	}
	if last := out[len(out)-1]; last.To.Version.Compare(to.Version) != 0 {
		if last.Conversion != nil && !last.Conversion.To.covers(to) { // on from the release the conversion leads to
			out = append(out, Stage{From: last.To, To: to, S: t, T: t})
		} else {
			out[len(out)-1].To = to
		}
	}
	return out
}

func (l *Library) need(at Stop) (*config.Schema, error) {
	f := l.Catalogue.FamilyOfModel(at.Model)
	if f == nil {
		return nil, fmt.Errorf("model %q is not in the catalogue", at.Model)
	}
	if s := l.described(f.Name, at); s != nil {
		return s, nil
	}
	return nil, fmt.Errorf("no schema describes the configuration of %s; load one for family %q whose releases hold %s", at, f.Name, at.Version)
}

func (s Side) covers(at Stop) bool {
	return s.Releases.Contains(at.Version) && (len(s.Models) == 0 || slices.Contains(s.Models, at.Model))
}

// stopIn is the release at which a plan stands in a schema on its way: the last stop's where it can be, else the newest
// one of the catalogue.
func (l *Library) stopIn(s *config.Schema, model string, to Stop, within version.Range) (Stop, bool) {
	if s == nil {
		return Stop{}, false
	}
	if f := l.Catalogue.FamilyOfModel(model); f == nil || f.Name != s.Family {
		return Stop{}, false
	}
	same := l.Catalogue.FamilyOfModel(to.Model)
	if same != nil && same.Name == s.Family && s.Applies(model, to.Version) && within.Contains(to.Version) && (model == to.Model || same.Model(model).Last.Contains(to.Version)) {
		return Stop{model, to.Version}, true
	}
	f := l.Catalogue.FamilyOfModel(model)
	m := f.Model(model)
	for i := len(f.Releases) - 1; i >= 0; i-- {
		r := f.Releases[i]
		if r.Stage != catalog.Withdrawn && r.Stage != catalog.Preview && m.Last.Contains(r.Version) && s.Applies(model, r.Version) && within.Contains(r.Version) {
			return Stop{model, r.Version}, true
		}
	}
	return Stop{}, false
}
