package cli

import (
	"context"
	"fmt"
	"sync"
	"time"

	"verimorph/device"
	"verimorph/device/link"
)

// A console line is a conversation that is there before anybody signed in, stays there while the device restarts, and may
// still be signed in from the last time. It is spoken with as it comes: something wakes it, it asks for user and password, or
// shows its prompt at once.

// tap passes on what comes over a line to whoever records it, but for parts of backups: they hold secrets.
type tap struct {
	mu    sync.Mutex
	to    func([]byte)
	deaf  bool
	count int // bytes not passed on
}

// tell sets whom what comes is passed on to. The line may already be talking.
func (t *tap) tell(to func([]byte)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.to = to
}

func (t *tap) hear(p []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case t.to == nil:
	case t.deaf:
		t.count += len(p)
	default:
		t.to(append([]byte(nil), p...))
	}
}

// private stops the passing on, until the function it returns is called.
func (t *tap) private(what string) func() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.deaf, t.count = true, 0
	return func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.deaf = false
		if t.to != nil {
			t.to([]byte(fmt.Sprintf("\r\n[%s: %d bytes that are not recorded]\r\n", what, t.count)))
		}
	}
}

// consolePatience is how long a line may be silent before it counts as silent.
const consolePatience = 6 * time.Second

// lineSettles is how long a line must be silent before where it stands is believed.
const lineSettles = 150 * time.Millisecond

// signInAt signs in at a line, with the first of the target's passwords that is taken.
func (c *Client) signInAt(ctx context.Context, s *session) error {
	t, line := c.t, wordsOf(c.d)
	for i := 0; ; {
		seen, err := s.wake(ctx, line)
		if err != nil {
			return err
		}
		switch seen {
		case atPrompt:
			s.screen.clear()
			return s.prepare(ctx)
		case atLoader:
			return device.Fail(device.NotReady, s.address, "sign in", "the device is in its boot loader")
		}
		if i >= len(t.SignIns) || c.tries >= max(t.Tries, 1) {
			return device.Fail(device.SignInRefused, s.address, "sign in", "%d of %d credentials were tried at the console line and refused; more is not risked in one go", c.tries, len(t.SignIns))
		}
		in := &t.SignIns[i]
		i++
		if in.Key != nil {
			continue
		}
		if seen == atUser {
			s.enterLine(in.User)
			if seen, err = s.awaitOther(ctx, line, atUser); err != nil {
				return err
			}
		}
		if seen == atUser { // it lost what was typed, or does not know its users yet; the password was not sent
			return device.Fail(device.NotReady, s.address, "sign in", "it asks for the name again, and not for the password; the last line was %q", s.lastLine())
		}
		if seen != atPassword {
			return device.Fail(device.NotUnderstood, s.address, "sign in", "it does not ask for the password; the last line was %q", s.lastLine())
		}
		s.enterLine(in.Password)
		if seen, err = s.await(ctx, line, consolePatience); err != nil {
			return err
		}
		if seen == atPrompt {
			s.screen.clear()
			c.in = in
			if t.Used != nil {
				t.Used(*in, false)
			}
			return s.prepare(ctx)
		}
		c.tries++
		c.refused(*in, false)
	}
}

// where a line stands.
type lineState int

const (
	atPrompt lineState = iota
	atUser
	atPassword
	atLoader
)

type lineWords struct {
	wake                   string
	user, password, loader device.Pattern
}

func wordsOf(d *Dialect) lineWords {
	w := lineWords{d.Console.Wake, d.Console.User, d.Console.Password, d.Console.Loader}
	if w.wake == "" {
		w.wake = "\r"
	}
	return w
}

func (s *session) enterLine(text string) {
	s.screen.clear()
	_ = s.send(text + "\r")
}

// wake makes a line say something and tells where it stands.
func (s *session) wake(ctx context.Context, w lineWords) (lineState, error) {
	for try := 0; ; try++ {
		if err := s.send(w.wake); err != nil {
			return 0, device.Fail(device.Lost, s.address, "sign in", "the line ended")
		}
		_, err := s.await(ctx, w, consolePatience/3)
		for err == nil { // it may have more to say: what was waiting to be read comes before the answer to our knock
			select {
			case b, ok := <-s.out:
				if !ok {
					return 0, device.Fail(device.Lost, s.address, "sign in", "the line ended")
				}
				s.screen.write(b)
				continue
			case <-time.After(lineSettles):
			}
			if at, ok := s.stands(w); ok {
				return at, nil
			}
			_, err = s.await(ctx, w, consolePatience/3)
		}
		if device.KindOf(err) != device.Silent || ctx.Err() != nil || try >= 2 {
			if device.KindOf(err) == device.Silent {
				err = device.Fail(device.NotReady, s.address, "sign in", "nothing comes over the console line")
			}
			return 0, err
		}
	}
}

// stands tells where a line stands by its last line.
func (s *session) stands(w lineWords) (lineState, bool) {
	if _, ok := s.atPrompt(); ok {
		return atPrompt, true
	}
	for at, p := range map[lineState]device.Pattern{atUser: w.user, atPassword: w.password, atLoader: w.loader} {
		if s.endsWith(p) > 0 {
			return at, true
		}
	}
	return 0, false
}

