// Package firmware makes the demo's firmware images: a header in plain text and a payload that looks random but is
// the same on every machine, so that the catalogue can state the hashes of files that nobody commits.
//
// An image is a 512-byte header, filled up with zero bytes, and the payload:
//
//	TARNHOLM IMAGE 1
//	models: TH-60
//	version: 4.2.9
//	payload: 4194304
//	sum: <SHA-256 of the payload>
package firmware

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// HeaderSize is the number of bytes before the payload.
const HeaderSize = 512

// A Header says what an image is for.
type Header struct {
	Maker   string
	Models  []string
	Version string
	Part    string // component it is for; "" for a main image
	Payload int64  // bytes after the header
	Sum     string
}

// Make writes an image and fills in h.Sum.
func Make(w io.Writer, h *Header) error {
	body := make([]byte, h.Payload)
	part := ""
	if h.Part != "" {
		part = "part: " + h.Part + "\n"
	}
	fill(body, h.Maker+" "+strings.Join(h.Models, ",")+" "+h.Version+part)
	sum := sha256.Sum256(body)
	h.Sum = hex.EncodeToString(sum[:])
	head := make([]byte, HeaderSize)
	n := copy(head, fmt.Sprintf("%s IMAGE 1\nmodels: %s\nversion: %s\n%spayload: %d\nsum: %s\n",
		strings.ToUpper(h.Maker), strings.Join(h.Models, ","), h.Version, part, h.Payload, h.Sum))
	if n == HeaderSize {
		return fmt.Errorf("header of %s %s does not fit into %d bytes", h.Models, h.Version, HeaderSize)
	}
	if _, err := w.Write(head); err != nil {
		return err
	}
	_, err := w.Write(body)
	return err
}

// fill writes SHA-256(seed, counter) blocks.
func fill(b []byte, seed string) {
	block := append([]byte(seed), make([]byte, 8)...)
	for i := 0; i < len(b); i += sha256.Size {
		binary.BigEndian.PutUint64(block[len(seed):], uint64(i))
		sum := sha256.Sum256(block)
		copy(b[i:], sum[:])
	}
}

// Read checks a whole image and returns its header. Errors say what does not fit, in the words a box would use.
func Read(r io.Reader) (Header, error) {
	var h Header
	head := make([]byte, HeaderSize)
	if _, err := io.ReadFull(r, head); err != nil {
		return h, fmt.Errorf("too short for an image")
	}
	lines := strings.Split(string(bytes.TrimRight(head, "\x00")), "\n")
	maker, ok := strings.CutSuffix(lines[0], " IMAGE 1")
	if !ok {
		return h, fmt.Errorf("not an image")
	}
	h.Maker = maker
	for _, line := range lines[1:] {
		key, value, _ := strings.Cut(line, ": ")
		switch key {
		case "models":
			h.Models = strings.Split(value, ",")
		case "version":
			h.Version = value
		case "part":
			h.Part = value
		case "payload":
			h.Payload, _ = strconv.ParseInt(value, 10, 64)
		case "sum":
			h.Sum = value
		}
	}
	hash := sha256.New()
	n, err := io.Copy(hash, r)
	if err != nil {
		return h, err
	}
	if n != h.Payload {
		return h, fmt.Errorf("payload has %d of %d bytes", n, h.Payload)
	}
	if hex.EncodeToString(hash.Sum(nil)) != h.Sum {
		return h, fmt.Errorf("payload does not match its sum")
	}
	return h, nil
}
