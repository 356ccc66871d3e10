package catalog

import (
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/portrait"
	"verimorph/core/version"
	"verimorph/core/yamldoc"
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
		{"unknown model", "models: [LV-1], size", "models: [LV-7], size", "lv.yaml:18:42", `model "LV-7"`},
		{"twice", `version: "1.9"`, `version: "1.10"`, "lv.yaml:", "release 1.10 stands here twice"},
		{"rule id twice", "id: R2", "id: R1", "lv.yaml:21:5", `"R1" stands here twice`},
		{"field of another kind", "kind: leave-train,", "kind: leave-train, from: 1.x,", "lv.yaml:21:33", `no field "from"`},
		{"hop without range", "from: 1.x, to: 1.x", "from: 1.x", "lv.yaml:20:5", "needs to"},
		{"train unknown", `train: "1", text`, `train: "8", text`, "lv.yaml:21:40", `train "8"`},
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
	assert.Empty(t, found.Errors())
	assert.Contains(t, found.Error(), "doubt: rule R1: no release lies in from: 7.x")
	assert.Contains(t, found.Error(), "lv.yaml:11:5: doubt: release 1.10 cannot be reached on LV-1")
}

// rich says everything a catalogue can say, and nothing is wrong with it.
const rich = `format: verimorph-catalogue/1
maker: Lodvik
family: lv
scheme: {prefix: L, pattern: '^L'}
image-header: {bytes: 64, match: '(?P<models>a)(?P<version>b)'}
models:
  - {name: LV-1, end-of-support: 2025-12-31, generations: [A, B], successor: LV-2}
  - {name: LV-2, role: controller}
conditions:
  - {name: uses-x, text: it uses x, has: [x]}
services:
  - {name: x, text: x needs 2, runs: ">=L2", condition: uses-x}
requirements:
  - {id: Q1, kind: memory, bytes: 10, install: ">=L2", text: memory}
  - {id: Q2, kind: content, component: logic, at-least: "2", install: L2.0, text: logic}
  - {id: Q3, kind: boot-variable, variable: v, install: any, remedy: clear it, text: clear}
components:
  - name: logic
    title: logic
    rows:
      - {releases: "L1.x", generations: [A], version: "1"}
      - {releases: "L1.x", generations: [B], version: "1b"}
      - {releases: "L2.x", generations: [A, B], at-least: "2", image: {file: lo.img, models: [LV-1], size: 1, sha256: ` + sum + `}}
skew:
  - {id: S1, between: members, same-train: true, text: inside a train}
effects:
  - {step: restart, clients: all, effect: outage, text: gone, when: {uses: [uses-x]}}
releases:
  - {version: L1.0, train: "1", date: 2025-01-01, images: [{file: a.img, models: [LV-1, LV-2], size: 10, sha256: ` + sum + `}]}
  - {version: L1.1, train: "1", date: 2025-02-01, stage: preferred, images: [{file: b.img, models: [LV-1, LV-2], size: 10, sha256: ` + sum + `}]}
  - version: L2.0
    train: "2"
    date: 2025-03-01
    base: L1.1
    fixes: [ADV-1]
    notes:
      - plain
      - {text: look, kind: caveat, when: {generations: [B]}, hand-step: look again, due: after}
    images: [{file: c.img, models: [LV-1, LV-2], size: 10, sha256: ` + sum + `}]
rules:
  - {id: R1, kind: hop, from: L1.x, to: "L1.x | L2.x", text: up}
  - {id: R2, kind: crossing, crossing: L2.0, leave-from: L1.1, text: from 1.1}
  - {id: R3, kind: platform-change, from-model: LV-1, to-model: LV-2, from: L2.0, to: L2.0, config: converted, text: over}
`

