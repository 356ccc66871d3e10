package netconf

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"verimorph/device"
	"verimorph/device/link"
)

// Capabilities (RFC 6241, section 8).
const (
	base10          = "urn:ietf:params:netconf:base:1.0"
	base11          = "urn:ietf:params:netconf:base:1.1"
	writableRunning = "urn:ietf:params:netconf:capability:writable-running:1.0"
	candidateStore  = "urn:ietf:params:netconf:capability:candidate:1.0"
	confirmedCommit = "urn:ietf:params:netconf:capability:confirmed-commit:1.1"
	rollbackOnError = "urn:ietf:params:netconf:capability:rollback-on-error:1.0"
	startupStore    = "urn:ietf:params:netconf:capability:startup:1.0"
)

const netconfBase = "urn:ietf:params:xml:ns:netconf:base:1.0"

// session is a session with a device.
type session struct {
	messages
	address string
	can     []string // capabilities, without what stands behind a question mark
	id      int      // of the last message
	close   func()
}

// sessionLasts bounds all that is done in a session.
const sessionLasts = 2 * time.Minute

// open opens a session and exchanges hellos. The session ends with ctx.
func open(ctx context.Context, l link.Link, address, doing string) (*session, error) {
	limited, cancel := context.WithTimeout(ctx, sessionLasts)
	s, err := openFor(limited, limited, l, address, doing)
	if err != nil {
		cancel()
		return nil, err
	}
	end := s.close
	s.close = func() { end(); cancel() }
	return s, nil
}

// A device that gets our hello and the first rpc in one piece may lose that rpc (netconfd does). So the first one asks for something small, which can be
// asked again: a device that says nothing to it for firstWaits is asked over a new session, with a pause behind the hello.
const (
	firstRPC   = `<get><filter type="subtree"><netconf-state xmlns="` + ietfMonitoring + `"><datastores/></netconf-state></filter></get>`
	firstWaits = 5 * time.Second
	firstPause = time.Second
)

// openFor is open for a session that ends with life, while opening it ends with ctx.
func openFor(life, ctx context.Context, l link.Link, address, doing string) (*session, error) {
	s, err := openOnce(life, ctx, l, address, doing)
	if err != nil {
		return nil, err
	}
	lost := time.AfterFunc(firstWaits, s.close)
	err = s.first(ctx, doing)
	if lost.Stop() || ctx.Err() != nil {
		return s.opened(err)
	}
	if s, err = openOnce(life, ctx, l, address, doing); err != nil {
		return nil, err
	}
	select {
	case <-time.After(firstPause):
	case <-ctx.Done():
	}
	return s.opened(s.first(ctx, doing))
}

