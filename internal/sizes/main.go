// Command sizes lists the files over 600 lines and the functions over 80, in Go and in the console, generated code aside. They are hints
// where to look: a file should be one idea, and a function should read from top to bottom. It fails nothing.
package main

import (
	"bytes"
	"cmp"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"slices"
	"strings"
)

// Sizes from which something is listed, in lines.
const (
	longFile     = 600
	longFunction = 80
)

// A finding is a long file or function.
type finding struct {
	lines int
	where string
}

func main() {
	tracked, err := exec.Command("git", "ls-files", "*.go", "*.ts", "*.tsx").Output()
	if err != nil {
		fmt.Fprintln(os.Stderr, "sizes: cannot list the files of the repository:", err)
		os.Exit(1)
	}
	var files, functions []finding
	for name := range strings.FieldsSeq(string(tracked)) {
		text, err := os.ReadFile(name)
		if err != nil || strings.Contains(name, ".gen.") {
			continue // deleted, or generated
		}
		if n := bytes.Count(text, []byte("\n")); n > longFile {
			files = append(files, finding{n, name})
		}
		if strings.HasSuffix(name, ".go") {
			functions = append(functions, longFunctions(name, text)...)
		}
	}
	list(fmt.Sprintf("files over %d lines", longFile), files)
	list(fmt.Sprintf("functions over %d lines", longFunction), functions)
}

// longFunctions are the long functions of a Go file.
func longFunctions(name string, text []byte) (out []finding) {
	set := token.NewFileSet()
	f, err := parser.ParseFile(set, name, text, 0)
	if err != nil {
		return nil // the compiler tells
	}
	for _, d := range f.Decls {
		if fn, ok := d.(*ast.FuncDecl); ok {
			from, to := set.Position(fn.Pos()), set.Position(fn.End())
			if n := to.Line - from.Line + 1; n > longFunction {
				out = append(out, finding{n, fmt.Sprintf("%s:%d %s", name, from.Line, fn.Name.Name)})
			}
		}
	}
	return out
}

func list(title string, all []finding) {
	slices.SortFunc(all, func(a, b finding) int { return cmp.Or(b.lines-a.lines, strings.Compare(a.where, b.where)) })
	fmt.Printf("%s: %d\n", title, len(all))
	for _, f := range all {
		fmt.Printf("  %5d  %s\n", f.lines, f.where)
	}
}
