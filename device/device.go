// Package device is the seam between what is done with devices and how one speaks with them. The engine asks for verbs, never for commands: it
// uses the small interfaces of this package, and a driver fulfils as many of them as its devices can. [Driver] stands for a kind of
// device, [Conn] for a connection to one; drivers live in folders of their own: [verimorph/device/cli] speaks a command line as a dialect file
// describes it, [verimorph/device/netconf] speaks NETCONF. A dialect may say things over a management protocol instead ([Caller], [Service]).
//
// # What a connection can do
//
// Every [Conn] has a [Session]. What it can do beside that are the capability interfaces: [Describer], [Files], [Installer], [Booter], [Restarter],
// [Servicer], [Configurer], [Components], [Licensor], [Parts] and [Reader]. [As] returns a capability or the error that names what is missing, so that no
// caller reaches for something that is not there. What a kind of device lacks is known before a change starts: its [Profile] says so.
//
// # Errors
//
// Trouble with a device is an [*Error] with a [ErrorKind] and, where there is one, the error beneath it ([Error.Unwrap]). [Unreachable], [Lost], [Silent]
// and [NotReady] may pass and are tried again; [Refused], [SignInRefused], [HostKeyChanged], [NoRoom], [NotUnderstood] and [Lacking] are final.
package device

import (
	"bytes"
	"context"
	"crypto/tls"
	"io"
	"net"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/verify"
)

// A Driver speaks with one kind of device.
type Driver interface {
	// Profile is what is known about such devices without asking one. It is not to be changed.
	Profile() *Profile
	// Dial connects and signs in with the first of the target's ways that is let in; it risks no more refusals than the target says.
	// Errors are *Error of kind Unreachable, HostKeyChanged, SignInRefused, Silent, NotReady or Lacking. Cancelling ctx later closes the connection.
	Dial(ctx context.Context, t Target) (Conn, error)
}

// A Profile is what is known about a kind of device.
type Profile struct {
	Name      string
	Abilities change.Abilities
	Lacks     []string  // verbs that are missing to change the firmware of such a device; none when it can be done
	Readings  []Reading // that are taken of such devices
	Parts     []Part    // of a complete backup
	// Fetches: such a device can download an image from an address.
	Fetches bool
	// Medium is how the names of files begin that a person carries in on a medium; "" where files are sent.
	Medium string
	// Folder is where images are sent to, as its file side names it, with a slash at the end; "" where they lie at the top.
	Folder string
	// Pushes is the protocol (scp or gnoi) by which files are sent from their begin to their end, by [Files.PushImage]; "": they go over SFTP.
	Pushes string
	// Places is the storage in which installations lie, where that is not the one for files.
	Places string
	// NewHostKey: in its factory state it makes itself another host key.
	NewHostKey bool
	// Copies is what its named copies of the running installation are like; nil: it has none.
	Copies *Copies
	// Tells is by what protocol such a device says things by itself; "" where it does not.
	Tells string
	// Loader: a slot can be started from its boot loader, over the console line.
	Loader bool
}

// Copies are named copies of the running installation.
type Copies struct {
	Name    func(change int64, version string) string // of a copy that a change makes
	Allowed func(name string) error                   // whether a copy may be called so
	Apart   bool                                      // they lie on another medium than the running installation
}

// Part returns the part of that name, or nil.
func (p *Profile) Part(name string) *Part {
	for i := range p.Parts {
		if p.Parts[i].Name == name {
			return &p.Parts[i]
		}
	}
	return nil
}

// A Part is one of those that a backup of such a device is made of.
type Part struct {
	Name     string
	Title    string
	Kind     string  // backup.Configuration, ...
	File     string  // exact name under which the device knows it
	Syntax   string  // of a configuration
	Optional bool    // not every device has it: refused or not there is no lack
	By       string  // how it is fetched, as the driver names it; the record of a bundle keeps it
	Role     string  // backup.Running or backup.Saved; "" of other parts
	Varies   Pattern // lines that differ from one time of fetching to the next, such as the time of it
	Restore  *Put    // nil: it is kept, but not put back
}

// File returns the configuration with a file name, or nil.
func (p *Profile) File(name string) *Part {
	if p == nil {
		return nil
	}
	for i := range p.Parts {
		if p.Parts[i].File == name && p.Parts[i].Kind == backup.Configuration {
			return &p.Parts[i]
		}
	}
	return nil
}

