package main

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

var readingCommands = []command{
	{
		name: "verify", args: "DEVICE", short: "Take readings now and compare them with earlier ones", min: 1, max: 1, example: "verify hollen-fw1 -before 12",
		long: "It needs no change. It exits 0 for pass, and 1 for degraded and fail.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			before := fs.Int64("before", 0, "`number` of the readings to compare with; the newest when left out")
			return func(ctx context.Context, c *client, args []string) error {
				wish := gen.VerifyWish{}
				if *before != 0 {
					wish.Before = before
				}
				r, err := call[gen.Comparison](c, func(a *api.Client) (*http.Response, error) { return a.VerifyDevice(ctx, args[0], wish) })
				if err != nil {
					return err
				}
				if err := c.show(r, func() {
					c.printf("%s now, %s, against readings %d of %s, %s\n", args[0], r.Now.Version, r.Before.Id, c.when(r.Before.At), r.Before.Version)
					c.printVerdict(gen.Change{Verdict: &r.Verdict})
				}); err != nil {
					return err
				}
				if r.Verdict.Verdict != gen.VerdictVerdictPass {
					return errNo
				}
				return nil
			}
		},
	},
	{
		name: "reading take", args: "DEVICE", short: "Take readings of a device now", min: 1, max: 1, example: "reading take hollen-fw1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				r, err := call[gen.ReadingSet](c, func(a *api.Client) (*http.Response, error) { return a.TakeReadings(ctx, args[0]) })
				if err != nil {
					return err
				}
				return c.show(r, func() {
					c.printf("Readings %d of %s, which runs %s\n", r.Id, args[0], r.Version)
					for _, m := range r.Readings {
						c.printf("  %-20s %s\n", m.Name, wrap(m.Value, 100, "                       "))
					}
				})
			}
		},
	},
	{
		name: "reading list", args: "DEVICE", short: "List the readings of a device", min: 1, max: 1, example: "reading list hollen-fw1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				sets, err := all(func(cursor *string) ([]gen.ReadingSet, *string, error) {
					p, err := call[gen.ReadingSetPage](c, func(a *api.Client) (*http.Response, error) {
						return a.ListReadings(ctx, args[0], &gen.ListReadingsParams{Cursor: cursor})
					})
					return p.Items, p.Next, err
				})
				if err != nil {
					return err
				}
				return c.show(sets, func() {
					rows := [][]string{{"READINGS", "TAKEN", "VERSION", "BY"}}
					for _, r := range sets {
						rows = append(rows, []string{fmt.Sprint(r.Id), c.when(r.At), r.Version, r.By})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "reading add", args: "FILE", short: "Add a reading with its expectation for a group of devices", min: 1, max: 1, example: "reading add -dialect tarnholm -group piers log-lines.yaml",
		long: "FILE holds one reading in the form of docs/formats/dialect.md. One of the same name is replaced.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			dialect := fs.String("dialect", "", "`name` of the dialect the devices speak")
			group := fs.String("group", "", "`name` of the group; every device of the dialect when left out")
			return func(ctx context.Context, c *client, args []string) error {
				if *dialect == "" {
					return errUsage{"-dialect is needed"}
				}
				text, err := os.ReadFile(args[0])
				if err != nil {
					return err
				}
				o, err := call[gen.OwnReading](c, func(a *api.Client) (*http.Response, error) {
					return a.PutOwnReading(ctx, gen.OwnReading{Dialect: *dialect, Group: optional(*group), Definition: string(text)})
				})
				if err != nil {
					return err
				}
				return c.show(o, func() { c.printf("Added reading %d, %s.\n", *o.Id, *o.Name) })
			}
		},
	},
	{
		name: "reading added", short: "List readings that were added to those of the dialects", example: "reading added",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[gen.OwnReadingList](c, func(a *api.Client) (*http.Response, error) { return a.ListOwnReadings(ctx) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"READING", "NAME", "DIALECT", "GROUP", "BY"}}
					for _, o := range l.Items {
						rows = append(rows, []string{fmt.Sprint(value(o.Id)), value(o.Name), o.Dialect, value(o.Group), value(o.AddedBy)})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "reading remove", args: "NUMBER", short: "Delete an added reading", min: 1, max: 1, example: "reading remove 3",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := strconv.ParseInt(args[0], 10, 64)
				if err != nil || id < 1 {
					return errUsage{fmt.Sprintf("%q is not the number of a reading", args[0])}
				}
				_, err = call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.DeleteOwnReading(ctx, id) })
				return err
			}
		},
	},
	{
		name: "change policy", short: "Show or set who approves changes, and what happens when one fails", example: "change policy -second-person -back automatic",
		long: "Without flags it shows the policy.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			second := fs.Bool("second-person", false, "somebody else than who drafted a change has to approve it; -second-person=false for no")
			back := fs.String("back", "", "offered or automatic")
			return func(ctx context.Context, c *client, _ []string) error {
				p, err := call[gen.ChangePolicy](c, func(a *api.Client) (*http.Response, error) { return a.GetChangePolicy(ctx) })
				if err != nil {
					return err
				}
				given := false
				fs.Visit(func(f *flag.Flag) {
					switch f.Name {
					case "second-person":
						p.SecondPerson, given = *second, true
					case "back":
						p.WayBack, given = gen.ChangePolicyWayBack(*back), true
					}
				})
				if given {
					if _, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.PutChangePolicy(ctx, p) }); err != nil {
						return err
					}
				}
				return c.show(p, func() {
					c.printf("Approval: %s.\nWhen a change fails after the point of no return, the way back is %s.\n",
						map[bool]string{true: "by somebody else than who drafted it", false: "by anybody"}[p.SecondPerson], map[gen.ChangePolicyWayBack]string{"offered": "offered", "automatic": "taken without asking"}[p.WayBack])
				})
			}
		},
	},
	{
		name: "device console", args: "DEVICE", short: "Show what was seen on a device's console line", min: 1, max: 1, example: "device console marrow-gauge1 -follow",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			follow := fs.Bool("follow", false, "go on as more comes")
			change := fs.Int64("change", 0, "only during this `change`")
			return func(ctx context.Context, c *client, args []string) error {
				var after int64
				for {
					p := &gen.ReadConsoleLogParams{After: &after}
					if *change != 0 {
						p.Change = change
					}
					l, err := call[gen.ConsoleLog](c, func(a *api.Client) (*http.Response, error) { return a.ReadConsoleLog(ctx, args[0], p) })
					if err != nil {
						return err
					}
					for _, piece := range l.Items {
						after = piece.Id
						if c.json {
							if err := c.printJSON(piece); err != nil {
								return err
							}
						} else {
							c.printf("%s", piece.Text)
						}
					}
					if len(l.Items) > 0 {
						continue
					}
					if !*follow {
						return nil
					}
					select {
					case <-ctx.Done():
						return nil
					case <-time.After(time.Second):
					}
				}
			}
		},
	},
}
