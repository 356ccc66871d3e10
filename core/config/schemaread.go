package config

import (
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"verimorph/core/near"
	"verimorph/core/version"
	"verimorph/core/yamldoc"
)

// ReadSchema reads a schema file. scheme tells how the versions of a family are read; it may return nil for a family
// that is not known. base returns a schema that was read before, by its id, for extends:.
func ReadSchema(file string, data []byte, scheme func(family string) *version.Scheme, base func(id string) *Schema) (*Schema, yamldoc.Findings) {
	root, broken := yamldoc.Parse(file, data, "begin with: format: "+SchemaFormat)
	if broken != nil {
		return nil, yamldoc.Findings{*broken}
	}
	r := &schemaReader{Reader: yamldoc.Reader{File: file, Scheme: version.Default}, s: &Schema{File: file, Types: map[string]*Type{}, Ports: map[string][]Port{}}}
	r.read(root, scheme, base)
	r.Found.Sort()
	if len(r.Found.Errors()) > 0 {
		return nil, r.Found
	}
	return r.s, r.Found
}

type schemaReader struct {
	yamldoc.Reader
	s        *Schema
	types    []*yaml.Node          // words that name types, to be checked at the end
	refers   map[string]*yaml.Node // what types refer to, by kind
	keys     []described           // keys that name a statement inside, and
	defaults []described           // defaults, to be checked at the end
}

// described is a value of the file that describes a statement.
type described struct {
	n  *yaml.Node
	st *Statement
}

type fields = map[string]yamldoc.Read

func (r *schemaReader) read(root *yaml.Node, scheme func(string) *version.Scheme, base func(string) *Schema) {
	s := r.s
	format, syntax, extends := "", "", ""
	ignore := func(*yaml.Node) {}
	if root.Kind == yaml.MappingNode {
		// The family says how the versions in the rest of the file are read.
		for i := 0; i+1 < len(root.Content); i += 2 {
			switch root.Content[i].Value {
			case "family":
				s.Family = root.Content[i+1].Value
				if sch := scheme(s.Family); sch != nil {
					r.Scheme = sch
				} else {
					r.Fail(root.Content[i+1], "load the catalogue file of that family first, or mend the name", "family %q is not known", s.Family)
				}
			case "extends":
				extends = root.Content[i+1].Value
				b := base(extends)
				if b == nil {
					r.Fail(root.Content[i+1], "a schema can extend one that was read before it", "schema %q is not known", extends)
					continue
				}
				s.Types, s.Ports, s.Services, s.Syntax, s.Release, s.TextBlocks = maps.Clone(b.Types), maps.Clone(b.Ports), b.Services, b.Syntax, b.Release, b.TextBlocks
				s.OwnKey = b.OwnKey
				s.Top = b.Top.clone()
				syntax = string(b.Syntax)
			}
		}
	}
	if s.Top == nil {
		s.Top = &Statement{Key: KeyOnce}
	}
	required := []string{"format", "id", "family", "releases", "syntax", "statements"}
	if extends != "" {
		required = []string{"format", "id", "family", "releases"}
	}
	r.Fields(root, "a schema", required, fields{
		"format": r.OneOf(&format, SchemaFormat), "id": r.Text(&s.ID), "family": r.Text(&s.Family), "title": r.Text(&s.Title),
		"releases": r.Range(&s.Releases), "models": r.Texts(&s.Models), "syntax": r.OneOf(&syntax, Syntaxes...), "extends": ignore,
		"release-statement": r.Text(&s.Release), "own-key": r.regexp(&s.OwnKey),
		"types": func(n *yaml.Node) {
			r.Names(n, "types", func(k, v *yaml.Node) { r.readType(k.Value, v) })
		},
		"ports": func(n *yaml.Node) {
			r.Names(n, "ports", func(k, v *yaml.Node) { r.ports(k.Value, v) })
		},
		"services": func(n *yaml.Node) {
			s.Services = &Services{}
			r.Fields(n, "services", []string{"entries"}, fields{"entries": r.Texts(&s.Services.Entries), "address": r.Text(&s.Services.Address),
				"policy": r.Text(&s.Services.Policy), "naming": r.pattern(&s.Services.Naming)})
		},
		"text-blocks": func(n *yaml.Node) {
			s.TextBlocks = nil
			r.Items(n, "text-blocks", func(n *yaml.Node) { r.textBlock(n) })
		},
		"without": func(n *yaml.Node) {
			r.Items(n, "without", func(n *yaml.Node) { r.without(n) })
		},
		"ordered":    r.Bool(&s.Top.Ordered),
		"statements": func(n *yaml.Node) { r.statements(n, s.Top) },
	})
	s.Syntax = Syntax(syntax)
	s.Top.finish("", "", "", "")
	for _, n := range r.types {
		name := strings.TrimRight(n.Value, ".?")
		if s.Type(name) == nil {
			r.Fail(n, "known: "+strings.Join(slices.Sorted(maps.Keys(s.Types)), ", ")+" and the built-in "+strings.Join(slices.Sorted(maps.Keys(builtIn)), ", "), "type %q is not known", name)
		}
	}
	r.kinds(root)
	r.checkKeys()
	r.checkDefaults()
}