func TestWhatDoesNotFitTogetherIsFound(t *testing.T) {
	_, found := ReadFile("lv.yaml", []byte(rich))
	require.Empty(t, found)
	for _, c := range []struct{ name, old, new, message string }{
		{"unreachable", "from: L1.x, to: \"L1.x | L2.x\"", "from: L1.x, to: L1.x", "release L2.0 cannot be reached on LV-1"},
		{"waypoint to nowhere", "from: L1.x, to: \"L1.x | L2.x\"", "from: L1.0, to: \"L1.x | L2.x\"", "the waypoint leads nowhere, nothing can cross L2.0"},
		{"contradiction", "rules:\n", "rules:\n  - {id: R0, kind: hop, from: L1.0, to: L2.0, config: reset, text: odd}\n", "rules R0 and R1 contradict each other (configuration reset and kept): both speak about L1.0 to L2.0"},
		{"overlap", "rules:\n", "rules:\n  - {id: R0, kind: hop, from: L1.1, to: L2.0, text: odd}\n", "rules R0 and R1 overlap: both speak about L1.1 to L2.0"},
		{"no hash", "{file: b.img, models: [LV-1, LV-2], size: 10, sha256: " + sum + "}", "{file: b.img, models: [LV-1, LV-2], size: 10}", "image b.img has no hash"},
		{"dates in a train", "date: 2025-02-01", "date: 2024-02-01", "release L1.1 is dated 2024-02-01, but L1.0 before it is dated 2025-01-01"},
		{"date after the end of support", "2025-12-31, ", "2025-02-15, runs: any, ", "model LV-1 may run L2.0, dated 2025-03-01, after its end of support on 2025-02-15"},
		{"component forgets a release", `{releases: "L1.x", generations: [B], version: "1b"}`, `{releases: "L1.0", generations: [B], version: "1b"}`, "component logic has no row for release L1.1 of LV-1 B"},
		{"two rows for one", `generations: [B], version: "1b"`, `generations: [A, B], version: "1b"`, "two rows of component logic speak about release L1.0 of LV-1 A"},
		{"unknown base", "base: L1.1", "base: L1.7", "needs the base image of L1.7, which the file does not describe"},
		{"own base", "base: L1.1", "base: L2.0", "names itself as its base"},
		{"condition", "has: [x]}", "has: [x]}\n  - {name: uses-x, text: again, has: [y]}", `condition "uses-x" stands here twice`},
		{"unknown condition", "uses: [uses-x]", "uses: [uses-y]", `names condition "uses-y"`},
		{"unknown generation", "generations: [B]}, hand", "generations: [C]}, hand", `names generation "C"`},
		{"unknown component", "component: logic,", "component: magic,", `names component "magic"`},
		{"unknown successor", "successor: LV-2", "successor: LV-9", `names successor "LV-9"`},
		{"requirement without its fields", "kind: memory, bytes: 10,", "kind: memory,", "needs bytes"},
		{"hand step without due", "hand-step: look again, due: after", "hand-step: look again", "together or neither"},
		{"row without version", `[A], version: "1"`, "[A]", "which version of the component"},
		{"scheme", "pattern: '^L'", "pattern: '^L('", "the group that begins at character 3"},
		{"version of another look", "version: L1.0", "version: M1.0", "does not look like"},
		{"range nobody is in", `runs: ">=L2"`, `runs: ">=L8"`, "service x: no release lies in runs: >=L8"},
		{"platform change to itself", "to-model: LV-2", "to-model: LV-1", "rule R3 changes nothing"},
		{"two ports become one", "to: L2.0, config: converted,", "to: L2.0, config: converted, ports: {p1: x1, p2: x1},", "rule R3: the ports p1 and p2 both become x1"},
		{"a value changes twice", "to: L2.0, config: converted,", "to: L2.0, config: converted, will-change: [{value: serial, text: a}, {value: serial, text: b}],", "rule R3: the value serial stands here twice"},
		{"a value that changes for nobody", "to: L2.0, config: converted,", "to: L2.0, config: converted, will-change: [{value: serial}],", "text"},
		{"what it becomes is no pattern", "to: L2.0, config: converted,", "to: L2.0, config: converted, will-change: [{value: serial, text: a, becomes: 'V2-('}],", "becomes: "},
		{"in place of a hop", "{id: R1, kind: hop,", "{id: R1, kind: hop, in-place: true,", "in-place"},
		{"alias", "text: up}", "text: *up}", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := strings.Replace(rich, c.old, c.new, 1)
			require.NotEqual(t, rich, text, "the case changes the file")
			_, found := ReadFile("lv.yaml", []byte(text))
			require.NotEmpty(t, found)
			assert.Contains(t, found.Error(), c.message)
			for _, f := range found {
				assert.Positive(t, f.Line)
				assert.Positive(t, f.Column)
			}
		})
	}
}

