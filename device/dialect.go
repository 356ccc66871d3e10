// Package device speaks with devices. The engine asks for verbs, never for commands; a dialect, which is a YAML file
// (docs/formats/dialect.md), says which commands a verb is on a kind of device and how to read what comes back.
package device

import (
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"verimorph/core/backup"
	"verimorph/core/change"
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
	Format        string             `yaml:"format"`
	Name          string             `yaml:"dialect"`
	Prompt        Pattern            `yaml:"prompt"` // the last line when the device waits for a command
	Pause         Reply              `yaml:"pause"`  // how long output pauses, and what goes on
	Echo          *bool              `yaml:"echo"`   // whether it sends back what is typed; learnt from the first command when left out
	Frame         Pattern            `yaml:"frame"`  // a line that begins or ends the answers of such devices; without it an answer is not complete
	Ignore        Pattern            `yaml:"ignore"` // lines that say nothing, in any answer
	Setup         []string           `yaml:"setup"`  // commands right after sign-in
	Raise         Reply              `yaml:"raise"`  // to the privileged level; ask is where the second password goes
	Refusals      []Refusal          `yaml:"refusals"`
	Portrait      []Query            `yaml:"portrait"`
	SlotStates    map[string]Pattern `yaml:"slot-states"`
	ServicesReady Pattern            `yaml:"services-ready"` // on the portrait's field services
	Saved         Pattern            `yaml:"saved"`          // on the portrait's field unsaved: nothing is; "no" when left out
	Unsaved       Pattern            `yaml:"unsaved"`        // on the portrait's field unsaved: something is; "yes" when left out
	Backup        []PartSource       `yaml:"backup"`         // the parts of a complete bundle
	Verbs         map[string]Query   `yaml:"verbs"`
	Readings      []Reading          `yaml:"readings"`

	Installs   string   `yaml:"installs"`   // slots, or in-place: an installation overwrites the running one and the device restarts into it
	Components []string `yaml:"components"` // that update-component updates
	GoodPart   Pattern  `yaml:"good-part"`  // on the state of a part that is well
	Drained    Pattern  `yaml:"drained"`    // on the portrait's field work, when no running work is left
	InService  Pattern  `yaml:"in-service"` // on the portrait's field service, when it takes work
	Medium     string   `yaml:"medium"`     // files reach it on a medium that a person carries in: how their names begin there
	Places     string   `yaml:"places"`     // name of the storage in which the installations lie, where that is not the one for files
	Factory    Factory  `yaml:"factory"`    // what it is like after a hop that resets it
	Console    Console  `yaml:"console"`    // its console line
}

// Factory says what a device is like in its factory state.
type Factory struct {
	NewHostKey bool `yaml:"new-host-key"` // it makes itself another host key
}

// Console says how a device speaks at its console line.
type Console struct {
	Wake     string  `yaml:"wake"`      // what makes it say something; a carriage return when left out
	User     Pattern `yaml:"user"`      // asks for the user
	Password Pattern `yaml:"password"`  // asks for the password
	Refused  Pattern `yaml:"refused"`   // the sign-in was refused
	Leave    string  `yaml:"leave"`     // ends the sign-in
	Loader   Pattern `yaml:"loader"`    // prompt of the boot loader; "" when there is none
	StartOld string  `yaml:"load-slot"` // command to the boot loader that starts a slot: {slot}
}

// Ways of installing.
const (
	BySlots = "slots"
	InPlace = "in-place"
)

// Abilities says what changes can do with such devices.
func (d *Dialect) Abilities() change.Abilities {
	has := func(verb string) bool { return d.Verbs[verb].Send != "" }
	a := change.Abilities{InPlace: d.Installs == InPlace, Once: has("choose-slot-once"), Clone: has("clone"), Unpack: has("unpack"), Drain: has("drain"),
		Save: has("save"), Media: d.Medium != "", PowerCycle: has("power-cycle"), Licence: has("add-licence"), Restart: has("restart"), Validate: has("try-configuration")}
	if has("update-component") {
		a.Components = d.Components
	}
	for _, p := range d.Backup {
		if p.Restore != nil && (p.Kind == backup.Configuration || p.Kind == backup.Plan) {
			a.Parts = append(a.Parts, change.Restored{Name: p.Name, Title: p.File, Save: p.Restore.Save, Restart: p.Restore.Restart, Configuration: p.Kind == backup.Configuration})
		}
	}
	return a
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
	Ends     bool    `yaml:"ends"`    // the connection ends with it
	Until    Pattern `yaml:"until"`   // the answer ends with this, whether a prompt follows or not
	Success  Pattern `yaml:"success"` // what the answer says when it went well; an answer without it is not understood
	Frame    Pattern `yaml:"frame"`   // of a table: a line that begins or ends it, beside the dialect's
	Ignore   Pattern `yaml:"ignore"`  // of a table: lines that are no rows, beside the dialect's

	whole bool // every line of the answer counts, and nothing else shows where it ends
}

