// Package vault encrypts secrets at rest. There are two layers of keys. The key of the installation is an age X25519
// identity in a file of its own that only its owner may read; backups are encrypted to it. Secrets in the records are
// encrypted with data keys (XChaCha20-Poly1305), which lie in the records wrapped with age to the key of the
// installation. Both can be changed while the service runs: a new data key encrypts from then on and older ones still
// decrypt until everything was sealed anew; a new installation key wraps the data keys anew.
//
// Every sealed text is bound to a label, such as "credential 7", so that a sealed text that was moved to another place in
// the records does not open there.
package vault

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"golang.org/x/crypto/chacha20poly1305"
)

// A DataKey is one as the records keep it.
type DataKey struct {
	ID        int32
	Wrapped   []byte // with age, to Recipient
	Recipient string // the installation key's public half
	MadeAt    time.Time
}

// A Ring is where data keys are kept.
type Ring interface {
	// DataKeys returns all, oldest first.
	DataKeys(ctx context.Context) ([]DataKey, error)
	// AddDataKey keeps one. first says that it is added only when there is none yet.
	AddDataKey(ctx context.Context, k DataKey, first bool) error
	// Rewrap replaces the wrapping of all at once.
	Rewrap(ctx context.Context, wrap func(DataKey) (DataKey, error)) error
}

// A Vault seals and opens.
type Vault struct {
	file    string
	ring    Ring
	offline []age.Recipient

	mu         sync.Mutex
	stamp      string // of the key file as it was read
	identities []*age.X25519Identity
	keys       map[int32][]byte
	oldest     int32
	newest     DataKey
}

// Open reads the key file. It makes a new key only when the records were never encrypted with one; a key that is missing,
// may be read by others, or is not the one the records need is refused, with what to do. offline are recipients beside the
// installation that can read backups, too.
func Open(ctx context.Context, file string, ring Ring, offline ...age.Recipient) (*Vault, error) {
	v := &Vault{file: file, ring: ring, offline: offline}
	kept, err := ring.DataKeys(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(file); errors.Is(err, os.ErrNotExist) {
		if len(kept) > 0 {
			return nil, fmt.Errorf("key file %s is missing, but the records are encrypted with the key %s. Put that file back from your offline copy and start again. Without it no secret and no backup can be read; to begin anew, use an empty database and an empty data folder", file, kept[0].Recipient)
		}
		if err := create(file); err != nil && !errors.Is(err, os.ErrExist) { // two services may start at once
			return nil, err
		}
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.readFile(); err != nil {
		return nil, err
	}
	if len(kept) == 0 {
		key := make([]byte, chacha20poly1305.KeySize)
		_, _ = rand.Read(key)
		k, err := v.wrap(DataKey{}, key)
		if err == nil {
			err = ring.AddDataKey(ctx, k, true)
		}
		if err != nil {
			return nil, err
		}
	}
	return v, v.readRing(ctx)
}

// readFile reads the identities: the first is the installation's key, others are older ones that are on their way out.
func (v *Vault) readFile() error {
	st, err := os.Stat(v.file)
	if err != nil {
		return err
	}
	stamp := fmt.Sprint(st.ModTime().UnixNano(), st.Size())
	if stamp == v.stamp {
		return nil
	}
	if st.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("key file %s may be read by others (mode %04o); make it private with: chmod 600 %s", v.file, st.Mode().Perm(), v.file)
	}
	identities, err := ReadKeyFile(v.file)
	if err != nil {
		return err
	}
	v.identities, v.stamp = identities, stamp
	return nil
}

// ReadKeyFile reads the age identities in a file, one a line; lines that begin with # are comments.
func ReadKeyFile(file string) (out []*age.X25519Identity, err error) {
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
		out = append(out, key)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("key file %s holds no key", file)
	}
	return out, nil
}

// readRing opens the data keys.
func (v *Vault) readRing(ctx context.Context) error {
	kept, err := v.ring.DataKeys(ctx)
	if err != nil {
		return err
	}
	keys := map[int32][]byte{}
	for _, k := range kept {
		key, err := v.unwrap(k)
		if err != nil {
			return err
		}
		keys[k.ID] = key
	}
	v.keys, v.oldest, v.newest = keys, kept[0].ID, kept[len(kept)-1]
	return nil
}

