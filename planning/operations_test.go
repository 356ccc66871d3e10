package planning

import (
	"encoding/json"
	"os"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
)

func demoCatalogue(t *testing.T) *catalog.Catalogue {
	c, found := catalog.ReadDir(os.DirFS("../demo/catalog"))
	require.Empty(t, found.Errors())
	return c
}

// A file of an operation is one that the catalogue knows for the very model; nobody types a file for another box.
func TestFilesOfOperationsAreTheModels(t *testing.T) {
	c := demoCatalogue(t)
	th := c.FamilyOfModel("TH-60")
	l, err := imageNamed(th, []string{"TH-60"}, "th60-5.4.2.img")
	require.NoError(t, err)
	assert.Equal(t, "5.4.2", l.Version)
	assert.Empty(t, l.Part)
	for _, bad := range [][2]string{{"TH-40", "th60-5.4.2.img"}, {"TH-60", "th40-5.4.2.img"}, {"TH-60", "moon.img"}, {"TH-60", ""}} {
		_, err := imageNamed(th, bad[:1], bad[1])
		assert.ErrorContains(t, err, "the catalogue knows no file", bad)
	}
	_, err = imageNamed(nil, []string{"X-1"}, "x.img")
	assert.ErrorContains(t, err, `knows a model "X-1"`)
	part, err := imageNamed(c.FamilyOfModel("RC-6"), []string{"RC-6"}, "rc6-web-2.4.zip")
	require.NoError(t, err)
	assert.Equal(t, "web-manager", part.Part)
}

// Single steps happen at one stop: from what runs, to what is installed or started there.
func TestThePathOfOperations(t *testing.T) {
	f := demoCatalogue(t).FamilyOfModel("TH-60")
	install := change.Operation{Kind: change.Install, Params: change.InstallParams{File: &change.File{Name: "th60-5.4.2.img", SHA256: "s", Size: 7, Version: "5.4.2"}}}
	data, err := operationsPath(f, "TH-60", "5.0.7", "5.4.2", "5.0.7", []change.Operation{{Kind: change.Backup}, install})
	require.NoError(t, err)
	var p path.Path
	require.NoError(t, json.Unmarshal(data, &p))
	require.Len(t, p.Hops, 1)
	assert.Equal(t, "5.0.7", p.To.String(), "it is not started")
	assert.Equal(t, "5.4.2", p.Hops[0].To.String())
	assert.Equal(t, "th60-5.4.2.img", p.Hops[0].Image.File)
	assert.Zero(t, p.Hops[0].Restarts)
	assert.Equal(t, catalog.ConfigKept, p.Hops[0].Config)
	data, err = operationsPath(nil, "X-1", "1", "1", "1", []change.Operation{{Kind: change.Restart}})
	require.NoError(t, err)
	p = path.Path{}
	require.NoError(t, json.Unmarshal(data, &p))
	assert.Empty(t, p.Family, "a model that no catalogue knows can be restarted, too")
	assert.Equal(t, 1, p.Hops[0].Restarts)
	_, err = operationsPath(nil, "X-1", "what?", "1", "1", nil)
	assert.ErrorContains(t, err, "cannot be read")
}

// Keys belong to licences that are named once, and are part of no error.
func TestKeysOfLicences(t *testing.T) {
	require.NoError(t, checkLicences([]string{"full", "gateway-2"}, map[string]string{"full": "a b", "gateway-2": ""}))
	for says, bad := range map[string]struct {
		names []string
		key   string
	}{"a name has letters": {[]string{"a b"}, "x"}, "is given twice": {[]string{"c", "c"}, "x"}, "one line of up to 4096": {[]string{"c"}, "a\nb"}} {
		err := checkLicences(bad.names, map[string]string{bad.names[0]: bad.key})
		assert.ErrorContains(t, err, says)
		assert.True(t, IsKind(err, Invalid))
		assert.NotContains(t, err.Error(), "a\nb")
	}
}

// What operations take is looked up by what their kind takes; what is missing is told with its place.
func TestOperationsAreResolved(t *testing.T) {
	s := New(Config{})
	f := demoCatalogue(t).FamilyOfModel("RC-6")
	r, err := s.resolve(f, "RC-6", nil, []change.Asked{{Kind: change.Backup}, {Kind: change.Checksum, File: "rc6-web-2.4.zip"}, {Kind: change.CleanUp, Files: []string{"x"}}, {Kind: change.PowerCycle, Part: "cards"},
		{Kind: change.Licence, Part: "full", Key: "k"}, {Kind: change.Hand, Text: " look "}, {Kind: change.ChooseSlot, Once: true}, {Kind: change.Restart}})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"full": "k"}, r.keys)
	assert.True(t, r.firmware)
	assert.Equal(t, change.HandParams{Task: "look"}, r.operations[5].Params)
	assert.Equal(t, change.SlotParams{Once: true}, r.operations[6].Params)
	assert.Equal(t, "web-manager", r.operations[1].Params.(change.FileParams).File.Component)
	for says, o := range map[string]change.Asked{`there is no "verdict"`: {Kind: change.Verify}, `there is no "dance"`: {Kind: "dance"}, "needs the names": {Kind: change.CleanUp}, "say what is to be done": {Kind: change.Hand, Text: " "},
		"is for the component web-manager": {Kind: change.Install, File: "rc6-web-2.4.zip"}, "no component": {Kind: change.Component, File: "rc6-F2.12.fw"}} {
		_, err := s.resolve(f, "RC-6", nil, []change.Asked{o})
		assert.ErrorContains(t, err, says)
	}
	plain, err := s.resolve(f, "RC-6", nil, []change.Asked{{Kind: change.Drain}})
	require.NoError(t, err)
	assert.False(t, plain.firmware)
}

// Planners are used by one caller at a time, again and again, and not for another catalogue than theirs.
func TestPathPlannersAreShared(t *testing.T) {
	var ps pathPlanners
	cat := demoCatalogue(t)
	a, b := ps.take(cat, 1), ps.take(cat, 1)
	assert.NotSame(t, a, b)
	ps.giveBack(a, 1)
	assert.Same(t, a, ps.take(cat, 1))
	c := ps.take(cat, 2)
	assert.NotSame(t, a, c)
	ps.giveBack(b, 1)
	assert.Empty(t, ps.free, "a planner of an older catalogue is dropped")
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() { ps.giveBack(ps.take(cat, 2), 2) })
	}
	wg.Wait()
	assert.LessOrEqual(t, len(ps.free), mostFree)
}
