// Package plainbox simulates boxes of several makers: what they are, how they give and take the parts of a backup (over
// NETCONF, over HTTP with a token, by sending and fetching files over FTP and TFTP, or typed at the console line), and how
// their firmware changes: in areas of which one is started, or in place with a return to the factory state. A box keeps
// everything on disk, takes its own time for it, and goes wrong as its faults say.
//
// Everything a box says is invented; nothing here is shared with the code that talks to boxes.
package plainbox

import (
	"bufio"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// A Spec says what a box is.
type Spec struct {
	Name, Maker, Model, Serial, Version string
	Older                               string // version in the other area; "" is empty
	OlderPasswords                      bool   // it has a password of its own
	Address                             string // host:port of its SSH side
	Line                                string // host:port of its console line; "": none
	LineOnly                            bool   // it has no other side
	User, Password, Config              string
	Lines                               map[string]string // boxes whose console lines are plugged into this one: name and host:port
	MediumDir                           string            // what a card holds that somebody puts in
}

// A Box is one simulated box.
type Box struct {
	OnVerb func(verb string) // hears of every command before it is carried out; nil: nobody

	Spec
	m      Manner
	dir    string
	factor float64
	log    *slog.Logger
	ln     net.Listener
	line   net.Listener
	web    *http.Server
	at     string // of the web side
	moves  string // address after the next start
	mu     sync.Mutex
	st     state
	conns  map[net.Conn]bool
	done   chan struct{}
}

type state struct {
	HostKey, Password, Token string
	Plate                    string // password of the factory state
	Parts                    map[string]string
	Started                  time.Time

	Areas               []area
	Running, Next, Once int // Once is -1 when none is chosen
	BootAt              time.Time
	Boots, Installs     int
	Sent                int // files that arrived whole
	Spoilt, Bricks      int // installations that another one spoilt, and starts from what cannot be started
	Components, Pending map[string]string
	CycledAt            time.Time
	Variables           map[string]string
	Resting             bool
	RestAt              time.Time
	Medium              bool
	Rights              []string // licences
	Mishaps             []string // what its records say went wrong
	Faults              map[string]Fault
}

func random() string { return strings.ToLower(rand.Text()[:16]) }

// Open loads a box from its folder, or makes a new one there. Time runs factor times faster.
func Open(spec Spec, dir string, factor float64, log *slog.Logger) (*Box, error) {
	m, ok := MannerOf(spec)
	if !ok {
		return nil, fmt.Errorf("no simulation for %s %s", spec.Maker, spec.Model)
	}
	b := &Box{Spec: spec, m: m, dir: dir, factor: max(factor, 1), log: log.With("box", spec.Name), conns: map[net.Conn]bool{}, done: make(chan struct{})}
	if err := os.MkdirAll(filepath.Join(dir, "files"), 0o700); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(b.file())
	if os.IsNotExist(err) {
		return b, b.Reset()
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, &b.st); err != nil {
		return nil, fmt.Errorf("%s: %w", b.file(), err)
	}
	if b.st.Rights == nil {
		b.st.Rights = slices.Clone(b.m.fw.rights)
	}
	if b.st.Areas == nil { // made before the firmware of such boxes could change
		b.unpackFirmware()
	}
	for i, a := range b.st.Areas {
		if a.State == "writing" { // the power went while it was written
			b.st.Areas[i].State = "broken"
		}
	}
	return b, b.save()
}

func (b *Box) file() string { return filepath.Join(b.dir, "state.json") }

// Reset unpacks the box anew; its ways in stay.
func (b *Box) Reset() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.st.HostKey == "" {
		b.st.HostKey, b.st.Token, b.st.Plate, b.st.Password = newHostKey(), random(), random(), b.Password
		if b.st.Password == "" {
			b.st.Password = random()
		}
	}
	b.st.Parts, b.st.Started = b.m.parts(b.Name, b.Serial), time.Now().Add(-time.Hour)
	b.st.Parts[b.m.main] = strings.ReplaceAll(b.Config, "{{random}}", random())
	b.unpackFirmware()
	if err := errors.Join(os.RemoveAll(filepath.Join(b.dir, "files")), os.MkdirAll(filepath.Join(b.dir, "files"), 0o700)); err != nil {
		return err
	}
	return b.save()
}

