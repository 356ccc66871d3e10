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
)

// Services that move from one gateway to another.

var serviceCommands = []command{
	{
		name: "service list", args: "DEVICE",
		short: "The services of a gateway, grouped, and where each stands", min: 1, max: 1,
		example: "service list control-sg1 -by protocol -search tickets -live",
		long: "They are those of its newest backup, or with -live those that it has now, with what it says of each.\n" +
			"here: on this gateway alone; both: another one serves it, and this one still has it; gone: taken off here.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			by := fs.String("by", "naming", "group by naming, address, policy, or a `statement` that services have, such as protocol")
			search := fs.String("search", "", "only those that say this `text` somewhere")
			live := fs.Bool("live", false, "ask the device")
			return func(ctx context.Context, c *client, args []string) error {
				l, err := call[gen.ServiceList](c, func(a *api.Client) (*http.Response, error) {
					return a.ListServices(ctx, args[0], &gen.ListServicesParams{By: by, Search: optional(*search), Live: live})
				})
				if err != nil {
					return err
				}
				return c.show(l, func() { c.printServices(l) })
			}
		},
	},
	{
		name: "service preview", args: "DEVICE SERVICES",
		short: "What putting services onto another gateway would do: every statement, and what stands in the way", min: 2, max: 2,
		example: "service preview control-sg1 tickets-web,tickets-api -to control-sg2 -rename tickets-front=shop-front",
		long:    "Both gateways are read, and nothing is written to either. Secrets go along sealed, and are never shown.\nIt exits 1 when it could not be drafted as it stands, and says why.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			wish := moveFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				w, err := wish(args)
				if err != nil {
					return err
				}
				return c.previewServices(ctx, w)
			}
		},
	},
	{
		name: "service move", args: "DEVICE SERVICES",
		short: "Draft putting services of a gateway onto another one", min: 2, max: 2,
		example: "service move control-sg1 tickets-web,tickets-api -to control-sg2 -use tickets-2026=shop-2027 -check https://203.0.113.100/alive",
		long: "They are put beside what the other gateway serves already. The first gateway keeps them, until they are taken off it by a change of its own (service withdraw).\n" +
			"The way back is the configuration that was there before.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			wish, terms := moveFlags(fs), termFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				w, err := wish(args)
				if err == nil {
					w.Terms, err = terms(ctx, c)
				}
				if err != nil {
					return err
				}
				return c.draftServices(ctx, w)
			}
		},
	},
	{
		name: "service convert", args: "DEVICE SERVICES",
		short: "Begin a conversion of services for another gateway, where that needs a person", min: 2, max: 2,
		example: "service convert control-sg1 tickets-old -to control-sg2",
		long:    "It is worked on as every conversion (conversion show, change, secrets); service move takes it by itself then. It exits 1 when something needs a person.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			wish := moveFlags(fs)
			byHand := fs.Bool("by-hand", false, "where no conversions lead there: carry over what is certain")
			return func(ctx context.Context, c *client, args []string) error {
				w, err := wish(args)
				if err != nil {
					return err
				}
				w.ByHand = byHand
				return c.conversion(func(a *api.Client) (*http.Response, error) {
					return a.ConvertServices(ctx, &gen.ConvertServicesParams{IdempotencyKey: newKey()}, w)
				})
			}
		},
	},
	{
		name: "service withdraw", args: "DEVICE SERVICES",
		short: "Draft taking services off a gateway that another one serves by now", min: 2, max: 2,
		example: "service withdraw control-sg1 tickets-web,tickets-api",
		long: "They go with what nothing else on the gateway needs. Before that it is looked whether each is up where it was put. The way back is the configuration that was there before.\n" +
			"With -preview nothing is drafted, and it exits 1 when it could not be.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			unproven := fs.Bool("unproven", false, "also services that no change put onto another gateway")
			preview := fs.Bool("preview", false, "only say what it would do")
			checks := checkFlag(fs)
			terms := termFlags(fs)
			return func(ctx context.Context, c *client, args []string) (err error) {
				w := gen.ServicesWish{Device: args[0], Services: separated(args[1]), Unproven: unproven, Checks: checks()}
				if *preview {
					return c.previewServices(ctx, w)
				}
				if w.Terms, err = terms(ctx, c); err != nil {
					return err
				}
				return c.draftServices(ctx, w)
			}
		},
	},
}