// A Reading is a typed fact and what is expected of it after a change.
type Reading struct {
	Name  string      `yaml:"name" json:"name"`
	Title string      `yaml:"title" json:"title"`
	Type  verify.Type `yaml:"type" json:"type"`
	Send  string      `yaml:"send" json:"send"`
	Match Pattern     `yaml:"match" json:"match"` // group value
	// What an answer of type set or flag holds beside the lines that match. A line that fits none of them makes the reading not readable.
	Ignore        Pattern `yaml:"ignore" json:"ignore"`                 // lines that say nothing, beside the dialect's
	Frame         Pattern `yaml:"frame" json:"frame"`                   // a line that begins or ends the answer, beside the dialect's
	NotApplicable Pattern `yaml:"not-applicable" json:"not-applicable"` // how the device says that it has no such thing
	Expect        struct {
		Rule     string  `yaml:"rule" json:"rule"`
		Percent  float64 `yaml:"percent" json:"percent,omitempty"`
		Value    string  `yaml:"value" json:"value,omitempty"` // of equals and within
		Severity string  `yaml:"severity" json:"severity"`
	} `yaml:"expect" json:"expect"`
}

// Clock is the type of a reading that is the device's time, as in RFC 3339; what is kept is the number of seconds by which it is
// ahead of ours.
const Clock verify.Type = "clock"

// ReadReading reads one reading that somebody adds to a dialect's own, and checks it.
func ReadReading(data []byte) (*Reading, error) {
	var r Reading
	dec := yaml.NewDecoder(strings.NewReader(string(data)))
	dec.KnownFields(true)
	if err := dec.Decode(&r); err != nil {
		return nil, err
	}
	if strings.ContainsAny(r.Send, "\r\n\x00") || r.Send == "" {
		return nil, fmt.Errorf("send: one command on one line is needed")
	}
	return &r, r.check()
}

func (r *Reading) check() error {
	rules := []string{verify.KeepsAll, verify.NoNew, verify.Unchanged, verify.AtLeast, verify.Equals, verify.Within}
	types := []verify.Type{verify.Flag, verify.Number, verify.Text, verify.Set, Clock}
	switch {
	case r.Name == "" || r.Match.Regexp == nil || !slices.Contains(r.Match.SubexpNames(), "value") || !slices.Contains(rules, r.Expect.Rule):
		return fmt.Errorf("%s needs a name, a match with a group named value, and an expect rule (%s)", r.Name, strings.Join(rules, ", "))
	case !slices.Contains(types, r.Type):
		return fmt.Errorf("%s: type %q is none of flag, number, text, set, clock", r.Name, r.Type)
	case (r.Expect.Rule == verify.KeepsAll || r.Expect.Rule == verify.NoNew) && r.Type != verify.Set:
		return fmt.Errorf("%s: %s is a rule for sets, not for a %s", r.Name, r.Expect.Rule, r.Type)
	case r.Expect.Rule == verify.Within && r.Type != verify.Number && r.Type != Clock:
		return fmt.Errorf("%s: %s is a rule for numbers and clocks, not for a %s", r.Name, verify.Within, r.Type)
	case r.Type == Clock && r.Expect.Rule != verify.Within:
		return fmt.Errorf("%s: of a clock, only %s can be expected", r.Name, verify.Within)
	case r.Expect.Rule == verify.AtLeast && (r.Type != verify.Set && r.Type != verify.Number || r.Expect.Percent <= 0):
		return fmt.Errorf("%s: %s is a rule for numbers and sets, with a percent above 0", r.Name, verify.AtLeast)
	case r.Expect.Severity != verify.Fails && r.Expect.Severity != verify.Degrades:
		return fmt.Errorf("%s: severity %q is neither %s nor %s", r.Name, r.Expect.Severity, verify.Fails, verify.Degrades)
	}
	_, err := r.wanted()
	return err
}

