package main

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"verimorph/core/config"
)

// Shapes of differences between two configurations, each as a whole process beside git diff in the same run.

// A shape makes a pair of configurations of about n lines.
type shape struct {
	name   string
	syntax config.Syntax
	wanted float64 // ratio to git diff
	pair   func(n int) (old, new string)
}

func shapes() (out []shape) {
	for _, name := range config.Syntaxes {
		s := config.Syntax(name)
		out = append(out, shape{"few changes, " + name, s, 0.5, func(n int) (string, string) {
			lines := bigConfig(n)
			return inSyntax(lines, s), inSyntax(scatter(lines, n/50), s)
		}})
	}
	blocks := func(name string, change func(blocks [][]string)) {
		out = append(out, shape{name, config.BlockIndent, 1, func(n int) (string, string) {
			lines := bigConfig(n)
			other := blocksOf(lines)
			change(other)
			return text(lines), text(slices.Concat(other...))
		}})
	}
	r := rand.New(rand.NewPCG(5, 6))
	each := func(change func(block []string, i int) string) func([][]string) {
		return func(all [][]string) {
			for _, b := range all {
				for i := range b {
					b[i] = change(b, i)
				}
			}
		}
	}
	blocks("blocks shuffled", func(all [][]string) { r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] }) })
	blocks("blocks reversed", func(all [][]string) { slices.Reverse(all) })
	blocks("every value changed", each(func(b []string, i int) string {
		if i == 0 {
			return b[i]
		}
		return b[i] + "9"
	}))
	blocks("all lines changed", each(func(b []string, i int) string {
		if i == 0 {
			return b[i] + "x"
		}
		return "  x" + strings.TrimSpace(b[i]) + "9"
	}))
	blocks("all blocks renamed", each(func(b []string, i int) string {
		if i == 0 {
			return b[i] + "-new"
		}
		return b[i]
	}))
	flat := func(n int) []string {
		lines := make([]string, n)
		for i := range lines {
			lines[i] = fmt.Sprintf("route 10.%d.%d.%d/32 via 192.0.2.%d", i>>16, i>>8&255, i&255, i%250)
		}
		return lines
	}
	out = append(out, shape{"one flat list", config.BlockIndent, 1, func(n int) (string, string) {
		lines := flat(n)
		other := slices.Clone(lines)
		for i := 7; i < n; i += 50 {
			other[i] += "9"
		}
		return text(lines), text(other)
	}}, shape{"one flat list, shuffled", config.BlockIndent, 1, func(n int) (string, string) {
		lines := flat(n)
		other := slices.Clone(lines)
		r.Shuffle(n, func(i, j int) { other[i], other[j] = other[j], other[i] })
		return text(lines), text(other)
	}}, shape{"nested 200 deep", config.BlockIndent, 1, func(n int) (string, string) {
		var a, b []string
		for i := range n / 201 {
			for depth := range 200 {
				l := fmt.Sprintf("%slevel n%d", strings.Repeat(" ", depth), i)
				a, b = append(a, l), append(b, l)
			}
			leaf := strings.Repeat(" ", 200)
			a, b = append(a, fmt.Sprintf("%svalue %d", leaf, i)), append(b, fmt.Sprintf("%svalue %d", leaf, i+i%2))
		}
		return text(a), text(b)
	}})
	return out
}

func text(lines []string) string { return strings.Join(lines, "\n") + "\n" }

// blocksOf cuts lines before each that is not indented.
func blocksOf(lines []string) (out [][]string) {
	for _, l := range lines {
		if !strings.HasPrefix(l, " ") {
			out = append(out, nil)
		}
		out[len(out)-1] = append(out[len(out)-1], l)
	}
	return out
}

func inSyntax(lines []string, s config.Syntax) string {
	if s == config.BlockIndent {
		return text(lines)
	}
	d, _ := config.Parse("x", text(lines), config.BlockIndent)
	return rewritten(d, s)
}

// compareShapes measures each shape with 100,000 lines, and how the time grows to ten times as many.
func compareShapes(dir, client string) {
	a, b := filepath.Join(dir, "old.cfg"), filepath.Join(dir, "new.cfg")
	write := func(s shape, lines int) bool {
		old, new := s.pair(lines)
		check(os.WriteFile(a, []byte(old), 0o600))
		check(os.WriteFile(b, []byte(new), 0o600))
		return max(len(old), len(new)) <= config.MaxSize
	}
	for _, s := range shapes() {
		ours, theirs := []string{client, "compare", "-syntax", string(s.syntax), a, b}, []string{"git", "diff", "--no-index", a, b}
		write(s, 100_000)
		t, mib := fastest(7, ours, theirs) // in turns, so that a busy moment of the machine meets both
		row("comparing 100,000 lines: "+s.name, t[0], "git diff", t[1], fmt.Sprintf("at most %.2f", s.wanted))
		fmt.Printf("%-48s  %8.0f M  %-18s %8.0f M  %6.2f  %s\n", "  its memory", mib, "limit", 200.0, mib/200, "at most 1")
		few, many := 100_000, 1_000_000
		for !write(s, many) { // larger files are not read
			few, many = few/2, many/2
		}
		large, _ := fastest(3, ours)
		if few < 100_000 {
			write(s, few)
			t, _ = fastest(7, ours)
		}
		row("  ten times the lines", large[0], "12 times as long", 12*t[0], "at most 1")
	}
}

// fastest runs commands in turns and returns the shortest time of each, and the most memory that the first one took, in MiB.
func fastest(times int, commands ...[]string) (took []time.Duration, mib float64) {
	took = make([]time.Duration, len(commands))
	for range times {
		for i, args := range commands {
			t, m := measured(args...)
			if took[i] == 0 || t < took[i] {
				took[i] = t
			}
			if i == 0 {
				mib = max(mib, m)
			}
		}
	}
	return took, mib
}

// measured runs a command in a small process of its own and returns how long it took and its largest memory in MiB. A process that a large one
// starts begins with the large one's memory in its record, so a small one stands between (getrusage(2), ru_maxrss).
func measured(args ...string) (time.Duration, float64) {
	self, err := os.Executable()
	check(err)
	out, err := exec.Command(self, append([]string{"measure"}, args...)...).Output()
	if err != nil {
		check(fmt.Errorf("%s: %w", strings.Join(args, " "), err))
	}
	var took time.Duration
	var kib int64
	_, err = fmt.Sscan(string(bytes.TrimSpace(out)), (*int64)(&took), &kib)
	check(err)
	return took, float64(kib) / 1024
}

// measure is the small process: it runs a command and prints nanoseconds and KiB.
func measure(args []string) {
	cmd := exec.Command(args[0], args[1:]...) // what it prints goes nowhere, so that nothing beside it reads
	cmd.Stderr = os.Stderr
	began := time.Now()
	err := cmd.Run()
	took := time.Since(began)
	if cmd.ProcessState == nil || cmd.ProcessState.ExitCode() > 1 { // 1: they differ
		check(fmt.Errorf("%s: %w", args[0], err))
	}
	usage := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	fmt.Println(strconv.FormatInt(int64(took), 10), usage.Maxrss)
}
