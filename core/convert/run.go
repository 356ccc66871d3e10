package convert

import (
	"fmt"
	"slices"

	"verimorph/core/config"
)

// A stageRun carries one stage out.
type stageRun struct {
	stage   Stage
	answers map[string]string
	in, out *config.Document
	before  *origins     // of the statements of in
	after   *origins     // of the statements of out
	lost    map[int]loss // statements of the source
	rules   map[ruleKey][]*Rule
	adopts  []*Rule
	path    [][]string
	sts     []*config.Statement
	caps    captures
	index   map[indexKey]*config.Node // of out: blocks by their segment
	fixed   captures                  // words every template may use
	merges  map[string]*merging
	order   []string
	added   []func() error
	renames map[string]map[string]string // kind of object, old name, new name
	by      map[string]*Rule             // what renamed it: kind, NUL, new name
	errs    []error
	asked   []Question
	content map[string]bool // answers to conditions on content

	source       *config.Schema            // of the source of the whole conversion
	real         int                       // how many statements are written in the source; the others of its items are assumed
	omit         func(o omission) int      // makes an omission an item of the source
	fragment     bool                      // what stands at the top of a whole configuration is elsewhere
	last         bool                      // it is the last stage
	unsaid       []unsaid                  // blocks that may leave something out
	paths        [][]string                // theirs, one behind the other
	chains       []*config.Statement       // and what the schema says of each step
	quiet        bool                      // in has no comments
	annotated    map[*config.Node]bool     // statements of in whose comments have a place
	assumed      map[*config.Node]bool     // statements of in that are not written
	blocks       map[*config.Node]omission // blocks of in that are not written: which of the source they are
	passedBefore map[omissionKey]omission  // what blocks of in leave out that the source leaves out, too; nil: in is the source
	passed       map[omissionKey]omission  // and what blocks of out do
}

type ruleKey struct {
	depth int
	name  string
}

// cover is what holds for statements of which no rule speaks: they follow the block around them.
type cover struct {
	node *config.Node // the block's counterpart in the target; nil: there is none
	st   *config.Statement
	lost *loss // the block is lost, with all inside it
	rule string
}

func (r *stageRun) run() {
	s, t := r.stage.S, r.stage.T
	if s.Syntax == t.Syntax {
		r.out = t.Derive(r.in)
	} else {
		r.out = t.Empty(r.in.Name)
		if t.Syntax == config.JSON {
			r.out.Root.Form = config.Block
		}
	}
	r.after = &origins{list: make([]traceable, 0, len(r.before.list)+64)}
	r.index = make(map[indexKey]*config.Node, len(r.before.list))
	r.fixed = r.stage.known()
	r.annotated = map[*config.Node]bool{}
	r.quiet = !r.in.HasComments()
	r.assumed, r.blocks, r.passed = map[*config.Node]bool{}, map[*config.Node]omission{}, map[omissionKey]omission{}
	r.merges, r.renames, r.by, r.content = map[string]*merging{}, map[string]map[string]string{}, map[string]*Rule{}, map[string]bool{}
	r.prepare()
	whole := r.stage.Conversion == nil && !r.stage.Guessed
	top := cover{}
	if whole {
		top = cover{node: r.out.Root, st: t.Top}
	}
	for _, n := range r.in.Root.Children {
		r.visit(n, s.Top.Inside(n.Name), top)
	}
	r.leave(r.in.Root, s.Top, top)
	r.assumeByRule()
	for _, key := range r.order {
		r.merge(r.merges[key])
	}
	for _, f := range r.added {
		if err := f(); err != nil {
			r.errs = append(r.errs, err)
		}
	}
	r.assumeRest()
	if s.Syntax != t.Syntax {
		r.out.Annotate(r.out.Root, r.in.Comments(r.in.Root))
	}
	r.sweep(r.out.Root)
	r.follow()
}

