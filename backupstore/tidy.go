package backupstore

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"filippo.io/age"

	"verimorph/core/backup"
)

// How many volumes of a level there may be before they are joined into one of the next level, and the size in bytes from
// which a volume is left as it is.
const (
	manyTaken  = 64 // of level 0
	manyJoined = 8  // of any other
	largeSize  = 256 << 20
)

// A Tidying says what Tidy is to do.
type Tidying struct {
	// Gone reports whether a bundle, by its manifest's sum, may go. What the records do not know stays.
	Gone func(sum string) bool
	// All joins whatever is not large yet, instead of only what has become many.
	All bool
	// Anew rewrites every volume that is not encrypted to exactly the recipients that the keys give now.
	Anew bool
	// Progress may be nil; done and of are bytes of volumes.
	Progress func(done, of int64)
}

// Tidied is what Tidy did.
type Tidied struct {
	Before, After int // volumes
	Left          int // bundles that were left out
}

// Tidy joins small volumes and leaves out bundles that may go with everything that only they needed. Whatever is cut
// short changes nothing: the old volumes go only after the new one is on the disk and was read back. A second Tidy at
// the same time does nothing.
func (s *Store) Tidy(ctx context.Context, t Tidying) (out Tidied, err error) {
	one, err := s.only()
	if err != nil || one == nil {
		return out, err
	}
	defer one()
	if err := s.rescan(); err != nil {
		return out, err
	}
	s.mu.Lock()
	volumes := slices.Collect(maps.Values(s.volumes))
	s.mu.Unlock()
	slices.SortFunc(volumes, func(a, b *volume) int { return cmp.Compare(a.name, b.name) })
	out.Before, out.After = len(volumes), len(volumes)

	known := map[string]bool{} // what came later was not asked about
	for _, v := range volumes {
		for _, b := range v.idx.Bundles {
			known[b] = true
		}
	}

	// What is wanted: every bundle that may not go, and all its parts.
	wanted, manifests, err := s.wanted(volumes, t.Gone)
	if err != nil {
		return out, err
	}
	var sets [][]*volume
	switch {
	case t.Anew:
		stale, err := s.stale(volumes)
		if err != nil {
			return out, err
		}
		for _, v := range stale {
			sets = append(sets, []*volume{v})
		}
	case t.All:
		var small []*volume
		for _, v := range volumes {
			if v.size < largeSize || v.waste(wanted) > 0.3 {
				small = append(small, v)
			}
		}
		if len(small) > 1 || len(small) == 1 && small[0].waste(wanted) > 0 {
			sets = append(sets, small)
		}
	default:
		byLevel := map[int][]*volume{}
		for _, v := range volumes {
			if v.waste(wanted) > 0.3 {
				sets = append(sets, []*volume{v})
			} else if v.size < largeSize {
				byLevel[v.idx.Level] = append(byLevel[v.idx.Level], v)
			}
		}
		for level, vs := range byLevel {
			if len(vs) >= manyJoined && level > 0 || len(vs) >= manyTaken {
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
		made, left, err := s.join(ctx, set, wanted, manifests, known)
		if err != nil {
			return out, err
		}
		out.After += made - len(set)
		out.Left += left
		for _, v := range set {
			done += v.size
		}
		if t.Progress != nil {
			t.Progress(done, of)
		}
	}
	return out, nil
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

// rank says where an object lies in a volume: all states of one part of one device side by side, in the order of time.
type rank struct {
	device, part string
	at           time.Time
}

func (a rank) compare(b rank) int {
	return cmp.Or(cmp.Compare(a.device, b.device), cmp.Compare(a.part, b.part), a.at.Compare(b.at))
}

// wanted lists every object that has to stay, with its rank, and which sums are manifests. A manifest that cannot be read
// keeps the volumes as they are: nobody knows what it needs.
func (s *Store) wanted(volumes []*volume, gone func(string) bool) (map[string]rank, map[string]bool, error) {
	out, manifests := map[string]rank{}, map[string]bool{}
	for _, v := range volumes {
		for _, sum := range v.idx.Bundles {
			if manifests[sum] || gone != nil && gone(sum) {
				continue
			}
			m, err := s.Manifest(sum)
			if err != nil {
				return nil, nil, fmt.Errorf("bundle %.12s cannot be read, so nothing is tidied; look with backup check: %w", sum, err)
			}
			manifests[sum] = true
			out[sum] = rank{m.Device, "", m.TakenAt}
			for _, p := range m.Parts {
				r := rank{m.Device, p.Name, m.TakenAt}
				if old, there := out[p.SHA256]; !there || r.compare(old) < 0 {
					out[p.SHA256] = r
				}
			}
		}
	}
	return out, manifests, nil
}

// waste is the share of a volume's content that nobody wants.
func (v *volume) waste(wanted map[string]rank) float64 {
	var all, lost int64
	for _, g := range v.idx.Groups {
		for _, o := range g.Objects {
			all += o.Size
			if _, ok := wanted[o.SHA256]; !ok {
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
func (s *Store) join(ctx context.Context, set []*volume, wanted map[string]rank, manifests, known map[string]bool) (made, left int, err error) {
	type entry struct {
		rank
		object
		v *volume
		g *group
	}
	var entries []entry
	var bundles []string
	seen, listed, level := map[string]bool{}, map[string]bool{}, 0
	for _, v := range set {
		level = max(level, v.idx.Level+1)
		for _, b := range v.idx.Bundles {
			switch {
			case !manifests[b]:
				left++
			case !listed[b]:
				listed[b], bundles = true, append(bundles, b)
			}
		}
		for gi := range v.idx.Groups {
			g := &v.idx.Groups[gi]
			for _, o := range g.Objects {
				if r, ok := wanted[o.SHA256]; ok && !seen[o.SHA256] {
					seen[o.SHA256] = true
					entries = append(entries, entry{r, o, v, g})
				}
			}
		}
	}
	slices.SortStableFunc(entries, func(a, b entry) int { return a.rank.compare(b.rank) })
	var v *volume
	if len(entries) > 0 {
		v, err = s.write(level, bundles, func(w *writer) error {
			for len(entries) > 0 {
				if err := ctx.Err(); err != nil {
					return err
				}
				// All states of one part of one device go together.
				n := 1
				for n < len(entries) && entries[n].device == entries[0].device && entries[n].part == entries[0].part {
					n++
				}
				var run []content
				for _, e := range entries[:n] {
					data, err := s.Read(e.SHA256)
					if err != nil {
						return err
					}
					run = append(run, content{e.SHA256, data})
				}
				if err := w.run(run); err != nil {
					return err
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
		if known[sum] {
			continue
		}
		m, err := s.manifestHeld(sum)
		if err != nil {
			return undo(err)
		}
		for _, p := range m.Parts {
			if _, ok := wanted[p.SHA256]; !ok && s.onlyIn(set, p.SHA256) {
				return undo(nil) // another time
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
	return made, left, s.scan()
}

// manifestHeld is Manifest for a caller that holds mu.
func (s *Store) manifestHeld(sum string) (*backup.Manifest, error) {
	for _, p := range s.where[sum] {
		data, err := s.readFrom(p, sum)
		if err == nil {
			return backup.Read(data)
		}
	}
	return nil, fmt.Errorf("bundle %.12s cannot be read", sum)
}

// onlyIn reports whether an object lies in none but these volumes. The caller holds mu.
func (s *Store) onlyIn(set []*volume, sum string) bool {
	for _, p := range s.where[sum] {
		if !slices.Contains(set, p.v) {
			return false
		}
	}
	return true
}

// stale are the volumes that are encrypted to other recipients than the keys give now: those that the first identity
// does not open, or with another number of recipients.
func (s *Store) stale(volumes []*volume) (out []*volume, err error) {
	identities, err := s.keys.Identities()
	if err != nil {
		return nil, err
	}
	recipients, err := s.keys.Recipients()
	if err != nil {
		return nil, err
	}
	for _, v := range volumes {
		head := make([]byte, min(v.size, 4096))
		if err := readAt(v.reader.file, head, 0); err != nil {
			return nil, &DamageError{v.name, err.Error()}
		}
		if _, _, err := age.DecryptReaderAt(v.reader.file, v.size, identities[0]); err != nil || stanzas(head) != len(recipients) {
			out = append(out, v)
		}
	}
	return out, nil
}

// stanzas counts the recipients in the header of an age file: lines that begin with "->", up to the one that begins with
// "---" (C2SP age, section "File key").
func stanzas(head []byte) (n int) {
	for line := range bytes.Lines(head) {
		switch {
		case bytes.HasPrefix(line, []byte("---")):
			return n
		case bytes.HasPrefix(line, []byte("-> X25519 ")):
			n++
		}
	}
	return n
}
