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
// there already are left alone. It fails when an image does not come out with the hash the catalogue states.
func MakeAll(c *catalog.Catalogue, dir string) ([]string, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	var files []string
	for _, f := range c.Families {
		for _, r := range f.Releases {
			for _, im := range r.Images {
				name := filepath.Join(dir, im.File)
				files = append(files, name)
				if st, err := os.Stat(name); err == nil && st.Size() == im.Size {
					continue
				}
				var b bytes.Buffer
				h := Header{Maker: f.Maker, Models: im.Models, Version: r.Version.String(), Payload: im.Size - HeaderSize}
				if err := Make(&b, &h); err != nil {
					return nil, err
				}
				if sum := sha256.Sum256(b.Bytes()); hex.EncodeToString(sum[:]) != im.SHA256 {
					return nil, fmt.Errorf("%s came out as %x, but %s says %s", im.File, sum, f.File, im.SHA256)
				}
				if err := writeWhole(name, b.Bytes()); err != nil {
					return nil, err
				}
			}
		}
	}
	return files, nil
}

// writeWhole writes a file so that it is there completely or not at all.
func writeWhole(name string, data []byte) error {
	tmp := name + ".part"
	if err := os.WriteFile(tmp, data, 0o644); err != nil {
		return err
	}
	return os.Rename(tmp, name)
}
