package main

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/core/config"
	"verimorph/report"
)

var backupCommands = []command{
	{
		name: "backup list", short: "Backups, newest first", example: "backup list -device hollen-fw1",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "only of this device")
			return func(ctx context.Context, c *client, _ []string) error {
				backups, err := all(func(cursor *string) ([]gen.Backup, *string, error) {
					p, err := call[gen.BackupPage](c, func(a *api.Client) (*http.Response, error) {
						return a.ListBackups(ctx, &gen.ListBackupsParams{Device: optional(*device), Cursor: cursor})
					})
					return p.Items, p.Next, err
				})
				if err != nil {
					return err
				}
				return c.show(backups, func() {
					rows := [][]string{{"BACKUP", "DEVICE", "VERSION", "BYTES", "CHANGE", "TAKEN"}}
					for _, b := range backups {
						change := ""
						if b.Change != nil {
							change = fmt.Sprintf("%d, before hop %d", *b.Change, value(b.Hop))
						}
						rows = append(rows, []string{fmt.Sprint(b.Id), b.Device, b.Version, fmt.Sprint(b.Size), change, b.TakenAt.Local().Format(time.DateTime)})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "backup take", args: "DEVICE", short: "Fetch a device's configuration now", min: 1, max: 1, example: "backup take hollen-fw1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				b, err := call[gen.Backup](c, func(a *api.Client) (*http.Response, error) {
					return a.TakeBackup(ctx, gen.TakeBackupJSONRequestBody{Device: args[0]})
				})
				if err != nil {
					return err
				}
				return c.show(b, func() { c.printf("Backup %d of %s: %s, %d bytes, read back\n", b.Id, b.Device, b.Version, b.Size) })
			}
		},
	},
	{
		name: "backup show", args: "BACKUP", short: "A saved configuration, secrets masked", min: 1, max: 1, example: "backup show 1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "backup")
				if err != nil {
					return err
				}
				text, err := call[string](c, func(a *api.Client) (*http.Response, error) { return a.ReadBackup(ctx, id) })
				if err != nil {
					return err
				}
				return c.show(map[string]string{"text": text}, func() { c.printf("%s", text) })
			}
		},
	},
	{
		name: "backup compare", args: "BACKUP BACKUP", short: "What differs between two saved configurations", min: 2, max: 2, example: "backup compare 1 3",
		long: "It exits 1 when they differ.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				from, err := number(args[0], "backup")
				if err != nil {
					return err
				}
				to, err := number(args[1], "backup")
				if err != nil {
					return err
				}
				l, err := call[struct {
					Items []gen.Difference `json:"items"`
				}](c, func(a *api.Client) (*http.Response, error) { return a.CompareBackups(ctx, from, to) })
				if err != nil {
					return err
				}
				return c.showDifferences(l.Items)
			}
		},
	},
}

func (c *client) showDifferences(ds []gen.Difference) error {
	err := c.show(ds, func() {
		for _, d := range ds {
			mark := report.Marks[string(d.Kind)]
			c.printf("%s %s  %s\n", mark.Sign, c.paint(bold, mark.Words), d.Path)
			if d.Guarded != nil {
				c.printf("  guarded: %s\n", *d.Guarded)
			}
			if d.Old != "" {
				c.printf("  %s\n", c.paint(red, fmt.Sprintf("- %4d  %s", d.OldLine, strings.ReplaceAll(d.Old, "\n", "\n          "))))
			}
			if d.New != "" {
				c.printf("  %s\n", c.paint(green, fmt.Sprintf("+ %4d  %s", d.NewLine, strings.ReplaceAll(d.New, "\n", "\n          "))))
			}
		}
		if len(ds) == 0 {
			c.printf("No difference.\n")
		}
	})
	if err == nil && slices.ContainsFunc(ds, func(d gen.Difference) bool { return string(d.Kind) != config.Cosmetic }) {
		err = errNo
	}
	return err
}
