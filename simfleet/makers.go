package simfleet

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"verimorph/core/onboarding"
	"verimorph/simfleet/shellbox"
)

// Makers that give their devices certificates, and sign who owns them (RFC 8366): a stand-in for their signing services.

// maker is the authority of a maker, kept under the state of the fleet.
func maker(name, state string) (*onboarding.Authority, error) {
	file := filepath.Join(state, "maker-"+strings.ToLower(name)+".pem")
	if data, err := os.ReadFile(file); err == nil {
		return onboarding.ReadAuthority(data)
	} else if !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	a, err := onboarding.NewAuthority(name + " devices")
	if err != nil {
		return nil, err
	}
	text, err := onboarding.PEM(a.Certificate, a.Key)
	if err != nil {
		return nil, err
	}
	return a, errors.Join(os.MkdirAll(state, 0o700), os.WriteFile(file, text, 0o600))
}

// identityOf is what the maker of a device that calls gave it; nil where it does not call.
func identityOf(d *Device, state string) (*shellbox.Identity, error) {
	if d.Calls == "" {
		return nil, nil
	}
	a, err := maker(d.Maker, state)
	if err != nil {
		return nil, err
	}
	cert, key, err := a.Give(d.Model, d.Serial)
	return &shellbox.Identity{Certificate: cert, Key: key, Maker: a.Certificate}, err
}

// MakerCertificate is the certificate of a maker of a fleet with a state folder, in PEM: whoever trusts it lets its devices call.
func MakerCertificate(name, state string) ([]byte, error) {
	a, err := maker(name, state)
	if err != nil {
		return nil, err
	}
	return onboarding.PEM(a.Certificate, nil)
}

// Voucher is what a maker signs for an owner of one of its devices. owner is the certificate of the owner in PEM.
func Voucher(name, state, serial string, owner []byte) ([]byte, error) {
	a, err := maker(name, state)
	if err != nil {
		return nil, err
	}
	certs, _, err := onboarding.ReadPEM(owner)
	if err != nil {
		return nil, fmt.Errorf("the owner: %w", err)
	}
	return onboarding.MakeVoucher(&onboarding.Voucher{Serial: serial, Pinned: certs[0], Created: time.Now()}, a.Certificate, a.Key)
}
