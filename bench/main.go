// Command bench measures what the project promises. Every figure is a ratio to a limit or to a general-purpose tool
// that is measured in the same run; absolute times depend on the machine and are printed only to make sense of them.
package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"math"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/pkg/sftp"
	gonum "gonum.org/v1/gonum/graph/path"
	"gonum.org/v1/gonum/graph/simple"

	"verimorph/blob"
	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/internal/opensshd"
	"verimorph/transfer"
)

// processes are what the bench starts as processes of their own, by the name with which they are started: what they need is not counted. Each has a folder, and most
// how many devices.
var processes = map[string]func(dir string, n int){"fleet": fleetProcess, "controller": controllerProcess, "blank": blankProcess, "swap": swapProcess,
	"routers": func(dir string, _ int) { routersProcess(dir) },
	"load": func(dir string, _ int) {
		if _, found := catalog.ReadDir(os.DirFS(dir)); len(found) > 0 {
			check(found)
		}
	}}

// benches are what can be measured by itself, in the order in which all of them run.
var benches = []struct {
	name string
	run  func(ctx context.Context, dir string)
}{
	{"paths", func(_ context.Context, dir string) { paths(loading(dir)) }},
	{"configs", func(_ context.Context, dir string) { configs(dir) }},
	{"backups", func(ctx context.Context, dir string) { check(benchBackups(ctx, dir)) }},
	{"changes", benchChanges},
	{"followers", benchFollowers},
	{"bring-up", benchBringUp},
	{"replacement", benchReplacement},
	{"sessions", benchSessions},
	{"prove", func(context.Context, string) { benchProve() }},
	{"transfer", benchTransfer},
}

func main() {
	if len(os.Args) > 2 && os.Args[1] == "measure" {
		measure(os.Args[2:])
		return
	}
	if len(os.Args) > 2 {
		process, known := processes[os.Args[1]]
		if !known {
			check(fmt.Errorf("there is no process %q", os.Args[1]))
		}
		n := 0
		if len(os.Args) > 3 {
			var err error
			n, err = strconv.Atoi(os.Args[3])
			check(err)
		}
		process(os.Args[2], n)
		return
	}
	dir, err := os.MkdirTemp("", "verimorph-bench-")
	check(err)
	defer os.RemoveAll(dir)
	check(os.Chmod(dir, 0o755)) // the user of the database has to get through
	fmt.Printf("%-48s  %10s  %-18s %10s  %6s  %s\n", "What", "ours", "against", "theirs", "ratio", "wanted")
	ran := false
	for _, b := range benches {
		if len(os.Args) == 1 || os.Args[1] == b.name {
			own := filepath.Join(dir, b.name)
			check(os.Mkdir(own, 0o755))
			b.run(context.Background(), own)
			ran = true
		}
	}
	if !ran {
		check(fmt.Errorf("there is no bench %q", os.Args[1]))
	}
}

