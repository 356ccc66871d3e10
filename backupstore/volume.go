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
	"sync"

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
const groupSize = 4 << 20

// maxIndex bounds an index after decompression: no volume we write comes near.
const maxIndex = 256 << 20

// digest is a SHA-256 sum.
type digest [sha256.Size]byte

func (d digest) String() string { return hex.EncodeToString(d[:]) }

func digestOf(data []byte) digest { return sha256.Sum256(data) }

func parseDigest(s string) (d digest, err error) {
	b, err := hex.DecodeString(s)
	if err != nil || len(b) != len(d) {
		return d, fmt.Errorf("%q is not a SHA-256 sum", s)
	}
	return digest(b), nil
}

// index is what a volume holds.
type index struct {
	Level   int // 0: as taken; n+1: made of volumes of level n
	Groups  []group
	Bundles []entry
	Alone   bool // all that its bundles are made of lies in it
}

// group is one zstd frame: the objects in it follow one another.
type group struct {
	At      int64 // of the frame, in the plaintext
	Size    int64
	Sum     digest // of the frame
	Objects []object
}

type object struct {
	Sum  digest
	Size int64
}

// entry says which contents a bundle is made of; they may lie in other volumes.
type entry struct {
	Manifest digest
	Parts    []digest
}

// indexHead is the first line of an index. Behind it stand, as binary numbers in network order: for each object, in the
// order in which they lie in the groups, its sum and its size (8 bytes); for each bundle the number of its parts (4 bytes)
// and the sums of its manifest and of its parts, each as the number of an object (4 bytes), or as all ones and the sum
// itself where the object lies elsewhere.
type indexHead struct {
	Format  string      `json:"format"`
	Level   int         `json:"level"`
	Groups  []groupHead `json:"groups"`
	Bundles int         `json:"bundles"`
}

type groupHead struct {
	Size    int64  `json:"size"`
	SHA256  string `json:"sha256"`
	Objects int    `json:"objects"`
}

const elsewhere = 1<<32 - 1

func (x *index) encode() ([]byte, error) {
	head := indexHead{volumeFormat, x.Level, make([]groupHead, 0, len(x.Groups)), len(x.Bundles)}
	for _, g := range x.Groups {
		head.Groups = append(head.Groups, groupHead{g.Size, g.Sum.String(), len(g.Objects)})
	}
	out, err := json.Marshal(head)
	if err != nil {
		return nil, err
	}
	out = append(out, '\n')
	number := map[digest]uint32{}
	for _, g := range x.Groups {
		for _, o := range g.Objects {
			number[o.Sum] = uint32(len(number))
			out = binary.BigEndian.AppendUint64(append(out, o.Sum[:]...), uint64(o.Size))
		}
	}
	refer := func(d digest) {
		if n, ok := number[d]; ok {
			out = binary.BigEndian.AppendUint32(out, n)
		} else {
			out = append(binary.BigEndian.AppendUint32(out, elsewhere), d[:]...)
		}
	}
	for _, b := range x.Bundles {
		out = binary.BigEndian.AppendUint32(out, uint32(len(b.Parts)))
		refer(b.Manifest)
		for _, p := range b.Parts {
			refer(p)
		}
	}
	return out, nil
}

var errIndex = errors.New("its index does not fit its content")

