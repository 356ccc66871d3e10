package server

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"verimorph/api/gen"
	"verimorph/core/portrait"
	"verimorph/engine"
	"verimorph/planning"
	"verimorph/store"
)

func sum(data []byte) string {
	s := sha256.Sum256(data)
	return hex.EncodeToString(s[:])
}

func apiCredential(c store.Credential) gen.Credential {
	out := gen.Credential{Id: c.ID, Kind: gen.CredentialKind(c.Kind), User: c.Username, Versions: c.Versions, CreatedBy: c.CreatedBy,
		CreatedAt: c.CreatedAt, UsedAt: c.UsedAt}
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
		d, err := s.Planner.Device(ctx, name)
		if err != nil {
			return nil, err
		}
		id = d.ID
	}
	limit, after, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	var cs []store.Credential
	if id != 0 { // in the order in which they are tried
		cs, err = s.Store.Credentials(ctx, id)
	} else {
		cs, err = s.Store.AllCredentials(ctx, value(r.Params.Find), int(after), limit+1)
	}
	if err != nil {
		return nil, err
	}
	out := gen.ListCredentials200JSONResponse{Items: []gen.Credential{}}
	for i, c := range cs {
		if id == 0 && i == limit {
			out.Next = ptr(strconv.FormatInt(after+int64(limit), 10))
			break
		}
		out.Items = append(out.Items, apiCredential(c))
	}
	return out, nil
}

// AddCredential seals and records a credential.
func (s *Server) AddCredential(ctx context.Context, r gen.AddCredentialRequestObject) (gen.AddCredentialResponseObject, error) {
	b := r.Body
	secret := engine.Secret{Password: value(b.Password), PrivateKey: value(b.PrivateKey), Certificate: value(b.Certificate), Passphrase: value(b.Passphrase), Token: value(b.Token),
		AuthProtocol: value(b.AuthProtocol), AuthPassword: value(b.AuthPassword), PrivProtocol: value(b.PrivProtocol), PrivPassword: value(b.PrivPassword)}
	c := store.Credential{Group: value(b.Group), Kind: string(b.Kind), Username: value(b.User), Versions: strings.TrimSpace(value(b.Versions)),
		CreatedBy: user(ctx)}
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
		d, err := s.Planner.Device(ctx, name)
		if err != nil {
			return nil, err
		}
		c.DeviceID, c.Device, where = &d.ID, d.Name, "device "+d.Name
	}
	n, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, b, func() (int64, error) {
		var id int64
		err := s.Store.Audited(ctx, actor(ctx), func(tx *store.Store) (l store.Line, err error) {
			id, err = tx.AddCredential(ctx, c, func(id int64) ([]byte, error) { return engine.SealCredential(s.Vault, id, secret) })
			return store.Line{Event: "credential added", Device: c.Device, Detail: fmt.Sprintf("credential %d, %s, %s", id, c.Kind, where)}, err
		})
		return id, err
	})
	if err != nil {
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
	err := s.audited(ctx, "credential deleted", "", fmt.Sprintf("credential %d", r.Id), func(tx *store.Store) error { return tx.RemoveCredential(ctx, r.Id) })
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("there is no credential %d", r.Id)
	}
	return gen.DeleteCredential204Response{}, err
}

// SetCredentials replaces a device's user and passwords that apply to every version.
func (s *Server) SetCredentials(ctx context.Context, r gen.SetCredentialsRequestObject) (gen.SetCredentialsResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if r.Body.User == "" || r.Body.Password == "" {
		return nil, badRequest("user and password are needed")
	}
	privileged := value(r.Body.PrivilegedPassword)
	cs := engine.PasswordCredentials(r.Body.User, privileged != "", actor(ctx))
	// The installation in the other slot does not hear of the new passwords: after going back the old ones apply.
	keepFor := ""
	if p := planning.PortraitOf(d); p != nil {
		if idle := p.IdleSlot(); idle != nil && idle.Good == portrait.Yes && idle.Version != p.Version {
			keepFor = idle.Version
		}
	}
	return gen.SetCredentials204Response{}, s.audited(ctx, "credentials replaced", d.Name, "user and passwords", func(tx *store.Store) error {
		return tx.ReplaceCredentials(ctx, d.ID, []string{engine.KindPassword, engine.KindPrivileged}, keepFor, cs, s.sealer(r.Body.Password, privileged))
	})
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
	return gen.PutSignInTries204Response{}, s.audited(ctx, "sign-in tries set", "", fmt.Sprintf("%d, then %d s of rest", t.Bound, t.Rest),
		func(tx *store.Store) error {
			return tx.PutSetting(ctx, engine.TriesSetting, t)
		})
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
		err = s.Engine.RotateDataKey(ctx, actor(ctx))
	case gen.Installation:
		err = s.Engine.RotateKey(ctx, actor(ctx))
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
		if _, port, err := net.SplitHostPort(n.SMTP); err != nil || !planning.GoodPort(port) {
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
	return gen.PutNotifications204Response{}, s.audited(ctx, "notifications set", "", fmt.Sprintf("webhook %t, mail %t", n.Webhook != "",
		n.SMTP != ""), func(tx *store.Store) error { return tx.PutSetting(ctx, engine.NotifySetting, n) })
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
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	key, err := parseHostKey(r.Body.HostKey)
	if err != nil || key == "" {
		return nil, badRequest("hostKey is not a public key in authorized-keys form")
	}
	return gen.SetHostKey204Response{}, s.audited(ctx, "host key pinned", d.Name, "given by hand",
		func(tx *store.Store) error { return tx.ReplaceHostKey(ctx, d.ID, key) })
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
