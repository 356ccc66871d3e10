package main

import (
	"cmp"
	"fmt"
	"strings"

	"verimorph/api/gen"
)

// How a change is shown: its checks, its steps, its verdict.

func (c *client) printDrafted(ch gen.Change) {
	switch {
	case isJoin(ch):
		c.printf("Drafted change %d: %s, in %d steps, %s expected.\n", ch.Id, joining(ch), len(ch.Steps), span(ch.RemainingLow, ch.RemainingHigh))
	case ch.Kind == gen.ChangeKindOperations:
		c.printf("Drafted change %d: %d steps on %s, which runs %s, %s expected.\n", ch.Id, len(ch.Steps), ch.Device, ch.From, span(ch.RemainingLow, ch.RemainingHigh))
	default:
		c.printf("Drafted change %d: %s from %s to %s in %s and %d steps, %s expected.\n",
			ch.Id, whose(ch), ch.From, ch.To, count(len(ch.Path.Hops), "hop"), len(ch.Steps), span(ch.RemainingLow, ch.RemainingHigh))
	}
	c.printDoubts(*ch.Path)
	if open(ch) > 0 {
		c.printf("It is not ready yet:\n")
		c.printChecks(ch)
	}
	c.printf("Read it with: verimorph change show %d\n", ch.Id)
}

// open is how many checks stand in the way of a start.
func open(ch gen.Change) (n int) {
	if ch.Checks == nil {
		return 0
	}
	for _, k := range *ch.Checks {
		if k.State == gen.CheckStateStop || k.State == gen.CheckStateWarn && k.AcceptedBy == nil {
			n++
		}
	}
	return n
}

func (c *client) printChecks(ch gen.Change) {
	if ch.Checks == nil {
		return
	}
	for _, k := range *ch.Checks {
		mark := map[gen.CheckState]string{gen.CheckStatePass: c.paint(green, "+"), gen.CheckStateWarn: c.paint(yellow, "!"), gen.CheckStateStop: c.paint(red, "x")}[k.State]
		indent := strings.Repeat(" ", 34)
		c.printf("  %s %-4s %-24s %s\n", mark, k.State, k.Name, wrap(k.Title+": "+k.Evidence, 110, indent))
		if k.Remedy != nil && k.AcceptedBy == nil {
			c.printf("%s%s\n", indent, wrap("to do: "+*k.Remedy, 100, indent))
		}
		if k.AcceptedBy != nil {
			c.printf("%s%s\n", indent, wrap(fmt.Sprintf("accepted by %s: %s", *k.AcceptedBy, *k.Reason), 100, indent))
		}
	}
}

func (c *client) printLosses(l gen.Losses) {
	c.printf("Going back from %s to %s: %s.\n", l.From, l.To, l.Way)
	c.printf("%s\n", c.paint(bold, "Changed since; going back undoes it"))
	switch {
	case l.Backup == nil:
	case len(l.Configuration) == 0:
		c.printf("  nothing, compared with backup %d\n", *l.Backup)
	default:
		c.printDifferences(l.Configuration)
	}
	section := func(title, none string, list []string) {
		c.printf("%s\n", c.paint(bold, title))
		if len(list) == 0 {
			c.printf("  %s\n", none)
		}
		for _, x := range list {
			c.printf("  %s\n", wrap(x, 110, "  "))
		}
	}
	if x := l.Carried; x != nil {
		c.printf("%s\n", c.paint(bold, "Carried across"))
		var counts []string
		for _, state := range []string{"kept", "moved", "changed", "merged", "dropped", "needs-person"} {
			if n := x.Counts[state]; n > 0 {
				counts = append(counts, fmt.Sprintf("%d %s", n, strings.ReplaceAll(state, "-", " ")))
			}
		}
		c.printf("  %s\n", strings.Join(counts, ", "))
		for _, line := range x.Lines {
			c.printf("  %s\n", wrap(line, 110, "    "))
		}
		if !x.Complete {
			c.printf("  %s\n", c.paint(yellow, "something is left to a person; the change asks before anything is done"))
		}
	}
	section("Services that need the newer version", "none that is in use", l.Services)
	section("Credentials that apply then, in this order", "none", l.Credentials)
	if len(l.Notes) > 0 {
		section("Notes", "", l.Notes)
	}
}

