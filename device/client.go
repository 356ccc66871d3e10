package device

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"verimorph/core/portrait"
)

// A Target says where a device is and how to get in.
type Target struct {
	Address    string   // host:port
	SignIns    []SignIn // tried in this order
	Privileged []SignIn // second passwords for the privileged level, tried in this order
	Token      string   // for its HTTP side
	TokenID    int64    // of the credential
	Web        string   // URL of its HTTP side
	HostKey    string   // pinned key in authorized-keys form; empty: take what comes, see Client.HostKey
	AnyHostKey bool     // another host key than the pinned one is expected
	Tries      int      // how many refused sign-ins are risked; 0: 1
	RaiseTries int      // how many refused second passwords are risked; 0: 1, below 0: none
	Dialect    *Dialect
	Exchange   Exchange // nil: the device can neither send nor fetch
	Console    string   // host:port of its console line; then that is spoken with, and nothing else
	Via        *Target  // device that is signed in to first
	Enter      string   // command on that device that opens a session into this one; "": its SSH passes the connection on
	Packet     int      // most bytes of a file in one SFTP request, at most 32 KiB, which 0 stands for
	// Record hears what comes over a console line or out of a module, but for parts of backups. It may be nil.
	Record func([]byte)
	// Refused and Used hear of every sign-in and every second password that the device refused or took. They may be nil.
	Refused func(in SignIn, second bool)
	Used    func(in SignIn, second bool)
}

// A SignIn is one way to be let in.
type SignIn struct {
	ID       int64 // of the credential
	User     string
	Password string
	Key      ssh.Signer // nil: by password
}

// A Portrait is what a device is right now.
type Portrait struct {
	Name, Maker, Model, Serial string
	Version                    string
	Uptime                     time.Duration
	Started                    string // what the device says about its last start; another one after each restart
	ServicesReady              Fact
	Unsaved                    Fact // running differs from saved configuration
	Slots                      []Slot
	Total, Free                int64   // bytes of file storage; 0 of 0 when the device does not say
	Stores                     []Store `json:",omitempty"` // other storages
	Files                      []File
	Generation                 string            `json:",omitempty"` // of the hardware
	Components                 map[string]string `json:",omitempty"` // version by component
	Parts                      []Part            `json:",omitempty"` // fans, disks, line cards ...
	Variables                  map[string]string `json:",omitempty"` // of the boot; "" is clear
	Licences                   []string          `json:",omitzero"`  // nil: it does not say
	Work                       string            `json:",omitempty"` // running work that a restart would end, in its own words
	OutOfService               Fact              `json:",omitempty"` // it takes no new work
	Drained                    Fact              `json:",omitempty"`
	// NotUnderstood holds, by table, a line of the device's answer that the dialect does not know. What such a table does not show may be
	// there all the same.
	NotUnderstood map[string]string `json:",omitempty"`
}

// A Fact is what the device says to a question; nothing when it does not say.
type Fact = portrait.Fact

// A Part of a device with its state in the device's own words.
type Part struct {
	Name, State string
	Good        Fact
}

// A Store is a storage beside that for files, in bytes.
type Store struct {
	Name        string
	Total, Free int64
}

// A Slot holds a bootable installation.
type Slot struct {
	Name, Version, State string
	Running              bool
	Next                 Fact   // of the next start
	Good                 Fact   // can be started from
	Busy                 Fact   // being written
	Percent              int    // how far, when busy; below 0 when it does not say
	Written              string // when, or for which time, in the device's own words; "" when it does not say
}

// Broken reports whether the device says of a slot that holds something that it cannot be started from.
func (s *Slot) Broken() bool {
	return s.Version != "" && s.Good == portrait.No && s.Busy != portrait.Yes
}

// A File lies on the device's storage.
type File struct {
	Name string
	Size int64
}

// RunningSlot returns the slot the device runs from, or nil.
func (p *Portrait) RunningSlot() *Slot { return p.slot(func(s Slot) bool { return s.Running }) }

