package config

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// An xmlReader reads elements, attributes and text (XML 1.0). Names keep their prefixes. Comments, processing
// instructions and blanks between elements are kept as what stands before the next statement. Text beside elements
// becomes a statement named "#text". Document types and entities other than the five of XML 1.0 section 4.6 and
// character references are refused, so nothing can expand.
type xmlReader struct {
	*parser
	at      int
	lead    int
	pending []*Node
	stack   []xmlFrame
}

type xmlFrame struct {
	node *Node
	from int
	text xmlText // what was read of its text so far
}

// xmlText is a run of text and where it stands.
type xmlText struct {
	value      string
	start, end int
}

const xmlBlank = " \t\r\n"

func (p *parser) xml() {
	r := &xmlReader{parser: p}
	if strings.HasPrefix(p.text, "\ufeff") {
		r.at = 3
	}
	r.stack = []xmlFrame{{node: p.root}}
	for r.at < len(r.text) && !r.full(r.at) && len(r.broken) < maxBroken {
		if r.text[r.at] != '<' {
			r.characters()
			continue
		}
		rest := r.text[r.at:]
		switch {
		case strings.HasPrefix(rest, "<!--"):
			r.until("<!--", "-->", "a comment")
		case strings.HasPrefix(rest, "<?"):
			r.until("<?", "?>", "a processing instruction")
		case strings.HasPrefix(rest, "<![CDATA["):
			from := r.at
			if r.until("<![CDATA[", "]]>", "a CDATA section") {
				r.addText(r.text[from+9:r.at-3], from, r.at, true)
			}
		case strings.HasPrefix(rest, "<!"):
			r.fail(r.at, "a document type declaration; expected an element, since declarations and entities are not read")
			r.declaration()
		case strings.HasPrefix(rest, "</"):
			r.endTag()
		default:
			r.startTag()
		}
	}
	for len(r.stack) > 1 {
		if !r.tooMany && len(r.broken) < maxBroken {
			n := r.stack[len(r.stack)-1].node
			r.fail(int(n.own), "element %s begins here and does not end; expected </%s>", n.Name, n.Name)
		}
		r.pop(len(r.text), len(r.text))
	}
	r.keepChildren(p.root, r.pending)
	p.root.close = int32(r.lead)
	if len(p.root.Children) == 0 && len(r.broken) == 0 {
		r.fail(len(r.text), "expected an element")
	}
}

// until skips what begins with one mark up to behind another.
func (r *xmlReader) until(begin, end, what string) bool {
	i := strings.Index(r.text[r.at+len(begin):], end)
	if i < 0 {
		r.fail(r.at, "%s begins here and does not end; expected %s", what, end)
		r.at = len(r.text)
		return false
	}
	stop := r.at + len(begin) + i + len(end)
	if bad, message := r.unreadable(r.at, stop); bad >= 0 {
		r.fail(bad, "%s", message)
	}
	r.at = stop
	return true
}

// declaration skips a document type with what it holds in brackets.
func (r *xmlReader) declaration() {
	depth := 0
	for ; r.at < len(r.text); r.at++ {
		switch r.text[r.at] {
		case '<':
			depth++
		case '>':
			if depth--; depth == 0 {
				r.at++
				return
			}
		}
	}
}

// characters reads text up to the next mark-up.
func (r *xmlReader) characters() {
	from := r.at
	if i := strings.IndexByte(r.text[r.at:], '<'); i >= 0 {
		r.at += i
	} else {
		r.at = len(r.text)
	}
	first, last := from, r.at
	for first < last && strings.IndexByte(xmlBlank, r.text[first]) >= 0 {
		first++
	}
	if first == last {
		return
	}
	for strings.IndexByte(xmlBlank, r.text[last-1]) >= 0 {
		last--
	}
	if bad, message := r.unreadable(first, last); bad >= 0 {
		r.fail(bad, "%s", message)
		return
	}
	if text, ok := r.decode(first, last); ok {
		r.addText(text, first, last, false)
	}
}

// addText adds a run of text to the open element. Runs with elements between them are statements of their own.
func (r *xmlReader) addText(text string, start, end int, cdata bool) {
	if len(r.stack) == 1 {
		r.fail(start, "text outside of an element; expected <")
		return
	}
	f := &r.stack[len(r.stack)-1]
	if f.text.end > 0 && len(r.pending) == f.from {
		between := r.text[f.text.end:start]
		if strings.Contains(between, "<") {
			between = "" // a comment stands between them
		}
		f.text.value += between + text
		f.text.end = end
		return
	}
	if len(r.pending) > f.from && r.pending[len(r.pending)-1].Name == "#text" && strings.Trim(r.text[r.pending[len(r.pending)-1].end:start], xmlBlank) == "" && cdata {
		last := r.pending[len(r.pending)-1]
		last.Words[0].Text += text
		last.open, last.close, last.end = int32(end), int32(end), int32(end)
		r.lead = end
		return
	}
	if hasElements(r.pending[f.from:]) {
		r.textNode(f, xmlText{text, start, end})
		return
	}
	f.text = xmlText{text, start, end}
}

