package config

import "strings"

// tabStop is how far a tab in an indentation goes: to the next multiple.
const tabStop = 8

// An indentParser reads one statement a line, made of words; lines that are indented deeper stand inside.
type indentParser struct {
	*parser
	at, number, lead int // the next line, the number of the one that is read, and where what stands before the next statement begins
	stack            []indented
	pending          []*Node // statements of all blocks that are open
	words            []Word
}

// An indented statement may have others inside it.
type indented struct {
	indent int
	node   *Node
	first  *Node // its first statement, which sets the indentation of the others
	inner  int   // that indentation
	from   int   // where its children begin in pending
}

func (p *parser) blockIndent() {
	b := &indentParser{parser: p, at: p.begin(), lead: p.begin(), stack: []indented{{indent: -1, node: p.root}}}
	held := p.mayHold()
	for b.at < len(p.text) && !p.full(b.at) {
		start, next := b.at, p.lineAfter(b.at)
		b.at = next
		b.number++
		end := trimEnding(p.text, start, next)
		body, indent := start, 0
		for ; body < end && (p.text[body] == ' ' || p.text[body] == '\t'); body++ {
			if indent++; p.text[body] == '\t' {
				indent = (indent + tabStop - 1) / tabStop * tabStop
			}
		}
		if body == end || p.text[body] == '#' {
			p.comment(body, end)
			continue
		}
		if stop := p.blockComment(body); stop > 0 {
			b.at = p.lineAfter(stop)
			b.number += strings.Count(p.text[next:b.at], "\n")
			if rest := strings.TrimSpace(p.text[stop:p.endOf(stop)]); rest != "" {
				p.fail(stop, "expected the end of the line behind a comment")
			}
			continue
		}
		line := b.number
		var text rawText
		if held {
			var sound bool
			if text, sound = b.rawText(start, body, end); !sound {
				continue
			}
			if text.after > 0 {
				next, end = text.after, text.at
			}
		}
		b.statement(line, start, body, end, next, indent, text)
		if len(b.stack) > MaxDepth+1 {
			break
		}
	}
	for len(b.stack) > 0 {
		b.leave()
	}
	// What stands between a block and what follows it belongs to what follows.
	spanIndent(p.root)
	p.root.close, p.root.end = int32(b.lead), int32(len(p.text))
}

// leave ends the innermost statement.
func (b *indentParser) leave() {
	f := b.stack[len(b.stack)-1]
	b.keepChildren(f.node, b.pending[f.from:])
	b.pending = b.pending[:f.from]
	b.stack = b.stack[:len(b.stack)-1]
}

// rawText reads a raw text that begins on a line. sound is false when the line needs no more looking at: the text is broken, or belongs to the
// statement before.
func (b *indentParser) rawText(start, body, end int) (text rawText, sound bool) {
	text, found, bad, message := b.raw(body, end)
	if message != "" {
		b.fail(bad, "%s", message)
		return text, false
	}
	if !found {
		return rawText{}, true
	}
	b.at = text.after
	b.number += strings.Count(b.text[end:text.after], "\n") - 1
	if rest := strings.TrimSpace(b.text[text.tail:b.endOf(text.tail)]); rest != "" {
		b.fail(text.tail, "expected the end of the line behind a text")
		return text, false
	}
	if text.own {
		if !b.holdsText(b.pending, b.lead, start, text) {
			b.fail(text.at, "a text without a statement before it that it belongs to")
		}
		b.lead = text.after
	}
	return text, !text.own
}

// statement reads the words of a line and puts what they say into its block.
func (b *indentParser) statement(number, start, body, end, next, indent int, text rawText) {
	var bad int
	var message string
	if b.words, bad, message = b.splitWords(b.words[:0], start, body, end); message != "" {
		b.fail(bad, "%s", message)
		return
	}
	if text.after > 0 {
		b.words = append(b.words, Word{Text: text.text, Column: int32(text.at - start + 1), Raw: true})
	}
	for b.stack[len(b.stack)-1].indent >= indent {
		b.leave()
	}
	top := &b.stack[len(b.stack)-1]
	if top.node == b.root && indent > 0 {
		b.fail(body, "indented by %d, but no statement above it is a block; expected no indentation", indent)
	} else if top.first != nil && top.inner != indent {
		b.fail(body, "indented by %d, but its block began with %d on line %d", indent, top.inner, top.first.Line)
	}
	if len(b.stack) > MaxDepth {
		b.fail(body, "blocks more than %d deep; expected less", MaxDepth)
	}
	n := b.node()
	n.Name, n.Words, n.Line, n.Column = b.words[0].Text, b.keepWords(b.words[1:]...), number, body-start+1
	n.lead, n.own, n.open = int32(b.lead), int32(body), int32(next)
	n.close, n.end = n.open, n.open
	b.lead = next
	if top.first == nil {
		top.first, top.inner = n, indent
		top.node.Form = Block
	}
	b.pending = append(b.pending, n)
	b.stack = append(b.stack, indented{indent, n, nil, 0, len(b.pending)})
}

// holdsText gives a text that stands behind a statement, on lines of its own, to it.
func (p *parser) holdsText(pending []*Node, lead, start int, text rawText) bool {
	if len(pending) == 0 || lead != start || int(pending[len(pending)-1].open) != start {
		return false
	}
	n := pending[len(pending)-1]
	n.Words = p.keepWords(append(append([]Word{}, n.Words...), Word{Text: text.text, Column: 1, Raw: true})...)
	n.open, n.close, n.end = int32(text.after), int32(text.after), int32(text.after)
	return true
}

