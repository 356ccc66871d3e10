package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"filippo.io/age"

	"verimorph/backupstore"
	"verimorph/core/backup"
)

// The fleet that is backed up: so many devices, so many days, configurations of about so many lines.
const (
	fleetSize = 1000
	fleetDays = 30
	fleetRows = 2000
)

// daily is the configuration of a device on a day: what is alike between devices of a company (policy), what is not
// (addresses, names), and a few lines that change from day to day.
func daily(device, day int) []byte {
	rng := rand.New(rand.NewPCG(uint64(device), 11))
	var b bytes.Buffer
	fmt.Fprintf(&b, "box\n  name fw%04d\n  site pier-%d\n", device, device%60)
	for i := 0; i < fleetRows/4; i++ {
		n := rng.Uint64()
		for k := 1; k <= day; k++ { // a few lines a day, and they stay
			if rand.New(rand.NewPCG(uint64(device*1000+k), uint64(i))).IntN(fleetRows/4) < 3 {
				n = n*6364136223846793005 + uint64(k)
			}
		}
		fmt.Fprintf(&b, "policy rule-%04d\n  from 10.%d.%d.0/24\n  to 172.%d.%d.%d\n  service tcp-%d\n", i, n>>8&255, n>>16&255, 16+n>>24&15, n>>32&255, n>>40&255, n>>48)
	}
	return b.Bytes()
}

type benchKeys struct{ own, offline *age.X25519Identity }

func (k benchKeys) Recipients() ([]age.Recipient, error) {
	return []age.Recipient{k.own.Recipient(), k.offline.Recipient()}, nil
}
func (k benchKeys) Identities() ([]age.Identity, error) { return []age.Identity{k.own}, nil }

// A backupBench is the daily configurations of a fleet, kept in a store.
type backupBench struct {
	dir, folder string
	keys        benchKeys
	store       *backupstore.Store
	sums, parts []string // of the last day, by device
}

// benchBackups keeps a fleet's daily configurations and holds that against git and openssl.
func benchBackups(ctx context.Context, dir string) error {
	own, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	offline, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	b := &backupBench{dir: dir, folder: filepath.Join(dir, "store"), keys: benchKeys{own, offline}, sums: make([]string, fleetSize), parts: make([]string, fleetSize)}
	if b.store, err = backupstore.Open(b.folder, b.keys); err != nil {
		return err
	}
	defer b.store.Close()
	for _, part := range []func(context.Context) error{b.taking, b.opening, b.checking} {
		if err := part(ctx); err != nil {
			return err
		}
	}
	return nil
}

// taking takes every day's backups, joins them, and compares what they need with git.
func (b *backupBench) taking(ctx context.Context) error {
	var took time.Duration
	var content int64
	var taken atomic.Int64
	day := make([][]byte, fleetSize)
	for d := range fleetDays {
		parallel(fleetSize, runtime.NumCPU(), func(i int) { day[i] = daily(i, d) })
		began := time.Now()
		parallel(fleetSize, 16, func(i int) {
			m := &backup.Manifest{Device: fmt.Sprintf("fw%04d", i), Maker: "Tarnholm", Model: "TH-60", Version: "5.0.7", Dialect: "tarnholm",
				TakenAt: time.Date(2026, 1, 1+d, 2, 0, i, 0, time.UTC), Reason: backup.OnSchedule,
				Parts: []backup.Part{{Name: "running", Title: "Running configuration", Kind: backup.Configuration, File: "running.cfg", Syntax: "indent",
					Version: "5.0.7", By: "sftp", Proof: "read twice"}}}
			sum, err := b.store.Put(m, map[string][]byte{"running": day[i]})
			check(err)
			b.sums[i], b.parts[i] = sum, m.Parts[0].SHA256
			if taken.Add(1)%100 == 0 { // the service tidies beside the taking, too
				_, err := b.store.Tidy(ctx, backupstore.Tidying{})
				check(err)
			}
		})
		took += time.Since(began)
		for _, c := range day {
			content += int64(len(c))
		}
	}
	perSecond := float64(fleetSize*fleetDays) / took.Seconds()
	began := time.Now()
	if _, err := b.store.Tidy(ctx, backupstore.Tidying{All: true}); err != nil {
		return err
	}
	line("taking 30 days of 1,000 devices, joining included", perSecond, "/s", "wanted", 200, "/s", perSecond/200, ">= 1.00")
	row("joining all of it", time.Since(began), "taking it", took, "")
	size, err := b.store.Size()
	if err != nil {
		return err
	}
	git, err := gitSize(ctx, filepath.Join(b.dir, "repo"))
	if err != nil {
		return err
	}
	line("stored, encrypted", mebi(size.Stored), "MiB", "git gc", mebi(git), "MiB", float64(size.Stored)/float64(git), fmt.Sprintf("<= 1.50; %.0f MiB of content", mebi(content)))
	return nil
}