// IdleSlot returns the first slot that is not running, or nil.
func (p *Portrait) IdleSlot() *Slot { return p.slot(func(s Slot) bool { return !s.Running }) }

func (p *Portrait) slot(is func(Slot) bool) *Slot {
	if i := slices.IndexFunc(p.Slots, is); i >= 0 {
		return &p.Slots[i]
	}
	return nil
}

// File returns the file with that name, or nil.
func (p *Portrait) File(name string) *File {
	if i := slices.IndexFunc(p.Files, func(f File) bool { return f.Name == name }); i >= 0 {
		return &p.Files[i]
	}
	return nil
}

// A Client is a signed-in connection to one device. It is for one user at a time.
type Client struct {
	t       Target
	conn    *ssh.Client
	term    *session
	files   *sftp.Client
	hostKey string
	in      *SignIn // what let us in
	tries   int     // refused so far
	raises  int     // second passwords refused so far

	words string // the answer to the last verb
	// Before is asked right before a verb is sent; an error keeps it from being sent. It may be nil.
	Before    func(context.Context) error
	tokenUsed bool
	stop      func() bool
	cutLine   func()  // of a console line or a module
	parent    *Client // the device that is signed in to first
}

// dialTimeout bounds connecting and signing in together.
const dialTimeout = 10 * time.Second

// Dial connects and signs in with the first of the target's ways that is let in; it risks no more refusals than the
// target says. Errors are *Error of kind Unreachable, HostKeyChanged, SignInRefused or Silent. Cancelling ctx later closes
// the connection.
func Dial(ctx context.Context, t Target) (*Client, error) {
	c := &Client{t: t}
	if len(t.SignIns) == 0 {
		return nil, &Error{SignInRefused, t.Address, "sign in", "no credential is known that would let us in; add one with: verimorph credential add"}
	}
	if t.Console != "" && t.Via == nil {
		return opened(c, c.dialConsole(ctx))
	}
	if t.Via != nil {
		var err error
		if c.parent, err = Dial(ctx, *t.Via); err != nil {
			return nil, fmt.Errorf("on the way, at %s: %w", t.Via.Address, err)
		}
		if t.Enter != "" {
			return opened(c, c.enter(ctx, c.parent))
		}
	}
	for i := range t.SignIns {
		err := c.dialWith(ctx, &t.SignIns[i])
		if err == nil {
			c.in = &t.SignIns[i]
			if t.Used != nil {
				t.Used(*c.in, false)
			}
			return c, nil
		}
		if KindOf(err) != SignInRefused {
			c.closeParent()
			return nil, err
		}
		c.tries++
		c.refused(t.SignIns[i], false)
		if c.tries >= max(t.Tries, 1) || i == len(t.SignIns)-1 {
			c.closeParent()
			if c.tries > 1 || len(t.SignIns) > 1 {
				err = &Error{SignInRefused, t.Address, "sign in", fmt.Sprintf("%d of %d credentials were tried and refused, the last for user %q; more is not risked in one go", c.tries, len(t.SignIns), t.SignIns[i].User)}
			}
			return nil, err
		}
	}
	panic("unreachable")
}

// opened is the connection when it was opened.
func opened(c *Client, err error) (*Client, error) {
	if err != nil {
		return nil, err
	}
	return c, nil
}

func (c *Client) refused(s SignIn, second bool) {
	if c.t.Refused != nil {
		c.t.Refused(s, second)
	}
}

