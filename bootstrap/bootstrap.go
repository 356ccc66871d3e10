// Package bootstrap is the bootstrap server of RFC 8572: new devices call it over RESTCONF (RFC 8040) with the certificate that their makers gave them, are
// handed what they are to become, signed for them alone, and report how far they are.
//
// [Server] is the handler. Who is expected, and what it is handed, stands in the records: a change that brings the device up says so, and only while that runs
// anything is handed out. [Identity] is what an installation signs with.
package bootstrap

import (
	"context"
	"crypto/ecdsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"verimorph/access"
	"verimorph/blob"
	"verimorph/core/onboarding"
	"verimorph/store"
	"verimorph/vault"
)

// A Handout is what a device is handed, as it is sealed in the records.
type Handout struct {
	ImageName     string `json:"imageName,omitempty"`
	ImageRelease  string `json:"imageRelease,omitempty"`
	ImageFile     string `json:"imageFile,omitempty"`
	ImageSHA256   string `json:"imageSha256,omitempty"` // "": it stays on its release
	Configuration string `json:"configuration"`
}

// HandoutLabel binds what is sealed for a device to it; secrets that are sealed anew find it by that.
func HandoutLabel(serial string) string { return "call " + serial }

// Settings of the records.
const (
	ownerSetting  = "bootstrap owner"
	makersSetting = "bootstrap makers"
	ownerLabel    = "setting " + ownerSetting // so secrets that are sealed anew find it
)

// An Identity is what an installation signs with: the authority of its domain, which vouchers pin.
type Identity struct {
	*onboarding.Authority
	signer *x509.Certificate // of this process, given out by the authority
	key    *ecdsa.PrivateKey
}

var making sync.Mutex

// Owner is the identity of the installation; it is made when it is asked for the first time.
func Owner(ctx context.Context, st *store.Store, v *vault.Vault) (*Identity, error) {
	making.Lock()
	defer making.Unlock()
	var kept struct {
		Sealed []byte `json:"sealed"`
	}
	there, err := st.Setting(ctx, ownerSetting, &kept)
	if err != nil {
		return nil, err
	}
	if !there {
		a, err := onboarding.NewAuthority("Verimorph installation")
		if err != nil {
			return nil, err
		}
		text, err := onboarding.PEM(a.Certificate, a.Key)
		if err != nil {
			return nil, err
		}
		if kept.Sealed, err = v.Seal(ownerLabel, text); err != nil {
			return nil, err
		}
		if err := st.Audited(ctx, access.Service("bootstrap"), func(tx *store.Store) (store.Line, error) {
			return store.Line{Event: "bootstrap owner made"}, tx.PutSetting(ctx, ownerSetting, kept)
		}); err != nil {
			return nil, err
		}
	}
	text, err := v.Open(ownerLabel, kept.Sealed)
	if err != nil {
		return nil, fmt.Errorf("the key that signs what devices are handed cannot be read: %w", err)
	}
	a, err := onboarding.ReadAuthority(text)
	if err != nil {
		return nil, err
	}
	cert, key, err := a.Give("onboarding", "")
	return &Identity{a, cert, key}, err
}

// Makers are the certificates of the makers whose devices may call, in PEM; "" while there are none.
func Makers(ctx context.Context, st *store.Store) (pem string, err error) {
	var kept makers
	_, err = st.Setting(ctx, makersSetting, &kept)
	return kept.PEM, err
}

type makers struct {
	PEM string `json:"pem"`
}

// PutMakers sets them.
func PutMakers(ctx context.Context, by access.Actor, st *store.Store, pem string) error {
	certs, _, err := onboarding.ReadPEM([]byte(pem))
	if err != nil {
		return err
	}
	var names []string
	var kept []byte // nothing else that stood there
	for _, c := range certs {
		text, err := onboarding.PEM(c, nil)
		if err != nil {
			return err
		}
		names, kept = append(names, c.Subject.CommonName), append(kept, text...)
	}
	return st.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "bootstrap makers set", Detail: strings.Join(names, ", ")}, tx.PutSetting(ctx, makersSetting, makers{string(kept)})
	})
}

// A Server hands devices what they are to become.
type Server struct {
	Store *store.Store
	Vault *vault.Vault
	Blobs *blob.Store
	Log   *slog.Logger
	// Base is the URL under which devices reach it.
	Base string

	mu    sync.Mutex
	owner *Identity
}

