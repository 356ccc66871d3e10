package config

import (
	"slices"
	"sort"
	"strings"
)

// Print returns the text of the document: of an unchanged one the bytes it was parsed from; of an edited one those bytes
// with what was edited written anew.
func (d *Document) Print() string {
	if d.Root.mark == 0 {
		return d.source
	}
	w := newWriter(d)
	w.document()
	return w.b.String()
}

// A Place is where a statement begins in a text, from 1.
type Place struct{ Line, Column int }

// PrintPlaces is Print, and tells where each statement begins: places[i] is that of the one which Walk meets as the i-th,
// from 0; the zero Place is that of a group, which has none.
func (d *Document) PrintPlaces() (text string, places []Place) {
	w := newWriter(d)
	n := int32(0)
	d.Root.Walk(func(k *Node) {
		k.seq = n
		n++
	})
	w.at = make([]int32, n)
	w.document()
	text = w.b.String()
	starts := []int{0}
	for i := range len(text) {
		if text[i] == '\n' {
			starts = append(starts, i+1)
		}
	}
	places = make([]Place, n)
	line := 1
	for i, at := range w.at {
		at := int(at) - 1
		if at < 0 {
			continue
		}
		if line > len(starts) || starts[line-1] > at || line < len(starts) && starts[line] <= at {
			line = sort.SearchInts(starts, at+1)
		}
		places[i] = Place{line, at - starts[line-1] + 1}
	}
	return text, places
}

type writer struct {
	d       *Document
	b       strings.Builder
	last    byte // the last byte written
	newline string
	blank   string  // what an indentation is made of
	unit    int     // how many of it one level has
	mixed   bool    // some lines are indented with blanks, some with tabs
	at      []int32 // where each statement begins, from 1, by its place in a walk; 0: not known
}

func newWriter(d *Document) *writer {
	w := &writer{d: d, newline: "\n", blank: " ", unit: 2, last: '\n'}
	if i := strings.IndexByte(d.source, '\n'); i > 0 && d.source[i-1] == '\r' {
		w.newline = "\r\n"
	}
	if d.Syntax == BlockIndent && strings.Contains(d.source, "\n\t") && !strings.Contains(d.source, "\n ") {
		w.blank, w.unit = "\t", 1
	}
	w.mixed = d.Syntax == BlockIndent && w.blank == " " && strings.Contains(d.source, "\t")
	for _, n := range d.Root.Children {
		if len(n.Children) > 0 && n.mark&fresh == 0 && n.Children[0].mark&fresh == 0 && n.Children[0].Line > n.Line && n.Children[0].Column > n.Column {
			w.unit = n.Children[0].Column - n.Column
			break
		}
	}
	return w
}

func (w *writer) put(s string) {
	if s != "" {
		w.b.WriteString(s)
		w.last = s[len(s)-1]
	}
}

// line makes sure that what follows begins on a new line.
func (w *writer) line() {
	if w.last != '\n' {
		w.put(w.newline)
	}
}

func (w *writer) spaces(n int) { w.put(strings.Repeat(w.blank, n)) }

// indentation is what a statement is indented with: what it had, or what those beside it have.
func (w *writer) indentation(n *Node, indent int) string {
	if w.mixed && n.Parent != nil {
		for _, k := range append([]*Node{n}, n.Parent.Children...) {
			if k.mark&fresh == 0 && k.Column-1 == indent && k.own > 0 {
				return w.d.source[int(k.own)-indent : k.own]
			}
		}
	}
	return strings.Repeat(w.blank, indent)
}

// begins notes where a statement begins.
func (w *writer) begins(n *Node) {
	if w.at != nil {
		w.at[n.seq] = int32(w.b.Len()) + 1
	}
}

// whole writes a statement that was not edited, with all inside it.
func (w *writer) whole(n *Node, from int32) {
	if w.at != nil {
		shift := int32(w.b.Len()) - from + 1
		n.Walk(func(c *Node) { w.at[c.seq] = c.own + shift })
	}
	w.put(w.d.source[from:n.end])
}

