package backupstore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"filippo.io/age"
)

// How many volumes of a level there may be before they are joined into one of the next level, and the size in bytes from
// which a volume is left as it is.
const (
	manyTaken  = 256 // of level 0
	manyJoined = 16  // of any other
	largeSize  = 256 << 20
)

// A Tidying says what Tidy is to do.
type Tidying struct {
	// Gone reports whether a bundle, by its manifest's sum, may go. What the records do not know stays.
	Gone func(sum string) bool
	// All joins whatever is not large yet, instead of only what has become many.
	All bool
	// Anew rewrites every volume when the recipients that the keys give now are others than the last time.
	Anew bool
	// Progress may be nil; done and of are bytes of volumes.
	Progress func(done, of int64)
}

// Tidied is what Tidy did.
type Tidied struct {
	Before, After int // volumes
	Left          int // bundles that were left out
	// Put off says that something was not done: another Tidy is at work, or a bundle came that counts on what was about to
	// go. The next Tidy does it.
	PutOff bool
}

// Tidy joins small volumes and leaves out bundles that may go with everything that only they needed. Whatever is cut
// short changes nothing: the old volumes go only after the new one is on the disk and was read back. A second Tidy at
// the same time does nothing.
func (s *Store) Tidy(ctx context.Context, t Tidying) (out Tidied, err error) {
	one, err := s.only()
	if err != nil || one == nil {
		return Tidied{PutOff: err == nil}, err
	}
	defer one()
	if err := s.Refresh(); err != nil {
		return out, err
	}
	s.mu.Lock()
	volumes := slices.Collect(maps.Values(s.volumes))
	s.mu.Unlock()
	slices.SortFunc(volumes, func(a, b *volume) int { return cmp.Compare(a.name, b.name) })
	out.Before, out.After = len(volumes), len(volumes)

	if !t.All && !t.Anew && t.Gone == nil && !many(volumes) {
		return out, nil
	}
	// What is wanted: every bundle that may not go, and all its parts.
	live := wanted(volumes, t.Gone)
	var sets [][]*volume
	switch {
	case t.Anew:
		stale, now, err := s.stale(volumes)
		if err != nil {
			return out, err
		}
		defer func() { // what was taken meanwhile was encrypted for these, too
			if err == nil && !out.PutOff {
				err = os.WriteFile(filepath.Join(s.dir, recipientsFile), []byte(now), 0o600)
			}
		}()
		for _, v := range stale {
			sets = append(sets, []*volume{v})
		}
	case t.All:
		var small []*volume
		for _, v := range volumes {
			if v.size < largeSize || v.waste(live) > 0.3 {
				small = append(small, v)
			}
		}
		if len(small) > 1 || len(small) == 1 && small[0].waste(live) > 0 {
			sets = append(sets, small)
		}
	default:
		byLevel := map[int][]*volume{}
		for _, v := range volumes {
			if v.waste(live) > 0.3 {
				sets = append(sets, []*volume{v})
			} else if v.size < largeSize {
				byLevel[v.idx.Level] = append(byLevel[v.idx.Level], v)
			}
		}
		for level, vs := range byLevel {
			if len(vs) >= enough(level) {
				sets = append(sets, vs)
			}
		}
	}
	var done, of int64
	for _, set := range sets {
		for _, v := range set {
			of += v.size
		}
	}
	for _, set := range sets {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		made, left, err := s.join(ctx, set, live)
		if err != nil && !errors.Is(err, errPutOff) {
			return out, err
		}
		if err != nil {
			out.PutOff = true
		} else {
			out.After += made - len(set)
			out.Left += left
		}
		for _, v := range set {
			done += v.size
		}
		if t.Progress != nil {
			t.Progress(done, of)
		}
	}
	return out, nil
}

// errPutOff says that volumes stay as they are for now.
var errPutOff = errors.New("another time")

// many reports whether there are enough volumes of one level to join them.
func many(volumes []*volume) bool {
	count := map[int]int{}
	for _, v := range volumes {
		if v.size < largeSize {
			if count[v.idx.Level]++; count[v.idx.Level] >= enough(v.idx.Level) {
				return true
			}
		}
	}
	return false
}

func enough(level int) int {
	if level == 0 {
		return manyTaken
	}
	return manyJoined
}

