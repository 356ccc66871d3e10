package onboarding

import (
	"crypto/x509"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// parties are a maker and an owner, and what a device of the maker is handed by the owner.
type parties struct {
	maker, owner *Authority
	roots        *x509.CertPool // that the device knows
}

func newParties(t require.TestingT) *parties {
	p := &parties{roots: x509.NewCertPool()}
	var err error
	p.maker, err = NewAuthority("Gullwire devices")
	require.NoError(t, err)
	p.owner, err = NewAuthority("Skarnvik Ferries")
	require.NoError(t, err)
	p.roots.AddCert(p.maker.Certificate)
	return p
}

// hand makes what a device is handed.
func (p *parties) hand(t require.TestingT, in *Information, serial string) *Data {
	cert, key, err := p.owner.Give("onboarding", "")
	require.NoError(t, err)
	d := &Data{}
	d.Information, err = Sign(in, cert, key)
	require.NoError(t, err)
	d.Owner, err = OwnerCertificate(cert)
	require.NoError(t, err)
	d.Voucher, err = MakeVoucher(&Voucher{Serial: serial, Pinned: p.owner.Certificate, Created: time.Now()}, p.maker.Certificate, p.maker.Key)
	require.NoError(t, err)
	return d
}

func ExampleVerify() {
	p := newParties(panics{})
	d := p.hand(panics{}, &Information{Configuration: []byte("box.name = kiosk\n")}, "AP31-4403")
	in, err := Verify(d, "AP31-4403", p.roots, time.Now())
	fmt.Printf("%s%v\n", in.Configuration, err)
	_, err = Verify(d, "AP31-4404", p.roots, time.Now())
	fmt.Println(err)
	// Output:
	// box.name = kiosk
	// <nil>
	// the ownership voucher is for AP31-4403, not for AP31-4404
}

type panics struct{}

func (panics) Errorf(format string, args ...any) { panic(fmt.Sprintf(format, args...)) }
func (panics) FailNow()                          {}

// What was signed is read back as it was.
func TestInformationIsReadBack(t *testing.T) {
	p := newParties(t)
	rapid.Check(t, func(t *rapid.T) {
		in := &Information{Configuration: []byte(rapid.StringN(1, 200, -1).Draw(t, "configuration"))}
		if rapid.Bool().Draw(t, "image") {
			in.Image = &BootImage{Name: "gw", Release: rapid.StringMatching(`[0-9.]{1,9}`).Draw(t, "version"), URI: []string{"https://192.0.2.1/i"}, SHA256: strings.Repeat(rapid.StringMatching(`[0-9a-f]{2}`).Draw(t, "sum"), 32)}
		}
		got, err := Verify(p.hand(t, in, "S"), "S", p.roots, time.Now())
		require.NoError(t, err)
		assert.Equal(t, in, got)
	})
}

// Whoever is in the network can hand out what he likes: a device takes nothing that its maker and its owner did not sign for it.
func TestWhatADeviceDoesNotTake(t *testing.T) {
	p, other := newParties(t), newParties(t)
	in := &Information{Configuration: []byte("box\n")}
	good, strange := p.hand(t, in, "S"), other.hand(t, in, "S")
	for what, c := range map[string]struct {
		data Data
		says string
	}{
		"a voucher of another maker":       {Data{good.Information, good.Owner, strange.Voucher}, "the ownership voucher is not signed by whom it should be"},
		"a voucher for another device":     {Data{good.Information, good.Owner, p.hand(t, in, "T").Voucher}, "the ownership voucher is for T, not for S"},
		"an owner of another domain":       {Data{good.Information, strange.Owner, good.Voucher}, "was not given out by the domain that the voucher pins"},
		"information of somebody else":     {Data{strange.Information, good.Owner, good.Voucher}, "the onboarding information is not signed by whom it should be"},
		"information of another one there": {Data{p.hand(t, in, "S").Information, good.Owner, good.Voucher}, "signed by somebody else than the owner"},
		"no voucher":                       {Data{good.Information, good.Owner, nil}, "the ownership voucher cannot be read"},
		"no owner":                         {Data{good.Information, nil, good.Voucher}, "there is no owner certificate"},
	} {
		_, err := Verify(&c.data, "S", p.roots, time.Now())
		require.Error(t, err, what)
		assert.Contains(t, err.Error(), c.says, what)
	}
	late, err := MakeVoucher(&Voucher{Serial: "S", Pinned: p.owner.Certificate, Created: time.Now().Add(-2 * time.Hour), Expires: time.Now().Add(-time.Hour)}, p.maker.Certificate, p.maker.Key)
	require.NoError(t, err)
	_, err = Verify(&Data{good.Information, good.Owner, late}, "S", p.roots, time.Now())
	assert.ErrorContains(t, err, "the ownership voucher counted until")
	v, err := ReadVoucher(late)
	require.NoError(t, err)
	assert.Equal(t, "S", v.Serial)
	assert.True(t, v.Pinned.Equal(p.owner.Certificate))
}

// A byte that was changed anywhere is noticed, or changes nothing that counts.
func TestNoByteCanBeChanged(t *testing.T) {
	p := newParties(t)
	in := &Information{Configuration: []byte("box.name = kiosk\n")}
	d := p.hand(t, in, "S")
	rapid.Check(t, func(t *rapid.T) {
		spoilt := Data{append([]byte{}, d.Information...), append([]byte{}, d.Owner...), append([]byte{}, d.Voucher...)}
		part := rapid.SampledFrom([][]byte{spoilt.Information, spoilt.Owner, spoilt.Voucher}).Draw(t, "part")
		part[rapid.IntRange(0, len(part)-1).Draw(t, "at")] ^= 1 << rapid.IntRange(0, 7).Draw(t, "bit")
		got, err := Verify(&spoilt, "S", p.roots, time.Now())
		if err == nil {
			assert.Equal(t, in, got)
		}
	})
}

func TestAuthoritiesAreKept(t *testing.T) {
	a, err := NewAuthority("Skarnvik Ferries")
	require.NoError(t, err)
	text, err := PEM(a.Certificate, a.Key)
	require.NoError(t, err)
	again, err := ReadAuthority(text)
	require.NoError(t, err)
	assert.True(t, again.Certificate.Equal(a.Certificate))
	assert.True(t, again.Key.Equal(a.Key))
	_, err = ReadAuthority([]byte("nothing"))
	assert.ErrorContains(t, err, "there is no certificate in PEM")
	only, err := PEM(a.Certificate, nil)
	require.NoError(t, err)
	_, err = ReadAuthority(only)
	assert.ErrorContains(t, err, "its key is missing")
}
