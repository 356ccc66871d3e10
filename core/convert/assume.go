package convert

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"verimorph/core/config"
)

// What a configuration leaves out. Where the source says nothing, the device assumes a default; what the target assumes there may be
// something else. So each default that is in use goes through the same rules as a written value. At the end, what came of it is taken out
// again where the target assumes just that; everything else is written out, or a person is asked.

// An omission is a statement that a block of the source leaves out, with a default.
type omission struct {
	block *config.Node
	st    *config.Statement
}

// An unsaid block is one of which it is still open what became of the defaults in it.
type unsaid struct {
	n      *config.Node
	st     *config.Statement
	path   [][]string
	sts    []*config.Statement
	around cover
}

// leave notes that a block is to be looked at for what it leaves out, once everything that is written has its place.
func (r *stageRun) leave(n *config.Node, st *config.Statement, around cover) {
	if len(st.Implied()) == 0 || n.Parent == nil && r.fragment {
		return
	}
	if r.unsaid == nil {
		r.unsaid = make([]unsaid, 0, len(r.in.Root.Children)+64)
		r.paths, r.chains = make([][]string, 0, 2*cap(r.unsaid)), make([]*config.Statement, 0, 2*cap(r.unsaid))
	}
	from := len(r.paths)
	r.paths, r.chains = append(r.paths, r.path...), append(r.chains, r.sts...)
	r.unsaid = append(r.unsaid, unsaid{n, st, r.paths[from:len(r.paths):len(r.paths)], r.chains[from:len(r.chains):len(r.chains)], around})
}

// assumeByRule carries over what is left out and of which rules speak.
func (r *stageRun) assumeByRule() {
	for i := 0; i < len(r.unsaid); i++ { // a block that is not written adds what it leaves out itself
		u := r.unsaid[i]
		r.assume(u, func(was *config.Statement) bool { return r.spoken(was, len(u.path)+1) })
	}
}

// assumeRest carries over the rest, once everything else has its place. What is left out of a block that is dropped, or needs a person, goes
// with it. What comes to its place may be where the target was to assume the same, so this is looked at until nothing changes.
func (r *stageRun) assumeRest() {
	done := map[omissionKey]bool{}
	for before := -1; before < len(done); {
		before = len(done)
		for i := 0; i < len(r.unsaid); i++ {
			u := r.unsaid[i]
			if u.around.node == nil && r.isLost(u) {
				continue
			}
			r.assume(u, func(was *config.Statement) bool {
				key := omissionKey{u.n, was.Name}
				if len(done) > 0 && done[key] || r.spoken(was, len(u.path)+1) || u.around.lost == nil && r.alike(u, was) {
					return false
				}
				done[key] = true
				return true
			})
		}
	}
}

// assume carries over those statements that a block leaves out which are wanted.
func (r *stageRun) assume(u unsaid, wanted func(*config.Statement) bool) {
	for _, was := range u.st.Implied() {
		if !was.Exists(r.stage.From.Model, r.stage.From.Version) || u.n.Child(was.Name) != nil || !wanted(was) {
			continue
		}
		r.path, r.sts = u.path, u.sts
		k := r.unwritten(u, was)
		if rule := r.adopted(append(slices.Clone(u.path), []string{was.Name})); rule != nil {
			r.lose(k, loss{false, rule.ID, cmp.Or(rule.Text, "the new default is right"), AskSettle})
			continue
		}
		r.visit(k, was, u.around)
	}
}

// loseUnsaid is lose for what a block leaves out.
func (r *stageRun) loseUnsaid(n *config.Node, st *config.Statement, l loss) {
	u := unsaid{n: n, st: st, sts: r.sts}
	if len(st.Implied()) == 0 || len(r.itemsAround(u)) > 0 {
		return
	}
	for _, was := range st.Implied() {
		if was.Exists(r.stage.From.Model, r.stage.From.Version) && n.Child(was.Name) == nil {
			k := r.unwritten(u, was)
			r.lose(k, l)
			r.sts = append(r.sts, was)
			r.loseUnsaid(k, was, l)
			r.sts = r.sts[:len(r.sts)-1]
		}
	}
}

// chain is what the schema says of a statement and the blocks around it.
func (r *stageRun) chain(n *config.Node) (out []*config.Statement) {
	for ; n.Parent != nil; n = n.Parent {
		out = append(out, r.stage.S.Describe(n))
	}
	slices.Reverse(out)
	return out
}

