// Package ready answers whether a change may begin or continue (a go/no-go check). [Checks] turns facts about the device, the image, the records and the
// time window into checks. A [Check] passes, warns or stops; it has evidence, and says what to do.
//
// A warning can be accepted by name and with a reason; a stop cannot. What is unknown is never taken for good: it warns or stops. The package
// computes from [Facts]; the engine gathers them.
package ready

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verimorph/core/portrait"
)

// State is the outcome of a check.
type State string

// The states: a warning may be accepted by a person with a reason, a stop may not.
const (
	Pass State = "pass"
	Warn State = "warn"
	Stop State = "stop"
)

// A Check is one thing that was looked at.
type Check struct {
	Name     string `json:"name"`
	Title    string `json:"title"`
	State    State  `json:"state"`
	Evidence string `json:"evidence"`
	Remedy   string `json:"remedy,omitempty"`
	Member   string `json:"member,omitempty"` // name of the device that it is about, in a change of several
}

// Names of the checks, in the order in which they are told.
const (
	Reach         = "reach"
	WaysIn        = "ways-in"
	Identity      = "identity"
	OtherWork     = "other-work"
	Others        = "ensemble"
	Proved        = "proof" // of the order of a change of several
	UnitsCheck    = "units"
	Dark          = "dark" // for how long nobody serves
	ChildrenCheck = "children"
	Drops         = "drops" // with a model of children behind it
	Seats         = "seats"
	Places        = "places" // that are without service for a while
	Joins         = "join"   // whether a box can come under the device, or leave it
	AddressTaken  = "new-address"
	Called        = "call" // whether a device that asks by itself would be handed what it needs
	Images        = "images"
	Room          = "room"
	Slots         = "slots"
	BackupCheck   = "backup"
	Unsaved       = "unsaved"
	Health        = "health"
	Services      = "services"
	Readings      = "readings"
	Understood    = "understood"
	Undone        = "configured-since"
	OlderRelease  = "older-release"
	Platform      = "platform"
	Prerequisites = "prerequisite"
	Variables     = "boot-variable"
	Licences      = "licence"
	Conversion    = "conversion"
	WayBack       = "way-back"
	Window        = "window"
)

// Checks works all of them out. There is one for each thing that could be looked at.
func Checks(f Facts) (out []Check) {
	add := func(name, title string, state State, remedy, format string, args ...any) {
		out = append(out, Check{Name: name, Title: title, State: state, Evidence: fmt.Sprintf(format, args...), Remedy: remedy})
	}
	if f.Unreachable != "" {
		add(Reach, "Reachable", Stop, "see that the device can be reached and that its credentials are right", "%s", f.Unreachable)
	} else {
		add(Reach, "Reachable", Pass, "", "signed in as %s", f.SignedInAs)
	}
	if len(f.NoCredential) > 0 {
		add(WaysIn, "Ways in", Warn, "add the credentials that apply there, with the versions they are for",
			"no credential is known to be for %s; those for any version are tried", strings.Join(f.NoCredential, ", "))
	} else if f.Unreachable == "" {
		add(WaysIn, "Ways in", Pass, "", "there are credentials for every version on the way and on the way back")
	}
	if f.Unreachable == "" {
		f.identity(add)
		f.room(add)
		f.stores(add)
		f.slots(add)
		f.unsaved(add)
		f.understood(add)
		f.services(add)
		f.comparable(add)
		f.health(add)
		f.others(add)
		f.Units.checks(add)
		f.Children.checks(add)
		f.Join.checks(add)
		if f.NewAddress != "" {
			add(AddressTaken, "New address", Stop, "see whose it is; give the device another one, or take the other box off the network", "%s", f.NewAddress)
		}
	}
	f.goesBack(add)
	if len(f.Against) > 0 {
		add(OlderRelease, "The older release", Warn, "choose another release, or say why it has to be this one", "%s: %s", f.Older,
			strings.Join(f.Against, "; "))
	} else if f.Older != "" {
		add(OlderRelease, "The older release", Pass, "", "no advisory that was imported names %s, and it is not withdrawn", f.Older)
	}
	if f.OtherChange != 0 {
		add(OtherWork, "Other work", Stop, "wait until it has ended", "change %d occupies the device", f.OtherChange)
	} else {
		add(OtherWork, "Other work", Pass, "", "no other change occupies the device")
	}
	f.images(add)
	f.backup(add)
	for _, n := range f.Needed() {
		add(n.Name, n.Title, n.State, n.Remedy, "%s", n.Evidence)
	}
	if f.ConversionOpen != "" {
		add(Conversion, "Conversion", Warn, "work it out first: "+f.ConversionHow+"; else the change asks on its way, or cannot say whether the configuration is as it should be",
			"%s", f.ConversionOpen)
	}
	switch {
	case f.BackText == "":
		add(WayBack, "Way back", Warn, "be ready to bring the device back by hand", "none is known")
	case f.BackNeedless:
		add(WayBack, "Way back", Pass, "", "%s; nothing would have to be undone", f.BackText)
	case f.BackFile != "":
		add(WayBack, "Way back", Warn, "add that image to the image store", "%s; for this the image store lacks %s", f.BackText, f.BackFile)
	default:
		add(WayBack, "Way back", Pass, "", "%s; it is %s", f.BackText, map[bool]string{true: "taken without asking", false: "offered"}[f.BackIsAuto])
	}
	if !f.To.IsZero() || !f.From.IsZero() {
		f.window(add)
	}
	place := func(c Check) int { kind, _, _ := strings.Cut(c.Name, " "); return slices.Index(order, kind) }
	slices.SortStableFunc(out, func(a, b Check) int { return place(a) - place(b) })
	return out
}

