// Command chaos injects faults into an installation of its own and prints the violated invariants; see package chaos. It exits 1 when there is one.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"verimorph/chaos"
)

func main() {
	p := chaos.Plan{Factor: 40, Lease: 3 * time.Second, Host: "127.69.0", Demo: "demo", Progress: os.Stdout}
	flag.IntVar(&p.Devices, "devices", 50, "simulated devices: of ten, six firewalls, two gateways, a ramp controller and a tide gauge")
	flag.IntVar(&p.Kills, "kills", 300, "of service processes")
	flag.IntVar(&p.Pauses, "pauses", 100, "of service processes, for longer than their leases last")
	flag.IntVar(&p.Cuts, "cuts", 100, "of connections to devices; of four, one is cut on one side only and one slow")
	flag.IntVar(&p.Outages, "outages", 20, "of the database")
	flag.IntVar(&p.Long, "long", 2, "`outages` of these that last a minute; the others are up to 5 s")
	flag.DurationVar(&p.Every, "every", 2500*time.Millisecond, "between two kills, on the average")
	flag.DurationVar(&p.Lease, "lease", p.Lease, "of the services")
	flag.Uint64Var(&p.Seed, "seed", uint64(time.Now().UnixNano()), "of the random order")
	flag.StringVar(&p.Journals, "journals", "", "`folder` for the journals of changes in which something was wrong")
	bin := flag.String("bin", "bin", "`folder` with verimorphd")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	fmt.Printf("seed %d\n", p.Seed)
	r, err := chaos.Run(ctx, *bin, p)
	if err != nil {
		fmt.Fprintln(os.Stderr, "chaos:", err)
		os.Exit(3)
	}
	fmt.Printf("%d kills, %d pauses, %d cuts of the network, %d outages of the database over %d devices; %d of these in the middle of a command.\n", r.Kills, r.Pauses, r.Cuts, r.Outages, p.Devices, r.InCommand)
	fmt.Printf("%d changes ended (%v), %d of them done. %d times a change lost its worker and went on, after %s at most (%s allowed).\n", r.Changes, r.ByKind, r.Done, len(r.Resumed), r.Longest.Round(time.Millisecond), chaos.Bound)
	fmt.Printf("done more often than needed: %d; verdicts that are not true: %d; backups lost or not what the device held: %d; ended wrongly: %d; went on too late: %d\n", len(r.DoubleInstalls), len(r.FalseDone), len(r.LostBackups), len(r.Failed), len(r.Late))
	for _, w := range r.Wrong() {
		fmt.Println("  " + w)
	}
	if len(r.Wrong()) > 0 {
		os.Exit(1)
	}
}
