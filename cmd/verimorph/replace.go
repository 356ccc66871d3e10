package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/core/convert"
)

// Devices that take the place of others.

var replaceCommands = []command{
	{
		name: "replace preview", args: "NEW",
		short: "What it takes to put a device of another model in the place of one", min: 1, max: 1,
		example: "replace preview hollen-fw2 -old hollen-fw1 -to preferred",
		long:    "Nothing is written to either device. It exits 1 when the replacement could not be drafted as it stands, and says why.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			wish := replaceFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				w, err := wish(ctx, c, args[0])
				if err != nil {
					return err
				}
				p, err := call[gen.ReplacementPreview](c, func(a *api.Client) (*http.Response, error) { return a.PreviewReplacement(ctx, w) })
				if err != nil {
					return err
				}
				if err := c.show(p, func() { c.printReplacement(p) }); err != nil || len(p.Refusals) == 0 {
					return err
				}
				return errNo
			}
		},
	},
	{
		name: "replace draft", args: "NEW",
		short: "Draft putting a device of another model in the place of one", min: 1, max: 1,
		example: "replace draft hollen-fw2 -old hollen-fw1 -to preferred -conversion 4",
		long: "NEW is in the records with its first address and its first password (device add). It is brought to its release, gets the converted configuration of the old device, then\n" +
			"hands move the cables, step by step, and what was read of the old device is held against the new one.\n" +
			"The old device is not written to, and is kept as the way back until it is released.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			wish := replaceFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				w, err := wish(ctx, c, args[0])
				if err != nil {
					return err
				}
				ch, err := call[gen.Change](c, func(a *api.Client) (*http.Response, error) {
					return a.DraftReplacement(ctx, &gen.DraftReplacementParams{IdempotencyKey: newKey()}, w)
				})
				if err != nil {
					return err
				}
				return c.show(ch, func() { c.printChange(ch) })
			}
		},
	},
	{
		name: "replace list", args: "[DEVICE]",
		short: "Devices that take the place of others, and which old ones are kept", max: 1,
		example: "replace list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				p := &gen.ListReplacementsParams{}
				if len(args) == 1 {
					p.Device = &args[0]
				}
				l, err := call[items[gen.Replacement]](c, func(a *api.Client) (*http.Response, error) { return a.ListReplacements(ctx, p) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"CHANGE", "NEW", "MODEL", "IN THE PLACE OF", "MODEL", "STATE", "THE OLD ONE"}}
					for _, r := range l.Items {
						rows = append(rows, []string{fmt.Sprint(r.Change), r.New, r.NewModel, r.Old, r.OldModel, string(r.State), oldOne(&r)})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "replace sheet", args: "CHANGE",
		short: "Write what somebody takes along to the rack: cables, tasks, and how to undo them", min: 1, max: 1,
		example: "replace sheet 12 -o rack.pdf",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			out := fs.String("o", "rack.html", "`file` to write, .html or .pdf")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "change")
				if err != nil {
					return err
				}
				return c.writePaper(*out, func(a *api.Client, format gen.PaperFormat) (*http.Response, error) {
					return a.PrintReplacement(ctx, id, &gen.PrintReplacementParams{Format: &format})
				})
			}
		},
	},
	{
		name: "replace back", args: "CHANGE",
		short: "Draft that the old device of a replacement serves again", min: 1, max: 1,
		example: "replace back 12",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "change")
				if err != nil {
					return err
				}
				ch, err := call[gen.Change](c, func(a *api.Client) (*http.Response, error) {
					return a.PutBackReplaced(ctx, id, &gen.PutBackReplacedParams{IdempotencyKey: newKey()})
				})
				if err != nil {
					return err
				}
				return c.show(ch, func() { c.printChange(ch) })
			}
		},
	},
	{
		name: "replace release", args: "CHANGE",
		short: "Give the old device of a replacement free; it is the way back no longer", min: 1, max: 1,
		example: `replace release 12 -because "a month without trouble"`,
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			why := fs.String("because", "", "`reason`, for the audit")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "change")
				if err != nil {
					return err
				}
				if strings.TrimSpace(*why) == "" {
					return errUsage{"say why, with -because"}
				}
				r, err := call[gen.Replacement](c, func(a *api.Client) (*http.Response, error) {
					return a.ReleaseReplaced(ctx, id, gen.ReleaseReplacedJSONRequestBody{Reason: *why})
				})
				if err != nil {
					return err
				}
				return c.show(r, func() { c.printf("%s is released.\n", r.Old) })
			}
		},
	},
	{
		name: "conversion secrets", args: "CONVERSION",
		short: "Type in again what is written under a key of the old device", min: 1, max: 1,
		example: "conversion secrets 4",
		long:    "Each secret that is open is asked for, or read from standard input, one a line. It is sealed at once and never shown.\nWith -same-key both devices have the same key, and nothing is typed.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			same := fs.Bool("same-key", false, "both devices have the same key")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "conversion")
				if err != nil {
					return err
				}
				x, err := call[gen.Conversion](c, func(a *api.Client) (*http.Response, error) { return a.GetConversion(ctx, id) })
				if err != nil {
					return err
				}
				answers, err := askSecrets(c, &x, *same)
				if err != nil {
					return err
				}
				return c.conversion(func(a *api.Client) (*http.Response, error) {
					return a.ChangeConversion(ctx, id, gen.ConversionChange{Answers: &answers})
				})
			}
		},
	},
}

