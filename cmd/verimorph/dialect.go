package main

import (
	"context"
	"flag"
	"os"
	"path/filepath"

	"verimorph/core/yamldoc"
	"verimorph/device/cli"
)

// For people who write dialects. These commands work on files, without a service.

var dialectCommands = []command{
	{
		name: "dialect check", args: "FILE...", short: "Find what is wrong with dialect files", min: 1, max: -1, example: "dialect check gale.yaml",
		long: "Every error and every doubt is told with file, line and column. With an error the file cannot be used. A doubt is a group that nobody\nreads, or something that a change will not be able to do. Exit code 1 when there is a finding.",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(_ context.Context, c *client, args []string) error {
				found := yamldoc.Findings{}
				for _, file := range args {
					_, of, err := readDialect(file)
					if err != nil {
						return err
					}
					found = append(found, of...)
				}
				if err := c.show(found, func() {
					for _, f := range found {
						c.printf("%s\n", f)
					}
					if len(found) == 0 {
						c.printf("No finding.\n")
					}
				}); err != nil || len(found) == 0 {
					return err
				}
				return errNo
			}
		},
	},
	{
		name: "dialect coverage", args: "FILE", short: "Show what a dialect can do, and what follows from what it lacks", min: 1, max: 1, example: "dialect coverage gale.yaml",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(_ context.Context, c *client, args []string) error {
				d, found, err := readDialect(args[0])
				if err != nil {
					return err
				}
				if d == nil {
					return found.Errors()
				}
				all := d.Coverage()
				return c.show(all, func() {
					rows := [][]string{{"", "KIND", "NAME", "WITHOUT IT"}}
					for _, x := range all {
						row := []string{"+", x.Kind, x.Name, ""}
						switch {
						case !x.Has:
							row[0], row[3] = "-", x.Without
						case x.By != "":
							row[2] += ", by " + x.By
						}
						rows = append(rows, row)
					}
					table(c.out, rows)
				})
			}
		},
	},
}

func readDialect(file string) (*cli.Dialect, yamldoc.Findings, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, nil, err
	}
	d, found := cli.Check(filepath.ToSlash(file), data)
	return d, found, nil
}
