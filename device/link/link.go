// Package link carries what drivers say to devices: an SSH connection, also through another device, or a console line. [Link] is what a driver
// sees of it; what a link cannot carry it refuses, with what to do, so that no driver has to ask first whether there is a connection of some kind.
//
// [Dial] opens and signs in over SSH (RFC 4253, RFC 4252), [DialLine] a console line, [NewLine] makes a link of a conversation that is there
// already, such as a session into a module. Errors are *device.Error with their cause.
package link

import (
	"context"
	"io"
	"net"
	"sync"
	"time"

	"github.com/pkg/sftp"

	"verimorph/device"
)

// dialTimeout bounds connecting and signing in together.
const dialTimeout = 10 * time.Second

// MostBytes bounds a file that is read off a device into memory, in bytes.
const MostBytes = 256 << 20

// A Link is a way to a device.
type Link interface {
	// Terminal opens a conversation with a command line. On a line that lasts it is the one there is, and comes once.
	Terminal() (io.ReadWriteCloser, error)
	// Lasts reports whether the terminal is the only one there is: it cannot be opened again.
	Lasts() bool
	// Exec starts a command beside the terminal, Subsystem a subsystem (RFC 4254, section 6.5). They end with ctx.
	Exec(ctx context.Context, command, doing string) (*Stream, error)
	Subsystem(ctx context.Context, name, doing string) (*Stream, error)
	// SFTP is the file side; it is opened when it is first asked for. CloseFiles ends it, and the memory it takes; the next use opens another.
	SFTP() (*sftp.Client, error)
	CloseFiles()
	Transfers() bool // it has a file side
	// DialThrough connects to another device through this one.
	DialThrough(ctx context.Context, address string) (net.Conn, error)
	HostKey() string
	SignedIn() *device.SignIn // nil: not known
	// Cut breaks the link from another goroutine, Close ends it.
	Cut()
	Close()
}

// A Stream is two-way and ends once.
type Stream struct {
	In    io.Writer
	Out   io.Reader
	Close func()
}

// Apart is a way to a device that has no SSH side, or whose SSH side is not used: everything that a link carries is refused. Protocols that connect by themselves
// go on beside it.
type Apart struct{ Address string }

func (a Apart) only(doing string) error {
	return device.Fail(device.Lacking, a.Address, doing, "the device is not spoken with over SSH; declare a way of its dialect that goes by one of its protocols")
}

// Terminal implements Link.
func (a Apart) Terminal() (io.ReadWriteCloser, error) { return nil, a.only("open a terminal") }

// Lasts implements Link.
func (a Apart) Lasts() bool { return false }

// Exec implements Link.
func (a Apart) Exec(_ context.Context, _, doing string) (*Stream, error) { return nil, a.only(doing) }

// Subsystem implements Link.
func (a Apart) Subsystem(_ context.Context, _, doing string) (*Stream, error) {
	return nil, a.only(doing)
}

// SFTP implements Link.
func (a Apart) SFTP() (*sftp.Client, error) { return nil, a.only("open SFTP") }

// CloseFiles implements Link.
func (a Apart) CloseFiles() {}

// Transfers implements Link.
func (a Apart) Transfers() bool { return false }

// DialThrough implements Link.
func (a Apart) DialThrough(context.Context, string) (net.Conn, error) {
	return nil, a.only("pass a connection on")
}

// HostKey implements Link.
func (a Apart) HostKey() string { return "" }

// SignedIn implements Link.
func (a Apart) SignedIn() *device.SignIn { return nil }

// Cut implements Link.
func (a Apart) Cut() {}

// Close implements Link.
func (a Apart) Close() {}

// A Line is a conversation that lasts: a console line, or a session into a module of another device. It carries a command line and nothing
// else.
type Line struct {
	address string
	mu      sync.Mutex
	rw      io.ReadWriteCloser // nil once it was handed out
	cut     func()
	stop    func() bool
}

// DialLine connects to a console line. Cancelling ctx later closes it.
func DialLine(ctx context.Context, address string) (*Line, error) {
	conn, err := (&net.Dialer{Timeout: dialTimeout}).DialContext(ctx, "tcp", address)
	if err != nil {
		e := device.Fail(device.Unreachable, address, "connect to the console line", "nothing answers there")
		e.Cause = err
		return nil, e
	}
	return NewLine(ctx, address, conn, func() { _ = conn.Close() }), nil
}

// NewLine makes a link of a conversation. cut breaks it. Cancelling ctx later cuts it.
func NewLine(ctx context.Context, address string, rw io.ReadWriteCloser, cut func()) *Line {
	return &Line{address: address, rw: rw, cut: cut, stop: context.AfterFunc(ctx, cut)}
}

// Terminal implements Link.
func (l *Line) Terminal() (io.ReadWriteCloser, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.rw == nil {
		return nil, device.Fail(device.Lost, l.address, "open a terminal", "the line ended")
	}
	rw := l.rw
	l.rw = nil
	return rw, nil
}

// Lasts implements Link.
func (l *Line) Lasts() bool { return true }

// only is the refusal of what needs more than a line.
func (l *Line) only(doing string) error {
	return device.Fail(device.Refused, l.address, doing, "there is only a console line, which cannot carry that; reach the device over SSH, or declare a way of its dialect that works on the command line")
}

// Exec implements Link.
func (l *Line) Exec(_ context.Context, _, doing string) (*Stream, error) { return nil, l.only(doing) }

// Subsystem implements Link.
func (l *Line) Subsystem(_ context.Context, _, doing string) (*Stream, error) {
	return nil, l.only(doing)
}

// SFTP implements Link.
func (l *Line) SFTP() (*sftp.Client, error) { return nil, l.only("open SFTP") }

// CloseFiles implements Link.
func (l *Line) CloseFiles() {}

// Transfers implements Link.
func (l *Line) Transfers() bool { return false }

// DialThrough implements Link.
func (l *Line) DialThrough(context.Context, string) (net.Conn, error) {
	return nil, l.only("pass a connection on")
}

// HostKey implements Link.
func (l *Line) HostKey() string { return "" }

// SignedIn implements Link.
func (l *Line) SignedIn() *device.SignIn { return nil }

// Cut implements Link.
func (l *Line) Cut() { l.cut() }

// Close implements Link.
func (l *Line) Close() {
	l.stop()
	l.cut()
}

// listenAgain is how long a console line that does not answer is left alone.
const listenAgain = 3 * time.Second

// Listen passes on what comes over a console line until ctx ends. It says nothing there: whoever starts a device anew wants to see
// what it says meanwhile. A line that is not there, or that somebody else takes over, is connected to again.
func Listen(ctx context.Context, line string, heard func([]byte)) {
	for ctx.Err() == nil {
		conn, err := (&net.Dialer{Timeout: dialTimeout}).DialContext(ctx, "tcp", line)
		if err == nil {
			stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
			buf := make([]byte, 1024)
			for err == nil {
				var n int
				if n, err = conn.Read(buf); n > 0 {
					heard(append([]byte(nil), buf[:n]...))
				}
			}
			stop()
			_ = conn.Close()
		}
		select {
		case <-ctx.Done():
		case <-time.After(listenAgain):
		}
	}
}
