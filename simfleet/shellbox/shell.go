package shellbox

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"verimorph/simfleet/box"
	"verimorph/simfleet/send"
	"verimorph/simfleet/terminal"
)

// Shell is a conversation with the box, over SSH or at its console line.
type Shell struct {
	b  *Box
	in *bufio.Reader
	w  io.Writer
}

func (b *Box) shell(ch io.ReadWriteCloser) {
	t := terminal.New(ch)
	defer t.Close()
	t.Odd(b.chatters())
	(&Shell{b, bufio.NewReader(t), t}).run()
}

// chatters reports whether the box prints messages by itself.
func (b *Box) chatters() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	_, ok := b.st.Faults[Chatter]
	return ok
}

// run obeys until the conversation ends, or the box is told to forget who speaks.
func (s *Shell) run() {
	for {
		fmt.Fprintf(s.w, "\r\n"+s.b.m.Prompt, s.b.Name)
		if s.b.chatters() {
			fmt.Fprintf(s.w, "\r\n-- all is quiet --\r\n"+s.b.m.Prompt, s.b.Name)
		}
		line, err := s.readLine(true)
		if err != nil {
			return
		}
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		if len(words) == 1 && words[0] == s.b.m.Bye {
			return
		}
		if err := s.obey(words); errors.Is(err, errGone) {
			return
		} else if err != nil {
			fmt.Fprintf(s.w, "%s%s\r\n", s.b.m.Refusal, err)
		}
	}
}

// errGone says that the box starts anew, and with it whoever spoke to it is gone.
var errGone = errors.New("gone")

func (s *Shell) readLine(echo bool) (string, error) {
	var line []byte
	for {
		c, err := s.in.ReadByte()
		if err != nil {
			return "", err
		}
		switch {
		case c == '\r':
			fmt.Fprint(s.w, "\r\n")
			return string(line), nil
		case c == 3:
			return "", nil
		case c >= ' ' && len(line) < 2000:
			line = append(line, c)
			if echo {
				fmt.Fprintf(s.w, "%c", c)
			}
		}
	}
}

// A Command is a pattern of words, {name} standing for any, and what the box does then.
type Command struct {
	Words string
	Do    Verb
}

// A Verb is what a box does for a command; args are the words that stood for the names in its pattern.
type Verb func(s *Shell, args map[string]string) error

// match holds words against a pattern.
func match(pattern string, words []string) (map[string]string, bool) {
	want := strings.Fields(pattern)
	if len(want) != len(words) {
		return nil, false
	}
	args := map[string]string{}
	for i, w := range want {
		if strings.HasPrefix(w, "{") {
			args[strings.Trim(w, "{}")] = words[i]
		} else if w != words[i] {
			return nil, false
		}
	}
	return args, true
}

func (s *Shell) obey(words []string) error {
	for _, c := range s.b.m.Commands {
		if args, ok := match(c.Words, words); ok {
			if s.b.OnVerb != nil {
				s.b.OnVerb(words[0])
			}
			return c.Do(s, args)
		}
	}
	return fmt.Errorf("%q means nothing here", strings.Join(words, " "))
}

func (s *Shell) say(format string, args ...any) { fmt.Fprintf(s.w, format+"\r\n", args...) }

// locked runs f under the box's lock.
func (s *Shell) locked(f func(b *Box)) {
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	f(s.b)
}

// What boxes tell.

func TellSelf(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) {
		for _, f := range [][2]string{{"name", b.Name}, {"maker", b.Maker}, {"model", b.Model}, {"serial", b.serial()}, {"release", b.version()}, {"since", b.st.Started.UTC().Format(time.RFC3339Nano)}} {
			s.say("%s: %s", f[0], f[1])
		}
		if b.m.Firmware.Generation != "" {
			s.say("build: %s", b.m.Firmware.Generation)
		}
		s.say("up: %s", map[bool]string{true: "all", false: "coming"}[b.phase() == ready])
		if b.m.Firmware.Drains {
			s.say("work: %d flows, %s", b.flows(), map[bool]string{true: "resting", false: "taking"}[b.st.Resting])
		}
	})
	return nil
}

func TellAreas(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) {
		next := b.st.Next
		if b.st.Once >= 0 {
			next = b.st.Once
		}
		for i, a := range b.st.Areas {
			state := a.State
			if a.State == "writing" {
				state = fmt.Sprintf("writing %d%%", a.Progress)
			}
			if i == b.st.Running {
				state += " runs"
			}
			if i == next {
				state += " next"
			}
			if !a.Laid.IsZero() {
				state += " laid " + a.Laid.Format(time.RFC3339Nano)
			}
			v := a.Version
			if v == "" {
				v = "-"
			}
			s.say("place %d %s %s", i+1, v, state)
		}
	})
	return nil
}

func TellFiles(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) {
		names, sizes, _ := b.files()
		for i, n := range names {
			s.say("file %d %s", sizes[i], n)
		}
		s.say("room %d of %d", b.free(), b.m.Firmware.Room)
		for _, st := range b.stores() {
			s.say("store %s %d of %d", st.name, st.free, st.total)
		}
	})
	return nil
}

func TellInside(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) {
		for _, p := range b.well() {
			s.say("part %s %s", p[0], p[1])
		}
		for _, name := range sortedKeys(b.st.Components) {
			if b.ofUnits(name) {
				continue
			}
			s.say("inner %s %s", name, b.st.Components[name])
		}
		for _, name := range sortedKeys(b.st.Variables) {
			v := b.st.Variables[name]
			if v == "" {
				v = "-"
			}
			s.say("switch %s %s", name, v)
		}
		for _, r := range b.st.Rights {
			s.say("right %s", r)
		}
	})
	return nil
}

