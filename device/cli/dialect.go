package cli

import (
	"cmp"
	"embed"
	"fmt"
	"io/fs"
	"regexp"
	"slices"

	"verimorph/core/backup"
	"verimorph/core/change"
	"verimorph/device"
)

// DialectFormat is the format line of a dialect file. The one before is still read: what it has means the same.
const (
	DialectFormat  = "verimorph-dialect/2"
	dialectFormat1 = "verimorph-dialect/1"
)

//go:embed dialects/*.yaml
var builtin embed.FS

// Builtin is the folder of dialects that ship with the project.
func Builtin() fs.FS {
	sub, err := fs.Sub(builtin, "dialects")
	if err != nil {
		panic(err)
	}
	return sub
}

// A Dialect teaches how to speak with one kind of device over a command line.
type Dialect struct {
	Format        string                    `yaml:"format"`
	Name          string                    `yaml:"dialect"`
	Prompt        device.Pattern            `yaml:"prompt"` // the last line when the device waits for a command
	Modes         []Mode                    `yaml:"modes"`  // the prompts of a device that has several; instead of prompt and raise
	Session       Conversation              `yaml:"session"`
	Pause         Reply                     `yaml:"pause"`  // how long output pauses, and what goes on
	Echo          *bool                     `yaml:"echo"`   // whether it sends back what is typed; learnt from the first command when left out
	Frame         device.Pattern            `yaml:"frame"`  // a line that begins or ends the answers of such devices; without it an answer is not complete
	Ignore        device.Pattern            `yaml:"ignore"` // lines that say nothing, in any answer
	Setup         []string                  `yaml:"setup"`  // commands right after sign-in
	Raise         Reply                     `yaml:"raise"`  // to the privileged level; ask is where the privileged password goes
	Refusals      []Refusal                 `yaml:"refusals"`
	Portrait      []Query                   `yaml:"portrait"`
	SlotStates    map[string]device.Pattern `yaml:"slot-states"`
	UnitStates    UnitStates                `yaml:"unit-states"`    // on the state of a unit
	ChildStates   ChildStates               `yaml:"child-states"`   // on the state of a child
	ServicesReady device.Pattern            `yaml:"services-ready"` // on the portrait's field services
	Saved         device.Pattern            `yaml:"saved"`          // on the portrait's field unsaved: nothing is; "no" when left out
	Unsaved       device.Pattern            `yaml:"unsaved"`        // on the portrait's field unsaved: something is; "yes" when left out
	Values        map[string]device.Value   `yaml:"values"`         // how it writes what fields hold, by their names
	Backup        []PartSource              `yaml:"backup"`         // the parts of a complete bundle
	Verbs         map[string]Query          `yaml:"verbs"`
	Readings      []device.Reading          `yaml:"readings"`

	Installs   string         `yaml:"installs"`   // slots; in-place: an installation overwrites the running one and the device restarts into it; files: it starts images as they lie on its storage
	Copies     *Copies        `yaml:"copies"`     // named copies of the running installation
	Components []string       `yaml:"components"` // that update-component updates
	GoodPart   device.Pattern `yaml:"good-part"`  // on the state of a part that is well
	InSync     device.Pattern `yaml:"in-sync"`    // on the portrait's field sync, when a member could take over from the active one
	Drained    device.Pattern `yaml:"drained"`    // on the portrait's field work, when no running work is left
	InService  device.Pattern `yaml:"in-service"` // on the portrait's field service, when it takes work
	Medium     string         `yaml:"medium"`     // files reach it on a medium that a person carries in: how their names begin there
	Places     string         `yaml:"places"`     // name of the storage in which the installations lie, where that is not the one for files
	Factory    Factory        `yaml:"factory"`    // what it is like after a hop that resets it
	Console    Console        `yaml:"console"`    // its console line
	Files      Folders        `yaml:"files"`      // where files lie

	Events   Events                    `yaml:"events"`   // what it says by itself over a management protocol
	Services map[string]device.Service `yaml:"services"` // management protocols beside the command line, by their names

	text  string
	known *known
}

// Text is the file that a dialect was read from.
func (d *Dialect) Text() string { return d.text }

