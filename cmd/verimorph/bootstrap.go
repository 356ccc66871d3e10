package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// Devices that ask by themselves what they are to become (RFC 8572).

var bootstrapCommands = []command{
	{
		name: "bootstrap list", short: "List the new devices that are expected to call, and what they report", example: "bootstrap list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				b, err := call[gen.Bootstrap](c, func(a *api.Client) (*http.Response, error) { return a.GetBootstrap(ctx) })
				if err != nil {
					return err
				}
				return c.show(b, func() { c.printBootstrap(b) })
			}
		},
	},
	{
		name: "bootstrap owner", short: "Print our certificate, for which makers make ownership vouchers", example: "bootstrap owner > owner.pem",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				b, err := call[gen.Bootstrap](c, func(a *api.Client) (*http.Response, error) { return a.GetBootstrap(ctx) })
				if err != nil {
					return err
				}
				return c.show(map[string]string{"owner": b.Owner}, func() { c.printf("%s", b.Owner) })
			}
		},
	},
	{
		name: "bootstrap trust", args: "FILE...", short: "Set the certificates of the makers whose devices may call (PEM)", min: 1, max: 50, example: "bootstrap trust gullwire-devices.pem",
		long: "They take the place of those that were set before.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				var all []byte
				for _, file := range args {
					data, err := os.ReadFile(file)
					if err != nil {
						return err
					}
					all = append(append(all, data...), '\n')
				}
				b, err := call[gen.Bootstrap](c, func(a *api.Client) (*http.Response, error) {
					return a.PutBootstrapMakersWithBody(ctx, "text/plain", bytes.NewReader(all))
				})
				if err != nil {
					return err
				}
				return c.show(b, func() { c.printf("Devices of these may call: %s\n", strings.Join(b.Makers, ", ")) })
			}
		},
	},
	{
		name: "bootstrap voucher", args: "FILE...", short: "Keep ownership vouchers that makers made (RFC 8366)", min: 1, max: 1000, example: "bootstrap voucher AP31-4404.vcj",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				var serials []string
				for _, file := range args {
					data, err := os.ReadFile(file)
					if err != nil {
						return err
					}
					v, err := call[struct{ Serial string }](c, func(a *api.Client) (*http.Response, error) {
						return a.AddVoucherWithBody(ctx, "application/octet-stream", bytes.NewReader(data))
					})
					if err != nil {
						return err
					}
					serials = append(serials, v.Serial)
				}
				return c.show(serials, func() { c.printf("Vouchers are kept for %s\n", strings.Join(serials, ", ")) })
			}
		},
	},
}

func (c *client) printBootstrap(b gen.Bootstrap) {
	makers := "No device may call yet; say whose may with: verimorph bootstrap trust FILE"
	if len(b.Makers) > 0 {
		makers = "Devices of these may call: " + strings.Join(b.Makers, ", ")
	}
	c.printf("%s\n", makers)
	rows := [][]string{{"SERIAL", "DEVICE", "CHANGE", "STATE", "VOUCHER", "CALLED", "REPORTS"}}
	for _, k := range b.Calls {
		called := "not yet"
		if k.CalledAt != nil {
			called = ago(*k.CalledAt)
		}
		last := ""
		if n := len(k.Reports); n > 0 {
			last = k.Reports[n-1]
		}
		rows = append(rows, []string{k.Serial, k.Device, fmt.Sprint(k.Change), k.State, map[bool]string{true: "there", false: "missing"}[value(k.Voucher)], called, last})
	}
	if len(rows) > 1 {
		table(c.out, rows)
	}
}
