package onboarding

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"time"
)

// An Authority gives certificates out: that of an owner for its domain, or that of a maker for its devices.
type Authority struct {
	Certificate *x509.Certificate
	Key         *ecdsa.PrivateKey
}

// lasting is how long certificates last that devices have for their life (IEEE 802.1AR asks for no end; RFC 5280, section 4.1.2.5).
var lasting = time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)

// NewAuthority makes one with a name.
func NewAuthority(name string) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: number(), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: lasting, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign | x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	return &Authority{cert, key}, err
}

// Give gives a certificate out with a key of its own. serial is that of a device (the attribute serialNumber of its subject, IEEE 802.1AR, section 8.6); hosts are
// names and addresses of a server.
func (a *Authority) Give(name, serial string, hosts ...string) (*x509.Certificate, *ecdsa.PrivateKey, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	t := &x509.Certificate{SerialNumber: number(), Subject: pkix.Name{CommonName: name, SerialNumber: serial}, NotBefore: time.Now().Add(-time.Hour), NotAfter: lasting,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}}
	for _, h := range hosts {
		if ip := net.ParseIP(h); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, h)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.Certificate, key.Public(), a.Key)
	if err != nil {
		return nil, nil, err
	}
	cert, err := x509.ParseCertificate(der)
	return cert, key, err
}

func number() *big.Int {
	n, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	return n
}

// PEM writes a certificate, and its key where one is given.
func PEM(cert *x509.Certificate, key *ecdsa.PrivateKey) ([]byte, error) {
	out := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Raw})
	if key != nil {
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		out = append(out, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})...)
	}
	return out, nil
}

// ReadPEM reads certificates, and a key where there is one.
func ReadPEM(data []byte) (certs []*x509.Certificate, key crypto.PrivateKey, err error) {
	for len(data) > 0 {
		var b *pem.Block
		if b, data = pem.Decode(data); b == nil {
			break
		}
		switch b.Type {
		case "CERTIFICATE":
			c, err := x509.ParseCertificate(b.Bytes)
			if err != nil {
				return nil, nil, fmt.Errorf("a certificate cannot be read: %w", err)
			}
			certs = append(certs, c)
		case "PRIVATE KEY":
			if key, err = x509.ParsePKCS8PrivateKey(b.Bytes); err != nil {
				return nil, nil, fmt.Errorf("a key cannot be read: %w", err)
			}
		}
	}
	if len(certs) == 0 {
		return nil, nil, errors.New("there is no certificate in PEM")
	}
	return certs, key, nil
}

// ReadAuthority reads an authority that [PEM] wrote with its key.
func ReadAuthority(data []byte) (*Authority, error) {
	certs, key, err := ReadPEM(data)
	if err != nil {
		return nil, err
	}
	k, ok := key.(*ecdsa.PrivateKey)
	if !ok {
		return nil, errors.New("its key is missing")
	}
	return &Authority{certs[0], k}, nil
}