// Role returns the part with a role, or nil.
func (p *Profile) Role(role string) *Part {
	for i := range p.Parts {
		if p.Parts[i].Role == role {
			return &p.Parts[i]
		}
	}
	return nil
}

// Same reports whether two contents of a part are the same, but for the lines that differ every time.
func (p *Part) Same(a, b []byte) bool {
	return bytes.Equal(a, b) || p.Varies.Regexp != nil && bytes.Equal(p.steady(a), p.steady(b))
}

func (p *Part) steady(text []byte) []byte {
	var out []byte
	for line := range bytes.Lines(text) {
		if !p.Varies.Match(bytes.TrimRight(line, "\r\n")) {
			out = append(out, line...)
		}
	}
	return out
}

// Steady is a content of a part with those lines blank that differ every time, so that it can be compared; lines keep their numbers. Of nil it is the
// content itself.
func (p *Part) Steady(text string) string {
	if p == nil || p.Varies.Regexp == nil {
		return text
	}
	lines := strings.SplitAfter(text, "\n")
	for i, line := range lines {
		if bare := strings.TrimRight(line, "\r\n"); p.Varies.MatchString(bare) {
			lines[i] = line[len(bare):]
		}
	}
	return strings.Join(lines, "")
}

// ByPortrait is how the part is fetched that we add ourselves: what the device was.
const ByPortrait = "portrait"

// A Put says what a device needs after a part was put back.
type Put struct {
	Save    bool // the configuration has to be saved
	Restart bool // it takes effect with the next start
}

// A Conn is a signed-in connection to one device, for one user at a time.
type Conn interface {
	Session
}

// A Session is what every connection has.
type Session interface {
	HostKey() string   // that the device showed, in authorized-keys form; "" where it shows none
	SignedIn() SignIn  // what let us in; zero when nothing is known of it, as on a console line that was signed in already
	Words() string     // what the device answered to the last verb, for messages about what came of it
	HungUp() bool      // the connection ended with the last command, before the device said that it took it
	Before(Check)      // asks right before a verb is sent; an error keeps it from being sent
	Cut()              // breaks the connection from another goroutine: whatever waits for the device fails. Close is still to be called
	Close()            // ends the connection
	Profile() *Profile // of its driver
	Transfers() bool   // files can be moved over it
	CloseFiles()       // ends what keeps memory for files; the next use opens it again
}

// An Image is a file that is sent to a device.
type Image struct {
	File    string
	Version string // that it holds
	Size    int64  // bytes
}

// A Check is asked before a verb is sent; an error keeps it from being sent.
type Check = func(context.Context) error

// Progress hears how far a verb is, from 0 to 1. It may be nil.
type Progress = func(fraction float64)

// A Describer says what a device is.
type Describer interface {
	Portrait(context.Context) (*portrait.Portrait, error)
	// Identity is only what tells the device apart and what runs on it: model, serial, version, its last start and its slots.
	Identity(context.Context) (*portrait.Portrait, error)
}

// Files moves files onto a device and removes them.
type Files interface {
	SFTP() (*sftp.Client, error)
	// PushImage sends an image to where images lie, for devices without SFTP. sent hears how many bytes are out.
	PushImage(ctx context.Context, im Image, content io.Reader, sent func(int64)) error
	FetchImage(ctx context.Context, url, file string, p Progress) error // the device downloads it
	Checksum(ctx context.Context, file string) (Digest, error)          // that the device computes over it
	RemoveFile(ctx context.Context, file string) error
}

// An Installer writes installations.
type Installer interface {
	Install(ctx context.Context, file, slot string, p Progress) error
	Unpack(ctx context.Context, slot string, p Progress) error
	Clone(ctx context.Context, slot string, p Progress) error // the running one
}

// A Booter chooses what starts.
type Booter interface {
	ChooseSlot(ctx context.Context, slot, second string) error // second, where there is one, starts when slot cannot be started
	ChooseSlotOnce(ctx context.Context, slot string) error
}

// A Restarter starts what was chosen, or the same again. The connection ends with it.
type Restarter interface {
	Restart(context.Context) error
}

