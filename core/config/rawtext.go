package config

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Raw texts are values over several lines in which any character may stand: banners, scripts, certificates. Every syntax of lines knows two
// forms: <<WORD, which ends at a line that is WORD, and text between -----BEGIN ...----- and -----END ...----- (RFC 7468). A schema names
// others. JSON and XML have them by themselves.

// A TextBlock is a form of raw texts that a schema describes.
type TextBlock struct {
	Begin     *regexp.Regexp // what the line of a statement begins with, up to where the text begins; its first group is kept for End
	End       string         // what ends the text; {1} stands for the group
	Delimiter string         // what stands for the group in a text that is written anew
}

// A rawText is one that begins on a line.
type rawText struct {
	at    int    // where it begins, with what opens it
	text  string // line feeds alone end its lines
	tail  int    // behind what ends it
	after int    // behind the line on which it ends
	own   bool   // a line of its own begins it, so it belongs to the statement before
}

const pemBegin, pemEnd = "-----BEGIN ", "-----END "

// mayHold reports whether a text may hold raw texts, so that most are not searched line by line.
func (p *parser) mayHold() bool {
	return len(p.doc.blocks) > 0 || strings.Contains(p.text, "<<") || strings.Contains(p.text, pemBegin)
}

// raw looks whether a raw text begins on the line that stands from body to end. On failure it says what is wrong, at the offset bad.
func (p *parser) raw(body, end int) (r rawText, found bool, bad int, message string) {
	line := p.text[body:end]
	for _, b := range p.doc.blocks {
		m := b.Begin.FindStringSubmatchIndex(line)
		if m == nil || m[0] != 0 {
			continue
		}
		stop := b.End
		r.at = body + m[1]
		if len(m) > 3 && m[2] >= 0 {
			stop = strings.ReplaceAll(stop, "{1}", line[m[2]:m[3]])
			if m[3] == m[1] {
				r.at = body + m[2]
			}
		}
		from := body + m[1]
		i := strings.Index(p.text[from:], stop)
		if i < 0 || stop == "" {
			return r, false, r.at, fmt.Sprintf("a text begins here and does not end; expected %s", stop)
		}
		text := p.text[from : from+i]
		if first, rest, more := strings.Cut(text, "\n"); more && strings.Trim(first, " \t\r") == "" { // it begins on the next line
			text = rest
		}
		r.text, r.tail = strings.ReplaceAll(text, "\r\n", "\n"), from+i+len(stop)
		r.after = p.lineAfter(r.tail)
		return r, true, 0, ""
	}
	if i := strings.Index(line, pemBegin); i >= 0 && (i == 0 || strings.IndexByte(" \t=", line[i-1]) >= 0) && strings.HasSuffix(strings.TrimRight(line, " \t"), "-----") && len(line)-i > len(pemBegin)+5 {
		r.at, r.own = body+i, i == 0
		stop := strings.Index(p.text[r.at:], pemEnd)
		if stop < 0 {
			return r, false, r.at, "a text begins here and does not end; expected " + pemEnd + "...-----"
		}
		last := r.at + stop + len(pemEnd)
		if k := strings.Index(p.text[last:p.endOf(last)], "-----"); k >= 0 {
			r.tail = last + k + 5
		} else {
			return r, false, last, "expected ----- at the end of this line"
		}
		lines := Lines(p.text[r.at:r.tail])
		for k := range lines {
			lines[k] = strings.TrimSpace(lines[k])
		}
		r.text, r.after = strings.Join(lines, "\n"), p.lineAfter(r.tail)
		return r, true, 0, ""
	}
	if i := strings.LastIndex(line, "<<"); i > 0 && strings.IndexByte(" \t=", line[i-1]) >= 0 && isMark(strings.TrimRight(line[i+2:], " \t")) {
		mark := strings.TrimRight(line[i+2:], " \t")
		r.at = body + i
		var lines []string
		for at := p.lineAfter(end); at < len(p.text); {
			stop := p.endOf(at)
			l := p.text[at:stop]
			if word := strings.TrimSpace(l); word == mark || p.doc.Syntax == Braces && strings.HasPrefix(word, mark) && strings.HasPrefix(strings.TrimSpace(word[len(mark):]), ";") {
				r.tail = at + strings.Index(l, mark) + len(mark)
				r.after = p.lineAfter(r.tail)
				r.text = strings.Join(lines, "\n")
				return r, true, 0, ""
			}
			lines = append(lines, l)
			at = p.lineAfter(stop)
		}
		return r, false, r.at, fmt.Sprintf("a text begins here and does not end; expected a line %s", mark)
	}
	return r, false, 0, ""
}

