package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"net/http"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// reachFlags adds the flags that say how a device is reached; nil when none is given.
func reachFlags(fs *flag.FlagSet) func() *gen.Reach {
	console := fs.String("console", "", "`host:port` of its console line at a console server")
	only := fs.Bool("console-only", false, "the console line is the only way")
	via := fs.String("via", "", "`device` that is signed in to first; its SSH passes the connection on")
	enter := fs.String("enter", "", "`command` on that device that opens a session into this one, a module of it")
	return func() *gen.Reach {
		if *console == "" && *via == "" {
			return nil
		}
		return &gen.Reach{Console: console, Only: only, Via: via, Enter: enter}
	}
}

var deviceCommands = []command{
	{
		name: "device list", short: "The fleet", example: "device list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				devices, err := all(func(cursor *string) ([]gen.Device, *string, error) {
					p, err := call[gen.DevicePage](c, func(a *api.Client) (*http.Response, error) {
						return a.ListDevices(ctx, &gen.ListDevicesParams{Cursor: cursor})
					})
					return p.Items, p.Next, err
				})
				if err != nil {
					return err
				}
				return c.show(devices, func() {
					rows := [][]string{{"DEVICE", "SITE", "MODEL", "VERSION", "STANDS", "AS OF", "CHANGE"}}
					for _, d := range devices {
						row := []string{d.Name, d.Site, "not seen yet", "", "", "", ""}
						if p := d.Portrait; p != nil {
							row = []string{d.Name, d.Site, p.Model, p.Version, "", "", ""}
						}
						if st := d.Standing; st != nil {
							if row[4] = string(st.State); st.State == gen.DeviceStandingStateNoAnswer && d.Portrait != nil {
								row[4] += ", seen " + ago(d.Portrait.TakenAt)
							}
							if st.At != nil {
								row[5] = ago(*st.At)
							}
						}
						if d.OpenChange != nil {
							row[6] = fmt.Sprint(*d.OpenChange)
						}
						rows = append(rows, row)
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "device show", args: "DEVICE", short: "One device as it was last seen", min: 1, max: 1, example: "device show hollen-fw1",
		setup: deviceCall(func(ctx context.Context, a *api.Client, name string) (*http.Response, error) {
			return a.GetDevice(ctx, name)
		}),
	},
	{
		name: "device refresh", args: "DEVICE", short: "Ask a device what it is now", min: 1, max: 1, example: "device refresh hollen-fw1",
		long: "At the first contact the device's host key is pinned.",
		setup: deviceCall(func(ctx context.Context, a *api.Client, name string) (*http.Response, error) {
			return a.RefreshDevice(ctx, name)
		}),
	},
	{
		name: "device add", args: "DEVICE", short: "Add a device to the fleet", min: 1, max: 1,
		long:    "The password and, on a second line, the password of the privileged level are asked for, or read from standard input.",
		example: "device add hollen-fw1 -site \"Pier Hollen\" -address 127.61.0.11:2022 -dialect tarnholm -user bosun",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			site := fs.String("site", "", "where it stands")
			address := fs.String("address", "", "`host:port` of its SSH")
			dialect := fs.String("dialect", "", "`name` of the dialect it speaks")
			user := fs.String("user", "", "user to sign in as")
			hostKey := fs.String("host-key", "", "its host key in authorized-keys form, when it is known")
			transfer := fs.String("transfer", "sftp", "sftp: images are pushed; http, ftp, tftp or pull-sftp: the device fetches them")
			reach := reachFlags(fs)
			groups := fs.String("groups", "", "`names` of groups it belongs to, with commas")
			web := fs.String("web", "", "`URL` of its HTTP side; its token is asked for on a third line")
			return func(ctx context.Context, c *client, args []string) error {
				if *address == "" || *dialect == "" || *user == "" {
					return errUsage{"-address, -dialect and -user are needed"}
				}
				password, privileged, err := askPasswords(c)
				if err != nil {
					return err
				}
				var token string
				if *web != "" {
					if token, err = askPassword(c, "Token of its HTTP side: "); err != nil {
						return err
					}
				}
				d, err := call[gen.Device](c, func(a *api.Client) (*http.Response, error) {
					t := gen.Transfer(*transfer)
					return a.AddDevice(ctx, &gen.AddDeviceParams{IdempotencyKey: newKey()}, gen.NewDevice{
						Name: args[0], Site: site, Address: *address, Dialect: *dialect, User: *user, Password: password,
						PrivilegedPassword: &privileged, HostKey: optional(*hostKey), Transfer: &t, Groups: list(*groups), Web: optional(*web), Token: optional(token), Reach: reach(),
					})
				})
				if err != nil {
					return err
				}
				return c.show(d, func() { c.printf("Added %s. Look at it with: verimorph device refresh %s\n", d.Name, d.Name) })
			}
		},
	},
	{
		name: "device set", args: "DEVICE", short: "Change what is known about a device", min: 1, max: 1, example: "device set hollen-fw1 -groups piers,firewalls",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			groups := fs.String("groups", "", "`names` of groups it belongs to, with commas; - for none")
			web := fs.String("web", "", "`URL` of its HTTP side; - for none")
			transfer := fs.String("transfer", "", "sftp, http, ftp, tftp or pull-sftp")
			direct := fs.Bool("direct", false, "it is reached at its address, with no console line and no other device between")
			reach := reachFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				body := gen.SetDeviceJSONRequestBody{Reach: reach()}
				if *direct {
					body.Reach = &gen.Reach{}
				}
				if *transfer != "" {
					t := gen.Transfer(*transfer)
					body.Transfer = &t
				}
				if *groups != "" {
					body.Groups = list(strings.Trim(*groups, "-"))
					if body.Groups == nil {
						body.Groups = &[]string{}
					}
				}
				if *web != "" {
					w := strings.TrimPrefix(*web, "-")
					body.Web = &w
				}
				if body == (gen.SetDeviceJSONRequestBody{}) {
					return errUsage{"say what to change: -groups, -web, -transfer, -console, -via or -direct"}
				}
				d, err := call[gen.Device](c, func(a *api.Client) (*http.Response, error) { return a.SetDevice(ctx, args[0], body) })
				if err != nil {
					return err
				}
				return c.show(d, func() { c.printf("%s is in the groups: %s\n", d.Name, strings.Join(d.Groups, ", ")) })
			}
		},
	},
	{
		name: "device credentials", args: "DEVICE", short: "Replace a device's user and passwords", min: 1, max: 1, example: "device credentials hollen-fw1 -user bosun",
		long: "Those that let us in before are kept for the version in the device's other slot, where they still apply after going back.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			user := fs.String("user", "", "user to sign in as")
			return func(ctx context.Context, c *client, args []string) error {
				if *user == "" {
					return errUsage{"-user is needed"}
				}
				password, privileged, err := askPasswords(c)
				if err != nil {
					return err
				}
				_, err = call[struct{}](c, func(a *api.Client) (*http.Response, error) {
					return a.SetCredentials(ctx, args[0], gen.Credentials{User: *user, Password: password, PrivilegedPassword: &privileged})
				})
				return err
			}
		},
	},
	{
		name: "device forget-key", args: "DEVICE", short: "Forget a device's pinned host key", min: 1, max: 1, example: "device forget-key hollen-fw1",
		long: "Do this only when the device was replaced or reinstalled: the next contact pins the key it finds.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				_, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.ForgetHostKey(ctx, args[0]) })
				return err
			}
		},
	},
}