// opening opens states at random, from a store that was just opened.
func (b *backupBench) opening(context.Context) error {
	cold, err := backupstore.Open(b.folder, b.keys)
	if err != nil {
		return err
	}
	defer cold.Close()
	var worst time.Duration
	rng := rand.New(rand.NewPCG(5, 5))
	for range 200 {
		i := rng.IntN(fleetSize)
		began := time.Now()
		if _, err := cold.Manifest(b.sums[i]); err != nil {
			return err
		}
		if _, err := cold.Read(b.parts[i]); err != nil {
			return err
		}
		worst = max(worst, time.Since(began))
	}
	row("opening any one, worst of 200", worst, "limit", 50*time.Millisecond, "<= 1.00")
	return nil
}

// checking compares the checks of the whole store with openssl over the same bytes.
func (b *backupBench) checking(ctx context.Context) error {
	files, err := b.store.Files()
	if err != nil {
		return err
	}
	size, err := b.store.Size()
	if err != nil {
		return err
	}
	var ssl, check time.Duration
	for range 3 {
		began := time.Now()
		if err := exec.CommandContext(ctx, "openssl", append([]string{"dgst", "-sha256"}, files...)...).Run(); err != nil {
			return err
		}
		ssl = shorter(ssl, time.Since(began))
		began = time.Now()
		r, err := b.store.Check(ctx, backupstore.Checking{})
		if err != nil || len(r.Damages) > 0 {
			return fmt.Errorf("check: %w %v", err, r)
		}
		check = shorter(check, time.Since(began))
	}
	row("check of the whole store", check, "openssl dgst", ssl, "<= 1.50")
	began := time.Now()
	r, err := b.store.Check(ctx, backupstore.Checking{Deep: true})
	if err != nil || len(r.Damages) > 0 {
		return fmt.Errorf("deep check: %w %v", err, r)
	}
	deep := time.Since(began).Seconds()
	line("deep check, content", mebi(r.Content)/deep, "MiB/s", "openssl dgst", mebi(size.Stored)/ssl.Seconds(), "MiB/s", mebi(r.Content)/deep/(mebi(size.Stored)/ssl.Seconds()), "")
	return nil
}

// line is row for what is not a time.
func line(what string, ours float64, unit, against string, theirs float64, theirUnit string, ratio float64, wanted string) {
	fmt.Printf("%-48s  %8.1f %-5s %-15s %8.1f %-5s %6.2f  %s\n", what, ours, unit, against, theirs, theirUnit, ratio, wanted)
}

func shorter(a, b time.Duration) time.Duration {
	if a == 0 {
		return b
	}
	return min(a, b)
}

func mebi(n int64) float64 { return float64(n) / (1 << 20) }

func parallel(n, workers int, f func(i int)) {
	var wg sync.WaitGroup
	work := make(chan int)
	for range workers {
		wg.Go(func() {
			for i := range work {
				f(i)
			}
		})
	}
	for i := range n {
		work <- i
	}
	close(work)
	wg.Wait()
}

// gitSize puts the same files into a repository, one commit a day, and packs it.
func gitSize(ctx context.Context, dir string) (int64, error) {
	run := func(stdin io.Reader, args ...string) error {
		cmd := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...)
		cmd.Stdin = stdin
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %v: %w\n%s", args, err, out)
		}
		return nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return 0, err
	}
	if err := run(nil, "init", "-q"); err != nil {
		return 0, err
	}
	r, w := io.Pipe()
	go func() {
		for d := range fleetDays {
			day := make([][]byte, fleetSize)
			parallel(fleetSize, runtime.NumCPU(), func(i int) { day[i] = daily(i, d) })
			fmt.Fprintf(w, "commit refs/heads/main\ncommitter bench <bench@example.net> %d +0000\ndata 3\nday\n", 1767225600+d*86400)
			for i, c := range day {
				fmt.Fprintf(w, "M 644 inline fw%04d.cfg\ndata %d\n", i, len(c))
				_, _ = w.Write(c)
				fmt.Fprintln(w)
			}
		}
		_ = w.Close()
	}()
	if err := run(r, "-c", "fastimport.unpackLimit=10000000", "fast-import", "--quiet"); err != nil {
		return 0, err
	}
	if err := run(nil, "gc", "-q"); err != nil {
		return 0, err
	}
	var n int64
	err := filepath.Walk(filepath.Join(dir, ".git", "objects"), func(_ string, st os.FileInfo, err error) error {
		if err == nil && st.Mode().IsRegular() {
			n += st.Size()
		}
		return err
	})
	return n, err
}
