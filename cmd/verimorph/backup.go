package main

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/core/config"
	"verimorph/report"
)

// list reads names with commas between them; nil when there are none.
func list(text string) *[]string {
	if out := separated(text); len(out) > 0 {
		return &out
	}
	return nil
}

var backupCommands = []command{
	{
		name: "backup list", short: "List backups, newest first", example: "backup list -device hollen-fw1",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "only of this device")
			find := fs.String("find", "", "only backups with this `text` in device, model or version")
			return func(ctx context.Context, c *client, _ []string) error {
				backups, err := all(func(cursor *string) ([]gen.Backup, *string, error) {
					p, err := call[gen.BackupPage](c, func(a *api.Client) (*http.Response, error) {
						return a.ListBackups(ctx, &gen.ListBackupsParams{Device: optional(*device), Find: optional(*find), Cursor: cursor})
					})
					return p.Items, p.Next, err
				})
				if err != nil {
					return err
				}
				return c.show(backups, func() {
					rows := [][]string{{"BACKUP", "DEVICE", "MODEL", "VERSION", "BYTES", "WHY", "COMPLETE", "TAKEN", ""}}
					for _, b := range backups {
						complete := "yes"
						if !b.Complete {
							complete = "NO, lacks " + strings.Join(b.Lacks, ", ")
						}
						held := ""
						if b.Held != "" {
							held = "held: " + b.Held
						}
						rows = append(rows, []string{fmt.Sprint(b.Id), b.Device, b.Model, b.Version, fmt.Sprint(b.Size), why(b), complete,
							c.when(b.TakenAt), held})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "backup take", args: "DEVICE", short: "Back up a device now", min: 1, max: 1, example: "backup take hollen-fw1",
		long: "It exits 1 when something a complete backup has could not be read; what could be read is kept.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				b, err := call[gen.Backup](c, func(a *api.Client) (*http.Response, error) {
					return a.TakeBackup(ctx, gen.TakeBackupJSONRequestBody{Device: args[0]})
				})
				if err != nil {
					return err
				}
				if err := c.show(b, func() {
					c.printf("Backup %d of %s: %s, %d bytes, read back\n", b.Id, b.Device, b.Version, b.Size)
					if !b.Complete {
						c.printf("It is NOT complete; it lacks: %s\n", strings.Join(b.Lacks, ", "))
					}
				}); err != nil || b.Complete {
					return err
				}
				return errNo
			}
		},
	},
	{
		name: "backup show", args: "BACKUP", short: "Show the parts of a backup, or one part with its secrets masked", min: 1, max: 1, example: "backup show 1 -part running",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			part := fs.String("part", "", "`name` of a part to print")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "backup")
				if err != nil {
					return err
				}
				if *part != "" {
					text, err := call[string](c, func(a *api.Client) (*http.Response, error) { return a.ReadPart(ctx, id, *part) })
					if err != nil {
						return err
					}
					return c.show(map[string]string{"text": text}, func() { c.printf("%s", text) })
				}
				d, err := call[gen.BackupDetail](c, func(a *api.Client) (*http.Response, error) { return a.GetBackup(ctx, id) })
				if err != nil {
					return err
				}
				return c.show(d, func() { c.printBackup(d) })
			}
		},
	},
	{
		name: "backup compare", args: "BACKUP BACKUP", short: "Compare two backups: the configuration, and which other parts differ", min: 2, max: 2, example: "backup compare 1 3",
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
					Items []gen.Difference     `json:"items"`
					Parts []gen.PartComparison `json:"parts"`
				}](c, func(a *api.Client) (*http.Response, error) { return a.CompareBackups(ctx, from, to) })
				if err != nil {
					return err
				}
				other := differ(l.Items)
				if err := c.show(l, func() {
					c.printDifferences(l.Items)
					for _, p := range l.Parts {
						if p.State != "same" {
							c.printf("part %s (%s): %s\n", p.Name, p.Title, p.State)
						}
					}
				}); err != nil {
					return err
				}
				if other || slices.ContainsFunc(l.Parts, func(p gen.PartComparison) bool { return p.State != "same" }) {
					return errNo
				}
				return nil
			}
		},
	},
	{
		name: "backup history", args: "DEVICE", short: "List the distinct states of a device's configuration", min: 1, max: 1, example: "backup history hollen-fw1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				l, err := call[struct {
					Items []gen.ConfigurationState `json:"items"`
				}](c, func(a *api.Client) (*http.Response, error) { return a.GetHistory(ctx, args[0]) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"BACKUP", "VERSION", "FIRST SEEN", "LAST SEEN", "TIMES", "BY"}}
					for _, s := range l.Items {
						rows = append(rows, []string{fmt.Sprint(s.Backup.Id), s.Backup.Version, c.when(s.Backup.TakenAt), c.when(s.LastSeen),
							fmt.Sprint(s.Times), why(s.Backup)})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "backup drift", args: "DEVICE", short: "Compare what runs on a device with what is saved and what was backed up", min: 1, max: 1, example: "backup drift hollen-fw1",
		long: "The device is asked now. It exits 1 when there is a difference.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				d, err := call[gen.Drift](c, func(a *api.Client) (*http.Response, error) { return a.GetDrift(ctx, args[0]) })
				if err != nil {
					return err
				}
				if c.json {
					err = c.printJSON(d)
				} else {
					c.printf("From what is saved to what runs:\n")
					c.printDifferences(d.Unsaved)
					if d.Backup != nil {
						c.printf("\nFrom backup %d to what runs:\n", d.Backup.Id)
						c.printDifferences(d.SinceBackup)
					}
					if d.Note != nil {
						c.printf("\n%s\n", *d.Note)
					}
				}
				if err == nil && (differ(d.Unsaved) || differ(d.SinceBackup)) {
					err = errNo
				}
				return err
			}
		},
	},
	{
		name: "backup search", args: "TEXT", short: "Search the latest configuration of every device", min: 1, max: 1, example: "backup search 203.0.113.18",
		long: "Secrets are masked before it looks. It exits 1 when nothing is found.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "only in this device's")
			pattern := fs.Bool("pattern", false, "the text is a regular expression (RE2)")
			return func(ctx context.Context, c *client, args []string) error {
				r, err := call[gen.SearchResult](c, func(a *api.Client) (*http.Response, error) {
					return a.SearchBackups(ctx, gen.SearchBackupsJSONRequestBody{Text: args[0], Pattern: pattern, Device: optional(*device)})
				})
				if err != nil {
					return err
				}
				if err := c.show(r, func() {
					for _, h := range r.Items {
						c.printf("%s, backup %d, line %d:  %s\n", c.paint(bold, h.Device), h.Backup, h.Line, strings.TrimSpace(h.Text))
					}
					for _, u := range r.Unread {
						c.printf("? %s\n", u)
					}
					c.printf("%s in %s\n", count(len(r.Items), "line"), count(r.Devices, "configuration"))
				}); err != nil || len(r.Items) > 0 {
					return err
				}
				return errNo
			}
		},
	},
	{
		name: "backup health", short: "Show the state of each device's backups", example: "backup health",
		long: "It exits 1 when one is not good.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			find := fs.String("find", "", "only devices with this `text` in name, site or groups")
			return func(ctx context.Context, c *client, _ []string) error {
				hs, err := all(func(cursor *string) ([]gen.BackupHealth, *string, error) {
					p, err := call[struct {
						Items []gen.BackupHealth `json:"items"`
						Next  *string            `json:"next"`
					}](c, func(a *api.Client) (*http.Response, error) {
						return a.GetBackupHealth(ctx, &gen.GetBackupHealthParams{Cursor: cursor, Find: optional(*find)})
					})
					return p.Items, p.Next, err
				})
				if err != nil {
					return err
				}
				if err := c.show(hs, func() {
					rows := [][]string{{"DEVICE", "HEALTH", "LAST GOOD", "BACKUPS", "NEXT", "LAST ATTEMPT"}}
					for _, h := range hs {
						good, next, last := "never", "", ""
						if h.LastGood != nil {
							good = ago(*h.LastGood)
						}
						if h.Next != nil {
							next = c.in(*h.Next).Format("Mon 15:04 MST")
						}
						if h.Last != nil {
							last = string(h.Last.Outcome) + " " + ago(h.Last.BeganAt)
							if h.Last.Detail != "" {
								last += ": " + h.Last.Detail
							}
						}
						rows = append(rows, []string{h.Device, string(h.Health), good, fmt.Sprint(h.Bundles), next, last})
					}
					table(c.out, rows)
				}); err != nil {
					return err
				}
				if slices.ContainsFunc(hs, func(h gen.BackupHealth) bool { return h.Health != gen.BackupHealthHealthGood }) {
					return errNo
				}
				return nil
			}
		},
	},
	{
		name: "backup attempts", args: "DEVICE", short: "List the latest attempts to back up a device", min: 1, max: 1, example: "backup attempts hollen-fw1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				l, err := call[struct {
					Items []gen.BackupAttempt `json:"items"`
				}](c, func(a *api.Client) (*http.Response, error) { return a.ListBackupAttempts(ctx, args[0]) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"BEGAN", "WHY", "OUTCOME", "BACKUP", "DETAIL"}}
					for _, a := range l.Items {
						id := ""
						if a.Backup != nil {
							id = fmt.Sprint(*a.Backup)
						}
						rows = append(rows, []string{c.when(a.BeganAt), a.Reason, string(a.Outcome), id, a.Detail})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "backup restore", args: "BACKUP", short: "Show what restoring a backup would change; with -draft, draft the change", min: 1, max: 1, example: "backup restore 3 -parts running -draft",
		long: "Without -draft nothing is changed; it exits 1 when it cannot be done as wished. A draft is approved and started like any other change.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "another `device` to put it on")
			parts := fs.String("parts", "", "`names` of parts, with commas; by default all that can be put back, without the whole system")
			conversion := fs.Int64("conversion", 0, "`number` of a conversion whose result is put in place of the configuration")
			newKeyOK := fs.Bool("expect-new-host-key", false, "the device may show another host key than the pinned one")
			guarded := fs.Bool("accept-guarded", false, "guarded settings may change as the preview shows")
			draft := fs.Bool("draft", false, "draft the change")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "backup")
				if err != nil {
					return err
				}
				w := gen.RestoreWish{Device: optional(*device), Parts: list(*parts)}
				if *conversion != 0 {
					w.Conversion = conversion
				}
				if *newKeyOK {
					w.ExpectNewHostKey = newKeyOK
				}
				if *guarded {
					w.AcceptGuarded = guarded
				}
				if *draft {
					ch, err := call[gen.Change](c, func(a *api.Client) (*http.Response, error) {
						return a.DraftRestore(ctx, id, &gen.DraftRestoreParams{IdempotencyKey: newKey()}, w)
					})
					if err != nil {
						return err
					}
					return c.show(ch, func() {
						c.printf("Drafted change %d: backup %d goes back on %s in %d steps, %s expected.\nRead it with: verimorph change show %d\n",
							ch.Id, id, ch.Device, len(ch.Steps), span(ch.RemainingLow, ch.RemainingHigh), ch.Id)
					})
				}
				p, err := call[gen.RestorePreview](c, func(a *api.Client) (*http.Response, error) { return a.PreviewRestore(ctx, id, w) })
				if err != nil {
					return err
				}
				if err := c.show(p, func() { c.printPreview(p) }); err != nil || len(p.Refusals) == 0 {
					return err
				}
				return errNo
			}
		},
	},
}

