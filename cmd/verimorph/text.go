package main

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"
)

// table prints rows in columns as wide as they need to be. The first row is the head.
func table(w io.Writer, rows [][]string) {
	var width []int
	for _, r := range rows {
		for i, cell := range r {
			if i == len(width) {
				width = append(width, 0)
			}
			width[i] = max(width[i], utf8.RuneCountInString(cell))
		}
	}
	for _, r := range rows {
		var line strings.Builder
		for i, cell := range r {
			line.WriteString(cell + strings.Repeat(" ", width[i]-utf8.RuneCountInString(cell)+2))
		}
		fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
	}
}

// Colours, used only on a terminal and always together with a word or a mark.
const (
	green  = "32"
	red    = "31"
	yellow = "33"
	blue   = "36"
	dim    = "2"
	bold   = "1"
)

func (c *client) paint(colour, s string) string {
	if s == "" {
		return s
	}
	on, off := c.colours(colour)
	return on + s + off
}

// colours are what turns a colour on and off.
func (c *client) colours(colour string) (on, off string) {
	if !c.colour {
		return "", ""
	}
	return "\x1b[" + colour + "m", "\x1b[0m"
}

// duration shows seconds as 28 s, 1 min 35 s or 1 h 5 min.
func duration(seconds float64) string {
	n := int(seconds + 0.5)
	switch {
	case n < 60:
		return fmt.Sprintf("%d s", n)
	case n < 3600 && n%60 == 0:
		return fmt.Sprintf("%d min", n/60)
	case n < 3600:
		return fmt.Sprintf("%d min %d s", n/60, n%60)
	case n/60%60 == 0:
		return fmt.Sprintf("%d h", n/3600)
	}
	return fmt.Sprintf("%d h %d min", n/3600, n/60%60)
}

// span shows how long something is expected to take: 28 s to 1 min 35 s, 17 to 45 min. From ten minutes on, seconds are left out.
func span(low, high float64) string {
	whole := func(seconds float64) float64 {
		if seconds >= 600 {
			return float64(int(seconds/60+0.5) * 60)
		}
		return seconds
	}
	from, to := duration(whole(low)), duration(whole(high))
	number, unit, _ := strings.Cut(from, " ")
	if _, other, _ := strings.Cut(to, " "); unit == other { // both in one unit
		from = number
	}
	return from + " to " + to
}

func ago(t time.Time) string {
	switch d := time.Since(t); {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Format(time.DateOnly)
}

func mib(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }

// cut shortens text to n characters.
func cut(s string, n int) string {
	if utf8.RuneCountInString(s) <= n {
		return s
	}
	if n <= 0 {
		return ""
	}
	return string([]rune(s)[:n-1]) + "…"
}

// wrap breaks text into lines of at most n characters, each after the first indented.
func wrap(s string, n int, indent string) string {
	var out strings.Builder
	width := 0
	for i, word := range strings.Fields(s) {
		w := utf8.RuneCountInString(word)
		if i > 0 && width+1+w > n {
			out.WriteString("\n" + indent)
			width = 0
		} else if i > 0 {
			out.WriteByte(' ')
			width++
		}
		out.WriteString(word)
		width += w
	}
	return out.String()
}
