package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"verimorph/api/gen"
	"verimorph/core/config"
	"verimorph/core/yamldoc"
)

// Errors. With -json they are JSON on the error output, in the form of RFC 9457.

// errUsage is wrong use with a message; errNo is a "no" that has been printed already.
type errUsage struct{ msg string }

func (e errUsage) Error() string { return e.msg }

var errNo = errors.New("no")

// A localProblem is an error of the client itself. Status is absent: no service was asked.
type localProblem struct {
	Type    string    `json:"type"` // usage or failed
	Title   string    `json:"title"`
	Detail  string    `json:"detail"`
	Command string    `json:"command,omitempty"`
	Errors  []atPlace `json:"errors,omitempty"` // each mistake of a file
}

// An atPlace is a mistake at its place in a file.
type atPlace struct {
	yamldoc.Position
	Message string `json:"message"`
	Hint    string `json:"hint,omitempty"`
}

// exitCode tells of an error and returns the exit code that stands for it.
func exitCode(err error, command string, asJSON bool, stderr io.Writer) int {
	var usage errUsage
	var refused *problemError
	code := exitFailed
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errNo):
		return exitNo
	case errors.As(err, &usage):
		code = exitUsage
	case errors.As(err, &refused) && (refused.Status == 409 || refused.Status == 422 || refused.Status == 404):
		code = exitNo
	}
	if asJSON {
		e := json.NewEncoder(stderr)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		_ = e.Encode(problemFor(err, command, code))
		return code
	}
	fmt.Fprintf(stderr, "verimorph %s: %s\n", command, err)
	if code == exitUsage {
		fmt.Fprintf(stderr, "See: verimorph help %s\n", command)
	}
	return code
}

// problemFor is the problem form of an error: that of the service where it refused.
func problemFor(err error, command string, code int) any {
	var refused *problemError
	if errors.As(err, &refused) {
		return struct {
			gen.Problem
			Command string `json:"command,omitempty"`
		}{refused.Problem, command}
	}
	p := localProblem{Type: "failed", Title: "It could not be done", Detail: err.Error(), Command: command, Errors: placesOf(err)}
	if code == exitUsage {
		p.Type, p.Title = "usage", "Wrong use"
	}
	return p
}

// placesOf are the mistakes in files that an error speaks of.
func placesOf(err error) (out []atPlace) {
	var found yamldoc.Findings
	if errors.As(err, &found) {
		for _, f := range found {
			out = append(out, atPlace{f.Position, f.Message, f.Hint})
		}
		return out
	}
	var walk func(error)
	walk = func(err error) {
		switch e := err.(type) {
		case nil:
		case *config.ParseError:
			out = append(out, atPlace{yamldoc.Position{File: e.File, Line: e.Line, Column: e.Column}, e.Message, ""})
		case interface{ Unwrap() []error }:
			for _, k := range e.Unwrap() {
				walk(k)
			}
		default:
			walk(errors.Unwrap(err))
		}
	}
	walk(err)
	return out
}
