package convert

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"verimorph/core/config"
	"verimorph/core/near"
)

// Ways to group services.
const (
	ByAddress = "address" // those that share an address
	ByPolicy  = "policy"  // those that share a policy
	ByNaming  = "naming"  // those whose names begin alike, as the schema says
)

// A ServiceGroup is services of a gateway that belong together.
type ServiceGroup struct {
	Name     string         `json:"name"` // what they share
	Services []ServiceEntry `json:"services"`
}

// A ServiceEntry is one service of a gateway.
type ServiceEntry struct {
	Name    string `json:"name"`
	Path    string `json:"path"`
	Line    int    `json:"line"`
	Address string `json:"address"`
	Policy  string `json:"policy"`

	node *config.Node
}

// AllServices lists the services of a configuration in the order of the file. Error: a schema that knows no services.
func AllServices(s *config.Schema, d *config.Document) ([]ServiceEntry, error) {
	if s.Services == nil {
		return nil, fmt.Errorf("schema %s does not say where services are; give it services with entries", cmp.Or(s.ID, "of this family"))
	}
	return entries(s, d), nil
}

// FindServices lists the services of a configuration, grouped by address, policy or naming, or by the value of any statement that a service has, such as its
// protocol. Errors: a schema that knows no services, a statement that no service has.
func FindServices(s *config.Schema, d *config.Document, by string) ([]ServiceGroup, error) {
	all, err := AllServices(s, d)
	if err != nil {
		return nil, err
	}
	naming, err := regexp.Compile(s.Services.Naming)
	if err != nil {
		return nil, err
	}
	var out []ServiceGroup
	known := by == ByAddress || by == ByPolicy || by == ByNaming || len(all) == 0
	for _, e := range all {
		name := ""
		switch by {
		case ByAddress:
			name = cmp.Or(e.Address, "(no address)")
		case ByPolicy:
			name = cmp.Or(e.Policy, "(no policy)")
		case ByNaming:
			name = e.Name
			if m := naming.FindStringSubmatch(e.Name); len(m) > 1 && m[1] != "" {
				name = m[1]
			}
		default:
			name = "(no " + by + ")"
			if c := e.node.Child(by); c != nil && len(c.Children) == 0 && !s.IsSecret(c) {
				name, known = c.Value(), true
			}
		}
		i := slices.IndexFunc(out, func(g ServiceGroup) bool { return g.Name == name })
		if i < 0 {
			i = len(out)
			out = append(out, ServiceGroup{Name: name})
		}
		out[i].Services = append(out[i].Services, e)
	}
	if !known {
		return nil, fmt.Errorf("services are grouped by address, policy, naming, or a statement that one of them has; none has %q", by)
	}
	return out, nil
}

// Says reports whether a service says a text somewhere: in its name, or in a statement that is no secret. Upper and lower case are the same.
func (e *ServiceEntry) Says(s *config.Schema, text string) bool {
	text = strings.ToLower(text)
	found := strings.Contains(strings.ToLower(e.Name), text)
	e.node.Walk(func(n *config.Node) {
		if !found && !s.IsSecret(n) {
			for _, w := range n.Words {
				found = found || strings.Contains(strings.ToLower(w.Text), text)
			}
		}
	})
	return found
}

// entries lists the services in the order of the file.
func entries(s *config.Schema, d *config.Document) (out []ServiceEntry) {
	var patterns []*pattern
	for _, text := range s.Services.Entries {
		if p, err := parsePattern(text); err == nil {
			patterns = append(patterns, p)
		}
	}
	var path [][]string
	var walk func(n *config.Node, st *config.Statement)
	walk = func(n *config.Node, st *config.Statement) {
		for _, k := range n.Children {
			ks := st.Inside(k.Name)
			path = append(path, s.Segment(k, ks))
			for _, p := range patterns {
				if _, _, ok := p.match(path, nil); ok {
					e := ServiceEntry{Name: s.KeyOf(k, ks), Path: s.Path(k), Line: k.Line, node: k}
					if c := k.Child(s.Services.Address); c != nil {
						e.Address = c.Value()
					}
					if c := k.Child(s.Services.Policy); c != nil {
						e.Policy = c.Value()
					}
					out = append(out, e)
					break
				}
			}
			walk(k, ks)
			path = path[:len(path)-1]
		}
	}
	walk(d.Root, s.Top)
	return out
}

