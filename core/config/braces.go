package config

import "strings"

// A bracesParser reads statements that end with ; and blocks in { }. A statement stands on one line up to its ; or {, so that a
// forgotten ; is found where it is missing.
type bracesParser struct {
	*parser
	at, lead        int // where it is, and where what stands before the next statement begins
	line, lineStart int
	stack           []openBlock
	pending         []*Node // statements of all blocks that are open
	words           []Word
	held            bool // there may be raw texts
}

// An openBlock is one whose end was not read yet.
type openBlock struct {
	node *Node
	from int // where its statements begin in pending
}

func (p *parser) braces() {
	b := &bracesParser{parser: p, at: p.begin(), lead: p.begin(), line: 1, lineStart: p.begin(), stack: []openBlock{{node: p.root}}, held: p.mayHold()}
	for b.at < len(p.text) && !p.full(b.at) {
		switch c := p.text[b.at]; {
		case c == '\n':
			b.newline()
		case c == ' ' || c == '\t' || c == '\r':
			b.at++
		case c == '#':
			from := b.at
			b.skipLine()
			p.comment(from, b.at)
		case c == '/' && strings.HasPrefix(p.text[b.at:], "/*"):
			from := b.at
			b.at = p.blockComment(b.at)
			if n := strings.Count(p.text[from:b.at], "\n"); n > 0 {
				b.line, b.lineStart = b.line+n, strings.LastIndexByte(p.text[:b.at], '\n')+1
			}
		case c == '}' && len(b.stack) == 1:
			p.fail(b.at, "a closing } without a block; expected a statement")
			b.at++
		case c == '}':
			n := b.leave()
			n.close = int32(b.lead)
			b.at++
			b.rest()
			n.end = int32(b.at)
			b.lead = b.at
		case c == ';':
			p.fail(b.at, "a ; without a statement; expected a word")
			b.at++
		case c == '{':
			p.fail(b.at, "a block without a name; expected a word before {")
			b.at++
			// Keep the pairs of braces right: read it as a block whose content is sound.
			n := p.node()
			n.Line, n.Column, n.Form = b.line, b.at-b.lineStart, Block
			n.lead, n.own, n.open = int32(b.lead), int32(b.at-1), int32(b.at)
			b.lead = b.at
			b.pending = append(b.pending, n)
			b.stack = append(b.stack, openBlock{n, len(b.pending)})
		default:
			b.statement()
		}
	}
	for len(b.stack) > 1 {
		n := b.stack[len(b.stack)-1].node
		if !p.tooMany && len(p.broken) < maxBroken {
			p.fail(int(n.own), "a block begins here and does not end; expected }")
		}
		b.leave()
		n.close, n.end = int32(b.lead), int32(b.lead)
	}
	b.leave()
	p.root.close = int32(b.lead)
}

func (b *bracesParser) newline() {
	b.at++
	b.line++
	b.lineStart = b.at
}

func (b *bracesParser) skipLine() {
	for b.at < len(b.text) && b.text[b.at] != '\n' {
		b.at++
	}
}

// leave ends the innermost block and returns it.
func (b *bracesParser) leave() *Node {
	o := b.stack[len(b.stack)-1]
	b.stack = b.stack[:len(b.stack)-1]
	b.keepChildren(o.node, b.pending[o.from:])
	b.pending = b.pending[:o.from]
	return o.node
}

// rest takes blanks, a comment and the line ending after a ; or brace into what came before.
func (b *bracesParser) rest() {
	i := b.at
	for i < len(b.text) && (b.text[i] == ' ' || b.text[i] == '\t' || b.text[i] == '\r') {
		i++
	}
	if i < len(b.text) && b.text[i] == '#' {
		b.at = i
		b.skipLine()
		b.comment(i, b.at)
		i = b.at
	}
	if strings.HasPrefix(b.text[i:min(i+2, len(b.text))], "/*") {
		if stop := strings.Index(b.text[i:b.endOf(i)], "*/"); stop > 0 && strings.TrimSpace(b.text[i+stop+2:b.endOf(i)]) == "" { // on this line, and last
			b.comment(i, i+stop)
			i = b.endOf(i)
		}
	}
	if i == len(b.text) {
		b.at = i
	} else if b.text[i] == '\n' {
		b.at = i
		b.newline()
	}
}

