package view

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/version"
)

func demo(t *testing.T) (*catalog.Catalogue, *path.Planner) {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	return c, path.NewPlanner(c)
}

func never(string) bool { return false }

func find(t *testing.T, p *path.Planner, model, from, to string, policy path.Policy) *path.Path {
	found, err := p.Find(path.Question{Portrait: &portrait.Portrait{Model: model, Version: from}, Aim: path.Aim{Version: to}, Policy: policy, Alternatives: 2})
	require.NoError(t, err)
	return found
}

// noNull fails when a list of an answer is null: scripts go through lists without asking first.
func noNull(t *testing.T, v any) {
	data, err := json.Marshal(v)
	require.NoError(t, err)
	var walk func(where string, v any)
	walk = func(where string, v any) {
		switch v := v.(type) {
		case map[string]any:
			for k, x := range v {
				if x == nil && k != "nearest" {
					t.Errorf("%s.%s is null", where, k)
				}
				walk(where+"."+k, x)
			}
		case []any:
			for _, x := range v {
				walk(where, x)
			}
		}
	}
	var any any
	require.NoError(t, json.Unmarshal(data, &any))
	walk("", any)
}

func TestPathTimes(t *testing.T) {
	c, planner := demo(t)
	p := find(t, planner, "TH-60", "4.2.3", "5.4.2", path.Policy{})
	plain := Path(p, nil, never)
	noNull(t, plain)
	assert.InDelta(t, plain.Hops[0].Low/60, plain.Hops[0].Minutes.Low, 1e-9)
	assert.Equal(t, ptr(false), plain.Hops[0].Images[0].There)
	assert.Equal(t, "it is the aim", plain.Hops[2].Why)
	assert.Contains(t, plain.Hops[0].Why, "[TH-R6]")
	require.NotEmpty(t, plain.Alternatives)

	fast := Path(p, func(p *path.Path) []change.Step {
		plan, err := change.Draft(change.Job{Family: c.Family("th"), Path: p, Can: change.Abilities{Save: true}, Pace: change.Pace{Factor: 20}})
		require.NoError(t, err)
		return plan.Steps
	}, func(sum string) bool { return sum == p.Hops[0].Image.SHA256 })
	assert.Less(t, fast.Hops[0].High, plain.Hops[0].High/10, "at the pace of the installation")
	assert.Less(t, fast.Alternatives[0].Minutes.High, plain.Alternatives[0].Minutes.High/10, "other ways too")
	assert.Equal(t, ptr(true), fast.Hops[0].Images[0].There)
	assert.Equal(t, ptr(false), fast.Hops[1].Images[0].There)
}

func TestEveryPartOfAHop(t *testing.T) {
	_, planner := demo(t)
	for _, q := range []struct{ model, from, to string }{{"L24", "11.1.2", "12.2.3"}, {"RC-6", "F1.04", "F4.04"}, {"SG-5", "3.8.0", "4.4.2"}, {"WC-2", "8.2.1", "9.2.2"}, {"TD-N", "2024-autumn-3", "2026-spring-3"}, {"R2", "7.0.0", "8.4.2"}, {"TH-60", "5.4.2", "5.4.2"}} {
		noNull(t, Path(find(t, planner, q.model, q.from, q.to, path.Policy{Reset: true}), nil, never))
	}
	p := Path(find(t, planner, "RC-6", "F1.04", "F4.04", path.Policy{Reset: true}), nil, never)
	h := p.Hops[1]
	assert.Equal(t, gen.HopConfig("reset"), h.Config)
	assert.Equal(t, []string{"install", "web-manager", "drive-logic"}, []string{h.Images[0].Role, h.Images[1].Role, h.Images[2].Role})
	assert.Equal(t, "8", Path(find(t, planner, "RC-6", "F1.04", "F4.04", path.Policy{Reset: true}), nil, never).Hops[1].Images[2].Version[:1], "the first generation is taken when none is known")
	assert.Equal(t, gen.HandStepDue("after"), h.HandSteps[0].Due)
	assert.Equal(t, gen.PrerequisiteStateUnknown, h.Prerequisites[1].State)

	found, err := planner.Find(path.Question{Portrait: &portrait.Portrait{Model: "V1", Version: "7.4.6"}, Aim: path.Aim{Version: "7.4.7", Model: "V2"}})
	require.NoError(t, err)
	moved := Path(found, nil, never)
	assert.Equal(t, "V2", *moved.Hops[0].NewModel)
	assert.Equal(t, "the platform changes to V2", moved.Hops[0].Why)
}

