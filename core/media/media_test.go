package media

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFits(t *testing.T) {
	assert.Empty(t, Fits([]File{{Name: "th60-5.4.2.img", Size: MaxFile}, {Name: "ö.img"}}))
	for name, part := range map[string]string{"a:b": "not allowed", "x.": "dot or a space", "con.img": "reserved", strings.Repeat("n", 256): "256 characters", "": "0 characters",
		"sha256sums": "file of its own", "a\x01": "not allowed"} {
		assert.Contains(t, strings.Join(Fits([]File{{Name: name}}), "\n"), part, name)
	}
	assert.Contains(t, Fits([]File{{Name: "big", Size: 1 << 32}})[0], "more than FAT32")
	assert.Contains(t, Fits([]File{{Name: "A.img"}, {Name: "a.IMG"}})[0], "upper and lower case")
}

func TestSumsGoOutAndComeBack(t *testing.T) {
	want := []Sum{{strings.Repeat("a", 64), "one two.img"}, {strings.Repeat("0", 64), "x"}}
	var b bytes.Buffer
	require.NoError(t, WriteSums(&b, want))
	got, err := ReadSums(strings.NewReader("# list\r\n\n" + strings.ToUpper(b.String()[:64]) + b.String()[64:]))
	require.NoError(t, err)
	assert.Equal(t, want, got)
	_, err = ReadSums(strings.NewReader("\nabc  x\n"))
	assert.ErrorContains(t, err, "line 2")
}

func TestCheck(t *testing.T) {
	m := &Manifest{Files: []File{{Name: "a.img", Size: 3, SHA256: "s"}, {Name: "b.img", Size: 3, SHA256: "t"}, {Name: "c.img", Size: 4, SHA256: "u"}, {Name: "d.img", Size: 1, SHA256: "v"}}}
	assert.Equal(t, []string{"b.img: is missing", "c.img: has 3 bytes instead of 4", "d.img: its content was changed (SHA-256 differs)", "virus.exe: does not belong on this medium"},
		Check(m, []Found{{"A.IMG", 3, "s"}, {"c.img", 3, "u"}, {"d.img", 1, "x"}, {ManifestFile, 9, ""}, {"virus.exe", 1, ""}}))
}
