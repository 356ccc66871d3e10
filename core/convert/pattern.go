package convert

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"verimorph/core/near"
)

// A pattern speaks of statements by their path: segments joined by " / ", each made of words. A segment matches a
// statement whose name and words begin with its words. * stands for any word and *name keeps it under that name; **name,
// last in a segment, keeps all words that are left.
type pattern struct {
	text string
	segs [][]word
}

type word struct {
	text string // the word itself, or the name it is kept under
	any  bool
	rest bool
}

// captures are the words a match kept, by name; * without a name keeps them as 1, 2 and so on.
type captures []capture

type capture struct {
	name  string
	words []string
}

func (c captures) get(name string) ([]string, bool) {
	for i := len(c) - 1; i >= 0; i-- {
		if c[i].name == name {
			return c[i].words, true
		}
	}
	return nil, false
}

func parsePattern(text string) (*pattern, error) {
	p := &pattern{text: text}
	unnamed := 0
	for _, part := range strings.Split(text, " / ") {
		list, err := splitWords(part)
		if err != nil {
			return nil, err
		}
		if len(list) == 0 {
			return nil, fmt.Errorf("a step of the path %q is empty", text)
		}
		var seg []word
		for i, w := range list {
			switch {
			case strings.HasPrefix(w, "**"):
				if i != len(list)-1 {
					return nil, fmt.Errorf("%q keeps all words that are left, so it must be the last of its step", w)
				}
				seg = append(seg, word{w[2:], true, true})
			case strings.HasPrefix(w, "*"):
				name := w[1:]
				if name == "" {
					unnamed++
					name = strconv.Itoa(unnamed)
				}
				seg = append(seg, word{name, true, false})
			default:
				seg = append(seg, word{strings.Trim(w, `"`), false, false})
			}
		}
		p.segs = append(p.segs, seg)
	}
	return p, nil
}

// names are the names a match keeps words under.
func (p *pattern) names() (out []string) {
	for _, seg := range p.segs {
		for _, w := range seg {
			if w.any {
				out = append(out, w.text)
			}
		}
	}
	return out
}

// splitWords cuts text at blanks outside of quotes and braces; quotes stay around a word.
func splitWords(text string) (out []string, err error) {
	depth, quoted, from := 0, false, -1
	for i := 0; i <= len(text); i++ {
		if i == len(text) || !quoted && depth == 0 && (text[i] == ' ' || text[i] == '\t') {
			if from >= 0 {
				out = append(out, text[from:i])
			}
			from = -1
			continue
		}
		if from < 0 {
			from = i
		}
		switch text[i] {
		case '"':
			quoted = !quoted
		case '{':
			depth++
		case '}':
			depth--
		}
	}
	if quoted || depth != 0 {
		return nil, fmt.Errorf("%q has a quote or brace without its partner", text)
	}
	return out, nil
}

// match holds one segment of a pattern against the words of a statement.
func matchSegment(seg []word, words []string, c captures) (captures, int, bool) {
	for i, w := range seg {
		if w.rest {
			return append(c, capture{w.text, words[min(i, len(words)):]}), len(words), true
		}
		if i >= len(words) || !w.any && w.text != words[i] {
			return c, 0, false
		}
		if w.any {
			c = append(c, capture{w.text, words[i : i+1]})
		}
	}
	return c, len(seg), true
}

// match holds a pattern against the segments from the top to a statement and adds what it keeps to into. used is how many words of the last segment
// the pattern spoke of.
func (p *pattern) match(path [][]string, into captures) (c captures, used int, ok bool) {
	if len(path) != len(p.segs) {
		return nil, 0, false
	}
	c = into
	// The last segment tells apart most, so it goes first; its captures come last.
	last := len(path) - 1
	if seg, words := p.segs[last], path[last]; len(seg) > len(words) && len(words) > 0 && strings.Contains(words[len(words)-1], " ") {
		// Syntaxes with one value a statement write several words into it.
		path = slices.Clone(path)
		path[last] = append(slices.Clone(words[:len(words)-1]), strings.Fields(words[len(words)-1])...)
	}
	if _, _, ok = matchSegment(p.segs[last], path[last], c); !ok {
		return nil, 0, false
	}
	for i, seg := range p.segs {
		if c, used, ok = matchSegment(seg, path[i], c); !ok {
			return nil, 0, false
		}
	}
	return c, used, true
}

// A template makes a path from what a match kept: {name} is a word, or several, {= ...} a computed number.
type template struct {
	text  string
	segs  [][]piece
	value bool // it says itself where the words go that the pattern does not speak of
}

// A piece is one word of a template: texts and placeholders beside each other.
type piece []part

type part struct {
	text string // literal, name or expression
	kind byte   // 0 literal, '{' name, '=' expression
}

