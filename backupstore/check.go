package backupstore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"

	"filippo.io/age"

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
	k := &checker{s: s, c: c, identities: identities, of: of, out: &CheckReport{Volumes: len(names)}, hurt: map[digest][]int{}}
	each(len(names), func(i int) { k.volume(ctx, names[i]) })
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return k.conclude()
}

// each calls f for 0 to n-1, on all processors.
func each(n int, f func(i int)) { eachBy(n, func(_, i int) { f(i) }) }

// eachBy is each, and tells f which of the workers calls it, from 0.
func eachBy(n int, f func(worker, i int)) {
	var next atomic.Int64
	var wg sync.WaitGroup
	for w := range min(n, runtime.GOMAXPROCS(0)) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				f(w, i)
			}
		})
	}
	wg.Wait()
}

// checker collects what a check finds.
type checker struct {
	s          *Store
	c          Checking
	identities []age.Identity
	of         int64

	mu      sync.Mutex
	out     *CheckReport
	checked []checked
	whole   map[digest]struct{} // objects that are as they were written; nil: all
	entries map[digest]*entry   // bundles; nil where they need no looking up
	hurt    map[digest][]int    // objects in damaged groups: indexes of damages
}

func (k *checker) note(d Damage) int {
	k.out.Damages = append(k.out.Damages, d)
	return len(k.out.Damages) - 1
}

// stripe is how many groups that follow each other a worker looks at before it takes others: two that share a chunk are read together.
const stripe = 8

// volume checks one volume, its groups side by side.
func (k *checker) volume(ctx context.Context, name string) {
	v, err := k.s.openNamed(name, k.identities)
	if err != nil {
		k.mu.Lock()
		defer k.mu.Unlock()
		var d *DamageError
		switch {
		case errors.As(err, &d):
			k.note(Damage{Volume: name, What: d.What})
		case errors.Is(err, fs.ErrNotExist): // somebody took it away just now: what it held will be missed
		default:
			k.note(Damage{Volume: name, What: strings.TrimPrefix(err.Error(), "volume "+name+": ")})
		}
		return
	}
	defer v.file.Close()
	bundles := map[digest]*entry{}
	if k.c.Deep {
		for i := range v.idx.Bundles {
			bundles[v.idx.Bundles[i].Manifest] = &v.idx.Bundles[i]
		}
	}
	n := len(v.idx.Groups)
	found := make([]error, n)
	workers := make([]struct {
		r      *reader // each has a chunk of its own in mind
		memory []byte
	}, runtime.GOMAXPROCS(0))
	eachBy((n+stripe-1)/stripe, func(worker, i int) {
		w := &workers[worker]
		if w.r == nil {
			if w.r = v.reader; worker > 0 {
				if plain, _, err := age.DecryptReaderAt(v.reader.file, v.size, k.identities...); err == nil {
					w.r = &reader{file: v.reader.file, plain: plain, idx: v.idx}
				}
			}
		}
		for gi := i * stripe; gi < min((i+1)*stripe, n) && ctx.Err() == nil; gi++ {
			w.memory, found[gi] = w.r.check(&v.idx.Groups[gi], k.c.Deep, bundles, w.memory)
		}
	})
	k.mu.Lock()
	defer k.mu.Unlock()
	for gi := range v.idx.Groups {
		g := &v.idx.Groups[gi]
		if err := found[gi]; err != nil {
			i := k.note(Damage{Volume: name, What: fmt.Sprintf("group %d of %d, bytes %d to %d of the plaintext: %s", gi+1, n, g.At, g.At+g.Size-1, err)})
			for _, o := range g.Objects {
				k.hurt[o.Sum] = append(k.hurt[o.Sum], i)
			}
			continue
		}
		if k.c.Deep {
			k.out.Content += g.raw()
		}
	}
	k.checked = append(k.checked, checked{v.idx, found})
	k.out.Stored += v.size
	if k.c.Progress != nil {
		k.c.Progress(k.out.Stored, k.of)
	}
}

// checked is the index of a volume, with what was found of each of its groups.
type checked struct {
	idx   *index
	found []error
}

// gather looks together what is there and whole.
func (k *checker) gather() {
	objects, bundles, damaged := 0, 0, len(k.out.Damages) > 0
	for _, v := range k.checked {
		bundles += len(v.idx.Bundles)
		for i := range v.idx.Groups {
			objects += len(v.idx.Groups[i].Objects)
		}
	}
	// In a store of one volume that is whole, and refers to nothing outside of it, there is nothing to look up.
	alone := !damaged && len(k.checked) == 1 && k.checked[0].idx.Alone
	k.out.Objects, k.out.Bundles = objects, bundles
	if !alone || k.c.Expect != nil {
		k.entries = make(map[digest]*entry, bundles)
		for _, v := range k.checked {
			for i := range v.idx.Bundles {
				k.entries[v.idx.Bundles[i].Manifest] = &v.idx.Bundles[i]
			}
		}
		k.out.Bundles = len(k.entries)
	}
	if alone {
		return
	}
	k.whole = make(map[digest]struct{}, objects)
	for _, v := range k.checked {
		for i := range v.idx.Groups {
			if v.found[i] != nil {
				continue
			}
			for _, o := range v.idx.Groups[i].Objects {
				k.whole[o.Sum] = struct{}{}
			}
		}
	}
	k.out.Objects = len(k.whole)
}

// has reports whether an object is there and whole.
func (k *checker) has(d digest) bool {
	_, ok := k.whole[d]
	return ok || k.whole == nil
}

// check reads one group; deep unpacks it as well. It returns memory that the next one may use.
func (r *reader) check(g *group, deep bool, bundles map[digest]*entry, memory []byte) ([]byte, error) {
	frame, err := r.frameIn(g, memory)
	if err == nil && deep {
		err = r.prove(g)
	}
	if err == nil && deep {
		err = r.proveBundles(g, bundles)
	}
	return frame, err
}

// conclude holds what was found against what should be there.
func (k *checker) conclude() (*CheckReport, error) {
	k.gather()
	c, out, entries, hurt, note := k.c, k.out, k.entries, k.hurt, k.note
	var expect []digest
	if c.Expect != nil {
		wanted := map[digest]bool{}
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
		out.Bundles = len(expect)
	}
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
	prove := func(b digest, is *entry) {
		if !k.has(b) {
			hit(b, b, fmt.Sprintf("the manifest %.12s is in no readable volume", b))
			return
		}
		if is == nil { // an object of that sum may lie there; nobody says that it is a bundle
			hit(b, b, fmt.Sprintf("the manifest %.12s is in no index of a readable volume", b))
			return
		}
		for _, p := range is.Parts {
			if !k.has(p) {
				hit(b, p, fmt.Sprintf("the content %.12s is in no readable volume", p))
			}
		}
	}
	for _, b := range expect {
		prove(b, entries[b])
	}
	if c.Expect == nil {
		for b, is := range entries {
			prove(b, is)
		}
	}
	k.s.mu.Lock()
	for _, d := range out.Damages {
		if d.Volume != "" {
			k.s.doubted[d.Volume] = true
		}
	}
	k.s.mu.Unlock()
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
