package config

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"

	"verimorph/core/version"
)

// A Finding is something in a configuration that its schema does not allow.
type Finding struct {
	Line    int    `json:"line"` // from 1
	Column  int    `json:"column"`
	Path    string `json:"path"`
	Message string `json:"message"`
	Doubt   bool   `json:"doubt"` // the device takes it, but it may not be what was meant

	Node    *Node `json:"-"`
	Missing bool  `json:"-"` // it is about what is not there
}

func (f Finding) String() string {
	return fmt.Sprintf("%d:%d: %s: %s", f.Line, f.Column, f.Path, f.Message)
}

// Check holds a configuration against the schema, for a model and release; an empty model or zero version leaves out
// what depends on it. It looks at names, counts, types, references, duplicates and what is required.
func (s *Schema) Check(d *Document, model string, v version.Version) []Finding {
	return s.CheckPart(d, model, v, nil)
}

// CheckPart is Check of a part of a configuration: objects with some names are elsewhere.
func (s *Schema) CheckPart(d *Document, model string, v version.Version, elsewhere map[string]bool) []Finding {
	if s.Top == nil {
		return nil
	}
	c := &checker{s: s, model: model, v: v}
	defined := s.Defined(d)
	c.exists = func(kind, name string) bool { return len(defined[kind][name]) > 0 || elsewhere[name] }
	c.block(d.Root, s.Top)
	return c.found
}

type checker struct {
	s      *Schema
	model  string
	v      version.Version
	exists func(kind, name string) bool
	found  []Finding
}

func (c *checker) add(n *Node, doubt bool, format string, args ...any) {
	c.found = append(c.found, Finding{n.Line, n.Column, c.s.Path(n), fmt.Sprintf(format, args...), doubt, n, false})
}

func (c *checker) block(n *Node, st *Statement) {
	count := map[*Statement]int{}
	seen := map[string]*Node{}
	inside := c.inside(n, st)
	for i, child := range n.Children {
		cs := st.of(child)
		if cs == nil || !cs.Exists(c.model, c.v) {
			c.unknown(child, st, cs)
			continue
		}
		if cs.Max > 0 || cs.Required {
			count[cs]++
		}
		if cs.Max > 0 && count[cs] > cs.Max {
			c.add(child, false, "more than %d of them; the device takes %d", cs.Max, cs.Max)
		}
		if cs.Key != KeyPosition && len(n.Children) > 1 {
			name, key := c.s.label(child, cs, nil)
			id := name + "\x00" + key
			if first := seen[id]; first != nil && cs.Repeated == "" {
				c.add(child, false, "it stands here already, on line %d", first.Line)
			} else {
				seen[id] = child
			}
		}
		if inside != nil {
			c.found = append(c.found, inside[i]...)
			continue
		}
		c.statement(child, cs)
	}
	for _, name := range requiredNames(st) {
		if cs := st.Statements[name]; cs.Required && count[cs] == 0 && cs.Exists(c.model, c.v) {
			c.add(n, false, "%q is missing", name)
			c.found[len(c.found)-1].Missing = true
		}
	}
}

// statement looks at a statement that its schema knows, and at what stands inside it.
func (c *checker) statement(n *Node, st *Statement) {
	c.words(n, st)
	if len(n.Children) > 0 || len(st.Statements) > 0 {
		c.block(n, st)
	}
}

// inside is what is found in the statements of a block that has very many of them, by their place in it: all processors take part. It is nil
// for other blocks.
func (c *checker) inside(n *Node, st *Statement) [][]Finding {
	if len(n.Children) < 1000 {
		return nil
	}
	found := make([][]Finding, len(n.Children))
	workers := runtime.GOMAXPROCS(0)
	var all sync.WaitGroup
	for w := range workers {
		own := *c
		all.Go(func() {
			for i := len(found) * w / workers; i < len(found)*(w+1)/workers; i++ {
				child := n.Children[i]
				if cs := st.of(child); cs != nil && cs.Exists(c.model, c.v) {
					own.found = nil
					own.statement(child, cs)
					found[i] = own.found
				}
			}
		})
	}
	all.Wait()
	return found
}

