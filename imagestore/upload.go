package imagestore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"verimorph/store"
)

// An OffsetError says that a piece does not begin where the upload stands.
type OffsetError struct{ At int64 }

func (e *OffsetError) Error() string {
	return fmt.Sprintf("the upload stands at byte %d; go on from there", e.At)
}

// ErrSending is returned when a piece of the same upload is arriving already.
var ErrSending = errors.New("another piece of this upload is arriving; wait for it to end")

// partAge is how long a part that nobody goes on with is kept.
const partAge = 7 * 24 * time.Hour

func (k *Images) uploadPart(id int64) string {
	return filepath.Join(k.Dir, "uploads", fmt.Sprint(id))
}

// StartUpload begins an upload, or finds the one of the same user, name and size that was not completed.
func (k *Images) StartUpload(ctx context.Context, u store.Upload) (store.Upload, int64, error) {
	u, err := k.Store.StartUpload(ctx, u)
	if err != nil {
		return u, 0, err
	}
	offset, err := length(k.uploadPart(u.ID))
	return u, offset, err
}

// Offset is how far an upload is.
func (k *Images) Offset(u store.Upload) int64 {
	n, _ := length(k.uploadPart(u.ID))
	return n
}

func length(name string) (int64, error) {
	st, err := os.Stat(name)
	if errors.Is(err, os.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return st.Size(), nil
}

// ContinueUpload adds a piece. What has arrived stays even when the rest of the piece does not come. With the last byte
// the file is taken in: then image is set. A file that is refused is dropped, because sending the rest again would not
// help.
func (k *Images) ContinueUpload(ctx context.Context, id, offset int64, r io.Reader) (u store.Upload, at int64, image *store.Image, already bool, err error) {
	if u, err = k.Store.Upload(ctx, id); err != nil {
		return u, 0, nil, false, err
	}
	if !k.begin(id) {
		return u, 0, nil, false, ErrSending
	}
	defer k.end(id)
	part := k.uploadPart(id)
	f, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return u, 0, nil, false, err
	}
	defer f.Close()
	if at, err = f.Seek(0, io.SeekEnd); err != nil {
		return u, 0, nil, false, err
	}
	if at != offset {
		return u, at, nil, false, &OffsetError{at}
	}
	n, err := io.Copy(f, io.LimitReader(r, u.Size-at+1))
	at += n
	if at > u.Size {
		_ = f.Truncate(offset)
		return u, offset, nil, false, refused("%s: more bytes came than the %d that were announced", u.File, u.Size)
	}
	if err = errors.Join(err, f.Sync()); err != nil || at < u.Size {
		return u, at, nil, false, err
	}
	im, already, err := k.adopt(ctx, part, u.File, u.Signature, u.StartedBy)
	var no *RefusedError
	if errors.As(err, &no) {
		err = errors.Join(err, k.DropUpload(ctx, id))
	}
	if err != nil {
		return u, at, nil, false, err
	}
	return u, at, &im, already, k.Store.DeleteUpload(ctx, id)
}

// DropUpload forgets an upload and what has arrived of it.
func (k *Images) DropUpload(ctx context.Context, id int64) error {
	if err := k.Store.DeleteUpload(ctx, id); err != nil {
		return err
	}
	if err := os.Remove(k.uploadPart(id)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// DropOld drops uploads that nobody went on with, and what is left of downloads that nobody resumed.
func (k *Images) DropOld(ctx context.Context) error {
	us, err := k.Store.Uploads(ctx)
	for _, u := range us {
		if time.Since(u.TouchedAt) > partAge {
			err = errors.Join(err, k.DropUpload(ctx, u.ID))
		}
	}
	parts, e := os.ReadDir(filepath.Join(k.Dir, "fetches"))
	err = errors.Join(err, e)
	for _, p := range parts {
		if st, e := p.Info(); e == nil && time.Since(st.ModTime()) > partAge {
			err = errors.Join(err, os.Remove(filepath.Join(k.Dir, "fetches", p.Name())))
		}
	}
	return err
}

func (k *Images) begin(id int64) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.sending[id] {
		return false
	}
	k.sending[id] = true
	return true
}

func (k *Images) end(id int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.sending, id)
}
