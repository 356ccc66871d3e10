package path

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/catalog"
	"verimorph/core/portrait"
)

// a family in a few lines: releases as "version stage size", rules as they stand in a file.
func family(t require.TestingT, scheme, releases, rules string, rest ...string) *Planner {
	text := "format: verimorph-catalogue/1\nmaker: Toy\nfamily: toy\ntitle: toy\nconfiguration: {syntax: block-indent, secrets: []}\nscheme: {" + scheme + "}\nmodels: [{name: A, title: a}]\nreleases:\n" + releases + "rules:\n" + rules
	for _, r := range rest {
		text += r
	}
	f, found := catalog.ReadFile("toy.yaml", []byte(text))
	require.Empty(t, found.Errors(), "%s\n%s", found, text)
	c := &catalog.Catalogue{}
	c.Add(f)
	return NewPlanner(c)
}

func release(version, train, stage string, megabytes int) string {
	return fmt.Sprintf("  - {version: %q, train: %q, date: 2024-01-01, stage: %s, images: [{file: %q, models: [A], size: %d, sha256: %064x}]}\n", version, train, stage, version+".img", megabytes<<20, megabytes)
}

const anyUp = "  - {id: U, kind: hop, from: any, to: any, text: up}\n"

func find(p *Planner, from, to string) (*Path, error) {
	return p.Find(Question{Portrait: &portrait.Portrait{Model: "A", Version: from}, Aim: Aim{Version: to}})
}

// A preferred release wins over a difference in time that nobody cares about, and loses to one that somebody does.
func TestPreferredWinsOverSmallDifferencesOfTime(t *testing.T) {
	const rates = "durations: {install: [60, 60, 600], send-rate: [1048576, 1048576]}\n"
	step := "  - {id: S1, kind: hop, from: \"1.0\", to: \"2.0 | 2.1\", text: first}\n  - {id: S2, kind: hop, from: \"2.0 | 2.1\", to: \"3.0\", text: then}\n"
	for _, c := range []struct {
		preferred, other int // megabytes of the images, a second each
		through          string
	}{{100, 99, "2.0"}, {300, 100, "2.0"}, {399, 100, "2.0"}, {401, 100, "2.1"}} {
		p := family(t, "", release("1.0", "1", "general", 1)+release("2.0", "2", "preferred", c.preferred)+release("2.1", "2", "general", c.other)+release("3.0", "3", "preferred", 1), step, rates)
		got, err := find(p, "1.0", "3.0")
		require.NoError(t, err)
		assert.Equal(t, c.through, got.Hops[0].To.String(), "%d s longer", c.preferred-c.other)
	}
}

// Whatever images weigh: a way with fewer stops that are merely allowed is never passed over for one that saves less than a step for each
// more of them.
func TestNoSmallDifferenceWinsOverPreferred(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := cost{millis: rapid.Int64Range(0, 4_000_000).Draw(t, "a"), merely: rapid.IntRange(0, 4).Draw(t, "merely a")}
		b := cost{millis: rapid.Int64Range(0, 4_000_000).Draw(t, "b"), merely: rapid.IntRange(0, 4).Draw(t, "merely b")}
		c := cost{millis: rapid.Int64Range(0, 4_000_000).Draw(t, "c"), merely: rapid.IntRange(0, 4).Draw(t, "merely c")}
		if a.merely < b.merely && a.millis-b.millis < timeStep && a.compare(b) >= 0 {
			t.Fatalf("%+v does not win over %+v", a, b)
		}
		if x, y := a.compare(b), a.plus(c).compare(b.plus(c)); x != y { // what the search rests on
			t.Fatalf("%+v and %+v compare as %d, with %+v as %d", a, b, x, c, y)
		}
		if a.compare(b) != -b.compare(a) || a.compare(b) == 0 && a != b || a.compare(b) < 0 && b.compare(c) < 0 && a.compare(c) >= 0 {
			t.Fatalf("no order: %+v %+v %+v", a, b, c)
		}
	})
}

// The nearest release that is told lies on this side of the aim, or it is said that it does not.
func TestTheNearestReleaseLiesBeforeTheAim(t *testing.T) {
	all := release("1.0", "1", "general", 1) + release("2.0", "2", "general", 1) + release("3.0", "3", "general", 1) + release("4.0", "4", "general", 1) + release("5.0", "5", "general", 1)
	for _, c := range []struct {
		rules, from, to, nearest string
		beyond                   bool
	}{
		{"  - {id: U, kind: hop, from: any, to: \"<3 | >=5\", text: up}\n", "1.0", "4.0", "2.0", false},
		{"  - {id: U, kind: hop, from: any, to: \">=4\", text: up}\n", "1.0", "3.0", "4.0", true},
		{"  - {id: D, kind: hop, direction: down, from: any, to: \"<2 | 4.0\", text: down}\n", "5.0", "2.0", "4.0", false},
		{"  - {id: D, kind: hop, direction: down, from: any, to: \"<2\", text: down}\n", "5.0", "2.0", "1.0", true},
		{"  - {id: U, kind: hop, from: \"4.0\", to: \"5.0\", text: up}\n", "1.0", "3.0", "", false},
	} {
		_, err := find(family(t, "", all, c.rules), c.from, c.to)
		var none *NoPathError
		require.True(t, errors.As(err, &none), "%v", err)
		assert.Equal(t, c.nearest, none.Nearest.String())
		assert.Equal(t, c.beyond, none.Beyond)
		if c.beyond {
			assert.ErrorContains(t, err, c.nearest+", which lies beyond the aim")
		}
	}
}

