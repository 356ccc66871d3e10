package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/advisory"
	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/portrait"
)

// asking is what the flags of a path question say.
type asking struct {
	to, aim, toModel                 string
	previews, reset, dropChildren    bool
	maxHops, alternatives            int
	services                         string
	folder, model, from, file, notes string
}

// flags adds all of them: aim and policy, and those for devices that are not there.
func (a *asking) flags(fs *flag.FlagSet) {
	a.policyFlags(fs)
	fs.StringVar(&a.folder, "catalog", "", "offline: `folder` with catalogue files")
	fs.StringVar(&a.folder, "catalogue", "", "the same as -catalog")
	fs.StringVar(&a.notes, "advisories", "", "offline: `folder` with CSAF documents for fixes:ADVISORY; those in the catalogue folder count anyway")
	fs.StringVar(&a.model, "model", "", "without a device: its `model`")
	fs.StringVar(&a.from, "from", "", "without a device: the `version` it runs")
	fs.StringVar(&a.file, "portrait", "", "without a device: `file` that says what it is (docs/formats/portrait.md)")
}

func (a *asking) policyFlags(fs *flag.FlagSet) {
	fs.StringVar(&a.to, "to", "", "`version` it should run")
	fs.StringVar(&a.aim, "aim", "", "instead of -to: preferred, newest, train:T, fixes:ADVISORY, or member:NAME for what another device or member runs")
	fs.StringVar(&a.toModel, "to-model", "", "`model` to end as, where the platform changes")
	fs.BoolVar(&a.previews, "previews", false, "preview releases may be used")
	fs.BoolVar(&a.reset, "reset", false, "hops that reset the configuration may be used")
	fs.BoolVar(&a.dropChildren, "drop-children", false, "releases that no longer serve the device's child models may be used")
	fs.IntVar(&a.maxHops, "hops", 0, "at most so many `hops`; 0 is any number")
	fs.StringVar(&a.services, "keep", "", "`services` that every stop must be able to run, separated by commas")
}

// check finds out whether the flags go together, and gives the aim.
func (a *asking) check(device bool) (string, error) {
	paper := a.model != "" || a.from != "" || a.file != ""
	switch {
	case (a.to == "") == (a.aim == ""):
		return "", errUsage{"give one of -to and -aim"}
	case device && (paper || a.folder != ""):
		return "", errUsage{"a device goes without -catalog, -model, -from and -portrait"}
	case !device && a.file == "" && (a.model == "" || a.from == ""):
		return "", errUsage{"name a device, or give -model and -from, or -portrait; with -catalog without a service"}
	case a.maxHops < 0 || a.alternatives < 0 || a.alternatives > 5:
		return "", errUsage{"-hops is 0 or more, -alternatives from 0 to 5"}
	}
	switch parsed, err := path.ParseAim(a.to + a.aim); {
	case err != nil:
		return "", errUsage{err.Error()}
	case a.aim != "" && parsed.Version != "":
		return "", errUsage{fmt.Sprintf("-aim %s is not known: use preferred, newest, train:T, fixes:ADVISORY or member:NAME; a version is given with -to", a.aim)}
	}
	return a.to + a.aim, nil
}

func (a *asking) list() []string {
	if a.services == "" {
		return nil
	}
	return strings.Split(a.services, ",")
}

func (a *asking) gen(aim string) gen.Aim {
	services := a.list()
	return gen.Aim{To: aim, ToModel: optional(a.toModel), Previews: &a.previews, Reset: &a.reset, DropChildren: &a.dropChildren, MaxHops: &a.maxHops,
		Alternatives: &a.alternatives, Services: &services}
}

// portrait is what the flags say the device is.
func (a *asking) portrait() (*portrait.Portrait, error) {
	p := &portrait.Portrait{}
	if a.file != "" {
		data, err := os.ReadFile(a.file)
		if err != nil {
			return nil, err
		}
		var found catalog.Findings
		if p, found = portrait.Read(a.file, data); len(found) > 0 {
			return nil, errUsage{found.Error()}
		}
	}
	if a.model != "" {
		p.Model = a.model
	}
	if a.from != "" {
		p.Version = a.from
	}
	if len(p.Members) == 0 && (p.Model == "" || p.Version == "") {
		return nil, errUsage{"the model and the version it runs are needed; give -model and -from, or say them in the portrait"}
	}
	return p, nil
}

