package calderpath

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"time"

	"verimorph/simfleet/box"
)

// The NETCONF side (RFC 6241): a candidate datastore, locks, and commits that are taken back unless they are confirmed.

const (
	base    = "urn:ietf:params:xml:ns:netconf:base:1.0"
	eom     = "]]>]]>"
	mostXML = 8 << 20
)

var capabilities = []string{"urn:ietf:params:netconf:base:1.0", "urn:ietf:params:netconf:base:1.1", "urn:ietf:params:netconf:capability:candidate:1.0",
	"urn:ietf:params:netconf:capability:confirmed-commit:1.1", "urn:ietf:params:netconf:capability:validate:1.1",
	"urn:ietf:params:xml:ns:yang:ietf-system?module=ietf-system&amp;revision=2014-08-06", "urn:ietf:params:xml:ns:yang:ietf-hardware?module=ietf-hardware&amp;revision=2018-03-13",
	"urn:ietf:params:xml:ns:yang:ietf-interfaces?module=ietf-interfaces&amp;revision=2018-02-20", packagesModel + "?module=calderpath-packages&amp;revision=2025-01-01"}

// store is what the sessions of a box share. Its fields are under the lock of the box.
type store struct {
	sessions  int
	lockedBy  map[string]int // datastore: session
	listeners map[int]func(event string)
	candidate *string
	before    string      // the configuration that comes back unless the commit is confirmed
	persist   string      // that has to be named to confirm it
	revert    *time.Timer // nil: nothing waits for a confirmation
}

// forget is what a restart does to it.
func (s *store) forget() {
	if s.revert != nil {
		s.revert.Stop()
	}
	s.lockedBy, s.candidate, s.revert = nil, nil, nil
}

// rpc is what a box understands of one message.
type rpc struct {
	ID        string `xml:"message-id,attr"`
	GetConfig *struct {
		Source which `xml:"source"`
	} `xml:"get-config"`
	Get *struct {
		Filter inner `xml:"filter"`
	} `xml:"get"`
	Edit *struct {
		Target which `xml:"target"`
		Config inner `xml:"config"`
	} `xml:"edit-config"`
	Lock     *target   `xml:"lock"`
	Unlock   *target   `xml:"unlock"`
	Discard  *struct{} `xml:"discard-changes"`
	Validate *struct{} `xml:"validate"`
	Commit   *struct {
		Confirmed *struct{} `xml:"confirmed"`
		Timeout   int       `xml:"confirm-timeout"`
		Persist   string    `xml:"persist"`
		PersistID string    `xml:"persist-id"`
	} `xml:"commit"`
	Remove *struct {
		File string `xml:"file"`
	} `xml:"remove-package"`
	Activate *struct {
		File string `xml:"file"`
	} `xml:"activate-package"`
	Subscribe *struct{} `xml:"create-subscription"`
	Restart   *struct{} `xml:"system-restart"`
	Bye       *struct{} `xml:"close-session"`
}

type inner struct {
	XML string `xml:",innerxml"`
}

type target struct {
	Target which `xml:"target"`
}

// which names a datastore.
type which struct {
	Running   *struct{} `xml:"running"`
	Candidate *struct{} `xml:"candidate"`
}

func (w which) name() string {
	switch {
	case w.Running != nil:
		return "running"
	case w.Candidate != nil:
		return "candidate"
	}
	return ""
}