func TestWhenAndRequirements(t *testing.T) {
	f, _ := ReadFile("lv.yaml", []byte(rich))
	w := &f.Releases[2].Notes[1].When
	assert.Equal(t, Unknown, w.Holds(&portrait.Portrait{Model: "LV-1"}))
	assert.Equal(t, Yes, w.Holds(&portrait.Portrait{Model: "LV-1", Generation: "B"}))
	assert.Equal(t, No, w.Holds(&portrait.Portrait{Model: "LV-1", Generation: "A"}))
	assert.Equal(t, "hardware generation B", w.String())
	lacks := &When{Lacks: []string{"uses-x"}}
	assert.Equal(t, No, lacks.Holds(&portrait.Portrait{Uses: map[string]bool{"uses-x": true}}))
	assert.Equal(t, Yes, lacks.Holds(&portrait.Portrait{Uses: map[string]bool{"uses-x": false}}))
	assert.Equal(t, Unknown, lacks.Holds(&portrait.Portrait{}))
	for _, c := range []struct {
		r    Requirement
		p    portrait.Portrait
		want Truth
	}{
		{Requirement{Kind: NeedMemory, Bytes: 10}, portrait.Portrait{Memory: 9}, No},
		{Requirement{Kind: NeedMemory, Bytes: 10}, portrait.Portrait{}, Unknown},
		{Requirement{Kind: NeedStorage, Bytes: 10}, portrait.Portrait{Storage: map[string]portrait.Room{"flash": {Free: 10}}}, Yes},
		{Requirement{Kind: NeedStorage, Bytes: 11}, portrait.Portrait{Storage: map[string]portrait.Room{"flash": {Free: 10}}}, No},
		{Requirement{Kind: NeedLicence, OneOf: []string{"a", "b"}}, portrait.Portrait{Licences: []string{"b"}}, Yes},
		{Requirement{Kind: NeedLicence, OneOf: []string{"a"}}, portrait.Portrait{Licences: []string{}}, No},
		{Requirement{Kind: NeedLicence, OneOf: []string{"a"}}, portrait.Portrait{Licences: []string{}, Given: []string{"a"}}, Yes},
		{Requirement{Kind: NeedLicence, OneOf: []string{"a"}}, portrait.Portrait{Given: []string{"b"}}, Unknown},
		{Requirement{Kind: NeedLicence, OneOf: []string{"a"}}, portrait.Portrait{}, Unknown},
		{Requirement{Kind: NeedPlatform, OneOf: []string{"a"}}, portrait.Portrait{Platform: "b"}, No},
		{Requirement{Kind: NeedFileSystem, OneOf: []string{"wide"}}, portrait.Portrait{FileSystem: "wide"}, Yes},
		{Requirement{Kind: NeedBootVariable, Variable: "v"}, portrait.Portrait{BootVariables: map[string]string{"v": ""}}, Yes},
		{Requirement{Kind: NeedBootVariable, Variable: "v"}, portrait.Portrait{BootVariables: map[string]string{"v": "x"}}, No},
		{Requirement{Kind: NeedBootVariable, Variable: "v"}, portrait.Portrait{}, Unknown},
		{Requirement{Kind: NeedContent, Component: "c", AtLeast: version.MustParse("2")}, portrait.Portrait{Components: map[string]string{"c": "1.9"}}, No},
		{Requirement{Kind: NeedContent, Component: "c", AtLeast: version.MustParse("2")}, portrait.Portrait{Components: map[string]string{"c": "2"}}, Yes},
		{Requirement{Kind: NeedConfiguration, Lacks: "x"}, portrait.Portrait{Uses: map[string]bool{"x": true}}, No},
		{Requirement{Kind: NeedConfiguration, Uses: "x"}, portrait.Portrait{Uses: map[string]bool{"x": true}}, Yes},
	} {
		got, evidence := c.r.Met(&c.p)
		assert.Equal(t, c.want, got, "%+v %+v", c.r, c.p)
		assert.NotEmpty(t, evidence)
	}
}