func (v *Vault) wrap(k DataKey, key []byte) (DataKey, error) {
	var b bytes.Buffer
	w, err := age.Encrypt(&b, v.identities[0].Recipient())
	if err != nil {
		return k, err
	}
	_, err = w.Write(key)
	k.Wrapped, k.Recipient = nil, v.identities[0].Recipient().String()
	if err = errors.Join(err, w.Close()); err == nil {
		k.Wrapped = b.Bytes()
	}
	return k, err
}

func (v *Vault) unwrap(k DataKey) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(k.Wrapped), v.all()...)
	if err != nil {
		return nil, fmt.Errorf("key file %s holds the key %s, but the records are encrypted with %s. Put the right key file there and start again; nothing was changed", v.file, v.identities[0].Recipient(), k.Recipient)
	}
	key, err := io.ReadAll(r)
	if err == nil && len(key) != chacha20poly1305.KeySize {
		err = errors.New("it has another length than a key")
	}
	if err != nil {
		return nil, fmt.Errorf("data key %d in the records is damaged: %w", k.ID, err)
	}
	return key, nil
}

func (v *Vault) all() (out []age.Identity) {
	for _, id := range v.identities {
		out = append(out, id)
	}
	return out
}

func create(file string) error {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return writeKeys(file, false, key)
}

// writeKeys writes a key file whole or not at all. Without replace it fails when there is one.
func writeKeys(file string, replace bool, keys ...*age.X25519Identity) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".key-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	text := "# The key of this Verimorph installation. Keep a copy offline: without it no secret and no backup can be read.\n"
	for i, k := range keys {
		if i == 1 {
			text += "# Older keys, until everything is encrypted with the one above.\n"
		}
		text += k.String() + "\n"
	}
	if _, err = f.WriteString(text); err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if replace {
		return os.Rename(f.Name(), file)
	}
	return os.Link(f.Name(), file)
}

// Recipients are those who can read backups: the installation, and whoever keeps an offline key.
func (v *Vault) Recipients() ([]age.Recipient, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.readFile(); err != nil {
		return nil, err
	}
	return append([]age.Recipient{v.identities[0].Recipient()}, v.offline...), nil
}

// Identities are the keys that open backups, the installation's own first.
func (v *Vault) Identities() ([]age.Identity, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.readFile(); err != nil {
		return nil, err
	}
	return v.all(), nil
}

// A State is what may be told about the keys.
type State struct {
	Recipient string   // public half of the installation's key
	Older     []string // of keys that are on their way out
	Offline   int      // further recipients of backups
	DataKey   int32    // that encrypts now
	DataKeyAt time.Time
	DataKeys  int
}

// State looks at the keys.
func (v *Vault) State(ctx context.Context) (State, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := errors.Join(v.readFile(), v.readRing(ctx)); err != nil {
		return State{}, err
	}
	out := State{Recipient: v.identities[0].Recipient().String(), Offline: len(v.offline), DataKey: v.newest.ID, DataKeyAt: v.newest.MadeAt, DataKeys: len(v.keys)}
	for _, id := range v.identities[1:] {
		out.Older = append(out.Older, id.Recipient().String())
	}
	return out, nil
}

// RotateDataKey makes a new data key; what is sealed from now on is sealed with it. The caller seals the rest anew.
func (v *Vault) RotateDataKey(ctx context.Context) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.readFile(); err != nil {
		return err
	}
	key := make([]byte, chacha20poly1305.KeySize)
	_, _ = rand.Read(key)
	k, err := v.wrap(DataKey{}, key)
	if err != nil {
		return err
	}
	if err := v.ring.AddDataKey(ctx, k, false); err != nil {
		return err
	}
	return v.readRing(ctx)
}

// RotateKey makes a new key of the installation and wraps the data keys to it. The older one stays in the file until
// DropOlder, because backups need it until they have been encrypted anew. Cut short anywhere, it is taken up by
// FinishRotation.
func (v *Vault) RotateKey(ctx context.Context) error {
	fresh, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	v.mu.Lock()
	if err := v.readFile(); err != nil {
		v.mu.Unlock()
		return err
	}
	err = writeKeys(v.file, true, append([]*age.X25519Identity{fresh}, v.identities...)...)
	v.mu.Unlock()
	if err != nil {
		return fmt.Errorf("the new key cannot be written, the old one stays: %w", err)
	}
	return v.FinishRotation(ctx)
}