func TestNoPath(t *testing.T) {
	_, planner := demo(t)
	_, err := planner.Find(path.Question{Portrait: &portrait.Portrait{Model: "TH-60", Version: "5.4.2"}, Aim: path.Aim{Version: "4.2.9"}})
	var no *path.NoPathError
	require.ErrorAs(t, err, &no)
	p := NoPath(no)
	noNull(t, p)
	assert.False(t, p.Found)
	assert.Equal(t, "5.0.6", *p.Nearest)
	assert.Equal(t, "tarnholm-th.yaml", *p.BlockedBy[0].File)
}

func TestJoint(t *testing.T) {
	_, planner := demo(t)
	ms := []portrait.Portrait{{Name: "a", Model: "WC-2", Version: "8.8.5"}, {Name: "b", Model: "WC-2", Version: "8.8.5"}}
	j, err := planner.FindJoint(ms, path.Question{Aim: path.Aim{Version: "9.0.2"}})
	require.NoError(t, err)
	p := Joint(j, never)
	noNull(t, p)
	require.Len(t, *p.Moves, 1)
	assert.Equal(t, []string{"a", "b"}, (*p.Moves)[0].Members)
	assert.Equal(t, "GW-S2", (*p.Moves)[0].Beside[0].Rule)
	assert.InDelta(t, 2*j.Moves[0].Hop.High, p.Hops[0].High, 1e-9, "one after the other")
}

func TestFamilyShowsEverything(t *testing.T) {
	c, planner := demo(t)
	for _, f := range c.Families {
		g := Family(f, never)
		noNull(t, g)
		assert.Len(t, g.Releases, len(f.Releases))
		assert.Len(t, g.Rules, len(f.Rules))
		assert.Equal(t, f.Releases[len(f.Releases)-1].Version.String(), g.Releases[0].Version, "newest first")
		for _, r := range g.Rules {
			assert.NotEmpty(t, r.Says, r.Id)
			assert.Positive(t, r.Line)
		}
		for _, m := range g.Models {
			_, notRun, err := planner.MayRun(m.Name)
			require.NoError(t, err)
			for _, r := range Releases(f, m.Name, "", notRun, never) {
				assert.Equal(t, r.Runs, r.Why == nil)
				if m.Preferred != nil && r.Version == *m.Preferred {
					assert.True(t, r.Runs)
				}
			}
		}
	}
	gw := Family(c.Family("gw"), never)
	var says []string
	for _, r := range gw.Rules {
		says = append(says, r.Id+" "+r.Says)
	}
	all := strings.Join(says, "\n")
	for _, want := range []string{"GW-R1 8.2.x to 8.2.x | 8.5.x, configuration kept", "GW-R6 train 8.5 is left from its newest preferred release or a later one", "GW-R7 crossing 9.0.0, landing on 9.0.x", "GW-D3 down: 9.0.x to >=8.8.2 <9, configuration reset"} {
		assert.Contains(t, all, want)
	}
	os := Family(c.Family("os"), never)
	assert.Equal(t, "at least 2.2", os.Components[0].Rows[1].Version)
	assert.Equal(t, "11.2.0", *os.Releases[len(os.Releases)-8].Base)
	cr := Family(c.Family("cr"), never)
	assert.Contains(t, cr.Rules[6].Says, "V1 on >=7.4.2 to V2 on")
}

// A hop that installs nothing, such as the start of the previous installation, has lists that are empty, none that are missing: whoever
// reads them looks into each.
func TestAHopWithoutImagesHasEmptyLists(t *testing.T) {
	p := &path.Path{Hops: []path.Hop{{From: version.MustParse("2"), To: version.MustParse("1")}}}
	noNull(t, Path(p, nil, never))
}
