package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/core/template"
)

// Templates, and bringing blank devices up.

var bringUpCommands = []command{
	{
		name: "template list", short: "List the templates of configurations", example: "template list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[struct{ Items []gen.Template }](c, func(a *api.Client) (*http.Response, error) { return a.ListTemplates(ctx) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"TEMPLATE", "TITLE", "FOR", "VALUES", "KEPT"}}
					for _, t := range l.Items {
						var names []string
						for _, v := range t.Values {
							names = append(names, v.Name)
						}
						rows = append(rows, []string{t.Name, t.Title, strings.Join(t.Models, ", "), strings.Join(names, ", "), ago(t.UpdatedAt) + " by " + t.UpdatedBy})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "template show", args: "TEMPLATE", short: "Show a template as it was kept", min: 1, max: 1, example: "template show pier",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				t, err := call[gen.Template](c, func(a *api.Client) (*http.Response, error) { return a.GetTemplate(ctx, args[0]) })
				if err != nil {
					return err
				}
				return c.show(t, func() { c.printf("%s", value(t.Text)) })
			}
		},
	},
	{
		name: "template put", args: "FILE", short: "Keep a template (docs/formats/template.md)", min: 1, max: 1, example: "template put point.tpl",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			name := fs.String("name", "", "`name` that it is kept under; by default that of the file without its ending")
			return func(ctx context.Context, c *client, args []string) error {
				data, err := os.ReadFile(args[0])
				if err != nil {
					return err
				}
				if _, found := template.Read(args[0], string(data)); len(found) > 0 { // with the name of the file
					var lines []string
					for _, f := range found {
						lines = append(lines, f.String())
					}
					return errUsage{strings.Join(lines, "\n")}
				}
				as := *name
				if as == "" {
					as = strings.TrimSuffix(filepath.Base(args[0]), filepath.Ext(args[0]))
				}
				t, err := call[gen.Template](c, func(a *api.Client) (*http.Response, error) {
					return a.PutTemplateWithBody(ctx, as, "text/plain", strings.NewReader(string(data)))
				})
				if err != nil {
					return err
				}
				return c.show(t, func() { c.printf("Template %s is kept; it takes %s.\n", t.Name, count(len(t.Values), "value")) })
			}
		},
	},
	{
		name: "template remove", args: "TEMPLATE", short: "Forget a template", min: 1, max: 1, example: "template remove pier",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				if _, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.DeleteTemplate(ctx, args[0]) }); err != nil {
					return err
				}
				return c.show(map[string]string{"removed": args[0]}, func() { c.printf("Template %s is forgotten\n", args[0]) })
			}
		},
	},
	{
		name: "bring-up", args: "[DEVICE]", short: "Draft bringing blank devices up: password, licences, release, configuration", min: 0, max: 1,
		example: "bring-up innersund-sa3 -template point -set place=kiosk -to preferred",
		long: "A device that is not in the records is added first: with -address, -dialect and -user, and its first password, which is asked for.\n" +
			"With -table FILE there is one device a line (CSV). Columns: device, and about it device.address, .dialect, .user, .site, .serial, .to, .comes-back-at,\n" +
			".transfer, .model, .calls (yes); every other one is a value of the template.\n" +
			"What is said with -set counts before the table, and the table before what the template assumes.\n" +
			"All that is missing or wrong is told at once, and nothing is begun then.\n" +
			"Done again, it goes on where a device stands, or does nothing.",
		setup: setUpBringUp,
	},
}

// aboutDevice are the columns of a table that are about the device itself.
var aboutDevice = []string{"device.address", "device.dialect", "device.user", "device.site", "device.serial", "device.to",
	"device.comes-back-at", "device.transfer", "device.model", "device.calls"}

// A bringing is a call of bring-up.
type bringing struct {
	template, to, serial, comesBackAt, table string
	address, dialect, user, site, transfer   string
	content, file                            string
	backup                                   int64
	keepPassword, start, calls               bool
	model                                    string
	values                                   map[string]string
	licences                                 *[]string
	terms                                    func(context.Context, *client) (*gen.Terms, error)
	first                                    string // password
}

