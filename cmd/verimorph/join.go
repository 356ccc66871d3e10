package main

import (
	"context"
	"flag"
	"fmt"

	"verimorph/api/gen"
)

// Boxes that come under a controller, and stand alone again.

var joinCommand = command{
	name: "change join", args: "DEVICE CONTROLLER", short: "Draft bringing a device that stands alone under a controller", min: 2, max: 2, example: "change join innersund-sa1 innersund-wc -group staff",
	long: "CONTROLLER is a device or an ensemble. The device is backed up, converted, let join by its serial and given its group.\nIt loses its configuration; the way back puts that onto it again.",
	setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
		group := fs.String("group", "", "`name` of the group at the controller whose settings it gets")
		at := fs.String("at", "", "`address` at which it finds the controller; by default that of the controller here")
		licences := licenceFlag(fs)
		terms := termFlags(fs)
		return func(ctx context.Context, c *client, args []string) error {
			given, err := licenceKeys(*licences)
			if err != nil {
				return err
			}
			t, err := terms(ctx, c)
			if err != nil {
				return err
			}
			return c.drafted(ctx, gen.NewChange{Device: args[0], Join: &gen.JoinWish{Controller: args[1], Address: optional(*at), Group: optional(*group)}, Licences: given, Terms: t})
		}
	},
}

var releaseCommand = command{
	name: "change release", args: "DEVICE", short: "Draft having a device that follows a controller stand alone again", min: 1, max: 1, example: "change release innersund-sa1",
	long: "What it was configured with when it stood alone last is put back onto it.",
	setup: func(fs *flag.FlagSet) func(context.Context, *client, []string) error {
		empty := fs.Bool("empty", false, "leave it in its factory state")
		terms := termFlags(fs)
		return func(ctx context.Context, c *client, args []string) error {
			t, err := terms(ctx, c)
			if err != nil {
				return err
			}
			yes := true
			return c.drafted(ctx, gen.NewChange{Device: args[0], Release: &yes, Empty: empty, Terms: t})
		}
	},
}

func isJoin(ch gen.Change) bool {
	return ch.Kind == gen.ChangeKindJoin || ch.Kind == gen.ChangeKindRelease
}

// joining says which box comes under whom, or leaves whom.
func joining(ch gen.Change) string {
	if ch.Members == nil || len(*ch.Members) != 2 {
		return string(ch.Kind)
	}
	m := *ch.Members
	if ch.Kind == gen.ChangeKindJoin {
		return fmt.Sprintf("%s comes under %s", m[1].Device, m[0].Device)
	}
	return fmt.Sprintf("%s leaves %s and stands alone", m[1].Device, m[0].Device)
}