func (c *client) printChange(ch gen.Change) {
	if r := ch.Restore; r != nil {
		c.printf("Change %d  backup %d goes back on %s, which runs %s  %s\n", ch.Id, r.Backup, c.paint(bold, ch.Device), ch.From, c.state(string(ch.State)))
	} else {
		c.printf("Change %d  %s %s  %s\n", ch.Id, c.paint(bold, whose(ch)), way(ch), c.state(string(ch.State)))
	}
	c.printf("  drafted by %s, %s\n", ch.CreatedBy, c.when(ch.CreatedAt))
	if ch.ApprovedBy != nil {
		c.printf("  approved by %s, %s\n", *ch.ApprovedBy, c.when(*ch.ApprovedAt))
	}
	if ch.StartedAt != nil && ch.EndedAt != nil {
		c.printf("  took %s\n", duration(ch.EndedAt.Sub(*ch.StartedAt).Seconds()))
	} else {
		c.printf("  %s expected\n", span(ch.RemainingLow, ch.RemainingHigh))
	}
	if t := ch.Terms; t != nil && t.RestartFrom != nil && ch.EndedAt == nil {
		c.printf("  passes its point of no return at %s or later\n", c.when(*t.RestartFrom))
	}
	switch ch.State {
	case gen.ChangeStateScheduled, gen.ChangeStatePaused, gen.ChangeStateAsking:
		keeps := map[bool]string{true: "; pause keeps it from that"}[ch.State == gen.ChangeStateScheduled]
		c.printf("  %s\n", c.paint(yellow, c.standing(ch)+keeps))
	}
	if ch.PausesAt != nil {
		c.printf("  %s\n", resting(ch))
	}
	if ch.ComesBackAt != nil {
		c.printf("  comes back at %s\n", *ch.ComesBackAt)
	}
	for _, text := range value(ch.Concerns) {
		c.printf("  %s\n", text)
	}
	if ch.Proof != nil {
		c.printf("  %s\n", c.proof(ch.Proof))
	}
	if ch.Members != nil {
		c.printLanes(ch)
	}
	hop := ""
	for _, s := range ch.Steps {
		if ch.Members != nil {
			break
		}
		if title := hopTitle(ch, s); title != hop {
			hop = title
			c.printf("%s\n", c.paint(bold, title))
		}
		c.printf("%s\n", c.stepLine(s, ch.Now, 150))
	}
	if ch.Checks != nil && ch.StartedAt == nil {
		c.printf("%s\n", c.paint(bold, "Readiness"))
		c.printChecks(ch)
	}
	if ch.WaysBack != nil && ch.EndedAt == nil {
		c.printf("%s\n", c.paint(bold, "Way back, "+string(*ch.Terms.WayBack)))
		for _, w := range *ch.WaysBack {
			c.printf("  hop %d: %s\n", w.Hop, w.Text)
		}
	}
	c.printEnd(ch)
	if len(ch.Actions) > 0 {
		var names []string
		for _, a := range ch.Actions {
			names = append(names, string(a))
		}
		c.printf("\nPossible now: %s\n", strings.Join(names, ", "))
	}
}

// printLanes shows the steps of a change of several devices, member by member.
func (c *client) printLanes(ch gen.Change) {
	lane := func(member int) {
		for _, s := range ch.Steps {
			if value(s.Member) != member {
				continue
			}
			others := ""
			for _, n := range value(s.After) {
				if o := ch.Steps[n-1]; value(o.Member) != member {
					others += fmt.Sprintf(", after %d", n)
				}
			}
			c.printf("%3d %s%s\n", s.Number, c.stepLine(s, ch.Now, 150), c.paint(dim, strings.Replace(others, ", ", " ", 1)))
		}
	}
	for _, m := range *ch.Members {
		c.printf("%s\n", c.paint(bold, fmt.Sprintf("%s, %s when it was drafted, from %s to %s", m.Device, roleOf(&m.Role), m.From, m.To)))
		lane(m.Number)
		for i, text := range m.WaysBack {
			c.printf("      way back of hop %d: %s\n", i+1, text)
		}
	}
	c.printf("%s\n", c.paint(bold, "The whole"))
	lane(0)
	if ch.HalfWay != nil {
		c.printf("%s %s\n", c.paint(bold, "How it goes on from here:"), wrap(*ch.HalfWay, 110, "  "))
	}
}

// whose is what a change is of: an ensemble, or a device.
func whose(ch gen.Change) string {
	if ch.Ensemble != nil {
		return *ch.Ensemble
	}
	return ch.Device
}

