package link

import (
	"slices"
	"sync"

	"verimorph/device"
)

// A Login goes through a device's passwords, for protocols in which every request is signed in. Where something else signed in already, only that is used.
type Login struct {
	mu    sync.Mutex
	t     *device.Target
	ins   []device.SignIn
	left  int  // refusals that are still risked
	known bool // the first of them was let in
}

// NewLogin makes a login of a target. in is what let us in elsewhere; nil: nothing did.
func NewLogin(t *device.Target, in *device.SignIn) *Login {
	l := &Login{t: t, left: max(t.Tries, 1)}
	if in != nil && in.Password != "" {
		l.ins, l.known = []device.SignIn{*in}, true
		return l
	}
	l.ins = slices.DeleteFunc(slices.Clone(t.SignIns), func(s device.SignIn) bool { return s.Password == "" })
	return l
}

// Do lets f ask with one password after the other until one is not refused. It risks no more refusals than the target says, over all calls.
func (l *Login) Do(doing string, f func(device.SignIn) (refused bool, err error)) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	for {
		if len(l.ins) == 0 {
			return device.Fail(device.SignInRefused, l.t.Address, doing, "no password is known that the device may take; add one with: verimorph credential add")
		}
		in := l.ins[0]
		refused, err := f(in)
		if !refused {
			if err == nil && !l.known {
				l.known, l.ins = true, l.ins[:1]
				if l.t.Used != nil {
					l.t.Used(in, false)
				}
			}
			return err
		}
		if l.t.Refused != nil {
			l.t.Refused(in, false)
		}
		if l.left--; l.left <= 0 || len(l.ins) == 1 {
			l.ins = nil
			return err
		}
		l.ins = l.ins[1:]
	}
}

// SignedIn is what is let in; nil while that is not known.
func (l *Login) SignedIn() *device.SignIn {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.known || len(l.ins) == 0 {
		return nil
	}
	in := l.ins[0]
	return &in
}
