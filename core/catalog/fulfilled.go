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
			out[c.Name] = out[c.Name] || inside(d.Nodes, strings.Split(path, "/"))
		}
	}
	return out
}

// inside reports whether some statement begins with the path's first step and has the rest of the path inside it.
func inside(nodes []*config.Node, path []string) bool {
	for _, n := range nodes {
		if begins(n, strings.Fields(path[0])) && (len(path) == 1 || inside(n.Children, path[1:])) {
			return true
		}
	}
	return false
}

func begins(n *config.Node, words []string) bool {
	if len(n.Words) < len(words) {
		return false
	}
	for i, w := range words {
		if n.Words[i].Text != w {
			return false
		}
	}
	return true
}
