package portrait

import (
	"encoding/json"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const full = `format: verimorph-portrait/1
name: sw3
model: L24
version: "11.2.5"
generation: B
platform: host-b
file_system: wide
memory: 2147483648
storage:
  flash: {total: 8388608, free: 0}
  archive: {free: 5}
slots:
  - {name: a, version: "11.2.5", running: true}
  - {name: b}
components: {logic: "45"}
licences: []
boot_variables: {start-from: ""}
uses: {uses-ring: true, uses-clock: false}
children:
  - {model: AP-12}
  - {model: AP-31, version: "9.0", count: 3}
`

func TestRead(t *testing.T) {
	p, found := Read("p.yaml", []byte(full))
	require.Empty(t, found)
	assert.Equal(t, "L24", p.Model)
	assert.Equal(t, Room{Total: 8388608}, p.Storage["flash"])
	name, _, known := p.ImageRoom()
	assert.True(t, known)
	assert.Equal(t, "archive", name, "the first by name")
	assert.NotNil(t, p.Licences, "none is not the same as unknown")
	assert.True(t, p.Slots[0].Running)
	assert.Equal(t, []Child{{Model: "AP-12", Version: "", Count: 1}, {Model: "AP-31", Version: "9.0", Count: 3}}, p.Children)
	value, ok := p.BootVariables["start-from"]
	assert.True(t, ok)
	assert.Empty(t, value)
	assert.False(t, p.Uses["uses-clock"])
	p, found = Read("p.json", []byte(`{"format":"verimorph-portrait/1","model":"M","version":"1"}`))
	require.Empty(t, found)
	assert.Nil(t, p.Licences)
	_, _, known = p.ImageRoom()
	assert.False(t, known)
}

func TestFindings(t *testing.T) {
	for text, message := range map[string]string{
		"":                             "p:1:1: error: the file is empty",
		"model: x":                     `a portrait lacks "format"`,
		"format: verimorph-portrait/2": "is not known",
		"format: verimorph-portrait/1\nmemory: -1":                                              "p:2:9: error: \"-1\" is not a size",
		"format: verimorph-portrait/1\nuses: {a: 3}":                                            `"3" is neither true nor false`,
		"format: verimorph-portrait/1\nstorage: {flash: {total: 3}}":                            `a storage lacks "free"`,
		"format: verimorph-portrait/1\nmembers: [{name: a, model: b}]":                          `a member lacks "version"`,
		"format: verimorph-portrait/1\nmembers: [{name: a, model: b, version: c, members: []}]": `a member has no field "members"`,
		"format: verimorph-portrait/1\nchildren: [{model: a, count: 0}]":                        "a whole number from 1",
		"format: verimorph-portrait/1\nslots: {a: b}":                                           "slots must be a list",
		"format: verimorph-portrait/1\nname: [a]":                                               "expected a single value",
		"format: &a verimorph-portrait/1\nname: *a":                                             "references such as *a are not used",
		"format: verimorph-portrait/1\nformat: verimorph-portrait/1":                            `has "format" twice`,
		"{":                       "did not find expected",
		"- a":                     "must be a mapping",
		"format: x\n\tmodel: tab": "p:2:",
	} {
		p, found := Read("p", []byte(text))
		assert.Nil(t, p, text)
		require.NotEmpty(t, found, text)
		assert.Contains(t, found.Error(), message, text)
	}
}

func TestTheDemoPortraits(t *testing.T) {
	for _, name := range []string{"innersund-wc.yaml", "marrow-ramp.yaml"} {
		data, err := os.ReadFile("../../demo/portraits/" + name)
		require.NoError(t, err)
		_, found := Read(name, data)
		assert.Empty(t, found)
	}
}

// What nobody knows is neither yes nor no.
func TestFacts(t *testing.T) {
	for f, want := range map[Fact]*bool{Yes: ptr(true), No: ptr(false), Unknown: nil} {
		assert.Equal(t, want, f.Bool(), "%s", f)
	}
	assert.Equal(t, []string{"yes", "no", "not known"}, []string{Yes.String(), No.String(), Unknown.String()})
	for text, want := range map[string]Fact{"true": Yes, `"yes"`: Yes, "false": No, `"no"`: No, "null": Unknown, `""`: Unknown} {
		var f Fact
		require.NoError(t, f.UnmarshalJSON([]byte(text)))
		assert.Equal(t, want, f, text)
	}
	var f Fact
	assert.ErrorContains(t, f.UnmarshalJSON([]byte(`"perhaps"`)), "neither yes nor no")
}

func ptr(b bool) *bool { return &b }

// A portrait of the first stored format says the same in the current one, and what is current stays as it is.
func TestStoredPortraits(t *testing.T) {
	old := `{"Name":"fw","Maker":"Tarnholm","Model":"TH-60","Serial":"S1","Version":"5.0.7","Uptime":90000000000,"Started":"then","ServicesReady":"yes","Unsaved":false,
		"Slots":[{"Name":"a","Version":"5.0.7","State":"running","Running":true,"Next":"yes","Good":"yes","Busy":"","Percent":-1,"Written":""}],"Total":100,"Free":40,
		"Stores":[{"Name":"flash","Total":7,"Free":3}],"Files":[{"Name":"x.img","Size":9}],"Components":{"logic":"7"},"Parts":[{"Name":"fan 1","State":"ok","Good":"yes"}],
		"Variables":{"mode":""},"Licences":[],"OutOfService":"","NotUnderstood":{"parts":"what?"}}`
	data, err := Upgrade([]byte(old))
	require.NoError(t, err)
	var p Portrait
	require.NoError(t, json.Unmarshal(data, &p))
	assert.Equal(t, Portrait{Name: "fw", Maker: "Tarnholm", Model: "TH-60", Serial: "S1", Version: "5.0.7", UptimeSeconds: 90, Started: "then", ServicesReady: Yes, Unsaved: No,
		Slots:   []Slot{{Name: "a", Version: "5.0.7", State: "running", Running: true, Next: Yes, Good: Yes, Percent: -1}},
		Storage: map[string]Room{"image storage": {Total: 100, Free: 40}, "flash": {Total: 7, Free: 3, NoImages: true}}, Files: []File{{"x.img", 9}}, Components: map[string]string{"logic": "7"},
		Modules: []Module{{"fan 1", "ok", Yes}}, BootVariables: map[string]string{"mode": ""}, Licences: []string{}, NotUnderstood: map[string]string{"parts": "what?"}}, p)
	name, room, known := p.ImageRoom()
	assert.Equal(t, []any{"image storage", int64(40), true}, []any{name, room.Free, known})
	again, err := Upgrade(data)
	require.NoError(t, err)
	assert.JSONEq(t, string(data), string(again))
	_, err = Upgrade([]byte("7"))
	assert.Error(t, err)
	none, err := Upgrade([]byte(`{"Model":"X"}`))
	require.NoError(t, err)
	assert.NotContains(t, string(none), "licences", "a device that does not say has no list of licences")
}