func hasElements(list []*Node) bool {
	for _, n := range list {
		if !strings.HasPrefix(n.Name, "@") {
			return true
		}
	}
	return false
}

func (r *xmlReader) textNode(f *xmlFrame, t xmlText) {
	n := r.node()
	n.Name = "#text"
	n.Line, n.Column = r.where(t.start)
	n.Words = r.keepWords(Word{Text: t.value, Column: int32(n.Column), Quoted: false})
	n.lead, n.own, n.open = int32(r.lead), int32(t.start), int32(t.end)
	n.close, n.end = n.open, n.open
	r.lead = t.end
	r.pending = append(r.pending, n)
}

// flush turns text before a first child element into a statement.
func (r *xmlReader) flush() {
	f := &r.stack[len(r.stack)-1]
	if f.text.end > 0 {
		r.textNode(f, f.text)
		f.text = xmlText{}
	}
}

func (r *xmlReader) name(i int) int {
	for i < len(r.text) && r.text[i] > ' ' && !strings.ContainsRune("<>/=\"'&?!", rune(r.text[i])) && r.text[i] != 0x7f {
		i++
	}
	return i
}

func (r *xmlReader) startTag() {
	start := r.at
	stop := r.name(start + 1)
	if bad, message := r.unreadable(start, stop); bad >= 0 || stop == start+1 {
		if bad < 0 {
			bad, message = start, "expected the name of an element after <"
		}
		r.fail(bad, "%s", message)
		r.at = start + 1
		r.recover()
		return
	}
	r.flush()
	n := r.node()
	n.Name, n.Form = r.text[start+1:stop], Block
	n.Line, n.Column = r.where(start)
	n.lead, n.own = int32(r.lead), int32(start)
	if len(r.stack) == 1 && len(r.pending) > 0 {
		r.fail(start, "a second element beside the first; expected the end of the file")
	}
	r.at = stop
	from := len(r.pending)
	for {
		blank := r.at
		r.space()
		if r.at >= len(r.text) {
			r.fail(start, "a tag begins here and does not end; expected >")
			r.pending = r.pending[:from]
			return
		}
		c := r.text[r.at]
		if c == '>' || c == '/' && strings.HasPrefix(r.text[r.at:], "/>") {
			break
		}
		a, ok := r.attribute(blank)
		if !ok {
			r.recover()
			r.pending = r.pending[:from]
			return
		}
		for _, other := range r.pending[from:] {
			if other.Name == a.Name {
				r.fail(int(a.own), "attribute %s stands here twice; expected it once", a.Name[1:])
			}
		}
		r.pending = append(r.pending, a)
	}
	empty := r.text[r.at] == '/'
	r.at++
	if empty {
		r.at++
	}
	n.open = int32(r.at)
	r.lead = r.at
	if len(r.stack) > MaxDepth {
		r.fail(start, "elements more than %d deep; expected less", MaxDepth)
		r.at = len(r.text)
	}
	// The attributes stand in pending behind the place the element itself will take when it ends.
	r.stack = append(r.stack, xmlFrame{node: n, from: from})
	if empty {
		r.pop(r.at, r.at)
	}
}

func (r *xmlReader) space() {
	for r.at < len(r.text) && strings.IndexByte(xmlBlank, r.text[r.at]) >= 0 {
		r.at++
	}
}

// recover goes on behind a broken tag.
func (r *xmlReader) recover() {
	for r.at < len(r.text) && r.text[r.at] != '>' && r.text[r.at] != '<' {
		r.at++
	}
	if r.at < len(r.text) && r.text[r.at] == '>' {
		r.at++
	}
}

func (r *xmlReader) attribute(lead int) (*Node, bool) {
	start := r.at
	stop := r.name(start)
	if bad, message := r.unreadable(start, stop); bad >= 0 {
		r.fail(bad, "%s", message)
		return nil, false
	}
	if stop == start || lead == start {
		r.fail(start, "expected a blank and an attribute, > or />")
		return nil, false
	}
	r.at = stop
	if r.space(); r.at >= len(r.text) || r.text[r.at] != '=' {
		r.fail(r.at, "expected = after attribute %s", r.text[start:stop])
		return nil, false
	}
	r.at++
	if r.space(); r.at >= len(r.text) || r.text[r.at] != '"' && r.text[r.at] != '\'' {
		r.fail(r.at, "expected the value of attribute %s in quotes", r.text[start:stop])
		return nil, false
	}
	open := r.at
	i := strings.IndexByte(r.text[open+1:], r.text[open])
	if i < 0 {
		r.fail(open, "a value begins here and does not end; expected %c", r.text[open])
		return nil, false
	}
	end := open + 1 + i
	if j := strings.IndexByte(r.text[open+1:end], '<'); j >= 0 {
		r.fail(open+1+j, "a < inside an attribute; expected &lt; or a closing quote")
		r.at = open + 1 + j
		return nil, false
	}
	r.at = end + 1
	if bad, message := r.unreadable(open, end); bad >= 0 {
		r.fail(bad, "%s", message)
		return nil, false
	}
	value, ok := r.decode(open+1, end)
	if !ok {
		return nil, false
	}
	n := r.node()
	n.Name = "@" + r.text[start:stop]
	n.Line, n.Column = r.where(start)
	n.Words = r.keepWords(Word{Text: value, Column: r.column(open + 1), Quoted: false})
	n.lead, n.own, n.open = int32(lead), int32(start), int32(r.at)
	n.close, n.end = n.open, n.open
	return n, true
}

