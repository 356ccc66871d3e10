package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/core/convert"
	"verimorph/report"
)

// carveCommand works offline, on files.
var carveCommand = command{
	name: "carve", args: "FILE", short: "Find services in a gateway's configuration and carve some out, offline", min: 1, max: 1,
	long: "Without -service it lists the services, grouped. With -service it writes those and all they need, each object once;\n" +
		"with -to as well, it converts them for their new home. What is shared with services that stay is shown.",
	example: "carve -catalog demo/catalog -from SG-5@3.8.4 -service tickets-web,tickets-api -to SG-5@4.4.2 -o part.json -rest rest.json gateway.json",
	setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
		a := conversionFlags(fs)
		by := fs.String("by", convert.ByNaming, "how to group services: `address`, policy or naming")
		services := fs.String("service", "", "`names` of services to carve out, separated by commas")
		out := fs.String("o", "", "write what is carved out, converted with -to, to this `file` instead of the output")
		rest := fs.String("rest", "", "write what stays behind to this `file`")
		into := fs.String("into", "", "configuration `file` of the new home: show what it would be with the services in it")
		rename := pairsFlag(fs, "rename", "`OLD=NEW` name of a service or object; may be repeated")
		return func(_ context.Context, c *client, args []string) error {
			if *a.to == "" {
				*a.to = *a.from
			}
			l, job, err := a.job()
			if err != nil {
				return err
			}
			s := l.Schema(job.From)
			d, err := readConfig(args[0], s)
			if err != nil {
				return err
			}
			if *services == "" {
				groups, err := convert.FindServices(s, d, *by)
				if err != nil {
					return err
				}
				return c.show(groups, func() {
					rows := [][]string{{"GROUP", "SERVICE", "ADDRESS", "POLICY", "LINE"}}
					for _, g := range groups {
						for i, e := range g.Services {
							name := g.Name
							if i > 0 {
								name = ""
							}
							rows = append(rows, []string{name, e.Name, e.Address, e.Policy, fmt.Sprint(e.Line)})
						}
					}
					table(c.out, rows)
				})
			}
			carved, err := convert.CarveOut(s, d, convert.Carving{Services: separated(*services), Rename: rename})
			if err != nil {
				return err
			}
			return c.carved(l, job, carved, d.Name, *out, *rest, *into)
		}
	},
}

func (c *client) carved(l *convert.Library, job convert.Job, carved *convert.Carved, name, out, rest, into string) error {
	text, complete, schema := carved.Text, len(carved.Missing) == 0, l.Schema(job.From)
	var ledger *convert.Ledger
	if job.From.String() != job.To.String() {
		job.Fragment = true
		part, _ := schema.Parse(filepath.Base(name), text)
		r, err := l.Convert(job, part)
		if err != nil {
			return err
		}
		text, ledger, schema = r.Text, r.Ledger, r.T
		complete = complete && ledger.Complete()
	}
	var conflicts []convert.Conflict
	if into != "" {
		whole, err := readConfig(into, schema)
		if err != nil {
			return err
		}
		part, _ := schema.Parse(name, text)
		merged, found := convert.PutInto(l.Schema(job.To), whole, part)
		text, conflicts = merged.Print(), found
		complete = complete && len(found) == 0
	}
	for _, w := range []struct{ file, text string }{{out, text}, {rest, carved.Rest}} {
		if w.file != "" {
			if err := writeFile(w.file, func(f io.Writer) error { _, err := io.WriteString(f, w.text); return err }); err != nil {
				return err
			}
		}
	}
	err := c.show(struct {
		*convert.Carved
		Conflicts []convert.Conflict `json:"conflicts"`
		Ledger    *convert.Ledger    `json:"ledger,omitempty"`
	}{carved, conflicts, ledger}, func() {
		w := c.out
		if out == "" {
			c.printf("%s", text)
			w = c.err
		}
		for _, e := range carved.Services {
			fmt.Fprintf(w, "%s  line %d, %s\n", c.paint(bold, "service"), e.Line, e.Path)
		}
		for _, n := range carved.Needs {
			word := "moves along"
			if n.Shared {
				word = "shared, stays as well; used by " + few(n.UsedBy)
			}
			fmt.Fprintf(w, "%s  line %d, %s: %s\n", c.paint(bold, n.Kind), n.Line, n.Path, word)
		}
		for _, m := range carved.Missing {
			fmt.Fprintf(w, "! %s\n", m)
		}
		for _, x := range conflicts {
			fmt.Fprintf(w, "! %s: %s\n", x.Path, x.Message)
		}
		if ledger != nil {
			c.ledger(w, ledger)
		}
	})
	if err == nil && !complete {
		err = errNo
	}
	return err
}

// few names the first of many.
func few(list []string) string {
	if len(list) <= 3 {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:3], ", "), len(list)-3)
}

