package convert

import (
	"cmp"
	"fmt"
	"strings"

	"verimorph/core/config"
)

// Comments go with the statements beside which they stand, to the first counterpart that is made of each.

// annotate takes the comments of a statement to a counterpart that stands in no file.
func (r *stageRun) annotate(to, n *config.Node) {
	if r.quiet || r.assumed[n] || r.annotated[n] {
		return
	}
	if list := r.in.Comments(n); len(list) > 0 {
		r.annotated[n] = true
		r.out.Annotate(to, list)
	}
}

// comments accounts for the comments of the source.
func (c *conversion) comments(doc *config.Document, places []config.Place, l *Ledger) {
	l.Comments = []CommentItem{}
	all, beside := c.source.AllComments()
	if len(all) == 0 {
		return
	}
	type at struct {
		line int
		text string
	}
	now := map[at][]int{} // where each comment stands in the result
	seq := 0
	doc.Root.Walk(func(n *config.Node) {
		line := 0
		if seq < len(places) {
			line = places[seq].Line
		}
		if n.Parent == nil {
			line = 0
		}
		for _, x := range doc.Comments(n) {
			now[at{x.Line, x.Text}] = append(now[at{x.Line, x.Text}], line)
		}
		seq++
	})
	rows := make(map[*config.Node]*SourceItem, len(l.Source))
	for i := range l.Source {
		rows[c.items[i].Node] = &l.Source[i]
	}
	mask := c.s.CommentMask()
	for i, x := range all {
		n := beside[i]
		row := CommentItem{Line: x.Line, Text: mask(x.Text), Path: c.s.Path(n), State: Kept}
		item := rows[bearer(n, c.s.Describe(n))]
		if key := (at{x.Line, x.Text}); len(now[key]) > 0 {
			row.Target, now[key] = now[key][0], now[key][1:]
			if item != nil && (item.State == Changed || item.State == Merged) {
				row.Doubt, row.Reason = true, "it may be untrue now: "+became(item, l)
			}
		} else {
			row.State, row.Reason = Dropped, c.uncommented(item)
		}
		l.Comments = append(l.Comments, row)
	}
}

// became tells what a statement became.
func became(item *SourceItem, l *Ledger) string {
	var texts []string
	for _, k := range item.Targets {
		texts = append(texts, l.Target[k].Text)
	}
	return fmt.Sprintf("%s became %s", item.Text, strings.Join(texts, " and "))
}

// uncommented is why a comment is not in the result.
func (c *conversion) uncommented(item *SourceItem) string {
	switch {
	case !c.t.Syntax.HasComments():
		return fmt.Sprintf("%s has no comments", c.t.Syntax)
	case item != nil && item.State == Dropped:
		return "its statement is left out: " + cmp.Or(item.Reason, item.Rule)
	case item != nil && item.State == NeedsPerson:
		return "its statement needs a person: " + cmp.Or(item.Reason, item.Rule)
	}
	return "what it stands beside is not in the result"
}

// comments checks the account of comments: each of the source is there once, and what is said to be kept stands in the target.
func (k *audit) comments(source, target *config.Document, s *config.Schema, l *Ledger) {
	mask := s.CommentMask()
	all, _ := source.AllComments()
	if len(all) != len(l.Comments) {
		k.say("the source has %d lines of comments, but the ledger speaks of %d", len(all), len(l.Comments))
		return
	}
	there, _ := target.AllComments()
	stands := map[string]int{}
	for _, c := range there {
		stands[config.PlainComment(c.Text)]++
	}
	for i, row := range l.Comments {
		switch c := all[i]; {
		case row.Line != c.Line || row.Text != mask(c.Text):
			k.say("the comment on line %d of the source is missing", c.Line)
		case row.State == Dropped && row.Reason == "":
			k.say("the comment on line %d of the source is dropped without a reason", c.Line)
		case row.State == Kept:
			if stands[config.PlainComment(c.Text)]--; stands[config.PlainComment(c.Text)] < 0 {
				k.say("the comment on line %d of the source is not in the target", c.Line)
			}
		case row.State != Dropped:
			k.say("the comment on line %d of the source has state %q", c.Line, row.State)
		}
	}
}
