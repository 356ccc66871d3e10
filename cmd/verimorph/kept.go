package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/core/media"
)

// Media that are kept somewhere to bring a device back.

var keptMediaCommands = []command{
	{
		name: "media list", args: "",
		short: "Media that are kept: where each lies, how old it is, and what it would bring back", max: 0,
		example: "media list",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			all := fs.Bool("all", false, "also those that were retired")
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[items[gen.Medium]](c, func(a *api.Client) (*http.Response, error) { return a.ListMedia(ctx, &gen.ListMediaParams{All: all}) })
				if err != nil {
					return err
				}
				return c.show(l.Items, func() { c.printMedia(l.Items) })
			}
		},
	},
	{
		name: "media overview", args: "",
		short: "Which medium would bring each device back, and which devices have none", max: 0,
		example: "media overview -missing",
		long:    "It exits 1 when a device has none, or one with something older than the device is by now.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			missing := fs.Bool("missing", false, "only devices without a medium that is sure to do")
			return func(ctx context.Context, c *client, _ []string) error {
				l, err := call[items[gen.MediumCover]](c, func(a *api.Client) (*http.Response, error) { return a.CoverMedia(ctx) })
				if err != nil {
					return err
				}
				open := 0
				rows := [][]string{{"SITE", "DEVICE", "MODEL", "MEDIUM", "LABEL", "WHY"}}
				for _, x := range l.Items {
					if x.State != gen.MediumCoverStateGood {
						open++
					}
					if x.State != gen.MediumCoverStateGood || !*missing {
						rows = append(rows, []string{x.Site, x.Device, x.Model, string(x.State), value(x.Label), x.Why})
					}
				}
				if err := c.show(l.Items, func() { table(c.out, rows) }); err != nil || open == 0 {
					return err
				}
				return errNo
			}
		},
	},
	{
		name: "media make", args: "LABEL",
		short: "Make a medium that brings a device back", min: 1, max: 1,
		example: "media make gauge-2026-11 -device marrow-gauge1 -place \"Marrow Holm, cabinet\"\n  verimorph media make hollen-2026-11 -device hollen-fw1 -folder /media/stick -password < pw",
		long: "Without -folder the device writes it: that drafts a change in which somebody puts the medium in and takes it out, and what the device reads back is compared.\n" +
			"With -folder it is made here from files: the image of the release of the newest backup, and that backup, encrypted. Everything is read back and compared.\n" +
			"The same label once more makes it anew.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device, place := fs.String("device", "", "`device` that it brings back"), fs.String("place", "", "`place` where it is kept")
			folder := fs.String("folder", "", "`folder` to fill, such as a mounted stick; it must be empty or not there")
			password := fs.Bool("password", false, "encrypt the backup with a password, read from the input, instead of the keys of the service")
			terms := termFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				if *device == "" {
					return errUsage{"say which device it brings back, with -device"}
				}
				body := gen.NewMedium{Label: args[0], Device: *device, Kind: gen.Snapshot, Place: optional(*place)}
				var err error
				if body.Terms, err = terms(ctx, c); err != nil {
					return err
				}
				secret := ""
				if *folder != "" {
					body.Kind = gen.Recovery
					if *password {
						if secret, err = askPassword(c, "Password of the backup on it: "); err != nil {
							return err
						}
					}
				}
				m, err := call[gen.Medium](c, func(a *api.Client) (*http.Response, error) {
					return a.MakeMedium(ctx, &gen.MakeMediumParams{IdempotencyKey: newKey()}, body)
				})
				if err != nil {
					return err
				}
				if *folder != "" {
					return c.packMedium(ctx, args[0], *folder, secret)
				}
				return c.show(m, func() {
					c.printf("Drafted change %d: %s writes medium %s. Read it with: verimorph change show %d\n", value(m.Change), m.Device, m.Label, value(m.Change))
				})
			}
		},
	},
	{
		name: "media return", args: "LABEL FOLDER",
		short: "Look at a medium that came back, and record what was found", min: 2, max: 2,
		example: "media return gauge-2026-11 /media/card -place \"office, safe\"",
		long:    "Every file on it is read and held against what was written. It exits 1 when something is missing, was changed, or does not belong there.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			place := fs.String("place", "", "`place` where it lies from now on")
			return func(ctx context.Context, c *client, args []string) error {
				m, err := c.foundOn(ctx, args[0], args[1], *place)
				if err != nil {
					return err
				}
				if err := c.show(m, func() { c.printOnMedium(m) }); err != nil || len(m.Problems) == 0 {
					return err
				}
				return errNo
			}
		},
	},
	{
		name: "media place", args: "LABEL PLACE",
		short: "Record where a medium lies", min: 2, max: 2,
		example: "media place gauge-2026-11 \"Marrow Holm, cabinet\"",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				m, err := call[gen.Medium](c, func(a *api.Client) (*http.Response, error) {
					return a.PlaceMedium(ctx, args[0], gen.PlaceMediumJSONRequestBody{Place: args[1]})
				})
				if err != nil {
					return err
				}
				return c.show(m, func() { c.printMedia([]gen.Medium{m}) })
			}
		},
	},
	{
		name: "media retire", args: "LABEL",
		short: "Take a medium out of use for good", min: 1, max: 1,
		example: "media retire gauge-2026-11 -because \"the card is worn\"",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			why := fs.String("because", "", "why")
			return func(ctx context.Context, c *client, args []string) error {
				if *why == "" {
					return errUsage{"say why, with -because"}
				}
				a, err := c.api()
				if err != nil {
					return err
				}
				resp, err := a.RetireMedium(ctx, args[0], gen.RetireMediumJSONRequestBody{Reason: *why})
				if err != nil {
					return c.unreachable(err)
				}
				defer resp.Body.Close()
				if err := problemOf(resp); err != nil {
					return err
				}
				if !c.json {
					c.printf("Medium %s is retired. Destroy it: it holds passwords.\n", args[0])
				}
				return nil
			}
		},
	},
}

