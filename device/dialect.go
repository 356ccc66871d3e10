// Package device speaks with devices. The engine asks for verbs, never for commands; a dialect, which is a YAML file
// (docs/formats/dialect.md), says which commands a verb is on a kind of device and how to read what comes back.
package device

import (
	"embed"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"verimorph/core/verify"
)

// DialectFormat is the format line of a dialect file.
const DialectFormat = "verimorph-dialect/1"

//go:embed dialects/*.yaml
var builtin embed.FS

// Builtin is the folder of dialects that ship with the project.
func Builtin() fs.FS {
	sub, err := fs.Sub(builtin, "dialects")
	if err != nil {
		panic(err)
	}
	return sub
}

// A Dialect teaches how to speak with one kind of device over a command line.
type Dialect struct {
	Format        string            `yaml:"format"`
	Name          string            `yaml:"dialect"`
	Prompt        Pattern           `yaml:"prompt"` // the last line when the device waits for a command
	Pause         Reply             `yaml:"pause"`  // how long output pauses, and what goes on
	Setup         []string          `yaml:"setup"`  // commands right after sign-in
	Raise         Reply             `yaml:"raise"`  // to the privileged level; ask is where the second password goes
	Refusals      []Refusal         `yaml:"refusals"`
	Portrait      []Query           `yaml:"portrait"`
	SlotStates    map[string]string `yaml:"slot-states"`
	ServicesReady Pattern           `yaml:"services-ready"`
	Backup        []PartSource      `yaml:"backup"` // the parts of a complete bundle
	Verbs         map[string]Query  `yaml:"verbs"`
	Readings      []Reading         `yaml:"readings"`
}

// A Reply is something the device asks and what to send.
type Reply struct {
	Match Pattern `yaml:"match"`
	Send  string  `yaml:"send"`
	Ask   Pattern `yaml:"ask"`
}

// A Refusal recognises a device's "no".
type Refusal struct {
	Match Pattern   `yaml:"match"` // group message: the device's words
	Kind  ErrorKind `yaml:"kind"`
}

// A Query is one command and how to read its answer.
type Query struct {
	Send     string  `yaml:"send"`     // with {file}, {slot}, {url} filled in
	Raised   bool    `yaml:"raised"`   // needs the privileged level
	Wait     float64 `yaml:"wait"`     // seconds of silence allowed; 20 when left out
	Fields   Pattern `yaml:"fields"`   // each named group becomes a field
	Rows     string  `yaml:"rows"`     // name of the table that match fills
	Match    Pattern `yaml:"match"`    // one row for each match
	Progress Pattern `yaml:"progress"` // groups percent, or done and total
	Ask      Pattern `yaml:"ask"`      // a question to expect
	Answer   string  `yaml:"answer"`
	Ends     bool    `yaml:"ends"` // the connection ends with it
}

// A Reading is a typed fact and what is expected of it after a change.
type Reading struct {
	Name   string      `yaml:"name"`
	Title  string      `yaml:"title"`
	Type   verify.Type `yaml:"type"`
	Send   string      `yaml:"send"`
	Match  Pattern     `yaml:"match"` // group value
	Expect struct {
		Rule     string  `yaml:"rule"`
		Percent  float64 `yaml:"percent"`
		Severity string  `yaml:"severity"`
	} `yaml:"expect"`
}

// A Pattern is a regular expression (RE2 syntax).
type Pattern struct{ *regexp.Regexp }

// UnmarshalYAML compiles the pattern; errors carry its line.
func (p *Pattern) UnmarshalYAML(n *yaml.Node) (err error) {
	if p.Regexp, err = regexp.Compile(n.Value); err != nil {
		return fmt.Errorf("line %d, column %d: %w", n.Line, n.Column, err)
	}
	return nil
}

// groups returns the named groups of the first match, or nil.
func (p Pattern) groups(text string) map[string]string {
	if p.Regexp == nil {
		return nil
	}
	m := p.FindStringSubmatch(text)
	if m == nil {
		return nil
	}
	return named(p, m)
}

func named(p Pattern, m []string) map[string]string {
	out := map[string]string{}
	for i, name := range p.SubexpNames() {
		if name != "" {
			out[name] = strings.TrimSpace(m[i])
		}
	}
	return out
}