func spanIndent(n *Node) {
	for _, c := range n.Children {
		spanIndent(c)
	}
	if k := len(n.Children); k > 0 {
		n.close = n.Children[k-1].end
		n.end = n.close
	}
}

// blockComment returns where a comment between /* and */ that begins at an offset ends; 0 when none begins there.
func (p *parser) blockComment(at int) int {
	if !strings.HasPrefix(p.text[at:], "/*") {
		return 0
	}
	i := strings.Index(p.text[at+2:], "*/")
	if i < 0 {
		p.fail(at, "a comment begins here and does not end; expected */")
		return len(p.text)
	}
	p.comment(at, at+2+i)
	return at + 2 + i + 2
}

// comment reports what may not stand in a comment; the comment is kept all the same.
func (p *parser) comment(from, to int) {
	if bad, message := p.unreadable(from, to); bad >= 0 {
		p.fail(bad, "%s", message)
	}
}

// trimEnding returns where a line's text ends, before its line feed and carriage return.
func trimEnding(text string, start, end int) int {
	for end > start && (text[end-1] == '\n' || text[end-1] == '\r') {
		end--
	}
	return end
}

// splitWords cuts a line into words; # where a word could begin starts a comment. On failure it returns the offset of
// the broken place and what is wrong.
func (p *parser) splitWords(words []Word, lineStart, i, end int) ([]Word, int, string) {
	text := p.text
	for i < end {
		switch c := text[i]; {
		case c == ' ' || c == '\t':
			i++
		case c == '#':
			if bad, message := p.unreadable(i, end); bad >= 0 {
				return nil, bad, message
			}
			return words, 0, ""
		case c == '"':
			w, next, bad, message := p.quoted(i, end)
			if message != "" {
				return nil, bad, message
			}
			if next < end && text[next] != ' ' && text[next] != '\t' {
				return nil, next, "expected a space after the closing quote"
			}
			if w == "" && len(words) == 0 {
				return nil, i, emptyName
			}
			words = append(words, Word{Text: w, Column: int32(i - lineStart + 1), Quoted: true})
			i = next
		default:
			start := i
			for i < end && text[i] > ' ' && text[i] != 0x7f && text[i] != '"' {
				i++
			}
			if i < end && text[i] == '"' {
				return nil, i, "a quote inside a word; quote the whole word"
			}
			if i < end && text[i] != ' ' && text[i] != '\t' || p.binary {
				if bad, message := p.unreadable(start, min(i+1, end)); bad >= 0 {
					return nil, bad, message
				}
				if i < end && text[i] < ' ' && text[i] != '\t' { // a carriage return inside the line
					return nil, i, "a carriage return inside a line; expected it only at the end"
				}
			}
			words = append(words, Word{Text: text[start:i], Column: int32(start - lineStart + 1)})
		}
	}
	return words, 0, ""
}

const emptyName = "an empty name; expected a word"

// quoted reads a word in double quotes that begins at i; a backslash takes the next character as it is.
func (p *parser) quoted(i, end int) (word string, next, bad int, message string) {
	start := i
	plain := true
	for i++; ; i++ {
		if i >= end {
			return "", 0, start, `a quoted word begins here and does not end; expected a closing "`
		}
		if c := p.text[i]; c == '"' {
			break
		} else if c == '\\' && i+1 < end && p.text[i+1] >= ' ' && p.text[i+1] < 0x7f {
			plain = false
			i++
		} else if c < ' ' && c != '\t' || c == 0x7f || p.binary && c >= 0x80 {
			if bad, message := p.unreadable(i, min(i+4, end)); bad == i {
				return "", 0, bad, message
			} else if c == '\r' {
				return "", 0, i, "a carriage return inside a line; expected it only at the end"
			}
		}
	}
	word = p.text[start+1 : i]
	if !plain {
		var b strings.Builder
		for j := 0; j < len(word); j++ {
			if word[j] == '\\' && j+1 < len(word) && word[j+1] < 0x7f {
				j++
			}
			b.WriteByte(word[j])
		}
		word = b.String()
	}
	return word, i + 1, 0, ""
}

// writeWords writes a statement's name and words as block-indent and braces write them. In braces a word may not hold
// the signs that end a statement.
func writeWords(b *strings.Builder, n *Node, braces bool) {
	sep := ""
	if n.Name != "" {
		writeWord(b, n.Name, false, braces)
		sep = " "
	}
	for _, w := range n.Words {
		b.WriteString(sep)
		writeWord(b, w.Text, w.Quoted, braces)
		sep = " "
	}
}

func writeWord(b *strings.Builder, w string, quoted, braces bool) {
	if quoted || !bare(w, braces) {
		writeQuoted(b, w)
		return
	}
	b.WriteString(w)
}

// bare reports whether a word needs no quotes.
func bare(w string, braces bool) bool {
	for i := range len(w) {
		switch c := w[i]; {
		case c == ' ' || c == '"' || c == '#' || c == '\t' || c == '\r' || c == '\n', braces && (c == ';' || c == '{' || c == '}'):
			return false
		}
	}
	return w != ""
}

func writeQuoted(b *strings.Builder, w string) {
	b.WriteByte('"')
	for i := range len(w) {
		if w[i] == '"' || w[i] == '\\' {
			b.WriteByte('\\')
		}
		b.WriteByte(w[i])
	}
	b.WriteByte('"')
}