// netconf answers one session.
func (b *Box) netconf(ch io.ReadWriter) {
	in := bufio.NewReader(ch)
	b.mu.Lock()
	b.nc.sessions++
	me := b.nc.sessions
	b.mu.Unlock()
	defer b.unlockAll(me)
	var writing sync.Mutex // replies and notifications
	chunked := false
	write := func(text string) {
		writing.Lock()
		defer writing.Unlock()
		if chunked { // two chunks, so that readers have to join them
			half := len(text) / 2
			fmt.Fprintf(ch, "\n#%d\n%s\n#%d\n%s\n##\n", half, text[:half], len(text)-half, text[half:])
		} else {
			fmt.Fprint(ch, text+eom)
		}
	}
	fmt.Fprintf(ch, `<hello xmlns="%s"><capabilities><capability>%s</capability></capabilities><session-id>%d</session-id></hello>%s`, base,
		strings.Join(capabilities, "</capability><capability>"), me, eom)
	hello, err := until(in, eom)
	if err != nil {
		return
	}
	chunked = strings.Contains(hello, "netconf:base:1.1")
	for {
		var msg string
		if chunked {
			msg, err = chunks(in)
		} else {
			msg, err = until(in, eom)
		}
		if err != nil {
			return
		}
		var r rpc
		if xml.Unmarshal([]byte(msg), &r) != nil {
			return
		}
		body := "<ok/>"
		if text, no := b.obey(me, &r); no != nil {
			body = fmt.Sprintf("<rpc-error><error-type>application</error-type><error-tag>%s</error-tag><error-severity>error</error-severity><error-message>%s</error-message></rpc-error>", no.tag, box.Escape(no.text))
		} else if text != "" {
			body = text
		}
		write(fmt.Sprintf(`<rpc-reply message-id="%s" xmlns="%s">%s</rpc-reply>`, r.ID, base, body))
		if r.Subscribe != nil {
			b.subscribe(me, func(event string) {
				write(fmt.Sprintf(`<notification xmlns="urn:ietf:params:xml:ns:netconf:notification:1.0"><eventTime>%s</eventTime>%s</notification>`,
					time.Now().Format(time.RFC3339), event))
			})
		}
		if r.Bye != nil {
			return
		}
	}
}

// refusal is an rpc-error.
type refusal struct{ tag, text string }

func no(tag, text string) (string, *refusal) { return "", &refusal{tag, text} }

// obey does what an rpc asks for.
func (b *Box) obey(me int, r *rpc) (string, *refusal) {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case r.GetConfig != nil && r.GetConfig.Source.name() == "running":
		return "<data>" + withoutHead(b.st.Config) + "</data>", nil
	case r.GetConfig != nil && r.GetConfig.Source.name() == "candidate":
		if b.nc.candidate != nil {
			return "<data>" + *b.nc.candidate + "</data>", nil
		}
		return "<data>" + withoutHead(b.st.Config) + "</data>", nil
	case r.Get != nil:
		return "<data>" + b.models(r.Get.Filter.XML) + "</data>", nil
	case r.Lock != nil:
		return b.lock(me, r.Lock.Target.name())
	case r.Unlock != nil:
		delete(b.nc.lockedBy, r.Unlock.Target.name())
		return "", nil
	case r.Edit != nil:
		return b.edit(me, r.Edit.Target.name(), r.Edit.Config.XML)
	case r.Discard != nil:
		b.nc.candidate = nil
		return "", nil
	case r.Commit != nil:
		return b.commit(me, r)
	case r.Remove != nil:
		return b.removePackage(r.Remove.File)
	case r.Activate != nil:
		return b.activatePackage(r.Activate.File)
	case r.Restart != nil:
		b.restart()
		return "", nil
	case r.Bye != nil || r.Validate != nil || r.Subscribe != nil:
		return "", nil
	}
	return no("operation-not-supported", "the router does not do that")
}

func (b *Box) lock(me int, name string) (string, *refusal) {
	if by, locked := b.nc.lockedBy[name]; locked {
		return no("lock-denied", fmt.Sprintf("session %d has the lock", by))
	}
	if b.nc.lockedBy == nil {
		b.nc.lockedBy = map[string]int{}
	}
	b.nc.lockedBy[name] = me
	return "", nil
}

// unlockAll is what the end of a session does.
func (b *Box) unlockAll(me int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.nc.listeners, me)
	for name, by := range b.nc.lockedBy {
		if by == me {
			delete(b.nc.lockedBy, name)
		}
	}
}

