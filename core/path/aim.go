package path

import (
	"fmt"
	"slices"
	"strings"

	"verimorph/core/catalog"
)

// Aim says where a device should go. One of the fields but Model is set.
type Aim struct {
	Version   string                           // exactly this release
	Train     string                           // the newest preferred release of the train, else its newest general one
	Newest    bool                             // the newest release this model may run
	Preferred bool                             // the newest preferred release this model may run
	Fixes     string                           // the oldest release that fixes an advisory
	Affected  func(model, version string) bool // with Fixes: whether the advisory affects a release; nil: only the catalogue's own "fixes" count
	AsMember  string                           // what another member runs: its name, in an ensemble, or the version
	Model     string                           // the model to end as; "" is the portrait's
}

// ParseAim reads the short form: a version, "preferred", "newest", "train:T", "fixes:ID" or "member:NAME".
func ParseAim(text string) (Aim, error) {
	word, rest, tagged := strings.Cut(text, ":")
	switch {
	case text == "":
		return Aim{}, fmt.Errorf("an aim is missing: a version, preferred, newest, train:T, fixes:ID or member:NAME")
	case text == "preferred":
		return Aim{Preferred: true}, nil
	case text == "newest":
		return Aim{Newest: true}, nil
	case tagged && rest == "":
		return Aim{}, fmt.Errorf("aim %q names nothing after the colon", text)
	case tagged && word == "train":
		return Aim{Train: rest}, nil
	case tagged && word == "fixes":
		return Aim{Fixes: rest}, nil
	case tagged && word == "member":
		return Aim{AsMember: rest}, nil
	case tagged:
		return Aim{}, fmt.Errorf("aim %q is not known; use a version, preferred, newest, train:T, fixes:ID or member:NAME", text)
	}
	return Aim{Version: text}, nil
}

type target struct {
	model   string
	release int
}

// targets lists the releases that fulfil an aim, the best first, and how they were chosen. All but "fixes" give one.
func (p *Planner) targets(f *catalog.Family, model string, from int, q Question) (out []target, why string, err error) {
	a := q.Aim
	if a.Model != "" && a.Model != model {
		if f.Model(a.Model) == nil {
			return nil, "", &UnknownError{What: "model", Name: a.Model, Family: f.Name, Near: nearModels(p.cat, a.Model)}
		}
		model = a.Model
	}
	m := f.Model(model)
	s := &search{Planner: p, q: q, f: f, m: m, from: noWay}
	facts := *q.Portrait
	if facts.Model != model {
		facts.Model, facts.Components, facts.Generation = model, nil, ""
	} else {
		s.from = from
	}
	g := s.graph(m, &facts, s.from, q.Policy)
	newest := func(fits func(*catalog.Release) bool) int {
		for i := len(f.Releases) - 1; i >= 0; i-- {
			if g.allowed(i) && fits(&f.Releases[i]) {
				return i
			}
		}
		return noWay
	}
	one := func(i int, text string) ([]target, string, error) {
		if i < 0 {
			return nil, "", &NoPathError{Family: f.Name, Model: model, From: f.Releases[from].Version, Aim: text, Blocks: []catalog.Citation{{Text: fmt.Sprintf("no release that %s may run is %s", model, text), At: m.At}}}
		}
		if (a.Newest || a.Preferred) && i < from && model == q.Portrait.Model { // nobody goes backwards without saying so
			to, now := f.Releases[i].Version, f.Releases[from].Version
			return nil, "", &NoPathError{Family: f.Name, Model: model, From: now, Aim: text, Blocks: []catalog.Citation{{Text: fmt.Sprintf("%s is %s, which is older than %s that runs; ask for %s by its number to go back to it", text, to, now, to), At: f.Releases[i].At}}}
		}
		return []target{{model, i}}, text, nil
	}
	preferred := func(r *catalog.Release) bool { return r.Stage == catalog.Preferred }
	switch {
	case a.AsMember != "":
		i, err := index(f, a.AsMember)
		return []target{{model, i}}, "what the other member runs", err
	case a.Newest:
		return one(newest(func(r *catalog.Release) bool { return true }), "the newest")
	case a.Preferred:
		return one(newest(preferred), "the newest preferred one")
	case a.Train != "":
		inTrain := func(r *catalog.Release) bool { return r.Train == a.Train }
		if !slices.ContainsFunc(f.Releases, func(r catalog.Release) bool { return inTrain(&r) }) {
			return nil, "", &UnknownError{What: "train", Name: a.Train, Family: f.Name, Near: trains(f)}
		}
		if i := newest(func(r *catalog.Release) bool { return inTrain(r) && preferred(r) }); i >= 0 {
			return one(i, "the newest preferred one of train "+a.Train)
		}
		return one(newest(inTrain), "the newest of train "+a.Train+", which has no preferred one")
	case a.Fixes != "":
		fixed, err := fixing(f, model, a)
		if err != nil {
			return nil, "", err
		}
		text := "the oldest that fixes " + a.Fixes
		if slices.Contains(fixed, from) && model == q.Portrait.Model {
			return []target{{model, from}}, "it is not affected by " + a.Fixes, nil
		}
		// Upwards the oldest first, as the smallest step; only then downwards, the newest first.
		for _, i := range fixed {
			if i > from && g.allowed(i) {
				out = append(out, target{model, i})
			}
		}
		for _, i := range slices.Backward(fixed) {
			if i < from && g.allowed(i) {
				out = append(out, target{model, i})
			}
		}
		if len(out) == 0 {
			_, _, err = one(noWay, text)
		}
		return out, text, err
	}
	i, err := index(f, a.Version)
	return []target{{model, i}}, "", err
}

// fixing lists the releases that an advisory does not affect. What the catalogue says a release fixes holds for that
// release and the later ones of its train, and for the trains after the newest one that says so.
func fixing(f *catalog.Family, model string, a Aim) (out []int, err error) {
	if a.Affected != nil {
		for i := range f.Releases {
			if !a.Affected(model, f.Releases[i].Version.String()) {
				out = append(out, i)
			}
		}
		return out, nil
	}
	first, last := map[string]int{}, noWay
	for i := range f.Releases {
		r := &f.Releases[i]
		if _, ok := first[r.Train]; !ok && slices.Contains(r.Fixes, a.Fixes) {
			first[r.Train], last = i, i
		}
	}
	if last == noWay {
		e := &UnknownError{What: "advisory", Name: a.Fixes, Family: f.Name}
		for i := range f.Releases {
			for _, id := range f.Releases[i].Fixes {
				if !slices.Contains(e.Near, id) {
					e.Near = append(e.Near, id)
				}
			}
		}
		return nil, e
	}
	for i := range f.Releases {
		k, ok := first[f.Releases[i].Train]
		if ok && i >= k || !ok && i > last {
			out = append(out, i)
		}
	}
	return out, nil
}

func trains(f *catalog.Family) (out []string) {
	for i := range f.Releases {
		if t := f.Releases[i].Train; !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	return out
}
