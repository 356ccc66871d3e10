// Package template fills configurations with the values of one device. A [Template] is a configuration text with placeholders, and a head that says which
// values it takes and of which type each is (docs/formats/template.md). Values come from several [Source]s, the strongest first: what somebody says with
// the call, a line of a table, what a file holds; what the template itself assumes comes last. [Template.Fill] says of each value which source it was taken
// from, and tells all that is missing or wrong at once, before anything is made of it. [ReadTable] reads a table of devices with their values.
package template

import (
	"cmp"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"verimorph/core/near"
	"verimorph/core/yamldoc"
)

// Format is the first line's value in every template of this generation.
const Format = "verimorph-template/1"

// Types of values.
const (
	Text    = "text"    // one line
	Name    = "name"    // one word: letters, digits, dots, dashes and underscores
	Number  = "number"  // a whole number
	Address = "address" // an IPv4 or IPv6 address
	Prefix  = "prefix"  // an address with the length of its network, such as 192.0.2.1/24
	Choice  = "choice"  // one of a list
	Secret  = "secret"  // one line that is never shown
)

var types = []string{Text, Name, Number, Address, Prefix, Choice, Secret}

// A Value is one that a template takes.
type Value struct {
	Name     string   `yaml:"name"`
	Type     string   `yaml:"type"`
	Help     string   `yaml:"help"`
	From     int      `yaml:"from"` // of a number: the least
	To       int      `yaml:"to"`   // the most; 0: no bound
	Of       []string `yaml:"of"`   // of a choice
	Default  string   `yaml:"default"`
	Optional bool     `yaml:"optional"` // lines with it are left out where it is not given
}

// A Template is a configuration with placeholders.
type Template struct {
	Format string   `yaml:"format"`
	Title  string   `yaml:"title"`
	Models []string `yaml:"models"` // that it is for; none: any
	Values []Value  `yaml:"values"`

	File  string `yaml:"-"`
	Body  string `yaml:"-"`
	first int    // line of the file at which the body begins
}

var (
	placeholder = regexp.MustCompile(`\{\{\s*([^{}]*?)\s*\}\}`)
	nameForm    = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.-]{0,63}$`)
	wordForm    = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,127}$`)
)

// Read reads a template: a head in YAML, a line of three dashes, and the text. All mistakes are told with their places.
func Read(file, data string) (*Template, yamldoc.Findings) {
	head, body, found := cutHead(data)
	if !found {
		return nil, yamldoc.Findings{{Position: yamldoc.Position{File: file, Line: 1, Column: 1}, Message: "there is no line of three dashes between the head and the text", Hint: "write --- behind the head"}}
	}
	root, broken := yamldoc.Parse(file, []byte(head), "begin with: format: "+Format)
	if broken != nil {
		return nil, yamldoc.Findings{*broken}
	}
	t := &Template{File: file, Body: body, first: strings.Count(head, "\n") + 2}
	r := &yamldoc.Reader{File: file}
	r.Struct(root, "a template", t)
	if t.Format != Format {
		r.Fail(root, "write format: "+Format, "format %q is not known", t.Format)
	}
	if len(r.Found) == 0 {
		t.check(r, root)
	}
	if len(r.Found) > 0 {
		return nil, r.Found
	}
	return t, nil
}

// cutHead splits a file at its first line of three dashes, but for one at its very beginning.
func cutHead(data string) (head, body string, found bool) {
	data = strings.TrimPrefix(strings.ReplaceAll(data, "\r\n", "\n"), "---\n")
	if head, body, found = strings.Cut(data, "\n---\n"); found {
		return head + "\n", body, true
	}
	return "", "", false
}

// check finds what is wrong with the values, and with the placeholders of the text.
func (t *Template) check(r *yamldoc.Reader, root *yamldoc.Node) {
	seen := map[string]bool{}
	used := map[string]bool{}
	for i := range t.Values {
		v := &t.Values[i]
		v.Type = cmp.Or(v.Type, Text)
		switch {
		case !nameForm.MatchString(v.Name):
			r.Fail(root, "letters, digits, dots, dashes and underscores, a letter first", "%q is no name of a value", v.Name)
		case v.Name == "device" || strings.HasPrefix(v.Name, "device."):
			r.Fail(root, "call it otherwise", "%q is what a table says about the device itself", v.Name)
		case seen[v.Name]:
			r.Fail(root, "", "the value %s is described twice", v.Name)
		case !slices.Contains(types, v.Type):
			r.Fail(root, "known: "+strings.Join(types, ", "), "the value %s has the type %q, which is not known", v.Name, v.Type)
		case v.Type == Choice && len(v.Of) == 0:
			r.Fail(root, "say of: [...]", "the choice %s has nothing to choose from", v.Name)
		case v.Default != "" && v.wrong(v.Default) != "":
			r.Fail(root, "", "what %s is by default does not fit: %s", v.Name, v.wrong(v.Default))
		}
		seen[v.Name] = true
	}
	for _, p := range t.placeholders() {
		used[p.name] = true
		if !seen[p.name] {
			hint := near.Hint(p.name, t.names())
			r.Found = append(r.Found, yamldoc.Finding{Position: yamldoc.Position{File: t.File, Line: p.line, Column: p.column}, Message: fmt.Sprintf("no value %q is described in the head", p.name), Hint: hint})
		}
	}
	for _, v := range t.Values {
		if !used[v.Name] {
			r.Found = append(r.Found, yamldoc.Finding{Position: yamldoc.Position{File: t.File, Line: 1, Column: 1}, Message: fmt.Sprintf("the value %s is described and used nowhere", v.Name)})
		}
	}
}

