package device

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// session is one terminal conversation: it sends a line and collects the answer up to the next prompt.
type session struct {
	d       *Dialect
	address string
	in      io.Writer
	out     chan []byte // pieces of output; closed when the connection ends
	close   func()
	buf     []byte
	rest    string // the begin of an escape sequence that is not complete yet
	name    string // the prompt's name part, learnt at sign-in, so that output cannot pass for a prompt
	raised  bool
	heard   *tap
}

// quiet is how long a device may be silent when the dialect does not say.
const quiet = 20 * time.Second

// readSize is how much output is read in one go. Every connection has such a piece of memory while it waits.
const readSize = 1 << 10

// keepBuffer is how much room for answers a conversation keeps.
const keepBuffer = 8 << 10

// maxAnswer bounds one answer in bytes; a device that sends more is broken or hostile.
const maxAnswer = 8 << 20

// terminal is what is asked for: wide, so that lines are not broken, and with echo (RFC 4254, sections 6.2 and 8).
var terminal = struct {
	Term                         string
	Columns, Rows, Width, Height uint32
	Modes                        string
}{"vt100", 500, 200, 0, 0, string([]byte{ssh.ECHO, 0, 0, 0, 1, 0})}

func newSession(ctx context.Context, conn *ssh.Client, d *Dialect, address string) (*session, error) {
	fail := func(err error) error { return &Error{Lost, address, "open a terminal", err.Error()} }
	// A channel of our own and not an ssh.Session, which keeps two more goroutines for each of a thousand devices. What the
	// device says beside its terminal is not read; with a terminal there is no such thing (RFC 4254, section 6.2).
	ch, requests, err := conn.OpenChannel("session", nil)
	if err != nil {
		return nil, fail(err)
	}
	go ssh.DiscardRequests(requests)
	for _, r := range []struct {
		name    string
		payload []byte
	}{{"pty-req", ssh.Marshal(terminal)}, {"shell", nil}} {
		ok, err := ch.SendRequest(r.name, true, r.payload)
		if err == nil && !ok {
			err = fmt.Errorf("the device refuses the request %q", r.name)
		}
		if err != nil {
			_ = ch.Close()
			return nil, fail(err)
		}
	}
	s := newStream(d, address, ch, ch, func() { _ = ch.Close() })
	if _, err := s.answer(ctx, "sign in", Query{}, nil); err != nil {
		s.close()
		return nil, err
	}
	if err := s.prepare(ctx); err != nil {
		return nil, err
	}
	return s, nil
}

// newStream makes a conversation of something that can be written and read; nothing is said yet.
func newStream(d *Dialect, address string, in io.Writer, out io.Reader, end func()) *session {
	done := make(chan struct{})
	s := &session{d: d, address: address, in: in, out: make(chan []byte, 16), heard: &tap{}}
	s.close = func() {
		select {
		case <-done:
		default:
			close(done)
		}
		end()
	}
	go func() {
		defer close(s.out)
		b := make([]byte, readSize)
		for {
			n, err := out.Read(b)
			if n > 0 {
				s.heard.hear(b[:n])
				select {
				case s.out <- bytes.Clone(b[:n]):
				case <-done:
					return
				}
			}
			if err != nil {
				return
			}
		}
	}()
	return s
}

// prepare sends what the dialect wants first. A conversation in which that fails is closed.
func (s *session) prepare(ctx context.Context) error {
	for _, c := range s.d.Setup {
		if _, err := s.run(ctx, Query{Send: c}, c, nil); err != nil {
			s.close()
			return err
		}
	}
	return nil
}

// run sends a command and returns the answer without echo and prompt. A refusal becomes an *Error.
func (s *session) run(ctx context.Context, q Query, command string, progress func(string)) (string, error) {
	if _, err := io.WriteString(s.in, command+"\r"); err != nil {
		return "", &Error{Lost, s.address, command, "the connection ended"}
	}
	text, err := s.answer(ctx, command, q, progress)
	if err != nil {
		return text, err
	}
	if _, after, ok := strings.Cut(text, command+"\n"); ok {
		text = after
	}
	return text, s.refusal(command, text)
}

// refusal turns a device's "no" into an error.
func (s *session) refusal(command, text string) error {
	for _, r := range s.d.Refusals {
		if g := r.Match.groups(text); g != nil {
			return &Error{r.Kind, s.address, command, "the device says: " + g["message"]}
		}
	}
	return nil
}

// raise goes to the privileged level. The second password never appears in an error.
func (s *session) raise(ctx context.Context, password string) error {
	if s.raised || s.d.Raise.Send == "" {
		return nil
	}
	if _, err := s.run(ctx, Query{Ask: s.d.Raise.Ask, Answer: password}, s.d.Raise.Send, nil); err != nil {
		if KindOf(err) == Refused {
			return &Error{SignInRefused, s.address, s.d.Raise.Send, strings.TrimPrefix(err.Error(), s.address+": ")}
		}
		return err
	}
	s.raised = true
	return nil
}

