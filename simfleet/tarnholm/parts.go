package tarnholm

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"strings"

	"golang.org/x/crypto/ssh"

	"verimorph/core/version"
	"verimorph/simfleet/box"
	"verimorph/simfleet/send"
)

// What a box holds beside its configuration: who may sign in, what was paid for, certificates with their keys, where
// which cable goes, and all of it in one archive. Certificates and archive are files that only scp and send give out.

// holding is what lies in a box beside its configuration.
type holding struct {
	Users    string `json:"users"`
	Licences string `json:"licences"`
	Certs    string `json:"certs"`
	Cables   string `json:"cables"`
}

// parts are the names under which a box knows what it holds.
const (
	runningFile = "running.cfg"
	savedFile   = "saved.cfg"
	usersFile   = "users.tbl"
	licenceFile = "licences.txt"
	certsFile   = "certs.box"
	cablesFile  = "cables.map"
	systemFile  = "system.box"
)

func (b *Box) newHolding() holding {
	return holding{
		Users:    fmt.Sprintf("%s\tall\t%s\nwatch\tread\t%s\n", b.spec.User, box.Random(20), box.Random(20)),
		Licences: fmt.Sprintf("%s\ttunnels\t50\tuntil 2028-06-30\n%s\treports\tany\tfor ever\n", b.spec.Serial, b.spec.Serial),
		Certs:    fmt.Sprintf("certificate pier-gate\nfor %s\nkey %s%s\nend\n", b.spec.Name, box.Random(26), box.Random(26)),
		Cables:   "p1\track 1, panel 4\np2\track 1, panel 5\np3\track 2, panel 1\n",
	}
}

// part returns what lies under a name; the caller holds the lock.
func (b *Box) part(name string) ([]byte, bool) {
	h := b.st.Holding
	var text string
	switch name {
	case runningFile:
		text = b.st.Config
	case savedFile:
		text = b.st.Slots[b.st.Running].Config
	case usersFile:
		text = h.Users
	case licenceFile:
		text = h.Licences
	case certsFile:
		text = h.Certs
	case cablesFile:
		text = h.Cables
	case systemFile:
		data, _ := json.MarshalIndent(archive{"TARNHOLM SYSTEM 1", b.st.Slots[b.st.Running].Version, b.st.Config, h, strings.Repeat("0123456789abcdef", 4096)}, "", " ")
		text = string(data)
	default:
		return nil, false
	}
	if b.hit(EmptyParts) {
		return []byte{}, true
	}
	return []byte(text), true
}

// archive is the whole-system archive.
type archive struct {
	Mark    string  `json:"mark"`
	Version string  `json:"version"`
	Config  string  `json:"config"`
	Holding holding `json:"holding"`
	Rest    string  `json:"rest"` // what else is in a system
}

// spoken is how a box sends.
var spoken = []string{"sftp", "ftp", "tftp"}

// send gives a part out to an address: sftp, ftp or tftp.
func (s *shell) send(args []string) error {
	if len(args) != 3 || args[1] != "to" {
		return errors.New("send NAME to ADDRESS")
	}
	u, err := url.Parse(args[2])
	if err != nil || u.Host == "" {
		return errors.New("that is no address")
	}
	b := s.b
	b.mu.Lock()
	data, ok := b.part(args[0])
	lie, cut := b.hit(SendsNothing), b.hit(SendsHalf)
	b.mu.Unlock()
	if !ok {
		return fmt.Errorf("there is nothing called %s", args[0])
	}
	sum, size := sha256.Sum256(data), len(data)
	switch {
	case lie:
	case cut:
		err = send.To(u, data[:len(data)/2], spoken...)
	default:
		err = send.To(u, data, spoken...)
	}
	if err != nil {
		return fmt.Errorf("cannot send: %w", err)
	}
	s.say("  sent %d bytes, sha256 %s", size, hex.EncodeToString(sum[:]))
	return nil
}

