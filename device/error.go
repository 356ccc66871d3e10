package device

import (
	"errors"
	"fmt"
	"regexp"
)

// ErrorKind says what sort of trouble there is, so that callers can decide what to do about it.
type ErrorKind string

// Kinds of errors.
const (
	Unreachable    ErrorKind = "unreachable"      // no connection
	SignInRefused  ErrorKind = "sign-in-refused"  // wrong user or password
	HostKeyChanged ErrorKind = "host-key-changed" // not the key we know
	NotReady       ErrorKind = "not-ready"        // the device is still starting
	NoRoom         ErrorKind = "no-room"          // storage is full
	Refused        ErrorKind = "refused"          // the device said no
	Lost           ErrorKind = "lost"             // the connection ended in the middle
	Silent         ErrorKind = "silent"           // no answer in time
	NotUnderstood  ErrorKind = "not-understood"   // the answer is not one that the driver knows
	Lacking        ErrorKind = "lacking"          // the driver or the way to the device cannot do that
)

// An Error is trouble with a device: where, doing what, and what the device said.
type Error struct {
	Kind    ErrorKind
	Address string
	Doing   string // the verb or command
	Message string
	Cause   error // what went wrong beneath; nil where the device's own words are all there is
}

// Fail makes an error of a kind: at an address, while doing something. An error among the arguments of the message is kept as its cause.
func Fail(kind ErrorKind, address, doing, format string, args ...any) *Error {
	e := &Error{Kind: kind, Address: address, Doing: doing, Message: fmt.Sprintf(format, args...)}
	for _, a := range args {
		if err, ok := a.(error); ok {
			e.Cause = err
		}
	}
	return e
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Cause }

func (e *Error) Error() string {
	text := e.Doing + ": " + e.Message
	if e.Address != "" { // before there is a connection it may not be known
		text = e.Address + ": " + text
	}
	return token.ReplaceAllString(text, "://***@")
}

// token is the secret in an address that was made for one file.
var token = regexp.MustCompile(`://[^\s/@]+@`)

// KindOf returns the kind of a device error inside err, or "".
func KindOf(err error) ErrorKind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return ""
}