// Conversation says how a session with a device begins and how long it lasts.
type Conversation struct {
	Settle float64 `yaml:"settle"` // seconds of silence after which its greeting is over
	Probe  Probe   `yaml:"probe"`
	Idle   float64 `yaml:"idle"` // seconds after which the device signs out whoever says nothing

	Terminal  string  `yaml:"terminal"`   // type of the terminal that is asked for; vt100 when left out
	Columns   int     `yaml:"columns"`    // its width; 500 when left out, so that lines are not broken
	Rows      int     `yaml:"rows"`       // its height; 200 when left out, so that it seldom pauses
	KeepAlive float64 `yaml:"keep-alive"` // seconds after which the device is asked whether it is still there; not at all when left out
	AtOnce    int     `yaml:"at-once"`    // how many sessions the device takes at once; any number when left out
}

// A Probe is a command whose answer shows that the sign-in is over.
type Probe struct {
	Send  string         `yaml:"send"`
	Match device.Pattern `yaml:"match"`
}

// Folders say where files lie on a device. Each ends as the device joins it with a name, as a rule with a slash.
type Folders struct {
	Images string `yaml:"images"` // in front of an image's name in commands, as {path}; the files of the portrait are named with it or without
	By     string `yaml:"by"`     // how files are sent: sftp, scp for devices that have no SFTP, or gnoi for those that take images by os.Install
	Send   string `yaml:"send"`   // in front of it where it is sent over SFTP; images when left out
}

// Events are what such devices say by themselves while somebody is signed in.
type Events struct {
	By      string         `yaml:"by"`      // netconf (RFC 5277), restconf (RFC 8040, section 6) or gnmi
	Stream  string         `yaml:"stream"`  // the usual one when left out; of gnmi the paths that are listened to
	Trouble device.Pattern `yaml:"trouble"` // on the text of one that reports trouble
}

// Copies says what a device's named copies of its running installation are like. They are slots that are made by clone, under a name of our own.
type Copies struct {
	Name    string `yaml:"name"`    // of a copy that a change makes, with {change} and {version}
	Longest int    `yaml:"longest"` // characters of a name; 0: no limit
	Signs   string `yaml:"signs"`   // other signs than letters and digits that a name may have; "-._" when left out
	Apart   bool   `yaml:"apart"`   // they lie on another medium than the running installation
}

// Ways in which files are sent.
const (
	bySftp = "sftp"
	byScp  = "scp"
	byGnoi = device.ByGNOI
)

// Factory says what a device is like in its factory state.
type Factory struct {
	NewHostKey bool `yaml:"new-host-key"` // it makes itself another host key
}

// Console says how a device speaks at its console line.
type Console struct {
	Wake     string         `yaml:"wake"`      // what makes it say something; a carriage return when left out
	User     device.Pattern `yaml:"user"`      // asks for the user
	Password device.Pattern `yaml:"password"`  // asks for the password
	Refused  device.Pattern `yaml:"refused"`   // the sign-in was refused
	Leave    string         `yaml:"leave"`     // ends the sign-in
	Loader   device.Pattern `yaml:"loader"`    // prompt of the boot loader; "" when there is none
	StartOld string         `yaml:"load-slot"` // command to the boot loader that starts a slot: {slot}
	Menu     *Menu          `yaml:"menu"`      // the boot loader is a menu; instead of load-slot
}

// A Menu is a boot menu that is stepped through with a key.
type Menu struct {
	Current device.Pattern `yaml:"current"` // group slot: the entry that is chosen now
	Next    string         `yaml:"next"`    // the key that chooses the next one
	Start   string         `yaml:"start"`   // the key that starts it
}

// Ways of installing.
const (
	BySlots   = "slots"
	InPlace   = "in-place"
	FromFiles = "files"
)

// Profile implements device.Driver. It is worked out once, when the dialect is read; nobody changes it.
func (d *Dialect) Profile() *device.Profile {
	if d.known != nil && d.known.of == d {
		return d.known.profile
	}
	return d.workedOut()
}

// known is the profile of a dialect. A dialect that was copied, and changed then, has another one.
type known struct {
	of      *Dialect
	profile *device.Profile
}

func (d *Dialect) workedOut() *device.Profile {
	p := &device.Profile{Name: d.Name, Abilities: d.abilities(), Lacks: d.lacksForFirmware(), Readings: slices.Clip(d.Readings),
		Fetches: d.Verbs["fetch-image"].given(), Medium: d.Medium, Folder: cmp.Or(d.Files.Send, d.Files.Images),
		Pushes: d.pushes(), Places: d.Places,
		NewHostKey: d.Factory.NewHostKey, Tells: d.Events.By, Copies: d.Copies.profile(), Loader: d.Console.Loader.Regexp != nil && (d.Console.StartOld != "" || d.Console.Menu != nil)}
	for _, s := range d.Backup {
		part := device.Part{Name: s.Name, Title: s.Title, Kind: s.Kind, File: s.File, Syntax: s.Syntax, Optional: s.Optional, By: s.By, Role: s.role(),
			Varies: s.Varies}
		if s.Restore != nil {
			part.Restore = &device.Put{Save: s.Restore.Save, Restart: s.Restore.Restart}
		}
		p.Parts = append(p.Parts, part)
	}
	p.Parts = slices.Clip(p.Parts)
	return p
}

