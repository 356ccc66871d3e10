// Package media defines the medium that a person carries to a site without a usable network. A [Manifest] says what belongs on it, [Fits]
// whether the file system takes it, and [Check] whether a returned medium is complete and unchanged.
//
// A medium holds the image files of a change, SHA256SUMS in the form of coreutils, a manifest (manifest.json) and a one-page instruction sheet. Names
// and sizes fit the FAT32 file system, because that is what devices read. docs/formats/medium.md has the format.
package media

import (
	"bufio"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf16"
)

// Names of the files that are not images.
const (
	SumsFile     = "SHA256SUMS"
	ManifestFile = "manifest.json"
	SheetFile    = "INSTRUCTIONS.html"
)

// Limits of FAT32 (Microsoft Extensible Firmware Initiative FAT32 File System Specification): a file's size is kept in
// 32 bits, a long name in at most 255 UTF-16 units.
const (
	MaxFile = 1<<32 - 1
	MaxName = 255
)

// Format names this generation of manifests.
const Format = "verimorph-medium/1"

// A Manifest says what a medium was made for.
type Manifest struct {
	Format string `json:"format"`
	Change int64  `json:"change"`
	Device string `json:"device"`
	Model  string `json:"model"`
	From   string `json:"from"`
	To     string `json:"to"`
	MadeAt string `json:"madeAt"` // RFC 3339
	Files  []File `json:"files"`
	// Of a medium that is kept to bring a device back, and is for no change.
	Label  string `json:"label,omitempty"`
	Backup int64  `json:"backup,omitempty"` // whose archive is on it
}

// A File is one file of a medium.
type File struct {
	Name    string `json:"name"`
	Size    int64  `json:"size"` // bytes
	SHA256  string `json:"sha256"`
	Version string `json:"version"`
	Role    string `json:"role"` // "install", "base" or a component's name
	Hop     int    `json:"hop"`  // first hop that needs it, from 1
}

var reserved = regexp.MustCompile(`(?i)^(con|prn|aux|nul|com[0-9]|lpt[0-9])(\.|$)`)

// Fits lists what keeps files from being put on a FAT32 medium, in words; empty when they fit.
func Fits(files []File) (problems []string) {
	seen := map[string]string{}
	for _, f := range files {
		bad := func(format string, args ...any) {
			problems = append(problems, fmt.Sprintf("%s: ", f.Name)+fmt.Sprintf(format, args...))
		}
		if f.Size > MaxFile {
			bad("%d bytes are more than FAT32 can keep in one file (%d)", f.Size, int64(MaxFile))
		}
		if n := len(utf16.Encode([]rune(f.Name))); n == 0 || n > MaxName {
			bad("a name of %d characters does not fit (1 to %d)", n, MaxName)
		}
		if i := strings.IndexFunc(f.Name, func(r rune) bool { return r < 0x20 || strings.ContainsRune(`"*/:<>?\|`, r) }); i >= 0 {
			bad("the character %q is not allowed in a name", f.Name[i])
		}
		if strings.HasSuffix(f.Name, ".") || strings.HasSuffix(f.Name, " ") {
			bad("a name must not end with a dot or a space")
		}
		if reserved.MatchString(f.Name) {
			bad("the name is reserved on many computers")
		}
		low := strings.ToLower(f.Name)
		if other, ok := seen[low]; ok {
			bad("differs from %s only in upper and lower case", other)
		}
		for _, own := range []string{SumsFile, ManifestFile, SheetFile} {
			if strings.EqualFold(own, f.Name) {
				bad("the medium keeps a file of its own under this name")
			}
		}
		seen[low] = f.Name
	}
	return problems
}

// A Sum is one line of a SHA256SUMS file.
type Sum struct{ SHA256, Name string }

var sumLine = regexp.MustCompile(`^([0-9a-fA-F]{64}) [ *](.+)$`)

// ReadSums reads a file in the form that coreutils' sha256sum writes and checks. Lines that are not in this form are an
// error with their number.
func ReadSums(r io.Reader) (out []Sum, err error) {
	lines := bufio.NewScanner(r)
	for n := 1; lines.Scan(); n++ {
		text := strings.TrimRight(lines.Text(), "\r")
		if text == "" || strings.HasPrefix(text, "#") {
			continue
		}
		m := sumLine.FindStringSubmatch(text)
		if m == nil {
			return nil, fmt.Errorf("line %d: %.40q is not \"SHA-256, two spaces, name\"", n, text)
		}
		out = append(out, Sum{strings.ToLower(m[1]), m[2]})
	}
	return out, lines.Err()
}

// WriteSums writes the lines that sha256sum would.
func WriteSums(w io.Writer, sums []Sum) error {
	for _, s := range sums {
		if _, err := fmt.Fprintf(w, "%s  %s\n", s.SHA256, s.Name); err != nil {
			return err
		}
	}
	return nil
}

// A Found file is one that lies on a medium, with what it really is.
type Found struct {
	Name   string
	Size   int64
	SHA256 string
}

// Check compares what lies on a medium with what its manifest says, in words; empty when all is right.
func Check(m *Manifest, found []Found) (problems []string) {
	for _, f := range m.Files {
		i := slices.IndexFunc(found, func(x Found) bool { return strings.EqualFold(x.Name, f.Name) })
		switch {
		case i < 0:
			problems = append(problems, f.Name+": is missing")
		case found[i].Size != f.Size:
			problems = append(problems, fmt.Sprintf("%s: has %d bytes instead of %d", f.Name, found[i].Size, f.Size))
		case found[i].SHA256 != f.SHA256:
			problems = append(problems, f.Name+": its content was changed (SHA-256 differs)")
		}
	}
	for _, x := range found {
		own := x.Name == SumsFile || x.Name == ManifestFile || x.Name == SheetFile
		if !own && !slices.ContainsFunc(m.Files, func(f File) bool { return strings.EqualFold(x.Name, f.Name) }) {
			problems = append(problems, x.Name+": does not belong on this medium")
		}
	}
	return problems
}
