// Package onboarding makes and reads what a new device is handed when it calls: the bootstrapping data of RFC 8572, which are
//
//   - conveyed information ([Sign]): the release that it is to run, and its configuration, signed by the owner,
//   - the owner certificate ([OwnerCertificate]): who that is,
//   - the ownership voucher ([MakeVoucher], RFC 8366): that the maker of the device says that this owner owns it.
//
// A device trusts its maker only. [Verify] is what it does: the voucher is signed by the maker and names the device; the owner certificate was given out by
// the domain that the voucher pins; the information is signed by the owner. Nothing has to be known of the network, or of the server that handed it out.
//
// All three are structures of CMS (RFC 5652) around JSON (RFC 7951).
package onboarding

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/smallstep/pkcs7"
)

// Content types of the signed structures.
var (
	oidInformation = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 1, 43} // id-ct-sztpConveyedInfoJSON, RFC 8572, section 10.5
	oidVoucher     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 1, 40} // id-ct-animaJSONVoucher, RFC 8366, section 8.3
)

// A BootImage is the release that a device is to run.
type BootImage struct {
	Name, Release string
	URI           []string
	SHA256        string // in hexadecimal digits
}

// Information is what a device is to become.
type Information struct {
	Image         *BootImage // nil: it stays on its release
	Configuration []byte     // that takes the place of its own; nil: it keeps its own
}

// The JSON forms, as RFC 8572, section 6.3, gives them.
type (
	informationJSON struct {
		Onboarding struct {
			Image         *imageJSON `json:"boot-image,omitempty"`
			Handling      string     `json:"configuration-handling,omitempty"`
			Configuration string     `json:"configuration,omitempty"`
		} `json:"ietf-sztp-conveyed-info:onboarding-information"`
	}
	imageJSON struct {
		Name         string     `json:"os-name"`
		Version      string     `json:"os-version"`
		URI          []string   `json:"download-uri"`
		Verification []hashJSON `json:"image-verification"`
	}
	hashJSON struct {
		Algorithm string `json:"hash-algorithm"`
		Value     string `json:"hash-value"`
	}
	voucherJSON struct {
		Voucher struct {
			CreatedOn string `json:"created-on"`
			ExpiresOn string `json:"expires-on,omitempty"`
			Assertion string `json:"assertion"`
			Serial    string `json:"serial-number"`
			Pinned    string `json:"pinned-domain-cert"`
			Checks    bool   `json:"domain-cert-revocation-checks"`
		} `json:"ietf-voucher:voucher"`
	}
)

const sha256Name = "ietf-sztp-conveyed-info:sha-256"

// Sign makes conveyed information: signed by the owner.
func Sign(in *Information, owner *x509.Certificate, key crypto.PrivateKey) ([]byte, error) {
	var j informationJSON
	o := &j.Onboarding
	if in.Image != nil {
		o.Image = &imageJSON{Name: in.Image.Name, Version: in.Image.Release, URI: in.Image.URI, Verification: []hashJSON{{sha256Name, colons(in.Image.SHA256)}}}
	}
	if in.Configuration != nil {
		o.Handling, o.Configuration = "replace", base64.StdEncoding.EncodeToString(in.Configuration)
	}
	data, err := json.Marshal(&j)
	if err != nil {
		return nil, err
	}
	return sign(data, oidInformation, owner, key)
}

// sign wraps a text of a content type and signs it.
func sign(data []byte, kind asn1.ObjectIdentifier, cert *x509.Certificate, key crypto.PrivateKey) ([]byte, error) {
	s, err := pkcs7.NewSignedData(data)
	if err != nil {
		return nil, err
	}
	s.GetSignedData().ContentInfo.ContentType = kind
	s.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	if err := s.AddSigner(cert, key, pkcs7.SignerInfoConfig{}); err != nil {
		return nil, err
	}
	return s.Finish()
}

// open proves a signed structure by the keys in roots, and returns its text and who signed it.
func open(what string, data []byte, roots *x509.CertPool) ([]byte, *x509.Certificate, error) {
	p, err := pkcs7.Parse(data)
	if err != nil {
		return nil, nil, fmt.Errorf("the %s cannot be read: %w", what, err)
	}
	if err := p.VerifyWithChain(roots); err != nil {
		return nil, nil, fmt.Errorf("the %s is not signed by whom it should be: %w", what, err)
	}
	return p.Content, p.GetOnlySigner(), nil
}

// OwnerCertificate makes the owner certificate: its chain, the owner first.
func OwnerCertificate(chain ...*x509.Certificate) ([]byte, error) {
	var all []byte
	for _, c := range chain {
		all = append(all, c.Raw...)
	}
	return pkcs7.DegenerateCertificate(all)
}

// A Voucher says that a device belongs to a domain.
type Voucher struct {
	Serial  string
	Pinned  *x509.Certificate // of the domain of the owner
	Created time.Time
	Expires time.Time // zero: never
}

// Over reports whether it has expired at a time.
func (v *Voucher) Over(now time.Time) bool { return !v.Expires.IsZero() && now.After(v.Expires) }