// SameForms reports whether two schemas write raw texts alike.
func (s *Schema) SameForms(t *Schema) bool {
	return slices.EqualFunc(s.TextBlocks, t.TextBlocks, func(a, b TextBlock) bool {
		return a.Begin.String() == b.Begin.String() && a.End == b.End && a.Delimiter == b.Delimiter
	})
}

// isMark reports whether a word may end a text.
func isMark(s string) bool {
	for i := range len(s) {
		if c := s[i]; c != '_' && (c < '0' || c > '9' || i == 0) && (c < 'A' || c > 'Z') && (c < 'a' || c > 'z') {
			return false
		}
	}
	return s != ""
}

// endOf is where the text of a line ends, before its line feed.
func (p *parser) endOf(at int) int {
	if i := strings.IndexByte(p.text[at:], '\n'); i >= 0 {
		return trimEnding(p.text, at, at+i+1)
	}
	return trimEnding(p.text, at, len(p.text))
}

// lineAfter is where the line behind that of an offset begins.
func (p *parser) lineAfter(at int) int {
	if i := strings.IndexByte(p.text[at:], '\n'); i >= 0 {
		return at + i + 1
	}
	return len(p.text)
}

// IsRaw reports whether a statement holds a raw text.
func (n *Node) IsRaw() bool {
	for i := range n.Words {
		if n.Words[i].isRaw() {
			return true
		}
	}
	return false
}

func (w *Word) isRaw() bool { return w.Raw || strings.IndexByte(w.Text, '\n') >= 0 }

// rawWords writes the name and words of a statement of which one is a raw text, with the line ending. named writes the name and the words before
// the text.
func (w *writer) rawWords(n *Node, indent int, named func(n *Node)) {
	k := 0
	for !n.Words[k].isRaw() {
		k++
	}
	head := &Node{Name: n.Name, Words: n.Words[:k]}
	named(head)
	text := n.Words[k].Text
	for _, more := range n.Words[k+1:] { // nothing can stand behind it
		text += "\n" + more.Text
	}
	end := map[bool]string{true: ";"}[w.d.Syntax == Braces]
	if b, mark, ok := w.blockFor(head, text); ok {
		w.put(" " + mark + w.newline + text + strings.ReplaceAll(b.End, "{1}", mark) + end + w.newline)
		return
	}
	blank := map[bool]string{true: " "}[w.d.Syntax == BlockIndent || w.d.Syntax == Braces]
	if strings.HasPrefix(text, pemBegin) && strings.Contains(text, "\n"+pemEnd) {
		if w.d.Syntax == BlockIndent {
			w.put(w.newline)
			for _, l := range strings.Split(text, "\n") {
				w.spaces(indent + w.unit)
				w.put(l + w.newline)
			}
			return
		}
		w.put(blank + strings.ReplaceAll(text, "\n", w.newline) + end + w.newline)
		return
	}
	mark := "TEXT"
	for lines := strings.Split(text, "\n"); hasLine(lines, mark); {
		mark += "_"
	}
	w.put(blank + "<<" + mark + w.newline)
	if text != "" {
		w.put(strings.ReplaceAll(text, "\n", w.newline) + w.newline)
	}
	w.put(mark + end + w.newline)
}

func hasLine(lines []string, mark string) bool {
	for _, l := range lines {
		if strings.HasPrefix(strings.TrimSpace(l), mark) {
			return true
		}
	}
	return false
}

// blockFor finds the form of the schema in which a statement's text is written, with a delimiter that is not in it.
func (w *writer) blockFor(head *Node, text string) (TextBlock, string, bool) {
	for _, b := range w.d.blocks {
		for _, mark := range []string{b.Delimiter, "^", "~", "%", "!", "@", "$$", "%%%"} {
			if mark == "" && b.Begin.NumSubexp() > 0 || mark != "" && strings.Contains(text, strings.ReplaceAll(b.End, "{1}", mark)) {
				continue
			}
			if line := strings.TrimRight(head.Text()+" "+mark, " "); len(b.Begin.FindString(line)) == len(line) {
				return b, mark, true
			}
			if b.Begin.NumSubexp() == 0 {
				break
			}
		}
	}
	return TextBlock{}, "", false
}
