// Package config reads device configurations of six syntaxes into one tree, prints them back byte for byte, compares two
// of them by identity instead of by line, and masks what is secret in them.
//
// A Document is a tree of Nodes. A Node is one statement of the configuration: it has a name, the words that follow the
// name, and the statements inside it. What that is in each syntax:
//
//	block-indent  port p1            name "port", words "p1"; deeper lines are inside
//	braces        port p1 { ... }    the same
//	dotted        port.p1.mtu = 9    name "mtu", words "9", inside "p1", inside "port"
//	ini           [port p1] mtu = 9  name "mtu", words "9", inside "port p1"
//	json          "mtu": 9           name "mtu", words "9"; items of lists have no name
//	xml           <mtu>9</mtu>       name "mtu", words "9"; an attribute x is a statement "@x" inside
//
// What the names mean, which entry of a list is which, and what is secret comes from a Schema. The syntaxes, schemas and
// the rules of comparison are written down in docs/formats/configuration.md.
package config

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"
)

// A Syntax is a way to write a configuration.
type Syntax string

// The syntaxes. Each has a file in this package.
const (
	BlockIndent Syntax = "block-indent"
	Braces      Syntax = "braces"
	Dotted      Syntax = "dotted"
	INI         Syntax = "ini"
	JSON        Syntax = "json"
	XML         Syntax = "xml"
)

// Syntaxes lists all syntaxes by name.
var Syntaxes = []string{string(BlockIndent), string(Braces), string(Dotted), string(INI), string(JSON), string(XML)}

// Limits that keep the memory of a reading bounded. Documents beyond them are refused with a clear error.
const (
	MaxSize  = 64 << 20 // bytes
	MaxNodes = 2 << 20  // statements
	MaxDepth = 500      // blocks inside each other
)

// A Document is a parsed configuration. Print gives back exactly the bytes it was parsed from, unless its tree was edited.
type Document struct {
	Name   string // file name for errors
	Syntax Syntax
	Root   *Node // nameless; the top statements are its children
	source string
	notes  map[*Node][]Comment // comments of statements that stand in no file
	lines  []int               // where each line of source begins, once that was asked
	blocks []TextBlock         // forms of raw texts that its schema knows
}

// A Node is one statement with the statements inside it.
type Node struct {
	Name         string // "" for the root and for items of a list
	Words        []Word
	Children     []*Node
	Parent       *Node // nil for the root
	Line, Column int   // where the statement begins, from 1; 0 when it is not from a file
	Form         Form
	Ref          int32 // for whoever works on the tree; 0 in a new or copied statement

	// Offsets into the document's source. lead..own is what comes before the statement (comments, blank lines),
	// own..open its header, close..end what follows its children.
	lead, own, open, close, end int32
	seq                         int32 // place in the order of a walk, while printing
	mark                        mark
}

// A Form tells apart what a syntax writes differently though it has the same name, words and children.
type Form uint8

// The forms.
const (
	Plain Form = iota // a statement, with or without children; in JSON a scalar
	Block             // a block that may be empty: braces, an INI section, a JSON object, an XML element
	List              // a JSON list
	Group             // dotted: exists only because statements below it do
)

// mark says how far the text of a node still stands in the source.
type mark uint8

const (
	headChanged mark = 1 << iota // the header must be written anew
	restChanged                  // something inside was changed, came, went or moved
	fresh                        // nothing of it stands in the source
)

// A Word is one value of a statement, without quotes and escapes.
type Word struct {
	Text   string
	Column int32 // from 1; 0 when it is not from a file
	Quoted bool  // stood in quotes; in JSON: a string
	Raw    bool  // is a raw text over several lines, without what opens and ends it
}

// A ParseError is one broken place in a configuration.
type ParseError struct {
	File         string
	Line, Column int // from 1; columns count bytes
	Message      string
}

func (e *ParseError) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.Message)
}

// Text is the statement's name and words joined by single spaces, quoted where they need it.
func (n *Node) Text() string {
	if len(n.Words) == 1 && n.Name != "" && !n.Words[0].Quoted && bare(n.Name, false) && bare(n.Words[0].Text, false) {
		return n.Name + " " + n.Words[0].Text
	}
	var b strings.Builder
	size := len(n.Name)
	for i := range n.Words {
		size += len(n.Words[i].Text) + 1
	}
	b.Grow(size)
	writeWords(&b, n, false)
	return b.String()
}

