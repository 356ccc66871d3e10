package device

import (
	"context"
	"fmt"
	"io"
	"net"
	"sync"
	"time"
)

// A console line is a conversation that is there before anybody signed in, stays there while the device restarts, and may
// still be signed in from the last time. It is spoken with as it comes: something wakes it, it asks for user and password, or
// shows its prompt at once.

// tap passes on what comes over a line to whoever records it, but for parts of backups: they hold secrets.
type tap struct {
	mu    sync.Mutex
	to    func([]byte)
	deaf  bool
	count int // bytes not passed on
}

// tell sets whom what comes is passed on to. The line may already be talking.
func (t *tap) tell(to func([]byte)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.to = to
}

func (t *tap) hear(p []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case t.to == nil:
	case t.deaf:
		t.count += len(p)
	default:
		t.to(append([]byte(nil), p...))
	}
}

// private stops the passing on, until the function it returns is called.
func (t *tap) private(what string) func() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.deaf, t.count = true, 0
	return func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.deaf = false
		if t.to != nil {
			t.to([]byte(fmt.Sprintf("\r\n[%s: %d bytes that are not recorded]\r\n", what, t.count)))
		}
	}
}

// consolePatience is how long a line may be silent before it counts as silent.
const consolePatience = 6 * time.Second

// lineSettles is how long a line must be silent before where it stands is believed.
const lineSettles = 150 * time.Millisecond

// dialConsole connects to a console line and signs in.
func (c *Client) dialConsole(ctx context.Context) error {
	t := c.t
	conn, err := (&net.Dialer{Timeout: dialTimeout}).DialContext(ctx, "tcp", t.Console)
	if err != nil {
		return &Error{Unreachable, t.Console, "connect to the console line", "nothing answers there"}
	}
	s := newStream(t.Dialect, t.Console, conn, conn, func() { _ = conn.Close() })
	s.heard.tell(t.Record)
	c.cutLine = func() { _ = conn.Close() }
	c.stop = context.AfterFunc(ctx, c.cutLine)
	if err := c.signInAt(ctx, s); err != nil {
		s.close()
		return err
	}
	c.term = s
	return nil
}

// signInAt signs in at a line, with the first of the target's passwords that is taken.
func (c *Client) signInAt(ctx context.Context, s *session) error {
	t, line := c.t, wordsOf(c.t.Dialect)
	for i := 0; ; {
		seen, err := s.wake(ctx, line)
		if err != nil {
			return err
		}
		switch seen {
		case atPrompt:
			s.screen.clear()
			return s.prepare(ctx)
		case atLoader:
			return &Error{NotReady, s.address, "sign in", "the device is in its boot loader"}
		}
		if i >= len(t.SignIns) || c.tries >= max(t.Tries, 1) {
			return &Error{SignInRefused, s.address, "sign in", fmt.Sprintf("%d of %d credentials were tried at the console line and refused; more is not risked in one go", c.tries, len(t.SignIns))}
		}
		in := &t.SignIns[i]
		i++
		if in.Key != nil {
			continue
		}
		if seen == atUser {
			s.enterLine(in.User)
			if seen, err = s.awaitOther(ctx, line, atUser); err != nil {
				return err
			}
		}
		if seen == atUser { // it lost what was typed, or does not know its users yet; the password was not sent
			return &Error{NotReady, s.address, "sign in", fmt.Sprintf("it asks for the name again, and not for the password; the last line was %q", s.lastLine())}
		}
		if seen != atPassword {
			return &Error{NotUnderstood, s.address, "sign in", fmt.Sprintf("it does not ask for the password; the last line was %q", s.lastLine())}
		}
		s.enterLine(in.Password)
		if seen, err = s.await(ctx, line, consolePatience); err != nil {
			return err
		}
		if seen == atPrompt {
			s.screen.clear()
			c.in = in
			if t.Used != nil {
				t.Used(*in, false)
			}
			return s.prepare(ctx)
		}
		c.tries++
		c.refused(*in, false)
	}
}

// where a line stands.
type lineState int

const (
	atPrompt lineState = iota
	atUser
	atPassword
	atLoader
)

type lineWords struct {
	wake                   string
	user, password, loader Pattern
}

func wordsOf(d *Dialect) lineWords {
	w := lineWords{d.Console.Wake, d.Console.User, d.Console.Password, d.Console.Loader}
	if w.wake == "" {
		w.wake = "\r"
	}
	return w
}

func (s *session) enterLine(text string) {
	s.screen.clear()
	_, _ = io.WriteString(s.in, text+"\r")
}

// wake makes a line say something and tells where it stands.
func (s *session) wake(ctx context.Context, w lineWords) (lineState, error) {
	for try := 0; ; try++ {
		if _, err := io.WriteString(s.in, w.wake); err != nil {
			return 0, &Error{Lost, s.address, "sign in", "the line ended"}
		}
		_, err := s.await(ctx, w, consolePatience/3)
		for err == nil { // it may have more to say: what was waiting to be read comes before the answer to our knock
			select {
			case b, ok := <-s.out:
				if !ok {
					return 0, &Error{Lost, s.address, "sign in", "the line ended"}
				}
				s.screen.write(b)
				continue
			case <-time.After(lineSettles):
			}
			if at, ok := s.stands(w); ok {
				return at, nil
			}
			_, err = s.await(ctx, w, consolePatience/3)
		}
		if KindOf(err) != Silent || ctx.Err() != nil || try >= 2 {
			if KindOf(err) == Silent {
				err = &Error{NotReady, s.address, "sign in", "nothing comes over the console line"}
			}
			return 0, err
		}
	}
}

