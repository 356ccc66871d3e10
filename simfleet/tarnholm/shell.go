package tarnholm

import (
	"bufio"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"verimorph/core/version"
	"verimorph/simfleet/firmware"
)

// shell is one person's (or program's) conversation with the box.
type shell struct {
	b      *Box
	rw     io.ReadWriter
	in     *bufio.Reader
	height int
	paging bool
	raised bool
	lines  int  // printed since the last pause
	quit   bool // the reader of a long answer has had enough
}

func newShell(b *Box, rw io.ReadWriter, height int) *shell {
	return &shell{b: b, rw: rw, in: bufio.NewReader(rw), height: height, paging: true}
}

var errBye = errors.New("bye")

func (s *shell) run() {
	s.raw("\r\nTarnholm " + s.b.spec.Model + " - " + s.b.spec.Name + "\r\n")
	for {
		mark := " ~ "
		if s.raised {
			mark = " = "
		}
		s.raw("\r\n" + s.b.spec.Name + mark)
		if s.b.chatters() { // also while somebody types
			s.raw("\r\n** a port was looked at\r\n" + s.b.spec.Name + mark)
		}
		line, err := s.readLine(true)
		if err != nil {
			return
		}
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		s.lines, s.quit = 0, false
		switch err := s.obey(words); {
		case errors.Is(err, errBye):
			return
		case err != nil:
			s.raw("no: " + err.Error() + "\r\n")
		default:
			s.raw("ok\r\n")
		}
	}
}

func (s *shell) raw(text string) { _, _ = io.WriteString(s.rw, text) }

// say prints one line and pauses when the screen is full.
func (s *shell) say(format string, args ...any) {
	if s.quit {
		return
	}
	s.raw(fmt.Sprintf(format, args...) + "\r\n")
	if s.lines++; !s.paging || s.height < 3 || s.lines < s.height-1 {
		return
	}
	s.raw("[more: space, all: a, end: q]")
	for {
		c, err := s.in.ReadByte()
		if err != nil {
			s.quit = true
			return
		}
		switch c {
		case ' ':
			s.lines = 0
		case 'a':
			s.lines = -1 << 20 // no more pauses in this answer
		case 'q':
			s.quit = true
		default:
			continue
		}
		s.raw("\r                             \r")
		return
	}
}

func (s *shell) readLine(echo bool) (string, error) {
	var line []byte
	for {
		c, err := s.in.ReadByte()
		if err != nil {
			return "", err
		}
		switch {
		case c == '\r' || c == '\n':
			s.raw("\r\n")
			return string(line), nil
		case c == 3: // interrupt
			s.raw("^C\r\n")
			return "", nil
		case c == 4:
			return "", io.EOF
		case c == 8 || c == 127:
			if len(line) > 0 {
				line = line[:len(line)-1]
				if echo {
					s.raw("\b \b")
				}
			}
		case c >= ' ' && len(line) < 1000:
			line = append(line, c)
			if echo {
				s.raw(string(c))
			}
		}
	}
}

type verb struct {
	raised bool
	args   string
	do     func(*shell, []string) error
}

// verbs are what the box understands; raised ones need the raised level.
var verbs map[string]verb

func init() {
	verbs = map[string]verb{
		"tell":  {false, "box | slots | flash | ports | translations | sessions | tunnels | routes | neighbours | clock | key | users | licences | boot | log | config running | config saved", (*shell).tell},
		"page":  {false, "on | off", (*shell).page},
		"raise": {false, "", (*shell).raise},
		"lower": {false, "", func(s *shell, _ []string) error { s.raised = false; return nil }},
		"bye":   {false, "", func(*shell, []string) error { return errBye }},
		"keep":  {true, "", (*shell).keep},
		"sum":   {true, "FILE", (*shell).sum},
		"drop":  {true, "FILE", (*shell).drop},
		"trial": {true, "FILE", (*shell).trial},
		"send":  {true, "NAME to ADDRESS", (*shell).send},
		"adopt": {true, "FILE as running | users | licences | certs | cables | system", (*shell).adopt},
		"fetch": {true, "ADDRESS as FILE", (*shell).fetch},
		"fit":   {true, "FILE into a | b [regardless]", (*shell).fit},
		"next":  {true, "a | b", (*shell).next},
		"cycle": {true, "", (*shell).cycle},
		"take":  {true, "over", (*shell).take},
		"word":  {true, "of USER", (*shell).word},
		"lock":  {true, "with KEY", (*shell).lock},
		"write": {true, "BLOCK / STATEMENT", (*shell).write},
	}
}