// TLS is how it is served: with a certificate of the installation's own authority, to whoever shows one. Whose that is, is asked with each call, since makers
// come and go.
func (s *Server) TLS(ctx context.Context, hosts ...string) (*tls.Config, error) {
	o, err := s.identity(ctx)
	if err != nil {
		return nil, err
	}
	cert, key, err := o.Give("bootstrap server", "", hosts...)
	if err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, ClientAuth: tls.RequireAnyClientCert, Certificates: []tls.Certificate{{Certificate: [][]byte{cert.Raw, o.Certificate.Raw}, PrivateKey: key}}}, nil
}

func (s *Server) identity(ctx context.Context) (*Identity, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var err error
	if s.owner == nil {
		s.owner, err = Owner(ctx, s.Store, s.Vault)
	}
	return s.owner, err
}

// Paths of the RPCs (RFC 8572, section 7.3) beneath the root of RESTCONF.
const (
	root        = "/restconf"
	getData     = root + "/operations/ietf-sztp-bootstrap-server:get-bootstrapping-data"
	report      = root + "/operations/ietf-sztp-bootstrap-server:report-progress"
	mostOfACall = 1 << 20 // bytes
	yangJSON    = "application/yang-data+json"
)

// Handler answers the calls of devices.
func (s *Server) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/host-meta", func(w http.ResponseWriter, _ *http.Request) { // RFC 8040, section 3.1
		w.Header().Set("Content-Type", "application/xrd+xml")
		_, _ = io.WriteString(w, `<XRD xmlns="http://docs.oasis-open.org/ns/xri/xrd-1.0"><Link rel="restconf" href="`+root+`"/></XRD>`)
	})
	mux.HandleFunc("POST "+getData, s.known(s.get))
	mux.HandleFunc("POST "+report, s.known(s.progress))
	mux.HandleFunc("GET /images/{sum}", s.known(s.image))
	return mux
}

// known lets only devices in that the makers know, and that somebody expects while their change runs.
func (s *Server) known(next func(http.ResponseWriter, *http.Request, *store.Call) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, mostOfACall)
		call, err := s.caller(r)
		if err == nil {
			err = next(w, r, call)
		}
		var refused *refusal
		switch {
		case err == nil:
		case errors.As(err, &refused):
			s.Log.Warn("a device was not handed anything", "address", r.RemoteAddr, "why", refused.text)
			fail(w, refused)
		default:
			s.Log.Error("a call of a device failed", "address", r.RemoteAddr, "err", err)
			fail(w, &refusal{http.StatusInternalServerError, "operation-failed", "the bootstrap server cannot answer now"})
		}
	}
}

// A refusal is an error of RESTCONF (RFC 8040, section 7).
type refusal struct {
	status    int
	tag, text string
}

func (e *refusal) Error() string { return e.text }

func fail(w http.ResponseWriter, e *refusal) {
	w.Header().Set("Content-Type", yangJSON)
	w.WriteHeader(e.status)
	_ = json.NewEncoder(w).Encode(map[string]any{"ietf-restconf:errors": map[string]any{"error": []map[string]string{{"error-type": "application", "error-tag": e.tag, "error-message": e.text}}}})
}

// caller is the device that calls, by the certificate of its maker.
func (s *Server) caller(r *http.Request) (*store.Call, error) {
	if r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		return nil, &refusal{http.StatusUnauthorized, "access-denied", "no certificate was shown"}
	}
	pem, err := Makers(r.Context(), s.Store)
	if err != nil {
		return nil, err
	}
	trusted := x509.NewCertPool()
	trusted.AppendCertsFromPEM([]byte(pem))
	between := x509.NewCertPool()
	for _, c := range r.TLS.PeerCertificates[1:] {
		between.AddCert(c)
	}
	cert := r.TLS.PeerCertificates[0]
	if _, err := cert.Verify(x509.VerifyOptions{Roots: trusted, Intermediates: between, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}); err != nil {
		return nil, &refusal{http.StatusForbidden, "access-denied", "no maker that is known gave that certificate out: " + err.Error()}
	}
	serial := cert.Subject.SerialNumber
	call, err := s.Store.Expected(r.Context(), serial)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &refusal{http.StatusNotFound, "invalid-value", fmt.Sprintf("nobody expects %q now", serial)}
	}
	return &call, err
}

