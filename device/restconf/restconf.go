// Package restconf speaks RESTCONF (RFC 8040): it reads and writes data resources and calls operations, as JSON (RFC 7951) or XML.
//
// # Calls
//
// [Client.Call] takes what a dialect file says: a method, a resource below the root, and for methods that send something a body behind it, on
// the same line or on those that follow:
//
//	GET data/ietf-system:system-state
//	GET data/ietf-interfaces:interfaces as xml
//	POST operations/ietf-system:system-restart
//	PATCH data/ietf-system:system/hostname {"ietf-system:hostname": "b"}
//
// The root is asked for (RFC 8040, section 3.1) unless the dialect says it.
//
// # Errors
//
// They are *device.Error with the words of the device's own errors (RFC 8040, section 7.1): a refused user is [device.SignInRefused], a
// resource that somebody changed meanwhile or that is locked [device.NotReady], anything else that it refuses [device.Refused].
package restconf

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"verimorph/device"
	"verimorph/device/link"
)

// Media types (RFC 8040, section 11.3).
const (
	asJSON = "application/yang-data+json"
	asXML  = "application/yang-data+xml"
)

// mostAnswer bounds an answer in bytes, mostHead what is looked for at the root.
const (
	mostAnswer = 64 << 20
	mostHead   = 64 << 10
)

// A Client speaks with one device.
type Client struct {
	http    *http.Client
	base    string // scheme and host
	root    string // "" while it is not known
	address string
	trust   *link.Trust
	login   *link.Login
	life    context.Context // it ends with Close
	over    func()
}

// Dial makes a client; it connects with its first call. through is a device that passes the connection on; nil: none. in is what let us in
// already, nil: nothing did.
func Dial(t *device.Target, s device.Service, through device.Through, in *device.SignIn) *Client {
	c := &Client{address: t.Endpoint(device.ByRESTCONF, s), root: strings.TrimRight(s.Root, "/"), trust: link.NewTrust(t, device.ByRESTCONF, s),
		login: link.NewLogin(t, in)}
	c.life, c.over = context.WithCancel(context.Background())
	scheme := "https"
	if c.trust.Config == nil {
		scheme = "http"
	}
	c.base = scheme + "://" + c.address
	c.http = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, // a password goes to nobody else
		Transport: &http.Transport{TLSClientConfig: c.trust.Config, TLSHandshakeTimeout: 10 * time.Second, MaxIdleConns: 2,
			IdleConnTimeout: time.Minute, ForceAttemptHTTP2: true,
			DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
				return link.DialService(ctx, through, address)
			}}}
	return c
}

// Close implements device.Caller.
func (c *Client) Close() {
	c.over()
	c.http.CloseIdleConnections()
}

// Call implements device.Caller.
func (c *Client) Call(ctx context.Context, what string) (string, error) {
	method, rest, _ := strings.Cut(strings.TrimSpace(what), " ")
	resource, body, _ := strings.Cut(strings.TrimSpace(strings.ReplaceAll(rest, "\n", " ")), " ")
	if i := strings.Index(rest, resource); i >= 0 { // the body as it was said, with its lines
		body = strings.TrimSpace(rest[i+len(resource):])
	}
	kind := asJSON
	if strings.TrimSpace(body) == "as xml" {
		kind, body = asXML, ""
	}
	switch method {
	case http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete:
	default:
		return "", device.Fail(device.NotUnderstood, c.address, what, "RESTCONF has GET, POST, PUT, PATCH and DELETE, not %q", method)
	}
	if resource == "" || strings.Contains(resource, "..") {
		return "", device.Fail(device.NotUnderstood, c.address, what, "say a resource, such as data/ietf-system:system-state")
	}
	if strings.HasPrefix(body, "<") {
		kind = asXML
	}
	data, _, err := c.do(ctx, method, resource, kind, []byte(body), nil)
	return string(data), err
}

// Fetch reads a data resource as JSON.
func (c *Client) Fetch(ctx context.Context, resource string) ([]byte, error) {
	data, _, err := c.do(ctx, http.MethodGet, resource, asJSON, nil, nil)
	return data, err
}

// Replace replaces a data resource. Where the device tells which state it is in (RFC 8040, section 3.5.2), it is only replaced as long as
// nobody else has changed it since it was looked at.
func (c *Client) Replace(ctx context.Context, resource string, data []byte) error {
	_, head, err := c.do(ctx, http.MethodGet, resource, asJSON, nil, nil)
	if err != nil {
		return err
	}
	more := http.Header{}
	if tag := head.Get("ETag"); tag != "" {
		more.Set("If-Match", tag)
	}
	_, _, err = c.do(ctx, http.MethodPut, resource, asJSON, data, more)
	return err
}

// do makes a request below the root, signed in.
func (c *Client) do(ctx context.Context, method, resource, kind string, body []byte, more http.Header) (data []byte, head http.Header, err error) {
	doing := method + " " + resource
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(c.life, cancel)()
	if c.root == "" {
		if c.root, err = c.findRoot(ctx); err != nil {
			return nil, nil, err
		}
	}
	err = c.login.Do(doing, func(in device.SignIn) (bool, error) {
		req, err := http.NewRequestWithContext(ctx, method, c.base+c.root+"/"+strings.TrimLeft(resource, "/"), bytes.NewReader(body))
		if err != nil {
			return false, device.Fail(device.NotUnderstood, c.address, doing, "that is no resource")
		}
		for k, v := range more {
			req.Header[k] = v
		}
		req.Header.Set("Accept", kind)
		if len(body) > 0 {
			req.Header.Set("Content-Type", kind)
		}
		req.SetBasicAuth(in.User, in.Password)
		resp, err := c.http.Do(req)
		if err != nil {
			return false, c.failed(ctx, err, doing)
		}
		defer resp.Body.Close()
		head = resp.Header
		data, err = c.read(resp, doing, mostAnswer)
		return resp.StatusCode == http.StatusUnauthorized, err
	})
	return data, head, err
}

