// Package config reads device configurations into one tree, prints them back byte for byte, and compares two of them
// by identity instead of by line.
//
// The first syntax is block-indent: one statement a line, made of words; a statement that is followed by lines
// indented deeper is a block. Words may stand in double quotes; # begins a comment. docs/formats/configuration.md has
// the grammar.
package config

import (
	"fmt"
	"strings"
)

// A Document is a parsed configuration. Print gives back exactly the bytes it was parsed from.
type Document struct {
	Name  string // file name for errors
	Nodes []*Node
	tail  string // comments and blank lines after the last statement
}

// A Node is one statement with the statements inside it.
type Node struct {
	Words    []Word
	Line     int // from 1
	Column   int // of the first word, from 1
	Children []*Node
	lead     string // comments and blank lines before it
	raw      string // the line itself with its indentation, comment and line ending
}

// A Word is one word of a statement, without its quotes.
type Word struct {
	Text   string
	Quoted bool
	Column int // from 1
}

// A ParseError is one broken place in a configuration.
type ParseError struct {
	File         string
	Line, Column int
	Message      string
}

func (e *ParseError) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.Message)
}

// Keyword is the first word of a statement.
func (n *Node) Keyword() string { return n.Words[0].Text }

// Text is the statement's words joined by single spaces.
func (n *Node) Text() string { return joinWords(n.Words) }

// Parse reads a block-indent configuration. It returns as much of the tree as is sound and every broken place; a
// broken line is kept, so that Print still gives back the input.
func Parse(name, text string) (*Document, []*ParseError) {
	d := &Document{Name: name}
	var broken []*ParseError
	type open struct {
		indent int
		node   *Node // nil for the top
	}
	stack := []open{{-1, nil}}
	var lead strings.Builder
	for number, raw := range splitLines(text) {
		line := strings.TrimRight(raw, "\r\n")
		fail := func(column int, format string, args ...any) {
			broken = append(broken, &ParseError{name, number + 1, column, fmt.Sprintf(format, args...)})
		}
		body := strings.TrimLeft(line, " ")
		indent := len(line) - len(body)
		if body == "" || body[0] == '#' {
			lead.WriteString(raw)
			continue
		}
		if body[0] == '\t' {
			fail(indent+1, "a tab in the indentation; expected spaces")
			lead.WriteString(raw)
			continue
		}
		words, column, err := splitWords(line, indent)
		if err != nil {
			fail(column, "%s", err)
			lead.WriteString(raw)
			continue
		}
		for stack[len(stack)-1].indent >= indent {
			stack = stack[:len(stack)-1]
		}
		parent := stack[len(stack)-1].node
		siblings := &d.Nodes
		if parent != nil {
			siblings = &parent.Children
		}
		if parent == nil && indent > 0 {
			fail(indent+1, "indented by %d, but no statement above it is a block; expected no indentation", indent)
		} else if len(*siblings) > 0 {
			if first := (*siblings)[0]; first.Column != indent+1 {
				fail(indent+1, "indented by %d, but its block began with %d on line %d", indent, first.Column-1, first.Line)
			}
		}
		n := &Node{Words: words, Line: number + 1, Column: indent + 1, raw: raw, lead: lead.String()}
		lead.Reset()
		*siblings = append(*siblings, n)
		stack = append(stack, open{indent, n})
	}
	d.tail = lead.String()
	return d, broken
}

// Print returns the text of the document; for an unchanged tree, the text that was parsed.
func (d *Document) Print() string {
	var b strings.Builder
	var walk func([]*Node)
	walk = func(nodes []*Node) {
		for _, n := range nodes {
			b.WriteString(n.lead)
			b.WriteString(n.raw)
			walk(n.Children)
		}
	}
	walk(d.Nodes)
	b.WriteString(d.tail)
	return b.String()
}

// Masked returns the text with the values of secret statements replaced by ***, keeping all else as it is. Broken
// lines are replaced whole, since nobody can tell what is secret in them.
func Masked(text string, s Schema) string {
	d, broken := Parse("", text)
	lines := splitLines(text)
	for _, e := range broken {
		if e.Line <= len(lines) {
			lines[e.Line-1] = "*** (a line that could not be read)" + ending(lines[e.Line-1])
		}
	}
	var walk func([]*Node)
	walk = func(nodes []*Node) {
		for _, n := range nodes {
			if from := s.secretFrom(n); from >= 0 {
				i := n.Line - 1
				lines[i] = lines[i][:n.Words[from].Column-1] + strings.TrimRight(strings.Repeat("*** ", len(n.Words)-from), " ") + ending(lines[i])
			}
			walk(n.Children)
		}
	}
	walk(d.Nodes)
	for i, l := range lines { // a secret that somebody commented out is still a secret
		if body := strings.TrimLeft(l, " #"); strings.HasPrefix(strings.TrimLeft(l, " "), "#") {
			for _, w := range strings.Fields(body) {
				if s.isSecret(w) {
					lines[i] = l[:strings.Index(l, "#")+1] + " ***" + ending(l)
				}
			}
		}
	}
	return strings.Join(lines, "")
}

// A Schema says what the words of a family's configuration mean, as far as comparing and masking need it.
type Schema struct {
	Secrets []string // keywords after which every word is secret
	Ordered []string // blocks whose entries' order matters
}

func (s Schema) isSecret(word string) bool { return contains(s.Secrets, word) }

// secretFrom returns the index of the first secret word of a statement, or -1.
func (s Schema) secretFrom(n *Node) int {
	for i, w := range n.Words[:len(n.Words)-1] {
		if !w.Quoted && s.isSecret(w.Text) {
			return i + 1
		}
	}
	return -1
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// splitLines cuts text after each line feed, keeping the endings.
func splitLines(text string) []string {
	lines := strings.SplitAfter(text, "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

func ending(line string) string { return line[len(strings.TrimRight(line, "\r\n")):] }

// splitWords cuts a line into words from an offset on. On failure it returns the column of the broken place.
func splitWords(line string, i int) (words []Word, column int, err error) {
	for i < len(line) {
		switch c := line[i]; {
		case c == ' ' || c == '\t':
			i++
		case c == '#':
			return words, 0, nil
		case c == '"':
			start := i
			var b strings.Builder
			for i++; ; i++ {
				if i >= len(line) {
					return nil, start + 1, fmt.Errorf("a quoted word begins here and does not end; expected a closing \"")
				}
				if line[i] == '\\' && i+1 < len(line) {
					i++
				} else if line[i] == '"' {
					break
				}
				b.WriteByte(line[i])
			}
			i++
			if i < len(line) && line[i] != ' ' && line[i] != '\t' {
				return nil, i + 1, fmt.Errorf("expected a space after the closing quote")
			}
			words = append(words, Word{b.String(), true, start + 1})
		case c < ' ' || c == 0x7f:
			return nil, i + 1, fmt.Errorf("a control character (code %d) is not allowed here", c)
		default:
			start := i
			for i < len(line) && line[i] > ' ' && line[i] != 0x7f && line[i] != '"' {
				i++
			}
			if i < len(line) && line[i] == '"' {
				return nil, i + 1, fmt.Errorf("a quote inside a word; quote the whole word")
			}
			words = append(words, Word{line[start:i], false, start + 1})
		}
	}
	return words, 0, nil
}

func joinWords(words []Word) string {
	var b strings.Builder
	for i, w := range words {
		if i > 0 {
			b.WriteByte(' ')
		}
		if w.Quoted {
			b.WriteString(`"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(w.Text) + `"`)
		} else {
			b.WriteString(w.Text)
		}
	}
	return b.String()
}
