package link

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"verimorph/device"
)

// SSH is a link over SSH.
type SSH struct {
	t       device.Target
	conn    *ssh.Client
	files   *sftp.Client
	hostKey string
	in      *device.SignIn // what let us in
	stop    func() bool
	rest    func() // ends asking whether the device is there; nil: nobody asks
}

// Dial connects and signs in with the first of the target's ways that is let in; it risks no more refusals than the target says. through is the
// device that passes the connection on; nil: none. Cancelling ctx later closes the connection.
func Dial(ctx context.Context, t device.Target, through device.Through) (*SSH, error) {
	dial := (&net.Dialer{Timeout: dialTimeout}).DialContext
	if through != nil {
		dial = func(ctx context.Context, _, address string) (net.Conn, error) {
			return through.DialThrough(ctx, address)
		}
	}
	if len(t.SignIns) == 0 {
		return nil, NoSignIn(t.Address)
	}
	for i := range t.SignIns {
		s := &SSH{t: t}
		err := s.dialWith(ctx, &t.SignIns[i], dial)
		if err == nil {
			s.in = &t.SignIns[i]
			if t.Used != nil {
				t.Used(*s.in, false)
			}
			return s, nil
		}
		if device.KindOf(err) != device.SignInRefused {
			return nil, err
		}
		if t.Refused != nil {
			t.Refused(t.SignIns[i], false)
		}
		if tries := i + 1; tries >= max(t.Tries, 1) || tries == len(t.SignIns) {
			if len(t.SignIns) > 1 {
				err = device.Fail(device.SignInRefused, t.Address, "sign in", "%d of %d credentials were tried and refused, the last for user %q; more is not risked in one go", tries, len(t.SignIns), t.SignIns[i].User)
			}
			return nil, err
		}
	}
	return nil, NoSignIn(t.Address)
}

// NoSignIn is the error of a target without a way in.
func NoSignIn(address string) error {
	return device.Fail(device.SignInRefused, address, "sign in", "no credential is known that would let us in; add one with: verimorph credential add")
}

// dialWith connects and signs in in one way.
func (s *SSH) dialWith(ctx context.Context, in *device.SignIn, dial func(context.Context, string, string) (net.Conn, error)) error {
	t := s.t
	cfg := &ssh.ClientConfig{User: in.User, Timeout: dialTimeout, Auth: methods(in)}
	keyErr := error(nil)
	cfg.HostKeyCallback = func(_ string, _ net.Addr, key ssh.PublicKey) error {
		s.hostKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
		if t.HostKey != "" && s.hostKey != t.HostKey && !t.AnyHostKey {
			keyErr = device.Fail(device.HostKeyChanged, t.Address, "connect", "the host key is %s, not the pinned one; if the device was replaced or reinstalled, forget the pinned key and refresh", ssh.FingerprintSHA256(key))
			return keyErr
		}
		return nil
	}
	if known, _, _, _, err := ssh.ParseAuthorizedKey([]byte(t.HostKey)); t.HostKey != "" && err == nil && !t.AnyHostKey {
		cfg.HostKeyAlgorithms = algorithms(known.Type()) // ask for the kind of key we know
	}
	raw, err := dial(ctx, "tcp", t.Address)
	if err != nil && ctx.Err() != nil { // we gave up: that says little about the device
		e := device.Fail(device.Unreachable, t.Address, "connect", "no connection came about before the time for it was over")
		e.Cause = err
		return e
	}
	if err != nil {
		e := device.Fail(device.Unreachable, t.Address, "connect", "nothing answers (%s)", strings.TrimPrefix(strings.TrimPrefix(err.Error(), "dial tcp "+t.Address+": "), "connect: "))
		e.Cause = err
		return e
	}
	_ = raw.SetDeadline(time.Now().Add(dialTimeout))
	given := context.AfterFunc(ctx, func() { _ = raw.Close() }) // whoever gave up does not wait for the device to say something
	conn, channels, requests, err := ssh.NewClientConn(raw, t.Address, cfg)
	given()
	if err != nil {
		_ = raw.Close()
		if keyErr != nil {
			return keyErr
		}
		return refusal(ctx, t.Address, in, err)
	}
	_ = raw.SetDeadline(time.Time{})
	go refuse(channels, requests)
	s.conn = &ssh.Client{Conn: conn}
	s.stop = context.AfterFunc(ctx, func() { _ = s.conn.Close() })
	if t.KeepAlive > 0 {
		var alive context.Context
		alive, s.rest = context.WithCancel(ctx)
		go keepAlive(alive, s.conn, t.KeepAlive)
	}
	return nil
}

