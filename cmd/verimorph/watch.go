package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	"golang.org/x/term"

	"verimorph/api/gen"
)

// watch follows a change until it ends. When the service goes away it keeps trying: the change goes on as soon as the
// service is back, and whoever watches at night wants to see that.
func watch(ctx context.Context, c *client, id int64) error {
	return (&drawing{c: c, seen: map[int]string{}, screen: c.screen}).watch(ctx, id)
}

func (d *drawing) watch(ctx context.Context, id int64) error {
	c, first := d.c, true
	for {
		ended, err := follow(ctx, c, id, d, func() { first = false })
		var refused *problemError
		switch {
		case ended != nil:
			return d.end(*ended)
		case ctx.Err() != nil:
			return errors.New("stopped watching; the change goes on")
		case errors.As(err, &refused) && (first || refused.Status < 500), err != nil && first:
			return err
		}
		d.say("the service is away; trying again")
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
}

// follow reads one event stream. It returns the change when it has ended.
func follow(ctx context.Context, c *client, id int64, d *drawing, connected func()) (*gen.Change, error) {
	a, err := c.api()
	if err != nil {
		return nil, err
	}
	resp, err := a.WatchChange(ctx, id)
	if err != nil {
		return nil, c.unreachable(err)
	}
	defer resp.Body.Close()
	if err := problemOf(resp); err != nil {
		return nil, err
	}
	if !strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") || resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s does not send events", c.server)
	}
	connected()
	changes := make(chan gen.Change)
	failed := make(chan error, 1)
	go func() {
		in := bufio.NewScanner(resp.Body)
		in.Buffer(nil, 16<<20)
		for in.Scan() {
			data, ok := strings.CutPrefix(in.Text(), "data: ")
			if !ok {
				continue
			}
			var ch gen.Change
			if err := json.Unmarshal([]byte(data), &ch); err != nil {
				failed <- err
				return
			}
			select {
			case changes <- ch:
			case <-ctx.Done():
				return
			}
		}
		failed <- in.Err()
	}()
	tick := time.NewTicker(250 * time.Millisecond) // so that clocks run between events
	defer tick.Stop()
	var now *gen.Change
	var at time.Time
	for {
		select {
		case ch := <-changes:
			if ch.State == gen.ChangeStateDraft || ch.State == gen.ChangeStateApproved { // nobody started it: there is nothing to watch
				return &ch, nil
			}
			now, at = &ch, time.Now()
			d.draw(ch, ch.Now)
			if ch.EndedAt != nil || ch.State == gen.ChangeStateAsking {
				return &ch, nil
			}
		case <-tick.C:
			if now != nil && c.terminal {
				d.draw(*now, now.Now.Add(time.Since(at)))
			}
		case err := <-failed:
			return nil, err
		}
	}
}

// drawing shows a change: on a terminal the same lines again and again, in a pipe one line for each thing that happens.
type drawing struct {
	c      *client
	screen func(gen.Change, time.Time) []string // the change on a terminal
	lines  int                                  // drawn last time
	seen   map[int]string                       // pipe: what was printed of each step
	told   string
}

func (d *drawing) draw(ch gen.Change, now time.Time) {
	switch {
	case d.c.json:
		return
	case d.c.terminal:
		d.redraw(d.screen(ch, now))
	default:
		for _, s := range ch.Steps {
			if key := string(s.State) + s.Outcome; s.State != gen.StepStateWaiting && d.seen[s.Number] != key {
				d.seen[s.Number] = key
				what := s.Outcome
				if s.State == gen.StepStateRunning {
					what = fmt.Sprintf("expected %s, limit %s", span(s.Low, s.High), duration(s.Limit))
				}
				d.c.printf("%s  %2d/%d  %-9s %s", d.c.hour(now), s.Number, len(ch.Steps), s.State, s.Title)
				if s.Hop > 0 && ch.Path != nil {
					d.c.printf(" (hop %d, to %s)", s.Hop, ch.Path.Hops[s.Hop-1].To)
				}
				d.c.printf(": %s\n", what)
			}
		}
		if string(ch.State) != d.told {
			d.told = string(ch.State)
			d.c.printf("%s  change %d is %s\n", d.c.hour(now), ch.Id, ch.State)
		}
	}
}

func (d *drawing) say(text string) {
	if d.c.terminal {
		d.c.printf("%s\n", d.c.paint(yellow, text))
		d.lines++
	} else if d.told != text && !d.c.json {
		d.told = text
		d.c.printf("%s  %s\n", d.c.hour(time.Now()), text)
	}
}

func (d *drawing) redraw(lines []string) {
	if d.lines > 0 {
		d.c.printf("\x1b[%dA", d.lines)
	}
	for _, l := range lines {
		d.c.printf("\r\x1b[K%s\n", l)
	}
	d.c.printf("\x1b[J")
	d.lines = len(lines)
}

