package version

import (
	"fmt"
	"strings"
)

// A Range is a set of versions, written as one of
//
//	any              every version
//	5.0.6            exactly that one
//	5.0.x            every version whose tokens begin with 5, 0
//	>=5.0.6 <5.2     all conditions at once; the operators are >= > <= <
//	4.2.9 | 5.0.x    either side
//
// The zero Range holds every version.
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
	if rest, ok := strings.CutSuffix(word, ".x"); ok {
		v, err := s.read(rest)
		return condition{"prefix", v}, err
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
		k := v.Compare(c.v)
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
