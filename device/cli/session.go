package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"verimorph/device"
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
	modes   []Mode // of the dialect
	mode    string // that it is in
	renames bool   // what is said may give the device another name, and with it another prompt
	hungUp  bool   // the connection ended with the last command, before the device said that it took it
	over    bool   // the connection ended, and nothing is left of what it said
	broken  bool   // an answer did not come to its end: what comes next may belong to it
	heard   *tap

	used time.Time // when it was last spoken over

	privileged string // password, while a mode is entered
	no         error  // a question of the last answer was the device's "no"
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

// open begins a conversation on a terminal of the link.
func (c *Client) open(ctx context.Context) (*session, error) {
	rw, err := c.link.Terminal()
	if err != nil {
		return nil, err
	}
	rw = c.rec.wrap(rw)
	s := newStream(c.d, c.t.Address, rw, rw, func() { _ = rw.Close() })
	if _, err := s.answer(ctx, "sign in", "", Step{}, nil); err != nil {
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
	s := &session{d: d, address: address, in: in, out: make(chan []byte, 16), heard: &tap{}, modes: d.modes()}
	s.mode = s.modes[0].Name
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

// prepare makes sure that the sign-in is over, and sends what the dialect wants first. A conversation in which that fails is closed.
func (s *session) prepare(ctx context.Context) error {
	err := s.probe(ctx)
	for i := 0; i < len(s.d.Setup) && err == nil; i++ {
		_, err = s.run(ctx, Step{Send: s.d.Setup[i]}, nil)
	}
	if err != nil {
		s.close()
	}
	return err
}

// probe waits until a device that greets at length has finished, and has it answer a command: what looked like a prompt until then may have been a
// line of the greeting.
func (s *session) probe(ctx context.Context) error {
	c := &s.d.Session
	if settle := time.Duration(c.Settle * float64(time.Second)); settle > 0 {
		for began := time.Now(); time.Since(began) < mostGreeting; {
			if _, more := s.next(settle); !more {
				break
			}
		}
	}
	if c.Probe.Send == "" {
		return nil
	}
	s.name = "" // it is learnt from the prompt behind the answer
	text, err := s.run(ctx, Step{Send: c.Probe.Send}, nil)
	if err == nil && !c.Probe.Match.MatchString(text) {
		err = device.Fail(device.NotUnderstood, s.address, "sign in", "the answer to %s is not that of a device that is signed in to: %s", c.Probe.Send, Quoted(text))
	}
	return err
}

// mostGreeting is how long a device may greet.
const mostGreeting = 30 * time.Second

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

// send types something. Where that takes long, what the device echoes meanwhile is read: a device whose output nobody takes stops reading, and then
// neither side would go on.
func (s *session) send(text string) error {
	sent := make(chan error, 1)
	go func() {
		_, err := io.WriteString(s.in, text)
		sent <- err
	}()
	select {
	case err := <-sent: // as a rule
		return err
	case <-time.After(lineSettles):
	}
	for {
		select {
		case err := <-sent:
			return err
		case b, ok := <-s.out:
			if !ok { // the connection may end with what was typed: then it was typed
				s.over = true
				select {
				case err := <-sent:
					return err
				case <-time.After(lineSettles):
					return io.ErrUnexpectedEOF
				}
			}
			if s.screen.write(b); len(s.screen.text) > maxAnswer {
				return errFlood
			}
		}
	}
}

// errFlood is that of a device that talks without an end and does not listen.
var errFlood = errors.New("the device talks without an end and takes nothing")

// next waits for a piece of output and puts it on the screen; ok is false when none came in time, or the connection ended.
func (s *session) next(wait time.Duration) (b []byte, ok bool) {
	if wait <= 0 {
		select {
		case b, ok = <-s.out:
			s.over = !ok
		default:
		}
	} else {
		select {
		case b, ok = <-s.out:
			s.over = !ok
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
func (d *Dialect) refusal(address, command, text string) error {
	for _, r := range d.Refusals {
		if g := r.Match.Groups(text); g != nil {
			return device.Fail(r.Kind, address, command, "%s", "the device says: "+g["message"])
		}
	}
	return nil
}

// mostChatter is how long a device that prints without an end is listened to before it is spoken with all the same.
const mostChatter = 3 * time.Second

// answer reads until the prompt, pressing on at pauses and answering the questions that are expected. Where the device echoes, what
// stands before the echo is no part of the answer.
func (s *session) answer(ctx context.Context, doing, echo string, q Step, progress func(string)) (string, error) {
	silence := quiet
	if q.Wait > 0 {
		silence = time.Duration(q.Wait * float64(time.Second))
	}
	timer := time.NewTimer(silence)
	defer timer.Stop()
	asks := s.expecting(q.Expect)
	waits, looked := echo != "" && s.echo != noEcho, lookedAt{end: -1}
	for {
		switch {
		case ctx.Err() != nil:
			return "", device.Fail(device.Silent, s.address, doing, "%s", "given up: "+context.Cause(ctx).Error())
		case len(s.screen.text) > maxAnswer:
			return "", device.Fail(device.NotUnderstood, s.address, doing, "the answer is longer than %d MiB", maxAnswer>>20)
		}
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
			if s.question(&asks, doing) { // what comes next may be there already
				timer.Reset(silence)
				continue
			}
		}
		if name, ok := s.otherName(); ok && !waits {
			if _, more := s.next(renamedAfter); !more {
				s.name = name
			}
			continue
		}
		if n := s.endsWith(s.d.Pause.Match); n > 0 {
			s.screen.cut(n)
			_ = s.send(s.d.Pause.Send)
			timer.Reset(silence)
			continue
		}
		select {
		case <-ctx.Done():
			return "", device.Fail(device.Silent, s.address, doing, "%s", "given up: "+context.Cause(ctx).Error())
		case <-timer.C:
			return "", s.silent(doing, waits, silence)
		case b, ok := <-s.out:
			if !ok {
				return s.lost(doing, q)
			}
			s.screen.write(b)
			if progress != nil {
				progress(string(s.screen.tail()))
			}
			timer.Reset(silence)
		}
	}
}

// lost is the answer when the connection ends in the middle of it: an error, unless the connection ends with the command as a rule.
func (s *session) lost(doing string, q Step) (string, error) {
	if q.Ends {
		s.hungUp = true
		return string(s.screen.seen()), nil
	}
	return "", device.Fail(device.Lost, s.address, doing, "the connection ended; the last line was %q", s.lastLine())
}

// silent is the error of a device that says nothing more. waits says that not even the echo of the command came.
func (s *session) silent(doing string, waits bool, silence time.Duration) error {
	what := "no answer"
	if waits && s.echo == echoes {
		what = "no echo of the command, so no answer to it,"
	}
	return device.Fail(device.Silent, s.address, doing, "%s for %s; the last line was %q", what, silence, s.lastLine())
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
		if line := string(s.screen.text[l.from : l.from+n]); s.isPrompt(line) {
			s.mode, _, _ = s.promptOf(line)
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
func (s *session) cutAt(doing string, end int, q Step) (string, error) {
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
		return "", device.Fail(device.NotUnderstood, s.address, doing, "the prompt stands in the middle of the answer, with %d lines behind it: where the answer ends is not certain", unasked)
	}
	return body, nil
}

// isPrompt reports whether a line is a prompt of this conversation, with the name that it was learnt with, and nothing else.
func (s *session) isPrompt(line string) bool {
	if !strings.Contains(line, s.name) { // every line of every answer is asked for, and most are none
		return false
	}
	_, name, ok := s.promptOf(line)
	return ok && s.name != "" && name == s.name
}

// promptOf is the mode that a line is the prompt of, and the name in it. The mode that the conversation is in comes first.
func (s *session) promptOf(line string) (mode, name string, ok bool) {
	if m := modeNamed(s.modes, s.mode); m != nil {
		if name, ok = promptName(m.Prompt, line); ok {
			return s.mode, name, true
		}
	}
	for i := range s.modes {
		if s.modes[i].Name == s.mode {
			continue
		}
		if name, ok = promptName(s.modes[i].Prompt, line); ok {
			return s.modes[i].Name, name, true
		}
	}
	return "", "", false
}

func promptName(prompt device.Pattern, line string) (string, bool) {
	m := prompt.FindStringSubmatchIndex(line)
	if m == nil || m[0] != 0 || m[1] != len(line) {
		return "", false
	}
	if i := prompt.SubexpIndex("name"); i >= 0 && m[2*i] >= 0 {
		return line[m[2*i]:m[2*i+1]], true
	}
	return "", true
}

// atPrompt reports whether the last line is the prompt, and what stands before it.
func (s *session) atPrompt() (string, bool) {
	last := string(s.screen.line())
	if !strings.Contains(last, s.name) {
		return "", false
	}
	mode, name, ok := s.promptOf(last)
	if !ok {
		return "", false
	}
	if s.name == "" {
		s.name = name
	}
	if name != s.name {
		return "", false
	}
	s.mode = mode
	body := s.screen.seen()
	return string(body[:len(body)-len(last)]), true
}

// renamedAfter is how long a device that may have another name now must be silent behind a prompt with it before that is believed.
const renamedAfter = time.Second

// otherName is the name in a prompt on the last line, when it is not the known one and may be the new one.
func (s *session) otherName() (string, bool) {
	if !s.renames || s.name == "" {
		return "", false
	}
	_, name, ok := s.promptOf(string(s.screen.line()))
	return name, ok && name != "" && name != s.name
}

// tailSize is how much of an answer's end is looked at: prompts, pauses and questions stand on the last line, and
// looking through a long answer again for every piece of it would take forever.
const tailSize = 512

// endsWith returns how many bytes at the end the pattern matches; 0 when it does not.
func (s *session) endsWith(p device.Pattern) int {
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
