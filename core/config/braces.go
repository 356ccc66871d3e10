package config

import "strings"

// braces reads statements that end with ; and blocks in { }. A statement stands on one line up to its ; or {, so that a
// forgotten ; is found where it is missing.
func (p *parser) braces() {
	type frame struct {
		node *Node
		from int
	}
	stack := []frame{{node: p.root}}
	var pending []*Node
	var words []Word
	held := p.mayHold()
	lead, at := p.begin(), p.begin()
	line, lineStart := 1, at
	newline := func() { at++; line++; lineStart = at }
	skipLine := func() {
		for at < len(p.text) && p.text[at] != '\n' {
			at++
		}
	}
	// rest takes blanks, a comment and the line ending after a ; or brace into what came before.
	rest := func() {
		i := at
		for i < len(p.text) && (p.text[i] == ' ' || p.text[i] == '\t' || p.text[i] == '\r') {
			i++
		}
		if i < len(p.text) && p.text[i] == '#' {
			at = i
			skipLine()
			p.comment(i, at)
			i = at
		}
		if strings.HasPrefix(p.text[i:min(i+2, len(p.text))], "/*") {
			if stop := strings.Index(p.text[i:p.endOf(i)], "*/"); stop > 0 && strings.TrimSpace(p.text[i+stop+2:p.endOf(i)]) == "" { // on this line, and last
				p.comment(i, i+stop)
				i = p.endOf(i)
			}
		}
		if i == len(p.text) {
			at = i
		} else if p.text[i] == '\n' {
			at = i
			newline()
		}
	}
	for at < len(p.text) && !p.full(at) {
		switch c := p.text[at]; {
		case c == '\n':
			newline()
		case c == ' ' || c == '\t' || c == '\r':
			at++
		case c == '#':
			from := at
			skipLine()
			p.comment(from, at)
		case c == '/' && strings.HasPrefix(p.text[at:], "/*"):
			from := at
			at = p.blockComment(at)
			if n := strings.Count(p.text[from:at], "\n"); n > 0 {
				line, lineStart = line+n, strings.LastIndexByte(p.text[:at], '\n')+1
			}
		case c == '}':
			if len(stack) == 1 {
				p.fail(at, "a closing } without a block; expected a statement")
				at++
				continue
			}
			f := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			p.keepChildren(f.node, pending[f.from:])
			pending = pending[:f.from]
			f.node.close = int32(lead)
			at++
			rest()
			f.node.end = int32(at)
			lead = at
		case c == ';':
			p.fail(at, "a ; without a statement; expected a word")
			at++
		case c == '{':
			p.fail(at, "a block without a name; expected a word before {")
			at++
			// Keep the pairs of braces right: read it as a block whose content is sound.
			n := p.node()
			n.Line, n.Column, n.Form = line, at-lineStart, Block
			n.lead, n.own, n.open = int32(lead), int32(at-1), int32(at)
			lead = at
			pending = append(pending, n)
			stack = append(stack, frame{n, len(pending)})
		default:
			from := at
			var end int
			var message string
			var text rawText
			found := false
			if held {
				text, found, end, message = p.raw(at, p.endOf(at))
			}
			switch {
			case message != "":
			case found:
				if words, end, message = p.splitWords(words[:0], lineStart, at, text.at); message == "" && len(words) == 0 {
					end, message = text.at, "a text without a statement before it that it belongs to"
				}
				words = append(words, Word{Text: text.text, Column: int32(text.at - lineStart + 1), Raw: true})
				if message == "" {
					if end = skipBlanks(p.text, text.tail, len(p.text)); end == len(p.text) || p.text[end] != ';' {
						end, message = text.tail, "expected ; behind a text"
					}
				}
			default:
				words, end, message = p.bracesWords(words[:0], lineStart, at)
			}
			if message != "" {
				p.fail(end, "%s", message)
				if found {
					line, at = line+strings.Count(p.text[at:text.after], "\n"), text.after
					lineStart = at
				} else {
					skipLine()
				}
				continue
			}
			n := p.node()
			n.Name, n.Words, n.Line, n.Column = words[0].Text, p.keepWords(words[1:]...), line, from-lineStart+1
			n.lead, n.own = int32(lead), int32(from)
			if found {
				line += strings.Count(p.text[at:end], "\n")
				lineStart = strings.LastIndexByte(p.text[:end], '\n') + 1
			}
			at = end + 1
			rest()
			n.open, n.close, n.end = int32(at), int32(at), int32(at)
			lead = at
			pending = append(pending, n)
			if p.text[end] == '{' {
				n.Form = Block
				if len(stack) > MaxDepth {
					p.fail(from, "blocks more than %d deep; expected less", MaxDepth)
					at = len(p.text)
				}
				stack = append(stack, frame{n, len(pending)})
			}
		}
	}
	for len(stack) > 1 {
		f := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if !p.tooMany && len(p.broken) < maxBroken {
			p.fail(int(f.node.own), "a block begins here and does not end; expected }")
		}
		p.keepChildren(f.node, pending[f.from:])
		pending = pending[:f.from]
		f.node.close, f.node.end = int32(lead), int32(lead)
	}
	p.keepChildren(p.root, pending)
	p.root.close = int32(lead)
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
