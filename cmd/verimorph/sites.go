package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

var siteCommands = []command{
	{
		name: "site list", short: "The makers' release sites", example: "site list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[items[gen.Site]](c, func(a *api.Client) (*http.Response, error) { return a.ListSites(ctx) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"SITE", "ADDRESS", "USER", "MAKER", "CONTRACT UNTIL", "TROUBLE"}}
					for _, s := range l.Items {
						rows = append(rows, []string{s.Name, s.Url, s.User, s.Maker, value(s.ContractEnds), value(s.Trouble)})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "site set", args: "NAME", short: "Add or change a release site", min: 1, max: 1, example: "site set ostrevin -url https://releases.example -user C-1042 -maker Ostrevin",
		long: "The password of the support contract is read from the terminal, or from standard input. It is never shown again.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			url := fs.String("url", "", "`URL` of the site")
			user := fs.String("user", "", "`number` of the support contract")
			maker := fs.String("maker", "", "whose images it has; left out for all")
			return func(ctx context.Context, c *client, args []string) error {
				if *url == "" || *user == "" {
					return errUsage{"-url and -user are needed"}
				}
				password, err := askPassword(c, "Password: ")
				if err != nil {
					return err
				}
				s, err := call[gen.Site](c, func(a *api.Client) (*http.Response, error) {
					return a.SetSite(ctx, args[0], gen.NewSite{Url: *url, User: *user, Password: password, Maker: optional(*maker)})
				})
				if err != nil {
					return err
				}
				return c.show(s, func() { c.printf("Release site %s is set\n", s.Name) })
			}
		},
	},
	{
		name: "site files", args: "NAME", short: "What a release site offers now", min: 1, max: 1, example: "site files tarnholm",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				l, err := call[items[gen.SiteFile]](c, func(a *api.Client) (*http.Response, error) { return a.ListSiteFiles(ctx, args[0]) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"FILE", "SIZE", "SIGNED", "HERE", "SHA-256", ""}}
					for _, f := range l.Items {
						rows = append(rows, []string{f.File, mib(f.Size), map[bool]string{true: "yes", false: "-"}[f.Signed], map[bool]string{true: "yes", false: "-"}[f.There], f.Sha256[:min(16, len(f.Sha256))], f.Text})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "site delete", args: "NAME", short: "Delete a release site", min: 1, max: 1, example: "site delete ostrevin",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				_, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.DeleteSite(ctx, args[0]) })
				return err
			}
		},
	},
}

var advisoryCommands = []command{
	{
		name: "advisory import", args: "FILE...", short: "Import security advisories (CSAF 2.0)", min: 1, max: -1, example: "advisory import demo/advisories/tar-2026-01.json",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				done := []gen.Advisory{}
				for _, name := range args {
					data, err := os.ReadFile(name)
					if err != nil {
						return err
					}
					if !json.Valid(data) {
						fmt.Fprintf(c.err, "verimorph advisory import: %s is not JSON\n", name)
						return errNo
					}
					a, err := call[gen.Advisory](c, func(ac *api.Client) (*http.Response, error) {
						return ac.AddAdvisoryWithBody(ctx, "application/json", strings.NewReader(string(data)))
					})
					if err != nil {
						return err
					}
					done = append(done, a)
					if !c.json {
						c.printf("%s  %s; %s affected\n", a.Id, a.Title, count(a.Affected, "device"))
					}
				}
				if c.json {
					return c.printJSON(done)
				}
				return nil
			}
		},
	},
	{
		name: "advisory list", short: "Security advisories and how many devices they affect", example: "advisory list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[advisories](c, func(a *api.Client) (*http.Response, error) { return a.ListAdvisories(ctx) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"ADVISORY", "SEVERITY", "FAMILIES", "AFFECTED", "TITLE"}}
					for _, a := range l.Items {
						rows = append(rows, []string{a.Id, a.Severity, strings.Join(a.Families, ", "), count(a.Affected, "device"), a.Title})
					}
					table(c.out, rows)
					for _, u := range l.Unusable {
						c.printf("! %s cannot be used, so it says nothing about any device: %s\n", u.ID, u.Why)
					}
				})
			}
		},
	},
	{
		name: "advisory show", args: "ADVISORY", short: "Which devices an advisory affects, what fixes it and the path there", min: 1, max: 1, example: "advisory show TAR-2026-01",
		long: "It exits 1 when a device is affected.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				d, err := call[gen.AdvisoryDetail](c, func(a *api.Client) (*http.Response, error) { return a.GetAdvisory(ctx, args[0]) })
				if err != nil {
					return err
				}
				err = c.show(d, func() { c.printAdvisory(d) })
				if err == nil && d.Advisory.Affected > 0 {
					err = errNo
				}
				return err
			}
		},
	},
	{
		name: "advisory delete", args: "ADVISORY", short: "Delete an advisory", min: 1, max: 1, example: "advisory delete TAR-2026-01",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				_, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.DeleteAdvisory(ctx, args[0]) })
				return err
			}
		},
	},
}

// advisories is the list of advisories, and of stored documents that cannot be used.
type advisories struct {
	Items    []gen.Advisory
	Unusable []struct{ ID, Why string }
}

func (c *client) printAdvisory(d gen.AdvisoryDetail) {
	a := d.Advisory
	c.printf("%s  %s\n%s, %s, released %s\n", c.paint(bold, a.Id), a.Title, a.Severity, a.Publisher, a.Released)
	if a.Summary != "" {
		c.printf("%s\n", wrap(a.Summary, 110, ""))
	}
	by := map[string][]string{}
	for _, r := range d.Releases {
		by[r.Status] = append(by[r.Status], r.Version)
	}
	c.printf("\n")
	for _, status := range []string{"affected", "fixed", "not affected", "under investigation"} {
		if len(by[status]) > 0 {
			c.printf("%-20s %s\n", status, wrap(strings.Join(by[status], ", "), 88, strings.Repeat(" ", 21)))
		}
	}
	for _, says := range d.Says {
		c.printf("%-20s %s\n", "", wrap(says, 88, strings.Repeat(" ", 21)))
	}
	c.printf("\n")
	rows := [][]string{{"DEVICE", "MODEL", "RUNS", "STATUS", "WAY OUT"}}
	for _, x := range d.Devices {
		way := value(x.Why)
		if x.Stops != nil {
			way = x.Version + " > " + strings.Join(*x.Stops, " > ")
		}
		rows = append(rows, []string{x.Device, x.Model, x.Version, x.Status, way})
	}
	table(c.out, rows)
}
