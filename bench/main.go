// Command bench measures what the project promises. Every figure is a ratio to a limit or to a general-purpose tool
// that is measured in the same run; absolute times depend on the machine and are printed only to make sense of them.
package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pkg/sftp"

	"verimorph/blob"
	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/core/version"
	"verimorph/internal/opensshd"
	"verimorph/transfer"
)

func main() {
	dir, err := os.MkdirTemp("", "verimorph-bench-")
	check(err)
	defer os.RemoveAll(dir)
	fmt.Printf("%-48s  %10s  %-18s %10s  %6s  %s\n", "What", "ours", "against", "theirs", "ratio", "wanted")
	paths()
	file := filepath.Join(dir, "x.img")
	data := make([]byte, 256<<20)
	_, _ = rand.Read(data)
	check(os.WriteFile(file, data, 0o600))
	push(dir, file)
	hashing(dir, file)
}

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(3)
	}
}

func row(what string, ours time.Duration, against string, theirs time.Duration, wanted string) {
	fmt.Printf("%-48s  %8.3f s  %-18s %8.3f s  %6.2f  %s\n", what, ours.Seconds(), against, theirs.Seconds(), ours.Seconds()/theirs.Seconds(), wanted)
}

// best runs f several times and returns the shortest time: noise only ever makes a run longer.
func best(n int, f func()) time.Duration {
	var all []time.Duration
	for range n {
		began := time.Now()
		f()
		all = append(all, time.Since(began))
	}
	return slices.Min(all)
}

// paths finds a path for each of 10,000 devices over 60,000 releases, against the limit of one second on one core.
func paths() {
	const families, trains, perTrain, devices = 40, 30, 50, 10_000
	c := &catalog.Catalogue{}
	for f := range families {
		fam := &catalog.Family{Name: fmt.Sprint("f", f), File: "bench", Scheme: version.Default, Durations: map[string]catalog.Span{"install": {Low: 60, High: 120}}}
		model := fmt.Sprint("M", f)
		fam.Models = []catalog.Model{{Name: model}}
		for t := range trains {
			for p := range perTrain {
				stage := catalog.General
				if p == perTrain-2 {
					stage = catalog.Preferred
				}
				fam.Releases = append(fam.Releases, catalog.Release{Version: version.MustParse(fmt.Sprintf("%d.%d.%d", 1+t/5, t%5, p)), Train: fmt.Sprintf("%d.%d", 1+t/5, t%5),
					Stage: stage, Images: []catalog.Image{{Models: []string{model}, Size: 1}}})
			}
		}
		for major := 1; major <= trains/5; major++ {
			fam.Rules = append(fam.Rules,
				catalog.Rule{ID: fmt.Sprint("A", major), Kind: catalog.KindHop, From: version.MustRange(fmt.Sprint(major, ".x")), To: version.MustRange(fmt.Sprint(major, ".x"))},
				catalog.Rule{ID: fmt.Sprint("B", major), Kind: catalog.KindHop, From: version.MustRange(fmt.Sprint(major, ".x")), To: version.MustRange(fmt.Sprint(major+1, ".x")), Config: catalog.ConfigConverted},
				catalog.Rule{ID: fmt.Sprint("C", major), Kind: catalog.KindCrossing, Crossing: version.MustParse(fmt.Sprint(major+1, ".0.0")), LandOn: version.MustRange(fmt.Sprint(major+1, ".0.x"))})
		}
		fam.Rules = append(fam.Rules, catalog.Rule{ID: "L", Kind: catalog.KindLeaveTrain, Train: "1.4"})
		c.Families = append(c.Families, fam)
	}
	took := best(3, func() {
		p := path.NewPlanner(c)
		for d := range devices {
			f := c.Families[d%families]
			from := f.Releases[(d*7919)%(5*perTrain-1)].Version
			to := f.Releases[len(f.Releases)-2-perTrain*((d/families)%2)].Version
			if _, err := p.Find(path.Question{Portrait: &portrait.Portrait{Model: f.Models[0].Name, Version: from.String()}, Aim: path.Aim{Version: to.String()}}); err != nil {
				check(err)
			}
		}
	})
	row("paths, 10,000 devices over 60,000 releases", took, "limit", time.Second, "at most 1")
}

// push sends a file over SFTP to a real OpenSSH server, against OpenSSH's own client, connection and sign-in included.
func push(dir, file string) {
	s, err := opensshd.Start(dir)
	check(err)
	defer s.Stop()
	there := filepath.Join(dir, "there.img")
	clean := func() { _ = os.Remove(there) }
	ours := best(5, func() {
		clean()
		conn, err := s.Dial()
		check(err)
		c, err := sftp.NewClient(conn, sftp.UseConcurrentWrites(true))
		check(err)
		check(transfer.Push(context.Background(), c, file, there, nil))
		_ = conn.Close()
	})
	host, port, err := net.SplitHostPort(s.Address)
	check(err)
	theirs := best(5, func() {
		clean()
		cmd := exec.Command("sftp", "-q", "-P", port, "-i", s.KeyFile, "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "-b", "-", s.User+"@"+host)
		cmd.Stdin = strings.NewReader("put " + file + " " + there + "\n")
		out, err := cmd.CombinedOutput()
		if err != nil {
			check(fmt.Errorf("sftp: %w\n%s", err, out))
		}
	})
	row("push 256 MiB over SFTP to OpenSSH", ours, "OpenSSH's sftp", theirs, "at most 1")
}

// hashing proves a blob, against openssl.
func hashing(dir, file string) {
	if _, err := exec.LookPath("openssl"); err != nil {
		fmt.Println("hash 256 MiB: openssl is not installed, nothing to compare with")
		return
	}
	store, err := blob.Open(filepath.Join(dir, "blobs"), nil)
	check(err)
	f, err := os.Open(file)
	check(err)
	defer f.Close()
	sum, _, err := store.Put(f, 0)
	check(err)
	ours := best(5, func() { check(store.Verify(sum)) })
	theirs := best(5, func() { check(exec.Command("openssl", "dgst", "-sha256", file).Run()) })
	row("hash 256 MiB in the blob store", ours, "openssl dgst", theirs, "at most 1.11")
}
