package tarnholm

import (
	"slices"
	"strings"
	"time"

	"verimorph/core/version"
	"verimorph/simfleet/box"
)

// phase is how far the box has come up.
type phase int

const (
	phaseOff      phase = iota // nothing answers
	phaseLink                  // connections are accepted and dropped
	phaseLogin                 // sign-in works, commands do not
	phaseCommands              // commands work, services are not up
	phaseReady                 // services are up
)

func (p phase) String() string {
	return [...]string{"off", "link", "login", "commands", "ready"}[p]
}

// How long after the start of a boot each phase begins, in the box's own time.
var phaseBegins = map[phase]time.Duration{phaseLink: 55 * time.Second, phaseLogin: 85 * time.Second, phaseCommands: 95 * time.Second, phaseReady: 140 * time.Second}

// tunnelGap is the time between two tunnels coming up; sessionRamp how long sessions take to come back in full.
const (
	tunnelGap   = 12 * time.Second
	sessionRamp = 50 * time.Second
	fitTime     = 80 * time.Second
	sumTime     = 6 * time.Second
	keepTime    = 2 * time.Second
	flashRate   = 700_000 // bytes a second into the flash
)

// since is the box's own time since its boot began. The caller holds the lock.
func (b *Box) since() time.Duration {
	d := time.Duration(float64(time.Since(b.st.BootAt)) * b.factor)
	if f, ok := b.st.Faults[SlowReturn]; ok && f.Armed() {
		d /= time.Duration(max(f.Value, 1))
	}
	return d
}

// phase says how far the box is. The caller holds the lock.
func (b *Box) phase() phase {
	if f, ok := b.st.Faults[NeverReturn]; ok && f.Hit {
		return phaseOff
	}
	since, now := b.since(), phaseOff
	for p := phaseLink; p <= phaseReady; p++ {
		if since >= phaseBegins[p] {
			now = p
		}
	}
	return now
}

// restart boots into the next slot. Every connection ends; the running configuration is what the slot has saved.
func (b *Box) restart() {
	b.goesDown()
	b.mu.Lock()
	if b.hit(OldSlot) {
		b.st.Next = b.st.Running
	}
	from, to := b.st.Slots[b.st.Running], b.st.Slots[b.st.Next]
	if to.State != "good" { // half of an installation starts nothing: only the boot loader helps, over the console line
		b.note("restart into slot %s, which is %s: nothing starts", b.st.Next, to.State)
		b.brick()
		b.mu.Unlock()
		return
	}
	if to.Fresh {
		config, lost := convert(from.Config, from.Wrote, to.Version)
		to.Config, to.Wrote, to.Fresh = config, to.Version, false
		if lost > 0 {
			b.note("configuration: %d lines were not understood and are gone", lost)
		}
	}
	b.note("restart from %s (slot %s) to %s (slot %s)", from.Version, b.st.Running, to.Version, b.st.Next)
	b.st.Running, b.st.Config = b.st.Next, to.Config
	b.unpackPending()
	b.relocate()
	if from != to && from.Password == "" {
		from.Password, from.Watchword = b.st.Password, b.st.Watchword // they stay with the installation that is left
	}
	if from != to && to.Password != "" {
		b.st.Password, b.st.Watchword = to.Password, to.Watchword
	}
	b.st.BootAt = time.Now()
	b.st.Boots++
	b.hit(NeverReturn)
	b.hit(TunnelDown)
	if b.hit(LogErrors) {
		b.note("error: the packet engine was started twice")
	}
	if b.hit(LoseTranslations) {
		b.st.Config, _ = dropBlocks(b.st.Config, "translate", "rewrite")
	}
	if b.hit(NewHostKey) {
		b.st.HostKey = box.NewHostKey()
	}
	_ = b.save()
	b.host.Cut()
	b.mu.Unlock()
}

// brick leaves the box with nothing that starts. The caller holds the lock.
func (b *Box) brick() {
	b.st.Faults[NeverReturn] = box.Fault{Hit: true, Count: 1}
	b.st.BootAt = time.Now()
	b.st.Boots++
	b.st.Bricks++
	_ = b.save()
	b.host.Cut()
}

// convert is what a release does with a configuration that another release wrote: it keeps what it understands. The
// second result is the number of lines it dropped.
func convert(config, wrote, to string) (string, int) {
	u, v := version.MustParse(wrote), version.MustParse(to)
	has := func(r string, v version.Version) bool { return version.MustRange(r).Contains(v) }
	lost := 0
	drop := func(words ...string) {
		var n int
		config, n = dropBlocks(config, words...)
		lost += n
	}
	switch {
	case has("<5", v) && has(">=5", u): // reads nothing of train 5 but what lets one in
		drop("rewrite", "tunnel", "policy", "service", "route")
	case has("5.0.x", v) && has(">=4.2.9 <5", u):
		config = renameBlocks(config, "translate", "rewrite", map[string]string{"arrive": "match", "deliver": "to"})
		config = spellOut(config, "port", "speed", "100") // what train 4 assumed and train 5 does not
		config = spellOut(config, "tunnel", "cipher", "second")
	case has("5.0.x", v) && has("<4.2.9", u), has(">=5.2", v) && has("<5", u):
		drop("translate")
	}
	if has(">=6", v) && has("<6", u) {
		config = renameBlocks(config, "tunnel", "tunnel", map[string]string{"peer": "far-end"})
	}
	if has("<6", v) && has(">=6", u) {
		config = renameBlocks(config, "tunnel", "tunnel", map[string]string{"far-end": "peer"})
	}
	_, rest, _ := strings.Cut(config, "\n")
	return "# written by " + to + "\n" + rest, lost
}

