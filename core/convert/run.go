package convert

import (
	"fmt"
	"slices"
	"strings"

	"verimorph/core/config"
)

// origin is what a statement of a tree comes from.
type origin struct {
	items []int  // statements of the source, by their place in its list of items
	kind  string // FromSource, FromDefault, FromRule or FromHand
	rule  string
	text  string
	stays bool // it is written out though the target assumes the same
}

// origins tells where the statements of a tree come from. It numbers the statements it knows.
type origins struct {
	list []traceable
	room []origin // memory for the next ones
}

// A traceable is a statement with its origin; nil when it went away again.
type traceable struct {
	n *config.Node
	o *origin
}

func (s *origins) of(n *config.Node) *origin {
	if n.Ref == 0 {
		return nil
	}
	return s.list[n.Ref-1].o
}

func (s *origins) put(n *config.Node, o *origin) {
	if n.Ref == 0 {
		s.list = append(s.list, traceable{n, o})
		n.Ref = int32(len(s.list))
	}
	s.list[n.Ref-1].o = o
}

// add gives a statement an origin of which nothing is said yet.
func (s *origins) add(n *config.Node) *origin {
	if len(s.room) == 0 {
		s.room = make([]origin, 256)
	}
	o := &s.room[0]
	s.room = s.room[1:]
	s.put(n, o)
	return o
}

// loss is why a statement of the source is not in the target, or needs a look.
type loss struct {
	person bool
	rule   string
	reason string
	ask    string // what a person is asked about it
}

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

