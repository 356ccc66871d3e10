package engine

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"

	"verimorph/access"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/imagestore"
	"verimorph/store"
	"verimorph/vault"
)

// Kinds of credentials.
const (
	KindPassword    = "password"       // user and password, over SSH
	KindKey         = "key"            // user and private key, over SSH; its passphrase may be needed
	KindPrivileged  = "privileged"     // the password of the privileged level
	KindToken       = "http-token"     // for the HTTP side
	KindSNMP        = "snmp-v3"        // user, authentication and privacy (RFC 3414)
	KindCommunity   = "snmp-community" // of SNMP v2c, which sends it in clear text
	KindCertificate = "certificate"    // ours and its private key, for TLS (RFC 7589)
	KindConsole     = "console"        // user and password at the console line
)

// CredentialKinds lists the kinds.
var CredentialKinds = []string{KindPassword, KindKey, KindPrivileged, KindToken, KindSNMP, KindCommunity, KindCertificate, KindConsole}

// A Secret is what is sealed of a credential. Which fields are needed depends on the kind.
type Secret struct {
	Password     string `json:"password,omitempty"`
	PrivateKey   string `json:"privateKey,omitempty"` // OpenSSH or PEM
	Passphrase   string `json:"passphrase,omitempty"`
	Token        string `json:"token,omitempty"`
	Certificate  string `json:"certificate,omitempty"`  // PEM, with those that signed it
	AuthProtocol string `json:"authProtocol,omitempty"` // SHA, SHA-256 ...
	AuthPassword string `json:"authPassword,omitempty"`
	PrivProtocol string `json:"privProtocol,omitempty"` // AES ...
	PrivPassword string `json:"privPassword,omitempty"`
}

// Check says what is wrong with a credential before it is kept; "" when nothing is.
func (s *Secret) Check(kind, user, versions string) string {
	needs := func(ok bool, what string) string {
		if ok {
			return ""
		}
		return fmt.Sprintf("a credential of kind %s needs %s", kind, what)
	}
	if versions != "" {
		if _, err := version.ParseRange(versions); err != nil {
			return fmt.Sprintf("versions %q: %s", versions, err)
		}
	}
	switch kind {
	case KindPassword, KindConsole:
		return needs(user != "" && s.Password != "", "a user and a password")
	case KindKey:
		if user == "" || s.PrivateKey == "" {
			return needs(false, "a user and a private key")
		}
		if _, err := s.signer(); err != nil {
			var missing *ssh.PassphraseMissingError
			if errors.As(err, &missing) {
				return "the private key is encrypted; its passphrase is needed"
			}
			return "the private key cannot be read, or its passphrase is wrong"
		}
	case KindPrivileged:
		return needs(s.Password != "", "a password")
	case KindCertificate:
		if _, err := tls.X509KeyPair([]byte(s.Certificate), []byte(s.PrivateKey)); err != nil {
			return needs(false, "a certificate and its private key, in PEM: "+err.Error())
		}
	case KindCommunity:
		return needs(s.Password != "", "a community, as its password")
	case KindToken:
		return needs(s.Token != "", "a token")
	case KindSNMP:
		if user == "" || len(s.AuthPassword) < 8 || s.PrivPassword != "" && len(s.PrivPassword) < 8 { // RFC 3414, section 11.2
			return needs(false, "a user and passwords of at least 8 characters")
		}
	default:
		return fmt.Sprintf("kind %q is not known; known: password, key, privileged, http-token, snmp-v3, snmp-community, certificate, console", kind)
	}
	return ""
}

func (s *Secret) signer() (ssh.Signer, error) {
	if s.Passphrase != "" {
		return ssh.ParsePrivateKeyWithPassphrase([]byte(s.PrivateKey), []byte(s.Passphrase))
	}
	return ssh.ParsePrivateKey([]byte(s.PrivateKey))
}

// CredentialLabel binds a sealed credential to its place.
func CredentialLabel(id int64) string { return fmt.Sprintf("credential %d", id) }

