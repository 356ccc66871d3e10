package device

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestValues(t *testing.T) {
	comma, point, quote := Value{Separator: ","}, Value{Separator: "."}, Value{Separator: "'"}
	units := Value{Units: map[string]float64{"K": 1024, "blocks": 512, "%": 0.01}}
	span, words, join := Value{Duration: true}, Value{Words: map[string]string{"in use, not sealed": "yes", "Sealed": "no"}}, Value{Join: true}
	date := Value{Date: "15:04 02.01.2006"}
	for _, c := range []struct {
		v    *Value
		text string
		want string
		bad  string
	}{
		{&comma, "12,582,912", "12582912", ""}, {&comma, "912", "912", ""}, {&comma, "1,204.5", "1204.5", ""}, {&comma, " -1,204 ", "-1204", ""}, {&comma, "1,204 KiB", "1232896", ""},
		{&comma, "1,2", "", "not a number in groups"}, {&comma, "1234,567", "", "not a number in groups"}, {&comma, ",123", "", "not a number"}, {&comma, "12'582", "", "not a number that"},
		{&point, "1.204,5", "1204.5", ""}, {&point, "1.204", "1204", ""}, {&quote, "1'204", "1204", ""},
		{&units, "12 K", "12288", ""}, {&units, "12K", "12288", ""}, {&units, "3 blocks", "1536", ""}, {&units, "1.5 MiB", "1572864", ""}, {&units, "50%", "0.5", ""}, {&units, "7", "7", ""},
		{&units, "7 pies", "", "a unit that is not known; say in units what pies is"}, {&units, "seven", "", "not a number"}, {&units, "", "", ""},
		{&span, "3 weeks, 2 days, 4:05:06", "2001906", ""}, {&span, "1d04h", "100800", ""}, {&span, "2 hours and 1 minute", "7260", ""}, {&span, "17:20", "62400", ""}, {&span, "90s", "90", ""},
		{&span, "2 moons", "", "not a duration"}, {&span, "3", "", "not a duration"}, {&span, "99999999999999999999 s", "", "not a duration"}, {&span, ",", "", "not a duration"},
		{&words, "in use, not sealed", "yes", ""}, {&words, "sealed", "no", ""}, {&words, "melted", "", ""},
		{&join, "AB:cd\n  01-23", "abcd0123", ""},
		{&date, "14:03  02.11.2026", "2026-11-02T14:03:00Z", ""}, {&date, "yesterday", "", "not a moment"},
	} {
		got, err := c.v.Read(c.text)
		if c.bad != "" {
			assert.ErrorContains(t, err, c.bad, c.text)
			continue
		}
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, got, c.text)
	}
	for bad, v := range map[string]*Value{"give one of": {}, "give one": {Duration: true, Join: true}, "is not one character": {Separator: ",,"}, "between digits": {Separator: "7"}} {
		assert.ErrorContains(t, v.Check(), bad)
	}
	assert.NoError(t, (&Value{Separator: ",", Units: map[string]float64{"K": 1}}).Check())
}

// Every whole number comes back, however it is grouped.
func TestNumbersInGroups(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.Int64Range(-(1<<53)+1, 1<<53-1).Draw(t, "n")
		sep := rapid.SampledFrom([]string{",", ".", "'", "_", " ", "\u202f"}).Draw(t, "separator")
		digits := strings.TrimLeft(fmt.Sprint(n), "-")
		var groups []string
		for len(digits) > 3 {
			groups = append([]string{digits[len(digits)-3:]}, groups...)
			digits = digits[:len(digits)-3]
		}
		text := strings.Join(append([]string{digits}, groups...), sep)
		if n < 0 {
			text = "-" + text
		}
		v := Value{Separator: sep}
		got, err := v.Read(text)
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint(n), got)
	})
}

func TestDigests(t *testing.T) {
	d, err := ReadDigest("md5", "D41D8CD98F00B204 E9800998ECF8427E")
	require.NoError(t, err)
	assert.Equal(t, Digest{"md5", "d41d8cd98f00b204e9800998ecf8427e"}, d)
	assert.True(t, d.Weak())
	assert.Equal(t, "MD5", d.Name())
	_, err = ReadDigest("sha256", "d41d8cd98f00b204e9800998ecf8427e")
	assert.ErrorContains(t, err, "no SHA256 sum")
	_, err = ReadDigest("md5", strings.Repeat("g", 32))
	assert.Error(t, err)
	assert.False(t, Digest{Algorithm: "sha512"}.Weak())
}