// dialWith connects and signs in in one way.
func (c *Client) dialWith(ctx context.Context, in *SignIn) error {
	t := c.t
	keyErr := error(nil)
	cfg := &ssh.ClientConfig{
		User: in.User, Timeout: dialTimeout,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			c.hostKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
			if t.HostKey != "" && c.hostKey != t.HostKey && !t.AnyHostKey {
				keyErr = &Error{HostKeyChanged, t.Address, "connect", fmt.Sprintf("the host key is %s, not the pinned one; if the device was replaced or reinstalled, forget the pinned key and refresh", ssh.FingerprintSHA256(key))}
				return keyErr
			}
			return nil
		},
	}
	if in.Key != nil {
		cfg.Auth = []ssh.AuthMethod{ssh.PublicKeys(in.Key)}
	} else { // one try a connection, whichever of the two the device asks for
		asked := false
		cfg.Auth = []ssh.AuthMethod{ssh.PasswordCallback(func() (string, error) {
			if asked {
				return "", errors.New("tried already")
			}
			asked = true
			return in.Password, nil
		}), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			if asked && len(questions) > 0 {
				return nil, errors.New("tried already")
			}
			asked = asked || len(questions) > 0
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = in.Password
			}
			return answers, nil
		})}
	}
	if known, _, _, _, err := ssh.ParseAuthorizedKey([]byte(t.HostKey)); t.HostKey != "" && err == nil && !t.AnyHostKey {
		cfg.HostKeyAlgorithms = algorithms(known.Type()) // ask for the kind of key we know
	}
	dial := (&net.Dialer{Timeout: dialTimeout}).DialContext
	if c.parent != nil {
		dial = c.parent.conn.DialContext
	}
	raw, err := dial(ctx, "tcp", t.Address)
	if err != nil && ctx.Err() != nil { // we gave up: that says little about the device
		return &Error{Unreachable, t.Address, "connect", "no connection came about before the time for it was over"}
	}
	if err != nil {
		return &Error{Unreachable, t.Address, "connect", "nothing answers (" + strings.TrimPrefix(strings.TrimPrefix(err.Error(), "dial tcp "+t.Address+": "), "connect: ") + ")"}
	}
	_ = raw.SetDeadline(time.Now().Add(dialTimeout))
	given := context.AfterFunc(ctx, func() { _ = raw.Close() }) // whoever gave up does not wait for the device to say something
	conn, channels, requests, err := ssh.NewClientConn(raw, t.Address, cfg)
	given()
	if err != nil {
		_ = raw.Close()
		var timeout net.Error
		switch {
		case keyErr != nil:
			return keyErr
		case ctx.Err() != nil:
			return &Error{Silent, t.Address, "connect", "the address answers, but SSH did not before the time for it was over"}
		case strings.Contains(err.Error(), "unable to authenticate") || strings.Contains(err.Error(), "tried already"):
			return &Error{SignInRefused, t.Address, "sign in", fmt.Sprintf("user %q or its %s is not accepted", in.User, map[bool]string{true: "key", false: "password"}[in.Key != nil])}
		case errors.As(err, &timeout) && timeout.Timeout():
			return &Error{Silent, t.Address, "connect", fmt.Sprintf("the address answers, but SSH does not within %s", dialTimeout)}
		case strings.Contains(err.Error(), "no common algorithm for host key"):
			return &Error{HostKeyChanged, t.Address, "connect", "the device has no host key of the pinned kind any more; if it was replaced or reinstalled, forget the pinned key and refresh"}
		}
		return &Error{Unreachable, t.Address, "connect", "the address answers, but SSH does not: " + err.Error()}
	}
	_ = raw.SetDeadline(time.Time{})
	go refuse(channels, requests)
	c.conn = &ssh.Client{Conn: conn}
	c.stop = context.AfterFunc(ctx, func() { _ = c.conn.Close() })
	return nil
}

// refuse answers what a device asks of us: no. ssh.NewClient would keep three goroutines for that.
func refuse(channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) {
	for channels != nil || requests != nil {
		select {
		case c, ok := <-channels:
			if !ok {
				channels = nil
				continue
			}
			_ = c.Reject(ssh.UnknownChannelType, "nothing is opened here")
		case q, ok := <-requests:
			if !ok {
				requests = nil
				continue
			}
			if q.WantReply {
				_ = q.Reply(false, nil)
			}
		}
	}
}

// algorithms are the signature algorithms for a kind of host key.
func algorithms(keyType string) []string {
	if keyType == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{keyType}
}

// HostKey is the key the device showed, in authorized-keys form.
func (c *Client) HostKey() string { return c.hostKey }

