package main

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// The board of a change: a lane for each member along the time, and beneath it what clients notice.

var boardCommand = command{
	name: "change board", args: "CHANGE", short: "Show the lanes of a change along the time, and what clients notice", min: 1, max: 1, example: "change board 1 -watch",
	long: "A lane shows when each step is expected, and what became of it: = done, > running, . to come, x failed, ~ the member is down meanwhile.\nClients: - all works, d less than usual, X an outage, ? not known. With -watch it goes on until the change ends or needs a person.",
	setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
		follow := fs.Bool("watch", false, "go on until the change ends or needs a person")
		return func(ctx context.Context, c *client, args []string) error {
			ch, err := getChange(ctx, c, args[0])
			if err != nil {
				return err
			}
			tl, err := getTimeline(ctx, c, ch.Id)
			if err != nil {
				return err
			}
			if !*follow {
				return c.show(tl, func() {
					for _, l := range c.board(ch, tl, ch.Now) {
						c.printf("%s\n", l)
					}
				})
			}
			at := time.Now()
			d := &drawing{c: c, seen: map[int]string{}, screen: func(ch gen.Change, now time.Time) []string {
				if time.Since(at) > time.Second { // what was measured moves slowly
					if fresh, err := getTimeline(ctx, c, ch.Id); err == nil {
						tl = fresh
					}
					at = time.Now()
				}
				return c.board(ch, tl, now)
			}}
			return d.watch(ctx, ch.Id)
		}
	},
}

var timelineCommand = command{
	name: "change timeline", args: "CHANGE", short: "Show what each kind of client notices of a change, expected and measured", min: 1, max: 1, example: "change timeline 1",
	long: "With -o it is written to print: lanes along the time, what clients notice, and the steps.",
	setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
		out := fs.String("o", "", "`file` to write, .html or .pdf")
		return func(ctx context.Context, c *client, args []string) error {
			id, err := changeID(args[0])
			if err != nil {
				return err
			}
			if *out != "" {
				return c.writePaper(*out, func(a *api.Client, format gen.PaperFormat) (*http.Response, error) {
					return a.PrintForecast(ctx, id, &gen.PrintForecastParams{Format: &format})
				})
			}
			tl, err := getTimeline(ctx, c, id)
			if err != nil {
				return err
			}
			return c.show(tl, func() { c.printTimeline(tl) })
		}
	},
}

func getTimeline(ctx context.Context, c *client, id int64) (gen.Timeline, error) {
	return call[gen.Timeline](c, func(a *api.Client) (*http.Response, error) { return a.GetTimeline(ctx, id) })
}

func (c *client) printTimeline(tl gen.Timeline) {
	c.printf("Expected: %s in all.\n", duration(tl.Expected.Seconds))
	if tl.Measured != nil {
		c.printf("Measured: %s so far or in all.\n", duration(tl.Measured.Seconds))
	}
	for _, p := range value(tl.Probes) {
		c.printf("%s\n", c.probe(p))
	}
	if len(tl.Expected.Clients) == 0 {
		c.printf("The catalogue says nothing of what clients notice of these hops: that is not known.\n")
		return
	}
	rows := [][]string{{"CLIENTS", "OUTAGE EXPECTED", "MEASURED", "LESS THAN USUAL", "MEASURED", "WHEN, AND WHAT"}}
	for _, n := range tl.Expected.Clients {
		row := []string{n.Clients, lasting(n.Outage), "", lasting(n.Degraded), "", ""}
		if m := measuredOf(tl, n.Clients); m != nil {
			row[2], row[4] = lasting(m.Outage), lasting(m.Degraded)
		}
		if len(n.Parts) == 0 {
			row[5] = "nothing is noticed"
		}
		for i, p := range n.Parts {
			if i > 0 {
				rows = append(rows, row)
				row = make([]string, 6)
			}
			row[5] = fmt.Sprintf("%s to %s: %s", duration(p.From), duration(p.To), p.Text)
		}
		rows = append(rows, row)
	}
	table(c.out, rows)
}

// probe tells what was measured from outside.
func (c *client) probe(p gen.Probe) string {
	text := fmt.Sprintf("Measured at %s of %s: ", p.Target, p.Device)
	switch {
	case p.Asked == 0:
		text += "not asked yet"
	case p.Lost == 0:
		text += c.paint(green, "no interruption") + fmt.Sprintf(", %d times asked", p.Asked)
	default:
		text += c.paint(yellow, count(len(p.Gaps), "interruption")) + fmt.Sprintf(", the longest %.1f s; %d of %d did not answer", p.Longest, p.Lost, p.Asked)
	}
	if p.Unwatched > 0 {
		text += fmt.Sprintf("; nobody asked for %.1f s, so that is not known", p.Unwatched)
	}
	return text
}

// lasting is a time, or none.
func lasting(seconds float64) string {
	switch {
	case seconds == 0:
		return "none"
	case seconds < 1:
		return "under 1 s"
	}
	return duration(seconds)
}

func measuredOf(tl gen.Timeline, clients string) *gen.TimelineClients {
	if tl.Measured == nil {
		return nil
	}
	i := slices.IndexFunc(tl.Measured.Clients, func(n gen.TimelineClients) bool { return n.Clients == clients })
	if i < 0 {
		return nil
	}
	return &tl.Measured.Clients[i]
}