// only keeps a second Tidy out, in this process or another; nil when one is at work.
func (s *Store) only() (release func(), err error) {
	f, err := os.OpenFile(filepath.Join(s.dir, "tidy"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, nil
	}
	return func() { _ = f.Close() }, nil
}

// rank says where an object lies in a volume: first all manifests, then all states of one part of one device side by
// side, in the order of time.
type rank struct {
	content      int // 0: a manifest
	device, part string
	at           time.Time
}

func (a rank) compare(b rank) int {
	return cmp.Or(cmp.Compare(a.content, b.content), cmp.Compare(a.device, b.device), cmp.Compare(a.part, b.part), a.at.Compare(b.at))
}

// liveness says what has to stay.
type liveness struct {
	known   map[digest]bool // bundles that were asked about, and whether they stay; what comes later is not among them
	objects map[digest]bool // manifests and parts that stay
}

// wanted asks about every bundle, and lists what those that stay are made of.
func wanted(volumes []*volume, gone func(string) bool) liveness {
	l := liveness{map[digest]bool{}, map[digest]bool{}}
	for _, v := range volumes {
		for _, b := range v.idx.Bundles {
			stays, asked := l.known[b.Manifest]
			if !asked {
				stays = gone == nil || !gone(b.Manifest.String())
				l.known[b.Manifest] = stays
			}
			if stays {
				l.objects[b.Manifest] = true
				for _, p := range b.Parts {
					l.objects[p] = true
				}
			}
		}
	}
	return l
}

// ranks reads the manifests in some volumes to say where their objects are to lie. A manifest that cannot be read keeps
// the volumes as they are.
func ranks(set []*volume, l liveness) (map[digest]rank, error) {
	out := map[digest]rank{}
	for _, v := range set {
		is := map[digest]bool{}
		for _, b := range v.idx.Bundles {
			is[b.Manifest] = l.known[b.Manifest]
		}
		for gi := range v.idx.Groups {
			g := &v.idx.Groups[gi]
			if !slices.ContainsFunc(g.Objects, func(o object) bool { return is[o.Sum] }) {
				continue
			}
			read, err := v.manifests(g, is)
			if err != nil {
				return nil, fmt.Errorf("volume %s cannot be read, so it is not tidied; look with backup check: %w", v.name, err)
			}
			for sum, m := range read {
				out[sum] = rank{0, m.Device, "", m.TakenAt}
				for _, p := range m.Parts {
					r, sum := rank{1, m.Device, p.Name, m.TakenAt}, must(parseDigest(p.SHA256))
					if old, there := out[sum]; !there || r.compare(old) < 0 {
						out[sum] = r
					}
				}
			}
		}
	}
	return out, nil
}

func must(d digest, _ error) digest { return d } // a manifest that was read has sums

// waste is the share of a volume's content that nobody wants.
func (v *volume) waste(l liveness) float64 {
	var all, lost int64
	for _, g := range v.idx.Groups {
		for _, o := range g.Objects {
			all += o.Size
			if !l.objects[o.Sum] {
				lost += o.Size
			}
		}
	}
	if all == 0 {
		return 0
	}
	return float64(lost) / float64(all)
}

// join makes one volume of several, with what is wanted of them. It returns how many volumes it made (one, or none when
// nothing is wanted) and how many bundles it left out.
func (s *Store) join(ctx context.Context, set []*volume, l liveness) (made, left int, err error) {
	type item struct {
		rank
		object
		v   *volume
		g   *group
		off int64
	}
	// Each volume is in the order of the ranks, too, so one unpacked group of each is enough at a time.
	type open struct {
		g   *group
		raw []byte
	}
	order, err := ranks(set, l)
	if err != nil {
		return 0, 0, err
	}
	at := map[*volume]open{}
	read := func(e item) ([]byte, error) {
		o := at[e.v]
		if o.g != e.g {
			raw, err := e.v.unpack(e.g)
			if err != nil {
				return nil, &DamageError{e.v.name, err.Error()}
			}
			o = open{e.g, raw}
			if len(raw) <= groupSize { // what is larger is one thing, and not asked for again
				at[e.v] = o
			}
		}
		return o.raw[e.off : e.off+e.Size], nil
	}
	var entries []item
	var bundles []entry
	seen, listed, level := map[digest]bool{}, map[digest]bool{}, 0
	for _, v := range set {
		level = max(level, v.idx.Level+1)
		for _, b := range v.idx.Bundles {
			switch {
			case !l.known[b.Manifest]:
				left++
			case !listed[b.Manifest]:
				listed[b.Manifest], bundles = true, append(bundles, b)
			}
		}
		for gi := range v.idx.Groups {
			g := &v.idx.Groups[gi]
			off := int64(0)
			for _, o := range g.Objects {
				if l.objects[o.Sum] && !seen[o.Sum] {
					seen[o.Sum] = true
					r, ok := order[o.Sum]
					if !ok { // only bundles in other volumes need it
						r = rank{content: 2}
					}
					entries = append(entries, item{r, o, v, g, off})
				}
				off += o.Size
			}
		}
	}
	slices.SortStableFunc(entries, func(a, b item) int { return a.rank.compare(b.rank) })
	var v *volume
	if len(entries) > 0 {
		v, err = s.write(level, bundles, func(w *writer) error {
			for len(entries) > 0 {
				if err := ctx.Err(); err != nil {
					return err
				}
				// All states of one part of one device go together, and so do all manifests.
				n, first := 1, entries[0].rank
				for n < len(entries) && entries[n].content == first.content && (first.content == 0 || entries[n].device == first.device && entries[n].part == first.part) {
					n++
				}
				var size int64
				for _, e := range entries[:n] {
					size += e.Size
				}
				if err := w.room(size); err != nil {
					return err
				}
				for _, e := range entries[:n] {
					data, err := read(e)
					if err == nil {
						err = w.add(content{e.Sum, data})
					}
					if err != nil {
						return err
					}
				}
				if first.content == 0 { // who wants to know which bundles there are reads nothing else
					if err := w.flush(); err != nil {
						return err
					}
				}
				entries = entries[n:]
			}
			return nil
		})
		if err != nil {
			return 0, 0, err
		}
		made = 1
	}
	// From here on nobody takes a bundle. One that came in the meantime may count on something that is about to go.
	release, err := s.hold(syscall.LOCK_EX)
	if err != nil {
		return made, 0, err
	}
	defer release()
	s.mu.Lock()
	defer s.mu.Unlock()
	undo := func(err error) (int, int, error) {
		if v != nil {
			_ = v.file.Close()
			_ = os.Remove(filepath.Join(s.dir, v.name))
		}
		return 0, 0, err
	}
	if err := s.scan(); err != nil {
		return undo(err)
	}
	for sum := range s.bundles {
		if _, asked := l.known[sum]; asked {
			continue
		}
		for _, part := range s.partsOf(sum) {
			if !l.objects[part] && s.onlyIn(set, part) {
				return undo(errPutOff)
			}
		}
	}
	for _, old := range set {
		if err := os.Remove(filepath.Join(s.dir, old.name)); err != nil && !os.IsNotExist(err) {
			return made, left, err
		}
	}
	if err := syncDir(s.dir); err != nil {
		return made, left, err
	}
	if err := s.mark(); err != nil {
		return made, left, err
	}
	return made, left, s.scan()
}

// partsOf are the contents that a bundle is made of. The caller holds mu.
func (s *Store) partsOf(bundle digest) []digest {
	for _, v := range s.volumes {
		for _, b := range v.idx.Bundles {
			if b.Manifest == bundle {
				return b.Parts
			}
		}
	}
	return nil
}

// onlyIn reports whether an object lies in none but these volumes. The caller holds mu.
func (s *Store) onlyIn(set []*volume, sum digest) bool {
	for _, p := range s.where[sum] {
		if !slices.Contains(set, p.v) {
			return false
		}
	}
	return true
}

// NotFor names the volumes that none of these keys opens, at a moment at which nobody is taking a bundle.
func (s *Store) NotFor(identities []age.Identity) (names []string, err error) {
	release, err := s.hold(syscall.LOCK_EX)
	if err != nil {
		return nil, err
	}
	defer release()
	files, err := s.Files()
	if err != nil {
		return nil, err
	}
	for _, name := range files {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		st, err := f.Stat()
		if err == nil {
			_, _, err = age.DecryptReaderAt(f, st.Size(), identities...)
		}
		_ = f.Close()
		if err != nil {
			names = append(names, filepath.Base(name))
		}
	}
	return names, nil
}

// recipientsFile says for whom every volume is encrypted, as far as Tidy knows: an age file itself does not tell.
const recipientsFile = "recipients"

// stale are all volumes when the recipients have changed since they were last rewritten, else none; now is what to write
// into the file when all have been.
func (s *Store) stale(volumes []*volume) (out []*volume, now string, err error) {
	recipients, err := s.keys.Recipients()
	if err != nil {
		return nil, "", err
	}
	for _, r := range recipients {
		now += fmt.Sprintln(r)
	}
	old, err := os.ReadFile(filepath.Join(s.dir, recipientsFile))
	if err != nil && !os.IsNotExist(err) {
		return nil, "", err
	}
	if string(old) != now {
		out = volumes
	}
	return out, now, nil
}
