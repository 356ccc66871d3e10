package path

import (
	"fmt"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/catalog"
	"verimorph/core/portrait"
	"verimorph/core/version"
)

func demo(t testing.TB) *catalog.Catalogue {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	return c
}

func v(s string) version.Version { return version.MustParse(s) }

func ask(model, from, aim string) Question {
	a, err := ParseAim(aim)
	if err != nil {
		panic(err)
	}
	return Question{Portrait: &portrait.Portrait{Model: model, Version: from}, Aim: a}
}

func stops(p *Path) (out []string) {
	for _, h := range p.Hops {
		out = append(out, h.To.String())
	}
	return out
}

func rules(cs []catalog.Citation) (ids []string) {
	for _, c := range cs {
		ids = append(ids, c.Rule)
	}
	return ids
}

func TestTheStory(t *testing.T) {
	p, err := NewPlanner(demo(t)).Find(ask("TH-60", "4.2.3", "5.4.2"))
	require.NoError(t, err)
	assert.Equal(t, []string{"4.2.9", "5.0.7", "5.4.2"}, stops(p))
	assert.Equal(t, "TH-R1", p.Hops[0].Permit.Rule)
	assert.Equal(t, "TH-R6", p.Hops[0].Because[0].Rule, "the stop at 4.2.9 is demanded by the leave-train rule")
	assert.Equal(t, []string{"TH-R7", "TH-R8"}, rules(p.Hops[1].Because), "5.0.7 is demanded by the landing and the slot layout")
	assert.Empty(t, p.Hops[2].Because)
	assert.Equal(t, catalog.ConfigConverted, p.Hops[1].Config)
	assert.Equal(t, "th60-5.0.7.img", p.Hops[1].Image.File)
	direct := p.NotTaken[0]
	assert.Equal(t, "5.4.2", direct.To.String())
	assert.Equal(t, "4.2.3", direct.From.String())
	assert.Equal(t, []string{"TH-R6", "TH-R7", "TH-R8"}, rules(direct.Refusals))
	assert.Contains(t, direct.Refusals[1].Text, "must land on 5.0.x, not 5.4.2")
	assert.Contains(t, p.Notes[0], "the last release that fits is 6.0.1")
}

func TestNoPathSaysWhyAndHowFar(t *testing.T) {
	p := NewPlanner(demo(t))
	_, err := p.Find(ask("TH-40", "4.2.3", "6.0.1"))
	var no *NoPathError
	require.ErrorAs(t, err, &no)
	assert.Contains(t, err.Error(), "TH-40 may run <6 only, not 6.0.1: Tarnholm ends support of the TH-40 with train 5")
	assert.Equal(t, "5.4.2", no.Nearest.String())

	_, err = p.Find(ask("TH-60", "5.4.2", "4.2.9"))
	require.ErrorAs(t, err, &no)
	assert.Contains(t, err.Error(), "no hop rule permits 5.4.2 to 4.2.9")
	assert.Equal(t, "5.0.6", no.Nearest.String())
	assert.Equal(t, []string{"the policy allowed a configuration reset"}, no.Changes)

	q := ask("TH-60", "5.4.2", "4.2.9")
	q.Policy.Reset = true
	back, err := p.Find(q)
	require.NoError(t, err)
	assert.Len(t, back.Hops, 2)
	assert.Equal(t, catalog.ConfigReset, back.Hops[1].Config)

	_, err = p.Find(ask("TH-60", "4.2.3", "6.0.0-rc1"))
	assert.ErrorContains(t, err, "preview release")

	q = ask("TH-60", "4.2.3", "5.4.2")
	q.Policy.MaxHops = 2
	_, err = p.Find(q)
	require.ErrorAs(t, err, &no)
	assert.Contains(t, no.Blocks[0].Text, "the policy allows 2 hops")
	assert.Equal(t, "5.0.7", no.Nearest.String())
	assert.Equal(t, []string{"the policy allowed more hops"}, no.Changes)
}

func TestUnknownNames(t *testing.T) {
	p := NewPlanner(demo(t))
	_, err := p.Find(ask("TH-60", "4.2.3", "5.4.1"))
	assert.EqualError(t, err, "release 5.4.1 is not in the catalogue of family th; known and near: 5.4.0, 5.4.2, 6.0.0-rc1")
	_, err = p.Find(ask("TH-66", "4.2.3", "5.4.2"))
	assert.ErrorContains(t, err, "model TH-66 is not in the catalogue; known and near: TH-60, TH-40, TH-80")
	same, err := p.Find(ask("TH-60", "5.4.2", "5.4.2"))
	require.NoError(t, err)
	assert.Empty(t, same.Hops)
	for _, aim := range []string{"", "train:", "fixes:", "what:ever"} {
		_, err := ParseAim(aim)
		assert.Error(t, err, aim)
	}
	q := ask("TH-60", "4.2.3", "5.4.2")
	q.Policy.Services = []string{"teleport"}
	_, err = p.Find(q)
	assert.ErrorContains(t, err, "service teleport is not in the catalogue")
}

