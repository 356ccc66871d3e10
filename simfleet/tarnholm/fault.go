package tarnholm

import "verimorph/simfleet/box"

// Names of faults.
const (
	DropTransfer     = "drop-transfer"     // the connection breaks after Value bytes of an upload
	StallTransfer    = "stall-transfer"    // an upload stands still after Value bytes; the connection stays up
	CorruptTransfer  = "corrupt-transfer"  // one byte of an upload arrives wrong
	NeverReturn      = "never-return"      // the next restart does not come back
	SlowReturn       = "slow-return"       // starting takes Value times as long
	TunnelDown       = "tunnel-down"       // after the next restart no tunnel comes up
	LoseTranslations = "lose-translations" // the next restart loses address translation
	NewHostKey       = "new-host-key"      // the next restart makes a new host key
	FitFails         = "fit-fails"         // the next installation breaks half-way
	Mute             = "mute"              // connections are accepted and nothing is ever said
	LowFlash         = "low-flash"         // only Value bytes of flash are left
	EmptyParts       = "empty-parts"       // a part of the box is read as nothing
	SendsNothing     = "sends-nothing"     // it says it has sent a part, and has not
	SendsHalf        = "sends-half"        // it sends half of a part and says nothing about it
	OldSlot          = "old-slot"          // the next restart is from the old slot again
	LogErrors        = "log-errors"        // the next restart leaves errors in the log
	ClockWrong       = "clock-wrong"       // its clock is Value seconds ahead
	LockAccount      = "lock-account"      // the account is locked after Value refused sign-ins in a row
	UsersLate        = "users-late"        // after each start the right password is refused for Value seconds of the box's time, once it answers
	Chatter          = "chatter"           // it prints messages by itself, with its prompt, and its answers come in odd pieces
	SwappedUnit      = "swapped-unit"      // another unit of the same model stands in its place
	WorksOn          = "works-on"          // an installation is answered at once and goes on in the background
	NeverHot         = "never-hot"         // of a pair: its sync never begins
	SyncStalls       = "sync-stalls"       // of a pair: its sync stops at 97 %
	SplitRoles       = "split-roles"       // of a pair: after its next restart both are active
	StaysStandby     = "stays-standby"     // of a pair: it says that it takes over, and does not
	Unplugged        = "unplugged"         // somebody took it off the network, with all of its cables
	SwappedCables    = "swapped-cables"    // the cables of its first two ports are swapped
)

// FaultNames are all faults, sorted.
var FaultNames = []string{Chatter, ClockWrong, CorruptTransfer, DropTransfer, EmptyParts, FitFails, LockAccount, LogErrors, LoseTranslations, LowFlash, Mute, NeverHot, NeverReturn, NewHostKey, OldSlot, SendsHalf, SendsNothing, SlowReturn, SplitRoles, StallTransfer, StaysStandby, SwappedCables, SwappedUnit, SyncStalls,
	TunnelDown, Unplugged, UsersLate, WorksOn}

// FaultTexts says what each does.
var FaultTexts = map[string]string{
	DropTransfer: "an upload breaks after VALUE bytes", StallTransfer: "an upload stands still after VALUE bytes", CorruptTransfer: "one byte of an upload arrives wrong",
	NeverReturn: "the next restart does not come back", SlowReturn: "starting takes VALUE times as long", TunnelDown: "after the next restart no tunnel comes up",
	LoseTranslations: "the next restart loses address translation", NewHostKey: "the next restart makes a new host key", FitFails: "the next installation breaks half-way",
	Mute: "connections are accepted and nothing is ever said", LowFlash: "only VALUE bytes of flash are left", EmptyParts: "a part of the box is read as nothing",
	SendsNothing: "it says it has sent a part, and has not", SendsHalf: "it sends half of a part", LockAccount: "the account is locked after VALUE refused sign-ins",
	OldSlot: "the next restart is from the old slot again", LogErrors: "the next restart leaves errors in the log", ClockWrong: "its clock is VALUE seconds ahead",
	UsersLate: "after each start the right password is refused for VALUE seconds", Chatter: "it prints messages by itself, and its answers come in odd pieces",
	SwappedUnit: "another unit of the same model stands in its place", WorksOn: "an installation is answered at once and goes on in the background",
	NeverHot: "its sync with its mate never begins", SyncStalls: "its sync with its mate stops at 97 %", SplitRoles: "after its next restart both of the pair are active",
	StaysStandby: "it says that it takes over, and does not", Unplugged: "it is off the network, with all of its cables",
	SwappedCables: "the cables of its first two ports are swapped",
}

// Arm gives the box a fault.
func (b *Box) Arm(name string, f box.Fault) error {
	if err := box.Known(name, FaultNames); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.st.Faults, name)
	if name == LowFlash {
		f.Taken = max(b.free()-f.Value, 0)
	}
	b.st.Faults[name] = f
	if name == Unplugged {
		b.host.Cut()
	}
	b.note("fault armed: %s", name)
	return b.save()
}

// Heal takes a fault away.
func (b *Box) Heal(name string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.st.Faults, name)
	return b.save()
}

// hit lets an armed fault strike and reports whether it did. The caller holds the lock.
func (b *Box) hit(name string) bool {
	struck := b.st.Faults.Hit(name)
	if struck {
		b.note("fault strikes: %s", name)
	}
	return struck
}

// has reports whether a standing fault is there. The caller holds the lock.
func (b *Box) has(name string) (box.Fault, bool) {
	f, ok := b.st.Faults[name]
	return f, ok
}
