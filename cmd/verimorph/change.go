package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

var changeCommands = []command{
	{
		name: "change list", short: "List changes, newest first", example: "change list -device hollen-fw1",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "only of this device or ensemble")
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
						rows = append(rows, []string{fmt.Sprint(ch.Id), whose(ch), ch.From, ch.To, work(ch), string(ch.State), verdict, ago(ch.CreatedAt)})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "change draft", args: "DEVICE|ENSEMBLE", short: "Draft a change from the path to a version", min: 1, max: 1,
		example: "change draft hollen-fw1 -to 5.4.2",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			var a asking
			a.policyFlags(fs)
			terms := termFlags(fs)
			licences := licenceFlag(fs)
			comesBackAt := fs.String("comes-back-at", "", "`host:port` at which the device is expected once it was started anew; by default where it was")
			cleanUp := fs.String("clean-up", "", "`files` to remove from the device first, with commas; UNIT:FILE removes one from a unit")
			together := fs.Bool("together", false, "of a device with several units, and of an ensemble: all of them restart together, also where they could go one after the other; nobody serves meanwhile")
			authorise := fs.String("authorise", "", "`serials`, and ranges FROM..TO of them, of new access points that are let join, with commas")
			switchBack := fs.Bool("switch-back", false, "of an ensemble: whoever is active now is it again in the end")
			both := fs.Bool("both", false, "install the last release into the other slot, too, once the readings are as expected; that overwrites the previous installation")
			return func(ctx context.Context, c *client, args []string) error {
				aim, err := a.check(true)
				if err != nil {
					return err
				}
				t, err := terms(ctx, c)
				if err != nil {
					return err
				}
				given, err := licenceKeys(*licences)
				if err != nil {
					return err
				}
				g := a.gen(aim)
				return c.drafted(ctx, gen.NewChange{Device: args[0], To: g.To, Previews: g.Previews, Reset: g.Reset, MaxHops: g.MaxHops, Services: g.Services,
					DropChildren: g.DropChildren, ToModel: g.ToModel, CleanUp: list(*cleanUp), Licences: given, Both: both,
					SwitchBack: switchBack, Together: together, Authorise: list(*authorise), ComesBackAt: optional(*comesBackAt), Terms: t})
			}
		},
	},
	{
		name: "change show", args: "CHANGE", short: "Show a change with its steps", min: 1, max: 1, example: "change show 1",
		setup: changeCall(func(ctx context.Context, a *api.Client, id int64) (*http.Response, error) {
			return a.GetChange(ctx, id)
		}, (*client).printChange),
	},
	{
		name: "change redraft", args: "CHANGE", short: "Draft the same target again, from the current state of the device", min: 1, max: 1,
		example: "change redraft 1",
		long:    "The device is looked at first. A draft that was not started is cancelled; the new one has to be approved.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := changeID(args[0])
				if err != nil {
					return err
				}
				ch, err := call[gen.Change](c, func(a *api.Client) (*http.Response, error) { return a.RedraftChange(ctx, id) })
				if err != nil {
					return err
				}
				return c.show(ch, func() { c.printDrafted(ch) })
			}
		},
	},
	{
		name: "change back", args: "DEVICE", short: "Draft a rollback: start the previous installation", min: 1, max: 1, example: "change back hollen-fw1",
		long: "With -preview nothing is drafted: it shows what would be lost, and with -carry what carrying the configuration across changes.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			preview := fs.Bool("preview", false, "only show what would be lost")
			carry := fs.Bool("carry", false, "convert the configuration of now and put it onto the previous installation")
			terms := termFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				if *preview {
					l, err := call[gen.Losses](c, func(a *api.Client) (*http.Response, error) {
						return a.PreviewBack(ctx, args[0], &gen.PreviewBackParams{Carry: carry})
					})
					if err != nil {
						return err
					}
					return c.show(l, func() { c.printLosses(l) })
				}
				t, err := terms(ctx, c)
				if err != nil {
					return err
				}
				yes := true
				return c.drafted(ctx, gen.NewChange{Device: args[0], To: "previous", Back: &yes, Carry: carry, Terms: t})
			}
		},
	},
	joinCommand,
	releaseCommand,
	operationsCommand,
	boardCommand,
	timelineCommand,
	{
		name: "change check", args: "CHANGE", short: "Run the readiness checks on the device now", min: 1, max: 1, example: "change check 1",
		long: "It exits 1 when something stops the change, or a warning is not accepted.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := changeID(args[0])
				if err != nil {
					return err
				}
				ch, err := call[gen.Change](c, func(a *api.Client) (*http.Response, error) { return a.CheckChange(ctx, id) })
				if err != nil {
					return err
				}
				if err := c.show(ch.Checks, func() { c.printChecks(ch) }); err != nil {
					return err
				}
				if open(ch) > 0 {
					return errNo
				}
				return nil
			}
		},
	},
	{
		name: "change accept-warnings", args: "CHANGE CHECK...", short: "Accept warnings before the start", min: 2, max: 50,
		example: "change accept-warnings 1 health -reason \"the spare fan arrives on Friday\"",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			reason := fs.String("reason", "", "why")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := changeID(args[0])
				if err != nil {
					return err
				}
				if *reason == "" {
					return errUsage{"-reason is needed"}
				}
				ch, err := call[gen.Change](c, func(a *api.Client) (*http.Response, error) {
					return a.AcceptWarnings(ctx, id, gen.Acceptance{Checks: args[1:], Reason: *reason})
				})
				if err != nil {
					return err
				}
				return c.show(ch.Checks, func() { c.printChecks(ch) })
			}
		},
	},
	{
		name: "change terms", args: "CHANGE", short: "Set the window, the restart time and the rollback policy", min: 1, max: 1,
		example: "change terms 1 -until 04:00 -back automatic",
		long:    "Terms that are not given are removed. A change that was approved has to be approved again.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			terms := termFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				id, err := changeID(args[0])
				if err != nil {
					return err
				}
				t, err := terms(ctx, c)
				if err != nil {
					return err
				}
				ch, err := call[gen.Change](c, func(a *api.Client) (*http.Response, error) { return a.SetTerms(ctx, id, *t) })
				if err != nil {
					return err
				}
				return c.show(ch, func() { c.printChecks(ch) })
			}
		},
	},
	{
		name: "change losses", args: "CHANGE", short: "Show what a rollback now would lose", min: 1, max: 1, example: "change losses 1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := changeID(args[0])
				if err != nil {
					return err
				}
				l, err := call[gen.Losses](c, func(a *api.Client) (*http.Response, error) { return a.GetWayBack(ctx, id) })
				if err != nil {
					return err
				}
				return c.show(l, func() { c.printLosses(l) })
			}
		},
	},
	{
		name: "change evidence", args: "CHANGE [FILE]", short: "Attach a file to a hand step, or list what is attached", min: 1, max: 2,
		example: "change evidence 1 movement.jpg -step 31",
		long:    "Without FILE it lists what is attached, or writes one of it with -get.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			step := fs.Int("step", 0, "`number` of the hand step; that which is asked for when left out")
			get := fs.Int64("get", 0, "`number` of what is attached, to be written")
			out := fs.String("o", "", "`file` to write it to; its own name in this folder when left out")
			return func(ctx context.Context, c *client, args []string) error {
				ch, err := getChange(ctx, c, args[0])
				if err != nil {
					return err
				}
				if len(args) == 1 {
					return c.attached(ctx, ch.Id, *get, *out)
				}
				if *step == 0 && ch.Question != nil {
					*step = ch.Question.Step
				}
				if *step < 1 {
					return errUsage{"-step is needed: the change asks for none now"}
				}
				f, err := os.Open(args[1])
				if err != nil {
					return err
				}
				defer f.Close()
				e, err := call[gen.Evidence](c, func(a *api.Client) (*http.Response, error) {
					return a.AddEvidenceWithBody(ctx, ch.Id, &gen.AddEvidenceParams{Step: *step, Name: filepath.Base(args[1])}, "application/octet-stream", f)
				})
				if err != nil {
					return err
				}
				return c.show(e, func() { c.printf("Attached %s, %d bytes, to step %d of change %d.\n", e.Name, e.Size, e.Step, ch.Id) })
			}
		},
	},
	actionCommand("approve", "Approve a draft"),
	startCommand,
	actionCommand("arm", "Have an approved change start when its window opens"),
	actionCommand("pause", "Pause a change: a running one at its next safe point, a scheduled one at once"),
	actionCommand("resume", "Continue a paused change"),
	actionCommand("stop", "Cancel a change that is not running"),
	actionCommand("sign-off", "Confirm that the requested hand step is done"),
	actionCommand("accept", "Accept the warnings that the change asks about"),
	actionCommand("retry", "Try the failed step again"),
	actionCommand("go-back", "Roll back along the declared way back"),
	actionCommand("leave", "End the change and leave the device as it is"),
	{
		name: "change watch", args: "CHANGE", short: "Watch a change until it ends", min: 1, max: 1, example: "change watch 1",
		long: "On a terminal it draws the steps with progress, expected range and elapsed time; in a pipe it prints a line a step.\nIt ends when the change ends or needs a person. A change that was not started is not waited for: it says how to start it. While\nthe service is away it keeps trying, and says so. It exits 0 when the change is done and 1 otherwise.",
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
		name: "change verdict", args: "CHANGE", short: "Show the verdict of a change with its evidence", min: 1, max: 1, example: "change verdict 1",
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
		name: "change journal", args: "CHANGE", short: "Show the journal of a change", min: 1, max: 1, example: "change journal 1",
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
						rows = append(rows, []string{c.hour(e.At), step, e.Event, e.Detail})
					}
					table(c.out, rows)
				})
			}
		},
	},
}

