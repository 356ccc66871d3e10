// Package report renders comparisons and conversions for people: HTML in one file without outside resources, and PDF. Every colour comes with a mark, so
// that nothing depends on seeing colours.
package report

import (
	"cmp"
	"fmt"
	"strings"

	"verimorph/core/config"
	"verimorph/core/convert"
)

// A Report is what is shown.
type Report struct {
	Title     string
	Facts     [][2]string // name, value
	Counts    []Count
	Attention []Entry // what needs a person, or is guarded
	Sections  []Section
	Left      Side
	Right     Side

	links [][2]int // lines of left and right that belong together, from 1
}

// A Count is how many statements there are of a kind.
type Count struct {
	Kind string
	N    int
}

// A Section is a part of a configuration.
type Section struct {
	Title   string
	Entries []Entry
}

// An Entry is one statement.
type Entry struct {
	Kind             string
	Path             string
	Old, New         string
	OldLine, NewLine int // 0 where it is absent
	Note             string
	Guarded          bool
}

// A Side is a text with a mark for each line.
type Side struct {
	Title string
	Lines []Line
}

// A Line is one line of a text.
type Line struct {
	Text string
	Kind string // "" for a line of which nothing is said
}

// A Mark is how a kind is shown: a sign and words.
type Mark struct{ Sign, Words string }

// Counted says how many there are of a kind.
func Counted(kind string, n int) string {
	words := Marks[kind].Words
	if kind == convert.NeedsPerson && n != 1 {
		words = "need a person"
	}
	return fmt.Sprintf("%d %s", n, words)
}

// Marks are our signs. They stand beside every colour, on screens and on paper.
var Marks = map[string]Mark{
	convert.NeedsPerson:    {"?", "needs a person"},
	convert.Dropped:        {"×", "dropped"},
	convert.Changed:        {"~", "changed"},
	convert.Merged:         {"&", "merged"},
	convert.Moved:          {">", "moved"},
	convert.Kept:           {"=", "kept"},
	convert.Unsaid:         {"_", "assumed alike"},
	config.Added:           {"+", "added"},
	config.Removed:         {"-", "removed"},
	config.Renamed:         {"@", "renamed"},
	config.Reordered:       {"#", "reordered"},
	config.DefaultExplicit: {"*", "default written out"},
	config.DefaultDropped:  {"*", "default left out"},
	config.Cosmetic:        {".", "cosmetic"},
	convert.FromDefault:    {"*", "from a default"},
	convert.FromRule:       {"+", "from a rule"},
	convert.FromHand:       {"!", "by hand"},
}

// DifferenceKinds are the kinds of difference in the order they are counted.
var DifferenceKinds = []string{config.Removed, config.Added, config.Changed, config.Renamed, config.Moved, config.Reordered, config.DefaultDropped, config.DefaultExplicit, config.Cosmetic}

// Comparison makes a report of what differs between two texts, both masked.
func Comparison(title, oldName, newName, oldText, newText string, c *config.Comparison) *Report {
	r := &Report{Title: title, Facts: [][2]string{{"Old", oldName}, {"New", newName}}, Left: side(oldName, oldText), Right: side(newName, newText)}
	count := map[string]int{}
	for _, d := range c.Differences {
		count[d.Kind]++
		e := differing(d)
		if d.OldLine > 0 && d.NewLine > 0 {
			r.links = append(r.links, [2]int{d.OldLine, d.NewLine})
		}
		mark(r.Left.Lines, d.OldLine, d.Kind)
		mark(r.Right.Lines, d.NewLine, d.Kind)
		if e.Guarded {
			r.Attention = append(r.Attention, e)
		}
		r.add(d.Section, e)
	}
	r.count(count)
	return r
}

// Bundle makes a report of what differs between two sets of files.
func Bundle(title, old, new string, files []config.FileComparison) *Report {
	r := &Report{Title: title, Facts: [][2]string{{"Old", old}, {"New", new}}}
	count := map[string]int{}
	for _, f := range files {
		name := f.New
		switch f.State {
		case config.FileRenamed:
			name = f.Old + ", now " + f.New
		case config.FileMissing:
			name = f.Old
			e := Entry{Kind: config.Removed, Path: f.Old, Note: "the file is missing"}
			r.Attention = append(r.Attention, e)
			r.add(name, e)
			count[config.Removed]++
		case config.FileNew:
			r.add(name, Entry{Kind: config.Added, Path: f.New, Note: "the file is new"})
			count[config.Added]++
		}
		r.Facts = append(r.Facts, [2]string{"File", name + ": " + f.State})
		if f.Comparison == nil {
			continue
		}
		for _, d := range f.Comparison.Differences {
			count[d.Kind]++
			e := differing(d)
			e.Path = name + ": " + e.Path
			if e.Guarded {
				r.Attention = append(r.Attention, e)
			}
			r.add(name, e)
		}
	}
	r.count(count)
	return r
}

// differing is the entry of a difference.
func differing(d config.Difference) Entry {
	old, new := config.Excerpts(d.Old, d.New, 400)
	e := Entry{Kind: d.Kind, Path: d.Path, Old: old, New: new, OldLine: d.OldLine, NewLine: d.NewLine, Guarded: d.Guarded != "", Note: d.Guarded}
	if d.Note != "" {
		e.Note = strings.TrimPrefix(e.Note+"; "+d.Note, "; ")
	}
	if d.OldPath != "" && d.OldPath != d.Path {
		e.Note = strings.TrimPrefix(e.Note+"; it was "+d.OldPath, "; ")
	}
	return e
}

