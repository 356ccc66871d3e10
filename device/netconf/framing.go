package netconf

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strconv"
	"strings"

	"verimorph/device"
	"verimorph/device/link"
)

// Framing: how messages are told apart on a connection (RFC 6242, section 4).

// endOfMessage ends a hello, and every message of base 1.0 (RFC 6242, section 4.3).
const endOfMessage = "]]>]]>"

// messages are those of one session, in and out.
type messages struct {
	in      io.Writer
	out     *bufio.Reader
	chunked bool // both sides speak base 1.1 (RFC 6242, section 4.2)
}

// write sends one message.
func (m *messages) write(text string) error {
	if m.chunked {
		text = fmt.Sprintf("\n#%d\n%s\n##\n", len(text), text)
	} else {
		text += endOfMessage
	}
	_, err := io.WriteString(m.in, text)
	return err
}

// read reads one message, of [link.MostBytes] at most.
func (m *messages) read() ([]byte, error) {
	if m.chunked {
		return m.chunks()
	}
	var msg []byte
	for {
		piece, err := m.out.ReadSlice('>')
		msg = append(msg, piece...)
		switch {
		case len(msg) > link.MostBytes:
			return nil, fmt.Errorf("an answer without end")
		case err == bufio.ErrBufferFull:
			continue
		case err != nil:
			return nil, endOf(err, len(msg))
		case bytes.HasSuffix(msg, []byte(endOfMessage)):
			return msg[:len(msg)-len(endOfMessage)], nil
		}
	}
}

// endOf is the error of a session that ended; what is known of its reason stays.
func endOf(err error, after int) error {
	if device.KindOf(err) != "" {
		return err
	}
	return fmt.Errorf("the session ended after %d bytes", after)
}

// mostHead bounds the line in front of a chunk.
const mostHead = 20

func (m *messages) chunks() (msg []byte, err error) {
	for {
		head := make([]byte, 2)
		if _, err := io.ReadFull(m.out, head); err != nil {
			return nil, endOf(err, len(msg))
		}
		line, err := m.head()
		if string(head) != "\n#" || err != nil {
			return nil, fmt.Errorf("a chunk without a head")
		}
		if line == "#" {
			return msg, nil
		}
		size, err := strconv.ParseUint(line, 10, 32)
		if err != nil || size == 0 || line[0] == '+' || uint64(len(msg))+size > link.MostBytes {
			return nil, fmt.Errorf("a chunk of %.20q bytes", line)
		}
		// Piece by piece: a device that announces much and sends little takes no memory.
		for left := int64(size); left > 0; {
			at, n := len(msg), min(left, 64<<10)
			msg = append(msg, make([]byte, n)...)
			if k, err := io.ReadFull(m.out, msg[at:]); err != nil {
				return nil, endOf(err, at+k)
			}
			left -= n
		}
	}
}

// head reads the rest of the line in front of a chunk.
func (m *messages) head() (string, error) {
	var line strings.Builder
	for {
		c, err := m.out.ReadByte()
		switch {
		case err != nil:
			return "", err
		case c == '\n':
			return line.String(), nil
		case line.Len() >= mostHead:
			return "", fmt.Errorf("a line without end")
		}
		line.WriteByte(c)
	}
}