func TestDifferencesBetweenTwoVersionsOfAFile(t *testing.T) {
	a, _ := ReadFile("lv.yaml", []byte(rich))
	b, found := ReadFile("lv.yaml", []byte(strings.NewReplacer("train: \"1\", date: 2025-02-01, stage: preferred", "train: \"1\", date: 2025-02-01, stage: general",
		"{id: S1, between", "{id: S2, between", "title: logic\n", "title: port logic\n", "L2.0\n    train", "L2.1\n    train", "from: L2.0, to: L2.0, config", "from: L2.1, to: L2.x, config", "install: L2.0", "install: L2.1").Replace(rich)))
	require.NotNil(t, b, found)
	var lines []string
	for _, d := range Compare(a, b) {
		lines = append(lines, d.Kind+" "+d.What+" "+d.Detail)
	}
	assert.Equal(t, []string{"removed release L2.0 ", "added release L2.1 ", "changed release L1.1 stage", "changed rule R3 from, to", "changed requirement Q2 install", "changed component logic title", "removed skew S1 ", "added skew S2 "}, lines)
	assert.Empty(t, Compare(a, a))
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
	f.Add([]byte(rich))
	f.Add([]byte("format: [\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		fam, found := ReadFile("x.yaml", data)
		if (fam == nil) != (len(found.Errors()) > 0) {
			t.Fatalf("a family and errors: %v %v", fam, found)
		}
	})
}

// All mistakes are told at once, each where it is, and none because of another.
func TestAllMistakesAtOnce(t *testing.T) {
	text := good
	for _, change := range [][2]string{
		{`version: "1.10"`, `version: "?"`},              // a release that cannot be read ...
		{"from: 1.x, to: 1.x", "from: 1.x, to: '>'"},     // a range that is none, in a rule
		{"models: [LV-1], size", "models: [LV-7], size"}, // a model that is not there, in another release
	} {
		require.Contains(t, text, change[0])
		text = strings.Replace(text, change[0], change[1], 1)
	}
	_, found := ReadFile("lv.yaml", []byte(text))
	all := found.Error()
	assert.Len(t, found, 3, all)
	for _, want := range []string{`version "?"`, "range", `names model "LV-7"`} {
		assert.Contains(t, all, want)
	}
	for _, noise := range []string{"no release lies", "cannot be reached", "permits nothing"} {
		assert.NotContains(t, all, noise)
	}
}

// Regular expressions say which group or character is wrong.
func TestRegularExpressionsSayWhatIsWrong(t *testing.T) {
	for pattern, want := range map[string]string{
		`^L(ab`:        `the group that begins at character 3 ("(ab") has no closing )`,
		`^L(a)(?P<n>b`: `the group that begins at character 6 ("(?P<n>b") has no closing )`,
		`ab)`:          `unexpected ) at character 3: ")" without its (`,
		`é[z-a]`:       `invalid character class range at character 3: "z-a"`,
		`a**`:          `invalid nested repetition operator at character 2: "**"`,
		`a\q`:          `invalid escape sequence at character 2: "\\q"`,
		`a{3000}`:      `invalid repeat count at character 2: "{3000}"`,
	} {
		_, err := yamldoc.Regexp(pattern)
		require.Error(t, err, pattern)
		assert.EqualError(t, err, want)
	}
}

// Errors that are foretold are read with the family and with its releases; a pattern that is none is a mistake with its place.
func TestMessages(t *testing.T) {
	cat, found := ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found.Errors())
	f := cat.Family("cr")
	require.Len(t, f.Messages, 1)
	assert.True(t, f.Messages[0].Match.MatchString("neighbour 10.0.0.1 went down"))
	var told []string
	for i := range f.Releases {
		for _, m := range f.Releases[i].Messages {
			told = append(told, f.Releases[i].Version.String()+" "+m.Text)
		}
	}
	assert.Equal(t, []string{"8.4.0 interface names are rewritten at the first start"}, told)
	_, found = ReadFile("x.yaml", []byte("format: verimorph-catalogue/1\nmaker: A\nfamily: a\ntitle: A\nmessages:\n  - {match: '(', text: because}\n"))
	assert.Contains(t, found.Errors().Error(), "x.yaml:6:")
}
