package catalog

import (
	"fmt"
	"slices"
	"strings"
)

// Check looks for what contradicts itself inside one family: things named twice, unknown models or trains, rules that
// match nothing, images without a model to run on. The releases must be in ascending order.
func Check(f *Family) (found Findings) {
	add := func(at Position, doubt bool, hint, format string, args ...any) {
		found = append(found, Finding{Position: at, Doubt: doubt, Message: fmt.Sprintf(format, args...), Hint: hint})
	}
	models := map[string]bool{}
	for _, m := range f.Models {
		if models[m.Name] {
			add(m.At, false, "keep one of them", "model %q stands here twice", m.Name)
		}
		models[m.Name] = true
		if !slices.ContainsFunc(f.Releases, func(r Release) bool { return m.Last.Contains(r.Version) }) {
			add(m.At, true, "check runs:", "model %q may run none of the releases", m.Name)
		}
	}
	knownModels := func(at Position, what string, names []string) {
		for _, name := range names {
			if !models[name] {
				add(at, false, "known: "+strings.Join(sortedKeys(models), ", "), "%s names model %q, which the file does not describe", what, name)
			}
		}
	}
	trains, files := map[string]bool{}, map[string]string{}
	for i := range f.Releases {
		r := &f.Releases[i]
		trains[r.Train] = true
		if i > 0 && f.Releases[i-1].Version.Compare(r.Version) == 0 {
			add(r.At, false, "keep one of them", "release %s stands here twice", r.Version)
		}
		has := map[string]bool{}
		for _, im := range r.Images {
			knownModels(r.At, "an image of release "+r.Version.String(), im.Models)
			if other, ok := files[im.File]; ok && other != im.SHA256 {
				add(r.At, false, "give every image a name of its own", "image file %q has two different hashes", im.File)
			}
			files[im.File] = im.SHA256
			for _, m := range im.Models {
				if has[m] {
					add(r.At, false, "keep one of them", "release %s has two images for model %s", r.Version, m)
				}
				has[m] = true
			}
		}
		if len(r.Images) == 0 && r.Stage != Withdrawn {
			add(r.At, true, "it can be passed through only with an image", "release %s has no image", r.Version)
		}
	}
	found = append(found, checkRules(f, trains, knownModels)...)
	return found
}

func checkRules(f *Family, trains map[string]bool, knownModels func(Position, string, []string)) (found Findings) {
	add := func(at Position, doubt bool, hint, format string, args ...any) {
		found = append(found, Finding{Position: at, Doubt: doubt, Message: fmt.Sprintf(format, args...), Hint: hint})
	}
	ids := map[string]bool{}
	for _, r := range f.Rules {
		if ids[r.ID] {
			add(r.At, false, "reasons cite rules by it", "rule id %q stands here twice", r.ID)
		}
		ids[r.ID] = true
		knownModels(r.At, "rule "+r.ID, r.Models)
		switch r.Kind {
		case KindHop:
			for name, rng := range map[string]interface{ String() string }{"from": r.From, "to": r.To} {
				if !slices.ContainsFunc(f.Releases, func(rel Release) bool {
					return name == "from" && r.From.Contains(rel.Version) || name == "to" && r.To.Contains(rel.Version)
				}) {
					add(r.At, true, "check the range", "rule %s: no release lies in %s: %s", r.ID, name, rng)
				}
			}
		case KindLeaveTrain:
			if r.Train != "" && !trains[r.Train] {
				add(r.At, false, "", "rule %s: no release belongs to train %q", r.ID, r.Train)
			}
			for train := range trains {
				if (r.Train == "" || r.Train == train) && f.NewestPreferred(train) == nil {
					add(r.At, true, "the rule does nothing there", "rule %s: train %q has no preferred release", r.ID, train)
				}
			}
		case KindCrossing:
			if !r.LandOn.IsZero() && !slices.ContainsFunc(f.Releases, func(rel Release) bool {
				return r.LandOn.Contains(rel.Version) && !rel.Version.Less(r.Crossing)
			}) {
				add(r.At, true, "nothing can cross there", "rule %s: no release from %s on lies in land-on: %s", r.ID, r.Crossing, r.LandOn)
			}
			if !r.LeaveFrom.IsZero() && !slices.ContainsFunc(f.Releases, func(rel Release) bool {
				return r.LeaveFrom.Contains(rel.Version) && rel.Version.Less(r.Crossing)
			}) {
				add(r.At, true, "nothing can cross there", "rule %s: no release before %s lies in leave-from: %s", r.ID, r.Crossing, r.LeaveFrom)
			}
		}
	}
	slices.SortStableFunc(found, func(a, b Finding) int { return a.Line - b.Line })
	return found
}
