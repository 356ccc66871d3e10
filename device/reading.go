package device

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"verimorph/core/verify"

	"go.yaml.in/yaml/v3"
)

// A Reading is a typed fact and what is expected of it after a change.
type Reading struct {
	Name  string      `yaml:"name" json:"name"`
	Title string      `yaml:"title" json:"title"`
	Type  verify.Type `yaml:"type" json:"type"`
	Send  string      `yaml:"send" json:"send"`
	By    string      `yaml:"by" json:"by,omitempty"`       // protocol by which it is asked for; the command line when left out
	Match Pattern     `yaml:"match" json:"match"`           // group value
	Table *Layout     `yaml:"table" json:"table,omitempty"` // how the answer is laid out, instead of match; with a column for value
	Value *Value      `yaml:"value" json:"value,omitempty"` // how the device writes it; the plain way when left out
	// What an answer of type set or flag holds beside the lines that match. A line that fits none of them makes the reading not readable.
	Ignore        Pattern `yaml:"ignore" json:"ignore"`                 // lines that say nothing, beside the dialect's
	Frame         Pattern `yaml:"frame" json:"frame"`                   // a line that begins or ends the answer, beside the dialect's
	NotApplicable Pattern `yaml:"not-applicable" json:"not-applicable"` // how the device says that it has no such thing
	// Promise finds in a configuration, in its group value, what a reading of type set has to hold once the device works by it.
	Promise Pattern `yaml:"promise" json:"promise"`
	// Ports says that each of its values begins with the name of a port. When another device takes the place of this one, they follow the cables.
	Ports bool `yaml:"ports" json:"ports,omitempty"`
	// Services says that each of its values begins with the name of a service. When services move to another device, they are looked for there.
	Services bool `yaml:"services" json:"services,omitempty"`
	Expect   struct {
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
	return &r, r.Check()
}

// Check reports what is wrong with a reading.
func (r *Reading) Check() error {
	rules := []string{verify.KeepsAll, verify.NoNew, verify.Unchanged, verify.AtLeast, verify.Equals, verify.Within}
	types := []verify.Type{verify.Flag, verify.Number, verify.Text, verify.Set, Clock}
	switch {
	case r.Name == "" || !r.givesValue() || !slices.Contains(rules, r.Expect.Rule):
		return fmt.Errorf("%s needs a name, a match with a group named value or a table with a column for it, and an expect rule (%s)", r.Name, strings.Join(rules, ", "))
	case r.By != "" && r.By != ByCLI && !slices.Contains(Protocols, r.By):
		return fmt.Errorf("%s: by %q is none of %s, %s", r.Name, r.By, ByCLI, strings.Join(Protocols, ", "))
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
	case r.Ports && r.Type != verify.Set:
		return fmt.Errorf("%s: ports is said of sets, whose values begin with the name of a port; this is a %s", r.Name, r.Type)
	case r.Services && r.Type != verify.Set:
		return fmt.Errorf("%s: services is said of sets, whose values begin with the name of a service; this is a %s", r.Name, r.Type)
	case r.Expect.Severity != verify.Fails && r.Expect.Severity != verify.Degrades:
		return fmt.Errorf("%s: severity %q is neither %s nor %s", r.Name, r.Expect.Severity, verify.Fails, verify.Degrades)
	}
	if r.Value != nil {
		if err := r.Value.Check(); err != nil {
			return fmt.Errorf("%s: value: %w", r.Name, err)
		}
	}
	_, err := r.wanted()
	return err
}

// givesValue reports whether something finds the value of a reading: a pattern or a layout.
func (r *Reading) givesValue() bool {
	if r.Table != nil {
		return r.Match.Regexp == nil && r.Table.Check() == nil && r.Table.Columns["value"] != ""
	}
	return r.Match.Regexp != nil && slices.Contains(r.Match.SubexpNames(), "value")
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

// Expectations are what is expected of readings after a change.
func Expectations(rs []Reading) (out []verify.Expectation) {
	for _, r := range rs {
		v, _ := r.wanted() // it was checked when it was read
		out = append(out, verify.Expectation{Reading: r.Name, Title: r.Title, Rule: r.Expect.Rule, Percent: r.Expect.Percent, Value: v, Severity: r.Expect.Severity})
	}
	return out
}