// body is the question on paper for the service.
func (a *asking) body(aim string) (gen.PaperAim, error) {
	p, err := a.portrait()
	if err != nil {
		return gen.PaperAim{}, err
	}
	data, err := json.Marshal(p)
	if err != nil {
		return gen.PaperAim{}, err
	}
	fields := map[string]any{}
	if err := json.Unmarshal(data, &fields); err != nil {
		return gen.PaperAim{}, err
	}
	if len(p.Members) > 0 {
		delete(fields, "model")
		delete(fields, "version")
	}
	fields["format"] = portrait.Format
	g := a.gen(aim)
	return gen.PaperAim{Portrait: fields, To: g.To, ToModel: g.ToModel, Previews: g.Previews, Reset: g.Reset, DropChildren: g.DropChildren,
		MaxHops: g.MaxHops, Alternatives: g.Alternatives, Services: g.Services}, nil
}

// offline opens the catalogue and puts the question together.
func (a *asking) offline(aim string) (*path.Planner, path.Question, error) {
	p, err := a.portrait()
	if err != nil {
		return nil, path.Question{}, err
	}
	cat, err := readCatalogue(a.folder)
	if err != nil {
		return nil, path.Question{}, err
	}
	q := path.Question{Portrait: p, Alternatives: a.alternatives, Policy: path.Policy{Previews: a.previews, Reset: a.reset, MaxHops: a.maxHops,
		Services: a.list(), DropChildren: a.dropChildren}}
	if q.Aim, err = path.ParseAim(aim); err != nil {
		return nil, q, errUsage{err.Error()}
	}
	q.Aim.Model = a.toModel
	if q.Aim.Fixes != "" {
		ad, unusable, err := findAdvisory(q.Aim.Fixes, a.folder, a.notes)
		if err != nil {
			return nil, q, err
		}
		if ad == nil && len(unusable) > 0 { // it may be one of those
			return nil, q, fmt.Errorf("no document is advisory %s:\n%w", q.Aim.Fixes, errors.Join(unusable...))
		}
		if ad != nil {
			q.Aim.Affected = ad.Affects(cat)
		}
	}
	return path.NewPlanner(cat), q, nil
}

func readCatalogue(folder string) (*catalog.Catalogue, error) {
	if st, err := os.Stat(folder); err != nil {
		return nil, err
	} else if !st.IsDir() {
		return nil, fmt.Errorf("%s is not a folder", folder)
	}
	cat, found := catalog.ReadDir(os.DirFS(folder))
	if errs := found.Errors(); len(errs) > 0 {
		return nil, fmt.Errorf("the catalogue cannot be used:\n%w", errs)
	}
	return cat, nil
}

// findAdvisory looks for a CSAF document among the .json files of folders; nil when none has that number. Other JSON may
// lie in the first folder, the catalogue's. unusable names the documents of the second that cannot be read.
func findAdvisory(id, folder, more string) (out *advisory.Advisory, unusable []error, err error) {
	for i, dir := range []string{folder, more} {
		if dir == "" {
			continue
		}
		err := filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || filepath.Ext(name) != ".json" {
				return err
			}
			data, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			a, err := advisory.Read(data)
			if err != nil && i > 0 { // it disables only itself
				unusable = append(unusable, fmt.Errorf("%s cannot be used: %w", name, err))
			}
			if err == nil && a.ID == id {
				out = a
			}
			return nil
		})
		if err != nil {
			return nil, unusable, err
		}
	}
	return out, unusable, nil
}

