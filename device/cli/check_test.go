package cli

import (
	"io/fs"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// All that is wrong is found in one go, and what is doubtful as well.
func TestCheck(t *testing.T) {
	text := `format: verimorph-dialect/2
dialect: d
prompt: '.*'
portrait:
  - {send: who, fields: '(?P<model>\S+) (?P<sreial>\S+)'}
  - {send: list, rows: fils, match: '(?P<file>\S+)'}
  - {send: rooms, rows: storages, match: '(?P<free>\d+)'}
  - {send: parts, match: x}
values:
  vresion: {duration: true}
verbs:
  checksum: {send: 'sum {fil}', fields: '(?P<sum>\S+)'}
  instal: {send: x}
  save: {wait: 3}
backup:
  - {part: a, title: T, kind: users, file: f, by: pigeon}
`
	d, found := Check("d.yaml", []byte(text))
	assert.Nil(t, d)
	assert.Equal(t, `d.yaml:1:1: doubt: refusals: are missing; what the device refuses is not told from what it does (say how the device says no)
d.yaml:3:9: error: prompt: ".*" fits an empty line (a prompt is the whole last line, such as 'NAME> ')
d.yaml:5:25: doubt: portrait: who: nobody reads the group "sreial" (known here: name, maker, model, serial, version, generation, slot, next, second, uptime, started, services, unsaved, total, free, memory, platform, file-system, work, service, role, mate, ensemble, sync, seats)
d.yaml:6:24: error: portrait: list: there is no table "fils"; known and near: files
d.yaml:7:42: error: portrait: rooms: match has no group storage, which each row of storages has
d.yaml:8:26: error: portrait: parts: match without rows (name the table in rows)
d.yaml:10:12: doubt: values: no pattern of the portrait has a group vresion
d.yaml:12:3: doubt: verbs: firmware of such devices cannot be changed without install, choose-slot, remove-file, restart (add them, if the device can do that)
d.yaml:12:20: error: verbs: checksum: there is no {fil} here (there is: {file}, {path})
d.yaml:12:41: error: verbs: checksum: fields needs a group sha512, sha256, sha1, md5
d.yaml:13:11: error: verbs: instal is not a verb; known and near: install
d.yaml:14:9: error: verbs: save: says nothing (add send or steps)
d.yaml:16:5: error: backup: part "a": by "pigeon" is none of sftp, scp, cli, netconf, http, gnoi, restconf, push-sftp, push-ftp, push-tftp`, found.Error())
	_, found = Check("d.yaml", []byte("format: verimorph-dialect/2\nprompt: '('\nsteps: []\n"))
	assert.Len(t, found, 2, "what was not read is not checked")
	_, found = Check("d.yaml", []byte("format: [\n"))
	assert.Len(t, found, 1)
}

// Units and children that nothing tells of cannot be dealt with.
func TestVerbsOfUnitsAndChildren(t *testing.T) {
	head := "format: verimorph-dialect/2\ndialect: d\nprompt: '\\w+> '\nrefusals: [{match: no, kind: refused}]\nportrait:\n  - {send: who, fields: '(?P<model>\\S+) (?P<version>\\S+)'}\n"
	for text, says := range map[string]string{
		"verbs: {spread: {send: share}}": "verbs: spread: nothing in the portrait tells which units there are",
		"  - {send: u, rows: units, match: '(?P<unit>\\d)'}\nverbs: {hand-over: {send: pass}}": "verbs: hand-over: nothing says when a unit could take over",
		"  - {send: u, rows: units, match: '(?P<unit>\\d)'}":                                   "unit-states: without good no unit is known to be well",
		"verbs: {restart-child: {send: 'boot {child}'}}":                                       "verbs: restart-child: nothing in the portrait tells which children there are",
		"verbs: {drain-child: {send: 'rest {child}'}}":                                         "drain-child, undrain-child and child-states: drained belong together",
		"  - {send: u, rows: children, match: '(?P<child>\\d)'}":                               "child-states: without good no child is known to have joined",
	} {
		_, found := Check("d.yaml", []byte(head+text+"\n"))
		assert.Contains(t, found.Error(), says, text)
	}
}

// The dialects that ship have no finding.
func TestBuiltinDialectsAreClean(t *testing.T) {
	names, err := fs.Glob(Builtin(), "*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, names)
	for _, name := range names {
		data, err := fs.ReadFile(Builtin(), name)
		require.NoError(t, err)
		_, found := Check(name, data)
		assert.Empty(t, found, name)
	}
}

// What a dialect lacks is listed with what follows.
func TestCoverage(t *testing.T) {
	d, err := ReadDialect([]byte(gale))
	require.NoError(t, err)
	has := map[string]bool{}
	for _, c := range d.Coverage() {
		assert.NotEmpty(t, c.Without, c.Name)
		has[c.Kind+" "+c.Name] = c.Has
	}
	for name, want := range map[string]bool{"verb checksum": true, "verb save": false, "field version": true, "field serial": false, "table files": true, "table slots": true, "table licences": false, "part configuration": true, "part configuration, put back": true, "reading any": false} {
		got, known := has[name]
		assert.True(t, known, name)
		assert.Equal(t, want, got, name)
	}
	for verb := range verbParams {
		if verb != "undrain" && verb != "undrain-child" { // they go with drain and drain-child
			assert.Contains(t, has, "verb "+verb)
		}
	}
	full, err := fs.ReadFile(Builtin(), "tarnholm.yaml")
	require.NoError(t, err)
	d, err = ReadDialect([]byte(strings.Replace(string(full), "kind: configuration", "kind: plan", 9)))
	require.NoError(t, err)
	for _, c := range d.Coverage() {
		if c.Kind == "part" {
			assert.False(t, c.Has, c.Name)
		}
	}
}

// Every example of the documentation can be used as it stands, beside what every dialect has.
func TestExamplesOfTheDocumentation(t *testing.T) {
	text, err := os.ReadFile("../../docs/formats/dialect.md")
	require.NoError(t, err)
	fences := strings.Split(string(text), "```yaml\n")[1:]
	require.NotEmpty(t, fences)
	modes := ""
	for i, fence := range fences {
		example, _, closed := strings.Cut(fence, "```")
		require.True(t, closed)
		if strings.HasPrefix(example, "modes:") {
			modes = example
		}
		has := func(key string) bool {
			return strings.HasPrefix(example, key+":") || strings.Contains(example, "\n"+key+":")
		}
		if !has("format") {
			example = "format: " + DialectFormat + "\ndialect: d\n" + example
		}
		switch {
		case has("modes") || has("prompt"):
		case strings.Contains(example, "mode:"):
			example += modes
		default:
			example += "prompt: 'x> '\n"
		}
		if !has("portrait") {
			example += "portrait: [{send: who, fields: '(?P<model>\\S+) (?P<version>\\S+) (?P<free>.*) (?P<uptime>.*) (?P<started>.*) (?P<unsaved>.*) (?P<serial>.*)'}]\n"
		}
		_, found := Check("dialect.md", []byte(example))
		assert.Empty(t, found.Errors(), "example %d:\n%s", i+1, example)
	}
}
