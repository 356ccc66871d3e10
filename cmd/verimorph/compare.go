package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"

	"verimorph/api/view"
	"verimorph/core/config"
	"verimorph/core/near"
	"verimorph/report"
)

// Comparing configurations offline.

// told is what is known about files to compare.
type told struct {
	schema           *config.Schema // nil: nobody said what they are
	syntax           config.Syntax  // "": it is guessed
	secrets, ordered []string
}

// of is the schema for files of a syntax.
func (k told) of(syntax config.Syntax) *config.Schema {
	if k.schema != nil {
		return k.schema
	}
	return config.Simple(syntax, k.secrets, k.ordered)
}

// described gathers what the flags say about files to compare.
func described(schema *config.Schema, syntax, secrets, ordered string) (told, error) {
	k := told{schema: schema, syntax: config.Syntax(syntax), secrets: separated(secrets), ordered: separated(ordered)}
	switch {
	case schema != nil && syntax != "" && schema.Syntax != k.syntax:
		return k, errUsage{fmt.Sprintf("-schema %s says that the files are written as %s; leave -syntax out", schema.ID, schema.Syntax)}
	case schema != nil:
		k.syntax = schema.Syntax
	case syntax != "" && !slices.Contains(config.Syntaxes, syntax):
		return k, errUsage{fmt.Sprintf("syntax %q is not known%s; there are %s", syntax, near.Hint(syntax, config.Syntaxes), strings.Join(config.Syntaxes, ", "))}
	}
	return k, nil
}

// separated reads words that are separated by commas; blanks around them do not count.
func separated(text string) (out []string) {
	for _, w := range strings.Split(text, ",") {
		if w = strings.TrimSpace(w); w != "" {
			out = append(out, w)
		}
	}
	return out
}

// schemaFor reads what is known about the files to compare; nil when nobody said what they are.
func schemaFor(schema, folder string) (*config.Schema, error) {
	if schema == "" {
		return nil, nil
	}
	if folder == "" {
		return nil, errUsage{"-schema needs -catalog"}
	}
	l, err := library(folder)
	if err != nil {
		return nil, err
	}
	s, err := l.SchemaOfFamily(schema)
	if err != nil {
		return nil, errUsage{err.Error()}
	}
	return s, nil
}

func (c *client) compare(old, new string, k told, out string) error {
	if dir(old) || dir(new) {
		return c.compareFolders(old, new, k, out)
	}
	var docs [2]*config.Document
	var errs [2]error
	var both sync.WaitGroup
	for i, name := range []string{old, new} {
		both.Go(func() {
			docs[i], errs[i] = readConfig(name, k.of(k.syntax))
		})
	}
	both.Wait()
	err := errors.Join(errs[:]...)
	if err != nil {
		return err
	}
	if docs[0].Syntax != docs[1].Syntax {
		return fmt.Errorf("%s is written as %s and %s as %s; they cannot be compared", old, docs[0].Syntax, new, docs[1].Syntax)
	}
	s := k.of(docs[1].Syntax)
	cmp := config.Compare(docs[0], docs[1], s)
	if out != "" {
		r := report.Comparison("Comparison of "+filepath.Base(old)+" with "+filepath.Base(new), old, new, s.MaskText(old, docs[0].Print()), s.MaskText(new, docs[1].Print()), cmp)
		if err := writeReport(out, r); err != nil {
			return err
		}
	}
	if c.json {
		err = c.printJSON(view.Differences(cmp))
	} else {
		c.differences(cmp)
	}
	if err == nil && !cmp.Same() {
		err = errNo
	}
	return err
}

