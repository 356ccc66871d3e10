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
	"slices"
	"strings"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

var imageCommands = []command{
	{
		name: "image list", short: "List the image store", example: "image list",
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
					rows := [][]string{{"FILE", "VERSION", "MODELS", "SIZE", "SIGNED", "SHA-256"}}
					for _, im := range images {
						version := im.Version
						if im.Part != nil {
							version = *im.Part + " " + version
						}
						rows = append(rows, []string{im.File, version, strings.Join(im.Models, ", "), mib(im.Size), map[bool]string{true: "yes", false: "-"}[im.Signed], im.Sha256[:16]})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "image add", args: "FILE|FOLDER...", short: "Put firmware files into the image store", min: 1, max: -1, example: "image add th60-5.4.2.img",
		long: "A file is taken only when the catalogue knows its SHA-256 and its header names the same model and version. A maker's\nsignature that lies beside it as FILE.sig is checked too. An upload that broke off goes on where it stopped when the\nsame file is added again. Of a folder, files that are no images of the catalogue are left out.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				added := []gen.Image{}
				names, folders, err := imageFiles(args)
				if err != nil {
					return err
				}
				for _, name := range names {
					im, err := c.upload(ctx, name)
					var refused *problemError
					if errors.As(err, &refused) && refused.Status == http.StatusUnprocessableEntity && folders[name] {
						fmt.Fprintf(c.err, "left out: %s\n", refused.Detail)
						continue
					}
					if err != nil {
						return err
					}
					added = append(added, im)
					if !c.json {
						c.printf("%s  %s for %s, %s%s%s\n", im.File, im.Version, strings.Join(im.Models, ", "), mib(im.Size),
							map[bool]string{true: ", signature is right"}[im.Signed], map[bool]string{true: " (was there already)"}[im.Already])
					}
				}
				if c.json {
					return c.printJSON(added)
				}
				return nil
			}
		},
	},
	{
		name: "image delete", args: "FILE...", short: "Delete images that nothing needs", min: 1, max: -1, example: "image delete th60-4.2.1.img",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				r, err := call[gen.Retention](c, func(a *api.Client) (*http.Response, error) { return a.GetRetention(ctx) })
				if err != nil {
					return err
				}
				for _, name := range args {
					i := slices.IndexFunc(r.Images, func(im gen.Retained) bool { return im.File == name || im.Sha256 == name })
					if i < 0 {
						fmt.Fprintf(c.err, "verimorph image delete: the image store has no %q\n", name)
						return errNo
					}
					if _, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.DeleteImage(ctx, r.Images[i].Sha256) }); err != nil {
						return err
					}
					if !c.json {
						c.printf("%s is deleted\n", r.Images[i].File)
					}
				}
				return nil
			}
		},
	},
	{
		name: "image keep", short: "Show which images are needed, which may be deleted, and which devices have no way back", example: "image keep",
		long: "It exits 1 when the version that some device runs now has no image here.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				r, err := call[gen.Retention](c, func(a *api.Client) (*http.Response, error) { return a.GetRetention(ctx) })
				if err != nil {
					return err
				}
				err = c.show(r, func() {
					rows := [][]string{{"FILE", "SIZE", "NEEDED BY"}}
					for _, im := range r.Images {
						needed := strings.Join(im.Needed, "; ")
						if im.Deletable {
							needed = "nothing, may be deleted"
						}
						rows = append(rows, []string{im.File, mib(im.Size), needed})
					}
					table(c.out, rows)
					c.printf("\nDeleting what may be deleted would free %s.\n", mib(r.Freed))
					for _, d := range r.Devices {
						c.printf("%s %s: %s\n", c.paint(yellow, "!"), d.Device, d.Text)
					}
				})
				if err == nil && len(r.Devices) > 0 {
					err = errNo
				}
				return err
			}
		},
	},
	{
		name: "image check", short: "Verify the hash of every stored image", example: "image check",
		long: "It exits 1 when one is missing or damaged. Damaged images are never sent to a device.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				r, err := call[gen.StoreCheck](c, func(a *api.Client) (*http.Response, error) { return a.CheckImages(ctx) })
				if err != nil {
					return err
				}
				err = c.show(r, func() {
					c.printf("%s checked, %d damaged\n", count(r.Checked, "image"), len(r.Damaged))
					for _, d := range r.Damaged {
						c.printf("  %s %s\n", c.paint(red, "x"), d)
					}
				})
				if err == nil && len(r.Damaged) > 0 {
					err = errNo
				}
				return err
			}
		},
	},
	{
		name: "upload list", short: "Uploads that are not complete", example: "upload list",
		long: "Adding the same file again goes on where it stopped.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[items[gen.Upload]](c, func(a *api.Client) (*http.Response, error) { return a.ListUploads(ctx) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() {
					rows := [][]string{{"NUMBER", "FILE", "ARRIVED", "BY", "BEGUN"}}
					for _, u := range l.Items {
						rows = append(rows, []string{fmt.Sprint(u.Id), u.File, mib(u.Offset) + " of " + mib(u.Size), u.StartedBy, ago(u.StartedAt)})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "upload drop", args: "NUMBER", short: "Delete an upload and what has arrived of it", min: 1, max: 1, example: "upload drop 3",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "upload")
				if err != nil {
					return err
				}
				_, err = call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.DropUpload(ctx, id) })
				return err
			}
		},
	},
	{
		name: "fetch", args: "[FILE...]", short: "Fetch images from the makers' release sites", min: 0, max: -1,
		example: "fetch th60-5.4.2.img\n  verimorph fetch -change 7",
		long:    "It shows progress until all are there; with -no-wait it returns at once. The service goes on either way, also over\nrestarts. It exits 1 when a download fails.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			change := fs.Int64("change", 0, "what this `change` lacks")
			site := fs.String("site", "", "only from this `site`")
			noWait := fs.Bool("no-wait", false, "return at once")
			return func(ctx context.Context, c *client, args []string) error {
				body := gen.NewFetch{Files: &args, Site: optional(*site)}
				if *change > 0 {
					body.Change = change
				} else if len(args) == 0 {
					return errUsage{"name files, or -change"}
				}
				l, err := call[items[gen.Fetch]](c, func(a *api.Client) (*http.Response, error) { return a.StartFetches(ctx, body) })
				if err != nil {
					return err
				}
				if len(l.Items) == 0 && !c.json {
					c.printf("Everything is in the image store.\n")
				}
				if *noWait || len(l.Items) == 0 {
					return c.show(l.Items, func() { c.printFetches(l.Items) })
				}
				return c.followFetches(ctx, l.Items)
			}
		},
	},
	{
		name: "fetch list", short: "Downloads from release sites, newest first", example: "fetch list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[items[gen.Fetch]](c, func(a *api.Client) (*http.Response, error) { return a.ListFetches(ctx) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() { c.printFetches(l.Items) })
			}
		},
	},
	fetchAction("pause", "Pause a download; what has arrived stays"),
	fetchAction("resume", "Continue a download that was paused or failed"),
	fetchAction("stop", "Cancel a download and delete what has arrived"),
}

