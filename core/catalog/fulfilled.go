package catalog

import (
	"strings"

	"verimorph/core/config"
)

// Fulfilled tells, by name, which of the family's conditions a configuration fulfils.
func (f *Family) Fulfilled(d *config.Document) map[string]bool {
	out := map[string]bool{}
	for i := range f.Conditions {
		c := &f.Conditions[i]
		out[c.Name] = false
		for _, path := range c.Has {
			out[c.Name] = out[c.Name] || inside(d.Root.Children, strings.Split(path, "/"))
		}
	}
	return out
}

// Schema is what the catalogue itself says about the family's configurations; a schema file says more.
func (f *Family) Schema() *config.Schema {
	return config.Simple(config.Syntax(f.Configuration.Syntax), f.Configuration.Secrets, f.Configuration.Ordered)
}

// inside reports whether some statement begins with the path's first step and has the rest of the path inside it. Items
// of a list are looked into as if they stood in its place.
func inside(nodes []*config.Node, path []string) bool {
	for _, n := range nodes {
		if n.Name == "" && inside(n.Children, path) {
			return true
		}
		if begins(n, strings.Fields(path[0])) && (len(path) == 1 || inside(n.Children, path[1:])) {
			return true
		}
	}
	return false
}

// begins reports whether a statement's name and words begin with some words; "*" stands for any word.
func begins(n *config.Node, words []string) bool {
	if len(words) > 1+len(n.Words) || words[0] != n.Name && words[0] != "*" {
		return false
	}
	for i, w := range words[1:] {
		if n.Words[i].Text != w && w != "*" {
			return false
		}
	}
	return true
}