// sweep takes blocks out of which everything went elsewhere; they say nothing themselves.
func (r *stageRun) sweep(n *config.Node) {
	for _, k := range slices.Clone(n.Children) {
		r.sweep(k)
		if len(k.Words) > 0 || len(k.Children) > 0 {
			continue
		}
		if o := r.after.of(k); o == nil || len(o.items) == 0 && o.text == aroundIt {
			r.after.put(k, nil)
			k.Remove()
		}
	}
}

// prepare sorts the rules by the depth and name of the statements they speak of.
func (r *stageRun) prepare() {
	r.rules = map[ruleKey][]*Rule{}
	if r.stage.Conversion == nil {
		return
	}
	names := map[string]bool{}
	r.in.Root.Walk(func(n *config.Node) { names[n.Name] = true })
	r.stage.S.Top.Walk(func(st *config.Statement) {
		for _, k := range st.Implied() {
			names[k.Name] = true
		}
	})
	put := func(rule *Rule, p *pattern) {
		if p == nil {
			return
		}
		last := p.segs[len(p.segs)-1][0]
		for name := range names {
			if last.any || last.text == name || name == "" {
				k := ruleKey{len(p.segs), name}
				r.rules[k] = append(r.rules[k], rule)
			}
		}
	}
	for _, rule := range r.stage.Conversion.Rules {
		switch {
		case !r.applies(rule.When):
		case rule.Kind == Add && rule.Of == nil:
			r.added = append(r.added, func() error { return r.add(rule, r.fixed) })
		case rule.Kind == Add:
			put(rule, rule.Of)
		case rule.Kind == Adopt:
			r.adopts = append(r.adopts, rule)
		default:
			put(rule, rule.Of)
			for _, p := range rule.More {
				put(rule, p)
			}
		}
	}
}

// applies looks at the conditions that hold for a whole stage.
func (r *stageRun) applies(w When) bool {
	in := func(list []string, model string) bool { return len(list) == 0 || slices.Contains(list, model) }
	return in(w.FromModels, r.stage.From.Model) && in(w.ToModels, r.stage.To.Model) &&
		w.FromReleases.Contains(r.stage.From.Version) && w.ToReleases.Contains(r.stage.To.Version)
}

// holds looks at the conditions on the content of the source.
func (r *stageRun) holds(w When, c captures) bool {
	has := func(t *template) bool {
		path, err := t.fill(c)
		if err != nil {
			return false
		}
		key := fmt.Sprintf("%q", path)
		answer, known := r.content[key]
		if !known {
			answer = r.present(r.in.Root, r.stage.S.Top, path)
			r.content[key] = answer
		}
		return answer
	}
	if len(w.Has) > 0 && !slices.ContainsFunc(w.Has, has) {
		return false
	}
	return !slices.ContainsFunc(w.Lacks, has)
}

// present reports whether some statement of the source begins with each step of a path; "*" stands for any word.
func (r *stageRun) present(n *config.Node, st *config.Statement, path [][]string) bool {
	for _, k := range n.Children {
		ks := st.Inside(k.Name)
		if k.Name != "" && k.Name != path[0][0] && path[0][0] != "*" {
			continue
		}
		words := r.stage.S.Segment(k, ks)
		fits := len(path[0]) <= len(words)
		for i := 0; fits && i < len(path[0]); i++ {
			fits = path[0][i] == "*" || path[0][i] == words[i]
		}
		if fits && (len(path) == 1 || r.present(k, ks, path[1:])) {
			return true
		}
	}
	return false
}

// known are the words every template may use.
func (s Stage) known() captures {
	return captures{{"from-model", []string{s.From.Model}}, {"to-model", []string{s.To.Model}}, {"from-release", []string{s.From.Version.String()}}, {"to-release", []string{s.To.Version.String()}}}
}

// find returns the first of some rules that speaks of the statement at the end of r.path.
func (r *stageRun) find(rules []*Rule) (*Rule, captures, int) {
	for _, rule := range rules {
		if rule.Kind == Add {
			continue
		}
		if c, used, ok := rule.Of.match(r.path, r.caps[:0]); ok && r.holds(rule.When, c) {
			return rule, c, used
		}
		for _, p := range rule.More {
			if c, used, ok := p.match(r.path, r.caps[:0]); ok && r.holds(rule.When, c) {
				return rule, c, used
			}
		}
	}
	return nil, nil, 0
}

