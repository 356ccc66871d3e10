package device

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// NETCONF over SSH (RFC 6241, RFC 6242): as much of it as backups need, which is reading a datastore and replacing it.

const (
	netconfBase = "urn:ietf:params:xml:ns:netconf:base:1.0"
	endOfHello  = "]]>]]>" // RFC 6242, section 4.3
)

// netconf is one session.
type netconf struct {
	in      io.Writer
	out     *bufio.Reader
	chunked bool // both sides speak base 1.1 (RFC 6242, section 4.2)
	id      int
}

// withNetconf opens a session, says hello, does f, and closes.
func (c *Client) withNetconf(ctx context.Context, doing string, f func(*netconf) error) error {
	fail := func(kind ErrorKind, format string, args ...any) error {
		return &Error{kind, c.t.Address, doing, fmt.Sprintf(format, args...)}
	}
	if c.conn == nil {
		return c.onlyLine("NETCONF")
	}
	s, err := c.conn.NewSession()
	if err != nil {
		return fail(Lost, "%s", err)
	}
	defer s.Close()
	limited, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	stop := context.AfterFunc(limited, func() { _ = s.Close() })
	defer stop()
	in, err := s.StdinPipe()
	if err != nil {
		return fail(Lost, "%s", err)
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return fail(Lost, "%s", err)
	}
	if err := s.RequestSubsystem("netconf"); err != nil {
		return fail(Refused, "the device has no NETCONF")
	}
	n := &netconf{in: in, out: bufio.NewReaderSize(out, 64<<10)}
	if _, err := fmt.Fprintf(in, `<?xml version="1.0" encoding="UTF-8"?><hello xmlns="%s"><capabilities><capability>urn:ietf:params:netconf:base:1.0</capability><capability>urn:ietf:params:netconf:base:1.1</capability></capabilities></hello>%s`, netconfBase, endOfHello); err != nil {
		return fail(Lost, "%s", err)
	}
	hello, err := n.read()
	if err != nil {
		return fail(Lost, "no hello: %s", err)
	}
	n.chunked = bytes.Contains(hello, []byte("urn:ietf:params:netconf:base:1.1"))
	if !n.chunked && !bytes.Contains(hello, []byte("urn:ietf:params:netconf:base:1.0")) {
		return fail(NotUnderstood, "it speaks no NETCONF that is known here")
	}
	if err := f(n); err != nil {
		if e, ok := err.(*rpcError); ok {
			return fail(Refused, "the device says: %s", e.Error())
		}
		return fail(Lost, "%s", err)
	}
	_, _ = n.call(`<close-session/>`)
	return nil
}

// read reads one message.
func (n *netconf) read() ([]byte, error) {
	var msg []byte
	if !n.chunked {
		for {
			piece, err := n.out.ReadBytes('>')
			msg = append(msg, piece...)
			if err != nil {
				return nil, fmt.Errorf("the session ended after %d bytes", len(msg))
			}
			if bytes.HasSuffix(msg, []byte(endOfHello)) {
				return msg[:len(msg)-len(endOfHello)], nil
			}
			if len(msg) > backupLimit {
				return nil, fmt.Errorf("an answer without end")
			}
		}
	}
	for {
		head := make([]byte, 2)
		if _, err := io.ReadFull(n.out, head); err != nil {
			return nil, fmt.Errorf("the session ended after %d bytes", len(msg))
		}
		line, err := n.out.ReadString('\n')
		if string(head) != "\n#" || err != nil {
			return nil, fmt.Errorf("a chunk without a head")
		}
		if line == "#\n" {
			return msg, nil
		}
		size, err := strconv.ParseUint(strings.TrimSuffix(line, "\n"), 10, 32)
		if err != nil || size == 0 || uint64(len(msg))+size > backupLimit {
			return nil, fmt.Errorf("a chunk of %.20q bytes", line)
		}
		at := len(msg)
		msg = append(msg, make([]byte, size)...)
		if k, err := io.ReadFull(n.out, msg[at:]); err != nil {
			return nil, fmt.Errorf("the session ended after %d bytes", at+k)
		}
	}
}

// rpcError is what a device says in rpc-error (RFC 6241, section 4.3).
type rpcError struct {
	Tag     string `xml:"error-tag"`
	Message string `xml:"error-message"`
}

func (e *rpcError) Error() string {
	return strings.TrimSpace(e.Tag + ": " + strings.Join(strings.Fields(e.Message), " "))
}

// call makes one rpc and returns the whole reply.
func (n *netconf) call(operation string) ([]byte, error) {
	n.id++
	msg := fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?><rpc message-id="%d" xmlns="%s">%s</rpc>`, n.id, netconfBase, operation)
	if n.chunked {
		msg = fmt.Sprintf("\n#%d\n%s\n##\n", len(msg), msg)
	} else {
		msg += endOfHello
	}
	if _, err := io.WriteString(n.in, msg); err != nil {
		return nil, err
	}
	reply, err := n.read()
	if err != nil {
		return nil, err
	}
	var r struct {
		XMLName xml.Name  `xml:"rpc-reply"`
		ID      string    `xml:"message-id,attr"`
		Error   *rpcError `xml:"rpc-error"`
	}
	if err := xml.Unmarshal(reply, &r); err != nil {
		return nil, fmt.Errorf("a reply that is no XML: %w", err)
	}
	if r.ID != strconv.Itoa(n.id) {
		return nil, fmt.Errorf("a reply to message %q, not to %d", r.ID, n.id)
	}
	if r.Error != nil {
		return nil, r.Error
	}
	return reply, nil
}

// getConfig reads a datastore: what stands inside <data>, byte for byte.
func (c *Client) getConfig(ctx context.Context, datastore string) (data []byte, err error) {
	err = c.withNetconf(ctx, "get-config "+datastore, func(n *netconf) error {
		reply, err := n.call("<get-config><source><" + datastore + "/></source></get-config>")
		if err != nil {
			return err
		}
		d := xml.NewDecoder(bytes.NewReader(reply))
		from, depth := int64(-1), 0
		for {
			before := d.InputOffset()
			t, err := d.Token()
			if err != nil {
				return fmt.Errorf("the reply has no data")
			}
			switch t := t.(type) {
			case xml.StartElement:
				if depth++; depth == 2 && t.Name.Local == "data" {
					from = d.InputOffset()
				}
			case xml.EndElement:
				if depth == 2 && t.Name.Local == "data" {
					data = append(bytes.TrimSpace(reply[from:before]), '\n')
					return nil
				}
				depth--
			}
		}
	})
	return data, err
}

// putConfig replaces a datastore (RFC 6241, section 7.2, default-operation replace).
func (c *Client) putConfig(ctx context.Context, datastore string, data []byte) error {
	return c.withNetconf(ctx, "edit-config "+datastore, func(n *netconf) error {
		_, err := n.call("<edit-config><target><" + datastore + "/></target><default-operation>replace</default-operation><error-option>rollback-on-error</error-option><config>" + string(data) + "</config></edit-config>")
		return err
	})
}
