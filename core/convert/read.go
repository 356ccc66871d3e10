package convert

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"verimorph/core/config"
	"verimorph/core/near"
	"verimorph/core/version"
	"verimorph/core/yamldoc"
)

type fields = map[string]yamldoc.Read

// A reader reads a conversion file and holds it against the schemas it speaks of.
type reader struct {
	yamldoc.Reader
	schema   func(id string) *config.Schema
	scheme   func(family string) *version.Scheme
	from, to *config.Schema
	fs, ts   *version.Scheme
	at       map[any]*yaml.Node // where patterns and templates stand
}

// Read reads a conversion file. schema and scheme give what is known under a schema's id and a family's name, or nil.
func Read(file string, data []byte, schema func(id string) *config.Schema, scheme func(family string) *version.Scheme) (*Conversion, yamldoc.Findings) {
	root, broken := yamldoc.Parse(file, data, "begin with: format: "+Format)
	if broken != nil {
		return nil, yamldoc.Findings{*broken}
	}
	r := &reader{Reader: yamldoc.Reader{File: file, Scheme: version.Default}, schema: schema, scheme: scheme}
	c := r.conversion(root)
	r.Found.Sort()
	if len(r.Found.Errors()) > 0 {
		return nil, r.Found
	}
	return c, r.Found
}

func (r *reader) conversion(root *yaml.Node) *Conversion {
	c := &Conversion{File: r.File}
	format := ""
	var rules *yaml.Node
	r.Fields(root, "a conversion", []string{"format", "id", "from", "to", "rules"}, fields{
		"format": r.OneOf(&format, Format), "id": r.Text(&c.ID), "title": r.Text(&c.Title),
		"from":  func(n *yaml.Node) { r.from, r.fs = r.side(n, &c.From) },
		"to":    func(n *yaml.Node) { r.to, r.ts = r.side(n, &c.To) },
		"rules": func(n *yaml.Node) { rules = n },
	})
	if rules == nil || r.from == nil || r.to == nil {
		return c
	}
	ids := map[string]bool{}
	r.Items(rules, "rules", func(n *yaml.Node) {
		rule := r.rule(n)
		if rule.ID != "" && ids[rule.ID] {
			r.Fail(n, "give each rule an id of its own", "rule %q is there already", rule.ID)
		}
		ids[rule.ID] = true
		c.Rules = append(c.Rules, rule)
	})
	r.shadowed(c)
	return c
}

func (r *reader) side(n *yaml.Node, s *Side) (*config.Schema, *version.Scheme) {
	var found *config.Schema
	scheme := version.Default
	if n.Kind == yaml.MappingNode { // the schema says how releases are read
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "schema" {
				if found = r.schema(n.Content[i+1].Value); found == nil {
					r.Fail(n.Content[i+1], "name the id of a schema that is loaded", "schema %q is not known", n.Content[i+1].Value)
				} else if sch := r.scheme(found.Family); sch != nil {
					scheme = sch
				}
			}
		}
	}
	before := r.Scheme
	r.Scheme = scheme
	r.Fields(n, "this", []string{"schema"}, fields{"schema": r.Text(&s.Schema), "releases": r.Range(&s.Releases), "models": r.Texts(&s.Models)})
	r.Scheme = before
	return found, scheme
}

// kinds lists the rule kinds with what else each needs and may have.
var kinds = map[string]struct{ needs, may []string }{
	Keep:    {nil, nil},
	Rename:  {[]string{"to"}, nil},
	Move:    {[]string{"to"}, nil},
	Map:     {[]string{"values"}, []string{"to", "otherwise"}},
	Split:   {[]string{"into"}, nil},
	Merge:   {[]string{"to"}, []string{"missing"}},
	Compute: {[]string{"to"}, nil},
	Add:     {nil, []string{"for"}},
	Adopt:   {nil, nil},
	Decide:  {[]string{"question", "choices"}, nil},
	Drop:    {[]string{"because"}, nil},
	Person:  {[]string{"because"}, nil},
}

