// Package blob keeps files by the SHA-256 of their content, such as firmware images. A file is there whole or not at all,
// and what comes out is what went in or an error.
package blob

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
)

// A Store is a folder of blobs.
type Store struct {
	dir string
}

// Open uses a folder, making it when it is not there.
func Open(dir string) (*Store, error) {
	return &Store{dir}, os.MkdirAll(dir, 0o700)
}

var sumForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

// ErrNotThere is returned for a sum that the store does not have.
var ErrNotThere = errors.New("not in the store")

func (s *Store) file(sum string) (string, error) {
	if !sumForm.MatchString(sum) {
		return "", fmt.Errorf("%q is not a SHA-256 sum", sum)
	}
	return filepath.Join(s.dir, sum[:2], sum), nil
}

// Put stores what r gives and returns its sum and size. It takes at most limit bytes; 0 is no limit.
func (s *Store) Put(r io.Reader, limit int64) (sum string, size int64, err error) {
	return s.PutIf(r, limit, 0, func(string, int64, []byte) error { return nil })
}

// PutIf is Put for content that has to be looked at first: accept gets its sum, its size and its first bytes, and
// nothing is stored when it returns an error.
func (s *Store) PutIf(r io.Reader, limit int64, firstBytes int, accept func(sum string, size int64, first []byte) error) (sum string, size int64, err error) {
	tmp, err := os.CreateTemp(s.dir, "part-*")
	if err != nil {
		return "", 0, err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	h, first := sha256.New(), &headWriter{room: firstBytes}
	if limit > 0 {
		r = io.LimitReader(r, limit+1)
	}
	r = io.TeeReader(r, io.MultiWriter(h, first))
	if size, err = io.Copy(tmp, r); err != nil {
		return "", 0, err
	}
	if limit > 0 && size > limit {
		return "", 0, fmt.Errorf("larger than the %d bytes that are allowed", limit)
	}
	sum = hex.EncodeToString(h.Sum(nil))
	if err := accept(sum, size, first.b); err != nil {
		return "", 0, err
	}
	return sum, size, s.settle(tmp, sum)
}

// Adopt takes over a finished file that lies in a folder on the same disk, after accept has agreed as in PutIf. The file
// is gone from its old place afterwards; when accept refuses, it stays.
func (s *Store) Adopt(name string, firstBytes int, accept func(sum string, size int64, first []byte) error) (sum string, size int64, err error) {
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	h, first := sha256.New(), &headWriter{room: firstBytes}
	if err := readAhead(io.MultiWriter(h, first), f); err != nil {
		return "", 0, err
	}
	if size, err = f.Seek(0, io.SeekEnd); err != nil {
		return "", 0, err
	}
	sum = hex.EncodeToString(h.Sum(nil))
	if err := accept(sum, size, first.b); err != nil {
		return "", 0, err
	}
	return sum, size, s.settle(f, sum)
}

// Delete removes a blob.
func (s *Store) Delete(sum string) error {
	name, err := s.file(sum)
	if err != nil {
		return err
	}
	if err := os.Remove(name); errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%s: %w", sum, ErrNotThere)
	} else if err != nil {
		return err
	}
	return nil
}

// settle gives a finished file its name, and only then: each act needs the one before it.
func (s *Store) settle(tmp *os.File, sum string) error {
	name, err := s.file(sum)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	if err := tmp.Sync(); err != nil {
		return err
	}
	if err := tmp.Close(); err != nil {
		return err
	}
	if err := os.Rename(tmp.Name(), name); err != nil {
		return err
	}
	return syncDir(filepath.Dir(name))
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

// Has reports whether the store has a sum.
func (s *Store) Has(sum string) bool {
	name, err := s.file(sum)
	if err != nil {
		return false
	}
	_, err = os.Stat(name)
	return err == nil
}

// Path is the file of a blob. It fails for unknown sums.
func (s *Store) Path(sum string) (string, error) {
	name, err := s.file(sum)
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(name); err != nil {
		return "", fmt.Errorf("%s: %w", sum, ErrNotThere)
	}
	return name, nil
}

// Read returns a whole blob and fails when its content does not have its sum.
func (s *Store) Read(sum string) ([]byte, error) {
	name, err := s.file(sum)
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", sum, ErrNotThere)
	}
	if err != nil {
		return nil, err
	}
	if got := sha256.Sum256(data); hex.EncodeToString(got[:]) != sum {
		return nil, fmt.Errorf("%s: the stored file is damaged", sum)
	}
	return data, nil
}

// Verify reads a blob through and fails when its content does not have its sum.
func (s *Store) Verify(sum string) error {
	name, err := s.Path(sum)
	if err != nil {
		return err
	}
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	h := sha256.New()
	if err := readAhead(h, f); err != nil {
		return err
	}
	if !bytes.Equal(h.Sum(nil), mustHex(sum)) {
		return fmt.Errorf("%s: the stored file is damaged", sum)
	}
	return nil
}

// readAhead copies r to w and reads the next piece while the last one is written, so that a slow disk and a slow hash
// do not wait for each other.
func readAhead(w io.Writer, r io.Reader) error {
	type piece struct {
		b   []byte
		err error
	}
	free, full := make(chan []byte, 2), make(chan piece, 2)
	for range 2 {
		free <- make([]byte, 1<<20)
	}
	go func() {
		for b := range free {
			n, err := io.ReadFull(r, b)
			full <- piece{b[:n], err}
			if err != nil {
				return
			}
		}
	}()
	for p := range full {
		if _, err := w.Write(p.b); err != nil {
			close(free)
			return err
		}
		if errors.Is(p.err, io.EOF) || errors.Is(p.err, io.ErrUnexpectedEOF) {
			return nil
		}
		if p.err != nil {
			return p.err
		}
		free <- p.b[:cap(p.b)]
	}
	return nil
}

func mustHex(s string) []byte { b, _ := hex.DecodeString(s); return b }

// headWriter keeps the first bytes it is given.
type headWriter struct {
	b    []byte
	room int
}

func (h *headWriter) Write(p []byte) (int, error) {
	n := min(len(p), h.room-len(h.b))
	h.b = append(h.b, p[:n]...)
	return len(p), nil
}