// answer reads until the prompt, pressing on at pauses and answering the one question that is expected.
func (s *session) answer(ctx context.Context, doing string, q Query, progress func(string)) (string, error) {
	silence := quiet
	if q.Wait > 0 {
		silence = time.Duration(q.Wait * float64(time.Second))
	}
	timer := time.NewTimer(silence)
	defer timer.Stop()
	asked := false
	for {
		if body, ok := s.atPrompt(); ok {
			if s.buf = s.buf[:0]; cap(s.buf) > keepBuffer { // a long answer must not stay in memory while the device works
				s.buf = nil
			}
			return body, nil
		}
		if q.Until.Regexp != nil && q.Until.Match(s.buf[max(0, len(s.buf)-tailSize):]) {
			return string(s.buf), nil
		}
		if n := s.endsWith(s.d.Pause.Match); n > 0 {
			s.buf = s.buf[:len(s.buf)-n]
			_, _ = io.WriteString(s.in, s.d.Pause.Send)
		}
		if !asked && s.endsWith(q.Ask) > 0 {
			asked = true
			_, _ = io.WriteString(s.in, q.Answer+"\r")
		}
		select {
		case <-ctx.Done():
			return "", &Error{Silent, s.address, doing, "given up: " + context.Cause(ctx).Error()}
		case <-timer.C:
			return "", &Error{Silent, s.address, doing, fmt.Sprintf("no answer for %s; the last line was %q", silence, s.lastLine())}
		case b, ok := <-s.out:
			if !ok {
				if q.Ends {
					return string(s.buf), nil
				}
				return "", &Error{Lost, s.address, doing, fmt.Sprintf("the connection ended; the last line was %q", s.lastLine())}
			}
			piece := s.rest + string(b)
			s.rest = ""
			if loc := cutEscape.FindStringIndex(piece[max(0, len(piece)-32):]); loc != nil {
				cut := max(0, len(piece)-32) + loc[0]
				piece, s.rest = piece[:cut], piece[cut:]
			}
			if s.buf = append(s.buf, tidy(piece)...); len(s.buf) > maxAnswer {
				return "", &Error{NotUnderstood, s.address, doing, fmt.Sprintf("the answer is longer than %d MiB", maxAnswer>>20)}
			}
			if progress != nil {
				progress(string(s.buf[max(0, len(s.buf)-tailSize):]))
			}
			timer.Reset(silence)
		}
	}
}

// atPrompt reports whether the last line is the prompt, and what stands before it.
func (s *session) atPrompt() (string, bool) {
	last := s.tail()
	m := s.d.Prompt.FindStringSubmatchIndex(last)
	if m == nil || m[0] != 0 || m[1] != len(last) {
		return "", false
	}
	name := s.d.Prompt.groups(last)["name"]
	if s.name == "" {
		s.name = name
	}
	if name != s.name {
		return "", false
	}
	return string(s.buf[:len(s.buf)-len(last)]), true
}

var escapes = regexp.MustCompile("\x1b\\[[0-9;?]*[A-Za-z]|\r +\r|[\x00\x07\x08]")

// cutEscape is an escape sequence whose end has not come yet.
var cutEscape = regexp.MustCompile("\x1b(\\[[0-9;?]*)?$")

// tidy makes terminal output plain text with line feeds.
func tidy(s string) string {
	if !strings.ContainsAny(s, "\x1b\r\x00\x07\x08") {
		return s
	}
	return strings.ReplaceAll(strings.ReplaceAll(escapes.ReplaceAllString(s, ""), "\r\n", "\n"), "\r", "")
}

// tailSize is how much of an answer's end is looked at: prompts, pauses and questions stand on the last line, and
// looking through a long answer again for every piece of it would take forever.
const tailSize = 512

// tail is the last line so far, or its end when it is long.
func (s *session) tail() string {
	end := s.buf[max(0, len(s.buf)-tailSize):]
	return string(end[bytes.LastIndexByte(end, '\n')+1:])
}

// endsWith returns how many bytes at the end the pattern matches; 0 when it does not.
func (s *session) endsWith(p Pattern) int {
	if p.Regexp == nil {
		return 0
	}
	tail := s.tail()
	if loc := p.FindStringIndex(tail); loc != nil && loc[1] == len(tail) {
		return loc[1] - loc[0]
	}
	return 0
}

// lastLine is the last line that is not empty, for messages.
func (s *session) lastLine() string {
	end := strings.TrimSpace(string(s.buf[max(0, len(s.buf)-tailSize):]))
	line := strings.TrimSpace(end[strings.LastIndexByte(end, '\n')+1:])
	return line[:min(len(line), 120)]
}
