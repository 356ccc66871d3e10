package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/catalog"
	"verimorph/core/config"
)

var imageCommands = []command{
	{
		name: "image list", short: "The image store", example: "image list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				images, err := all(func(cursor *string) ([]gen.Image, *string, error) {
					p, err := call[gen.ImagePage](c, func(a *api.Client) (*http.Response, error) {
						return a.ListImages(ctx, &gen.ListImagesParams{Cursor: cursor})
					})
					return p.Items, p.Next, err
				})
				if err != nil {
					return err
				}
				return c.show(images, func() {
					rows := [][]string{{"FILE", "VERSION", "MODELS", "SIZE", "SHA-256"}}
					for _, im := range images {
						rows = append(rows, []string{im.File, im.Version, strings.Join(im.Models, ", "), mib(im.Size), im.Sha256[:16]})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "image add", args: "FILE...", short: "Put firmware files into the image store", min: 1, max: -1, example: "image add th60-5.4.2.img",
		long: "A file is taken only when the catalogue knows its SHA-256 and its header names the same model and version.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				added := []gen.Image{}
				for _, name := range args {
					im, err := addImage(ctx, c, name)
					if err != nil {
						return err
					}
					added = append(added, im)
					if !c.json {
						c.printf("%s  %s for %s, %s\n", im.File, im.Version, strings.Join(im.Models, ", "), mib(im.Size))
					}
				}
				if c.json {
					return c.printJSON(added)
				}
				return nil
			}
		},
	},
}

func addImage(ctx context.Context, c *client, name string) (gen.Image, error) {
	f, err := os.Open(name)
	if err != nil {
		return gen.Image{}, err
	}
	defer f.Close()
	return call[gen.Image](c, func(a *api.Client) (*http.Response, error) {
		return a.AddImageWithBody(ctx, &gen.AddImageParams{File: filepath.Base(name)}, "application/octet-stream", io.Reader(f))
	})
}

var catalogueCommands = []command{
	{
		name: "catalogue check", args: "FOLDER", short: "Check catalogue files, offline", min: 1, max: 1, example: "catalogue check demo/catalog",
		long: "It exits 1 when a file cannot be used; doubts are printed but do not count.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(_ context.Context, c *client, args []string) error {
				if _, err := os.Stat(args[0]); err != nil {
					return err
				}
				cat, found := catalog.ReadDir(os.DirFS(args[0]))
				err := c.show(found, func() {
					for _, f := range found {
						c.printf("%s\n", f)
					}
					for _, f := range cat.Families {
						c.printf("%s: family %s of %s, %d models, %d releases, %d rules\n", f.File, f.Name, f.Maker, len(f.Models), len(f.Releases), len(f.Rules))
					}
				})
				if err == nil && len(found.Errors()) > 0 {
					err = errNo
				}
				return err
			}
		},
	},
	{
		name: "catalogue load", args: "FILE...", short: "Load catalogue files into the service", min: 1, max: -1, example: "catalogue load demo/catalog/*.yaml",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				loaded := []gen.Loaded{}
				for _, name := range args {
					data, err := os.ReadFile(name)
					if err != nil {
						return err
					}
					l, err := call[gen.Loaded](c, func(a *api.Client) (*http.Response, error) {
						return a.LoadCatalogueWithBody(ctx, filepath.Base(name), "application/yaml", strings.NewReader(string(data)))
					})
					if err != nil {
						return err
					}
					loaded = append(loaded, l)
					if !c.json {
						c.printf("%s %s\n", l.File, map[bool]string{true: "is loaded", false: "was loaded before, nothing changed"}[l.Changed])
						for _, d := range l.Doubts {
							c.printf("  %s\n", d)
						}
					}
				}
				if c.json {
					return c.printJSON(loaded)
				}
				return nil
			}
		},
	},
	{
		name: "catalogue list", short: "What is loaded", example: "catalogue list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[struct {
					Items []gen.CatalogueFile `json:"items"`
				}](c, func(a *api.Client) (*http.Response, error) { return a.GetCatalogue(ctx) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"FILE", "FAMILY", "MAKER", "MODELS", "RELEASES", "LOADED"}}
					for _, f := range l.Items {
						rows = append(rows, []string{f.File, f.Family, f.Maker, strings.Join(f.Models, ", "), fmt.Sprint(f.Releases), ago(f.LoadedAt) + " by " + f.LoadedBy})
					}
					table(c.out, rows)
				})
			}
		},
	},
}

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
				id, err := backupID(args[0])
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
				from, err := backupID(args[0])
				if err != nil {
					return err
				}
				to, err := backupID(args[1])
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

func backupID(s string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id < 1 {
		return 0, errUsage{fmt.Sprintf("%q is not the number of a backup", s)}
	}
	return id, nil
}

var configCommands = []command{{
	name: "config compare", args: "FILE FILE", short: "What differs between two configuration files, offline", min: 2, max: 2,
	long:    "Statements are compared by identity, not by line. It exits 1 when the files differ.",
	example: "config compare before.cfg after.cfg -secret secret,watchword",
	setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
		secret := fs.String("secret", "secret,password,watchword", "`words` after which everything is masked, separated by commas")
		ordered := fs.String("ordered", "", "`blocks` in which order matters, separated by commas")
		return func(_ context.Context, c *client, args []string) error {
			var docs []*config.Document
			for _, name := range args {
				data, err := os.ReadFile(name)
				if err != nil {
					return err
				}
				d, broken := config.Parse(name, string(data))
				if len(broken) > 0 {
					var all []error
					for _, b := range broken {
						all = append(all, b)
					}
					return fmt.Errorf("cannot be read:\n%w", errors.Join(all...))
				}
				docs = append(docs, d)
			}
			return c.showDifferences(view.Differences(config.Compare(docs[0], docs[1], config.Schema{Secrets: strings.Split(*secret, ","), Ordered: strings.Split(*ordered, ",")})))
		}
	},
}}

func (c *client) showDifferences(ds []gen.Difference) error {
	err := c.show(ds, func() {
		for _, d := range ds {
			c.printf("%s  %s\n", c.paint(bold, string(d.Kind)), d.Path)
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
	if err == nil && len(ds) > 0 {
		err = errNo
	}
	return err
}
