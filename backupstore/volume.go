package backupstore

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"

	"verimorph/core/backup"
)

// A volume is an age file whose plaintext is: the magic line, groups (zstd frames, back to back), the index (a zstd
// frame of JSON), and a trailer of fixed length that says where the index is. docs/formats/volume.md tells how to open
// one with age, zstd and jq.
const (
	volumeFormat = "verimorph-volume/1"
	magic        = "verimorph volume 1\n"
	trailerMark  = "vmvolend"
	trailerSize  = 8 + 8 + 32 + 8 // offset and length of the index, its sum, the mark
)

// groupSize bounds what is compressed together, in bytes before compression. What is alike lies side by side in a
// group; to open one thing, one group is read.
const groupSize = 8 << 20

// maxIndex bounds an index after decompression: no volume we write comes near.
const maxIndex = 256 << 20

// index is what a volume holds.
type index struct {
	Format  string   `json:"format"`
	Level   int      `json:"level"` // 0: as taken; n+1: made of volumes of level n
	Groups  []group  `json:"groups"`
	Bundles []string `json:"bundles"` // which objects are manifests, by sum
}

// group is one zstd frame: the objects in it follow one another.
type group struct {
	At      int64    `json:"at"` // of the frame, in the plaintext
	Size    int64    `json:"size"`
	SHA256  string   `json:"sha256"` // of the frame
	Objects []object `json:"objects"`
}

type object struct {
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
}

var (
	encoder, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithWindowSize(groupSize), zstd.WithEncoderConcurrency(2), zstd.WithEncoderCRC(false))
	decoder, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(1<<31), zstd.WithDecodeAllCapLimit(false))
)

// content is one thing to be written.
type content struct {
	sum  string
	data []byte
}

// writer writes a volume.
type writer struct {
	w     *bufio.Writer
	seal  io.WriteCloser
	at    int64
	idx   index
	group []content
	size  int64
}

func newWriter(w io.Writer, level int, recipients []age.Recipient) (*writer, error) {
	buffered := bufio.NewWriterSize(w, 256<<10)
	seal, err := age.Encrypt(buffered, recipients...)
	if err != nil {
		return nil, err
	}
	v := &writer{w: buffered, seal: seal, idx: index{Format: volumeFormat, Level: level, Groups: []group{}, Bundles: []string{}}}
	return v, v.write([]byte(magic))
}

func (v *writer) write(b []byte) error {
	n, err := v.seal.Write(b)
	v.at += int64(n)
	return err
}

// add puts a thing into the current group, and closes the group before when that would become too large.
func (v *writer) add(c content) error {
	if len(v.group) > 0 && v.size+int64(len(c.data)) > groupSize {
		if err := v.flush(); err != nil {
			return err
		}
	}
	v.group, v.size = append(v.group, c), v.size+int64(len(c.data))
	return nil
}

// run puts things that belong together into one group, when they fit into one at all.
func (v *writer) run(cs []content) error {
	var size int64
	for _, c := range cs {
		size += int64(len(c.data))
	}
	if v.size+size > groupSize {
		if err := v.flush(); err != nil {
			return err
		}
	}
	for _, c := range cs {
		if err := v.add(c); err != nil {
			return err
		}
	}
	return nil
}

func (v *writer) flush() error {
	if len(v.group) == 0 {
		return nil
	}
	raw := make([]byte, 0, v.size)
	g := group{At: v.at, Objects: make([]object, 0, len(v.group))}
	for _, c := range v.group {
		raw = append(raw, c.data...)
		g.Objects = append(g.Objects, object{c.sum, int64(len(c.data))})
	}
	frame := encoder.EncodeAll(raw, nil)
	g.Size, g.SHA256 = int64(len(frame)), sumOf(frame)
	v.idx.Groups = append(v.idx.Groups, g)
	v.group, v.size = v.group[:0], 0
	return v.write(frame)
}

// end writes index and trailer. The caller still has to make the file last.
func (v *writer) end() error {
	if err := v.flush(); err != nil {
		return err
	}
	data, err := json.Marshal(&v.idx)
	if err != nil {
		return err
	}
	frame := encoder.EncodeAll(data, nil)
	at, sum := v.at, sha256.Sum256(frame)
	trailer := make([]byte, 0, trailerSize)
	trailer = binary.BigEndian.AppendUint64(trailer, uint64(at))
	trailer = binary.BigEndian.AppendUint64(trailer, uint64(len(frame)))
	trailer = append(append(trailer, sum[:]...), trailerMark...)
	if err := v.write(append(frame, trailer...)); err != nil {
		return err
	}
	return errors.Join(v.seal.Close(), v.w.Flush())
}

// reader reads a volume. It may be used by several at once.
type reader struct {
	file  io.ReaderAt
	plain io.ReaderAt
	idx   index
}

// A DamageError says that a volume cannot be read, or not as a whole.
type DamageError struct {
	Volume string
	What   string
}

func (e *DamageError) Error() string { return fmt.Sprintf("volume %s: %s", e.Volume, e.What) }

// ErrKey is inside errors about volumes that none of the keys opens.
var ErrKey = errors.New("none of the keys opens it")

