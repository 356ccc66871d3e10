package netconf

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// What a device tells of its own NETCONF side (ietf-netconf-monitoring, RFC 6022): who has a lock that is in the way.

const ietfMonitoring = "urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring"

// A holder is a session, as ietf-netconf-monitoring tells of it.
type holder struct {
	ID        string `xml:"session-id"`
	Transport string `xml:"transport"`
	User      string `xml:"username"`
	Host      string `xml:"source-host"`
	Since     string `xml:"login-time"`
}

// sessionsOfAll is what ietf-netconf-monitoring tells of sessions.
type sessionsOfAll struct {
	All []holder `xml:"data>netconf-state>sessions>session"`
}

// named adds who has the lock to the error of a lock that was denied, where the device tells it.
func (s *session) named(err error) error {
	var no rpcErrors
	if !errors.As(err, &no) {
		return err
	}
	i := slices.IndexFunc(no, func(e rpcError) bool { return e.Tag == "lock-denied" })
	if i < 0 {
		return err
	}
	id := strings.TrimSpace(no[i].Holder)
	switch {
	case id == "0": // RFC 6241, section 7.5
		no[i].Message += "; somebody has the lock who does not speak NETCONF, as on the command line"
		return no
	case id == "":
		return err
	}
	var told sessionsOfAll
	if s.get(`<netconf-state xmlns="`+ietfMonitoring+`"><sessions/></netconf-state>`, &told) != nil {
		return err // that the lock is denied is what counts
	}
	if k := slices.IndexFunc(told.All, func(h holder) bool { return strings.TrimSpace(h.ID) == id }); k >= 0 {
		no[i].Message += fmt.Sprintf("; session %s has the lock: %s", id, told.All[k])
	}
	return no
}

func (h holder) String() string {
	user := strings.TrimSpace(h.User)
	if user == "" {
		user = "a user that it does not name"
	}
	if from := strings.TrimSpace(h.Host); from != "" {
		user += " from " + from
	}
	if since := strings.TrimSpace(h.Since); since != "" {
		user += ", since " + since
	}
	return user
}
