// Command verimorph is the command-line client. It has a command for every call of the service, and works offline on files: paths, comparisons,
// conversions, bundles. Exit codes: 0 done, 1 the answer is no, 2 wrong use, 3 could not reach or do.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/term"
)

// Exit codes.
const (
	exitDone   = 0
	exitNo     = 1 // the answer is no: no path, a verdict that fails, differences found
	exitUsage  = 2
	exitFailed = 3 // could not reach or do
)

// A command is one sub-command of the client.
type command struct {
	name    string // "device list"
	args    string // what stands after it: "DEVICE"
	short   string
	long    string
	example string
	setup   func(fs *flag.FlagSet) func(ctx context.Context, c *client, args []string) error
	min     int // how many arguments
	max     int // -1: any number
}

var groups = [][]command{sessionCommands, deviceCommands, ensembleCommands, pathCommands, changeCommands, bringUpCommands, replaceCommands, spareCommands, serviceCommands, bootstrapCommands, licenceCommands, readingCommands, imageCommands, mediaCommands, keptMediaCommands, siteCommands, catalogueCommands, advisoryCommands, dialectCommands, workshopCommands, backupCommands, backupStoreCommands, credentialCommands, configCommands, {carveCommand}, conversionCommands}

func commands() []command { return slices.Concat(groups...) }

func main() {
	debug.SetGCPercent(400) // a command lives for a moment, so memory is seldom collected
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := run(ctx, os.Args[1:], os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}

// run carries one command out and returns the exit code.
func run(ctx context.Context, args []string, stdout, stderr io.Writer) int {
	if len(args) == 0 || args[0] == "help" && len(args) == 1 || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" {
		overview(stdout)
		return map[bool]int{true: exitUsage, false: exitDone}[len(args) == 0]
	}
	help := args[0] == "help"
	if help {
		args = args[1:]
	}
	cmd, rest := find(args)
	if cmd == nil {
		name := strings.Join(slices.DeleteFunc(slices.Clone(args), func(a string) bool { return strings.HasPrefix(a, "-") }), " ")
		if wantsJSON(args) {
			return exitCode(errUsage{fmt.Sprintf("there is no command %q", name)}, "", true, stderr)
		}
		fmt.Fprintf(stderr, "verimorph: there is no command %q\n\n", name)
		overviewOf(stderr, args[0])
		return exitUsage
	}
	c := &client{out: stdout, err: stderr}
	fs := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	c.flags(fs)
	do := cmd.setup(fs)
	positional, err := parse(fs, rest)
	switch {
	case help || errors.Is(err, flag.ErrHelp):
		describe(stdout, cmd, fs)
		return exitDone
	case err == nil && (len(positional) < cmd.min || cmd.max >= 0 && len(positional) > cmd.max):
		err = fmt.Errorf("it takes: verimorph %s %s", cmd.name, cmd.args)
	}
	if err == nil {
		if f, ok := stdout.(*os.File); ok {
			c.terminal = term.IsTerminal(int(f.Fd())) && !c.json && os.Getenv("TERM") != "dumb"
			c.colour = c.terminal && os.Getenv("NO_COLOR") == ""
		}
		err = do(ctx, c, positional)
	} else {
		err = errUsage{err.Error()}
	}
	return exitCode(err, cmd.name, c.json || wantsJSON(rest), stderr)
}

// wantsJSON reports whether the arguments ask for JSON, also where they cannot be read.
func wantsJSON(args []string) bool {
	return slices.ContainsFunc(args, func(a string) bool { return a == "-json" || a == "--json" || a == "-json=true" || a == "--json=true" })
}

// find takes the longest command name that the arguments begin with.
func find(args []string) (*command, []string) {
	if args[0] == "catalog" { // spelt either way
		args = append([]string{"catalogue"}, args[1:]...)
	}
	all := commands()
	for n := min(2, len(args)); n > 0; n-- {
		name := strings.Join(args[:n], " ")
		for i := range all {
			if all[i].name == name {
				return &all[i], args[n:]
			}
		}
	}
	return nil, nil
}

// parse reads flags wherever they stand among the arguments.
func parse(fs *flag.FlagSet, args []string) (positional []string, err error) {
	for {
		if err := fs.Parse(args); err != nil {
			return nil, err
		}
		if fs.NArg() == 0 {
			return positional, nil
		}
		done := len(args) - fs.NArg()
		if done > 0 && args[done-1] == "--" {
			return append(positional, fs.Args()...), nil
		}
		positional = append(positional, fs.Arg(0))
		args = fs.Args()[1:]
	}
}

func overview(w io.Writer) {
	fmt.Fprint(w, `verimorph upgrades, downgrades and rolls back the firmware of network devices: along supported paths only, with a backup before
and a verification after.

`)
	overviewOf(w, "")
	fmt.Fprint(w, `
Every command: verimorph help COMMAND. With -json it prints what the service answers; errors are JSON on the error output
(RFC 9457).
Exit codes: 0 done, 1 the answer is no, 2 wrong use, 3 could not reach or do.
`)
}

// overviewOf lists the commands that begin with a word, or all.
func overviewOf(w io.Writer, word string) {
	shown := 0
	for _, group := range groups {
		if shown > 0 && word == "" {
			fmt.Fprintln(w)
		}
		for _, c := range group {
			if word == "" || strings.HasPrefix(c.name, word) {
				fmt.Fprintf(w, "  %-42s %s\n", c.name+" "+c.args, c.short)
				shown++
			}
		}
	}
	if shown == 0 && word != "" {
		overviewOf(w, "")
	}
}

func describe(w io.Writer, cmd *command, fs *flag.FlagSet) {
	fmt.Fprintf(w, "verimorph %s %s\n\n%s.\n", cmd.name, cmd.args, cmd.short)
	if cmd.long != "" {
		fmt.Fprintf(w, "%s\n", cmd.long)
	}
	fmt.Fprintf(w, "\nExample:\n  verimorph %s\n\nFlags:\n", cmd.example)
	fs.SetOutput(w)
	fs.PrintDefaults()
	fmt.Fprint(w, "\nExit codes: 0 done, 1 the answer is no, 2 wrong use, 3 could not reach or do.\n")
}

func (c *client) printJSON(v any) error {
	e := json.NewEncoder(c.out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
