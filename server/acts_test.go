package server

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
	"verimorph/core/ready"
	"verimorph/store"
)

func demoCatalogue(t *testing.T) *catalog.Catalogue {
	c, found := catalog.ReadDir(os.DirFS("../demo/catalog"))
	require.Empty(t, found.Errors())
	return c
}

// A file of an act is one that the catalogue knows for the very model; nobody types a file for another box.
func TestFilesOfActsAreTheModels(t *testing.T) {
	c := demoCatalogue(t)
	th := c.FamilyOfModel("TH-60")
	l, err := imageNamed(th, "TH-60", "th60-5.4.2.img")
	require.NoError(t, err)
	assert.Equal(t, "5.4.2", l.Version)
	assert.Empty(t, l.Part)
	for _, bad := range [][2]string{{"TH-40", "th60-5.4.2.img"}, {"TH-60", "th40-5.4.2.img"}, {"TH-60", "moon.img"}, {"TH-60", ""}} {
		_, err := imageNamed(th, bad[0], bad[1])
		assert.ErrorContains(t, err, "the catalogue knows no file", bad)
	}
	_, err = imageNamed(nil, "X-1", "x.img")
	assert.ErrorContains(t, err, `knows a model "X-1"`)
	part, err := imageNamed(c.FamilyOfModel("RC-6"), "RC-6", "rc6-web-2.4.zip")
	require.NoError(t, err)
	assert.Equal(t, "web-manager", part.Part)
}

// Single steps happen at one stop: from what runs, to what is installed or started there.
func TestThePathOfActs(t *testing.T) {
	f := demoCatalogue(t).FamilyOfModel("TH-60")
	install := change.Act{Kind: change.Install, File: &change.File{Name: "th60-5.4.2.img", SHA256: "s", Size: 7, Version: "5.4.2"}}
	data, err := actsPath(f, "TH-60", "5.0.7", "5.4.2", "5.0.7", []change.Act{{Kind: change.Backup}, install})
	require.NoError(t, err)
	var p path.Path
	require.NoError(t, json.Unmarshal(data, &p))
	require.Len(t, p.Hops, 1)
	assert.Equal(t, "5.0.7", p.To.String(), "it is not started")
	assert.Equal(t, "5.4.2", p.Hops[0].To.String())
	assert.Equal(t, "th60-5.4.2.img", p.Hops[0].Image.File)
	assert.Zero(t, p.Hops[0].Restarts)
	assert.Equal(t, catalog.ConfigKept, p.Hops[0].Config)
	data, err = actsPath(nil, "X-1", "1", "1", "1", []change.Act{{Kind: change.Restart}})
	require.NoError(t, err)
	p = path.Path{}
	require.NoError(t, json.Unmarshal(data, &p))
	assert.Empty(t, p.Family, "a model that no catalogue knows can be restarted, too")
	assert.Equal(t, 1, p.Hops[0].Restarts)
	_, err = actsPath(nil, "X-1", "what?", "1", "1", nil)
	assert.ErrorContains(t, err, "cannot be read")
}

// What was asked for is recorded without keys, and gets them back for a draft that is made anew.
func TestWhatHoldsKeys(t *testing.T) {
	key := "k"
	of := func() *gen.NewChange {
		return &gen.NewChange{Device: "a", To: "1", Licences: &[]gen.NewLicence{{Name: "full", Key: key}},
			Acts: &[]gen.Act{{Kind: gen.ActKindBackup}, {Kind: gen.ActKindLicence, Part: new("full"), Key: &key}, {Kind: gen.ActKindPower, Part: new("full")}}}
	}
	asked := of()
	kept := keyless(asked)
	assert.Equal(t, of(), asked, "what was asked for stays as it is")
	assert.Equal(t, []gen.NewLicence{{Name: "full"}}, *kept.Licences)
	assert.Nil(t, (*kept.Acts)[1].Key)
	data, err := json.Marshal(kept)
	require.NoError(t, err)
	assert.NotContains(t, string(data), `"k"`)
	withKeys(kept, map[string]string{"full": key})
	assert.Equal(t, asked, kept)
	plain := &gen.NewChange{Device: "a", To: "1"}
	assert.Equal(t, plain, keyless(plain))
	withKeys(plain, nil)
	assert.Equal(t, &gen.NewChange{Device: "a", To: "1"}, plain)
	list := []gen.NewLicence{{Name: "full", Key: "a b"}, {Name: "gateway-2", Key: "x"}}
	keys, err := licencesOf(list)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"full": "a b", "gateway-2": "x"}, keys)
	for says, bad := range map[string]gen.NewLicence{"a name has letters": {Name: "a b", Key: "x"}, "is given twice": {Name: "full", Key: "x"}, "one line of up to 4096": {Name: "c", Key: "a\nb"}, "has to be one line": {Name: "d"}} {
		_, err := licencesOf(append(list[:1:1], bad))
		assert.ErrorContains(t, err, says)
		assert.NotContains(t, err.Error(), "a\nb", "a key is part of no error")
	}
}

// What a change shows of its terms and checks is what its record says.
func TestTermsOfAChange(t *testing.T) {
	checks, err := json.Marshal([]ready.Check{{Name: "room", State: ready.Warn, Evidence: "little"}, {Name: "reach", State: ready.Pass}})
	require.NoError(t, err)
	c := store.Change{BackPolicy: store.BackAutomatic, Checks: checks, Accepted: []store.Acceptance{{Check: "room", By: "mate", Reason: "it will do"}, {Check: "reach", By: "mate", Reason: "no matter"}}}
	var out gen.Change
	require.NoError(t, (&Server{}).apiCarrying(t.Context(), &out, &c))
	assert.Equal(t, gen.TermsWayBackAutomatic, *out.Terms.WayBack)
	assert.Nil(t, out.WaitsUntil)
	require.Len(t, *out.Checks, 2)
	assert.Equal(t, "it will do", *(*out.Checks)[0].Reason)
	assert.Nil(t, (*out.Checks)[1].AcceptedBy, "what passes needs no accepting")
	got, err := checksOf(&c)
	require.NoError(t, err)
	assert.Len(t, got, 2)
	_, err = checksOf(&store.Change{Checks: []byte("{")})
	assert.Error(t, err)
}

// The acts of the contract are those of the core, one for one.
func TestActsOfTheContract(t *testing.T) {
	for _, kind := range change.Acts {
		assert.True(t, gen.ActKind(kind).Valid(), "%s is not in the contract", kind)
	}
	text, err := os.ReadFile("../api/openapi.yaml")
	require.NoError(t, err)
	_, after, ok := strings.Cut(string(text), "    Act:\n")
	require.True(t, ok)
	_, after, _ = strings.Cut(after, "enum: [")
	list, _, _ := strings.Cut(after, "]")
	assert.Len(t, strings.Split(list, ", "), len(change.Acts), "each act of the contract can be carried out")
}