// SealCredential seals a secret for a credential.
func SealCredential(v *vault.Vault, id int64, s Secret) ([]byte, error) {
	data, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	return v.Seal(CredentialLabel(id), data)
}

func openCredential(v *vault.Vault, c store.Credential) (s Secret, err error) {
	data, err := v.Open(CredentialLabel(c.ID), c.Secret)
	if err == nil {
		err = json.Unmarshal(data, &s)
	}
	return s, err
}

// Tries bounds how often signing in is risked.
type Tries struct {
	Bound int `json:"bound"` // refused sign-ins in a row, over however many attempts
	Rest  int `json:"rest"`  // seconds after which it is risked again
}

// DefaultTries stays below what common devices lock an account for.
var DefaultTries = Tries{Bound: 3, Rest: 900}

// TriesSetting is the name of the setting.
const TriesSetting = "sign-in tries"

func (e *Engine) tries(ctx context.Context) (Tries, error) {
	t := DefaultTries
	_, err := e.Store.Setting(ctx, TriesSetting, &t)
	return t, err
}

// order sorts credentials in the order in which they are tried: those that are for the version that is expected to run,
// then those for any version, then those for others. Among equals a device's own come before its groups'.
func order(cs []store.Credential, expect string) {
	rank := func(c store.Credential) int {
		if c.Versions == "" {
			return 1
		}
		r, err := version.ParseRange(c.Versions)
		if err != nil {
			return 2
		}
		if v, err := version.Parse(expect); expect != "" && err == nil && r.Contains(v) {
			return 0
		}
		return 2
	}
	slices.SortStableFunc(cs, func(a, b store.Credential) int { return rank(a) - rank(b) })
}

// Order lists the credentials of a device in the order in which they are tried when a version runs.
func (e *Engine) Order(ctx context.Context, d store.Device, version string) ([]store.Credential, error) {
	cs, err := e.Store.Credentials(ctx, d.ID)
	order(cs, version)
	return cs, err
}

// target is how to get to a device, with its secrets opened. expect is the version that is expected to run there, "" when
// nobody knows; who and why go into the audit line. It refuses when so many sign-ins were refused that one more might lock
// the account.
func (e *Engine) target(ctx context.Context, d store.Device, expect string, who access.Actor, why string) (device.Route, error) {
	driver := e.Driver(d.Dialect)
	if driver == nil {
		return device.Route{}, fmt.Errorf("device %s: dialect %q is not known here", d.Name, d.Dialect)
	}
	tries, err := e.tries(ctx)
	if err != nil {
		return device.Route{}, records(err)
	}
	left, raises := tries.Bound-d.RefusedTries, tries.Bound-d.RefusedRaises
	rest := time.Duration(tries.Rest) * time.Second
	if (left <= 0 || raises <= 0) && d.RefusedAt != nil {
		since := e.since(*d.RefusedAt)
		resting := since < rest && since > -rest // a clock that was set back must not lock us out
		switch {
		case resting && left <= 0:
			return device.Route{}, &device.Error{Kind: device.SignInRefused, Address: d.Address, Doing: "sign in", Message: fmt.Sprintf("%d sign-ins in a row were refused, the last at %s; the next is not risked before %s, or when a credential is added", d.RefusedTries, d.RefusedAt.In(e.Zone).Format(ready.Stamp), d.RefusedAt.Add(rest).In(e.Zone).Format(ready.Stamp))}
		case resting:
			raises = -1 // what needs no privileged password still works
		default:
			left, raises = tries.Bound, tries.Bound
			if err := e.Store.ForgiveTries(ctx, d.ID); err != nil {
				return device.Route{}, records(err)
			}
		}
	}
	t := device.Route{Driver: driver, Target: device.Target{Address: d.Address, Web: d.Settings.Web, HostKey: d.HostKey, Tries: left, RaiseTries: raises,
		Services: d.Settings.Services, Pins: d.Pins}}
	if e.Receiver != nil {
		t.Exchange = e.Receiver
	}
	if e.leases.crowded() {
		t.Packet = smallPacket
	}
	if err := e.signIns(ctx, &t.Target, d, expect); err != nil {
		return t, err
	}
	if d.Settings.Reach.Only {
		t.Console = d.Settings.Reach.Console
	}
	if d.Settings.Reach.Via != "" {
		via, err := e.through(ctx, d, who, why)
		if err != nil {
			return t, err
		}
		t.Via, t.Enter = &via, d.Settings.Reach.Enter
	}
	if t.Console != "" || t.Enter != "" {
		t.Record = e.recorder(context.WithoutCancel(ctx), d, who)
	}
	background := context.WithoutCancel(ctx)
	record := func(err error) {
		if err != nil {
			e.Log.Warn("cannot record a sign-in", "device", d.Name, "err", err)
		}
	}
	t.Refused = func(s device.SignIn, second bool) {
		record(e.Store.TryRefused(background, s.ID, d.ID, second))
		record(e.Store.Audit(background, who, "credential refused", d.Name, fmt.Sprintf("credential %d, %s", s.ID, why)))
	}
	t.Pin = func(protocol, pin string) error {
		return records(e.Store.PinCertificate(background, d.ID, protocol, pin))
	}
	t.Noted = func(id int64) { record(e.Store.CredentialNoted(background, id, d.ID, who, why)) }
	t.Used = func(s device.SignIn, second bool) {
		record(e.Store.CredentialUsed(background, s.ID, d.ID, second, who, why))
	}
	return t, nil
}