// conversionCommands work with the service.
var conversionCommands = []command{
	{
		name: "conversion list", short: "Conversions that are being worked on", example: "conversion list",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, _ []string) error {
				list, err := all(func(cursor *string) ([]gen.ConversionSummary, *string, error) {
					p, err := call[gen.ConversionPage](c, func(a *api.Client) (*http.Response, error) {
						return a.ListConversions(ctx, &gen.ListConversionsParams{Cursor: cursor})
					})
					return p.Items, p.Next, err
				})
				if err != nil {
					return err
				}
				return c.show(list, func() {
					rows := [][]string{{"CONVERSION", "FROM", "TO", "BY", "BEGUN", "OF"}}
					for _, x := range list {
						rows = append(rows, []string{fmt.Sprint(x.Id), x.From, x.To, x.CreatedBy, c.when(x.CreatedAt), x.Name})
					}
					table(c.out, rows)
				})
			}
		},
	},
	{
		name: "conversion start", args: "[FILE]", short: "Convert a backup or a file in the service", max: 1,
		long:    "It exits 1 when something needs a person.",
		example: "conversion start -backup 3 -to TH-80@5.4.2",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			backup := fs.Int64("backup", 0, "`number` of the backup to convert")
			from := fs.String("from", "", "`MODEL@VERSION` that wrote FILE")
			to := fs.String("to", "", "`MODEL@VERSION` it is to be converted to")
			byHand := fs.Bool("by-hand", false, "where no conversions lead there: carry over what is certain")
			other := fs.Bool("other-unit", false, "the result is for another unit, which cannot read secrets under a key of the first one")
			services := fs.String("service", "", "carve these `services` out first, separated by commas")
			return func(ctx context.Context, c *client, args []string) error {
				if (*backup == 0) == (len(args) == 0) || *to == "" {
					return errUsage{"name -to and either -backup or a FILE with -from"}
				}
				src := gen.ConfigurationSource{From: optional(*from)}
				if *backup != 0 {
					src.Backup = backup
				} else {
					data, err := os.ReadFile(args[0])
					if err != nil {
						return err
					}
					text := string(data)
					src.Text, src.Name = &text, optional(filepath.Base(args[0]))
				}
				body := gen.CreateConversionJSONRequestBody{Source: src, To: *to, ByHand: byHand, OtherUnit: other}
				if *services != "" {
					body.Carve = &gen.Carve{Services: separated(*services)}
				}
				return c.conversion(func(a *api.Client) (*http.Response, error) {
					return a.CreateConversion(ctx, &gen.CreateConversionParams{IdempotencyKey: newKey()}, body)
				})
			}
		},
	},
	{
		name: "conversion show", args: "CONVERSION", short: "What a conversion makes of each part, and what needs a person", min: 1, max: 1, example: "conversion show 1 -text",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			text := fs.Bool("text", false, "show only the result, secrets masked")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "conversion")
				if err != nil {
					return err
				}
				get := func(a *api.Client) (*http.Response, error) { return a.GetConversion(ctx, id) }
				if *text {
					x, err := call[gen.Conversion](c, get)
					if err != nil {
						return err
					}
					return c.show(map[string]string{"text": x.ResultText}, func() { c.printf("%s", x.ResultText) })
				}
				return c.conversion(get)
			}
		},
	},
	{
		name: "conversion change", args: "CONVERSION", short: "Map ports, answer questions, accept guarded settings, settle what is open, edit the result", min: 1, max: 1,
		example: "conversion change 1 -ports ports.yaml -answer TU12=second",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			ports := fs.String("ports", "", "`file` that says where each port goes")
			text := fs.String("edited", "", "`file` with the result as you edited it; *** stands for the secret that was there")
			undo := fs.Int("undo", 0, "undo this hand `edit`")
			answers := answerFlags(fs)
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "conversion")
				if err != nil {
					return err
				}
				var body gen.ConversionChange
				if len(answers) > 0 {
					body.Answers = &answers
				}
				if *undo != 0 {
					body.Undo = undo
				}
				if *text != "" {
					data, err := os.ReadFile(*text)
					if err != nil {
						return err
					}
					body.Text = optional(string(data))
				}
				chosen, err := readPorts(*ports)
				if err != nil {
					return err
				}
				if *ports != "" {
					list := []gen.PortChoice{}
					for _, p := range chosen {
						list = append(list, gen.PortChoice{Port: p.Port, To: optional(p.To), FoldInto: optional(p.FoldInto), LeaveOut: optional(p.LeaveOut), Chosen: true})
					}
					body.Ports = &list
				}
				return c.conversion(func(a *api.Client) (*http.Response, error) { return a.ChangeConversion(ctx, id, body) })
			}
		},
	},
	{
		name: "conversion try", args: "CONVERSION DEVICE", short: "Have a device read the result; it keeps and changes nothing", min: 2, max: 2,
		long:    "The device must be of the model and run the release that the result is for. It exits 1 when the device does not take it.",
		example: "conversion try 1 vesterkai-fw1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "conversion")
				if err != nil {
					return err
				}
				said, err := call[items[gen.ConfigurationFinding]](c, func(a *api.Client) (*http.Response, error) {
					return a.TryConversion(ctx, id, gen.TryConversionJSONRequestBody{Device: args[1]})
				})
				if err != nil {
					return err
				}
				err = c.show(said.Items, func() {
					for _, f := range said.Items {
						c.printf("! line %d, %s: %s\n", f.Line, f.Path, f.Message)
					}
					if len(said.Items) == 0 {
						c.printf("%s takes it. Nothing was changed there.\n", args[1])
					}
				})
				if err == nil && len(said.Items) > 0 {
					err = errNo
				}
				return err
			}
		},
	},
	{
		name: "conversion report", args: "CONVERSION", short: "Write the report of a conversion, HTML or PDF", min: 1, max: 1, example: "conversion report 1 -o report.pdf",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			out := fs.String("o", "conversion.html", "`file` to write, .html or .pdf")
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "conversion")
				if err != nil {
					return err
				}
				return c.writePaper(*out, func(a *api.Client, format gen.PaperFormat) (*http.Response, error) {
					return a.ReportConversion(ctx, id, &gen.ReportConversionParams{Format: &format})
				})
			}
		},
	},
	{
		name: "conversion remove", args: "CONVERSION", short: "Forget a conversion with its source", min: 1, max: 1, example: "conversion remove 1",
		setup: func(*flag.FlagSet) func(context.Context, *client, []string) error {
			return func(ctx context.Context, c *client, args []string) error {
				id, err := number(args[0], "conversion")
				if err != nil {
					return err
				}
				_, err = call[struct{}](c, func(a *api.Client) (*http.Response, error) { return a.DeleteConversion(ctx, id) })
				if err != nil {
					return err
				}
				return c.show(map[string]int64{"removed": id}, func() { c.printf("Conversion %d is forgotten\n", id) })
			}
		},
	},
}