// benchTransfer measures how files come, and how they are looked through.
func benchTransfer(_ context.Context, dir string) {
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

// A generated catalogue: 60,000 releases in 300 models, each of a family of its own.
const models, trains, perTrain, devices = 300, 10, 20, 10_000

// family writes one catalogue file: trains of releases, hops between neighbouring trains, and restrictions of every kind.
func family(m int) string {
	var s strings.Builder
	fmt.Fprintf(&s, "format: verimorph-catalogue/1\nmaker: Bench\nfamily: f%d\ntitle: bench\nmodels:\n  - name: M%d\n    runs: \">=1\"\n", m, m)
	s.WriteString("durations:\n  send-rate: [400000, 900000]\n  install: [60, 120, 600]\n  link: [40, 80, 600]\nreleases:\n")
	for t := range trains {
		for p := range perTrain {
			stage := "general"
			if p == perTrain-2 {
				stage = "preferred"
			}
			v := fmt.Sprintf("%d.%d.%d", 1+t/5, t%5, p)
			fmt.Fprintf(&s, "  - version: %q\n    train: \"%d.%d\"\n    date: %d-%02d-%02d\n    stage: %s\n    notes:\n      - a note about %s\n    images:\n      - {file: m%d-%s.img, models: [M%d], size: %d, installed: 9000000, sha256: %064x}\n",
				v, 1+t/5, t%5, 2020+t/3, 1+t%3*4, 1+p, stage, v, m, v, m, 4_000_000+t*1000, m*1000+t*perTrain+p)
		}
	}
	s.WriteString("rules:\n")
	for t := range trains {
		fmt.Fprintf(&s, "  - {id: A%d, kind: hop, from: %d.%d.x, to: \"%d.%d.x\", text: inside a train}\n", t, 1+t/5, t%5, 1+t/5, t%5)
		if t+1 < trains {
			fmt.Fprintf(&s, "  - {id: B%d, kind: hop, from: %d.%d.x, to: \">=%d.%d.0 <%d.%d.99\", config: converted, text: up}\n", t, 1+t/5, t%5, 1+(t+1)/5, (t+1)%5, 1+min(t+3, trains-1)/5, min(t+3, trains-1)%5)
		}
	}
	s.WriteString("  - {id: C, kind: crossing, crossing: 2.0.0, leave-from: \">=1.4.5\", land-on: 2.0.x, text: converts}\n  - {id: L, kind: leave-train, train: \"1.2\", text: newest first}\n")
	return s.String()
}

// loading reads and checks that catalogue in a process of its own, against the limits of 3 s and 400 MiB.
func loading(dir string) *catalog.Catalogue {
	folder := filepath.Join(dir, "catalogue")
	check(os.Mkdir(folder, 0o700))
	for m := range models {
		check(os.WriteFile(filepath.Join(folder, fmt.Sprintf("f%03d.yaml", m)), []byte(family(m)), 0o600))
	}
	var took, memory []float64
	for range 3 {
		cmd := exec.Command(os.Args[0], "load", folder)
		cmd.Stderr = os.Stderr
		began := time.Now()
		check(cmd.Run())
		took = append(took, time.Since(began).Seconds())
		memory = append(memory, float64(cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)/1024)
	}
	row("loading 60,000 releases, whole process", time.Duration(slices.Min(took)*1e9), "limit", 3*time.Second, "at most 1")
	fmt.Printf("%-48s  %8.0f M  %-18s %8.0f M  %6.2f  %s\n", "  its memory", slices.Max(memory), "limit", 400.0, slices.Max(memory)/400, "at most 1")
	cat, found := catalog.ReadDir(os.DirFS(folder))
	if len(found) > 0 {
		check(found)
	}
	return cat
}

// question is what one device of the bench asks.
func question(c *catalog.Catalogue, d int) (f *catalog.Family, from, to int) {
	f = c.Families[d%models]
	return f, (d * 7919) % (5*perTrain - 1), len(f.Releases) - 2 - perTrain*((d/models)%2)
}

// paths finds a path for each of 10,000 devices, against the limit of one second on one core and against gonum's
// Dijkstra over the explicit graph of the same rules.
func paths(c *catalog.Catalogue) {
	runtime.GOMAXPROCS(1)
	defer runtime.GOMAXPROCS(runtime.NumCPU())
	length := make([]int, devices)
	took := best(3, func() {
		p := path.NewPlanner(c)
		for d := range devices {
			f, from, to := question(c, d)
			found, err := p.Find(path.Question{Portrait: &portrait.Portrait{Model: f.Models[0].Name, Version: f.Releases[from].Version.String()}, Aim: path.Aim{Version: f.Releases[to].Version.String()}})
			check(err)
			length[d] = len(found.Hops)
		}
	})
	row("paths, 10,000 devices over 60,000 releases", took, "limit", time.Second, "at most 1")
	row("paths, 10,000 devices over 60,000 releases", took, "gonum Dijkstra", best(1, func() { explicit(c, length) }), "at most 0.5")
}

// explicit does the same with gonum: all edges of every model, one search for each aim, one way for each device.
func explicit(c *catalog.Catalogue, want []int) {
	type key struct{ family, to int }
	graphs, trees := map[int]*simple.WeightedDirectedGraph{}, map[key]gonum.Shortest{}
	for d := range devices {
		f, from, to := question(c, d)
		k := key{d % models, to}
		tree, ok := trees[k]
		if !ok {
			g := graphs[k.family]
			if g == nil {
				g = simple.NewWeightedDirectedGraph(0, math.Inf(1))
				h := catalog.NewHops(f, &f.Models[0])
				for a := range f.Releases {
					for b := range f.Releases {
						if a != b && h.WhyNot(b) == nil && h.Permit(a, b, false) != nil && !h.Refused(a, b) {
							weight := 1e6
							if f.Releases[b].Stage != catalog.Preferred {
								weight++
							}
							g.SetWeightedEdge(g.NewWeightedEdge(simple.Node(b), simple.Node(a), weight)) // reversed: searches begin at the aim
						}
					}
				}
				graphs[k.family] = g
			}
			tree = gonum.DijkstraFrom(simple.Node(to), g)
			trees[k] = tree
		}
		way, _ := tree.To(int64(from))
		if len(way)-1 != want[d] {
			check(fmt.Errorf("device %d: gonum finds %d hops, we %d", d, len(way)-1, want[d]))
		}
	}
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
	store, err := blob.Open(filepath.Join(dir, "blobs"))
	check(err)
	f, err := os.Open(file)
	check(err)
	check(f.Sync()) // it lies on the disk, as an upload does when its last piece has come
	check(f.Close())
	part := filepath.Join(dir, "part")
	ours := best(5, func() {
		check(os.Link(file, part))
		sum, _, err := store.Adopt(part, 64<<10, func(string, int64, []byte) error { return nil })
		check(err)
		check(store.Delete(sum))
	})
	theirs := best(5, func() { check(exec.Command("openssl", "dgst", "-sha256", file).Run()) })
	row("take 256 MiB into the image store", ours, "openssl dgst", theirs, "at most 1.11")
}
