package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	"verimorph/core/config"
	"verimorph/core/convert"
	"verimorph/report"
)

var configCommands = []command{
	{
		name: "compare", args: "OLD NEW", short: "Compare two configurations, offline", min: 2, max: 2,
		long: "OLD and NEW are files, or folders with all files of a device. Statements are compared by identity, not by line.\n" +
			"Guarded settings come first; secrets are masked. It exits 0 when both mean the same (comments, blanks and order\n" +
			"where it does not matter are cosmetic), 1 when they differ, 3 when one cannot be read.",
		example: "compare -catalog demo/catalog -schema th@4.2.9 before.cfg after.cfg",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			schema := fs.String("schema", "", "what the configurations are: `FAMILY[@VERSION]` of the catalogue")
			folder := fs.String("catalog", "", "`folder` with catalogue and schema files, for -schema")
			secret := fs.String("secret", strings.Join(config.UsualSecrets, ","), "without -schema: `words` after which everything is masked, separated by commas")
			ordered := fs.String("ordered", "", "without -schema: `blocks` in which order matters, separated by commas")
			syntax := fs.String("syntax", "", "without -schema: the `name` of the syntax, one of "+strings.Join(config.Syntaxes, ", ")+"; else it is guessed")
			out := fs.String("report", "", "also write a report to this `file`, .html or .pdf")
			return func(_ context.Context, c *client, args []string) error {
				known, err := schemaFor(*schema, *folder)
				if err != nil {
					return err
				}
				what, err := described(known, *syntax, *secret, *ordered)
				if err != nil {
					return err
				}
				return c.compare(args[0], args[1], what, *out)
			}
		},
	},
	{
		name: "convert", args: "FILE", short: "Convert a configuration to another release or model, offline", min: 1, max: 1,
		long: "Every line of FILE is accounted for: kept, moved, changed, merged, dropped for a reason, or in need of a person.\n" +
			"It exits 0 when nothing needs a person, 1 when the result is written but something does, 3 when FILE cannot be\n" +
			"read or converted; then nothing is written.",
		example: "convert -catalog demo/catalog -from TH-60@4.2.9 -to TH-80@5.4.2 -ports ports.yaml -o new.cfg -report new.html old.cfg",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			a := conversionFlags(fs)
			ports := fs.String("ports", "", "`file` that says where each port goes; see verimorph help ports")
			out := fs.String("o", "", "write the result to this `file` instead of the output")
			ledger := fs.String("ledger", "", "write the ledger to this `file`, JSON")
			paper := fs.String("report", "", "write a report to this `file`, .html or .pdf")
			answers := answerFlags(fs)
			return func(_ context.Context, c *client, args []string) error {
				l, job, err := a.job()
				if err != nil {
					return err
				}
				job.Answers = answers
				if job.Ports, err = readPorts(*ports); err != nil {
					return err
				}
				return c.convert(l, job, args[0], *out, *ledger, *paper)
			}
		},
	},
	{
		name: "support", args: "", short: "Show what a conversion carries over between releases or models, offline",
		long:    "A table says for each section of a configuration whether it carries over, with changes, or not at all.",
		example: "support -catalog demo/catalog -from SG-5@3.8.4 -to TD-C@2026-spring-3",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			a := conversionFlags(fs)
			return func(_ context.Context, c *client, _ []string) error {
				l, job, err := a.job()
				if err != nil {
					return err
				}
				s, err := l.Support(job.From, job.To, job.ByHand)
				if err != nil {
					return err
				}
				return c.show(s, func() { c.support(s) })
			}
		},
	},
	{
		name: "ports", args: "FILE", short: "Propose where the ports of a configuration go on another model, offline", min: 1, max: 1,
		long:    "It writes a file for convert -ports: look through it and change what is not right.",
		example: "ports -catalog demo/catalog -from TH-60@4.2.9 -to TH-80@5.4.2 old.cfg > ports.yaml",
		setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
			a := conversionFlags(fs)
			return func(_ context.Context, c *client, args []string) error {
				l, job, err := a.job()
				if err != nil {
					return err
				}
				d, err := readConfig(args[0], l.Schema(job.From))
				if err != nil {
					return err
				}
				r, err := l.Convert(job, d)
				if err != nil {
					return err
				}
				return c.show(r.Ledger.Ports, func() { c.ports(job, r.Ledger.Ports) })
			}
		},
	},
}

// library reads catalogue, schemas and conversions from a folder.
func library(folder string) (*convert.Library, error) {
	if _, err := os.Stat(folder); err != nil {
		return nil, err
	}
	l, found := convert.ReadDir(os.DirFS(folder))
	if errs := found.Errors(); len(errs) > 0 {
		return nil, errs
	}
	return l, nil
}

// conversionArgs are the flags that say from what to what.
type conversionArgs struct {
	folder, from, to *string
	byHand           *bool
}

