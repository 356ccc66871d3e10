package tarnholm

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"

	"github.com/pkg/sftp"
)

// flash is the box's file area over SFTP: plain files, no folders.
type flash struct {
	b    *Box
	conn net.Conn
}

var errRoom = errors.New("no room on flash")

// used is the number of bytes taken by files.
func (b *Box) used() (n int64) {
	entries, _ := os.ReadDir(filepath.Join(b.dir, "flash"))
	for _, e := range entries {
		if st, err := e.Info(); err == nil {
			n += st.Size()
		}
	}
	return n
}

// total is the size of the flash; the caller holds the lock.
func (b *Box) total() int64 { return b.spec.Flash }

// free is what is left; the caller holds the lock.
func (b *Box) free() int64 {
	f, _ := b.has(LowFlash)
	return max(b.total()-b.used()-f.Taken, 0)
}

// fits reports whether so many bytes more fit, and takes them. The flash is looked through only when what was left the last time does not do; the caller holds the lock.
func (b *Box) fits(more int64) bool {
	if _, low := b.has(LowFlash); low || more > b.spare {
		b.spare = b.free()
	}
	if more > b.spare {
		return false
	}
	b.spare -= max(more, 0)
	return true
}

func (f *flash) name(path string) (string, error) {
	name := strings.TrimPrefix(filepath.Clean("/"+path), "/")
	if name == "" || strings.Contains(name, "/") {
		return "", os.ErrPermission
	}
	return f.b.onFlash(name), nil
}

// Fileread implements sftp.FileReader. running.cfg and saved.cfg are the two configurations, as files.
func (f *flash) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	f.b.mu.Lock()
	defer f.b.mu.Unlock()
	if name := strings.TrimPrefix(r.Filepath, "/"); name == runningFile || name == savedFile || name == cablesFile {
		data, _ := f.b.part(name)
		return bytes.NewReader(data), nil
	}
	name, err := f.name(r.Filepath)
	if err != nil {
		return nil, err
	}
	return os.Open(name)
}

// Filewrite implements sftp.FileWriter.
func (f *flash) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	name, err := f.name(r.Filepath)
	if err != nil {
		return nil, err
	}
	flags := os.O_WRONLY | os.O_CREATE
	if r.Pflags().Trunc {
		flags |= os.O_TRUNC
	}
	file, err := os.OpenFile(name, flags, 0o600)
	if err != nil {
		return nil, err
	}
	return &slowFile{f: f, file: file}, nil
}

// Filecmd implements sftp.FileCmder: removing is all there is.
func (f *flash) Filecmd(r *sftp.Request) error {
	if r.Method != "Remove" {
		return sftp.ErrSSHFxOpUnsupported
	}
	name, err := f.name(r.Filepath)
	if err != nil {
		return err
	}
	return os.Remove(name)
}

// Filelist implements sftp.FileLister.
func (f *flash) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	dir := filepath.Join(f.b.dir, "flash")
	if r.Method != "List" {
		name, err := f.name(r.Filepath)
		if err != nil {
			name = dir
		}
		st, err := os.Stat(name)
		return box.FileList{st}, err
	}
	return box.ListFolder(dir)
}

// slowFile writes at the pace of the flash, and breaks as the faults say.
type slowFile struct {
	f       *flash
	file    *os.File
	written int64
	end     int64 // how far it was written over this handle
}

func (s *slowFile) WriteAt(p []byte, off int64) (int, error) {
	if err := s.f.b.take(s.file, &s.written, &p, off, func() { _ = s.f.conn.Close() }); err != nil {
		return 0, err
	}
	n, err := s.file.WriteAt(p, off)
	s.f.b.mu.Lock()
	s.end = max(s.end, off+int64(n))
	s.f.b.mu.Unlock()
	return n, err
}

// Close counts the images that have arrived whole, each over the connection that brought its end: another one, which broke before, may close later.
func (s *slowFile) Close() error {
	name := s.file.Name()
	err := s.file.Close()
	if f, e := os.Open(name); e == nil {
		defer f.Close()
		h, e := firmware.Read(f)
		if st, bad := f.Stat(); e == nil && bad == nil && st.Size() == firmware.HeaderSize+h.Payload {
			s.f.b.mu.Lock()
			if s.end == st.Size() {
				s.f.b.st.Sent++
			}
			s.f.b.mu.Unlock()
		}
	}
	return err
}

// take is what happens to every piece of an upload before it reaches the flash: it takes time, may not fit, may break
// off or arrive damaged. A flash takes one piece at a time, however many are on the way.
func (b *Box) take(file *os.File, written *int64, p *[]byte, off int64, drop func()) error {
	b.flashMu.Lock()
	time.Sleep(time.Duration(float64(len(*p)) / flashRate / b.factor * float64(time.Second)))
	b.flashMu.Unlock()
	b.mu.Lock()
	defer b.mu.Unlock()
	if st, err := file.Stat(); err != nil || !b.fits(off+int64(len(*p))-st.Size()) {
		return errRoom
	}
	if *written < 0 { // it broke off before; pieces that were on the way are lost
		return io.ErrClosedPipe
	}
	*written += int64(len(*p))
	if f, ok := b.has(DropTransfer); ok && f.Armed() && *written > f.Value {
		b.hit(DropTransfer)
		*written = -1
		drop()
		return io.ErrClosedPipe
	}
	if f, ok := b.has(StallTransfer); ok && f.Armed() && *written > f.Value {
		b.hit(StallTransfer)
		b.mu.Unlock()
		<-b.host.Done()
		b.mu.Lock()
		return io.ErrClosedPipe
	}
	if len(*p) > 0 && off+int64(len(*p)) > 1<<20 && b.hit(CorruptTransfer) {
		*p = append([]byte(nil), *p...)
		(*p)[len(*p)/2] ^= 0x40
	}
	return nil
}

// fetch downloads a file over HTTP. What came before a break stays in name.part and is not asked for again.
func (b *Box) fetch(url, name string, progress func(done, total int64)) error {
	part := b.onFlash(name + ".part")
	file, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer file.Close()
	have, _ := file.Seek(0, io.SeekEnd)
	req, err := http.NewRequest("GET", url, nil)
	if err != nil {
		return errors.New("that is no address")
	}
	if have > 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", have))
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return errors.New("cannot reach the address")
	}
	defer resp.Body.Close()
	switch resp.StatusCode {
	case http.StatusOK:
		have = 0
		_ = file.Truncate(0)
	case http.StatusPartialContent:
	default:
		return fmt.Errorf("the address answers %d", resp.StatusCode)
	}
	total := have + resp.ContentLength
	buf, written := make([]byte, 32<<10), int64(0)
	for {
		n, err := io.ReadFull(resp.Body, buf)
		if n > 0 {
			p, broke := buf[:n], false
			if err := b.take(file, &written, &p, have, func() { broke = true }); err != nil && !broke {
				return err
			}
			if broke {
				return fmt.Errorf("the transfer broke at %d bytes", have)
			}
			if _, err := file.WriteAt(p, have); err != nil {
				return err
			}
			have += int64(n)
			progress(have, total)
		}
		if err != nil {
			break
		}
	}
	if resp.ContentLength >= 0 && have != total {
		return fmt.Errorf("the transfer broke at %d of %d bytes", have, total)
	}
	return os.Rename(part, b.onFlash(name))
}