func (t *Template) names() (out []string) {
	for _, v := range t.Values {
		out = append(out, v.Name)
	}
	return out
}

// A place of a placeholder.
type place struct {
	name         string
	line, column int
}

func (t *Template) placeholders() (out []place) {
	for i, l := range strings.Split(t.Body, "\n") {
		for _, m := range placeholder.FindAllStringSubmatchIndex(l, -1) {
			out = append(out, place{l[m[2]:m[3]], t.first + i, m[0] + 1})
		}
	}
	return out
}

// wrong says why a text is no value of the type; "" when it is.
func (v *Value) wrong(text string) string {
	if strings.ContainsAny(text, "\n\r\x00") {
		return "it has more than one line"
	}
	switch v.Type {
	case Name:
		if !wordForm.MatchString(text) {
			return fmt.Sprintf("%q is not one word of letters, digits, dots, dashes and underscores", text)
		}
	case Number:
		n, err := strconv.Atoi(text)
		switch {
		case err != nil:
			return fmt.Sprintf("%q is no whole number", text)
		case n < v.From || v.To != 0 && n > v.To:
			return fmt.Sprintf("%d is not from %d to %d", n, v.From, v.To)
		}
	case Address:
		if _, err := netip.ParseAddr(text); err != nil {
			return fmt.Sprintf("%q is no address", text)
		}
	case Prefix:
		if _, err := netip.ParsePrefix(text); err != nil {
			return fmt.Sprintf("%q is no address with the length of its network, such as 192.0.2.1/24", text)
		}
	case Choice:
		if !slices.Contains(v.Of, text) {
			return fmt.Sprintf("%q is none of %s", text, strings.Join(v.Of, ", "))
		}
	}
	return ""
}

// A Source is where values come from.
type Source struct {
	Name   string // as people read it: "the call", "piers.csv, line 4"
	Values map[string]string
}

// A Used is a value with the source that it was taken from.
type Used struct {
	Name, Value string // of a secret the value is ***
	From        string
	Secret      bool
	Over        []string // sources that say something else, which does not count
}

// Assumed is the source of values that the template itself gives.
const Assumed = "the template"

// Hidden stands for a secret.
const Hidden = "***"

// Fill fills the template, the first source that has a value counting. All that is missing, wrong or unknown is returned at once; then there is no text.
func (t *Template) Fill(sources ...Source) (text string, used []Used, wrong []string) {
	values := map[string]string{}
	for i := range t.Values {
		v := &t.Values[i]
		u := Used{Name: v.Name, Secret: v.Type == Secret}
		given := false
		for _, s := range sources {
			switch x, has := s.Values[v.Name]; {
			case !has || x == "":
			case !given:
				given, u.Value, u.From = true, x, s.Name
			case x != u.Value:
				u.Over = append(u.Over, s.Name)
			}
		}
		switch {
		case given:
		case v.Default != "":
			u.Value, u.From = v.Default, Assumed
		case v.Optional:
			continue
		default:
			wrong = append(wrong, fmt.Sprintf("%s is missing (%s)", v.Name, strings.TrimSuffix(v.Type+"; "+v.Help, "; ")))
			continue
		}
		if why := v.wrong(u.Value); why != "" {
			if u.Secret {
				why = "it does not fit" // not with its text
			}
			wrong = append(wrong, fmt.Sprintf("%s, from %s: %s", v.Name, u.From, why))
			continue
		}
		values[v.Name] = u.Value
		if u.Secret {
			u.Value = Hidden
		}
		used = append(used, u)
	}
	for _, s := range sources {
		for name := range s.Values {
			if !slices.Contains(t.names(), name) {
				wrong = append(wrong, strings.TrimSuffix(fmt.Sprintf("%s, from %s: the template takes no such value%s", name, s.Name, near.Hint(name, t.names())), "; "))
			}
		}
	}
	slices.Sort(wrong)
	if len(wrong) > 0 {
		return "", nil, wrong
	}
	return t.fill(values), used, nil
}

// Shown is what Fill makes, with *** in the place of secrets; "" where it makes nothing.
func (t *Template) Shown(sources ...Source) string {
	_, used, wrong := t.Fill(sources...)
	if len(wrong) > 0 {
		return ""
	}
	values := map[string]string{}
	for _, u := range used {
		values[u.Name] = u.Value
	}
	return t.fill(values)
}

// fill puts values into the text. A line with a value that is not given is left out.
func (t *Template) fill(values map[string]string) string {
	lines := strings.Split(t.Body, "\n")
	out := lines[:0:0]
	for _, l := range lines {
		lacks := false
		filled := placeholder.ReplaceAllStringFunc(l, func(p string) string {
			v, has := values[placeholder.FindStringSubmatch(p)[1]]
			lacks = lacks || !has
			return v
		})
		if !lacks {
			out = append(out, filled)
		}
	}
	return strings.Join(out, "\n")
}