func dir(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// fileResult is one file of a comparison of folders, for -json.
type fileResult struct {
	State       string `json:"state"`
	Old         string `json:"old,omitempty"`
	New         string `json:"new,omitempty"`
	Differences any    `json:"differences"`
}

func (c *client) compareFolders(old, new string, k told, out string) error {
	var sides [2][]*config.Document
	for i, folder := range []string{old, new} {
		names, err := os.ReadDir(folder)
		if err != nil {
			return err
		}
		for _, f := range names {
			if f.IsDir() {
				continue
			}
			d, err := readConfig(filepath.Join(folder, f.Name()), k.of(k.syntax))
			if err != nil {
				return err
			}
			d.Name = f.Name()
			sides[i] = append(sides[i], d)
		}
	}
	files := config.CompareBundles(sides[0], sides[1], func(d *config.Document) *config.Schema { return k.of(d.Syntax) })
	if out != "" {
		if err := writeReport(out, report.Bundle("Comparison of "+filepath.Base(old)+" with "+filepath.Base(new), old, new, files)); err != nil {
			return err
		}
	}
	differ := false
	results := []fileResult{}
	for _, f := range files {
		r := fileResult{State: f.State, Old: f.Old, New: f.New, Differences: []any{}}
		if f.Comparison != nil {
			r.Differences = view.Differences(f.Comparison)
		}
		differ = differ || !f.Same()
		results = append(results, r)
	}
	err := c.show(results, func() {
		for _, f := range files {
			name := f.New
			if f.State == config.FileRenamed {
				name = f.Old + " is now " + f.New
			} else if f.New == "" {
				name = f.Old
			}
			c.printf("%s  %s\n", c.paint(bold, f.State), name)
			if f.Comparison != nil && len(f.Comparison.Differences) > 0 {
				c.differences(f.Comparison)
			}
		}
	})
	if err == nil && differ {
		err = errNo
	}
	return err
}

// lineWidth is how many characters of a line are shown of one that differs.
const lineWidth = 160

// differences prints a comparison: guarded settings first, cosmetic differences counted. There may be a hundred thousand of them, so all
// processors take part.
func (c *client) differences(cmp *config.Comparison) {
	list := cmp.Differences
	const each = 1000
	parts := make([]bytes.Buffer, min(runtime.GOMAXPROCS(0), 1+len(list)/each))
	for from := 0; from < len(list); from += each * len(parts) {
		var running sync.WaitGroup
		for w := range parts {
			running.Go(func() {
				parts[w].Reset()
				for i := from + each*w; i < min(from+each*(w+1), len(list)); i++ {
					c.difference(&parts[w], list, i)
				}
			})
		}
		running.Wait()
		for w := range parts {
			_, _ = c.out.Write(parts[w].Bytes())
		}
	}
	cosmetic := 0
	for i := range list {
		if list[i].Kind == config.Cosmetic {
			cosmetic++
		}
	}
	switch {
	case len(list) == 0:
		c.printf("No difference.\n")
	case cosmetic == len(list):
		c.printf("Both mean the same; cosmetic differences: %d.\n", cosmetic)
	case cosmetic > 0:
		c.printf("Cosmetic differences besides: %d.\n", cosmetic)
	}
}

// difference prints one of a list of differences, where a group of them begins also its heading; of cosmetic ones only what cannot be seen.
func (c *client) difference(b *bytes.Buffer, list []config.Difference, i int) {
	hidden := func(d *config.Difference) bool { return d.Kind == config.Cosmetic && d.Note == "" }
	d := &list[i]
	if hidden(d) {
		return
	}
	before := i - 1
	for before >= 0 && hidden(&list[before]) {
		before--
	}
	put := func(parts ...string) {
		for _, s := range parts {
			_, _ = b.WriteString(s)
		}
	}
	switch {
	case d.Guarded != "" && before < 0:
		put(c.paint(bold, "Guarded settings differ:"), "\n\n")
	case d.Guarded == "" && before >= 0 && list[before].Guarded != "":
		put(c.paint(bold, "Also:"), "\n\n")
	}
	mark := report.Marks[d.Kind]
	put(mark.Sign, " ", c.paint(bold, mark.Words), "  ", d.Path)
	if d.OldPath != "" && d.OldPath != d.Path {
		put(" (it was ", d.OldPath, ")")
	}
	put("\n")
	if d.Guarded != "" {
		put("  guarded: ", d.Guarded, "\n")
	}
	if d.Note != "" {
		put("  mind: ", d.Note, "\n")
	}
	side := func(sign, colour string, line int, text string) {
		if text == "" {
			return
		}
		var digits [20]byte
		number := strconv.AppendInt(digits[:0], int64(line), 10)
		from, to := c.colours(colour)
		put("  ", from, sign, "     "[:max(0, 5-len(number))], " ")
		_, _ = b.Write(number)
		put("  ")
		for more := true; more; {
			var l string
			if l, text, more = strings.Cut(text, "\n"); more {
				put(l, "\n           ")
			} else {
				put(l)
			}
		}
		put(to, "\n")
	}
	old, new := config.Excerpts(d.Old, d.New, lineWidth)
	side("-", red, d.OldLine, old)
	side("+", green, d.NewLine, new)
}