// packMedium fills a folder with what goes onto a medium, reads that back, and records what was found.
func (c *client) packMedium(ctx context.Context, label, folder, password string) error {
	if entries, err := os.ReadDir(folder); err == nil && len(entries) > 0 {
		return fmt.Errorf("%s is not empty; a medium holds nothing but its own files", folder)
	}
	a, err := c.api()
	if err != nil {
		return err
	}
	params := &gen.PackMediumParams{}
	if password != "" {
		escaped := url.PathEscape(password)
		params.ArchivePassword = &escaped
	}
	resp, err := a.PackMedium(ctx, label, params)
	if err != nil {
		return c.unreachable(err)
	}
	defer resp.Body.Close()
	if err := problemOf(resp); err != nil {
		return err
	}
	if err := unpackInto(folder, resp.Body); err != nil {
		return err
	}
	m, err := c.foundOn(ctx, label, folder, "")
	if err != nil {
		return err
	}
	if len(m.Problems) > 0 {
		return fmt.Errorf("the medium does not hold what was written to it: %s; use another one", m.Problems[0])
	}
	return c.show(m, func() {
		c.printOnMedium(m)
		c.printf("Print %s and keep it with the medium.\n", filepath.Join(folder, media.SheetFile))
	})
}

// unpackInto writes an archive to a folder.
func unpackInto(folder string, archive io.Reader) error {
	tmp, err := os.CreateTemp("", "verimorph-medium-*.zip")
	if err != nil {
		return err
	}
	_ = tmp.Close()
	defer os.Remove(tmp.Name())
	if err := writeWhole(tmp.Name(), archive); err != nil {
		return err
	}
	return unpack(tmp.Name(), folder)
}

// foundOn reads all files on a medium, and has the service hold them against what was written.
func (c *client) foundOn(ctx context.Context, label, folder, place string) (m gen.Medium, err error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return m, err
	}
	body := gen.FoundOnMedium{Place: optional(place)}
	add := func(f media.Found) {
		body.Files = append(body.Files, struct {
			Name   string `json:"name"`
			Sha256 string `json:"sha256"`
			Size   int64  `json:"size"`
		}{f.Name, f.SHA256, f.Size})
	}
	for _, e := range entries {
		if e.IsDir() {
			add(media.Found{Name: e.Name() + "/"})
			continue
		}
		f, err := hashFile(filepath.Join(folder, e.Name()))
		if err != nil {
			return m, fmt.Errorf("%s cannot be read from the medium: %w", e.Name(), err)
		}
		add(f)
	}
	if body.Files == nil {
		return m, fmt.Errorf("%s holds no file; is the medium mounted there?", folder)
	}
	return call[gen.Medium](c, func(a *api.Client) (*http.Response, error) { return a.CheckMedium(ctx, label, body) })
}

func (c *client) printOnMedium(m gen.Medium) {
	for _, p := range m.Problems {
		c.printf("  %s %s\n", c.paint(red, "x"), p)
	}
	if len(m.Problems) == 0 {
		c.printf("Medium %s: %s, all as they were written. It would bring back %s %s.\n", m.Label, count(len(m.Files), "file"), m.Device, bringsBack(m))
	}
	for _, o := range m.Older {
		c.printf("! %s\n", o)
	}
}

func bringsBack(m gen.Medium) string {
	if m.WrittenAt == nil {
		return m.Version
	}
	return m.Version + " with its configuration of " + m.WrittenAt.UTC().Format("2006-01-02 15:04 MST")
}

func (c *client) printMedia(all []gen.Medium) {
	rows := [][]string{{"LABEL", "KIND", "DEVICE", "PLACE", "STATE", "AGE", "WOULD BRING BACK", ""}}
	for _, m := range all {
		age := ""
		if m.WrittenAt != nil {
			age = count(int(time.Since(*m.WrittenAt).Hours()/24), "day")
		}
		note := strings.Join(append(append([]string{}, m.Problems...), m.Older...), "; ")
		if m.State == gen.MediumStateBeingMade && m.Change != nil {
			note = fmt.Sprintf("change %d", *m.Change)
		}
		rows = append(rows, []string{m.Label, string(m.Kind), m.Device, m.Place, strings.ReplaceAll(string(m.State), "-", " "), age, bringsBack(m), note})
	}
	table(c.out, rows)
}