// unpackFirmware gives the box its first installations.
func (b *Box) unpackFirmware() {
	t := &b.m.fw
	b.st.Areas = []area{{Version: b.Version, State: "good"}}
	for i := 1; i < t.areas; i++ {
		a := area{State: "empty"}
		if b.Older != "" && i == 1 {
			a = area{Version: b.Older, State: "good", Config: b.st.Parts[b.m.main]}
			if b.OlderPasswords {
				a.Password = random()
			}
		}
		b.st.Areas = append(b.st.Areas, a)
	}
	b.st.Running, b.st.Next, b.st.Once = 0, 0, -1
	b.st.BootAt, b.st.Boots, b.st.Installs = time.Now().Add(-10*time.Hour), 1, 0
	b.st.Components, b.st.Variables = maps.Clone(t.components), maps.Clone(t.variables)
	b.st.Rights = slices.Clone(t.rights)
	b.st.Pending, b.st.Faults, b.st.Resting, b.st.Medium = map[string]string{}, map[string]Fault{}, false, false
}

func (b *Box) save() error {
	data, err := json.Marshal(&b.st)
	if err != nil {
		return err
	}
	if err := os.WriteFile(b.file()+".new", data, 0o600); err != nil {
		return err
	}
	return os.Rename(b.file()+".new", b.file())
}

// Part returns what lies under a name, for tests.
func (b *Box) Part(name string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.st.Parts[name]
}

// Change puts something else under a name, as somebody at the box would.
func (b *Box) Change(name, text string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Parts[name] = text
	return b.save()
}

// Ways says how to get into the box: password, token and address of its web side, and host key.
func (b *Box) Ways() (password, token, web, hostKey, dialect string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	key, err := ssh.ParsePrivateKey([]byte(b.st.HostKey))
	if err != nil {
		panic(err) // we wrote it ourselves
	}
	return b.st.Password, b.st.Token, b.at, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key.PublicKey()))), b.m.Dialect
}

// OlderWay returns the version in an area that has a password of its own, and that password; "" when there is none. Plate is the
// password of the factory state.
func (b *Box) OlderWay() (version, password, plate string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, a := range b.st.Areas {
		if i != b.st.Running && a.Password != "" {
			version, password = a.Version, a.Password
		}
	}
	if b.m.fw.reset {
		plate = b.st.Plate
	}
	return version, password, plate
}

// Start begins to answer: SSH on its address, the web side on the next port, and its console line. While the box is off,
// nothing answers at its addresses but the line.
func (b *Box) Start() (err error) {
	if b.Line != "" {
		if b.line, err = net.Listen("tcp", b.Line); err != nil {
			return fmt.Errorf("box %s: %w", b.Name, err)
		}
		go b.attend()
	}
	if b.LineOnly {
		return nil
	}
	if b.m.web {
		host, port, _ := net.SplitHostPort(b.Address)
		n, _ := strconv.Atoi(port)
		ln, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(n+1)))
		if err != nil {
			return fmt.Errorf("box %s: %w", b.Name, err)
		}
		b.at = "http://" + ln.Addr().String()
		b.web = &http.Server{Handler: http.HandlerFunc(b.answer), ReadHeaderTimeout: 5 * time.Second}
		go func() { _ = b.web.Serve(ln) }()
	}
	if err := b.door(); err != nil {
		return err
	}
	go b.tend()
	return nil
}

// tend opens and closes the box's address as it comes up and goes down.
func (b *Box) tend() {
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-b.done:
			return
		case <-tick.C:
		}
		if err := b.door(); err != nil {
			b.log.Error("cannot open the address again", "err", err)
		}
	}
}

func (b *Box) door() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	select {
	case <-b.done:
		return nil
	default:
	}
	up := b.phase() >= linkUp
	switch {
	case up && b.ln == nil:
		ln, err := net.Listen("tcp", b.Address)
		if err != nil {
			return fmt.Errorf("box %s: %w", b.Name, err)
		}
		b.ln = ln
		go func() {
			for {
				c, err := ln.Accept()
				if err != nil {
					return
				}
				go b.serve(c)
			}
		}()
	case !up && b.ln != nil:
		_ = b.ln.Close()
		b.ln = nil
	}
	return nil
}

// Stop cuts every connection.
func (b *Box) Stop() {
	b.mu.Lock()
	defer b.mu.Unlock()
	select {
	case <-b.done:
		return
	default:
		close(b.done)
	}
	for _, ln := range []net.Listener{b.ln, b.line} {
		if ln != nil {
			_ = ln.Close()
		}
	}
	if b.web != nil {
		_ = b.web.Close()
	}
	for c := range b.conns {
		_ = c.Close()
	}
}

