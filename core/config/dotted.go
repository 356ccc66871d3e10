package config

import "strings"

// groups are the statements of blocks that have more than a few: by name the first of each.
type groups map[nameKey]*Node

func (g groups) find(parent *Node, name string) *Node {
	if len(parent.Children) > few {
		return g[nameKey{parent, name}]
	}
	for _, k := range parent.Children {
		if k.Name == name {
			return k
		}
	}
	return nil
}

func (g groups) add(parent, n *Node) {
	n.Parent = parent
	parent.Children = append(parent.Children, n)
	list := parent.Children
	switch {
	case len(list) <= few:
		return
	case len(list) > few+1:
		list = list[len(list)-1:]
	}
	for _, k := range list {
		if key := (nameKey{parent, k.Name}); g[key] == nil {
			g[key] = k
		}
	}
}

// A dottedLine is one statement: its names, what it sets, and where its text lies.
type dottedLine struct {
	names  []string
	value  Word
	number int // of the line
	column int
	lead   int32 // where what stands before it begins
	body   int32
	next   int32
}

// dotted reads lines of the form a.b.c = value. The names before the last become groups; a group has the place of its
// first statement.
func (p *parser) dotted() {
	g := groups{}
	var names, before []string // of this line and of the one before, whose blocks are remembered
	var blocks []*Node
	lead := p.begin()
	held := p.mayHold()
	p.lines(func(number, start, end, next int) {
		body := skipBlanks(p.text, start, end)
		if body == end || p.text[body] == '#' {
			p.comment(body, end)
			return
		}
		if p.commentedOut(body) {
			return
		}
		var eq, bad int
		var message string
		names, eq, bad, message = p.dottedNames(names[:0], body, end)
		if message != "" {
			p.fail(bad, "%s", message)
			return
		}
		value, next, bad, message := p.valueOrText(held, eq+1, start, end, next, " #")
		if message != "" {
			p.fail(bad, "%s", message)
			return
		}
		if len(names) > MaxDepth {
			p.fail(body, "names more than %d deep; expected less", MaxDepth)
			return
		}
		l := dottedLine{names, value, number, body - start + 1, int32(lead), int32(body), int32(next)}
		blocks = p.dottedBlocks(g, &l, before, blocks)
		p.dottedStatement(g, &l, blocks)
		before, names = names, before
		lead = next
	})
	p.root.close = int32(lead)
}

// dottedBlocks finds or makes the blocks of a line, from those of the line before, and extends their texts over it.
func (p *parser) dottedBlocks(g groups, l *dottedLine, before []string, blocks []*Node) []*Node {
	parent := p.root
	same := true
	outer := l.names[:len(l.names)-1]
	for i, name := range outer {
		if same = same && i < len(blocks) && before[i] == name; same {
			parent = blocks[i]
			continue
		}
		blocks = blocks[:i]
		b := g.find(parent, name)
		if b == nil {
			b = p.node()
			b.Name, b.Line, b.Column, b.Form = name, l.number, l.column, Group
			b.lead, b.own, b.open, b.close, b.end = l.body, l.body, l.body, l.lead, l.lead
			g.add(parent, b)
		}
		parent = b
		blocks = append(blocks, b)
	}
	blocks = blocks[:min(len(blocks), len(outer))]
	for _, b := range blocks {
		b.reach(l.lead, l.next)
	}
	return blocks
}

// dottedStatement puts the statement of a line into the last of its blocks. A name that is set twice makes two statements.
func (p *parser) dottedStatement(g groups, l *dottedLine, blocks []*Node) {
	parent := p.root
	if len(blocks) > 0 {
		parent = blocks[len(blocks)-1]
	}
	name := l.names[len(l.names)-1]
	n := g.find(parent, name)
	if n == nil || n.Form != Group {
		n = p.node()
		n.Name = name
		g.add(parent, n)
	}
	n.Words, n.Line, n.Column, n.Form = p.keepWords(l.value), l.number, l.column, Plain
	n.lead, n.own, n.open, n.close, n.end = l.lead, l.body, l.next, l.next, l.next
	if len(n.Children) > 0 { // what stands inside it came first
		n.close, n.end = n.own, n.own
	}
}

// reach extends the text of a block over a line inside it. A block whose lines do not all follow each other has no text of its own.
func (n *Node) reach(from, to int32) {
	if n.end == from {
		n.close, n.end = to, to
	} else {
		n.close, n.end = n.own, n.own
	}
}

// few is up to how many statements of a block are looked through one by one.
const few = 16

type nameKey struct {
	parent *Node
	name   string
}

// lines calls f with the offsets of each line: its start, the end of its text, and the start of the next.
func (p *parser) lines(f func(number, start, end, next int)) {
	for at, number := p.begin(), 1; at < len(p.text) && !p.full(at); number++ {
		next := len(p.text)
		if i := strings.IndexByte(p.text[at:], '\n'); i >= 0 {
			next = at + i + 1
		}
		f(number, at, trimEnding(p.text, at, next), next)
		if p.resume > next {
			number += strings.Count(p.text[next:p.resume], "\n")
			next = p.resume
		}
		at = next
	}
}

func skipBlanks(text string, i, end int) int {
	for i < end && (text[i] == ' ' || text[i] == '\t') {
		i++
	}
	return i
}

