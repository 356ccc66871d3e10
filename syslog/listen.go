package syslog

import (
	"bufio"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"
)

// A Config says where messages are heard. An address that is "" is not listened at.
type Config struct {
	UDP, TCP, TLS string // host:port
	Certificate   *tls.Certificate
	Hear          func(from netip.Addr, m Message) // of any number of senders at once
	Now           func() time.Time
	Log           *slog.Logger
}

// mostSenders bounds connections at once, sendersIdle how long one may say nothing.
const (
	mostSenders = 500
	sendersIdle = time.Hour
)

// A Listener hears messages until it is closed.
type Listener struct {
	c       Config
	mu      sync.Mutex
	closers map[io.Closer]bool
	closed  bool
	work    sync.WaitGroup
	seats   chan struct{}

	// Where it listens; "" where it does not.
	UDP, TCP, TLS string
}

// Listen begins to listen.
func Listen(c Config) (*Listener, error) {
	l := &Listener{c: c, closers: map[io.Closer]bool{}, seats: make(chan struct{}, mostSenders)}
	if c.UDP != "" {
		conn, err := net.ListenPacket("udp", c.UDP)
		if err != nil {
			return nil, fmt.Errorf("syslog over UDP: %w", err)
		}
		l.UDP = conn.LocalAddr().String()
		l.keep(conn)
		l.work.Go(func() { l.datagrams(conn) })
	}
	for _, s := range []struct {
		at     string
		secure bool
		into   *string
	}{{c.TCP, false, &l.TCP}, {c.TLS, true, &l.TLS}} {
		if s.at == "" {
			continue
		}
		ln, err := net.Listen("tcp", s.at)
		if err != nil {
			l.Close()
			return nil, fmt.Errorf("syslog over TCP: %w", err)
		}
		*s.into = ln.Addr().String()
		if s.secure {
			ln = tls.NewListener(ln, &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{*c.Certificate}})
		}
		l.keep(ln)
		l.work.Go(func() { l.accept(ln) })
	}
	return l, nil
}

// keep keeps something in mind that has to be closed, and reports whether it may go on.
func (l *Listener) keep(c io.Closer) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed {
		_ = c.Close()
		return false
	}
	l.closers[c] = true
	return true
}

func (l *Listener) drop(c io.Closer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.closers, c)
	_ = c.Close()
}

// Close ends it, and waits until nothing is heard any more.
func (l *Listener) Close() {
	l.mu.Lock()
	l.closed = true
	for c := range l.closers {
		_ = c.Close()
	}
	l.mu.Unlock()
	l.work.Wait()
}

func (l *Listener) datagrams(conn net.PacketConn) {
	buf := make([]byte, MostBytes)
	for {
		n, from, err := conn.ReadFrom(buf)
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return
			}
			continue // an answer to something that was never sent
		}
		l.heard(from, buf[:n])
	}
}

func (l *Listener) heard(from net.Addr, line []byte) {
	at, err := netip.ParseAddrPort(from.String())
	if err != nil || len(strings.TrimSpace(string(line))) == 0 {
		return
	}
	l.c.Hear(at.Addr().Unmap(), Parse(line, l.c.Now()))
}

func (l *Listener) accept(ln net.Listener) {
	for {
		conn, err := ln.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(100 * time.Millisecond) // no more files can be opened, say
			continue
		}
		select {
		case l.seats <- struct{}{}:
		default:
			_ = conn.Close()
			l.c.Log.Warn("too many senders of syslog messages; one is sent away", "from", conn.RemoteAddr())
			continue
		}
		l.work.Go(func() {
			defer func() { <-l.seats }()
			if !l.keep(conn) {
				return
			}
			defer l.drop(conn)
			l.stream(conn)
		})
	}
}

// stream hears messages until the connection ends, in either framing (RFC 6587, section 3.4): the length before each, or a line end behind it.
func (l *Listener) stream(conn net.Conn) {
	in := bufio.NewReaderSize(conn, 16<<10)
	for {
		_ = conn.SetReadDeadline(time.Now().Add(sendersIdle))
		line, err := frame(in)
		if len(line) > 0 {
			l.heard(conn.RemoteAddr(), line)
		}
		if err != nil {
			if !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) {
				l.c.Log.Warn("a sender of syslog messages was cut off", "from", conn.RemoteAddr(), "err", err)
			}
			return
		}
	}
}

var errFrame = errors.New("the length before a message is none")

// frame reads one message of a stream. What is longer than MostBytes is read and left out.
func frame(in *bufio.Reader) ([]byte, error) {
	first, err := in.Peek(1)
	if err != nil {
		return nil, err
	}
	if first[0] < '1' || first[0] > '9' {
		return lineOf(in)
	}
	digits := ""
	for {
		c, err := in.ReadByte()
		if err != nil {
			return nil, err
		}
		if c == ' ' {
			break
		}
		if digits += string(c); len(digits) > 9 || c < '0' || c > '9' {
			return nil, errFrame
		}
	}
	n, err := strconv.Atoi(digits)
	if err != nil {
		return nil, errFrame
	}
	line := make([]byte, min(n, MostBytes))
	if k, err := io.ReadFull(in, line); err != nil {
		return line[:k], err
	}
	_, err = io.CopyN(io.Discard, in, int64(n-len(line)))
	return line, err
}

// lineOf reads up to a line end, or a zero byte, which some send instead.
func lineOf(in *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		c, err := in.ReadByte()
		if err != nil || c == '\n' || c == 0 {
			return line, err
		}
		if len(line) < MostBytes {
			line = append(line, c)
		}
	}
}
