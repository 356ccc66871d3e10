package convert

import (
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The examples of the documentation are true. A word stands there as it would be kept.
func TestTheExamplesOfFunctions(t *testing.T) {
	doc, err := os.ReadFile("../../docs/formats/conversion.md")
	require.NoError(t, err)
	n := 0
	for _, m := range regexp.MustCompile("(?m)^\\|.*\\| `\\{= (.*)\\}` → `(.*)` \\|$").FindAllStringSubmatch(string(doc), -1) {
		n++
		assert.Equal(t, m[2], computed(t, m[1]), m[1])
	}
	assert.Equal(t, 11, n)
	listed := string(doc)
	for name := range functions {
		assert.Contains(t, listed, "`"+name+"`")
	}
}

// computed evaluates f(word), where the word is kept.
func computed(t assert.TestingT, text string) string {
	name, rest, _ := strings.Cut(text, "(")
	word := strings.TrimSuffix(rest, ")")
	got, err := evaluate(name+"(w)", captures{{"w", []string{word}}}, false)
	if err != nil {
		got, err = evaluate(text, nil, false)
	}
	assert.NoError(t, err, text)
	return got
}

func TestFunctionsOfAddresses(t *testing.T) {
	for text, want := range map[string]string{
		"network(2001:db8:1:2::9/48)": "2001:db8:1::/48", "host(2001:db8::9/48)": "2001:db8::9", "base(2001:db8::9/48)": "2001:db8::", "last(2001:db8::/126)": "2001:db8::3",
		"mask(10.0.0.1/25)": "255.255.255.128", "mask(2001:db8::/32)": "ffff:ffff::", "mask(0)": "0.0.0.0", "mask(32)": "255.255.255.255", "mask6(0)": "::", "bits(ffff:ffff::)": "32", "bits(0.0.0.0)": "0",
		"bits(0.0.0.255)": "24", "wildcard(255.255.255.0)": "0.0.0.255", "long(2001:db8::1/64)": "2001:0db8:0000:0000:0000:0000:0000:0001/64", "short(10.0.0.1)": "10.0.0.1",
		"plain(0000.e123.4567)": "0000e1234567", "colons(0000e1234567)": "00:00:e1:23:45:67", "dashes(001122334455)": "00-11-22-33-44-55", "lower(00-1A)": "00-1a",
	} {
		assert.Equal(t, want, computed(t, text), text)
	}
	for text, wrong := range map[string]string{
		"bits(255.0.255.0)": "is not a mask", "mask(33)": "is not a prefix length", "mask6(129)": "is not a prefix length", "mask(1.5)": "is not a prefix length", "network(10.0.0.1)": "is not a prefix",
		"dots(00-1A)": "is not a hardware address", "short(x)": "is not an address", "floor(x)": "is not a number", "nework(x)": "there is no function nework; known and near: network",
	} {
		name, rest, _ := strings.Cut(text, "(")
		_, err := evaluate(name+"(w)", captures{{"w", []string{strings.TrimSuffix(rest, ")")}}}, false)
		assert.ErrorContains(t, err, wrong, text)
	}
}

// A mask says the length it was made of, and every form of a hardware address is the same address.
func TestFormsAreTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(0, 128).Draw(t, "n")
		m, err := maskOf(strconv.Itoa(n), 128)
		assert.NoError(t, err)
		got, err := bitsOf(m.String())
		assert.NoError(t, err)
		assert.Equal(t, n, got)
		mac := rapid.StringMatching(`[0-9a-f]{12}`).Draw(t, "mac")
		for _, form := range []string{"colons", "dashes", "dots", "plain"} {
			out, _, err := functions[form].word(mac)
			assert.NoError(t, err)
			back, _, _ := functions["plain"].word(strings.ToUpper(out))
			assert.Equal(t, mac, back)
		}
	})
}
