package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// Commands for what is kept: holds, schedules, the store, and bundles that leave it or come in.
var backupStoreCommands = []command{
	{
		name: "backup hold", args: "BACKUP",
		short: "Keep a backup, whatever retention says", min: 1, max: 1,
		example: "backup hold 3 -reason \"audit 2026\"",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			reason := fs.String("reason", "", "why it must be kept")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "backup")
				if err != nil {
					return err
				}
				if *reason == "" {
					return errUsage{"-reason is needed"}
				}
				_, err = call[struct{}](c, func(a *api.Client) (*http.Response, error) {
					return a.HoldBackup(ctx, id, gen.HoldBackupJSONRequestBody{Reason: *reason})
				})
				return err
			}
		},
	},
	{
		name: "backup release", args: "BACKUP", short: "Return a held backup to normal retention", min: 1, max: 1, example: "backup release 3",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "backup")
				if err != nil {
					return err
				}
				_, err = call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.ReleaseBackup(ctx, id) })
				return err
			}
		},
	},
	{
		name:    "backup schedule",
		short:   "Show or set when backups are taken and how long they are kept",
		example: "backup schedule -group piers -when \"30 1 * * *\" -spread 2h -keep-days 90 -keep-count 30",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "of this device")
			group := fs.String("group", "", "of this group; without -device and -group, of every device that has no other")
			when := fs.String("when", "", "five fields as in crontab; \"never\" for none by schedule")
			spread := fs.Duration("spread", 2*time.Hour, "devices start at different moments within this span")
			days := fs.Int("keep-days", 90, "keep what is younger; 0: no bound by age")
			number := fs.Int("keep-count", 30, "keep so many of each device; 0: no bound by number")
			drop := fs.Int64("remove", 0, "delete the schedule of this `number`")
			return func(ctx context.Context, c *client, _ []string) error {
				if *drop != 0 {
					_, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.DeleteBackupSchedule(ctx, *drop) })
					return err
				}
				if *when != "" {
					if *when == "never" {
						*when = ""
					}
					if _, err := call[gen.BackupSchedule](c, func(a *api.Client) (*http.Response, error) {
						return a.PutBackupSchedule(ctx, gen.BackupSchedule{Device: optional(*device), Group: optional(*group), When: *when,
							SpreadMinutes: int(spread.Minutes()), KeepDays: *days, KeepCount: *number})
					}); err != nil {
						return err
					}
				}
				l, err := call[struct {
					Items []gen.BackupSchedule `json:"items"`
				}](c, func(a *api.Client) (*http.Response, error) { return a.ListBackupSchedules(ctx) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"SCHEDULE", "OF", "WHEN", "SPREAD", "KEPT"}}
					for _, s := range l.Items {
						of, at := "every device", s.When
						if s.Group != nil {
							of = "group " + *s.Group
						}
						if s.Device != nil {
							of = *s.Device
						}
						if at == "" {
							at = "never"
						}
						rows = append(rows, []string{fmt.Sprint(value(s.Id)), of, at, (time.Duration(s.SpreadMinutes) * time.Minute).String(),
							fmt.Sprintf("%d days and the last %d", s.KeepDays, s.KeepCount)})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "backup prune", short: "Delete now what retention does not keep", example: "backup prune",
		long: "The service does this every hour.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				r, err := call[struct {
					Let int `json:"let"`
				}](c, func(a *api.Client) (*http.Response, error) { return a.PruneBackups(ctx) })
				if err != nil {
					return err
				}
				return c.show(r, func() { c.printf("%s let go\n", count(r.Let, "backup")) })
			}
		},
	},
	{
		name: "backup check", short: "Verify the whole backup store", example: "backup check -deep",
		long: "Every byte on the disk is compared with what was written. Every backup must be there with all its parts. It exits 1 when something is damaged.\nWith -store it works without the service, on a folder and a key file.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			deep := fs.Bool("deep", false, "unpack every content as well and hold it against its sum")
			folder := fs.String("store", "", "check this `folder` without the service")
			key := fs.String("key", "", "`file` with the key, for -store")
			return func(ctx context.Context, c *client, _ []string) error {
				r, err := checkStore(ctx, c, *folder, *key, *deep)
				if err != nil {
					return err
				}
				if err := c.show(r, func() {
					for _, d := range r.Damages {
						c.printf("%s %s %s\n", c.paint(red, "damaged"), d.Volume, d.What)
						for _, b := range d.Backups {
							c.printf("    backup %d of %s, taken %s, is hit\n", b.Id, b.Device, c.when(b.TakenAt))
						}
					}
					c.printf("%s, %s, %s; %s read", count(r.Volumes, "volume"), count(r.Bundles, "backup"), count(r.Objects, "content"), bytesOf(r.Stored))
					if r.Content > 0 {
						c.printf(", %s unpacked", bytesOf(r.Content))
					}
					c.printf(" in %.1f s: %s\n", r.Seconds, map[bool]string{true: "all as it was written",
						false: count(len(r.Damages), "damage")}[len(r.Damages) == 0])
				}); err != nil || len(r.Damages) == 0 {
					return err
				}
				return errNo
			}
		},
	},
	{
		name: "backup export", args: "BACKUP",
		short: "Write a backup to a file: an encrypted archive, or its texts with secrets masked", min: 1, max: 1,
		example: "backup export 3 -out hollen.tar.age -to age1...",
		long:    "An archive is encrypted to this installation and its offline key, and to -to; open it with: verimorph backup open.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			out := fs.String("out", "", "`file` to write; by default DEVICE-backup-N.tar.age, or .tar when masked")
			masked := fs.Bool("masked", false, "only what may be read by anybody: texts with secrets masked, as a plain tar archive")
			to := fs.String("to", "", "further age `recipients`, with commas")
			byPassword := fs.Bool("password", false, "encrypt it with a password, which is asked for, instead of with keys")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "backup")
				if err != nil {
					return err
				}
				form := gen.Archive
				if *masked {
					form = gen.Masked
				}
				d, err := call[gen.BackupDetail](c, func(a *api.Client) (*http.Response, error) { return a.GetBackup(ctx, id) })
				if err != nil {
					return err
				}
				if *out == "" {
					*out = fmt.Sprintf("%s-backup-%d.tar%s", d.Backup.Device, id, map[bool]string{true: "", false: ".age"}[*masked])
				}
				password, err := archivePassword(c, *byPassword)
				if err != nil {
					return err
				}
				data, err := call[string](c, func(a *api.Client) (*http.Response, error) {
					return a.ExportBackup(ctx, id, &gen.ExportBackupParams{Form: form, Recipient: list(*to), ArchivePassword: password})
				})
				if err != nil {
					return err
				}
				if err := os.WriteFile(*out, []byte(data), 0o600); err != nil {
					return err
				}
				return c.show(map[string]any{"file": *out, "bytes": len(data)}, func() { c.printf("Wrote %s, %d bytes\n", *out, len(data)) })
			}
		},
	},
	{
		name: "backup import", args: "FILE",
		short: "Import a backup that was taken elsewhere", min: 1, max: 1,
		example: "backup import hollen-fw1-backup-3.tar.age",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "the device it belongs to; by default the one it names")
			byPassword := fs.Bool("password", false, "it is encrypted with a password, which is asked for")
			return func(ctx context.Context, c *client, args []string) error {
				data, err := os.ReadFile(args[0])
				if err != nil {
					return err
				}
				password, err := archivePassword(c, *byPassword)
				if err != nil {
					return err
				}
				b, err := call[gen.Backup](c, func(a *api.Client) (*http.Response, error) {
					return a.ImportBackupWithBody(ctx, &gen.ImportBackupParams{Device: optional(*device), ArchivePassword: password}, "application/octet-stream", bytes.NewReader(data))
				})
				if err != nil {
					return err
				}
				return c.show(b, func() {
					c.printf("Backup %d of %s: %s, %d bytes, taken %s\n", b.Id, b.Device, b.Version, b.Size, c.when(b.TakenAt))
				})
			}
		},
	},
	{
		name: "backup open", args: "FILE",
		short: "Open an exported archive or a volume of the store with a key file, without the service", min: 1, max: -1,
		example: "backup open -key offline.key -out restored data/backups/*.vmv",
		long:    "Without -out it lists what is there. With -out the parts are written in the clear under DEVICE/TIME/ with their exact names; keep that folder private.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			key := fs.String("key", "", "`file` with the age key of the installation, or the one that is kept offline")
			out := fs.String("out", "", "`folder` to write to")
			device := fs.String("device", "", "only of this device")
			return func(_ context.Context, c *client, args []string) error {
				return openBackups(c, args, *key, *out, *device)
			}
		},
	},
}

// archivePassword asks for the password of an archive, where it has one; nil: it has none.
func archivePassword(c *client, asked bool) (*string, error) {
	if !asked {
		return nil, nil
	}
	text, err := askPassword(c, "Password of the archive: ")
	if err != nil {
		return nil, err
	}
	return new(url.PathEscape(text)), nil
}
