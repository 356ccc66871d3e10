package main

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

var credentialCommands = []command{
	{
		name: "credential list", short: "List credentials in the order in which they are tried, without secrets", example: "credential list -device hollen-fw1",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "those that open this device")
			find := fs.String("find", "", "those with this `text` in device, group, kind or user")
			return func(ctx context.Context, c *client, _ []string) error {
				keys, err := all(func(cursor *string) ([]gen.Credential, *string, error) {
					p, err := call[struct {
						Items []gen.Credential `json:"items"`
						Next  *string          `json:"next"`
					}](c, func(a *api.Client) (*http.Response, error) {
						return a.ListCredentials(ctx, &gen.ListCredentialsParams{Device: optional(*device), Find: optional(*find), Cursor: cursor})
					})
					return p.Items, p.Next, err
				})
				if err != nil {
					return err
				}
				return c.show(keys, func() {
					rows := [][]string{{"CREDENTIAL", "OPENS", "KIND", "USER", "VERSIONS", "USED", "ADDED BY"}}
					for _, k := range keys {
						opens, versions, used := value(k.Device), k.Versions, "never"
						if k.Group != nil {
							opens = "group " + *k.Group
						}
						if versions == "" {
							versions = "any"
						}
						if k.UsedAt != nil {
							used = ago(*k.UsedAt)
						}
						rows = append(rows, []string{fmt.Sprint(k.Id), opens, string(k.Kind), k.User, versions, used, k.CreatedBy})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "credential add", short: "Add a credential of a device or a group", example: "credential add -device control-sg1 -kind password -user keeper -versions \"3.x\"",
		long: "Secrets are asked for, or read from standard input, one a line: the password; for kind key the passphrase (the key is in -key-file); kind certificate takes -cert-file and -key-file and asks for nothing; for snmp-v3 the authentication and the privacy password; for snmp-community the community; for http-token the token.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "of this device")
			group := fs.String("group", "", "of every device of this group")
			kind := fs.String("kind", "password", "password, key, privileged, http-token, snmp-v3, snmp-community, certificate or console")
			user := fs.String("user", "", "user to sign in as")
			versions := fs.String("versions", "", "firmware `versions` it applies to, such as 4.x; by default any")
			certFile := fs.String("cert-file", "", "`file` with the certificate, PEM")
			keyFile := fs.String("key-file", "", "`file` with the private key")
			auth := fs.String("auth", "SHA-256", "authentication protocol of snmp-v3")
			priv := fs.String("priv", "AES", "privacy protocol of snmp-v3")
			return func(ctx context.Context, c *client, _ []string) error {
				if (*device == "") == (*group == "") {
					return errUsage{"-device or -group is needed, not both"}
				}
				b := gen.NewCredential{Device: optional(*device), Group: optional(*group), Kind: gen.CredentialKind(*kind), User: optional(*user),
					Versions: optional(*versions)}
				ask := func(question string, into **string) error {
					word, err := askPassword(c, question)
					if word != "" {
						*into = &word
					}
					return err
				}
				var err error
				switch *kind {
				case "key":
					if *keyFile == "" {
						return errUsage{"-key-file is needed"}
					}
					data, e := os.ReadFile(*keyFile)
					if e != nil {
						return e
					}
					text := string(data)
					b.PrivateKey = &text
					err = ask("Passphrase, if there is one: ", &b.Passphrase)
				case "certificate":
					if *keyFile == "" || *certFile == "" {
						return errUsage{"-cert-file and -key-file are needed"}
					}
					for name, into := range map[string]**string{*keyFile: &b.PrivateKey, *certFile: &b.Certificate} {
						data, err := os.ReadFile(name)
						if err != nil {
							return err
						}
						*into = new(string(data))
					}
				case "http-token":
					err = ask("Token: ", &b.Token)
				case "snmp-v3":
					b.AuthProtocol, b.PrivProtocol = auth, priv
					if err = ask("Authentication password: ", &b.AuthPassword); err == nil {
						err = ask("Privacy password: ", &b.PrivPassword)
					}
				default:
					err = ask("Password: ", &b.Password)
				}
				if err != nil {
					return err
				}
				k, err := call[gen.Credential](c, func(a *api.Client) (*http.Response, error) {
					return a.AddCredential(ctx, &gen.AddCredentialParams{IdempotencyKey: newKey()}, b)
				})
				if err != nil {
					return err
				}
				return c.show(k, func() { c.printf("Added credential %d. It is never shown again.\n", k.Id) })
			}
		},
	},
	{
		name: "credential remove", args: "CREDENTIAL", short: "Delete a credential", min: 1, max: 1, example: "credential remove 3",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "credential")
				if err != nil {
					return err
				}
				_, err = call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.DeleteCredential(ctx, id) })
				return err
			}
		},
	},
	{
		name: "credential tries", short: "Show or set how many refused sign-ins are risked", example: "credential tries -bound 2 -rest 30m",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			bound := fs.Int("bound", 0, "refused sign-ins in a row")
			rest := fs.Duration("rest", 15*time.Minute, "after which it is risked again")
			return func(ctx context.Context, c *client, _ []string) error {
				if *bound != 0 {
					if _, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) {
						return a.PutSignInTries(ctx, gen.SignInTries{Bound: *bound, RestSeconds: int(rest.Seconds())})
					}); err != nil {
						return err
					}
				}
				t, err := call[gen.SignInTries](c, func(a *api.Client) (*http.Response, error) { return a.GetSignInTries(ctx) })
				if err != nil {
					return err
				}
				return c.show(t, func() {
					c.printf("%d refused sign-ins in a row are risked, then a rest of %s\n", t.Bound, time.Duration(t.RestSeconds)*time.Second)
				})
			}
		},
	},
	{
		name: "device host-key", args: "DEVICE [KEY]", short: "Pin a host key that is known, or forget the pinned one", min: 1, max: 2, example: "device host-key hollen-fw1 \"ssh-ed25519 AAAA...\"",
		long: "Without a key the pinned one is forgotten, and the next contact pins the one it finds.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				_, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) {
					if len(args) == 1 {
						return a.ForgetHostKey(ctx, args[0])
					}
					return a.SetHostKey(ctx, args[0], gen.SetHostKeyJSONRequestBody{HostKey: args[1]})
				})
				return err
			}
		},
	},
	{
		name: "key show", short: "Show the public half of the installation key and the age of the data keys", example: "key show",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				k, err := call[gen.Keys](c, func(a *api.Client) (*http.Response, error) { return a.GetKeys(ctx) })
				if err != nil {
					return err
				}
				return c.showKeys(k)
			}
		},
	},
	{
		name: "key rotate", args: "data | installation", short: "Rotate the data key or the installation key", min: 1, max: 1, example: "key rotate data",
		long: "data: a new data key, with which every secret of the records is encrypted anew. installation: a new key of the installation, with which data keys and backups are encrypted anew; keep a new offline copy of the key file afterwards.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				k, err := call[gen.Keys](c, func(a *api.Client) (*http.Response, error) {
					return a.RotateKey(ctx, gen.RotateKeyJSONRequestBody{Which: gen.RotateKeyJSONBodyWhich(args[0])})
				})
				if err != nil {
					return err
				}
				return c.showKeys(k)
			}
		},
	},
	{
		name: "audit", short: "List the audit log, newest first", example: "audit -device hollen-fw1",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			device := fs.String("device", "", "only about this device")
			return func(ctx context.Context, c *client, _ []string) error {
				p, err := call[struct {
					Items []gen.AuditLine `json:"items"`
				}](c, func(a *api.Client) (*http.Response, error) {
					return a.ListAudit(ctx, &gen.ListAuditParams{Device: optional(*device)})
				})
				if err != nil {
					return err
				}
				return c.show(p.Items, func() {
					rows := [][]string{{"AT", "WHO", "WHAT", "DEVICE", "DETAIL"}}
					for _, l := range p.Items {
						rows = append(rows, []string{c.when(l.At), l.Who, l.Event, l.Device, l.Detail})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "notify", short: "Show or set where notices of failed and missed backups go", example: "notify -webhook https://example.net/hook -test",
		long: "A password for the mail server is asked for when -smtp-user is given.",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			webhook := fs.String("webhook", "", "`URL` that gets each notice as JSON; - for none")
			smtp := fs.String("smtp", "", "`host:port` of a mail server; - for none")
			user := fs.String("smtp-user", "", "user there")
			from := fs.String("from", "", "sender's mail address")
			to := fs.String("to", "", "mail `addresses`, with commas")
			test := fs.Bool("test", false, "send a test to every place now")
			return func(ctx context.Context, c *client, _ []string) error {
				n, err := call[gen.Notifications](c, func(a *api.Client) (*http.Response, error) { return a.GetNotifications(ctx) })
				if err != nil {
					return err
				}
				set := func(into *string, v string) bool {
					if v != "" {
						*into = strings.TrimPrefix(v, "-")
					}
					return v != ""
				}
				changed := set(&n.Webhook, *webhook)
				changed = set(&n.Smtp, *smtp) || changed
				changed = set(&n.From, *from) || changed
				if set(&n.SmtpUser, *user) {
					word, err := askPassword(c, "Password: ")
					if err != nil {
						return err
					}
					n.SmtpPassword, changed = &word, true
				}
				if l := list(*to); l != nil {
					n.To, changed = *l, true
				}
				if changed {
					if _, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.PutNotifications(ctx, n) }); err != nil {
						return err
					}
				}
				if *test {
					if _, err := call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.TestNotifications(ctx) }); err != nil {
						return err
					}
				}
				n.SmtpPassword = nil
				return c.show(n, func() {
					none := func(s string) string {
						if s == "" {
							return "none"
						}
						return s
					}
					c.printf("Webhook      %s\nMail server  %s\nFrom         %s\nTo           %s\n", none(n.Webhook), none(n.Smtp), none(n.From),
						none(strings.Join(n.To, ", ")))
					if *test {
						c.printf("A test was delivered.\n")
					}
				})
			}
		},
	},
}

func (c *client) showKeys(k gen.Keys) error {
	return c.show(k, func() {
		c.printf("Installation  %s\n", k.Recipient)
		for _, o := range k.Older {
			c.printf("  on its way out: %s\n", o)
		}
		c.printf("Offline keys  %d\nData key      %d, made %s\n", k.Offline, k.DataKey, ago(k.DataKeyAt))
	})
}
