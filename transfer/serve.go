package transfer

import (
	"crypto/rand"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"
)

// A Server hands files out at addresses that work once and expire. An address is used up when every byte of its file
// has been sent; until then a broken download may be taken up again (RFC 9110, section 14).
type Server struct {
	Base   string // such as http://127.0.0.1:8422, without a slash at the end
	Secure string // the same over TLS; "": nobody is handed files so

	mu     sync.Mutex
	offers map[string]*offer
	came   map[string]bool // tokens that somebody came for, until they are withdrawn
}

type offer struct {
	file  string
	data  []byte // instead of a file
	until time.Time
	busy  bool
}

// Offer returns an address for a file, valid for d, and a function that withdraws it.
func (s *Server) Offer(file string, d time.Duration) (url string, withdraw func()) {
	token := rand.Text()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.offers == nil {
		s.offers = map[string]*offer{}
	}
	for t, o := range s.offers {
		if time.Now().After(o.until) {
			delete(s.offers, t)
		}
	}
	s.offers[token] = &offer{file: file, until: time.Now().Add(d)}
	return s.Base + "/get/" + token, func() { s.drop(token); s.forget(token) }
}

// Came reports whether somebody came for what is offered at an address that was not withdrawn yet.
func (s *Server) Came(url string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.came[url[strings.LastIndexByte(url, '/')+1:]]
}

func (s *Server) forget(token string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.came, token)
}

func (s *Server) drop(token string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.offers, token)
}

// ServeHTTP answers GET /get/TOKEN, with ranges. Everything else, also an address used up or expired, is 404.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	token, ok := strings.CutPrefix(r.URL.Path, "/get/")
	if !ok || r.Method != http.MethodGet {
		http.NotFound(w, r)
		return
	}
	s.mu.Lock()
	o := s.offers[token]
	if o == nil || time.Now().After(o.until) || o.busy {
		s.mu.Unlock()
		http.NotFound(w, r)
		return
	}
	o.busy = true
	if s.came == nil {
		s.came = map[string]bool{}
	}
	s.came[token] = true
	s.mu.Unlock()
	defer func() { s.mu.Lock(); o.busy = false; s.mu.Unlock() }()

	if o.data != nil {
		if serveBytes(w, o.data) {
			s.drop(token)
		}
		return
	}
	f, err := os.Open(o.file)
	if err != nil {
		http.Error(w, "the file is gone", http.StatusInternalServerError)
		return
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		http.Error(w, "the file is gone", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	cw := &countingWriter{ResponseWriter: w}
	http.ServeContent(cw, r, "", st.ModTime(), f)
	// The end is reached when what was sent in one go ends at the last byte.
	if from, _, ok := strings.Cut(strings.TrimPrefix(r.Header.Get("Range"), "bytes="), "-"); cw.status < 400 && cw.err == nil {
		start := int64(0)
		if ok {
			for _, c := range from {
				start = start*10 + int64(c-'0')
			}
		}
		if start+cw.n == st.Size() {
			s.drop(token)
		}
	}
}

type countingWriter struct {
	http.ResponseWriter
	status int
	n      int64
	err    error
}

func (c *countingWriter) WriteHeader(status int) {
	c.status = status
	c.ResponseWriter.WriteHeader(status)
}

func (c *countingWriter) Write(p []byte) (int, error) {
	n, err := c.ResponseWriter.Write(p)
	c.n += int64(n)
	if err != nil {
		c.err = err
	}
	return n, err
}
