// Package box holds what all simulated devices share: how the simulation handles one of any maker ([Box]), what can go wrong with it
// ([Fault]), how to get into it ([Access]), and its network side ([Host]): an SSH server whose address opens and closes as the box comes up
// and goes down, and a console line that stays.
//
// What a box is and says is in the packages of the makers. Nothing here is shared with the code that talks to devices.
package box

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// A Box is a simulated device of any maker.
type Box interface {
	// Start begins to answer at its addresses; it fails when one cannot be had. Stop cuts every connection, as if the power went. The state
	// stays on disk.
	Start() error
	Stop()
	// Reset unpacks the box anew. Its ways in stay.
	Reset() error
	// Arm gives it a fault, Heal takes one away.
	Arm(name string, f Fault) error
	Heal(name string) error
	Access() Access
	Look() Look
}

// A Fault is something that goes wrong with a box.
type Fault struct {
	Value int64 `json:"value,omitempty" yaml:"value"` // what it means depends on the fault
	Times int   `json:"times,omitempty" yaml:"times"` // how often it strikes; 0: once, below 0: always
	Hit   bool  `json:"hit,omitempty" yaml:"-"`       // it has struck
	Count int   `json:"count,omitempty" yaml:"-"`     // how often
	Taken int64 `json:"taken,omitempty" yaml:"-"`     // bytes that something else fills
}

// Armed reports whether it strikes the next time.
func (f Fault) Armed() bool { return f.Count < max(f.Times, 1) || f.Times < 0 }

// Faults are the faults of a box by name.
type Faults map[string]Fault

// Hit lets an armed fault strike and reports whether it did.
func (fs Faults) Hit(name string) bool {
	f, ok := fs[name]
	if !ok || !f.Armed() {
		return false
	}
	f.Hit = true
	f.Count++
	fs[name] = f
	return true
}

// A FaultKind is a fault that a box knows.
type FaultKind struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Known returns an error when a fault is not among those that a box knows.
func Known(name string, names []string) error {
	if slices.Contains(names, name) {
		return nil
	}
	return fmt.Errorf("fault %q is not known; known: %s", name, strings.Join(names, ", "))
}

// A Look is what can be seen of a box from outside.
type Look struct {
	Name    string           `json:"name"`
	Maker   string           `json:"maker"`
	Model   string           `json:"model"`
	Version string           `json:"version"`
	Phase   string           `json:"phase"`
	Faults  map[string]Fault `json:"faults"`
	Can     []FaultKind      `json:"can"` // go wrong
}

// Access is how to get into a box; the demo hands it to the service.
type Access struct {
	Name      string `yaml:"name" json:"name"`
	Address   string `yaml:"address" json:"address"`
	User      string `yaml:"user" json:"user"`
	Password  string `yaml:"password" json:"password"`
	Watchword string `yaml:"watchword" json:"watchword"`
	HostKey   string `yaml:"host-key" json:"hostKey"` // in authorized-keys form
	// Of the installation in the other slot, when it has passwords of its own.
	OlderVersion   string `yaml:"older-version,omitempty" json:"olderVersion,omitempty"`
	OlderPassword  string `yaml:"older-password,omitempty" json:"olderPassword,omitempty"`
	OlderWatchword string `yaml:"older-watchword,omitempty" json:"olderWatchword,omitempty"`
	Community      string `yaml:"community,omitempty" json:"community,omitempty"` // of SNMP
	// Of boxes with a web side.
	Web   string `yaml:"web,omitempty" json:"web,omitempty"`
	Token string `yaml:"token,omitempty" json:"token,omitempty"`
	// Password of the factory state, of boxes that return to it.
	Plate string `yaml:"plate,omitempty" json:"plate,omitempty"`
	// Console line.
	Line     string `yaml:"line,omitempty" json:"line,omitempty"`
	LineOnly bool   `yaml:"line-only,omitempty" json:"lineOnly,omitempty"`
	// How to speak with it.
	Dialect string `yaml:"dialect" json:"dialect"`
	// It is blank and asks by itself what it is to become, so nobody is to sign in to it before.
	Calls bool `yaml:"calls,omitempty" json:"calls,omitempty"`
}

// NewHostKey makes a host key, in PEM form.
func NewHostKey() string {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		panic(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		panic(err)
	}
	return string(pem.EncodeToMemory(block))
}

// Signer is a host key that NewHostKey made.
func Signer(hostKey string) ssh.Signer {
	s, err := ssh.ParsePrivateKey([]byte(hostKey))
	if err != nil {
		panic(err) // we wrote it ourselves
	}
	return s
}

// PublicKey is the public half of a host key, in authorized-keys form.
func PublicKey(hostKey string) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(Signer(hostKey).PublicKey())))
}

// Random is n random letters and digits; n is 26 at most.
func Random(n int) string { return strings.ToLower(rand.Text()[:n]) }

// A Rise is how long after its start a box answers, lets people in, and has its services up, in its own time.
type Rise struct{ Answers, SignsIn, AllUp time.Duration }

// Phase is how far a box is so long after its start.
func (r Rise) Phase(up time.Duration) string {
	switch {
	case up < r.Answers:
		return "off"
	case up < r.SignsIn:
		return "link"
	case up < r.AllUp:
		return "login"
	}
	return "ready"
}

// Arm gives a box one of the faults that it knows.
func (fs Faults) Arm(name string, f Fault, known []FaultKind) error {
	var names []string
	for _, k := range known {
		names = append(names, k.Name)
	}
	if err := Known(name, names); err != nil {
		return err
	}
	fs[name] = f
	return nil
}

// Save writes the state of a box whole or not at all.
func Save(file string, state any) error {
	data, err := json.Marshal(state)
	if err != nil {
		return err
	}
	if err := os.WriteFile(file+".new", data, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}
