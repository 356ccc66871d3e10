package main

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"verimorph/core/media"
)

var mediaCommands = []command{
	{
		name: "media prepare", args: "CHANGE", short: "A hand-carried medium for a change", min: 1, max: 1,
		example: "media prepare 7 -folder /media/stick\n  verimorph media prepare 7 -zip change-7.zip",
		long:    "It holds the images of all hops, SHA256SUMS, a manifest and a one-page sheet of instructions. Everything that was\nwritten to a folder is read back and compared.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			folder := fs.String("folder", "", "`folder` to fill, such as a mounted stick; it must be empty or not there")
			archive := fs.String("zip", "", "`file` to write instead")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "change")
				if err != nil {
					return err
				}
				if (*folder == "") == (*archive == "") {
					return errUsage{"give one of -folder and -zip"}
				}
				return c.prepareMedium(ctx, id, *folder, *archive)
			}
		},
	},
	{
		name: "media check", args: "FOLDER", short: "Check a medium against its manifest, offline", min: 1, max: 1, example: "media check /media/stick",
		long: "It exits 1 when a file is missing, was changed, or does not belong there.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(_ context.Context, c *client, args []string) error {
				m, problems, err := checkMedium(args[0])
				if err != nil {
					return err
				}
				err = c.show(struct {
					Manifest *media.Manifest `json:"manifest"`
					Problems []string        `json:"problems"`
				}{m, problems}, func() {
					kind := "image"
					if m.Label != "" {
						kind = "file"
						c.printf("Medium %s: brings %s (%s) back to %s with backup %d, made %s\n", m.Label, m.Device, m.Model, m.To, m.Backup, m.MadeAt)
					} else {
						c.printf("Medium for change %d: %s (%s) from %s to %s, made %s\n", m.Change, m.Device, m.Model, m.From, m.To, m.MadeAt)
					}
					for _, p := range problems {
						c.printf("  %s %s\n", c.paint(red, "x"), p)
					}
					if len(problems) == 0 {
						c.printf("%s, all as they should be.\n", count(len(m.Files), kind))
					}
				})
				if err == nil && len(problems) > 0 {
					err = errNo
				}
				return err
			}
		},
	},
}

func (c *client) prepareMedium(ctx context.Context, id int64, folder, archive string) error {
	a, err := c.api()
	if err != nil {
		return err
	}
	resp, err := a.GetMedium(ctx, id)
	if err != nil {
		return c.unreachable(err)
	}
	defer resp.Body.Close()
	if err := problemOf(resp); err != nil {
		return err
	}
	if folder != "" {
		if entries, err := os.ReadDir(folder); err == nil && len(entries) > 0 {
			return fmt.Errorf("%s is not empty; a medium holds nothing but the files of its change", folder)
		}
	}
	if folder == "" {
		if err := writeWhole(archive, resp.Body); err != nil {
			return err
		}
		if !c.json {
			c.printf("%s is written\n", archive)
		}
		return nil
	}
	if err := unpackInto(folder, resp.Body); err != nil {
		return err
	}
	m, problems, err := checkMedium(folder)
	if err != nil {
		return err
	}
	if len(problems) > 0 {
		return fmt.Errorf("the medium does not hold what was written to it: %s; use another one", problems[0])
	}
	return c.show(m, func() {
		for _, f := range m.Files {
			c.printf("%s  %s\n", f.Name, mib(f.Size))
		}
		c.printf("Written, read back and compared. Print %s and take it along.\n", filepath.Join(folder, media.SheetFile))
	})
}

// writeWhole writes a file that is there whole or not at all.
func writeWhole(name string, r io.Reader) error {
	part := name + ".part"
	f, err := os.Create(part)
	if err != nil {
		return err
	}
	defer os.Remove(part)
	_, err = io.Copy(f, r)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(part, name)
}

func unpack(archive, folder string) error {
	z, err := zip.OpenReader(archive)
	if err != nil {
		return err
	}
	defer z.Close()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for _, f := range z.File {
		if f.Name != filepath.Base(f.Name) {
			return fmt.Errorf("the archive holds %q, which is no plain file name", f.Name)
		}
		r, err := f.Open()
		if err != nil {
			return err
		}
		err = errors.Join(writeWhole(filepath.Join(folder, f.Name), r), r.Close())
		if err != nil {
			return err
		}
	}
	return nil
}

func checkMedium(folder string) (*media.Manifest, []string, error) {
	data, err := os.ReadFile(filepath.Join(folder, media.ManifestFile))
	if err != nil {
		return nil, nil, fmt.Errorf("this is no medium of ours: %w", err)
	}
	var m media.Manifest
	if err := json.Unmarshal(data, &m); err != nil || m.Format != media.Format {
		return nil, nil, fmt.Errorf("%s is damaged or of another format", filepath.Join(folder, media.ManifestFile))
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, nil, err
	}
	var found []media.Found
	for _, e := range entries {
		if e.IsDir() {
			found = append(found, media.Found{Name: e.Name() + "/"})
			continue
		}
		f, err := hashFile(filepath.Join(folder, e.Name()))
		if err != nil {
			return nil, nil, err
		}
		found = append(found, f)
	}
	problems := media.Check(&m, found)
	sums, err := os.Open(filepath.Join(folder, media.SumsFile))
	if err != nil {
		return &m, append(problems, media.SumsFile+": is missing"), nil
	}
	defer sums.Close()
	list, err := media.ReadSums(sums)
	if err != nil {
		problems = append(problems, media.SumsFile+": "+err.Error())
	}
	for _, f := range m.Files {
		if !slices.Contains(list, media.Sum{SHA256: f.SHA256, Name: f.Name}) && err == nil {
			problems = append(problems, fmt.Sprintf("%s: says something else about %s than the manifest", media.SumsFile, f.Name))
		}
	}
	return &m, problems, nil
}

func hashFile(name string) (media.Found, error) {
	f, err := os.Open(name)
	if err != nil {
		return media.Found{}, err
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	return media.Found{Name: filepath.Base(name), Size: n, SHA256: hex.EncodeToString(h.Sum(nil))}, err
}