// A build that is not described, but lies inside what is, gets its path with a note.
func TestABuildThatIsNotDescribed(t *testing.T) {
	p := family(t, "", release("8.0.0", "8.0", "general", 1)+release("8.0.7", "8.0", "preferred", 1)+release("8.2.0", "8.2", "general", 1)+release("9.0.0", "9.0", "preferred", 1),
		"  - {id: T, kind: leave-train, text: trains}\n"+anyUp)
	for from, want := range map[string][]string{"8.0.5": {"8.0.7", "9.0.0"}, "8.0.8": {"9.0.0"}, "8.1.1": {"8.0.7", "9.0.0"}, "8.2.3": {"9.0.0"}} {
		got, err := find(p, from, "9.0.0")
		require.NoError(t, err, from)
		var stops []string
		for _, h := range got.Hops {
			stops = append(stops, h.To.String())
		}
		if from == "8.1.1" {
			assert.Contains(t, [][]string{{"9.0.0"}, {"8.0.7", "9.0.0"}}, stops, from)
		} else {
			assert.Equal(t, want, stops, from)
		}
		assert.Contains(t, got.Notes[0], from+" itself is not described", from)
		assert.Equal(t, from, got.From.String())
	}
	for _, from := range []string{"7.0.0", "9.1.0"} { // outside of what is described
		_, err := find(p, from, "9.0.0")
		assert.ErrorContains(t, err, "is not in the catalogue", from)
	}
	_, err := find(p, "8.0.0", "8.0.5")
	assert.ErrorContains(t, err, "release 8.0.5 is not in the catalogue", "nobody can go there")
	older := family(t, "", release("8.0.7", "8.0", "preferred", 1)+release("9.0.0", "9.0", "preferred", 1), "  - {id: U, kind: hop, from: \"8.0.x\", to: any, text: up}\n")
	got, err := find(older, "8.0.1", "9.0.0") // before all that is described, but inside a range from which a hop leads
	require.NoError(t, err)
	assert.Len(t, got.Hops, 1)
	j, err := p.FindJoint([]portrait.Portrait{{Name: "one", Model: "A", Version: "8.0.5"}, {Name: "two", Model: "A", Version: "8.0.7"}}, Question{Aim: Aim{Version: "8.0.7"}})
	if err == nil {
		assert.Contains(t, j.Notes, "8.0.5 itself is not described; it is treated as the releases around it")
	} else {
		assert.ErrorContains(t, err, "skew")
	}
}

// Numbers that are written differently are one version.
func TestOtherSpellings(t *testing.T) {
	p := family(t, "", release("2024.06", "2024", "general", 1)+release("2024.11", "2024", "preferred", 1), "  - {id: U, kind: hop, from: \"2024.6\", to: \">=2024.011\", text: up}\n")
	got, err := find(p, "2024.06", "2024.11")
	require.NoError(t, err, "ranges hold both spellings")
	assert.Len(t, got.Hops, 1)
	_, err = find(p, "2024.6", "2024.11")
	assert.EqualError(t, err, "release 2024.6 is written 2024.06 in the catalogue of family toy; the two are one version, so write one of them everywhere")
	_, err = find(p, "2024.06", "2024.011")
	assert.ErrorContains(t, err, "is written 2024.11 in the catalogue")
}

// A hop inside the same train is permitted once for all trains.
func TestTheSameTrain(t *testing.T) {
	p := family(t, "", release("1.0", "1", "general", 1)+release("1.1", "1", "general", 1)+release("2.0", "2", "general", 1)+release("2.1", "2", "general", 1),
		"  - {id: S, kind: hop, same-train: true, text: inside a train}\n  - {id: C, kind: hop, from: \"1.1\", to: \"2.0\", text: across}\n")
	got, err := find(p, "1.0", "2.1")
	require.NoError(t, err)
	var rules []string
	for _, h := range got.Hops {
		rules = append(rules, h.Permit.Rule)
	}
	assert.Equal(t, []string{"S", "C", "S"}, rules)
	_, err = find(p, "2.0", "1.0")
	assert.ErrorContains(t, err, "no hop rule permits 2.0 to 1.0")
}

// Alike members take different ways where that costs less; where that was not looked at, it is said.
func TestAlikeMembers(t *testing.T) {
	releases := release("1.0", "1", "general", 1) + release("2.0", "2", "general", 1) + release("3.0", "3", "general", 1)
	p := family(t, "", releases, anyUp, "skew:\n  - {id: K, between: members, one: any, other: any, text: all}\n")
	var members []portrait.Portrait
	for i := range 5 {
		members = append(members, portrait.Portrait{Name: fmt.Sprint("m", i+1), Model: "A", Version: "1.0"})
	}
	j, err := p.FindJoint(members, Question{Aim: Aim{Version: "3.0"}})
	require.NoError(t, err)
	require.Len(t, j.Notes, 1)
	assert.Contains(t, j.Notes[0], "m1, m2, m3, m4, m5 are alike and were kept together")
	j, err = p.FindJoint(members[:2], Question{Aim: Aim{Version: "3.0"}})
	require.NoError(t, err)
	assert.Empty(t, j.Notes, "two were looked at both ways")

	// 1.0 and 3.0 are not tolerated beside each other, but for a moment when the other one is on 2.0.
	p = family(t, "", releases, anyUp, "skew:\n  - {id: K, between: members, one: \"<3\", other: \"<3\", text: old}\n  - {id: L, between: members, one: \">=2\", other: \">=2\", text: new}\n")
	j, err = p.FindJoint(members[:2], Question{Aim: Aim{Version: "3.0"}})
	require.NoError(t, err)
	total := 0
	for _, m := range j.Moves {
		total += len(m.Members)
	}
	assert.Equal(t, 3, total, "one goes by 2.0, the other straight: three restarts instead of four")
}
