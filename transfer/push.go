// Package transfer moves files between the service, devices and release sites. [Push] sends a file over SFTP and resumes where it broke off. [Server]
// serves files over HTTP at addresses that work once and expire. [Receiver] takes what devices send over SFTP, FTP and TFTP. [Site] downloads
// from a makers' release site and resumes.
//
// [ErrBroken] is a transfer that broke off and may be tried again; a [*SiteError] is a release site that refuses.
package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync/atomic"

	"github.com/pkg/sftp"
)

// window is the number of write requests of one push that may be on the way at once, and packet their size: 32 KiB is what
// every SFTP server takes (draft-ietf-secsh-filexfer-02, section 3). Many pushes at once share inFlight requests: the memory they
// take does not grow with their number, and devices that many take a piece at a time are not slower for it.
const (
	window   = 64
	packet   = 32 << 10
	inFlight = 1024
)

// pushing counts the pushes that go on.
var pushing atomic.Int64

// ErrBroken is inside the error of a transfer that broke off on the way: what arrived stays, and another Push goes on.
var ErrBroken = errors.New("broke off")

// Push copies a local file to the device. When the device has a part of it already, only the rest is sent: writes are
// sent in order with at most window of them on the way, so of a part of n bytes all but the last window is sound. The
// caller compares checksums afterwards; a part that is not ours shows there.
func Push(ctx context.Context, c *sftp.Client, local, remote string, progress func(done, total int64)) error {
	f, err := os.Open(local)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	size, start := st.Size(), int64(0)
	if have, err := c.Stat(remote); err == nil {
		start = have.Size() - window*packet
		if have.Size() > size || start < 0 {
			start = 0
		}
	}
	flags := os.O_WRONLY | os.O_CREATE
	if start == 0 {
		flags |= os.O_TRUNC
	}
	w, err := c.OpenFile(remote, flags)
	if err != nil {
		return fmt.Errorf("%w: open %s on the device: %w", ErrBroken, remote, err)
	}
	if _, err := w.Seek(start, io.SeekStart); err != nil {
		return fmt.Errorf("%w: %w", ErrBroken, err)
	}
	r := &meter{ctx: ctx, r: io.NewSectionReader(f, start, size-start), done: start, total: size, progress: progress}
	share := inFlight / int(pushing.Add(1))
	defer pushing.Add(-1)
	_, err = w.ReadFromWithConcurrency(r, min(window, max(share, 2)))
	if err = errors.Join(err, w.Close()); err != nil {
		return fmt.Errorf("send %s: %w near byte %d of %d: %w", remote, ErrBroken, r.done, size, err)
	}
	if have, err := c.Stat(remote); err != nil || have.Size() != size {
		return fmt.Errorf("send %s: %w: the device does not have all of it afterwards", remote, ErrBroken)
	}
	return nil
}

// meter counts what is read and stops when the context ends.
type meter struct {
	ctx         context.Context
	r           io.Reader
	done, total int64
	progress    func(done, total int64)
}

func (m *meter) Read(p []byte) (int, error) {
	if err := m.ctx.Err(); err != nil {
		return 0, context.Cause(m.ctx)
	}
	n, err := m.r.Read(p)
	m.done += int64(n)
	if m.progress != nil {
		m.progress(m.done, m.total)
	}
	return n, err
}
