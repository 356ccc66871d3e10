package main

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/device"
	"verimorph/device/cli"
)

// The workshop for people who write dialects: trying queries on a device, recording a conversation, replaying it.

const deviceOrAddress = "DEVICE is one of the fleet, spoken with by the service and its credentials, or USER@HOST:PORT, spoken with directly; then the\npassword and, on a second line, the password of the privileged level are asked for, or read from standard input."

var workshopCommands = []command{
	{
		name: "dialect list", short: "List the dialects that the service knows", example: "dialect list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				out, err := call[gen.ListDialects200JSONResponse](c, func(a *api.Client) (*http.Response, error) { return a.ListDialects(ctx) })
				if err != nil {
					return err
				}
				return c.show(out, func() {
					rows := [][]string{{"DIALECT", "SOURCE", "VERSION", "LACKS"}}
					for _, d := range out.Items {
						source, version := string(d.Source), ""
						if d.File != nil {
							source = *d.File
						}
						if d.Version != nil {
							version = fmt.Sprint(*d.Version)
						}
						lacks := strings.Join(d.Lacks, ", ")
						if d.Trouble != nil {
							lacks = c.paint(red, "cannot be used: "+*d.Trouble)
						}
						rows = append(rows, []string{d.Name, source, version, lacks})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "dialect try", args: "FILE DEVICE [QUERY...]", short: "Try queries of a dialect on a device", min: 2, max: -1, example: "dialect try fernhollow.yaml helm@127.61.9.1:2022 who files",
		long: "QUERY is what is sent for the portrait, or the name of a reading, of a part of a backup or of a verb; without one, all of the portrait and all\nreadings are tried. The answer is shown with what each group found. " + deviceOrAddress + "\nExit code 1 when something was not understood.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			write := fs.Bool("write", false, "allow verbs that may change something on the device")
			var fill fillFlag
			fs.Var(&fill, "fill", "`NAME=VALUE` for a placeholder of a verb, such as file=lb-2.2.3.img; may be given several times")
			return func(ctx context.Context, c *client, args []string) error {
				trials, _, err := c.try(ctx, args[0], args[1], args[2:], *write, fill)
				return c.showTrials(trials, nil, err)
			}
		},
	},
	{
		name: "dialect record", args: "DEVICE", short: "Record what a device answers to all that only reads", min: 1, max: 1, example: "dialect record hollen-fw1 -o hollen-fw1.session",
		long: "The recording is for dialect test; docs/formats/session.md describes it. Passwords are masked, and parts of backups are not asked for.\n" + deviceOrAddress,
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			file := fs.String("dialect", "", "`file` of the dialect; by default the one of the device")
			to := fs.String("o", "", "`file` to write; standard output when left out")
			return func(ctx context.Context, c *client, args []string) error {
				_, recording, err := c.try(ctx, *file, args[0], nil, false, nil)
				if recording == "" && err != nil {
					return err
				}
				if *to == "" {
					c.printf("%s", recording)
					return err
				}
				if e := os.WriteFile(*to, []byte(recording), 0o600); e != nil {
					return e
				}
				return err
			}
		},
	},
	{
		name: "dialect test", args: "FILE RECORDING...", short: "Replay recordings with a dialect, without a device", min: 2, max: -1, example: "dialect test fernhollow.yaml lb1.session",
		long: "All of the portrait and all readings are asked of each recording. Exit code 1 when an answer is not understood, or is missing.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				d, found, err := readDialect(args[0])
				if err != nil {
					return err
				}
				if d == nil {
					return found.Errors()
				}
				asked, err := d.Select(nil, false)
				if err != nil {
					return err
				}
				trials, lacks := []cli.Trial{}, []string{}
				for _, name := range args[1:] {
					data, err := os.ReadFile(name)
					if err != nil {
						return err
					}
					rec, err := cli.ReadRecording(filepath.ToSlash(name), data)
					if err != nil {
						return err
					}
					missing, err := d.Replay(ctx, rec, asked, func(t cli.Trial) { trials = append(trials, t) })
					if err != nil {
						return err
					}
					for _, m := range missing {
						lacks = append(lacks, filepath.ToSlash(name)+": "+m)
					}
				}
				return c.showTrials(trials, lacks, nil)
			}
		},
	},
}

// fillFlag collects NAME=VALUE.
type fillFlag map[string]string

func (f *fillFlag) String() string { return "" }

// Set implements flag.Value.
func (f *fillFlag) Set(text string) error {
	name, v, ok := strings.Cut(text, "=")
	if !ok || name == "" {
		return fmt.Errorf("%q should look like file=lb-2.2.3.img", text)
	}
	if *f == nil {
		*f = fillFlag{}
	}
	(*f)[name] = v
	return nil
}

