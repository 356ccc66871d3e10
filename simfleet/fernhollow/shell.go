package fernhollow

import (
	"crypto/md5"
	"crypto/subtle"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// modes of the command line, by what their prompts look like.
const (
	operate    = ">"
	privileged = "#"
	setup      = "(setup)#"
)

// shell is a conversation with the box.
type shell struct {
	b      *Box
	out    io.ReadWriter
	height int
	mode   string
	draft  []string // the configuration that is being set up
}

func (s *shell) print(format string, args ...any) bool {
	_, err := fmt.Fprintf(s.out, strings.ReplaceAll(format, "\n", "\r\n"), args...)
	return err == nil
}

// key reads one byte, which is echoed unless it is part of a password.
func (s *shell) key(echo bool) (byte, bool) {
	p := make([]byte, 1)
	if _, err := io.ReadFull(s.out, p); err != nil {
		return 0, false
	}
	if echo && p[0] != '\r' {
		_, _ = s.out.Write(p)
	}
	return p[0], true
}

// line reads up to a return.
func (s *shell) line(echo bool) (string, bool) {
	var text strings.Builder
	for {
		c, ok := s.key(echo)
		if !ok {
			return "", false
		}
		if c == '\r' {
			s.print("\n")
			return text.String(), true
		}
		text.WriteByte(c)
	}
}

// run greets, and answers commands until the conversation ends.
func (s *shell) run() {
	s.mode = operate
	s.print("Fernhollow %s\nnotice> boots only with dry feet\n", s.b.spec.Model)
	time.Sleep(20 * time.Millisecond)
	for {
		if !s.print("\x1b[1;32m%s%s\x1b[0m ", s.b.name(), s.mode) {
			return
		}
		line, ok := s.line(true)
		if !ok {
			return
		}
		s.b.mu.Lock()
		_, mute := s.b.st.Faults[Mute]
		s.b.mu.Unlock()
		if mute {
			continue
		}
		answer, ok := s.answer(strings.TrimSpace(line))
		if !ok || !s.page(answer) {
			return
		}
	}
}

// page prints an answer, with a pause after each screen.
func (s *shell) page(text string) bool {
	lines := strings.SplitAfter(text, "\n")
	for i, line := range lines {
		if i > 0 && i%(s.height-1) == 0 && i < len(lines)-1 {
			s.print("<any key for more>")
			if _, ok := s.key(false); !ok {
				return false
			}
			s.print("\r                  \r")
		}
		if !s.print("%s", strings.ReplaceAll(line, "\n", "\r\n")) {
			return false
		}
	}
	return true
}

// answer does what a line says; false ends the conversation.
func (s *shell) answer(line string) (string, bool) {
	word, rest, _ := strings.Cut(line, " ")
	switch {
	case line == "":
		return "", true
	case line == "leave" && s.mode == operate:
		return "", false
	case line == "restart" && s.mode == privileged:
		return s.restart()
	}
	b := s.b
	if word == "update" && s.mode == privileged && b.copies() {
		b.mu.Lock()
		answer, starts := b.update(rest)
		b.mu.Unlock()
		if starts {
			s.print("see you\n")
			b.host.Cut()
		}
		return answer, !starts
	}
	switch s.mode + " " + word {
	case "> open":
		s.print("Password: ")
		password, ok := s.line(false)
		b.mu.Lock()
		defer b.mu.Unlock()
		if subtle.ConstantTimeCompare([]byte(password), []byte(b.st.Privileged)) != 1 {
			return "% wrong\n", ok
		}
		s.mode = privileged
		return "", ok
	case "# close":
		s.mode = operate
		return "", true
	case "# setup":
		b.mu.Lock()
		s.draft = strings.Split(strings.TrimSuffix(b.st.Config, "\n"), "\n")
		b.mu.Unlock()
		s.mode = setup
		return "", true
	case "(setup)# leave":
		s.mode = privileged
		return "", true
	}
	if s.mode == setup {
		return s.setUp(word, rest)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if text, ok := b.tell(line); ok {
		return text, true
	}
	if s.mode == privileged {
		return b.do(word, rest), true
	}
	return fmt.Sprintf("%% what is %q?\n", line), true
}

// ask asks for a single key.
func (s *shell) ask(question string) (byte, bool) {
	s.print("%s", question)
	c, ok := s.key(true)
	s.print("\n")
	return c, ok
}

// restart asks twice and starts the box anew, which ends the conversation.
func (s *shell) restart() (string, bool) {
	b := s.b
	b.mu.Lock()
	unsealed := b.st.Config != b.st.Sealed
	b.mu.Unlock()
	if unsealed {
		if c, ok := s.ask("Configuration is not sealed. Go on? [y/n] "); c != 'y' {
			return "% not done\n", ok
		}
	}
	s.print("Type the name of the box to restart it: ")
	name, ok := s.line(true)
	if name != b.name() {
		return "% not done\n", ok
	}
	s.print("see you\n")
	b.mu.Lock()
	b.restart()
	b.mu.Unlock()
	b.host.Cut()
	return "", false
}

// setUp does what is said in the mode setup.
func (s *shell) setUp(word, rest string) (string, bool) {
	b := s.b
	switch word {
	case "wipe":
		s.print("All of it? Type yes: ")
		answer, ok := s.line(true)
		if answer != "yes" {
			return "% not done\n", ok
		}
		s.draft = nil
		return "", ok
	case "+":
		if strings.HasPrefix(rest, "!") || !strings.ContainsAny(rest[:min(len(rest), 1)], " abcdefghijklmnopqrstuvwxyz") {
			return fmt.Sprintf("%% %q is no setting\n", rest), true
		}
		s.draft = append(s.draft, rest)
		return "", true
	case "drop":
		s.draft = nil
		return "dropped\n", true
	case "apply":
		b.mu.Lock()
		defer b.mu.Unlock()
		b.st.Config = strings.Join(s.draft, "\n") + "\n"
		if err := b.save(); err != nil {
			return "% cannot write\n", true
		}
		return fmt.Sprintf("applied, %d lines\n", len(s.draft)), true
	}
	return fmt.Sprintf("%% what is %q?\n", word), true
}

// grouped writes a number with separators.
func grouped(n int64) string {
	digits := strconv.FormatInt(n, 10)
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
}

// blockSize is how many bytes a block of the storage has.
const blockSize = 512

// tell answers what anybody may ask; the caller holds the lock.
func (b *Box) tell(line string) (string, bool) {
	switch line {
	case "time":
		return time.Now().Format("15:04:05") + "\n", true
	case "who":
		return b.who(), true
	case "files":
		return b.files(), true
	case "boot":
		var out strings.Builder
		for i, name := range b.st.Boot {
			fmt.Fprintf(&out, "%d  %s%s\n", i+1, Images, name)
		}
		return out.String(), true
	case "links":
		return b.links(), true
	case "copies":
		if b.copies() {
			return b.listCopies(), true
		}
	case "list":
		return fmt.Sprintf("! listed %s\n%s", time.Now().Format("15:04:05.000000 02.01.2006"), b.st.Config), true
	case "list sealed":
		return b.st.Sealed, true
	}
	if n, ok := strings.CutPrefix(line, "job "); ok {
		return b.job(n), true
	}
	return "", false
}

func (b *Box) who() string {
	up := b.up()
	total, free := b.room()
	sealed, services := "in use, not sealed", "all up"
	if b.st.Config == b.st.Sealed {
		sealed = "sealed"
	}
	if up < rise.AllUp {
		services = "coming up"
	}
	days := int(up.Hours()) / 24
	second := "none"
	if len(b.st.Boot) > 1 {
		second = Images + b.st.Boot[1]
	}
	next := "none"
	if len(b.st.Boot) > 0 {
		next = Images + b.st.Boot[0]
	}
	return fmt.Sprintf(`Maker:          Fernhollow
Model:          %s
Serial:         %s
Release:        %s
Up:             %d weeks, %d days, %d:%02d:%02d
Started:        %s
Image:          %s
First image:    %s
Second image:   %s
Storage:        %s blocks, %s free
Configuration:  %s
Services:       %s
`, b.spec.Model, b.spec.Serial, b.version(), days/7, days%7, int(up.Hours())%24, int(up.Minutes())%60, int(up.Seconds())%60,
		b.st.BootAt.Format("15:04:05 02.01.2006"), Images+b.st.Running, next, second, grouped(total/blockSize), grouped(free/blockSize), sealed, services)
}

func (b *Box) files() string {
	entries, _ := os.ReadDir(b.store())
	var out strings.Builder
	fmt.Fprintf(&out, "%-40s  %12s\n", "Name", "Bytes")
	for _, e := range entries {
		if st, err := e.Info(); err == nil {
			fmt.Fprintf(&out, "%-40s  %12s\n", Images+e.Name(), grouped(st.Size()))
		}
	}
	fmt.Fprintf(&out, "%d files\n", len(entries))
	return out.String()
}

// links are up that the configuration does not switch off.
func (b *Box) links() string {
	var out strings.Builder
	fmt.Fprintf(&out, "%-8s %s\n", "Link", "State")
	lines := strings.Split(b.st.Config, "\n")
	for i, line := range lines {
		if name, ok := strings.CutPrefix(line, "link "); ok {
			state := "up"
			if i+1 < len(lines) && strings.TrimSpace(lines[i+1]) == "off" {
				state = "off"
			}
			if b.up() < rise.AllUp && state == "up" {
				state = "starting"
			}
			fmt.Fprintf(&out, "%-8s %s\n", name, state)
		}
	}
	return out.String()
}

// job tells how far work in the background is.
func (b *Box) job(number string) string {
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || n > len(b.st.Jobs) {
		return fmt.Sprintf("%% there is no job %q\n", number)
	}
	j := b.st.Jobs[n-1]
	switch done := b.since(j.Began); {
	case done < jobTakes:
		return fmt.Sprintf("job %d: %d %% done\n", n, int(done*100/jobTakes))
	case j.Failed != "":
		return fmt.Sprintf("job %d: went wrong, %s\n", n, j.Failed)
	default:
		return fmt.Sprintf("job %d: finished\n%s", n, j.Result)
	}
}

// do does what needs the privileged mode; the caller holds the lock.
func (b *Box) do(word, rest string) string {
	if b.copies() {
		if answer, ok := b.doCopies(word, rest); ok {
			_ = b.save()
			return answer
		}
	}
	switch word {
	case "seal":
		b.st.Sealed = b.st.Config
		if err := b.save(); err != nil {
			return "% cannot write\n"
		}
		return "sealed\n"
	case "sum":
		return b.sum(rest)
	case "wipe":
		name, err := plain(rest)
		switch {
		case err != nil:
			return fmt.Sprintf("%% %s\n", err)
		case name == b.st.Running:
			return "% that runs\n"
		case os.Remove(filepath.Join(b.store(), name)) != nil:
			return "% there is no such file\n"
		}
		return "gone\n"
	case "boot":
		return b.setBoot(rest)
	}
	return fmt.Sprintf("%% what is %q?\n", word)
}

// setBoot adds an image to the front of the boot list, or drops one from it.
func (b *Box) setBoot(rest string) string {
	act, path, _ := strings.Cut(rest, " ")
	name, err := plain(path)
	if err != nil {
		return fmt.Sprintf("%% %s\n", err)
	}
	others := slices.DeleteFunc(slices.Clone(b.st.Boot), func(n string) bool { return n == name })
	switch {
	case act == "drop" && len(others) < len(b.st.Boot):
		b.st.Boot = others
	case act == "add" && b.starts(name):
		b.st.Boot = append([]string{name}, others...)
	case act == "add":
		return "% that is no image for this box\n"
	default:
		return fmt.Sprintf("%% %s is not in the list\n", path)
	}
	if err := b.save(); err != nil {
		return "% cannot write\n"
	}
	return "noted\n"
}

// sum begins to compute the sum of an image.
func (b *Box) sum(path string) string {
	name, err := plain(path)
	if err != nil {
		return fmt.Sprintf("%% %s\n", err)
	}
	data, err := os.ReadFile(filepath.Join(b.store(), name))
	if err != nil {
		return "% there is no such file\n"
	}
	hash := fmt.Sprintf("%X", md5.Sum(data))
	j := job{Began: time.Now(), Result: fmt.Sprintf("quick sum:\n  %s\n  %s\n", hash[:16], hash[16:])}
	if b.st.Faults.Hit(JobFails) {
		j.Failed = "the storage does not answer"
	}
	b.st.Jobs = append(b.st.Jobs, j)
	b.st.JobsBegun++
	return fmt.Sprintf("job %d begins\n", len(b.st.Jobs))
}