func setUpBringUp(fs *flag.FlagSet) func(context.Context, *client, []string) error {
	b := &bringing{values: map[string]string{}}
	fs.StringVar(&b.template, "template", "", "`name` of the template that the configuration comes from")
	fs.Int64Var(&b.backup, "backup", 0, "`number` of a backup whose configuration it gets, in the place of a template")
	fs.StringVar(&b.file, "file", "", "`file` with its configuration, in the place of a template or a backup")
	fs.StringVar(&b.table, "table", "", "`file` with one device a line")
	fs.StringVar(&b.to, "to", "", "`version` that it is to run: one of the catalogue, preferred, newest or train:T; by default it stays on its release")
	fs.StringVar(&b.serial, "serial", "", "`serial` that the unit has to have")
	fs.StringVar(&b.comesBackAt, "comes-back-at", "", "`host:port` that it has once it is configured")
	fs.StringVar(&b.address, "address", "", "`host:port` of a device that is not in the records: its first address")
	fs.StringVar(&b.dialect, "dialect", "", "`name` of its dialect")
	fs.StringVar(&b.user, "user", "", "`name` of its first user")
	fs.StringVar(&b.site, "site", "", "`name` of its site")
	fs.StringVar(&b.transfer, "transfer", "", "how images get onto it, as of device add")
	fs.StringVar(&b.content, "content", "", "`files` of the catalogue for components beside the main image, such as signatures, separated by commas")
	fs.BoolVar(&b.keepPassword, "keep-password", false, "its first password stays")
	fs.BoolVar(&b.calls, "calls", false, "it asks by itself (RFC 8572); say its serial, its model and the version, and the address that it has afterwards")
	fs.StringVar(&b.model, "model", "", "`name` of the model of a device that asks by itself")
	fs.BoolVar(&b.start, "start", false, "approve and start what was drafted at once")
	fs.Func("set", "`name=value` of the template; can be said more than once", func(s string) error {
		name, v, ok := strings.Cut(s, "=")
		if !ok || name == "" {
			return fmt.Errorf("it should look like name=value")
		}
		b.values[name] = v
		return nil
	})
	b.licences = licenceFlag(fs)
	b.terms = termFlags(fs)
	return func(ctx context.Context, c *client, args []string) error {
		rows, err := b.rows(args)
		if err != nil {
			return err
		}
		if err := b.check(ctx, c, rows); err != nil {
			return err
		}
		return b.all(ctx, c, rows)
	}
}

// rows are the devices: those of the table, or the one that is named.
func (b *bringing) rows(args []string) ([]template.Row, error) {
	switch {
	case b.table == "" && len(args) == 0:
		return nil, errUsage{"which device? Name it, or give a table with -table"}
	case b.table != "" && len(args) > 0:
		return nil, errUsage{"either one device or a table"}
	case b.table == "":
		return []template.Row{{Device: args[0], About: map[string]string{}}}, nil
	}
	f, err := os.Open(b.table)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	rows, found := template.ReadTable(b.table, f, aboutDevice)
	if len(found) > 0 {
		var lines []string
		for _, x := range found {
			lines = append(lines, x.String())
		}
		return nil, errUsage{strings.Join(lines, "\n")}
	}
	return rows, nil
}

// check fills the template for all devices before anything is begun.
func (b *bringing) check(ctx context.Context, c *client, rows []template.Row) error {
	if b.template == "" {
		return nil
	}
	wish := gen.FillWish{File: optional(b.table), Values: &b.values}
	for _, r := range rows {
		wish.Rows = append(wish.Rows, gen.FillRow{Device: r.Device, Line: &r.Line, Values: &r.Values})
	}
	l, err := call[struct{ Items []gen.Filled }](c, func(a *api.Client) (*http.Response, error) { return a.FillTemplate(ctx, b.template, wish) })
	if err != nil {
		return err
	}
	var wrong []string
	for _, f := range l.Items {
		for _, w := range f.Wrong {
			wrong = append(wrong, f.Device+": "+w)
		}
	}
	if len(wrong) > 0 {
		return errUsage{"nothing was begun:\n" + strings.Join(wrong, "\n")}
	}
	return nil
}

// all adds those that are not in the records, and drafts each.
func (b *bringing) all(ctx context.Context, c *client, rows []template.Row) error {
	var drafted []gen.Change
	var failed []error
	for _, r := range rows {
		ch, err := b.one(ctx, c, r)
		if err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", r.Device, err))
			continue
		}
		drafted = append(drafted, ch)
	}
	if err := c.show(drafted, func() {
		for _, ch := range drafted {
			c.printBringUp(ch)
		}
	}); err != nil {
		return err
	}
	if len(failed) > 0 {
		return fmt.Errorf("%d of %d could not be drafted:\n%w", len(failed), len(rows), errors.Join(failed...))
	}
	return nil
}