var pathCommands = []command{
	{
		name: "path", args: "[DEVICE]", short: "Show the supported path to a version", min: 0, max: 1,
		long: "With a device: from what it runs now. Without one: on paper, from -model and -from or a -portrait; with -catalog no\nservice is needed. It exits 1 when there is no path, and says why.",
		example: "path hollen-fw1 -to 5.4.2\n  verimorph path -catalog demo/catalog -model TH-60 -from 4.2.3 -to 5.4.2\n" +
			"  verimorph path -catalog demo/catalog -model SG-5 -from 3.8.0 -aim preferred -alternatives 2",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			var a asking
			a.flags(fs)
			withLicences := fs.String("with-licences", "", "of a device: `licences` that count as if it had them, with commas; `change draft -licence` gives them to it")
			fs.IntVar(&a.alternatives, "alternatives", 2, "how many other `ways` to look for")
			return func(ctx context.Context, c *client, args []string) error {
				aim, err := a.check(len(args) == 1)
				if err != nil {
					return err
				}
				if *withLicences != "" && len(args) == 0 {
					return errUsage{"-with-licences is for a device; without one say them in the portrait"}
				}
				var p gen.Path
				switch {
				case a.folder != "":
					p, err = a.offlinePath(aim)
				case len(args) == 1:
					g := a.gen(aim)
					body := gen.DeviceAim{To: g.To, ToModel: g.ToModel, Previews: g.Previews, Reset: g.Reset, DropChildren: g.DropChildren,
						MaxHops: g.MaxHops, Alternatives: g.Alternatives, Services: g.Services, WithLicences: list(*withLicences)}
					p, err = call[gen.Path](c, func(ac *api.Client) (*http.Response, error) { return ac.FindPath(ctx, args[0], body) })
				default:
					var body gen.PaperAim
					if body, err = a.body(aim); err == nil {
						p, err = call[gen.Path](c, func(ac *api.Client) (*http.Response, error) { return ac.PlanPath(ctx, body) })
					}
				}
				if err != nil {
					return err
				}
				if err := c.show(p, func() { c.printPath(p) }); err != nil || p.Found {
					return err
				}
				return errNo
			}
		},
	},
	{
		name: "explain", short: "Explain why a jump is supported or refused", min: 0, max: 0,
		long:    "It looks at the jump straight from -from to -to. It exits 1 when the jump is refused.",
		example: "explain -catalog demo/catalog -model TH-60 -from 4.2.3 -to 5.4.2",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			var a asking
			a.flags(fs)
			return func(ctx context.Context, c *client, _ []string) error {
				aim, err := a.check(false)
				if err != nil {
					return err
				}
				var e gen.Explanation
				if a.folder != "" {
					e, err = a.offlineExplanation(aim)
				} else {
					var body gen.PaperAim
					if body, err = a.body(aim); err == nil {
						e, err = call[gen.Explanation](c, func(ac *api.Client) (*http.Response, error) { return ac.ExplainHop(ctx, body) })
					}
				}
				if err != nil {
					return err
				}
				if err := c.show(e, func() { c.printExplanation(e) }); err != nil || e.Permitted {
					return err
				}
				return errNo
			}
		},
	},
}

// offlinePath answers from files; that something is unknown is an answer too.
func (a *asking) offlinePath(aim string) (gen.Path, error) {
	planner, q, err := a.offline(aim)
	if err != nil {
		return gen.Path{}, err
	}
	var out gen.Path
	if len(q.Portrait.Members) > 0 {
		var j *path.Joint
		if j, err = planner.FindJoint(q.Portrait.Members, q); err == nil {
			return view.Joint(j, nil), nil
		}
	} else {
		var p *path.Path
		if p, err = planner.Find(q); err == nil {
			return view.Path(p, nil, nil), nil
		}
	}
	var no *path.NoPathError
	var unknown *path.UnknownError
	switch {
	case errors.As(err, &no):
		return view.NoPath(no), nil
	case errors.As(err, &unknown):
		out = view.NoPath(&path.NoPathError{Family: unknown.Family, Model: q.Portrait.Model, Blocks: []catalog.Citation{{Text: err.Error()}}})
		out.From, out.To = q.Portrait.Version, q.Aim.Version
		return out, nil
	}
	return out, err
}

func (a *asking) offlineExplanation(aim string) (gen.Explanation, error) {
	planner, q, err := a.offline(aim)
	if err != nil {
		return gen.Explanation{}, err
	}
	to, permit, refusals, err := planner.Explain(q)
	var unknown *path.UnknownError
	var no *path.NoPathError
	if errors.As(err, &unknown) || errors.As(err, &no) {
		return gen.Explanation{From: q.Portrait.Version, To: q.Aim.Version, Refused: []gen.Citation{{Text: err.Error()}}}, nil
	}
	if err != nil {
		return gen.Explanation{}, err
	}
	return view.Explanation(q.Portrait.Version, to, permit, refusals), nil
}

func (c *client) printExplanation(e gen.Explanation) {
	if e.Permitted {
		c.printf("%s to %s is supported: %s\n", e.From, e.To, c.reason("", *e.Permit, "  "))
		return
	}
	c.printf("%s to %s is refused:\n", e.From, e.To)
	for _, r := range e.Refused {
		c.printf("  %s %s\n", c.paint(red, "x"), c.reason("", r, "    "))
	}
}