// findRoot asks where RESTCONF begins (RFC 8040, section 3.1; RFC 6415, section 2).
func (c *Client) findRoot(ctx context.Context) (string, error) {
	const doing = "find the root"
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+"/.well-known/host-meta", nil)
	if err != nil {
		return "", device.Fail(device.Unreachable, c.address, doing, "that is no address")
	}
	req.Header.Set("Accept", "application/xrd+xml")
	resp, err := c.http.Do(req)
	if err != nil {
		return "", c.failed(ctx, err, doing)
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusNotFound {
		return "", device.Fail(device.Lacking, c.address, doing, "the device does not say where RESTCONF begins; say it with root in its dialect")
	}
	data, err := c.read(resp, doing, mostHead)
	if err != nil {
		return "", err
	}
	var meta struct {
		Links []struct {
			Rel  string `xml:"rel,attr"`
			Href string `xml:"href,attr"`
		} `xml:"Link"`
	}
	if err := xml.Unmarshal(data, &meta); err != nil {
		return "", device.Fail(device.NotUnderstood, c.address, doing, "its host-meta is no XML that is read: %s", err)
	}
	for _, l := range meta.Links {
		if l.Rel == "restconf" && strings.HasPrefix(l.Href, "/") && !strings.HasPrefix(l.Href, "//") { // never on another host
			return strings.TrimRight(l.Href, "/"), nil
		}
	}
	return "", device.Fail(device.NotUnderstood, c.address, doing, "its host-meta names no root of RESTCONF on the device itself")
}

// read reads an answer of at most so many bytes. What the device refuses is an error in its words.
func (c *Client) read(resp *http.Response, doing string, most int64) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(resp.Body, most+1))
	switch {
	case err != nil:
		return nil, device.Fail(device.Lost, c.address, doing, "the answer broke off after %d bytes", len(data))
	case int64(len(data)) > most:
		return nil, device.Fail(device.NotUnderstood, c.address, doing, "the answer is larger than %d KiB", most>>10)
	case resp.StatusCode < 300:
		return data, nil
	case resp.StatusCode < 400:
		return nil, device.Fail(device.NotUnderstood, c.address, doing, "the device sends us elsewhere, to %q, which is not followed with a password",
			resp.Header.Get("Location"))
	case resp.StatusCode == http.StatusUnauthorized:
		return nil, device.Fail(device.SignInRefused, c.address, doing, "the user or the password is not accepted")
	}
	kind := device.Refused
	switch resp.StatusCode {
	case http.StatusPreconditionFailed, http.StatusConflict, http.StatusServiceUnavailable:
		kind = device.NotReady
	case http.StatusNotFound, http.StatusMethodNotAllowed, http.StatusNotImplemented:
		kind = device.Lacking
	}
	return nil, device.Fail(kind, c.address, doing, "the device answers %s%s", resp.Status, wordsOf(data))
}

// wordsOf is what a device says in its errors (RFC 8040, section 7.1), as JSON or XML; else how its answer begins.
func wordsOf(data []byte) string {
	type one struct {
		Tag     string `json:"error-tag" xml:"error-tag"`
		Path    string `json:"error-path" xml:"error-path"`
		Message string `json:"error-message" xml:"error-message"`
	}
	var j map[string]struct {
		Error []one `json:"error"`
	}
	var x struct {
		XMLName xml.Name `xml:"errors"`
		Error   []one    `xml:"error"`
	}
	var all []one
	if json.Unmarshal(data, &j) == nil {
		for _, e := range j {
			all = append(all, e.Error...)
		}
	} else if xml.Unmarshal(data, &x) == nil {
		all = x.Error
	}
	out := ""
	for _, e := range all {
		text := strings.TrimSuffix(strings.TrimSpace(e.Tag+": "+strings.TrimSpace(e.Message)), ":")
		if e.Path != "" {
			text += ", at " + strings.TrimSpace(e.Path)
		}
		out += "; " + text
	}
	switch text := strings.Join(strings.Fields(string(data)), " "); {
	case out != "":
		return ": " + strings.TrimPrefix(out, "; ")
	case text != "":
		return fmt.Sprintf(": %.200s", text)
	}
	return ""
}

// failed is an error of a request as one of the device.
func (c *Client) failed(ctx context.Context, err error, doing string) error {
	var known *device.Error
	if changed := c.trust.Changed(c.address, doing); changed != nil {
		return changed
	}
	switch {
	case errors.As(err, &known):
		return known
	case c.life.Err() != nil:
		return device.Fail(device.Lost, c.address, doing, "the connection was ended")
	case ctx.Err() != nil:
		return device.Fail(device.Silent, c.address, doing, "no answer in time")
	case strings.Contains(err.Error(), "tls:") || strings.Contains(err.Error(), "certificate"):
		return device.Fail(device.Unreachable, c.address, doing, "no TLS connection comes about: %s", err)
	}
	return device.Fail(device.Lost, c.address, doing, "the connection ended: %s", err)
}
