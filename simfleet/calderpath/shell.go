package calderpath

import (
	"fmt"
	"io"
	"net/url"
	"strings"

	"verimorph/simfleet/send"
)

// shell is a conversation on the command line.
type shell struct {
	b   *Box
	out io.ReadWriter
}

// run answers commands until the conversation ends.
func (s *shell) run() {
	for {
		fmt.Fprintf(s.out, "%s:: ", s.b.spec.Name)
		line, err := s.line()
		if err != nil || line == "leave" {
			return
		}
		s.b.mu.Lock()
		_, mute := s.b.st.Faults[Mute]
		s.b.mu.Unlock()
		if !mute {
			fmt.Fprint(s.out, strings.ReplaceAll(s.answer(strings.Fields(line)), "\n", "\r\n"))
		}
	}
}

// line reads up to a return, and echoes.
func (s *shell) line() (string, error) {
	var text strings.Builder
	p := make([]byte, 1)
	for {
		if _, err := io.ReadFull(s.out, p); err != nil {
			return "", err
		}
		if p[0] == '\r' {
			fmt.Fprint(s.out, "\r\n")
			return text.String(), nil
		}
		_, _ = s.out.Write(p)
		text.WriteByte(p[0])
	}
}

func (s *shell) answer(words []string) string {
	b := s.b
	switch {
	case len(words) == 0:
		return ""
	case len(words) == 1 && words[0] == "identity":
		b.mu.Lock()
		defer b.mu.Unlock()
		return fmt.Sprintf("name: %s\nmaker: %s\nmodel: %s\nserial: %s\nrelease: %s\n", b.spec.Name, Maker, b.st.Model, b.st.Serial, b.version())
	case len(words) == 3 && words[0] == "post" && words[1] == "keys.store":
		b.mu.Lock()
		text := b.st.Keys
		b.mu.Unlock()
		u, err := url.Parse(words[2])
		if err == nil {
			err = send.To(u, []byte(text), "ftp", "tftp", "sftp")
		}
		if err != nil {
			return fmt.Sprintf("! it does not go there: %s\n", err)
		}
		return fmt.Sprintf("%d bytes are out\n", len(text))
	}
	return fmt.Sprintf("! %q means nothing here\n", strings.Join(words, " "))
}
