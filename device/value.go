package device

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A Value says how a device writes a value, where that is not the plain way: 12582912, 3725 for seconds, 2026-11-28T02:00:00Z.
type Value struct {
	Separator string             `yaml:"separator" json:"separator,omitempty"` // between groups of three digits
	Units     map[string]float64 `yaml:"units" json:"units,omitempty"`         // what a number is multiplied by for the word behind it; "": without one
	Duration  bool               `yaml:"duration" json:"duration,omitempty"`   // "3 weeks, 2 days, 4:05:06"
	Date      string             `yaml:"date" json:"date,omitempty"`           // how it would write Monday, 2 January 2006, 15:04:05 UTC
	Words     map[string]string  `yaml:"words" json:"words,omitempty"`         // what its words mean; others mean nothing that is known
	Join      bool               `yaml:"join" json:"join,omitempty"`           // blanks, line breaks, colons and dashes inside it are only layout
}

// plainUnits are the words that need no explanation behind a number of bytes (IEC 80000-13).
var plainUnits = map[string]float64{"B": 1, "byte": 1, "bytes": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40}

// Check reports what is wrong with a rule.
func (v *Value) Check() error {
	kinds := 0
	for _, has := range []bool{v.Separator != "" || len(v.Units) > 0, v.Duration, v.Date != "", len(v.Words) > 0, v.Join} {
		if has {
			kinds++
		}
	}
	switch {
	case kinds != 1:
		return fmt.Errorf("give one of: separator and units, duration, date, words, join")
	case len([]rune(v.Separator)) > 1 || v.Separator != "" && strings.ContainsAny(v.Separator, "0123456789"):
		return fmt.Errorf("separator %q is not one character between digits", v.Separator)
	}
	return nil
}

// Read returns the plain form of what a device wrote: of a number its digits, of a duration its seconds, of a moment RFC 3339, of words what they
// mean ("" where that is not known), of a joined text the text without its layout. What cannot be read is an error that quotes it.
func (v *Value) Read(text string) (string, error) {
	text = strings.TrimSpace(text)
	switch {
	case text == "":
		return "", nil
	case len(v.Words) > 0:
		return v.word(text), nil
	case v.Join:
		return strings.ToLower(strings.Map(func(r rune) rune {
			if strings.ContainsRune(" \t\r\n:-", r) {
				return -1
			}
			return r
		}, text)), nil
	case v.Duration:
		return duration(text)
	case v.Date != "":
		at, err := time.Parse(v.Date, strings.Join(strings.Fields(text), " "))
		if err != nil {
			return "", fmt.Errorf("%q is not a moment as in %q", text, v.Date)
		}
		return at.UTC().Format(time.RFC3339), nil
	}
	return v.number(text)
}

// word is what words mean: as they stand, or whatever their case.
func (v *Value) word(text string) string {
	if to, ok := v.Words[text]; ok {
		return to
	}
	for from, to := range v.Words {
		if strings.EqualFold(from, text) {
			return to
		}
	}
	return ""
}

var numberAndUnit = regexp.MustCompile(`^([-+]?[0-9][^\p{L}%]*?)\s*(\p{L}+|%)?$`)

// number reads a number with groups of digits and a unit. Groups that are not of three digits are no groups.
func (v *Value) number(text string) (string, error) {
	m := numberAndUnit.FindStringSubmatch(text)
	if m == nil {
		return "", fmt.Errorf("%q is not a number that is understood", text)
	}
	digits := m[1]
	if v.Separator != "" && strings.Contains(digits, v.Separator) {
		whole, fraction, _ := strings.Cut(digits, ".")
		if v.Separator == "." { // then the comma is before the fraction
			whole, fraction, _ = strings.Cut(digits, ",")
		}
		groups := strings.Split(whole, v.Separator)
		for i, g := range groups {
			if i > 0 && len(g) != 3 || i == 0 && (len(strings.TrimLeft(g, "-+")) > 3 || strings.TrimLeft(g, "-+") == "") {
				return "", fmt.Errorf("%q is not a number in groups of three digits", text)
			}
		}
		if digits = strings.Join(groups, ""); fraction != "" {
			digits += "." + fraction
		}
	}
	n, err := strconv.ParseFloat(digits, 64)
	if err != nil {
		return "", fmt.Errorf("%q is not a number that is understood", text)
	}
	if by, ok := v.Units[""]; ok && m[2] == "" {
		n *= by
	}
	if m[2] != "" {
		by, ok := v.Units[m[2]]
		if !ok {
			by, ok = plainUnits[m[2]]
		}
		if !ok {
			return "", fmt.Errorf("%q has a unit that is not known; say in units what %s is", text, m[2])
		}
		n *= by
	}
	if math.Abs(n) < 1<<53 && n == math.Trunc(n) {
		return strconv.FormatInt(int64(n), 10), nil
	}
	return strconv.FormatFloat(n, 'f', -1, 64), nil
}