// stands tells where a line stands by its last line.
func (s *session) stands(w lineWords) (lineState, bool) {
	if _, ok := s.atPrompt(); ok {
		return atPrompt, true
	}
	for at, p := range map[lineState]Pattern{atUser: w.user, atPassword: w.password, atLoader: w.loader} {
		if s.endsWith(p) > 0 {
			return at, true
		}
	}
	return 0, false
}

// await reads until the line stands somewhere.
func (s *session) await(ctx context.Context, w lineWords, silence time.Duration) (lineState, error) {
	timer := time.NewTimer(silence)
	defer timer.Stop()
	for {
		if at, ok := s.stands(w); ok {
			return at, nil
		}
		select {
		case <-ctx.Done():
			return 0, &Error{Silent, s.address, "sign in", "given up: " + context.Cause(ctx).Error()}
		case <-timer.C:
			return 0, &Error{Silent, s.address, "sign in", fmt.Sprintf("no answer for %s; the last line was %q", silence, s.lastLine())}
		case b, ok := <-s.out:
			if !ok {
				return 0, &Error{Lost, s.address, "sign in", "the line ended"}
			}
			s.screen.write(b)
			if len(s.screen.text) > maxAnswer {
				s.screen.drop(len(s.screen.text) - tailSize)
			}
			timer.Reset(silence)
		}
	}
}

// awaitOther is await after an answer to what the line stood at. That may come once more: a line that was silent for a while answers every
// knock when it speaks again.
func (s *session) awaitOther(ctx context.Context, w lineWords, before lineState) (lineState, error) {
	at, err := s.await(ctx, w, consolePatience)
	for err == nil && at == before {
		select {
		case b, ok := <-s.out:
			if !ok {
				return 0, &Error{Lost, s.address, "sign in", "the line ended"}
			}
			s.screen.write(b)
			at, err = s.await(ctx, w, consolePatience)
		case <-time.After(askedAgain):
			return at, nil
		}
	}
	return at, err
}

// askedAgain is how long a line that asks the same once more may go on before that is its answer.
const askedAgain = 2 * time.Second

// enter opens a session into a module of another device, over that device's own session.
func (c *Client) enter(ctx context.Context, parent *Client) error {
	t := c.t
	if parent.term == nil {
		if _, err := parent.query(ctx, Query{Send: ""}, nil, nil); err != nil && parent.term == nil {
			return err
		}
	}
	p := parent.term
	p.screen.clear()
	if _, err := io.WriteString(p.in, t.Enter+"\r"); err != nil {
		return &Error{Lost, t.Address, "enter the module", "the connection ended"}
	}
	s := &session{d: t.Dialect, address: t.Address, in: p.in, out: p.out, close: parent.Close, heard: p.heard}
	s.heard.tell(t.Record)
	c.cutLine = parent.Cut
	c.stop = context.AfterFunc(ctx, c.cutLine)
	if err := c.signInAt(ctx, s); err != nil {
		parent.Close()
		return err
	}
	c.term = s
	return nil
}

// listenAgain is how long a console line that does not answer is left alone.
const listenAgain = 3 * time.Second

// ListenLine passes on what comes over a console line until ctx ends. It says nothing there: whoever starts a device anew wants to see
// what it says meanwhile. A line that is not there, or that somebody else takes over, is connected to again.
func ListenLine(ctx context.Context, line string, heard func([]byte)) {
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

// LoadSlot starts a slot from the boot loader, over the console line of a device that does not come up any more. A device that is
// not in its boot loader is left alone: then it is an error of kind NotReady.
func LoadSlot(ctx context.Context, t Target, slot string) error {
	if t.Console == "" || t.Dialect.Console.Loader.Regexp == nil {
		return &Error{Refused, t.Address, "start a slot from the boot loader", "no console line is known, or its dialect does not speak with the boot loader"}
	}
	conn, err := (&net.Dialer{Timeout: dialTimeout}).DialContext(ctx, "tcp", t.Console)
	if err != nil {
		return &Error{Unreachable, t.Console, "connect to the console line", "nothing answers there"}
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	s := newStream(t.Dialect, t.Console, conn, conn, func() {})
	defer s.close()
	s.heard.tell(t.Record)
	words := wordsOf(t.Dialect)
	at, err := s.wake(ctx, words)
	if err != nil {
		return err
	}
	if at != atLoader {
		return &Error{NotReady, t.Console, "start a slot from the boot loader", "the device is not in its boot loader"}
	}
	command, err := fill(t.Dialect.Console.StartOld, map[string]string{"slot": slot})
	if err != nil {
		return &Error{NotUnderstood, t.Console, "start a slot from the boot loader", err.Error()}
	}
	s.enterLine(command)
	// Whatever it says now, it says on its way: a refusal brings the prompt of the loader again.
	if at, err := s.await(ctx, words, consolePatience/3); err == nil && at == atLoader {
		return &Error{Refused, t.Console, "start a slot from the boot loader", fmt.Sprintf("the boot loader asks again; the last line was %q", s.lastLine())}
	}
	return nil
}
