// Package view shows results of the core in the form of the contract, for the service and for the client's offline use.
package view

import (
	"verimorph/api/gen"
	"verimorph/core/config"
)

// Differences shows what differs between two configurations.
func Differences(ds []config.Difference) []gen.Difference {
	out := []gen.Difference{}
	for _, d := range ds {
		out = append(out, gen.Difference{Kind: gen.DifferenceKind(d.Kind), Path: d.Path, Old: d.Old, New: d.New, OldLine: d.OldLine, NewLine: d.NewLine, Secret: d.Secret})
	}
	return out
}

func orEmpty(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}