func requiredNames(st *Statement) []string {
	var names []string
	for name, cs := range st.Statements {
		if cs.Required {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

func (c *checker) unknown(n *Node, st, cs *Statement) {
	what := n.Name
	if what == "" {
		what = "an item"
	}
	switch {
	case cs != nil && !slices.Contains(cs.Models, c.model) && len(cs.Models) > 0:
		c.add(n, false, "%s has no %s", c.model, what)
	case cs != nil:
		c.add(n, false, "release %s has no %s", c.v, what)
	default:
		var known []string
		for name := range st.Statements {
			known = append(known, name)
		}
		slices.Sort(known)
		expected := "nothing here"
		if len(known) > 0 {
			expected = "one of " + strings.Join(known, ", ")
		}
		c.add(n, false, "%s is not known here; expected %s", what, expected)
	}
}

func (c *checker) words(n *Node, st *Statement) {
	if len(st.Words) == 0 {
		if len(n.Words) > 0 && (st.Key == KeyOnce || st.Key == "") && (len(st.Statements) > 0 || st.Each != nil || st.Items != nil) {
			c.add(n, false, "no value is expected here")
		}
		return
	}
	least := 0
	for _, w := range st.Words {
		if !strings.HasSuffix(w, "?") && !strings.HasSuffix(w, "...") {
			least++
		}
	}
	if len(n.Words) < least {
		c.add(n, false, "%d of its values are missing; expected %s", least-len(n.Words), c.s.Type(st.Words[len(n.Words)]).Expects())
		return
	}
	for i, w := range n.Words {
		t := c.s.TypeOf(st, i)
		if t == nil {
			c.add(n, false, "one value too many; expected %d", len(st.Words))
			return
		}
		if message := c.s.wrong(t, w.Text, c.exists); message != "" {
			if _, secret := c.s.secret(n, st); secret {
				message = "the value does not fit; expected " + t.Expects()
			}
			column := n.Column
			if w.Column > 0 {
				column = int(w.Column)
			}
			c.found = append(c.found, Finding{n.Line, column, c.s.Path(n), message, false, n, false})
		}
	}
	if st.Defines == "port" {
		c.port(n, st)
	}
	if c.s.Release != "" && st.Path == c.s.Release && !c.v.IsZero() && n.Value() != c.v.String() {
		c.add(n, false, "the file says that it is for %s; %s refuses it", n.Value(), c.v)
	}
}

func (c *checker) port(n *Node, st *Statement) {
	ports, known := c.s.Ports[c.model]
	name := c.s.KeyOf(n, st)
	if known && !slices.ContainsFunc(ports, func(p Port) bool { return p.Name == name }) {
		var names []string
		for _, p := range ports {
			names = append(names, p.Name)
		}
		c.add(n, false, "%s has no port %s; it has %s", c.model, name, strings.Join(names, ", "))
	}
}

// Wrong says why a type does not take a word, or "". Whether an object of that name is defined is not looked at.
func (s *Schema) Wrong(t *Type, word string) string { return s.wrong(t, word, nil) }

// wrong says what is wrong with a word of a type, or "". exists tells which objects are defined; nil: that is not looked at.
func (s *Schema) wrong(t *Type, word string, exists func(kind, name string) bool) string {
	if len(t.RefersTo) > 0 {
		if slices.Contains(t.Or, word) {
			return ""
		}
		for _, kind := range t.RefersTo {
			if exists == nil || exists(kind, word) {
				return ""
			}
		}
		return fmt.Sprintf("there is no %s %q", strings.Join(t.RefersTo, " or "), word)
	}
	if t.ListOf != "" {
		inner := s.Type(t.ListOf)
		for _, item := range strings.Split(word, ",") {
			if item = strings.TrimSpace(item); item == "" {
				continue
			}
			if _, _, ok := inner.span(item); ok && inner.numeric() && strings.Contains(item[1:], "-") {
				low, high, _ := strings.Cut(item, "-")
				if s.wrong(inner, strings.TrimSpace(low), exists) == "" && s.wrong(inner, strings.TrimSpace(high), exists) == "" {
					continue
				}
			}
			if message := s.wrong(inner, item, exists); message != "" {
				return message
			}
		}
		return ""
	}
	if t.matches != nil && !t.matches(word) {
		return fmt.Sprintf("%q does not fit; expected %s", word, t.Expects())
	}
	return ""
}