func fetchAction(action, short string) command {
	return command{
		name: "fetch " + action, args: "NUMBER", short: short, min: 1, max: 1, example: "fetch " + action + " 3",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "download")
				if err != nil {
					return err
				}
				f, err := call[gen.Fetch](c, func(a *api.Client) (*http.Response, error) {
					return a.ActOnFetch(ctx, id, action)
				})
				if err != nil {
					return err
				}
				return c.show(f, func() { c.printFetches([]gen.Fetch{f}) })
			}
		},
	}
}

func (c *client) printFetches(fs []gen.Fetch) {
	if len(fs) == 0 {
		c.printf("No downloads.\n")
		return
	}
	rows := [][]string{{"NUMBER", "FILE", "SITE", "STATE", "DONE", ""}}
	for _, f := range fs {
		rows = append(rows, []string{fmt.Sprint(f.Id), f.File, f.Site, string(f.State), fmt.Sprintf("%s of %s", mib(f.Done), mib(f.Size)), f.Note})
	}
	table(c.out, rows)
}

// followFetches shows downloads until they have ended.
func (c *client) followFetches(ctx context.Context, want []gen.Fetch) error {
	said := map[int64]string{}
	for {
		l, err := call[items[gen.Fetch]](c, func(a *api.Client) (*http.Response, error) { return a.ListFetches(ctx) })
		if err != nil {
			return err
		}
		open, failed := 0, 0
		for i, w := range want {
			k := slices.IndexFunc(l.Items, func(f gen.Fetch) bool { return f.Id == w.Id })
			if k < 0 {
				continue
			}
			f := l.Items[k]
			want[i] = f
			switch f.State {
			case gen.FetchStateWaiting, gen.FetchStateRunning:
				open++
			case gen.FetchStateDone:
			default:
				failed++
			}
			text := fmt.Sprintf("%s  %s", f.File, f.State)
			if f.State != gen.FetchStateRunning {
				text += "  " + f.Note
			} else if c.terminal {
				text += fmt.Sprintf("  %3d%%", 100*f.Done/max(f.Size, 1))
				if f.SecondsLeft != nil {
					text += "  " + duration(*f.SecondsLeft) + " left"
				}
			}
			if !c.json && said[f.Id] != text {
				said[f.Id] = text
				c.printf("%s\n", text)
			}
		}
		if open == 0 {
			if c.json {
				err = c.printJSON(want)
			}
			if err == nil && failed > 0 {
				err = errNo
			}
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// imageFiles puts the files of folders in the place of the folders; folders says which files came from one.
func imageFiles(args []string) (names []string, folders map[string]bool, err error) {
	folders = map[string]bool{}
	for _, arg := range args {
		st, err := os.Stat(arg)
		if err != nil {
			return nil, nil, err
		}
		if !st.IsDir() {
			names = append(names, arg)
			continue
		}
		entries, err := os.ReadDir(arg)
		if err != nil {
			return nil, nil, err
		}
		for _, e := range entries {
			if name := filepath.Join(arg, e.Name()); e.Type().IsRegular() && filepath.Ext(name) != ".sig" && filepath.Ext(name) != ".part" {
				names = append(names, name)
				folders[name] = true
			}
		}
	}
	return names, folders, nil
}

// piece is how much of a file is sent in one call: what is lost at most when the line breaks in a bad moment.
const piece = 8 << 20

// upload sends a file from where the service has it, and goes on after a broken line.
func (c *client) upload(ctx context.Context, name string) (gen.Image, error) {
	f, err := os.Open(name)
	if err != nil {
		return gen.Image{}, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return gen.Image{}, err
	}
	if st.Size() == 0 {
		fmt.Fprintf(c.err, "verimorph image add: %s is empty; get it again\n", name)
		return gen.Image{}, errNo
	}
	body := gen.NewUpload{File: filepath.Base(name), Size: st.Size()}
	if sig, err := os.ReadFile(name + ".sig"); err == nil {
		body.Signature = &sig
	}
	begin := func() (gen.Upload, error) {
		return call[gen.Upload](c, func(a *api.Client) (*http.Response, error) { return a.StartUpload(ctx, body) })
	}
	up, err := begin()
	if err != nil {
		return gen.Image{}, err
	}
	for tries := 0; ; {
		up, err = call[gen.Upload](c, func(a *api.Client) (*http.Response, error) {
			part := io.NewSectionReader(f, up.Offset, min(piece, st.Size()-up.Offset))
			return a.ContinueUploadWithBody(ctx, up.Id, &gen.ContinueUploadParams{Offset: up.Offset}, "application/octet-stream", part)
		})
		var refused *problemError
		switch {
		case err == nil && up.Image != nil:
			c.status("")
			return *up.Image, nil
		case err == nil:
			tries = 0
			c.status(fmt.Sprintf("%s  %3d%%", body.File, 100*up.Offset/st.Size()))
			continue
		case errors.As(err, &refused) && refused.Status != http.StatusConflict, ctx.Err() != nil:
			return gen.Image{}, err
		}
		// The line broke, or a piece is still arriving: ask where the upload stands, and go on from there.
		if tries++; tries > 5 {
			return gen.Image{}, fmt.Errorf("%w; what has arrived stays with the service: add the file again to go on", err)
		}
		time.Sleep(time.Duration(tries) * 500 * time.Millisecond)
		if again, e := begin(); e == nil {
			up = again
		}
	}
}

// status shows a line that the next one replaces, on a terminal only.
func (c *client) status(text string) {
	if c.terminal {
		c.printf("\r\x1b[K%s", text)
	}
}
