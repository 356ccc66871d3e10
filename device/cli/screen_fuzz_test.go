package cli

import (
	"bytes"
	"testing"
)

// What a terminal shows does not depend on where the output is cut into pieces; its cursor stays inside its last line, which begins behind a line end.
func FuzzScreen(f *testing.F) {
	f.Add([]byte("hollen-fw1> tell box\r\n\x1b[1;32mname\x1b[0m: a\r\n--more--\r        \rnext\x08\x08x\n"), uint8(3))
	f.Add([]byte("\x1b]0;title\x07a\x1b(Bb\x1b[2Kc\x1b[10Gd\xc3\xa9\xe2\x82"), uint8(1))
	f.Fuzz(func(t *testing.T, out []byte, cut uint8) {
		var whole, pieces screen
		whole.write(out)
		for rest := out; len(rest) > 0; {
			n := min(int(cut)%7+1, len(rest))
			pieces.write(rest[:n])
			rest = rest[n:]
		}
		if !bytes.Equal(whole.text, pieces.text) || whole.begin != pieces.begin || whole.at != pieces.at {
			t.Fatalf("%q\n%q", whole.text, pieces.text)
		}
		if whole.begin < 0 || whole.at < 0 || whole.begin+whole.at > len(whole.text) || whole.begin > 0 && whole.text[whole.begin-1] != '\n' || bytes.IndexByte(whole.line(), '\n') >= 0 {
			t.Fatalf("%q, %d, %d", whole.text, whole.begin, whole.at)
		}
	})
}