func (b *Box) edit(me int, name, config string) (string, *refusal) {
	if by, locked := b.nc.lockedBy[name]; locked && by != me {
		return no("in-use", fmt.Sprintf("session %d has the lock", by))
	}
	switch {
	case !strings.Contains(config, "<router"):
		return no("invalid-value", "there is no router in it")
	case name != "candidate":
		return no("operation-not-supported", "only the candidate is edited")
	}
	config = strings.TrimSpace(config)
	b.nc.candidate = &config
	return "", nil
}

// commit makes the candidate the running configuration, for good or until it is confirmed.
func (b *Box) commit(me int, r *rpc) (string, *refusal) {
	if by, locked := b.nc.lockedBy["running"]; locked && by != me {
		return no("in-use", fmt.Sprintf("session %d has the lock", by))
	}
	c := r.Commit
	if b.nc.revert != nil {
		if c.PersistID != b.nc.persist {
			return no("invalid-value", "another commit waits for its confirmation")
		}
		b.nc.revert.Stop()
		b.nc.revert = nil
		return "", nil
	}
	if c.PersistID != "" {
		return no("invalid-value", "no commit waits for a confirmation")
	}
	if b.nc.candidate == nil {
		return "", nil
	}
	b.happened(`<netconf-config-change xmlns="urn:ietf:params:xml:ns:yang:ietf-netconf-notifications"><changed-by><username>` + b.spec.User + `</username></changed-by><datastore>running</datastore></netconf-config-change>`)
	b.nc.before = b.st.Config
	b.st.Config, b.nc.candidate = *b.nc.candidate, nil
	if b.st.Faults.Hit(KeepsOld) {
		b.st.Config = b.nc.before
	}
	if c.Confirmed != nil {
		b.nc.persist = c.Persist
		b.nc.revert = time.AfterFunc(time.Duration(float64(max(c.Timeout, 1))*float64(time.Second)/b.factor)+time.Second, b.takeBack)
	}
	if b.save() != nil {
		return no("operation-failed", "cannot write")
	}
	return "", nil
}

// subscribe has a session hear what happens from now on. A box that was started with a fault says so to whoever listens.
func (b *Box) subscribe(me int, tell func(event string)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.nc.listeners == nil {
		b.nc.listeners = map[int]func(string){}
	}
	b.nc.listeners[me] = tell
	if b.st.Boots > 1 && b.st.Faults.Hit(Complains) {
		go tell(`<fault xmlns="urn:calderpath:faults"><severity>major</severity><text>the fan of slot 2 stands still</text></fault>`)
	}
}

// happened tells whoever listens; the caller holds the lock.
func (b *Box) happened(event string) {
	for _, tell := range b.nc.listeners {
		go tell(event)
	}
}

// takeBack is what happens to a commit that nobody confirmed.
func (b *Box) takeBack() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.nc.revert != nil {
		b.st.Config, b.nc.revert = b.nc.before, nil
		_ = b.save()
	}
}

// withoutHead is a document without its first line, which cannot stand inside another one.
func withoutHead(text string) string {
	if _, after, ok := strings.Cut(text, "?>"); ok {
		return after
	}
	return text
}

func until(in *bufio.Reader, end string) (string, error) {
	var msg bytes.Buffer
	for msg.Len() < mostXML {
		c, err := in.ReadByte()
		if err != nil {
			return "", err
		}
		msg.WriteByte(c)
		if c == '>' && bytes.HasSuffix(msg.Bytes(), []byte(end)) {
			return strings.TrimSuffix(msg.String(), end), nil
		}
	}
	return "", errors.New("too long")
}

func chunks(in *bufio.Reader) (string, error) {
	var msg strings.Builder
	for {
		var head string
		for range 2 { // LF # ... LF
			line, err := in.ReadString('\n')
			if err != nil {
				return "", err
			}
			if head = strings.TrimSpace(line); head != "" {
				break
			}
		}
		if head == "##" {
			return msg.String(), nil
		}
		n, err := strconv.Atoi(strings.TrimPrefix(head, "#"))
		if err != nil || n <= 0 || n > mostXML {
			return "", errors.New("a bad chunk")
		}
		data := make([]byte, n)
		if _, err := io.ReadFull(in, data); err != nil {
			return "", err
		}
		msg.Write(data)
	}
}
