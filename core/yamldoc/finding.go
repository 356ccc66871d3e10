package yamldoc

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// A Position is a place in a file, counted from 1.
type Position struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// A Finding is something wrong or doubtful in a file.
type Finding struct {
	Position
	Doubt   bool   `json:"doubt"` // false: an error, the file cannot be used
	Message string `json:"message"`
	Hint    string `json:"hint,omitempty"` // what to do
}

// String gives "file:line:column: error: message (hint)".
func (f Finding) String() string {
	word := "error"
	if f.Doubt {
		word = "doubt"
	}
	s := fmt.Sprintf("%s:%d:%d: %s: %s", f.File, f.Line, f.Column, word, f.Message)
	if f.Hint != "" {
		s += " (" + f.Hint + ")"
	}
	return s
}

// Findings is a list of findings; as an error it prints one a line.
type Findings []Finding

func (fs Findings) Error() string {
	lines := make([]string, len(fs))
	for i, f := range fs {
		lines[i] = f.String()
	}
	return strings.Join(lines, "\n")
}

// Sort orders findings by file, line and column.
func (fs Findings) Sort() {
	slices.SortStableFunc(fs, func(a, b Finding) int {
		return cmp.Or(strings.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
}

// Errors returns those findings that make a file unusable.
func (fs Findings) Errors() Findings {
	var out Findings
	for _, f := range fs {
		if !f.Doubt {
			out = append(out, f)
		}
	}
	return out
}
