package main

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
	"verimorph/core/change"
)

// operationsCommand drafts a change of single operations. Which there are, and what each takes, is told by the service.
var operationsCommand = command{
	name: "change operations", args: "DEVICE OPERATION...", short: "Draft a change of single operations", min: 2, max: 51, example: "change operations control-sg1 backup drain",
	long: "Operations are done in the order in which they are given, between a check and a verdict:\n" + operationsHelp(),
	setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
		terms := termFlags(fs)
		return func(ctx context.Context, c *client, args []string) error {
			kinds, err := call[gen.ListStepKinds200JSONResponse](c, func(a *api.Client) (*http.Response, error) { return a.ListStepKinds(ctx) })
			if err != nil {
				return err
			}
			var operations []gen.Operation
			for _, text := range args[1:] {
				o, err := readOperation(kinds.Items, text)
				if err != nil {
					return err
				}
				operations = append(operations, o)
			}
			t, err := terms(ctx, c)
			if err != nil {
				return err
			}
			return c.drafted(ctx, gen.NewChange{Device: args[0], To: "operations", Operations: &operations, Terms: t})
		}
	},
}

// argument is how what an operation takes is written after its name.
var argument = map[change.Takes]string{
	change.TakesNothing: "", change.TakesImage: ":FILE", change.TakesFiles: ":FILE[,FILE]", change.TakesPart: ":PART", change.TakesLicence: ":NAME[=FILE]", change.TakesText: ":TEXT", change.TakesOnce: "[:SLOT][:once]",
	change.TakesSlot: ":SLOT", change.TakesName: ":SLOT=NAME",
}

// operationsHelp lists the operations that this client knows; those of the service count.
func operationsHelp() string {
	var out []string
	for _, k := range change.Operations() {
		note := ""
		switch k.Alone.Takes {
		case change.TakesLicence:
			note = "; FILE has its key, without one it is taken from the licence service"
		case change.TakesOnce:
			note = "; with once, for the next start only"
		}
		out = append(out, fmt.Sprintf("  %-22s  %s%s", string(k.Kind)+argument[k.Alone.Takes], k.Alone.Help, note))
	}
	return strings.Join(out, "\n")
}

// readOperation reads one operation as it is written on the command line: its name, and after a colon what it takes.
func readOperation(kinds []gen.StepKind, text string) (o gen.Operation, err error) {
	kind, arg, has := strings.Cut(text, ":")
	i := slices.IndexFunc(kinds, func(k gen.StepKind) bool { return k.Kind == kind && k.Operation != nil })
	if i < 0 {
		return o, errUsage{fmt.Sprintf("there is no operation %q; there are:\n%s", text, operationsHelp())}
	}
	o.Kind = kind
	takes := change.Takes(kinds[i].Operation.Takes)
	if missing := arg == "" && takes != change.TakesNothing && takes != change.TakesOnce; missing {
		return o, errUsage{fmt.Sprintf("%s needs something after a colon: %s%s", kind, kind, argument[takes])}
	}
	switch takes {
	case change.TakesImage:
		o.File = &arg
	case change.TakesFiles:
		o.Files = list(arg)
	case change.TakesPart:
		o.Part = &arg
	case change.TakesText:
		o.Text = &arg
	case change.TakesLicence:
		l, err := licenceKeys([]string{arg})
		if err != nil {
			return o, err
		}
		o.Part, o.Key = &(*l)[0].Name, (*l)[0].Key
	case change.TakesOnce:
		slot, rest, more := strings.Cut(arg, ":")
		if once := "once"; rest == once || arg == once {
			yes := true
			o.Once = &yes
		} else if more || has && arg == "" {
			return o, errUsage{fmt.Sprintf("%s takes the name of a slot and once after a colon: %s%s", kind, kind, argument[takes])}
		}
		if slot != "" && slot != "once" {
			o.Slot = &slot
		}
	case change.TakesSlot:
		o.Slot = &arg
	case change.TakesName:
		slot, name, both := strings.Cut(arg, "=")
		if !both || name == "" {
			return o, errUsage{fmt.Sprintf("%s needs the name and the new one: %s%s", kind, kind, argument[takes])}
		}
		o.Slot, o.Name = &slot, &name
	default:
		if has {
			return o, errUsage{fmt.Sprintf("%s takes nothing after a colon", kind)}
		}
	}
	return o, nil
}