func deviceCall(do func(context.Context, *api.Client, string) (*http.Response, error)) func(*flag.FlagSet) func(context.Context, *client, []string) error {
	return func(*flag.FlagSet) func(context.Context, *client, []string) error {
		return func(ctx context.Context, c *client, args []string) error {
			d, err := call[gen.Device](c, func(a *api.Client) (*http.Response, error) { return do(ctx, a, args[0]) })
			if err != nil {
				return err
			}
			return c.show(d, func() { c.printDevice(d) })
		}
	}
}

// known is one text for yes, for no, and for what nobody knows.
func known(b *bool, yes, no, unknown string) string {
	switch {
	case b == nil:
		return unknown
	case *b:
		return yes
	}
	return no
}

// standsAs tells how a device stands, with the age of that and where it comes from.
func (c *client) standsAs(st gen.DeviceStanding) string {
	text := st.Text
	switch {
	case st.At == nil:
	case st.Source == gen.DeviceStandingSourceChange:
		text += ", since " + c.when(*st.At)
	default:
		text += fmt.Sprintf(", as of %s (%s)", c.when(*st.At), ago(*st.At))
	}
	switch st.State {
	case gen.DeviceStandingStateNoAnswer:
		return c.paint(red, text)
	case gen.DeviceStandingStateReady:
		return text
	}
	return c.paint(yellow, text)
}