// wanted is the value that an equals or within expects.
func (r *Reading) wanted() (v verify.Value, err error) {
	if r.Expect.Rule != verify.Equals && r.Expect.Rule != verify.Within {
		return v, nil
	}
	v.Type = r.Type
	switch r.Type {
	case Clock, verify.Number:
		v.Type = verify.Number
		v.Number, err = strconv.ParseFloat(r.Expect.Value, 64)
	case verify.Flag:
		v.Flag, err = strconv.ParseBool(r.Expect.Value)
	case verify.Set:
		v.Set = strings.Fields(r.Expect.Value)
		slices.Sort(v.Set)
	default:
		v.Text = r.Expect.Value
	}
	if err != nil {
		err = fmt.Errorf("%s: %q is no %s", r.Name, r.Expect.Value, v.Type)
	}
	return v, err
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

// MarshalJSON writes the expression; "" where there is none.
func (p Pattern) MarshalJSON() ([]byte, error) {
	if p.Regexp == nil {
		return []byte(`""`), nil
	}
	return json.Marshal(p.Regexp.String())
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (p *Pattern) UnmarshalJSON(data []byte) (err error) {
	var s string
	if err := json.Unmarshal(data, &s); err != nil || s == "" {
		return err
	}
	p.Regexp, err = regexp.Compile(s)
	return err
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

// whole is the named groups of a match, of which loc are the bounds in the text. The groups that are numbers are as long as the number is
// in the text: of 1'204 a pattern for digits finds the 1 only, and a 1 would be believed.
func (p Pattern) whole(text string, loc []int, numbers ...string) map[string]string {
	out := map[string]string{}
	for i, name := range p.SubexpNames() {
		switch from, to := loc[2*i], loc[2*i+1]; {
		case name == "":
		case from < 0:
			out[name] = ""
		case slices.Contains(numbers, name) && from < to:
			out[name] = strings.TrimSpace(widened(text, from, to))
		default:
			out[name] = strings.TrimSpace(text[from:to])
		}
	}
	return out
}

// longer is what may go on with a number, behind it and before it: digits, also behind a mark between groups of them, and a sign.
var (
	longerBehind = regexp.MustCompile(`^(?:[.,'’_\x{a0}\x{202f}]?\d)+`)
	longerBefore = regexp.MustCompile(`(?:(?:^|[\s=:(])[-−])?(?:\d[.,'’_\x{a0}\x{202f}]?)*$`)
)

func widened(text string, from, to int) string {
	line := strings.LastIndexByte(text[:from], '\n') + 1
	if isDigit(text[from]) {
		if before := longerBefore.FindString(text[line:from]); before != "" {
			from -= len(strings.TrimLeft(before, " \t=:("))
		}
	}
	if isDigit(text[to-1]) {
		to += len(longerBehind.FindString(text[to:]))
	}
	return text[from:to]
}

func isDigit(b byte) bool { return b >= '0' && b <= '9' }

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
	"choose-slot-once": {"slot"}, "clone": {"slot"}, "unpack": {"slot"}, "drain": nil, "undrain": nil,
	"update-component": {"component", "file"}, "power-cycle": {"component"}, "add-licence": {"licence"},
}

// firmwareVerbs are those without which firmware cannot be changed, by the way of installing.
var firmwareVerbs = map[string][]string{
	BySlots: {"checksum", "install", "choose-slot", "remove-file", "restart"},
	InPlace: {"checksum", "install"},
}

// LacksForFirmware lists the verbs that are missing to change the firmware of such a device; none when it can be done.
func (d *Dialect) LacksForFirmware() (missing []string) {
	for _, name := range firmwareVerbs[d.Installs] {
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
	if d.Installs == "" {
		d.Installs = BySlots
	}
	if firmwareVerbs[d.Installs] == nil {
		return nil, fmt.Errorf("installs: %q is neither %s nor %s", d.Installs, BySlots, InPlace)
	}
	if (d.Verbs["drain"].Send == "") != (d.Drained.Regexp == nil) || (d.Verbs["drain"].Send == "") != (d.Verbs["undrain"].Send == "") {
		return nil, fmt.Errorf("verbs: drain, undrain and the pattern drained belong together")
	}
	if (d.Console.Loader.Regexp == nil) != (d.Console.StartOld == "") {
		return nil, fmt.Errorf("console: loader and load-slot belong together")
	}
	if len(d.Components) > 0 && d.Verbs["update-component"].Send == "" {
		return nil, fmt.Errorf("components: need the verb update-component")
	}
	if err := d.checkParts(); err != nil {
		return nil, err
	}
	if q := d.Verbs["add-licence"]; q.Send != "" && (q.Ask.Regexp == nil || q.Answer != "") {
		return nil, fmt.Errorf("verbs: add-licence needs an ask, where the key is typed in, and no answer")
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
	for i := range d.Readings {
		if err := d.Readings[i].check(); err != nil {
			return nil, fmt.Errorf("readings: %w", err)
		}
	}
	return &d, nil
}

// Expectations are what is expected of readings after a change.
func Expectations(rs []Reading) (out []verify.Expectation) {
	for _, r := range rs {
		v, _ := r.wanted() // it was checked when it was read
		out = append(out, verify.Expectation{Reading: r.Name, Title: r.Title, Rule: r.Expect.Rule, Percent: r.Expect.Percent, Value: v, Severity: r.Expect.Severity})
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