// pairsFlag is a flag of the form OLD=NEW that may be repeated.
func pairsFlag(fs *flag.FlagSet, name, usage string) map[string]string {
	out := map[string]string{}
	fs.Func(name, usage, func(s string) error {
		old, new, ok := strings.Cut(s, "=")
		if !ok || old == "" || new == "" {
			return errors.New("expected OLD=NEW")
		}
		out[old] = new
		return nil
	})
	return out
}

// checkFlag lists what has to answer afterwards.
func checkFlag(fs *flag.FlagSet) func() *[]string {
	var out []string
	fs.Func("check", "`target` that has to answer afterwards: an http or https URL, or tcp:HOST:PORT; may be repeated", func(s string) error {
		out = append(out, s)
		return nil
	})
	return func() *[]string {
		if len(out) == 0 {
			return nil
		}
		return &out
	}
}

// moveFlags are those that say which services go where, and how.
func moveFlags(fs *flag.FlagSet) func(args []string) (gen.ServicesWish, error) {
	to := fs.String("to", "", "`gateway` that they are put onto")
	rename := pairsFlag(fs, "rename", "`OLD=NEW` name of a service or object, or \"KIND OLD=NEW\"; may be repeated")
	use := pairsFlag(fs, "use", "`OURS=THEIRS`: an object, such as a certificate, that the other gateway has its own of; may be repeated")
	id := fs.Int64("conversion", 0, "`number` of a conversion that was worked out of them; the newest of the same services when left out")
	same := fs.Bool("same-key", false, "both gateways write secrets under the same key")
	checks := checkFlag(fs)
	return func(args []string) (w gen.ServicesWish, err error) {
		if *to == "" {
			return w, errUsage{"say onto which gateway they are put, with -to"}
		}
		w = gen.ServicesWish{Device: *to, From: &args[0], Services: separated(args[1]), SameKey: same, Checks: checks()}
		if len(rename) > 0 {
			w.Rename = &rename
		}
		if len(use) > 0 {
			w.Use = &use
		}
		if *id != 0 {
			w.Conversion = id
		}
		return w, nil
	}
}

func (c *client) draftServices(ctx context.Context, w gen.ServicesWish) error {
	return c.draftedBy(func(a *api.Client) (*http.Response, error) {
		return a.DraftServices(ctx, &gen.DraftServicesParams{IdempotencyKey: newKey()}, w)
	})
}

func (c *client) previewServices(ctx context.Context, w gen.ServicesWish) error {
	p, err := call[gen.ServicesPlan](c, func(a *api.Client) (*http.Response, error) { return a.PreviewServices(ctx, w) })
	if err != nil {
		return err
	}
	if err := c.show(p, func() { c.printServicesPlan(p) }); err != nil || len(p.Refusals) == 0 {
		return err
	}
	return errNo
}

// movingServices says in a few words what becomes of services.
func movingServices(ch gen.Change) string {
	names := ch.Services.Services
	text := strings.Join(names[:min(len(names), 4)], ", ")
	if n := len(names) - 4; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	if ch.Services.From == nil {
		return "no longer serves " + text
	}
	return "gets of " + *ch.Services.From + ": " + text
}