// randomFamily draws a family of a few releases with rules, components and requirements of every kind.
func randomFamily(t *rapid.T) *catalog.Family {
	f := &catalog.Family{Name: "r", File: "r.yaml", Scheme: version.Default, Models: []catalog.Model{{Name: "M"}},
		Durations: map[string]catalog.Span{"install": {Low: 1, High: 3}, "link": {Low: 2, High: 2}}, SendRate: catalog.Rate{Low: 10, High: 10}}
	n := rapid.IntRange(2, 7).Draw(t, "releases")
	name := func(label string) version.Version {
		return f.Releases[rapid.IntRange(0, n-1).Draw(t, label)].Version
	}
	for i := range n {
		f.Releases = append(f.Releases, catalog.Release{
			Version: v(fmt.Sprintf("%d.%d", 1+i/3, i%3)), Train: fmt.Sprint(1 + i/3),
			Stage:  rapid.SampledFrom([]catalog.Stage{catalog.General, catalog.Preferred, catalog.Preferred, catalog.Preview, catalog.Withdrawn}).Draw(t, "stage"),
			Images: []catalog.Image{{Models: []string{"M"}, Size: int64(rapid.IntRange(1, 3).Draw(t, "size"))}},
		})
	}
	span := func(label string) version.Range {
		a, b := name(label), name(label)
		if b.Less(a) {
			a, b = b, a
		}
		return version.MustRange(">=" + a.String() + " <=" + b.String())
	}
	for i := range rapid.IntRange(1, 6).Draw(t, "hops") {
		f.Rules = append(f.Rules, catalog.Rule{ID: fmt.Sprint("H", i), Kind: catalog.KindHop, From: span("from"), To: span("to"),
			Down: rapid.Bool().Draw(t, "down"), Restarts: rapid.IntRange(0, 2).Draw(t, "restarts"),
			Config: rapid.SampledFrom([]string{catalog.ConfigKept, catalog.ConfigConverted, catalog.ConfigReset}).Draw(t, "config")})
	}
	if rapid.Bool().Draw(t, "leave") {
		f.Rules = append(f.Rules, catalog.Rule{ID: "L", Kind: catalog.KindLeaveTrain, Train: rapid.SampledFrom([]string{"", "1", "2"}).Draw(t, "train")})
	}
	if rapid.Bool().Draw(t, "crossing") {
		f.Rules = append(f.Rules, catalog.Rule{ID: "C", Kind: catalog.KindCrossing, Crossing: name("at"), LeaveFrom: span("leave-from"), LandOn: span("land-on")})
	}
	if rapid.Bool().Draw(t, "component") {
		c := catalog.Component{Name: "logic", Trigger: rapid.SampledFrom([]string{catalog.TriggerItself, catalog.TriggerPowerCycle}).Draw(t, "trigger"),
			Order: rapid.SampledFrom([]string{"before", "after"}).Draw(t, "order"), Duration: catalog.Span{Low: 5, High: 7}}
		for i := range n {
			row := catalog.ComponentRow{Releases: version.MustRange(f.Releases[i].Version.String())}
			if needs := v(fmt.Sprint(rapid.IntRange(1, 3).Draw(t, "logic"))); rapid.Bool().Draw(t, "exact") {
				row.Version = needs
			} else {
				row.AtLeast = needs
			}
			c.Rows = append(c.Rows, row)
		}
		f.Components = append(f.Components, c)
	}
	if rapid.Bool().Draw(t, "memory") {
		f.Requirements = append(f.Requirements, catalog.Requirement{ID: "Q", Kind: catalog.NeedMemory, Bytes: 100, Install: span("install"), Leaving: span("leaving")})
	}
	return f
}

func randomPortrait(t *rapid.T, f *catalog.Family, from int) *portrait.Portrait {
	p := &portrait.Portrait{Model: "M", Version: f.Releases[from].Version.String(), Memory: int64(rapid.SampledFrom([]int{0, 50, 200}).Draw(t, "memory"))}
	if rapid.Bool().Draw(t, "stated") {
		p.Components = map[string]string{"logic": fmt.Sprint(rapid.IntRange(1, 4).Draw(t, "has"))}
	}
	return p
}