// Close ends the connection.
func (c *Client) Close() {
	if c.stop != nil {
		c.stop()
	}
	defer c.closeParent()
	if c.term != nil {
		c.term.close()
	}
	if c.files != nil {
		_ = c.files.Close()
	}
	if c.conn != nil {
		_ = c.conn.Close()
	}
}

func (c *Client) closeParent() {
	if c.parent != nil {
		c.parent.Close()
	}
}

// Cut breaks the connection from another goroutine: whatever waits for the device fails. Close is still to be called.
func (c *Client) Cut() {
	if c.cutLine != nil {
		c.cutLine()
		return
	}
	_ = c.conn.Close()
}

func (c *Client) query(ctx context.Context, q Query, args map[string]string, progress func(string)) (string, error) {
	command, err := fill(q.Send, args)
	if err != nil {
		return "", &Error{NotUnderstood, c.t.Address, q.Send, err.Error()}
	}
	if c.term == nil && c.conn == nil {
		return "", &Error{Lost, c.t.Address, q.Send, "the line ended"}
	}
	if c.term != nil && c.term.broken { // what it still has to say would be taken for the next answer
		if c.conn == nil || c.t.Enter != "" {
			return "", &Error{Lost, c.t.Address, q.Send, "the line is out of step after an answer that did not come to its end"}
		}
		c.term.close()
		c.term = nil
	}
	if c.term == nil {
		if c.term, err = newSession(ctx, c.conn, c.t.Dialect, c.t.Address); err != nil {
			c.term = nil
			return "", err
		}
	}
	if q.Raised {
		if err := c.raise(ctx); err != nil {
			return "", err
		}
	}
	return c.term.run(ctx, q, command, progress)
}

// raise goes to the privileged level, with the first of the second passwords that is taken. No more refusals are risked
// over the whole connection than the target says.
func (c *Client) raise(ctx context.Context) error {
	if c.term.raised || c.t.Dialect.Raise.Send == "" {
		return nil
	}
	words := c.t.Privileged
	if len(words) == 0 {
		words = []SignIn{{}} // some devices ask for nothing, or take the empty word
	}
	bound := c.t.RaiseTries
	if bound == 0 {
		bound = 1
	}
	for i, w := range words {
		if c.raises >= bound {
			return &Error{SignInRefused, c.t.Address, c.t.Dialect.Raise.Send, "the second password was refused before; it is not risked again now"}
		}
		err := c.term.raise(ctx, w.Password)
		if err == nil && c.t.Used != nil && w.ID != 0 {
			c.t.Used(w, true)
		}
		if KindOf(err) != SignInRefused {
			return err
		}
		c.raises++
		if c.refused(w, true); i == len(words)-1 {
			return err
		}
	}
	return nil
}

// SignedIn is what let us in; nothing is known of it when a console line was signed in already.
func (c *Client) SignedIn() SignIn {
	if c.in == nil {
		return SignIn{}
	}
	return *c.in
}

func (c *Client) readFile(name string) ([]byte, error) {
	fail := func(err error) error { return &Error{Lost, c.t.Address, "fetch " + name, err.Error()} }
	files, err := c.SFTP()
	if err != nil {
		return nil, err
	}
	f, err := files.Open(name)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return nil, &Error{Refused, c.t.Address, "fetch " + name, "there is no such file, or it may not be read"}
	}
	if err != nil {
		return nil, fail(err)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, backupLimit+1))
	if err != nil {
		return nil, fail(err)
	}
	if len(data) > backupLimit {
		return nil, &Error{NotUnderstood, c.t.Address, "fetch " + name, fmt.Sprintf("larger than %d MiB", backupLimit>>20)}
	}
	return data, nil
}

// A Message is what a device says about a line of a configuration.
type Message struct {
	Line int // from 1
	Text string
}