// A Copier names and deletes copies of the running installation, which Installer.Clone makes.
type Copier interface {
	RenameSlot(ctx context.Context, slot, name string) error
	RemoveSlot(ctx context.Context, slot string) error
}

// A MediumWriter writes what it is onto a medium that somebody put into it, and says what lies on that.
type MediumWriter interface {
	WriteMedium(ctx context.Context, file string, p Progress) error
	ReadMedium(ctx context.Context, file string) (OnMedium, error)
}

// OnMedium is what a device reads from a file on a medium. What it does not tell is empty.
type OnMedium struct {
	SHA256, Model, Serial, Version string
	Size                           int64  // bytes
	Configuration                  string // SHA-256 of the configuration in it
}

// A Servicer takes a device out of service and back.
type Servicer interface {
	Drain(context.Context) error
	Undrain(context.Context) error
}

// A Standby is a member of an ensemble that can become the active one.
type Standby interface {
	TakeOver(context.Context) error
}

// Units handles the parts of a device that run firmware of their own.
type Units interface {
	Spread(ctx context.Context, slot, file string, p Progress) error // what a slot holds, onto all of them
	BringAlong(ctx context.Context, unit string) error               // one that missed an update gets the release of the active one
	CleanUnit(ctx context.Context, unit, file string) error
	RestartUnit(ctx context.Context, unit string) error
	UpdateUnit(ctx context.Context, unit, component, file string, p Progress) error // firmware beside its main image
	HandOver(context.Context) error                                                 // the one that stands by takes over; the connection may end with it
}

// Children handles the boxes that follow a device.
type Children interface {
	Preload(ctx context.Context, child, file, version string) error // they fetch an image while they work
	PreloadsEach() bool                                             // they are told one by one
	RestartChild(ctx context.Context, child string) error
	Authorise(ctx context.Context, serial string) error // a new one may join
	DrainChild(ctx context.Context, child string) error
	UndrainChild(ctx context.Context, child string) error
	GroupChild(ctx context.Context, child, group string) error // it gets the settings of a group
	ReleaseChild(ctx context.Context, child string) error      // it stands alone again, in its factory state
}

// A Passworder sets passwords. They are part of no command, error or recording.
type Passworder interface {
	SetPassword(ctx context.Context, user, password string) error
}

// A Follower is a device that stands alone and can come under a controller.
type Follower interface {
	// BecomeManaged has it follow the controller at an address. It loses its configuration, and the connection may end with it.
	BecomeManaged(ctx context.Context, controller string) error
}

// A Configurer handles the running configuration.
type Configurer interface {
	Save(context.Context) error
	// TryConfiguration has the device read a configuration as it would before using it. It keeps nothing and changes nothing.
	TryConfiguration(ctx context.Context, text []byte) ([]Message, error)
}

// Components handles firmware beside the main image.
type Components interface {
	UpdateComponent(ctx context.Context, component, file string, p Progress) error
	PowerCycle(ctx context.Context, component string) error
}

// A Licensor gives licences. The key is part of no command, error or recording.
type Licensor interface {
	AddLicence(ctx context.Context, licence, key string) error
}

// Parts fetches the parts of a backup and puts them back.
type Parts interface {
	// FetchPart fetches one part and proves that it is whole; proof says how.
	FetchPart(ctx context.Context, name string) (data []byte, proof string, err error)
	// PutPart puts a part back under its exact name and has the device use it. What it takes afterwards is for the caller.
	PutPart(ctx context.Context, name string, data []byte) error
}

// A Reader takes readings. One that the device refuses, or whose answer is not understood, is not readable and holds what was seen; a
// connection that fails is an error.
type Reader interface {
	Readings(context.Context, []Reading) (verify.Readings, error)
}

// A Teller passes on what a device says by itself over a connection, where its [Profile] says that it does.
type Teller interface {
	// Listen hears until ctx or the connection ends, and returns why. bad says that it reports trouble.
	Listen(ctx context.Context, hear func(text string, bad bool)) error
}

// A Through is a device that others are reached through.
type Through interface {
	DialThrough(ctx context.Context, address string) (net.Conn, error)
}

// A Loader starts a slot from the boot loader of a device that does not come up any more, over its console line. A device that is not in its boot
// loader is left alone: then it is an error of kind NotReady.
type Loader interface {
	LoadSlot(ctx context.Context, t Target, slot string) error
}