// supported says again, in the plainest words, what a family says about one hop of a device that began somewhere; nil
// when it is refused. It shares nothing with the graph but the catalogue.
func supported(f *catalog.Family, p *portrait.Portrait, policy Policy, a, b int) *cost {
	ra, rb := f.Releases[a], f.Releases[b]
	if a == b || rb.Stage == catalog.Withdrawn || rb.Stage == catalog.Preview && !policy.Previews {
		return nil
	}
	var best *catalog.Rule
	harm := map[string]int{"kept": 0, "converted": 1, "reset": 2}
	for i := range f.Rules {
		r := &f.Rules[i]
		switch r.Kind {
		case catalog.KindHop:
			if r.From.Contains(ra.Version) && r.To.Contains(rb.Version) && r.Down == rb.Version.Less(ra.Version) && (r.Config != "reset" || policy.Reset) && (best == nil || harm[r.Config] < harm[best.Config]) {
				best = r
			}
		case catalog.KindLeaveTrain:
			if ra.Version.Less(rb.Version) && ra.Train != rb.Train && (r.Train == "" || r.Train == ra.Train) {
				if p := f.NewestPreferred(ra.Train); p != nil && ra.Version.Less(p.Version) {
					return nil
				}
			}
		case catalog.KindCrossing:
			if ra.Version.Less(r.Crossing) && !rb.Version.Less(r.Crossing) && !(r.LeaveFrom.Contains(ra.Version) && r.LandOn.Contains(rb.Version)) {
				return nil
			}
		}
	}
	if best == nil {
		return nil
	}
	for _, q := range f.Requirements {
		if q.Install.Contains(rb.Version) && q.Leaving.Contains(ra.Version) && p.Memory != 0 && p.Memory < q.Bytes {
			return nil
		}
	}
	c := &cost{restarts: best.Restarts, millis: 2000 + 100*rb.Images[0].Size + 2000*int64(best.Restarts)}
	if best.Config == "reset" {
		c.resets = 1
	}
	if rb.Stage != catalog.Preferred {
		c.merely = 1
	}
	for _, comp := range f.Components {
		has := func(row catalog.ComponentRow) version.Version { // once the row is satisfied
			if !row.Version.IsZero() {
				return row.Version
			}
			if s, ok := p.Components["logic"]; ok && row.AtLeast.Less(v(s)) {
				return v(s)
			}
			return row.AtLeast
		}
		now := has(comp.Rows[a])
		if s, ok := p.Components["logic"]; ok && ra.Version.String() == p.Version {
			now = v(s)
		}
		if row := comp.Rows[b]; !row.Version.IsZero() && now.Compare(row.Version) != 0 || row.Version.IsZero() && now.Less(row.AtLeast) {
			c.millis += 6000
			if comp.Trigger == catalog.TriggerPowerCycle {
				c.restarts++
			}
		}
	}
	return c
}

// everyWay walks all ways without a repeated stop.
func everyWay(f *catalog.Family, p *portrait.Portrait, policy Policy, from, to int, each func([]int, cost)) {
	var walk func([]int, cost)
	walk = func(way []int, sofar cost) {
		a := way[len(way)-1]
		if a == to {
			each(way, sofar)
			return
		}
		for b := range f.Releases {
			if !slices.Contains(way, b) {
				if h := supported(f, p, policy, a, b); h != nil {
					walk(append(slices.Clone(way), b), sofar.plus(*h))
				}
			}
		}
	}
	walk([]int{from}, cost{})
}

func TestAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := randomFamily(t)
		n := len(f.Releases)
		from, to := rapid.IntRange(0, n-1).Draw(t, "start"), rapid.IntRange(0, n-1).Draw(t, "aim")
		if from == to {
			return
		}
		device := randomPortrait(t, f, from)
		policy := Policy{Reset: rapid.Bool().Draw(t, "reset"), Previews: rapid.Bool().Draw(t, "previews"), MaxHops: rapid.IntRange(0, 3).Draw(t, "limit")}
		var best *cost
		everyWay(f, device, policy, from, to, func(way []int, c cost) {
			if (policy.MaxHops == 0 || len(way)-1 <= policy.MaxHops) && (best == nil || c.compare(*best) < 0) {
				best = &c
			}
		})
		p, err := NewPlanner(&catalog.Catalogue{Families: []*catalog.Family{f}}).Find(Question{Portrait: device, Aim: Aim{Version: f.Releases[to].Version.String()}, Policy: policy})
		if best == nil {
			if err == nil {
				t.Fatalf("found %v where there is no way", stops(p))
			}
			return
		}
		if err != nil {
			t.Fatalf("%v, but there is a way that costs %+v", err, *best)
		}
		var got cost
		at, restarts, low, high := from, 0, 0.0, 0.0
		for _, h := range p.Hops {
			next := f.Named(h.To.String())
			hop := supported(f, device, policy, at, next)
			if hop == nil {
				t.Fatalf("hop %s to %s is not supported", h.From, h.To)
			}
			rule := f.Rules[slices.IndexFunc(f.Rules, func(r catalog.Rule) bool { return r.ID == h.Permit.Rule })]
			if !rule.From.Contains(h.From) || !rule.To.Contains(h.To) || rule.Config != h.Config {
				t.Fatalf("hop %s to %s cites %s, which does not permit it", h.From, h.To, rule.ID)
			}
			got, at = got.plus(*hop), next
			restarts, low, high = restarts+h.Restarts, low+h.Low, high+h.High
		}
		if at != to || got.compare(*best) != 0 || restarts != best.restarts || millis(low, high) != best.millis {
			t.Fatalf("%v costs %+v (told: %d restarts, %v to %v s), the best costs %+v", stops(p), got, restarts, low, high, *best)
		}
		for _, j := range p.NotTaken {
			if supported(f, device, policy, f.Named(j.From.String()), f.Named(j.To.String())) != nil {
				t.Fatalf("%s to %s is said to be refused but is supported", j.From, j.To)
			}
			for _, c := range j.Refusals {
				if !refuses(f, device, policy, c.Rule, j.From, j.To) {
					t.Fatalf("%s is said to refuse %s to %s and does not: %s", c.Rule, j.From, j.To, c.Text)
				}
			}
		}
	})
}