func parseTemplate(text string) (*template, error) {
	t := &template{text: text}
	for _, step := range splitSteps(text) {
		list, err := splitWords(step)
		if err != nil {
			return nil, err
		}
		if len(list) == 0 {
			return nil, fmt.Errorf("a step of the path %q is empty", text)
		}
		var seg []piece
		for _, w := range list {
			var pc piece
			w = strings.Trim(w, `"`)
			for w != "" {
				i := strings.IndexByte(w, '{')
				if i != 0 {
					if i < 0 {
						i = len(w)
					}
					pc, w = append(pc, part{w[:i], 0}), w[i:]
					continue
				}
				j := strings.IndexByte(w, '}')
				if j < 0 {
					return nil, fmt.Errorf("%q has a { without its }", text)
				}
				inner := strings.TrimSpace(w[1:j])
				w = w[j+1:]
				if strings.HasPrefix(inner, "=") {
					if _, err := evaluate(inner[1:], nil, true); err != nil {
						return nil, err
					}
					pc = append(pc, part{inner[1:], '='})
				} else {
					pc = append(pc, part{inner, '{'})
				}
			}
			if pc == nil {
				pc = piece{{"", 0}}
			}
			seg = append(seg, pc)
		}
		t.segs = append(t.segs, seg)
	}
	t.value = slices.Contains(t.names(), "value")
	return t, nil
}

// splitSteps cuts at " / " outside of braces.
func splitSteps(text string) (out []string) {
	depth, from := 0, 0
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '{':
			depth++
		case '}':
			depth--
		case '/':
			if depth == 0 && i > 0 && text[i-1] == ' ' && i+1 < len(text) && text[i+1] == ' ' {
				out = append(out, text[from:i-1])
				from = i + 2
			}
		}
	}
	return append(out, text[from:])
}

// names are the names that a template needs.
func (t *template) names() (out []string) {
	for _, seg := range t.segs {
		for _, pc := range seg {
			for _, p := range pc {
				switch p.kind {
				case '{':
					out = append(out, p.text)
				case '=':
					e := expression{text: p.text, names: &out, dry: true}
					_, _ = e.sum()
				}
			}
		}
	}
	return out
}

// fill makes the path.
func (t *template) fill(c captures) ([][]string, error) { return t.fillFor(c, 0) }

// fillFor is fill, with room for some more words at its end.
func (t *template) fillFor(c captures, more int) ([][]string, error) {
	out := make([][]string, len(t.segs))
	for i, seg := range t.segs {
		room := len(seg)
		if i == len(t.segs)-1 {
			room += more
		}
		out[i] = make([]string, 0, room)
		for _, pc := range seg {
			if len(pc) == 1 && pc[0].kind == 0 {
				out[i] = append(out[i], pc[0].text)
				continue
			}
			if len(pc) == 1 && pc[0].kind == '{' {
				words, ok := c.get(pc[0].text)
				if !ok {
					return nil, fmt.Errorf("nothing was kept as {%s}", pc[0].text)
				}
				out[i] = append(out[i], words...)
				continue
			}
			var b strings.Builder
			for _, p := range pc {
				switch p.kind {
				case 0:
					b.WriteString(p.text)
				case '{':
					words, ok := c.get(p.text)
					if !ok {
						return nil, fmt.Errorf("nothing was kept as {%s}", p.text)
					}
					b.WriteString(strings.Join(words, " "))
				case '=':
					v, err := evaluate(p.text, c, false)
					if err != nil {
						return nil, err
					}
					b.WriteString(v)
				}
			}
			out[i] = append(out[i], b.String())
		}
		if len(out[i]) == 0 {
			return nil, fmt.Errorf("a step of %q comes out empty", t.text)
		}
	}
	return out, nil
}

// evaluate computes an expression of numbers and kept words with + - * / and brackets, and functions. With dry, only its form is
// checked.
func evaluate(text string, c captures, dry bool) (string, error) {
	e := expression{text: text, c: c, dry: dry}
	v, err := e.sum()
	if err == nil && e.next() != 0 {
		err = fmt.Errorf("cannot read %q from %q on", text, e.text[e.at:])
	}
	if err != nil || dry {
		return "", err
	}
	return v.String(), nil
}

// A quantity is a number, or a text, which only functions take.
type quantity struct {
	v    float64
	text string
	kept string // the word of the configuration that it is, as it stands there
}

// word is what a function of words is given.
func (q quantity) word() string { return cmp.Or(q.kept, q.String()) }

func (q quantity) String() string {
	if q.text != "" {
		return q.text
	}
	return strconv.FormatFloat(q.v, 'f', -1, 64)
}

type expression struct {
	text  string
	at    int
	c     captures
	dry   bool
	names *[]string
}