// openVolume reads the index of a volume. Errors are *DamageError, or wrap ErrKey or backup.ErrNewer.
func openVolume(name string, f io.ReaderAt, size int64, identities []age.Identity) (*reader, error) {
	damaged := func(format string, args ...any) error { return &DamageError{name, fmt.Sprintf(format, args...)} }
	plain, length, err := age.DecryptReaderAt(f, size, identities...)
	var none *age.NoIdentityMatchError
	switch {
	case errors.As(err, &none):
		return nil, fmt.Errorf("volume %s: %w", name, ErrKey)
	case err != nil:
		return nil, damaged("it cannot be decrypted (%s)", err)
	case length < int64(len(magic)+trailerSize):
		return nil, damaged("it is only %d bytes long", length)
	}
	head, trailer := make([]byte, len(magic)), make([]byte, trailerSize)
	if _, err := plain.ReadAt(head, 0); err != nil {
		return nil, damaged("its beginning is damaged")
	}
	if string(head) != magic {
		if bytes.HasPrefix(head, []byte("verimorph volume ")) {
			return nil, fmt.Errorf("volume %s: %w", name, backup.ErrNewer)
		}
		return nil, damaged("it is no volume of backups")
	}
	if err := readAt(plain, trailer, length-trailerSize); err != nil || string(trailer[48:]) != trailerMark {
		return nil, damaged("its end is damaged")
	}
	at, n := binary.BigEndian.Uint64(trailer), binary.BigEndian.Uint64(trailer[8:])
	if at > uint64(length) || n > uint64(length)-at {
		return nil, damaged("its end is damaged")
	}
	frame := make([]byte, n)
	if err := readAt(plain, frame, int64(at)); err != nil {
		return nil, damaged("its index is damaged")
	}
	if sum := sha256.Sum256(frame); !bytes.Equal(sum[:], trailer[16:48]) {
		return nil, damaged("its index is damaged")
	}
	data, err := inflate(frame, maxIndex)
	if err != nil {
		return nil, damaged("its index is damaged")
	}
	r := &reader{file: f, plain: plain}
	if err := json.Unmarshal(data, &r.idx); err != nil {
		return nil, damaged("its index cannot be read: %s", err)
	}
	if err := backup.CheckFormat(r.idx.Format, volumeFormat); err != nil {
		return nil, fmt.Errorf("volume %s: %w", name, err)
	}
	// The index speaks of what lies between the beginning and itself, without gaps: nothing is in a volume unsaid.
	next := int64(len(magic))
	for _, g := range r.idx.Groups {
		if g.At != next || g.Size <= 0 || g.Size > int64(at)-next {
			return nil, damaged("its index does not fit its content")
		}
		next += g.Size
	}
	if next != int64(at) {
		return nil, damaged("its index does not fit its content")
	}
	return r, nil
}

// readAt fills p; the end of the file right behind it is no error.
func readAt(r io.ReaderAt, p []byte, off int64) error {
	if len(p) == 0 {
		return nil
	}
	n, err := r.ReadAt(p, off)
	if n == len(p) {
		return nil
	}
	return err
}

// frame reads a group as it is stored, and proves that it is what was written.
func (r *reader) frame(g *group) ([]byte, error) {
	frame := make([]byte, g.Size)
	if err := readAt(r.plain, frame, g.At); err != nil {
		return nil, err
	}
	if sumOf(frame) != g.SHA256 {
		return nil, errors.New("it has another sum than when it was written")
	}
	return frame, nil
}

// unpack reads a group's objects, one after the other in one piece of memory.
func (r *reader) unpack(g *group) ([]byte, error) {
	frame, err := r.frame(g)
	if err != nil {
		return nil, err
	}
	return inflate(frame, g.raw())
}

func (g *group) raw() (n int64) {
	for _, o := range g.Objects {
		n += o.Size
	}
	return n
}

// inflate decompresses to at most limit bytes; more is an error.
func inflate(frame []byte, limit int64) ([]byte, error) {
	var h zstd.Header
	if err := h.Decode(frame); err != nil {
		return nil, err
	}
	if h.HasFCS && h.FrameContentSize > uint64(limit) {
		return nil, fmt.Errorf("it holds more than the %d bytes it should", limit)
	}
	data, err := decoder.DecodeAll(frame, make([]byte, 0, min(int64(h.FrameContentSize), limit)))
	if err == nil && int64(len(data)) > limit {
		err = fmt.Errorf("it holds more than the %d bytes it should", limit)
	}
	return data, err
}

func sumOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// OpenFile reads every bundle of one volume file and gives it to f, with its parts by name. It needs nothing but the
// file and a key; parts that lie in other volumes are given as missing.
func OpenFile(name string, identities []age.Identity, f func(m *backup.Manifest, parts map[string][]byte, missing []backup.Part) error) error {
	file, err := os.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	st, err := file.Stat()
	if err != nil {
		return err
	}
	r, err := openVolume(name, file, st.Size(), identities)
	if err != nil {
		return err
	}
	objects := map[string][]byte{}
	for i := range r.idx.Groups {
		g := &r.idx.Groups[i]
		raw, err := r.unpack(g)
		if err != nil {
			return &DamageError{name, fmt.Sprintf("group %d: %s", i+1, err)}
		}
		for _, o := range g.Objects {
			objects[o.SHA256], raw = raw[:o.Size], raw[o.Size:]
		}
	}
	for _, sum := range r.idx.Bundles {
		m, err := backup.Read(objects[sum])
		if err != nil {
			return fmt.Errorf("%s: bundle %.12s: %w", name, sum, err)
		}
		parts, missing := map[string][]byte{}, []backup.Part(nil)
		for _, p := range m.Parts {
			data, ok := objects[p.SHA256]
			if !ok {
				missing = append(missing, p)
				continue
			}
			if err := p.Fits(data); err != nil {
				return fmt.Errorf("%s: bundle %.12s: %w", name, sum, err)
			}
			parts[p.Name] = data
		}
		if err := f(m, parts, missing); err != nil {
			return err
		}
	}
	return nil
}