// refuses says again in plain words whether one rule, or the want of one (""), refuses a jump.
func refuses(f *catalog.Family, p *portrait.Portrait, policy Policy, id string, from, to version.Version) bool {
	ra, rb := f.Releases[f.Named(from.String())], f.Releases[f.Named(to.String())]
	permitted := func(reset bool) bool {
		return slices.ContainsFunc(f.Rules, func(r catalog.Rule) bool {
			return r.Kind == catalog.KindHop && r.From.Contains(from) && r.To.Contains(to) && r.Down == to.Less(from) && (reset || r.Config != "reset")
		})
	}
	if id == "" {
		return !permitted(true)
	}
	for _, q := range f.Requirements {
		if q.ID == id {
			return q.Install.Contains(to) && q.Leaving.Contains(from) && p.Memory < q.Bytes
		}
	}
	r := f.Rules[slices.IndexFunc(f.Rules, func(r catalog.Rule) bool { return r.ID == id })]
	switch r.Kind {
	case catalog.KindHop:
		return r.Config == "reset" && !policy.Reset && !permitted(false)
	case catalog.KindLeaveTrain:
		best := f.NewestPreferred(ra.Train)
		return (r.Train == "" || r.Train == ra.Train) && rb.Train != ra.Train && best != nil && from.Less(best.Version)
	default:
		return from.Less(r.Crossing) && !to.Less(r.Crossing) && !(r.LeaveFrom.Contains(from) && r.LandOn.Contains(to))
	}
}

func TestAlternativesAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := randomFamily(t)
		n := len(f.Releases)
		from, to := rapid.IntRange(0, n-1).Draw(t, "start"), rapid.IntRange(0, n-1).Draw(t, "aim")
		if from == to {
			return
		}
		device, policy := randomPortrait(t, f, from), Policy{Reset: true, Previews: true}
		p, err := NewPlanner(&catalog.Catalogue{Families: []*catalog.Family{f}}).Find(Question{Portrait: device, Aim: Aim{Version: f.Releases[to].Version.String()}, Policy: policy, Alternatives: 3})
		if err != nil {
			return
		}
		kinds := newGraph(f, &f.Models[0], device, from, policy).kinds()
		lowest, highest := from, from
		for _, h := range p.Hops {
			lowest, highest = min(lowest, f.Named(h.To.String())), max(highest, f.Named(h.To.String()))
		}
		cheapest := map[string]cost{}
		everyWay(f, device, policy, from, to, func(way []int, c cost) {
			seen := map[int]bool{}
			for i, stop := range way {
				if stop < lowest || stop > highest {
					return // goes too far
				}
				if seen[kinds[stop]] && !(i == len(way)-1 && len(way) == 2) {
					return // stands on one kind twice, which brings nothing
				}
				seen[kinds[stop]] = true
			}
			if old, ok := cheapest[signature(kinds, way)]; !ok || c.compare(old) < 0 {
				cheapest[signature(kinds, way)] = c
			}
		})
		var want []cost
		for _, c := range cheapest {
			want = append(want, c)
		}
		slices.SortFunc(want, cost.compare)
		if len(p.Alternatives) != min(3, len(want)-1) {
			t.Fatalf("%d alternatives of %d ways", len(p.Alternatives), len(want))
		}
		for i, alt := range p.Alternatives {
			var c cost
			at := from
			for _, h := range alt.Hops {
				next := f.Named(h.To.String())
				c, at = c.plus(*supported(f, device, policy, at, next)), next
			}
			if at != to || c.compare(want[i+1]) != 0 {
				t.Fatalf("alternative %d costs %+v, expected %+v", i, c, want[i+1])
			}
		}
	})
}

func TestJointAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := randomFamily(t)
		f.Components, f.Requirements = nil, nil
		n := len(f.Releases)
		names := func(label string) version.Range {
			return version.MustRange(">=" + f.Releases[rapid.IntRange(0, n-1).Draw(t, label)].Version.String())
		}
		for i := range rapid.IntRange(0, 2).Draw(t, "skews") {
			f.Skew = append(f.Skew, catalog.Skew{ID: fmt.Sprint("S", i), Between: catalog.SkewMembers, One: names("one"), Other: names("other"), SameTrain: rapid.Bool().Draw(t, "train")})
		}
		at := []int{rapid.IntRange(0, n-1).Draw(t, "a"), rapid.IntRange(0, n-1).Draw(t, "b")}
		to := rapid.IntRange(0, n-1).Draw(t, "aim")
		policy := Policy{Reset: true}
		tolerated := func(a, b int) bool {
			for _, s := range f.Skew {
				x, y := f.Releases[a], f.Releases[b]
				if (!s.SameTrain || x.Train == y.Train) && (s.One.Contains(x.Version) && s.Other.Contains(y.Version) || s.One.Contains(y.Version) && s.Other.Contains(x.Version)) {
					return true
				}
			}
			return a == b
		}
		// Cheapest way over pairs of stops, by relaxing until nothing changes.
		p := &portrait.Portrait{Model: "M"}
		costs := map[[2]int]cost{{at[0], at[1]}: {}}
		for changed := true; changed; {
			changed = false
			for s, c := range costs {
				for i := range 2 {
					for b := range n {
						h := supported(f, p, policy, s[i], b)
						if h == nil || !tolerated(b, s[1-i]) {
							continue
						}
						next := s
						next[i] = b
						if old, ok := costs[next]; !ok || c.plus(*h).compare(old) < 0 {
							costs[next], changed = c.plus(*h), true
						}
					}
				}
			}
		}
		want, possible := costs[[2]int{to, to}]
		members := []portrait.Portrait{{Name: "one", Model: "M", Version: f.Releases[at[0]].Version.String()}, {Name: "two", Model: "M", Version: f.Releases[at[1]].Version.String()}}
		j, err := NewPlanner(&catalog.Catalogue{Families: []*catalog.Family{f}}).FindJoint(members, Question{Aim: Aim{Version: f.Releases[to].Version.String()}, Policy: policy})
		if at[0] == at[1] {
			// Alike members go as one group, stop by stop, where they can; that is not always the cheapest.
			if (err == nil) != possible {
				t.Fatalf("possible: %v, but %v", possible, err)
			}
			return
		}
		if (err == nil) != possible {
			t.Fatalf("possible: %v, but %v", possible, err)
		}
		if err != nil {
			return
		}
		stands := map[string]int{"one": at[0], "two": at[1]}
		var got cost
		for _, m := range j.Moves {
			name := m.Members[0]
			other := stands[map[string]string{"one": "two", "two": "one"}[name]]
			next := f.Named(m.Hop.To.String())
			if !tolerated(next, other) {
				t.Fatalf("%s on %s beside %s is not tolerated", name, m.Hop.To, f.Releases[other].Version)
			}
			got = got.plus(*supported(f, p, policy, stands[name], next))
			stands[name] = next
		}
		if got.compare(want) != 0 || stands["one"] != to || stands["two"] != to {
			t.Fatalf("%v costs %+v, the best costs %+v", stands, got, want)
		}
	})
}

func TestSameAnswerEachTime(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := randomFamily(t)
		c := &catalog.Catalogue{Families: []*catalog.Family{f}}
		q := Question{Portrait: &portrait.Portrait{Model: "M", Version: f.Releases[0].Version.String()}, Aim: Aim{Version: f.Releases[len(f.Releases)-1].Version.String()}, Alternatives: 3}
		a, errA := NewPlanner(c).Find(q)
		b, errB := NewPlanner(c).Find(q)
		if fmt.Sprintf("%+v %v", a, errA) != fmt.Sprintf("%+v %v", b, errB) {
			t.Fatalf("%v %v and %v %v", a, errA, b, errB)
		}
	})
}

