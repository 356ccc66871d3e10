// Package backup defines backups. A [Manifest] describes a bundle: the parts that a device can give, their sums, and what could not be read. A
// [Schedule] says when bundles are due. [Retention] says which bundles may be deleted. [WriteArchive] and [ReadArchive] are the form in which
// a bundle leaves the service (docs/formats/bundle.md).
//
// The package only computes. The engine takes bundles, the backup store keeps them.
package backup

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"regexp"
	"strings"
	"time"
)

// Format is the format line of a manifest (docs/formats/bundle.md).
const Format = "verimorph-bundle/1"

// Kinds of parts.
const (
	Configuration = "configuration" // what the device does; may hold secrets
	Users         = "users"
	Licences      = "licences"
	Certificates  = "certificates" // and their keys
	Plan          = "plan"         // maps and plans: radio, ports, floors
	System        = "system"       // whole-system archive
	Boot          = "boot"         // what it starts from
	Portrait      = "portrait"     // what the device was when the bundle was taken
)

// Kinds lists the kinds of parts in the order in which people look for them.
var Kinds = []string{Configuration, Users, Licences, Certificates, Plan, System, Boot, Portrait}

// Reasons for taking a bundle.
const (
	OnDemand     = "demand"
	OnSchedule   = "schedule"
	BeforeChange = "change"
	Imported     = "import"
)

// A Manifest describes a bundle. Its JSON is what is stored and exported.
type Manifest struct {
	Format  string    `json:"format"`
	ID      string    `json:"id"` // drawn at random, so that two bundles are two things even when all parts are the same
	Device  string    `json:"device"`
	Maker   string    `json:"maker,omitempty"`
	Model   string    `json:"model,omitempty"`
	Serial  string    `json:"serial,omitempty"`
	Version string    `json:"version,omitempty"` // firmware that ran when it was taken
	Dialect string    `json:"dialect,omitempty"`
	TakenAt time.Time `json:"takenAt"`
	Reason  string    `json:"reason"`
	Parts   []Part    `json:"parts"`
	Lacks   []Lack    `json:"lacks,omitempty"`
}

// Roles of configurations.
const (
	Running = "running" // what is in use now
	Saved   = "saved"   // what is in use after a restart
)

// A Part is one thing the device gave.
type Part struct {
	Name    string `json:"name"` // as the dialect calls it, such as "running"
	Title   string `json:"title"`
	Kind    string `json:"kind"`
	Role    string `json:"role,omitempty"`   // Running or Saved; "" of other parts, and in bundles of before
	File    string `json:"file"`             // exact name under which the device knows it
	Syntax  string `json:"syntax,omitempty"` // of a configuration that can be read as a tree; else ""
	Version string `json:"version,omitempty"`
	SHA256  string `json:"sha256"`
	Size    int64  `json:"size"`
	By      string `json:"by"`    // how it was fetched
	Proof   string `json:"proof"` // how it was proved to be whole
}

// A Lack is a part that is not in the bundle.
type Lack struct {
	Name   string `json:"name"`
	Title  string `json:"title"`
	Kind   string `json:"kind"`
	Why    string `json:"why"`
	Needed bool   `json:"needed"` // a bundle without it is not complete
}

// Complete reports whether every part is there that a complete bundle of this device needs.
func (m *Manifest) Complete() bool {
	for _, l := range m.Lacks {
		if l.Needed {
			return false
		}
	}
	return len(m.Parts) > 0
}

// Part returns the part of that name, or nil.
func (m *Manifest) Part(name string) *Part {
	for i := range m.Parts {
		if m.Parts[i].Name == name {
			return &m.Parts[i]
		}
	}
	return nil
}

// Main returns the part that history, search and comparison speak of: the running configuration, else the first
// configuration, else nil.
func (m *Manifest) Main() *Part {
	var first *Part
	for i := range m.Parts {
		p := &m.Parts[i]
		if p.Kind != Configuration {
			continue
		}
		if p.Role == Running || p.Role == "" && p.Name == Running {
			return p
		}
		if first == nil {
			first = p
		}
	}
	return first
}