// FinishRotation wraps every data key to the first key of the file.
func (v *Vault) FinishRotation(ctx context.Context) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.readFile(); err != nil {
		return err
	}
	now := v.identities[0].Recipient().String()
	return v.ring.Rewrap(ctx, func(k DataKey) (DataKey, error) {
		if k.Recipient == now {
			return k, nil
		}
		key, err := v.unwrap(k)
		if err != nil {
			return k, err
		}
		return v.wrap(k, key)
	})
}

// DropOlder takes older keys out of the file. Call it only when nothing needs them any more.
func (v *Vault) DropOlder(ctx context.Context) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.readFile(); err != nil {
		return err
	}
	kept, err := v.ring.DataKeys(ctx)
	if err != nil {
		return err
	}
	for _, k := range kept {
		if k.Recipient != v.identities[0].Recipient().String() {
			return fmt.Errorf("data key %d still needs the older key %s", k.ID, k.Recipient)
		}
	}
	if len(v.identities) == 1 {
		return nil
	}
	return writeKeys(v.file, true, v.identities[0])
}

// Digest is a keyed hash of data: equal data have equal digests, and nobody without the key can guess data from one.
func (v *Vault) Digest(data []byte) string {
	v.mu.Lock()
	key := v.keys[v.oldest] // it never changes
	v.mu.Unlock()
	h := hmac.New(sha256.New, append([]byte("digest "), key...))
	h.Write(data)
	return hex.EncodeToString(h.Sum(nil))
}

// A sealed text begins with this, then come the number of the data key (4 bytes, network order) and the nonce.
const sealedMark = "vms1"

// Seal encrypts data under a label.
func (v *Vault) Seal(label string, data []byte) ([]byte, error) {
	v.mu.Lock()
	id, key := v.newest.ID, v.keys[v.newest.ID]
	v.mu.Unlock()
	c, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	out := binary.BigEndian.AppendUint32([]byte(sealedMark), uint32(id))
	nonce := make([]byte, c.NonceSize())
	_, _ = rand.Read(nonce)
	out = append(out, nonce...)
	return c.Seal(out, nonce, data, append(out[:len(sealedMark)+4:len(sealedMark)+4], label...)), nil
}

// Open decrypts what was sealed under the same label.
func (v *Vault) Open(label string, sealed []byte) ([]byte, error) {
	head := len(sealedMark) + 4
	if len(sealed) < head+chacha20poly1305.NonceSizeX || string(sealed[:len(sealedMark)]) != sealedMark {
		return v.openFirst(label, sealed)
	}
	id := int32(binary.BigEndian.Uint32(sealed[len(sealedMark):]))
	v.mu.Lock()
	key, ok := v.keys[id]
	if !ok { // another process has made a new one
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		_ = errors.Join(v.readFile(), v.readRing(ctx))
		cancel()
		key, ok = v.keys[id]
	}
	v.mu.Unlock()
	if !ok {
		return nil, fmt.Errorf("%s: is damaged, or was sealed with data key %d, which the records do not have", label, id)
	}
	c, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	nonce, text := sealed[head:head+c.NonceSize()], sealed[head+c.NonceSize():]
	data, err := c.Open(nil, nonce, text, append(bytes.Clone(sealed[:head]), label...))
	if err != nil {
		return nil, fmt.Errorf("%s: is damaged, or belongs elsewhere", label)
	}
	return data, nil
}

// Stale reports whether a sealed text should be sealed anew: with the newest data key.
func (v *Vault) Stale(sealed []byte) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	return len(sealed) < len(sealedMark)+4 || string(sealed[:len(sealedMark)]) != sealedMark || int32(binary.BigEndian.Uint32(sealed[len(sealedMark):])) != v.newest.ID
}

// openFirst decrypts what the first versions sealed: age to the installation's key, the label on the first line.
func (v *Vault) openFirst(label string, sealed []byte) ([]byte, error) {
	v.mu.Lock()
	identities := v.all()
	v.mu.Unlock()
	r, err := age.Decrypt(bytes.NewReader(sealed), identities...)
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
