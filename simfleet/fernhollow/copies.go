package fernhollow

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"verimorph/simfleet/firmware"
)

// The LB-5 has one system, which an update overwrites, and any number of named copies of it on the same disk. Each starts with the configuration that it was
// made with. Which one starts is chosen by a command, or in a boot menu at the console line that only steps from one to the next.

const copying = "LB-5"

// system is how the installation is called that updates overwrite.
const system = "system"

// copied is a named copy of the system.
type copied struct {
	Name, Version, Config string
	Made                  time.Time
	Size                  int64
}

func (b *Box) copies() bool { return b.spec.Model == copying }

// copy is the copy of a name, or nil; the caller holds the lock.
func (b *Box) copy(name string) *copied {
	for i := range b.st.Copies {
		if b.st.Copies[i].Name == name {
			return &b.st.Copies[i]
		}
	}
	return nil
}

// listCopies tells what can be started.
func (b *Box) listCopies() string {
	var out strings.Builder
	fmt.Fprintf(&out, "%-24s %-8s %8s  %-16s %s\n", "Name", "Release", "Bytes", "Made", "Is")
	row := func(c copied, note string) {
		var is []string
		if c.Name == b.st.From {
			is = append(is, "running")
		}
		if c.Name == b.st.Next {
			is = append(is, "next")
		}
		if note != "" {
			is = append(is, note)
		}
		fmt.Fprintf(&out, "%-24s %-8s %8s  %-16s %s\n", c.Name, c.Version, grouped(c.Size), c.Made.Format("15:04 02.01.2006"), strings.Join(append(is, "whole"), ", "))
	}
	row(copied{Name: system, Version: b.st.System, Made: b.st.SystemAt, Size: 256 << 10}, "")
	for _, c := range b.st.Copies {
		row(c, "")
	}
	return out.String()
}

// doCopies does what concerns installations on such a box; ok is false when the command is another one. The caller holds the lock.
func (b *Box) doCopies(word, rest string) (answer string, ok bool) {
	words := strings.Fields(rest)
	arg := func(i int) string {
		if i < len(words) {
			return words[i]
		}
		return ""
	}
	switch {
	case word == "keep" && arg(0) == "as":
		return b.keep(arg(1)), true
	case word == "start" && arg(0) == "with":
		return b.startWith(arg(1), false), true
	case word == "start" && arg(0) == "once":
		return b.startWith(arg(2), true), true
	case word == "call" && len(words) == 2:
		c := b.copy(arg(0))
		if c == nil || b.copy(arg(1)) != nil || arg(1) == system {
			return "% there is none, or the name is taken\n", true
		}
		for _, p := range []*string{&b.st.Next, &b.st.Once, &b.st.From} {
			if *p == c.Name {
				*p = arg(1)
			}
		}
		c.Name = arg(1)
		return "called so\n", true
	case word == "forget":
		if b.copy(rest) == nil || rest == b.st.From || rest == b.st.Next {
			return "% that is none that could be forgotten\n", true
		}
		b.st.Copies = slices.DeleteFunc(b.st.Copies, func(c copied) bool { return c.Name == rest })
		return "forgotten\n", true
	}
	return "", false
}

// keep makes a copy of what runs, in the background.
func (b *Box) keep(name string) string {
	switch {
	case name == "" || len(name) > 24 || name == system || b.copy(name) != nil:
		return "% a name of its own is needed, of 24 signs at most\n"
	}
	b.st.Copies = append(b.st.Copies, copied{name, b.version(), b.st.Sealed, time.Now(), 256 << 10})
	b.st.Jobs = append(b.st.Jobs, job{Began: time.Now()})
	b.st.JobsBegun++
	return fmt.Sprintf("job %d begins\n", len(b.st.Jobs))
}

func (b *Box) startWith(name string, once bool) string {
	if name != system && b.copy(name) == nil {
		return "% there is no such installation\n"
	}
	if once {
		b.st.Once = name
	} else {
		b.st.Next = name
	}
	return "noted\n"
}

// update overwrites the system with an image and starts it.
func (b *Box) update(path string) (string, bool) {
	name, err := plain(path)
	if err != nil {
		return fmt.Sprintf("%% %s\n", err), false
	}
	f, err := os.Open(filepath.Join(b.store(), name))
	if err != nil {
		return "% there is no such file\n", false
	}
	defer f.Close()
	h, err := firmware.Read(f)
	if err != nil || !slices.Contains(h.Models, b.spec.Model) {
		return "% that is no image for this box\n", false
	}
	b.st.System, b.st.SystemAt, b.st.Next, b.st.Once = h.Version, time.Now(), system, ""
	b.startCopy(system)
	return "", true
}

// startNext starts what was chosen; the caller holds the lock.
func (b *Box) startNext() {
	name := b.st.Next
	if b.st.Once != "" {
		name, b.st.Once = b.st.Once, ""
	}
	b.startCopy(name)
}

// startCopy starts an installation. A system that cannot be started leaves the box in its boot menu.
func (b *Box) startCopy(name string) {
	b.st.InMenu = name == system && b.st.Faults.Hit(BadStart)
	b.st.From, b.st.Running, b.st.Config = name, imageName(b.st.System), b.st.Sealed
	if c := b.copy(name); c != nil {
		b.st.Running, b.st.Config, b.st.Sealed = imageName(c.Version), c.Config, c.Config
	}
	b.st.BootAt, b.st.Jobs = time.Now(), nil
	b.st.Boots++
	_ = b.save()
}

// line answers at the console line: while the box hangs in its boot menu, that; else nothing but its name.
func (b *Box) line(c net.Conn) {
	in := bufio.NewReader(c)
	at := 0
	for {
		b.mu.Lock()
		menu := b.st.InMenu
		names := []string{system}
		for _, x := range b.st.Copies {
			names = append(names, x.Name)
		}
		b.mu.Unlock()
		if menu {
			fmt.Fprintf(c, "\r\n-> %s\r\n[n]ext, [s]tart: ", names[at%len(names)])
		}
		key, err := in.ReadByte()
		if err != nil {
			return
		}
		switch {
		case menu && key == 'n':
			at++
		case menu && key == 's':
			fmt.Fprintf(c, "\r\nstarting %s\r\n", names[at%len(names)])
			b.mu.Lock()
			b.st.Next = names[at%len(names)]
			b.startCopy(b.st.Next)
			b.mu.Unlock()
		}
	}
}