// Value is the text of the node's only word; "" when it has none or several.
func (n *Node) Value() string {
	if len(n.Words) != 1 {
		return ""
	}
	return n.Words[0].Text
}

// Child returns the first statement of that name inside the node, or nil.
func (n *Node) Child(name string) *Node {
	for _, c := range n.Children {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// IsItem reports whether a statement described by st, which may be nil, says something itself, so that a ledger accounts
// for it: it has words, or its name is a key, or nothing stands inside it. Other blocks only hold what is inside.
func (n *Node) IsItem(st *Statement) bool {
	return n.Parent != nil && (len(n.Words) > 0 || n.Form != Group && (len(n.Children) == 0 || st != nil && st.ByName))
}

// Walk calls f for the node and all nodes inside it, in document order.
func (n *Node) Walk(f func(*Node)) {
	f(n)
	for _, c := range n.Children {
		c.Walk(f)
	}
}

// Parse reads a configuration as its schema says. It returns as much of the tree as is sound and every broken place; Print of a document
// with broken places still gives back the input.
func (s *Schema) Parse(name, text string) (*Document, []*ParseError) {
	return parseWith(name, text, s.Syntax, s.TextBlocks)
}

// Parse is Schema.Parse where no schema is known.
func Parse(name, text string, syntax Syntax) (*Document, []*ParseError) {
	return parseWith(name, text, syntax, nil)
}

func parseWith(name, text string, syntax Syntax, blocks []TextBlock) (*Document, []*ParseError) {
	p := &parser{doc: &Document{Name: name, Syntax: syntax, source: text, blocks: blocks}, text: text}
	p.root = p.node()
	p.root.Line, p.root.Column, p.root.Form, p.root.end = 1, 1, Block, int32(len(text))
	p.doc.Root = p.root
	if len(text) > MaxSize {
		p.text = ""
		p.doc.source = ""
		p.fail(0, "the file has %d bytes; configurations of up to %d are read", len(text), MaxSize)
		return p.doc, p.broken
	}
	p.binary = !utf8.ValidString(text)
	switch syntax {
	case BlockIndent:
		p.blockIndent()
	case Braces:
		p.braces()
	case Dotted:
		p.dotted()
	case INI:
		p.ini()
	case JSON:
		p.json()
	case XML:
		p.xml()
	default:
		p.fail(0, "syntax %q is not known; expected one of %s", syntax, strings.Join(Syntaxes, ", "))
	}
	return p.doc, p.broken
}

// Guess tells the syntax of a file from its name and content; it is meant for files nobody has said anything about.
func Guess(name, text string) Syntax {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".json":
		return JSON
	case ".xml":
		return XML
	case ".ini":
		return INI
	}
	body := strings.TrimLeft(strings.TrimPrefix(text, "\ufeff"), " \t\r\n")
	if strings.HasPrefix(body, "<") {
		return XML
	}
	best, score := BlockIndent, -1
	counts := map[Syntax]int{}
	for i, l := range splitLines(body) {
		if i == 400 {
			break
		}
		l = strings.TrimSpace(l)
		switch {
		case l == "" || l[0] == '#':
		case l[0] == '[' && strings.HasSuffix(l, "]"):
			counts[INI] += 2
		case strings.HasSuffix(l, ";") || strings.HasSuffix(l, "{") || strings.HasSuffix(l, "}"):
			counts[Braces]++
		case strings.Contains(l, "=") && strings.Contains(strings.SplitN(l, "=", 2)[0], "."):
			counts[Dotted]++
		case strings.Contains(l, " = "):
			counts[INI]++
		default:
			counts[BlockIndent]++
		}
	}
	for _, s := range Syntaxes {
		if counts[Syntax(s)] > score {
			best, score = Syntax(s), counts[Syntax(s)]
		}
	}
	if strings.HasPrefix(body, "{") || strings.HasPrefix(body, "[") && !strings.Contains(strings.SplitN(body, "\n", 2)[0], "]") {
		return JSON
	}
	return best
}

// parser is what the parsers of all syntaxes share: positions, errors, and memory taken in large pieces.
type parser struct {
	doc    *Document
	root   *Node
	text   string
	binary bool // the text is not all UTF-8
	broken []*ParseError

	nodes    []Node
	words    []Word
	children []*Node
	count    int
	depth    int
	tooMany  bool

	resume int // where p.lines goes on, behind a raw text

	line, lineStart, counted int // lines are counted once: up to counted, which is on line
}

// bom is a byte order mark. At the beginning of a file it says nothing.
const bom = "\ufeff"

// begin is where the text begins, behind a byte order mark.
func (p *parser) begin() int {
	if strings.HasPrefix(p.text, bom) {
		return len(bom)
	}
	return 0
}

// maxBroken bounds the errors of one file; what follows is no longer listed.
const maxBroken = 100

func (p *parser) fail(at int, format string, args ...any) {
	if len(p.broken) < maxBroken {
		line, column := p.where(at)
		p.broken = append(p.broken, &ParseError{p.doc.Name, line, column, fmt.Sprintf(format, args...)})
	}
}

// where turns an offset into line and column. Offsets that only grow cost one pass over the text.
func (p *parser) where(at int) (line, column int) {
	if at < p.lineStart || p.line == 0 {
		p.line, p.lineStart, p.counted = 1, 0, 0
	}
	for at = min(at, len(p.text)); p.counted < at; {
		i := strings.IndexByte(p.text[p.counted:at], '\n')
		if i < 0 {
			p.counted = at
			break
		}
		p.counted += i + 1
		p.line, p.lineStart = p.line+1, p.counted
	}
	return p.line, at - p.lineStart + 1
}

// node takes a node from a large piece of memory.
func (p *parser) node() *Node {
	if len(p.nodes) == cap(p.nodes) {
		p.nodes = make([]Node, 0, clamp(2*cap(p.nodes), 16, 4096))
	}
	p.count++
	p.nodes = p.nodes[:len(p.nodes)+1]
	return &p.nodes[len(p.nodes)-1]
}

// full reports, and notes once, that the document has more statements than are read.
func (p *parser) full(at int) bool {
	if p.count >= MaxNodes && !p.tooMany {
		p.tooMany = true
		p.fail(at, "more than %d statements; larger configurations are not read", MaxNodes)
	}
	return p.tooMany
}

// keepWords copies words into a large piece of memory.
func (p *parser) keepWords(words ...Word) []Word {
	if len(words) == 0 {
		return nil
	}
	if cap(p.words)-len(p.words) < len(words) {
		p.words = make([]Word, 0, max(clamp(2*cap(p.words), 32, 8192), len(words)))
	}
	at := len(p.words)
	p.words = append(p.words, words...)
	return p.words[at:len(p.words):len(p.words)]
}

// keepChildren copies a list of children into a large piece of memory and makes them the children of n.
func (p *parser) keepChildren(n *Node, list []*Node) {
	if len(list) == 0 {
		return
	}
	if cap(p.children)-len(p.children) < len(list) {
		p.children = make([]*Node, 0, max(clamp(2*cap(p.children), 32, 8192), len(list)))
	}
	at := len(p.children)
	p.children = append(p.children, list...)
	n.Children = p.children[at:len(p.children):len(p.children)]
	for _, c := range list {
		c.Parent = n
	}
}

func clamp(v, low, high int) int { return min(max(v, low), high) }

// unreadable returns the offset of the first byte of a piece of text that may not stand in a configuration, and what to
// say about it; -1 when all is well.
func (p *parser) unreadable(from, to int) (int, string) {
	for i := from; i < to; {
		c := p.text[i]
		if c < ' ' && c != '\t' && c != '\r' && c != '\n' || c == 0x7f {
			return i, fmt.Sprintf("a control character (code %d) is not allowed here", c)
		}
		if c < utf8.RuneSelf || !p.binary {
			i++
			continue
		}
		r, size := utf8.DecodeRuneInString(p.text[i:to])
		if r == utf8.RuneError && size <= 1 {
			return i, fmt.Sprintf("byte 0x%02x is not UTF-8; expected text in UTF-8", c)
		}
		i += size
	}
	return -1, ""
}

// splitLines cuts text after each line feed, keeping the endings.
func splitLines(text string) []string {
	lines := strings.SplitAfter(text, "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

// Lines are the lines of a text without their endings.
func Lines(text string) []string {
	lines := splitLines(text)
	for i, l := range lines {
		lines[i] = strings.TrimRight(l, "\r\n")
	}
	return lines
}

func texts(words []Word) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = w.Text
	}
	return out
}

func sameWords(a, b []Word) bool {
	return slices.EqualFunc(a, b, func(a, b Word) bool { return a.Text == b.Text })
}
