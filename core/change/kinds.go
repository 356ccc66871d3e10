package change

import "slices"

// Kind is what a step does.
type Kind string

// The kinds of steps, in the order in which a hop goes through them. What is known about each is a row of [Kinds].
const (
	Readings        Kind = "readings"
	Fetch           Kind = "fetch"
	Check           Kind = "check"
	Backup          Kind = "backup"
	Convert         Kind = "convert"
	Hand            Kind = "hand"
	CleanUp         Kind = "clean-up"
	Licence         Kind = "licence"
	Clone           Kind = "clone"
	Send            Kind = "send"
	Checksum        Kind = "checksum"
	Component       Kind = "component"
	PowerCycle      Kind = "power"
	Install         Kind = "install"
	Unpack          Kind = "unpack"
	GoNoGo          Kind = "go-no-go"
	Drain           Kind = "drain"
	Save            Kind = "save"
	ChooseSlot      Kind = "choose-slot"
	Restart         Kind = "restart"
	Link            Kind = "link"
	Login           Kind = "login"
	Confirm         Kind = "version"
	Validate        Kind = "validate"
	PutPart         Kind = "put-part"
	KeepSlot        Kind = "keep-slot"
	Prestage        Kind = "prestage"
	Services        Kind = "services"
	RenameSlot      Kind = "rename-slot"
	RemoveSlot      Kind = "remove-slot"
	Undrain         Kind = "undrain"
	Tidy            Kind = "tidy"
	Settle          Kind = "settle"
	Spread          Kind = "spread"
	RestartUnits    Kind = "restart-units"
	HandOver        Kind = "hand-over"
	AwaitUnits      Kind = "units"
	Preload         Kind = "preload"
	AwaitChildren   Kind = "children"
	RestartChildren Kind = "restart-children"
	BecomeManaged   Kind = "become-managed"
	JoinController  Kind = "join"
	ReleaseChild    Kind = "release-child"
	SetPassword     Kind = "set-password"
	AwaitCall       Kind = "call"
	CheckSource     Kind = "check-source"
	PlaceServices   Kind = "place-services"
	WriteMedium     Kind = "write-medium"
	Plugged         Kind = "plugged"
	Sync            Kind = "sync"
	Switch          Kind = "switch-over"
	Verify          Kind = "verdict"

	CheckRestore Kind = "check-restore"
	CompareParts Kind = "compare-parts"
)

// A Spec is what is known about a kind of step. How its work is done is said by the engine.
type Spec struct {
	Kind Kind
	// Title is what people read where a step has no title of its own; at most 30 characters.
	Title string
	// Duration is the key of the family's durations from which the expected range comes. Defaults to the name of the kind.
	Duration string
	// Params is the type of its parameters; nil: it has none.
	Params *ParamsType
	// NoRest: a change does not pause before such a step. From the choice of slot to the confirmed version the device is between two
	// installations, which is no place to rest.
	NoRest bool
	// Irreversible reports whether a step changes which installation the device runs, so that failing there or later asks for the way
	// back; nil: no step of the kind does.
	Irreversible func(Params) bool
	// Whole: it is done for the change as a whole, not for one of its members.
	Whole bool
	// Writes: it writes to the device. Loses: it could lose configuration.
	Writes, Loses bool
	// OnlyOnce: the command must not be sent twice for nothing. A step that was begun and does not show on the device is looked at until
	// no command for it can be on its way any more.
	OnlyOnce bool
	// Moves: how long it takes depends on what it moves, so that other steps of the kind tell nothing about it.
	Moves bool
	// Told is how the step is told, once it is over, while the return of a device that was started anew is awaited; "" where it is not.
	Told string
	// Returning: it is one of the steps that such a return is made of.
	Returning bool
	// Alone says how a person asks for it by itself; nil: it cannot stand alone.
	Alone *Alone
}

// An Alone says how a person asks for an operation by itself.
type Alone struct {
	// Takes is what has to be said with it.
	Takes Takes
	// Help is what it does, in a few words.
	Help string
	// Once: it can be asked for once in a change.
	Once bool
	// Lacks says what a device lacks for the operation; "" when it can be done. nil: it can always be done.
	Lacks func(*Abilities, *Operation) string
}

// Takes is what has to be said with an operation.
type Takes string