// checkKeys checks that a key which is the name of a statement names one inside.
func (r *schemaReader) checkKeys() {
	for _, k := range r.keys {
		if k.st.KeyInside() && k.st.Statements[string(k.st.Key)] == nil && k.st.Each == nil && k.st.Items == nil {
			inside := slices.Sorted(maps.Keys(k.st.Statements))
			hint := "write once, word, words or position"
			if len(inside) > 0 {
				hint += ", or the name of a statement inside: " + strings.Join(inside, ", ")
			}
			r.Fail(k.n, hint, "the key %q is neither a way to tell entries apart nor a statement inside%s", k.n.Value, near.Hint(k.n.Value, append(inside, "once", "word", "words", "position")))
		}
	}
}

// checkDefaults holds defaults against the types of their statements.
func (r *schemaReader) checkDefaults() {
	for _, d := range r.defaults {
		words := d.st.DefaultWords()
		for i, w := range words {
			t := r.s.TypeOf(d.st, i)
			if t == nil {
				if len(d.st.Words) > 0 && r.typesKnown(d.st) {
					r.Fail(d.n, "leave out what is too much", "the default has %d words, but the statement takes %d", len(words), len(d.st.Words))
				}
				break
			}
			if len(t.RefersTo) > 0 {
				continue // whether it is defined, a configuration tells
			}
			if message := r.s.wrong(t, w, nil); message != "" {
				r.Fail(d.n, "write a default that the statement itself may have", "the default does not fit the type of its own statement: %s", message)
				break
			}
		}
	}
}

// typesKnown reports whether all types of a statement are known; what is not is told elsewhere.
func (r *schemaReader) typesKnown(st *Statement) bool {
	return !slices.ContainsFunc(st.Words, func(name string) bool { return r.s.Type(name) == nil })
}

// textBlock reads a form of raw texts.
func (r *schemaReader) textBlock(n *yaml.Node) {
	begin := ""
	var b TextBlock
	r.Fields(n, "a form of texts", []string{"begin", "end"}, fields{"begin": r.pattern(&begin), "end": r.Text(&b.End), "delimiter": r.Text(&b.Delimiter)})
	re, err := regexp.Compile(`\A(?:` + begin + `)`)
	if err != nil || b.End == "" {
		return // told already
	}
	if strings.Contains(b.End, "{1}") && re.NumSubexp() == 0 {
		r.Fail(n, `put what begins the text in ( ), as in banner \S+ (\S)`, "end speaks of {1}, but begin has no group")
	}
	b.Begin = re
	r.s.TextBlocks = append(r.s.TextBlocks, b)
}

// kinds checks that what types refer to is defined somewhere.
func (r *schemaReader) kinds(root *yaml.Node) {
	defined := map[string]bool{}
	r.s.Top.Walk(func(st *Statement) { defined[st.Defines] = true })
	for _, name := range slices.Sorted(maps.Keys(r.s.Types)) {
		for _, kind := range r.s.Types[name].RefersTo {
			at := r.refers[name+"\x00"+kind]
			if at == nil { // the schema that this one extends says so
				at = root
			}
			if !defined[kind] {
				r.Fail(at, "give the statement whose key is the name: defines: "+kind, "type %q refers to %q, which no statement defines", name, kind)
			}
		}
	}
}

