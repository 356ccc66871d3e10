package main

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// Units in stock.

var spareCommands = []command{
	{
		name: "spare list", args: "",
		short: "Units in stock, on their way and in service, and what comes next", max: 0,
		example: "spare list",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			all := fs.Bool("all", false, "also those that were retired")
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[items[gen.Spare]](c, func(a *api.Client) (*http.Response, error) { return a.ListSpares(ctx, &gen.ListSparesParams{All: all}) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() { c.printSpares(l.Items) })
			}
		},
	},
	{
		name: "spare overview", args: "",
		short: "Which unit would stand in for each device today, and which have none", max: 0,
		example: "spare overview -missing",
		long:    "It exits 1 when a device has no unit that fits, or one that holds an older configuration.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			missing := fs.Bool("missing", false, "only devices without a unit that is sure to do")
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[items[gen.SpareCover]](c, func(a *api.Client) (*http.Response, error) { return a.CoverSpares(ctx) })
				if err != nil {
					return err
				}
				open := 0
				rows := [][]string{{"SITE", "DEVICE", "MODEL", "SPARE", "UNIT", "WHY"}}
				for _, x := range l.Items {
					sure := x.State == gen.SpareCoverStatePrepared || x.State == gen.SpareCoverStateInStock
					if !sure {
						open++
					}
					if !sure || !*missing {
						rows = append(rows, []string{x.Site, x.Device, x.Model, string(x.State), value(x.Serial), x.Why})
					}
				}
				if err := c.show(l.Items, func() { table(c.out, rows) }); err != nil || open == 0 {
					return err
				}
				return errNo
			}
		},
	},
	{
		name: "spare add", args: "SERIAL",
		short: "Put a unit in stock", min: 1, max: 1,
		example: `spare add TH60-09001 -model TH-60 -place "store, shelf 2"`,
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			model, release := fs.String("model", "", "`model` of it"), fs.String("release", "", "`release` that it has")
			licences, place := fs.String("licences", "", "`classes` of its licences, with commas"), fs.String("place", "", "`place` where it lies")
			bench := fs.String("bench", "", "`device` by which it is reached on the bench, where there is a record of that already")
			return func(ctx context.Context, c *client, args []string) error {
				if *model == "" {
					return errUsage{"say its model, with -model"}
				}
				body := gen.NewSpare{Serial: args[0], Model: *model, Version: optional(*release), Place: optional(*place), Licences: list(*licences), Bench: optional(*bench)}
				return c.oneSpare(func(a *api.Client) (*http.Response, error) { return a.AddSpare(ctx, body) })
			}
		},
	},
	{
		name: "spare prepare", args: "SERIAL",
		short: "Draft bringing a unit to what a device at a site needs", min: 1, max: 1,
		example: "spare prepare TH60-09001 -for marrow-fw1 -bench bench-1",
		long: "The unit is reached on the bench by a record of its own (device add), with its address and its first password there. It gets the release and the configuration of the\n" +
			"newest backup of the device, converted if need be, and a password of ours. It is read back and compared; what hangs on cables is looked at in service.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			for_, bench := fs.String("for", "", "`device` at a site that it is to stand by for"), fs.String("bench", "", "`device` by which it is reached on the bench")
			to := fs.String("to", "", "`release`; that of the newest backup of the device when left out")
			same := fs.Bool("same-key", false, "the unit was given the key under which the device at the site writes its secrets")
			terms := termFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				if *for_ == "" || *bench == "" {
					return errUsage{"say which device it is for, with -for, and how it is reached on the bench, with -bench"}
				}
				body := gen.PrepareSpare{For: *for_, Bench: *bench, To: optional(*to), SameKey: same}
				var err error
				if body.Terms, err = terms(ctx, c); err != nil {
					return err
				}
				return c.draftedBy(func(a *api.Client) (*http.Response, error) {
					return a.PrepareSpare(ctx, args[0], &gen.PrepareSpareParams{IdempotencyKey: newKey()}, body)
				})
			}
		},
	},
	{
		name: "spare note", args: "SERIAL",
		short: "Write what travels with a unit: a label, and what somebody does with it at the site", min: 1, max: 1,
		example: "spare note TH60-09001 -o parcel.pdf",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			out := fs.String("o", "parcel.html", "`file` to write, .html or .pdf")
			return func(ctx context.Context, c *client, args []string) error {
				return c.writePaper(*out, func(a *api.Client, format gen.PaperFormat) (*http.Response, error) {
					return a.PrintSpare(ctx, args[0], &gen.PrintSpareParams{Format: &format})
				})
			}
		},
	},
	{
		name: "spare ship", args: "SERIAL",
		short: "Record that a prepared unit travels", min: 1, max: 1,
		example: "spare ship TH60-09001 -parcel RX-20881",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			parcel := fs.String("parcel", "", "`number` to follow it by")
			return func(ctx context.Context, c *client, args []string) error {
				return c.oneSpare(func(a *api.Client) (*http.Response, error) {
					return a.ShipSpare(ctx, args[0], gen.ShipSpareJSONRequestBody{Parcel: optional(*parcel)})
				})
			}
		},
	},
	{
		name: "spare swap", args: "SERIAL",
		short: "Draft that a prepared unit takes the place of the one at its site", min: 1, max: 1,
		example: "spare swap TH60-09001",
		long:    "Hands at the site move the cables. Then the device is this unit: its serial and its host key are those from the bench, and it is held against what the old unit did last.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			at := fs.String("address", "", "`host:port` at which it is found at the site; where the device is now when left out")
			terms := termFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				body := gen.SwapSpare{Address: optional(*at)}
				var err error
				if body.Terms, err = terms(ctx, c); err != nil {
					return err
				}
				return c.draftedBy(func(a *api.Client) (*http.Response, error) {
					return a.SwapSpare(ctx, args[0], &gen.SwapSpareParams{IdempotencyKey: newKey()}, body)
				})
			}
		},
	},
	{
		name: "spare back", args: "SERIAL",
		short: "Record that a unit that came out of service is back", min: 1, max: 1,
		example: `spare back TH60-05599 -place "bench"`,
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			place := fs.String("place", "", "`place` where it lies")
			return func(ctx context.Context, c *client, args []string) error {
				return c.oneSpare(func(a *api.Client) (*http.Response, error) {
					return a.ArriveSpare(ctx, args[0], gen.ArriveSpareJSONRequestBody{Place: optional(*place)})
				})
			}
		},
	},
	{
		name: "spare wiped", args: "SERIAL",
		short: "Look whether anything of what a unit did is still on it; then it is in stock again", min: 1, max: 1,
		example: `spare wiped TH60-05599 -bench bench-1`,
		long:    "The unit is in its factory state, and is reached on the bench by a record with its first password. Its configuration, users, keys and cable plan are compared with the newest backup of the\ndevice that it was. It exits 1 when something of that is still there, and says what.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			bench := fs.String("bench", "", "`device` by which it is reached on the bench")
			var same []string
			fs.Func("same", "`line` of a configuration that such a unit says in its factory state as well; may be repeated", func(line string) error {
				same = append(same, line)
				return nil
			})
			return func(ctx context.Context, c *client, args []string) error {
				if *bench == "" {
					return errUsage{"say how it is reached on the bench, with -bench"}
				}
				body := gen.WipedSpare{Bench: *bench}
				if len(same) > 0 {
					body.Same = &same
				}
				return c.oneSpare(func(a *api.Client) (*http.Response, error) { return a.WipedSpare(ctx, args[0], body) })
			}
		},
	},
	{
		name: "spare retire", args: "SERIAL",
		short: "Take a unit out of the stock for good", min: 1, max: 1,
		example: `spare retire TH60-05599 -because "its supply is broken"`,
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			why := fs.String("because", "", "`reason`, for the audit")
			return func(ctx context.Context, c *client, args []string) error {
				if strings.TrimSpace(*why) == "" {
					return errUsage{"say why, with -because"}
				}
				_, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) {
					return a.RetireSpare(ctx, args[0], gen.RetireSpareJSONRequestBody{Reason: *why})
				})
				return err
			}
		},
	},
}

