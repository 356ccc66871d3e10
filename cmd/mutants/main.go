// Command mutants checks that the tests notice deliberate faults. Each entry of mutants/mutants.yaml is one fault: a piece of source, its replacement,
// and the test that must fail with it. The shipped code never has the faults: the compiler gets the changed file in place of the real one
// (go test -overlay).
//
// With -core it also lets gremlins make random faults in the packages of the core, and prints the score. Faults that are known to change nothing do
// not count.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// A Mutant is one deliberate fault.
type Mutant struct {
	Name    string `yaml:"name"`
	File    string `yaml:"file"`
	From    string `yaml:"from"` // stands in the file exactly once
	To      string `yaml:"to"`
	Package string `yaml:"package"` // whose test must fail; that of the file when left out
	Run     string `yaml:"run"`     // pattern of that test
}

// Outcomes of a mutant.
const (
	killed   = "killed"
	survived = "SURVIVED"
	broken   = "BROKEN" // it cannot be made, or does not compile
)

func main() {
	list := flag.String("list", "mutants/mutants.yaml", "`file` with the mutants")
	only := flag.String("only", "", "run those whose `name` contains this")
	sample := flag.Int("sample", 0, "run so many of them, drawn at random; 0: all")
	seed := flag.Uint64("seed", uint64(time.Now().UnixNano()), "for -sample")
	base := flag.Bool("base", true, "run the tests without a fault first; not needed right after they passed")
	core := flag.Bool("core", false, "also make random mutants in the core, with gremlins")
	equivalent := flag.String("equivalent", "mutants/equivalent.yaml", "`file` with the random mutants that change nothing")
	flag.Parse()
	ctx := context.Background()
	mutants, err := read(*list)
	if err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(2)
	}
	mutants = pick(mutants, *only, *sample, *seed)
	began := time.Now()
	if *base && !healthy(ctx, mutants) {
		os.Exit(1)
	}
	count := map[string]int{}
	for i, m := range mutants {
		at := time.Now()
		outcome, detail := try(ctx, m)
		count[outcome]++
		fmt.Printf("%3d/%d  %-9s %5.1f s  %-48s %s\n", i+1, len(mutants), outcome, time.Since(at).Seconds(), m.Name, m.File)
		if outcome != killed {
			fmt.Println(indent(detail))
		}
	}
	fmt.Printf("%d mutants in %s: %d killed, %d survived, %d broken\n", len(mutants), time.Since(began).Round(time.Second), count[killed], count[survived], count[broken])
	ok := count[killed] == len(mutants) && len(mutants) > 0
	if *core {
		ok = random(ctx, *equivalent) && ok
	}
	if !ok {
		os.Exit(1)
	}
}

func read(file string) (out []Mutant, err error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	dec := yaml.NewDecoder(f)
	dec.KnownFields(true)
	if err := dec.Decode(&out); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	seen := map[string]bool{}
	for i := range out {
		m := &out[i]
		if m.Package == "" {
			m.Package = "./" + filepath.Dir(m.File)
		}
		if m.Name == "" || m.Run == "" || seen[m.Name] {
			return nil, fmt.Errorf("%s: mutant %d %q needs a name of its own and a test", file, i+1, m.Name)
		}
		seen[m.Name] = true
	}
	return out, nil
}

func pick(all []Mutant, only string, sample int, seed uint64) (out []Mutant) {
	for _, m := range all {
		if strings.Contains(m.Name, only) {
			out = append(out, m)
		}
	}
	if sample > 0 && sample < len(out) {
		fmt.Printf("%d of %d mutants, seed %d\n", sample, len(out), seed)
		rng := rand.New(rand.NewPCG(seed, 1))
		rng.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
		out = out[:sample]
	}
	return out
}

// try compiles the package with the fault and runs the test. The mutant is killed when the test fails, not when nothing compiles.
func try(ctx context.Context, m Mutant) (outcome, detail string) {
	text, err := os.ReadFile(m.File)
	if err != nil {
		return broken, err.Error()
	}
	if n := strings.Count(string(text), m.From); n != 1 {
		return broken, fmt.Sprintf("what is to be changed stands %d times in %s", n, m.File)
	}
	return m.with(ctx, strings.Replace(string(text), m.From, m.To, 1))
}

// with runs the test of a mutant with another text in the place of its file.
func (m *Mutant) with(ctx context.Context, text string) (outcome, detail string) {
	dir, err := os.MkdirTemp("", "mutant-")
	if err != nil {
		return broken, err.Error()
	}
	defer os.RemoveAll(dir)
	changed := filepath.Join(dir, filepath.Base(m.File))
	real, err := filepath.Abs(m.File)
	if err != nil {
		return broken, err.Error()
	}
	overlay, err := json.Marshal(map[string]any{"Replace": map[string]string{real: changed}})
	if err != nil {
		return broken, err.Error()
	}
	if err := os.WriteFile(changed, []byte(text), 0o600); err != nil {
		return broken, err.Error()
	}
	if err := os.WriteFile(filepath.Join(dir, "overlay.json"), overlay, 0o600); err != nil {
		return broken, err.Error()
	}
	said, err := m.test(ctx, "GOFLAGS=-overlay="+filepath.Join(dir, "overlay.json"))
	switch {
	case err == nil && strings.Contains(said, "no tests to run"):
		return broken, "no test fits " + m.Run
	case err == nil:
		return survived, "the test " + m.Run + " passes all the same"
	case strings.Contains(said, "[build failed]") || strings.Contains(said, "[setup failed]"):
		return broken, tail(said)
	default:
		return killed, ""
	}
}

// test runs the test of a mutant. What is said in the environment holds for programs, too, that the test builds itself.
func (m *Mutant) test(ctx context.Context, env ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "go", "test", "-count=1", "-failfast", "-timeout", "4m", "-run", m.Run, m.Package)
	cmd.Env = append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// healthy runs the tests of the mutants without a fault: a test that fails anyway kills nothing.
func healthy(ctx context.Context, mutants []Mutant) bool {
	tested, ok := map[string]bool{}, true
	for _, m := range mutants {
		key := m.Package + " " + m.Run
		if tested[key] {
			continue
		}
		tested[key] = true
		if said, err := m.test(ctx); err != nil {
			fmt.Printf("%s of %s fails without a fault:\n%s\n", m.Run, m.Package, indent(tail(said)))
			ok = false
		}
	}
	return ok
}

func tail(s string) string { return s[max(0, len(s)-600):] }

func indent(s string) string {
	return "        " + strings.ReplaceAll(strings.TrimSpace(s), "\n", "\n        ")
}
