package convert

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"

	"verimorph/core/config"
)

// Check recomputes a ledger from the text of the source, the text of the target and the ledger's own account of which
// statement went where. It shares nothing with the carrying out of a conversion but the trees, and returns every place
// where the account does not add up: a statement that is missing or claimed twice, a state that is not true, a link that
// goes one way only. An empty answer means that every line is accounted for.
func Check(source, target string, s, t *config.Schema, l *Ledger) []string {
	k, other := &audit{}, &audit{}
	if l.Format != LedgerFormat && l.Format != ledgerFormat1 {
		k.say("the ledger has format %q; expected %q", l.Format, LedgerFormat)
		return k.wrong
	}
	var from, to *leaves
	var left, right *config.Document
	var both sync.WaitGroup
	both.Go(func() { left, from = k.read("source", source, s, l.From, len(l.Source)) })
	both.Go(func() { right, to = other.read("target", target, t, l.To, len(l.Target)) })
	both.Wait()
	if k.wrong = append(k.wrong, other.wrong...); len(k.wrong) > 0 {
		return k.wrong
	}
	both.Go(func() {
		k.once("source", from, len(l.Source), func(i int) place { return place{l.Source[i].Line, l.Source[i].Column} })
	})
	both.Go(func() {
		other.once("target", to, len(l.Target), func(i int) place { return place{l.Target[i].Line, l.Target[i].Column} })
	})
	both.Wait()
	if k.wrong = append(k.wrong, other.wrong...); len(k.wrong) > 0 {
		return k.wrong
	}
	if k.inRange(l); len(k.wrong) > 0 {
		return k.wrong
	}
	if other.wrong = nil; l.Format != ledgerFormat1 {
		both.Go(func() {
			other.assumed(left, right, s, t, l, from, to)
			other.comments(left, right, s, l)
		})
	}
	k.links(l, from, to)
	both.Wait()
	return append(k.wrong, other.wrong...)
}

// inRange checks that what the rows of a ledger name is there.
func (k *audit) inRange(l *Ledger) {
	for i := range l.Target {
		for _, x := range l.Target[i].Sources {
			if x < 0 || x >= len(l.Source) {
				k.say("target line %d: source %d does not exist", l.Target[i].Line, x)
			}
		}
	}
	for i := range l.Source {
		for _, x := range l.Source[i].Targets {
			if x < 0 || x >= len(l.Target) {
				k.say("source line %d: target %d does not exist", l.Source[i].Line, x)
			}
		}
	}
}

// links checks which statement went where, and what that makes of it.
func (k *audit) links(l *Ledger, from, to *leaves) {
	links := 0
	for i := range l.Target {
		row := &l.Target[i]
		links += len(row.Sources)
		for n, x := range row.Sources {
			if slices.Contains(row.Sources[:n], x) {
				k.say("target line %d: source %d is named twice", row.Line, x)
				return
			}
		}
		k.target(row)
	}
	count := map[string]int{}
	for i := range l.Source {
		row := &l.Source[i]
		count[row.State]++
		links -= len(row.Targets)
		for n, x := range row.Targets {
			if slices.Contains(row.Targets[:n], x) || !slices.Contains(l.Target[x].Sources, i) {
				k.say("source line %d: its target %d is named twice, or does not say that it comes from here", row.Line, x)
				return
			}
		}
		k.source(row, from.at(row.Line, row.Column), l, to)
	}
	if links != 0 { // every link of the source was found in the target, so the target has some that the source does not
		k.say("%d statements of the target name a source that does not say that it goes there", links)
	}
	for state, n := range l.Counts {
		if n != count[state] {
			k.say("%d statements are counted as %s, but there are %d", n, state, count[state])
		}
	}
}

type place struct{ line, column int }

// A leaf is a statement as the audit sees it.
type leaf struct {
	around  string
	n       *config.Node
	byName  bool // its name is what it says
	guarded bool
}

