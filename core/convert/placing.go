package convert

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"verimorph/core/config"
)

// Services are put into the configuration of a device that serves already, or taken out of one.

// A Placed is services put into a configuration, or taken out of it.
type Placed struct {
	Document  *config.Document // the whole, as it is to be
	Compared  *config.Comparison
	Conflicts []Conflict // what stands in the way; the document is of no use then
}

// Place puts the statements of a part into a configuration. What is there already and says the same is shared. Conflicts: objects of the same name that say
// something else, services that are there already, and whatever the schema does not allow of the whole and allowed before, for a model and release.
func Place(s *config.Schema, whole, part *config.Document, at Stop) *Placed {
	out := &Placed{}
	both, conflicts := PutInto(s, whole, part)
	out.Conflicts = conflicts
	if doc, broken := s.Parse(whole.Name, both.Print()); len(broken) == 0 { // for the lines
		both = doc
	} else {
		out.Conflicts = append(out.Conflicts, Conflict{Message: "what comes out cannot be read: " + broken[0].Error()})
	}
	out.Document = both
	if s.Services != nil {
		there := entries(s, whole)
		for _, e := range entries(s, part) {
			if slices.ContainsFunc(there, func(x ServiceEntry) bool { return x.Name == e.Name }) && !conflicting(out.Conflicts, e.Path) {
				out.Conflicts = append(out.Conflicts, Conflict{e.Path, "it has a service of this name that says the same already"})
			}
		}
	}
	out.compare(s, whole, at)
	return out
}

// TakeOut takes services out of a configuration, with what nothing else needs then.
func TakeOut(s *config.Schema, whole *config.Document, services []string, at Stop) (*Placed, error) {
	c, err := CarveOut(s, whole, Carving{Services: services})
	if err != nil {
		return nil, err
	}
	rest, broken := s.Parse(whole.Name, c.Rest)
	if len(broken) > 0 {
		return nil, fmt.Errorf("what stays cannot be read: %w", broken[0])
	}
	out := &Placed{Document: rest}
	out.compare(s, whole, at)
	return out, nil
}

// compare says what is other than before, and adds to the conflicts what the schema allows no more.
func (p *Placed) compare(s *config.Schema, before *config.Document, at Stop) {
	p.Compared = config.Compare(before, p.Document, s)
	known := map[string]bool{}
	for _, f := range s.Check(before, at.Model, at.Version) {
		known[f.Path+f.Message] = true
	}
	for _, f := range s.Check(p.Document, at.Model, at.Version) {
		if !f.Doubt && !known[f.Path+f.Message] {
			p.Conflicts = append(p.Conflicts, Conflict{f.Path, f.Message})
		}
	}
}

func conflicting(all []Conflict, path string) bool {
	return slices.ContainsFunc(all, func(c Conflict) bool { return c.Path == path })
}

// Changes are the statements that are other than before, by their paths, without those that only look different.
func (p *Placed) Changes() (out []string) {
	for _, x := range p.Compared.Differences {
		if x.Kind != config.Cosmetic {
			out = append(out, x.Path)
		}
	}
	return out
}

// OwnSecrets are the secrets of a document that its device writes under a key of its own, by path: another one cannot read them.
func OwnSecrets(s *config.Schema, d *config.Document) (out []string) {
	d.Root.Walk(func(n *config.Node) {
		if s.SecretLike(n, s.OwnKey) {
			out = append(out, s.Path(n))
		}
	})
	return out
}

// Listens are the addresses at which services listen, by service: what their address statement says itself, or what the object says that it names.
func Listens(s *config.Schema, d *config.Document) map[string][]netip.Addr {
	out := map[string][]netip.Addr{}
	if s.Services == nil {
		return out
	}
	defined := s.Defined(d)
	for _, e := range entries(s, d) {
		n := e.node.Child(s.Services.Address)
		if n == nil {
			continue
		}
		from := []*config.Node{n}
		s.References(n, s.Describe(n), func(kinds []string, name string, _ func(string)) {
			for _, kind := range kinds {
				from = append(from, defined[kind][name]...)
			}
		})
		for _, block := range from {
			block.Walk(func(n *config.Node) {
				for _, w := range n.Words {
					text, _, _ := strings.Cut(w.Text, "/")
					if a, err := netip.ParseAddr(text); err == nil && !slices.Contains(out[e.Name], a) {
						out[e.Name] = append(out[e.Name], a)
					}
				}
			})
		}
	}
	return out
}
