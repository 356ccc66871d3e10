package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"strings"
	"sync"
	"time"

	"verimorph/device"
)

// Recordings: what was said to a device and what came back, kept so that a dialect can be tried without it (docs/formats/session.md).

// RecordingFormat is the format of a recording.
const RecordingFormat = "verimorph-session/1"

// A Recording is a conversation with a device. Secrets are masked.
type Recording struct {
	Device  string
	Dialect string
	At      time.Time
	Pieces  []Piece
}

// A Piece is something that was typed, or something that came.
type Piece struct {
	By     string `json:"by,omitempty"` // the management protocol that it goes by; "" is the terminal
	Sent   string `json:"sent,omitempty"`
	Came   string `json:"came,omitempty"`
	Secret bool   `json:"secret,omitempty"` // a secret was typed, which is not kept
}

// recordingHead is the first line of a recording.
type recordingHead struct {
	Format  string    `json:"format"`
	Device  string    `json:"device"`
	Dialect string    `json:"dialect"`
	At      time.Time `json:"at"`
}

// Write writes a recording: a line of JSON for its head, and one for each piece.
func (r *Recording) Write(w io.Writer) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(recordingHead{RecordingFormat, r.Device, r.Dialect, r.At}); err != nil {
		return err
	}
	for _, p := range r.Pieces {
		if err := enc.Encode(p); err != nil {
			return err
		}
	}
	return nil
}

// mostRecording bounds a line of a recording, in bytes.
const mostRecording = 16 << 20