// A PartDifference is what became of one part from one bundle to another.
type PartDifference struct {
	Name, Title string
	State       string // "same", "changed", "missing" (only in the first), "new" (only in the second)
}

// Compare holds the parts of two bundles against each other, by name and sum. Portraits tell the time and are left out.
func Compare(a, b *Manifest) (out []PartDifference) {
	for i := range a.Parts {
		p := &a.Parts[i]
		if p.Kind == Portrait {
			continue
		}
		state := "missing"
		if q := b.Part(p.Name); q != nil {
			state = map[bool]string{true: "same", false: "changed"}[p.SHA256 == q.SHA256]
		}
		out = append(out, PartDifference{p.Name, p.Title, state})
	}
	for i := range b.Parts {
		if q := &b.Parts[i]; q.Kind != Portrait && a.Part(q.Name) == nil {
			out = append(out, PartDifference{q.Name, q.Title, "new"})
		}
	}
	return out
}

// Size is the sum of the parts' sizes in bytes.
func (m *Manifest) Size() (n int64) {
	for _, p := range m.Parts {
		n += p.Size
	}
	return n
}

// ErrNewer is inside errors about manifests and volumes that a newer version wrote.
var ErrNewer = errors.New("it was written by a newer version of Verimorph; use that version to read it")

var (
	sumForm  = regexp.MustCompile(`^[0-9a-f]{64}$`)
	nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)
)

// Read reads and checks a manifest.
func Read(data []byte) (*Manifest, error) {
	var head struct{ Format string }
	if err := json.Unmarshal(data, &head); err != nil {
		return nil, fmt.Errorf("the manifest is no JSON: %w", err)
	}
	if err := CheckFormat(head.Format, Format); err != nil {
		return nil, err
	}
	var m Manifest
	if err := json.Unmarshal(data, &m); err != nil {
		return nil, fmt.Errorf("the manifest does not fit %s: %w", Format, err)
	}
	return &m, m.Check()
}

// CheckFormat holds a format line against the one that is known: another number after the slash is a newer format.
func CheckFormat(got, known string) error {
	if got == known {
		return nil
	}
	base, _, _ := strings.Cut(known, "/")
	if g, _, ok := strings.Cut(got, "/"); ok && g == base {
		return fmt.Errorf("its format is %s, this version reads %s: %w", got, known, ErrNewer)
	}
	return fmt.Errorf("format %q is not %s", got, known)
}

// Check fails when the manifest cannot be true: sums that are none, names that are used twice or lead out of a folder.
func (m *Manifest) Check() error {
	if m.ID == "" || m.Device == "" {
		return errors.New("the manifest names no id or no device")
	}
	names, files := map[string]bool{}, map[string]bool{}
	for _, p := range m.Parts {
		switch {
		case !nameForm.MatchString(p.Name):
			return fmt.Errorf("part %q: a name has up to 63 small letters, digits and dashes", p.Name)
		case names[p.Name]:
			return fmt.Errorf("part %s is there twice", p.Name)
		case !SafeFile(p.File):
			return fmt.Errorf("part %s: %q is no file name", p.Name, p.File)
		case files[p.File]:
			return fmt.Errorf("two parts are called %s", p.File)
		case !sumForm.MatchString(p.SHA256):
			return fmt.Errorf("part %s: %q is no SHA-256 sum", p.Name, p.SHA256)
		case p.Size < 0:
			return fmt.Errorf("part %s has %d bytes", p.Name, p.Size)
		}
		names[p.Name], files[p.File] = true, true
	}
	return nil
}

// SafeFile reports whether a file name may be written below a folder: no way up, no absolute path, no odd characters,
// and none of the names an archive has for itself.
func SafeFile(name string) bool {
	if name == "" || len(name) > 255 || path.IsAbs(name) || path.Clean(name) != name || name == ".." || strings.HasPrefix(name, "../") || name == "." {
		return false
	}
	for _, r := range name {
		if r < ' ' || r == 0x7f || r == '\\' || r == ':' {
			return false
		}
	}
	return true
}