var order = []string{Proved, Reach, WaysIn, Identity, Platform, OtherWork, Others, UnitsCheck, Dark, ChildrenCheck, Drops, Seats, Places, Window, Images, Room, Slots,
	WayBack, BackupCheck, Unsaved, Understood, Health, Services,
	Readings, Undone, OlderRelease, Prerequisites, Variables, Licences, Conversion}

type adder func(name, title string, state State, remedy, format string, args ...any)

func (f *Facts) identity(add adder) {
	var wrong []string
	for _, p := range [][3]string{{"model", f.WantModel, f.Model}, {"serial", f.WantSerial, f.Serial}, {"version", f.WantVersion, f.Version}} {
		if p[1] != "" && p[1] != p[2] {
			wrong = append(wrong, fmt.Sprintf("its %s is %s, planned was %s", p[0], cmp.Or(p[2], "not known"), p[1]))
		}
	}
	if len(wrong) > 0 {
		add(Identity, "As planned", Stop, "draft it anew from where it stands: verimorph change redraft", "%s", strings.Join(wrong, "; "))
		return
	}
	add(Identity, "As planned", Pass, "", "%s %s runs %s", f.Model, f.Serial, f.Version)
	if f.GoesOnAs != "" {
		changes := "nothing by which others know it changes, by its catalogue"
		if len(f.WillChange) > 0 {
			changes = "will change: " + strings.Join(f.WillChange, ", ") + ". Tell whoever watches it"
		}
		add(Platform, "Platform", Pass, "", "it goes on as %s; %s", f.GoesOnAs, changes)
	}
}

// others looks at a member of an ensemble that is changed by itself: what happens to whom it serves.
func (f *Facts) others(add adder) {
	if f.Role == "" || f.Together || !f.Starts {
		return
	}
	const title = "Others of its ensemble"
	mate := "another member"
	if f.Mate != "" {
		mate = f.Mate
	}
	switch {
	case f.Role != "active" && f.Role != "leader":
		add(Others, title, Pass, "", "it is %s; %s serves meanwhile", f.Role, mate)
	case f.InSync == portrait.Yes:
		add(Others, title, Warn, "switch over first, so that it goes down as the one that stands by", "it is %s; when it goes down, %s takes over in that moment", f.Role, mate)
	default:
		how := "whether " + mate + " could take over is not known"
		if f.Sync != "" {
			how = mate + " could not take over as it is: " + f.Sync
		}
		add(Others, title, Warn, "wait until they are in sync and switch over first; else whoever is served is cut off", "it is %s, and %s", f.Role, how)
	}
}

