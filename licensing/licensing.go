// Package licensing speaks with a licence service: whoever sells licences says there how many are left, and gives the key of one for a device. The protocol is
// in docs/formats/licence-service.md.
//
// [Open] is the service that the installation was told of. [Client.Ask] takes nothing; [Client.Take] takes one, and gives the same key when it is asked again
// for the same device, so a change that was cut short takes none twice.
package licensing

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"verimorph/store"
	"verimorph/vault"
)

// SettingName is the name of the setting, which is also in the label of its sealed password.
const SettingName = "licence service"

// Label binds the sealed password to its place.
func Label() string { return "setting " + SettingName }

// A Setting says where the service is.
type Setting struct {
	URL    string `json:"url"`
	User   string `json:"user"`
	Sealed []byte `json:"sealed"`
}

// Open is the service that the installation was told of; nil while there is none.
func Open(ctx context.Context, st *store.Store, v *vault.Vault) (*Client, error) {
	var s Setting
	ok, err := st.Setting(ctx, SettingName, &s)
	if err != nil || !ok {
		return nil, err
	}
	password, err := v.Open(Label(), s.Sealed)
	if err != nil {
		return nil, fmt.Errorf("the password of the licence service cannot be read from our own records; set it again: %w", err)
	}
	return New(s.URL, s.User, string(password)), nil
}

// A Client speaks with one service.
type Client struct {
	base, user, password string
	http                 *http.Client
}

// New is a client of the service at a URL.
func New(base, user, password string) *Client {
	return &Client{strings.TrimRight(base, "/"), user, password, &http.Client{Timeout: 30 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}} // a password goes to nobody else
}

// States of a licence for a device.
const (
	Free   = "free"    // there is one to take
	Held   = "held"    // the device has taken one; its key is given again
	UsedUp = "used-up" // others have taken all
)

// A Standing is how it stands with a licence for a device.
type Standing struct {
	State string `json:"state"`
	Left  int    `json:"left"`
}

// A Refusal is what the service says no to, in its own words.
type Refusal struct{ Text string }

func (e *Refusal) Error() string { return "the licence service refuses: " + e.Text }

// Ask says how it stands with a licence for a device. Nothing is taken.
func (c *Client) Ask(ctx context.Context, licence, serial string) (s Standing, err error) {
	err = c.call(ctx, http.MethodGet, licence, serial, &s)
	if err == nil && s.State != Free && s.State != Held && s.State != UsedUp {
		err = fmt.Errorf("the licence service says the state of %s is %q, which is not in its protocol", licence, s.State)
	}
	return s, err
}

// Take takes a licence for a device and returns its key. For the same device it is the same one again.
func (c *Client) Take(ctx context.Context, licence, serial string) (key string, err error) {
	var out struct{ Serial, Key string }
	if err := c.call(ctx, http.MethodPost, licence, serial, &out); err != nil {
		return "", err
	}
	switch {
	case out.Serial != serial:
		return "", &Refusal{fmt.Sprintf("its key is for %s, and the device is %s", out.Serial, serial)}
	case out.Key == "" || len(out.Key) > 4096 || strings.ContainsAny(out.Key, "\r\n\x00"):
		return "", errors.New("the licence service gave no key of one line")
	}
	return out.Key, nil
}

// mostAnswer bounds an answer, in bytes.
const mostAnswer = 64 << 10

func (c *Client) call(ctx context.Context, method, licence, serial string, out any) error {
	where := c.base + "/licences/" + url.PathEscape(licence)
	var body io.Reader
	if method == http.MethodGet {
		where += "?serial=" + url.QueryEscape(serial)
	} else {
		data, err := json.Marshal(map[string]string{"serial": serial})
		if err != nil {
			return err
		}
		body = bytes.NewReader(data)
	}
	r, err := http.NewRequestWithContext(ctx, method, where, body)
	if err != nil {
		return err
	}
	r.SetBasicAuth(c.user, c.password)
	r.Header.Set("Content-Type", "application/json")
	resp, err := c.http.Do(r)
	if err != nil {
		return fmt.Errorf("the licence service cannot be reached: %w", err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, mostAnswer))
	switch {
	case err != nil:
		return fmt.Errorf("the licence service broke off: %w", err)
	case resp.StatusCode >= 500:
		return fmt.Errorf("the licence service does not work now: %s", resp.Status)
	case resp.StatusCode != http.StatusOK:
		return &Refusal{said(resp.Status, data)}
	}
	if err := json.Unmarshal(data, out); err != nil {
		return fmt.Errorf("the answer of the licence service is no JSON: %w", err)
	}
	return nil
}

// said is what a service says in a refusal (RFC 9457); without a text, its status.
func said(status string, data []byte) string {
	var p struct{ Title, Detail string }
	if json.Unmarshal(data, &p) != nil {
		return status
	}
	for _, text := range []string{p.Detail, p.Title} {
		if text != "" {
			return strings.Map(func(r rune) rune {
				if r < ' ' {
					return ' '
				}
				return r
			}, text[:min(len(text), 500)])
		}
	}
	return status
}