func (c *client) printPath(p gen.Path) {
	switch {
	case !p.Found:
		c.printNoPath(p)
		return
	case len(p.Hops) == 0:
		c.printf("%s runs %s already; there is nothing to change.\n", p.Model, p.To)
		return
	}
	low, high := 0.0, 0.0
	for _, h := range p.Hops {
		low, high = low+h.Low, high+h.High
	}
	if p.Moves != nil {
		c.printf("The ensemble to %s: %s, %s expected, members one after the other\n", c.paint(bold, p.To), count(len(p.Hops), "move"), span(low, high))
	} else {
		to := p.To
		for _, h := range p.Hops {
			if h.NewModel != nil {
				to = p.To + asModel(h)
			}
		}
		c.printf("%s from %s to %s: %s, %s expected\n", p.Model, p.From, c.paint(bold, to), count(len(p.Hops), "hop"), span(low, high))
	}
	if p.Aim != "" {
		c.printf("%s is %s.\n", p.To, p.Aim)
	}
	c.printf("\n")
	if p.Moves == nil {
		c.printf("  o %s\n", p.From)
	}
	for i := range p.Hops {
		c.printHop(p, i)
	}
	c.printRefused(p.Refused)
	if len(p.Alternatives) > 0 {
		c.printf("\nOther ways:\n")
	}
	for _, a := range p.Alternatives {
		stops := []string{p.From}
		for _, h := range a.Hops {
			stops = append(stops, h.To)
		}
		c.printf("  %s  %s\n    %s\n", strings.Join(stops, " > "), span(a.Minutes.Low*60, a.Minutes.High*60), wrap(a.Why, 110, "    "))
	}
	for _, n := range p.Notes {
		c.printf("\n%s\n", wrap(n, 110, ""))
	}
}

func (c *client) printHop(p gen.Path, i int) {
	h := &p.Hops[i]
	line := func(format string, args ...any) {
		c.printf("  |  %s\n", wrap(fmt.Sprintf(format, args...), 110, "  |    "))
	}
	c.printf("  |\n")
	head := fmt.Sprintf("hop %d: %s to %s, configuration %s, %s, %s", i+1, h.From, h.To, h.Config, count(h.Restarts, "restart"), span(h.Low, h.High))
	if p.Moves != nil && i < len(*p.Moves) {
		m := (*p.Moves)[i]
		head = fmt.Sprintf("move %d: %s: %s to %s, configuration %s, %s", i+1, strings.Join(m.Members, " then "), h.From, h.To, h.Config, span(h.Low, h.High))
		line("%s", head)
		for _, b := range m.Beside {
			line("beside %s on %s: %s %s", b.What, b.On, c.paint(blue, b.Rule), b.Why)
		}
	} else {
		line("%s", head)
	}
	if h.NewModel != nil {
		line("goes on as %s", *h.NewModel)
	}
	if h.Platform != nil {
		c.platformLines(h.Platform, line)
	}
	if h.Cannot != nil {
		line("%s", c.paint(yellow, "by hand: "+*h.Cannot))
	}
	line("%s", c.reason("permitted by", h.Permit, ""))
	for _, b := range h.Because {
		line("%s", c.reason("needed:", b, ""))
	}
	for _, im := range h.Images {
		role := map[bool]string{true: "image", false: im.Role}[im.Role == "install"]
		line("%s %s%s", role, im.File, map[bool]string{true: c.paint(red, " (not in the image store)")}[im.There != nil && !*im.There])
	}
	c.prerequisiteLines(h.Prerequisites, line)
	for _, order := range []string{"before", "after"} {
		c.orderedLines(h, order, line)
	}
	for _, n := range h.Notes {
		line("%s: %s%s", map[bool]string{true: "note", false: n.Kind}[n.Kind == "info"], n.Text,
			map[bool]string{true: ifs(n.When)}[n.Matters == gen.MattersUnknown])
	}
	for _, e := range h.Effects {
		line("%s for %s during %s: %s", e.Effect, e.Clients, e.Step, e.Text)
	}
	for _, l := range h.Lost {
		line("%s %s", c.paint(red, "lost:"), l)
	}
	c.printf("  o %s  %s\n", c.paint(bold, h.To), h.Stage)
}