// oneSpare makes a call that answers with a unit, and shows it.
func (c *client) oneSpare(ask func(*api.Client) (*http.Response, error)) error {
	x, err := call[gen.Spare](c, ask)
	if err != nil {
		return err
	}
	return c.show(x, func() { c.printSpares([]gen.Spare{x}) })
}

// draftedBy makes a call that drafts a change, and shows it.
func (c *client) draftedBy(ask func(*api.Client) (*http.Response, error)) error {
	ch, err := call[gen.Change](c, ask)
	if err != nil {
		return err
	}
	return c.show(ch, func() { c.printChange(ch) })
}

func (c *client) printSpares(all []gen.Spare) {
	rows := [][]string{{"SERIAL", "MODEL", "RELEASE", "STATE", "FOR", "PLACE", "NEXT"}}
	for _, x := range all {
		for_, state := value(x.For), strings.ReplaceAll(string(x.State), "-", " ")
		if x.Was != nil {
			for_ = "was " + *x.Was
		}
		if value(x.Stale) {
			state += ", out of date"
		}
		place := x.Place
		if x.Parcel != nil && x.State == gen.SpareStateShipped {
			place = "parcel " + *x.Parcel
		}
		rows = append(rows, []string{x.Serial, x.Model, x.Version, state, for_, place, x.Next})
	}
	table(c.out, rows)
	for _, x := range all {
		if x.Wiped != nil && len(all) == 1 {
			fmt.Fprintf(c.out, "Wiped: %s\n", *x.Wiped)
		}
	}
}
