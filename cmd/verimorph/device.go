package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// settingsFlags adds the flags for the settings of a device. The function that it returns reads them; what was not given is nil.
func settingsFlags(fs *flag.FlagSet) func() gen.DeviceSettings {
	groups := fs.String("groups", "", "`names` of groups it belongs to, with commas; - for none")
	web := fs.String("web", "", "`URL` of its HTTP side; - for none")
	transfer := fs.String("transfer", "", "sftp: images are pushed; http, https, ftp, tftp or pull-sftp: the device fetches them")
	direct := fs.Bool("direct", false, "it is reached at its address, with no console line and no other device between")
	console := fs.String("console", "", "`host:port` of its console line at a console server")
	only := fs.Bool("console-only", false, "the console line is the only way")
	via := fs.String("via", "", "`device` that is signed in to first; its SSH passes the connection on")
	enter := fs.String("enter", "", "`command` on that device that opens a session into this one, a module of it")
	services := fs.String("services", "", "`protocol=host:port` where management protocols are offered, with commas; - for the usual ports")
	probes := fs.String("probes", "", "what is asked all the time while a change runs: `URL` or tcp:host:port, with commas; - for none")
	return func() (out gen.DeviceSettings) {
		if *probes != "" {
			out.Probes = cmp.Or(list(strings.Trim(*probes, "-")), &[]string{})
		}
		if *services != "" {
			out.Services = &map[string]string{}
			for s := range strings.SplitSeq(strings.Trim(*services, "-"), ",") {
				if protocol, at, ok := strings.Cut(s, "="); ok || protocol != "" {
					(*out.Services)[protocol] = at
				}
			}
		}
		if *groups != "" {
			out.Groups = cmp.Or(list(strings.Trim(*groups, "-")), &[]string{})
		}
		if *web != "" {
			out.Web = new(strings.TrimPrefix(*web, "-"))
		}
		if *transfer != "" {
			out.Transfer = new(gen.Transfer(*transfer))
		}
		switch {
		case *direct:
			out.Reach = &gen.Reach{}
		case *console != "" || *via != "":
			out.Reach = &gen.Reach{Console: console, Only: only, Via: via, Enter: enter}
		}
		return out
	}
}

