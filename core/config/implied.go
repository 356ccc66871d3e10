package config

import (
	"maps"
	"slices"
	"strings"
)

// Implied lists, by name, the statements that a block has though nobody wrote them: those with a default, and blocks in which such
// statements stand. A block needs no writing when there is one of it, it has no words, nothing inside must be written, and its presence
// says nothing by itself. RFC 7950 calls it a non-presence container (section 7.5.1), and says the same of when a default is in use
// (section 7.6.1).
func (st *Statement) Implied() []*Statement {
	if st == nil {
		return nil
	}
	return st.implied
}

// imply fills in what Implied says, once all that stands inside has it.
func (st *Statement) imply() {
	st.implied = nil
	for _, name := range slices.Sorted(maps.Keys(st.Statements)) {
		if c := st.Statements[name]; string(st.Key) != name && (c.HasDefault || c.unwritten()) {
			st.implied = append(st.implied, c)
		}
	}
}

// unwritten reports whether a block is there without being written.
func (st *Statement) unwritten() bool {
	if st.Key != KeyOnce || len(st.Words) > 0 || st.Presence || len(st.implied) == 0 {
		return false
	}
	for _, c := range st.Statements {
		if c.Required {
			return false
		}
	}
	return true
}

// DefaultWords are the words of a statement's default.
func (st *Statement) DefaultWords() []string {
	if len(st.Words) == 1 && st.Words[0][len(st.Words[0])-1] != '.' { // one word, whatever it holds
		return []string{st.Default}
	}
	return strings.Fields(st.Default)
}