func conversionFlags(fs *flag.FlagSet) *conversionArgs {
	return &conversionArgs{
		folder: fs.String("catalog", "", "`folder` with catalogue, schema and conversion files"),
		from:   fs.String("from", "", "`MODEL@VERSION` that wrote the configuration"),
		to:     fs.String("to", "", "`MODEL@VERSION` it is to be converted to"),
		byHand: fs.Bool("by-hand", false, "where no conversions lead from one to the other: carry over what is certain, the rest needs a person"),
	}
}

// answerFlags are the flags that say what a person decides.
func answerFlags(fs *flag.FlagSet) map[string]string {
	answers := map[string]string{}
	fs.Func("answer", "`RULE=ANSWER` or \"RULE @ PATH=ANSWER\" to a question; may be repeated", func(s string) error {
		rule, answer, ok := strings.Cut(s, "=")
		if !ok {
			return errors.New("expected RULE=ANSWER")
		}
		answers[strings.TrimSpace(rule)] = strings.TrimSpace(answer)
		return nil
	})
	fs.Func("accept", "`PATH` of a guarded setting that may change; may be repeated", func(s string) error {
		answers["guarded @ "+s] = convert.Accept
		return nil
	})
	fs.Func("settle", "`PATH=WHY` of something that needs a person and is settled: by a hand edit elsewhere, or because it is left out; also of a block; may be repeated", func(s string) error {
		at, why, ok := strings.Cut(s, "=")
		if at, why = strings.TrimSpace(at), strings.TrimSpace(why); !ok || at == "" || why == "" {
			return errors.New("expected PATH=WHY")
		}
		answers["settled @ "+at] = why
		return nil
	})
	fs.Func("settle-not", "`PATH` of something that was settled and is not; may be repeated", func(s string) error {
		answers["settled @ "+s] = ""
		return nil
	})
	return answers
}