// A Need is an object that carved services need, directly or through others.
type Need struct {
	Kind   string   `json:"kind"`
	Name   string   `json:"name"`
	Path   string   `json:"path"`
	Line   int      `json:"line"`
	Shared bool     `json:"shared"` // something that stays behind needs it too
	UsedBy []string `json:"usedBy"` // paths of what stays behind and needs it
}

// A Carved is services cut out of a configuration with all they need.
type Carved struct {
	Services []ServiceEntry `json:"services"`
	Needs    []Need         `json:"needs"`
	Missing  []string       `json:"missing"` // references to objects that the configuration does not have
	Text     string         `json:"-"`       // the services and what they need
	Rest     string         `json:"-"`       // what stays behind: shared objects stay, too
}

// A Carving says which services are cut out, and how they are to arrive at their new home.
type Carving struct {
	Services []string          `json:"services"`         // their names
	Rename   map[string]string `json:"rename,omitempty"` // of services and objects: old to new; references follow. "KIND NAME" is that of one kind only
	// Use: objects that the new home has its own of, by their name here (or "KIND NAME"), with the name there. They are not carved out, and references follow.
	Use map[string]string `json:"use,omitempty"`
}

// NewName is what a service is called at the new home.
func (c *Carving) NewName(s *config.Schema, e *ServiceEntry) string {
	kind := ""
	if st := s.Describe(e.node); st != nil {
		kind = st.Defines
	}
	new, _ := ofKind(c.Rename, kind, e.Name)
	return cmp.Or(new, e.Name)
}

// ofKind is what a table says of an object of a kind.
func ofKind(table map[string]string, kind, name string) (to string, ok bool) {
	if to, ok = table[kind+" "+name]; !ok {
		to, ok = table[name]
	}
	return to, ok
}

// CarveOut cuts services out, each thing they need once, with what that needs. Errors: a service that does not exist, a new name that another object of its kind
// has, an object that is to be used from the new home and that no service needs.
func CarveOut(s *config.Schema, d *config.Document, c Carving) (*Carved, error) {
	if s.Services == nil {
		return nil, fmt.Errorf("schema %s does not say where services are", s.ID)
	}
	x := carving{s: s, d: d, Carving: c, defined: s.Defined(d), taken: map[*config.Node]bool{}, kinds: map[*config.Node]string{}, out: &Carved{Services: []ServiceEntry{}, Needs: []Need{}, Missing: []string{}}}
	if err := x.services(); err != nil {
		return nil, err
	}
	if err := x.needs(); err != nil {
		return nil, err
	}
	shared := x.shared()
	part, err := renamed(s, pick(d, func(n *config.Node) bool { return x.taken[n] }), c)
	if err != nil {
		return nil, err
	}
	x.out.Text = part.Print()
	rest := d.Clone(nil)
	gone := map[*config.Node]bool{}
	pair(d.Root, rest.Root, func(a, b *config.Node) {
		if x.taken[a] && !shared[a] {
			gone[b] = true
		}
	})
	config.RemoveAll(gone)
	x.out.Rest = rest.Print()
	return x.out, nil
}

// A carving is what is cut out, in the making.
type carving struct {
	Carving
	s       *config.Schema
	d       *config.Document
	defined map[string]map[string][]*config.Node
	taken   map[*config.Node]bool   // services and what they need
	kinds   map[*config.Node]string // of what they need
	queue   []*config.Node          // whose needs are not looked for yet
	out     *Carved
}