// bytesOf is a size for people.
func bytesOf(n int64) string {
	if n < 1<<20 {
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
}

// why says in a few words why a backup was taken.
func why(b gen.Backup) string {
	switch {
	case b.Change != nil && value(b.Hop) > 0:
		return fmt.Sprintf("change %d, before hop %d", *b.Change, *b.Hop)
	case b.Change != nil:
		return fmt.Sprintf("change %d", *b.Change)
	}
	return string(b.Reason)
}

func (c *client) printBackup(d gen.BackupDetail) {
	b := d.Backup
	c.printf("Backup %d of %s, %s, taken %s (%s)\n", b.Id, b.Device, strings.TrimPrefix(b.Model+" with "+b.Version, " with "), c.when(b.TakenAt), why(b))
	if b.Held != "" {
		c.printf("Held: %s\n", b.Held)
	}
	rows := [][]string{{"PART", "KIND", "FILE", "BYTES", "SHA-256", "BY", "PROOF", "CAN BE PUT BACK"}}
	for _, p := range d.Parts {
		rows = append(rows, []string{p.Name, p.Kind, p.File, fmt.Sprint(p.Size), p.Sha256[:12], p.By, p.Proof,
			map[bool]string{true: "yes", false: "no"}[p.Restorable]})
	}
	table(c.out, rows)
	for _, l := range d.Lacks {
		mark := "lacks"
		if !l.Needed {
			mark = "has no"
		}
		c.printf("%s %s: %s\n", mark, l.Title, l.Why)
	}
	c.printf("%s\n", map[bool]string{true: "Complete.", false: "NOT complete."}[b.Complete])
}

func (c *client) printPreview(p gen.RestorePreview) {
	c.printf("Backup %d on %s, a %s with %s\n", p.Backup.Id, p.Device, p.Model, p.Version)
	for _, n := range p.Notes {
		c.printf("! %s\n", n)
	}
	for _, part := range p.Parts {
		after := ""
		if part.Save {
			after = ", is saved then"
		}
		if part.Restart {
			after = ", and the device is restarted"
		}
		c.printf("\n%s (%s): %s%s\n", c.paint(bold, part.Title), part.File, map[gen.RestorePartPreviewState]string{
			"same": "is as it was, nothing changes", "changes": "changes", "new": "is not on the device now", "unknown": "cannot be put back"}[part.State], after)
		if part.Note != "" {
			c.printf("  %s\n", part.Note)
		}
		if part.State == gen.RestorePartPreviewStateChanges && len(part.Differences) > 0 {
			c.printDifferences(part.Differences)
		}
	}
	for _, r := range p.Refusals {
		c.printf("\n%s %s\n", c.paint(red, "It cannot be done so:"), r)
	}
	if len(p.Refusals) == 0 {
		c.printf("\nNothing was changed. Add -draft to draft the change.\n")
	}
}

// differ reports whether there is more than cosmetics.
func differ(ds []gen.Difference) bool {
	return slices.ContainsFunc(ds, func(d gen.Difference) bool { return string(d.Kind) != config.Cosmetic })
}

func (c *client) printDifferences(ds []gen.Difference) {
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
}
