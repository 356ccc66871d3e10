package main

import (
	"context"
	"flag"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/catalog"
	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/yamldoc"
)

var catalogueCommands = []command{
	{
		name: "catalogue check", args: "FOLDER", short: "Check catalogue, schema and conversion files, offline", min: 1, max: 1, example: "catalogue check demo/catalog",
		long: "Findings come one a line, as file:line:column: message. It exits 0 when there is none and 1 when there are some.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(_ context.Context, c *client, args []string) error {
				if _, err := os.Stat(args[0]); err != nil {
					return err
				}
				l, found := convert.ReadDir(os.DirFS(args[0]))
				if found == nil {
					found = catalog.Findings{}
				}
				cat := l.Catalogue
				err := c.show(found, func() {
					for _, f := range found {
						c.printf("%s\n", f)
					}
					for _, f := range cat.Families {
						if c.terminal {
							c.printf("%s: family %s of %s, %d models, %d releases, %d rules\n", f.File, f.Name, f.Maker, len(f.Models),
								len(f.Releases), len(f.Rules))
						}
					}
					if c.terminal {
						c.printf("%d schemas and %d conversions of configurations\n", len(l.Schemas), len(l.Conversions))
					}
				})
				if err == nil && len(found) > 0 {
					err = errNo
				}
				return err
			}
		},
	},
	{
		name: "catalogue load", args: "FILE|FOLDER...", short: "Load catalogue files into the service", min: 1, max: -1, example: "catalogue load demo/catalog",
		long: "With -check nothing is loaded: the service checks each file against those that are loaded.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			check := fs.Bool("check", false, "only check, load nothing")
			return func(ctx context.Context, c *client, args []string) error {
				loaded := []gen.Loaded{}
				names, err := catalogueFiles(args)
				if err != nil {
					return err
				}
				for _, name := range names {
					data, err := os.ReadFile(name)
					if err != nil {
						return err
					}
					l, err := call[gen.Loaded](c, func(a *api.Client) (*http.Response, error) {
						return a.LoadCatalogueWithBody(ctx, filepath.Base(name), &gen.LoadCatalogueParams{Check: check}, "application/yaml",
							strings.NewReader(string(data)))
					})
					if err != nil {
						return err
					}
					loaded = append(loaded, l)
					if !c.json {
						word := map[bool]string{true: "is loaded", false: "was loaded before, nothing changed"}[l.Changed]
						if *check {
							word = "can be loaded"
						}
						c.printf("%s %s\n", l.File, word)
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
		name: "catalogue list", short: "List the loaded catalogue files", example: "catalogue list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[struct {
					Items         []gen.CatalogueFile     `json:"items"`
					Configuration []gen.ConfigurationFile `json:"configuration"`
				}](c, func(a *api.Client) (*http.Response, error) { return a.GetCatalogue(ctx) })
				if err != nil {
					return err
				}
				return c.show(l, func() {
					rows := [][]string{{"FILE", "FAMILY", "MAKER", "MODELS", "RELEASES", "LOADED"}}
					for _, f := range l.Items {
						rows = append(rows, []string{f.File, f.Family, f.Maker, strings.Join(f.Models, ", "), fmt.Sprint(f.Releases),
							ago(f.LoadedAt) + " by " + f.LoadedBy})
					}
					table(c.out, rows)
					if len(l.Configuration) == 0 {
						return
					}
					c.printf("\n")
					rows = [][]string{{"FILE", "KIND", "ID", "TITLE", "LOADED"}}
					for _, f := range l.Configuration {
						rows = append(rows, []string{f.File, string(f.Kind), f.Id, f.Title, ago(f.LoadedAt) + " by " + f.LoadedBy})
					}
					table(c.out, rows)
					for _, f := range l.Configuration {
						if f.Trouble != nil {
							c.printf("! %s cannot be used: %s\n", f.File, *f.Trouble)
						}
					}
				})
			}
		},
	},
	{
		name: "catalogue runs", args: "MODEL", short: "The releases of a model's family, and which it may run", min: 1, max: 1,
		example: "catalogue runs TH-40\n  verimorph catalogue runs TH-40 -catalog demo/catalog",
		long:    "With -catalog no service is needed.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			var folder string
			fs.StringVar(&folder, "catalog", "", "offline: `folder` with catalogue files")
			fs.StringVar(&folder, "catalogue", "", "the same as -catalog")
			return func(ctx context.Context, c *client, args []string) error {
				items, err := modelReleases(ctx, c, folder, args[0])
				if err != nil {
					return err
				}
				return c.show(items, func() {
					rows := [][]string{{"VERSION", "TRAIN", "DATE", "STAGE", "MAY RUN", "IMAGE"}}
					for _, r := range items {
						image := map[bool]string{true: "-", false: ""}[folder != ""]
						if r.There != nil && folder == "" {
							image = map[bool]string{true: "here", false: "not here"}[*r.There]
						}
						may := "yes"
						if r.Why != nil {
							may = "no: " + *r.Why
						}
						rows = append(rows, []string{r.Version, r.Train, value(r.Date), string(r.Stage), may, image})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "catalogue history", args: "FILE", short: "Every version of a catalogue file that was loaded", min: 1, max: 1, example: "catalogue history tarnholm-th.yaml",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				l, err := call[items[gen.CatalogueVersion]](c, func(a *api.Client) (*http.Response, error) { return a.ListCatalogueVersions(ctx, args[0]) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"VERSION", "LOADED", "BY", "SHA-256", ""}}
					for _, v := range l.Items {
						word := map[bool]string{true: "in use"}[v.Current] + map[bool]string{true: " (gone back to)"}[v.Restored]
						rows = append(rows, []string{fmt.Sprint(v.Id), ago(v.LoadedAt), v.LoadedBy, v.Sha256[:16], strings.TrimSpace(word)})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "catalogue show", args: "FILE VERSION", short: "The text of a version of a catalogue file", min: 2, max: 2, example: "catalogue show tarnholm-th.yaml 7",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[1], "version")
				if err != nil {
					return err
				}
				text, err := call[string](c, func(a *api.Client) (*http.Response, error) { return a.ReadCatalogueVersion(ctx, args[0], id) })
				if err != nil {
					return err
				}
				return c.show(map[string]string{"text": text}, func() { c.printf("%s", text) })
			}
		},
	},
	{
		name: "catalogue compare", args: "FILE VERSION VERSION", short: "What differs between two versions of a catalogue file", min: 3, max: 3, example: "catalogue compare tarnholm-th.yaml 1 8",
		long: "It exits 1 when they differ.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				a, err := number(args[1], "version")
				if err != nil {
					return err
				}
				b, err := number(args[2], "version")
				if err != nil {
					return err
				}
				l, err := call[items[gen.CatalogueDifference]](c, func(ac *api.Client) (*http.Response, error) {
					return ac.CompareCatalogueVersions(ctx, args[0], a, b)
				})
				if err != nil {
					return err
				}
				err = c.show(l.Items, func() {
					for _, d := range l.Items {
						c.printf("%s  %s%s\n", c.paint(bold, string(d.Kind)), d.What, map[bool]string{true: ": " + d.Detail}[d.Detail != ""])
					}
					if len(l.Items) == 0 {
						c.printf("No difference.\n")
					}
				})
				if err == nil && len(l.Items) > 0 {
					err = errNo
				}
				return err
			}
		},
	},
	{
		name: "catalogue back", args: "FILE VERSION", short: "Load an older version of a catalogue file again", min: 2, max: 2, example: "catalogue back tarnholm-th.yaml 1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[1], "version")
				if err != nil {
					return err
				}
				l, err := call[gen.Loaded](c, func(a *api.Client) (*http.Response, error) { return a.RestoreCatalogueVersion(ctx, args[0], id) })
				if err != nil {
					return err
				}
				return c.show(l, func() {
					c.printf("%s %s\n", l.File, map[bool]string{true: fmt.Sprintf("is what it was in version %d; the history keeps the others", id),
						false: "is like that already"}[l.Changed])
				})
			}
		},
	},
}

