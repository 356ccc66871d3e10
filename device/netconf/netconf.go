// Package netconf speaks NETCONF (RFC 6241) over SSH (RFC 6242). [Fetch] and [Replace] read and replace a datastore over any link; [Driver] is
// a driver for devices that offer NETCONF: it reads what they are from the standard models, keeps their configuration and puts it back, and
// restarts them. What the protocol has no standard way for is lacking, by name.
//
// # How a configuration is put
//
// Where the device has a candidate datastore, the new configuration goes there and is committed so that the device takes it back by itself; it is confirmed
// over a session of its own. Otherwise the running datastore is replaced, with a roll-back on errors where the device can. The datastores are locked meanwhile.
//
// # Errors
//
// What the device refuses is [device.Refused] in its own words, a lock that somebody else has [device.NotReady], XML that is not taken
// [device.NotUnderstood], and a session that ends [device.Lost].
package netconf

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"verimorph/device"
	"verimorph/device/link"
)

// Fetch reads a datastore (RFC 6241, section 7.1): what stands inside <data>, byte for byte.
func Fetch(ctx context.Context, l link.Link, address, datastore string) (data []byte, err error) {
	err = within(ctx, l, address, "get-config "+datastore, func(s *session) error {
		text, err := s.data(datastore)
		data = append(text, '\n')
		return err
	})
	return data, err
}

// confirmWithin is how many seconds a device waits for the confirmation of a new configuration before it takes it back by itself.
const confirmWithin = 120

// Replace replaces a datastore (RFC 6241, section 7.2, default-operation replace).
func Replace(ctx context.Context, l link.Link, address, datastore string, data []byte) error {
	doing := "edit-config " + datastore
	persist := ""
	err := within(ctx, l, address, doing, func(s *session) (err error) {
		if datastore == "running" && s.has(candidateStore) {
			persist, err = s.replaceByCandidate(data)
			return err
		}
		return s.replaceAtOnce(datastore, data)
	})
	if err != nil || persist == "" {
		return err
	}
	// Over a session of its own: that it comes about proves that the device can still be reached.
	err = within(ctx, l, address, "confirm the commit", func(s *session) error {
		_, err := s.call("<commit><persist-id>" + persist + "</persist-id></commit>")
		return err
	})
	if err != nil {
		return fmt.Errorf("the configuration was not confirmed, so the device takes the one before back within %d s: %w", confirmWithin, err)
	}
	return nil
}

// locked does f while datastores are locked (RFC 6241, section 7.5).
func (s *session) locked(datastores []string, f func() error) (err error) {
	for i, d := range datastores {
		if _, err := s.call("<lock><target><" + d + "/></target></lock>"); err != nil {
			s.unlock(datastores[:i])
			return s.named(err)
		}
	}
	defer s.unlock(datastores)
	return f()
}

func (s *session) unlock(datastores []string) {
	for _, d := range datastores {
		_, _ = s.call("<unlock><target><" + d + "/></target></unlock>") // the session's end unlocks, too
	}
}

func (s *session) replaceAtOnce(datastore string, data []byte) error {
	return s.locked([]string{datastore}, func() error {
		option := ""
		if s.has(rollbackOnError) {
			option = "<error-option>rollback-on-error</error-option>"
		}
		if _, err := s.call("<edit-config><target><" + datastore + "/></target><default-operation>replace</default-operation>" + option + "<config>" + string(data) + "</config></edit-config>"); err != nil {
			return err
		}
		return s.takeAway(datastore, data)
	})
}

