package main

import (
	"context"
	"flag"
	"net/http"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// The service that licences are taken from.

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