// statement reads one, up to its ; or {.
func (b *bracesParser) statement() {
	from := b.at
	end, after, message := b.head()
	if message != "" {
		b.fail(end, "%s", message)
		if after > 0 { // behind its raw text
			b.line, b.at = b.line+strings.Count(b.text[b.at:after], "\n"), after
			b.lineStart = b.at
		} else {
			b.skipLine()
		}
		return
	}
	n := b.node()
	n.Name, n.Words, n.Line, n.Column = b.words[0].Text, b.keepWords(b.words[1:]...), b.line, from-b.lineStart+1
	n.lead, n.own = int32(b.lead), int32(from)
	if after > 0 {
		b.line += strings.Count(b.text[b.at:end], "\n")
		b.lineStart = strings.LastIndexByte(b.text[:end], '\n') + 1
	}
	b.at = end + 1
	b.rest()
	n.open, n.close, n.end = int32(b.at), int32(b.at), int32(b.at)
	b.lead = b.at
	b.pending = append(b.pending, n)
	if b.text[end] == '{' {
		n.Form = Block
		if len(b.stack) > MaxDepth {
			b.fail(from, "blocks more than %d deep; expected less", MaxDepth)
			b.at = len(b.text)
		}
		b.stack = append(b.stack, openBlock{n, len(b.pending)})
	}
}

// head reads the words of a statement. It returns the offset of its ; or {, and where the line behind its raw text begins, 0 when it has
// none; on failure the offset of the broken place and what is wrong.
func (b *bracesParser) head() (end, after int, message string) {
	var text rawText
	found := false
	if b.held {
		text, found, end, message = b.raw(b.at, b.endOf(b.at))
	}
	if message != "" {
		return end, 0, message
	}
	if !found {
		b.words, end, message = b.bracesWords(b.words[:0], b.lineStart, b.at)
		return end, 0, message
	}
	if b.words, end, message = b.splitWords(b.words[:0], b.lineStart, b.at, text.at); message == "" && len(b.words) == 0 {
		end, message = text.at, "a text without a statement before it that it belongs to"
	}
	b.words = append(b.words, Word{Text: text.text, Column: int32(text.at - b.lineStart + 1), Raw: true})
	if message == "" {
		if end = skipBlanks(b.text, text.tail, len(b.text)); end == len(b.text) || b.text[end] != ';' {
			end, message = text.tail, "expected ; behind a text"
		}
	}
	return end, text.after, message
}

// bracesWords cuts a statement into words up to its ; or {, whose offset it returns; on failure the offset of the broken
// place and what is wrong.
func (p *parser) bracesWords(words []Word, lineStart, i int) ([]Word, int, string) {
	end := len(p.text)
	if j := strings.IndexByte(p.text[i:], '\n'); j >= 0 {
		end = i + j
	}
	for i < end {
		switch c := p.text[i]; {
		case c == ' ' || c == '\t' || c == '\r' && i+1 == end:
			i++
		case c == ';' || c == '{':
			return words, i, ""
		case c == '}' || c == '#':
			return nil, i, "expected ; or { before this"
		case c == '"':
			w, next, bad, message := p.quoted(i, end)
			if message != "" {
				return nil, bad, message
			}
			if next < end && !strings.ContainsRune(" \t;{\r", rune(p.text[next])) {
				return nil, next, "expected a space, ; or { after the closing quote"
			}
			if w == "" && len(words) == 0 {
				return nil, i, emptyName
			}
			words = append(words, Word{Text: w, Column: int32(i - lineStart + 1), Quoted: true})
			i = next
		default:
			start := i
			for i < end && p.text[i] > ' ' && !strings.ContainsRune("\";{}#\x7f", rune(p.text[i])) {
				i++
			}
			if i < end && p.text[i] == '"' {
				return nil, i, "a quote inside a word; quote the whole word"
			}
			if i == start || p.binary || p.text[i-1] >= 0x80 {
				if bad, message := p.unreadable(start, min(i+1, end)); bad >= 0 {
					return nil, bad, message
				}
				if i == start {
					return nil, i, "a carriage return inside a line; expected it only at the end"
				}
			}
			words = append(words, Word{Text: p.text[start:i], Column: int32(start - lineStart + 1)})
		}
	}
	return nil, end, "the line ends here; expected ; or {"
}
