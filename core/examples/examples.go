// Package examples runs the examples of the documentation as tests: it reads the fenced blocks of a Markdown file, so that a document cannot say what
// the code does not do.
package examples

import (
	"os"
	"regexp"
	"strings"

	"github.com/stretchr/testify/require"
)

// section is the text under a heading, up to the next one.
func section(t require.TestingT, file, heading string) string {
	doc, err := os.ReadFile(file)
	require.NoError(t, err)
	_, rest, found := strings.Cut("\n"+string(doc), "\n"+heading+"\n")
	require.True(t, found, "%s has no heading %q", file, heading)
	if i := regexp.MustCompile(`(?m)^#+ `).FindStringIndex(rest); i != nil {
		rest = rest[:i[0]]
	}
	return rest
}

// Table returns the rows of the last table under a heading, without its first line: of each cell what stands in backquotes, with ⏎ as the
// end of a line, or all of it where nothing does.
func Table(t require.TestingT, file, heading string) (rows [][]string) {
	quoted := regexp.MustCompile("`([^`]*)`")
	for _, line := range strings.Split(section(t, file, heading), "\n") {
		if strings.HasPrefix(line, "| ---") {
			rows = nil
			continue
		}
		if !strings.HasPrefix(line, "| ") {
			continue
		}
		var row []string
		for _, cell := range strings.Split(strings.TrimSuffix(strings.TrimPrefix(line, "| "), " |"), " | ") {
			if m := quoted.FindStringSubmatch(cell); m != nil {
				cell = strings.ReplaceAll(m[1], "⏎", "\n")
			}
			row = append(row, strings.TrimSpace(cell))
		}
		rows = append(rows, row)
	}
	require.NotEmpty(t, rows, "%s has no table under %q", file, heading)
	return rows
}

// Blocks returns the fenced blocks under a heading.
func Blocks(t require.TestingT, file, heading string) (blocks []string) {
	for _, m := range regexp.MustCompile("(?ms)^```\\w*\n(.*?)^```").FindAllStringSubmatch(section(t, file, heading), -1) {
		blocks = append(blocks, m[1])
	}
	require.NotEmpty(t, blocks, "%s has no example under %q", file, heading)
	return blocks
}
