// Package plainbox simulates boxes that can be asked what they are, and that give and take the parts of a backup, each
// maker in its own way: over NETCONF, over HTTP with a token, or by sending and fetching files over FTP and TFTP. Their
// firmware does not change here. A box keeps its parts on disk.
//
// Everything a box says is invented; nothing here is shared with the code that talks to boxes.
package plainbox

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"encoding/pem"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pin/tftp/v3"
	"golang.org/x/crypto/ssh"

	"verimorph/simfleet/send"
)

// A Manner is how the boxes of a maker behave.
type Manner struct {
	Dialect string
	prompt  string // %s is the name
	who     string // asks what the box is
	give    string // verb that sends a part: VERB NAME ADDRESS
	take    string // verb that fetches one; "": none
	no      string // how a refusal begins
	main    string // name of the configuration among its parts
	netconf bool
	web     bool
	parts   func(name, serial string) map[string]string
}

// Manners are the makers that are simulated here.
var Manners = map[string]Manner{
	"Brackmoor": {Dialect: "brackmoor", prompt: "(%s) > ", who: "self", give: "hand", no: "cannot", main: "gateway.json", web: true, parts: func(name, serial string) map[string]string {
		return map[string]string{"accounts.json": fmt.Sprintf("{\"accounts\": [{\"name\": \"keeper\", \"word\": %q}]}\n", random()), "rights.json": fmt.Sprintf("{\"serial\": %q, \"services\": 40}\n", serial), "whole.bin": strings.Repeat("brackmoor whole "+name+"\n", 3000)}
	}},
	"Calderpath": {Dialect: "calderpath", prompt: "%s:: ", who: "identity", give: "post", no: "! ", main: "running", netconf: true, parts: func(string, string) map[string]string {
		return map[string]string{"keys.store": "key ring " + random() + random() + "\n"}
	}},
	"Pellworth": {Dialect: "pellworth", prompt: "%s ? ", who: "plate", give: "out", take: "in", no: "bad: ", main: "ramp.ini", parts: func(string, string) map[string]string {
		return map[string]string{"marks.map": "lower 0\nupper 8200\npark 400\n"}
	}},
}

// A Spec says what a box is.
type Spec struct {
	Name, Maker, Model, Serial, Version string
	Address                             string // host:port of its SSH side
	User, Password, Config              string
}

// A Box is one simulated box.
type Box struct {
	Spec
	m    Manner
	dir  string
	log  *slog.Logger
	ln   net.Listener
	web  *http.Server
	at   string // of the web side
	mu   sync.Mutex
	st   state
	done chan struct{}
}

type state struct {
	HostKey, Password, Token string
	Parts                    map[string]string
	Started                  time.Time
}

func random() string { return strings.ToLower(rand.Text()[:16]) }

// Open loads a box from its folder, or makes a new one there.
func Open(spec Spec, dir string, log *slog.Logger) (*Box, error) {
	m, ok := Manners[spec.Maker]
	if !ok {
		return nil, fmt.Errorf("no simulation for maker %q", spec.Maker)
	}
	b := &Box{Spec: spec, m: m, dir: dir, log: log.With("box", spec.Name), done: make(chan struct{})}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(b.file())
	if os.IsNotExist(err) {
		return b, b.Reset()
	}
	if err != nil {
		return nil, err
	}
	return b, json.Unmarshal(data, &b.st)
}

func (b *Box) file() string { return filepath.Join(b.dir, "state.json") }

// Reset unpacks the box anew; its ways in stay.
func (b *Box) Reset() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.st.HostKey == "" {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return err
		}
		block, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			return err
		}
		b.st.HostKey, b.st.Token, b.st.Password = string(pem.EncodeToMemory(block)), random(), b.Password
		if b.st.Password == "" {
			b.st.Password = random()
		}
	}
	b.st.Parts, b.st.Started = b.m.parts(b.Name, b.Serial), time.Now().Add(-time.Hour)
	b.st.Parts[b.m.main] = strings.ReplaceAll(b.Config, "{{random}}", random())
	return b.save()
}

