package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/version"
)

var pathCommands = []command{{
	name: "path", args: "[DEVICE]", short: "The supported path to a version", min: 0, max: 1,
	long:    "With a device: from what it runs now. Without a service: -catalogue, -model and -from instead of the device.",
	example: "path hollen-fw1 -to 5.4.2\n  verimorph path -catalogue demo/catalog -model TH-60 -from 4.2.3 -to 5.4.2",
	setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
		to := fs.String("to", "", "`version` it should run")
		previews := fs.Bool("previews", false, "preview releases may be used")
		reset := fs.Bool("reset", false, "hops that reset the configuration may be used")
		folder := fs.String("catalogue", "", "offline: `folder` with catalogue files")
		model := fs.String("model", "", "offline: model of the device")
		from := fs.String("from", "", "offline: `version` it runs")
		return func(ctx context.Context, c *client, args []string) error {
			if *to == "" {
				return errUsage{"-to is needed"}
			}
			var p gen.Path
			var err error
			switch {
			case len(args) == 1 && *folder == "":
				p, err = call[gen.Path](c, func(a *api.Client) (*http.Response, error) {
					return a.FindPath(ctx, args[0], gen.Aim{To: *to, Previews: previews, Reset: reset})
				})
			case len(args) == 0 && *folder != "" && *model != "" && *from != "":
				p, err = offlinePath(c, *folder, *model, *from, *to, path.Policy{Previews: *previews, Reset: *reset})
			default:
				return errUsage{"name a device, or give -catalogue, -model and -from"}
			}
			if err != nil {
				return err
			}
			return c.show(p, func() { c.printPath(p) })
		}
	},
}}

func offlinePath(c *client, folder, model, from, to string, policy path.Policy) (gen.Path, error) {
	cat, found := catalog.ReadDir(os.DirFS(folder))
	if errs := found.Errors(); len(errs) > 0 {
		return gen.Path{}, fmt.Errorf("the catalogue cannot be used:\n%w", errs)
	}
	f, err := version.Parse(from)
	if err != nil {
		return gen.Path{}, errUsage{"-from: " + err.Error()}
	}
	t, err := version.Parse(to)
	if err != nil {
		return gen.Path{}, errUsage{"-to: " + err.Error()}
	}
	p, err := path.NewPlanner(cat).Find(model, f, t, policy)
	var no *path.NoPathError
	var unknown *path.UnknownError
	if errors.As(err, &no) || errors.As(err, &unknown) {
		fmt.Fprintf(c.err, "verimorph path: %s\n", err)
		return gen.Path{}, errNo
	}
	if err != nil {
		return gen.Path{}, err
	}
	return view.Path(p, nil, func(string) bool { return true }), nil
}

func (c *client) printPath(p gen.Path) {
	if len(p.Hops) == 0 {
		c.printf("%s runs %s already; there is nothing to change.\n", p.Model, p.To)
		return
	}
	low, high := 0.0, 0.0
	for _, h := range p.Hops {
		low, high = low+h.Low, high+h.High
	}
	c.printf("%s from %s to %s: %d hops, %s expected\n\n", p.Model, p.From, c.paint(bold, p.To), len(p.Hops), span(low, high))
	c.printf("  o %s\n", p.From)
	for i, h := range p.Hops {
		c.printf("  |\n  |  hop %d  %s to %s, configuration %s, %s, image %s%s\n", i+1, h.From, h.To, h.Config, span(h.Low, h.High), h.Image,
			map[bool]string{false: c.paint(red, " (not in the image store)")}[h.ImageThere])
		c.printf("  |  %s\n", c.reason("permitted by", h.Permit, "  |    "))
		for _, b := range h.Because {
			c.printf("  |  %s\n", c.reason("needed:", b, "  |    "))
		}
		for _, n := range h.Notes {
			c.printf("  |  note: %s\n", wrap(n, 100, "  |        "))
		}
		c.printf("  o %s  %s\n", c.paint(bold, h.To), h.Stage)
	}
	for _, j := range p.NotTaken {
		c.printf("\nNot %s to %s:\n", j.From, j.To)
		for _, r := range j.Refusals {
			c.printf("  %s %s\n", c.paint(red, "x"), c.reason("", r, "    "))
		}
	}
	for _, n := range p.Notes {
		c.printf("\n%s\n", n)
	}
}

func (c *client) reason(word string, r gen.Citation, indent string) string {
	if word != "" {
		word += " "
	}
	if r.Rule != nil {
		word += c.paint(blue, *r.Rule) + " "
	}
	return wrap(word+r.Text, 110, indent)
}
