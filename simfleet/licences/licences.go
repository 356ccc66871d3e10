// Package licences simulates the service of whoever sells licences: so many of each, and the key of one for the serial of a device
// (docs/formats/licence-service.md).
package licences

import (
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"sync"

	"verimorph/simfleet/shellbox"
)

// A Service has licences to give.
type Service struct {
	User, Password string
	// Keep is told of what was taken, so that it can be kept; nil: it is not. What cannot be kept is not given.
	Keep func(taken map[string][]string) error

	mu    sync.Mutex
	many  map[string]int
	taken map[string][]string // serials, by licence
}

// New is a service with so many licences of each name; those in taken are with devices already.
func New(user, password string, many map[string]int, taken map[string][]string) *Service {
	if taken == nil {
		taken = map[string][]string{}
	}
	return &Service{User: user, Password: password, many: many, taken: taken}
}

// Taken are the serials that have a licence.
func (s *Service) Taken(licence string) []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.taken[licence])
}

// Handler answers the protocol.
func (s *Service) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /licences/{name}", s.signedIn(func(w http.ResponseWriter, r *http.Request) {
		s.answer(w, r.PathValue("name"), r.URL.Query().Get("serial"), false)
	}))
	mux.HandleFunc("POST /licences/{name}", s.signedIn(func(w http.ResponseWriter, r *http.Request) {
		var in struct{ Serial string }
		if json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&in) != nil || in.Serial == "" {
			problem(w, http.StatusBadRequest, "say the serial of the device")
			return
		}
		s.answer(w, r.PathValue("name"), in.Serial, true)
	}))
	return mux
}

func (s *Service) signedIn(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		user, password, _ := r.BasicAuth()
		if subtle.ConstantTimeCompare([]byte(user+"\n"+password), []byte(s.User+"\n"+s.Password)) != 1 {
			problem(w, http.StatusUnauthorized, "there is no such contract")
			return
		}
		next(w, r)
	}
}

func (s *Service) answer(w http.ResponseWriter, name, serial string, take bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	many, known := s.many[name]
	if !known {
		problem(w, http.StatusNotFound, fmt.Sprintf("nothing named %s is sold here", name))
		return
	}
	held, left := slices.Contains(s.taken[name], serial), many-len(s.taken[name])
	if take && !held {
		if left <= 0 {
			problem(w, http.StatusConflict, fmt.Sprintf("all %d licences named %s are with other devices", many, name))
			return
		}
		if err := s.give(name, serial); err != nil {
			problem(w, http.StatusInternalServerError, "it cannot be kept who has taken one")
			return
		}
	}
	out := map[string]any{"licence": name, "serial": serial}
	switch {
	case take:
		out["key"] = shellbox.LicenceKey(serial, name)
	case held:
		out["state"], out["left"] = "held", left
	case left > 0:
		out["state"], out["left"] = "free", left
	default:
		out["state"], out["left"] = "used-up", 0
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(out)
}

// give notes that a device has taken a licence.
func (s *Service) give(name, serial string) error {
	s.taken[name] = append(s.taken[name], serial)
	if s.Keep == nil {
		return nil
	}
	err := s.Keep(s.taken)
	if err != nil {
		s.taken[name] = s.taken[name][:len(s.taken[name])-1]
	}
	return err
}

// problem is an error (RFC 9457).
func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"title": http.StatusText(status), "status": status, "detail": detail})
}