func TellTime(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) {
		s.say("it is %s", time.Now().UTC().Add(time.Duration(b.st.Faults[ClockWrong].Value)*time.Second).Format(time.RFC3339))
	})
	return nil
}

func TellMishaps(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) {
		for _, m := range b.st.Mishaps {
			s.say("wrong: %s", m)
		}
		s.say("%d in all", len(b.st.Mishaps))
	})
	return nil
}

func sortedKeys(m map[string]string) (keys []string) {
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// What boxes do.

func GiveFile(s *Shell, a map[string]string) error {
	text := s.b.Part(a["part"])
	u, err := url.Parse(a["url"])
	if text == "" || err != nil {
		return errors.New("what, and where to?")
	}
	if err := send.To(u, []byte(text), "ftp", "tftp", "sftp"); err != nil {
		return fmt.Errorf("it does not go there: %w", err)
	}
	s.say("%d bytes are out", len(text))
	return nil
}

// putBack takes a part, if it is what the box can read.
func (s *Shell) putBack(name, text string) (err error) {
	s.locked(func(b *Box) {
		if b.hit(RefusesFile) {
			err = errors.New("it cannot be read")
		} else if b.m.Firmware.Check != nil {
			err = b.m.Firmware.Check(name, text, b.version())
		}
	})
	if err != nil {
		return err
	}
	return s.b.Change(name, text)
}

func TakePart(s *Shell, a map[string]string) error {
	data, err := send.From(a["url"])
	if err != nil {
		return err
	}
	return s.putBack(a["part"], string(data))
}

// typePart takes a part that is typed, up to a line with a dot.
func TypePart(s *Shell, a map[string]string) error {
	fmt.Fprint(s.w, "lines, and a dot at the end: ")
	var text strings.Builder
	for {
		line, err := s.readLine(false)
		if err != nil {
			return err
		}
		if line == "." {
			break
		}
		text.WriteString(line + "\n")
	}
	return s.putBack(a["part"], text.String())
}

func SayPart(s *Shell, a map[string]string) error {
	text := s.b.Part(a["part"])
	if text == "" {
		return errors.New("nothing of that name")
	}
	for _, l := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		s.say("|%s", l)
	}
	s.say("that is all of %s", a["part"])
	return nil
}

func BringFile(s *Shell, a map[string]string) error {
	return s.b.bring(a["url"], a["file"], func(done, total int64) { s.say("%d of %d", done, total) })
}

func SumFile(s *Shell, a map[string]string) error {
	sum, err := s.b.sum(a["file"])
	if err == nil {
		s.say("sha256 %s", sum)
	}
	return err
}

func DropFile(s *Shell, a map[string]string) error {
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	return removeFile(s.b.onShelf(a["file"]))
}

func place(a map[string]string) int {
	var n int
	_, _ = fmt.Sscan(a["place"], &n)
	return n - 1
}

func (s *Shell) percent(p int) { s.say("%d%%", p) }

func InstallInto(s *Shell, a map[string]string) error {
	return s.b.install(a["file"], place(a), s.percent)
}

func InstallHere(s *Shell, a map[string]string) error {
	if err := s.b.install(a["file"], 0, s.percent); err != nil {
		return err
	}
	s.say("done, starting anew")
	return errGone
}

func UnpackPlace(s *Shell, a map[string]string) error { return s.b.unpack(place(a), s.percent) }
func ClonePlace(s *Shell, a map[string]string) error  { return s.b.clone(place(a), s.percent) }
func ChoosePlace(s *Shell, a map[string]string) error { return s.b.choose(place(a), false) }
func TryPlace(s *Shell, a map[string]string) error    { return s.b.choose(place(a), true) }

func StartAnew(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) { b.restart() })
	return errGone
}

func Rest(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) {
		if !b.st.Resting {
			b.st.Resting, b.st.RestAt = true, time.Now()
		}
		_ = b.save()
	})
	return nil
}

func TakeWork(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) { b.st.Resting = false; _ = b.save() })
	return nil
}

func UpdateInner(s *Shell, a map[string]string) error {
	return s.b.update(a["inner"], a["file"], s.percent)
}

func CycleInner(s *Shell, a map[string]string) error { return s.b.cycle(a["inner"]) }

// callLine goes on at the console line of another box that is plugged into this one, until that ends.
func CallLine(s *Shell, a map[string]string) error {
	at := s.b.Lines[a["name"]]
	if at == "" {
		return errors.New("nothing of that name is plugged in")
	}
	far, err := net.DialTimeout("tcp", at, 3*time.Second)
	if err != nil {
		return errors.New("it does not answer")
	}
	box.Join(s.in, s.w, far)
	return errGone
}

// tellWork tells what the box does for its users, found in its configuration: up once the box is.
func TellWork(s *Shell, _ map[string]string) error {
	s.locked(func(b *Box) {
		for i, name := range b.m.Serves(b.st.Parts[b.m.Main]) {
			state := "up"
			if f := b.st.Faults[ServiceDown]; b.phase() < ready || (f.Hit || f.Value != 0) && i == 0 {
				state = "down"
			}
			s.say("does %s %s", name, state)
		}
	})
	return nil
}