// hold keeps a connection in mind, so that a restart ends it.
func (b *Box) hold(c net.Conn, on bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if on {
		b.conns[c] = true
	} else {
		delete(b.conns, c)
	}
}

// answer is the web side: parts are read and written under /parts/NAME, with the token.
func (b *Box) answer(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.phase() < loginUp {
		http.Error(w, "starting", http.StatusServiceUnavailable)
		return
	}
	if subtle.ConstantTimeCompare([]byte(r.Header.Get("Authorization")), []byte("Bearer "+b.st.Token)) != 1 {
		http.Error(w, "no", http.StatusUnauthorized)
		return
	}
	name, ok := strings.CutPrefix(r.URL.Path, "/parts/")
	if _, there := b.st.Parts[name]; !ok || !there {
		http.Error(w, "nothing of that name", http.StatusNotFound)
		return
	}
	if r.Method == http.MethodPut {
		data, err := io.ReadAll(io.LimitReader(r.Body, 8<<20))
		if err != nil || !json.Valid(data) {
			http.Error(w, "that is no JSON", http.StatusUnprocessableEntity)
			return
		}
		b.st.Parts[name] = string(data)
		_ = b.save()
		w.WriteHeader(http.StatusNoContent)
		return
	}
	_, _ = io.WriteString(w, b.st.Parts[name])
}

// usersLate reports whether the box does not know its users yet, though it answers. The caller holds the lock.
func (b *Box) usersLate() bool {
	f, ok := b.st.Faults[UsersLate]
	return ok && b.st.Boots > 1 && b.since() < b.m.fw.login+time.Duration(f.Value)*time.Second
}

// serial is the number of the unit that stands there. The caller holds the lock.
func (b *Box) serial() string {
	if _, swapped := b.st.Faults[SwappedUnit]; swapped {
		return b.Serial + "-SWAPPED"
	}
	return b.Serial
}