// Walk calls f for a statement and all that stand inside it, by name.
func (st *Statement) Walk(f func(*Statement)) {
	f(st)
	for _, name := range slices.Sorted(maps.Keys(st.Statements)) {
		st.Statements[name].Walk(f)
	}
	if st.Each != nil {
		st.Each.Walk(f)
	}
	if st.Items != nil {
		st.Items.Walk(f)
	}
}

func (st *Statement) clone() *Statement {
	c := *st
	c.Statements = map[string]*Statement{}
	for name, s := range st.Statements {
		c.Statements[name] = s.clone()
	}
	if c.Each != nil {
		c.Each = c.Each.clone()
	}
	if c.Items != nil {
		c.Items = c.Items.clone()
	}
	return &c
}

// finish fills in paths and what is inherited.
func (st *Statement) finish(path, section, service, guarded string) {
	if st.Section == "" {
		st.Section = section
	}
	if st.Service == "" {
		st.Service = service
	}
	if st.Guarded == "" {
		st.Guarded = guarded
	}
	if st.Key == "" {
		st.Key = KeyOnce
	}
	st.Path = path
	join := func(name string) string { return strings.TrimPrefix(path+" / "+name, " / ") }
	for name, c := range st.Statements {
		c.finish(join(name), st.Section, st.Service, st.Guarded)
	}
	if st.Each != nil {
		st.Each.ByName = true
		st.Each.finish(join("*"), st.Section, st.Service, st.Guarded)
	}
	if st.Items != nil {
		st.Items.finish(join("*"), st.Section, st.Service, st.Guarded)
	}
	st.imply()
}

func (r *schemaReader) without(n *yaml.Node) {
	steps := strings.Split(n.Value, " / ")
	st := r.s.Top
	for _, step := range steps[:len(steps)-1] {
		if st = st.step(step); st == nil {
			break
		}
	}
	last := steps[len(steps)-1]
	if st == nil || st.step(last) == nil {
		r.Fail(n, "name a statement of the schema that this one extends", "there is no %q to leave out", n.Value)
		return
	}
	delete(st.Statements, last)
}

// step is the description of the statements of a name inside st; "*" stands for those whose name is a key.
func (st *Statement) step(name string) *Statement {
	if c := st.Statements[name]; c != nil {
		return c
	}
	if st.Items != nil {
		return st.Items
	}
	return st.Each
}

func (r *schemaReader) statements(n *yaml.Node, into *Statement) {
	if into.Statements == nil {
		into.Statements = map[string]*Statement{}
	}
	r.Names(n, "statements", func(k, v *yaml.Node) {
		st := into.Statements[k.Value]
		if st == nil {
			st = &Statement{Name: k.Value}
			into.Statements[k.Value] = st
		}
		r.statement(v, st)
	})
}

func (r *schemaReader) statement(n *yaml.Node, st *Statement) {
	if n.Kind == yaml.ScalarNode { // name: type
		r.typeName(n)
		st.Words = []string{n.Value}
		return
	}
	key := ""
	r.Fields(n, "a statement", nil, fields{
		"text": r.Text(&st.Text), "section": r.Text(&st.Section), "service": r.Text(&st.Service), "key": r.Text(&key), "ordered": r.Bool(&st.Ordered), "repeated": r.OneOf(&st.Repeated, "first", "last", "all"),
		"type": func(n *yaml.Node) {
			r.typeName(n)
			st.Words = []string{n.Value}
		},
		"words": func(n *yaml.Node) {
			st.Words = nil
			r.Items(n, "words", func(n *yaml.Node) {
				if k := len(st.Words); k > 0 && strings.HasSuffix(st.Words[k-1], "...") {
					r.Fail(n, "put it last", "nothing can stand behind any number of words")
				}
				r.typeName(n)
				st.Words = append(st.Words, n.Value)
			})
		},
		"default": func(n *yaml.Node) {
			if n.Kind != yaml.ScalarNode {
				r.Fail(n, "", "expected a single value")
			}
			st.Default, st.HasDefault = n.Value, true
			r.defaults = append(r.defaults, described{n, st})
		},
		"secret": r.Bool(&st.Secret), "required": r.Bool(&st.Required), "presence": r.Bool(&st.Presence), "guarded": r.Text(&st.Guarded), "defines": r.Text(&st.Defines),
		"max": r.Count(&st.Max, 1, 1_000_000), "releases": r.Range(&st.Releases), "models": r.Texts(&st.Models),
		"statements": func(n *yaml.Node) { r.statements(n, st) },
		"each": func(n *yaml.Node) {
			if st.Each == nil {
				st.Each = &Statement{}
			}
			r.statement(n, st.Each)
		},
		"items": func(n *yaml.Node) {
			if st.Items == nil {
				st.Items = &Statement{}
			}
			r.statement(n, st.Items)
		},
	})
	if key != "" {
		st.Key = Key(key)
		r.keys = append(r.keys, described{yamldoc.Value(n, "key"), st})
	}
}