// askSecrets asks for every secret of a conversion that is open.
func askSecrets(c *client, x *gen.Conversion, same bool) (map[string]string, error) {
	answers := map[string]string{}
	if same {
		answers[convert.OwnKey] = convert.SameKey
		return answers, nil
	}
	for _, row := range x.Ledger.Source {
		if string(value(row.Ask)) != convert.AskSecret {
			continue
		}
		text, err := askPassword(c, fmt.Sprintf("%s, line %d: ", row.Path, row.Line))
		if err != nil {
			return nil, err
		}
		if text == "" {
			return nil, fmt.Errorf("%s: nothing was typed, so nothing was changed", row.Path)
		}
		answers["secret @ "+row.Path] = text
	}
	if len(answers) == 0 {
		return nil, errors.New("no secret of this conversion is open")
	}
	return answers, nil
}

// replaceFlags are what is said of a replacement.
func replaceFlags(fs *flag.FlagSet) func(ctx context.Context, c *client, device string) (gen.NewReplacement, error) {
	old := fs.String("old", "", "`name` of the device whose place it takes")
	to := fs.String("to", "", "`version` that the new one is to run: one of the catalogue, preferred, newest or train:T; by default it stays on its release")
	conversion := fs.Int64("conversion", 0, "`number` of a conversion that was worked out; by default what was worked out of the old one's configuration as it is now, else the rules alone")
	dead := fs.Bool("dead", false, "the old one does not answer: its newest backup is converted")
	own := fs.Bool("own-address", false, "the new one is managed at an address of its own")
	at := fs.String("comes-back-at", "", "`host:port` at which the new one is managed once it is started anew; by default that of the old one")
	serial := fs.String("serial", "", "`serial` that the new one has to have")
	keep := fs.Bool("keep-defaults", false, "what the new one says by itself is kept beside the converted configuration")
	keepPassword := fs.Bool("keep-password", false, "its first password stays")
	licences := licenceFlag(fs)
	terms := termFlags(fs)
	return func(ctx context.Context, c *client, device string) (w gen.NewReplacement, err error) {
		if *old == "" {
			return w, errUsage{"whose place does it take? Say it with -old"}
		}
		w = gen.NewReplacement{Device: device, Old: *old, To: optional(*to), Dead: dead, OwnAddress: own, ComesBackAt: optional(*at), Serial: optional(*serial), KeepPassword: keepPassword}
		if *conversion != 0 {
			w.Conversion = conversion
		}
		if *keep {
			w.Defaults = new(gen.Keep)
		}
		if w.Licences, err = licenceKeys(*licences); err != nil {
			return w, err
		}
		w.Terms, err = terms(ctx, c)
		return w, err
	}
}

func isReplacement(ch gen.Change) bool {
	return ch.Kind == gen.ChangeKindReplace || ch.Kind == gen.ChangeKindPutBack
}

// replacing says who takes whose place.
func replacing(ch gen.Change) string {
	if ch.Kind == gen.ChangeKindPutBack {
		return "serves again"
	}
	if ch.Members == nil || len(*ch.Members) != 2 {
		return "takes the place of another device"
	}
	return fmt.Sprintf("takes the place of %s, with %s", (*ch.Members)[1].Device, ch.To)
}

// oldOne says what became of the device that was replaced.
func oldOne(r *gen.Replacement) string {
	switch {
	case r.PutBack != nil:
		return fmt.Sprintf("serves again, by change %d", *r.PutBack)
	case r.ReleasedAt != nil:
		return "was released " + ago(*r.ReleasedAt) + " by " + value(r.ReleasedBy)
	case r.Kept:
		return "is kept: the way back"
	}
	return ""
}

func (c *client) printReplacement(p gen.ReplacementPreview) {
	c.printf("%s\n", c.paint(bold, fmt.Sprintf("%s (%s) in the place of %s (%s)", p.New, p.To, p.Old, p.From)))
	c.printf("Configuration: %s%s\n", p.Source, map[bool]string{true: fmt.Sprintf(", worked out in conversion %d", value(p.Conversion))}[p.Conversion != nil])
	if len(p.Support) > 0 {
		rows := [][]string{{"SECTION", "CARRIES OVER", "CHANGES", "DOES NOT", "OPEN"}}
		for _, s := range p.Support {
			rows = append(rows, []string{s.Section, fmt.Sprint(s.Carries), fmt.Sprint(s.Changes), fmt.Sprint(s.Not), fmt.Sprint(s.Person)})
		}
		table(c.out, rows)
		for _, s := range p.Support {
			for _, w := range s.Reasons {
				mark := map[bool]string{true: "?", false: "-"}[w.Person]
				c.printf("%s %s: %s (%s, the first in line %d, %s)\n", mark, s.Section, w.Text, count(w.Count, "statement"), w.Line, w.First)
			}
		}
	}
	if len(p.Cables) > 0 {
		c.printf("\n")
		rows := [][]string{{"CABLE FROM", "LABEL", "TO", ""}}
		for _, x := range p.Cables {
			note := value(x.LeftOut)
			if value(x.Folded) {
				note = "together with another one"
			}
			to := value(x.To)
			if to == "" {
				to = "-"
			}
			rows = append(rows, []string{x.From, value(x.Label), to, note})
		}
		table(c.out, rows)
	}
	for _, s := range p.Secrets {
		c.printf("? secret under a key of %s: %s\n", p.Old, s)
	}
	if len(p.Defaults) > 0 {
		c.printf("\n%s says by itself, and it goes unless it is kept (-keep-defaults):\n", p.New)
		for _, d := range p.Defaults {
			c.printf("  %s\n", strings.ReplaceAll(strings.TrimSpace(d.Text), "\n", "\n  "))
		}
	}
	for _, n := range p.Notes {
		c.printf("! %s\n", n)
	}
	if len(p.Refusals) > 0 {
		c.printf("\nIt cannot be drafted yet:\n")
		for _, r := range p.Refusals {
			c.printf("  - %s\n", r)
		}
	}
}
