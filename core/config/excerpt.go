package config

import (
	"fmt"
	"strings"
)

// Excerpts cuts two texts, of which one became the other, down for reading: of lines that are longer than width characters only the piece
// that changed is left, with its neighbourhood. What is left out is counted.
func Excerpts(old, new string, width int) (string, string) {
	if len(old) <= width && len(new) <= width {
		return old, new
	}
	a, b := strings.Split(old, "\n"), strings.Split(new, "\n")
	if len(a) != len(b) {
		return excerptAlone(a, width), excerptAlone(b, width)
	}
	for i := range a {
		a[i], b[i] = excerptPair([]rune(a[i]), []rune(b[i]), width)
	}
	return strings.Join(a, "\n"), strings.Join(b, "\n")
}

// excerptAlone cuts each line behind width characters.
func excerptAlone(lines []string, width int) string {
	for i, l := range lines {
		if r := []rune(l); len(r) > width {
			lines[i] = window(r, 0, width)
		}
	}
	return strings.Join(lines, "\n")
}

// excerptPair cuts one line of both sides around what differs.
func excerptPair(a, b []rune, width int) (string, string) {
	if len(a) <= width && len(b) <= width {
		return string(a), string(b)
	}
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	around := width / 3
	cut := func(r []rune) string {
		from, to := max(0, head-around), min(len(r), len(r)-tail+around)
		if to-from > width { // the piece itself is long
			to = from + width
		}
		return window(r, from, to)
	}
	return cut(a), cut(b)
}

// window is a piece of a line; what is left out is counted.
func window(r []rune, from, to int) string {
	var b strings.Builder
	if from > 0 {
		fmt.Fprintf(&b, "(%d characters) … ", from)
	}
	b.WriteString(string(r[from:to]))
	if to < len(r) {
		fmt.Fprintf(&b, " … (%d characters)", len(r)-to)
	}
	return b.String()
}