func (r *schemaReader) typeName(n *yaml.Node) {
	if n.Kind != yaml.ScalarNode || strings.TrimRight(n.Value, ".?") == "" {
		r.Fail(n, "", "expected the name of a type")
		return
	}
	r.types = append(r.types, n)
}

func (r *schemaReader) pattern(into *string) yamldoc.Read {
	return func(n *yaml.Node) {
		r.Text(into)(n)
		if _, err := yamldoc.Regexp(*into); err != nil {
			r.Fail(n, "", "%s", err)
		}
	}
}

func (r *schemaReader) regexp(into **regexp.Regexp) yamldoc.Read {
	return func(n *yaml.Node) {
		text := ""
		r.pattern(&text)(n)
		*into, _ = yamldoc.Regexp(text)
	}
}

func (r *schemaReader) readType(name string, n *yaml.Node) {
	t := &Type{Name: name}
	r.s.Types[name] = t
	r.Fields(n, "a type", nil, fields{
		"one-of": r.Texts(&t.OneOf), "match": r.pattern(&t.Match), "refers-to": r.Texts(&t.RefersTo), "ignore-case": r.Bool(&t.IgnoreCase), "unordered": r.Bool(&t.Unordered), "or": r.Texts(&t.Or), "unit": r.Text(&t.Unit),
		"units": func(n *yaml.Node) {
			t.Units = map[string]float64{}
			r.Names(n, "units", func(k, v *yaml.Node) {
				f := 0.0
				if v.Decode(&f) != nil || f <= 0 || math.IsInf(f, 0) {
					r.Fail(v, "write what one "+k.Value+" is in the unit that the type counts in", "expected a number above 0")
				}
				t.Units[k.Value] = f
			})
		},
		"list-of": func(n *yaml.Node) {
			r.typeName(n)
			t.ListOf = n.Value
		},
		"range": func(n *yaml.Node) {
			var v []float64
			if err := n.Decode(&v); err != nil || len(v) != 2 || v[0] > v[1] {
				r.Fail(n, "write [low, high]", "expected two numbers")
				return
			}
			t.Low, t.Top, t.Ranged = v[0], v[1], true
		},
	})
	for _, kind := range t.RefersTo {
		if r.refers == nil {
			r.refers = map[string]*yaml.Node{}
		}
		r.refers[name+"\x00"+kind] = yamldoc.Item(yamldoc.Value(n, "refers-to"), kind)
	}
	if err := t.compile(); err != nil && yamldoc.Value(n, "match") == nil { // what is wrong with match is told already
		r.Fail(n, "", "%s", err)
	}
}

// ports reads the ports of a model: a list of ports, or of texts such as "p1..p4 1000 inside".
func (r *schemaReader) ports(model string, n *yaml.Node) {
	var list []Port
	r.Items(n, "the ports of a model", func(n *yaml.Node) {
		var names, role string
		speed := 0
		r.Fields(n, "ports", []string{"name", "speed"}, fields{"name": r.Text(&names), "speed": r.Count(&speed, 1, 10_000_000), "role": r.Text(&role)})
		for _, name := range spread(names) {
			list = append(list, Port{name, speed, role})
		}
	})
	r.s.Ports[model] = list
}

var spreading = regexp.MustCompile(`^(.*?)(\d+)\.\.(\d+)$`)

// spread turns p1..4 into p1, p2, p3, p4.
func spread(names string) []string {
	m := spreading.FindStringSubmatch(names)
	if m == nil {
		return []string{names}
	}
	var from, to int
	_, _ = fmt.Sscan(m[2], &from)
	_, _ = fmt.Sscan(m[3], &to)
	var out []string
	for i := from; i <= to && len(out) < 1000; i++ {
		out = append(out, m[1]+strconv.Itoa(i))
	}
	return out
}
