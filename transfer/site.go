package transfer

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"verimorph/core/media"
)

// A Site is a signed-in session at a makers' release site (docs/formats/release-site.md).
type Site struct {
	base, token  string
	ContractEnds string // date, as the site says
	client       *http.Client
}

// A SiteFile is one file that a site offers.
type SiteFile struct {
	File   string `json:"file"`
	Size   int64  `json:"size"`
	Maker  string `json:"maker"`
	Signed bool   `json:"signed"`
}

// A SiteError is an answer of a release site that trying again does not mend.
type SiteError struct {
	Status int
	Text   string
}

func (e *SiteError) Error() string { return e.Text }

// awayError says that a site could not be asked just now; trying again makes sense, as with ErrBroken.
type awayError struct{ err error }

func (e *awayError) Error() string {
	var u *url.Error
	if errors.As(e.err, &u) {
		return "the site does not answer: " + u.Err.Error()
	}
	return e.err.Error()
}
func (e *awayError) Unwrap() error        { return e.err }
func (e *awayError) Is(target error) bool { return target == ErrBroken }

// idle is how long a site may say nothing.
const idle = 20 * time.Second

// maxList bounds lists and hash lists in bytes.
const maxList = 16 << 20

// OpenSite signs in with a support contract.
func OpenSite(ctx context.Context, base, user, password string) (*Site, error) {
	u, err := url.Parse(base)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, &SiteError{Text: fmt.Sprintf("%q is not the address of a release site; it should look like https://releases.example", base)}
	}
	s := &Site{base: strings.TrimRight(base, "/"), client: &http.Client{Transport: &http.Transport{ResponseHeaderTimeout: idle, Proxy: http.ProxyFromEnvironment}}}
	body, err := json.Marshal(map[string]string{"user": user, "password": password})
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.base+"/session", bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	var answer struct {
		Token        string `json:"token"`
		ContractEnds string `json:"contractEnds"`
	}
	data, err := s.read(req)
	if err == nil {
		err = json.Unmarshal(data, &answer)
	}
	if err != nil {
		return nil, fmt.Errorf("sign in at the release site: %w", err)
	}
	s.token, s.ContractEnds = answer.Token, answer.ContractEnds
	return s, nil
}

func (s *Site) get(ctx context.Context, path string) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.base+path, nil)
	if err == nil {
		req.Header.Set("Authorization", "Bearer "+s.token)
	}
	return req, err
}

// read returns a whole small answer.
func (s *Site) read(req *http.Request) ([]byte, error) {
	resp, err := s.client.Do(req)
	if err != nil {
		return nil, &awayError{err}
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, maxList))
	if err != nil {
		return nil, &awayError{err}
	}
	return data, refusal(resp.StatusCode, data)
}

// refusal is nil for an answer that is one; 5xx is worth another try, everything else is not.
func refusal(status int, data []byte) error {
	if status < 300 {
		return nil
	}
	text := strings.TrimSpace(string(data[:min(len(data), 300)]))
	if text == "" {
		text = http.StatusText(status)
	}
	if status >= 500 || status == http.StatusTooManyRequests {
		return &awayError{fmt.Errorf("the site answers %d: %s", status, text)}
	}
	return &SiteError{status, fmt.Sprintf("the site answers %d: %s", status, text)}
}

// Files lists what the site offers.
func (s *Site) Files(ctx context.Context) (files []SiteFile, err error) {
	req, err := s.get(ctx, "/files")
	if err != nil {
		return nil, err
	}
	data, err := s.read(req)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, &files); err != nil {
		return nil, &SiteError{Text: "the site's list of files cannot be read: " + err.Error()}
	}
	return files, nil
}

// Sums is the site's hash list, by file name.
func (s *Site) Sums(ctx context.Context) (map[string]string, error) {
	req, err := s.get(ctx, "/SHA256SUMS")
	if err != nil {
		return nil, err
	}
	data, err := s.read(req)
	if err != nil {
		return nil, err
	}
	sums, err := media.ReadSums(bytes.NewReader(data))
	if err != nil {
		return nil, &SiteError{Text: "the site's hash list cannot be read: " + err.Error()}
	}
	out := map[string]string{}
	for _, sum := range sums {
		out[sum.Name] = sum.SHA256
	}
	return out, nil
}

// Signature is the maker's detached signature of a file; nil when there is none.
func (s *Site) Signature(ctx context.Context, file string) ([]byte, error) {
	req, err := s.get(ctx, "/files/"+url.PathEscape(file)+".sig")
	if err != nil {
		return nil, err
	}
	data, err := s.read(req)
	var refused *SiteError
	if errors.As(err, &refused) && refused.Status == http.StatusNotFound {
		return nil, nil
	}
	return data, err
}

// Download gets a file into part, which may hold a beginning of it already: then only the rest is asked for (RFC 9110,
// section 14.2), under the condition that the file is still the one the beginning came from (section 13.1.5). It fails
// with ErrBroken when trying again makes sense; what has arrived stays.
func (s *Site) Download(ctx context.Context, file string, size int64, part string, progress func(done int64)) error {
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	done, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	tag, _ := os.ReadFile(part + ".tag")
	if done >= size || len(tag) == 0 {
		done = 0
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	silence := time.AfterFunc(idle, func() { cancel(fmt.Errorf("nothing came for %s", idle)) })
	defer silence.Stop()
	req, err := s.get(ctx, "/files/"+url.PathEscape(file))
	if err != nil {
		return err
	}
	if done > 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", done))
		req.Header.Set("If-Range", string(tag))
	}
	resp, err := s.client.Do(req)
	if err != nil {
		return broken(ctx, err, done, size)
	}
	defer resp.Body.Close()
	switch resp.StatusCode {
	case http.StatusPartialContent:
		if !strings.HasPrefix(resp.Header.Get("Content-Range"), "bytes "+strconv.FormatInt(done, 10)+"-") {
			return &SiteError{Text: "the site sent another part of the file than was asked for"}
		}
	case http.StatusOK: // from the start, because nothing was there or the file is another one now
		done = 0
		if err := os.WriteFile(part+".tag", []byte(strong(resp.Header.Get("ETag"))), 0o600); err != nil {
			return err
		}
	default:
		data, _ := io.ReadAll(io.LimitReader(resp.Body, 300))
		return refusal(resp.StatusCode, data)
	}
	if err := f.Truncate(done); err != nil {
		return err
	}
	if _, err := f.Seek(done, io.SeekStart); err != nil {
		return err
	}
	b := make([]byte, 256<<10)
	for {
		n, err := resp.Body.Read(b)
		silence.Reset(idle)
		if done+int64(n) > size {
			return &SiteError{Text: fmt.Sprintf("the site sends more than the %d bytes that the file should have", size)}
		}
		if _, werr := f.Write(b[:n]); werr != nil {
			return werr
		}
		done += int64(n)
		progress(done)
		if err == io.EOF {
			break
		}
		if err != nil {
			return broken(ctx, err, done, size)
		}
	}
	if done != size {
		return fmt.Errorf("%w: the site sent %d of %d bytes", ErrBroken, done, size)
	}
	return f.Sync()
}

func broken(ctx context.Context, err error, done, size int64) error {
	if cause := context.Cause(ctx); cause != nil {
		err = cause
	}
	return fmt.Errorf("%w at byte %d of %d: %w", ErrBroken, done, size, err)
}

// strong is an entity tag that may be used with If-Range; weak ones may not.
func strong(tag string) string {
	if strings.HasPrefix(tag, "W/") {
		return ""
	}
	return tag
}
