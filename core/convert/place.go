package convert

import (
	"fmt"
	"slices"
	"strings"

	"verimorph/core/config"
)

// How a statement comes to its place in the target.

type indexKey struct {
	parent  *config.Node
	segment string
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