// decodeIndex reads an index. first is where the first group lies, end where the last one ends: between them there is
// nothing that the index does not speak of.
func decodeIndex(data []byte, first, end int64) (*index, error) {
	line, rest, ok := bytes.Cut(data, []byte("\n"))
	if !ok {
		return nil, errIndex
	}
	var head indexHead
	if err := json.Unmarshal(line, &head); err != nil {
		return nil, errIndex
	}
	if err := backup.CheckFormat(head.Format, volumeFormat); err != nil {
		return nil, err
	}
	take := func(n int) []byte {
		if n < 0 || n > len(rest) {
			ok = false
			return make([]byte, min(max(n, 0), sha256.Size+8))
		}
		b := rest[:n]
		rest = rest[n:]
		return b
	}
	// What the rest has room for bounds what a false number can ask for.
	x := &index{Level: head.Level, Alone: true, Bundles: make([]entry, 0, max(0, min(head.Bundles, len(rest)/8)))}
	all, objects, parts := make([]digest, 0, len(rest)/(sha256.Size+8)), make([]object, len(rest)/(sha256.Size+8)), make([]digest, 0, len(rest)/8)
	at := first
	for _, gh := range head.Groups {
		sum, err := parseDigest(gh.SHA256)
		if err != nil || gh.Size <= 0 || gh.Size > end-at || gh.Objects <= 0 || gh.Objects > len(rest)/(sha256.Size+8) {
			return nil, errIndex
		}
		g := group{at, gh.Size, sum, objects[:gh.Objects:gh.Objects]}
		objects = objects[gh.Objects:]
		for i := range g.Objects {
			g.Objects[i] = object{digest(take(sha256.Size)), int64(binary.BigEndian.Uint64(take(8)))}
			if g.Objects[i].Size < 0 || g.Objects[i].Size > MaxPart {
				return nil, errIndex
			}
			all = append(all, g.Objects[i].Sum)
		}
		x.Groups = append(x.Groups, g)
		at += gh.Size
	}
	refer := func() digest {
		switch n := binary.BigEndian.Uint32(take(4)); {
		case n == elsewhere:
			x.Alone = false
			return digest(take(sha256.Size))
		case int64(n) < int64(len(all)):
			return all[n]
		}
		ok = false
		return digest{}
	}
	for range head.Bundles {
		n := binary.BigEndian.Uint32(take(4))
		if !ok || int64(n) > int64(len(rest)/4) {
			return nil, errIndex
		}
		manifest, from := refer(), len(parts)
		for range n {
			parts = append(parts, refer())
		}
		x.Bundles = append(x.Bundles, entry{manifest, parts[from:len(parts):len(parts)]})
	}
	if !ok || len(rest) > 0 || at != end {
		return nil, errIndex
	}
	return x, nil
}

// What was just taken is compressed quickly; it is compressed well when it is joined.
var (
	quick, _   = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(1<<20), zstd.WithEncoderConcurrency(2), zstd.WithLowerEncoderMem(true), zstd.WithEncoderCRC(false))
	encoder, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithWindowSize(groupSize), zstd.WithEncoderConcurrency(2), zstd.WithEncoderCRC(false))
	decoder, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(1<<31), zstd.WithDecodeAllCapLimit(false))
)

// content is one thing to be written.
type content struct {
	sum  digest
	data []byte
}

// writer writes a volume.
type writer struct {
	encoder *zstd.Encoder
	w       *bufio.Writer
	seal    io.WriteCloser
	at      int64
	idx     index
	group   []content
	size    int64
}

func newWriter(w io.Writer, level int, recipients []age.Recipient) (*writer, error) {
	buffered := bufio.NewWriterSize(w, 64<<10)
	seal, err := age.Encrypt(buffered, recipients...)
	if err != nil {
		return nil, err
	}
	v := &writer{encoder: encoder, w: buffered, seal: seal, idx: index{Level: level}}
	if level == 0 {
		v.encoder = quick
	}
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

// room begins a new group when so many bytes that belong together do not fit into this one any more.
func (v *writer) room(size int64) error {
	if v.size+size > groupSize {
		return v.flush()
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
	frame := v.encoder.EncodeAll(raw, nil)
	g.Size, g.Sum = int64(len(frame)), digestOf(frame)
	v.idx.Groups = append(v.idx.Groups, g)
	v.group, v.size = v.group[:0], 0
	return v.write(frame)
}

// end writes index and trailer. The caller still has to make the file last.
func (v *writer) end() error {
	if err := v.flush(); err != nil {
		return err
	}
	data, err := v.idx.encode()
	if err != nil {
		return err
	}
	frame := v.encoder.EncodeAll(data, nil)
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
	idx   *index
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
	var sum digest
	var proof sync.WaitGroup
	proof.Go(func() { sum = sha256.Sum256(frame) })
	data, err := inflate(frame, maxIndex)
	if proof.Wait(); err != nil || !bytes.Equal(sum[:], trailer[16:48]) {
		return nil, damaged("its index is damaged")
	}
	idx, err := decodeIndex(data, int64(len(magic)), int64(at))
	switch {
	case errors.Is(err, backup.ErrNewer):
		return nil, fmt.Errorf("volume %s: %w", name, err)
	case err != nil:
		return nil, damaged("%s", err)
	}
	return &reader{file: f, plain: plain, idx: idx}, nil
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
func (r *reader) frame(g *group) ([]byte, error) { return r.frameIn(g, nil) }

// frameIn is frame into memory that may serve again where it is large enough.
func (r *reader) frameIn(g *group, memory []byte) ([]byte, error) {
	frame := memory[:0]
	if int64(cap(frame)) < g.Size {
		frame = make([]byte, g.Size)
	}
	frame = frame[:g.Size]
	if err := readAt(r.plain, frame, g.At); err != nil {
		return nil, err
	}
	if digestOf(frame) != g.Sum {
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
