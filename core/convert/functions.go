package convert

import (
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"

	"verimorph/core/config"
)

// A function of expressions. Those of numbers give a number or a text, those of words take a word as it stands in the configuration.
type function struct {
	takes   int // values
	numbers func([]float64) (string, float64, error)
	word    func(string) (string, float64, error)
}

// functions by name. docs/formats/conversion.md lists them with an example of each.
var functions = map[string]function{
	"round": numeric(math.Round), "floor": numeric(math.Floor), "ceil": numeric(math.Ceil),
	"min": {takes: 2, numbers: func(v []float64) (string, float64, error) { return "", min(v[0], v[1]), nil }},
	"max": {takes: 2, numbers: func(v []float64) (string, float64, error) { return "", max(v[0], v[1]), nil }},

	"network":  ofPrefix(func(p netip.Prefix) string { return p.Masked().String() }),
	"base":     ofPrefix(func(p netip.Prefix) string { return p.Masked().Addr().String() }),
	"host":     ofPrefix(func(p netip.Prefix) string { return p.Addr().String() }),
	"last":     ofPrefix(func(p netip.Prefix) string { return lastOf(p).String() }),
	"length":   {takes: 1, word: func(s string) (string, float64, error) { p, err := prefixOf(s); return "", float64(p.Bits()), err }},
	"mask":     {takes: 1, word: func(s string) (string, float64, error) { m, err := maskOf(s, 32); return m.String(), 0, err }},
	"mask6":    {takes: 1, word: func(s string) (string, float64, error) { m, err := maskOf(s, 128); return m.String(), 0, err }},
	"wildcard": {takes: 1, word: func(s string) (string, float64, error) { m, err := maskOf(s, 32); return inverse(m).String(), 0, err }},
	"bits":     {takes: 1, word: func(s string) (string, float64, error) { n, err := bitsOf(s); return "", float64(n), err }},
	"short":    ofAddress(func(a netip.Addr, rest string) string { return a.String() + rest }),
	"long":     ofAddress(func(a netip.Addr, rest string) string { return a.StringExpanded() + rest }),

	"colons": ofMAC(2, ":"), "dashes": ofMAC(2, "-"), "dots": ofMAC(4, "."), "plain": ofMAC(12, ""),
	"upper": {takes: 1, word: func(s string) (string, float64, error) { return strings.ToUpper(s), 0, nil }},
	"lower": {takes: 1, word: func(s string) (string, float64, error) { return strings.ToLower(s), 0, nil }},
}

func numeric(f func(float64) float64) function {
	return function{takes: 1, numbers: func(v []float64) (string, float64, error) { return "", f(v[0]), nil }}
}

func ofPrefix(f func(netip.Prefix) string) function {
	return function{takes: 1, word: func(s string) (string, float64, error) {
		p, err := prefixOf(s)
		if err != nil {
			return "", 0, err
		}
		return f(p), 0, nil
	}}
}

func prefixOf(s string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(s)
	if err != nil {
		return p, fmt.Errorf("%q is not a prefix", s)
	}
	return p, nil
}

// ofAddress makes a function of an address; what stands behind a slash goes along.
func ofAddress(f func(a netip.Addr, rest string) string) function {
	return function{takes: 1, word: func(s string) (string, float64, error) {
		text, length, slash := strings.Cut(s, "/")
		a, err := netip.ParseAddr(text)
		if err != nil {
			return "", 0, fmt.Errorf("%q is not an address", s)
		}
		if slash {
			length = "/" + length
		}
		return f(a, length), 0, nil
	}}
}

// lastOf is the last address of a prefix; of IPv4, the one for all of its hosts.
func lastOf(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 1 << (7 - i%8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// maskOf makes a mask of a length, of a prefix (whose family it takes), or of a mask.
func maskOf(s string, size int) (netip.Addr, error) {
	n, err := strconv.Atoi(s)
	if p, e := netip.ParsePrefix(s); e == nil {
		n, size, err = p.Bits(), p.Addr().BitLen(), nil
	} else if a, e := netip.ParseAddr(s); e == nil {
		size = a.BitLen()
		n, err = bitsOf(s)
	}
	if err != nil || n < 0 || n > size {
		return netip.Addr{}, fmt.Errorf("%s is not a prefix length", s)
	}
	b := make([]byte, size/8)
	for i := range n {
		b[i/8] |= 1 << (7 - i%8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a, nil
}

// inverse is a mask with ones for zeros.
func inverse(m netip.Addr) netip.Addr {
	b := m.AsSlice()
	for i := range b {
		b[i] = ^b[i]
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// bitsOf is the length that a mask of either family stands for. A mask with ones at its end is the inverse of one.
func bitsOf(s string) (int, error) {
	a, err := netip.ParseAddr(s)
	if err != nil {
		return 0, fmt.Errorf("%q is not a mask", s)
	}
	if b := a.AsSlice(); b[0]&0x80 == 0 && b[len(b)-1]&1 != 0 {
		a = inverse(a)
	}
	n, ok := config.MaskLength(a)
	if !ok {
		return 0, fmt.Errorf("%q is not a mask", s)
	}
	return n, nil
}

// ofMAC writes a hardware address with a sign after each group of digits.
func ofMAC(group int, sign string) function {
	return function{takes: 1, word: func(s string) (string, float64, error) {
		digits, ok := config.MACDigits(s)
		if !ok {
			return "", 0, fmt.Errorf("%q is not a hardware address", s)
		}
		var out []string
		for ; len(digits) > group; digits = digits[group:] {
			out = append(out, digits[:group])
		}
		return strings.Join(append(out, digits), sign), 0, nil
	}}
}
