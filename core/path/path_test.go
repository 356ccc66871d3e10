package path

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/catalog"
	"verimorph/core/version"
)

func demo(t testing.TB) *catalog.Catalogue {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	return c
}

func v(s string) version.Version { return version.MustParse(s) }

func TestTheStory(t *testing.T) {
	p, err := NewPlanner(demo(t)).Find("TH-60", v("4.2.3"), v("5.4.2"), Policy{})
	require.NoError(t, err)
	var stops []string
	for _, h := range p.Hops {
		stops = append(stops, h.To.String())
	}
	assert.Equal(t, []string{"4.2.9", "5.0.7", "5.4.2"}, stops)
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

func rules(cs []Citation) (ids []string) {
	for _, c := range cs {
		ids = append(ids, c.Rule)
	}
	return ids
}

func TestNoPathSaysWhyAndHowFar(t *testing.T) {
	p := NewPlanner(demo(t))
	_, err := p.Find("TH-40", v("4.2.3"), v("6.0.1"), Policy{})
	var no *NoPathError
	require.ErrorAs(t, err, &no)
	assert.Contains(t, err.Error(), "TH-40 may run <6 only, not 6.0.1: Tarnholm ends support of the TH-40 with train 5")
	assert.Equal(t, "5.4.2", no.Nearest.String())

	_, err = p.Find("TH-60", v("5.4.2"), v("4.2.9"), Policy{})
	require.ErrorAs(t, err, &no)
	assert.Contains(t, err.Error(), "no hop rule permits 5.4.2 to 4.2.9")
	assert.Equal(t, "5.0.6", no.Nearest.String())

	back, err := p.Find("TH-60", v("5.4.2"), v("4.2.9"), Policy{Reset: true})
	require.NoError(t, err)
	assert.Len(t, back.Hops, 2)
	assert.Equal(t, catalog.ConfigReset, back.Hops[1].Config)

	_, err = p.Find("TH-60", v("4.2.3"), v("6.0.0-rc1"), Policy{})
	assert.ErrorContains(t, err, "preview release")
}

func TestUnknownNames(t *testing.T) {
	p := NewPlanner(demo(t))
	_, err := p.Find("TH-60", v("4.2.3"), v("5.4.1"), Policy{})
	assert.EqualError(t, err, "release 5.4.1 is not in the catalogue of family th; known and near: 5.4.0, 5.4.2, 6.0.0-rc1")
	_, err = p.Find("TH-66", v("4.2.3"), v("5.4.2"), Policy{})
	assert.EqualError(t, err, "model TH-66 is not in the catalogue; known and near: TH-40, TH-60, TH-80")
	same, err := p.Find("TH-60", v("5.4.2"), v("5.4.2"), Policy{})
	require.NoError(t, err)
	assert.Empty(t, same.Hops)
}

// randomFamily draws a family of a few releases and rules of every kind.
func randomFamily(t *rapid.T) *catalog.Family {
	f := &catalog.Family{Name: "r", File: "r.yaml", Models: []catalog.Model{{Name: "M"}}, Durations: map[string]catalog.Span{"install": {Low: 1, High: 3}}}
	f.SendRate = catalog.Rate{Low: 10, High: 10}
	n := rapid.IntRange(2, 7).Draw(t, "releases")
	name := func(label string) version.Version {
		return f.Releases[rapid.IntRange(0, n-1).Draw(t, label)].Version
	}
	for i := range n {
		f.Releases = append(f.Releases, catalog.Release{
			Version: v(fmt.Sprintf("%d.%d", 1+i/3, i%3)), Train: fmt.Sprint(1 + i/3),
			Stage:  rapid.SampledFrom([]catalog.Stage{catalog.General, catalog.Preferred, catalog.Preferred, catalog.Withdrawn}).Draw(t, "stage"),
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
			Down:   rapid.Bool().Draw(t, "down"),
			Config: rapid.SampledFrom([]string{catalog.ConfigKept, catalog.ConfigConverted, catalog.ConfigReset}).Draw(t, "config")})
	}
	if rapid.Bool().Draw(t, "leave") {
		f.Rules = append(f.Rules, catalog.Rule{ID: "L", Kind: catalog.KindLeaveTrain, Train: rapid.SampledFrom([]string{"", "1", "2"}).Draw(t, "train")})
	}
	if rapid.Bool().Draw(t, "crossing") {
		f.Rules = append(f.Rules, catalog.Rule{ID: "C", Kind: catalog.KindCrossing, Crossing: name("at"), LeaveFrom: span("leave-from"), LandOn: span("land-on")})
	}
	return f
}

// supported says again, in the plainest words, what the rules of a family say about one hop; nil when it is refused.
// It shares nothing with the graph but the catalogue.
func supported(f *catalog.Family, a, b int, reset bool) *cost {
	ra, rb := f.Releases[a], f.Releases[b]
	if a == b || rb.Stage == catalog.Withdrawn {
		return nil
	}
	best := -1
	for _, r := range f.Rules {
		switch r.Kind {
		case catalog.KindHop:
			h := map[string]int{"kept": 0, "converted": 0, "reset": 1}[r.Config]
			if r.From.Contains(ra.Version) && r.To.Contains(rb.Version) && r.Down == rb.Version.Less(ra.Version) && (h == 0 || reset) && (best < 0 || h < best) {
				best = h
			}
		case catalog.KindLeaveTrain:
			if ra.Version.Less(rb.Version) && ra.Train != rb.Train && (r.Train == "" || r.Train == ra.Train) {
				if p := f.NewestPreferred(ra.Train); p != nil && p.Version.Compare(ra.Version) != 0 {
					return nil
				}
			}
		case catalog.KindCrossing:
			if ra.Version.Less(r.Crossing) && !rb.Version.Less(r.Crossing) && !(r.LeaveFrom.Contains(ra.Version) && r.LandOn.Contains(rb.Version)) {
				return nil
			}
		}
	}
	if best < 0 {
		return nil
	}
	c := &cost{resets: best, restarts: 1, seconds: 2 + float64(rb.Images[0].Size)/10}
	if rb.Stage != catalog.Preferred {
		c.merely = 1
	}
	return c
}

func TestAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := randomFamily(t)
		c := &catalog.Catalogue{Families: []*catalog.Family{f}}
		n := len(f.Releases)
		from, to := rapid.IntRange(0, n-1).Draw(t, "start"), rapid.IntRange(0, n-1).Draw(t, "aim")
		reset := rapid.Bool().Draw(t, "reset")
		if from == to {
			return
		}
		var best *cost
		seen := make([]bool, n)
		var walk func(int, cost)
		walk = func(a int, sofar cost) {
			if a == to {
				if best == nil || sofar.compare(*best) < 0 {
					best = &sofar
				}
				return
			}
			seen[a] = true
			for b := range n {
				if h := supported(f, a, b, reset); !seen[b] && h != nil {
					walk(b, sofar.plus(*h))
				}
			}
			seen[a] = false
		}
		walk(from, cost{})

		p, err := NewPlanner(c).Find("M", f.Releases[from].Version, f.Releases[to].Version, Policy{Reset: reset})
		if best == nil {
			if err == nil {
				t.Fatalf("found %v where there is no way", p.Hops)
			}
			return
		}
		if err != nil {
			t.Fatalf("%v, but there is a way that costs %+v", err, *best)
		}
		var got cost
		at := from
		for _, h := range p.Hops {
			next, _ := index(f, h.To)
			hop := supported(f, at, next, reset)
			if hop == nil {
				t.Fatalf("hop %s to %s is not supported", h.From, h.To)
			}
			got, at = got.plus(*hop), next
		}
		if at != to || got.resets != best.resets || got.restarts != best.restarts || got.merely != best.merely || got.seconds-best.seconds > 1e-9 {
			t.Fatalf("costs %+v, the best costs %+v", got, *best)
		}
		for _, j := range p.NotTaken {
			a, _ := index(f, j.From)
			b, _ := index(f, j.To)
			if supported(f, a, b, reset) != nil {
				t.Fatalf("%s to %s is said to be refused but is supported", j.From, j.To)
			}
		}
	})
}

func TestSameAnswerEachTime(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := randomFamily(t)
		c := &catalog.Catalogue{Families: []*catalog.Family{f}}
		from, to := f.Releases[0].Version, f.Releases[len(f.Releases)-1].Version
		a, errA := NewPlanner(c).Find("M", from, to, Policy{})
		b, errB := NewPlanner(c).Find("M", from, to, Policy{})
		if fmt.Sprint(a, errA) != fmt.Sprint(b, errB) {
			t.Fatalf("%v %v and %v %v", a, errA, b, errB)
		}
	})
}