func (r *xmlReader) column(at int) int32 {
	_, c := r.where(at)
	return int32(c)
}

func (r *xmlReader) endTag() {
	start := r.at
	stop := r.name(start + 2)
	name := r.text[start+2 : stop]
	r.at = stop
	if r.space(); r.at >= len(r.text) || r.text[r.at] != '>' {
		r.fail(start, "a closing tag that does not end; expected >")
		r.recover()
	} else {
		r.at++
	}
	depth := len(r.stack) - 1
	for depth > 0 && r.stack[depth].node.Name != name {
		depth--
	}
	switch {
	case depth == 0 && len(r.stack) == 1:
		r.fail(start, "</%s> closes nothing; expected an element or the end of the file", name)
		return
	case depth == 0:
		open := r.stack[len(r.stack)-1].node
		r.fail(start, "</%s> closes nothing; expected </%s> for the element on line %d", name, open.Name, open.Line)
		return
	}
	for len(r.stack)-1 > depth {
		open := r.stack[len(r.stack)-1].node
		r.fail(start, "expected </%s> for the element on line %d before </%s>", open.Name, open.Line, name)
		r.pop(start, start)
	}
	r.pop(start, r.at)
}

// pop ends the innermost element; its closing tag stands from close to end.
func (r *xmlReader) pop(close, end int) {
	f := r.stack[len(r.stack)-1]
	r.stack = r.stack[:len(r.stack)-1]
	n := f.node
	n.close, n.end = int32(r.lead), int32(end)
	if f.text.end > 0 {
		_, column := r.where(f.text.start)
		n.Words = r.keepWords(Word{Text: f.text.value, Column: int32(column), Quoted: false})
	}
	r.keepChildren(n, r.pending[f.from:])
	r.pending = append(r.pending[:f.from], n)
	r.lead = end
}

// decode resolves references in text. Line ends become line feeds (XML 1.0 section 2.11).
func (r *xmlReader) decode(from, to int) (string, bool) {
	s := r.text[from:to]
	if strings.IndexByte(s, '&') < 0 && strings.IndexByte(s, '\r') < 0 {
		return s, true
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		switch c := s[i]; c {
		case '\r':
			b.WriteByte('\n')
			if i++; i < len(s) && s[i] == '\n' {
				i++
			}
		case '&':
			end := strings.IndexByte(s[i:], ';')
			if end < 0 || end > 12 {
				r.fail(from+i, "a & that begins no reference; expected &amp;")
				return "", false
			}
			name := s[i+1 : i+end]
			switch text, known := xmlEntities[name]; {
			case known:
				b.WriteString(text)
			default:
				v, err := uint64(0), strconv.ErrSyntax
				if strings.HasPrefix(name, "#x") {
					v, err = strconv.ParseUint(name[2:], 16, 32)
				} else if strings.HasPrefix(name, "#") {
					v, err = strconv.ParseUint(name[1:], 10, 32)
				}
				if err != nil || !utf8.ValidRune(rune(v)) || v < ' ' && v != '\t' && v != '\n' && v != '\r' || v > utf8.MaxRune || v == 0xfffe || v == 0xffff {
					r.fail(from+i, "reference &%s; is not known; expected one of &lt; &gt; &amp; &quot; &apos; or a character number", name)
					return "", false
				}
				b.WriteRune(rune(v))
			}
			i += end + 1
		default:
			b.WriteByte(c)
			i++
		}
	}
	return b.String(), true
}

var xmlEntities = map[string]string{"lt": "<", "gt": ">", "amp": "&", "quot": `"`, "apos": "'"}

func writeXMLText(b *strings.Builder, s string) {
	for i, c := range s {
		switch {
		case c == '<':
			b.WriteString("&lt;")
		case c == '>':
			b.WriteString("&gt;")
		case c == '&':
			b.WriteString("&amp;")
		case c == '"':
			b.WriteString("&quot;")
		case c == '\r', c == '\n', c == '\t', c == ' ' && (i == 0 || i == len(s)-1):
			b.WriteString("&#" + strconv.Itoa(int(c)) + ";")
		default:
			b.WriteRune(c)
		}
	}
}