// way says in a few words where a change leads.
func way(ch gen.Change) string {
	if isJoin(ch) {
		return joining(ch)
	}
	if isReplacement(ch) {
		return replacing(ch)
	}
	if ch.Kind == gen.ChangeKindSwap {
		return "is a prepared unit from now on, with " + ch.To
	}
	if ch.Medium != nil {
		return "writes medium " + *ch.Medium
	}
	if ch.Services != nil {
		return movingServices(ch)
	}
	if ch.Kind == gen.ChangeKindOperations && ch.From == ch.To {
		return "single operations; it runs " + ch.From
	}
	as := ""
	if ch.Path != nil {
		for _, h := range ch.Path.Hops {
			as = cmp.Or(asModel(h), as)
		}
	}
	return fmt.Sprintf("from %s to %s%s", ch.From, ch.To, as)
}

// resting says until when a change may not be interrupted.
func resting(ch gen.Change) string {
	return fmt.Sprintf("it may not be interrupted before %q, in %s at most", *ch.PausesAt, duration(value(ch.PausesMost)))
}

// printEnd tells what a change asks, or how it ended.
func (c *client) printEnd(ch gen.Change) {
	if q := ch.Question; q != nil {
		var answers []string
		for _, a := range q.Answers {
			answers = append(answers, fmt.Sprintf("verimorph change %s %d", a, ch.Id))
		}
		c.printf("\n%s %s\n  Answer with: %s\n", c.paint(yellow, "It needs you:"), wrap(q.Text, 120, "  "), strings.Join(answers, ", or "))
	}
	if ch.Failure != nil {
		c.printf("\n%s %s\n", c.paint(red, map[bool]string{true: "Taken back:", false: "Failed:"}[ch.State == gen.ChangeStateReturned]), *ch.Failure)
	}
	if ch.Verdict != nil {
		c.printf("\n")
		c.printVerdict(ch)
	}
}

// asModel says as which model the device goes on; "" where it stays what it is.
func asModel(h gen.Hop) string {
	if h.NewModel == nil {
		return ""
	}
	return " as " + *h.NewModel
}

func hopTitle(ch gen.Change, s gen.Step) string {
	if s.Back != nil && *s.Back {
		return "Way back"
	}
	if ch.Path == nil {
		return "Steps"
	}
	if s.Hop == 0 {
		return map[bool]string{true: "Before", false: "After"}[s.Number == 1]
	}
	if ch.Kind == gen.ChangeKindOperations || isJoin(ch) || isReplacement(ch) || ch.Kind == gen.ChangeKindSwap || ch.Services != nil || ch.Medium != nil {
		return "Steps"
	}
	h := ch.Path.Hops[s.Hop-1]
	return fmt.Sprintf("Hop %d of %d  %s to %s%s", s.Hop, len(ch.Path.Hops), h.From, h.To, asModel(h))
}

func (c *client) printVerdict(ch gen.Change) {
	if ch.Verdict == nil {
		c.printf("Change %d has no verdict; it is %s.\n", ch.Id, ch.State)
		return
	}
	c.printf("Verdict: %s\n", c.state(string(ch.Verdict.Verdict)))
	for _, r := range ch.Verdict.Results {
		mark, word := c.paint(green, "+"), string(r.State)
		switch {
		case r.State == gen.ResultStateNotApplicable:
			mark, word = c.paint(blue, "-"), "not applicable"
		case r.State == gen.ResultStateNotProven:
			mark, word = c.paint(yellow, "?"), "not proven"
		case r.State != gen.ResultStateMet && r.Severity == "degraded":
			mark = c.paint(yellow, "!")
		case r.State != gen.ResultStateMet:
			mark = c.paint(red, "x")
		}
		c.printf("  %s %-28s %-14s %s\n", mark, r.Title, word, wrap(r.Evidence, 100, strings.Repeat(" ", 47)))
	}
}

// state paints a state or verdict; the word itself always stands there.
func (c *client) state(s string) string {
	switch s {
	case "done", "pass":
		return c.paint(green, s)
	case "failed", "fail":
		return c.paint(red, s)
	case "degraded", "pausing", "paused", "scheduled", "stopped", "asking", "returned", "warn":
		return c.paint(yellow, s)
	}
	return c.paint(blue, s)
}

// work says in a few words what a change does.
func work(ch gen.Change) string {
	if ch.Restore != nil {
		return fmt.Sprintf("restore of backup %d", ch.Restore.Backup)
	}
	switch ch.Kind {
	case gen.ChangeKindBack:
		return "back to the previous installation"
	case gen.ChangeKindJoin, gen.ChangeKindRelease:
		return joining(ch)
	case gen.ChangeKindOperations:
		return "single operations"
	}
	return count(len(ch.Path.Hops), "hop")
}