// Verbs that a dialect must have, and the placeholders each may use.
var verbParams = map[string][]string{
	"checksum": {"file"}, "fetch-image": {"url", "file"}, "install": {"file", "slot"}, "save": nil,
	"choose-slot": {"slot"}, "remove-file": {"file"}, "restart": nil, "try-configuration": {"file"},
}

// firmwareVerbs are those without which firmware cannot be changed.
var firmwareVerbs = []string{"checksum", "install", "save", "choose-slot", "remove-file", "restart"}

// LacksForFirmware lists the verbs that are missing to change the firmware of such a device; none when it can be done.
func (d *Dialect) LacksForFirmware() (missing []string) {
	for _, name := range firmwareVerbs {
		if d.Verbs[name].Send == "" {
			missing = append(missing, name)
		}
	}
	return missing
}

var placeholder = regexp.MustCompile(`\{(\w+)\}`)

// ReadDialects reads every .yaml file of a folder. Errors name the file and, where YAML tells it, the line.
func ReadDialects(fsys fs.FS) (map[string]*Dialect, error) {
	names, err := fs.Glob(fsys, "*.yaml")
	if err != nil {
		return nil, err
	}
	out := map[string]*Dialect{}
	for _, name := range names {
		data, err := fs.ReadFile(fsys, name)
		if err != nil {
			return nil, err
		}
		d, err := ReadDialect(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if out[d.Name] != nil {
			return nil, fmt.Errorf("%s: dialect %q is described twice", name, d.Name)
		}
		out[d.Name] = d
	}
	return out, nil
}

// ReadDialect reads and checks one dialect.
func ReadDialect(data []byte) (*Dialect, error) {
	var d Dialect
	dec := yaml.NewDecoder(strings.NewReader(string(data)))
	dec.KnownFields(true)
	if err := dec.Decode(&d); err != nil {
		return nil, err
	}
	switch {
	case d.Format != DialectFormat:
		return nil, fmt.Errorf("format %q is not %s", d.Format, DialectFormat)
	case d.Name == "":
		return nil, fmt.Errorf("dialect: a name is missing")
	case d.Prompt.Regexp == nil:
		return nil, fmt.Errorf("prompt: is missing; without it nobody knows when the device has finished")
	case len(d.Portrait) == 0:
		return nil, fmt.Errorf("portrait: is missing")
	}
	if err := d.checkParts(); err != nil {
		return nil, err
	}
	for name, q := range d.Verbs {
		params, ok := verbParams[name]
		if !ok {
			return nil, fmt.Errorf("verbs: %s is not a verb", name)
		}
		for _, m := range placeholder.FindAllStringSubmatch(q.Send, -1) {
			if !slices.Contains(params, m[1]) {
				return nil, fmt.Errorf("verbs: %s: there is no {%s} here", name, m[1])
			}
		}
	}
	for state, expr := range d.SlotStates {
		if _, err := regexp.Compile(expr); err != nil {
			return nil, fmt.Errorf("slot-states: %s: %w", state, err)
		}
	}
	for _, r := range d.Readings {
		known := slices.Contains([]string{verify.KeepsAll, verify.Unchanged, verify.AtLeast}, r.Expect.Rule)
		if r.Name == "" || r.Match.Regexp == nil || !slices.Contains(r.Match.SubexpNames(), "value") || !known {
			return nil, fmt.Errorf("readings: %s needs a name, a match with a group named value, and an expect rule (%s, %s or %s)",
				r.Name, verify.KeepsAll, verify.Unchanged, verify.AtLeast)
		}
	}
	return &d, nil
}

// Expectations are what the dialect expects of the readings after a change.
func (d *Dialect) Expectations() (out []verify.Expectation) {
	for _, r := range d.Readings {
		out = append(out, verify.Expectation{Reading: r.Name, Title: r.Title, Rule: r.Expect.Rule, Percent: r.Expect.Percent, Severity: r.Expect.Severity})
	}
	return out
}

// safeArgument is what may be filled into a command: nothing that a command line could take apart.
var safeArgument = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:/@-]{0,255}$`)

func fill(command string, args map[string]string) (string, error) {
	var bad error
	out := placeholder.ReplaceAllStringFunc(command, func(m string) string {
		v := args[m[1:len(m)-1]]
		if !safeArgument.MatchString(v) {
			bad = fmt.Errorf("%q cannot be part of a command", v)
		}
		return v
	})
	return out, bad
}