func (c *client) printDevice(d gen.Device) {
	c.printf("%s  %s\n", c.paint(bold, d.Name), d.Site)
	c.printf("  address   %s, dialect %s, images by %s\n", d.Address, d.Dialect, d.Transfer)
	if d.HostKey != nil {
		c.printf("  host key  %s\n", *d.HostKey)
	}
	if st := d.Standing; st != nil {
		c.printf("  stands    %s\n", c.standsAs(*st))
	}
	p := d.Portrait
	if p == nil {
		c.printf("  not seen yet; look at it with: verimorph device refresh %s\n", d.Name)
		return
	}
	c.printf("  model     %s %s, serial %s\n", p.Maker, p.Model, p.Serial)
	c.printf("  seen      %s, %s\n", c.when(p.TakenAt), ago(p.TakenAt))
	c.printf("  runs      %s, services %s\n", c.paint(bold, p.Version), known(p.ServicesReady, "ready", c.paint(yellow, "starting"), "not known, it does not say"))
	c.printf("  unsaved   %s\n", known(p.Unsaved, c.paint(yellow, "the running configuration is not saved"), "nothing", "not known, it does not say"))
	for _, s := range p.Slots {
		var marks []string
		if s.Running {
			marks = append(marks, "running")
		}
		if s.Next {
			marks = append(marks, "next start")
		}
		if s.Broken != nil {
			marks = append(marks, c.paint(red, "broken: "+s.State))
		}
		c.printf("  slot %-4s %-10s %s\n", s.Name, s.Version, strings.Join(marks, ", "))
	}
	if p.StorageFree != nil && p.StorageTotal != nil {
		c.printf("  storage   %s of %s free\n", mib(*p.StorageFree), mib(*p.StorageTotal))
	} else {
		c.printf("  storage   not known, it does not say\n")
	}
	for _, st := range value(p.Stores) {
		c.printf("  %-9s %s of %s free\n", st.Name, mib(st.Free), mib(st.Total))
	}
	for _, x := range value(p.Components) {
		c.printf("  firmware  %s %s\n", x.Name, x.Version)
	}
	var bad []string
	unknown := 0
	for _, x := range value(p.Parts) {
		switch {
		case x.Good == nil:
			unknown++
		case !*x.Good:
			bad = append(bad, x.Name+" is "+x.State)
		}
	}
	for _, line := range value(p.NotUnderstood) {
		c.printf("  %s\n", c.paint(yellow, "not understood: "+line))
	}
	switch {
	case unknown > 0 && len(bad) == 0:
		c.printf("  parts     of %d of %d it is not known whether they are well\n", unknown, len(*p.Parts))
	case len(bad) > 0:
		c.printf("  parts     %s\n", c.paint(yellow, strings.Join(bad, ", ")))
	case p.Parts != nil:
		c.printf("  parts     all %d are well\n", len(*p.Parts))
	}
	for _, x := range value(p.Variables) {
		c.printf("  boot      %s: %s\n", x.Name, cmp.Or(x.Value, "clear"))
	}
	if p.Licences != nil {
		c.printf("  licences  %s\n", cmp.Or(strings.Join(*p.Licences, ", "), "none"))
	}
}