// MakeVoucher makes a voucher as the maker of a device does, with the key of its signing service.
func MakeVoucher(v *Voucher, maker *x509.Certificate, key crypto.PrivateKey) ([]byte, error) {
	var j voucherJSON
	j.Voucher.CreatedOn, j.Voucher.Assertion, j.Voucher.Serial = v.Created.UTC().Format(time.RFC3339), "verified", v.Serial
	j.Voucher.Pinned = base64.StdEncoding.EncodeToString(v.Pinned.Raw)
	if !v.Expires.IsZero() {
		j.Voucher.ExpiresOn = v.Expires.UTC().Format(time.RFC3339)
	}
	data, err := json.Marshal(&j)
	if err != nil {
		return nil, err
	}
	return sign(data, oidVoucher, maker, key)
}

// ReadVoucher reads a voucher without proving who made it: only the device knows the keys of its maker.
func ReadVoucher(data []byte) (*Voucher, error) {
	p, err := pkcs7.Parse(data)
	if err != nil {
		return nil, fmt.Errorf("the ownership voucher cannot be read: %w", err)
	}
	return voucher(p.Content)
}

func voucher(text []byte) (*Voucher, error) {
	var j voucherJSON
	if err := json.Unmarshal(text, &j); err != nil {
		return nil, fmt.Errorf("the ownership voucher is no JSON: %w", err)
	}
	raw, err := base64.StdEncoding.DecodeString(j.Voucher.Pinned)
	if err != nil || j.Voucher.Serial == "" {
		return nil, errors.New("the ownership voucher names no device or pins no domain")
	}
	v := &Voucher{Serial: j.Voucher.Serial}
	if v.Pinned, err = x509.ParseCertificate(raw); err != nil {
		return nil, fmt.Errorf("what the ownership voucher pins is no certificate: %w", err)
	}
	if v.Created, err = time.Parse(time.RFC3339, j.Voucher.CreatedOn); err != nil {
		return nil, fmt.Errorf("the ownership voucher does not say when it was made: %w", err)
	}
	if j.Voucher.ExpiresOn != "" {
		if v.Expires, err = time.Parse(time.RFC3339, j.Voucher.ExpiresOn); err != nil {
			return nil, fmt.Errorf("until when the ownership voucher counts cannot be read: %w", err)
		}
	}
	return v, nil
}

// Data are what a device is handed.
type Data struct{ Information, Owner, Voucher []byte }

// Verify proves what a device with a serial was handed, as it does itself: it knows the keys of its maker, and the time.
func Verify(d *Data, serial string, maker *x509.CertPool, now time.Time) (*Information, error) {
	text, _, err := open("ownership voucher", d.Voucher, maker)
	if err != nil {
		return nil, err
	}
	v, err := voucher(text)
	if err != nil {
		return nil, err
	}
	switch {
	case v.Serial != serial:
		return nil, fmt.Errorf("the ownership voucher is for %s, not for %s", v.Serial, serial)
	case v.Over(now):
		return nil, fmt.Errorf("the ownership voucher counted until %s", v.Expires.Format(time.RFC3339))
	}
	domain := x509.NewCertPool()
	domain.AddCert(v.Pinned)
	owner, err := pkcs7.Parse(d.Owner)
	if err != nil || len(owner.Certificates) == 0 {
		return nil, errors.New("there is no owner certificate")
	}
	between := x509.NewCertPool()
	for _, c := range owner.Certificates[1:] {
		between.AddCert(c)
	}
	if _, err := owner.Certificates[0].Verify(x509.VerifyOptions{Roots: domain, Intermediates: between, CurrentTime: now, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}); err != nil {
		return nil, fmt.Errorf("the owner certificate was not given out by the domain that the voucher pins: %w", err)
	}
	text, signer, err := open("onboarding information", d.Information, domain)
	if err != nil {
		return nil, err
	}
	if signer == nil || !bytes.Equal(signer.Raw, owner.Certificates[0].Raw) {
		return nil, errors.New("the onboarding information is signed by somebody else than the owner")
	}
	return information(text)
}

func information(text []byte) (*Information, error) {
	var j informationJSON
	if err := json.Unmarshal(text, &j); err != nil {
		return nil, fmt.Errorf("the onboarding information is no JSON: %w", err)
	}
	out := &Information{}
	if im := j.Onboarding.Image; im != nil {
		out.Image = &BootImage{Name: im.Name, Release: im.Version, URI: im.URI}
		for _, v := range im.Verification {
			if v.Algorithm == sha256Name {
				out.Image.SHA256 = strings.ReplaceAll(v.Value, ":", "")
			}
		}
		if raw, err := hex.DecodeString(out.Image.SHA256); err != nil || len(raw) != 32 {
			return nil, errors.New("the onboarding information gives no SHA-256 of the image")
		}
	}
	if c := j.Onboarding.Configuration; c != "" {
		var err error
		if out.Configuration, err = base64.StdEncoding.DecodeString(c); err != nil {
			return nil, fmt.Errorf("the configuration cannot be read: %w", err)
		}
	}
	return out, nil
}

// colons writes hexadecimal digits as the type hex-string does (RFC 6991, section 3): pairs with colons between.
func colons(digits string) string {
	var pairs []string
	for i := 0; i+1 < len(digits); i += 2 {
		pairs = append(pairs, digits[i:i+2])
	}
	return strings.Join(pairs, ":")
}
