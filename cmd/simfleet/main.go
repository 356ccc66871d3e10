// Command simfleet runs the simulated devices of a fleet file (docs/formats/simfleet.md), makes the firmware images of the demo, and sets and clears
// faults of running devices.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	"verimorph/core/catalog"
	"verimorph/simfleet"
	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/releasesite"
	"verimorph/simfleet/shellbox"
	"verimorph/simfleet/tarnholm"
)

const usage = `simfleet runs simulated devices on loopback addresses.

  simfleet run    -fleet FILE -state FOLDER [-factor N] [-control ADDRESS]   run a fleet until interrupted,
                  [-site ADDRESS -catalogue FOLDER]                          and the makers' release site
                  [-licences ADDRESS]                                        and the service that sells licences
  simfleet images -catalogue FOLDER -out FOLDER                              make the images of a catalogue
  simfleet status [-control ADDRESS]                                         where every device stands
  simfleet fault  [-control ADDRESS] DEVICE NAME [VALUE [TIMES]]             let something go wrong
  simfleet heal   [-control ADDRESS] DEVICE NAME                             take a fault away
  simfleet licence SERIAL NAME                                               the key of a licence, as its seller gives it
  simfleet maker   [-state FOLDER] MAKER                                     the certificate of a maker whose devices call
  simfleet voucher [-state FOLDER] MAKER SERIAL OWNER.pem OUT                who owns a device, as its maker signs it (RFC 8366)
  simfleet site   [-control ADDRESS] fault|heal NAME [VALUE [TIMES [FILE]]]  the same for the release site
  simfleet reset  [-control ADDRESS] DEVICE                                  a new box, with its old keys

`

func main() {
	if len(os.Args) < 2 {
		fmt.Fprint(os.Stderr, usage+"faults of devices: "+strings.Join(tarnholm.FaultNames, ", ")+"\nfaults of the release site: "+strings.Join(releasesite.FaultNames, ", ")+"\n")
		os.Exit(2)
	}
	if err := run(os.Args[1], os.Args[2:]); err != nil {
		fmt.Fprintln(os.Stderr, "simfleet:", err)
		os.Exit(3)
	}
}

func run(verb string, args []string) error {
	fs := flag.NewFlagSet("simfleet "+verb, flag.ExitOnError)
	fleet := fs.String("fleet", "demo/fleet.yaml", "fleet file")
	state := fs.String("state", ".data/simfleet", "folder for the devices' state")
	factor := fs.Float64("factor", 1, "how many times faster than real the devices are")
	control := fs.String("control", "127.0.0.1:8425", "address of the fleet's control")
	sells := fs.String("licences", "", "address of the licence service; left out: none")
	folder := fs.String("catalogue", "demo/catalog", "catalogue folder")
	site := fs.String("site", "", "address of the makers' release site; left out: none")
	out := fs.String("out", ".data/images", "folder for images; also what a card holds that somebody puts into a box")
	_ = fs.Parse(args)
	a := append(fs.Args(), "", "", "", "", "")
	device := "http://" + *control + "/devices/" + a[0]
	switch verb {
	case "run":
		return serve(*fleet, *state, *out, *factor, *control, *site, *folder, *sells)
	case "images":
		c, found := catalog.ReadDir(os.DirFS(*folder))
		if len(found.Errors()) > 0 {
			return found.Errors()
		}
		files, err := firmware.MakeAll(c, *out)
		if err == nil {
			fmt.Printf("%d images in %s\n", len(files), *out)
		}
		return err
	case "licence": // SERIAL NAME: what whoever sells licences would give
		fmt.Println(shellbox.LicenceKey(a[0], a[1]))
		return nil
	case "maker":
		text, err := simfleet.MakerCertificate(a[0], *state)
		fmt.Print(string(text))
		return err
	case "voucher":
		owner, err := os.ReadFile(a[2])
		if err != nil {
			return err
		}
		text, err := simfleet.Voucher(a[0], *state, a[1], owner)
		if err != nil {
			return err
		}
		return os.WriteFile(a[3], text, 0o600)
	case "status":
		return call("GET", "http://"+*control+"/devices", nil)
	case "fault":
		var f box.Fault
		f.Value, _ = strconv.ParseInt(a[2], 10, 64)
		f.Times, _ = strconv.Atoi(a[3])
		return call("POST", device+"/faults/"+a[1], f)
	case "heal":
		return call("DELETE", device+"/faults/"+a[1], nil)
	case "site":
		fault := "http://" + *control + "/site/faults/" + a[1]
		if a[0] == "heal" {
			return call("DELETE", fault, nil)
		}
		var f releasesite.Fault
		f.Value, _ = strconv.ParseInt(a[2], 10, 64)
		f.Times, _ = strconv.Atoi(a[3])
		f.File = a[4]
		return call("POST", fault, f)
	case "reset":
		return call("POST", device+"/reset", nil)
	}
	return fmt.Errorf("%q is not known\n\n%s", verb, usage)
}

func serve(file, state, medium string, factor float64, control, site, folder, sells string) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if factor <= 0 {
		return fmt.Errorf("-factor must be above 0")
	}
	f, err := simfleet.Load(file, state, medium, factor, slog.New(slog.NewTextHandler(os.Stdout, nil)))
	if err != nil {
		return err
	}
	ln, err := net.Listen("tcp", control)
	if err != nil {
		return err
	}
	if err := f.Start(); err != nil {
		return err
	}
	defer f.Stop()
	if site != "" {
		c, found := catalog.ReadDir(os.DirFS(folder))
		if len(found.Errors()) > 0 {
			return found.Errors()
		}
		web, err := f.OpenSite(c, site)
		if err != nil {
			return err
		}
		defer web.Close()
	}
	if sells != "" {
		web, err := f.OpenLicences(sells)
		if err != nil {
			return err
		}
		defer web.Close()
	}
	s := &http.Server{Handler: f.Handler(), ReadHeaderTimeout: 5 * time.Second}
	go func() { <-ctx.Done(); _ = s.Close() }()
	fmt.Printf("%d devices answer; control on http://%s\n", len(f.Names()), control)
	_ = s.Serve(ln)
	return nil
}

func call(method, url string, body any) error {
	data, err := json.Marshal(body)
	if err != nil {
		return err
	}
	req, err := http.NewRequest(method, url, bytes.NewReader(data))
	if err != nil {
		return err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("no fleet is running there: %w", err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	if resp.StatusCode != http.StatusOK {
		return fmt.Errorf("%s", strings.TrimSpace(string(text)))
	}
	fmt.Print(string(text))
	return nil
}