func (f *Facts) room(add adder) {
	switch {
	case f.Total == 0:
		add(Room, "Room for the files", Warn, "see that there is room before it starts",
			"the device does not say how much room it has; %s are needed", MiB(f.Need))
	case f.Free < f.Need:
		remedy := "remove files from the device"
		if len(f.Removable) > 0 {
			remedy += "; these belong to no installation: " + strings.Join(f.Removable, ", ")
		}
		if len(f.Installed) > 0 {
			remedy += "; leave these, unless you know that nothing runs from them: " + strings.Join(f.Installed, ", ")
		}
		add(Room, "Room for the files", Stop, remedy, "%s are needed and %s of %s are free", MiB(f.Need), MiB(f.Free), MiB(f.Total))
	default:
		add(Room, "Room for the files", Pass, "", "%s are needed, %s of %s are free", MiB(f.Need), MiB(f.Free), MiB(f.Total))
	}
}

// stores looks at the other storages: an installation has to fit, and one that is nearly full is a bad start.
func (f *Facts) stores(add adder) {
	for _, s := range f.Stores {
		name, title := Room+" "+s.Name, "Room in "+s.Name
		free := fmt.Sprintf("%s of %s are free", MiB(s.Free), MiB(s.Total))
		switch {
		case s.Free < s.Need:
			add(name, title, Stop, "make room in "+s.Name+"; neither the running installation nor the one that could be gone back to may go for it",
				"the installation takes %s more there, and %s", MiB(s.Need), free)
		case s.Free*nearlyFull < s.Total:
			add(name, title, Warn, "see what fills it", "it is nearly full: %s", free)
		default:
			add(name, title, Pass, "", "%s", free)
		}
	}
}

// nearlyFull is the part of a storage, one of so many, that should be free.
const nearlyFull = 50

func (f *Facts) slots(add adder) {
	switch {
	case f.FromFiles && f.SameName != "":
		add(Slots, "Installations", Stop, "give the image another name in the catalogue, or update the device by hand", "the image has the name of the one that runs, %s, and would overwrite it", f.SameName)
	case f.FromFiles:
		add(Slots, "Installations", Pass, "", "the image is started as it lies on the device; %s, which runs, stays", orIt(f.RunningIn))
	case f.Copy != "" && !f.CopyApart:
		add(Slots, "Installations", Pass, "", "what runs is copied first, as %s; the copy lies on the same disk, so it is a way back and no backup", f.Copy)
	case f.Copy != "":
		add(Slots, "Installations", Pass, "", "what runs is copied first, as %s, onto another medium", f.Copy)
	case !f.Writes && f.IdleBusy:
		add(Slots, "Installations", Stop, "wait until that has ended", "slot %s is being written by somebody else", f.Idle)
	case !f.Writes:
		add(Slots, "Installations", Pass, "", "none is written")
	case !f.HasSlots:
		add(Slots, "Installations", Pass, "", "the device has one installation; it is overwritten")
	case f.Idle == "":
		add(Slots, "Installations", Stop, "see why the device shows only one slot", "no slot is idle")
	case f.IdleBusy:
		add(Slots, "Installations", Stop, "wait until that has ended", "slot %s is being written by somebody else", f.Idle)
	case f.IdleHolds == "":
		add(Slots, "Installations", Pass, "", "slot %s is empty; slot %s stays as it is", f.Idle, f.RunningIn)
	default:
		what := f.IdleHolds
		if f.IdleBroken {
			what += ", which cannot be started,"
		}
		add(Slots, "Installations", Pass, "", "slot %s is written, and %s in it is gone then; slot %s stays as it is", f.Idle, what, f.RunningIn)
	}
}

func orIt(name string) string {
	if name == "" {
		return "the image"
	}
	return name
}

func (f *Facts) unsaved(add adder) {
	const title = "Saved configuration"
	switch {
	case f.Unsaved == portrait.No:
		add(Unsaved, title, Pass, "", "nothing is unsaved")
	case f.Unsaved == portrait.Yes && f.SavesFirst:
		add(Unsaved, title, Warn, "accept that it is saved, or put it in order first",
			"the running configuration differs from the saved one; this change saves it")
	case f.Unsaved == portrait.Yes && f.Starts:
		add(Unsaved, title, Stop, "save it, or undo what nobody wants",
			"the running configuration differs from the saved one, and a restart would lose the difference")
	case f.Unsaved == portrait.Yes:
		add(Unsaved, title, Pass, "", "the running configuration differs from the saved one; nothing of it is lost, since nothing is started anew")
	case !f.CanSave && !f.SavesFirst:
		add(Unsaved, title, Pass, "", "the device does not say whether anything is unsaved, and knows no command to save")
	case f.Starts || f.SavesFirst:
		add(Unsaved, title, Warn, "look at the device, and save what has to be kept",
			"whether anything is unsaved is not known, since the device does not say; a restart loses what is not saved")
	default:
		add(Unsaved, title, Pass, "", "whether anything is unsaved is not known; nothing of it is lost, since nothing is started anew")
	}
}