// dottedNames reads a.b."c d" up to the = sign, whose offset it returns.
func (p *parser) dottedNames(into []string, i, end int) (names []string, eq, bad int, message string) {
	names = into
	for {
		i = skipBlanks(p.text, i, end)
		if i < end && p.text[i] == '"' {
			name, next, bad, message := p.quoted(i, end)
			if message != "" {
				return nil, 0, bad, message
			}
			if name == "" {
				return nil, 0, i, emptyName
			}
			names = append(names, name)
			i = next
		} else {
			start := i
			for i < end && p.text[i] > ' ' && p.text[i] != '.' && p.text[i] != '=' && p.text[i] != '"' && p.text[i] != '#' && p.text[i] != 0x7f {
				i++
			}
			if i < end && (p.text[i] < ' ' || p.text[i] == 0x7f) || p.binary {
				if bad, message := p.unreadable(start, min(i+1, end)); bad >= 0 {
					return nil, 0, bad, message
				}
			}
			if i == start {
				return nil, 0, i, "expected a name"
			}
			names = append(names, p.text[start:i])
		}
		i = skipBlanks(p.text, i, end)
		switch {
		case i < end && p.text[i] == '.':
			i++
		case i < end && p.text[i] == '=':
			return names, i, 0, ""
		default:
			return nil, 0, i, "expected . or = after a name"
		}
	}
}

// value reads the value after an = sign: a quoted text, or all up to the end of the line or a comment, without the blanks
// around it. comment lists what begins a comment behind a value: a blank and the sign, or several signs.
func (p *parser) value(i, lineStart, end int, comment string) (w Word, bad int, message string) {
	i = skipBlanks(p.text, i, end)
	if i < end && p.text[i] == '"' {
		text, next, bad, message := p.quoted(i, end)
		if message != "" {
			return w, bad, message
		}
		j := skipBlanks(p.text, next, end)
		if j < end && (j == next || !strings.ContainsRune(comment[1:], rune(p.text[j]))) {
			return w, j, "expected the end of the line or a comment after the closing quote"
		}
		return Word{Text: text, Column: int32(i - lineStart + 1), Quoted: true}, 0, ""
	}
	start, stop := i, end
	strange := p.binary
	for j, c := range []byte(p.text[i:end]) {
		if c > '#' && c != ';' && c != 0x7f {
			continue
		}
		strange = strange || c < ' ' || c == 0x7f
		if j += i; stop == end && c != ' ' && strings.IndexByte(comment[1:], c) >= 0 && (j == start || p.text[j-1] == ' ' || p.text[j-1] == '\t') {
			stop = j
		}
	}
	if !strange {
		return Word{Text: strings.TrimRight(p.text[start:stop], " "), Column: int32(start - lineStart + 1)}, 0, ""
	}
	if bad, message := p.unreadable(start, end); bad >= 0 {
		return w, bad, message
	}
	if j := strings.IndexByte(p.text[start:stop], '\r'); j >= 0 {
		return w, start + j, "a carriage return inside a line; expected it only at the end"
	}
	for stop > start && (p.text[stop-1] == ' ' || p.text[stop-1] == '\t') {
		stop--
	}
	return Word{Text: p.text[start:stop], Column: int32(start - lineStart + 1)}, 0, ""
}

// commentedOut skips a comment between /* and */ that begins a line.
func (p *parser) commentedOut(body int) bool {
	stop := p.blockComment(body)
	if stop == 0 {
		return false
	}
	if rest := strings.TrimSpace(p.text[stop:p.endOf(stop)]); rest != "" {
		p.fail(stop, "expected the end of the line behind a comment")
	}
	p.resume = p.lineAfter(stop)
	return true
}

// valueOrText is value, or a raw text where one begins there; next is where what follows begins.
func (p *parser) valueOrText(held bool, i, lineStart, end, after int, comment string) (w Word, next, bad int, message string) {
	if held {
		body := lineStart + skipBlanks(p.text[lineStart:end], 0, end-lineStart)
		text, found, bad, message := p.raw(body, end)
		if message != "" || found && text.at >= i {
			if message == "" && strings.TrimSpace(p.text[text.tail:p.endOf(text.tail)]) != "" {
				bad, message = text.tail, "expected the end of the line behind a text"
			}
			p.resume = text.after
			return Word{Text: text.text, Column: int32(text.at - lineStart + 1), Raw: true}, text.after, bad, message
		}
	}
	w, bad, message = p.value(i, lineStart, end, comment)
	return w, after, bad, message
}

// writeValue writes a value so that value reads it again.
func writeValue(b *strings.Builder, w Word, comment string) {
	plain := !w.Quoted && !strings.HasPrefix(w.Text, `"`) && strings.TrimSpace(w.Text) == w.Text
	for i := 0; plain && i < len(w.Text); i++ {
		if strings.IndexByte(comment[1:], w.Text[i]) >= 0 && (i == 0 || w.Text[i-1] == ' ' || w.Text[i-1] == '\t') {
			plain = false
		}
	}
	if plain {
		b.WriteString(w.Text)
	} else {
		writeQuoted(b, w.Text)
	}
}

// writeDottedName writes one name of a dotted line.
func writeDottedName(b *strings.Builder, name string) {
	if name == "" || strings.ContainsAny(name, " \t.=\"#") {
		writeQuoted(b, name)
	} else {
		b.WriteString(name)
	}
}
