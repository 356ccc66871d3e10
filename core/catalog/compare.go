package catalog

import (
	"fmt"
	"reflect"
	"strings"
)

// A Difference between two versions of a family's file, by identity and not by line.
type Difference struct {
	Kind   string // "added", "removed" or "changed"
	What   string // such as "release 5.0.7" or "rule TH-R6"
	Detail string // changed: which fields, with commas between
}

// Compare lists what differs from one version of a family to another: removed and added items first, then changed ones,
// section by section. Positions in the file do not count.
func Compare(a, b *Family) (out []Difference) {
	if fields := changed(head(a), head(b)); fields != "" {
		out = append(out, Difference{"changed", "family " + b.Name, fields})
	}
	out = append(out, items("model", a.Models, b.Models, func(m *Model) string { return m.Name })...)
	out = append(out, items("release", a.Releases, b.Releases, func(r *Release) string { return r.Version.String() })...)
	out = append(out, items("rule", a.Rules, b.Rules, func(r *Rule) string { return r.ID })...)
	out = append(out, items("condition", a.Conditions, b.Conditions, func(c *Condition) string { return c.Name })...)
	out = append(out, items("service", a.Services, b.Services, func(s *Service) string { return s.Name })...)
	out = append(out, items("requirement", a.Requirements, b.Requirements, func(r *Requirement) string { return r.ID })...)
	out = append(out, items("component", a.Components, b.Components, func(c *Component) string { return c.Name })...)
	out = append(out, items("skew", a.Skew, b.Skew, func(s *Skew) string { return s.ID })...)
	out = append(out, items("effect", a.Effects, b.Effects, func(e *Effect) string { return e.Step + " for " + e.Clients })...)
	return out
}

// head is what a file says about the family as a whole.
func head(f *Family) any {
	return struct {
		Maker, Title, Dialect, SigningKey string
		Configuration                     Configuration
		Durations                         map[string]Span
		SendRate                          Rate
	}{f.Maker, f.Title, f.Dialect, f.SigningKey, f.Configuration, f.Durations, f.SendRate}
}

func items[T any](what string, old, new []T, name func(*T) string) (out []Difference) {
	before, after := map[string]*T{}, map[string]*T{}
	for i := range old {
		before[name(&old[i])] = &old[i]
	}
	for i := range new {
		after[name(&new[i])] = &new[i]
	}
	for i := range old {
		if n := name(&old[i]); after[n] == nil {
			out = append(out, Difference{"removed", what + " " + n, ""})
		}
	}
	for i := range new {
		if n := name(&new[i]); before[n] == nil {
			out = append(out, Difference{"added", what + " " + n, ""})
		}
	}
	for i := range new {
		n := name(&new[i])
		if b := before[n]; b != nil {
			if fields := changed(*b, new[i]); fields != "" {
				out = append(out, Difference{"changed", what + " " + n, fields})
			}
		}
	}
	return out
}

// changed names the fields of two structs that differ. Positions are left out, at any depth, by comparing the text.
func changed(a, b any) string {
	var names []string
	x, y := reflect.ValueOf(a), reflect.ValueOf(b)
	for i := range x.NumField() {
		field := x.Type().Field(i)
		if field.Type != reflect.TypeFor[Position]() && plain(x.Field(i)) != plain(y.Field(i)) {
			names = append(names, fieldName(field.Name))
		}
	}
	return strings.Join(names, ", ")
}

func fieldName(s string) string {
	switch s {
	case "Last":
		return "runs"
	case "LastText":
		return "runs-because"
	}
	var out strings.Builder
	for i, r := range s {
		if i > 0 && r >= 'A' && r <= 'Z' {
			out.WriteByte('-')
		}
		out.WriteString(strings.ToLower(string(r)))
	}
	return out.String()
}

// plain prints a value without positions.
func plain(v reflect.Value) string {
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return "nil"
		}
		return plain(v.Elem())
	case reflect.Slice:
		var s strings.Builder
		for i := range v.Len() {
			s.WriteString(plain(v.Index(i)) + ";")
		}
		return s.String()
	case reflect.Struct:
		if text, ok := v.Interface().(fmt.Stringer); ok && v.Type() != reflect.TypeFor[When]() {
			return text.String()
		}
		var s strings.Builder
		for i := range v.NumField() {
			if v.Type().Field(i).Type != reflect.TypeFor[Position]() {
				s.WriteString(plain(v.Field(i)) + ",")
			}
		}
		return s.String()
	}
	return fmt.Sprint(v.Interface())
}
