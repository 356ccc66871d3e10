// Package backupstore keeps bundles: each content once, compressed, encrypted with age to the key of the installation
// and to whoever else may read. What is kept lies in volumes (volume.go). A bundle arrives as a small volume of its own,
// written whole or not at all; Tidy (tidy.go) joins small volumes into larger ones in which what is alike lies side by
// side, and leaves out what nobody wants any more. Check (check.go) proves the whole store.
//
// Several processes may use one folder at once: volumes never change, taking a bundle holds a shared lock and replacing
// volumes an exclusive one.
package backupstore

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"filippo.io/age"

	"verimorph/core/backup"
)

// Keys are those of the installation. The first recipient is the installation itself.
type Keys interface {
	Recipients() ([]age.Recipient, error)
	Identities() ([]age.Identity, error)
}

// A Store is a folder of volumes.
type Store struct {
	dir  string
	keys Keys

	mu      sync.Mutex
	volumes map[string]*volume  // by file name
	where   map[digest][]place  // more than one while volumes are being joined, or after a damage was mended
	bundles map[digest]struct{} // sums of manifests
	damaged map[string]error    // volumes that cannot be opened
	doubted map[string]bool     // volumes in which a check found damage: no new bundle counts on them
	last    unpacked
	marks   int64 // length of the lock file when we last looked: it grows by a byte with every change of the folder
}

type volume struct {
	*reader
	name string
	size int64
	file *os.File
}

// place is where an object lies.
type place struct {
	v     *volume
	group int32
	off   int64
	size  int64
}

// unpacked is the group that was read last: things that lie side by side are often read one after the other.
type unpacked struct {
	g    *group
	data []byte
}

const (
	volumeExt = ".vmv"
	partName  = "part-*"
	lockName  = "lock"
)

// MaxPart bounds one part in bytes.
const MaxPart = 256 << 20

// Open uses a folder, making it when it is not there. Volumes that cannot be read do not stop it: Damaged names them.
func Open(dir string, keys Keys) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Store{dir: dir, keys: keys, volumes: map[string]*volume{}, where: map[digest][]place{}, bundles: map[digest]struct{}{}, damaged: map[string]error{}, doubted: map[string]bool{}}
	// What a process left half-written is nothing, as soon as nobody writes any more.
	if release, err := s.hold(syscall.LOCK_EX | syscall.LOCK_NB); err == nil {
		parts, _ := filepath.Glob(filepath.Join(dir, partName))
		for _, p := range parts {
			_ = os.Remove(p)
		}
		release()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s, s.scan()
}

// OpenFiles reads some volume files together, wherever they lie: what one of them lacks may lie in another. It needs nothing
// but the files and a key; nothing can be put there.
func OpenFiles(names []string, identities []age.Identity) (*Store, error) {
	s := &Store{volumes: map[string]*volume{}, where: map[digest][]place{}, bundles: map[digest]struct{}{}}
	for _, name := range names {
		v, err := s.openNamed(name, identities)
		if err != nil {
			s.Close()
			return nil, err
		}
		s.admit(v)
	}
	return s, nil
}

// Close gives the files back.
func (s *Store) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, v := range s.volumes {
		_ = v.file.Close()
	}
}

// Damaged names the volumes that could not be opened, and why.
func (s *Store) Damaged() map[string]error {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]error{}
	for k, v := range s.damaged {
		out[k] = v
	}
	return out
}

// Dir is the folder of the store.
func (s *Store) Dir() string { return s.dir }