// await reads until the line stands somewhere.
func (s *session) await(ctx context.Context, w lineWords, silence time.Duration) (lineState, error) {
	timer := time.NewTimer(silence)
	defer timer.Stop()
	for {
		if at, ok := s.stands(w); ok {
			return at, nil
		}
		select {
		case <-ctx.Done():
			return 0, device.Fail(device.Silent, s.address, "sign in", "%s", "given up: "+context.Cause(ctx).Error())
		case <-timer.C:
			return 0, device.Fail(device.Silent, s.address, "sign in", "no answer for %s; the last line was %q", silence, s.lastLine())
		case b, ok := <-s.out:
			if !ok {
				return 0, device.Fail(device.Lost, s.address, "sign in", "the line ended")
			}
			s.screen.write(b)
			if len(s.screen.text) > maxAnswer {
				s.screen.drop(len(s.screen.text) - tailSize)
			}
			timer.Reset(silence)
		}
	}
}

// awaitOther is await after an answer to what the line stood at. That may come once more: a line that was silent for a while answers every
// knock when it speaks again.
func (s *session) awaitOther(ctx context.Context, w lineWords, before lineState) (lineState, error) {
	at, err := s.await(ctx, w, consolePatience)
	for err == nil && at == before {
		select {
		case b, ok := <-s.out:
			if !ok {
				return 0, device.Fail(device.Lost, s.address, "sign in", "the line ended")
			}
			s.screen.write(b)
			at, err = s.await(ctx, w, consolePatience)
		case <-time.After(askedAgain):
			return at, nil
		}
	}
	return at, err
}

// askedAgain is how long a line that asks the same once more may go on before that is its answer.
const askedAgain = 2 * time.Second

// LoadSlot implements device.Loader: it starts a slot from the boot loader, over the console line of a device that does not come up any more. A device that is
// not in its boot loader is left alone: then it is an error of kind NotReady.
func (d *Dialect) LoadSlot(ctx context.Context, t device.Target, slot string) error {
	if t.Console == "" || d.Console.Loader.Regexp == nil {
		return device.Fail(device.Refused, t.Address, "start a slot from the boot loader", "no console line is known, or its dialect does not speak with the boot loader")
	}
	line, err := link.DialLine(ctx, t.Console)
	if err != nil {
		return err
	}
	defer line.Close()
	rw, err := line.Terminal()
	if err != nil {
		return err
	}
	s := newStream(d, t.Console, rw, rw, func() {})
	defer s.close()
	s.heard.tell(t.Record)
	words := wordsOf(d)
	at, err := s.wake(ctx, words)
	if err != nil {
		return err
	}
	if at != atLoader {
		return device.Fail(device.NotReady, t.Console, "start a slot from the boot loader", "the device is not in its boot loader")
	}
	if d.Console.Menu != nil {
		return s.choose(ctx, words, d.Console.Menu, slot)
	}
	command, err := fill(d.Console.StartOld, map[string]string{"slot": slot})
	if err != nil {
		return device.Fail(device.NotUnderstood, t.Console, "start a slot from the boot loader", "%s", err)
	}
	s.enterLine(command)
	// Whatever it says now, it says on its way: a refusal brings the prompt of the loader again.
	if at, err := s.await(ctx, words, consolePatience/3); err == nil && at == atLoader {
		return device.Fail(device.Refused, t.Console, "start a slot from the boot loader", "the boot loader asks again; the last line was %q", s.lastLine())
	}
	return nil
}

// mostEntries bounds a boot menu.
const mostEntries = 200

// choose steps through a boot menu until it shows a slot, and starts that. A menu that shows its first entry again does not have the slot.
func (s *session) choose(ctx context.Context, words lineWords, m *Menu, slot string) error {
	doing := "choose " + slot + " in the boot menu"
	shown := func() string {
		all := m.Current.FindAllStringSubmatch(string(s.screen.text), -1)
		if len(all) == 0 {
			return ""
		}
		return device.Named(m.Current, all[len(all)-1])["slot"]
	}
	first := ""
	for range mostEntries {
		now := shown()
		switch {
		case now == "":
			return device.Fail(device.NotUnderstood, s.address, doing, "the menu does not show which entry is chosen; the last line was %q", s.lastLine())
		case now == slot:
			s.screen.clear()
			return s.send(m.Start)
		case now == first:
			return device.Fail(device.Refused, s.address, doing, "the menu has no such entry")
		case first == "":
			first = now
		}
		s.screen.clear()
		if err := s.send(m.Next); err != nil {
			return device.Fail(device.Lost, s.address, doing, "the line ended")
		}
		if at, err := s.await(ctx, words, consolePatience); err != nil || at != atLoader {
			return device.Fail(device.NotUnderstood, s.address, doing, "the menu does not go on; the last line was %q", s.lastLine())
		}
	}
	return device.Fail(device.NotUnderstood, s.address, doing, "the menu has no end")
}
