package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/device/cli"
	"verimorph/device/link"
	"verimorph/device/netconf"
	"verimorph/simfleet/calderpath"
	"verimorph/simfleet/tarnholm"
)

// Sessions: what a command costs beside the raw round trip over SSH, and what a thousand NETCONF sessions at once take of memory.
const (
	manySessions = 1000
	routers      = 20 // boxes that share them
	commands     = 500
)

func routerAddress(i int) string { return fmt.Sprintf("127.70.9.%d:2022", i+1) }

// routersProcess is a process of its own: what the boxes need is not counted.
func routersProcess(dir string) {
	for i := range routers {
		b, err := calderpath.Open(calderpath.Spec{Name: fmt.Sprint("rt", i), Model: "V1", Serial: fmt.Sprint("S", i), Address: routerAddress(i),
			User: "helm", Password: "bench", Version: "7.4.7",
			Config: `<router name="rt"><port><name>port0</name></port></router>`}, filepath.Join(dir, fmt.Sprint(i)), 1, slog.New(slog.DiscardHandler))
		check(err)
		check(b.Start())
	}
	box, err := tarnholm.Open(tarnholm.Spec{Name: "fw", Model: "TH-60", Serial: "S", Address: "127.70.9.200:2022", User: "bosun", Password: "bench",
		Watchword: "bench", Version: "5.0.7", Flash: 8 << 20, Config: "# 5.0.7\nbox\n  name fw\n"},
		filepath.Join(dir, "fw"), 1, slog.New(slog.DiscardHandler))
	check(err)
	check(box.Start())
	fmt.Println("ready")
	_, _ = io.Copy(io.Discard, os.Stdin)
}

func benchSessions(ctx context.Context, dir string) {
	boxes := exec.Command(os.Args[0], "routers", dir)
	hold, err := boxes.StdinPipe()
	check(err)
	defer hold.Close()
	out, err := boxes.StdoutPipe()
	check(err)
	boxes.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	check(boxes.Start())
	_, err = io.ReadFull(out, make([]byte, 6))
	check(err)
	overhead(ctx)
	netconfSessions(ctx)
}

// overhead compares a command of a conversation with the bare line over the same kind of connection.
func overhead(ctx context.Context) {
	target := device.Target{Address: "127.70.9.200:2022", SignIns: []device.SignIn{{User: "bosun", Password: "bench"}}}
	dialects, err := cli.ReadDialects(cli.Builtin())
	check(err)
	conn, err := dialects["tarnholm"].Dial(ctx, target)
	check(err)
	defer conn.Close()
	client := &device.Client{Conn: conn}
	one := []device.Reading{dialects["tarnholm"].Readings[0]}
	read := func() {
		got, err := client.Readings(ctx, one)
		check(err)
		if got[one[0].Name].Type == verify.NotReadable {
			check(fmt.Errorf("%s", got[one[0].Name]))
		}
	}
	raw := rawShell(one[0].Send)
	read()
	raw()
	ours := best(5, func() {
		for range commands {
			read()
		}
	}) / commands
	theirs := best(5, func() {
		for range commands {
			raw()
		}
	}) / commands
	fmt.Printf("%-48s  %8.0f us  %-18s %8.0f us  %6.2f  %s\n", "a command of a session, beside its round trip",
		float64((ours-theirs).Nanoseconds())/1000, "1 ms; round trip", float64(theirs.Nanoseconds())/1000, (ours-theirs).Seconds()/0.001, "at most 1 ms more")
}

// rawShell says a command in a shell over SSH and reads to the prompt, and does nothing else.
func rawShell(command string) func() {
	c, err := ssh.Dial("tcp", "127.70.9.200:2022", &ssh.ClientConfig{User: "bosun", Auth: []ssh.AuthMethod{ssh.Password("bench")},
		HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	check(err)
	s, err := c.NewSession()
	check(err)
	check(s.RequestPty("vt100", 200, 500, ssh.TerminalModes{}))
	in, err := s.StdinPipe()
	check(err)
	out, err := s.StdoutPipe()
	check(err)
	check(s.Shell())
	r := bufio.NewReader(out)
	prompt := func() {
		var text strings.Builder
		for !strings.HasSuffix(text.String(), "fw ~ ") {
			b, err := r.ReadByte()
			check(err)
			text.WriteByte(b)
		}
	}
	prompt()
	say := func(line string) func() {
		return func() {
			_, err := io.WriteString(in, line+"\r")
			check(err)
			prompt()
		}
	}
	say("page off")()
	return say(command)
}

// netconfSessions opens a thousand sessions, asks each something, and looks at the memory of this process.
func netconfSessions(ctx context.Context) {
	before := resident(os.Getpid())
	began := time.Now()
	var open []func()
	for i := range manySessions {
		t := device.Target{Address: routerAddress(i % routers), SignIns: []device.SignIn{{User: "helm", Password: "bench"}}}
		l, err := link.Dial(ctx, t, nil)
		check(err)
		c := netconf.NewCaller(l, t.Address)
		_, err = c.Call(ctx, `<get-config><source><running/></source></get-config>`)
		check(err)
		open = append(open, func() { c.Close(); l.Close() })
	}
	each := (resident(os.Getpid()) - before) / manySessions
	fmt.Printf("%-48s  %8.0f K  %-18s %8.0f K  %6.2f  %s\n", fmt.Sprintf("%d NETCONF sessions at once (%.1f s), each", manySessions,
		time.Since(began).Seconds()), each, "limit", 150.0, each/150, "at most 1")
	for _, f := range open {
		f()
	}
}
