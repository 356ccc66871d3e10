package config

import (
	"slices"
	"sort"
	"strings"
)

// States of a file in a comparison of bundles.
const (
	FileSame    = "same"
	FileChanged = "changed"
	FileMissing = "missing" // only in the old bundle
	FileNew     = "new"     // only in the new bundle
	FileRenamed = "renamed" // alike, or mostly alike, under another name
)

// A FileComparison is what became of one file of a bundle.
type FileComparison struct {
	State      string
	Old, New   string // names; "" where it is absent
	Comparison *Comparison
}

// Same reports whether the file is there under its name on both sides and means the same.
func (f FileComparison) Same() bool {
	return (f.State == FileSame || f.State == FileChanged) && f.Comparison.Same()
}

// CompareBundles compares the files of a device with those of another time or device: first those of the same name, then
// what is left by content. schema gives what is known about a file.
func CompareBundles(old, new []*Document, schema func(*Document) *Schema) (out []FileComparison) {
	var gone, come []*Document
	for _, a := range old {
		i := slices.IndexFunc(new, func(b *Document) bool { return b.Name == a.Name })
		if i < 0 {
			gone = append(gone, a)
			continue
		}
		f := FileComparison{FileSame, a.Name, a.Name, Compare(a, new[i], schema(new[i]))}
		if len(f.Comparison.Differences) > 0 {
			f.State = FileChanged
		}
		out = append(out, f)
	}
	for _, b := range new {
		if !slices.ContainsFunc(old, func(a *Document) bool { return a.Name == b.Name }) {
			come = append(come, b)
		}
	}
	for _, b := range come {
		best, score := -1, 0.5
		for i, a := range gone {
			if a == nil || a.Syntax != b.Syntax {
				continue
			}
			x, y := map[string]int{}, map[string]int{}
			collect(a.Root, "", "", x)
			collect(b.Root, "", "", y)
			if v := likeness(x, y); v > score {
				best, score = i, v
			}
		}
		if best < 0 {
			out = append(out, FileComparison{State: FileNew, New: b.Name})
			continue
		}
		out = append(out, FileComparison{FileRenamed, gone[best].Name, b.Name, Compare(gone[best], b, schema(b))})
		gone[best] = nil
	}
	for _, a := range gone {
		if a != nil {
			out = append(out, FileComparison{State: FileMissing, Old: a.Name})
		}
	}
	rank := func(f FileComparison) int { return strings.Index("changed missing new renamed same", f.State) }
	sort.SliceStable(out, func(i, j int) bool {
		if rank(out[i]) != rank(out[j]) {
			return rank(out[i]) < rank(out[j])
		}
		return out[i].Old+out[i].New < out[j].Old+out[j].New
	})
	return out
}
