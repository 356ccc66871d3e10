// Package releasesite simulates the release site of the invented makers: sign-in with a support contract, a list of
// files, a hash list, detached signatures, and downloads that can be resumed. docs/formats/release-site.md has the
// protocol. Things go wrong when they are told to.
package releasesite

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"verimorph/core/catalog"
	"verimorph/simfleet/firmware"
)

// Names of faults.
const (
	Drop           = "drop"            // downloads break after Value bytes
	Stall          = "stall"           // downloads stand still after Value bytes
	Slow           = "slow"            // downloads go at Value bytes a second
	ContractEnded  = "contract-ended"  // the support contract has run out
	Replaced       = "replaced"        // File is another file now, and the hash list says so
	ReplacedSilent = "replaced-silent" // File is another file now, and the hash list does not say so
	BadSignature   = "bad-signature"   // the signature of File is somebody else's
	Unwell         = "unwell"          // the site answers 503
)

// FaultNames are all faults, sorted.
var FaultNames = []string{BadSignature, ContractEnded, Drop, Replaced, ReplacedSilent, Slow, Stall, Unwell}

// A Fault is something that goes wrong.
type Fault struct {
	Value int64  `json:"value,omitempty"`
	Times int    `json:"times,omitempty"` // how often it strikes; 0: once, below 0: always
	File  string `json:"file,omitempty"`
	Count int    `json:"count,omitempty"` // how often it has struck
}

// A Site is one release site with the images of a catalogue.
type Site struct {
	User, Password string
	ContractEnds   string // date

	mu     sync.Mutex
	files  map[string]catalog.Listed
	order  []string
	tokens map[string]bool
	faults map[string]Fault
	asked  []string // ranges of downloads, for tests
}

// New opens a site with every image of the catalogue.
func New(c *catalog.Catalogue, user, password string) *Site {
	s := &Site{User: user, Password: password, ContractEnds: time.Now().AddDate(0, 7, 0).Format(time.DateOnly), files: map[string]catalog.Listed{}, tokens: map[string]bool{}, faults: map[string]Fault{}}
	for _, l := range c.Images() {
		s.files[l.File] = l
		s.order = append(s.order, l.File)
	}
	return s
}

// Arm gives the site a fault.
func (s *Site) Arm(name string, f Fault) error {
	if !slices.Contains(FaultNames, name) {
		return fmt.Errorf("fault %q is not known; known: %s", name, strings.Join(FaultNames, ", "))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.faults[name] = f
	return nil
}

// Heal takes a fault away.
func (s *Site) Heal(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.faults, name)
}

// Asked lists the Range headers of the downloads so far; "" is a whole file.
func (s *Site) Asked() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.asked)
}

// strikes reports whether a fault is armed for a file, and counts it.
func (s *Site) strikes(name, file string) (Fault, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, ok := s.faults[name]
	if !ok || f.File != "" && f.File != file || f.Times >= 0 && f.Count >= max(f.Times, 1) {
		return f, false
	}
	f.Count++
	s.faults[name] = f
	return f, true
}

// standing reports whether a fault that is a state is armed for a file.
func (s *Site) standing(name, file string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, ok := s.faults[name]
	return ok && (f.File == "" || f.File == file)
}

// content makes a file, the replaced one where that was told.
func (s *Site) content(l catalog.Listed) ([]byte, error) {
	data, err := firmware.Content(&l)
	if err == nil && (s.standing(Replaced, l.File) || s.standing(ReplacedSilent, l.File)) {
		data[len(data)-1] ^= 0xff
	}
	return data, err
}

// Handler is what the site answers.
func (s *Site) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /session", s.signIn)
	mux.HandleFunc("GET /files", s.signedIn(s.list))
	mux.HandleFunc("GET /SHA256SUMS", s.signedIn(s.sums))
	mux.HandleFunc("GET /files/{file}", s.signedIn(s.file))
	return mux
}

