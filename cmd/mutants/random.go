package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"go.yaml.in/yaml/v3"
)

// gremlins makes the random mutants. It is run by its version and is no dependency of the project.
const gremlins = "github.com/go-gremlins/gremlins/cmd/gremlins@v0.6.0"

// target is the part of the random mutants that change something which has to be killed.
const target = 0.9

// packages of the core whose random mutants are counted.
var packages = []string{"core/verify", "core/ready", "core/change", "core/portrait", "core/backup"}

// An Equivalent is a random mutant that changes nothing, with the reason.
type Equivalent struct {
	File string `yaml:"file"`
	Type string `yaml:"type"`
	Line string `yaml:"line"` // text of the line, without the blanks around it
	Why  string `yaml:"why"`
}

// random lets gremlins loose, prints who survived, and reports whether enough were killed.
func random(ctx context.Context, equivalent string) bool {
	var known []Equivalent
	if data, err := os.ReadFile(equivalent); err == nil {
		if err := yaml.Unmarshal(data, &known); err != nil {
			fmt.Fprintln(os.Stderr, "mutants:", err)
			return false
		}
	}
	dead, alive, same := 0, 0, 0
	for _, pkg := range packages {
		r, err := loose(ctx, pkg)
		if err != nil {
			fmt.Fprintln(os.Stderr, "mutants:", pkg, err)
			return false
		}
		for _, f := range r.Files {
			for _, m := range f.Mutations {
				if m.Status == "NOT COVERED" { // conditions of a case are not counted as code that runs, so gremlins does not try them
					m.Status = m.try(ctx, pkg, f.Name)
				}
				switch line := lineOf(pkg, f.Name, m.Line); {
				case m.Status == "KILLED" || m.Status == "TIMED OUT":
					dead++
				case m.Status != "LIVED": // those that do not compile
				case isKnown(known, f.Name, m.Type, line):
					same++
				default:
					alive++
					fmt.Printf("SURVIVED  %s:%d:%d %s: %s\n", f.Name, m.Line, m.Column, m.Type, line)
				}
			}
		}
	}
	score := float64(dead) / float64(max(dead+alive, 1))
	fmt.Printf("random mutants of the core: %d killed, %d survived, %d change nothing: %.0f %% of those that change something (%.0f %% wanted)\n", dead, alive, same, 100*score, 100*target)
	return score >= target
}

type result struct {
	Files []struct {
		Name      string     `json:"file_name"`
		Mutations []mutation `json:"mutations"`
	} `json:"files"`
}

type mutation struct {
	Type   string `json:"type"`
	Status string `json:"status"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// others are what stands in the place of an operator, by type of mutation.
var others = map[string]map[string]string{
	"ARITHMETIC_BASE":       {"+": "-", "-": "+", "*": "/", "/": "*", "%": "*"},
	"CONDITIONALS_BOUNDARY": {"<": "<=", "<=": "<", ">": ">=", ">=": ">"},
	"CONDITIONALS_NEGATION": {"==": "!=", "!=": "==", "<": ">=", "<=": ">", ">": "<=", ">=": "<"},
	"INCREMENT_DECREMENT":   {"++": "--", "--": "++"},
	"INVERT_NEGATIVES":      {"-": "+"},
}

// try makes a mutation of gremlins and runs all tests of the package; it returns a status of gremlins.
func (m mutation) try(ctx context.Context, pkg, file string) string {
	whole := Mutant{File: filepath.Join(pkg, filepath.Base(file)), Package: "./" + pkg, Run: "."}
	data, err := os.ReadFile(whole.File)
	lines := strings.SplitAfter(string(data), "\n")
	if err != nil || m.Line > len(lines) || m.Column > len(lines[m.Line-1]) {
		return "LIVED" // nobody knows
	}
	at, rest := lines[m.Line-1][:m.Column-1], lines[m.Line-1][m.Column-1:]
	operator := rest[:1]
	if len(rest) > 1 && strings.ContainsRune("=+-", rune(rest[1])) {
		operator = rest[:2]
	}
	other, ok := others[m.Type][operator]
	if !ok {
		return "LIVED"
	}
	lines[m.Line-1] = at + other + rest[len(operator):]
	outcome, _ := whole.with(ctx, strings.Join(lines, ""))
	return map[string]string{killed: "KILLED", survived: "LIVED", broken: "NOT VIABLE"}[outcome]
}

// loose runs gremlins on one package.
func loose(ctx context.Context, pkg string) (r result, err error) {
	out, err := os.CreateTemp("", "gremlins-*.json")
	if err != nil {
		return r, err
	}
	defer os.Remove(out.Name())
	_ = out.Close()
	cmd := exec.CommandContext(ctx, "go", "run", gremlins, "unleash", "./"+pkg, "--output", out.Name(), "--timeout-coefficient", "20")
	if said, err := cmd.CombinedOutput(); err != nil {
		return r, fmt.Errorf("%w: %s", err, tail(string(said)))
	}
	data, err := os.ReadFile(out.Name())
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(data, &r)
}

func lineOf(pkg, file string, n int) string {
	for _, name := range []string{file, filepath.Join(pkg, filepath.Base(file))} {
		if data, err := os.ReadFile(name); err == nil {
			if lines := strings.Split(string(data), "\n"); n >= 1 && n <= len(lines) {
				return strings.TrimSpace(lines[n-1])
			}
		}
	}
	return ""
}

func isKnown(known []Equivalent, file, kind, line string) bool {
	for _, k := range known {
		if filepath.Base(k.File) == filepath.Base(file) && strings.EqualFold(k.Type, kind) && k.Line == line {
			return true
		}
	}
	return false
}
