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

var ensembleCommands = []command{
	{
		name: "ensemble list", short: "List the ensembles: devices that depend on each other", example: "ensemble list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[gen.EnsembleList](c, func(a *api.Client) (*http.Response, error) { return a.ListEnsembles(ctx) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"ENSEMBLE", "KIND", "MEMBER", "ROLE", "VERSION", "SYNC", "CHANGE"}}
					for _, e := range l.Items {
						for i, m := range e.Members {
							row := []string{"", "", m.Device, roleOf(m.Role), value(m.Version), synced(m), ""}
							if i == 0 {
								row[0], row[1] = e.Name, string(e.Kind)
								if e.OpenChange != nil {
									row[6] = fmt.Sprint(*e.OpenChange)
								}
							}
							rows = append(rows, row)
						}
					}
					table(c.out, rows)
					for _, e := range l.Items {
						c.printFindings(e)
					}
				})
			}
		},
	},
	{
		name: "ensemble show", args: "ENSEMBLE", short: "Show an ensemble with its members, as they were last seen", min: 1, max: 1, example: "ensemble show vesterkai-fw",
		long: "It exits 1 when something speaks against what is declared.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				e, err := call[gen.Ensemble](c, func(a *api.Client) (*http.Response, error) { return a.GetEnsemble(ctx, args[0]) })
				if err != nil {
					return err
				}
				if err := c.show(e, func() { c.printEnsemble(e) }); err != nil {
					return err
				}
				for _, f := range e.Findings {
					if f.Wrong {
						return errNo
					}
				}
				return nil
			}
		},
	},
	{
		name: "ensemble find", short: "Find ensembles from what the devices say", example: "ensemble find",
		long: "What is declared just so already is left out. With -declare, those without doubts are declared under the names that are proposed.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			declare := fs.Bool("declare", false, "declare those without doubts")
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[gen.FoundEnsembleList](c, func(a *api.Client) (*http.Response, error) { return a.FindEnsembles(ctx) })
				if err != nil {
					return err
				}
				for _, f := range l.Items {
					if !*declare || len(f.Doubts) > 0 {
						continue
					}
					if _, err := call[gen.Ensemble](c, func(a *api.Client) (*http.Response, error) {
						return a.DeclareEnsemble(ctx, f.Name, gen.EnsembleDeclaration{Kind: f.Kind, Devices: f.Devices})
					}); err != nil {
						return err
					}
				}
				return c.show(l.Items, func() { c.printFound(l.Items, *declare) })
			}
		},
	},
	{
		name: "ensemble declare", args: "ENSEMBLE DEVICE...", short: "Say which devices form an ensemble", min: 3, max: 9, example: "ensemble declare vesterkai-fw vesterkai-fw1 vesterkai-fw2",
		long: "One of that name gets these members instead. What the devices say otherwise is shown, and stops a change of the ensemble.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			kind := fs.String("kind", "pair", "pair or cluster")
			return func(ctx context.Context, c *client, args []string) error {
				e, err := call[gen.Ensemble](c, func(a *api.Client) (*http.Response, error) {
					return a.DeclareEnsemble(ctx, args[0], gen.EnsembleDeclaration{Kind: gen.EnsembleKind(*kind), Devices: args[1:]})
				})
				if err != nil {
					return err
				}
				return c.show(e, func() { c.printEnsemble(e) })
			}
		},
	},
	{
		name: "ensemble delete", args: "ENSEMBLE", short: "Forget an ensemble; its devices stay", min: 1, max: 1, example: "ensemble delete vesterkai-fw",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				if _, err := call[string](c, func(a *api.Client) (*http.Response, error) { return a.DeleteEnsemble(ctx, args[0]) }); err != nil {
					return err
				}
				return c.show(map[string]string{"deleted": args[0]}, func() { c.printf("Forgot ensemble %s; its devices stay.\n", args[0]) })
			}
		},
	},
}

func (c *client) printEnsemble(e gen.Ensemble) {
	c.printf("%s  %s, declared by %s %s\n", c.paint(bold, e.Name), e.Kind, e.CreatedBy, c.when(e.CreatedAt))
	rows := [][]string{{"  MEMBER", "ROLE", "MODEL", "VERSION", "SERIAL", "SYNC"}}
	for _, m := range e.Members {
		rows = append(rows, []string{"  " + m.Device, roleOf(m.Role), value(m.Model), value(m.Version), value(m.Serial), synced(m)})
	}
	table(c.out, rows)
	if e.OpenChange != nil {
		c.printf("  change %d works on it\n", *e.OpenChange)
	}
	c.printFindings(e)
}

// printFindings tells what speaks against an ensemble as it is declared.
func (c *client) printFindings(e gen.Ensemble) {
	for _, f := range e.Findings {
		mark := c.paint(yellow, "! doubt")
		if f.Wrong {
			mark = c.paint(red, "x wrong")
		}
		c.printf("%s  %s: %s\n         to do: %s\n", mark, e.Name, wrap(f.Text, 110, "         "), f.Remedy)
	}
}

func (c *client) printFound(found []gen.FoundEnsemble, declared bool) {
	if len(found) == 0 {
		c.printf("No device says that it belongs to an ensemble which is not declared. Roles are as they were last seen: refresh devices first.\n")
		return
	}
	for _, f := range found {
		c.printf("%s of %s\n", f.Kind, strings.Join(f.Devices, ", "))
		for _, d := range f.Doubts {
			c.printf("  %s %s\n", c.paint(yellow, "! doubt:"), wrap(d, 110, "    "))
		}
		kind := ""
		if f.Kind != gen.Pair {
			kind = " -kind " + string(f.Kind)
		}
		switch {
		case len(f.Doubts) > 0:
			c.printf("  clear that up first; else declare it by hand\n")
		case declared:
			c.printf("  declared as %s\n", f.Name)
		default:
			c.printf("  declare it with: verimorph ensemble declare%s %s %s\n", kind, f.Name, strings.Join(f.Devices, " "))
		}
	}
}

// roleOf is what a device says of its role.
func roleOf(role *string) string {
	if role == nil || *role == "" {
		return "not known"
	}
	return *role
}

// synced is how far a member mirrors the active one, and whether it could take over.
func synced(m gen.EnsembleMember) string {
	could := "not known"
	if m.InSync != nil {
		could = map[bool]string{true: "in sync", false: "not in sync"}[*m.InSync]
	}
	if s := value(m.Sync); s != "" {
		return could + ": " + s
	}
	return could
}