func (b *Box) save() error {
	data, err := json.MarshalIndent(&b.st, "", " ")
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

// Start begins to answer: SSH on its address, and the web side on the next port.
func (b *Box) Start() (err error) {
	if b.ln, err = net.Listen("tcp", b.Address); err != nil {
		return fmt.Errorf("box %s: %w", b.Name, err)
	}
	if b.m.web {
		host, port, _ := net.SplitHostPort(b.Address)
		n, _ := strconv.Atoi(port)
		ln, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(n+1)))
		if err != nil {
			_ = b.ln.Close()
			return fmt.Errorf("box %s: %w", b.Name, err)
		}
		b.at = "http://" + ln.Addr().String()
		b.web = &http.Server{Handler: http.HandlerFunc(b.answer), ReadHeaderTimeout: 5 * time.Second}
		go func() { _ = b.web.Serve(ln) }()
	}
	go func() {
		for {
			c, err := b.ln.Accept()
			if err != nil {
				return
			}
			go b.serve(c)
		}
	}()
	return nil
}

// Stop cuts every connection.
func (b *Box) Stop() {
	close(b.done)
	if b.ln != nil {
		_ = b.ln.Close()
	}
	if b.web != nil {
		_ = b.web.Close()
	}
}

// answer is the web side: parts are read and written under /parts/NAME, with the token.
func (b *Box) answer(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
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

func (b *Box) serve(c net.Conn) {
	defer c.Close()
	go func() { <-b.done; _ = c.Close() }()
	cfg := &ssh.ServerConfig{MaxAuthTries: 3, PasswordCallback: func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		b.mu.Lock()
		defer b.mu.Unlock()
		if m.User() != b.User || subtle.ConstantTimeCompare(password, []byte(b.st.Password)) != 1 {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
	key, err := ssh.ParsePrivateKey([]byte(b.st.HostKey))
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

func (b *Box) shell(ch ssh.Channel) {
	defer ch.Close()
	in := bufio.NewReader(ch)
	for {
		fmt.Fprintf(ch, "\r\n"+b.m.prompt, b.Name)
		line, err := in.ReadString('\r')
		if err != nil {
			return
		}
		line = strings.TrimRight(line, "\r")
		fmt.Fprintf(ch, "%s\r\n", line) // echo
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		if err := b.obey(ch, words); err != nil {
			fmt.Fprintf(ch, "%s%s\r\n", b.m.no, err)
		}
	}
}

func (b *Box) obey(w io.Writer, words []string) error {
	switch {
	case words[0] == b.m.who && len(words) == 1:
		b.mu.Lock()
		started := b.st.Started
		b.mu.Unlock()
		for _, f := range [][2]string{{"name", b.Name}, {"maker", b.Maker}, {"model", b.Model}, {"serial", b.Serial}, {"release", b.Version}, {"since", started.UTC().Format(time.RFC3339)}} {
			fmt.Fprintf(w, "%s: %s\r\n", f[0], f[1])
		}
		return nil
	case words[0] == b.m.give && len(words) == 3:
		b.mu.Lock()
		text, ok := b.st.Parts[words[1]]
		b.mu.Unlock()
		u, err := url.Parse(words[2])
		if !ok || err != nil {
			return errors.New("what, and where to?")
		}
		if err := send.To(u, []byte(text), "ftp", "tftp"); err != nil {
			return fmt.Errorf("it does not go there: %w", err)
		}
		fmt.Fprintf(w, "%d bytes are out\r\n", len(text))
		return nil
	case b.m.take != "" && words[0] == b.m.take && len(words) == 3:
		u, err := url.Parse(words[2])
		if err != nil || u.Scheme != "tftp" {
			return errors.New("where from?")
		}
		c, err := tftp.NewClient(u.Host)
		if err != nil {
			return err
		}
		from, err := c.Receive(strings.TrimPrefix(u.Path, "/"), "octet")
		if err != nil {
			return err
		}
		var data bytes.Buffer
		if _, err := from.WriteTo(&data); err != nil {
			return err
		}
		return b.Change(words[1], data.String())
	}
	return fmt.Errorf("%q means nothing here", words[0])
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
