// Package version reads and orders firmware version names.
//
// A version is text such as "5.0.6", "9.1-rc2" or "7.2p3". It is cut into numbers and words; everything else
// separates. Two versions compare token by token, and a token that is missing has a place of its own in the order:
//
//	pre-release word  <  end of version  <  any other word  <  number
//
// so 5.0-rc1 < 5.0 < 5.0p1 < 5.0.1. Versions that agree in every token but not in spelling ("5.00" and "5.0") are
// ordered by their text, which makes the order total: Compare returns 0 for identical text only. Order, and ranges, look at the tokens
// alone.
//
// That is the general default. A family whose makers number in their own way declares a Scheme.
package version

import (
	"cmp"
	"fmt"
	"strings"
)

// MaxLength bounds the text of a version in bytes; longer text is refused by Parse.
const MaxLength = 64

// A Version is one parsed version name. The zero Version is before all others and prints as "".
type Version struct {
	text   string
	tokens []token
}

type token struct {
	rank  int    // rankPre, rankEnd, rankWord, rankNumber
	order int    // place among the words of that rank
	text  string // number without leading zeros, or word in lower case
}

const (
	rankPre = iota
	rankEnd
	rankWord
	rankNumber
)

// Parse reads a version name by the default scheme. It fails on empty or overlong text, on text that does not begin
// with a letter or digit, and on characters other than ASCII letters, digits and . - _ + ~.
func Parse(text string) (Version, error) { return Default.read(text) }

func (s *Scheme) read(text string) (Version, error) {
	if text == "" {
		return Version{}, fmt.Errorf("a version is missing: expected something like 5.0.6")
	}
	if len(text) > MaxLength {
		return Version{}, fmt.Errorf("version %.20q... has %d characters; at most %d are allowed", text, len(text), MaxLength)
	}
	v := Version{text: text, tokens: make([]token, 0, 4)}
	start := 0
	if s.Prefix != "" && len(text) > len(s.Prefix) && strings.EqualFold(text[:len(s.Prefix)], s.Prefix) {
		start = len(s.Prefix)
	}
	for i := start; i < len(text); {
		switch c := text[i]; {
		case isDigit(c):
			j := scan(text, i, isDigit)
			v.tokens = append(v.tokens, token{rank: rankNumber, text: trimZeros(text[i:j])})
			i = j
		case isLetter(c):
			j := scan(text, i, isLetter)
			word := strings.ToLower(text[i:j])
			v.tokens = append(v.tokens, s.word(word))
			i = j
		case i > 0 && strings.IndexByte(".-_+~", c) >= 0:
			i++
		default:
			return Version{}, fmt.Errorf("version %q: character %d (%q) is not allowed; use letters, digits and . - _ + ~", text, i+1, c)
		}
	}
	return v, nil
}

// MustParse is Parse for text known to be right, such as constants in tests. It panics otherwise.
func MustParse(text string) Version {
	v, err := Parse(text)
	if err != nil {
		panic(err)
	}
	return v
}

// Compare returns -1, 0 or +1 as v is before, the same as, or after w.
func (v Version) Compare(w Version) int {
	if c := v.Order(w); c != 0 {
		return c
	}
	return strings.Compare(v.text, w.text)
}

// Order is Compare without regard to spelling: 2024.6 and 2024.06 are the same.
func (v Version) Order(w Version) int {
	for i := 0; i < len(v.tokens) || i < len(w.tokens); i++ {
		if c := compareTokens(v.at(i), w.at(i)); c != 0 {
			return c
		}
	}
	return 0
}

// Less reports whether v is before w.
func (v Version) Less(w Version) bool { return v.Compare(w) < 0 }

// IsZero reports whether v is the zero Version.
func (v Version) IsZero() bool { return v.text == "" }

// String returns the text that was parsed, unchanged.
func (v Version) String() string { return v.text }

// MarshalText implements encoding.TextMarshaler.
func (v Version) MarshalText() ([]byte, error) { return []byte(v.text), nil }

// UnmarshalText implements encoding.TextUnmarshaler; empty text gives the zero Version.
func (v *Version) UnmarshalText(b []byte) (err error) {
	if len(b) == 0 {
		*v = Version{}
		return nil
	}
	*v, err = Parse(string(b))
	return err
}

// Within reports whether a version begins with what a train is called.
func (v Version) Within(train string) bool {
	t, err := Parse(train)
	return err == nil && v.hasPrefix(t)
}

// hasPrefix reports whether v's tokens begin with those of p.
func (v Version) hasPrefix(p Version) bool {
	if len(v.tokens) < len(p.tokens) {
		return false
	}
	for i, t := range p.tokens {
		if v.tokens[i] != t {
			return false
		}
	}
	return true
}

func (v Version) at(i int) token {
	if i < len(v.tokens) {
		return v.tokens[i]
	}
	return token{rank: rankEnd}
}

func compareTokens(a, b token) int {
	if c := cmp.Compare(a.rank, b.rank); c != 0 {
		return c
	}
	switch a.rank {
	case rankNumber: // by length first: numbers have no leading zeros and no upper bound
		if c := cmp.Compare(len(a.text), len(b.text)); c != 0 {
			return c
		}
	case rankPre, rankWord:
		if c := cmp.Compare(a.order, b.order); c != 0 {
			return c
		}
	}
	return strings.Compare(a.text, b.text)
}

func scan(s string, i int, is func(byte) bool) int {
	for i < len(s) && is(s[i]) {
		i++
	}
	return i
}

func trimZeros(s string) string {
	s = strings.TrimLeft(s, "0")
	if s == "" {
		return "0"
	}
	return s
}

func isDigit(c byte) bool  { return c >= '0' && c <= '9' }
func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }
