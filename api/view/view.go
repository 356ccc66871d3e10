// Package view shows results of the core in the form of the contract, for the service and for the client's offline use.
package view

import (
	"verimorph/api/gen"
	"verimorph/core/config"
)

// Differences shows what differs between two configurations.
func Differences(c *config.Comparison) []gen.Difference { return DifferencesOf(c.Differences) }

// DifferencesOf is Differences of a list.
func DifferencesOf(list []config.Difference) []gen.Difference {
	out := []gen.Difference{}
	for _, d := range list {
		out = append(out, gen.Difference{Kind: gen.DifferenceKind(d.Kind), Path: d.Path, OldPath: optional(d.OldPath), Old: d.Old, New: d.New, OldLine: d.OldLine, NewLine: d.NewLine,
			Secret: d.Secret, Guarded: optional(d.Guarded), Section: d.Section, Service: optional(d.Service), Note: optional(d.Note)})
	}
	return out
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func orEmpty(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}