// scan looks which volumes there are now. The caller holds mu.
func (s *Store) scan() error {
	if s.dir == "" { // files that were given
		return nil
	}
	st, err := os.Stat(filepath.Join(s.dir, lockName))
	if err != nil {
		return err
	}
	s.marks = st.Size()
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	var identities []age.Identity
	for _, e := range entries {
		name := e.Name()
		if !strings.HasSuffix(name, volumeExt) {
			continue
		}
		there[name] = true
		if s.volumes[name] != nil {
			continue
		}
		if identities == nil {
			if identities, err = s.keys.Identities(); err != nil {
				return err
			}
		}
		v, err := s.openNamed(name, identities)
		if errors.Is(err, fs.ErrNotExist) { // joined into another one while we looked
			delete(there, name)
			continue
		}
		if err != nil {
			s.damaged[name] = err
			continue
		}
		delete(s.damaged, name)
		s.admit(v)
	}
	for name := range s.damaged {
		if !there[name] {
			delete(s.damaged, name)
		}
	}
	gone := false
	for name, v := range s.volumes {
		if !there[name] {
			_ = v.file.Close()
			delete(s.volumes, name)
			gone = true
		}
	}
	if gone {
		s.where, s.bundles, s.last = map[digest][]place{}, map[digest]struct{}{}, unpacked{}
		for _, v := range s.volumes {
			s.chart(v)
		}
	}
	return nil
}

func (s *Store) openNamed(name string, identities []age.Identity) (*volume, error) {
	f, err := os.Open(filepath.Join(s.dir, name))
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err == nil {
		var r *reader
		if r, err = openVolume(name, f, st.Size(), identities); err == nil {
			return &volume{r, name, st.Size(), f}, nil
		}
	}
	_ = f.Close()
	return nil, err
}

// admit puts what a volume holds on the map. The caller holds mu.
func (s *Store) admit(v *volume) {
	if s.volumes[v.name] != nil { // seen by a scan before we came
		_ = v.file.Close()
		return
	}
	s.volumes[v.name] = v
	s.chart(v)
}

// chart puts the objects of a volume on the map. The caller holds mu.
func (s *Store) chart(v *volume) {
	for gi := range v.idx.Groups {
		off := int64(0)
		for _, o := range v.idx.Groups[gi].Objects {
			s.where[o.Sum] = append(s.where[o.Sum], place{v, int32(gi), off, o.Size})
			off += o.Size
		}
	}
	for _, b := range v.idx.Bundles {
		s.bundles[b.Manifest] = struct{}{}
	}
}

// ErrNotThere is returned for what the store does not have.
var ErrNotThere = errors.New("not in the backup store")

// find looks an object up, also among volumes that came since the last look. The caller holds mu.
func (s *Store) find(sum digest) ([]place, error) {
	if p := s.where[sum]; p != nil {
		return p, nil
	}
	if err := s.scan(); err != nil {
		return nil, err
	}
	if p := s.where[sum]; p != nil {
		return p, nil
	}
	return nil, fmt.Errorf("%.12s: %w", sum, ErrNotThere)
}

// Read returns a content by its sum, and nothing that does not have this sum.
func (s *Store) Read(sum string) (data []byte, err error) {
	d, err := parseDigest(sum)
	if err != nil {
		return nil, err
	}
	return s.read(d)
}

func (s *Store) read(sum digest) (data []byte, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	places, err := s.find(sum)
	for _, p := range places {
		if data, err = s.readFrom(p, sum); err == nil {
			return data, nil
		}
	}
	return nil, err
}

func (s *Store) readFrom(p place, sum digest) (_ []byte, err error) {
	g := &p.v.idx.Groups[p.group]
	raw := s.last.data
	if s.last.g != g {
		if raw, err = p.v.unpack(g); err != nil {
			return nil, &DamageError{p.v.name, fmt.Sprintf("group %d: %s", p.group+1, err)}
		}
		s.last = unpacked{g, raw}
	}
	if p.off+p.size > int64(len(raw)) {
		return nil, &DamageError{p.v.name, fmt.Sprintf("group %d is too short", p.group+1)}
	}
	data := slices.Clone(raw[p.off : p.off+p.size])
	if digestOf(data) != sum {
		return nil, &DamageError{p.v.name, fmt.Sprintf("%.12s has another content than when it was written", sum)}
	}
	return data, nil
}

// Has reports whether the store has a content.
func (s *Store) Has(sum string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := parseDigest(sum)
	if err == nil {
		_, err = s.find(d)
	}
	return err == nil
}