func (d *drawing) end(ch gen.Change) error {
	if d.c.json {
		if err := d.c.printJSON(ch); err != nil {
			return err
		}
	} else if ch.State == gen.ChangeStateDraft || ch.State == gen.ChangeStateApproved {
		d.c.printf("It was not started. ")
		d.c.printStanding(ch)
	} else {
		d.c.printEnd(ch)
	}
	if ch.State != gen.ChangeStateDone {
		return errNo
	}
	return nil
}

// screen is the change as lines that fit the terminal: hops that are over or to come take one line, the one that goes
// on takes one a step.
func (c *client) screen(ch gen.Change, now time.Time) []string {
	width := 100
	if f, ok := c.out.(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 20 {
			width = w
		}
	}
	total, done := 0.0, 0.0
	for _, s := range ch.Steps {
		total += s.High
		done += s.High * fraction(s, now)
	}
	elapsed := 0.0
	if ch.StartedAt != nil {
		end := now
		if ch.EndedAt != nil {
			end = *ch.EndedAt
		}
		elapsed = end.Sub(*ch.StartedAt).Seconds()
	}
	times := fmt.Sprintf("%s gone, %s to go", duration(elapsed), span(ch.RemainingLow, ch.RemainingHigh))
	if ch.EndedAt != nil {
		times = duration(elapsed) + " in all"
	}
	lines := []string{
		fmt.Sprintf("Change %d  %s %s  %s", ch.Id, c.paint(bold, whose(ch)), way(ch), c.state(string(ch.State))),
		fmt.Sprintf("%s %3.0f %%  %s", bar(done/max(total, 0.001), 40), 100*done/max(total, 0.001), times),
		"",
	}
	if a := ch.Awaited; a != nil { // what everybody waits for
		lines[2] = c.paint(bold, cut(fmt.Sprintf("%s so far, %s expected: %s", duration(max(now.Sub(a.Since).Seconds(), 0)), span(a.Low, a.High), a.Text), width-1))
	}
	for i := 0; i < len(ch.Steps); {
		j := i
		for j < len(ch.Steps) && ch.Steps[j].Hop == ch.Steps[i].Hop {
			j++
		}
		group := ch.Steps[i:j]
		if len(group) == 1 {
			lines = append(lines, c.stepLine(group[0], now, width))
		} else {
			lines = append(lines, c.hopLines(ch, group, now, width)...)
		}
		i = j
	}
	return lines
}

func (c *client) hopLines(ch gen.Change, group []gen.Step, now time.Time, width int) []string {
	doneSteps, open, took := 0, false, 0.0
	for _, s := range group {
		if s.State == gen.StepStateDone {
			doneSteps++
			if s.StartedAt != nil && s.EndedAt != nil {
				took += s.EndedAt.Sub(*s.StartedAt).Seconds()
			}
		} else if s.State != gen.StepStateWaiting {
			open = true
		}
	}
	title := hopTitle(ch, group[0])
	switch {
	case doneSteps == len(group):
		return []string{fmt.Sprintf("%s %-28s %11s", c.paint(green, "+"), title, duration(took))}
	case doneSteps == 0 && !open:
		return []string{fmt.Sprintf("  %s", c.paint(dim, title))}
	}
	lines := []string{fmt.Sprintf("%s %s", c.paint(blue, ">"), c.paint(bold, title))}
	for _, s := range group {
		lines = append(lines, "  "+c.stepLine(s, now, width-2))
	}
	return lines
}

// stepLine shows a step: mark, title, elapsed time, expected range, and what is known.
func (c *client) stepLine(s gen.Step, now time.Time, width int) string {
	mark, what := " ", ""
	elapsed := ""
	if s.StartedAt != nil {
		end := now
		if s.EndedAt != nil {
			end = *s.EndedAt
		}
		elapsed = duration(max(end.Sub(*s.StartedAt).Seconds(), 0))
	}
	switch s.State {
	case gen.StepStateWaiting:
		if s.Text != nil {
			what = *s.Text
		}
	case gen.StepStateDone:
		mark, what = c.paint(green, "+"), s.Outcome
	case gen.StepStateFailed:
		mark, what = c.paint(red, "x"), s.Outcome
	case gen.StepStateRunning:
		mark, what = c.paint(blue, ">"), fmt.Sprintf("%s %3.0f %%  %s", bar(fraction(s, now), 8), 100*fraction(s, now), s.Note)
	}
	line := fmt.Sprintf(" %-30s %11s of %-20s ", cut(s.Title, 30), elapsed, span(s.Low, s.High))
	return mark + line + cut(what, width-len(line)-2)
}

// fraction of a step that is done: what the step says, or how much of the expected time has passed.
func fraction(s gen.Step, now time.Time) float64 {
	switch s.State {
	case gen.StepStateDone:
		return 1
	case gen.StepStateRunning:
		byTime := 0.0
		if s.StartedAt != nil && s.High > 0 {
			byTime = min(now.Sub(*s.StartedAt).Seconds()/s.High, 0.95)
		}
		return min(max(s.Fraction, byTime, 0), 1)
	}
	return 0
}

func bar(f float64, width int) string {
	n := int(f*float64(width) + 0.5)
	return "[" + strings.Repeat("#", n) + strings.Repeat("-", width-n) + "]"
}