func TestEveryMakerOfTheDemo(t *testing.T) {
	p := NewPlanner(demo(t))
	cases := []struct {
		name  string
		q     Question
		stops []string
		check func(*testing.T, *Path)
	}{
		{"a stack takes base images and logic along", ask("L24", "11.1.2", "preferred"), []string{"11.2.5", "12.1.3", "12.2.3"}, func(t *testing.T, p *Path) {
			assert.Equal(t, "the newest preferred one", p.Aim)
			h := p.Hops[2]
			var others []string
			for _, o := range h.Others {
				others = append(others, o.Role+" "+o.File)
			}
			assert.Equal(t, []string{"base l24-12.2.0.pkg", "logic os-logic-52.pkg"}, others)
			require.Len(t, h.Components, 1)
			assert.Equal(t, "before", p.Hops[1].Components[0].Order, "the boot loader goes first")
			assert.Equal(t, []string{"44", "52"}, []string{h.Components[0].From, h.Components[0].To})
			assert.Equal(t, 2, h.Restarts, "the power cycle of the logic interrupts service too")
			assert.Contains(t, p.Notes[1], "the hardware generation is not known")
		}},
		{"an advisory is fixed by the smallest step", ask("L24", "11.1.2", "fixes:OST-2024-03"), []string{"11.2.3"}, nil},
		{"another platform", func() Question { q := ask("V1", "7.0.2", "train:8.2"); q.Aim.Model = "V2"; return q }(), []string{"7.4.6", "7.4.6", "8.2.2"}, func(t *testing.T, p *Path) {
			assert.Equal(t, "V2", p.Hops[1].NewModel)
			assert.Equal(t, "CR-P1", p.Hops[1].Permit.Rule)
			assert.True(t, p.Hops[1].Platform.InPlace)
			assert.True(t, p.Hops[1].Platform.Foretells(catalog.ValueSerial))
			assert.False(t, p.Hops[1].Platform.Foretells("licences"))
			assert.Equal(t, []string{"V1", "V1", "V2", "V2"}, []string{p.ModelAt(0), p.ModelAt(1), p.ModelAt(2), p.LastModel()})
			assert.Equal(t, catalog.PortChange{From: "port0", To: "lane-1"}, p.Renamed("V1", "V2")[0])
			assert.Equal(t, catalog.PortChange{From: "lane-1", To: "port0"}, p.Renamed("V2", "V1")[0])
			assert.Empty(t, p.Renamed("V2", "V2"))
			assert.Empty(t, p.Renamed("R2", "V2"))
			states := map[string]catalog.Truth{}
			for _, q := range p.Hops[2].Prerequisites {
				states[q.ID] = q.State
			}
			assert.Equal(t, map[string]catalog.Truth{"": catalog.Unknown, "CR-Q2": catalog.Unknown, "CR-Q3": catalog.Unknown, "CR-Q5": catalog.Unknown, "CR-Q6": catalog.Unknown}, states)
		}},
		{"the same machine is the host of the other platform", func() Question {
			q := ask("V1", "7.4.6", "train:8.2")
			q.Aim.Model, q.Portrait.Memory, q.Portrait.Licences = "V2", 3<<30, []string{"edge-plus"}
			return q
		}(), []string{"7.4.6", "8.2.2"}, func(t *testing.T, p *Path) {
			states := map[string]catalog.Truth{}
			for _, h := range p.Hops {
				for _, q := range h.Prerequisites {
					states[q.ID] = q.State
				}
			}
			assert.Equal(t, map[string]catalog.Truth{"": catalog.Unknown, "CR-Q2": catalog.No, "CR-Q3": catalog.Yes, "CR-Q5": catalog.Unknown, "CR-Q6": catalog.Yes}, states, "2 GiB are enough for the platform, and not for train 8")
		}},
		{"access points come to the radio train by 9.0", ask("WC-2", "8.2.1", "train:9.2"), []string{"8.5.4", "8.8.5", "9.0.2", "9.2.2"}, nil},
		{"services must keep working", func() Question { q := ask("WC-2", "8.5.4", "8.8.5"); q.Policy.Services = []string{"mesh"}; return q }(), nil, nil},
		{"content by itself", ask("SG-5", "3.8.0", "newest"), []string{"3.8.4", "4.2.2", "4.4.2"}, func(t *testing.T, p *Path) {
			assert.Equal(t, "by-itself", p.Hops[1].Components[0].Trigger)
		}},
		{"words with an order", ask("TD-C", "2024-spring-2", "preferred"), []string{"2024-autumn-3", "2025-spring-3", "2026-spring-3"}, nil},
		{"an update that resets", func() Question { q := ask("RC-6", "F1.04", "F4.04"); q.Policy.Reset = true; return q }(), []string{"F2.12", "F4.04"}, func(t *testing.T, p *Path) {
			assert.Equal(t, "before", p.Hops[1].Components[0].Order)
			assert.Equal(t, "drive-logic", p.Hops[1].Components[0].Name)
			assert.Equal(t, "web-manager", p.Hops[1].Components[1].Name)
		}},
		{"back to the previous installation", ask("SG-5", "4.2.3", "4.0.3"), []string{"4.0.3"}, func(t *testing.T, p *Path) {
			assert.Contains(t, p.Hops[0].HandSteps[0].Text, "passwords")
		}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			path, err := p.Find(c.q)
			if c.stops == nil {
				var no *NoPathError
				require.ErrorAs(t, err, &no)
				assert.NotEmpty(t, no.Changes)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.stops, stops(path))
			if c.check != nil {
				c.check(t, path)
			}
		})
	}
}