// visit decides what becomes of a statement and of all inside it.
func (r *stageRun) visit(n *config.Node, st *config.Statement, around cover) {
	segment := r.stage.S.Segment(n, st)
	r.path = append(r.path, segment)
	r.sts = append(r.sts, st)
	defer func() {
		r.path = r.path[:len(r.path)-1]
		r.sts = r.sts[:len(r.sts)-1]
	}()
	rules := r.rules[ruleKey{len(r.path), n.Name}]
	for _, rule := range rules {
		if rule.Kind != Add || r.assumed[n] {
			continue
		}
		if c, _, ok := rule.Of.match(r.path, nil); ok && r.holds(rule.When, c) {
			r.added = append(r.added, func() error { return r.add(rule, append(slices.Clone(c), r.fixed...)) })
		}
	}
	rule, c, used := r.find(rules)
	if rule == nil {
		r.follows(n, st, segment, around)
		return
	}
	c = append(append(c, r.fixed...), capture{"value", segment[min(used, len(segment)):]})
	r.caps = c[:0] // its memory serves the next statement; what is kept longer is copied
	switch rule.Kind {
	case Keep:
		r.keep(n, st, segment, around, rule.ID)
	case Rename, Move, Compute:
		r.place(n, st, segment, used, rule, rule.To, c)
	case Map:
		r.mapped(n, st, segment, used, around, rule, c)
	case Split:
		var targets []*config.Node
		for _, t := range rule.Into {
			if at := r.create(rule, t, c, n, nil); at != nil {
				targets = append(targets, at)
			}
		}
		r.children(n, st, cover{lost: &loss{true, rule.ID, "it stands inside a statement that was split", AskSettle}})
		if len(targets) == 0 {
			r.lose(n, loss{true, rule.ID, "it could not be split", AskSettle})
		}
	case Merge:
		r.gather(n, rule, c)
	case Decide:
		r.decide(n, st, segment, used, around, rule, c)
	case Drop, Person:
		l := loss{rule.Kind == Person, rule.ID, rule.Text, AskSettle}
		r.lose(n, l)
		r.children(n, st, cover{lost: &l, rule: rule.ID})
	}
}

// follows treats a statement no rule speaks of as the block around it is treated.
func (r *stageRun) follows(n *config.Node, st *config.Statement, segment []string, around cover) {
	switch {
	case around.lost != nil:
		r.lose(n, *around.lost)
		r.children(n, st, around)
	case around.node != nil:
		r.keep(n, st, segment, around, around.rule)
	case r.stage.Guessed && r.certain(n, st):
		r.keep(n, st, segment, around, "")
	default:
		reason := "no rule says what becomes of it"
		if r.stage.Guessed {
			reason = "no conversion is known, and the two releases do not describe it alike"
		}
		if len(n.Words) > 0 || len(n.Children) == 0 {
			r.lose(n, loss{true, "", reason, AskSettle})
		}
		r.children(n, st, cover{})
	}
}

// certain reports whether both schemas describe a statement alike, with all blocks around it.
func (r *stageRun) certain(n *config.Node, st *config.Statement) bool {
	t := r.stage.T.Top
	for i, seg := range r.path {
		s := r.sts[i]
		if s == nil {
			return false
		}
		name := seg[0]
		if t = t.Inside(name); t == nil || t.Key != s.Key || !slices.EqualFunc(t.Words, s.Words, func(a, b string) bool { return r.sameType(a, b) }) {
			return false
		}
	}
	return true
}

// sameType reports whether two types, one of each schema, allow the same.
func (r *stageRun) sameType(t, s string) bool {
	a, b := r.stage.T.Type(t), r.stage.S.Type(s)
	return t == s && a.Expects() == b.Expects() && a.Match == b.Match
}
