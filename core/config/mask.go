package config

import (
	"slices"
	"sort"
	"strings"
	"unicode"
)

// Mask stands in place of a secret.
const Mask = "***"

// Masked is the text of a statement with *** for its secret words; unless flat, with all inside it, indented by two.
func (s *Schema) Masked(n *Node, flat bool) string {
	st, _ := s.describeSecret(n)
	return s.maskedAs(n, st, s.IsSecret(n.Parent), flat)
}

// maskedAs is Masked where it is known what the schema says of the statement, and whether a block around it holds secret words.
func (s *Schema) maskedAs(n *Node, st *Statement, inherited, flat bool) string {
	if s.Top == nil && flat { // nothing is inherited where nobody described the blocks
		inherited = false
	}
	if n.Parent != nil && !inherited && (flat || len(n.Children) == 0) {
		from, secret := s.secret(n, st)
		return oneLine(n, from, secret)
	}
	var b strings.Builder
	s.masked(&b, n, st, inherited, flat, "")
	return strings.TrimPrefix(b.String(), "\n")
}

func (s *Schema) masked(b *strings.Builder, n *Node, st *Statement, inherited, flat bool, indent string) {
	from, secret := s.secret(n, st)
	if inherited {
		from, secret = 0, true
	}
	switch {
	case n.Parent == nil:
		b.WriteString("(the whole file)")
		return
	case n.Name != "" || len(n.Words) > 0:
		b.WriteString("\n" + indent)
		indent += "  "
	}
	switch {
	case !secret:
		writeWords(b, n, false)
	default:
		shown := &Node{Name: n.Name, Words: n.Words[:min(from, len(n.Words))]}
		writeWords(b, shown, false)
		for range n.Words[min(from, len(n.Words)):] {
			if b.Len() > 0 {
				b.WriteByte(' ')
			}
			b.WriteString(Mask)
		}
	}
	if flat {
		return
	}
	for _, c := range n.Children {
		s.masked(b, c, st.of(c), secret && inheritsSecret(st), false, indent)
	}
}

func inheritsSecret(st *Statement) bool { return st != nil && st.Secret }

// A span is a piece of a text that is replaced.
type span struct {
	from, to int
	text     string
}

// MaskText returns the text of a configuration with *** for all secrets, everything else as it is. Lines stay where they
// are. Comments that speak of secrets are masked whole. Lines that could not be read, or hold nothing that could be, are
// replaced, since nobody can tell what is secret in them.
func (s *Schema) MaskText(name, text string) string {
	d, broken := s.Parse(name, text)
	if len(text) > MaxSize {
		return Mask + " (too large to be read)\n"
	}
	var spans []span
	words := s.secretNames()
	readable := map[int]bool{} // lines on which a sound statement begins
	var walk func(n *Node, st *Statement, inherited bool)
	walk = func(n *Node, st *Statement, inherited bool) {
		from, secret := s.secret(n, st)
		if inherited {
			from, secret = 0, true
		}
		if n.Parent != nil {
			readable[n.Line] = true
			if secret && from < len(n.Words) {
				if sp, ok := d.maskWords(n, from); ok {
					spans = append(spans, sp)
				}
			}
		}
		for _, c := range n.Children {
			walk(c, st.of(c), secret && inheritsSecret(st))
		}
	}
	walk(d.Root, s.top(), false)
	switch d.Syntax {
	case XML:
		spans = append(spans, maskBlockComments(text, "<!--", "-->", words)...)
	case BlockIndent, Braces, Dotted, INI:
		spans = append(spans, maskBlockComments(text, "/*", "*/", words)...)
	}
	sort.SliceStable(spans, func(i, j int) bool { return spans[i].from < spans[j].from })
	var b strings.Builder
	at := 0
	for _, sp := range spans {
		if sp.from < at {
			continue
		}
		b.WriteString(text[at:sp.from])
		b.WriteString(sp.text)
		at = sp.to
	}
	b.WriteString(text[at:])
	if len(broken) == 0 {
		return s.maskComments(b.String(), words)
	}
	unreadable := map[int]bool{}
	for _, e := range broken {
		unreadable[e.Line] = true
	}
	lines := splitLines(s.maskComments(b.String(), words))
	structured := d.Syntax == JSON || d.Syntax == XML || d.Syntax == Braces
	for i, l := range lines {
		spoken := strings.ContainsFunc(l, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) || r == unicode.ReplacementChar })
		comment := strings.HasPrefix(strings.TrimLeft(l, " \t"), "#")
		if unreadable[i+1] || len(broken) == maxBroken && i+1 > broken[len(broken)-1].Line || structured && spoken && !comment && !readable[i+1] {
			lines[i] = Mask + " (a line that could not be read)" + l[trimEnding(l, 0, len(l)):]
		}
	}
	return strings.Join(lines, "")
}