// serial is the number of the unit that stands there. It takes the lock, which the caller must not hold.
func (b *Box) serial() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if _, swapped := b.has(SwappedUnit); swapped {
		return b.spec.Serial + "-SWAPPED"
	}
	return b.spec.Serial
}

// eachLine walks a configuration with the keyword of the block each line stands in.
func eachLine(config string, line func(block, text string) (string, bool)) string {
	var out strings.Builder
	block := ""
	for _, l := range strings.SplitAfter(config, "\n") {
		if l != "" && l[0] != ' ' && l[0] != '#' && l[0] != '\n' {
			block, _, _ = strings.Cut(strings.TrimRight(l, "\n"), " ")
		}
		if text, keep := line(block, l); keep {
			out.WriteString(text)
		}
	}
	return out.String()
}

// spellOut adds a statement to the blocks of a keyword that lack it.
func spellOut(config, keyword, word, value string) string {
	var out strings.Builder
	in, has := false, false
	end := func() {
		if in && !has {
			out.WriteString("  " + word + " " + value + "\n")
		}
		in, has = false, false
	}
	for _, l := range strings.SplitAfter(config, "\n") {
		if !strings.HasPrefix(l, "  ") {
			end()
			in = strings.HasPrefix(l, keyword+" ")
		}
		has = has || strings.HasPrefix(l, "  "+word+" ")
		out.WriteString(l)
	}
	end()
	return out.String()
}

func dropBlocks(config string, keywords ...string) (string, int) {
	n := 0
	out := eachLine(config, func(block, text string) (string, bool) {
		for _, k := range keywords {
			if block == k && strings.TrimSpace(text) != "" {
				n++
				return "", false
			}
		}
		return text, true
	})
	return out, n
}

func renameBlocks(config, keyword, to string, words map[string]string) string {
	return eachLine(config, func(block, text string) (string, bool) {
		if block != keyword {
			return text, true
		}
		if strings.HasPrefix(text, keyword+" ") {
			return to + text[len(keyword):], true
		}
		for old, new := range words {
			if strings.HasPrefix(text, "  "+old+" ") {
				return "  " + new + text[2+len(old):], true
			}
		}
		return text, true
	})
}

// blocks returns the names of the blocks of a keyword: "translate web" is named web.
func blocks(config, keyword string) (names []string) {
	for _, l := range strings.Split(config, "\n") {
		if name, ok := strings.CutPrefix(l, keyword+" "); ok {
			names = append(names, name)
		}
	}
	return names
}

// translations are the address translation rules in force: which word is understood depends on the version.
func (b *Box) translations() []string {
	if version.MustParse(b.st.Slots[b.st.Running].Version).Less(version.MustParse("5.0")) {
		return blocks(b.st.Config, "translate")
	}
	return blocks(b.st.Config, "rewrite")
}

// tunnelsUp are the tunnels that have come up since the last start.
func (b *Box) tunnelsUp() []string {
	names := slices.DeleteFunc(blocks(b.st.Config, "tunnel"), func(name string) bool { return !b.readable(name) })
	if !b.plugged() {
		return nil
	}
	if f, ok := b.st.Faults[TunnelDown]; ok && f.Hit {
		return nil
	}
	up := int((b.since() - phaseBegins[phaseReady]) / tunnelGap)
	return names[:min(max(up, 0), len(names))]
}

// routes are those of the configuration, once the box is ready and cables are in its ports.
func (b *Box) routes() (out []string) {
	if b.phase() == phaseReady && b.plugged() {
		out = blocks(b.st.Config, "route")
	}
	return out
}

// clock is what the box takes for the time.
func (b *Box) clock() time.Time {
	f := b.st.Faults[ClockWrong]
	return time.Now().UTC().Add(time.Duration(f.Value) * time.Second)
}

// sessions is the number of open sessions: they come back over a while, and not without translation.
func (b *Box) sessions() int {
	back := float64(b.since()-phaseBegins[phaseReady]) / float64(sessionRamp)
	n := float64(b.spec.Sessions) * min(max(back, 0), 1)
	if !b.plugged() {
		n = 0
	}
	if len(b.translations()) == 0 {
		n *= 0.3
	}
	return int(n)
}
