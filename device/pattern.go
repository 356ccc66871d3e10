package device

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"go.yaml.in/yaml/v3"

	"verimorph/core/yamldoc"
)

// A Pattern is a regular expression (RE2 syntax).
type Pattern struct{ *regexp.Regexp }

// UnmarshalYAML compiles the pattern; errors carry its line.
func (p *Pattern) UnmarshalYAML(n *yaml.Node) (err error) {
	if p.Regexp, err = yamldoc.Regexp(n.Value); err != nil {
		return fmt.Errorf("line %d, column %d: %w", n.Line, n.Column, err)
	}
	return nil
}

// MarshalJSON writes the expression; "" where there is none.
func (p Pattern) MarshalJSON() ([]byte, error) {
	if p.Regexp == nil {
		return []byte(`""`), nil
	}
	return json.Marshal(p.Regexp.String())
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (p *Pattern) UnmarshalJSON(data []byte) (err error) {
	var s string
	if err := json.Unmarshal(data, &s); err != nil || s == "" {
		return err
	}
	if r, ok := compiled.Load(s); ok {
		p.Regexp = r.(*regexp.Regexp)
		return nil
	}
	if p.Regexp, err = regexp.Compile(s); err == nil && compiledCount.Add(1) <= mostCompiled {
		compiled.Store(s, p.Regexp)
	}
	return err
}

// compiled are expressions that were read as JSON before: every change keeps the readings that it was drafted with, and they are few.
var (
	compiled      sync.Map // of *regexp.Regexp, by their text
	compiledCount atomic.Int64
)

// mostCompiled bounds how many are kept.
const mostCompiled = 2000

// Groups returns the named groups of the first match, or nil.
func (p Pattern) Groups(text string) map[string]string {
	if p.Regexp == nil {
		return nil
	}
	m := p.FindStringSubmatch(text)
	if m == nil {
		return nil
	}
	return Named(p, m)
}

// ByLine is the pattern with ^ and $ that fit at the begin and the end of each line of a text.
func (p Pattern) ByLine() Pattern {
	if p.Regexp == nil {
		return p
	}
	return Pattern{regexp.MustCompile("(?m)" + p.String())} // it compiles: a flag in front changes no syntax
}

// Whole is the named groups of a match, of which loc are the bounds in the text. The groups that are numbers are as long as the number is
// in the text: of 1'204 a pattern for digits finds the 1 only, and a 1 would be believed.
func (p Pattern) Whole(text string, loc []int, numbers ...string) map[string]string {
	out := map[string]string{}
	p.WholeInto(out, text, loc, numbers...)
	return out
}

// WholeInto is [Pattern.Whole] into a map that is there, whose values are replaced.
func (p Pattern) WholeInto(out map[string]string, text string, loc []int, numbers ...string) {
	for i, name := range p.SubexpNames() {
		switch from, to := loc[2*i], loc[2*i+1]; {
		case name == "":
		case from < 0:
			out[name] = ""
		case slices.Contains(numbers, name) && from < to:
			out[name] = strings.TrimSpace(widened(text, from, to))
		default:
			out[name] = strings.TrimSpace(text[from:to])
		}
	}
}

// longer is what may go on with a number, behind it and before it: digits, also behind a mark between groups of them, and a sign.
var (
	longerBehind = regexp.MustCompile(`^(?:[.,'’_\x{a0}\x{202f}]?\d)+`)
	longerBefore = regexp.MustCompile(`(?:(?:^|[\s=:(])[-−])?(?:\d[.,'’_\x{a0}\x{202f}]?)*$`)
)

func widened(text string, from, to int) string {
	line := strings.LastIndexByte(text[:from], '\n') + 1
	if isDigit(text[from]) {
		if before := longerBefore.FindString(text[line:from]); before != "" {
			from -= len(strings.TrimLeft(before, " \t=:("))
		}
	}
	if isDigit(text[to-1]) {
		to += len(longerBehind.FindString(text[to:]))
	}
	return text[from:to]
}

func isDigit(b byte) bool { return b >= '0' && b <= '9' }

// Named is the named groups of a match.
func Named(p Pattern, m []string) map[string]string {
	out := map[string]string{}
	for i, name := range p.SubexpNames() {
		if name != "" {
			out[name] = strings.TrimSpace(m[i])
		}
	}
	return out
}