// TryConfiguration has the device read a configuration as it would before using it. The device keeps nothing and changes
// nothing: the file is put beside others under a name of its own and removed again, whatever happens. An answer that
// does not say how many messages there are, or another number than it gives, is not understood.
func (c *Client) TryConfiguration(ctx context.Context, text []byte) (out []Message, err error) {
	if !c.Has("try-configuration") {
		return nil, &Error{Refused, c.t.Address, "try a configuration", "its dialect has no try-configuration, so the device cannot be asked"}
	}
	name := fmt.Sprintf("trial-%s.cfg", strings.ToLower(rand.Text()[:10]))
	if err := c.writeFile(name, text); err != nil {
		return nil, err
	}
	defer func() {
		// Also when the caller has given up: a configuration must not be left lying on the device.
		clean, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer cancel()
		err = errors.Join(err, c.RemoveFile(clean, name))
	}()
	answer, err := c.verb(ctx, "try-configuration", map[string]string{"file": name}, nil)
	if err != nil {
		return nil, err
	}
	q := c.t.Dialect.Verbs["try-configuration"]
	if q.Match.Regexp != nil {
		for _, m := range q.Match.FindAllStringSubmatch(answer, -1) {
			g := named(q.Match, m)
			line, err := strconv.Atoi(g["line"])
			if err != nil {
				return nil, &Error{NotUnderstood, c.t.Address, "try-configuration", fmt.Sprintf("%q is not a line", g["line"])}
			}
			out = append(out, Message{line, g["message"]})
		}
	}
	if refused := q.Fields.groups(answer)["refused"]; refused != strconv.Itoa(len(out)) {
		return nil, &Error{NotUnderstood, c.t.Address, "try-configuration", fmt.Sprintf("it speaks of %q messages, but %d were understood", refused, len(out))}
	}
	return out, nil
}

// Files reports whether the connection has a file side.
func (c *Client) Files() bool { return c.conn != nil }

// SFTP returns the file side of the connection.
func (c *Client) SFTP() (*sftp.Client, error) {
	if c.conn == nil {
		return nil, &Error{Refused, c.t.Address, "open SFTP", "there is only a console line"}
	}
	if c.files == nil {
		options := []sftp.ClientOption{sftp.UseConcurrentWrites(true)}
		if c.t.Packet > 0 {
			options = append(options, sftp.MaxPacketChecked(c.t.Packet))
		}
		f, err := sftp.NewClient(c.conn, options...)
		if err != nil {
			return nil, &Error{Lost, c.t.Address, "open SFTP", err.Error()}
		}
		c.files = f
	}
	return c.files, nil
}

// CloseFiles ends the file side, and the memory it takes; the next use opens another.
func (c *Client) CloseFiles() {
	if c.files != nil {
		_ = c.files.Close()
		c.files = nil
	}
}

// Has reports whether the dialect has a verb.
func (c *Client) Has(verb string) bool { return c.t.Dialect.Verbs[verb].Send != "" }

func (c *Client) verb(ctx context.Context, name string, args map[string]string, progress func(fraction float64)) (string, error) {
	q := c.t.Dialect.Verbs[name]
	var watch func(string)
	if progress != nil && q.Progress.Regexp != nil {
		watch = func(text string) {
			all := q.Progress.FindAllStringSubmatch(text, -1)
			if len(all) == 0 {
				return
			}
			g := named(q.Progress, all[len(all)-1])
			if p, err := strconv.ParseFloat(g["percent"], 64); err == nil {
				progress(p / 100)
			} else if total, err := strconv.ParseFloat(g["total"], 64); err == nil && total > 0 {
				done, _ := strconv.ParseFloat(g["done"], 64)
				progress(done / total)
			}
		}
	}
	if c.Before != nil {
		if err := c.Before(ctx); err != nil {
			return "", err
		}
	}
	text, err := c.query(ctx, q, args, watch)
	c.words = text
	return text, err
}

// Words is what the device answered to the last verb, for messages about what came of it.
func (c *Client) Words() string { return Quoted(c.words) }

// HungUp reports whether the connection ended with the last command before the device said that it took it. That is how a command looks
// that the connection ends with, and also how a line looks that breaks before the device heard of it.
func (c *Client) HungUp() bool { return c.term != nil && c.term.hungUp }

