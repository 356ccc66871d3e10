// Package ensemble finds devices that depend on each other, and holds what people declare about them against what the devices say.
//
// [Find] proposes ensembles from portraits: two that name each other as mates are a pair, those that name the same ensemble are a cluster. What only
// one side says is a doubt, and is told as one. [Check] looks at an ensemble that was found or declared: members that say otherwise, two that
// say that they serve, or none, and who could not take over. What a device does not say is a doubt, and never an agreement.
//
// The package computes from portraits and reaches nothing.
package ensemble

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/change"
	"verimorph/core/portrait"
)

// Members bounds how many members an ensemble may have, by kind.
func Members(k change.EnsembleKind) (least, most int, known bool) {
	switch k {
	case change.Pair:
		return 2, 2, true
	case change.Cluster:
		return 3, 8, true
	}
	return 0, 0, false
}

// A Found is an ensemble that devices say they form.
type Found struct {
	Name    string // a proposal, from what the names of its members have in common
	Kind    change.EnsembleKind
	Members []string // names, in order
	Doubts  []string // what speaks against it, or is not known; it is not to be declared without a look
}

// Find proposes ensembles from the portraits of devices, which carry the names of the devices.
func Find(all []portrait.Portrait) (out []Found) {
	bySerial := map[string]*portrait.Portrait{}
	clusters := map[string][]*portrait.Portrait{}
	for i := range all {
		if p := &all[i]; p.Serial != "" {
			bySerial[p.Serial] = p
		}
	}
	paired := map[string]bool{}
	for i := range all {
		p := &all[i]
		switch {
		case p.Ensemble != "":
			clusters[p.Ensemble] = append(clusters[p.Ensemble], p)
		case p.Mate != "" && !paired[p.Name]:
			f := pair(p, bySerial[p.Mate])
			for _, m := range f.Members {
				paired[m] = true
			}
			out = append(out, f)
		}
	}
	for name, members := range clusters {
		out = append(out, cluster(name, members))
	}
	slices.SortFunc(out, func(a, b Found) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// pair is the one that a device forms with its mate; mate is nil when the fleet does not have it.
func pair(p, mate *portrait.Portrait) Found {
	f := Found{Kind: change.Pair, Members: []string{p.Name}}
	switch {
	case mate == nil:
		f.Doubts = append(f.Doubts, fmt.Sprintf("%s says that its mate has the serial %s, and no device here has it", p.Name, p.Mate))
	case mate.Name == p.Name:
		f.Doubts = append(f.Doubts, p.Name+" names itself as its mate")
	default:
		f.Members = append(f.Members, mate.Name)
		if mate.Mate != p.Serial {
			f.Doubts = append(f.Doubts, fmt.Sprintf("%s says that its mate is %s, and %s says that its own is %s", p.Name, mate.Name, mate.Name, cmp.Or(mate.Mate, "nobody")))
		}
	}
	slices.Sort(f.Members)
	f.Name = common(f.Members, "pair")
	return f
}

func cluster(name string, members []*portrait.Portrait) Found {
	f := Found{Name: name, Kind: change.Cluster}
	for _, m := range members {
		f.Members = append(f.Members, m.Name)
	}
	slices.Sort(f.Members)
	least, most, _ := Members(f.Kind)
	if n := len(members); n < least || n > most {
		f.Doubts = append(f.Doubts, fmt.Sprintf("%s that say they belong to %q; a cluster has %d to %d members, so some may not be known here",
			count(n, "device"), name, least, most))
	}
	return f
}

func span(least, most int) string {
	if least == most {
		return fmt.Sprint(least)
	}
	return fmt.Sprintf("%d to %d", least, most)
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// common is what names have in common at their beginning, without what separates and numbers; else the first one with a word behind it.
func common(names []string, word string) string {
	first := names[0]
	n := len(first)
	for _, other := range names[1:] {
		n = min(n, len(other))
		for i := range n {
			if other[i] != first[i] {
				n = i
				break
			}
		}
	}
	if name := strings.TrimRight(first[:n], "-_.0123456789"); len(names) > 1 && len(name) > 1 {
		return name
	}
	return first + "-" + word
}

// A Finding is what does not fit between an ensemble and what its members say.
type Finding struct {
	Wrong  bool // nothing is changed before it is put right; else it is a doubt that a person may accept
	Text   string
	Remedy string
}

// Check holds an ensemble against what its members say now. A member that was never looked at has an empty version.
func Check(k change.EnsembleKind, members []portrait.Portrait) (out []Finding) {
	add := func(wrong bool, remedy, format string, args ...any) {
		out = append(out, Finding{wrong, fmt.Sprintf(format, args...), remedy})
	}
	least, most, known := Members(k)
	if n := len(members); !known || n < least || n > most {
		add(true, "declare it anew with the members that it has", "a %s has %s members, not %d", k, span(least, most), n)
	}
	const anew = "declare it anew with the members that belong together"
	serials := map[string]string{}
	var active, versions []string
	for i := range members {
		m := &members[i]
		switch other := serials[m.Serial]; {
		case m.Version == "":
			add(true, "refresh it first", "nobody has looked at %s yet", m.Name)
			continue
		case m.Serial != "" && other != "":
			add(true, anew, "%s and %s are the same unit, with the serial %s", other, m.Name, m.Serial)
		}
		serials[m.Serial] = m.Name
		if m.Serves() {
			active = append(active, m.Name)
		}
		if m.Role == "" {
			add(false, "look at it by hand, or have its dialect say the role", "%s does not say which role it has", m.Name)
		}
		if !slices.Contains(versions, m.Version) {
			versions = append(versions, m.Version)
		}
	}
	strangers(members, add)
	switch {
	case len(active) == 0:
		add(true, "see why none of them serves, and look at them again", "no member says that it is active")
	case len(active) > 1:
		add(true, "bring the ensemble to one active member first", "%s say that they are active", strings.Join(active, " and "))
	}
	for i := range members {
		if m := &members[i]; m.Role != "" && !m.Serves() && m.InSync != portrait.Yes {
			how := "whether it is in sync is not known"
			if m.InSync == portrait.No {
				how = "it is not in sync: " + cmp.Or(m.Sync, "it does not say how far it is")
			}
			add(false, "wait until it could take over", "%s is %s, and %s", m.Name, m.Role, how)
		}
	}
	if len(versions) > 1 {
		add(false, "see which change was not carried to its end", "the members run different versions: %s", strings.Join(versions, ", "))
	}
	return out
}

// strangers finds members that name somebody else as their mate, or another ensemble than the rest.
func strangers(members []portrait.Portrait, add func(wrong bool, remedy, format string, args ...any)) {
	const anew = "declare it anew with the members that belong together"
	for i := range members {
		m := &members[i]
		if m.Mate != "" && !slices.ContainsFunc(members, func(o portrait.Portrait) bool { return o.Serial == m.Mate && o.Name != m.Name }) {
			add(true, anew, "%s says that its mate has the serial %s, which is no member", m.Name, m.Mate)
		}
		if o := &members[0]; m.Ensemble != o.Ensemble {
			add(true, anew, "%s says that it belongs to %q, and %s to %q", o.Name, o.Ensemble, m.Name, m.Ensemble)
		}
	}
}