// understood warns of what the device said that nobody understood: a file, a slot or a part may be there that is not seen.
func (f *Facts) understood(add adder) {
	var lines []string
	for _, table := range slices.Sorted(maps.Keys(f.NotUnderstood)) {
		lines = append(lines, table+": "+f.NotUnderstood[table])
	}
	if len(lines) > 0 {
		add(Understood, "What the device says", Warn, "see what it says there; its dialect has to know that line", "%s", strings.Join(lines, "; "))
	}
}

// goesBack warns of what a start of the previous installation undoes.
func (f *Facts) goesBack(add adder) {
	const title = "Configured since"
	how := "see all of it with: verimorph change back DEVICE -preview"
	if f.CanCarry {
		how += "; have it converted and carried along with -carry"
	}
	switch {
	case !f.GoesBack:
	case f.Carried:
		add(Undone, title, Pass, "", "it is converted and carried along")
	case f.UndoneUnknown != "":
		add(Undone, title, Warn, how, "what going back undoes is not known: %s", f.UndoneUnknown)
	case len(f.Undone) > 0:
		list := f.Undone
		more := ""
		if len(list) > 6 {
			list, more = list[:6], fmt.Sprintf(" and %d more", len(list)-6)
		}
		add(Undone, title, Warn, how, "going back undoes %d statements that were configured since backup %d: %s%s", len(f.Undone), f.UndoneBackup,
			strings.Join(list, ", "), more)
	default:
		add(Undone, title, Pass, "", "nothing was configured since backup %d", f.UndoneBackup)
	}
}

func (f *Facts) services(add adder) {
	switch f.Services {
	case portrait.Yes:
		add(Services, "Services", Pass, "", "the device says that they are ready")
	case portrait.No:
		add(Services, "Services", Warn, "wait until they are ready, or put right what keeps them from it: readings that are taken meanwhile prove nothing", "the device says that they are not ready; the change waits for them before it takes its readings")
	default:
		add(Services, "Services", Pass, "", "whether they are ready is not known, since the device does not say")
	}
}

// comparable warns of readings that will prove nothing afterwards.
func (f *Facts) comparable(add adder) {
	var doubts []string
	if len(f.Empty) > 0 {
		doubts = append(doubts, "nothing to keep: "+strings.Join(f.Empty, ", "))
	}
	if len(f.NotRead) > 0 {
		doubts = append(doubts, "not readable: "+strings.Join(f.NotRead, ", "))
	}
	if len(doubts) > 0 {
		add(Readings, "Readings before", Warn, "see whether that is as it should be; there is nothing to compare with afterwards, and the verdict is degraded at best", "%s", strings.Join(doubts, "; "))
	}
}

func (f *Facts) health(add adder) {
	var bad, unknown []string
	for _, p := range f.Modules {
		switch p.Good {
		case portrait.No:
			bad = append(bad, p.Name+": "+p.State)
		case portrait.Unknown:
			unknown = append(unknown, p.Name)
		}
	}
	switch {
	case len(bad) == 0 && len(unknown) > 0:
		add(Health, "Health", Warn, "look at them on the device; its dialect has to know how it says that a part is well",
			"whether they are well is not known of %d of %d parts: %s", len(unknown), len(f.Modules), strings.Join(unknown, ", "))
	case len(bad) > 0:
		add(Health, "Health", Warn, "repair it first; a device that is not well is a bad start", "%s", strings.Join(bad, "; "))
	case len(f.Modules) > 0:
		add(Health, "Health", Pass, "", "all %d parts are well", len(f.Modules))
	}
}

func (f *Facts) images(add adder) {
	var lacks, comes []string
	for _, i := range f.Files {
		switch {
		case i.There:
		case i.Comes:
			comes = append(comes, i.Name)
		default:
			lacks = append(lacks, fmt.Sprintf("%s (%s)", i.Name, i.Why))
		}
	}
	switch {
	case len(lacks) > 0:
		add(Images, "Images", Stop, "add them to the image store: verimorph image add", "not usable: %s", strings.Join(lacks, ", "))
	case len(comes) > 0:
		add(Images, "Images", Pass, "", "still being fetched: %s; its hop waits for that", strings.Join(comes, ", "))
	case len(f.Files) > 0:
		add(Images, "Images", Pass, "", "all %d are in the image store, for this model, with the hashes of the catalogue", len(f.Files))
	}
}