// methods are how to sign in in one way; a password is tried once a connection, in whichever of the two ways the device asks for it.
func methods(in *device.SignIn) []ssh.AuthMethod {
	if in.Key != nil {
		return []ssh.AuthMethod{ssh.PublicKeys(in.Key)}
	}
	asked := false
	return []ssh.AuthMethod{ssh.PasswordCallback(func() (string, error) {
		if asked {
			return "", errTried
		}
		asked = true
		return in.Password, nil
	}), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
		if asked && len(questions) > 0 {
			return nil, errTried
		}
		asked = asked || len(questions) > 0
		answers := make([]string, len(questions))
		for i := range answers {
			answers[i] = in.Password
		}
		return answers, nil
	})}
}

var errTried = errors.New("tried already")

// refusal says why an SSH connection did not come about, though something answers at the address.
func refusal(ctx context.Context, address string, in *device.SignIn, err error) error {
	var timeout net.Error
	kind, doing, text := device.Unreachable, "connect", "the address answers, but SSH does not: "+err.Error()
	switch {
	case ctx.Err() != nil:
		kind, text = device.Silent, "the address answers, but SSH did not before the time for it was over"
	case strings.Contains(err.Error(), "unable to authenticate") || strings.Contains(err.Error(), errTried.Error()):
		kind, doing, text = device.SignInRefused, "sign in", fmt.Sprintf("user %q or its %s is not accepted", in.User, map[bool]string{true: "key", false: "password"}[in.Key != nil])
	case errors.As(err, &timeout) && timeout.Timeout():
		kind, text = device.Silent, fmt.Sprintf("the address answers, but SSH does not within %s", dialTimeout)
	case strings.Contains(err.Error(), "no common algorithm for host key"):
		kind, text = device.HostKeyChanged, "the device has no host key of the pinned kind any more; if it was replaced or reinstalled, forget the pinned key and refresh"
	}
	e := device.Fail(kind, address, doing, "%s", text)
	e.Cause = err
	return e
}

// refuse answers what a device asks of us: no. ssh.NewClient would keep three goroutines for that.
func refuse(channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) {
	for channels != nil || requests != nil {
		select {
		case c, ok := <-channels:
			if !ok {
				channels = nil
				continue
			}
			_ = c.Reject(ssh.UnknownChannelType, "nothing is opened here")
		case q, ok := <-requests:
			if !ok {
				requests = nil
				continue
			}
			if q.WantReply {
				_ = q.Reply(false, nil)
			}
		}
	}
}

// algorithms are the signature algorithms for a kind of host key.
func algorithms(keyType string) []string {
	if keyType == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{keyType}
}

// terminal is what is asked for: wide, so that lines are not broken, and with echo (RFC 4254, sections 6.2 and 8).
type terminal struct {
	Term                         string
	Columns, Rows, Width, Height uint32
	Modes                        string
}

func terminalFor(s device.Screen) []byte {
	return ssh.Marshal(terminal{cmp.Or(s.Term, "vt100"), uint32(cmp.Or(s.Columns, 500)), uint32(cmp.Or(s.Rows, 200)), 0, 0, string([]byte{ssh.ECHO, 0, 0, 0, 1, 0})})
}

// keepAlive asks a device again and again whether it is there, as OpenSSH does, until ctx ends. A connection on which nothing comes back is closed.
func keepAlive(ctx context.Context, conn *ssh.Client, every time.Duration) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
		silent := time.AfterFunc(max(every, dialTimeout), func() { _ = conn.Close() })
		_, _, err := conn.SendRequest("keepalive@openssh.com", true, nil) // the connection's end ends it, too
		silent.Stop()
		if err != nil {
			return
		}
	}
}

