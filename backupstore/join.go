package backupstore

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"
)

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

// A joining makes one volume of several, with what is wanted of them.
type joining struct {
	s       *Store
	set     []*volume
	live    liveness
	items   []item  // in the order in which they are written
	bundles []entry // that the new volume lists
	level   int     // of the new volume
	left    int     // bundles that are left out
	// Each volume is in the order of the ranks, too, so one unpacked group of each is enough at a time.
	unpacked map[*volume]openGroup
}

// An item is an object and where it lies.
type item struct {
	rank
	object
	v   *volume
	g   *group
	off int64 // in the unpacked group
}

type openGroup struct {
	g   *group
	raw []byte
}

// join makes one volume of several, with what is wanted of them. It returns how many volumes it made (one, or none when nothing is wanted) and
// how many bundles it left out.
func (s *Store) join(ctx context.Context, set []*volume, l liveness) (made, left int, err error) {
	order, err := ranks(set, l)
	if err != nil {
		return 0, 0, err
	}
	j := &joining{s: s, set: set, live: l, unpacked: map[*volume]openGroup{}}
	j.collect(order)
	var v *volume
	if len(j.items) > 0 {
		if v, err = s.write(j.level, j.bundles, func(w *writer) error { return j.write(ctx, w) }); err != nil {
			return 0, 0, err
		}
		made = 1
	}
	return j.replace(v, made)
}

// collect lists what is wanted of the volumes, each thing once, in the order of the ranks.
func (j *joining) collect(order map[digest]rank) {
	seen, listed := map[digest]bool{}, map[digest]bool{}
	for _, v := range j.set {
		j.level = max(j.level, v.idx.Level+1)
		for _, b := range v.idx.Bundles {
			switch {
			case !j.live.known[b.Manifest]:
				j.left++
			case !listed[b.Manifest]:
				listed[b.Manifest], j.bundles = true, append(j.bundles, b)
			}
		}
		for gi := range v.idx.Groups {
			g := &v.idx.Groups[gi]
			off := int64(0)
			for _, o := range g.Objects {
				if j.live.objects[o.Sum] && !seen[o.Sum] {
					seen[o.Sum] = true
					r, ok := order[o.Sum]
					if !ok { // only bundles in other volumes need it
						r = rank{content: 2}
					}
					j.items = append(j.items, item{r, o, v, g, off})
				}
				off += o.Size
			}
		}
	}
	slices.SortStableFunc(j.items, func(a, b item) int { return a.rank.compare(b.rank) })
}

// write writes the items: all states of one part of one device together, and so all manifests.
func (j *joining) write(ctx context.Context, w *writer) error {
	for len(j.items) > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, first := 1, j.items[0].rank
		for n < len(j.items) && j.items[n].content == first.content && (first.content == 0 || j.items[n].device == first.device && j.items[n].part == first.part) {
			n++
		}
		if err := j.writeTogether(w, j.items[:n]); err != nil {
			return err
		}
		if first.content == 0 { // who wants to know which bundles there are reads nothing else
			if err := w.flush(); err != nil {
				return err
			}
		}
		j.items = j.items[n:]
	}
	return nil
}

// writeTogether writes items into one group, where they fit.
func (j *joining) writeTogether(w *writer, items []item) error {
	var size int64
	for _, e := range items {
		size += e.Size
	}
	if err := w.room(size); err != nil {
		return err
	}
	for _, e := range items {
		data, err := j.read(e)
		if err == nil {
			err = w.add(content{e.Sum, data})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// read is the content of an item.
func (j *joining) read(e item) ([]byte, error) {
	o := j.unpacked[e.v]
	if o.g != e.g {
		raw, err := e.v.unpack(e.g)
		if err != nil {
			return nil, &DamageError{e.v.name, err.Error()}
		}
		o = openGroup{e.g, raw}
		if len(raw) <= groupSize { // what is larger is one thing, and not asked for again
			j.unpacked[e.v] = o
		}
	}
	return o.raw[e.off : e.off+e.Size], nil
}

// replace removes the old volumes, now that the new one (nil: there is none) is on the disk. It is put off when a bundle came meanwhile that
// counts on something that would go; then the new volume goes again.
func (j *joining) replace(v *volume, made int) (int, int, error) {
	s := j.s
	release, err := s.hold(syscall.LOCK_EX) // from here on nobody takes a bundle
	if err != nil {
		return made, 0, err
	}
	defer release()
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := j.needed(); err != nil {
		if v != nil {
			_ = v.file.Close()
			_ = os.Remove(filepath.Join(s.dir, v.name))
		}
		return 0, 0, err
	}
	for _, old := range j.set {
		if err := os.Remove(filepath.Join(s.dir, old.name)); err != nil && !os.IsNotExist(err) {
			return made, j.left, err
		}
	}
	if err := syncDir(s.dir); err != nil {
		return made, j.left, err
	}
	if err := s.mark(); err != nil {
		return made, j.left, err
	}
	return made, j.left, s.scan()
}

// needed returns errPutOff when a bundle that came meanwhile needs something that is only in the old volumes and was not kept. The caller
// holds mu and the lock of the store.
func (j *joining) needed() error {
	if err := j.s.scan(); err != nil {
		return err
	}
	for sum := range j.s.bundles {
		if _, asked := j.live.known[sum]; asked {
			continue
		}
		for _, part := range j.s.partsOf(sum) {
			if !j.live.objects[part] && j.s.onlyIn(j.set, part) {
				return errPutOff
			}
		}
	}
	return nil
}
