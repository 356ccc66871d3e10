package config

import (
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

var builtIn = map[string]*Type{
	"text":    {Name: "text"},
	"word":    {Name: "word", matches: func(s string) bool { return s != "" && !strings.ContainsAny(s, " \t") }},
	"name":    {Name: "name", matches: regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`).MatchString},
	"number":  {Name: "number", matches: func(s string) bool { _, err := strconv.ParseFloat(s, 64); return err == nil }},
	"count":   {Name: "count", matches: regexp.MustCompile(`^[0-9]{1,18}$`).MatchString},
	"address": {Name: "address", matches: func(s string) bool { _, err := netip.ParseAddr(s); return err == nil }},
	"prefix":  {Name: "prefix", matches: func(s string) bool { _, ok := readPrefix(s); return ok }},
	"network": {Name: "network", matches: func(s string) bool {
		_, ok := readPrefix(s)
		_, err := netip.ParseAddr(s)
		return ok || err == nil
	}},
	"mask":        {Name: "mask", matches: func(s string) bool { _, ok := readMask(s); return ok }},
	"mac":         {Name: "mac", matches: func(s string) bool { _, err := net.ParseMAC(s); return err == nil }},
	"port-number": {Name: "port-number", matches: func(s string) bool { v, err := strconv.Atoi(s); return err == nil && v >= 0 && v <= 65535 }},
	"flag":        {Name: "flag", OneOf: []string{"true", "false"}},
}

func init() {
	for _, t := range builtIn {
		if t.matches == nil {
			_ = t.compile()
		}
	}
}

func (t *Type) compile() error {
	var re *regexp.Regexp
	if t.Match != "" {
		var err error
		flags := ""
		if t.IgnoreCase {
			flags = "(?i)"
		}
		if re, err = regexp.Compile(flags + `\A(?:` + t.Match + `)\z`); err != nil {
			return err
		}
	}
	t.matches = func(s string) bool {
		if slices.Contains(t.Or, s) {
			return true
		}
		if len(t.OneOf) > 0 && !slices.ContainsFunc(t.OneOf, func(w string) bool { return w == s || t.IgnoreCase && strings.EqualFold(w, s) }) {
			return false
		}
		if t.Ranged || len(t.Units) > 0 {
			if v, ok := t.number(s); !ok || t.Ranged && !(v >= t.Low && v <= t.Top) {
				return false
			}
		}
		return re == nil || re.MatchString(s)
	}
	return nil
}

// Type returns a type by name, of the schema or built in; nil when there is none. The marks of Statement.Words are
// ignored.
func (s *Schema) Type(name string) *Type {
	name = strings.TrimRight(name, ".?")
	if t := s.Types[name]; t != nil {
		return t
	}
	return builtIn[name]
}

// Expects says what a word of the type must be, for messages.
func (t *Type) Expects() string {
	var s string
	switch {
	case len(t.RefersTo) > 0:
		s = "the name of a " + strings.Join(t.RefersTo, " or ")
	case t.ListOf != "":
		s = "a list of " + t.ListOf + ", separated by commas"
	case len(t.OneOf) > 0:
		s = "one of " + strings.Join(t.OneOf, ", ")
	case t.Ranged:
		s = strings.TrimSpace("a number from " + number(t.Low) + " to " + number(t.Top) + " " + t.Unit)
	case builtIn[t.Name] == t:
		s = map[string]string{"text": "text", "word": "one word", "name": "a name", "number": "a number", "count": "a whole number", "address": "an address", "prefix": "an address with its prefix length", "mask": "a mask",
			"network": "an address or prefix", "mac": "a hardware address", "port-number": "a port number"}[t.Name]
	default:
		s = "a " + t.Name
	}
	if len(t.Or) > 0 {
		s += " or " + strings.Join(t.Or, ", ")
	}
	return s
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// TypeOf returns the type of a statement's word at a place, from 0; nil when the statement takes no such word. A
// statement without described words takes any.
func (s *Schema) TypeOf(st *Statement, at int) *Type {
	if st == nil {
		return nil
	}
	if at >= len(st.Words) {
		if k := len(st.Words); k > 0 && strings.HasSuffix(st.Words[k-1], "...") {
			return s.Type(st.Words[k-1])
		}
		return nil
	}
	return s.Type(st.Words[at])
}

// References calls f for every name in a statement's words that refers to objects of some kinds; set replaces the name.
func (s *Schema) References(n *Node, st *Statement, f func(kinds []string, name string, set func(string))) {
	for i, w := range n.Words {
		t := s.TypeOf(st, i)
		if t == nil {
			continue
		}
		if len(t.RefersTo) > 0 && !slices.Contains(t.Or, w.Text) {
			f(t.RefersTo, w.Text, func(name string) {
				words := slices.Clone(n.Words)
				words[i].Text = name
				n.SetWords(words)
			})
		}
		if inner := s.Types[t.ListOf]; t.ListOf != "" && inner != nil && len(inner.RefersTo) > 0 {
			for k, item := range strings.Split(w.Text, ",") {
				name := strings.TrimSpace(item)
				if name == "" || slices.Contains(inner.Or, name) {
					continue
				}
				f(inner.RefersTo, name, func(to string) {
					words := slices.Clone(n.Words)
					items := strings.Split(words[i].Text, ",")
					items[k] = strings.Replace(items[k], name, to, 1)
					words[i].Text = strings.Join(items, ",")
					n.SetWords(words)
				})
			}
		}
	}
}

// Unrepeat leaves each item of the lists in a statement's words once.
func (s *Schema) Unrepeat(n *Node, st *Statement) {
	for i, w := range n.Words {
		if t := s.TypeOf(st, i); t == nil || t.ListOf == "" {
			continue
		}
		var kept, seen []string
		for _, item := range strings.Split(w.Text, ",") {
			if name := strings.TrimSpace(item); !slices.Contains(seen, name) {
				kept, seen = append(kept, item), append(seen, name)
			}
		}
		if text := strings.Join(kept, ","); text != w.Text {
			words := slices.Clone(n.Words)
			words[i].Text = text
			n.SetWords(words)
		}
	}
}

// Defined lists the objects a configuration defines: by kind and name, the statements that do.
func (s *Schema) Defined(d *Document) map[string]map[string][]*Node {
	out := map[string]map[string][]*Node{}
	s.WalkWith(d.Root, func(n *Node, st *Statement) {
		if st == nil || st.Defines == "" {
			return
		}
		name := s.KeyOf(n, st)
		if name == "" {
			return
		}
		if out[st.Defines] == nil {
			out[st.Defines] = map[string][]*Node{}
		}
		out[st.Defines][name] = append(out[st.Defines][name], n)
	})
	return out
}

// Open are the names of objects that a configuration refers to and does not define.
func (s *Schema) Open(d *Document) map[string]bool {
	out, defined := map[string]bool{}, s.Defined(d)
	s.WalkWith(d.Root, func(n *Node, st *Statement) {
		s.References(n, st, func(kinds []string, name string, _ func(string)) {
			if !slices.ContainsFunc(kinds, func(kind string) bool { return len(defined[kind][name]) > 0 }) {
				out[name] = true
			}
		})
	})
	return out
}

// KeyOf is the name an object goes by that a statement defines: its key; for a statement without a key, its value; for
// one whose own name is the key, that name.
func (s *Schema) KeyOf(n *Node, st *Statement) string {
	name, key := s.label(n, st, &surroundings{block: n.Parent})
	switch {
	case key != "":
		return key
	case len(n.Words) > 0:
		return n.Words[0].Text
	}
	return name
}

// WalkWith calls f for a node and all nodes inside it, with what the schema says about each.
func (s *Schema) WalkWith(n *Node, f func(*Node, *Statement)) { walkWith(n, s.Describe(n), f) }

func walkWith(n *Node, st *Statement, f func(*Node, *Statement)) {
	f(n, st)
	for _, c := range n.Children {
		walkWith(c, st.of(c), f)
	}
}