// attached lists what is attached to a change, or writes one of it to a file that is not there yet.
func (c *client) attached(ctx context.Context, id, get int64, out string) error {
	l, err := call[gen.EvidenceList](c, func(a *api.Client) (*http.Response, error) { return a.ListEvidence(ctx, id) })
	if err != nil {
		return err
	}
	if get == 0 {
		return c.show(l.Items, func() {
			rows := [][]string{{"NUMBER", "STEP", "NAME", "BYTES", "BY", "AT"}}
			for _, e := range l.Items {
				rows = append(rows, []string{fmt.Sprint(e.Id), fmt.Sprint(e.Step), e.Name, fmt.Sprint(e.Size), e.AddedBy, c.when(e.AddedAt)})
			}
			table(c.out, rows)
		})
	}
	i := slices.IndexFunc(l.Items, func(e gen.Evidence) bool { return e.Id == get })
	if i < 0 {
		return fmt.Errorf("nothing with the number %d is attached to change %d", get, id)
	}
	if out == "" {
		out = filepath.Base(l.Items[i].Name)
	}
	data, err := call[string](c, func(a *api.Client) (*http.Response, error) { return a.GetEvidence(ctx, id, get) })
	if err != nil {
		return err
	}
	f, err := os.OpenFile(out, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(data)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	c.printf("Wrote %s, %d bytes.\n", out, len(data))
	return nil
}

// startCommand starts an approved change; with -now, before the time that was approved, which is another act: it has to be approved again.
var startCommand = command{
	name: "change start", args: "CHANGE", short: "Start an approved change", min: 1, max: 1, example: "change start 1",
	long: "With -now and a reason, the change does not wait for its approved time (restart-from, or the opening of its window). It has to be approved\nagain, and is then started or resumed.",
	setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
		now := fs.Bool("now", false, "do not wait for the approved time")
		reason := fs.String("reason", "", "why it has to go before its time; needed with -now")
		text := fs.String("text", "", "a remark")
		return func(ctx context.Context, c *client, args []string) error {
			switch {
			case *now && *reason == "":
				return errUsage{"-now needs a -reason"}
			case *now:
				return c.act(ctx, args[0], gen.ActionEarly, *reason)
			case *reason != "":
				return errUsage{"-reason goes with -now"}
			}
			return c.act(ctx, args[0], gen.ActionStart, *text)
		}
	},
}

