package version

import (
	"fmt"
	"slices"
	"strings"
)

// A Range is a set of versions, written as one of
//
//	any              every version
//	5.0.6            exactly that one
//	5.0.x            every version whose tokens begin with 5, 0; also 5_0_x, as the family separates them
//	>=5.0.6 <5.2     all conditions at once; the operators are >= > <= <
//	4.2.9 | 5.0.x    either side
//
// Equal numbers that are written differently (2024.6 and 2024.06) are the same to a range. The zero Range holds every version.
type Range struct {
	text string
	any  []alternative
}

type alternative []condition

type condition struct {
	op string // "=", "prefix", ">=", ">", "<=", "<"
	v  Version
}

// ParseRange reads a range by the default scheme. Errors name the part that is wrong.
func ParseRange(text string) (Range, error) { return Default.ParseRange(text) }

// ParseRange reads a range. Errors name the part that is wrong.
func (s *Scheme) ParseRange(text string) (Range, error) {
	r := Range{text: strings.TrimSpace(text)}
	if r.text == "" {
		return r, fmt.Errorf("a version range is missing: expected something like \">=5.0.6 <5.2\", \"5.0.x\" or \"any\"")
	}
	if r.text == "any" {
		return r, nil
	}
	for _, side := range strings.Split(r.text, "|") {
		var alt alternative
		for _, word := range strings.Fields(side) {
			c, err := s.parseCondition(word)
			if err != nil {
				return r, fmt.Errorf("range %q: %w", r.text, err)
			}
			alt = append(alt, c)
		}
		if len(alt) == 0 {
			return r, fmt.Errorf("range %q: one side of | is empty", r.text)
		}
		r.any = append(r.any, alt)
	}
	return r, nil
}

// MustRange is ParseRange for text known to be right. It panics otherwise.
func MustRange(text string) Range {
	r, err := ParseRange(text)
	if err != nil {
		panic(err)
	}
	return r
}

func (s *Scheme) parseCondition(word string) (condition, error) {
	for _, op := range []string{">=", "<=", ">", "<"} {
		if rest, ok := strings.CutPrefix(word, op); ok {
			v, err := s.read(rest)
			return condition{op, v}, err
		}
	}
	for _, any := range []string{".x", "_x", "-x"} { // what separates tokens says nothing
		if rest, ok := strings.CutSuffix(word, any); ok {
			v, err := s.read(rest)
			return condition{"prefix", v}, err
		}
	}
	v, err := s.read(word)
	return condition{"=", v}, err
}

// Contains reports whether v lies in r.
func (r Range) Contains(v Version) bool {
	if len(r.any) == 0 {
		return true
	}
	for _, alt := range r.any {
		if alt.holds(v) {
			return true
		}
	}
	return false
}

// Near suggests how a range that holds none of some versions may have been meant: with the letters and separators that they have. It returns
// "" when nothing is like it.
func (r Range) Near(versions []Version) string {
	changed := false
	var sides []string
	for _, alt := range r.any {
		var words []string
		for _, c := range alt {
			v := c.v.as(versions)
			changed = changed || v != c.v.text
			switch c.op {
			case "=":
				words = append(words, v)
			case "prefix":
				words = append(words, v+joint(versions)+"x")
			default:
				words = append(words, c.op+v)
			}
		}
		sides = append(sides, strings.Join(words, " "))
	}
	if !changed {
		return ""
	}
	return strings.Join(sides, " | ")
}

// joint is what stands between the last two tokens of most versions.
func joint(versions []Version) string {
	for _, v := range versions {
		if i := strings.LastIndexAny(v.text, "._-"); i > 0 {
			return v.text[i : i+1]
		}
	}
	return "."
}

// as is a version written as the first of others that has the same numbers in the same places; its own text when none has.
func (v Version) as(others []Version) string {
	numbers := func(tokens []token) (out []string) {
		for _, t := range tokens {
			if t.rank == rankNumber {
				out = append(out, t.text)
			}
		}
		return out
	}
	mine := numbers(v.tokens)
	for _, o := range others {
		theirs := numbers(o.tokens)
		if len(mine) == 0 || len(mine) > len(theirs) || !slices.Equal(mine, theirs[:len(mine)]) {
			continue
		}
		at, seen := 0, 0
		for at < len(o.text) && seen < len(mine) {
			if !isDigit(o.text[at]) {
				at++
				continue
			}
			at = scan(o.text, at, isDigit)
			seen++
		}
		return o.text[:at]
	}
	return v.text
}

// IsZero reports whether the range was left out.
func (r Range) IsZero() bool { return r.text == "" }

// String returns the text of the range; "any" when it was left out.
func (r Range) String() string {
	if r.text == "" {
		return "any"
	}
	return r.text
}

// MarshalText implements encoding.TextMarshaler.
func (r Range) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

func (a alternative) holds(v Version) bool {
	for _, c := range a {
		k := v.Order(c.v)
		ok := false
		switch c.op {
		case "=":
			ok = k == 0
		case "prefix":
			ok = v.hasPrefix(c.v)
		case ">=":
			ok = k >= 0
		case ">":
			ok = k > 0
		case "<=":
			ok = k <= 0
		case "<":
			ok = k < 0
		}
		if !ok {
			return false
		}
	}
	return true
}