// pushes is the protocol by which files are sent from their begin to their end; "" where they go over SFTP.
func (d *Dialect) pushes() string {
	if d.Files.By == byScp || d.Files.By == byGnoi {
		return d.Files.By
	}
	return ""
}

// role is the role of a part: the declared one, else that of its name.
func (s *PartSource) role() string {
	if s.Role == "" && s.Kind == backup.Configuration && (s.Name == backup.Running || s.Name == backup.Saved) {
		return s.Name
	}
	return s.Role
}

// abilities says what changes can do with such devices.
func (d *Dialect) abilities() change.Abilities {
	has := func(verb string) bool { return d.Verbs[verb].given() }
	a := change.Abilities{InPlace: d.Installs == InPlace, FromFiles: d.Installs == FromFiles, ByVersion: d.byVersion(), Copies: d.Copies != nil, Rename: has("rename-slot"),
		Remove: has("remove-slot"), Once: has("choose-slot-once"), Clone: has("clone"), Unpack: has("unpack"), Drain: has("drain"), TakeOver: has("take-over"),
		Save: has("save"), Media: d.Medium != "", PowerCycle: has("power-cycle"), Licence: has("add-licence"), Restart: has("restart"), Validate: has("try-configuration")}
	if has("update-component") {
		a.Components = d.Components
	}
	a.Units = change.UnitAbilities{Told: d.tells("units"), Spread: has("spread"), BringAlong: has("bring-along"), Clean: has("clean-unit"), Restart: has("restart-unit"),
		HandOver: has("hand-over"), Components: has("update-unit")}
	a.Children = change.ChildAbilities{Told: d.tells("children"), Preload: has("preload"), Files: d.says("preload", "file") || d.says("preload", "path"),
		Restart: has("restart-child"), Authorise: has("authorise"), Drain: has("drain-child"), Called: d.ChildStates.Called,
		Group: has("group-child"), Release: has("release-child")}
	a.Follow, a.Password = has("become-managed"), has("set-password")
	a.WritesMedia = has("write-medium") && has("read-medium")
	for _, p := range d.Backup {
		if p.Restore != nil && (p.Kind == backup.Configuration || p.Kind == backup.Plan) {
			a.Parts = append(a.Parts, change.Restored{Name: p.Name, Title: p.File, Save: p.Restore.Save, Restart: p.Restore.Restart,
				Configuration: p.Kind == backup.Configuration})
		}
	}
	return a
}

// A Reply is something the device asks and what to send.
type Reply struct {
	Match device.Pattern `yaml:"match"`
	Send  string         `yaml:"send"`
	Ask   device.Pattern `yaml:"ask"`
}

// A Refusal recognises a device's "no".
type Refusal struct {
	Match device.Pattern   `yaml:"match"` // group message: the device's words
	Kind  device.ErrorKind `yaml:"kind"`
}

// A Query is one command and how to read its answer.
type Query struct {
	By       string         `yaml:"by"`       // protocol by which it is said; the command line when left out
	Send     string         `yaml:"send"`     // with {file}, {slot}, {url} filled in
	Raised   bool           `yaml:"raised"`   // needs the privileged level
	Mode     string         `yaml:"mode"`     // it is said in; the first when left out
	Steps    []Step         `yaml:"steps"`    // lines that are sent one after the other, instead of send
	Expect   []Expect       `yaml:"expect"`   // questions that may come, in any order
	Table    *device.Layout `yaml:"table"`    // how the answer is laid out, instead of match or fields
	Job      *Job           `yaml:"job"`      // it is carried out in the background; how to ask for it
	Wait     float64        `yaml:"wait"`     // seconds of silence allowed; 20 when left out
	Fields   device.Pattern `yaml:"fields"`   // each named group becomes a field
	Rows     string         `yaml:"rows"`     // name of the table that match fills
	Match    device.Pattern `yaml:"match"`    // one row for each match
	Progress device.Pattern `yaml:"progress"` // groups percent, or done and total
	Ask      device.Pattern `yaml:"ask"`      // a question to expect
	Answer   string         `yaml:"answer"`
	Ends     bool           `yaml:"ends"`    // the connection ends with it
	Until    device.Pattern `yaml:"until"`   // the answer ends with this, whether a prompt follows or not
	Success  device.Pattern `yaml:"success"` // what the answer says when it went well; an answer without it is not understood
	Frame    device.Pattern `yaml:"frame"`   // of a table: a line that begins or ends it, beside the dialect's
	Ignore   device.Pattern `yaml:"ignore"`  // of a table: lines that are no rows, beside the dialect's

	whole bool // every line of the answer counts, and nothing else shows where it ends
}

