package cli

import (
	"bytes"
	"strconv"
)

// screen turns the output of a terminal into plain text, as a person would see it: escape sequences have no text, a carriage return
// goes back to the begin of the line, and what is printed then overwrites what stood there. Only the last line can still change.
// A sequence may be cut anywhere between two pieces of output.
//
// The sequences are those of ECMA-48: control sequences (section 5.4), device control and title strings (section 5.6), and the
// selection of character sets (ECMA-35).
type screen struct {
	text  []byte // lines end with a line feed
	begin int    // of the last line
	at    int    // the cursor, in bytes from begin
	state screenState
	param []byte // of a control sequence
	rune  int    // bytes of a UTF-8 character that are still to come
	from  int    // where the cursor was before a carriage return that came last; below 0 when something else did
}

type screenState int

const (
	inText screenState = iota
	inEscape
	inControl   // after ESC [
	inString    // after ESC ], P, X, ^ or _: up to BEL or ESC \
	inStringEnd // ESC inside a string
	inCharset   // one more byte
)

// write takes a piece of output.
func (s *screen) write(p []byte) {
	for len(p) > 0 {
		if s.state == inText && s.rune == 0 && s.begin+s.at == len(s.text) {
			if n := plain(p); n > 0 { // most output is this
				s.text, s.at, s.from = append(s.text, p[:n]...), s.at+n, -1
				p = p[n:]
				continue
			}
		}
		s.byte(p[0])
		p = p[1:]
	}
}

// plain is how many bytes of p are printable ASCII.
func plain(p []byte) int {
	for i, c := range p {
		if c < ' ' || c >= 0x7f {
			return i
		}
	}
	return len(p)
}

func (s *screen) byte(c byte) {
	switch s.state {
	case inEscape:
		s.escape(c)
	case inControl:
		if c >= 0x40 && c <= 0x7e {
			s.state = inText
			s.control(c)
		} else if len(s.param) < 64 {
			s.param = append(s.param, c)
		}
	case inString:
		if c == 7 || c == 0x9c {
			s.state = inText
		} else if c == 0x1b {
			s.state = inStringEnd
		}
	case inStringEnd:
		s.state = inText
		if c != '\\' {
			s.escape(c)
		}
	case inCharset:
		s.state = inText
	default:
		s.print(c)
	}
}

func (s *screen) escape(c byte) {
	s.state = inText
	switch c {
	case '[':
		s.state, s.param = inControl, s.param[:0]
	case ']', 'P', 'X', '^', '_':
		s.state = inString
	case '(', ')', '*', '+', '-', '.', '/', '#', '%', ' ':
		s.state = inCharset
	case 0x1b:
		s.state = inEscape
	}
}

func (s *screen) print(c byte) {
	if s.rune > 0 && c&0xc0 == 0x80 {
		s.rune--
		s.put(c)
		return
	}
	s.rune = 0
	from := s.from
	s.from = -1
	switch {
	case c == 0x1b:
		s.state = inEscape
	case c == 0x9b: // the same in eight bits, where it is no part of a character
		s.state, s.param = inControl, s.param[:0]
	case c == 0x9d:
		s.state = inString
	case c == '\n':
		s.at = max(s.at, from) // a line that ends with both was not returned to
		s.text = append(s.seen(), '\n')
		s.begin, s.at = len(s.text), 0
	case c == '\r':
		s.from, s.at = max(s.at, from), 0
	case c == 8:
		s.at = max(s.at-1, 0)
	case c == '\t':
		s.put(c)
	case c < ' ' || c == 0x7f:
	default:
		switch {
		case c >= 0xf0:
			s.rune = 3
		case c >= 0xe0:
			s.rune = 2
		case c >= 0xc0:
			s.rune = 1
		}
		s.put(c)
	}
}

func (s *screen) put(c byte) {
	if i := s.begin + s.at; i < len(s.text) {
		s.text[i] = c
	} else {
		s.text = append(s.text, c)
	}
	s.at++
}

// control carries out the control sequences that change a line.
func (s *screen) control(final byte) {
	n, _ := strconv.Atoi(string(s.param))
	line := s.text[s.begin:]
	at := min(s.at, len(line))
	switch final {
	case 'K', 'J':
		switch n {
		case 0:
			s.text = s.text[:s.begin+at]
		case 1:
			copy(line[:at], bytes.Repeat([]byte{' '}, at))
		case 2, 3:
			copy(line, bytes.Repeat([]byte{' '}, len(line)))
		}
	case 'D':
		s.at = max(at-max(n, 1), 0)
	case 'G':
		s.at = min(max(n, 1)-1, len(line))
	case 'C':
		s.at = min(at+max(n, 1), len(line))
	}
}

// seen is the text without the blanks behind the cursor: they were printed to erase something.
func (s *screen) seen() []byte {
	end := len(s.text)
	for end > s.begin+s.at && s.text[end-1] == ' ' {
		end--
	}
	return s.text[:end]
}

// line is the last line so far, or its end when it is long.
func (s *screen) line() []byte {
	t := s.seen()
	return t[max(s.begin, len(t)-tailSize):]
}

// tail is the end of what is there.
func (s *screen) tail() []byte {
	t := s.seen()
	return t[max(0, len(t)-tailSize):]
}

// cut takes n bytes off the end.
func (s *screen) cut(n int) {
	t := s.seen()
	s.text = t[:max(len(t)-n, s.begin)]
	s.at = len(s.text) - s.begin
}

// drop takes the first n bytes off.
func (s *screen) drop(n int) {
	s.text = append(s.text[:0], s.text[n:]...)
	s.begin = bytes.LastIndexByte(s.text, '\n') + 1
	s.at = min(s.at, len(s.text)-s.begin)
}

// clear forgets what is there; a long answer must not stay in memory while the device works. A sequence that is cut goes on.
func (s *screen) clear() {
	if s.text = s.text[:0]; cap(s.text) > keepBuffer {
		s.text = nil
	}
	s.begin, s.at, s.from = 0, 0, -1
}
