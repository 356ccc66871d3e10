package config

import (
	"cmp"
	"encoding/hex"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// What a value means, whatever way it is spelled: 010 and 10, 2001:DB8::1 and 2001:db8:0::1, 10.0.0.1/24 and 10.0.0.1 255.255.255.0, 5m and
// 300, "1-3,5" and "5,3,2,1". Two values that mean the same differ only cosmetically. A value that cannot be read as its type says means
// what it says.

// Means is the words of a statement in one spelling, which all words that mean the same share.
func (s *Schema) Means(st *Statement, words []Word) string {
	if st == nil || len(words) == 0 {
		return joinTexts(words)
	}
	if a, m, ok := s.masked2(st, words); ok {
		return a + m
	}
	var b strings.Builder
	for i, w := range words {
		if i > 0 {
			b.WriteByte(' ')
		}
		if t := s.TypeOf(st, i); t != nil {
			b.WriteString(s.meaning(t, w.Text))
		} else {
			b.WriteString(w.Text)
		}
	}
	return b.String()
}

// masked2 reads an address with its mask, as one word or two; a statement may be described either way.
func (s *Schema) masked2(st *Statement, words []Word) (address, length string, ok bool) {
	first, second := s.TypeOf(st, 0), s.TypeOf(st, 1)
	prefix := first != nil && (first == builtIn["prefix"] || first == builtIn["network"])
	pair := first == builtIn["address"] && second == builtIn["mask"]
	switch {
	case prefix && len(words) == 2 || pair && len(words) == 2:
		p, good := readPrefix(words[0].Text + "/" + words[1].Text)
		return p.Addr().String(), "/" + strconv.Itoa(p.Bits()), good
	case pair && len(words) == 1:
		p, good := readPrefix(words[0].Text)
		return p.Addr().String(), "/" + strconv.Itoa(p.Bits()), good
	}
	return "", "", false
}

// meaning is a word in the one spelling of its type.
func (s *Schema) meaning(t *Type, word string) string {
	switch {
	case slices.Contains(t.Or, word) || len(t.RefersTo) > 0:
		return word
	case t.ListOf != "":
		return s.listMeaning(t, word)
	case t == builtIn["address"]:
		if a, err := netip.ParseAddr(word); err == nil {
			return a.String()
		}
	case t == builtIn["prefix"] || t == builtIn["network"]:
		if p, ok := readPrefix(word); ok {
			return p.String()
		}
		if a, err := netip.ParseAddr(word); err == nil && t == builtIn["network"] {
			return netip.PrefixFrom(a, a.BitLen()).String()
		}
	case t == builtIn["mask"]:
		if n, ok := readMask(word); ok {
			return "/" + strconv.Itoa(n)
		}
	case t == builtIn["mac"]:
		if digits, ok := MACDigits(word); ok {
			return digits
		}
	case t.numeric():
		if v, ok := t.number(word); ok {
			return number(v)
		}
	case t.IgnoreCase:
		return strings.ToLower(word)
	}
	return word
}

// numeric reports whether words of a type are numbers.
func (t *Type) numeric() bool {
	return t.Ranged || len(t.Units) > 0 || t == builtIn["number"] || t == builtIn["count"] || t == builtIn["port-number"]
}

// number reads a number with or without a unit: one of the type's units, or the one that it counts in.
func (t *Type) number(word string) (float64, bool) {
	digits, factor := word, 1.0
	for i := len(word); i > 0; i-- {
		if c := word[i-1]; c >= '0' && c <= '9' || c == '.' {
			unit := strings.TrimSpace(word[i:])
			if f, ok := t.Units[unit]; ok {
				digits, factor = strings.TrimSpace(word[:i]), f
			} else if unit != "" && unit == t.Unit {
				digits = strings.TrimSpace(word[:i])
			}
			break
		}
	}
	v, err := strconv.ParseFloat(digits, 64)
	return v * factor, err == nil && !strings.ContainsAny(digits, "xXpPiInN_")
}

// listMeaning is a list in one spelling: without blanks; of numbers, sorted, each once, neighbours as one range; of what need not be in
// order, sorted.
func (s *Schema) listMeaning(t *Type, word string) string {
	inner := s.Type(t.ListOf)
	var items []string
	var ranges [][2]float64
	numbers := inner != nil && inner.numeric()
	for _, item := range strings.Split(word, ",") {
		if item = strings.TrimSpace(item); item == "" {
			continue
		}
		if numbers {
			low, high, ok := inner.span(item)
			if numbers = ok; ok {
				ranges = append(ranges, [2]float64{low, high})
			}
		}
		if inner != nil {
			item = s.meaning(inner, item)
		}
		items = append(items, item)
	}
	if numbers && len(ranges) > 0 {
		return spans(ranges)
	}
	if t.Unordered {
		slices.Sort(items)
		items = slices.Compact(items)
	}
	return strings.Join(items, ",")
}

// span reads a number, or two with a dash between them.
func (t *Type) span(item string) (low, high float64, ok bool) {
	if a, b, two := strings.Cut(item, "-"); two && a != "" {
		low, first := t.number(strings.TrimSpace(a))
		high, second := t.number(strings.TrimSpace(b))
		return low, high, first && second && low <= high && low == float64(int64(low)) && high == float64(int64(high))
	}
	low, ok = t.number(item)
	return low, low, ok
}

// spans writes ranges sorted and joined where they touch.
func spans(list [][2]float64) string {
	slices.SortFunc(list, func(a, b [2]float64) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	joined := list[:1]
	for _, r := range list[1:] {
		last := &joined[len(joined)-1]
		if r[0] <= last[1]+1 && r[0] == float64(int64(r[0])) && last[1] == float64(int64(last[1])) || r[0] <= last[1] {
			last[1] = max(last[1], r[1])
		} else {
			joined = append(joined, r)
		}
	}
	var out []string
	for _, r := range joined {
		text := number(r[0])
		if r[1] > r[0] {
			text += "-" + number(r[1])
		}
		out = append(out, text)
	}
	return strings.Join(out, ",")
}

// readPrefix reads an address with a length or a mask behind a slash.
func readPrefix(word string) (netip.Prefix, bool) {
	if p, err := netip.ParsePrefix(word); err == nil {
		return p, true
	}
	text, mask, slash := strings.Cut(word, "/")
	a, err := netip.ParseAddr(text)
	n, ok := readMask(mask)
	if !slash || err != nil || !ok || strings.Contains(mask, ":") != a.Is6() || strings.HasPrefix(mask, "/") {
		return netip.Prefix{}, false
	}
	return netip.PrefixFrom(a, n), n <= a.BitLen()
}

// readMask reads a mask of either family, or a length behind a slash.
func readMask(word string) (n int, ok bool) {
	if rest, slash := strings.CutPrefix(word, "/"); slash {
		n, err := strconv.Atoi(rest)
		return n, err == nil && n >= 0 && n <= 128
	}
	a, err := netip.ParseAddr(word)
	if err != nil {
		return 0, false
	}
	return MaskLength(a)
}

// MACDigits are the digits of a hardware address of any form, in small letters; false when it is none (EUI-48 or EUI-64).
func MACDigits(word string) (string, bool) {
	digits := strings.ToLower(strings.NewReplacer(":", "", "-", "", ".", "").Replace(word))
	b, err := hex.DecodeString(digits)
	return digits, err == nil && (len(b) == 6 || len(b) == 8)
}

// MaskLength is the length that a mask of either family stands for; false when it is none.
func MaskLength(a netip.Addr) (n int, ok bool) {
	b := a.AsSlice()
	for n < len(b)*8 && b[n/8]&(1<<(7-n%8)) != 0 {
		n++
	}
	for i := n; i < len(b)*8; i++ {
		if b[i/8]&(1<<(7-i%8)) != 0 {
			return 0, false
		}
	}
	return n, true
}
