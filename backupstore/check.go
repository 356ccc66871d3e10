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
	k := &checker{s: s, c: c, identities: identities, of: of, out: &CheckReport{Volumes: len(names)}, whole: map[digest]struct{}{}, entries: map[digest]*entry{}, hurt: map[digest][]int{}}
	each(len(names), func(i int) { k.volume(ctx, names[i]) })
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return k.conclude()
}

// each calls f for 0 to n-1, on all processors.
func each(n int, f func(i int)) {
	var next atomic.Int64
	var wg sync.WaitGroup
	for range min(n, runtime.GOMAXPROCS(0)) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				f(i)
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
	whole   map[digest]struct{} // objects that are as they were written
	entries map[digest]*entry
	hurt    map[digest][]int // objects in damaged groups: indexes of damages
}

func (k *checker) note(d Damage) int {
	k.out.Damages = append(k.out.Damages, d)
	return len(k.out.Damages) - 1
}

// stripe is how many groups one reader looks at: each reader has a chunk of its own in mind.
const stripe = 16

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
	var beside sync.WaitGroup
	beside.Go(func() { k.speaksOf(v.idx) })
	each((n+stripe-1)/stripe, func(i int) {
		r := v.reader
		if n > stripe {
			plain, _, err := age.DecryptReaderAt(v.reader.file, v.size, k.identities...)
			if err == nil {
				r = &reader{file: v.reader.file, plain: plain, idx: v.idx}
			}
		}
		var memory []byte
		for gi := i * stripe; gi < min((i+1)*stripe, n) && ctx.Err() == nil; gi++ {
			memory, found[gi] = r.check(&v.idx.Groups[gi], k.c.Deep, bundles, memory)
		}
	})
	beside.Wait()
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
		for _, o := range g.Objects {
			k.whole[o.Sum] = struct{}{}
		}
		if k.c.Deep {
			k.out.Content += g.raw()
		}
	}
	k.out.Stored += v.size
	if k.c.Progress != nil {
		k.c.Progress(k.out.Stored, k.of)
	}
}

// speaksOf takes in which bundles an index speaks of, and makes room for what lies in its volume.
func (k *checker) speaksOf(x *index) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.entries) == 0 && len(k.whole) == 0 {
		objects := 0
		for i := range x.Groups {
			objects += len(x.Groups[i].Objects)
		}
		k.entries, k.whole = make(map[digest]*entry, len(x.Bundles)), make(map[digest]struct{}, objects)
	}
	for i := range x.Bundles {
		k.entries[x.Bundles[i].Manifest] = &x.Bundles[i]
	}
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
	c, out, entries, hurt, note := k.c, k.out, k.entries, k.hurt, k.note
	out.Objects = len(k.whole)
	var expect []digest
	if out.Bundles = len(entries); c.Expect != nil {
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
		if _, ok := k.whole[b]; !ok || is == nil {
			hit(b, b, fmt.Sprintf("the manifest %.12s is in no readable volume", b))
			return
		}
		for _, p := range is.Parts {
			if _, ok := k.whole[p]; !ok {
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