// What operations take.
const (
	TakesNothing Takes = ""
	TakesImage   Takes = "image"   // the name of a file in the catalogue
	TakesFiles   Takes = "files"   // names of files on the device
	TakesPart    Takes = "part"    // the name of a component
	TakesLicence Takes = "licence" // a name and a key
	TakesText    Takes = "text"    // what a person is to do
	TakesOnce    Takes = "once"    // nothing, or a slot, and whether it is for the next start only
	TakesSlot    Takes = "slot"    // the name of a copy of an installation
	TakesName    Takes = "name"    // the name of a copy, and another one for it
)

func always(Params) bool { return true }

// Kinds is everything known about each kind of step, in the order in which a hop goes through them. To add a kind: a row here, its
// place in a plan (hop.go), and its work in the engine. It is one table, and so longer than a function should be.
var Kinds = []Spec{
	// Measure before the first hop.
	{Kind: Readings, Title: "Take readings before", NoRest: true},
	// Wait until the image is in the image store.
	{Kind: Fetch, Title: "Fetch from the release site", Params: typed[FileParams](), Moves: true},
	// The readiness check: version, room, image, health ...
	{Kind: Check, Title: "Check that all is ready"},
	{Kind: Backup, Title: "Take a backup",
		Alone: &Alone{Help: "off the device, complete or not at all"}},
	// For the release of the hop, where the device comes back empty.
	{Kind: Convert, Title: "Convert the configuration", Duration: "backup", Params: typed[PartParams]()},
	// A person does it and signs it off.
	{Kind: Hand, Title: "By hand", Params: typed[HandParams](), Irreversible: func(p Params) bool { return p.(HandParams).Cuts },
		Alone: &Alone{Takes: TakesText, Help: "somebody does this and signs it off"}},
	{Kind: CleanUp, Title: "Remove files that were named", Writes: true, Loses: true, Duration: "check", Params: typed[CleanUpParams](),
		Alone: &Alone{Takes: TakesFiles, Help: "remove files from the device"}},
	// Of a new device that asks by itself: it has called, was handed what it is to become, and reports that it is that.
	{Kind: AwaitCall, Title: "Wait for its call"},
	// Of a new device: its first password is replaced by one of ours.
	{Kind: SetPassword, Title: "Set a new password", Writes: true, Duration: "check"},
	{Kind: Licence, Title: "Add licence", Writes: true, Duration: "check", Params: typed[LicenceParams](),
		Alone: &Alone{Takes: TakesLicence, Help: "give the device a licence", Lacks: verb("add-licence", func(can *Abilities) bool { return can.Licence })}},
	// Copy the running installation into the other slot first.
	{Kind: Clone, Title: "Copy the running installation", Writes: true, Loses: true, Duration: "install", OnlyOnce: true,
		Alone: &Alone{Help: "copy the running installation into the idle slot", Once: true, Lacks: verb("clone", func(can *Abilities) bool { return can.Clone })}},
	{Kind: Send, Title: "Send image", Writes: true, Params: typed[FileParams](), Moves: true,
		Alone: &Alone{Takes: TakesImage, Help: "an image of the catalogue onto the device, compared there", Lacks: verb("way to receive files; they are carried in on a medium", func(can *Abilities) bool { return !can.Media })}},
	// The device computes the file's hash.
	{Kind: Checksum, Title: "Compare checksum on device", Params: typed[FileParams](),
		Alone: &Alone{Takes: TakesImage, Help: "have the device compute it once more"}},
	// Firmware beside the main image.
	{Kind: Component, Title: "Update component", Writes: true, Loses: true, Params: typed[ComponentParams](), Moves: true, OnlyOnce: true,
		Alone: &Alone{Takes: TakesImage, Help: "firmware beside the main image", Lacks: lacksComponent}},
	// Of a component, so that its firmware takes effect.
	{Kind: PowerCycle, Title: "Power off and on", Writes: true, Loses: true, Duration: "restart", Params: typed[PowerParams](), OnlyOnce: true,
		Alone: &Alone{Takes: TakesPart, Help: "switch a component off and on", Lacks: verb("power-cycle", func(can *Abilities) bool { return can.PowerCycle })}},
	// Into the slot that is not running, or in place.
	{Kind: Install, Title: "Install into the idle slot", Writes: true, Loses: true, Params: typed[InstallParams](), OnlyOnce: true, Told: "it went down",
		Irreversible: func(p Params) bool { return p.(InstallParams).InPlace },
		Alone:        &Alone{Takes: TakesImage, Help: "into the idle slot", Once: true, Lacks: lacksSlots}},
	// What was installed, where that is an act of its own.
	{Kind: Unpack, Title: "Unpack", Writes: true, Duration: "install", Params: typed[InstallParams](), OnlyOnce: true},
	// Of devices with several units: what was installed is on every one of them.
	{Kind: Spread, Title: "Spread to all units", Writes: true, OnlyOnce: true},
	// Of controllers: their children fetch the new image while they work.
	{Kind: Preload, Title: "Preload children", Writes: true, Params: typed[ChildParams]()},
	// The go/no-go check, right before the point of no return.
	{Kind: GoNoGo, Title: "Go/no-go check", Duration: "check"},
	// Let running work finish.
	{Kind: Drain, Title: "Drain", Writes: true,
		Alone: &Alone{Help: "let running work finish", Once: true, Lacks: verb("drain", func(can *Abilities) bool { return can.Drain })}},
	{Kind: Save, Title: "Save configuration", Writes: true, Loses: true, Returning: true,
		Alone: &Alone{Help: "the running configuration", Lacks: verb("save", func(can *Abilities) bool { return can.Save })}},
	{Kind: ChooseSlot, Title: "Choose slot for next start", Writes: true, Loses: true, Params: typed[SlotParams](), Irreversible: always,
		Alone: &Alone{Takes: TakesOnce, Help: "that of the next starts: the one that is named, else the one just written, else the idle one", Once: true, Lacks: lacksSlots}},
	{Kind: Restart, Title: "Restart", Writes: true, Loses: true, Params: typed[RestartParams](), NoRest: true, OnlyOnce: true, Told: "it went down",
		Irreversible: func(p Params) bool { return p.(RestartParams).Component == "" }, // for a component the same installation starts again
		Alone:        &Alone{Help: "and wait until its services are up", Once: true, Lacks: verb("restart", func(can *Abilities) bool { return !can.InPlace || can.Restart })}},
	// Of devices with several units: some of them start anew, one after the other, while another one serves.
	{Kind: RestartUnits, Title: "Restart units", Writes: true, Loses: true, Params: typed[UnitParams](), NoRest: true, Moves: true, Irreversible: always},
	// Of devices with several units: one that runs the new release takes over.
	{Kind: HandOver, Title: "Hand over", Writes: true, NoRest: true, OnlyOnce: true},
	// The address answers again.
	{Kind: Link, Title: "Wait for link", Params: typed[RestartParams](), NoRest: true, Told: "link up", Returning: true},
	{Kind: Login, Title: "Wait for sign-in", Params: typed[RestartParams](), NoRest: true, Told: "sign-in works", Returning: true},
	// The running version is the hop's.
	{Kind: Confirm, Title: "Confirm running version", NoRest: true, Told: "the version is right", Returning: true},
	// The device reads a configuration without using it.
	{Kind: Validate, Title: "Have the device read it first", Duration: "backup", Params: typed[PartParams](), Returning: true},
	// One part goes back under its exact name.
	{Kind: PutPart, Title: "Put back", Writes: true, Loses: true, Duration: "backup", Params: typed[PartParams](), Told: "files put back", Returning: true,
		Irreversible: func(p Params) bool { return p.(PartParams).Serves }},
	// Of devices with several units: all are there, run the release and are well.
	{Kind: AwaitUnits, Title: "Wait for all units", Writes: true, NoRest: true, Returning: true},
	// A slot that was chosen for one start is chosen for good.
	{Kind: KeepSlot, Title: "Choose slot for good", Writes: true, Duration: "choose-slot", NoRest: true, Returning: true},
	// While services start: what the next hop needs travels already, where there is room.
	{Kind: Prestage, Title: "Prestage for the next hop", Writes: true, Moves: true, Returning: true},
	// The device says that its services are up.
	{Kind: Services, Title: "Wait for services", Returning: true},
	// Named copies of installations.
	{Kind: RenameSlot, Title: "Rename a copy", Writes: true, Duration: "choose-slot", Params: typed[SlotParams](),
		Alone: &Alone{Takes: TakesName, Help: "give a copy of an installation another name", Lacks: verb("rename-slot", func(can *Abilities) bool { return can.Rename })}},
	{Kind: RemoveSlot, Title: "Delete a copy", Writes: true, Loses: true, Duration: "choose-slot", Params: typed[SlotParams](),
		Alone: &Alone{Takes: TakesSlot, Help: "delete a copy of an installation", Lacks: verb("remove-slot", func(can *Abilities) bool { return can.Remove })}},
	// Of controllers: their children have joined again, or run the release besides.
	{Kind: AwaitChildren, Title: "Wait for children", Writes: true, Params: typed[ChildParams](), Returning: true},
	// Of controllers: some of their children start anew, so that no place is without.
	{Kind: RestartChildren, Title: "Restart children", Writes: true, Params: typed[ChildParams](),
		Alone: &Alone{Takes: TakesImage, Help: "bring an image onto those that follow the device, in waves", Lacks: verb("restart-child", func(can *Abilities) bool { return can.Children.Restart })}},
	// Of a box that stands alone: it comes under a controller, and loses its configuration.
	{Kind: BecomeManaged, Title: "Convert to managed", Writes: true, Loses: true, Params: typed[JoinParams](), OnlyOnce: true, Irreversible: always},
	// Of a controller: a box that came under it is let join, gets its group, and serves.
	{Kind: JoinController, Title: "Wait for it to join", Writes: true, Params: typed[JoinParams](), NoRest: true},
	// Of a controller: a box stands alone again, in its factory state.
	{Kind: ReleaseChild, Title: "Give back to stand-alone", Writes: true, Loses: true, Params: typed[JoinParams](), OnlyOnce: true, Irreversible: always},
	// Of a device that takes the place of another one: what was converted is what that one has now.
	{Kind: CheckSource, Title: "Compare with the old device", Duration: "backup"},
	// Of services that are put onto a device, or taken off: they are as they were when that was drafted, and go into its configuration of now.
	{Kind: PlaceServices, Title: "Work out what is put", Duration: "backup"},
	// The device writes what it is onto a medium in it, reads that back, and it is compared.
	{Kind: WriteMedium, Title: "Write the medium, read it back", Writes: true, Duration: "backup", Params: typed[MediumParams]()},
	// A cable has arrived at its port.
	{Kind: Plugged, Title: "See that it is connected", Duration: "check", Params: typed[PortParams]()},
	{Kind: Undrain, Title: "Return to service", Writes: true, Duration: "choose-slot",
		Alone: &Alone{Help: "take new work again", Once: true, Lacks: verb("drain", func(can *Abilities) bool { return can.Drain })}},
	// Remove the files that were sent.
	{Kind: Tidy, Title: "Remove sent files from device", Writes: true, Duration: "check"},
	// Measure again and compare, before the way back is given up.
	{Kind: Settle, Title: "Compare before the other slot", Duration: "services"},
	// Of ensembles: the member is in sync with the active one, so that it could take over.
	{Kind: Sync, Title: "Wait until in sync"},
	// Of ensembles: the member becomes the active one.
	{Kind: Switch, Title: "Switch over", Writes: true, OnlyOnce: true},
	// Measure again, compare until settled, conclude.
	{Kind: Verify, Title: "Compare readings, conclude", Duration: "services", Whole: true},

	// Of a restore: the device is the one, and the bundle can be read.
	{Kind: CheckRestore, Title: "Check device and bundle", Duration: "check"},
	// Of a restore: read all parts again and hold them against what was put.
	{Kind: CompareParts, Title: "Compare with the backup", Duration: "backup"},
}

var byKind = func() map[Kind]*Spec {
	out := map[Kind]*Spec{}
	for i := range Kinds {
		out[Kinds[i].Kind] = &Kinds[i]
	}
	return out
}()

// Spec is what is known about a kind; of an unknown kind its name only.
func (k Kind) Spec() *Spec {
	if s := byKind[k]; s != nil {
		return s
	}
	return &Spec{Kind: k, Title: string(k)}
}

// memberOf is the member that a step of a kind belongs to, in a change that concerns one device.
func memberOf(k Kind) int {
	if k.Spec().Whole {
		return 0
	}
	return 1
}

// Is reports whether a kind is one of some.
func (k Kind) Is(kinds ...Kind) bool { return slices.Contains(kinds, k) }