// items is a list as the service wraps it.
type items[T any] struct {
	Items []T `json:"items"`
}

// number reads the number of a record.
func number(s, what string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id < 1 {
		return 0, errUsage{fmt.Sprintf("%q is not the number of a %s", s, what)}
	}
	return id, nil
}

// catalogueFiles puts the files of folders in the place of the folders: catalogue files first, then schemas, each after
// the one it extends, then conversions.
func catalogueFiles(args []string) (names []string, err error) {
	for _, arg := range args {
		if st, err := os.Stat(arg); err != nil || !st.IsDir() {
			names = append(names, arg)
			continue
		}
		var found []string
		err := filepath.WalkDir(arg, func(name string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() && filepath.Ext(name) == ".yaml" {
				found = append(found, name)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
		if len(found) == 0 {
			return nil, fmt.Errorf("%s holds no .yaml file", arg)
		}
		names = append(names, found...)
	}
	extends, depth := map[string]string{}, map[string]int{}
	for _, name := range names {
		if data, err := os.ReadFile(name); err == nil && yamldoc.FormatOf(data) == config.SchemaFormat {
			extends[yamldoc.FieldOf(data, "id")] = yamldoc.FieldOf(data, "extends")
		}
	}
	for _, name := range names {
		data, err := os.ReadFile(name)
		switch {
		case err != nil:
		case yamldoc.FormatOf(data) == convert.Format:
			depth[name] = 1000
		case yamldoc.FormatOf(data) == config.SchemaFormat:
			for id := yamldoc.FieldOf(data, "id"); id != "" && depth[name] < 100; id = extends[id] {
				depth[name]++
			}
		}
	}
	slices.SortStableFunc(names, func(a, b string) int { return depth[a] - depth[b] })
	return names, nil
}

func modelReleases(ctx context.Context, c *client, folder, model string) ([]gen.Release, error) {
	if folder == "" {
		l, err := call[items[gen.Release]](c, func(a *api.Client) (*http.Response, error) { return a.ListModelReleases(ctx, model) })
		return l.Items, err
	}
	cat, err := readCatalogue(folder)
	if err != nil {
		return nil, err
	}
	f, notRun, err := path.NewPlanner(cat).MayRun(model)
	if err != nil {
		fmt.Fprintf(c.err, "verimorph catalogue runs: %s\n", err)
		return nil, errNo
	}
	return view.Releases(f, model, "", notRun, nil), nil
}