// signIns opens the credentials of a device, in the order in which they are tried.
func (e *Engine) signIns(ctx context.Context, t *device.Target, d store.Device, expect string) error {
	cs, err := e.Store.Credentials(ctx, d.ID)
	if err != nil {
		return records(err)
	}
	if expect == "" {
		expect = runningVersion(d)
	}
	order(cs, expect)
	var atLine []device.SignIn
	for _, c := range cs {
		s, err := openCredential(e.Vault, c)
		if err != nil {
			return err
		}
		in := device.SignIn{ID: c.ID, User: c.Username, Password: s.Password}
		switch c.Kind {
		case KindPassword:
			t.SignIns = append(t.SignIns, in)
		case KindConsole:
			atLine = append(atLine, in)
		case KindKey:
			if in.Key, err = s.signer(); err != nil {
				return fmt.Errorf("%s: its key cannot be used", CredentialLabel(c.ID))
			}
			t.SignIns = append(t.SignIns, in)
		case KindPrivileged:
			t.Privileged = append(t.Privileged, in)
		case KindSNMP, KindCommunity:
			t.SNMP = append(t.SNMP, snmpUser(c, &s))
		case KindCertificate:
			if t.Certificate == nil {
				pair, err := tls.X509KeyPair([]byte(s.Certificate), []byte(s.PrivateKey))
				if err != nil {
					return fmt.Errorf("%s: its certificate cannot be used", CredentialLabel(c.ID))
				}
				t.Certificate, t.CertificateID = &pair, c.ID
			}
		case KindToken:
			if t.Token == "" {
				t.Token, t.TokenID = s.Token, c.ID
			}
		}
	}
	if d.Settings.Reach.Only || d.Settings.Reach.Enter != "" { // what is for the line comes first there; elsewhere it is not tried
		t.SignIns = append(atLine, t.SignIns...)
	}
	// After a refusal the next one is tried, not the same again: which of them is right may be unknown, and few tries are left.
	if i := slices.IndexFunc(t.SignIns, func(s device.SignIn) bool { return s.ID == d.RefusedLast }); i >= 0 && d.RefusedTries > 0 {
		t.SignIns = slices.Concat(t.SignIns[i+1:], t.SignIns[:i+1])
	}
	return nil
}

// TrapUsers are the users and communities of SNMP that are known, whose traps count.
func (e *Engine) TrapUsers(ctx context.Context) (out []device.SNMPUser, err error) {
	cs, err := e.Store.Credentials(ctx, 0)
	if err != nil {
		return nil, records(err)
	}
	for _, c := range cs {
		if c.Kind != KindSNMP && c.Kind != KindCommunity {
			continue
		}
		s, err := openCredential(e.Vault, c)
		if err != nil {
			return nil, err
		}
		out = append(out, snmpUser(c, &s))
	}
	return out, nil
}

