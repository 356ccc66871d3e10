package backup

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// Names inside an archive (docs/formats/bundle.md). Parts lie below parts/ under their exact names.
const (
	manifestName = "manifest.json"
	sumsName     = "SHA256SUMS"
	partsFolder  = "parts/"
)

// WriteArchive writes a bundle as a tar archive (POSIX.1-2001, pax): the manifest, the parts, and SHA256SUMS over both.
func WriteArchive(w io.Writer, m *Manifest, content func(*Part) ([]byte, error)) error {
	data, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	t := tar.NewWriter(w)
	var sums strings.Builder
	add := func(name string, data []byte, at time.Time) error {
		if name != sumsName {
			sum := sha256.Sum256(data)
			fmt.Fprintf(&sums, "%s  %s\n", hex.EncodeToString(sum[:]), name)
		}
		if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(data)), ModTime: at.Truncate(time.Second), Format: tar.FormatPAX}); err != nil {
			return err
		}
		_, err := t.Write(data)
		return err
	}
	if err := add(manifestName, append(data, '\n'), m.TakenAt); err != nil {
		return err
	}
	for i := range m.Parts {
		data, err := content(&m.Parts[i])
		if err != nil {
			return fmt.Errorf("part %s: %w", m.Parts[i].Name, err)
		}
		if err := add(partsFolder+m.Parts[i].File, data, m.TakenAt); err != nil {
			return err
		}
	}
	if err := add(sumsName, []byte(sums.String()), m.TakenAt); err != nil {
		return err
	}
	return t.Close()
}

// ReadArchive reads what WriteArchive wrote. Every part must be there with its size and sum; nothing else may be. It
// takes at most limit bytes in all.
func ReadArchive(r io.Reader, limit int64) (*Manifest, map[string][]byte, error) {
	files := map[string][]byte{}
	left := limit
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, fmt.Errorf("it is no tar archive, or cut short: %w", err)
		}
		if h.Typeflag == tar.TypeDir {
			continue
		}
		if h.Typeflag != tar.TypeReg || !SafeFile(h.Name) {
			return nil, nil, fmt.Errorf("%q is no plain file with a safe name", h.Name)
		}
		if _, twice := files[h.Name]; twice {
			return nil, nil, fmt.Errorf("%s is in the archive twice", h.Name)
		}
		if h.Size > left || len(files) > 1000 {
			return nil, nil, fmt.Errorf("it is larger than the %d MiB that are taken in", limit>>20)
		}
		var b bytes.Buffer
		if _, err := io.Copy(&b, t); err != nil {
			return nil, nil, fmt.Errorf("%s is cut short: %w", h.Name, err)
		}
		left -= int64(b.Len())
		files[h.Name] = b.Bytes()
	}
	data, ok := files[manifestName]
	if !ok {
		return nil, nil, errors.New("there is no " + manifestName + " in it")
	}
	m, err := Read(data)
	if err != nil {
		return nil, nil, err
	}
	if err := checkSums(files); err != nil {
		return nil, nil, err
	}
	parts := map[string][]byte{}
	for _, p := range m.Parts {
		data, ok := files[partsFolder+p.File]
		if !ok {
			return nil, nil, fmt.Errorf("part %s (%s) is missing", p.Name, p.File)
		}
		if err := p.Fits(data); err != nil {
			return nil, nil, err
		}
		parts[p.Name] = data
	}
	for name := range files {
		if f, ok := strings.CutPrefix(name, partsFolder); name != manifestName && name != sumsName && (!ok || !m.hasFile(f)) {
			return nil, nil, fmt.Errorf("%s is in the archive, but the manifest does not name it", name)
		}
	}
	return m, parts, nil
}

func (m *Manifest) hasFile(name string) bool {
	for _, p := range m.Parts {
		if p.File == name {
			return true
		}
	}
	return false
}

// Fits fails when data is not the part's content.
func (p *Part) Fits(data []byte) error {
	if int64(len(data)) != p.Size {
		return fmt.Errorf("part %s has %d bytes, not %d", p.Name, len(data), p.Size)
	}
	if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != p.SHA256 {
		return fmt.Errorf("part %s has not the SHA-256 sum that the manifest gives", p.Name)
	}
	return nil
}

// checkSums holds SHA256SUMS, as sha256sum writes it, against the files. The file itself may be left out.
func checkSums(files map[string][]byte) error {
	data, ok := files[sumsName]
	if !ok {
		return nil
	}
	for i, line := range strings.Split(strings.TrimRight(string(data), "\n"), "\n") {
		sum, name, ok := strings.Cut(line, "  ")
		if !ok || !sumForm.MatchString(sum) {
			return fmt.Errorf("%s:%d: %q is no line of sums", sumsName, i+1, line)
		}
		content, there := files[name]
		if !there {
			return fmt.Errorf("%s:%d: %s is missing", sumsName, i+1, name)
		}
		if got := sha256.Sum256(content); hex.EncodeToString(got[:]) != sum {
			return fmt.Errorf("%s:%d: %s has another sum; it was changed or damaged", sumsName, i+1, name)
		}
	}
	return nil
}
