package device

import (
	"bytes"
	"context"
	"fmt"
	"io"
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
	screen  screen
	name    string // the prompt's name part, learnt at sign-in, so that output cannot pass for a prompt
	echo    echoing
	raised  bool
	hungUp  bool // the connection ended with the last command, before the device said that it took it
	broken  bool // an answer did not come to its end: what comes next may belong to it
	heard   *tap
}

// echoing is whether a device sends back what is typed. Where it does, an answer counts only behind the echo of its command: a message
// that the device prints by itself, with its prompt, is not taken for the answer.
type echoing int

const (
	echoUnknown echoing = iota // before the first command
	echoes
	noEcho
)

// echoLate is how long the echo of the first command may come after something that looks like an answer without it.
const echoLate = 300 * time.Millisecond

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
	if _, err := s.answer(ctx, "sign in", "", Query{}, nil); err != nil {
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

// run sends a command and returns the answer without echo and prompt. A refusal becomes an *Error, and so does an answer that does not
// say what the query calls success. What the device printed before is not part of the answer.
func (s *session) run(ctx context.Context, q Query, command string, progress func(string)) (string, error) {
	s.settle()
	s.hungUp = false
	if _, err := io.WriteString(s.in, command+"\r"); err != nil {
		return "", &Error{Lost, s.address, command, "the connection ended"}
	}
	text, err := s.answer(ctx, command, command, q, progress)
	if err != nil {
		s.broken = true
		return text, err
	}
	if err := s.refusal(command, text); err != nil {
		return text, err
	}
	if q.Success.Regexp != nil && !q.Success.MatchString(text) {
		return text, &Error{NotUnderstood, s.address, command, fmt.Sprintf("the answer says neither success nor a known refusal: %s", Quoted(text))}
	}
	return text, nil
}

// settle reads what the device printed by itself since the last answer, and forgets it. A device without echo must be silent for a
// moment first, since nothing else tells its messages from the next answer.
func (s *session) settle() {
	unasked := false
	for began := time.Now(); time.Since(began) < mostChatter; {
		wait := time.Duration(0)
		if unasked && s.echo != echoes {
			wait = lineSettles
		}
		b, ok := s.next(wait)
		if !ok {
			break
		}
		unasked = unasked || len(bytes.TrimSpace(b)) > 0
	}
	s.screen.clear()
}

// next waits for a piece of output and puts it on the screen; ok is false when none came in time, or the connection ended.
func (s *session) next(wait time.Duration) (b []byte, ok bool) {
	if wait <= 0 {
		select {
		case b, ok = <-s.out:
		default:
		}
	} else {
		select {
		case b, ok = <-s.out:
		case <-time.After(wait):
		}
	}
	if ok {
		s.screen.write(b)
	}
	return b, ok
}

// Quoted shows a device's own words in a message: the last of them, on one line.
func Quoted(text string) string {
	words := strings.Join(strings.Fields(text), " ")
	if words == "" {
		return "it said nothing"
	}
	if len(words) > 240 {
		words = "... " + strings.ToValidUTF8(words[len(words)-240:], "")
	}
	return fmt.Sprintf("%q", words)
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

// mostChatter is how long a device that prints without an end is listened to before it is spoken with all the same.
const mostChatter = 3 * time.Second

// answer reads until the prompt, pressing on at pauses and answering the one question that is expected. Where the device echoes, what
// stands before the echo is no part of the answer.
func (s *session) answer(ctx context.Context, doing, echo string, q Query, progress func(string)) (string, error) {
	silence := quiet
	if q.Wait > 0 {
		silence = time.Duration(q.Wait * float64(time.Second))
	}
	timer := time.NewTimer(silence)
	defer timer.Stop()
	asked, waits, looked := false, echo != "" && s.echo != noEcho, lookedAt{end: -1}
	for {
		if waits {
			if end := echoEnd(s.screen.text, echo); end > 0 {
				s.screen.drop(end)
				s.echo, waits = echoes, false
			}
		}
		if s.echo == echoes && !waits {
			looked = s.ended(looked)
			if looked.end >= 0 {
				return s.cutAt(doing, looked.end, q)
			}
		}
		if !waits || s.echo == echoUnknown {
			if body, ok := s.atPrompt(); ok {
				if q.whole && s.echo == echoes {
					if _, more := s.next(lineSettles); more { // what looks like the prompt may be part of the answer
						continue
					}
				}
				if waits { // it may be something else than the answer: the echo tells, if one comes
					if _, more := s.next(echoLate); more {
						continue
					}
					s.echo = noEcho
				}
				s.screen.clear()
				return body, nil
			}
			if q.Until.Regexp != nil && q.Until.Match(s.screen.tail()) {
				return string(s.screen.seen()), nil
			}
			if !asked && s.endsWith(q.Ask) > 0 {
				asked = true
				_, _ = io.WriteString(s.in, q.Answer+"\r")
			}
		}
		if n := s.endsWith(s.d.Pause.Match); n > 0 {
			s.screen.cut(n)
			_, _ = io.WriteString(s.in, s.d.Pause.Send)
		}
		select {
		case <-ctx.Done():
			return "", &Error{Silent, s.address, doing, "given up: " + context.Cause(ctx).Error()}
		case <-timer.C:
			what := "no answer"
			if waits && s.echo == echoes {
				what = "no echo of the command, so no answer to it,"
			}
			return "", &Error{Silent, s.address, doing, fmt.Sprintf("%s for %s; the last line was %q", what, silence, s.lastLine())}
		case b, ok := <-s.out:
			if !ok {
				if q.Ends {
					s.hungUp = true
					return string(s.screen.seen()), nil
				}
				return "", &Error{Lost, s.address, doing, fmt.Sprintf("the connection ended; the last line was %q", s.lastLine())}
			}
			if s.screen.write(b); len(s.screen.text) > maxAnswer {
				return "", &Error{NotUnderstood, s.address, doing, fmt.Sprintf("the answer is longer than %d MiB", maxAnswer>>20)}
			}
			if progress != nil {
				progress(string(s.screen.tail()))
			}
			timer.Reset(silence)
		}
	}
}

// echoEnd is where the line ends on which a command was echoed, 0 when it was not yet. Blanks and line feeds do not count: a terminal may
// break a long line.
func echoEnd(text []byte, command string) int {
	want := bytes.Map(noBlanks, []byte(command))
	if len(want) == 0 {
		return 0
	}
	for from := 0; from < len(text); from++ {
		if text[from] != want[0] {
			continue
		}
		i, k := from, 0
		for i < len(text) && k < len(want) && (text[i] == want[k] || text[i] == ' ' || text[i] == '\n') {
			if text[i] == want[k] {
				k++
			}
			i++
		}
		if k < len(want) {
			continue
		}
		if end := bytes.IndexByte(text[i:], '\n'); end >= 0 {
			return i + end + 1
		}
		return 0 // the line has not ended
	}
	return 0
}

func noBlanks(r rune) rune {
	if r == ' ' || r == '\n' {
		return -1
	}
	return r
}

// lookedAt is how far the lines of an answer were looked at, and where its end is; below 0 when it was not seen yet.
type lookedAt struct{ from, end int }

// ended looks for the prompt among the lines that are behind the cursor: the device prints something by itself right after an answer, and
// its prompt once more as a rule. The answer ends at the first, in however many pieces all that comes.
func (s *session) ended(l lookedAt) lookedAt {
	for {
		n := bytes.IndexByte(s.screen.text[l.from:], '\n')
		if n < 0 {
			return l
		}
		if s.isPrompt(string(s.screen.text[l.from : l.from+n])) {
			l.end = l.from
			return l
		}
		l.from += n + 1
	}
}

// mostUnasked is how many lines a device may print by itself behind an answer whose every line counts. Behind more than that, what looked
// like the prompt may have been a line of the answer.
const mostUnasked = 3

// cutAt is the answer without what the device printed by itself after it; all of that is waited for.
func (s *session) cutAt(doing string, end int, q Query) (string, error) {
	for began, more := time.Now(), true; more && time.Since(began) < mostChatter && len(s.screen.text) < maxAnswer; {
		_, more = s.next(lineSettles)
	}
	body, rest := string(s.screen.text[:end]), string(s.screen.text[end:])
	s.screen.clear()
	unasked := 0
	for _, l := range strings.Split(rest, "\n") {
		if strings.TrimSpace(l) != "" && !s.isPrompt(l) {
			unasked++
		}
	}
	if q.whole && unasked > mostUnasked {
		return "", &Error{NotUnderstood, s.address, doing, fmt.Sprintf("the prompt stands in the middle of the answer, with %d lines behind it: where the answer ends is not certain", unasked)}
	}
	return body, nil
}

// isPrompt reports whether a line is the prompt of this conversation, with the name that it was learnt with, and nothing else.
func (s *session) isPrompt(line string) bool {
	name, ok := s.promptName(line)
	return ok && s.name != "" && name == s.name
}

func (s *session) promptName(line string) (string, bool) {
	m := s.d.Prompt.FindStringSubmatchIndex(line)
	if m == nil || m[0] != 0 || m[1] != len(line) {
		return "", false
	}
	return s.d.Prompt.groups(line)["name"], true
}

// atPrompt reports whether the last line is the prompt, and what stands before it.
func (s *session) atPrompt() (string, bool) {
	last := string(s.screen.line())
	name, ok := s.promptName(last)
	if !ok {
		return "", false
	}
	if s.name == "" {
		s.name = name
	}
	if name != s.name {
		return "", false
	}
	body := s.screen.seen()
	return string(body[:len(body)-len(last)]), true
}

// tailSize is how much of an answer's end is looked at: prompts, pauses and questions stand on the last line, and
// looking through a long answer again for every piece of it would take forever.
const tailSize = 512

// endsWith returns how many bytes at the end the pattern matches; 0 when it does not.
func (s *session) endsWith(p Pattern) int {
	if p.Regexp == nil {
		return 0
	}
	tail := string(s.screen.line())
	if loc := p.FindStringIndex(tail); loc != nil && loc[1] == len(tail) {
		return loc[1] - loc[0]
	}
	return 0
}

// lastLine is the last line that is not empty, for messages.
func (s *session) lastLine() string {
	end := strings.TrimSpace(string(s.screen.tail()))
	line := strings.TrimSpace(end[strings.LastIndexByte(end, '\n')+1:])
	return line[:min(len(line), 120)]
}