// maskWords is the place of a statement's secret words in the source.
func (d *Document) maskWords(n *Node, from int) (span, bool) {
	head := d.source[n.own:n.open]
	switch d.Syntax {
	case JSON:
		return span{int(n.own), int(n.end), jsonHead(n) + strings.Repeat("\n", strings.Count(d.source[n.own:n.end], "\n")) + `"` + Mask + `"`}, true
	case XML:
		if isAttribute(n) {
			return span{int(n.own), int(n.open), n.Name[1:] + `="` + Mask + `"` + strings.Repeat("\n", strings.Count(head, "\n"))}, true
		}
		if n.Name == "#text" {
			return span{int(n.own), int(n.open), Mask + strings.Repeat("\n", strings.Count(head, "\n"))}, true
		}
		inner := d.source[n.open:n.end]
		end := strings.LastIndex(inner, "</")
		if end < 0 {
			end = len(inner)
		}
		return span{int(n.open), int(n.open) + end, Mask + strings.Repeat("\n", strings.Count(inner[:end], "\n"))}, true
	}
	if n.IsRaw() {
		w := newWriter(d)
		lines := strings.Count(head, "\n")
		text := oneLine(n, from, true)
		switch {
		case d.Syntax == Dotted:
			text = head[:strings.IndexByte(head, '=')+1] + " " + Mask
		case d.Syntax == INI:
			text = n.Name + " = " + Mask
		}
		return span{int(n.own), int(n.open), text + strings.Repeat(w.newline, lines)}, true
	}
	start := int(n.own) + int(n.Words[from].Column) - n.Column
	w := newWriter(d)
	signs := "#"
	if d.Syntax == INI {
		signs = "#;"
	}
	end := int(n.open) - len(w.after(n, signs))
	if d.Syntax == Braces {
		end = start
		if _, stop, message := (&parser{text: d.source}).bracesWords(nil, int(n.own), int(n.own)); message == "" {
			end = stop
			for end > start && (d.source[end-1] == ' ' || d.source[end-1] == '\t') {
				end--
			}
		}
	}
	if d.Syntax == INI && n.Form == Block {
		end = start + strings.LastIndexByte(d.source[start:end], ']')
	}
	if end < start {
		return span{}, false
	}
	return span{start, end, strings.TrimRight(strings.Repeat(Mask+" ", len(n.Words)-from), " ")}, true
}

func jsonHead(n *Node) string {
	if n.Parent == nil || n.Parent.Form == List {
		return ""
	}
	var b strings.Builder
	writeJSONString(&b, n.Name)
	return b.String() + ": "
}

// secretNames are the names and words that secrets stand behind.
func (s *Schema) secretNames() []string {
	names := slices.Clone(s.Secrets)
	if s.Top != nil {
		s.Top.Walk(func(st *Statement) {
			if st.Secret && st.Name != "" {
				names = append(names, strings.TrimPrefix(st.Name, "@"))
			}
		})
	}
	return names
}

// speaksOf reports whether a comment has one of the names in it as a word.
func speaksOf(comment string, names []string) bool {
	if strings.TrimSpace(comment) == "" {
		return false
	}
	for _, w := range strings.FieldsFunc(comment, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '-' && r != '_' }) {
		if slices.Contains(names, w) {
			return true
		}
	}
	return false
}

// maskBlockComments replaces comments that speak of secrets; lines stay.
func maskBlockComments(text, open, closing string, names []string) (out []span) {
	for at := 0; ; {
		i := strings.Index(text[at:], open)
		if i < 0 {
			return out
		}
		from := at + i + len(open)
		end := strings.Index(text[from:], closing)
		if end < 0 {
			end = len(text) - from
		}
		if body := text[from : from+end]; speaksOf(body, names) {
			out = append(out, span{from, from + end, " " + Mask + " " + strings.Repeat("\n", strings.Count(body, "\n"))})
		}
		at = from + end
	}
}

// maskComments masks comments that speak of secrets.
func (s *Schema) maskComments(text string, names []string) string {
	if s.Syntax == JSON || s.Syntax == XML {
		return text
	}
	signs := "#"
	if s.Syntax == INI {
		signs = "#;"
	}
	lines := splitLines(text)
	for i, l := range lines {
		quoted := false
		for j := 0; j < len(l); j++ {
			if l[j] == '\\' && quoted {
				j++
				continue
			}
			if l[j] == '"' {
				quoted = !quoted
			}
			if !quoted && strings.IndexByte(signs, l[j]) >= 0 && (j == 0 || strings.IndexByte(" \t;{}", l[j-1]) >= 0) {
				if speaksOf(l[j:], names) {
					lines[i] = l[:j+1] + " " + Mask + l[trimEnding(l, 0, len(l)):]
				}
				break
			}
		}
	}
	return strings.Join(lines, "")
}
