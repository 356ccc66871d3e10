package restconf

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strings"

	"verimorph/device"
)

// mostEvent bounds one event, in bytes.
const mostEvent = 64 << 10

// Subscribe asks where a stream of events is (RFC 8040, section 6.2) and passes each event on as it comes, without line ends, until ctx or the
// connection ends. It returns why.
func (c *Client) Subscribe(ctx context.Context, stream string, hear func(text string)) error {
	if stream == "" {
		stream = "NETCONF" // the one that everybody has who has any (RFC 8040, section 6.3.1)
	}
	doing := "stream " + stream
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(c.life, cancel)()
	data, _, err := c.do(ctx, http.MethodGet, "data/ietf-restconf-monitoring:restconf-state/streams/stream="+url.PathEscape(stream)+"/access=json/location", asJSON, nil, nil)
	if err != nil {
		return err
	}
	var told map[string]string
	if err := json.Unmarshal(data, &told); err != nil || told["ietf-restconf-monitoring:location"] == "" {
		return device.Fail(device.NotUnderstood, c.address, doing, "where the stream is, is not told")
	}
	at, err := url.Parse(told["ietf-restconf-monitoring:location"])
	if err != nil || at.IsAbs() && (at.Scheme+"://"+at.Host) != c.base { // a password goes to nobody else
		return device.Fail(device.NotUnderstood, c.address, doing, "the stream is not on the device itself")
	}
	var resp *http.Response
	err = c.login.Do(doing, func(in device.SignIn) (bool, error) {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+at.RequestURI(), nil)
		if err != nil {
			return false, device.Fail(device.NotUnderstood, c.address, doing, "the address of the stream is none")
		}
		req.Header.Set("Accept", "text/event-stream")
		req.SetBasicAuth(in.User, in.Password)
		if resp, err = c.http.Do(req); err != nil {
			return false, c.failed(ctx, err, doing)
		}
		if resp.StatusCode == http.StatusOK {
			return false, nil
		}
		defer resp.Body.Close()
		_, err = c.read(resp, doing, mostHead)
		return resp.StatusCode == http.StatusUnauthorized, err
	})
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return c.events(bufio.NewScanner(resp.Body), doing, hear)
}

// events reads a stream of server-sent events: lines with data, and an empty line behind each event.
func (c *Client) events(lines *bufio.Scanner, doing string, hear func(text string)) error {
	lines.Buffer(nil, mostEvent)
	var event []string
	for lines.Scan() {
		line := lines.Text()
		data, is := strings.CutPrefix(line, "data:")
		switch {
		case is && len(event) < 1000:
			event = append(event, strings.TrimSpace(data))
		case line == "" && len(event) > 0:
			hear(strings.Join(event, " "))
			event = nil
		}
	}
	if err := lines.Err(); err != nil {
		return device.Fail(device.Lost, c.address, doing, "%s", err)
	}
	return device.Fail(device.Lost, c.address, doing, "the device ended the stream")
}