// standing says where a service stands.
func standing(x gen.ServiceStand) string {
	at := strings.TrimSpace(value(x.To) + " " + map[bool]string{true: "as " + value(x.As)}[value(x.As) != "" && value(x.As) != x.Name])
	switch x.Stands {
	case gen.ServiceStandsMoving:
		return fmt.Sprintf("to %s, by change %d", at, value(x.Put))
	case gen.ServiceStandsBoth:
		return fmt.Sprintf("on %s as well, by change %d", at, value(x.Put))
	case gen.ServiceStandsWithdrawing:
		return fmt.Sprintf("taken off by change %d", value(x.Off))
	case gen.ServiceStandsGone:
		return strings.TrimSuffix(fmt.Sprintf("taken off by change %d, on %s", value(x.Off), at), ", on ")
	case gen.ServiceStandsUnclear:
		return fmt.Sprintf("change %d failed; look at it", max(value(x.Put), value(x.Off)))
	case gen.ServiceStandsHere:
	}
	return ""
}

func (c *client) printServices(l gen.ServiceList) {
	rows := [][]string{{"GROUP", "SERVICE", "ADDRESS", "POLICY", "UP", "STANDS", ""}}
	for _, g := range l.Groups {
		name := g.Name
		for _, x := range g.Services {
			up := "?"
			if x.Up != nil {
				up = map[bool]string{true: "yes", false: "no"}[*x.Up]
			}
			rows = append(rows, []string{name, x.Name, x.Address, x.Policy, up, string(x.Stands), standing(x)})
			name = ""
		}
	}
	table(c.out, rows)
	var parts []string
	for _, s := range []gen.ServiceStands{gen.ServiceStandsHere, gen.ServiceStandsMoving, gen.ServiceStandsBoth, gen.ServiceStandsWithdrawing, gen.ServiceStandsGone, gen.ServiceStandsUnclear} {
		if n := l.Counts[string(s)]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, s))
		}
	}
	c.printf("%s: %s. By %s, of %s\n", l.Device, strings.Join(parts, ", "), l.Source, l.At.UTC().Format("2006-01-02 15:04 MST"))
}

func (c *client) printServicesPlan(p gen.ServicesPlan) {
	title := fmt.Sprintf("Taken off %s (%s)", p.Device, p.At)
	if p.From != nil {
		title = fmt.Sprintf("From %s (%s) onto %s (%s)", *p.From, value(p.SourceAt), p.Device, p.At)
	}
	c.printf("%s\n", c.paint(bold, title))
	rows := [][]string{{"SERVICE", "LINE", "AS", "UP", "ADDRESS", "POLICY"}}
	for _, x := range p.Services {
		up := "?"
		if x.Up != nil {
			up = map[bool]string{true: "yes", false: "no"}[*x.Up]
		}
		rows = append(rows, []string{x.Name, fmt.Sprint(x.Line), value(x.As), up, x.Address, x.Policy})
	}
	table(c.out, rows)
	if len(p.Needs) > 0 {
		c.printf("\n")
		rows = [][]string{{"WITH THEM", "NAME", "LINE", ""}}
		for _, n := range p.Needs {
			rows = append(rows, []string{n.Kind, n.Name, fmt.Sprint(n.Line), map[bool]string{true: "others there need it, too"}[n.Shared]})
		}
		table(c.out, rows)
	}
	if len(p.Differences) > 0 {
		c.printf("\n%s\n", c.paint(bold, "What will be other on "+p.Device))
		c.printDifferences(p.Differences)
	}
	if len(p.Sealed) > 0 {
		c.printf("\nSecrets that go along sealed: %s\n", wrap(strings.Join(p.Sealed, ", "), 110, "  "))
	}
	holder := p.Device
	if p.From != nil {
		holder = *p.From
	}
	c.printf("\n%s has %s afterwards.\n", holder, count(len(p.Remains), "service"))
	for _, n := range p.Notes {
		c.printf("! %s\n", wrap(n, 110, "  "))
	}
	if len(p.Refusals) > 0 {
		c.printf("\nIt cannot be drafted yet:\n")
		for _, r := range p.Refusals {
			c.printf("  - %s\n", r)
		}
	}
}