// snmpUser is a credential as a user of SNMP.
func snmpUser(c store.Credential, s *Secret) device.SNMPUser {
	u := device.SNMPUser{ID: c.ID, User: c.Username, AuthProtocol: s.AuthProtocol, AuthPassword: s.AuthPassword, PrivProtocol: s.PrivProtocol, PrivPassword: s.PrivPassword}
	if c.Kind == KindCommunity {
		u = device.SNMPUser{ID: c.ID, Community: s.Password}
	}
	return u
}

// through is how to get to the device that stands before another one.
func (e *Engine) through(ctx context.Context, d store.Device, who access.Actor, why string) (device.Route, error) {
	via, err := e.Store.Device(ctx, d.Settings.Reach.Via)
	if errors.Is(err, store.ErrNotFound) {
		return device.Route{}, fmt.Errorf("device %s is reached through %s, which is not in the fleet", d.Name, d.Settings.Reach.Via)
	}
	if err != nil {
		return device.Route{}, records(err)
	}
	t, err := e.target(ctx, via, "", who, fmt.Sprintf("on the way to %s, %s", d.Name, why))
	if err == nil && via.HostKey == "" {
		err = fmt.Errorf("the host key of %s is not known, and %s is reached through it; refresh it first", via.Name, d.Name)
	}
	return t, err
}

// runningVersion is what the device ran when somebody last looked.
func runningVersion(d store.Device) string {
	var p portrait.Portrait
	if d.Portrait == nil || json.Unmarshal(d.Portrait, &p) != nil {
		return ""
	}
	return p.Version
}

// Reseal seals every secret of the records that is not sealed with the newest data key anew.
func (e *Engine) Reseal(ctx context.Context) error {
	label := func(kind, key string) string {
		switch kind {
		case "site":
			return imagestore.SitePasswordLabel(key)
		case "setting":
			return "setting " + key
		}
		return kind + " " + key
	}
	return e.Store.Reseal(ctx, func(kind, key string, sealed []byte) ([]byte, error) {
		if !e.Vault.Stale(sealed) {
			return nil, nil
		}
		data, err := e.Vault.Open(label(kind, key), sealed)
		if err != nil {
			e.Log.Error("a secret cannot be sealed anew; it stays as it is", "kind", kind, "key", key, "err", err)
			return nil, nil
		}
		return e.Vault.Seal(label(kind, key), data)
	})
}

// Labels under which the first versions sealed passwords.
func firstLabels(device string) (password, privileged string) {
	return "device " + device + " password", "device " + device + " privileged password"
}

// moveOldPasswords turns passwords that the first versions kept with devices into credentials.
func (e *Engine) moveOldPasswords(ctx context.Context) error {
	old, err := e.Store.OldPasswords(ctx)
	if err != nil {
		return err
	}
	for _, o := range old {
		l1, l2 := firstLabels(o.Device)
		password, err := e.Vault.Open(l1, o.Password)
		if err != nil {
			return err
		}
		privileged, err := e.Vault.Open(l2, o.Privileged)
		if err != nil {
			return err
		}
		if err := e.Store.MoveOldPasswords(ctx, o.DeviceID, PasswordCredentials(o.Username, len(privileged) > 0, access.Service("the first versions")), func(c *store.Credential, id int64) ([]byte, error) {
			if c.Kind == KindPrivileged {
				return SealCredential(e.Vault, id, Secret{Password: string(privileged)})
			}
			return SealCredential(e.Vault, id, Secret{Password: string(password)})
		}); err != nil {
			return err
		}
	}
	return nil
}

// PasswordCredentials are the records of a user's password and, if there is one, the privileged password.
func PasswordCredentials(user string, privileged bool, by access.Actor) []store.Credential {
	cs := []store.Credential{{Kind: KindPassword, Username: user, CreatedBy: by.String()}}
	if privileged {
		cs = append(cs, store.Credential{Kind: KindPrivileged, CreatedBy: by.String()})
	}
	return cs
}