// conversion makes a call that answers with a conversion, and shows it.
func (c *client) conversion(do func(*api.Client) (*http.Response, error)) error {
	x, err := call[gen.Conversion](c, do)
	if err != nil {
		return err
	}
	err = c.show(x, func() {
		c.printf("%s\n", c.paint(bold, fmt.Sprintf("Conversion %d: %s, %s to %s", x.Id, x.Name, x.From, x.To)))
		for _, state := range slices.Backward(convert.States) {
			if n := x.Ledger.Counts[state]; n > 0 {
				c.printf("  %s %s\n", report.Marks[state].Sign, report.Counted(state, n))
			}
		}
		asked := map[string]string{} // by what is asked: a path to show how
		for _, row := range x.Ledger.Source {
			if string(row.State) == convert.NeedsPerson {
				c.printf("? line %d, %s: %s\n    %s\n", row.Line, row.Path, row.Text, value(row.Reason))
				asked[string(value(row.Ask))] = row.Path
			}
		}
		leftOut := map[string]int{}
		for _, row := range x.Ledger.Assumed {
			leftOut[string(row.State)]++
			if string(row.State) == convert.NeedsPerson {
				c.printf("? left out, %s: the source assumes %s\n    %s\n", row.Path, row.Text, value(row.Reason))
				asked[string(value(row.Ask))] = row.Path
			}
		}
		if parts := counted(leftOut); parts != "" {
			c.printf("  defaults of the source: %s\n", parts)
		}
		if path := asked[convert.AskAccept]; path != "" {
			c.printf("  A guarded difference is accepted with: -accept %q\n", path)
		}
		if asked[convert.AskSecret] != "" {
			c.printf("  Secrets under a key of the old device are typed in again, or both have the same key: verimorph conversion secrets %d\n", x.Id)
		}
		if path := asked[convert.AskSettle]; path != "" {
			c.printf("  The rest is put right with -edited FILE, or settled with: -settle %q\n", path+"=WHY")
		}
		for _, row := range x.Ledger.Comments {
			if value(row.Doubt) {
				c.printf("! comment, line %d, %s\n    %s\n", row.Line, row.Text, value(row.Reason))
			}
		}
		for _, q := range x.Ledger.Questions {
			if q.Answer == nil {
				c.printf("  %s @ %s may be answered:\n", q.Rule, q.Path)
				for _, a := range q.Choices {
					c.printf("    -answer %q  %s\n", q.Rule+" @ "+q.Path+"="+a.Answer, a.Text)
				}
			}
		}
		for _, f := range x.Ledger.Findings {
			c.printf("! result, line %d, %s: %s\n", f.Line, f.Path, f.Message)
		}
		for _, e := range x.Ledger.Edits {
			text, more, _ := strings.Cut(strings.TrimSpace(e.Text), "\n")
			if more != "" {
				text += " ..."
			}
			c.printf("edit %d by %s: %s %s: %s\n", e.Id, value(e.By), e.Kind, cmp.Or(e.Path, "at the top"), text)
		}
	})
	if err == nil && !x.Complete {
		err = errNo
	}
	return err
}
