package engine

import (
	"errors"
	"fmt"
	"time"

	"verimorph/core/change"
	"verimorph/core/ready"
	"verimorph/store"
)

// What a step may come back with, beside nothing: each kind of error says what becomes of the change.

// A finalError must not be retried.
type finalError struct{ err error }

func (e *finalError) Error() string { return e.err.Error() }

func (e *finalError) Unwrap() error { return e.err }

func final(format string, args ...any) error { return &finalError{fmt.Errorf(format, args...)} }

// A recordError is trouble with our own records, not with the device. It never fails a change: the change stays running
// and goes on when the database answers again.
type recordError struct{ err error }

func (e *recordError) Error() string {
	return "the records cannot be read or written: " + e.err.Error()
}

func (e *recordError) Unwrap() error { return e.err }

// Records marks an error of the store in what Config is given: trouble with our own records never fails a change.
func Records(err error) error { return records(err) }

// records marks an error of the store.
func records(err error) error {
	if err == nil || errors.Is(err, store.ErrFenced) {
		return err
	}
	return &recordError{err}
}

// An againError says that an earlier step of the same hop has to be done again. often says what to think when that was done in vain.
type againError struct {
	kind       change.Kind
	why, often string
}

func (e *againError) Error() string { return e.why }

// An askError says that a person is needed before the step can go on.
type askError struct {
	q     change.Question
	state change.StepState // of the step meanwhile
}

func (e *askError) Error() string { return e.q.Text }

// A laterError says that the step has to wait for a moment that is far enough away to let go of the device meanwhile.
type laterError struct{ until time.Time }

func (e *laterError) Error() string { return "it waits until " + e.until.Format(ready.Stamp) }

// A faultError is a fault of ours: the code of a step broke off.
type faultError struct{ what any }

func (e *faultError) Error() string {
	return fmt.Sprintf("the service broke off by a fault of its own: %v", e.what)
}
