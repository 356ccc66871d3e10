package version

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestOrderOfAList(t *testing.T) {
	want := []string{"4.2.3", "4.2.9", "4.2.10", "5.0-dev1", "5.0-alpha", "5.0-beta2", "5.0-rc1", "5.0-rc2", "5.0", "5.0p1", "5.0.1", "5.0.10", "10.0"}
	var got []Version
	for _, s := range want {
		got = append(got, MustParse(s))
	}
	slices.Reverse(got)
	slices.SortFunc(got, Version.Compare)
	for i, v := range got {
		assert.Equal(t, want[i], v.String())
	}
}

func TestParseRefuses(t *testing.T) {
	for text, part := range map[string]string{
		"":                       "missing",
		".5":                     "character 1",
		"5.0 6":                  "character 4",
		"5.0/../x":               "character 4",
		"5.0é":                   "character 4",
		string(make([]byte, 80)): "at most 64",
	} {
		_, err := Parse(text)
		require.Error(t, err, "%q", text)
		assert.Contains(t, err.Error(), part)
	}
}

func genVersion() *rapid.Generator[Version] {
	return rapid.Custom(func(t *rapid.T) Version {
		return MustParse(rapid.StringMatching(`[0-9a-z]{1,2}([.-](0?[0-9]{1,2}|rc|beta|p|x)){0,3}`).Draw(t, "text"))
	})
}

func TestOrderIsTotal(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b, c := genVersion().Draw(t, "a"), genVersion().Draw(t, "b"), genVersion().Draw(t, "c")
		if a.Compare(b) != -b.Compare(a) {
			t.Fatalf("not antisymmetric: %s %s", a, b)
		}
		if (a.Compare(b) == 0) != (a.String() == b.String()) {
			t.Fatalf("equal only when spelt alike: %s %s", a, b)
		}
		if a.Compare(b) <= 0 && b.Compare(c) <= 0 && a.Compare(c) > 0 {
			t.Fatalf("not transitive: %s %s %s", a, b, c)
		}
	})
}

func TestPrintParseIdentity(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`[A-Za-z0-9][A-Za-z0-9.+~_-]{0,20}`).Draw(t, "text")
		v, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		if v.String() != text {
			t.Fatalf("%q printed as %q", text, v)
		}
		var w Version
		b, _ := v.MarshalText()
		if err := w.UnmarshalText(b); err != nil || w.Compare(v) != 0 {
			t.Fatalf("text round trip of %q: %v %v", text, w, err)
		}
	})
}

func TestRanges(t *testing.T) {
	cases := []struct{ in, has, not string }{
		{"5.0.x", "5.0.6", "5.1.0"},
		{"5.0.x", "5.0", "5"},
		{"5.x", "5.4.2", "50.1"},
		{">=5.0.6 <5.4", "5.2.1", "5.4"},
		{">=5.0.6 <5.4", "5.0.6", "5.0.6-rc1"},
		{"4.2.9 | >5.0.6", "5.0.7", "5.0.6"},
		{"4.2.9 | >5.0.6", "4.2.9", "4.2.8"},
		{"<=4.2.9", "4.2.9", "4.2.9p1"},
		{"any", "1", ""},
	}
	for _, c := range cases {
		r := MustRange(c.in)
		assert.True(t, r.Contains(MustParse(c.has)), "%s has %s", c.in, c.has)
		if c.not != "" {
			assert.False(t, r.Contains(MustParse(c.not)), "%s has not %s", c.in, c.not)
		}
	}
	for _, bad := range []string{"", "| 5.0", ">=", "5.0 !", ">=5.0.x.y z/"} {
		_, err := ParseRange(bad)
		assert.Error(t, err, bad)
	}
}