// adopt takes a file on the flash as one of the parts: at once, but for the archive, which the next start unpacks.
func (s *shell) adopt(args []string) error {
	if len(args) != 3 || args[1] != "as" {
		return errors.New("adopt FILE as running, users, licences, certs, cables or system")
	}
	name, err := s.file(args)
	if err != nil {
		return err
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	text := string(data)
	b := s.b
	b.mu.Lock()
	defer b.mu.Unlock()
	release := b.st.Slots[b.st.Running].Version
	switch args[2] {
	case "running":
		for _, c := range tryConfiguration(strings.Split(strings.TrimSuffix(text, "\n"), "\n"), b.spec.Model, version.MustParse(release)) {
			return fmt.Errorf("line %d: %s; nothing was taken", c.line, c.text)
		}
		b.st.Config = text
	case "users":
		b.st.Holding.Users = text
	case "licences":
		if !strings.Contains(text, b.spec.Serial+"\t") {
			return fmt.Errorf("these licences are not for %s", b.spec.Serial)
		}
		b.st.Holding.Licences = text
	case "certs":
		b.st.Holding.Certs = text
	case "cables":
		b.st.Holding.Cables = text
	case "system":
		var a archive
		if json.Unmarshal(data, &a) != nil || a.Mark != "TARNHOLM SYSTEM 1" {
			return errors.New("this is no archive of a system")
		}
		if a.Version != release {
			return fmt.Errorf("the archive was made by %s, this is %s", a.Version, release)
		}
		b.st.Pending = &a
	default:
		return fmt.Errorf("%s is nothing that can be taken", args[2])
	}
	b.note("%s taken as %s", args[0], args[2])
	return b.save()
}

// unpackPending takes over the archive that was adopted before this start. The caller holds the lock.
func (b *Box) unpackPending() {
	if a := b.st.Pending; a != nil {
		b.st.Config, b.st.Holding, b.st.Pending = a.Config, a.Holding, nil
		b.st.Slots[b.st.Running].Config = a.Config
		b.note("the archive was unpacked")
	}
}

// scp answers the two sides of scp: -f gives a file, -t takes one.
func (b *Box) scp(ch ssh.Channel, command string) {
	defer ch.Close()
	code := byte(1)
	defer func() { _, _ = ch.SendRequest("exit-status", false, []byte{0, 0, 0, code}) }()
	words := strings.Fields(command)
	if len(words) != 3 || words[0] != "scp" {
		return
	}
	one := make([]byte, 1)
	switch words[1] {
	case "-f":
		b.mu.Lock()
		data, ok := b.part(words[2])
		b.mu.Unlock()
		if _, err := io.ReadFull(ch, one); err != nil {
			return
		}
		if !ok {
			fmt.Fprintf(ch, "\x01scp: %s: nothing of that name\n", words[2])
			return
		}
		fmt.Fprintf(ch, "C0600 %d %s\n", len(data), words[2])
		if _, err := io.ReadFull(ch, one); err != nil {
			return
		}
		_, _ = ch.Write(append(bytes.Clone(data), 0))
		_, _ = io.ReadFull(ch, one)
		code = 0
	case "-t":
		_, _ = ch.Write([]byte{0})
		var mode string
		var size int64
		var name string
		if _, err := fmt.Fscanf(ch, "C%s %d %s\n", &mode, &size, &name); err != nil || size < 0 || size > 1<<20 {
			return
		}
		_, _ = ch.Write([]byte{0})
		data := make([]byte, size+1)
		if _, err := io.ReadFull(ch, data); err != nil {
			return
		}
		b.mu.Lock()
		b.spare = 0 // what is free is counted anew
		b.mu.Unlock()
		if os.WriteFile(b.onFlash(words[2]), data[:size], 0o600) == nil {
			_, _ = ch.Write([]byte{0})
			code = 0
		}
	}
}

// refuse counts refused sign-ins: the fault lock-account says after how many the account is locked until somebody comes. The caller holds the lock.
func (b *Box) refuse(c net.Addr) {
	b.st.Refusals++
	b.note("sign-in refused, %s", c)
	_ = b.save()
}

// locked reports whether sign-ins are refused whatever the password. The caller holds the lock.
func (b *Box) locked() bool {
	f, ok := b.has(LockAccount)
	return ok && int64(b.st.Refusals) >= f.Value
}

// Change replaces something in the running configuration, as somebody at the box would; it is not kept until somebody
// says so.
func (b *Box) Change(old, new string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !strings.Contains(b.st.Config, old) {
		return fmt.Errorf("%q is not in the configuration", old)
	}
	b.st.Config = strings.Replace(b.st.Config, old, new, 1)
	return b.save()
}