// As returns what a connection or driver can do as a T; what it cannot is an *Error of kind Lacking, which says so. what names it.
func As[T any](from any, what string) (T, error) {
	if t, ok := from.(T); ok {
		return t, nil
	}
	var none T
	name := ""
	if s, ok := from.(interface{ Profile() *Profile }); ok && s.Profile() != nil {
		name = s.Profile().Name
	}
	return none, &Error{Kind: Lacking, Address: name, Doing: what, Message: "its driver cannot do that; do it by hand, or describe the device in a dialect that can"}
}

// A Message is what a device says about a line of a configuration.
type Message struct {
	Line int // from 1
	Text string
}

// A Target says where a device is and how to get in.
type Target struct {
	Address       string            // host:port
	SignIns       []SignIn          // tried in this order
	Privileged    []SignIn          // passwords for the privileged level, tried in this order
	Token         string            // for its HTTP side
	TokenID       int64             // of the credential
	Web           string            // URL of its HTTP side
	HostKey       string            // pinned key in authorized-keys form; empty: take what comes, see Session.HostKey
	AnyHostKey    bool              // another host key than the pinned one is expected
	Tries         int               // how many refused sign-ins are risked; 0: 1
	RaiseTries    int               // how many refused privileged passwords are risked; 0: 1, below 0: none
	Exchange      Exchange          // nil: the device can neither send nor fetch
	Console       string            // host:port of its console line; then that is spoken with, and nothing else
	Enter         string            // with Via: command there that opens a session into this one; "": its SSH passes the connection on
	Via           *Route            // device that is signed in to first; nil: it is reached directly
	Screen        Screen            // the terminal that is asked for
	KeepAlive     time.Duration     // after which silence the device is asked whether it is there; 0: never
	Services      map[string]string // where it offers a management protocol, host:port, where that is not the port of its kind
	Pins          map[string]string // by protocol: the pinned key of its certificate, see link.Pin
	Certificate   *tls.Certificate  // ours, where the other side of TLS wants one; nil: none
	CertificateID int64             // of the credential
	SNMP          []SNMPUser        // the first that fits the version is taken
	// Pin keeps the key of a certificate that is seen for the first time, or that is expected to have changed. It may be nil.
	Pin    func(protocol, pin string) error
	Packet int // most bytes of a file in one SFTP request, at most 32 KiB, which 0 stands for
	// Record hears what comes over a console line or out of a module, but for parts of backups. It may be nil.
	Record func([]byte)
	// Refused and Used hear of every sign-in and every privileged password that the device refused or took. They may be nil.
	Refused func(in SignIn, privileged bool)
	Used    func(in SignIn, privileged bool)
	// Noted hears of every use of a credential with which nobody signs in: a token, a user or community of SNMP, a certificate. It may be nil.
	Noted func(id int64)
}

// A Screen is a terminal (RFC 4254, section 6.2). What is zero is as usual: a wide and high one, so that lines are not broken and output does not pause.
type Screen struct {
	Term          string
	Columns, Rows int
}

// A SignIn is one way to be let in.
type SignIn struct {
	ID       int64 // of the credential
	User     string
	Password string
	Key      ssh.Signer // nil: by password
}

// An SNMPUser is a user of version 3 (RFC 3414), or a community of version 2c.
type SNMPUser struct {
	ID                         int64 // of the credential
	User                       string
	AuthProtocol, AuthPassword string
	PrivProtocol, PrivPassword string
	Community                  string
}

// An Exchange lets devices send files to us and fetch files from us. transfer.Intake is one.
type Exchange interface {
	// Expect returns a URL of a scheme (sftp, ftp or tftp) to which one file may be sent, and a function that waits for it.
	Expect(scheme string, limit int64) (url string, wait func(context.Context) ([]byte, error), withdraw func(), err error)
	// OfferData returns a URL of a scheme (http or tftp) from which one file may be fetched.
	OfferData(scheme string, data []byte) (url string, withdraw func(), err error)
	// OfferFile is OfferData for a file, over http at most for d.
	OfferFile(scheme, file string, d time.Duration) (url string, withdraw func(), err error)
	// Came reports whether somebody came for what is offered at an address that was not withdrawn yet.
	Came(url string) bool
}
