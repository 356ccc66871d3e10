// Package imagestore keeps the firmware images of an installation: it takes them in from people and from makers' release
// sites, checks them at arrival and before use, and knows which are still needed.
//
// A file is taken in only when the catalogue knows its SHA-256 and its header says the same as the catalogue; a maker's
// signature that comes with it must be right. Uploads and downloads lie as parts in folders of their own until they are
// complete, and go on from there after whatever happened.
package imagestore

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"verimorph/access"
	"verimorph/blob"
	"verimorph/core/catalog"
	"verimorph/store"
	"verimorph/vault"
)

// Config is what an image store works with.
type Config struct {
	Store     *store.Store
	Blobs     *blob.Store // plain, on the same disk as Dir
	Vault     *vault.Vault
	Catalogue func(context.Context) (*catalog.Catalogue, error)
	Dir       string // for parts
	Log       *slog.Logger
	Rest      time.Duration // before the second try of a download; 0: a second
}

// Images is the image store of one process. Several may share a database and a disk.
type Images struct {
	Config
	holder  string
	mu      sync.Mutex
	sending map[int64]bool // uploads that a piece is arriving for
}

// headBytes is how much of a file its header may take.
const headBytes = 64 << 10

// New prepares the folders.
func New(c Config) (*Images, error) {
	host, _ := os.Hostname()
	if c.Rest == 0 {
		c.Rest = time.Second
	}
	k := &Images{Config: c, holder: fmt.Sprintf("%s/%d/%p", host, os.Getpid(), &c), sending: map[int64]bool{}}
	for _, name := range []string{"uploads", "fetches"} {
		if err := os.MkdirAll(filepath.Join(c.Dir, name), 0o700); err != nil {
			return nil, err
		}
	}
	return k, nil
}

// A RefusedError says why a file is not taken in.
type RefusedError struct{ Text string }

func (e *RefusedError) Error() string { return e.Text }

func refused(format string, args ...any) error { return &RefusedError{fmt.Sprintf(format, args...)} }

// Take takes in what r gives, at most limit bytes. already reports that the same content was there before.
func (k *Images) Take(ctx context.Context, r io.Reader, limit int64, file string, signature []byte, by string) (im store.Image, already bool, err error) {
	return k.take(ctx, file, signature, by, func(accept accept) error {
		_, _, err := k.Blobs.PutIf(r, limit, headBytes, accept)
		return err
	})
}

// adopt takes in a part that is complete.
func (k *Images) adopt(ctx context.Context, part, file string, signature []byte, by string) (store.Image, bool, error) {
	return k.take(ctx, file, signature, by, func(accept accept) error {
		_, _, err := k.Blobs.Adopt(part, headBytes, accept)
		return err
	})
}

type accept = func(sum string, size int64, head []byte) error

func (k *Images) take(ctx context.Context, file string, signature []byte, by string, put func(accept) error) (im store.Image, already bool, err error) {
	cat, err := k.Catalogue(ctx)
	if err != nil {
		return im, false, err
	}
	err = put(func(sum string, size int64, head []byte) error {
		l, err := identify(cat, file, sum, size, head)
		if err != nil {
			return err
		}
		signed, err := checkSignature(l, sum, signature)
		if err != nil {
			return err
		}
		im = store.Image{SHA256: sum, File: l.File, Size: size, Family: l.Family.Name, Version: l.Version, Models: l.Models, Part: l.Part, Signed: signed, AddedBy: by}
		return nil
	})
	if err != nil {
		return im, false, err
	}
	err = k.Store.Audited(ctx, access.Person(by, ""), func(tx *store.Store) (l store.Line, err error) {
		already, err = tx.AddImage(ctx, im)
		return store.Line{Event: "image taken in", Detail: im.File + ", SHA-256 " + im.SHA256}, err
	})
	if err != nil {
		return im, false, err
	}
	im, err = k.Store.Image(ctx, im.SHA256)
	return im, already, err
}

// identify finds the catalogue's image with this hash, or says why the file is not taken.
func identify(cat *catalog.Catalogue, file, sum string, size int64, head []byte) (*catalog.Listed, error) {
	for _, f := range cat.Families {
		h, headErr := f.ReadHeader(head)
		for _, l := range f.Images() {
			switch {
			case l.SHA256 == sum && headErr != nil:
				return nil, refused("%s: the catalogue knows its SHA-256 as %s, but %s", file, l.File, headErr)
			case l.SHA256 == sum && !h.Equal(l.Says()):
				return nil, refused("%s: its header says %s, the catalogue says %s", file, h, l.Says())
			case l.SHA256 == sum && l.Size != size:
				return nil, refused("%s: it has %d bytes, the catalogue says %d", file, size, l.Size)
			case l.SHA256 == sum:
				return &l, nil
			}
		}
		if headErr != nil {
			continue
		}
		for _, l := range f.Images() {
			if h.Equal(l.Says()) {
				if l.SHA256 == "" {
					return nil, refused("%s: its header says %s, but the catalogue has no hash for it, so it cannot be told from a damaged one; load a catalogue that has", file, h)
				}
				return nil, refused("%s: its header says %s, but its SHA-256 is %.16s... and the catalogue says %.16s...; it is damaged or altered, get it again", file, h, sum, l.SHA256)
			}
		}
		return nil, refused("%s: its header says %s, which the catalogue does not know; load a newer catalogue", file, h)
	}
	return nil, refused("%s: it is not an image of any family in the catalogue (SHA-256 %.16s...)", file, sum)
}

// checkSignature checks a maker's detached Ed25519 signature (RFC 8032) over the SHA-256 sum of an image. A file that
// comes without one is not signed; one that comes with a wrong one is refused.
func checkSignature(l *catalog.Listed, sum string, signature []byte) (signed bool, err error) {
	if len(signature) == 0 {
		return false, nil
	}
	if l.Family.SigningKey == "" {
		return false, nil // nobody can tell
	}
	key, err := base64.StdEncoding.DecodeString(l.Family.SigningKey)
	if err != nil {
		return false, err
	}
	raw, err := hex.DecodeString(sum)
	if err != nil {
		return false, err
	}
	if len(signature) != ed25519.SignatureSize || !ed25519.Verify(key, raw, signature) {
		return false, refused("%s: the signature that came with it is not %s's; do not use the file, ask the maker", l.File, l.Family.Maker)
	}
	return true, nil
}

// Check reads every recorded image through and returns how many there are, and those that are missing or damaged.
func (k *Images) Check(ctx context.Context) (checked int, damaged []string, err error) {
	after := ""
	for {
		images, err := k.Store.Images(ctx, after, 200)
		if err != nil || len(images) == 0 {
			return checked, damaged, err
		}
		for _, im := range images {
			checked++
			if err := k.Blobs.Verify(im.SHA256); err != nil {
				damaged = append(damaged, fmt.Sprintf("%s (%s): %s", im.File, im.SHA256, err))
			}
			if ctx.Err() != nil {
				return checked, damaged, ctx.Err()
			}
			after = im.File
		}
	}
}