func (b *bringing) one(ctx context.Context, c *client, r template.Row) (gen.Change, error) {
	none := gen.Change{}
	said := func(column, flagged string) string {
		if v := r.About["device."+column]; v != "" {
			return v
		}
		return flagged
	}
	if err := b.add(ctx, c, r.Device, said); err != nil {
		return none, err
	}
	given, err := licenceKeys(*b.licences)
	if err != nil {
		return none, err
	}
	t, err := b.terms(ctx, c)
	if err != nil {
		return none, err
	}
	calls := b.calls || said("calls", "") == "yes"
	wish := gen.NewBringUp{Device: r.Device, Template: optional(b.template), Values: &b.values, Licences: given, Terms: t, KeepPassword: &b.keepPassword, Content: list(b.content), Calls: &calls,
		To: optional(said("to", b.to)), Serial: optional(said("serial", b.serial)), Model: optional(said("model", b.model)), ComesBackAt: optional(said("comes-back-at", b.comesBackAt))}
	if b.backup != 0 {
		wish.Backup = &b.backup
	}
	if b.file != "" {
		text, err := os.ReadFile(b.file)
		if err != nil {
			return none, err
		}
		wish.Configuration = &struct {
			Name string `json:"name"`
			Text string `json:"text"`
		}{filepath.Base(b.file), string(text)}
	}
	if b.table != "" {
		wish.File, wish.Row = &b.table, &gen.FillRow{Device: r.Device, Line: &r.Line, Values: &r.Values}
	}
	ch, err := call[gen.Change](c, func(a *api.Client) (*http.Response, error) {
		return a.BringUp(ctx, &gen.BringUpParams{IdempotencyKey: newKey()}, wish)
	})
	if err != nil || !b.start {
		return ch, err
	}
	for _, act := range []gen.Action{gen.ActionApprove, gen.ActionStart} {
		if ch, err = call[gen.Change](c, func(a *api.Client) (*http.Response, error) {
			return a.ActOnChange(ctx, ch.Id, act, gen.ActionWords{})
		}); err != nil {
			return ch, err
		}
	}
	return ch, nil
}

// add adds a device that is not in the records.
func (b *bringing) add(ctx context.Context, c *client, name string, said func(column, flagged string) string) error {
	_, err := call[gen.Device](c, func(a *api.Client) (*http.Response, error) { return a.GetDevice(ctx, name) })
	var refused *problemError
	if err == nil || !errors.As(err, &refused) || refused.Status != http.StatusNotFound {
		return err
	}
	address, dialect, user := said("address", b.address), said("dialect", b.dialect), said("user", b.user)
	if address == "" || dialect == "" || user == "" {
		return fmt.Errorf("it is not in the records; say its address, dialect and user to add it")
	}
	if b.first == "" {
		if b.first, err = askPassword(c, "First password: "); err != nil {
			return err
		}
	}
	wish := gen.NewDevice{Name: name, Site: optional(said("site", b.site)), Address: address, Dialect: dialect, User: user, Password: b.first}
	if t := said("transfer", b.transfer); t != "" {
		wish.Transfer = new(gen.Transfer(t))
	}
	_, err = call[gen.Device](c, func(a *api.Client) (*http.Response, error) {
		return a.AddDevice(ctx, &gen.AddDeviceParams{IdempotencyKey: newKey()}, wish)
	})
	return err
}

func (c *client) printBringUp(ch gen.Change) {
	c.printf("Change %d brings %s up: %d steps, %s expected.\n", ch.Id, ch.Device, len(ch.Steps), span(ch.RemainingLow, ch.RemainingHigh))
	for _, u := range value(ch.Used) {
		over := ""
		if u.Over != nil {
			over = "; not from " + strings.Join(*u.Over, ", ")
		}
		c.printf("  %-16s %-24s from %s%s\n", u.Name, u.Value, u.From, over)
	}
	if open(ch) > 0 {
		c.printf("It is not ready yet:\n")
		c.printChecks(ch)
	}
}