// replaceByCandidate puts a configuration into the candidate datastore and commits it, which validates it (RFC 6241, section 8.3.4.1): to have it validated
// before makes some devices take the commit for one of nothing. persist names a commit that has to be confirmed; "" is one that is for good.
func (s *session) replaceByCandidate(data []byte) (persist string, err error) {
	err = s.locked([]string{"running", "candidate"}, func() error {
		steps := []string{"<discard-changes/>",
			"<edit-config><target><candidate/></target><default-operation>replace</default-operation><config>" + string(data) + "</config></edit-config>"}
		commit := "<commit/>"
		if s.has(confirmedCommit) {
			persist = "verimorph-" + strings.ToLower(rand.Text()[:12])
			commit = fmt.Sprintf("<commit><confirmed/><confirm-timeout>%d</confirm-timeout><persist>%s</persist></commit>", confirmWithin, persist)
		}
		for _, step := range steps {
			if _, err := s.call(step); err != nil {
				_, _ = s.call("<discard-changes/>") // the candidate is shared: nothing of ours stays in it
				return err
			}
		}
		if err := s.takeAway("candidate", data); err != nil {
			_, _ = s.call("<discard-changes/>")
			return err
		}
		return s.commit(commit)
	})
	if err != nil {
		persist = ""
	}
	return persist, err
}

// takeAway deletes what stands at the top of a datastore and not in a configuration that replaces it. Replacing is to do that (RFC 6241,
// section 7.2), but some devices replace only what they are given, and keep the rest.
func (s *session) takeAway(datastore string, wanted []byte) error {
	there, err := s.data(datastore)
	if err != nil {
		return err
	}
	has, err := tops(there)
	if err != nil {
		return err
	}
	keeps, err := tops(wanted)
	if err != nil {
		return err
	}
	for _, name := range has {
		if slices.Contains(keeps, name) {
			continue
		}
		var ns bytes.Buffer
		_ = xml.EscapeText(&ns, []byte(name.Space))
		_, err := s.call("<edit-config><target><" + datastore + `/></target><default-operation>none</default-operation><config><` + name.Local + ` xmlns="` + ns.String() + `" xmlns:nc="` + netconfBase + `" nc:operation="delete"/></config></edit-config>`)
		if err != nil {
			return fmt.Errorf("%s is in the datastore and not in the configuration that is put, and cannot be deleted: %w", name.Local, err)
		}
	}
	return nil
}

// tops are the names of the elements at the top of a configuration.
func tops(config []byte) (out []xml.Name, err error) {
	d := xml.NewDecoder(bytes.NewReader(config))
	for depth := 0; ; {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %s", errDocument, err)
		}
		switch e := t.(type) {
		case xml.StartElement:
			if depth++; depth == 1 {
				out = append(out, e.Name)
			}
		case xml.EndElement:
			depth--
		}
	}
}

// commit commits the candidate and looks whether that had an effect: a device that says "ok" and goes on as before would let a restore be called done.
func (s *session) commit(how string) error {
	before, err := s.data("running")
	if err != nil {
		return err
	}
	wanted, err := s.data("candidate")
	if err != nil {
		return err
	}
	if _, err := s.call(how); err != nil {
		_, _ = s.call("<discard-changes/>")
		return err
	}
	after, err := s.data("running")
	if err != nil {
		return err
	}
	if bytes.Equal(before, after) && !bytes.Equal(before, wanted) {
		_, _ = s.call("<discard-changes/>")
		return device.Fail(device.Refused, s.address, "commit", "the device says that it has committed, but its running configuration is as it was before")
	}
	return nil
}

// data is what stands in a datastore.
func (s *session) data(datastore string) ([]byte, error) {
	reply, err := s.call("<get-config><source><" + datastore + "/></source></get-config>")
	if err != nil {
		return nil, err
	}
	text, err := inside(reply)
	return bytes.TrimSpace(text), err
}

// save makes the running configuration the one of the next start (RFC 6241, section 8.7); a device without a startup datastore does that by itself.
func save(ctx context.Context, l link.Link, address string) error {
	return within(ctx, l, address, "copy-config", func(s *session) error {
		if !s.has(startupStore) {
			return nil
		}
		_, err := s.call("<copy-config><target><startup/></target><source><running/></source></copy-config>")
		return err
	})
}

// restart restarts a device (RFC 7317, system-restart).
func restart(ctx context.Context, l link.Link, address string) error {
	return within(ctx, l, address, "system-restart", func(s *session) error {
		_, err := s.call(`<system-restart xmlns="urn:ietf:params:xml:ns:yang:ietf-system"/>`)
		if err != nil && device.KindOf(s.failed(err, "system-restart")) == device.Lost {
			return nil // the session ends with it
		}
		return err
	})
}
