package convert

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/config"
)

func gateway(t *testing.T) (*Library, *config.Schema, *config.Document, string) {
	l := demo(t)
	text := demoConfig(t, "control-sg1.json")
	s := l.Schema(stop(t, l, "SG-5@3.8.4"))
	d, broken := config.Parse("control-sg1.json", text, config.JSON)
	require.Empty(t, broken)
	return l, s, d, text
}

func TestServicesAreGrouped(t *testing.T) {
	_, s, d, _ := gateway(t)
	for by, want := range map[string]string{
		ByAddress: "tickets-front:4 mail-front:3 tides-front:3 berths-front:4",
		ByPolicy:  "public:14 piers:22 office:10",
		ByNaming:  "tickets:4 mail:3 tides:3 berths:4",
	} {
		groups, err := FindServices(s, d, by)
		require.NoError(t, err)
		var got []string
		for _, g := range groups {
			got = append(got, fmt.Sprintf("%s:%d", g.Name, len(g.Services)))
		}
		assert.Contains(t, strings.Join(got, " "), want)
	}
	_, err := FindServices(s, d, "colour")
	assert.ErrorContains(t, err, `none has "colour"`)
	_, err = FindServices(config.Simple(config.JSON, nil, nil), d, ByPolicy)
	assert.ErrorContains(t, err, "does not say where services are")
}

func TestCarvingTakesTheClosureOnce(t *testing.T) {
	l, s, d, text := gateway(t)
	c, err := CarveOut(s, d, Carving{Services: []string{"tickets-web", "tickets-api", "tickets-web"}, Rename: map[string]string{"tickets-web": "shop-web", "tickets-front": "shop-front"}})
	require.NoError(t, err)
	assert.Len(t, c.Services, 2)
	needs := map[string]bool{}
	for _, n := range c.Needs {
		needs[n.Kind+" "+n.Name] = n.Shared
	}
	assert.Equal(t, map[string]bool{"address tickets-front": true, "certificate tickets-2026": true, "check page": true, "pool tickets-web": false, "pool tickets-api": false,
		"policy public": true, "policy piers": true}, needs, "each once, with whether something that stays needs it too")
	part, broken := config.Parse("x", c.Text, config.JSON)
	require.Empty(t, broken, "%s", c.Text)
	assert.Empty(t, s.Check(part, "SG-5", stop(t, l, "SG-5@3.8.4").Version), "closed: no reference is left open\n%s", c.Text)
	assert.Contains(t, c.Text, `"address": "shop-front"`, "references follow")
	assert.Contains(t, c.Text, `"shop-web": {`)

	rest, broken := config.Parse("x", c.Rest, config.JSON)
	require.Empty(t, broken)
	assert.Empty(t, s.Check(rest, "SG-5", stop(t, l, "SG-5@3.8.4").Version), "what stays behind is whole")
	assert.NotContains(t, c.Rest, `"tickets-web"`)
	assert.Contains(t, c.Rest, `"tickets-admin"`)
	assert.Contains(t, c.Rest, `"tickets-front"`, "shared objects stay")
	assert.Equal(t, text, d.Print(), "the source is not touched")

	_, err = CarveOut(s, d, Carving{Services: []string{"nothing"}})
	assert.ErrorContains(t, err, `there is no service "nothing"`)
	_, err = CarveOut(s, d, Carving{Services: []string{"tickets-web"}, Rename: map[string]string{"mail-front": "x"}})
	assert.ErrorContains(t, err, `nothing that is carved out is called "mail-front"`)
	_, err = CarveOut(s, d, Carving{Services: []string{"tickets-web", "tickets-api"}, Rename: map[string]string{"tickets-web": "tickets-api"}})
	assert.ErrorContains(t, err, `there is a`)
}

// Carved services are converted like any other configuration and put into a target.
func TestCarvedServicesArePutIntoATarget(t *testing.T) {
	l, s, d, _ := gateway(t)
	c, err := CarveOut(s, d, Carving{Services: []string{"tickets-web"}})
	require.NoError(t, err)
	r := convert(t, l, "SG-5@3.8.4", "SG-5@4.4.2", c.Text, func(j *Job) { j.Fragment = true })
	assert.True(t, r.Ledger.Complete(), "%v", r.Ledger.Findings)
	target := "{\n  \"gateway\": {\"name\": \"vesterkai-sg1\"},\n  \"checks\": {\"page\": {\"kind\": \"http\", \"path\": \"/alive\", \"every\": 5, \"fails\": 3}},\n  \"policies\": {\"public\": {\"limit\": 5}}\n}\n"
	whole, _ := config.Parse("t", target, config.JSON)
	part, _ := config.Parse("p", r.Text, config.JSON)
	merged, conflicts := PutInto(r.T, whole, part)
	require.Len(t, conflicts, 1)
	assert.Equal(t, "policies / public", conflicts[0].Path)
	got, broken := config.Parse("x", merged.Print(), config.JSON)
	require.Empty(t, broken, "%s", merged.Print())
	assert.Empty(t, r.T.Check(got, "SG-5", stop(t, l, "SG-5@4.4.2").Version))
	assert.NotNil(t, r.T.Locate(got, "services / tickets-web / listen / port"))
	assert.Equal(t, target, whole.Print())
	again, conflicts := PutInto(r.T, got, part)
	assert.Len(t, conflicts, 1, "putting it a second time changes nothing")
	assert.True(t, config.Compare(got, again, r.T).Same())
}