func (r *reader) rule(n *yaml.Node) *Rule {
	rule := &Rule{At: r.At(n)}
	var of, to *yaml.Node
	known := fields{
		"id": r.Text(&rule.ID), "text": r.Text(&rule.Text), "because": r.Text(&rule.Text), "question": r.Text(&rule.Ask),
		"to": func(n *yaml.Node) { to = n }, "otherwise": r.Text(&rule.Else),
		"into": func(n *yaml.Node) {
			r.Items(n, "into", func(n *yaml.Node) { rule.Into = append(rule.Into, r.template(n)) })
		},
		"values":  func(n *yaml.Node) { rule.Values = r.words(n) },
		"missing": func(n *yaml.Node) { rule.Missing = r.words(n) },
		"choices": func(n *yaml.Node) {
			r.Items(n, "choices", func(n *yaml.Node) { rule.Choices = append(rule.Choices, r.choice(n)) })
		},
		"for":  func(n *yaml.Node) { rule.Of = r.pattern(n, r.from) },
		"when": func(n *yaml.Node) { r.when(n, &rule.When) },
	}
	for kind := range kinds {
		known[kind] = func(n *yaml.Node) {
			if rule.Kind != "" {
				r.Fail(n, "write two rules", "a rule cannot both %s and %s", rule.Kind, kind)
			}
			rule.Kind, of = kind, n
		}
	}
	r.Fields(n, "a rule", []string{"id"}, known)
	if rule.Kind == "" {
		r.Fail(n, "begin it with one of keep, rename, move, map, split, merge, compute, add, adopt, decide, drop, person", "the rule does not say what to do")
		return rule
	}
	r.belongs(n, rule)
	switch rule.Kind {
	case Add:
		rule.To = r.template(of)
	case Merge:
		r.Items(of, "merge", func(n *yaml.Node) {
			if p := r.pattern(n, r.from); rule.Of == nil {
				rule.Of = p
			} else {
				rule.More = append(rule.More, p)
			}
		})
		if len(rule.More) == 0 {
			r.Fail(of, "name at least two statements", "merging takes several statements")
		}
	default:
		rule.Of = r.pattern(of, r.from)
	}
	if to != nil {
		rule.To = r.template(to)
	}
	r.checkNames(n, rule)
	r.checkTargets(n, rule)
	if rule.Kind == Map && rule.Of != nil {
		r.checkValues(yamldoc.Value(n, "values"), rule)
	}
	return rule
}

// checkValues checks that the values of a map are ones that the source, and the target, can have.
func (r *reader) checkValues(values *yaml.Node, rule *Rule) {
	last := rule.Of.segs[len(rule.Of.segs)-1]
	at := -1
	for i, w := range last {
		if w.any && !w.rest {
			at = i
		}
	}
	if at < 0 || values == nil || values.Kind != yaml.MappingNode {
		return
	}
	source := r.wordType(r.from, patternNames(rule.Of), at)
	names, place := patternNames(rule.Of), at
	if rule.To != nil {
		names, place = nil, -1
		for _, seg := range rule.To.segs {
			name := ""
			if len(seg[0]) == 1 && seg[0][0].kind == 0 {
				name = seg[0][0].text
			}
			names = append(names, name)
		}
		for i, pc := range rule.To.segs[len(rule.To.segs)-1] {
			if len(pc) == 1 && pc[0].kind == '{' && pc[0].text == last[at].text {
				place = i
			}
		}
		if place < 0 && at == len(last)-1 && len(rule.To.segs[len(rule.To.segs)-1]) == 1 {
			return // the word goes into a part of another one
		}
	}
	target := r.wordType(r.to, names, place)
	for i := 0; i+1 < len(values.Content); i += 2 {
		k, v := values.Content[i], values.Content[i+1]
		if message := cannot(r.from, source, k.Value); message != "" {
			r.Fail(k, "leave it out, or write a value of schema "+r.from.ID, "the source cannot say this: %s", message)
		}
		if message := cannot(r.to, target, v.Value); message != "" {
			r.Fail(v, "write a value of schema "+r.to.ID, "the target cannot say this: %s", message)
		}
	}
}

// cannot says why a type does not take a value, or "".
func cannot(s *config.Schema, t *config.Type, value string) string {
	if t == nil || len(t.RefersTo) > 0 {
		return ""
	}
	return s.Wrong(t, value)
}

