// Package near suggests names: for a name that does not exist it returns those known names that are spelled like it.
//
//	near.Names("tunel far", known) // [tunnel far]
package near

import (
	"cmp"
	"slices"
	"strings"
)

// most is how many names are given.
const most = 5

// Names lists up to five of the known names that are most like a name, the likest first. Those are like it that differ in case, begin or
// end with it, or differ in about a third of their letters at most (added, left out, exchanged, or two that changed places).
func Names(name string, known []string) []string {
	type scored struct {
		name string
		off  int
	}
	var found []scored
	low := strings.ToLower(name)
	for _, k := range known {
		other := strings.ToLower(k)
		off := distance([]rune(low), []rune(other))
		allowed := max(1, (max(len(low), len(other))+1)/3)
		switch {
		case k == name:
			continue
		case low == other:
			off = 0
		case off <= allowed:
		case len(low) > 1 && (strings.HasPrefix(other, low) || strings.HasSuffix(other, low) || strings.HasPrefix(low, other)):
			off = allowed + 1
		default:
			continue
		}
		if !slices.ContainsFunc(found, func(s scored) bool { return s.name == k }) {
			found = append(found, scored{k, off})
		}
	}
	slices.SortStableFunc(found, func(a, b scored) int { return cmp.Compare(a.off, b.off) })
	out := make([]string, 0, most)
	for _, s := range found[:min(len(found), most)] {
		out = append(out, s.name)
	}
	return out
}

// Hint is what to say of the names that are like one: "; known and near: a, b", or "" when there is none.
func Hint(name string, known []string) string {
	if names := Names(name, known); len(names) > 0 {
		return "; known and near: " + strings.Join(names, ", ")
	}
	return ""
}

// distance counts the letters that have to be added, left out, exchanged, or swapped with their neighbour, to make b of a.
func distance(a, b []rune) int {
	before, row, next := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range a {
		next[0] = i + 1
		for j := range b {
			off := 1
			if a[i] == b[j] {
				off = 0
			}
			next[j+1] = min(row[j]+off, row[j+1]+1, next[j]+1)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				next[j+1] = min(next[j+1], before[j-1]+1)
			}
		}
		before, row, next = row, next, before
	}
	return row[len(b)]
}
