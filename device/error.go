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
	NotUnderstood  ErrorKind = "not-understood"   // the answer does not fit the dialect
)

// An Error is trouble with a device: where, doing what, and what the device said.
type Error struct {
	Kind    ErrorKind
	Address string
	Doing   string // the verb or command
	Message string
}

func (e *Error) Error() string {
	return token.ReplaceAllString(fmt.Sprintf("%s: %s: %s", e.Address, e.Doing, e.Message), "://***@")
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
