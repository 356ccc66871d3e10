package config

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func ExampleExcerpts() {
	long := strings.Repeat("a,", 100)
	old, new := Excerpts("members "+long+"p1,"+long, "members "+long+"p2,"+long, 30)
	fmt.Println(old)
	fmt.Println(new)
	// Output:
	// (199 characters) … ,a,a,a,a,p1,a,a,a,a,a … (191 characters)
	// (199 characters) … ,a,a,a,a,p2,a,a,a,a,a … (191 characters)
}

// However long lines are, what differs is seen on a short one; short lines stay as they are.
func TestExcerptsShowWhatDiffers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`[abé ]{0,200}`)
		head, tail := text.Draw(t, "head"), text.Draw(t, "tail")
		old, new := Excerpts(head+"X1"+tail, head+"Y22"+tail, 60)
		assert.Contains(t, old, "X1")
		assert.Contains(t, new, "Y22")
		assert.LessOrEqual(t, utf8.RuneCountInString(new), 60+2*len(" … (200 characters)"))
		short := rapid.StringMatching(`[ab\n]{0,20}`).Draw(t, "short")
		a, b := Excerpts(short, short+"\nmore", 60)
		assert.Equal(t, short, a)
		assert.Equal(t, short+"\nmore", b)
	})
	a, b := Excerpts(strings.Repeat("x", 500), "", 60)
	assert.Equal(t, strings.Repeat("x", 60)+" … (440 characters)", a)
	assert.Empty(t, b)
}