func (s *shell) obey(words []string) error {
	s.b.mu.Lock()
	phase := s.b.phase()
	s.b.mu.Unlock()
	if phase < phaseCommands {
		return errors.New("still starting")
	}
	if words[0] == "help" {
		for _, name := range sorted(verbs) {
			s.say("  %-7s %s", name, verbs[name].args)
		}
		return nil
	}
	v, ok := verbs[words[0]]
	if !ok {
		return fmt.Errorf("%q is not a verb; try help", words[0])
	}
	if v.raised && !s.raised {
		return errors.New("not at this level; raise first")
	}
	if s.b.OnVerb != nil {
		s.b.OnVerb(words[0])
	}
	return v.do(s, words[1:])
}

func sorted[V any](m map[string]V) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// A glance is the box at one moment, for what it tells of itself.
type glance struct {
	box                         *Box
	state                       state
	run                         slot
	phase                       phase
	up                          time.Duration
	total                       int64
	serial                      string
	slots                       map[string]slot
	translations, tunnels, logs []string
	routes                      []string
	neighbours                  [][2]string
	clock                       time.Time
	sessions                    int
	cabled                      []string
	key                         string
}

func (b *Box) glance() *glance {
	serial := b.serial() // takes the lock by itself
	b.mu.Lock()
	defer b.mu.Unlock()
	g := &glance{box: b, state: b.st, run: *b.st.Slots[b.st.Running], phase: b.phase(), up: b.since(), total: b.total(), serial: serial,
		slots: map[string]slot{}, translations: b.translations(), tunnels: b.tunnelsUp(), logs: slices.Clone(b.st.Log),
		routes: b.routes(), neighbours: b.neighbours(), clock: b.clock(), sessions: b.sessions(), cabled: b.cabled(), key: b.ownKey()}
	for k, v := range b.st.Slots {
		g.slots[k] = *v
	}
	return g
}

// free is what is left on the flash.
func (g *glance) free() int64 {
	g.box.mu.Lock()
	defer g.box.mu.Unlock()
	return g.box.free()
}

// tellers are what the box can be asked for, by what stands behind "tell".
var tellers = map[string]func(*shell, *glance){
	"box":          (*shell).tellBox,
	"slots":        (*shell).tellSlots,
	"flash":        (*shell).tellFlash,
	"ports":        (*shell).tellPorts,
	"translations": func(s *shell, g *glance) { s.list(g.translations, "  %s") },
	"tunnels": func(s *shell, g *glance) {
		for _, t := range blocks(g.state.Config, "tunnel") {
			s.say("  %-20s %s", t, map[bool]string{true: "up", false: "down"}[slices.Contains(g.tunnels, t)])
		}
	},
	"routes": func(s *shell, g *glance) { s.list(g.routes, "  %s in use") },
	"neighbours": func(s *shell, g *glance) {
		for _, n := range g.neighbours {
			s.say("  %-4s %s", n[0], n[1])
		}
	},
	"clock":          func(s *shell, g *glance) { s.say("  %s", g.clock.Format(time.RFC3339)) },
	"key":            (*shell).tellKey,
	"sessions":       func(s *shell, g *glance) { s.say("  open %d", g.sessions) },
	"log":            func(s *shell, g *glance) { s.list(g.logs, "  %s") },
	"users":          func(s *shell, g *glance) { s.lineByLine(g.state.Holding.Users) },
	"licences":       func(s *shell, g *glance) { s.lineByLine(g.state.Holding.Licences) },
	"boot":           func(s *shell, g *glance) { s.say("  from %s, then %s", g.state.Running, g.state.Next) },
	"config running": func(s *shell, g *glance) { s.lineByLine(g.state.Config) },
	"config saved":   func(s *shell, g *glance) { s.lineByLine(g.run.Config) },
}