// act carries out an action and tells how the change stands then.
func (c *client) act(ctx context.Context, arg string, action gen.Action, text string) error {
	id, err := changeID(arg)
	if err != nil {
		return err
	}
	ch, err := call[gen.Change](c, func(a *api.Client) (*http.Response, error) {
		return a.ActOnChange(ctx, id, action, gen.ActionWords{Text: optional(text)})
	})
	if err != nil {
		return err
	}
	return c.show(ch, func() { c.printStanding(ch) })
}

// printStanding tells how a change stands, and what can be done with it next.
func (c *client) printStanding(ch gen.Change) {
	c.printf("Change %d is %s.", ch.Id, c.standing(ch))
	switch {
	case slices.Contains(ch.Actions, gen.ActionApprove) && ch.State != gen.ChangeStateDraft:
		c.printf(" It has to be approved again: verimorph change approve %d", ch.Id)
	case ch.State == gen.ChangeStateDraft:
		c.printf(" Approve it with: verimorph change approve %d", ch.Id)
	case ch.State == gen.ChangeStateApproved:
		c.printf(" Start it with: verimorph change start %d", ch.Id)
		if slices.Contains(ch.Actions, gen.ActionArm) {
			c.printf(", or have it start when its window opens: verimorph change arm %d", ch.Id)
		}
	case ch.State == gen.ChangeStatePaused && slices.Contains(ch.Actions, gen.ActionResume):
		c.printf(" Go on with: verimorph change resume %d", ch.Id)
	case ch.State == gen.ChangeStateRunning || ch.State == gen.ChangeStatePausing:
		if ch.PausesAt != nil && ch.State == gen.ChangeStatePausing {
			c.printf(" Now %s.", resting(ch))
		}
		c.printf(" Watch it with: verimorph change watch %d", ch.Id)
	}
	c.printf("\n")
}