func (s *Site) signIn(w http.ResponseWriter, r *http.Request) {
	if _, ill := s.strikes(Unwell, ""); ill {
		http.Error(w, "the site is being looked after, try later", http.StatusServiceUnavailable)
		return
	}
	var body struct{ User, Password string }
	if json.NewDecoder(io.LimitReader(r.Body, 4096)).Decode(&body) != nil || body.User != s.User || subtle.ConstantTimeCompare([]byte(body.Password), []byte(s.Password)) != 1 {
		http.Error(w, "no such contract, or a wrong password", http.StatusUnauthorized)
		return
	}
	if s.standing(ContractEnded, "") {
		http.Error(w, "support contract "+body.User+" ended on "+time.Now().AddDate(0, -1, 0).Format(time.DateOnly), http.StatusForbidden)
		return
	}
	token := rand.Text()
	s.mu.Lock()
	s.tokens[token] = true
	s.mu.Unlock()
	writeJSON(w, map[string]string{"token": token, "contractEnds": s.ContractEnds})
}

func (s *Site) signedIn(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		ok := s.tokens[strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")]
		s.mu.Unlock()
		if !ok {
			http.Error(w, "sign in first", http.StatusUnauthorized)
			return
		}
		next(w, r)
	}
}

func (s *Site) list(w http.ResponseWriter, _ *http.Request) {
	type file struct {
		File   string `json:"file"`
		Size   int64  `json:"size"`
		Maker  string `json:"maker"`
		Signed bool   `json:"signed"`
	}
	out := []file{}
	for _, name := range s.order {
		l := s.files[name]
		out = append(out, file{l.File, l.Size, l.Family.Maker, l.Family.SigningKey != ""})
	}
	writeJSON(w, out)
}

func (s *Site) sums(w http.ResponseWriter, _ *http.Request) {
	for _, name := range s.order {
		sum := s.files[name].SHA256
		if s.standing(Replaced, name) {
			data, err := s.content(s.files[name])
			if err != nil {
				return
			}
			sum = hexSum(data)
		}
		fmt.Fprintf(w, "%s  %s\n", sum, name)
	}
}

func (s *Site) file(w http.ResponseWriter, r *http.Request) {
	name, signature := strings.CutSuffix(r.PathValue("file"), ".sig")
	l, ok := s.files[name]
	if !ok {
		http.NotFound(w, r)
		return
	}
	data, err := s.content(l)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	if signature {
		if l.Family.SigningKey == "" {
			http.NotFound(w, r)
			return
		}
		maker := l.Family.Maker
		if s.standing(BadSignature, name) {
			maker = "somebody else"
		}
		_, _ = w.Write(firmware.Sign(maker, sha256.Sum256(data)))
		return
	}
	s.mu.Lock()
	s.asked = append(s.asked, r.Header.Get("Range"))
	s.mu.Unlock()
	w.Header().Set("ETag", `"`+hexSum(data)[:24]+`"`)
	out := http.ResponseWriter(w)
	if f, hit := s.strikes(Drop, name); hit {
		out = &biting{ResponseWriter: w, left: f.Value, bite: func() { panic(http.ErrAbortHandler) }}
	} else if f, hit := s.strikes(Stall, name); hit {
		out = &biting{ResponseWriter: w, left: f.Value, bite: func() { <-r.Context().Done() }}
	} else if f, hit := s.strikes(Slow, name); hit && f.Value > 0 {
		out = &slow{w, f.Value}
	}
	http.ServeContent(out, r, name, time.Time{}, bytes.NewReader(data))
}

func hexSum(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

func writeJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

// biting passes a number of bytes on and then lets something happen.
type biting struct {
	http.ResponseWriter
	left int64
	bite func()
}

func (b *biting) Write(p []byte) (int, error) {
	n, err := b.ResponseWriter.Write(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	if err == nil && b.left <= 0 {
		if f, ok := b.ResponseWriter.(http.Flusher); ok {
			f.Flush()
		}
		b.bite()
	}
	return n, err
}

// slow passes bytes on at a rate a second.
type slow struct {
	http.ResponseWriter
	rate int64
}

func (s *slow) Write(p []byte) (done int, err error) {
	for done < len(p) && err == nil {
		n := min(len(p)-done, int(max(s.rate/20, 1)))
		n, err = s.ResponseWriter.Write(p[done : done+n])
		if f, ok := s.ResponseWriter.(http.Flusher); ok {
			f.Flush()
		}
		done += n
		time.Sleep(time.Second / 20)
	}
	return done, err
}
