package main

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/backupstore"
	"verimorph/core/backup"
	"verimorph/vault"
)

// Reading a backup store and archives with nothing but their files and the key.

// identities reads a key file for work without the service.
func identities(file string) (out []age.Identity, err error) {
	if file == "" {
		return nil, errUsage{"-key is needed"}
	}
	keys, err := vault.ReadKeyFile(file)
	for _, k := range keys {
		out = append(out, k)
	}
	return out, err
}

// offlineKeys opens a store and writes nothing to it.
type offlineKeys []age.Identity

func (k offlineKeys) Recipients() ([]age.Recipient, error) { return nil, errors.New("it is only read") }
func (k offlineKeys) Identities() ([]age.Identity, error)  { return k, nil }

// checkStore asks the service for a check, or does it on a folder.
func checkStore(ctx context.Context, c *client, folder, key string, deep bool) (gen.BackupCheck, error) {
	if folder == "" {
		return call[gen.BackupCheck](c, func(a *api.Client) (*http.Response, error) {
			return a.CheckBackups(ctx, gen.CheckBackupsJSONRequestBody{Deep: &deep})
		})
	}
	ids, err := identities(key)
	if err != nil {
		return gen.BackupCheck{}, err
	}
	if st, err := os.Stat(folder); err != nil || !st.IsDir() {
		return gen.BackupCheck{}, fmt.Errorf("%s is no folder", folder)
	}
	s, err := backupstore.Open(folder, offlineKeys(ids))
	if err != nil {
		return gen.BackupCheck{}, err
	}
	defer s.Close()
	began := time.Now()
	r, err := s.Check(ctx, backupstore.Checking{Deep: deep})
	if err != nil {
		return gen.BackupCheck{}, err
	}
	out := gen.BackupCheck{Volumes: r.Volumes, Bundles: r.Bundles, Objects: r.Objects, Stored: r.Stored, Content: r.Content, Seconds: time.Since(began).Seconds(), Damages: []gen.BackupDamage{}}
	for _, d := range r.Damages {
		what := d.What
		if len(d.Lost) > 0 {
			what += fmt.Sprintf(" (%s hit)", count(len(d.Lost), "backup"))
		}
		out.Damages = append(out.Damages, gen.BackupDamage{Volume: d.Volume, What: what, Backups: []gen.Backup{}})
	}
	return out, nil
}

// maxArchive bounds an archive that is opened, in bytes.
const maxArchive = 1 << 30

// An opened bundle is one that was found in archives or volumes.
type opened struct {
	Device  string    `json:"device"`
	Version string    `json:"version"`
	TakenAt time.Time `json:"takenAt"`
	Parts   []string  `json:"parts"`
	Missing []string  `json:"missing"`
	Folder  string    `json:"folder,omitempty"`
}

// An opener lists bundles, those of one device or all (""), and writes their parts into folders beneath out; "": it writes nothing.
type opener struct {
	out, device string
	all         []opened
}

// take takes a bundle; has tells what is not there.
func (o *opener) take(m *backup.Manifest, has func(*backup.Part) bool, content func(*backup.Part) ([]byte, error)) error {
	if o.device != "" && m.Device != o.device {
		return nil
	}
	f := opened{Device: m.Device, Version: m.Version, TakenAt: m.TakenAt, Parts: []string{}, Missing: []string{}}
	if o.out != "" {
		f.Folder = filepath.Join(o.out, filepath.Base(m.Device), m.TakenAt.UTC().Format("20060102-150405")+"-"+m.ID[:min(6, len(m.ID))])
	}
	for i := range m.Parts {
		p := &m.Parts[i]
		if !has(p) {
			f.Missing = append(f.Missing, p.File)
			continue
		}
		f.Parts = append(f.Parts, p.File)
		if o.out == "" {
			continue
		}
		data, err := content(p)
		if err != nil {
			return err
		}
		name := filepath.Join(f.Folder, filepath.FromSlash(p.File))
		if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(name, data, 0o600); err != nil {
			return err
		}
	}
	o.all = append(o.all, f)
	return nil
}

// archive takes the bundle of an exported archive.
func (o *opener) archive(name string, ids []age.Identity) error {
	m, parts, err := openArchive(name, ids)
	if err == nil {
		err = o.take(m, func(*backup.Part) bool { return true }, func(p *backup.Part) ([]byte, error) { return parts[p.Name], nil })
	}
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// volumes takes the bundles in volumes of a backup store.
func (o *opener) volumes(names []string, ids []age.Identity) error {
	s, err := backupstore.OpenFiles(names, ids)
	if err != nil {
		return err
	}
	defer s.Close()
	bundles, err := s.Bundles()
	if err != nil {
		return err
	}
	for _, sum := range bundles {
		m, err := s.Manifest(sum)
		if err == nil {
			err = o.take(m, func(p *backup.Part) bool { return s.Has(p.SHA256) }, func(p *backup.Part) ([]byte, error) { return s.Read(p.SHA256) })
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// openBackups opens archives and volumes with a key file.
func openBackups(c *client, files []string, key, out, device string) error {
	ids, err := identities(key)
	if err != nil {
		return err
	}
	o := &opener{out: out, device: device, all: []opened{}}
	var volumes []string
	for _, name := range files {
		if strings.HasSuffix(name, ".vmv") {
			volumes = append(volumes, name)
		} else if err := o.archive(name, ids); err != nil {
			return err
		}
	}
	if err := o.volumes(volumes, ids); err != nil {
		return err
	}
	slices.SortFunc(o.all, func(a, b opened) int { return cmp.Or(cmp.Compare(a.Device, b.Device), a.TakenAt.Compare(b.TakenAt)) })
	return c.show(o.all, func() {
		rows := [][]string{{"DEVICE", "VERSION", "TAKEN", "PARTS", "IN OTHER VOLUMES", "WRITTEN TO"}}
		for _, f := range o.all {
			rows = append(rows, []string{f.Device, f.Version, c.when(f.TakenAt), strings.Join(f.Parts, " "), strings.Join(f.Missing, " "), f.Folder})
		}
		table(c.out, rows)
	})
}

func openArchive(name string, ids []age.Identity) (*backup.Manifest, map[string][]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	in := bufio.NewReader(f)
	var r io.Reader = in
	if head, _ := in.Peek(19); string(head) == "age-encryption.org/" {
		if r, err = age.Decrypt(in, ids...); err != nil {
			return nil, nil, fmt.Errorf("this key does not open it, or it is damaged: %w", err)
		}
	}
	return backup.ReadArchive(r, maxArchive)
}