// spoken reports whether some rule may speak of a statement of the source, or of one inside it.
func (r *stageRun) spoken(st *config.Statement, depth int) bool {
	for _, rule := range r.rules[ruleKey{depth, st.Name}] {
		if rule.Kind != Add {
			return true
		}
	}
	return slices.ContainsFunc(st.Implied(), func(k *config.Statement) bool { return r.spoken(k, depth+1) })
}

// itemsAround are the items that a block, and those around it, are.
func (r *stageRun) itemsAround(u unsaid) (out []int) {
	n := u.n
	for i := len(u.sts) - 1; i >= 0; i, n = i-1, n.Parent {
		if o := r.before.of(bearer(n, u.sts[i])); o != nil {
			out = append(out, o.items...)
		}
	}
	return out
}

// isLost reports whether a block, or one around it, does not come over.
func (r *stageRun) isLost(u unsaid) bool {
	return slices.ContainsFunc(r.itemsAround(u), func(i int) bool { _, lost := r.lost[i]; return lost })
}

func (r *stageRun) adopted(path [][]string) *Rule {
	for _, rule := range r.adopts {
		if _, _, ok := rule.Of.match(path, nil); ok {
			return rule
		}
	}
	return nil
}

// alike reports whether the target assumes the same where it says nothing, and says nothing. What follows a plain case is left to the next
// stage.
func (r *stageRun) alike(u unsaid, was *config.Statement) bool {
	node, tst := u.around.node, u.around.st
	if node == nil {
		node, tst = r.out.Root, r.stage.T.Top
		for i, seg := range u.path {
			if u.sts[i] != nil && (len(seg) > 1 || u.sts[i].ByName) {
				return false // no rule says what becomes of the entry
			}
			if node != nil {
				node = r.indexed(node, tst, seg)
			}
			tst = tst.Inside(seg[0])
		}
	}
	if node != nil && len(r.itemsAround(u)) == 0 && !samePlace(u.path, node) {
		return false // nothing in the ledger leads from one block to the other
	}
	if tst == nil || !r.assumesAlike(was, tst.Inside(was.Name), node) {
		return false
	}
	if r.last && r.stage.From.Model == r.stage.To.Model {
		return true // nothing follows that needs to know
	}
	o, ok := r.omission(u.n, was)
	if node == nil || !ok {
		return !ok
	}
	r.passed[omissionKey{node, was.Name}] = o
	return true
}

// samePlace reports whether a block of the target stands in blocks of the same names as one of the source.
func samePlace(path [][]string, n *config.Node) bool {
	i := len(path) - 1
	for ; i >= 0 && n.Parent != nil && n.Name == path[i][0]; i-- {
		n = n.Parent
	}
	return i < 0 && n.Parent == nil
}

type omissionKey struct {
	block *config.Node
	name  string
}

// assumesAlike compares what two schemas assume of a statement, or of all in a block, where block is what stands in the target.
func (r *stageRun) assumesAlike(was, is *config.Statement, block *config.Node) bool {
	if is == nil || is.Name == "" || !is.Exists(r.stage.To.Model, r.stage.To.Version) {
		return false
	}
	if block != nil {
		block = r.index[indexKey{block, is.Name}]
	}
	if was.HasDefault {
		return block == nil && is.HasDefault && is.Default == was.Default
	}
	if is.Presence || !is.IsBlock() {
		return false
	}
	for _, k := range was.Implied() {
		if k.Exists(r.stage.From.Model, r.stage.From.Version) && !r.assumesAlike(k, is.Inside(k.Name), block) {
			return false
		}
	}
	return true
}

// omission says which omission of the source a statement is that a block of this stage's tree leaves out; false when it is one that the
// source does not know.
func (r *stageRun) omission(n *config.Node, was *config.Statement) (omission, bool) {
	if r.passedBefore == nil { // this stage's tree is the source
		return omission{n, was}, true
	}
	if o, ok := r.passedBefore[omissionKey{n, was.Name}]; ok {
		return o, true
	}
	if o, ok := r.blocks[n]; ok {
		if k := o.st.Statements[was.Name]; k != nil && slices.Contains(o.st.Implied(), k) {
			return omission{o.block, k}, true
		}
	}
	return omission{}, false
}