// opened is a session that answered, or why it is none.
func (s *session) opened(err error) (*session, error) {
	if err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

// first makes the first rpc of a session; what the device says to it does not matter.
func (s *session) first(ctx context.Context, doing string) error {
	defer context.AfterFunc(ctx, s.close)()
	_, err := s.call(firstRPC)
	var no rpcErrors
	switch {
	case err == nil || errors.As(err, &no):
		return nil
	case ctx.Err() != nil:
		return device.Fail(device.Silent, s.address, doing, "no answer in time")
	}
	return s.failed(err, doing)
}

// openOnce opens a session and exchanges hellos.
func openOnce(life, ctx context.Context, l link.Link, address, doing string) (*session, error) {
	life, cancel := context.WithCancel(life)
	defer context.AfterFunc(ctx, cancel)()
	stream, err := l.Subsystem(life, "netconf", doing)
	if err != nil {
		cancel()
		return nil, err
	}
	s := &session{messages: messages{in: stream.In, out: bufio.NewReaderSize(stream.Out, 4<<10)}, address: address, close: func() { stream.Close(); cancel() }}
	if err := s.hello(doing); err != nil {
		late := ctx.Err() != nil
		s.close()
		if late {
			err = device.Fail(device.Silent, address, doing, "no whole hello in time")
		}
		return nil, err
	}
	return s, nil
}

// within opens a session, does f, and closes it. Errors of f become those of a device.
func within(ctx context.Context, l link.Link, address, doing string, f func(*session) error) error {
	s, err := open(ctx, l, address, doing)
	if err != nil {
		return err
	}
	defer s.close()
	if err := f(s); err != nil {
		return s.failed(err, doing)
	}
	_, _ = s.call("<close-session/>")
	return nil
}

// failed is an error as one of the device: what it refused in its own words, anything else as a lost session.
func (s *session) failed(err error, doing string) error {
	var no rpcErrors
	switch {
	case device.KindOf(err) != "":
		return err
	case errors.As(err, &no):
		return device.Fail(no.kind(), s.address, doing, "the device says: %s", no)
	case errors.Is(err, errDocument):
		return device.Fail(device.NotUnderstood, s.address, doing, "%s", err)
	}
	return device.Fail(device.Lost, s.address, doing, "%s", err)
}

// hello exchanges capabilities (RFC 6241, section 8.1).
func (s *session) hello(doing string) error {
	if err := s.write(fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?><hello xmlns="%s"><capabilities><capability>%s</capability><capability>%s</capability></capabilities></hello>`, netconfBase, base10, base11)); err != nil {
		return device.Fail(device.Lost, s.address, doing, "%s", err)
	}
	said, err := s.read()
	if device.KindOf(err) != "" {
		return err
	}
	if err != nil {
		return device.Fail(device.Lost, s.address, doing, "no hello: %s", err)
	}
	var h struct {
		XMLName      xml.Name `xml:"hello"`
		Capabilities []string `xml:"capabilities>capability"`
	}
	if err := unmarshal(said, &h); err != nil {
		return device.Fail(device.NotUnderstood, s.address, doing, "its hello is none: %s", err)
	}
	for _, c := range h.Capabilities {
		c, _, _ = strings.Cut(strings.TrimSpace(c), "?")
		s.can = append(s.can, c)
	}
	if !s.has(base10) && !s.has(base11) {
		return device.Fail(device.NotUnderstood, s.address, doing, "it speaks no NETCONF that is known here")
	}
	s.chunked = s.has(base11)
	return nil
}

func (s *session) has(capability string) bool { return slices.Contains(s.can, capability) }

// errDocument is beneath every error about XML that is not taken.
var errDocument = errors.New("that is no XML that is taken")

// unmarshal reads XML without a document type: entities that a device declares are not expanded.
func unmarshal(text []byte, into any) error {
	d := xml.NewDecoder(bytes.NewReader(text))
	for {
		t, err := d.Token()
		if err != nil {
			return fmt.Errorf("%w: %s", errDocument, err)
		}
		if _, ok := t.(xml.Directive); ok {
			return fmt.Errorf("%w: it has a document type", errDocument)
		}
		if _, ok := t.(xml.StartElement); ok {
			break
		}
	}
	if err := xml.Unmarshal(text, into); err != nil {
		return fmt.Errorf("%w: %s", errDocument, err)
	}
	return nil
}

// rpcError is what a device says in rpc-error (RFC 6241, section 4.3).
type rpcError struct {
	Tag      string `xml:"error-tag"`
	Severity string `xml:"error-severity"`
	Path     string `xml:"error-path"`
	Message  string `xml:"error-message"`
	Holder   string `xml:"error-info>session-id"` // of a lock that is denied: the session that has it
}

type rpcErrors []rpcError

func (es rpcErrors) Error() string {
	var all []string
	for _, e := range es {
		text := strings.TrimSuffix(e.Tag+": "+strings.Join(strings.Fields(e.Message), " "), ": ")
		if path := strings.TrimSpace(e.Path); path != "" {
			text += ", at " + path
		}
		all = append(all, text)
	}
	return strings.Join(all, "; ")
}

// kind is that of the first error that passes by itself, or a refusal.
func (es rpcErrors) kind() device.ErrorKind {
	for _, e := range es {
		if slices.Contains([]string{"lock-denied", "in-use", "resource-denied"}, e.Tag) {
			return device.NotReady
		}
	}
	return device.Refused
}

// call makes one rpc and returns the whole reply. Errors of severity error are rpcErrors; warnings are none.
func (s *session) call(operation string) ([]byte, error) {
	s.id++
	if err := s.write(fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?><rpc message-id="%d" xmlns="%s">%s</rpc>`, s.id, netconfBase, operation)); err != nil {
		return nil, err
	}
	reply, err := s.read()
	if err != nil {
		return nil, err
	}
	var r struct {
		XMLName xml.Name  `xml:"rpc-reply"`
		ID      string    `xml:"message-id,attr"`
		Errors  rpcErrors `xml:"rpc-error"`
	}
	if err := unmarshal(reply, &r); err != nil {
		return nil, err
	}
	if r.ID != strconv.Itoa(s.id) {
		return nil, fmt.Errorf("a reply to message %q, not to %d", r.ID, s.id)
	}
	if bad := slices.DeleteFunc(r.Errors, func(e rpcError) bool { return e.Severity == "warning" }); len(bad) > 0 {
		return nil, bad
	}
	return reply, nil
}

// inside is what stands inside <data> of a reply, byte for byte.
func inside(reply []byte) ([]byte, error) {
	d := xml.NewDecoder(bytes.NewReader(reply))
	from, depth := int64(-1), 0
	for {
		before := d.InputOffset()
		t, err := d.Token()
		if err != nil {
			return nil, fmt.Errorf("%w: the reply has no data", errDocument)
		}
		switch t := t.(type) {
		case xml.StartElement:
			if depth++; depth == 2 && t.Name.Local == "data" {
				from = d.InputOffset()
			}
		case xml.EndElement:
			if depth == 2 && t.Name.Local == "data" {
				if from > before { // <data/>
					return nil, nil
				}
				return reply[from:before], nil
			}
			depth--
		}
	}
}

// get asks for state and configuration by a subtree filter (RFC 6241, sections 6 and 7.7), and reads what comes into a struct.
func (s *session) get(filter string, into any) error {
	reply, err := s.call(`<get><filter type="subtree">` + filter + `</filter></get>`)
	if err != nil {
		return err
	}
	return unmarshal(reply, into)
}
