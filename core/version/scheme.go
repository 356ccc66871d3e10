package version

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// A Scheme says how the versions of one family are read and ordered. Versions of different schemes must not be compared.
type Scheme struct {
	Prefix  string         // letters that every version begins with and that say nothing, such as "R"
	Pre     []string       // words of releases before the final one, from raw to ripe; nil: those of Default
	Words   []string       // words with an order of their own, such as spring before autumn; other words come after them
	Pattern *regexp.Regexp // what a whole version must look like; nil: anything goes
}

// Default is the scheme of families that declare none. Its pre-release words stand in the order in which a release
// usually ripens.
var Default = &Scheme{Pre: []string{"dev", "alpha", "beta", "pre", "preview", "rc"}}

// Parse reads a version name by the scheme. It fails as the function Parse does, and on text that does not have the
// scheme's pattern.
func (s *Scheme) Parse(text string) (Version, error) {
	v, err := s.read(text)
	if err == nil && s.Pattern != nil && !s.Pattern.MatchString(text) {
		err = fmt.Errorf("version %q does not look like the family's versions (%s)", text, s.Pattern)
	}
	return v, err
}

func (s *Scheme) word(word string) token {
	pre := s.Pre
	if pre == nil {
		pre = Default.Pre
	}
	fold := func(w string) bool { return strings.EqualFold(w, word) }
	if i := slices.IndexFunc(pre, fold); i >= 0 {
		return token{rankPre, i, word}
	}
	if i := slices.IndexFunc(s.Words, fold); i >= 0 {
		return token{rankWord, i, word}
	}
	return token{rankWord, len(s.Words), word}
}