func (w *writer) document() {
	root := w.d.Root
	if root.mark == 0 {
		w.whole(root, 0)
		return
	}
	if strings.HasPrefix(w.d.source, bom) && w.d.Syntax != JSON && w.d.Syntax != XML {
		w.b.WriteString(bom)
	}
	switch w.d.Syntax {
	case BlockIndent:
		w.indentBlock(root, -w.unit)
	case Braces:
		w.bracesBlock(root, 0)
	case Dotted:
		w.dottedLines()
	case INI:
		w.iniSections()
	case JSON:
		w.jsonValue(root, 0)
		if root.mark&fresh != 0 {
			w.put(w.newline)
		}
		return
	case XML:
		if root.mark&fresh != 0 {
			w.put(`<?xml version="1.0" encoding="UTF-8"?>`)
		}
		for _, c := range root.Children {
			w.xmlElement(c, 0)
		}
		if root.mark&fresh != 0 {
			w.put(w.newline)
		}
	}
	if root.mark&fresh == 0 {
		w.put(w.d.source[root.close:]) // comments and blank lines after the last statement
	}
	w.noted(root, 0)
}

// leading writes the comments and blank lines before a statement, and its indentation.
func (w *writer) leading(n *Node, indent int) {
	w.line()
	if n.mark&fresh == 0 {
		lead := w.d.source[n.lead:n.own]
		if i := strings.LastIndexByte(lead, '\n'); i >= 0 {
			for _, l := range splitLines(lead[:i+1]) {
				if body := strings.TrimLeft(l, " \t"); strings.HasPrefix(body, "#") && n.Column-1 != indent {
					w.spaces(indent)
					l = body
				}
				w.put(l)
			}
		}
	}
	w.noted(n, indent)
	w.put(w.indentation(n, indent))
	w.begins(n)
}

// after is what stands on the line behind a statement's words: blanks, a comment, the line ending. signs are those that
// begin a comment where a blank stands before them.
func (w *writer) after(n *Node, signs string) string {
	if n.mark&fresh != 0 {
		return w.newline
	}
	head := w.d.source[n.own:n.open]
	if n.IsRaw() {
		return head[trimEnding(head, 0, len(head)):]
	}
	quoted := false
	for i := 0; i < len(head); i++ {
		switch c := head[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case !quoted && c == '/' && w.d.Syntax == Braces && strings.HasPrefix(head[i:], "/*") && opensComment(head[:i], Braces) && i > 0:
			for head[i-1] == ' ' || head[i-1] == '\t' {
				i--
			}
			return head[i:]
		case !quoted && i > 0 && strings.IndexByte(signs, c) >= 0 && strings.IndexByte(" \t;{}]", head[i-1]) >= 0:
			for head[i-1] == ' ' || head[i-1] == '\t' {
				i--
			}
			return head[i:]
		}
	}
	return head[trimEnding(head, 0, len(head)):]
}

// columns of children: those of a block are indented alike.
func (w *writer) childIndent(n *Node, indent int) int {
	for _, c := range n.Children {
		if c.mark&fresh == 0 && c.Column-1 > indent && (n.mark&fresh == 0 && n.Column-1 == indent) {
			return c.Column - 1
		}
	}
	return max(indent+w.unit, 0)
}

func (w *writer) indentBlock(n *Node, indent int) {
	inner := w.childIndent(n, indent)
	if n.Parent == nil {
		inner = 0
	}
	for _, c := range n.Children {
		if c.mark == 0 && c.Column-1 == inner {
			w.line()
			w.whole(c, c.lead)
			continue
		}
		w.leading(c, inner)
		if c.mark&headChanged == 0 {
			w.put(w.d.source[c.own:c.open])
		} else if c.IsRaw() {
			w.rawWords(c, inner, func(n *Node) { writeWords(&w.b, n, false) })
		} else {
			writeWords(&w.b, c, false)
			w.last = 0
			w.put(w.after(c, "#"))
		}
		w.indentBlock(c, inner)
	}
}

func (w *writer) bracesBlock(n *Node, indent int) {
	for _, c := range n.Children {
		if c.mark == 0 && c.Column-1 == indent {
			w.line()
			w.whole(c, c.lead)
			continue
		}
		w.leading(c, indent)
		block := c.Form == Block || len(c.Children) > 0
		if c.mark&headChanged == 0 {
			w.put(w.d.source[c.own:c.open])
		} else if c.IsRaw() && !block {
			w.rawWords(c, indent, func(n *Node) { writeWords(&w.b, n, true) })
		} else {
			writeWords(&w.b, c, true)
			w.last = 0
			if block {
				w.put(" {")
			} else {
				w.put(";")
			}
			w.put(w.after(c, "#"))
		}
		if !block {
			continue
		}
		w.bracesBlock(c, w.childIndent(c, indent))
		if c.mark&fresh == 0 && c.end > c.close {
			w.put(w.d.source[c.close:c.end])
		} else {
			w.line()
			w.spaces(indent)
			w.put("}" + w.newline)
		}
	}
}

