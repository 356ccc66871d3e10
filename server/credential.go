package server

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"

	"verimorph/api/gen"
	"verimorph/core/portrait"
	"verimorph/engine"
	"verimorph/store"
)

func sum(data []byte) string {
	s := sha256.Sum256(data)
	return hex.EncodeToString(s[:])
}

var groupName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]{0,62}$`)

func checkGroups(groups []string) error {
	if len(groups) > 20 {
		return badRequest("a device is in at most 20 groups")
	}
	for _, g := range groups {
		if !groupName.MatchString(g) {
			return badRequest("group %q: use up to 63 letters, digits, blanks, dots, dashes and underscores", g)
		}
	}
	return nil
}

func checkWeb(web string) error {
	if web == "" {
		return nil
	}
	if u, err := url.Parse(web); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return badRequest("web %q should look like https://192.0.2.7:8443, without a password", web)
	}
	return nil
}

func apiCredential(c store.Credential) gen.Credential {
	out := gen.Credential{Id: c.ID, Kind: gen.CredentialKind(c.Kind), User: c.Username, Versions: c.Versions, CreatedBy: c.CreatedBy, CreatedAt: c.CreatedAt, UsedAt: c.UsedAt}
	if c.Device != "" {
		out.Device = &c.Device
	}
	if c.Group != "" {
		out.Group = &c.Group
	}
	return out
}

// ListCredentials answers with credentials, never with what is secret of them.
func (s *Server) ListCredentials(ctx context.Context, r gen.ListCredentialsRequestObject) (gen.ListCredentialsResponseObject, error) {
	var id int64
	if name := value(r.Params.Device); name != "" {
		d, err := s.device(ctx, name)
		if err != nil {
			return nil, err
		}
		id = d.ID
	}
	cs, err := s.Store.Credentials(ctx, id)
	if err != nil {
		return nil, err
	}
	out := gen.ListCredentials200JSONResponse{Items: []gen.Credential{}}
	for _, c := range cs {
		out.Items = append(out.Items, apiCredential(c))
	}
	return out, nil
}

// AddCredential seals and records a credential.
func (s *Server) AddCredential(ctx context.Context, r gen.AddCredentialRequestObject) (gen.AddCredentialResponseObject, error) {
	b := r.Body
	secret := engine.Secret{Password: value(b.Password), PrivateKey: value(b.PrivateKey), Passphrase: value(b.Passphrase), Token: value(b.Token),
		AuthProtocol: value(b.AuthProtocol), AuthPassword: value(b.AuthPassword), PrivProtocol: value(b.PrivProtocol), PrivPassword: value(b.PrivPassword)}
	c := store.Credential{Group: value(b.Group), Kind: string(b.Kind), Username: value(b.User), Versions: strings.TrimSpace(value(b.Versions)), CreatedBy: user(ctx)}
	if (value(b.Device) == "") == (c.Group == "") {
		return nil, badRequest("a credential is for a device or for a group")
	}
	if c.Group != "" {
		if err := checkGroups([]string{c.Group}); err != nil {
			return nil, err
		}
	}
	if wrong := secret.Check(c.Kind, c.Username, c.Versions); wrong != "" {
		return nil, badRequest("%s", wrong)
	}
	where := "group " + c.Group
	if name := value(b.Device); name != "" {
		d, err := s.device(ctx, name)
		if err != nil {
			return nil, err
		}
		c.DeviceID, c.Device, where = &d.ID, d.Name, "device "+d.Name
	}
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, b, func() (int64, error) {
		return s.Store.AddCredential(ctx, c, func(id int64) ([]byte, error) { return engine.SealCredential(s.Vault, id, secret) })
	})
	if err != nil {
		return nil, err
	}
	if err := s.Store.Audit(ctx, user(ctx), "credential added", c.Device, fmt.Sprintf("credential %d, %s, %s", n, c.Kind, where)); err != nil {
		return nil, err
	}
	all, err := s.Store.Credentials(ctx, 0)
	if err != nil {
		return nil, err
	}
	for _, c := range all {
		if c.ID == n {
			return gen.AddCredential201JSONResponse(apiCredential(c)), nil
		}
	}
	return nil, notFound("credential %d was deleted in the meantime", n)
}

// DeleteCredential deletes a credential.
func (s *Server) DeleteCredential(ctx context.Context, r gen.DeleteCredentialRequestObject) (gen.DeleteCredentialResponseObject, error) {
	err := s.Store.RemoveCredential(ctx, r.Id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("there is no credential %d", r.Id)
	}
	if err != nil {
		return nil, err
	}
	return gen.DeleteCredential204Response{}, s.Store.Audit(ctx, user(ctx), "credential deleted", "", fmt.Sprintf("credential %d", r.Id))
}

// SetCredentials replaces a device's user and passwords that apply to every version.
func (s *Server) SetCredentials(ctx context.Context, r gen.SetCredentialsRequestObject) (gen.SetCredentialsResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if r.Body.User == "" || r.Body.Password == "" {
		return nil, badRequest("user and password are needed")
	}
	privileged := value(r.Body.PrivilegedPassword)
	cs := engine.PasswordCredentials(r.Body.User, privileged != "", user(ctx))
	// The installation in the other slot does not hear of the new passwords: after going back the old ones apply.
	keepFor := ""
	if p := portraitOf(d); p != nil {
		if idle := p.IdleSlot(); idle != nil && idle.Good == portrait.Yes && idle.Version != p.Version {
			keepFor = idle.Version
		}
	}
	if err := s.Store.ReplaceCredentials(ctx, d.ID, []string{engine.KindPassword, engine.KindPrivileged}, keepFor, cs, s.sealer(r.Body.Password, privileged)); err != nil {
		return nil, err
	}
	return gen.SetCredentials204Response{}, s.Store.Audit(ctx, user(ctx), "credentials replaced", d.Name, "user and passwords")
}

// sealer seals a password, or the second one, for the record it belongs to.
func (s *Server) sealer(password, privileged string) func(*store.Credential, int64) ([]byte, error) {
	return func(c *store.Credential, id int64) ([]byte, error) {
		if c.Kind == engine.KindPrivileged {
			return engine.SealCredential(s.Vault, id, engine.Secret{Password: privileged})
		}
		return engine.SealCredential(s.Vault, id, engine.Secret{Password: password})
	}
}

// GetSignInTries answers with the bound.
func (s *Server) GetSignInTries(ctx context.Context, _ gen.GetSignInTriesRequestObject) (gen.GetSignInTriesResponseObject, error) {
	t := engine.DefaultTries
	_, err := s.Store.Setting(ctx, engine.TriesSetting, &t)
	return gen.GetSignInTries200JSONResponse{Bound: t.Bound, RestSeconds: t.Rest}, err
}

// PutSignInTries sets the bound.
func (s *Server) PutSignInTries(ctx context.Context, r gen.PutSignInTriesRequestObject) (gen.PutSignInTriesResponseObject, error) {
	t := engine.Tries{Bound: r.Body.Bound, Rest: r.Body.RestSeconds}
	if t.Bound < 1 || t.Bound > 10 || t.Rest < 10 || t.Rest > 86400 {
		return nil, badRequest("bound is from 1 to 10, restSeconds from 10 to 86400")
	}
	if err := s.Store.PutSetting(ctx, engine.TriesSetting, t); err != nil {
		return nil, err
	}
	return gen.PutSignInTries204Response{}, s.Store.Audit(ctx, user(ctx), "sign-in tries set", "", fmt.Sprintf("%d, then %d s of rest", t.Bound, t.Rest))
}

// GetKeys tells what may be told about the keys.
func (s *Server) GetKeys(ctx context.Context, _ gen.GetKeysRequestObject) (gen.GetKeysResponseObject, error) {
	k, err := s.keys(ctx)
	return gen.GetKeys200JSONResponse(k), err
}

func (s *Server) keys(ctx context.Context) (gen.Keys, error) {
	st, err := s.Vault.State(ctx)
	out := gen.Keys{Recipient: st.Recipient, Older: st.Older, Offline: st.Offline, DataKey: int(st.DataKey), DataKeyAt: st.DataKeyAt}
	if out.Older == nil {
		out.Older = []string{}
	}
	return out, err
}

// RotateKey makes a new key.
func (s *Server) RotateKey(ctx context.Context, r gen.RotateKeyRequestObject) (gen.RotateKeyResponseObject, error) {
	var err error
	switch r.Body.Which {
	case gen.Data:
		err = s.Engine.RotateDataKey(ctx, user(ctx))
	case gen.Installation:
		err = s.Engine.RotateKey(ctx, user(ctx))
	default:
		err = badRequest("which is data or installation")
	}
	if err != nil {
		return nil, err
	}
	k, err := s.keys(ctx)
	return gen.RotateKey200JSONResponse(k), err
}

// ListAudit answers with a page of audit lines.
func (s *Server) ListAudit(ctx context.Context, r gen.ListAuditRequestObject) (gen.ListAuditResponseObject, error) {
	limit, before, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	lines, err := s.Store.AuditLines(ctx, value(r.Params.Device), before, limit+1)
	if err != nil {
		return nil, err
	}
	items, next, err := listed(lines, limit, func(l store.AuditLine) any { return l.ID }, always(func(l store.AuditLine) gen.AuditLine {
		return gen.AuditLine{Id: l.ID, At: l.At, Who: l.Who, Event: l.Event, Device: l.Device, Detail: l.Detail}
	}))
	return gen.ListAudit200JSONResponse{Items: items, Next: next}, err
}

// GetNotifications answers with where news goes.
func (s *Server) GetNotifications(ctx context.Context, _ gen.GetNotificationsRequestObject) (gen.GetNotificationsResponseObject, error) {
	var n engine.Notify
	_, err := s.Store.Setting(ctx, engine.NotifySetting, &n)
	if n.To == nil {
		n.To = []string{}
	}
	return gen.GetNotifications200JSONResponse{Webhook: n.Webhook, Smtp: n.SMTP, SmtpUser: n.SMTPUser, From: n.From, To: n.To}, err
}

// PutNotifications says where news goes.
func (s *Server) PutNotifications(ctx context.Context, r gen.PutNotificationsRequestObject) (gen.PutNotificationsResponseObject, error) {
	b := r.Body
	var n engine.Notify
	if _, err := s.Store.Setting(ctx, engine.NotifySetting, &n); err != nil {
		return nil, err
	}
	n.Webhook, n.SMTP, n.SMTPUser, n.From, n.To = b.Webhook, b.Smtp, b.SmtpUser, b.From, b.To
	if n.Webhook != "" {
		if u, err := url.Parse(n.Webhook); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return nil, badRequest("webhook %q should look like https://example.net/hook", n.Webhook)
		}
	}
	if n.SMTP != "" {
		if _, port, err := net.SplitHostPort(n.SMTP); err != nil || !goodPort(port) {
			return nil, badRequest("smtp %q should look like mail.example.net:587", n.SMTP)
		}
		for _, a := range append([]string{n.From}, n.To...) {
			if !strings.Contains(a, "@") || strings.ContainsAny(a, "\r\n<> ") {
				return nil, badRequest("%q is no mail address", a)
			}
		}
		if len(n.To) == 0 {
			return nil, badRequest("mail needs somebody to go to")
		}
	}
	if b.SmtpPassword != nil {
		var err error
		if n.Sealed, err = s.Vault.Seal(engine.NotifyLabel(), []byte(*b.SmtpPassword)); err != nil {
			return nil, err
		}
	}
	return gen.PutNotifications204Response{}, s.Store.PutSetting(ctx, engine.NotifySetting, n)
}

// TestNotifications sends a test now.
func (s *Server) TestNotifications(ctx context.Context, _ gen.TestNotificationsRequestObject) (gen.TestNotificationsResponseObject, error) {
	if err := s.Engine.Deliver(ctx, engine.Notice{Event: "test", Text: "This is a test; " + user(ctx) + " asked for it."}); err != nil {
		return nil, conflict("%s", err)
	}
	return gen.TestNotifications204Response{}, nil
}

// SetHostKey pins a key that is known.
func (s *Server) SetHostKey(ctx context.Context, r gen.SetHostKeyRequestObject) (gen.SetHostKeyResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	key, err := parseHostKey(r.Body.HostKey)
	if err != nil || key == "" {
		return nil, badRequest("hostKey is not a public key in authorized-keys form")
	}
	if err := s.Store.ReplaceHostKey(ctx, d.ID, key); err != nil {
		return nil, err
	}
	return gen.SetHostKey204Response{}, s.Store.Audit(ctx, user(ctx), "host key pinned", d.Name, "given by hand")
}

// parseHostKey brings a key into the form it is kept in; "" stays.
func parseHostKey(text string) (string, error) {
	if text = strings.TrimSpace(text); text == "" {
		return "", nil
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
	if err != nil {
		return "", badRequest("hostKey is not a public key in authorized-keys form")
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))), nil
}

// SetDevice changes what is known about a device.
func (s *Server) SetDevice(ctx context.Context, r gen.SetDeviceRequestObject) (gen.SetDeviceResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if r.Body.Groups != nil {
		if err := checkGroups(*r.Body.Groups); err != nil {
			return nil, err
		}
		if err := s.Store.SetGroups(ctx, d.ID, *r.Body.Groups); err != nil {
			return nil, err
		}
	}
	if r.Body.Web != nil {
		if err := checkWeb(*r.Body.Web); err != nil {
			return nil, err
		}
		if err := s.Store.SetWeb(ctx, d.ID, *r.Body.Web); err != nil {
			return nil, err
		}
	}
	if r.Body.Reach != nil {
		reach, err := s.checkReach(ctx, d.Name, d.Dialect, r.Body.Reach)
		if err != nil {
			return nil, err
		}
		if err := s.Store.SetReach(ctx, d.ID, reach); err != nil {
			return nil, err
		}
	}
	if r.Body.Transfer != nil {
		if !r.Body.Transfer.Valid() {
			return nil, badRequest("transfer %q is not known; known: sftp, http, ftp, tftp, pull-sftp", *r.Body.Transfer)
		}
		if err := s.Store.SetTransfer(ctx, d.ID, string(*r.Body.Transfer)); err != nil {
			return nil, err
		}
	}
	if d, err = s.device(ctx, r.Name); err != nil {
		return nil, err
	}
	out, err := apiDevice(d)
	return gen.SetDevice200JSONResponse(out), err
}
