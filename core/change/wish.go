package change

// WishFormat is the number of the format in which wishes are stored now. Format 1 was the body of the call that drafted the change.
const WishFormat = 2

// A Wish is what somebody asked for, as it is kept with the change, to draft it anew from where the device stands then. It holds no keys: those
// are kept sealed.
type Wish struct {
	Format int    `json:"format"`
	Device string `json:"device,omitempty"` // its name, or that of an ensemble

	// Of a change to another version.
	Aim
	Licences []string `json:"licences,omitempty"` // names of those that the device is given before anything else
	CleanUp  []string `json:"cleanUp,omitempty"`  // files to remove first
	Both     bool     `json:"both,omitempty"`     // the last release goes into the other slot, too

	// Of starting the installation in the other slot again.
	Back  bool `json:"back,omitempty"`
	Carry bool `json:"carry,omitempty"` // the configuration of now is put onto it

	// Of single operations.
	Operations []Asked `json:"operations,omitempty"`

	// Of a restore.
	Restore *RestoreWish `json:"restore,omitempty"`

	// Of a box that stands alone and comes under a controller, and of one that stands alone again.
	Join    *JoinWish `json:"join,omitempty"`
	Release bool      `json:"release,omitempty"`
	Empty   bool      `json:"empty,omitempty"` // it stays in its factory state

	// Of a blank device.
	BringUp *BringUpWish `json:"bringUp,omitempty"`

	// Of a device that takes the place of another one.
	Replace *ReplaceWish `json:"replace,omitempty"`

	// Of a prepared unit that takes the place of the one at a site.
	Swap *SwapWish `json:"swap,omitempty"`

	// Of services that are put onto a device, or taken off one.
	Move *ServicesWish `json:"move,omitempty"`

	// Of a medium that the device writes.
	Medium *MediumWish `json:"medium,omitempty"`

	// Of one that was replaced and serves again.
	PutBack *PutBackWish `json:"putBack,omitempty"`

	Together   bool     `json:"together,omitempty"`   // of a device with several units: they restart together, also where they could go one after the other
	Authorise  []string `json:"authorise,omitempty"`  // serials, and ranges of them, of new children that are let join
	SwitchBack bool     `json:"switchBack,omitempty"` // of an ensemble: whoever was active before is it again in the end

	ComesBackAt string `json:"comesBackAt,omitempty"` // host:port at which it is expected once it was started anew
}

// An Aim says where a path is to lead, and what may happen on the way.
type Aim struct {
	To           string   `json:"to,omitempty"` // a version, or preferred, newest, train:T, fixes:ADVISORY, member:NAME
	ToModel      string   `json:"toModel,omitempty"`
	Previews     bool     `json:"previews,omitempty"`
	Reset        bool     `json:"reset,omitempty"`
	MaxHops      int      `json:"maxHops,omitempty"`
	Services     []string `json:"services,omitempty"`
	DropChildren bool     `json:"dropChildren,omitempty"`
	Alternatives int      `json:"alternatives,omitempty"`
}

// An Asked is an operation as somebody asks for it: files and parts by their names.
type Asked struct {
	Kind  Kind     `json:"kind"`
	File  string   `json:"file,omitempty"`
	Files []string `json:"files,omitempty"`
	Part  string   `json:"part,omitempty"` // a component, or a licence
	Text  string   `json:"text,omitempty"`
	Once  bool     `json:"once,omitempty"`
	Slot  string   `json:"slot,omitempty"`
	Name  string   `json:"name,omitempty"` // another one for it
	Key   string   `json:"-"`              // of a licence
}

// A RestoreWish says what of a backup goes back, and onto which device.
type RestoreWish struct {
	Backup           int64    `json:"backup"`
	Device           string   `json:"device,omitempty"` // "": where it was taken from
	Parts            []string `json:"parts,omitempty"`  // none: all that can be put back
	Conversion       int64    `json:"conversion,omitempty"`
	ExpectNewHostKey bool     `json:"expectNewHostKey,omitempty"`
	AcceptGuarded    bool     `json:"acceptGuarded,omitempty"`
}

// A JoinWish says whom a box is to follow.
type JoinWish struct {
	Controller string `json:"controller"`        // its name, or that of an ensemble
	Address    string `json:"address,omitempty"` // at which the box finds it; "": that of the device
	Group      string `json:"group,omitempty"`   // whose settings it gets
}

// A BringUpWish says what a blank device is to become.
type BringUpWish struct {
	Template string `json:"template,omitempty"`
	Backup   int64  `json:"backup,omitempty"` // whose configuration it gets, in the place of a template
	File     string `json:"file,omitempty"`   // the name of the file with its configuration, in the place of both; its text is sealed with the change
	// Used are the values that the template was filled with, and where each came from. Secrets are hidden.
	Used         []UsedValue `json:"used,omitempty"`
	Serial       string      `json:"serial,omitempty"` // that it has to have; "": any
	KeepPassword bool        `json:"keepPassword,omitempty"`
	Content      []string    `json:"content,omitempty"` // files of components beside the main image, such as signatures
	Calls        bool        `json:"calls,omitempty"`   // it asks by itself (RFC 8572)
	Model        string      `json:"model,omitempty"`   // of one that does
	For          string      `json:"for,omitempty"`     // device for which it is to stand by, as a spare
	SameKey      bool        `json:"sameKey,omitempty"` // it was given the key under which that one writes its secrets
}

// Sources is how many say what the device is configured with.
func (w *BringUpWish) Sources() (n int) {
	for _, is := range []bool{w.Template != "", w.Backup != 0, w.File != ""} {
		if is {
			n++
		}
	}
	return n
}

// A SwapWish says which unit takes the place of the one at a site.
type SwapWish struct {
	Serial string `json:"serial"`
	Backup int64  `json:"backup,omitempty"` // whose configuration it should have: the newest of the device when that was drafted
}

// A ReplaceWish says whose place a device takes, and with which configuration.
type ReplaceWish struct {
	Old          string `json:"old"`                    // whose place it takes
	Conversion   int64  `json:"conversion,omitempty"`   // worked out of the old one's configuration; 0: the rules alone, which must leave nothing open
	Dead         bool   `json:"dead,omitempty"`         // the old one does not answer
	OwnAddress   bool   `json:"ownAddress,omitempty"`   // the new one is managed at an address of its own
	KeepPassword bool   `json:"keepPassword,omitempty"` // its first one
	Defaults     string `json:"defaults,omitempty"`     // what becomes of what the new one says by itself: DropDefaults, KeepDefaults
	Serial       string `json:"serial,omitempty"`       // that the new one has to have; "": any
}

// A PutBackWish says which replacement is undone.
type PutBackWish struct {
	Change int64 `json:"change"` // by which the device was replaced
}

// What becomes of what a new device says by itself and the configuration of the old one does not.
const (
	DropDefaults = "drop"
	KeepDefaults = "keep"
)

// A UsedValue is a value of a template with the source that it was taken from.
type UsedValue struct {
	Name  string   `json:"name"`
	Value string   `json:"value"`
	From  string   `json:"from"`
	Over  []string `json:"over,omitempty"` // sources that say something else, which does not count
}