// Checksum lets the device compute the SHA-256 of a file on it.
func (c *Client) Checksum(ctx context.Context, file string) (string, error) {
	text, err := c.verb(ctx, "checksum", map[string]string{"file": file}, nil)
	if err != nil {
		return "", err
	}
	g := c.t.Dialect.Verbs["checksum"].Fields.groups(text)
	if g["sha256"] == "" {
		return "", &Error{NotUnderstood, c.t.Address, "checksum", fmt.Sprintf("no sum in the answer %.80q", text)}
	}
	return g["sha256"], nil
}

// FetchImage lets the device download a file.
func (c *Client) FetchImage(ctx context.Context, url, file string, progress func(float64)) error {
	_, err := c.verb(ctx, "fetch-image", map[string]string{"url": url, "file": file}, progress)
	return err
}

// Install writes an image that is on the device into a slot.
func (c *Client) Install(ctx context.Context, file, slot string, progress func(float64)) error {
	_, err := c.verb(ctx, "install", map[string]string{"file": file, "slot": slot}, progress)
	return err
}

// Save makes the running configuration the saved one.
func (c *Client) Save(ctx context.Context) error {
	_, err := c.verb(ctx, "save", nil, nil)
	return err
}

// ChooseSlot sets the slot of the next start.
func (c *Client) ChooseSlot(ctx context.Context, slot string) error {
	_, err := c.verb(ctx, "choose-slot", map[string]string{"slot": slot}, nil)
	return err
}

// ChooseSlotOnce sets the slot of the next start only; the one after it is from the slot chosen before.
func (c *Client) ChooseSlotOnce(ctx context.Context, slot string) error {
	_, err := c.verb(ctx, "choose-slot-once", map[string]string{"slot": slot}, nil)
	return err
}

// Clone copies the running installation into a slot.
func (c *Client) Clone(ctx context.Context, slot string, progress func(float64)) error {
	_, err := c.verb(ctx, "clone", map[string]string{"slot": slot}, progress)
	return err
}

// Unpack unpacks what was installed into a slot.
func (c *Client) Unpack(ctx context.Context, slot string, progress func(float64)) error {
	_, err := c.verb(ctx, "unpack", map[string]string{"slot": slot}, progress)
	return err
}

// Drain makes the device take no new work.
func (c *Client) Drain(ctx context.Context) error {
	_, err := c.verb(ctx, "drain", nil, nil)
	return err
}

// Undrain returns the device to service.
func (c *Client) Undrain(ctx context.Context) error {
	_, err := c.verb(ctx, "undrain", nil, nil)
	return err
}

// AddLicence gives the device a licence. The key is typed where the device asks for it: it is part of no command, and of no
// error or recording.
func (c *Client) AddLicence(ctx context.Context, licence, key string) error {
	q := c.t.Dialect.Verbs["add-licence"]
	if q.Send == "" {
		return &Error{Refused, c.t.Address, "add a licence", "its dialect has no add-licence; add that verb to it"}
	}
	if c.term != nil {
		defer c.term.heard.private("a licence")()
	}
	q.Answer = key
	_, err := c.query(ctx, q, map[string]string{"licence": licence}, nil)
	return err
}

// UpdateComponent updates firmware beside the main image from a file on the device.
func (c *Client) UpdateComponent(ctx context.Context, component, file string, progress func(float64)) error {
	_, err := c.verb(ctx, "update-component", map[string]string{"component": component, "file": file}, progress)
	return err
}

// PowerCycle switches the parts that a component runs on off and on.
func (c *Client) PowerCycle(ctx context.Context, component string) error {
	_, err := c.verb(ctx, "power-cycle", map[string]string{"component": component}, nil)
	return err
}

// RemoveFile deletes a file on the device.
func (c *Client) RemoveFile(ctx context.Context, file string) error {
	_, err := c.verb(ctx, "remove-file", map[string]string{"file": file}, nil)
	return err
}

// Restart restarts the device; the connection ends with it.
func (c *Client) Restart(ctx context.Context) error {
	_, err := c.verb(ctx, "restart", nil, nil)
	return err
}