func (s *shell) tell(args []string) error {
	tell, ok := tellers[strings.Join(args, " ")]
	if !ok {
		return fmt.Errorf("tell what? one of: %s", verbs["tell"].args)
	}
	tell(s, s.b.glance())
	return nil
}

func (s *shell) tellBox(g *glance) {
	services := "starting"
	if g.phase == phaseReady {
		services = "ready"
	}
	s.say("  name      %s", g.box.spec.Name)
	s.say("  maker     %s", Maker)
	s.say("  model     %s", g.box.spec.Model)
	s.say("  serial    %s", g.serial)
	s.say("  running   %s in slot %s", g.run.Version, g.state.Running)
	s.say("  up        %d s", int(g.up.Seconds()))
	s.say("  started   %s", g.state.BootAt.UTC().Format(time.RFC3339Nano))
	s.say("  services  %s", services)
	s.say("  unsaved   %s", map[bool]string{true: "yes", false: "no"}[g.state.Config != g.run.Config])
	s.tellEnsemble()
}

func (s *shell) tellSlots(g *glance) {
	s.say("  slot  version      state")
	for _, name := range sorted(g.slots) {
		sl := g.slots[name]
		state := sl.State
		if sl.State == "fitting" {
			state = fmt.Sprintf("fitting %d%%", sl.Progress)
		}
		if name == g.state.Running {
			state += ", running"
		}
		if name == g.state.Next {
			state += ", next"
		}
		s.say("  %-4s  %-11s  %s", name, cmp.Or(sl.Version, "-"), state)
	}
}

func (s *shell) tellFlash(g *glance) {
	entries, _ := os.ReadDir(filepath.Join(g.box.dir, "flash"))
	for _, e := range entries {
		if fi, err := e.Info(); err == nil {
			s.say("  %10d  %s", fi.Size(), e.Name())
		}
	}
	s.say("  total %d free %d", g.total, g.free())
}

func (s *shell) tellPorts(g *glance) {
	s.say("  port  link")
	late := g.phase < phaseReady && g.up < phaseBegins[phaseCommands]+2*time.Second
	for _, p := range blocks(g.state.Config, "port") {
		link := "up"
		if late || !slices.Contains(g.cabled, p) || slices.Contains(strings.Split(section(g.state.Config, "port "+p), "\n"), "  link off") {
			link = "down"
		}
		s.say("  %-4s  %s", p, link)
	}
}

// list says each line in a form.
func (s *shell) list(lines []string, form string) {
	for _, l := range lines {
		s.say(form, l)
	}
}

func (s *shell) lineByLine(text string) {
	s.list(strings.Split(strings.TrimSuffix(text, "\n"), "\n"), "%s")
}

// section returns one block with its lines.
func section(config, head string) string {
	_, rest, ok := strings.Cut("\n"+config, "\n"+head+"\n")
	if !ok {
		return ""
	}
	var out []string
	for _, l := range strings.Split(rest, "\n") {
		if !strings.HasPrefix(l, " ") {
			break
		}
		out = append(out, l)
	}
	return strings.Join(out, "\n")
}

func (s *shell) page(args []string) error {
	if len(args) != 1 || args[0] != "on" && args[0] != "off" {
		return errors.New("page on or off?")
	}
	s.paging = args[0] == "on"
	return nil
}

func (s *shell) raise([]string) error {
	s.raw("Watchword: ")
	word, err := s.readLine(false)
	if err != nil {
		return errBye
	}
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	if word != s.b.st.Watchword {
		return errors.New("wrong watchword")
	}
	s.raised = true
	return nil
}

func (s *shell) keep([]string) error {
	time.Sleep(s.b.sim(keepTime))
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	sl := s.b.st.Slots[s.b.st.Running]
	sl.Config, sl.Wrote = s.b.st.Config, sl.Version
	s.b.note("configuration kept")
	return s.b.save()
}

func (s *shell) file(args []string) (string, error) {
	if len(args) < 1 || args[0] != filepath.Base(args[0]) {
		return "", errors.New("which file?")
	}
	name := s.b.onFlash(args[0])
	if _, err := os.Stat(name); err != nil {
		return "", fmt.Errorf("there is no file %s", args[0])
	}
	return name, nil
}