var (
	spanPart  = regexp.MustCompile(`^(\d+)\s*(years?|yrs?|y|weeks?|w|days?|d|hours?|hrs?|h|minutes?|mins?|m|seconds?|secs?|s)\b?`)
	spanClock = regexp.MustCompile(`^(\d+):(\d\d)(?::(\d\d))?`)
)

// spanSeconds is how long each unit lasts, by its first letter. A year is one of 365 days.
var spanSeconds = map[byte]int{'y': 365 * 86400, 'w': 7 * 86400, 'd': 86400, 'h': 3600, 'm': 60, 's': 1}

// duration reads a span of time in words or as h:mm and h:mm:ss; all of it has to be understood.
func duration(text string) (string, error) {
	total, rest, some := 0, strings.ToLower(text), false
	for {
		rest = strings.TrimLeft(rest, " ,")
		rest = strings.TrimPrefix(rest, "and ")
		if rest == "" {
			break
		}
		if m := spanClock.FindStringSubmatch(rest); m != nil {
			h, _ := strconv.Atoi(m[1])
			minutes, _ := strconv.Atoi(m[2])
			seconds, _ := strconv.Atoi(m[3])
			total, rest, some = total+h*3600+minutes*60+seconds, rest[len(m[0]):], true
			continue
		}
		m := spanPart.FindStringSubmatch(rest)
		if m == nil {
			return "", fmt.Errorf("%q is not a duration that is understood", text)
		}
		n, err := strconv.Atoi(m[1])
		if err != nil {
			return "", fmt.Errorf("%q is not a duration that is understood", text)
		}
		total, rest, some = total+n*spanSeconds[m[2][0]], rest[len(m[0]):], true
	}
	if !some {
		return "", fmt.Errorf("%q is not a duration that is understood", text)
	}
	return strconv.Itoa(total), nil
}

// A Digest is a sum that a device computed over a file.
type Digest struct {
	Algorithm string // md5, sha1, sha256, sha512 or [Validated]
	Sum       string // in small hexadecimal digits
}

// Validated is the algorithm of a device that tells no sum, but that it has checked a file itself. Sum is the version that it holds then; "" when
// it does not say that it holds it.
const Validated = "validated"

// Algorithms are those of digests, the strongest first.
var Algorithms = []string{"sha512", "sha256", "sha1", "md5"}

var digestLength = map[string]int{"md5": 32, "sha1": 40, "sha256": 64, "sha512": 128}

// ReadDigest reads a digest: small or large digits, in one piece or with layout between them. What is not as long as such a sum is, is none.
func ReadDigest(algorithm, text string) (Digest, error) {
	join := Value{Join: true}
	sum, _ := join.Read(text)
	if len(sum) != digestLength[algorithm] || strings.Trim(sum, "0123456789abcdef") != "" {
		return Digest{}, fmt.Errorf("%.80q is no %s sum", text, strings.ToUpper(algorithm))
	}
	return Digest{algorithm, sum}, nil
}

// Weak reports whether a file could be made to have a given sum of this kind (RFC 6151, RFC 6194): it finds damage, not malice.
func (d Digest) Weak() bool { return slices.Contains([]string{"md5", "sha1"}, d.Algorithm) }

// Name is how people write the algorithm.
func (d Digest) Name() string {
	return map[string]string{"md5": "MD5", "sha1": "SHA-1", "sha256": "SHA-256", "sha512": "SHA-512"}[d.Algorithm]
}