// down are the steps during which a member serves nobody.
var down = []string{"restart", "link", "login"}

// board is a change as lanes along the time.
func (c *client) board(ch gen.Change, tl gen.Timeline, now time.Time) []string {
	const label, chart = 18, 64
	scale := max(tl.Expected.Seconds, 1) / chart
	lines := []string{fmt.Sprintf("Change %d  %s %s  %s", ch.Id, c.paint(bold, whose(ch)), way(ch), c.state(string(ch.State)))}
	if p := ch.Proof; p != nil {
		lines = append(lines, "  "+c.proof(p))
	}
	end := duration(tl.Expected.Seconds)
	lines = append(lines, "", fmt.Sprintf("%-*s 0%s%s", label, "", strings.Repeat(" ", chart-1-len(end)), end))
	members := []gen.ChangeMember{{Number: 1, Device: ch.Device}}
	if ch.Members != nil {
		members = *ch.Members
	}
	for _, m := range members {
		bar, running := c.lane(ch, tl, m.Number, len(members) == 1, scale, chart)
		stands := ""
		if m.Now != nil {
			stands = strings.TrimSuffix(fmt.Sprintf("%s, %s, %s", roleOf(m.RoleNow), *m.Now, value(m.Sync)), ", ")
		}
		lines = append(lines, fmt.Sprintf("%-*s %s  %s", label, cut(m.Device, label), bar, stands))
		for _, s := range running {
			lines = append(lines, fmt.Sprintf("%-*s %s", label, "", c.stepLine(s, now, 100)))
		}
	}
	lines = append(lines, "")
	for _, n := range tl.Expected.Clients {
		text := "outage " + lasting(n.Outage) + " expected"
		if slices.ContainsFunc(n.Parts, func(p gen.TimelinePart) bool { return p.Effect == gen.TimelinePartEffectUnknown }) {
			text = "outage not known"
		}
		if m := measuredOf(tl, n.Clients); m != nil {
			text += ", " + lasting(m.Outage) + " measured"
		}
		lines = append(lines, fmt.Sprintf("%-*s %s  %s", label, cut(n.Clients, label), c.noticed(n, scale, chart), text))
	}
	if len(tl.Expected.Clients) == 0 {
		lines = append(lines, "What clients notice is not known: the catalogue says nothing of it.")
	}
	for _, p := range value(tl.Probes) {
		lines = append(lines, c.probe(p))
	}
	if ch.HalfWay != nil {
		lines = append(lines, "", wrap("How it goes on from here: "+*ch.HalfWay, 110, "  "))
	}
	return lines
}

// proof says whether the order of the steps is proved.
func (c *client) proof(p *gen.Proof) string {
	switch {
	case p.Text != nil:
		text := c.paint(red, "not safe: ") + *p.Text
		for _, t := range value(p.Trace) {
			text += "\n    " + t
		}
		return text
	case !p.Proved:
		return c.paint(yellow, "not proved: ") + value(p.GaveUp)
	}
	return fmt.Sprintf("order proved: %d states were walked, with every single failure", p.States)
}

// lane draws one member, and says which of its steps run.
func (c *client) lane(ch gen.Change, tl gen.Timeline, member int, only bool, scale float64, width int) (string, []gen.Step) {
	cells := slices.Repeat([]rune{' '}, width)
	var running []gen.Step
	for _, w := range tl.Expected.Steps {
		i := slices.IndexFunc(ch.Steps, func(s gen.Step) bool { return s.Number == w.Number })
		if i < 0 || w.Member != member && w.Member != 0 && !only {
			continue
		}
		s := ch.Steps[i]
		mark := map[gen.StepState]rune{gen.StepStateDone: '=', gen.StepStateRunning: '>', gen.StepStateFailed: 'x', gen.StepStateWaiting: '.', gen.StepStateSkipped: ' '}[s.State]
		if slices.Contains(down, s.Kind) && s.State == gen.StepStateWaiting {
			mark = '~'
		}
		from, to := min(int(w.From/scale), width-1), min(int(w.To/scale), width-1)
		for k := from; k <= to; k++ {
			if cells[k] == ' ' || cells[k] == '.' || mark != '.' {
				cells[k] = mark
			}
		}
	}
	for _, s := range ch.Steps {
		if s.State == gen.StepStateRunning && (only || value(s.Member) == member || value(s.Member) == 0 && member == 1) {
			running = append(running, s)
		}
	}
	return string(cells), running
}

// noticed draws what one kind of client notices.
func (c *client) noticed(n gen.TimelineClients, scale float64, width int) string {
	cells := slices.Repeat([]rune{'-'}, width)
	for _, p := range n.Parts {
		for k := min(int(p.From/scale), width-1); k <= min(int(p.To/scale), width-1); k++ {
			switch {
			case p.Effect == gen.TimelinePartEffectOutage:
				cells[k] = 'X'
			case cells[k] == '-' && p.Effect == gen.TimelinePartEffectUnknown:
				cells[k] = '?'
			case cells[k] != 'X':
				cells[k] = 'd'
			}
		}
	}
	return string(cells)
}