// services takes those that were named.
func (x *carving) services() error {
	all := entries(x.s, x.d)
	for _, name := range x.Services {
		i := slices.IndexFunc(all, func(e ServiceEntry) bool { return e.Name == name })
		if i < 0 {
			var known []string
			for _, e := range all {
				known = append(known, e.Name)
			}
			return fmt.Errorf("there is no service %q%s", name, near.Hint(name, known))
		}
		if !x.taken[all[i].node] {
			x.taken[all[i].node] = true
			x.out.Services = append(x.out.Services, all[i])
			x.queue = append(x.queue, all[i].node)
		}
	}
	return nil
}

// needs takes what they need, and what that needs.
func (x *carving) needs() error {
	used := map[string]bool{}
	for ; len(x.queue) > 0; x.queue = x.queue[1:] {
		x.s.WalkWith(x.queue[0], func(n *config.Node, st *config.Statement) {
			x.s.References(n, st, func(kinds []string, name string, _ func(string)) {
				for _, kind := range kinds {
					found := x.defined[kind][name]
					if len(found) == 0 {
						continue
					}
					if _, ok := ofKind(x.Use, kind, name); ok {
						used[name], used[kind+" "+name] = true, true
					} else if o := found[0]; !x.taken[o] {
						x.taken[o], x.kinds[o] = true, kind
						x.queue = append(x.queue, o)
					}
					return
				}
				x.out.Missing = append(x.out.Missing, fmt.Sprintf("%s names %s %q, which does not exist", x.s.Path(n), strings.Join(kinds, " or "), name))
			})
		})
	}
	for name := range x.Use {
		if !used[name] {
			return fmt.Errorf("none of these services needs a %q, so nothing of the new home can take its place", name)
		}
	}
	return nil
}

// shared are the objects that something needs which stays. What a shared object needs stays with it.
func (x *carving) shared() map[*config.Node]bool {
	users := users(x.s, x.d, x.defined, x.taken)
	shared := map[*config.Node]bool{}
	for changed := true; changed; {
		changed = false
		for o := range x.kinds {
			for _, u := range users[o] {
				if !shared[o] && (!x.taken[u] || shared[u]) {
					shared[o], changed = true, true
				}
			}
		}
	}
	x.s.WalkWith(x.d.Root, func(n *config.Node, st *config.Statement) {
		kind, ok := x.kinds[n]
		if !ok {
			return
		}
		need := Need{Kind: kind, Name: x.s.KeyOf(n, st), Path: x.s.Path(n), Line: n.Line, Shared: shared[n], UsedBy: []string{}}
		for _, u := range users[n] {
			if !x.taken[u] {
				need.UsedBy = append(need.UsedBy, x.s.Path(u))
			}
		}
		x.out.Needs = append(x.out.Needs, need)
	})
	return shared
}

// users lists, for each object, the blocks that name it: those that were taken, or the entry around the naming statement.
func users(s *config.Schema, d *config.Document, defined map[string]map[string][]*config.Node, taken map[*config.Node]bool) map[*config.Node][]*config.Node {
	out := map[*config.Node][]*config.Node{}
	var walk func(n *config.Node, st *config.Statement, owner *config.Node)
	walk = func(n *config.Node, st *config.Statement, owner *config.Node) {
		if st != nil && (st.Defines != "" || st.ByName) || taken[n] {
			owner = n
		}
		s.References(n, st, func(kinds []string, name string, _ func(string)) {
			for _, kind := range kinds {
				for _, o := range defined[kind][name] {
					by := owner
					if by == nil {
						by = n
					}
					if o != by && !slices.Contains(out[o], by) {
						out[o] = append(out[o], by)
					}
				}
			}
		})
		for _, k := range n.Children {
			walk(k, st.Inside(k.Name), owner)
		}
	}
	walk(d.Root, s.Top, nil)
	return out
}

// pair walks two trees of the same shape at once.
func pair(a, b *config.Node, f func(a, b *config.Node)) {
	f(a, b)
	for i := range a.Children {
		pair(a.Children[i], b.Children[i], f)
	}
}

