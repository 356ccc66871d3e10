package catalog

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/version"
)

const sum = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"

const good = `format: verimorph-catalogue/1
maker: Lodvik
family: lv
dialect: lodvik
configuration: {syntax: block-indent, secrets: [secret]}
models:
  - {name: LV-1, runs: "<2", runs-because: small}
  - {name: LV-2}
durations: {send-rate: [1, 2], install: [10, 20, 99]}
releases:
  - version: "1.10"
    train: "1"
    date: 2025-02-03
    stage: preferred
    images: [{file: lv-1.10.img, models: [LV-1, LV-2], size: 10, sha256: ` + sum + `}]
  - version: "1.9"
    train: "1"
    images: [{file: lv-1.9.img, models: [LV-1], size: 10, sha256: ` + sum + `}]
rules:
  - {id: R1, kind: hop, from: 1.x, to: 1.x, text: fine}
  - {id: R2, kind: leave-train, train: "1", text: newest first}
`

func TestReadFile(t *testing.T) {
	f, found := ReadFile("lv.yaml", []byte(good))
	require.Empty(t, found)
	assert.Equal(t, "1.9", f.Releases[0].Version.String(), "ascending")
	assert.Equal(t, "1.10", f.NewestPreferred("1").Version.String())
	assert.Equal(t, "lv-1.10.img", f.Release(version.MustParse("1.10")).Image("LV-2").File)
	assert.Nil(t, f.Release(version.MustParse("1.9")).Image("LV-2"))
	assert.Nil(t, f.Release(version.MustParse("3")))
	assert.Equal(t, Span{10, 20, 99}, f.Durations["install"])
	assert.Equal(t, 11, f.Releases[1].At.Line, "line of the release in the file")
}

func TestFindingsHavePlaceAndHint(t *testing.T) {
	cases := []struct{ name, old, new, place, message string }{
		{"unknown field", "maker: Lodvik", "mkaer: Lodvik", "lv.yaml:2:1", `no field "mkaer"`},
		{"missing field", "maker: Lodvik\n", "", "lv.yaml:1:1", `lacks "maker"`},
		{"format", "catalogue/1", "catalogue/9", "lv.yaml:1:9", "not known"},
		{"bad version", `"1.9"`, `"1/9"`, "lv.yaml:16:14", "not allowed"},
		{"bad date", "2025-02-03", "2025-13-03", "lv.yaml:13:11", "not a date"},
		{"bad hash", "size: 10, sha256: " + sum + "}]\n  - ", "size: 10, sha256: abc}]\n  - ", "lv.yaml:15:", "not a SHA-256"},
		{"path in file name", "lv-1.9.img", "../lv", "lv.yaml:18:21", "cannot be the name"},
		{"unknown model", "models: [LV-1], size", "models: [LV-7], size", "lv.yaml:16:5", `model "LV-7"`},
		{"twice", `version: "1.9"`, `version: "1.10"`, "lv.yaml:", "release 1.10 stands here twice"},
		{"rule id twice", "id: R2", "id: R1", "lv.yaml:21:5", `"R1" stands here twice`},
		{"field of another kind", "kind: leave-train,", "kind: leave-train, from: 1.x,", "lv.yaml:21:5", `no field "from"`},
		{"hop without range", "from: 1.x, to: 1.x", "from: 1.x", "lv.yaml:20:5", "needs both ranges"},
		{"train unknown", `train: "1", text`, `train: "8", text`, "lv.yaml:21:5", `train "8"`},
		{"durations", "[10, 20, 99]", "[10, 5, 99]", "lv.yaml:9:41", "ascending"},
		{"not yaml", "maker: Lodvik", "maker: [Lodvik", "lv.yaml:", "did not find"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			text := strings.Replace(good, c.old, c.new, 1)
			require.NotEqual(t, good, text, "the case changes the file")
			f, found := ReadFile("lv.yaml", []byte(text))
			assert.Nil(t, f)
			require.NotEmpty(t, found.Errors())
			all := found.Error()
			assert.Contains(t, all, c.place)
			assert.Contains(t, all, c.message)
		})
	}
}

func TestDoubtsDoNotStop(t *testing.T) {
	f, found := ReadFile("lv.yaml", []byte(strings.Replace(good, "from: 1.x", "from: 7.x", 1)))
	require.NotNil(t, f)
	require.Len(t, found, 1)
	assert.True(t, found[0].Doubt)
	assert.Contains(t, found[0].String(), "lv.yaml:20:5: doubt: rule R1: no release lies in from: 7.x")
}

func TestReadDirRefusesDoubles(t *testing.T) {
	_, found := ReadDir(fstest.MapFS{"a.yaml": {Data: []byte(good)}, "b.yaml": {Data: []byte(good)}, "c.txt": {Data: []byte("no")}})
	assert.Contains(t, found.Error(), `b.yaml:1:1: error: family "lv" is already described in a.yaml`)
	_, found = ReadDir(fstest.MapFS{"a.yaml": {Data: []byte(good)}, "b.yaml": {Data: []byte(strings.Replace(good, "family: lv", "family: lw", 1))}})
	assert.Contains(t, found.Error(), `model "LV-1" belongs to family "lv" already`)
	_, found = ReadDir(fstest.MapFS{})
	assert.Contains(t, found.Error(), "no catalogue file found")
}

func FuzzReadFile(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("format: [\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		fam, found := ReadFile("x.yaml", data)
		if (fam == nil) != (len(found.Errors()) > 0) {
			t.Fatalf("a family and errors: %v %v", fam, found)
		}
	})
}