var deviceCommands = []command{
	{
		name: "device list", short: "List the fleet", example: "device list -find hollen -sort model",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			find := fs.String("find", "", "only devices with this `text` in name, site, model or version")
			standing := fs.String("standing", "", "only devices that are ready, starting, no-answer, unknown or in-change")
			model := fs.String("model", "", "only devices of this `model`")
			version := fs.String("version", "", "only devices that run this `version`")
			sort := fs.String("sort", "name", "by name, site, model, standing or asOf")
			down := fs.Bool("descending", false, "the other way round")
			return func(ctx context.Context, c *client, _ []string) error {
				if !gen.ListDevicesParamsSort(*sort).Valid() || *standing != "" && !gen.Standing(*standing).Valid() {
					return errUsage{"-sort is one of name, site, model, standing, asOf; -standing one of ready, starting, no-answer, unknown, in-change"}
				}
				devices, err := all(func(cursor *string) ([]gen.Device, *string, error) {
					p, err := call[gen.DevicePage](c, func(a *api.Client) (*http.Response, error) {
						return a.ListDevices(ctx, &gen.ListDevicesParams{Cursor: cursor, Find: optional(*find), Standing: (*gen.Standing)(optional(*standing)),
							Model: optional(*model), Version: optional(*version), Sort: (*gen.ListDevicesParamsSort)(sort), Descending: down})
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
							if row[4] = string(st.State); st.State == gen.StandingNoAnswer && d.Portrait != nil {
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
		name: "device show", args: "DEVICE", short: "Show a device as it was last seen", min: 1, max: 1, example: "device show hollen-fw1",
		setup: deviceCall(func(ctx context.Context, a *api.Client, name string) (*http.Response, error) {
			return a.GetDevice(ctx, name)
		}),
	},
	{
		name: "device refresh", args: "DEVICE", short: "Look at a device now", min: 1, max: 1, example: "device refresh hollen-fw1",
		long: "At the first contact the device's host key is pinned. The service looks at the device in a job of its own; the command shows how\nfar it is and ends with it. With -no-wait it returns at once. One that is under way is joined.\nWhile the service is away it keeps trying, and says so.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			noWait := fs.Bool("no-wait", false, "return at once")
			return func(ctx context.Context, c *client, args []string) error { return c.refresh(ctx, args[0], *noWait) }
		},
	},
	{
		name: "device add", args: "DEVICE", short: "Add a device to the fleet", min: 1, max: 1,
		long:    "The password and, on a second line, the password of the privileged level are asked for, or read from standard input.\nWith -web, the token of its HTTP side is asked for on a third line.",
		example: "device add hollen-fw1 -site \"Pier Hollen\" -address 127.61.0.11:2022 -dialect tarnholm -user bosun",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			site := fs.String("site", "", "where it stands")
			address := fs.String("address", "", "`host:port` of its SSH")
			dialect := fs.String("dialect", "", "`name` of the dialect it speaks")
			user := fs.String("user", "", "user to sign in as")
			hostKey := fs.String("host-key", "", "its host key in authorized-keys form, when it is known")
			settings := settingsFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				if *address == "" || *dialect == "" || *user == "" {
					return errUsage{"-address, -dialect and -user are needed"}
				}
				password, privileged, err := askPasswords(c)
				if err != nil {
					return err
				}
				var token string
				v := settings()
				if v.Web != nil {
					if token, err = askPassword(c, "Token of its HTTP side: "); err != nil {
						return err
					}
				}
				d, err := call[gen.Device](c, func(a *api.Client) (*http.Response, error) {
					return a.AddDevice(ctx, &gen.AddDeviceParams{IdempotencyKey: newKey()}, gen.NewDevice{
						Name: args[0], Site: site, Address: *address, Dialect: *dialect, User: *user, Password: password,
						PrivilegedPassword: &privileged, HostKey: optional(*hostKey), Token: optional(token),
						Groups: v.Groups, Web: v.Web, Transfer: v.Transfer, Reach: v.Reach, Services: v.Services, Probes: v.Probes,
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
		name: "device set", args: "DEVICE", short: "Change the settings of a device", min: 1, max: 1, example: "device set hollen-fw1 -groups piers,firewalls",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			settings := settingsFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				body := settings()
				if body == (gen.DeviceSettings{}) {
					return errUsage{"say what to change: -groups, -web, -transfer, -console, -via, -services, -probes or -direct"}
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
		long: "Passwords that worked before are kept for the version in the device's other slot, where they apply after a rollback.",
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
		name: "device forget-key", args: "DEVICE", short: "Forget a device's pinned host key and certificates", min: 1, max: 1, example: "device forget-key hollen-fw1",
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
	case gen.StandingNoAnswer:
		return c.paint(red, text)
	case gen.StandingReady:
		return text
	}
	return c.paint(yellow, text)
}

// printUnits shows the units of a device, and those that follow it.
func (c *client) printUnits(p *gen.Portrait) {
	for _, u := range value(p.Units) {
		state := value(u.State)
		if u.Good == nil || !*u.Good {
			state = c.paint(yellow, state)
		}
		room := ""
		if u.Free != nil && u.Total != nil {
			room = fmt.Sprintf(", %s of %s free", mib(*u.Free), mib(*u.Total))
		}
		c.printf("  unit %-4s %-10s %s, serial %s, %s%s\n", u.Name, value(u.Version), value(u.Role), value(u.Serial), state, room)
		if files := value(u.Files); len(files) > 0 {
			c.printf("            files: %s\n", strings.Join(files, ", "))
		}
	}
	if p.ChildCount == nil {
		return
	}
	c.printf("  followed  by %d, of which %d have joined\n", *p.ChildCount, value(p.ChildrenWell))
	rows := [][]string{{"  NAME", "MODEL", "PLACE", "GROUP", "RUNS", "HAS FETCHED", "STATE"}}
	for _, x := range value(p.Children) {
		state := value(x.State)
		if x.Good == nil || !*x.Good {
			state = c.paint(yellow, state)
		}
		rows = append(rows, []string{"  " + x.Name, x.Model, value(x.Place), value(x.Group), value(x.Version), value(x.Next), state})
	}
	if len(rows) > 1 {
		table(c.out, rows)
	}
}

func (c *client) printDevice(d gen.Device) {
	c.printf("%s  %s\n", c.paint(bold, d.Name), d.Site)
	by := string(d.Transfer)
	if d.ImagesBy != nil {
		by = *d.ImagesBy
	}
	c.printf("  address   %s, dialect %s, images by %s\n", d.Address, d.Dialect, by)
	if d.Ensemble != nil {
		c.printf("  part of   %s\n", *d.Ensemble)
	}
	for _, r := range value(d.Replacements) {
		if r.New == d.Name {
			c.printf("  in place  of %s, by change %d\n", r.Old, r.Change)
		} else {
			c.printf("  replaced  by %s, with change %d; it %s\n", r.New, r.Change, oldOne(&r))
		}
	}
	if d.Follows != nil {
		c.printf("  follows   %s, which manages it; what is shown is the word of %s\n", *d.Follows, *d.Follows)
	}
	if d.HostKey != nil {
		c.printf("  host key  %s\n", *d.HostKey)
	}
	for _, target := range value(d.Probes) {
		c.printf("  probe     %s\n", target)
	}
	if d.Services != nil {
		for _, protocol := range slices.Sorted(maps.Keys(*d.Services)) {
			c.printf("  %-9s %s\n", protocol, (*d.Services)[protocol])
		}
	}
	if d.Pins != nil {
		for _, protocol := range slices.Sorted(maps.Keys(*d.Pins)) {
			c.printf("  %-9s certificate with the key %s\n", protocol, (*d.Pins)[protocol])
		}
	}
	if st := d.Standing; st != nil {
		c.printf("  stands    %s\n", c.standsAs(*st))
	}
	if d.Portrait == nil {
		c.printf("  not seen yet; look at it with: verimorph device refresh %s\n", d.Name)
		return
	}
	c.printPortrait(d.Portrait)
}

// printPortrait prints what a device said of itself when it was last looked at.
func (c *client) printPortrait(p *gen.Portrait) {
	c.printf("  model     %s %s, serial %s\n", p.Maker, p.Model, p.Serial)
	c.printf("  seen      %s, %s\n", c.when(p.TakenAt), ago(p.TakenAt))
	c.printf("  runs      %s, services %s\n", c.paint(bold, p.Version), known(p.ServicesReady, "ready", c.paint(yellow, "starting"), "not known, it does not say"))
	c.printf("  unsaved   %s\n", known(p.Unsaved, c.paint(yellow, "the running configuration is not saved"), "nothing", "not known, it does not say"))
	for _, s := range p.Slots {
		c.printf("  slot %-4s %-10s %s\n", s.Name, s.Version, strings.Join(c.slotMarks(&s), ", "))
	}
	if p.StorageFree != nil && p.StorageTotal != nil {
		c.printf("  storage   %s of %s free\n", mib(*p.StorageFree), mib(*p.StorageTotal))
	} else {
		c.printf("  storage   not known, it does not say\n")
	}
	for _, st := range value(p.Stores) {
		c.printf("  %-9s %s of %s free\n", st.Name, mib(st.Free), mib(st.Total))
	}
	c.printUnits(p)
	for _, x := range value(p.Components) {
		c.printf("  firmware  %s %s\n", x.Name, x.Version)
	}
	for _, line := range value(p.NotUnderstood) {
		c.printf("  %s\n", c.paint(yellow, "not understood: "+line))
	}
	c.printParts(value(p.Parts))
	for _, x := range value(p.Variables) {
		c.printf("  boot      %s: %s\n", x.Name, cmp.Or(x.Value, "clear"))
	}
	if p.Licences != nil {
		c.printf("  licences  %s\n", cmp.Or(strings.Join(*p.Licences, ", "), "none"))
	}
	for _, f := range value(p.Facts) {
		c.printf("  %-9s %s\n", f.Name, f.Text)
	}
}

// printParts prints which parts are out of order; nothing where the device tells of none.
func (c *client) printParts(parts []gen.InsidePart) {
	var bad []string
	unknown := 0
	for _, x := range parts {
		switch {
		case x.Good == nil:
			unknown++
		case !*x.Good:
			bad = append(bad, x.Name+" is "+x.State)
		}
	}
	switch {
	case unknown > 0 && len(bad) == 0:
		c.printf("  parts     of %d of %d it is not known whether they are well\n", unknown, len(parts))
	case len(bad) > 0:
		c.printf("  parts     %s\n", c.paint(yellow, strings.Join(bad, ", ")))
	case len(parts) > 0:
		c.printf("  parts     all %d are well\n", len(parts))
	}
}

// slotMarks says what there is to say of a slot, in the order in which it is shown.
func (c *client) slotMarks(s *gen.Slot) (marks []string) {
	if s.Running {
		marks = append(marks, "running")
	}
	if s.Next {
		marks = append(marks, "next start")
	}
	if s.Broken != nil {
		marks = append(marks, c.paint(red, "broken: "+s.State))
	}
	if value(s.Second) {
		marks = append(marks, "second")
	}
	for _, text := range []string{value(s.Description), value(s.Written)} {
		if text != "" {
			marks = append(marks, text)
		}
	}
	if s.Size != nil {
		marks = append(marks, mib(*s.Size))
	}
	return marks
}