func (s *shell) sum(args []string) error {
	name, err := s.file(args)
	if err != nil {
		return err
	}
	time.Sleep(s.b.sim(sumTime))
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	if err != nil {
		return err
	}
	s.say("  sha256 %s", hex.EncodeToString(h.Sum(nil)))
	s.say("  bytes %d", n)
	return nil
}

func (s *shell) drop(args []string) error {
	name, err := s.file(args)
	if err != nil {
		return err
	}
	return os.Remove(name)
}

func (s *shell) fetch(args []string) error {
	if len(args) != 3 || args[1] != "as" || args[2] != filepath.Base(args[2]) {
		return errors.New("fetch ADDRESS as FILE")
	}
	last := time.Time{}
	return s.b.fetch(args[0], args[2], func(done, total int64) {
		if time.Since(last) > 200*time.Millisecond {
			last = time.Now()
			s.raw(fmt.Sprintf("  got %d of %d\r\n", done, total))
		}
	})
}

func (s *shell) fit(args []string) error {
	regardless := len(args) == 4 && args[3] == "regardless"
	if len(args) != 3 && !regardless || args[1] != "into" || args[2] != "a" && args[2] != "b" {
		return errors.New("fit FILE into a or b")
	}
	name, err := s.file(args)
	if err != nil {
		return err
	}
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	h, err := firmware.Read(f)
	if err != nil {
		return fmt.Errorf("%s: %w", args[0], err)
	}
	if h.Maker != "TARNHOLM" || !slices.Contains(h.Models, s.b.spec.Model) {
		return fmt.Errorf("%s is for %s %s, this is a Tarnholm %s", args[0], h.Maker, strings.Join(h.Models, " and "), s.b.spec.Model)
	}
	return s.b.fit(h.Version, args[2], regardless, func(percent int) { s.raw(fmt.Sprintf("  %d%%\r\n", percent)) })
}

// follows is what the box itself knows of supported ways: less than its maker, but enough to warn.
func follows(from, to string) bool {
	u, v := version.MustParse(from), version.MustParse(to)
	in := func(r string, v version.Version) bool { return version.MustRange(r).Contains(v) }
	switch {
	case in("4.x", u):
		return in("4.x", v) || in("5.0.x", v)
	case in("5.x", u) && in(">=6", v):
		return !u.Less(version.MustParse("5.4.2"))
	case in("5.x", u) && in(">=5.4", v):
		return !u.Less(version.MustParse("5.0.6"))
	}
	return true
}

func (s *shell) next(args []string) error {
	b := s.b
	if len(args) != 1 || args[0] != "a" && args[0] != "b" {
		return errors.New("next a or b?")
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if st := b.st.Slots[args[0]].State; st != "good" {
		return fmt.Errorf("slot %s is %s", args[0], st)
	}
	b.st.Next = args[0]
	b.note("next start from slot %s", args[0])
	return b.save()
}

func (s *shell) cycle([]string) error {
	s.raw("Cycle now? (yes/no) ")
	answer, err := s.readLine(true)
	if err != nil {
		return errBye
	}
	if answer != "yes" {
		return errors.New("not cycled")
	}
	s.raw("cycling\r\n")
	time.Sleep(50 * time.Millisecond)
	s.b.restart()
	return errBye
}

// write changes one statement of the running configuration, which is not kept until somebody says so.
func (s *shell) write(args []string) error {
	head, statement, ok := strings.Cut(strings.Join(args, " "), " / ")
	if !ok || statement == "" {
		return errors.New("write BLOCK / STATEMENT")
	}
	keyword, _, _ := strings.Cut(statement, " ")
	b := s.b
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []string
	in, done := false, false
	for _, l := range strings.Split(strings.TrimSuffix(b.st.Config, "\n"), "\n") {
		if in && !strings.HasPrefix(l, " ") && !done {
			out, done = append(out, "  "+statement), true
		}
		if !strings.HasPrefix(l, " ") {
			in = l == head
		}
		if in && !done && (l == "  "+keyword || strings.HasPrefix(l, "  "+keyword+" ")) {
			l, done = "  "+statement, true
		}
		out = append(out, l)
	}
	if !done {
		if !in {
			out = append(out, head)
		}
		out = append(out, "  "+statement)
	}
	b.st.Config = strings.Join(out, "\n") + "\n"
	return b.save()
}