// ReadRecording reads a recording. Errors name the line.
func ReadRecording(file string, data []byte) (*Recording, error) {
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, mostRecording)
	out := &Recording{}
	for n := 1; lines.Scan(); n++ {
		if len(bytes.TrimSpace(lines.Bytes())) == 0 {
			continue
		}
		dec := json.NewDecoder(bytes.NewReader(lines.Bytes()))
		dec.DisallowUnknownFields()
		var err error
		if n == 1 {
			var head recordingHead
			if err = dec.Decode(&head); err == nil && head.Format != RecordingFormat {
				err = fmt.Errorf("format %q is not %s", head.Format, RecordingFormat)
			}
			out.Device, out.Dialect, out.At = head.Device, head.Dialect, head.At
		} else {
			var p Piece
			if err = dec.Decode(&p); err == nil && (p.Sent != "" || p.Secret) == (p.Came != "") {
				err = fmt.Errorf("a piece was either sent or came")
			}
			out.Pieces = append(out.Pieces, p)
		}
		if err != nil {
			return nil, fmt.Errorf("%s:%d: %w", file, n, err)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if len(out.Pieces) == 0 {
		return nil, fmt.Errorf("%s: it holds no conversation; record one with: verimorph dialect record", file)
	}
	return out, nil
}

// recorder keeps what passes over a terminal.
type recorder struct {
	mu      sync.Mutex
	secrets []string // that are typed, and must not be kept
	pieces  []Piece
}

// called keeps a call of a management protocol and its answer.
func (r *recorder) called(by, what, answer string) {
	if r == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if answer == "" {
		answer = "\n" // a piece says something
	}
	r.pieces = append(r.pieces, Piece{By: by, Sent: what}, Piece{By: by, Came: answer})
}

// wrap is a terminal of which the recorder keeps all.
func (r *recorder) wrap(rw io.ReadWriteCloser) io.ReadWriteCloser {
	if r == nil {
		return rw
	}
	return &recorded{rw, r}
}

type recorded struct {
	io.ReadWriteCloser
	r *recorder
}

// Read implements io.Reader.
func (t *recorded) Read(p []byte) (int, error) {
	n, err := t.ReadWriteCloser.Read(p)
	if n > 0 {
		t.r.mu.Lock()
		defer t.r.mu.Unlock()
		if last := len(t.r.pieces) - 1; last >= 0 && t.r.pieces[last].Came != "" && t.r.pieces[last].By == "" {
			t.r.pieces[last].Came += string(p[:n])
		} else {
			t.r.pieces = append(t.r.pieces, Piece{Came: string(p[:n])})
		}
	}
	return n, err
}

// Write implements io.Writer. It is called once for each line or key.
func (t *recorded) Write(p []byte) (int, error) {
	t.r.mu.Lock()
	piece := Piece{Sent: string(p)}
	for _, s := range t.r.secrets {
		if s != "" && strings.TrimRight(piece.Sent, "\r\n") == s {
			piece = Piece{Secret: true}
		}
	}
	t.r.pieces = append(t.r.pieces, piece)
	t.r.mu.Unlock()
	return t.ReadWriteCloser.Write(p)
}

// likeSecret is what a device may print of a secret: a word that says so, and what follows it.
var likeSecret = regexp.MustCompile(`(?i)((?:^|[^/\w])(?:pass(?:word|wd|phrase)?|secret|community|private[- ]key|token|psk)\b"?[ \t]*[:=> ]+[ \t]*"?)([^\s:=<"][^\s<"]*)`)

// kept is what was recorded, with secrets masked.
func (r *recorder) kept() []Piece {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make([]Piece, len(r.pieces))
	for i, p := range r.pieces {
		for _, s := range r.secrets {
			if len(s) >= 4 { // a shorter one would mask what is no secret, and is typed alone
				p.Came, p.Sent = strings.ReplaceAll(p.Came, s, "***"), strings.ReplaceAll(p.Sent, s, "***")
			}
		}
		p.Came = strings.ToValidUTF8(likeSecret.ReplaceAllString(p.Came, "$1***"), "\uFFFD")
		out[i] = p
	}
	return out
}

// A replay is a device that says what it said in a recording, to whoever says the same to it.
type replay struct {
	mu      sync.Mutex
	pieces  []Piece
	at      int // the next piece
	out     chan []byte
	rest    []byte
	lacks   []string // what was said that the recording has no answer to
	closed  bool
	closing chan struct{}
}

func newReplay(r *Recording) *replay {
	p := &replay{out: make(chan []byte, len(r.Pieces)+1), closing: make(chan struct{})}
	for _, piece := range r.Pieces {
		if piece.By == "" {
			p.pieces = append(p.pieces, piece)
		}
	}
	p.goOn()
	return p
}

// goOn says what came next in the recording; the caller holds the lock, or nobody else has the replay yet.
func (p *replay) goOn() {
	for p.at < len(p.pieces) && p.pieces[p.at].Came != "" {
		p.say(p.pieces[p.at].Came)
		p.at++
	}
}

func (p *replay) say(text string) {
	select {
	case p.out <- []byte(text):
	default: // more was asked than the recording holds, and nobody reads
	}
}

// Read implements io.Reader.
func (p *replay) Read(b []byte) (int, error) {
	if len(p.rest) == 0 {
		select {
		case p.rest = <-p.out:
		case <-p.closing:
			return 0, io.EOF
		}
	}
	n := copy(b, p.rest)
	p.rest = p.rest[n:]
	return n, nil
}

// Write implements io.Writer: what is said is looked for from where the recording stands on, and then from its begin.
func (p *replay) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for k := range p.pieces {
		i := (p.at + k) % len(p.pieces)
		if piece := p.pieces[i]; piece.Sent == string(b) || piece.Secret && k == 0 {
			p.at = i + 1
			p.goOn()
			return len(b), nil
		}
	}
	p.lacks = append(p.lacks, strings.TrimRight(string(b), "\r\n"))
	p.end()
	return 0, io.ErrClosedPipe
}

// lack notes that something was said that the recording has no answer to.
func (p *replay) lack(what string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.lacks = append(p.lacks, what)
}

func (p *replay) end() {
	if !p.closed {
		p.closed = true
		close(p.closing)
	}
}

// Close implements io.Closer.
func (p *replay) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.end()
	return nil
}

// replayed answers calls of a management protocol as they were answered in a recording.
type replayed struct {
	by    string
	r     *Recording
	lacks func(what string)
}

// Call implements device.Caller.
func (p *replayed) Call(_ context.Context, what string) (string, error) {
	for i, piece := range p.r.Pieces {
		if piece.By == p.by && piece.Sent == what && i+1 < len(p.r.Pieces) {
			return p.r.Pieces[i+1].Came, nil
		}
	}
	p.lacks(what)
	return "", device.Fail(device.Lacking, p.r.Device, firstWord(what), "the recording has no answer to it")
}

// Close implements device.Caller.
func (p *replayed) Close() {}