// patternNames are the names of the statements that a pattern speaks of, "" for any.
func patternNames(p *pattern) (out []string) {
	for _, seg := range p.segs {
		name := seg[0].text
		if seg[0].any {
			name = ""
		}
		out = append(out, name)
	}
	return out
}

// wordType is the type of a word of a statement, from the first behind its name; nil when it is not known.
func (r *reader) wordType(s *config.Schema, names []string, at int) *config.Type {
	st := s.Top
	for _, name := range names {
		if st = st.Inside(name); st == nil {
			return nil
		}
	}
	if st.ByName || st.Name == "" { // its own name, or an item
		return nil
	}
	return s.TypeOf(st, at-1)
}

// belongs checks that a rule has what its kind needs and nothing else.
func (r *reader) belongs(n *yaml.Node, rule *Rule) {
	k := kinds[rule.Kind]
	has := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		has[n.Content[i].Value] = true
	}
	for _, field := range k.needs {
		if !has[field] {
			r.Fail(n, "add "+field+": ...", "%s lacks %q", rule.Kind, field)
		}
		delete(has, field)
	}
	for _, field := range append([]string{"id", "text", "when", rule.Kind}, k.may...) {
		delete(has, field)
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if key := n.Content[i]; has[key.Value] {
			r.Fail(key, "leave it out", "%s takes no %q", rule.Kind, key.Value)
		}
	}
}

func (r *reader) pattern(n *yaml.Node, s *config.Schema) *pattern {
	var text string
	r.Text(&text)(n)
	if text == "" {
		return nil
	}
	p, err := parsePattern(text)
	if err != nil {
		r.Fail(n, "", "%s", err)
		return nil
	}
	r.stands(p, n)
	if s != nil {
		st := s.Top
		for i, seg := range p.segs {
			if seg[0].any && (st == nil || st.Items == nil && st.Each == nil) {
				break // any name: nothing can be said
			}
			next := st.Inside(seg[0].text)
			if next == nil {
				r.Fail(n, "known there: "+strings.Join(insideNames(st), ", "), "schema %q has no %q in %q%s", s.ID, seg[0].text, pathOf(p, i), near.Hint(seg[0].text, insideNames(st)))
				return nil
			}
			st = next
		}
	}
	return p
}

func pathOf(p *pattern, upTo int) string {
	if upTo == 0 {
		return "the top"
	}
	var parts []string
	for _, seg := range p.segs[:upTo] {
		parts = append(parts, seg[0].text)
	}
	return strings.Join(parts, " / ")
}