func TestFactsOfADevice(t *testing.T) {
	p := NewPlanner(demo(t))
	q := ask("R2", "7.4.6", "8.4.2")
	q.Portrait.Memory = 1 << 30
	_, err := p.Find(q)
	var no *NoPathError
	require.ErrorAs(t, err, &no)
	assert.Equal(t, "CR-Q1", no.Blocks[0].Rule)
	assert.Contains(t, no.Changes[0], "the device met CR-Q1")
	q.Portrait.Memory = 4 << 30
	q.Portrait.Licences = []string{}
	q.Portrait.Uses = map[string]bool{"multicast": false, "classic-tunnels": true}
	path, err := p.Find(q)
	require.NoError(t, err)
	states := map[string]catalog.Truth{}
	for _, r := range path.Hops[0].Prerequisites {
		states[r.ID] = r.State
	}
	assert.Equal(t, catalog.Yes, states["CR-Q1"])
	assert.Equal(t, catalog.No, states["CR-Q3"], "it lacks the licence, which can be obtained")
	assert.Equal(t, catalog.No, states["CR-Q5"])
	assert.Contains(t, path.Hops[0].Lost[0], "classic-tunnels, which this device uses")

	q = ask("WC-2", "8.8.5", "9.0.2")
	q.Portrait.Children = []portrait.Child{{Model: "AP-12", Count: 3}}
	_, err = p.Find(q)
	require.ErrorAs(t, err, &no)
	assert.Contains(t, no.Blocks[0].Text, "no longer serves AP-12")
	q.Policy.DropChildren = true
	_, err = p.Find(q)
	require.NoError(t, err)

	q = ask("TH-60", "4.2.9", "5.0.7")
	q.Portrait.Storage = map[string]portrait.Room{"flash": {Total: 1 << 20, Free: 1 << 20}}
	_, err = p.Find(q)
	assert.ErrorContains(t, err, "the images of 5.0.7 take 5.0 MiB, but the storage for them has 1.0 MiB in all")
	q.Portrait.Storage = map[string]portrait.Room{"flash": {Total: 16 << 20, Free: 1 << 20}}
	path, err = p.Find(q)
	require.NoError(t, err)
	assert.Equal(t, catalog.No, path.Hops[0].Prerequisites[0].State)
	assert.Contains(t, path.Hops[0].Prerequisites[0].Remedy, "remove files")

	q = ask("SG-5", "4.2.3", "4.0.3")
	q.Portrait.Slots = []portrait.Slot{{Name: "a", Version: "4.2.3", Running: true}, {Name: "b", Version: "4.0.3"}}
	path, err = p.Find(q)
	require.NoError(t, err)
	assert.Contains(t, path.Notes[len(path.Notes)-1], "slot b holds 4.0.3 already; starting it would bring back the configuration and passwords")
	for name, files := range map[string][]portrait.File{"4.0.3": nil, "sg5-4.0.3.img": {{Name: "sg5-4.0.3.img"}}} { // started as it lies there, with the configuration of now
		q.Portrait.Slots[1].Name, q.Portrait.Files = name, files
		path, err = p.Find(q)
		require.NoError(t, err)
		assert.Contains(t, path.Notes, "4.0.3 lies on the device already")
	}
	q.Portrait.Files = nil

	// The configuration is converted on the way, so what it is like now says nothing about the later hops.
	q = ask("TH-60", "4.2.3", "6.0.1")
	q.Portrait.Uses = map[string]bool{"old-translation": true, "translation": true, "tunnels": true}
	path, err = p.Find(q)
	require.NoError(t, err)
	last := path.Hops[len(path.Hops)-1]
	require.Equal(t, "TH-Q1", last.Prerequisites[1].ID)
	assert.Equal(t, catalog.Unknown, last.Prerequisites[1].State)
	assert.Equal(t, catalog.Yes, path.Hops[1].Notes[1].Matters, "it is known until the conversion")
	q = ask("TH-60", "5.4.2", "6.0.1")
	q.Portrait.Uses = map[string]bool{"old-translation": true}
	path, err = p.Find(q)
	require.NoError(t, err)
	assert.Equal(t, catalog.No, path.Hops[0].Prerequisites[1].State, "nothing converts it before this hop")

	_, err = p.Find(ask("TH-60", "5.4.2", "fixes:NOPE-1"))
	assert.ErrorContains(t, err, "advisory NOPE-1 is not in the catalogue")
	q = ask("TH-60", "5.0.7", "fixes:X")
	q.Aim.Affected = func(_, version string) bool { return version != "5.4.2" && version != "5.2.0" }
	path, err = p.Find(q)
	require.NoError(t, err)
	assert.Equal(t, "5.2.0", path.To.String(), "the oldest that the advisory does not affect")
}