func (x leaf) says(i int) string {
	if x.byName {
		return x.n.Name
	}
	return x.n.Words[i].Text
}

func (x leaf) words() int {
	if x.byName {
		return 1
	}
	return len(x.n.Words)
}

func (x leaf) name() string {
	if x.byName {
		return ""
	}
	return x.n.Name
}

// agrees reports whether two leaves say the same words.
func (x leaf) agrees(y leaf) bool {
	if x.words() != y.words() {
		return false
	}
	for i := range x.words() {
		if x.says(i) != y.says(i) {
			return false
		}
	}
	return true
}

// leaves are the statements of a text in the order of their places.
type leaves struct {
	list  []leaf
	lines []int32 // from which leaf on they stand on that line or behind it
	rows  []int32 // which row of the ledger speaks of each, from 1; 0: none
}

// find is which leaf begins at a place; -1 when none does.
func (l *leaves) find(line, column int) int {
	if line < 0 || line >= len(l.lines) {
		return -1
	}
	for i := int(l.lines[line]); i < len(l.list) && l.list[i].n.Line == line; i++ {
		if l.list[i].n.Column == column {
			return i
		}
	}
	return -1
}

// at is the leaf that begins at a place where one does.
func (l *leaves) at(line, column int) leaf { return l.list[l.find(line, column)] }

// order puts the leaves in their order, and reports two that begin at one place.
func (l *leaves) order() (twice []leaf) {
	before := func(a, b leaf) int {
		return cmp.Or(cmp.Compare(a.n.Line, b.n.Line), cmp.Compare(a.n.Column, b.n.Column))
	}
	if !slices.IsSortedFunc(l.list, before) {
		slices.SortStableFunc(l.list, before)
	}
	for i, x := range l.list {
		for len(l.lines) <= x.n.Line {
			l.lines = append(l.lines, int32(i))
		}
		if i > 0 && before(l.list[i-1], x) == 0 {
			twice = append(twice, x)
		}
	}
	l.rows = make([]int32, len(l.list))
	return twice
}

type audit struct{ wrong []string }

func (k *audit) say(format string, args ...any) {
	if len(k.wrong) < 50 {
		k.wrong = append(k.wrong, fmt.Sprintf(format, args...))
	}
}

// read parses one of the two texts and lists its statements by place.
func (k *audit) read(which, text string, s *config.Schema, p Party, rows int) (*config.Document, *leaves) {
	sum := sha256.Sum256([]byte(text))
	if got := hex.EncodeToString(sum[:]); got != p.SHA256 {
		k.say("the %s is not the one the ledger is about: SHA-256 %s, expected %s", which, got, p.SHA256)
		return nil, nil
	}
	d, broken := s.Parse(p.File, text)
	if len(broken) > 0 {
		k.say("the %s cannot be read: %s", which, broken[0])
		return nil, nil
	}
	out := &leaves{list: make([]leaf, 0, rows)}
	var walk func(n *config.Node, st *config.Statement, path string, guarded bool)
	walk = func(n *config.Node, st *config.Statement, path string, guarded bool) {
		for i, c := range n.Children {
			cs := st.Inside(c.Name)
			held := guarded || cs != nil && cs.Guarded != ""
			byName := cs != nil && cs.ByName && c.Form != config.Group
			if len(c.Words) > 0 || len(c.Children) == 0 && c.Form != config.Group || byName {
				out.list = append(out.list, leaf{around: path, n: c, byName: len(c.Words) == 0 && cs != nil && cs.ByName, guarded: held})
			}
			if len(c.Children) > 0 {
				walk(c, cs, path+"\x00"+step(c, cs, i), held)
			}
		}
	}
	walk(d.Root, s.Top, "", false)
	for _, x := range out.order() {
		k.say("two statements of the %s begin at %d:%d", which, x.n.Line, x.n.Column)
	}
	return d, out
}

// step tells a block apart from those beside it: by its name and key, by its place where it has neither.
func step(n *config.Node, st *config.Statement, i int) string {
	id := n.Name
	switch {
	case st != nil && st.KeyInside():
		if key := n.Child(string(st.Key)); key != nil {
			return id + " " + key.Value()
		}
	case st != nil && st.Key == config.KeyWord && len(n.Words) > 0:
		return id + " " + n.Words[0].Text
	case st != nil && st.Key == config.KeyOnce && id != "":
		return id
	}
	for _, w := range n.Words {
		id += " " + w.Text
	}
	if id == "" {
		return fmt.Sprint("#", i)
	}
	return id
}

// once checks that the rows of a ledger and the statements of a text are the same, each once.
func (k *audit) once(which string, of *leaves, rows int, at func(i int) place) {
	for i := range rows {
		p := at(i)
		x := of.find(p.line, p.column)
		switch {
		case x < 0:
			k.say("the ledger speaks of a statement at %d:%d of the %s, where none begins", p.line, p.column, which)
			continue
		case of.rows[x] > 0:
			k.say("the statement at %d:%d of the %s is claimed twice", p.line, p.column, which)
		}
		of.rows[x] = int32(i) + 1
	}
	for i, x := range of.list {
		if of.rows[i] == 0 {
			k.say("the statement at %d:%d of the %s (%s) is missing", x.n.Line, x.n.Column, which, x.n.Name)
		}
	}
}

func (k *audit) target(row *TargetItem) {
	switch row.Origin {
	case FromSource:
		if len(row.Sources) == 0 {
			k.say("target line %d is said to come from the source, but not from where", row.Line)
		}
	case FromDefault, FromRule:
		if row.Origin == FromRule && len(row.Assumed) > 0 {
			k.say("target line %d is said to come from a rule, but stands for something left out", row.Line)
		}
		if len(row.Sources) > 0 {
			k.say("target line %d is said to come from a %s, but has a source", row.Line, row.Origin)
		}
		if row.Rule+row.Reason == "" {
			k.say("target line %d is said to come from a %s, but not from which", row.Line, row.Origin)
		}
	case FromHand:
		if row.Rule == "" {
			k.say("target line %d is said to come from a person, but not by which edit", row.Line)
		}
	default:
		k.say("target line %d has origin %q", row.Line, row.Origin)
	}
}

func (k *audit) source(row *SourceItem, x leaf, l *Ledger, to *leaves) {
	words, where, merged := true, true, false
	for _, i := range row.Targets {
		t := &l.Target[i]
		y := to.at(t.Line, t.Column)
		words = words && x.agrees(y)
		where = where && x.name() == y.name() && x.around == y.around
		merged = merged || len(t.Sources)+len(t.Assumed) > 1
	}
	here := len(row.Targets) > 0
	fit := [...]struct {
		state string
		true  bool
	}{
		{Kept, here && words && where && !merged && len(row.Targets) == 1},
		{Moved, here && words && !where && !merged && len(row.Targets) == 1},
		{Changed, here && (!words || len(row.Targets) > 1) && !merged},
		{Merged, here && merged},
		{Dropped, !here && row.Reason != ""},
		{NeedsPerson, row.Reason != ""},
	}
	fits, known := false, false
	var truths []string
	for _, f := range fit {
		if f.true {
			truths = append(truths, f.state)
		}
		if f.state == row.State {
			fits, known = f.true, true
		}
	}
	switch {
	case !known:
		k.say("source line %d has state %q", row.Line, row.State)
	case !fits && (row.State == Dropped || row.State == NeedsPerson) && row.Reason == "":
		k.say("source line %d is %s without a reason", row.Line, row.State)
	case !fits:
		k.say("source line %d is said to be %s, which is not true (%s)", row.Line, row.State, strings.Join(truths, ", "))
	}
	if x.guarded && row.State != Kept && row.State != Moved && row.State != NeedsPerson && row.Reason != accepted {
		k.say("source line %d is guarded and %s, but nobody accepted it", row.Line, row.State)
	}
}
