package catalog

import (
	"fmt"
	"strings"
)

// A Finding is something wrong or doubtful in a catalogue file.
type Finding struct {
	Position
	Doubt   bool // false: an error, the file cannot be used
	Message string
	Hint    string // what to do
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
