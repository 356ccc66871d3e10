package config

import (
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// A jsonReader reads JSON (RFC 8259). Members of objects and items of lists become nodes; an item has no name. After an
// error it goes on behind the next comma or closing bracket of the same block.
type jsonReader struct {
	*parser
	at      int
	pending []*Node
}

func (p *parser) json() {
	r := &jsonReader{parser: p}
	if strings.HasPrefix(p.text, "\ufeff") { // RFC 8259 section 8.1 lets a reader ignore a byte order mark
		r.at = 3
	}
	r.space()
	if r.at == len(r.text) {
		r.fail(r.at, "the file is empty; expected a JSON value")
		return
	}
	p.root.lead, p.root.own, p.root.Form = 0, int32(r.at), Plain
	if r.value(p.root) {
		if r.space(); r.at < len(r.text) && !p.tooMany {
			r.fail(r.at, "expected the end of the file after the value")
		}
	}
	p.root.end = int32(len(p.text))
}

func (r *jsonReader) space() {
	for r.at < len(r.text) {
		switch r.text[r.at] {
		case ' ', '\t', '\r', '\n':
			r.at++
		default:
			return
		}
	}
}

// value reads a value into n and reports whether it is sound.
func (r *jsonReader) value(n *Node) bool {
	if r.at >= len(r.text) {
		r.fail(r.at, "the file ends here; expected a value")
		return false
	}
	start := r.at
	switch c := r.text[start]; {
	case c == '{' || c == '[':
		if r.depth++; r.depth > MaxDepth {
			r.fail(start, "blocks more than %d deep; expected less", MaxDepth)
			r.at = len(r.text)
			return false
		}
		defer func() { r.depth-- }()
		return r.block(n, c)
	case c == '"':
		text, ok := r.str()
		if !ok {
			return false
		}
		n.Words = r.keepWords(Word{Text: text, Column: r.column(start), Quoted: true})
	default:
		for r.at < len(r.text) && (r.text[r.at] > ' ' && !strings.ContainsRune(`,:{}[]"`, rune(r.text[r.at]))) {
			r.at++
		}
		word := r.text[start:r.at]
		if word != "true" && word != "false" && word != "null" && !isNumber(word) {
			if word == "" {
				r.fail(start, "expected a value")
			} else {
				r.fail(start, "this is not a value; expected text in quotes, a number, true, false or null") // which might be a secret
			}
			return false
		}
		n.Words = r.keepWords(Word{Text: word, Column: r.column(start), Quoted: false})
	}
	n.open, n.close, n.end = int32(r.at), int32(r.at), int32(r.at)
	return true
}

func (r *jsonReader) column(at int) int32 {
	_, c := r.where(at)
	return int32(c)
}

// block reads an object or a list into n.
func (r *jsonReader) block(n *Node, opening byte) bool {
	start := r.at
	closing := byte('}')
	if n.Form = Block; opening == '[' {
		n.Form, closing = List, ']'
	}
	from := len(r.pending)
	defer func() {
		r.keepChildren(n, r.pending[from:])
		r.pending = r.pending[:from]
	}()
	r.at++
	n.open = int32(r.at)
	var seen map[string]int
	for after := byte(opening); ; {
		if r.full(r.at) {
			return false
		}
		inner := r.at
		r.space()
		if r.at >= len(r.text) {
			r.fail(start, "a block begins here and does not end; expected %c", closing)
			n.close, n.end = int32(inner), int32(r.at)
			return false
		}
		c := r.text[r.at]
		if c == closing {
			if after == ',' {
				r.fail(r.at, "a comma before %c; expected another entry", closing)
			}
			n.close = int32(inner)
			r.at++
			n.end = int32(r.at)
			return true
		}
		if after == 0 && c != ',' {
			r.fail(r.at, "expected a comma or %c", closing)
			if c == ':' || c == '}' || c == ']' {
				r.skip(closing)
				continue
			}
		} else if c == ',' {
			if after != 0 {
				r.fail(r.at, "a comma without an entry before it")
			}
			after = ','
			r.at++
			continue
		}
		child := r.node()
		child.Line, child.Column = r.where(r.at)
		child.lead, child.own = int32(r.at), int32(r.at)
		ok := true
		if opening == '{' {
			ok = r.member(child)
			if ok {
				if before := seen[child.Name]; before > 0 {
					r.fail(int(child.own), "%.60q stands in this object twice, before on line %d; expected each name once", child.Name, before)
				}
				if seen == nil {
					seen = map[string]int{}
				}
				seen[child.Name] = child.Line
			}
		}
		ok = ok && r.value(child)
		after = 0
		if ok || len(child.Children) > 0 {
			r.pending = append(r.pending, child)
		}
		if !ok {
			r.skip(closing)
		}
	}
}

// member reads a member's name and colon.
func (r *jsonReader) member(n *Node) bool {
	if r.text[r.at] != '"' {
		r.fail(r.at, `expected a name in quotes or }`)
		return false
	}
	name, ok := r.str()
	if !ok {
		return false
	}
	n.Name = name
	if r.space(); r.at >= len(r.text) || r.text[r.at] != ':' {
		r.fail(r.at, "expected : after the name %.60q", name)
		return false
	}
	r.at++
	r.space()
	return true
}

// skip goes to the comma or closing bracket that ends the broken entry.
func (r *jsonReader) skip(closing byte) {
	depth := 0
	for ; r.at < len(r.text); r.at++ {
		switch c := r.text[r.at]; c {
		case '"':
			for r.at++; r.at < len(r.text) && r.text[r.at] != '"' && r.text[r.at] != '\n'; r.at++ {
				if r.text[r.at] == '\\' {
					r.at++
				}
			}
		case '{', '[':
			depth++
		case '}', ']':
			if depth == 0 {
				if c == closing {
					return
				}
				continue
			}
			depth--
		case ',':
			if depth == 0 {
				return
			}
		}
	}
}

// str reads a string (RFC 8259 section 7).
func (r *jsonReader) str() (string, bool) {
	start := r.at
	r.at++
	from := r.at
	for r.at < len(r.text) {
		c := r.text[r.at]
		switch {
		case c == '"':
			r.at++
			return r.text[from : r.at-1], true
		case c == '\\':
			return r.escaped(start, from)
		case c < ' ':
			r.fail(r.at, "a control character (code %d) inside a string; expected an escape such as \\n, or a closing quote", c)
			return "", false
		case c >= 0x80 && r.binary:
			_, size := utf8.DecodeRuneInString(r.text[r.at:])
			if size == 1 {
				r.fail(r.at, "byte 0x%02x is not UTF-8; expected text in UTF-8", c)
				return "", false
			}
			r.at += size
		default:
			r.at++
		}
	}
	r.fail(start, `a string begins here and does not end; expected a closing "`)
	return "", false
}

// escaped goes on reading a string from its first escape.
func (r *jsonReader) escaped(start, from int) (string, bool) {
	var b strings.Builder
	b.WriteString(r.text[from:r.at])
	for r.at < len(r.text) {
		c := r.text[r.at]
		switch {
		case c == '"':
			r.at++
			return b.String(), true
		case c < ' ':
			r.fail(r.at, "a control character (code %d) inside a string; expected an escape such as \\n, or a closing quote", c)
			return "", false
		case c != '\\':
			ch, size := utf8.DecodeRuneInString(r.text[r.at:])
			if ch == utf8.RuneError && size == 1 {
				r.fail(r.at, "byte 0x%02x is not UTF-8; expected text in UTF-8", c)
				return "", false
			}
			b.WriteString(r.text[r.at : r.at+size])
			r.at += size
		default:
			if r.at+1 < len(r.text) {
				if i := strings.IndexByte(`"\/bfnrt`, r.text[r.at+1]); i >= 0 {
					b.WriteByte("\"\\/\b\f\n\r\t"[i])
					r.at += 2
					continue
				}
			}
			u, ok := r.hex(r.at)
			if !ok {
				r.fail(r.at, `an escape that JSON does not know; expected one of \" \\ \/ \b \f \n \r \t \u0000`)
				return "", false
			}
			at := r.at
			r.at += 6
			if utf16.IsSurrogate(u) {
				low, ok := r.hex(r.at)
				if u = utf16.DecodeRune(u, low); !ok || u == utf8.RuneError {
					r.fail(at, `half of a surrogate pair; expected both halves`)
					return "", false
				}
				r.at += 6
			}
			b.WriteRune(u)
		}
	}
	r.fail(start, `a string begins here and does not end; expected a closing "`)
	return "", false
}

// hex reads \uXXXX at an offset.
func (r *jsonReader) hex(at int) (rune, bool) {
	if at+6 > len(r.text) || r.text[at] != '\\' || r.text[at+1] != 'u' {
		return 0, false
	}
	v, err := strconv.ParseUint(r.text[at+2:at+6], 16, 16)
	return rune(v), err == nil
}

// isNumber reports whether a word is a number (RFC 8259 section 6).
func isNumber(s string) bool {
	i := 0
	digits := func() bool {
		from := i
		for i < len(s) && s[i] >= '0' && s[i] <= '9' {
			i++
		}
		return i > from
	}
	if i < len(s) && s[i] == '-' {
		i++
	}
	if i < len(s) && s[i] == '0' {
		i++
	} else if !digits() {
		return false
	}
	if i < len(s) && s[i] == '.' {
		if i++; !digits() {
			return false
		}
	}
	if i < len(s) && (s[i] == 'e' || s[i] == 'E') {
		if i++; i < len(s) && (s[i] == '+' || s[i] == '-') {
			i++
		}
		if !digits() {
			return false
		}
	}
	return i == len(s)
}

func writeJSONString(b *strings.Builder, s string) {
	b.WriteByte('"')
	from := 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= ' ' && c != '"' && c != '\\' {
			continue
		}
		b.WriteString(s[from:i])
		from = i + 1
		if j := strings.IndexByte("\"\\\b\f\n\r\t", c); j >= 0 {
			b.WriteByte('\\')
			b.WriteByte(`"\bfnrt`[j])
		} else {
			b.WriteString(`\u00`)
			b.WriteByte("0123456789abcdef"[c>>4])
			b.WriteByte("0123456789abcdef"[c&15])
		}
	}
	b.WriteString(s[from:])
	b.WriteByte('"')
}