// pick copies the chosen statements, with all inside them and the blocks around them.
func pick(d *config.Document, chosen func(*config.Node) bool) *config.Document {
	out := d.Clone(nil)
	gone := map[*config.Node]bool{}
	var keep func(a, b *config.Node) bool
	keep = func(a, b *config.Node) bool {
		if chosen(a) {
			return true
		}
		any := false
		for i := range a.Children {
			if keep(a.Children[i], b.Children[i]) {
				any = true
			}
		}
		if !any && a.Parent != nil {
			gone[b] = true
		}
		return any
	}
	keep(d.Root, out.Root)
	config.RemoveAll(gone)
	return out
}

// renamed gives services and objects other names, and lets references to what the new home has its own of name that.
func renamed(s *config.Schema, d *config.Document, c Carving) (*config.Document, error) {
	defined := s.Defined(d)
	to := map[string]map[string]string{}
	found := map[string]bool{}
	for kind, names := range defined {
		for old := range names {
			new, ok := ofKind(c.Rename, kind, old)
			if !ok {
				continue
			}
			found[old], found[kind+" "+old] = true, true
			if _, away := ofKind(c.Rename, kind, new); len(names[new]) > 0 && !away {
				return nil, fmt.Errorf("%q cannot be called %q: there is a %s of that name already", old, new, kind)
			}
			if to[kind] == nil {
				to[kind] = map[string]string{}
			}
			to[kind][old] = new
		}
	}
	for old := range c.Rename {
		if !found[old] {
			var all []string
			for _, names := range defined {
				all = slices.AppendSeq(all, maps.Keys(names))
			}
			slices.Sort(all)
			return nil, fmt.Errorf("nothing that is carved out is called %q%s", old, near.Hint(old, all))
		}
	}
	s.WalkWith(d.Root, func(n *config.Node, st *config.Statement) {
		s.References(n, st, func(kinds []string, name string, set func(string)) {
			for _, kind := range kinds {
				if new, ok := to[kind][name]; ok {
					set(new)
					return
				}
				if new, ok := ofKind(c.Use, kind, name); ok && len(defined[kind][name]) == 0 {
					set(new)
					return
				}
			}
		})
	})
	for kind, names := range to {
		for old, new := range names {
			for _, n := range defined[kind][old] {
				s.Rekey(n, s.Describe(n), new)
			}
		}
	}
	return d, nil
}

// A Conflict is something that cannot simply be put into another configuration.
type Conflict struct {
	Path    string `json:"path"`
	Message string `json:"message"`
}

// PutInto adds the statements of a part to a configuration: entries that are not there yet, into the blocks they belong
// to. What is there already and says the same is shared; what says something else is a conflict, and stays as it is.
func PutInto(s *config.Schema, whole, part *config.Document) (out *config.Document, conflicts []Conflict) {
	out = whole.Clone(nil)
	var put func(into *config.Node, st *config.Statement, from *config.Node)
	put = func(into *config.Node, st *config.Statement, from *config.Node) {
		for _, k := range from.Children {
			ks := st.Inside(k.Name)
			there := s.Find(into, st, s.Segment(k, ks))
			switch {
			case there == nil:
				into.Insert(-1, k.Copy())
			case ks.IsBlock() && ks.Defines == "" && !ks.ByName && len(k.Words) == 0 && ks.Key == config.KeyOnce:
				put(there, ks, k)
			case !same(s, there, k):
				conflicts = append(conflicts, Conflict{s.Path(k), "the target has this already, and says something else; give it another name, or take the target's"})
			}
		}
	}
	put(out.Root, s.Top, part.Root)
	return out, conflicts
}

// same reports whether two statements say the same, in any order inside.
func same(s *config.Schema, a, b *config.Node) bool {
	if a.Name != b.Name || len(a.Children) != len(b.Children) || !slices.EqualFunc(a.Words, b.Words, func(a, b config.Word) bool { return a.Text == b.Text }) {
		return false
	}
	st := s.Describe(a)
	for _, k := range a.Children {
		other := s.Find(b, st, s.Segment(k, st.Inside(k.Name)))
		if other == nil || !same(s, k, other) {
			return false
		}
	}
	return true
}