func insideNames(st *config.Statement) (out []string) {
	if st == nil {
		return nil
	}
	for name := range st.Statements {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func (r *reader) template(n *yaml.Node) *template {
	var text string
	r.Text(&text)(n)
	if text == "" {
		return nil
	}
	t, err := parseTemplate(text)
	if err != nil {
		r.Fail(n, "", "%s", err)
		return nil
	}
	r.stands(t, n)
	return t
}

// stands notes where a pattern or template stands.
func (r *reader) stands(what any, n *yaml.Node) {
	if r.at == nil {
		r.at = map[any]*yaml.Node{}
	}
	r.at[what] = n
}

func (r *reader) words(n *yaml.Node) map[string]string {
	out := map[string]string{}
	r.Names(n, "this", func(k, v *yaml.Node) {
		if v.Kind != yaml.ScalarNode {
			r.Fail(v, "", "expected a single value")
		}
		out[k.Value] = v.Value
	})
	return out
}

func (r *reader) choice(n *yaml.Node) (c Choice) {
	r.Fields(n, "a choice", []string{"answer", "text"}, fields{"answer": r.Text(&c.Answer), "text": r.Text(&c.Text), "drop": r.Text(&c.Drop),
		"to": func(n *yaml.Node) { c.To = r.template(n) }})
	return c
}

func (r *reader) when(n *yaml.Node, w *When) {
	paths := func(into *[]*template) yamldoc.Read {
		return func(n *yaml.Node) {
			r.Items(n, "this", func(n *yaml.Node) {
				if t := r.template(n); t != nil {
					*into = append(*into, t)
				}
			})
		}
	}
	ranged := func(into *version.Range, s *version.Scheme) yamldoc.Read {
		return func(n *yaml.Node) {
			before := r.Scheme
			r.Scheme = s
			r.Range(into)(n)
			r.Scheme = before
		}
	}
	r.Fields(n, "when", nil, fields{"from-models": r.Texts(&w.FromModels), "to-models": r.Texts(&w.ToModels),
		"from-releases": ranged(&w.FromReleases, r.fs), "to-releases": ranged(&w.ToReleases, r.ts), "has": paths(&w.Has), "lacks": paths(&w.Lacks)})
}

// checkNames checks that every name a template uses is kept by a pattern.
func (r *reader) checkNames(n *yaml.Node, rule *Rule) {
	kept := []string{"value", "from-model", "to-model", "from-release", "to-release"}
	if rule.Of != nil {
		kept = append(kept, rule.Of.names()...)
	}
	for _, p := range rule.More {
		if p != nil {
			kept = append(kept, p.names()...)
		}
	}
	for _, t := range rule.templates() {
		for _, name := range t.names() {
			if !slices.Contains(kept, name) {
				r.Fail(r.at[t], "keep a word under that name with *"+name, "{%s} is used but not kept%s", name, near.Hint(name, kept))
			}
		}
	}
	for name := range rule.Missing {
		if !slices.Contains(kept, name) {
			r.Fail(yamldoc.Value(n, "missing"), "", "missing: speaks of {%s}, which is not kept", name)
		}
	}
}

func (rule *Rule) templates() (out []*template) {
	all := append([]*template{rule.To}, rule.Into...)
	for _, c := range rule.Choices {
		all = append(all, c.To)
	}
	all = append(append(all, rule.When.Has...), rule.When.Lacks...)
	for _, t := range all {
		if t != nil {
			out = append(out, t)
		}
	}
	return out
}

// checkTargets checks that the places statements go to exist in the target's schema.
func (r *reader) checkTargets(n *yaml.Node, rule *Rule) {
	targets := append([]*template{rule.To}, rule.Into...)
	for _, c := range rule.Choices {
		targets = append(targets, c.To)
	}
	for _, t := range targets {
		if t == nil {
			continue
		}
		st := r.to.Top
		for i, seg := range t.segs {
			if len(seg[0]) != 1 || seg[0][0].kind != 0 {
				if st = st.Inside(""); st == nil {
					break
				}
				continue
			}
			next := st.Inside(seg[0][0].text)
			if next == nil {
				r.Fail(r.at[t], "known there: "+strings.Join(insideNames(st), ", "), "schema %q has no %q for step %d of %q%s", r.to.ID, seg[0][0].text, i+1, t.text, near.Hint(seg[0][0].text, insideNames(st)))
				break
			}
			st = next
		}
	}
}

// shadowed notes rules that an earlier one, without conditions, always comes before.
func (r *reader) shadowed(c *Conversion) {
	seen := map[string]*Rule{}
	for _, rule := range c.Rules {
		if rule.Of == nil || rule.Kind == Add || rule.Kind == Adopt {
			continue
		}
		key := shape(rule.Of)
		if before := seen[key]; before != nil {
			r.Found = append(r.Found, yamldoc.Finding{Position: rule.At, Message: "rule " + rule.ID + " is never used: rule " + before.ID + " speaks of the same statements and comes before it", Hint: "leave one of them out, or give the first a condition"})
		} else if rule.When.always() {
			seen[key] = rule
		}
	}
}

func shape(p *pattern) string {
	var b strings.Builder
	for _, seg := range p.segs {
		for _, w := range seg {
			switch {
			case w.rest:
				b.WriteString("** ")
			case w.any:
				b.WriteString("* ")
			default:
				b.WriteString(w.text + " ")
			}
		}
		b.WriteString("/ ")
	}
	return b.String()
}

func (w When) always() bool {
	return len(w.FromModels)+len(w.ToModels)+len(w.Has)+len(w.Lacks) == 0 && w.FromReleases.IsZero() && w.ToReleases.IsZero()
}