// readPorts reads a file that maps ports; no name stands for no file.
func readPorts(name string) ([]convert.PortChoice, error) {
	if name == "" {
		return nil, nil
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	chosen, found := convert.ReadPorts(name, data)
	if len(found) > 0 {
		return nil, found
	}
	return chosen, nil
}

func (a *conversionArgs) job() (*convert.Library, convert.Job, error) {
	job := convert.Job{ByHand: *a.byHand}
	if *a.folder == "" || *a.from == "" || *a.to == "" {
		return nil, job, errUsage{"-catalog, -from and -to are needed"}
	}
	l, err := library(*a.folder)
	if err != nil {
		return nil, job, err
	}
	if job.From, err = l.ParseStop(*a.from); err == nil {
		job.To, err = l.ParseStop(*a.to)
	}
	if err != nil {
		return nil, job, errUsage{err.Error()}
	}
	return l, job, nil
}

// readConfig reads a configuration as its schema says, which may not even know the syntax; every broken place is part of the error.
func readConfig(name string, s *config.Schema) (*config.Document, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.Size() > config.MaxSize {
		return nil, fmt.Errorf("%s has %d bytes; configurations of up to %d are read", name, info.Size(), config.MaxSize)
	}
	if info.Size() > 40<<20 { // here memory counts for more than time
		debug.SetGCPercent(100)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	if s.Syntax == "" {
		s = config.Simple(config.Guess(name, string(data)), s.Secrets, s.Ordered)
	}
	d, broken := s.Parse(name, string(data))
	if len(broken) > 0 {
		var all []error
		for _, b := range broken {
			all = append(all, b)
		}
		return nil, fmt.Errorf("cannot be read as %s:\n%w", s.Syntax, errors.Join(all...))
	}
	return d, nil
}

// convert converts a file and writes what was asked for. Nothing is written unless all of it can be.
func (c *client) convert(l *convert.Library, job convert.Job, name, out, ledger, paper string) error {
	s := l.Schema(job.From)
	if s == nil {
		return fmt.Errorf("model %s is not in the catalogue", job.From.Model)
	}
	d, err := readConfig(name, s)
	if err != nil {
		return err
	}
	source := d.Print()
	d.Name = filepath.Base(name)
	r, err := l.Convert(job, d)
	var old *convert.TooOldError
	if errors.As(err, &old) {
		return fmt.Errorf("%w; -by-hand does that", err)
	}
	if err != nil {
		return err
	}
	if wrong := r.Unmatched(job.Answers, job.Ports); len(wrong) > 0 {
		return errUsage{strings.Join(wrong, "\n")}
	}
	if wrong := convert.Check(source, r.Text, r.S, r.T, r.Ledger); len(wrong) > 0 {
		return fmt.Errorf("the ledger does not add up, so nothing was written; this is a fault of ours:\n%s", strings.Join(wrong, "\n"))
	}
	if out != "" {
		if err := writeFile(out, func(w io.Writer) error { _, err := io.WriteString(w, r.Text); return err }); err != nil {
			return err
		}
	}
	if ledger != "" {
		if err := writeFile(ledger, func(w io.Writer) error {
			e := json.NewEncoder(w)
			e.SetIndent("", "  ")
			return e.Encode(r.Ledger)
		}); err != nil {
			return err
		}
	}
	if paper != "" {
		if err := writeReport(paper, report.Conversion(r.Ledger, s.MaskText(name, source), r.T.MaskText(name, r.Text))); err != nil {
			return err
		}
	}
	switch {
	case c.json:
		err = c.printJSON(r.Ledger)
	case out == "":
		c.printf("%s", r.Text)
		c.ledger(c.err, r.Ledger)
	default:
		c.ledger(c.out, r.Ledger)
	}
	if err == nil && !r.Ledger.Complete() {
		err = errNo
	}
	return err
}

// ledger sums a ledger up and lists what needs a person.
func (c *client) ledger(w io.Writer, l *convert.Ledger) {
	fmt.Fprintf(w, "%s: %s\n", c.paint(bold, fmt.Sprintf("%s %s to %s %s", l.From.Model, l.From.Version, l.To.Model, l.To.Version)), counted(l.Counts))
	if l.Guessed {
		fmt.Fprintln(w, "No conversion is known between these two; only what both describe alike was carried over.")
	}
	for _, row := range l.Source {
		if row.State == convert.NeedsPerson {
			fmt.Fprintf(w, "? line %d, %s: %s\n    %s\n", row.Line, row.Path, row.Text, row.Reason)
		}
	}
	leftOut := map[string]int{}
	for _, row := range l.Assumed {
		leftOut[row.State]++
		if row.State == convert.NeedsPerson {
			fmt.Fprintf(w, "? left out, %s: the source assumes %s\n    %s\n", row.Path, row.Text, row.Reason)
		}
	}
	if parts := counted(leftOut); parts != "" {
		fmt.Fprintf(w, "  defaults of the source: %s\n", parts)
	}
	dropped := 0
	for _, row := range l.Comments {
		switch {
		case row.Doubt:
			fmt.Fprintf(w, "! comment, line %d, %s\n    %s\n", row.Line, row.Text, row.Reason)
		case row.State == convert.Dropped:
			dropped++
		}
	}
	if len(l.Comments) > 0 {
		fmt.Fprintf(w, "  comments: %d kept, %d dropped\n", len(l.Comments)-dropped, dropped)
	}
	for _, q := range l.Questions {
		if q.Answer != "" {
			continue
		}
		fmt.Fprintf(w, "  %s @ %s may be answered:\n", q.Rule, q.Path)
		for _, choice := range q.Choices {
			fmt.Fprintf(w, "    -answer %q  %s\n", q.Rule+" @ "+q.Path+"="+choice.Answer, choice.Text)
		}
	}
	for _, f := range l.Findings {
		fmt.Fprintf(w, "! result, line %d, %s: %s\n", f.Line, f.Path, f.Message)
	}
}

// counted tells how many statements are in which state.
func counted(of map[string]int) string {
	var parts []string
	for _, state := range slices.Backward(append(slices.Clone(convert.States), convert.Unsaid)) {
		if n := of[state]; n > 0 {
			parts = append(parts, report.Counted(state, n))
		}
	}
	return strings.Join(parts, ", ")
}

func (c *client) support(s *convert.Support) {
	sign := map[string]string{convert.CarriesOver: "= carries over", convert.WithChanges: "~ with changes", convert.NotSupported: "× not supported"}
	for _, st := range s.Stages {
		c.printf("%s to %s: %s\n", st.From, st.To, st.Conversion)
	}
	rows := [][]string{{"SECTION", "", "STATEMENT", "WHY"}}
	for _, sec := range s.Sections {
		rows = append(rows, []string{sec.Section, sign[sec.Verdict], "", ""})
		for _, n := range sec.Notes {
			rows = append(rows, []string{"", sign[n.Verdict], n.Path, n.Why})
		}
	}
	table(c.out, rows)
}

func (c *client) ports(job convert.Job, ports []convert.PortChoice) {
	c.printf("# Where the ports of %s go on %s. Write a port, {fold-into: PORT} or {leave-out: WHY}.\nformat: %s\nports:\n", job.From, job.To, convert.PortsFormat)
	for _, p := range ports {
		to := p.To
		if to == "" {
			to = "{leave-out: \"\"}"
		}
		c.printf("  %s: %s # %s\n", p.Port, to, p.Why)
	}
}

func writeReport(name string, r *report.Report) error {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".html":
		return writeFile(name, r.HTML)
	case ".pdf":
		return writeFile(name, r.PDF)
	}
	return errUsage{fmt.Sprintf("%s: a report is written to a file that ends in .html or .pdf", name)}
}

// writeFile writes a file whole or not at all. Configurations hold secrets, so only their owner may read it.
func writeFile(name string, write func(io.Writer) error) error {
	if st, err := os.Stat(name); err == nil && !st.Mode().IsRegular() { // a device or a pipe is written into; a file must not take its place
		if st.IsDir() {
			return fmt.Errorf("%s is a folder; name a file in it", name)
		}
		f, err := os.OpenFile(name, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		return errors.Join(write(f), f.Close())
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".verimorph-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if err = write(f); err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	return err
}