// get hands a device its data.
func (s *Server) get(w http.ResponseWriter, r *http.Request, call *store.Call) error {
	var in struct {
		Input struct {
			Nonce string `json:"nonce"`
		} `json:"ietf-sztp-bootstrap-server:input"`
	}
	if data, err := io.ReadAll(r.Body); err != nil || len(data) > 0 && json.Unmarshal(data, &in) != nil {
		return &refusal{http.StatusBadRequest, "malformed-message", "the input is no JSON (RFC 7951)"}
	}
	data, err := s.data(r.Context(), call)
	if err != nil {
		return err
	}
	if err := s.Store.Called(r.Context(), call.ChangeID); err != nil {
		return err
	}
	s.Log.Info("a new device has called", "serial", call.Serial, "device", call.Device, "address", r.RemoteAddr)
	w.Header().Set("Content-Type", yangJSON)
	b := base64.StdEncoding.EncodeToString
	return json.NewEncoder(w).Encode(map[string]any{"ietf-sztp-bootstrap-server:output": map[string]any{
		"reporting-level": "verbose", "conveyed-information": b(data.Information), "owner-certificate": b(data.Owner), "ownership-voucher": b(data.Voucher)}})
}

// data is what a device is handed, signed.
func (s *Server) data(ctx context.Context, call *store.Call) (*onboarding.Data, error) {
	o, err := s.identity(ctx)
	if err != nil {
		return nil, err
	}
	h, err := s.handout(call)
	if err != nil {
		return nil, err
	}
	v, err := s.Store.Voucher(ctx, call.Serial)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &refusal{http.StatusNotFound, "data-missing", fmt.Sprintf("there is no ownership voucher for %q", call.Serial)}
	}
	if err != nil {
		return nil, err
	}
	in := &onboarding.Information{Configuration: []byte(h.Configuration)}
	if h.ImageSHA256 != "" {
		in.Image = &onboarding.BootImage{Name: h.ImageName, Release: h.ImageRelease, URI: []string{s.Base + "/images/" + h.ImageSHA256}, SHA256: h.ImageSHA256}
	}
	out := &onboarding.Data{Voucher: v.Voucher}
	if out.Information, err = onboarding.Sign(in, o.signer, o.key); err != nil {
		return nil, err
	}
	out.Owner, err = onboarding.OwnerCertificate(o.signer)
	return out, err
}

func (s *Server) handout(call *store.Call) (*Handout, error) {
	text, err := s.Vault.Open(HandoutLabel(call.Serial), call.Sealed)
	if err != nil {
		return nil, err
	}
	var h Handout
	return &h, json.Unmarshal(text, &h)
}

// image gives a device the image that it was handed, and no other.
func (s *Server) image(w http.ResponseWriter, r *http.Request, call *store.Call) error {
	h, err := s.handout(call)
	if err != nil {
		return err
	}
	if sum := r.PathValue("sum"); h.ImageSHA256 == "" || sum != h.ImageSHA256 {
		return &refusal{http.StatusNotFound, "invalid-value", "that is no image that the device is to run"}
	}
	name, err := s.Blobs.Path(h.ImageSHA256)
	if err != nil {
		return err
	}
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	http.ServeContent(w, r, h.ImageFile, time.Time{}, f)
	return nil
}

// progress notes what a device reports.
func (s *Server) progress(w http.ResponseWriter, r *http.Request, call *store.Call) error {
	var in struct {
		Input struct {
			Type    string `json:"progress-type"`
			Message string `json:"message"`
			Keys    struct {
				Key []struct {
					Algorithm string `json:"algorithm"`
					Data      string `json:"key-data"`
				} `json:"ssh-host-key"`
			} `json:"ssh-host-keys"`
		} `json:"ietf-sztp-bootstrap-server:input"`
	}
	data, err := io.ReadAll(r.Body)
	if err != nil || json.Unmarshal(data, &in) != nil || in.Input.Type == "" {
		return &refusal{http.StatusBadRequest, "malformed-message", "progress-type is missing"}
	}
	key := ""
	for _, k := range in.Input.Keys.Key {
		if key == "" {
			key = strings.TrimSpace(k.Algorithm + " " + k.Data)
		}
	}
	rep := store.Report{At: time.Now().UTC(), Type: cut(in.Input.Type, 64), Message: cut(in.Input.Message, 500)}
	if err := s.Store.Reported(r.Context(), call.ChangeID, rep, in.Input.Type == "bootstrap-complete", cut(key, 4096)); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func cut(s string, n int) string {
	if len(s) > n {
		return strings.ToValidUTF8(s[:n], "")
	}
	return s
}
