// Package vault encrypts secrets at rest: device passwords and configuration backups. It uses age with the X25519 key
// of the installation, which lives in a file of its own that only its owner may read.
//
// Every sealed text is bound to a label, such as "device hollen-fw1 password", so that a sealed text that was moved to
// another place in the database does not open there.
package vault

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"
)

// A Vault seals and opens with one key.
type Vault struct {
	key *age.X25519Identity
}

// Open reads the key file, or makes a new key when there is none. It refuses a key file that others may read.
func Open(file string) (*Vault, error) {
	st, err := os.Stat(file)
	if errors.Is(err, os.ErrNotExist) {
		return create(file)
	}
	if err != nil {
		return nil, err
	}
	if st.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("key file %s may be read by others (mode %04o); make it private with: chmod 600 %s", file, st.Mode().Perm(), file)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	for _, line := range strings.Split(string(data), "\n") {
		if line = strings.TrimSpace(line); line == "" || line[0] == '#' {
			continue
		}
		key, err := age.ParseX25519Identity(line)
		if err != nil {
			return nil, fmt.Errorf("key file %s is damaged: it does not hold an age key; put the original back, without it nothing that is encrypted can be read", file)
		}
		return &Vault{key}, nil
	}
	return nil, fmt.Errorf("key file %s holds no key", file)
}

func create(file string) (*Vault, error) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	if _, err = fmt.Fprintf(f, "# The key of this Verimorph installation. Keep a copy offline: without it no secret and no backup can be read.\n%s\n", key); err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		_ = os.Remove(file) // half a key is worse than none
		return nil, err
	}
	return &Vault{key}, nil
}

// Digest is a keyed hash of data: equal data have equal digests, and nobody without the key can guess data from one.
func (v *Vault) Digest(data []byte) string {
	h := hmac.New(sha256.New, []byte("digest "+v.key.String()))
	h.Write(data)
	return hex.EncodeToString(h.Sum(nil))
}

// Seal encrypts data under a label.
func (v *Vault) Seal(label string, data []byte) ([]byte, error) {
	var b bytes.Buffer
	w, err := age.Encrypt(&b, v.key.Recipient())
	if err != nil {
		return nil, err
	}
	_, err1 := io.WriteString(w, label+"\n")
	_, err2 := w.Write(data)
	err = errors.Join(err1, err2, w.Close())
	return b.Bytes(), err
}

// Open decrypts what was sealed under the same label.
func (v *Vault) Open(label string, sealed []byte) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), v.key)
	if err != nil {
		return nil, fmt.Errorf("%s: cannot be opened: it is damaged or was sealed with another key", label)
	}
	data, err := io.ReadAll(r)
	if err != nil {
		return nil, fmt.Errorf("%s: is damaged", label)
	}
	got, rest, ok := bytes.Cut(data, []byte("\n"))
	if !ok || string(got) != label {
		return nil, fmt.Errorf("%s: what is stored here belongs elsewhere", label)
	}
	return rest, nil
}