type indexKey struct {
	parent  *config.Node
	segment string
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

// A merging gathers the statements that become one.
type merging struct {
	rule  *Rule
	caps  captures
	nodes []*config.Node
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

// aroundIt is why a block is there that was made for what stands inside it.
const aroundIt = "the block around it"

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

func (r *stageRun) children(n *config.Node, st *config.Statement, around cover) {
	var key *config.Node // it went along with the entry
	if st != nil && st.KeyInside() && around.node != nil {
		key = n.Child(string(st.Key))
	}
	for _, k := range n.Children {
		if k == key {
			continue
		}
		r.visit(k, st.Inside(k.Name), around)
	}
	r.leave(n, st, around)
}

// keep carries a statement over into the counterpart of the block around it, which is made where there is none yet.
func (r *stageRun) keep(n *config.Node, st *config.Statement, segment []string, around cover, rule string) {
	r.keepAs(n, st, segment, segment, around, rule)
}

// keepAs is keep with another segment.
func (r *stageRun) keepAs(n *config.Node, st *config.Statement, segment, to []string, around cover, rule string) {
	parent, pst := around.node, around.st
	if parent == nil {
		parent, pst = r.context(n, rule)
	}
	node, tst := r.copy(parent, pst, n, st, segment, to, rule)
	r.children(n, st, cover{node: node, st: tst, rule: rule})
}

// context makes counterparts of the blocks around a statement whose own rule keeps it.
func (r *stageRun) context(n *config.Node, rule string) (*config.Node, *config.Statement) {
	parent, pst := r.out.Root, r.stage.T.Top
	var blocks []*config.Node
	for b := n.Parent; b.Parent != nil; b = b.Parent {
		blocks = append(blocks, b)
	}
	slices.Reverse(blocks)
	for i, b := range blocks {
		segment := r.path[i]
		if found := r.indexed(parent, pst, segment); found != nil {
			parent, pst = found, pst.Inside(segment[0])
		} else {
			parent, pst = r.copy(parent, pst, b, r.sts[i], segment, segment, rule)
		}
		// The block itself is claimed by what is kept inside it.
		delete(r.lost, r.only(b))
	}
	return parent, pst
}

// only is the single statement of the source that a statement comes from, or -1.
func (r *stageRun) only(n *config.Node) int {
	if o := r.before.of(n); o != nil && len(o.items) == 1 {
		return o.items[0]
	}
	return -1
}

// copy puts the counterpart of a statement, without what is inside it, into a block of the target under a segment that
// may differ from its own.
func (r *stageRun) copy(parent *config.Node, pst *config.Statement, n *config.Node, st *config.Statement, segment, to []string, rule string) (*config.Node, *config.Statement) {
	tst := pst.Inside(to[0])
	if found, ok := r.taken(parent, pst, n, to, rule); ok {
		return found, tst
	}
	if tst.IsBlock() && tst.Key != config.KeyPosition {
		if found := r.indexed(parent, pst, to); found != nil { // made before, for something inside it
			r.claim(found, tst, n, st, rule)
			r.annotate(found, n)
			return found, tst
		}
	}
	var node *config.Node
	if r.stage.S.Syntax == r.stage.T.Syntax && (st == nil || tst == nil || st.KeyInside() == tst.KeyInside()) {
		node = n.Head()
		if n.Name != "" && to[0] != n.Name {
			node.Rename(to[0])
		}
		words := to
		if n.Name != "" {
			words = to[1:]
		}
		if tst != nil && tst.KeyInside() {
			if key := n.Child(string(st.Key)); key != nil && len(words) > 0 {
				k := key.Head()
				r.stage.T.Rewrite(k, tst.Inside(string(tst.Key)), words[:1])
				if k.Name != string(tst.Key) {
					k.Rename(string(tst.Key))
				}
				node.Append(k)
				words = words[1:]
			}
		} else if n.Name == "" && len(n.Words) == 0 {
			words = nil
		}
		r.stage.T.Rewrite(node, tst, words)
		if n.IsRaw() && !r.stage.S.SameForms(r.stage.T) {
			node.SetWords(node.Words) // the target may write texts in another form
		}
	} else {
		node, tst = r.stage.T.Build(pst, to)
		r.annotate(node, n)
	}
	parent.Append(node)
	r.remember(parent, pst, node, to)
	r.claim(node, tst, n, st, rule)
	return node, tst
}

// bearers are the statements that carry what a node itself says: the node, or the statement inside that holds its key.
func bearer(n *config.Node, st *config.Statement) *config.Node {
	if len(n.Words) == 0 && st != nil && st.KeyInside() {
		if k := n.Child(string(st.Key)); k != nil {
			return k
		}
	}
	return n
}

// claim notes that a statement of the target comes from one of the source of this stage.
func (r *stageRun) claim(target *config.Node, tst *config.Statement, n *config.Node, st *config.Statement, rule string) {
	from := r.before.of(bearer(n, st))
	to := bearer(target, tst)
	o := r.after.of(to)
	if o == nil {
		o = r.after.add(to)
		o.kind, o.rule, o.text = FromRule, rule, aroundIt
	}
	if from == nil {
		return
	}
	for _, item := range from.items {
		if item < r.real {
			o.kind = FromSource
		} else if len(o.items) == 0 {
			o.kind = FromDefault
		}
		if o.items == nil && len(from.items) == 1 {
			o.items = from.items[:1:1]
		} else if !slices.Contains(o.items, item) {
			o.items = append(o.items, item)
		}
	}
	if len(from.items) == 0 && len(o.items) == 0 {
		o.kind = from.kind
	}
	o.rule = join(from.rule, rule)
	if o.kind != FromSource || from.kind == FromSource {
		o.text = from.text
	}
}

func join(a, b string) string {
	switch {
	case a == "" || a == b || strings.HasSuffix(a, ", "+b):
		if a == "" {
			return b
		}
		return a
	case b == "":
		return a
	}
	return a + ", " + b
}

// lose notes what happened to the statements of the source that a statement comes from, unless they live on elsewhere.
func (r *stageRun) lose(n *config.Node, l loss) {
	o := r.before.of(n)
	if o == nil {
		return
	}
	for _, item := range o.items {
		if had, ok := r.lost[item]; !ok || !had.person {
			r.lost[item] = l
		}
	}
}

// loseAll is lose for a statement and all inside it, whatever other rules say of that: what a person decides about a whole
// is not undone by a rule for a part.
func (r *stageRun) loseAll(n *config.Node, st *config.Statement, l loss) {
	r.lose(n, l)
	r.loseUnsaid(n, st, l)
	for _, k := range n.Children {
		r.sts = append(r.sts, st.Inside(k.Name))
		r.loseAll(k, st.Inside(k.Name), l)
		r.sts = r.sts[:len(r.sts)-1]
	}
}

// remember makes a block findable by the segment it was made for.
func (r *stageRun) remember(parent *config.Node, pst *config.Statement, node *config.Node, segment []string) {
	key := indexKey{parent, r.key(pst.Inside(segment[0]), segment)}
	if r.index[key] == nil {
		r.index[key] = node
	}
}

func (r *stageRun) indexed(parent *config.Node, pst *config.Statement, segment []string) *config.Node {
	return r.index[indexKey{parent, r.key(pst.Inside(segment[0]), segment)}]
}

func (r *stageRun) key(st *config.Statement, segment []string) string {
	if st != nil && (st.Key == config.KeyOnce || st.Key == "") {
		return segment[0]
	}
	if st != nil && (st.Key == config.KeyWord || st.KeyInside()) && len(segment) > 2 && segment[0] == st.Name {
		return strings.Join(segment[:2], "\x00")
	}
	return strings.Join(segment, "\x00")
}

// place carries a statement to where a template says. Words the pattern did not speak of go along.
func (r *stageRun) place(n *config.Node, st *config.Statement, segment []string, used int, rule *Rule, t *template, c captures) {
	to, err := t.fillFor(c, len(segment)-min(used, len(segment)))
	if err != nil {
		if r.stage.S.IsSecret(n) {
			err = fmt.Errorf("what rule %s says cannot be done with this value", rule.ID)
		}
		r.lose(n, loss{true, rule.ID, err.Error(), AskSettle})
		r.children(n, st, cover{lost: &loss{true, rule.ID, err.Error(), AskSettle}})
		return
	}
	last := len(to) - 1
	if used < len(segment) && !t.value {
		to[last] = append(to[last], segment[used:]...)
	}
	parent, pst := r.within(to[:last], rule.ID)
	node, tst := r.copy(parent, pst, n, st, segment, to[last], rule.ID)
	if st != nil && st.Defines != "" && tst != nil {
		old, new := r.stage.S.KeyOf(n, st), r.stage.T.KeyOf(node, tst)
		if old != new {
			if r.renames[tst.Defines] == nil {
				r.renames[tst.Defines] = map[string]string{}
			}
			r.renames[tst.Defines][old] = new
			r.by[tst.Defines+"\x00"+new] = rule
		}
	}
	r.children(n, st, cover{node: node, st: tst, rule: rule.ID})
}

// within returns the block of the target under a path, made where it is missing.
func (r *stageRun) within(path [][]string, rule string) (*config.Node, *config.Statement) {
	parent, pst := r.out.Root, r.stage.T.Top
	for _, segment := range path {
		found := r.indexed(parent, pst, segment)
		tst := pst.Inside(segment[0])
		if found == nil {
			found, tst = r.stage.T.Build(pst, segment)
			parent.Append(found)
			r.remember(parent, pst, found, segment)
			if b := bearer(found, tst); len(b.Words) > 0 || tst != nil && tst.ByName {
				r.after.put(b, &origin{kind: FromRule, rule: rule, text: aroundIt})
			}
		}
		parent, pst = found, tst
	}
	return parent, pst
}

// create makes a statement of the target from a template; n, unless nil, is what it comes from.
func (r *stageRun) create(rule *Rule, t *template, c captures, n *config.Node, kind *origin) *config.Node {
	to, err := t.fill(c)
	if err != nil {
		if n != nil && r.stage.S.IsSecret(n) {
			err = fmt.Errorf("it cannot be done with the value of %s", r.stage.S.Path(n))
		}
		r.errs = append(r.errs, fmt.Errorf("rule %s: %w", rule.ID, err))
		return nil
	}
	last := len(to) - 1
	parent, pst := r.within(to[:last], rule.ID)
	tst := pst.Inside(to[last][0])
	if n != nil {
		if found, ok := r.taken(parent, pst, n, to[last], rule.ID); ok {
			return found
		}
	}
	node := r.indexed(parent, pst, to[last])
	if node == nil || !tst.IsBlock() {
		node, tst = r.stage.T.Build(pst, to[last])
		parent.Append(node)
		r.remember(parent, pst, node, to[last])
	}
	if n != nil {
		r.annotate(node, n)
	}
	switch {
	case n != nil:
		r.claim(node, tst, n, nil, rule.ID)
	case r.after.of(bearer(node, tst)) == nil:
		r.after.put(bearer(node, tst), kind)
	}
	return node
}

// mapped carries a statement over with another value for the last word its pattern kept.
func (r *stageRun) mapped(n *config.Node, st *config.Statement, segment []string, used int, around cover, rule *Rule, c captures) {
	at := -1
	for i, w := range rule.Of.segs[len(rule.Of.segs)-1] {
		if w.any && !w.rest {
			at = i
		}
	}
	if at < 0 || at >= len(segment) {
		r.lose(n, loss{true, rule.ID, "the rule keeps no word to map", AskSettle})
		return
	}
	old := segment[at]
	new, known := rule.Values[old]
	if !known {
		switch rule.Else {
		case "keep":
			new = old
		case "", "person":
			if r.stage.S.IsSecret(n) {
				old = config.Mask
			}
			l := loss{true, rule.ID, fmt.Sprintf("%q has no counterpart", old), AskSettle}
			r.lose(n, l)
			r.children(n, st, cover{lost: &l})
			return
		default:
			new = rule.Else
		}
	}
	name := rule.Of.segs[len(rule.Of.segs)-1][at].text
	for i := range c {
		if c[i].name == name {
			c[i].words = []string{new}
		}
	}
	if rule.To == nil { // in the counterpart of its block, wherever that went
		to := slices.Clone(segment)
		to[at] = new
		r.keepAs(n, st, segment, to, around, rule.ID)
		return
	}
	r.place(n, st, segment, used, rule, rule.To, c)
}

// gather keeps a statement for a rule that merges it with others: those whose common words are the same.
func (r *stageRun) gather(n *config.Node, rule *Rule, c captures) {
	shared := rule.Of.names()
	for _, p := range rule.More {
		names := p.names()
		shared = slices.DeleteFunc(shared, func(name string) bool { return !slices.Contains(names, name) })
	}
	key := rule.ID
	for _, name := range shared {
		words, _ := c.get(name)
		key += "\x00" + strings.Join(words, " ")
	}
	m := r.merges[key]
	if m == nil {
		m = &merging{rule: rule}
		r.merges[key] = m
		r.order = append(r.order, key)
	}
	m.nodes = append(m.nodes, n)
	for _, k := range c {
		if k.name != "value" {
			m.caps = append(m.caps, k)
		}
	}
}

// merge makes one statement of several.
func (r *stageRun) merge(m *merging) {
	for name, text := range m.rule.Missing {
		if _, ok := m.caps.get(name); !ok {
			m.caps = append(m.caps, capture{name, []string{text}})
		}
	}
	for _, name := range m.rule.To.names() {
		if _, ok := m.caps.get(name); !ok {
			l := loss{true, m.rule.ID, "what belongs to {" + name + "} is missing, so it cannot be merged", AskSettle}
			if !slices.ContainsFunc(m.nodes, func(n *config.Node) bool { return !r.assumed[n] }) {
				l.person, l.reason = false, "what belongs to {"+name+"} is not there, so there is nothing that it could be for"
			}
			for _, n := range m.nodes {
				r.lose(n, l)
			}
			return
		}
	}
	if len(m.nodes) > 1+len(m.rule.More) {
		for _, n := range m.nodes {
			r.lose(n, loss{true, m.rule.ID, "there are more statements to merge than the rule speaks of", AskSettle})
		}
		return
	}
	for _, n := range m.nodes {
		st := r.stage.S.Describe(n)
		for _, k := range n.Children {
			r.sts = r.chain(k)
			r.loseAll(k, st.Inside(k.Name), loss{true, m.rule.ID, "it stands inside a statement that was merged", AskSettle})
		}
	}
	node := r.create(m.rule, m.rule.To, m.caps, m.nodes[0], nil)
	if node == nil {
		for _, n := range m.nodes {
			r.lose(n, loss{true, m.rule.ID, "it could not be merged", AskSettle})
		}
		return
	}
	for _, n := range m.nodes[1:] {
		r.claim(node, r.stage.T.Describe(node), n, nil, m.rule.ID)
		r.annotate(node, n)
	}
}

// add puts a statement into the target that the source does not have, unless it is there already.
func (r *stageRun) add(rule *Rule, c captures) error {
	if !r.holds(rule.When, c) {
		return nil
	}
	to, err := rule.To.fill(c)
	if err != nil {
		return fmt.Errorf("rule %s: %w", rule.ID, err)
	}
	parent, pst := r.out.Root, r.stage.T.Top
	for i, segment := range to {
		found := r.indexed(parent, pst, segment)
		if i == len(to)-1 {
			if found == nil {
				r.create(rule, rule.To, c, nil, &origin{kind: FromRule, rule: rule.ID, text: rule.Text})
			}
			return nil
		}
		if found == nil {
			if rule.Of != nil { // what it was for did not come over
				return nil
			}
			break
		}
		parent, pst = found, pst.Inside(segment[0])
	}
	r.create(rule, rule.To, c, nil, &origin{kind: FromRule, rule: rule.ID, text: rule.Text})
	return nil
}

// follow lets references follow what was renamed.
func (r *stageRun) follow() {
	if len(r.renames) == 0 {
		return
	}
	t := r.stage.T
	t.WalkWith(r.out.Root, func(n *config.Node, st *config.Statement) {
		t.References(n, st, func(kinds []string, name string, set func(string)) {
			for _, kind := range kinds {
				if to, ok := r.renames[kind][name]; ok {
					set(to)
					if o := r.after.of(n); o != nil {
						o.rule = join(o.rule, r.by[kind+"\x00"+to].ID)
					}
					return
				}
			}
		})
	})
}

// decide asks a person, or does what was answered.
func (r *stageRun) decide(n *config.Node, st *config.Statement, segment []string, used int, around cover, rule *Rule, c captures) {
	path := r.stage.S.Path(n)
	q := Question{Rule: rule.ID, Path: path, Text: rule.Ask, Line: n.Line}
	for _, choice := range rule.Choices {
		q.Choices = append(q.Choices, Answer{choice.Answer, choice.Text})
	}
	answer, ok := r.answers[rule.ID+" @ "+path]
	if !ok {
		answer, ok = r.answers[rule.ID]
	}
	if i := slices.IndexFunc(rule.Choices, func(x Choice) bool { return x.Answer == answer }); ok && i >= 0 {
		q.Answer = answer
		r.asked = append(r.asked, q)
		choice := rule.Choices[i]
		switch {
		case choice.Drop != "":
			r.loseAll(n, st, loss{false, rule.ID, choice.Drop, AskSettle})
		case choice.To != nil:
			r.place(n, st, segment, used, rule, choice.To, c)
		default:
			r.keep(n, st, segment, around, rule.ID)
		}
		return
	}
	r.asked = append(r.asked, q)
	r.loseAll(n, st, loss{true, rule.ID, rule.Ask, AskAnswer})
}
