package config

import (
	"cmp"
	"slices"
	"sort"
	"strings"
)

// Comments stand beside statements: before one, on its line, or before the end of its block. They say nothing to a device, and much to
// people. JSON has none.

// A Comment is one line of a comment.
type Comment struct {
	Line, Column int    // in the file it is from, from 1
	Text         string // without the signs that make it a comment, and the blanks around it
}

// HasComments reports whether a syntax has comments.
func (s Syntax) HasComments() bool { return s != JSON }

// Annotate puts comments before a statement that stands in no file yet; before the end of the file for the root. A syntax without comments
// leaves them out.
func (d *Document) Annotate(n *Node, list []Comment) {
	if len(list) == 0 || !d.Syntax.HasComments() {
		return
	}
	if d.notes == nil {
		d.notes = map[*Node][]Comment{}
	}
	d.notes[n] = append(d.notes[n], list...)
}

// Comments are those beside a statement, in the order of the file; of the root those behind the last statement.
func (d *Document) Comments(n *Node) (out []Comment) {
	if n.mark&fresh == 0 && d.Syntax.HasComments() {
		regions := [][2]int32{{n.lead, n.own}, {n.own, n.open}, {n.close, n.end}}
		if n.IsRaw() {
			regions[1][1] = n.own // what looks like a comment in a raw text is none
		}
		switch {
		case n.Parent == nil:
			regions = [][2]int32{{n.close, int32(len(d.source))}}
		case d.Syntax == XML && !isAttribute(n) && n.Name != "#text" && !hasElements(n.Children):
			regions[1][1] = max(n.open, n.close)
		case d.Syntax == XML && (isAttribute(n) || n.Name == "#text"):
			regions = regions[:1]
		case d.Syntax == BlockIndent || len(n.Children) == 0 || d.Syntax == INI || d.Syntax == Dotted:
			regions = regions[:2]
		}
		for _, r := range regions {
			if r[0] < r[1] {
				out = d.commentsIn(int(r[0]), int(r[1]), out)
			}
		}
	}
	return append(out, d.notes[n]...)
}

// commentsIn finds the comments in a piece of the source.
func (d *Document) commentsIn(from, to int, out []Comment) []Comment {
	text := d.source[from:to]
	if d.Syntax == XML {
		for at := 0; ; {
			i := strings.Index(text[at:], "<!--")
			if i < 0 {
				return out
			}
			body, _, _ := strings.Cut(text[at+i+4:], "-->")
			line, column := d.placeOf(from + at + i)
			for k, l := range Lines(body) {
				if l = strings.TrimSpace(l); l != "" {
					out = append(out, Comment{line + k, column, l})
					column = 1
				}
			}
			at += i + 4 + len(body)
		}
	}
	signs := "#"
	if d.Syntax == INI {
		signs = "#;"
	}
	if !strings.ContainsAny(text, signs) && !strings.Contains(text, "/*") {
		return out
	}
	quoted := false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case c == '\n':
			quoted = false
		case !quoted && c == '/' && strings.HasPrefix(text[i:], "/*") && opensComment(text[:i], d.Syntax):
			body, _, _ := strings.Cut(text[i+2:], "*/")
			line, column := d.placeOf(from + i)
			for k, l := range Lines(body) {
				if l = strings.TrimSpace(strings.TrimLeft(l, " \t*")); l != "" {
					out = append(out, Comment{line + k, column, l})
					column = 1
				}
			}
			i += len(body) + 3
		case !quoted && strings.IndexByte(signs, c) >= 0 && (i == 0 && (from == 0 || d.source[from-1] <= ' ') || i > 0 && strings.IndexByte(" \t\n;{}]", text[i-1]) >= 0):
			body, _, _ := strings.Cut(text[i+1:], "\n")
			line, column := d.placeOf(from + i)
			out = append(out, Comment{line, column, strings.TrimSpace(strings.TrimLeft(body, signs))})
			i += len(body)
		}
	}
	return out
}

// opensComment reports whether a block comment may begin behind a piece of text: at the beginning of a line, in braces also behind a ; or
// brace.
func opensComment(before string, syntax Syntax) bool {
	before = strings.TrimRight(before[strings.LastIndexByte(before, '\n')+1:], " \t")
	return before == "" || syntax == Braces && strings.IndexByte(";{}/", before[len(before)-1]) >= 0
}

// placeOf is the line and column at which an offset of the source stands.
func (d *Document) placeOf(at int) (line, column int) {
	if d.lines == nil {
		d.lines = []int{0}
		for i := range len(d.source) {
			if d.source[i] == '\n' {
				d.lines = append(d.lines, i+1)
			}
		}
	}
	line = sort.SearchInts(d.lines, at+1)
	return line, at - d.lines[line-1] + 1
}

// noted writes the comments of a statement that stands in no file, each on a line of its own.
func (w *writer) noted(n *Node, indent int) { w.comments(w.d.notes[n], indent) }

func (w *writer) comments(list []Comment, indent int) {
	for _, c := range list {
		w.line()
		w.spaces(indent)
		w.put(w.d.Syntax.Comment(c.Text) + w.newline)
	}
}

// Comment is a text as a comment.
func (s Syntax) Comment(text string) string {
	if s == XML {
		for strings.Contains(text, "--") { // not allowed inside (XML 1.0, section 2.5)
			text = strings.ReplaceAll(text, "--", "- -")
		}
		return "<!-- " + text + " -->"
	}
	return strings.TrimRight("# "+text, " ")
}

// CommentMask returns a function that gives a comment, or *** in its place when it speaks of a secret.
func (s *Schema) CommentMask() func(string) string {
	names := s.secretNames()
	return func(text string) string {
		if speaksOf(text, names) {
			return Mask
		}
		return text
	}
}

// PlainComment is a comment as it can be compared across syntaxes: XML takes no two dashes beside each other.
func PlainComment(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == '-' || r == '\t' }), " ")
}

// HasComments reports whether there may be comments in a document.
func (d *Document) HasComments() bool { return len(d.notes) > 0 || d.mayComment() }

// mayComment reports whether anything in the source looks like the beginning of a comment.
func (d *Document) mayComment() bool {
	switch d.Syntax {
	case JSON:
		return false
	case XML:
		return strings.Contains(d.source, "<!--")
	}
	return strings.IndexByte(d.source, '#') >= 0 || d.Syntax == INI && strings.IndexByte(d.source, ';') >= 0 || strings.Contains(d.source, "/*")
}

// AllComments lists the comments of a document in the order of the file, with the statements beside which they stand.
func (d *Document) AllComments() (out []Comment, beside []*Node) {
	if !d.HasComments() {
		return nil, nil
	}
	type pair struct {
		c Comment
		n *Node
	}
	var all []pair
	d.Root.Walk(func(n *Node) {
		for _, c := range d.Comments(n) {
			all = append(all, pair{c, n})
		}
	})
	slices.SortStableFunc(all, func(a, b pair) int { return cmp.Or(a.c.Line-b.c.Line, a.c.Column-b.c.Column) })
	for _, p := range all {
		out, beside = append(out, p.c), append(beside, p.n)
	}
	return out, beside
}
