package version

import (
	"regexp"
	"slices"
	"strings"
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
	seasons := &Scheme{Prefix: "x", Pre: []string{"p"}, Words: []string{"rc", "b"}}
	rapid.Check(t, func(t *rapid.T) {
		scheme := rapid.SampledFrom([]*Scheme{Default, seasons}).Draw(t, "scheme")
		draw := func(label string) Version {
			v, err := scheme.Parse(genVersion().Draw(t, label).String())
			if err != nil {
				t.Fatal(err)
			}
			return v
		}
		a, b, c := draw("a"), draw("b"), draw("c")
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

func TestASchemeOfItsOwn(t *testing.T) {
	s := &Scheme{Prefix: "SD", Pre: []string{"trial", "candidate"}, Words: []string{"spring", "autumn"}, Pattern: regexp.MustCompile(`^SD\d{4}-`)}
	want := []string{"SD2024-spring-1", "SD2024-spring-2", "SD2024-autumn-trial1", "SD2024-autumn-candidate1", "SD2024-autumn", "SD2024-autumn-1", "SD2024-winter", "SD2025-spring-1"}
	var got []Version
	for _, text := range want {
		v, err := s.Parse(text)
		require.NoError(t, err)
		got = append(got, v)
	}
	slices.Reverse(got)
	slices.SortFunc(got, Version.Compare)
	for i, v := range got {
		assert.Equal(t, want[i], v.String())
	}
	_, err := s.Parse("2024-spring-1")
	assert.ErrorContains(t, err, "does not look like")
	r, err := s.ParseRange(">=SD2024-autumn <2025") // a range may leave the prefix out
	require.NoError(t, err)
	assert.True(t, r.Contains(got[5]))
	assert.False(t, r.Contains(got[3]), "a candidate comes before")
	assert.False(t, r.Contains(got[7]))
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"5.0.6", "9.1-rc2", "R12.spring~3", "00.1", ">=5.0 <6 | 7.x", "\x00"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if v, err := Parse(text); err == nil {
			if v.String() != text || v.Compare(v) != 0 {
				t.Fatalf("%q printed as %q", text, v)
			}
			if r, err := ParseRange(text); err == nil && r.String() != "any" && !strings.HasSuffix(text, ".x") && !r.Contains(v) {
				t.Fatalf("%q is not in its own range", text)
			}
		}
		if r, err := ParseRange(text); err == nil {
			again, err := ParseRange(r.String())
			if err != nil || again.String() != r.String() {
				t.Fatalf("range %q read again: %v", text, err)
			}
		}
	})
}

// A range that can hold none of a family's versions is told in their spelling.
func TestRangesInTheRightSpelling(t *testing.T) {
	versions := []Version{MustParse("v2_3"), MustParse("v2_4"), MustParse("v3_0")}
	for text, want := range map[string]string{"2_x": "v2_x", "2.x": "v2_x", ">=2.3 <3": ">=v2_3 <v3", "2.4": "v2_4", "2_x | 3_0": "v2_x | v3_0", "9.x": "", "any": "", "v2_x": ""} {
		r, err := ParseRange(text)
		require.NoError(t, err)
		assert.Equal(t, want, r.Near(versions), text)
		if want != "" {
			near, err := ParseRange(want)
			require.NoError(t, err)
			assert.True(t, near.Contains(versions[0]) || near.Contains(versions[1]), want)
			assert.False(t, r.Contains(versions[0]), text)
		}
	}
	same, _ := ParseRange("2024.6")
	assert.True(t, same.Contains(MustParse("2024.06")))
	from, _ := ParseRange(">=2024.6")
	assert.True(t, from.Contains(MustParse("2024.06")))
	assert.Zero(t, MustParse("2024.6").Order(MustParse("2024.06")))
	assert.NotZero(t, MustParse("2024.6").Compare(MustParse("2024.06")), "the order stays total")
	assert.True(t, MustParse("8.0.5").Within("8.0"))
	assert.False(t, MustParse("8.1.5").Within("8.0"))
}
