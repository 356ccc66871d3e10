package near

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func ExampleNames() {
	fmt.Println(Names("tunel far", []string{"tunnel near", "tunnel far", "port p1"}))
	fmt.Print("there is no port p12", Hint("p12", []string{"p1", "p21", "x"}), "\n")
	// Output:
	// [tunnel far tunnel near]
	// there is no port p12; known and near: p1, p21
}

func TestNames(t *testing.T) {
	for _, c := range []struct {
		name  string
		known []string
		want  []string
	}{
		{"P1", []string{"p1", "p2", "q9"}, []string{"p1", "p2"}},
		{"hsot", []string{"host", "hosts", "other"}, []string{"host", "hosts"}},
		{"tunnel far / secret", []string{"tunnel far / secret word", "tunnel"}, []string{"tunnel far / secret word", "tunnel"}},
		{"nothing like it", []string{"p1"}, []string{}},
		{"a", []string{"a"}, []string{}},
		{"p1", []string{"p2", "p3", "p4", "p5", "p6", "p7", "p2"}, []string{"p2", "p3", "p4", "p5", "p6"}},
	} {
		assert.Equal(t, c.want, Names(c.name, c.known), c.name)
	}
}

// One slip of the finger is always found.
func TestOneSlipIsFound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := []rune(rapid.StringMatching(`[a-zé]{3,12}`).Draw(t, "name"))
		i := rapid.IntRange(0, len(name)-2).Draw(t, "at")
		slip := append([]rune{}, name...)
		switch rapid.IntRange(0, 2).Draw(t, "kind") {
		case 0:
			slip[i], slip[i+1] = slip[i+1], slip[i]
		case 1:
			slip = append(slip[:i], slip[i+1:]...)
		case 2:
			slip[i] = 'ö'
		}
		if string(slip) == string(name) {
			return
		}
		assert.Equal(t, []string{string(name)}, Names(string(slip), []string{"zzzzzzzzzzzzzzz", string(name)}))
	})
}
