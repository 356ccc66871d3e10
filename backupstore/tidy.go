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
	if t.Anew {
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
	} else {
		sets = toJoin(volumes, live, t.All)
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

// muchWaste is the share of a volume that nobody wants from which it is written anew.
const muchWaste = 0.3

// toJoin says which volumes become one: all that are not large, or those of each level of which there are many; and by itself each one that
// holds much that nobody wants.
func toJoin(volumes []*volume, live liveness, all bool) (sets [][]*volume) {
	byLevel := map[int][]*volume{}
	for _, v := range volumes {
		waste := v.waste(live) > muchWaste
		switch {
		case all && (waste || v.size < largeSize):
			byLevel[0] = append(byLevel[0], v)
		case waste:
			sets = append(sets, []*volume{v})
		case v.size < largeSize:
			byLevel[v.idx.Level] = append(byLevel[v.idx.Level], v)
		}
	}
	if all {
		if small := byLevel[0]; len(small) > 1 || len(small) == 1 && small[0].waste(live) > 0 {
			return [][]*volume{small}
		}
		return nil
	}
	for level, vs := range byLevel {
		if len(vs) >= enough(level) {
			sets = append(sets, vs)
		}
	}
	return sets
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
