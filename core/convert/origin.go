package convert

import (
	"slices"
	"strings"

	"verimorph/core/config"
)

// Where the statements of a tree come from, and what is lost on the way.

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

// aroundIt is why a block is there that was made for what stands inside it.
const aroundIt = "the block around it"

// only is the single statement of the source that a statement comes from, or -1.
func (r *stageRun) only(n *config.Node) int {
	if o := r.before.of(n); o != nil && len(o.items) == 1 {
		return o.items[0]
	}
	return -1
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