func (b *Box) serve(c net.Conn) {
	defer c.Close()
	b.hold(c, true)
	defer b.hold(c, false)
	b.mu.Lock()
	_, mute := b.st.Faults[Mute]
	early := b.phase() < loginUp
	b.mu.Unlock()
	if early {
		return
	}
	for mute { // it hangs up once it has found its voice again
		select {
		case <-b.done:
			return
		case <-time.After(50 * time.Millisecond):
		}
		b.mu.Lock()
		_, still := b.st.Faults[Mute]
		b.mu.Unlock()
		if !still {
			return
		}
	}
	cfg := &ssh.ServerConfig{MaxAuthTries: 3, PasswordCallback: func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		b.mu.Lock()
		defer b.mu.Unlock()
		if b.usersLate() || m.User() != b.User || subtle.ConstantTimeCompare(password, []byte(b.st.Password)) != 1 {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
	b.mu.Lock()
	hostKey := b.st.HostKey
	b.mu.Unlock()
	key, err := ssh.ParsePrivateKey([]byte(hostKey))
	if err != nil {
		return
	}
	cfg.AddHostKey(key)
	_, channels, requests, err := ssh.NewServerConn(c, cfg)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for nc := range channels {
		if nc.ChannelType() == "direct-tcpip" && b.m.passesOn {
			go passOn(nc)
			continue
		}
		ch, reqs, err := nc.Accept()
		if err != nil {
			return
		}
		go func() {
			for q := range reqs {
				ok := q.Type == "pty-req"
				switch {
				case q.Type == "shell":
					ok = true
					go b.shell(ch)
				case q.Type == "subsystem" && len(q.Payload) > 4 && string(q.Payload[4:]) == "netconf" && b.m.netconf:
					ok = true
					go b.netconf(ch)
				}
				if q.WantReply {
					_ = q.Reply(ok, nil)
				}
			}
		}()
	}
}

// passOn connects somebody who signed in here with another box (RFC 4254, section 7.2).
func passOn(nc ssh.NewChannel) {
	var to struct {
		Host       string
		Port       uint32
		OriginHost string
		OriginPort uint32
	}
	if ssh.Unmarshal(nc.ExtraData(), &to) != nil {
		_ = nc.Reject(ssh.ConnectionFailed, "where to?")
		return
	}
	far, err := net.DialTimeout("tcp", net.JoinHostPort(to.Host, fmt.Sprint(to.Port)), 3*time.Second)
	if err != nil {
		_ = nc.Reject(ssh.ConnectionFailed, "nothing answers there")
		return
	}
	defer far.Close()
	ch, reqs, err := nc.Accept()
	if err != nil {
		return
	}
	defer ch.Close()
	go ssh.DiscardRequests(reqs)
	ended := make(chan struct{}, 2)
	go func() { _, _ = io.Copy(ch, far); ended <- struct{}{} }()
	go func() { _, _ = io.Copy(far, ch); ended <- struct{}{} }()
	<-ended
}

// netconf answers get-config and edit-config of the running datastore (RFC 6241), with chunks when both sides can
// (RFC 6242, section 4.2).
func (b *Box) netconf(ch ssh.Channel) {
	defer ch.Close()
	in := bufio.NewReader(ch)
	const ns, end = "urn:ietf:params:xml:ns:netconf:base:1.0", "]]>]]>"
	fmt.Fprintf(ch, `<hello xmlns="%s"><capabilities><capability>urn:ietf:params:netconf:base:1.0</capability><capability>urn:ietf:params:netconf:base:1.1</capability></capabilities><session-id>7</session-id></hello>%s`, ns, end)
	hello, err := until(in, end)
	if err != nil {
		return
	}
	chunked := strings.Contains(hello, "netconf:base:1.1")
	for {
		var msg string
		if chunked {
			msg, err = chunks(in)
		} else {
			msg, err = until(in, end)
		}
		if err != nil {
			return
		}
		var rpc struct {
			ID  string `xml:"message-id,attr"`
			Get *struct {
				Source struct {
					Running *struct{} `xml:"running"`
				} `xml:"source"`
			} `xml:"get-config"`
			Edit *struct {
				Config struct {
					Inner string `xml:",innerxml"`
				} `xml:"config"`
			} `xml:"edit-config"`
			Bye *struct{} `xml:"close-session"`
		}
		body := "<ok/>"
		switch err := xml.Unmarshal([]byte(msg), &rpc); {
		case err != nil:
			return
		case rpc.Get != nil && rpc.Get.Source.Running != nil:
			text := b.Part(b.m.main)
			if _, after, ok := strings.Cut(text, "?>"); ok {
				text = after
			}
			body = "<data>" + text + "</data>"
		case rpc.Edit != nil:
			if !strings.Contains(rpc.Edit.Config.Inner, "<router") {
				body = "<rpc-error><error-type>application</error-type><error-tag>invalid-value</error-tag><error-severity>error</error-severity><error-message>there is no router in it</error-message></rpc-error>"
			} else if b.Change(b.m.main, rpc.Edit.Config.Inner) != nil {
				return
			}
		case rpc.Bye != nil:
		default:
			body = "<rpc-error><error-type>protocol</error-type><error-tag>operation-not-supported</error-tag><error-severity>error</error-severity></rpc-error>"
		}
		reply := fmt.Sprintf(`<rpc-reply message-id="%s" xmlns="%s">%s</rpc-reply>`, rpc.ID, ns, body)
		if chunked { // two chunks, so that readers have to join them
			half := len(reply) / 2
			fmt.Fprintf(ch, "\n#%d\n%s\n#%d\n%s\n##\n", half, reply[:half], len(reply)-half, reply[half:])
		} else {
			fmt.Fprint(ch, reply+end)
		}
		if rpc.Bye != nil {
			return
		}
	}
}

func until(in *bufio.Reader, end string) (string, error) {
	var msg strings.Builder
	for msg.Len() < 8<<20 {
		c, err := in.ReadByte()
		if err != nil {
			return "", err
		}
		msg.WriteByte(c)
		if c == '>' && strings.HasSuffix(msg.String(), end) {
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
			head = strings.TrimSpace(line)
			if head != "" {
				break
			}
		}
		if head == "##" {
			return msg.String(), nil
		}
		n, err := strconv.Atoi(strings.TrimPrefix(head, "#"))
		if err != nil || n <= 0 || n > 8<<20 {
			return "", errors.New("a bad chunk")
		}
		data := make([]byte, n)
		if _, err := io.ReadFull(in, data); err != nil {
			return "", err
		}
		msg.Write(data)
	}
}
