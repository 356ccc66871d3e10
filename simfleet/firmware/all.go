package firmware

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"

	"verimorph/core/catalog"
)

// MakeAll writes every image of the catalogue into a folder and returns the files. Files of the right size that are
// there already are left alone.
func MakeAll(c *catalog.Catalogue, dir string) ([]string, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	var files []string
	for _, l := range c.Images() {
		name := filepath.Join(dir, l.File)
		files = append(files, name)
		if st, err := os.Stat(name); err == nil && st.Size() == l.Size {
			continue
		}
		data, err := Content(&l)
		if err != nil {
			return nil, err
		}
		if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != l.SHA256 {
			return nil, fmt.Errorf("%s came out as %x, but %s says %s", l.File, sum, l.Family.File, l.SHA256)
		}
		if err := writeWhole(name, data); err != nil {
			return nil, err
		}
	}
	return files, nil
}

// Content makes one image of the catalogue.
func Content(l *catalog.Listed) ([]byte, error) {
	var b bytes.Buffer
	h := Header{Maker: l.Family.Maker, Models: l.Models, Version: l.Version, Part: l.Part, Payload: l.Size - HeaderSize}
	err := Make(&b, &h)
	return b.Bytes(), err
}

func writeWhole(name string, data []byte) error {
	tmp := name + ".part"
	if err := os.WriteFile(tmp, data, 0o644); err != nil {
		return err
	}
	return os.Rename(tmp, name)
}