// next is the next sign that is not a blank; 0 at the end.
func (e *expression) next() byte {
	for e.at < len(e.text) && e.text[e.at] == ' ' {
		e.at++
	}
	if e.at == len(e.text) {
		return 0
	}
	return e.text[e.at]
}

func (e *expression) sum() (quantity, error) {
	v, err := e.product()
	for err == nil && (e.next() == '+' || e.next() == '-') {
		op := e.text[e.at]
		e.at++
		var w quantity
		if w, err = e.product(); err == nil {
			v, err = e.combine(op, v, w)
		}
	}
	return v, err
}

func (e *expression) product() (quantity, error) {
	v, err := e.factor()
	for err == nil && (e.next() == '*' || e.next() == '/') {
		op := e.text[e.at]
		e.at++
		var w quantity
		if w, err = e.factor(); err == nil {
			v, err = e.combine(op, v, w)
		}
	}
	return v, err
}

func (e *expression) combine(op byte, v, w quantity) (quantity, error) {
	if e.dry {
		return v, nil
	}
	if v.text != "" || w.text != "" {
		return v, fmt.Errorf("%q is not a number", v.text+w.text)
	}
	switch op {
	case '+':
		v.v += w.v
	case '-':
		v.v -= w.v
	case '*':
		v.v *= w.v
	default:
		v.v /= w.v
	}
	v.kept = ""
	if math.IsNaN(v.v) || math.IsInf(v.v, 0) {
		return v, fmt.Errorf("%q has no result", e.text)
	}
	return v, nil
}

func (e *expression) factor() (quantity, error) {
	switch c := e.next(); {
	case c == '(':
		e.at++
		v, err := e.sum()
		if err == nil && e.next() != ')' {
			err = fmt.Errorf("%q lacks a )", e.text)
		}
		e.at++
		return v, err
	case c == '-':
		e.at++
		v, err := e.factor()
		v.v, v.kept = -v.v, ""
		return v, err
	case c >= '0' && c <= '9':
		from := e.at
		for e.at < len(e.text) && (e.text[e.at] >= '0' && e.text[e.at] <= '9' || e.text[e.at] == '.') {
			e.at++
		}
		v, err := strconv.ParseFloat(e.text[from:e.at], 64)
		return quantity{v: v}, err
	case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z':
		from := e.at
		for e.at < len(e.text) && (e.text[e.at] == '_' || e.text[e.at] == '-' && e.at+1 < len(e.text) && e.text[e.at+1] >= 'a' || e.text[e.at] >= '0' && e.text[e.at] <= '9' || e.text[e.at] >= 'a' && e.text[e.at] <= 'z' || e.text[e.at] >= 'A' && e.text[e.at] <= 'Z') {
			e.at++
		}
		name := e.text[from:e.at]
		if e.next() == '(' {
			return e.call(name)
		}
		if e.names != nil {
			*e.names = append(*e.names, name)
		}
		if e.dry {
			return quantity{}, nil
		}
		words, ok := e.c.get(name)
		if !ok || len(words) != 1 {
			return quantity{}, fmt.Errorf("nothing, or not one word, was kept as %s", name)
		}
		if v, err := strconv.ParseFloat(words[0], 64); err == nil && !math.IsInf(v, 0) && !math.IsNaN(v) {
			return quantity{v: v, kept: words[0]}, nil
		}
		return quantity{text: words[0], kept: words[0]}, nil
	}
	return quantity{}, fmt.Errorf("%q: expected a number, a kept word or a function at %q", e.text, e.text[min(e.at, len(e.text)):])
}

func (e *expression) call(name string) (q quantity, err error) {
	known, ok := functions[name]
	if !ok {
		return q, fmt.Errorf("there is no function %s%s", name, near.Hint(name, slices.Sorted(maps.Keys(functions))))
	}
	e.at++
	var args []quantity
	for {
		v, err := e.sum()
		if err != nil {
			return q, err
		}
		args = append(args, v)
		if c := e.next(); c == ',' {
			e.at++
		} else if c == ')' {
			e.at++
			break
		} else {
			return q, fmt.Errorf("%q lacks a )", e.text)
		}
	}
	if len(args) != known.takes {
		return q, fmt.Errorf("%s takes %d values, not %d", name, known.takes, len(args))
	}
	if e.dry {
		return q, nil
	}
	if known.numbers == nil {
		q.text, q.v, err = known.word(args[0].word())
		return q, err
	}
	var values []float64
	for _, a := range args {
		if a.text != "" {
			return q, fmt.Errorf("%q is not a number", a.text)
		}
		values = append(values, a.v)
	}
	q.text, q.v, err = known.numbers(values)
	return q, err
}