// unwritten makes the statement that a block leaves out. It hangs below the block without being one of its children.
func (r *stageRun) unwritten(u unsaid, was *config.Statement) *config.Node {
	k := build(r.stage.S, u.n, u.st, was)
	r.assumed[k] = true
	o, known := r.omission(u.n, was)
	if !was.HasDefault {
		if known {
			block := k
			if r.passedBefore != nil {
				block = build(r.source, o.block, r.source.Describe(o.block), o.st)
			}
			r.blocks[k] = omission{block, o.st}
		}
		return k
	}
	at := &origin{kind: FromDefault, text: fmt.Sprintf("%s assumes %q where it says nothing", r.stage.From, r.hide(k, was.Default))}
	if known {
		at.items = []int{r.omit(o)}
	}
	r.before.put(k, at)
	return k
}

// hide is a value of a statement as it may be shown.
func (r *stageRun) hide(n *config.Node, value string) string {
	if r.stage.S.IsSecret(n) {
		return config.Mask
	}
	return value
}

// build makes a statement with its default, as if it stood in a block.
func build(s *config.Schema, block *config.Node, within, st *config.Statement) *config.Node {
	segment := []string{st.Name}
	if st.HasDefault {
		segment = append(segment, st.DefaultWords()...)
	}
	k, _ := s.Build(within, segment)
	k.Parent, k.Line, k.Column = block, block.Line, block.Column
	return k
}

// taken is what stands already where something that the source only assumes is to go. It settles the matter: both say the same, or a
// person has to look.
func (r *stageRun) taken(parent *config.Node, pst *config.Statement, n *config.Node, to []string, rule string) (*config.Node, bool) {
	tst := pst.Inside(to[0])
	if !r.assumed[n] || tst.IsBlock() {
		return nil, false
	}
	found := r.indexed(parent, pst, to)
	if found == nil {
		return nil, false
	}
	o := r.after.of(bearer(found, tst))
	switch {
	case slices.Equal(r.stage.T.Segment(found, tst), to):
		added := o != nil && o.kind == FromRule && o.text != aroundIt
		r.claim(found, tst, n, nil, rule)
		if added {
			o.stays = true // the rule wants the line
		}
	case o != nil && o.kind == FromRule && o.text != aroundIt:
		r.lose(n, loss{false, o.rule, "a rule writes it: " + cmp.Or(o.text, r.stage.T.Masked(found, true)), AskSettle})
	default:
		r.lose(n, loss{true, rule, fmt.Sprintf("the result says there: %s", r.stage.T.Masked(found, true)), AskSettle})
	}
	return found, true
}

// elide takes out of the result what comes only of defaults where the target assumes just that. What it says of each goes to same.
func (c *conversion) elide(r *stageRun) {
	gone := map[*config.Node]bool{}
	for _, x := range r.after.list {
		if x.o == nil || x.o.kind != FromDefault || x.o.stays || x.n.Parent == nil || len(x.n.Children) > 0 {
			continue
		}
		st := c.t.Describe(x.n)
		if st == nil || !st.HasDefault || strings.Join(words(x.n), " ") != st.Default || !st.Exists(c.job.To.Model, c.job.To.Version) {
			continue
		}
		for _, item := range x.o.items {
			c.same[item] = &SameDefault{c.t.Path(x.n), c.t.Masked(x.n, true), x.o.rule}
		}
		gone[x.n] = true
	}
	if len(gone) == 0 {
		return
	}
	for n := range gone {
		r.after.put(n, nil)
	}
	r.removeAll(gone)
}

// removeAll takes statements out of the target, and the blocks that were made only for them.
func (r *stageRun) removeAll(gone map[*config.Node]bool) {
	around := map[*config.Node]bool{}
	for n := range gone {
		around[n.Parent] = true
	}
	config.RemoveAll(gone)
	for n := range around {
		for n.Parent != nil && len(n.Children) == 0 {
			if o := r.after.of(n); o == nil && len(n.Words) > 0 || o != nil && (o.text != aroundIt || len(o.items) > 0) {
				break
			}
			up := n.Parent
			r.after.put(n, nil)
			n.Remove()
			n = up
		}
	}
}

func words(n *config.Node) (out []string) {
	for _, w := range n.Words {
		out = append(out, w.Text)
	}
	return out
}