// printDoubts says what of a path is not known yet, or not there.
func (c *client) printDoubts(p gen.Path) {
	for _, h := range p.Hops {
		for _, q := range h.Prerequisites {
			if q.State == gen.PrerequisiteStateUnknown && q.Rule != "" {
				c.printf("%s\n", wrap(fmt.Sprintf("%s for the hop to %s: %s (%s); otherwise %s", c.paint(yellow, "Not known"), h.To, q.Text,
					q.Evidence, q.Remedy), 110, "  "))
			}
		}
		for _, im := range h.Images {
			if im.There != nil && !*im.There {
				c.printf("%s is not in the image store; it is being fetched.\n", im.File)
			}
		}
	}
}

func ifs(when string) string {
	if when == "" {
		return ""
	}
	return " (if " + when + ")"
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// printRefused groups what refuses each jump.
func (c *client) printRefused(refused []gen.Refused) {
	last := ""
	for _, r := range refused {
		if jump := r.From + " to " + r.To; jump != last {
			c.printf("\nNot %s:\n", jump)
			last = jump
		}
		c.printf("  %s %s\n", c.paint(red, "x"), wrap(strings.TrimSpace(c.paint(blue, r.Rule)+" "+r.Why), 110, "    "))
	}
}

func (c *client) printNoPath(p gen.Path) {
	to := p.To
	if to == "" {
		to = p.Aim
	}
	c.printf("There is no supported path for %s from %s to %s.\n", p.Model, p.From, to)
	for _, b := range p.BlockedBy {
		c.printf("  %s %s\n", c.paint(red, "x"), wrap(strings.TrimSpace(c.paint(blue, b.Rule)+" "+b.Why), 110, "    "))
	}
	if p.Nearest != nil {
		c.printf("\nThe nearest release that can be reached is %s.\n", c.paint(bold, *p.Nearest))
	}
	for _, n := range p.Notes {
		c.printf("Mind: %s.\n", n)
	}
	for _, h := range p.WouldHelp {
		c.printf("There would be a path if %s.\n", h)
	}
}

func (c *client) reason(word string, r gen.Citation, indent string) string {
	if word != "" {
		word += " "
	}
	if r.Rule != nil {
		word += c.paint(blue, *r.Rule) + " "
	}
	if indent == "" {
		return word + r.Text
	}
	return wrap(word+r.Text, 110, indent)
}

// prerequisiteLines tell what the device must be like for a hop.
func (c *client) prerequisiteLines(all []gen.Prerequisite, line func(format string, args ...any)) {
	for _, q := range all {
		mark := map[gen.PrerequisiteState]string{gen.PrerequisiteStateMet: c.paint(green, "ok"), gen.PrerequisiteStateUnmet: c.paint(red, "not met"),
			gen.PrerequisiteStateUnknown: c.paint(yellow, "not known")}[q.State]
		text := fmt.Sprintf("%s: %s (%s)", mark, q.Text, q.Evidence)
		if q.State != gen.PrerequisiteStateMet && q.Remedy != "" {
			text += "; otherwise " + q.Remedy
		}
		line("needs, %s", text)
	}
}

// orderedLines tell what hands do, and which components are brought along, before or after the image.
func (c *client) orderedLines(h *gen.Hop, order string, line func(format string, args ...any)) {
	hands := func() {
		for _, s := range h.HandSteps {
			if string(s.Due) == order {
				line("%s %s: %s%s", c.paint(yellow, "by hand"), s.Due, s.Text, ifs(s.When))
			}
		}
	}
	if order == "before" {
		hands()
	}
	for _, k := range h.Components {
		if string(k.Order) != order {
			continue
		}
		from, parts := "", ""
		if k.From != "" {
			from = k.From + " to "
		}
		if k.Restarts != "" {
			parts = ", restarts " + k.Restarts
		}
		line("%s the image: %s %s%s (%s%s, %s)", k.Order, k.Title, from, k.To, k.Trigger, parts, span(k.Minutes.Low*60, k.Minutes.High*60))
	}
	if order == "after" {
		hands()
	}
}

// platformLines tell what a hop onto another platform changes.
func (c *client) platformLines(p *gen.PlatformChange, line func(format string, args ...any)) {
	where := "on another machine"
	if p.InPlace {
		where = "on the same machine"
	}
	line("%s", where)
	var ports []string
	for _, x := range p.Ports {
		ports = append(ports, x.From+" becomes "+x.To)
	}
	if len(ports) > 0 {
		line("ports: %s", strings.Join(ports, ", "))
	}
	for _, v := range p.WillChange {
		text := v.Value + ": " + v.Text
		if v.Becomes != nil {
			text += " (it becomes " + *v.Becomes + ")"
		}
		line("%s %s", c.paint(yellow, "will change,"), text)
	}
}