// standing tells how a change stands: what it rests for, because of whom, since when.
func (c *client) standing(ch gen.Change) string {
	since := ""
	if ch.StateSince != nil {
		since = " since " + c.when(*ch.StateSince)
	}
	switch {
	case ch.State == gen.ChangeStateScheduled && ch.WaitsUntil != nil:
		return "scheduled until " + c.when(*ch.WaitsUntil) + ", when it goes on by itself"
	case ch.State == gen.ChangeStatePaused && ch.PausedBy != nil:
		return "paused by " + *ch.PausedBy + since
	case ch.State == gen.ChangeStateAsking:
		return "asking" + since
	}
	return string(ch.State)
}

func actionCommand(action gen.Action, short string) command {
	return command{
		name: "change " + string(action), args: "CHANGE", short: short, min: 1, max: 1, example: "change " + string(action) + " 1",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			text := fs.String("text", "", "a reason, or what was seen")
			return func(ctx context.Context, c *client, args []string) error {
				return c.act(ctx, args[0], action, *text)
			}
		},
	}
}

// termFlags adds the flags of a change's terms.
func termFlags(fs *flag.FlagSet) func(context.Context, *client) (*gen.Terms, error) {
	from := fs.String("window-from", "", "`time` before which it does not start: 2026-11-24 02:00, or 02:00 for the next one")
	until := fs.String("window-until", "", "`time` at which it must be over, going back included")
	restart := fs.String("restart-from", "", "`time` before which the point of no return is not passed; what comes before it is done as soon as it starts")
	back := fs.String("back", "", "when it fails after the point of no return: offered or automatic; as the policy says when left out")
	return func(ctx context.Context, c *client) (*gen.Terms, error) {
		t := &gen.Terms{}
		if *from+*until+*restart != "" && c.zone == nil { // what is typed is meant in the zone in which everything is told
			if err := c.askZone(ctx); err != nil {
				return nil, err
			}
		}
		for _, x := range []struct {
			flag, text string
			into       **time.Time
		}{{"-window-from", *from, &t.WindowFrom}, {"-window-until", *until, &t.WindowTo}, {"-restart-from", *restart, &t.RestartFrom}} {
			if x.text == "" {
				continue
			}
			at, err := moment(x.text, c.in(time.Now()))
			if err != nil {
				return nil, errUsage{x.flag + ": " + err.Error()}
			}
			*x.into = &at
		}
		if t.WindowFrom != nil && t.WindowTo != nil && t.WindowTo.Before(*t.WindowFrom) && len(*until) <= 5 {
			*t.WindowTo = t.WindowTo.AddDate(0, 0, 1) // 23:00 until 02:00
		}
		if t.RestartFrom != nil && t.WindowTo != nil && t.WindowTo.Before(*t.RestartFrom) && len(*until) <= 5 {
			*t.WindowTo = t.WindowTo.AddDate(0, 0, 1)
		}
		if *back != "" {
			w := gen.TermsWayBack(*back)
			if !w.Valid() {
				return nil, errUsage{"-back is offered or automatic"}
			}
			t.WayBack = &w
		}
		return t, nil
	}
}

// moment reads a time: a date and a time, or a time alone for the next one.
func moment(text string, now time.Time) (time.Time, error) {
	for _, layout := range []string{"2006-01-02 15:04", "2006-01-02T15:04", time.RFC3339} {
		if at, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return at, nil
		}
	}
	at, err := time.ParseInLocation("15:04", text, now.Location())
	if err != nil {
		return at, fmt.Errorf("%q is no time; write 02:00 or 2026-11-24 02:00", text)
	}
	at = time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
	if !at.After(now) {
		at = at.AddDate(0, 0, 1)
	}
	return at, nil
}

// drafted drafts a change and tells what came of it.
func (c *client) drafted(ctx context.Context, wish gen.NewChange) error {
	ch, err := call[gen.Change](c, func(ac *api.Client) (*http.Response, error) {
		return ac.DraftChange(ctx, &gen.DraftChangeParams{IdempotencyKey: newKey()}, wish)
	})
	if err != nil {
		return err
	}
	return c.show(ch, func() { c.printDrafted(ch) })
}

func changeID(s string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id < 1 {
		return 0, errUsage{fmt.Sprintf("%q is not the number of a change", s)}
	}
	return id, nil
}

func changeCall(do func(context.Context, *api.Client, int64) (*http.Response, error), print func(*client,
	gen.Change)) func(*flag.FlagSet) func(context.Context, *client, []string) error {
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