// Terminal implements Link. It is a channel of our own and not an ssh.Session, which keeps two more goroutines for each of a thousand devices. What
// the device says beside its terminal is not read; with a terminal there is no such thing (RFC 4254, section 6.2).
func (s *SSH) Terminal() (io.ReadWriteCloser, error) {
	fail := func(err error) error { return device.Fail(device.Lost, s.t.Address, "open a terminal", "%s", err) }
	ch, requests, err := s.conn.OpenChannel("session", nil)
	if err != nil {
		return nil, fail(err)
	}
	go ssh.DiscardRequests(requests)
	for _, r := range []struct {
		name    string
		payload []byte
	}{{"pty-req", terminalFor(s.t.Screen)}, {"shell", nil}} {
		ok, err := ch.SendRequest(r.name, true, r.payload)
		if err == nil && !ok {
			err = fmt.Errorf("the device refuses the request %q", r.name)
		}
		if err != nil {
			_ = ch.Close()
			return nil, fail(err)
		}
	}
	return ch, nil
}

// Lasts implements Link.
func (s *SSH) Lasts() bool { return false }

// Exec implements Link.
func (s *SSH) Exec(ctx context.Context, command, doing string) (*Stream, error) {
	return s.stream(ctx, doing, "the device has no "+strings.Fields(command)[0], func(x *ssh.Session) error { return x.Start(command) })
}

// Subsystem implements Link.
func (s *SSH) Subsystem(ctx context.Context, name, doing string) (*Stream, error) {
	return s.stream(ctx, doing, "the device has no "+name, func(x *ssh.Session) error { return x.RequestSubsystem(name) })
}

func (s *SSH) stream(ctx context.Context, doing, without string, begin func(*ssh.Session) error) (*Stream, error) {
	lost := func(err error) error { return device.Fail(device.Lost, s.t.Address, doing, "%s", err) }
	x, err := s.conn.NewSession()
	if err != nil {
		return nil, lost(err)
	}
	in, err := x.StdinPipe()
	if err != nil {
		_ = x.Close()
		return nil, lost(err)
	}
	out, err := x.StdoutPipe()
	if err != nil {
		_ = x.Close()
		return nil, lost(err)
	}
	if err := begin(x); err != nil {
		_ = x.Close()
		e := device.Fail(device.Refused, s.t.Address, doing, "%s", without)
		e.Cause = err
		return nil, e
	}
	stop := context.AfterFunc(ctx, func() { _ = x.Close() })
	return &Stream{in, out, func() { stop(); _ = x.Close() }}, nil
}

// SFTP implements Link.
func (s *SSH) SFTP() (*sftp.Client, error) {
	if s.files == nil {
		options := []sftp.ClientOption{sftp.UseConcurrentWrites(true)}
		if s.t.Packet > 0 {
			options = append(options, sftp.MaxPacketChecked(s.t.Packet))
		}
		f, err := sftp.NewClient(s.conn, options...)
		if err != nil {
			return nil, device.Fail(device.Lost, s.t.Address, "open SFTP", "%s", err)
		}
		s.files = f
	}
	return s.files, nil
}

// CloseFiles implements Link.
func (s *SSH) CloseFiles() {
	if s.files != nil {
		_ = s.files.Close()
		s.files = nil
	}
}

// Transfers implements Link.
func (s *SSH) Transfers() bool { return true }

// DialThrough implements Link.
func (s *SSH) DialThrough(ctx context.Context, address string) (net.Conn, error) {
	return s.conn.DialContext(ctx, "tcp", address)
}

// HostKey implements Link.
func (s *SSH) HostKey() string { return s.hostKey }

// SignedIn implements Link.
func (s *SSH) SignedIn() *device.SignIn { return s.in }

// Cut implements Link.
func (s *SSH) Cut() { _ = s.conn.Close() }

// Close implements Link.
func (s *SSH) Close() {
	s.stop()
	if s.rest != nil {
		s.rest()
	}
	s.CloseFiles()
	_ = s.conn.Close()
}