// dottedLines writes the statements in the order of the file; one that is new follows the one before it in the tree.
func (w *writer) dottedLines() {
	type line struct {
		n     *Node
		names []string
		at    int32
		notes []Comment
	}
	var lines []line
	var notes []Comment // of groups, which have no line of their own
	at := int32(-1)
	var collect func(n *Node, names []string)
	collect = func(n *Node, names []string) {
		for _, c := range n.Children {
			names := append(slices.Clip(names), c.Name)
			if c.Form != Group && (len(c.Words) > 0 || len(c.Children) == 0) {
				if c.mark&fresh == 0 {
					at = c.own
				}
				lines = append(lines, line{c, names, at, notes})
				notes = nil
			} else {
				notes = append(notes, w.d.notes[c]...)
			}
			collect(c, names)
		}
	}
	collect(w.d.Root, nil)
	sort.SliceStable(lines, func(i, j int) bool { return lines[i].at < lines[j].at })
	for _, l := range lines {
		n := l.n
		w.comments(l.notes, 0)
		w.leading(n, max(0, n.Column-1))
		if n.mark&headChanged == 0 && w.sameNames(n, l.names) {
			w.put(w.d.source[n.own:n.open])
			continue
		}
		for i, name := range l.names {
			if i > 0 {
				w.b.WriteByte('.')
			}
			writeDottedName(&w.b, name)
		}
		w.put(" = ")
		if n.IsRaw() {
			w.rawWords(n, 0, func(*Node) {})
			continue
		}
		if len(n.Words) > 0 {
			writeValue(&w.b, n.Words[0], " #")
			w.last = 0
		}
		w.put(w.after(n, "#"))
	}
}

// sameNames reports whether a line still begins with these names.
func (w *writer) sameNames(n *Node, names []string) bool {
	p := parser{text: w.d.source}
	got, _, _, message := p.dottedNames(nil, int(n.own), trimEnding(p.text, int(n.own), int(n.open)))
	return message == "" && slices.Equal(got, names)
}

func (w *writer) iniSections() {
	loose := func(n *Node) bool { return n.Form != Block }
	for _, first := range []bool{true, false} { // lines of no section stand before all sections
		for _, c := range w.d.Root.Children {
			if loose(c) != first {
				continue
			}
			if loose(c) {
				w.iniLine(c)
				continue
			}
			w.leading(c, max(0, c.Column-1))
			if c.mark&headChanged == 0 {
				w.put(w.d.source[c.own:c.open])
			} else {
				w.put("[")
				writeWords(&w.b, c, false)
				w.put("]")
				w.put(w.after(c, "#;"))
			}
			for _, k := range c.Children {
				w.iniLine(k)
			}
		}
	}
}

func (w *writer) iniLine(n *Node) {
	w.leading(n, max(0, n.Column-1))
	if n.mark&headChanged == 0 {
		w.put(w.d.source[n.own:n.open])
		return
	}
	w.put(n.Name + " = ")
	if n.IsRaw() {
		w.rawWords(n, 0, func(*Node) {})
		return
	}
	if len(n.Words) > 0 {
		writeValue(&w.b, n.Words[0], iniComment)
		w.last = 0
	}
	w.put(w.after(n, "#;"))
}

// jsonValue writes a member, an item or the root.
func (w *writer) jsonValue(n *Node, indent int) {
	if n.Parent == nil && n.mark&fresh == 0 {
		w.put(w.d.source[:n.own])
	}
	if n.mark == 0 {
		w.whole(n, n.own)
		return
	}
	w.begins(n)
	block := n.Form == Block || n.Form == List || len(n.Children) > 0
	opening, closing := "{", "}"
	if n.Form == List {
		opening, closing = "[", "]"
	}
	if n.mark&headChanged == 0 {
		w.put(w.d.source[n.own:n.open])
	} else {
		if n.Parent != nil && n.Parent.Form != List {
			writeJSONString(&w.b, n.Name)
			w.put(": ")
		}
		switch {
		case block:
			w.put(opening)
		case len(n.Words) == 0:
			w.put("null")
		case n.Words[0].Quoted || !isJSONWord(n.Words[0].Text):
			writeJSONString(&w.b, n.Words[0].Text)
			w.last = '"'
		default:
			w.put(n.Words[0].Text)
		}
	}
	if block {
		inner := indent + w.unit
		for i, c := range n.Children {
			if i > 0 {
				w.put(",")
			}
			if blank := w.jsonBlank(c); c.mark&fresh == 0 {
				w.put(blank)
				if strings.Contains(blank, "\n") {
					inner = len(blank) - strings.LastIndexByte(blank, '\n') - 1
				}
			} else {
				w.put(w.newline)
				w.spaces(inner)
			}
			w.jsonValue(c, inner)
		}
		if n.mark&fresh == 0 && n.end > n.close {
			end := w.d.source[n.close:n.end]
			if len(n.Children) > 0 && n.Children[len(n.Children)-1].mark&fresh != 0 {
				w.put(w.newline)
				w.spaces(indent)
				end = strings.TrimLeft(end, xmlBlank)
			}
			w.put(end)
		} else {
			if len(n.Children) > 0 {
				w.put(w.newline)
				w.spaces(indent)
			}
			w.put(closing)
		}
	}
}

