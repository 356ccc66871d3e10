package cli

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"verimorph/device"
	"verimorph/device/link"
)

// httpDo makes one call to the device's HTTP side, with its token or its password (RFC 6750, RFC 7617).
func (c *Client) httpDo(ctx context.Context, method, path string, body []byte) ([]byte, error) {
	doing := method + " " + path
	if c.t.Web == "" {
		return nil, device.Fail(device.Refused, c.t.Address, doing, "no web address is known for the device; give it one with: verimorph device set NAME -web URL")
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimRight(c.t.Web, "/")+"/"+strings.TrimLeft(path, "/"), bytes.NewReader(body))
	if err != nil {
		return nil, device.Fail(device.Refused, c.t.Address, doing, "the web address cannot be used")
	}
	switch {
	case c.t.Token != "":
		if !c.tokenUsed && c.t.Noted != nil {
			c.tokenUsed = true
			c.t.Noted(c.t.TokenID)
		}
		req.Header.Set("Authorization", "Bearer "+c.t.Token)
	case c.in != nil && c.in.Password != "":
		req.SetBasicAuth(c.in.User, c.in.Password)
	}
	client := &http.Client{Timeout: 2 * time.Minute, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := client.Do(req)
	if err != nil {
		return nil, device.Fail(device.Unreachable, c.t.Address, doing, "its HTTP side does not answer")
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, link.MostBytes+1))
	switch {
	case err != nil:
		return nil, device.Fail(device.Lost, c.t.Address, doing, "%s", "the answer broke off after "+strconv.Itoa(len(data))+" bytes")
	case len(data) > link.MostBytes:
		return nil, device.Fail(device.NotUnderstood, c.t.Address, doing, "the answer is larger than %d MiB", link.MostBytes>>20)
	case resp.StatusCode == http.StatusUnauthorized:
		return nil, device.Fail(device.SignInRefused, c.t.Address, doing, "the token or password is not accepted")
	case resp.StatusCode == http.StatusServiceUnavailable:
		return nil, device.Fail(device.NotReady, c.t.Address, doing, "the device is not ready")
	case resp.StatusCode >= 300:
		return nil, device.Fail(device.Refused, c.t.Address, doing, "the device answers %s: %.200s", resp.Status, bytes.TrimSpace(data))
	}
	return data, nil
}
