package report

import (
	"slices"
	"sort"
)

// A Row is a line of the left text beside one of the right; -1 stands for none.
type Row struct{ Left, Right int }

// Rows puts the lines of both sides beside each other: lines that belong together, by link or because they are the only
// ones that say the same, share a row as far as the order of both texts allows.
func (r *Report) Rows() (out []Row) {
	type anchor struct{ l, r int }
	var all []anchor
	for _, link := range r.links {
		all = append(all, anchor{link[0] - 1, link[1] - 1})
	}
	once := func(lines []Line) map[string]int {
		at := map[string]int{}
		for i, l := range lines {
			if _, twice := at[l.Text]; twice {
				at[l.Text] = -1
			} else {
				at[l.Text] = i
			}
		}
		return at
	}
	left, right := once(r.Left.Lines), once(r.Right.Lines)
	for text, i := range left {
		if j, ok := right[text]; ok && i >= 0 && j >= 0 {
			all = append(all, anchor{i, j})
		}
	}
	all = slices.DeleteFunc(all, func(a anchor) bool {
		return a.l < 0 || a.r < 0 || a.l >= len(r.Left.Lines) || a.r >= len(r.Right.Lines)
	})
	slices.SortFunc(all, func(a, b anchor) int {
		if a.l != b.l {
			return a.l - b.l
		}
		return b.r - a.r // so that at most one of a line is taken below
	})
	// The longest run in which both sides go forward, by patience sorting.
	var tops []int
	before := make([]int, len(all))
	for i, a := range all {
		k := sort.Search(len(tops), func(k int) bool { return all[tops[k]].r >= a.r })
		if before[i] = -1; k > 0 {
			before[i] = tops[k-1]
		}
		if k == len(tops) {
			tops = append(tops, i)
		} else {
			tops[k] = i
		}
	}
	var run []anchor
	if len(tops) > 0 {
		for i := tops[len(tops)-1]; i >= 0; i = before[i] {
			run = append(run, all[i])
		}
		slices.Reverse(run)
	}
	l, rt := 0, 0
	upTo := func(toL, toR int) {
		for l < toL || rt < toR {
			row := Row{-1, -1}
			if l < toL {
				row.Left = l
				l++
			}
			if rt < toR {
				row.Right = rt
				rt++
			}
			out = append(out, row)
		}
	}
	for _, a := range run {
		upTo(a.l, a.r)
		out = append(out, Row{a.l, a.r})
		l, rt = a.l+1, a.r+1
	}
	upTo(len(r.Left.Lines), len(r.Right.Lines))
	return out
}