func TestAnEnsembleGoesTogether(t *testing.T) {
	p := NewPlanner(demo(t))
	j, err := p.FindJoint([]portrait.Portrait{{Name: "td-n1", Model: "TD-N", Version: "2024-autumn-3", Platform: "wide-lane"}, {Name: "td-n2", Model: "TD-N", Version: "2024-autumn-3", Platform: "wide-lane"}, {Name: "td-c", Model: "TD-C", Version: "2024-autumn-3"}},
		Question{Aim: Aim{Version: "2026-spring-3"}})
	require.NoError(t, err)
	var moves []string
	for _, m := range j.Moves {
		moves = append(moves, fmt.Sprint(m.Members, " ", m.Hop.To))
	}
	assert.Equal(t, []string{"[td-c] 2025-spring-3", "[td-c] 2026-spring-3", "[td-n1 td-n2] 2025-spring-3", "[td-n1 td-n2] 2026-spring-3"}, moves)

	// A limit on hops holds for ensembles and over a change of platform too.
	_, err = p.FindJoint([]portrait.Portrait{{Name: "a", Model: "TD-C", Version: "2024-autumn-3"}, {Name: "b", Model: "TD-C", Version: "2024-autumn-3"}}, Question{Aim: Aim{Version: "2026-spring-3"}, Policy: Policy{MaxHops: 1}})
	assert.ErrorContains(t, err, "the policy allows 1 hops, the shortest way takes")
	over := ask("V1", "7.0.2", "train:8.2")
	over.Aim.Model, over.Policy.MaxHops = "V2", 2
	_, err = p.Find(over)
	assert.ErrorContains(t, err, "the policy allows 2 hops, the shortest way takes 3")
	over.Policy.MaxHops = 3
	_, err = p.Find(over)
	require.NoError(t, err)
	back := ask("V2", "8.2.2", "7.4.6")
	back.Aim.Model = "V1"
	_, err = p.Find(back)
	assert.ErrorContains(t, err, "no platform change leads from 8.2.2 on V2 to 7.4.6 on V1")

	// What is told about a move holds for each of its members.
	j, err = p.FindJoint([]portrait.Portrait{{Name: "a", Model: "WC-2", Version: "8.5.4", Uses: map[string]bool{"mesh": false}}, {Name: "b", Model: "WC-2", Version: "8.5.4", Uses: map[string]bool{"mesh": true}}}, Question{Aim: Aim{Version: "8.8.5"}})
	require.NoError(t, err)
	require.Len(t, j.Moves, 2)
	lost := map[string]int{}
	for _, m := range j.Moves {
		lost[m.Members[0]] = len(m.Hop.Lost)
	}
	assert.Equal(t, map[string]int{"a": 0, "b": 1}, lost)

	// As the other member: only the one that differs moves.
	aim, err := ParseAim("member:new")
	require.NoError(t, err)
	j, err = p.FindJoint([]portrait.Portrait{{Name: "old", Model: "SG-5", Version: "4.0.0"}, {Name: "new", Model: "SG-5", Version: "4.0.3"}}, Question{Aim: aim})
	require.NoError(t, err)
	require.Len(t, j.Moves, 1)
	assert.Equal(t, "old", j.Moves[0].Members[0])
	assert.Equal(t, "4.0.3", j.Moves[0].Hop.To.String())
	assert.Equal(t, "what the other member runs", j.Aim)

	_, err = p.FindJoint([]portrait.Portrait{{Name: "a", Model: "WC-2", Version: "8.2.4"}, {Name: "b", Model: "AP-31", Version: "8.5.4"}}, Question{Aim: Aim{Version: "8.5.4"}})
	require.NoError(t, err)
	_, err = p.FindJoint([]portrait.Portrait{{Name: "a", Model: "WC-2", Version: "9.0.2"}, {Name: "b", Model: "WC-2", Version: "9.0.2"}}, Question{Aim: Aim{Version: "9.2.2"}})
	assert.ErrorContains(t, err, "no skew rule tolerates WC-2 on 9.2.2 beside WC-2 on 9.0.2")
	assert.ErrorContains(t, err, "went down at the same time")
	_, err = p.FindJoint([]portrait.Portrait{{Name: "a", Model: "WC-2", Version: "9.0.2"}, {Name: "b", Model: "SG-5", Version: "4.0.0"}}, Question{Aim: Aim{Newest: true}})
	assert.ErrorContains(t, err, "members of an ensemble are of one family")
}
