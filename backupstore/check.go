package backupstore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"

	"verimorph/core/backup"
)

// A Damage is something that is not as it was written.
type Damage struct {
	Volume string   // file name; "" when it is not known in which volume it should be
	What   string   // which place, and what is wrong
	Lost   []string // sums of manifests of bundles that are hit
}

// A CheckReport is what Check found.
type CheckReport struct {
	Volumes, Bundles, Objects int
	Stored, Content           int64 // bytes read from disk; bytes unpacked, 0 unless deep
	Damages                   []Damage
	Unknown                   []string // bundles that are whole, but that nobody asked about
}

// A Checking says what Check is to prove.
type Checking struct {
	// Expect are the manifests, by sum, that have to be there with all their parts. nil: those that are there.
	Expect []string
	// Deep unpacks each object and holds it against its sum. Without it every byte on the disk is held against what was
	// written, and what was written was proved when it was.
	Deep     bool
	Progress func(done, of int64) // bytes of volumes; may be nil
}

// Check reads every byte of every volume: the encryption authenticates each, each group has the sum it was written with,
// each manifest can be read and each of its parts is there with its size.
func (s *Store) Check(ctx context.Context, c Checking) (*CheckReport, error) {
	// Nothing is replaced while it is being checked.
	release, err := s.hold(syscall.LOCK_SH)
	if err != nil {
		return nil, err
	}
	defer release()
	files, err := os.ReadDir(s.dir)
	if err != nil {
		return nil, err
	}
	identities, err := s.keys.Identities()
	if err != nil {
		return nil, err
	}
	var names []string
	var of int64
	for _, e := range files {
		if strings.HasSuffix(e.Name(), volumeExt) {
			names = append(names, e.Name())
			if st, err := e.Info(); err == nil {
				of += st.Size()
			}
		}
	}
	out := &CheckReport{Volumes: len(names)}
	var mu sync.Mutex
	sizes := map[digest]int64{} // of what is whole
	entries := map[digest]entry{}
	hurt := map[digest][]int{} // objects in damaged groups, by sum: indexes of damages
	note := func(d Damage) int { out.Damages = append(out.Damages, d); return len(out.Damages) - 1 }

	work := make(chan string)
	var wg sync.WaitGroup
	for range max(runtime.GOMAXPROCS(0), 1) {
		wg.Go(func() {
			for name := range work {
				v, err := s.openNamed(name, identities)
				if err != nil {
					mu.Lock()
					var d *DamageError
					switch {
					case errors.As(err, &d):
						note(Damage{Volume: name, What: d.What})
					case errors.Is(err, fs.ErrNotExist): // somebody took it away just now: what it held will be missed
					default:
						note(Damage{Volume: name, What: strings.TrimPrefix(err.Error(), "volume "+name+": ")})
					}
					mu.Unlock()
					continue
				}
				bundles := map[digest]*entry{}
				for i := range v.idx.Bundles {
					bundles[v.idx.Bundles[i].Manifest] = &v.idx.Bundles[i]
				}
				for gi := range v.idx.Groups {
					if ctx.Err() != nil {
						break
					}
					g := &v.idx.Groups[gi]
					_, err := v.frame(g)
					if err == nil && c.Deep {
						err = v.prove(g)
					}
					if err == nil && c.Deep {
						err = v.proveBundles(g, bundles)
					}
					mu.Lock()
					if err != nil {
						i := note(Damage{Volume: name, What: fmt.Sprintf("group %d of %d, bytes %d to %d of the plaintext: %s", gi+1, len(v.idx.Groups), g.At, g.At+g.Size-1, err)})
						for _, o := range g.Objects {
							hurt[o.Sum] = append(hurt[o.Sum], i)
						}
					} else {
						for _, o := range g.Objects {
							sizes[o.Sum] = o.Size
						}
						if c.Deep {
							out.Content += g.raw()
						}
					}
					mu.Unlock()
				}
				_ = v.file.Close()
				mu.Lock()
				for _, b := range v.idx.Bundles {
					entries[b.Manifest] = b
				}
				out.Stored += v.size
				if c.Progress != nil {
					c.Progress(out.Stored, of)
				}
				mu.Unlock()
			}
		})
	}
	for _, name := range names {
		work <- name
	}
	close(work)
	wg.Wait()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	out.Objects = len(sizes)
	expect := slices.Collect(maps.Keys(entries))
	if c.Expect != nil {
		wanted := map[digest]bool{}
		expect = expect[:0]
		for _, sum := range c.Expect {
			d, err := parseDigest(sum)
			if err != nil {
				return nil, err
			}
			wanted[d], expect = true, append(expect, d)
		}
		for b := range entries {
			if !wanted[b] {
				out.Unknown = append(out.Unknown, b.String())
			}
		}
		slices.Sort(out.Unknown)
	}
	out.Bundles = len(expect)
	missing := map[digest]int{} // by what is missing: index of its damage
	hit := func(bundle, sum digest, what string) {
		places := hurt[sum]
		if len(places) == 0 {
			i, ok := missing[sum]
			if !ok {
				i = note(Damage{What: what})
				missing[sum] = i
			}
			places = []int{i}
		}
		for _, i := range places {
			if d := &out.Damages[i]; !slices.Contains(d.Lost, bundle.String()) {
				d.Lost = append(d.Lost, bundle.String())
			}
		}
	}
	for _, b := range expect {
		if _, ok := sizes[b]; !ok {
			hit(b, b, fmt.Sprintf("the manifest %.12s is in no readable volume", b))
			continue
		}
		for _, p := range entries[b].Parts {
			if _, ok := sizes[p]; !ok {
				hit(b, p, fmt.Sprintf("the content %.12s is in no readable volume", p))
			}
		}
	}
	slices.SortStableFunc(out.Damages, func(a, b Damage) int { return cmp.Compare(a.Volume, b.Volume) })
	return out, nil
}

// proveBundles holds the index against the manifests in a group: it speaks of the same parts.
func (r *reader) proveBundles(g *group, bundles map[digest]*entry) error {
	if !slices.ContainsFunc(g.Objects, func(o object) bool { return bundles[o.Sum] != nil }) {
		return nil
	}
	is := map[digest]bool{}
	for sum := range bundles {
		is[sum] = true
	}
	read, err := r.manifests(g, is)
	if err != nil {
		return err
	}
	for sum, m := range read {
		for i, p := range m.Parts {
			if parts := bundles[sum].Parts; len(parts) != len(m.Parts) || parts[i].String() != p.SHA256 {
				return fmt.Errorf("the index speaks of other parts of bundle %.12s than its manifest", sum)
			}
		}
	}
	return nil
}

// manifests reads those manifests in a group that are asked for.
func (r *reader) manifests(g *group, is map[digest]bool) (map[digest]*backup.Manifest, error) {
	raw, err := r.unpack(g)
	if err != nil {
		return nil, err
	}
	out := map[digest]*backup.Manifest{}
	for _, o := range g.Objects {
		if o.Size > int64(len(raw)) {
			return nil, errors.New("it is too short")
		}
		data := raw[:o.Size]
		raw = raw[o.Size:]
		if !is[o.Sum] {
			continue
		}
		if digestOf(data) != o.Sum {
			return nil, fmt.Errorf("the manifest %.12s has another content than its sum says", o.Sum)
		}
		if out[o.Sum], err = backup.Read(data); err != nil {
			return nil, fmt.Errorf("manifest %.12s: %w", o.Sum, err)
		}
	}
	return out, nil
}

// Files lists the volume files of the store.
func (s *Store) Files() ([]string, error) { return filepath.Glob(filepath.Join(s.dir, "*"+volumeExt)) }
