package main

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// client is what every command works with.
type client struct {
	out, err         io.Writer
	json             bool
	server, token    string
	terminal, colour bool
	zone             *time.Location // of the installation, once it answered; nil: that of this machine
}

// in is a time in the zone in which the installation tells times: the same in client, console and checks.
func (c *client) in(t time.Time) time.Time {
	if c.zone == nil {
		return t.Local()
	}
	return t.In(c.zone)
}

// when tells a moment, with its zone.
func (c *client) when(t time.Time) string { return c.in(t).Format("2006-01-02 15:04:05 MST") }

// hour tells the time of day.
func (c *client) hour(t time.Time) string { return c.in(t).Format(time.TimeOnly) }

// ask finds out in which zone the installation tells times, for what is typed in it.
func (c *client) askZone(ctx context.Context) error {
	_, err := call[gen.Service](c, func(a *api.Client) (*http.Response, error) { return a.GetService(ctx) })
	return err
}

func (c *client) flags(fs *flag.FlagSet) {
	fs.BoolVar(&c.json, "json", false, "print JSON")
	fs.StringVar(&c.server, "server", "", "`URL` of the service; also VERIMORPH_SERVER, else what sign-in remembered")
}

// remembered is what sign-in keeps, in a file that only its owner may read.
type remembered struct {
	Server string `json:"server"`
	Token  string `json:"token"`
}

func rememberedFile() (string, error) {
	if f := os.Getenv("VERIMORPH_SESSION"); f != "" {
		return f, nil
	}
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "verimorph", "session.json"), err
}

const defaultServer = "http://127.0.0.1:8420"

// where works out the service and the token: flag, then environment, then what sign-in remembered, then the default.
func (c *client) where() error {
	var r remembered
	if name, err := rememberedFile(); err == nil {
		if data, err := os.ReadFile(name); err == nil {
			if err := json.Unmarshal(data, &r); err != nil {
				return fmt.Errorf("%s is damaged; sign in again", name)
			}
		}
	}
	if c.server == "" {
		c.server = os.Getenv("VERIMORPH_SERVER")
	}
	if c.server == "" {
		c.server = r.Server
	}
	if c.server == "" {
		c.server = defaultServer
	}
	c.server = strings.TrimRight(c.server, "/")
	if u, err := url.Parse(c.server); err != nil || u.Host == "" {
		return errUsage{fmt.Sprintf("-server %q should look like %s", c.server, defaultServer)}
	}
	if c.token = os.Getenv("VERIMORPH_TOKEN"); c.token == "" && r.Server == c.server {
		c.token = r.Token // a token goes to nobody but the service that gave it
	}
	return nil
}

// api returns the generated client with the session attached.
func (c *client) api() (*api.Client, error) {
	if err := c.where(); err != nil {
		return nil, err
	}
	return api.NewClient(c.server+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		if c.token != "" {
			r.Header.Set("Authorization", "Bearer "+c.token)
		}
		return nil
	}))
}

// problemError is a refusal of the service.
type problemError struct{ gen.Problem }

func (e *problemError) Error() string {
	if e.Status == http.StatusUnauthorized && e.Type == "not-signed-in" {
		return e.Detail + "\nSign in with: verimorph sign-in"
	}
	return e.Detail
}

// call makes one call and decodes the answer into a T. Failures are *problemError, or say that nobody answered.
func call[T any](c *client, do func(a *api.Client) (*http.Response, error)) (out T, err error) {
	a, err := c.api()
	if err != nil {
		return out, err
	}
	resp, err := do(a)
	if err != nil {
		return out, c.unreachable(err)
	}
	defer resp.Body.Close()
	if name := resp.Header.Get("Verimorph-Zone"); name != "" && c.zone == nil {
		c.zone, _ = time.LoadLocation(name)
	}
	if err := problemOf(resp); err != nil {
		return out, err
	}
	if text, ok := any(&out).(*string); ok {
		b, err := io.ReadAll(resp.Body)
		*text = string(b)
		return out, err
	}
	if resp.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the answer of %s cannot be read: %w", c.server, err)
	}
	return out, nil
}

func (c *client) unreachable(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return fmt.Errorf("the service at %s cannot be reached: %w", c.server, err)
}

func problemOf(resp *http.Response) error {
	if resp.StatusCode < 400 {
		return nil
	}
	p := problemError{}
	if err := json.NewDecoder(resp.Body).Decode(&p.Problem); err != nil || p.Detail == "" {
		p.Problem = gen.Problem{Status: resp.StatusCode, Detail: fmt.Sprintf("the service answers %s without saying why", resp.Status)}
	}
	return &p
}

// show prints a value as JSON or in the command's own form.
func (c *client) show(v any, text func()) error {
	if c.json {
		return c.printJSON(v)
	}
	text()
	return nil
}

func (c *client) printf(format string, args ...any) { fmt.Fprintf(c.out, format, args...) }

func newKey() *string { k := rand.Text(); return &k }

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// all collects the pages of a list.
func all[T any](fetch func(cursor *string) (items []T, next *string, err error)) (out []T, err error) {
	out = []T{}
	var cursor *string
	for {
		items, next, err := fetch(cursor)
		if err != nil {
			return nil, err
		}
		out = append(out, items...)
		if next == nil || *next == "" {
			return out, nil
		}
		cursor = next
	}
}
