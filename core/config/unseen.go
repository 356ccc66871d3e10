package config

import (
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// What cannot be seen: two texts that look the same and are not. Their code points tell.

// names of characters that cannot be seen, or not be told from others.
var unseen = map[rune]string{
	'\ufeff': "byte order mark", '\u200b': "zero width space", '\u200c': "zero width non-joiner", '\u200d': "zero width joiner", '\u2060': "word joiner", '\u00ad': "soft hyphen",
	'\u00a0': "no-break space", '\u202f': "narrow no-break space", '\u2007': "figure space", '\u3000': "ideographic space", '\u200e': "left-to-right mark", '\u200f': "right-to-left mark",
	'\u202a': "left-to-right embedding", '\u202b': "right-to-left embedding", '\u202c': "pop directional formatting", '\u202d': "left-to-right override", '\u202e': "right-to-left override", '\t': "tab", ' ': "blank",
}

// alike are letters and signs that look like a Latin one.
var alike = func() map[rune]rune {
	m := map[rune]rune{}
	for latin, others := range map[rune]string{
		'a': "аɑα", 'c': "сϲ", 'e': "еҽ", 'o': "оοօ", 'p': "рρ", 'x': "хχ", 'y': "у", 'i': "іι", 'j': "ј", 's': "ѕ", 'h': "һ", 'd': "ԁ", 'l': "ӏ", 'v': "ν", 'u': "υ", 'w': "ԝ", 'g': "ɡ", 'n': "ո",
		'A': "АΑ", 'B': "ВΒ", 'C': "С", 'E': "ЕΕ", 'H': "НΗ", 'I': "ІΙ", 'J': "Ј", 'K': "КΚ", 'M': "МΜ", 'N': "Ν", 'O': "ОΟ", 'P': "РΡ", 'S': "Ѕ", 'T': "ТΤ", 'X': "ХΧ", 'Y': "ҮΥ", 'Z': "Ζ",
		'-': "‐‑‒–—−", '\'': "‘’ʼ", '"': "“”", '/': "⁄∕", ':': "：", '.': "․", ',': "‚",
	} {
		for _, r := range others {
			m[r] = latin
		}
	}
	return m
}()

// look is a text as it looks: in one normal form, without what has no width, with look-alikes and blanks replaced.
func look(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case alike[r] != 0:
			return alike[r]
		case unicode.IsSpace(r):
			return ' '
		case unicode.Is(unicode.Cf, r) || r == '\ufeff':
			return -1
		}
		return r
	}, norm.NFKC.String(s))
}

// Unseen tells, with code points, how two texts differ that look the same; "" when they do not look the same, or are the same.
func Unseen(old, new string) string {
	if old == new || ascii(old) && ascii(new) || look(old) != look(new) {
		return ""
	}
	if norm.NFC.String(old) == norm.NFC.String(new) {
		return fmt.Sprintf("they look the same, in different normal forms: %s on the old side, %s on the new one", points(different(old, new)), points(different(new, old)))
	}
	parts := []string{}
	if only := different(old, new); only != "" {
		parts = append(parts, "the old one has "+points(only))
	}
	if only := different(new, old); only != "" {
		parts = append(parts, "the new one has "+points(only))
	}
	return "they look the same, but " + strings.Join(parts, ", ")
}

func ascii(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// different is the piece of a that differs from b, between what both begin and end with.
func different(a, b string) string {
	x, y := []rune(a), []rune(b)
	for len(x) > 0 && len(y) > 0 && x[0] == y[0] {
		x, y = x[1:], y[1:]
	}
	for len(x) > 0 && len(y) > 0 && x[len(x)-1] == y[len(y)-1] {
		x, y = x[:len(x)-1], y[:len(y)-1]
	}
	return string(x)
}

// points lists the code points of a text, up to eight, with the names of what cannot be seen.
func points(s string) string {
	var out []string
	for i, r := range []rune(s) {
		if i == 8 {
			out = append(out, "...")
			break
		}
		p := fmt.Sprintf("U+%04X", r)
		if name := unseen[r]; name != "" {
			p += " (" + name + ")"
		} else if latin := alike[r]; latin != 0 {
			p += fmt.Sprintf(" (looks like %c)", latin)
		}
		out = append(out, p)
	}
	return strings.Join(out, " ")
}
