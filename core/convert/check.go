package convert

import (
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
	var from, to map[place]leaf
	var left, right *config.Document
	var both sync.WaitGroup
	both.Go(func() { left, from = k.read("source", source, s, l.From, len(l.Source)) })
	both.Go(func() { right, to = other.read("target", target, t, l.To, len(l.Target)) })
	both.Wait()
	if k.wrong = append(k.wrong, other.wrong...); len(k.wrong) > 0 {
		return k.wrong
	}
	var sources, targets []place
	for _, row := range l.Source {
		sources = append(sources, place{row.Line, row.Column})
	}
	for _, row := range l.Target {
		targets = append(targets, place{row.Line, row.Column})
	}
	k.once("source", from, sources)
	k.once("target", to, targets)
	if len(k.wrong) > 0 {
		return k.wrong
	}
	links := 0
	for _, row := range l.Target {
		links += len(row.Sources)
		for n, x := range row.Sources {
			if x < 0 || x >= len(l.Source) || slices.Contains(row.Sources[:n], x) {
				k.say("target line %d: source %d does not exist or is named twice", row.Line, x)
				return k.wrong
			}
		}
		k.target(row)
	}
	count := map[string]int{}
	for i, row := range l.Source {
		count[row.State]++
		links -= len(row.Targets)
		for n, x := range row.Targets {
			if x < 0 || x >= len(l.Target) || slices.Contains(row.Targets[:n], x) || !slices.Contains(l.Target[x].Sources, i) {
				k.say("source line %d: its target %d does not exist, is named twice, or does not say that it comes from here", row.Line, x)
				return k.wrong
			}
		}
		k.source(row, from[place{row.Line, row.Column}], l, to)
	}
	if links != 0 { // every link of the source was found in the target, so the target has some that the source does not
		k.say("%d statements of the target name a source that does not say that it goes there", links)
	}
	if l.Format != ledgerFormat1 {
		k.assumed(left, right, s, t, l, to)
		k.comments(left, right, s, l)
	}
	for state, n := range l.Counts {
		if n != count[state] {
			k.say("%d statements are counted as %s, but there are %d", n, state, count[state])
		}
	}
	return k.wrong
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

type audit struct{ wrong []string }

func (k *audit) say(format string, args ...any) {
	if len(k.wrong) < 50 {
		k.wrong = append(k.wrong, fmt.Sprintf(format, args...))
	}
}

// read parses one of the two texts and lists its statements by place.
func (k *audit) read(which, text string, s *config.Schema, p Party, rows int) (*config.Document, map[place]leaf) {
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
	out := make(map[place]leaf, rows)
	var walk func(n *config.Node, st *config.Statement, path string, guarded bool)
	walk = func(n *config.Node, st *config.Statement, path string, guarded bool) {
		for i, c := range n.Children {
			cs := st.Inside(c.Name)
			held := guarded || cs != nil && cs.Guarded != ""
			byName := cs != nil && cs.ByName && c.Form != config.Group
			if len(c.Words) > 0 || len(c.Children) == 0 && c.Form != config.Group || byName {
				at := place{c.Line, c.Column}
				if _, two := out[at]; two {
					k.say("two statements of the %s begin at %d:%d", which, c.Line, c.Column)
				}
				out[at] = leaf{around: path, n: c, byName: len(c.Words) == 0 && cs != nil && cs.ByName, guarded: held}
			}
			if len(c.Children) > 0 {
				walk(c, cs, path+"\x00"+step(c, cs, i), held)
			}
		}
	}
	walk(d.Root, s.Top, "", false)
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
func (k *audit) once(which string, leaves map[place]leaf, rows []place) {
	seen := make(map[place]bool, len(rows))
	for _, p := range rows {
		if _, there := leaves[p]; !there {
			k.say("the ledger speaks of a statement at %d:%d of the %s, where none begins", p.line, p.column, which)
		}
		if seen[p] {
			k.say("the statement at %d:%d of the %s is claimed twice", p.line, p.column, which)
		}
		seen[p] = true
	}
	for p, x := range leaves {
		if !seen[p] {
			k.say("the statement at %d:%d of the %s (%s) is missing", p.line, p.column, which, x.n.Name)
		}
	}
}

func (k *audit) target(row TargetItem) {
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

func (k *audit) source(row SourceItem, x leaf, l *Ledger, to map[place]leaf) {
	words, where, merged := true, true, false
	for _, i := range row.Targets {
		t := l.Target[i]
		y := to[place{t.Line, t.Column}]
		words = words && x.agrees(y)
		where = where && x.name() == y.name() && x.around == y.around
		merged = merged || len(t.Sources)+len(t.Assumed) > 1
	}
	here := len(row.Targets) > 0
	fit := map[string]bool{
		Kept:        here && words && where && !merged && len(row.Targets) == 1,
		Moved:       here && words && !where && !merged && len(row.Targets) == 1,
		Changed:     here && (!words || len(row.Targets) > 1) && !merged,
		Merged:      here && merged,
		Dropped:     !here && row.Reason != "",
		NeedsPerson: row.Reason != "",
	}
	fits, known := fit[row.State]
	switch {
	case !known:
		k.say("source line %d has state %q", row.Line, row.State)
	case !fits && (row.State == Dropped || row.State == NeedsPerson) && row.Reason == "":
		k.say("source line %d is %s without a reason", row.Line, row.State)
	case !fits:
		k.say("source line %d is said to be %s, which is not true (%s)", row.Line, row.State, strings.Join(truths(fit), ", "))
	}
	if x.guarded && row.State != Kept && row.State != Moved && row.State != NeedsPerson && row.Reason != accepted {
		k.say("source line %d is guarded and %s, but nobody accepted it", row.Line, row.State)
	}
}

// truths lists the states that would be true.
func truths(m map[string]bool) (out []string) {
	for state, yes := range m {
		if yes {
			out = append(out, state)
		}
	}
	slices.Sort(out)
	return out
}
