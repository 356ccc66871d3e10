package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

var sessionCommands = []command{
	{
		name: "sign-in", short: "Open a session and remember it", min: 0, max: 1, args: "[USER]",
		long:    "The password is asked for, or read from standard input when that is no terminal.\nThe session is kept in a file that only you may read (VERIMORPH_SESSION names another one).",
		example: "sign-in engineer",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			days := fs.Int("days", 30, "how many `days` the session lasts")
			return func(ctx context.Context, c *client, args []string) error {
				user := "engineer"
				if len(args) > 0 {
					user = args[0]
				}
				password, err := askPassword(c, "Password: ")
				if err != nil {
					return err
				}
				s, err := call[gen.Session](c, func(a *api.Client) (*http.Response, error) {
					return a.SignIn(ctx, gen.SignIn{User: user, Password: password, Days: days})
				})
				if err != nil {
					return err
				}
				if err := remember(remembered{c.server, s.Token}); err != nil {
					return err
				}
				if c.json { // the token stays in the file
					return c.printJSON(map[string]string{"user": s.User, "server": c.server})
				}
				c.printf("Signed in to %s as %s.\n", c.server, s.User)
				return nil
			}
		},
	},
	{
		name: "sign-out", short: "End the session", example: "sign-out",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				_, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.SignOut(ctx) })
				return errors.Join(err, remember(remembered{Server: c.server})) // the token goes, the address stays
			}
		},
	},
	{
		name: "service", short: "The state of the service and its version", example: "service",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				s, err := call[gen.Service](c, func(a *api.Client) (*http.Response, error) { return a.GetService(ctx) })
				if err != nil {
					return err
				}
				return c.show(s, func() {
					c.printf("Verimorph %s at %s, signed in as %s\n", s.Version, c.server, s.User)
					if s.TimeFactor > 1 {
						c.printf("The fleet is simulated and runs %g times faster than real devices.\n", s.TimeFactor)
					}
				})
			}
		},
	},
}

// remember replaces the session file with one that only its owner may read.
func remember(r remembered) error {
	name, err := rememberedFile()
	if err != nil {
		return err
	}
	data, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(name), ".session-*") // made with mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	if _, err := tmp.Write(data); err != nil {
		return err
	}
	if err := tmp.Close(); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), name)
}

// askPassword asks without showing what is typed, or takes the first line of standard input.
func askPassword(c *client, question string) (string, error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprint(c.err, question)
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(c.err)
		return string(b), err
	}
	return nextLine(), nil
}

// askPasswords asks for the two passwords of a device.
func askPasswords(c *client) (password, privileged string, err error) {
	if password, err = askPassword(c, "Password: "); err != nil {
		return "", "", err
	}
	privileged, err = askPassword(c, "Password of the privileged level: ")
	return password, privileged, err
}

var stdin *bufio.Reader

// nextLine takes one line of standard input.
func nextLine() string {
	if stdin == nil {
		stdin = bufio.NewReader(os.Stdin)
	}
	line, _ := stdin.ReadString('\n')
	return strings.TrimRight(line, "\r\n")
}
