package ready

import (
	"time"

	"verimorph/core/portrait"
)

// What is known when a change is looked at.

// A Need is a prerequisite of the catalogue. Met is nil when nobody knows.
type Need struct {
	Check          string // Prerequisites, Variables or Licences
	Text           string
	Met            *bool
	Evidence, What string // what was seen; what to do
}

// Needed are the prerequisites as checks.
func (f *Facts) Needed() (out []Check) {
	for _, n := range f.Needs {
		c := Check{Name: n.Check, Title: n.Text, State: Pass, Evidence: n.Evidence}
		switch {
		case n.Met == nil:
			c.State, c.Remedy = Warn, n.What
		case !*n.Met:
			c.State, c.Remedy = Stop, n.What
		}
		out = append(out, c)
	}
	return out
}

// A File that the change needs.
type File struct {
	Name  string
	Size  int64
	There bool   // in the image store, undamaged, right
	Why   string // when it is not
	Comes bool   // it is being fetched
}

// A Store is a storage beside that for files. Need is what an installation takes there beyond what it overwrites; 0 when nothing is.
type Store struct {
	Name string
	portrait.Room
	Need int64
}

// Facts are what the checks look at. What is nil or zero is not known, or does not apply; each field says which.
type Facts struct {
	Unreachable string // why the device cannot be reached or signed in to; "" when it can
	SignedInAs  string

	// Credentials for the versions on the way and on the way back: versions for which no credential is meant.
	NoCredential []string

	WantModel, Model, WantSerial, Serial string   // Want: as planned; "" is not compared
	GoesOnAs                             string   // the model that the hop makes of it; "" where it stays what it is
	WillChange                           []string // values by which others know it, and which the hop changes
	WantVersion, Version                 string

	OtherChange int64 // a change that occupies the device; 0: none

	Files []File

	Total, Free, Need int64    // bytes; Total 0: not known
	Removable         []string // files that could go: NAME (SIZE)
	Installed         []string // files that hold what runs or could be fallen back to: NAME (SIZE, the image of VERSION)

	Stores []Store // storages beside that for files

	HasSlots   bool
	FromFiles  bool   // images are started as they lie on the device: none is written over another
	SameName   string // the file that runs, when the image to send has its name
	Copy       string // what the named copy is called that is made of what runs; "" where none is
	CopyApart  bool   // it lies on another medium than what runs
	Writes     bool   // an installation is written
	Idle       string // name of the idle slot; "" when there is none
	IdleHolds  string // its version; "" when it is empty
	IdleBusy   bool
	IdleBroken bool // what it holds cannot be started
	RunningIn  string
	BackText   string // the declared way back; "" when there is none
	BackFile   string // "" when all that the way back needs is there, else what is missing
	BackIsAuto bool
	// BackNeedless says that nothing is done that would have to be undone.
	BackNeedless bool

	BackupAge  *time.Duration // of the last complete one; nil: there is none
	BackupSoon bool           // the change takes one itself before it touches the device
	Touches    bool           // the change does what could lose configuration
	Single     bool           // the change is made of single steps

	Unsaved    portrait.Fact
	CanSave    bool // running and saved configuration are two things there
	SavesFirst bool // the change saves it
	Starts     bool // the device is started anew

	Modules []portrait.Module

	Services      portrait.Fact     // whether the device says that they are ready
	NotUnderstood map[string]string // by table of the portrait: a line that its dialect does not know

	Empty   []string // readings with nothing in them, of which a rule wants to keep something
	NotRead []string // readings that could not be taken, with why

	Needs []Need

	GoesBack      bool     // the previous installation is started, with the configuration that was saved under it
	Carried       bool     // what was configured since is converted and carried along
	Undone        []string // what was configured since, and is undone
	UndoneUnknown string   // why nobody can say
	UndoneBackup  int64    // that it was compared with
	CanCarry      bool

	Role, Mate, Sync string        // of a member of an ensemble, in its own words; "": it stands alone, or does not say
	InSync           portrait.Fact // it, or its mate, could take over
	Together         bool          // the change is one of the whole ensemble

	Units    UnitFacts
	Children ChildFacts
	// NewAddress says what answers at the address that the device is to have; "": nothing does.
	NewAddress string
	Join       *JoinFacts // of a box that comes under the device, or leaves it; nil: none does

	Older   string   // the older release that a downgrade leads to; "" when it is none
	Against []string // what speaks against it

	ConversionOpen string // what of the last backup's configuration needs a person; "" when nothing does, or nothing is converted
	ConversionHow  string // and how that is worked out

	Now         time.Time
	From, To    time.Time     // the window; zero: none
	RestartFrom time.Time     // the point of no return is not passed before; zero: at any time
	Rest, Back  time.Duration // the 95th percentile of what is left (after RestartFrom, when that is to come), and of the way back
	Half        time.Duration // the middle of what is left
}
