package transfer

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/pin/tftp/v3"
)

// fetcher is the user name with which devices sign in to fetch; the password is the token of one file.
const fetcher = "fetch"

// given is what is handed out under a token: data, or a file.
type given struct {
	data []byte
	file string
}

func (g given) open() (handout, error) {
	if g.file == "" {
		return handout{bytes.NewReader(g.data), io.NopCloser(nil), int64(len(g.data))}, nil
	}
	f, err := os.Open(g.file)
	if err != nil {
		return handout{}, err
	}
	st, err := f.Stat()
	if err != nil {
		_ = f.Close()
		return handout{}, err
	}
	return handout{f, f, st.Size()}, nil
}

// handout is an open file that is handed out.
type handout struct {
	readSeekerAt
	close io.Closer
	size  int64
}

type readSeekerAt interface {
	io.ReaderAt
	io.ReadSeeker
}

// Close implements io.Closer.
func (h handout) Close() error { return h.close.Close() }

// Write implements ftpserver.FileTransfer: nothing is taken here.
func (h handout) Write([]byte) (int, error) { return 0, os.ErrPermission }

// oneFile tells the size of what is handed out.
type oneFile struct{ h handout }

// ListAt implements sftp.ListerAt.
func (o oneFile) ListAt(into []os.FileInfo, offset int64) (int, error) {
	if offset > 0 || len(into) == 0 {
		return 0, io.EOF
	}
	into[0] = o
	return 1, nil
}

// Name and the others implement os.FileInfo.
func (o oneFile) Name() string       { return "file" }
func (o oneFile) Size() int64        { return o.h.size }
func (o oneFile) Mode() os.FileMode  { return 0o400 }
func (o oneFile) ModTime() time.Time { return time.Time{} }
func (o oneFile) IsDir() bool        { return false }
func (o oneFile) Sys() any           { return nil }

// knows reports whether somebody signs in for a file that is expected or offered. The caller holds the lock.
func (r *Receiver) knows(user, token string) bool {
	_, offered := r.offers[token]
	return user == deliverer && r.expects[token] != nil || user == fetcher && offered
}

func (r *Receiver) offered(token string) (handout, error) {
	r.mu.Lock()
	g, ok := r.offers[token]
	if ok {
		if r.came == nil {
			r.came = map[string]bool{}
		}
		r.came[token] = true
	}
	r.mu.Unlock()
	if !ok {
		return handout{}, os.ErrNotExist
	}
	return g.open()
}

// secure is an address of the HTTP side over TLS.
func (r *Receiver) secure(url string, withdraw func()) (string, func(), error) {
	if r.give.Secure == "" {
		withdraw()
		return "", nil, errors.New("this service hands no files out over https; start it with -transfer-tls-listen, -transfer-cert and -transfer-key")
	}
	return r.give.Secure + strings.TrimPrefix(url, r.give.Base), withdraw, nil
}

// OfferData hands data out over http, https, sftp, ftp or tftp until it is withdrawn.
func (r *Receiver) OfferData(scheme string, data []byte) (url string, withdraw func(), err error) {
	if scheme == "http" {
		url, withdraw = r.give.OfferBytes(data, 10*time.Minute)
		return url, withdraw, nil
	}
	if scheme == "https" {
		return r.secure(r.give.OfferBytes(data, 10*time.Minute))
	}
	return r.offer(scheme, given{data: data})
}

// OfferFile hands a file out over http, https, sftp, ftp or tftp until it is withdrawn, over http at most for d.
func (r *Receiver) OfferFile(scheme, file string, d time.Duration) (url string, withdraw func(), err error) {
	if scheme == "http" {
		url, withdraw = r.give.Offer(file, d)
		return url, withdraw, nil
	}
	if scheme == "https" {
		return r.secure(r.give.Offer(file, d))
	}
	return r.offer(scheme, given{file: file})
}

func (r *Receiver) offer(scheme string, g given) (url string, withdraw func(), err error) {
	at, err := r.address(scheme)
	if err != nil {
		return "", nil, err
	}
	token := strings.ToLower(rand.Text())
	r.mu.Lock()
	r.offers[token] = g
	r.mu.Unlock()
	url = fmt.Sprintf("%s://%s:%s@%s/file", scheme, fetcher, token, at)
	if scheme == "tftp" { // it has no sign-in: the name is the secret
		url = fmt.Sprintf("tftp://%s/%s", at, token)
	}
	return url, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.offers, token)
		delete(r.came, token)
	}, nil
}

// Came reports whether somebody came for what is offered at an address that was not withdrawn yet.
func (r *Receiver) Came(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	if u.Scheme == "http" || u.Scheme == "https" {
		return r.give.Came(address)
	}
	token := path.Base(u.Path)
	if p, ok := u.User.Password(); ok {
		token = p
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.came[token]
}

func (r *Receiver) tftpGive(name string, rf io.ReaderFrom) error {
	f, err := r.offered(path.Base(name))
	if err != nil {
		return err
	}
	defer f.Close()
	if s, ok := rf.(tftp.OutgoingTransfer); ok {
		s.SetSize(f.size)
	}
	_, err = rf.ReadFrom(f)
	return err
}