// Manifest reads a bundle's manifest by its sum.
func (s *Store) Manifest(sum string) (*backup.Manifest, error) {
	data, err := s.Read(sum)
	if err != nil {
		return nil, err
	}
	return backup.Read(data)
}

// Bundles returns the sums of all manifests, in no order.
func (s *Store) Bundles() ([]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.scan(); err != nil {
		return nil, err
	}
	out := make([]string, 0, len(s.bundles))
	for sum := range s.bundles {
		out = append(out, sum.String())
	}
	return out, nil
}

// writing bounds how many bundles are written at once: each takes memory for packing and encryption, and the disk writes a
// thousand of them no faster side by side.
var writing = make(chan struct{}, 8)

// Put stores a bundle whole or not at all: parts gives the content of each of the manifest's parts by name. Contents that
// the store has already, and can read, are not stored again. It gives the manifest its id, sizes and sums, reads
// everything back before the bundle counts, and returns the manifest's sum.
func (s *Store) Put(m *backup.Manifest, parts map[string][]byte) (sum string, err error) {
	writing <- struct{}{}
	defer func() { <-writing }()
	release, err := s.hold(syscall.LOCK_SH)
	if err != nil {
		return "", err
	}
	defer release()
	if err := s.catchUp(); err != nil {
		return "", err
	}
	m.Format = backup.Format
	if m.ID == "" {
		m.ID = strings.ToLower(rand.Text())
	}
	var fresh []content
	var made entry
	disk := &onDisk{s, map[*volume]*reader{}, map[*group][]byte{}}
	for i := range m.Parts {
		p := &m.Parts[i]
		data, ok := parts[p.Name]
		if !ok {
			return "", fmt.Errorf("part %s has no content", p.Name)
		}
		if len(data) > MaxPart {
			return "", fmt.Errorf("part %s is larger than %d MiB", p.Name, MaxPart>>20)
		}
		c := content{digestOf(data), data}
		p.SHA256, p.Size = c.sum.String(), int64(len(data))
		made.Parts = append(made.Parts, c.sum)
		if !disk.has(c.sum) && !slices.ContainsFunc(fresh, func(f content) bool { return f.sum == c.sum }) {
			fresh = append(fresh, c)
		}
	}
	if err := m.Check(); err != nil {
		return "", err
	}
	data, err := json.Marshal(m)
	if err != nil {
		return "", err
	}
	manifest := content{digestOf(data), data}
	made.Manifest = manifest.sum
	fresh = append(fresh, manifest)
	v, err := s.write(0, []entry{made}, func(w *writer) error {
		for _, c := range fresh {
			if err := w.add(c); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.admit(v)
	return manifest.sum.String(), s.mark()
}

// onDisk looks at contents as they lie on the disk now: nothing that is still in mind, here or in a reader, proves that.
type onDisk struct {
	s       *Store
	readers map[*volume]*reader
	groups  map[*group][]byte // nil: cannot be read
}

// has reports whether a content is among the volumes that are known, and can be read.
func (o *onDisk) has(sum digest) bool {
	o.s.mu.Lock()
	places := slices.DeleteFunc(slices.Clone(o.s.where[sum]), func(p place) bool { return o.s.doubted[p.v.name] })
	o.s.mu.Unlock()
	for _, p := range places {
		raw := o.group(p.v, &p.v.idx.Groups[p.group])
		if p.off+p.size <= int64(len(raw)) && digestOf(raw[p.off:p.off+p.size]) == sum {
			return true
		}
	}
	return false
}

func (o *onDisk) group(v *volume, g *group) []byte {
	if raw, seen := o.groups[g]; seen {
		return raw
	}
	r, seen := o.readers[v]
	if !seen {
		if ids, err := o.s.keys.Identities(); err == nil {
			if plain, _, err := age.DecryptReaderAt(v.reader.file, v.size, ids...); err == nil {
				r = &reader{file: v.reader.file, plain: plain, idx: v.idx}
			}
		}
		o.readers[v] = r
	}
	var raw []byte
	if r != nil {
		raw, _ = r.unpack(g)
	}
	o.groups[g] = raw
	return raw
}

// hold takes the lock of the folder: shared while a bundle is taken, exclusive while volumes are replaced.
func (s *Store) hold(how int) (release func(), err error) {
	f, err := os.OpenFile(filepath.Join(s.dir, lockName), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	for {
		if err = syscall.Flock(int(f.Fd()), how); !errors.Is(err, syscall.EINTR) {
			break
		}
	}
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return func() { _ = f.Close() }, nil
}

// catchUp is Refresh for when somebody else may have changed the folder.
func (s *Store) catchUp() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	st, err := os.Stat(filepath.Join(s.dir, lockName))
	if err != nil {
		return err
	}
	if st.Size() == s.marks {
		return nil
	}
	return s.scan()
}

// mark tells other processes that the folder has changed. The caller holds mu. Two processes that mark at the same time
// both see a length they did not expect, and look.
func (s *Store) mark() error {
	f, err := os.OpenFile(filepath.Join(s.dir, lockName), os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.Write([]byte{'.'})
	s.marks++
	return err
}

// Refresh looks at the folder anew: a volume that somebody took away is gone from then on.
func (s *Store) Refresh() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.scan()
}

// write makes a volume, reads it back, and only then gives it its name. The result is open.
func (s *Store) write(level int, bundles []entry, fill func(*writer) error) (_ *volume, err error) {
	recipients, err := s.keys.Recipients()
	if err != nil {
		return nil, err
	}
	identities, err := s.keys.Identities()
	if err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(s.dir, partName)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(f.Name())
		}
	}()
	w, err := newWriter(f, level, recipients)
	if err != nil {
		return nil, err
	}
	w.idx.Bundles = bundles
	if err := fill(w); err != nil {
		return nil, err
	}
	if err := w.end(); err != nil {
		return nil, err
	}
	if err := f.Sync(); err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	name := strings.ToLower(rand.Text()) + volumeExt
	r, err := openVolume(name, f, st.Size(), identities)
	if err != nil {
		return nil, fmt.Errorf("reading back what was written: %w", err)
	}
	if err := r.proveAll(); err != nil {
		return nil, fmt.Errorf("reading back what was written: %w", err)
	}
	if err := os.Rename(f.Name(), filepath.Join(s.dir, name)); err != nil {
		return nil, err
	}
	return &volume{r, name, st.Size(), f}, syncDir(s.dir)
}

// prove unpacks a group and holds each object against its sum.
func (r *reader) prove(g *group) error {
	raw, err := r.unpack(g)
	if err != nil {
		return err
	}
	for _, o := range g.Objects {
		if o.Size > int64(len(raw)) || digestOf(raw[:o.Size]) != o.Sum {
			return fmt.Errorf("%.12s has another content than its sum says", o.Sum)
		}
		raw = raw[o.Size:]
	}
	if len(raw) > 0 {
		return errors.New("there is more in it than its index says")
	}
	return nil
}

func (r *reader) proveAll() error {
	found := make([]error, len(r.idx.Groups))
	each(len(found), func(i int) {
		if err := r.prove(&r.idx.Groups[i]); err != nil {
			found[i] = fmt.Errorf("group %d: %w", i+1, err)
		}
	})
	return errors.Join(found...)
}

// syncDir makes a rename last.
func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// A Size is how much the store holds.
type Size struct {
	Volumes int
	Bundles int
	Objects int
	Stored  int64 // bytes on disk
	Content int64 // bytes of all objects, each once
}

// Size looks how much the store holds now.
func (s *Store) Size() (Size, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.scan(); err != nil {
		return Size{}, err
	}
	out := Size{Volumes: len(s.volumes), Bundles: len(s.bundles), Objects: len(s.where)}
	for _, v := range s.volumes {
		out.Stored += v.size
	}
	for _, p := range s.where {
		out.Content += p[0].size
	}
	return out, nil
}