func (r *Report) count(of map[string]int) {
	for _, kind := range DifferenceKinds {
		r.Counts = append(r.Counts, Count{kind, of[kind]})
	}
}

// Conversion makes a report of a conversion from its ledger and the two texts, both masked.
func Conversion(l *convert.Ledger, source, target string) *Report {
	r := &Report{Title: fmt.Sprintf("Conversion from %s to %s", stop(l.From), stop(l.To)), Left: side("Source: "+stop(l.From), source), Right: side("Result: "+stop(l.To), target)}
	r.Facts = append(r.Facts, [2]string{"File", l.From.File}, [2]string{"Source, SHA-256", l.From.SHA256}, [2]string{"Result, SHA-256", l.To.SHA256})
	for _, s := range l.Stages {
		r.Facts = append(r.Facts, [2]string{"Stage", fmt.Sprintf("%s: %s to %s", s.Conversion, s.From, s.To)})
	}
	if l.Guessed {
		r.Facts = append(r.Facts, [2]string{"Mind", "no conversion is known between these two; only what both describe alike was carried over"})
	}
	for _, state := range convert.States {
		r.Counts = append(r.Counts, Count{state, l.Counts[state]})
	}
	for _, row := range l.Source {
		e := Entry{Kind: row.State, Path: row.Path, Old: row.Text, OldLine: row.Line, Note: row.Reason, Guarded: row.Guarded != ""}
		if row.Reason == "" && row.State != convert.Kept {
			e.Note = ruleText(l, row.Rule)
		}
		for _, k := range row.Targets {
			t := l.Target[k]
			if e.NewLine == 0 {
				e.NewLine = t.Line
			} else {
				e.New += "\n"
			}
			e.New += t.Text
			mark(r.Right.Lines, t.Line, row.State)
			r.links = append(r.links, [2]int{row.Line, t.Line})
		}
		mark(r.Left.Lines, row.Line, row.State)
		if row.State == convert.NeedsPerson {
			r.Attention = append(r.Attention, e)
		}
		r.add(row.Section, e)
	}
	for _, row := range l.Assumed {
		e := Entry{Kind: row.State, Path: row.Path, Old: row.Text, Note: cmp.Or(row.Reason, ruleText(l, row.Rule)), Guarded: row.Guarded != ""}
		if row.Same != nil {
			e.New = row.Same.Text
		}
		for i, k := range row.Targets {
			e.New += strings.Repeat("\n", min(i, 1)) + l.Target[k].Text
			e.NewLine = cmp.Or(e.NewLine, l.Target[k].Line)
		}
		e.Note = strings.TrimSuffix("left out, so the source assumes it; "+e.Note, "; ")
		if row.State == convert.NeedsPerson {
			r.Attention = append(r.Attention, e)
		}
		r.add(row.Section, e)
	}
	for _, f := range l.Findings {
		r.Attention = append(r.Attention, Entry{Kind: convert.NeedsPerson, Path: f.Path, NewLine: f.Line, Note: f.Message})
	}
	for _, row := range l.Comments {
		if row.State == convert.Kept && !row.Doubt {
			continue
		}
		e := Entry{Kind: row.State, Path: row.Path, Old: "# " + row.Text, OldLine: row.Line, NewLine: row.Target, Note: row.Reason}
		if row.Doubt {
			e.Kind = convert.Changed
		}
		r.add("Comments", e)
	}
	for _, row := range l.Target {
		if row.Origin == convert.FromSource || len(row.Assumed) > 0 {
			mark(r.Right.Lines, row.Line, row.Origin)
			continue
		}
		e := Entry{Kind: row.Origin, Path: row.Path, New: row.Text, NewLine: row.Line, Note: row.Reason}
		if e.Note == "" {
			e.Note = ruleText(l, row.Rule)
		}
		mark(r.Right.Lines, row.Line, row.Origin)
		r.add(row.Section, e)
	}
	return r
}

func stop(p convert.Party) string { return p.Model + " " + p.Version }

// ruleText is what the last of the rules named says.
func ruleText(l *convert.Ledger, rules string) string {
	list := strings.Split(rules, ", ")
	return l.Rules[list[len(list)-1]]
}

func (r *Report) add(section string, e Entry) {
	for i := range r.Sections {
		if r.Sections[i].Title == section {
			r.Sections[i].Entries = append(r.Sections[i].Entries, e)
			return
		}
	}
	r.Sections = append(r.Sections, Section{section, []Entry{e}})
}

func side(title, text string) Side {
	s := Side{Title: title}
	for _, l := range config.Lines(text) {
		s.Lines = append(s.Lines, Line{Text: l})
	}
	return s
}

// weight orders kinds by how much they matter on a line of which several are said.
var weight = map[string]int{convert.NeedsPerson: 9, config.Removed: 8, config.Added: 8, convert.Dropped: 8, convert.FromHand: 7, convert.Changed: 6, config.Renamed: 5, convert.Merged: 5, config.Reordered: 5,
	convert.FromRule: 4, convert.FromDefault: 4, config.DefaultExplicit: 4, config.DefaultDropped: 4, convert.Moved: 3, config.Cosmetic: 1}

func mark(lines []Line, n int, kind string) {
	if n > 0 && n <= len(lines) && (lines[n-1].Kind == "" || weight[kind] > weight[lines[n-1].Kind]) {
		lines[n-1].Kind = kind
	}
}
