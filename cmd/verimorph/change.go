package main

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

var changeCommands = []command{
	{
		name: "change list", short: "Changes, newest first", example: "change list -device hollen-fw1",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "only of this device")
			return func(ctx context.Context, c *client, _ []string) error {
				changes, err := all(func(cursor *string) ([]gen.Change, *string, error) {
					p, err := call[gen.ChangePage](c, func(a *api.Client) (*http.Response, error) {
						return a.ListChanges(ctx, &gen.ListChangesParams{Device: optional(*device), Cursor: cursor})
					})
					return p.Items, p.Next, err
				})
				if err != nil {
					return err
				}
				return c.show(changes, func() {
					rows := [][]string{{"CHANGE", "DEVICE", "FROM", "TO", "WORK", "STATE", "VERDICT", "DRAFTED"}}
					for _, ch := range changes {
						verdict := ""
						if ch.Verdict != nil {
							verdict = string(ch.Verdict.Verdict)
						}
						rows = append(rows, []string{fmt.Sprint(ch.Id), ch.Device, ch.From, ch.To, work(ch), string(ch.State), verdict, ago(ch.CreatedAt)})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "change draft", args: "DEVICE", short: "Draft a change from the path to a version", min: 1, max: 1, example: "change draft hollen-fw1 -to 5.4.2",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			var a asking
			a.policyFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				aim, err := a.check(true)
				if err != nil {
					return err
				}
				g := a.gen(aim)
				ch, err := call[gen.Change](c, func(ac *api.Client) (*http.Response, error) {
					return ac.DraftChange(ctx, &gen.DraftChangeParams{IdempotencyKey: newKey()}, gen.NewChange{Device: args[0], To: g.To, Previews: g.Previews, Reset: g.Reset,
						MaxHops: g.MaxHops, Services: g.Services, DropChildren: g.DropChildren})
				})
				if err != nil {
					return err
				}
				return c.show(ch, func() {
					c.printf("Drafted change %d: %s from %s to %s in %s and %d steps, %s expected.\n",
						ch.Id, ch.Device, ch.From, ch.To, count(len(ch.Path.Hops), "hop"), len(ch.Steps), span(ch.RemainingLow, ch.RemainingHigh))
					c.printDoubts(*ch.Path)
					c.printf("Read it with: verimorph change show %d\n", ch.Id)
				})
			}
		},
	},
	{
		name: "change show", args: "CHANGE", short: "A change with its steps", min: 1, max: 1, example: "change show 1",
		setup: changeCall(func(ctx context.Context, a *api.Client, id int64) (*http.Response, error) {
			return a.GetChange(ctx, id)
		}, (*client).printChange),
	},
	actionCommand("approve", "Approve a draft"),
	actionCommand("start", "Start an approved change"),
	actionCommand("hold", "Hold a running change at its next safe point"),
	actionCommand("resume", "Go on with a held change"),
	actionCommand("stop", "Give up a change that is not running"),
	{
		name: "change watch", args: "CHANGE", short: "Watch a change until it ends", min: 1, max: 1, example: "change watch 1",
		long: "On a terminal it draws the steps with progress, expected range and elapsed time; in a pipe it prints a line a step.\nIt exits 0 when the change is done and 1 when it failed, was stopped, or its verdict fails.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := changeID(args[0])
				if err != nil {
					return err
				}
				return watch(ctx, c, id)
			}
		},
	},
	{
		name: "change verdict", args: "CHANGE", short: "The verdict of a change with its evidence", min: 1, max: 1, example: "change verdict 1",
		long: "It exits 0 for pass, and 1 for degraded, fail, or no verdict.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				ch, err := getChange(ctx, c, args[0])
				if err != nil {
					return err
				}
				if err := c.show(ch.Verdict, func() { c.printVerdict(ch) }); err != nil {
					return err
				}
				if ch.Verdict == nil || ch.Verdict.Verdict != gen.VerdictVerdictPass {
					return errNo
				}
				return nil
			}
		},
	},
	{
		name: "change journal", args: "CHANGE", short: "The journal of a change", min: 1, max: 1, example: "change journal 1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := changeID(args[0])
				if err != nil {
					return err
				}
				entries, err := all(func(cursor *string) ([]gen.JournalEntry, *string, error) {
					p, err := call[gen.JournalPage](c, func(a *api.Client) (*http.Response, error) {
						return a.ListJournal(ctx, id, &gen.ListJournalParams{Cursor: cursor})
					})
					return p.Items, p.Next, err
				})
				if err != nil {
					return err
				}
				return c.show(entries, func() {
					rows := [][]string{{"AT", "STEP", "EVENT", "DETAIL"}}
					for _, e := range entries {
						step := ""
						if e.Step > 0 {
							step = fmt.Sprint(e.Step)
						}
						rows = append(rows, []string{e.At.Local().Format(time.TimeOnly), step, e.Event, e.Detail})
					}
					table(c.out, rows)
				})
			}
		},
	},
}