// try tries queries on a device, through the service or directly, and returns what came of them and the recording.
func (c *client) try(ctx context.Context, file, where string, queries []string, write bool, fill map[string]string) (out []cli.Trial, recording string, err error) {
	user, address, direct := strings.Cut(where, "@")
	if !direct {
		return c.tryByService(ctx, file, where, queries, write, fill)
	}
	if file == "" {
		return nil, "", errUsage{"-dialect is needed for a device that is spoken with directly"}
	}
	if _, _, err := net.SplitHostPort(address); err != nil {
		address = net.JoinHostPort(address, "22")
	}
	d, found, err := readDialect(file)
	if err != nil {
		return nil, "", err
	}
	if d == nil {
		return nil, "", found.Errors()
	}
	asked, err := d.Select(queries, write)
	if err != nil {
		return nil, "", errUsage{err.Error()}
	}
	password, privileged, err := askPasswords(c)
	if err != nil {
		return nil, "", err
	}
	t := device.Target{Address: address, SignIns: []device.SignIn{{User: user, Password: password}}}
	if privileged != "" {
		t.Privileged = []device.SignIn{{Password: privileged}}
	}
	rec, err := d.TryAll(ctx, t, asked, fill, func(t cli.Trial) { out = append(out, t) })
	var text strings.Builder
	if e := rec.Write(&text); e != nil {
		return out, "", e
	}
	return out, text.String(), err
}

func (c *client) tryByService(ctx context.Context, file, name string, queries []string, write bool, fill map[string]string) (out []cli.Trial, recording string, err error) {
	b := gen.DialectTry{Device: name, Write: &write}
	if file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, "", err
		}
		b.Text = optional(string(text))
	}
	if len(queries) > 0 {
		b.Queries = &queries
	}
	if len(fill) > 0 {
		b.Fill = &fill
	}
	r, err := call[gen.TryDialect200JSONResponse](c, func(a *api.Client) (*http.Response, error) { return a.TryDialect(ctx, b) })
	if err != nil {
		return nil, "", err
	}
	for _, x := range r.Items {
		t := cli.Trial{Asked: cli.Asked{Kind: string(x.Question.Kind), Name: x.Question.Name, Writes: x.Question.Writes, Takes: x.Question.Takes}, Sent: x.Sent, Answer: x.Answer, Fields: x.Fields, Table: value(x.Table), Rows: x.Rows,
			Trouble: value(x.Trouble), Took: time.Duration(x.Milliseconds) * time.Millisecond, Shown: value(x.Value)}
		for _, m := range x.Marks {
			t.Marks = append(t.Marks, cli.Mark{From: m.From, To: m.To, Group: m.Group})
		}
		out = append(out, t)
	}
	if r.Trouble != nil {
		err = fmt.Errorf("the rest was not tried: %s", *r.Trouble)
	}
	return out, r.Recording, err
}

// showTrials shows what came of each query. The error is broke, or errNo when something was not understood.
func (c *client) showTrials(trials []cli.Trial, lacks []string, broke error) error {
	if trials == nil && broke != nil {
		return broke
	}
	if trials == nil {
		trials = []cli.Trial{}
	}
	bad := len(lacks)
	for _, t := range trials {
		if t.Trouble != "" {
			bad++
		}
	}
	err := c.show(map[string]any{"trials": trials, "lacks": lacks}, func() {
		for _, t := range trials {
			c.showTrial(&t)
		}
		for _, l := range lacks {
			c.printf("%s %s\n", c.paint(red, "missing"), l)
		}
		c.printf("%d tried, %d not understood\n", len(trials)+len(lacks), bad)
	})
	switch {
	case broke != nil:
		return broke
	case err == nil && bad > 0:
		return errNo
	}
	return err
}

func (c *client) showTrial(t *cli.Trial) {
	c.printf("%s  %s, %d ms\n", c.paint(bold, t.Kind+" "+t.Name), strings.Join(t.Sent, " / "), t.Took.Milliseconds())
	for line := range strings.Lines(marksShown(c, t)) {
		c.printf("  | %s\n", strings.TrimRight(line, "\r\n"))
	}
	for _, name := range slices.Sorted(maps.Keys(t.Fields)) {
		c.printf("  %-14s %s\n", name, strings.ReplaceAll(t.Fields[name], "\n", " "))
	}
	for i, row := range t.Rows {
		var cells []string
		for _, name := range slices.Sorted(maps.Keys(row)) {
			cells = append(cells, name+" "+row[name])
		}
		c.printf("  %s %d: %s\n", t.Table, i+1, strings.Join(cells, ", "))
	}
	if t.Shown != "" {
		c.printf("  %-14s %s\n", "value", t.Shown)
	}
	if t.Trouble != "" {
		c.printf("  %s %s\n", c.paint(red, "not understood:"), t.Trouble)
	}
	c.printf("\n")
}

// marksShown is the answer with brackets around what each group found.
func marksShown(c *client, t *cli.Trial) string {
	var out strings.Builder
	at := 0
	for _, m := range t.Marks {
		if m.Group == "" || m.From < at || m.To > len(t.Answer) {
			continue
		}
		out.WriteString(t.Answer[at:m.From])
		out.WriteString(c.paint(bold, "["+t.Answer[m.From:m.To]+"]"))
		at = m.To
	}
	out.WriteString(t.Answer[at:])
	return out.String()
}
