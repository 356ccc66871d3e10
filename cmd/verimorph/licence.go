package main

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// Licences that devices are given, and the service that they are taken from.

var licenceCommands = []command{
	{
		name: "licence-service show", short: "Where licences are taken from", example: "licence-service show",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				s, err := call[gen.LicenceService](c, func(a *api.Client) (*http.Response, error) { return a.GetLicenceService(ctx) })
				if err != nil {
					return err
				}
				return c.show(s, func() {
					if s.Url == "" {
						c.printf("None is set up; set it with: verimorph licence-service set\n")
						return
					}
					c.printf("Licences are taken from %s as %s\n", s.Url, s.User)
				})
			}
		},
	},
	{
		name: "licence-service set", short: "Say where licences are taken from", example: "licence-service set -url https://licences.example -user C-1042",
		long: "The password is read from the terminal, or from standard input. It is never shown again.\n" +
			"A change takes a licence from there when it was drafted with -licence NAME; it is told before whether one is left.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			url := fs.String("url", "", "`URL` of the service (docs/formats/licence-service.md)")
			user := fs.String("user", "", "`number` of the contract")
			return func(ctx context.Context, c *client, _ []string) error {
				if *url == "" || *user == "" {
					return errUsage{"-url and -user are needed"}
				}
				password, err := askPassword(c, "Password: ")
				if err != nil {
					return err
				}
				s, err := call[gen.LicenceService](c, func(a *api.Client) (*http.Response, error) {
					return a.PutLicenceService(ctx, gen.NewLicenceService{Url: *url, User: *user, Password: password})
				})
				if err != nil {
					return err
				}
				return c.show(s, func() { c.printf("Licences are taken from %s as %s\n", s.Url, s.User) })
			}
		},
	},
}

// licenceFlag takes licences, as licenceKeys reads them.
func licenceFlag(fs *flag.FlagSet) *[]string {
	var list []string
	fs.Func("licence", "`NAME=FILE` with the key of a licence that the device is given first,\nor NAME for one from the licence service; can be said more than once", func(s string) error {
		list = append(list, s)
		return nil
	})
	return &list
}

// licenceKeys reads the keys of licences that are given as NAME=FILE. A NAME alone is taken from the licence service.
func licenceKeys(list []string) (*[]gen.NewLicence, error) {
	if len(list) == 0 {
		return nil, nil
	}
	var out []gen.NewLicence
	for _, l := range list {
		name, file, ok := strings.Cut(l, "=")
		if name == "" || ok && file == "" || !ok && strings.Contains(name, "/") {
			return nil, errUsage{fmt.Sprintf("-licence %q should look like NAME=FILE, or NAME for one from the licence service", l)}
		}
		if !ok {
			out = append(out, gen.NewLicence{Name: name})
			continue
		}
		key, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		out = append(out, gen.NewLicence{Name: name, Key: new(strings.TrimSpace(string(key)))})
	}
	return &out, nil
}