func actionCommand(action gen.Action, short string) command {
	return command{
		name: "change " + string(action), args: "CHANGE", short: short, min: 1, max: 1, example: "change " + string(action) + " 1",
		setup: changeCall(func(ctx context.Context, a *api.Client, id int64) (*http.Response, error) {
			return a.ActOnChange(ctx, id, action)
		}, func(c *client, ch gen.Change) {
			c.printf("Change %d is %s.", ch.Id, ch.State)
			switch ch.State {
			case gen.ChangeStateApproved:
				c.printf(" Start it with: verimorph change start %d", ch.Id)
			case gen.ChangeStateRunning, gen.ChangeStateHolding:
				c.printf(" Watch it with: verimorph change watch %d", ch.Id)
			}
			c.printf("\n")
		}),
	}
}

func changeID(s string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id < 1 {
		return 0, errUsage{fmt.Sprintf("%q is not the number of a change", s)}
	}
	return id, nil
}

func changeCall(do func(context.Context, *api.Client, int64) (*http.Response, error), print func(*client, gen.Change)) func(*flag.FlagSet) func(context.Context, *client, []string) error {
	return func(*flag.FlagSet) func(context.Context, *client, []string) error {
		return func(ctx context.Context, c *client, args []string) error {
			id, err := changeID(args[0])
			if err != nil {
				return err
			}
			ch, err := call[gen.Change](c, func(a *api.Client) (*http.Response, error) { return do(ctx, a, id) })
			if err != nil {
				return err
			}
			return c.show(ch, func() { print(c, ch) })
		}
	}
}

func getChange(ctx context.Context, c *client, arg string) (gen.Change, error) {
	id, err := changeID(arg)
	if err != nil {
		return gen.Change{}, err
	}
	return call[gen.Change](c, func(a *api.Client) (*http.Response, error) { return a.GetChange(ctx, id) })
}

func (c *client) printChange(ch gen.Change) {
	if r := ch.Restore; r != nil {
		c.printf("Change %d  backup %d goes back on %s, which runs %s  %s\n", ch.Id, r.Backup, c.paint(bold, ch.Device), ch.From, c.state(string(ch.State)))
	} else {
		c.printf("Change %d  %s from %s to %s  %s\n", ch.Id, c.paint(bold, ch.Device), ch.From, ch.To, c.state(string(ch.State)))
	}
	c.printf("  drafted by %s, %s\n", ch.CreatedBy, ch.CreatedAt.Local().Format(time.DateTime))
	if ch.ApprovedBy != nil {
		c.printf("  approved by %s, %s\n", *ch.ApprovedBy, ch.ApprovedAt.Local().Format(time.DateTime))
	}
	if ch.StartedAt != nil && ch.EndedAt != nil {
		c.printf("  took %s\n", clock(ch.EndedAt.Sub(*ch.StartedAt).Seconds()))
	} else {
		c.printf("  %s expected\n", span(ch.RemainingLow, ch.RemainingHigh))
	}
	hop := -1
	for _, s := range ch.Steps {
		if s.Hop != hop {
			hop = s.Hop
			c.printf("%s\n", c.paint(bold, hopTitle(ch, s)))
		}
		c.printf("%s\n", c.stepLine(s, ch.Now, 150))
	}
	if ch.Failure != nil {
		c.printf("\n%s %s\n", c.paint(red, "Failed:"), *ch.Failure)
	}
	if ch.Verdict != nil {
		c.printf("\n")
		c.printVerdict(ch)
	}
	if len(ch.Actions) > 0 {
		var names []string
		for _, a := range ch.Actions {
			names = append(names, string(a))
		}
		c.printf("\nPossible now: %s\n", strings.Join(names, ", "))
	}
}

func hopTitle(ch gen.Change, s gen.Step) string {
	if ch.Path == nil {
		return "Steps"
	}
	if s.Hop == 0 {
		return map[bool]string{true: "Before", false: "After"}[s.Number == 1]
	}
	h := ch.Path.Hops[s.Hop-1]
	return fmt.Sprintf("Hop %d of %d  %s to %s", s.Hop, len(ch.Path.Hops), h.From, h.To)
}

func (c *client) printVerdict(ch gen.Change) {
	if ch.Verdict == nil {
		c.printf("Change %d has no verdict; it is %s.\n", ch.Id, ch.State)
		return
	}
	c.printf("Verdict: %s\n", c.state(string(ch.Verdict.Verdict)))
	for _, r := range ch.Verdict.Results {
		mark := c.paint(green, "+")
		if r.State != gen.ResultStateMet {
			mark = c.paint(red, "x")
			if r.Severity == "degraded" {
				mark = c.paint(yellow, "!")
			}
		}
		c.printf("  %s %-28s %-8s %s\n", mark, r.Title, r.State, wrap(r.Evidence, 100, strings.Repeat(" ", 41)))
	}
}

// state paints a state or verdict; the word itself always stands there.
func (c *client) state(s string) string {
	switch s {
	case "done", "pass":
		return c.paint(green, s)
	case "failed", "fail":
		return c.paint(red, s)
	case "degraded", "holding", "held", "stopped":
		return c.paint(yellow, s)
	}
	return c.paint(blue, s)
}

// work says in a few words what a change does.
func work(ch gen.Change) string {
	if ch.Restore != nil {
		return fmt.Sprintf("restore of backup %d", ch.Restore.Backup)
	}
	return count(len(ch.Path.Hops), "hop")
}