// Verbs that a dialect must have, and the placeholders each may use.
var verbParams = map[string][]string{
	"checksum": {"file", "path"}, "fetch-image": {"url", "file", "path"}, "install": {"file", "path", "slot"}, "save": nil,
	"choose-slot": {"slot", "path", "second", "second_path", "version"}, "remove-file": {"file", "path"}, "restart": nil, "try-configuration": {"file"},
	"choose-slot-once": {"slot", "path", "version"}, "clone": {"slot"}, "unpack": {"slot"}, "drain": nil, "undrain": nil, "take-over": nil,
	"rename-slot": {"slot", "new"}, "remove-slot": {"slot", "version"},
	"update-component": {"component", "file", "path"}, "power-cycle": {"component"}, "add-licence": {"licence"},
	"spread": {"slot", "file", "path"}, "bring-along": {"unit"}, "clean-unit": {"unit", "file"}, "restart-unit": {"unit"}, "hand-over": nil, "update-unit": {"unit", "component", "file", "path"},
	"preload": {"child", "file", "path", "version"}, "restart-child": {"child"}, "authorise": {"serial"}, "drain-child": {"child"}, "undrain-child": {"child"},
	"group-child": {"child", "group"}, "release-child": {"child"}, "become-managed": {"controller"},
	"set-password": {"user"}, "write-medium": {"file"}, "read-medium": {"file"},
}

// firmwareVerbs are those without which firmware cannot be changed, by the way of installing.
var firmwareVerbs = map[string][]string{
	BySlots:   {"checksum", "install", "choose-slot", "remove-file", "restart"},
	InPlace:   {"checksum", "install"},
	FromFiles: {"checksum", "choose-slot", "remove-file", "restart"},
}

// provenByDevice are the verbs that a device can do without that takes images by os.Install: it proves them itself, and keeps no damaged one.
var provenByDevice = []string{"checksum", "remove-file"}

// byVersion reports whether a device knows its images by their versions alone: it takes them by os.Install, and computes no sums.
func (d *Dialect) byVersion() bool {
	return d.Installs == FromFiles && d.Files.By == byGnoi && !d.Verbs["checksum"].given()
}

// lacksForFirmware lists the verbs that are missing to change the firmware of such a device; none when it can be done.
func (d *Dialect) lacksForFirmware() (missing []string) {
	for _, name := range firmwareVerbs[d.Installs] {
		if !d.Verbs[name].given() && !(d.byVersion() && slices.Contains(provenByDevice, name)) {
			missing = append(missing, name)
		}
	}
	return missing
}

var placeholder = regexp.MustCompile(`\{(\w+)\}`)

// Drivers are dialects as drivers.
func Drivers(dialects map[string]*Dialect) map[string]device.Driver {
	out := map[string]device.Driver{}
	for name, d := range dialects {
		out[name] = d
	}
	return out
}

// safeArgument is what may be filled into a command: nothing that a command line could take apart.
var safeArgument = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:/@-]{0,255}$`)

// safePath is what may be filled in for {path}: a folder of the dialect may begin at the root.
var safePath = regexp.MustCompile(`^/?[A-Za-z0-9][A-Za-z0-9._:/@-]{0,255}$`)

func fill(command string, args map[string]string) (string, error) {
	var bad error
	out := placeholder.ReplaceAllStringFunc(command, func(m string) string {
		name := m[1 : len(m)-1]
		v, safe := args[name], safeArgument
		switch {
		case v == eachLater:
			return m
		case name == "path" || name == "second_path":
			safe = safePath
		}
		if !safe.MatchString(v) {
			bad = fmt.Errorf("%q cannot be part of a command", v)
		}
		return v
	})
	return out, bad
}