// jsonBlank is the blank space before an entry in the source.
func (w *writer) jsonBlank(n *Node) string {
	if n.mark&fresh != 0 {
		return ""
	}
	from := int(n.own)
	for from > 0 && strings.IndexByte(xmlBlank, w.d.source[from-1]) >= 0 {
		from--
	}
	return w.d.source[from:n.own]
}

func isJSONWord(s string) bool { return s == "true" || s == "false" || s == "null" || isNumber(s) }

// xmlElement writes an element with what stands before it.
func (w *writer) xmlElement(n *Node, indent int) {
	if n.mark == 0 {
		w.whole(n, n.lead)
		return
	}
	if n.mark&fresh == 0 {
		w.put(w.d.source[n.lead:n.own])
	} else if n.Name != "#text" && w.b.Len() > 0 {
		for _, c := range w.d.notes[n] {
			w.put(w.newline)
			w.spaces(indent)
			w.put(XML.Comment(c.Text))
		}
		w.put(w.newline)
		w.spaces(indent)
	}
	w.begins(n)
	if n.Name == "#text" {
		if len(n.Words) > 0 {
			writeXMLText(&w.b, n.Words[0].Text)
			w.last = 0
		}
		return
	}
	inside := slices.DeleteFunc(slices.Clone(n.Children), isAttribute)
	head := ""
	if n.mark&fresh == 0 {
		head = w.d.source[n.own:n.open]
	}
	clean := n.mark&headChanged == 0 && !(strings.HasSuffix(head, "/>") && len(inside) > 0)
	if clean {
		w.keptXMLHead(n, head)
	} else if w.newXMLHead(n, len(inside) == 0) {
		return
	}
	for _, c := range inside {
		w.xmlElement(c, indent+w.unit)
	}
	if !clean || n.end > n.close { // else it was <a/> and still is
		w.xmlEnd(n, inside, clean, indent)
	}
}

// keptXMLHead writes the head of an element as it was.
func (w *writer) keptXMLHead(n *Node, head string) {
	w.put(head)
	if w.at == nil {
		return
	}
	for _, a := range n.Children {
		if isAttribute(a) {
			w.at[a.seq] = int32(w.b.Len()-len(head)) + a.own - n.own + 1
		}
	}
}

// newXMLHead writes the head of an element anew, and its text. It reports whether that was the whole element.
func (w *writer) newXMLHead(n *Node, empty bool) (whole bool) {
	w.put("<" + n.Name)
	for _, a := range n.Children {
		if !isAttribute(a) {
			continue
		}
		w.put(" ")
		w.begins(a)
		w.put(a.Name[1:] + `="`)
		writeXMLText(&w.b, a.Value())
		w.put(`"`)
	}
	if empty && len(n.Words) == 0 {
		w.put("/>")
		return true
	}
	w.put(">")
	if len(n.Words) > 0 {
		writeXMLText(&w.b, n.Words[0].Text)
		w.last = 0
	}
	return false
}

// xmlEnd writes the end of an element: as it was, where the last thing inside it is as well.
func (w *writer) xmlEnd(n *Node, inside []*Node, clean bool, indent int) {
	last := len(inside) - 1
	kept := n.mark&fresh == 0 && len(n.Words) == 0 && last >= 0 && inside[last].mark&fresh == 0 && strings.HasSuffix(w.d.source[n.close:n.end], "</"+n.Name+">")
	if clean || kept {
		w.put(w.d.source[n.close:n.end])
		return
	}
	if last >= 0 && inside[last].Name != "#text" {
		w.put(w.newline)
		w.spaces(indent)
	}
	w.put("</" + n.Name + ">")
}
