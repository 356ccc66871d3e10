package syslog

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/url"
	"time"
)

// A Sender sends messages to one collector. It is for one user at a time.
type Sender struct {
	scheme, at string
	config     *tls.Config
	conn       net.Conn
}

// NewSender makes a sender for a URL: udp://host:514, tcp://host:601 or tls://host:6514. A certificate of a collector has to be one that
// config trusts; nil: that this machine trusts.
func NewSender(to string, config *tls.Config) (*Sender, error) {
	u, err := url.Parse(to)
	if err != nil || u.Host == "" || u.Port() == "" || u.Path != "" || u.Scheme != "udp" && u.Scheme != "tcp" && u.Scheme != "tls" {
		return nil, fmt.Errorf("%q is no collector: say udp://host:514, tcp://host:601 or tls://host:6514", to)
	}
	if config == nil {
		config = &tls.Config{MinVersion: tls.VersionTLS12}
	}
	config = config.Clone()
	config.ServerName = u.Hostname()
	return &Sender{scheme: u.Scheme, at: u.Host, config: config}, nil
}

// sendTakes bounds connecting, and sending one message.
const sendTakes = 10 * time.Second

// Send sends a message. Over TCP and TLS an error means that it may not have arrived: send it again. Over UDP nobody ever knows.
func (s *Sender) Send(ctx context.Context, m *Message) error {
	text := m.Format()
	if s.conn != nil && s.scheme != "udp" && ended(s.conn) { // a collector that was started anew has ended it
		s.Close()
	}
	if s.conn == nil {
		if err := s.connect(ctx); err != nil {
			return fmt.Errorf("syslog collector %s: %w", s.at, err)
		}
	}
	if s.scheme != "udp" {
		text = fmt.Sprintf("%d %s", len(text), text) // RFC 6587, section 3.4.1; RFC 5425, section 4.3
	}
	_ = s.conn.SetWriteDeadline(time.Now().Add(sendTakes))
	if _, err := s.conn.Write([]byte(text)); err != nil {
		s.Close()
		return fmt.Errorf("syslog collector %s: %w", s.at, err)
	}
	return nil
}

func (s *Sender) connect(ctx context.Context) (err error) {
	ctx, cancel := context.WithTimeout(ctx, sendTakes)
	defer cancel()
	switch s.scheme {
	case "tls":
		s.conn, err = (&tls.Dialer{Config: s.config}).DialContext(ctx, "tcp", s.at)
	default:
		s.conn, err = (&net.Dialer{}).DialContext(ctx, s.scheme, s.at)
	}
	return err
}

// ended reports whether the other side has closed a connection: a collector says nothing otherwise.
func ended(conn net.Conn) bool {
	_ = conn.SetReadDeadline(time.Now().Add(time.Millisecond))
	n, err := conn.Read(make([]byte, 1))
	if late, ok := err.(net.Error); n == 0 && ok && late.Timeout() {
		return false
	}
	return true
}

// Close ends the connection; the next message opens another.
func (s *Sender) Close() {
	if s.conn != nil {
		_ = s.conn.Close()
		s.conn = nil
	}
}