// freshBackup is how old a backup may be to count as fresh.
const freshBackup = 24 * time.Hour

const noBackup = "take one first: verimorph backup take; or add the act backup"

// unlessSingle stops a change, and warns of single steps: a device that gives no backup any more has to be helped, too.
func (f *Facts) unlessSingle() State {
	if f.Single {
		return Warn
	}
	return Stop
}

func (f *Facts) backup(add adder) {
	switch {
	case f.BackupSoon && f.BackupAge == nil:
		add(BackupCheck, "Backup", Pass, "", "the change takes the first one before it touches anything, and goes on only when it is complete")
	case !f.Touches && !f.BackupSoon:
		add(BackupCheck, "Backup", Pass, "", "none is taken; nothing is done that could lose configuration")
	case !f.BackupSoon && f.BackupAge == nil:
		add(BackupCheck, "Backup", f.unlessSingle(), noBackup, "this change takes none, and there is no complete backup")
	case !f.BackupSoon && *f.BackupAge > freshBackup:
		add(BackupCheck, "Backup", f.unlessSingle(), noBackup, "this change takes none, and the last complete one is %s old", Rounded(*f.BackupAge))
	case !f.BackupSoon:
		add(BackupCheck, "Backup", Pass, "", "this change takes none; the last complete one is %s old", Rounded(*f.BackupAge))
	default:
		add(BackupCheck, "Backup", Pass, "", "the last complete one is %s old; the change takes another before it touches anything", Rounded(*f.BackupAge))
	}
}

func (f *Facts) window(add adder) {
	need := f.Rest + f.Back
	say := fmt.Sprintf("going on takes %s, in a bad case %s, and going back %s", Rounded(f.Half), Rounded(f.Rest), Rounded(f.Back))
	end, left := f.To.Format("15:04 MST"), f.To.Sub(f.Now)
	if f.RestartFrom.After(f.Now) {
		left = max(f.To.Sub(f.RestartFrom), 0)
		end += fmt.Sprintf(" once it may pass the point of no return at %s", f.RestartFrom.Format("15:04 MST"))
	}
	switch {
	case !f.From.IsZero() && f.Now.Before(f.From):
		add(Window, "Window", Stop, "wait until it opens", "it opens at %s", f.From.Format(Stamp))
	case f.To.IsZero():
		add(Window, "Window", Pass, "", "open, without an end; %s", say)
	case !f.Now.Before(f.To):
		add(Window, "Window", Stop, "give the change another window", "it closed at %s", f.To.Format(Stamp))
	case left < need:
		add(Window, "Window", Stop, "give the change a longer window", "%s are left until %s, but %s; it could not finish and still go back",
			Rounded(left), end, say)
	default:
		add(Window, "Window", Pass, "", "%s are left until %s; %s", Rounded(left), end, say)
	}
}

// Stamp is how moments are told: with their zone, so that nobody reads them in another one.
const Stamp = "2006-01-02 15:04:05 MST"

// Of returns those in a state.
func Of(checks []Check, s State) (out []Check) {
	for _, c := range checks {
		if c.State == s {
			out = append(out, c)
		}
	}
	return out
}

// Text tells checks in a sentence, for errors and questions.
func Text(checks []Check) string {
	var parts []string
	for _, c := range checks {
		t := c.Title + ": " + c.Evidence
		if c.Remedy != "" {
			t += " (" + c.Remedy + ")"
		}
		parts = append(parts, t)
	}
	return strings.Join(parts, "; ")
}

// Rounded tells a duration in the two units that matter.
func Rounded(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%.0f days", d.Hours()/24)
	case d >= time.Hour:
		return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	case d >= time.Minute:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	case d >= 10*time.Second:
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// MiB tells a size.
func MiB(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }

// P returns the p-th percentile (0 to 1) of durations by the nearest rank; 0 when there is none.
func P(values []float64, p float64) float64 {
	if len(values) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(values))
	i := int(p*float64(len(sorted))+0.9999999) - 1
	return sorted[min(max(i, 0), len(sorted)-1)]
}
