package device

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"verimorph/core/backup"
	"verimorph/core/config"
)

// How a part is fetched, and how it is put back.
const (
	BySFTP     = "sftp"
	BySCP      = "scp"
	ByCLI      = "cli"       // the answer to a command is the part
	ByNETCONF  = "netconf"   // get-config of a datastore (RFC 6241, section 7.1)
	ByHTTP     = "http"      // GET and PUT
	PushSFTP   = "push-sftp" // the device sends it to our receiver
	PushFTP    = "push-ftp"
	PushTFTP   = "push-tftp"
	PullHTTP   = "pull-http" // the device fetches it from us
	PullTFTP   = "pull-tftp"
	ByPortrait = "portrait" // ours: what the device was
)

var (
	fetchWays = []string{BySFTP, BySCP, ByCLI, ByNETCONF, ByHTTP, PushSFTP, PushFTP, PushTFTP}
	putWays   = []string{BySFTP, BySCP, ByCLI, ByNETCONF, ByHTTP, PullHTTP, PullTFTP}
)

// A PartSource says how one part of a backup is fetched from a kind of device.
type PartSource struct {
	Name     string  `yaml:"part"`
	Title    string  `yaml:"title"`
	Kind     string  `yaml:"kind"`
	File     string  `yaml:"file"`     // exact name under which the device knows it
	Syntax   string  `yaml:"syntax"`   // of a configuration: block-indent, braces ...
	By       string  `yaml:"by"`       // sftp, scp, cli, netconf, http, push-sftp, push-ftp, push-tftp
	Path     string  `yaml:"path"`     // where it is read, when that is not file; for netconf the datastore
	Send     string  `yaml:"send"`     // command of cli and push; {url} is where the device sends it
	Raised   bool    `yaml:"raised"`   // the command needs the privileged level
	Wait     float64 `yaml:"wait"`     // seconds of silence allowed
	Match    Pattern `yaml:"match"`    // of cli: group content is the part; the whole answer without it
	Margin   string  `yaml:"margin"`   // of cli: what stands before each of its lines and is not part of it
	Fields   Pattern `yaml:"fields"`   // of push: groups size and sha256 are what the device says it sent
	Optional bool    `yaml:"optional"` // not every device has it: refused or not there is no lack
	Restore  *Put    `yaml:"restore"`  // left out: it is kept, but not put back
}

// A Put says how a part is put back.
type Put struct {
	By      string  `yaml:"by"`
	Path    string  `yaml:"path"`   // where it is put before send; file when left out
	Send    string  `yaml:"send"`   // command that makes the device use it; {file} is path, {url} where the device fetches it
	Raised  bool    `yaml:"raised"` //
	Wait    float64 `yaml:"wait"`
	Save    bool    `yaml:"save"`    // the configuration has to be saved afterwards
	Restart bool    `yaml:"restart"` // it takes effect with the next start
	Ask     Pattern `yaml:"ask"`     // of cli: how it asks for the lines of the part
	End     string  `yaml:"end"`     // of cli: the line that ends them
	Remove  bool    `yaml:"remove"`  // what lies at path is to be removed afterwards
}

// checkParts finds what is wrong with a dialect's parts.
func (d *Dialect) checkParts() error {
	seen, files := map[string]bool{}, map[string]bool{}
	for i := range d.Backup {
		p := &d.Backup[i]
		wrong := func(format string, args ...any) error {
			return fmt.Errorf("backup: part %q: %s", p.Name, fmt.Sprintf(format, args...))
		}
		if p.Path == "" {
			p.Path = p.File
		}
		switch {
		case p.Name == "" || seen[p.Name]:
			return wrong("each part has a name of its own")
		case p.Title == "":
			return wrong("a title is missing")
		case !slices.Contains(backup.Kinds, p.Kind):
			return wrong("kind %q is none of %s", p.Kind, strings.Join(backup.Kinds, ", "))
		case !backup.SafeFile(p.File) || files[p.File]:
			return wrong("file %q is no file name, or there twice", p.File)
		case !slices.Contains(fetchWays, p.By):
			return wrong("by %q is none of %s", p.By, strings.Join(fetchWays, ", "))
		case (p.By == ByCLI || strings.HasPrefix(p.By, "push-")) && p.Send == "":
			return wrong("by %s needs a command to send", p.By)
		case strings.HasPrefix(p.By, "push-") && !strings.Contains(p.Send, "{url}"):
			return wrong("the command does not say {url}, where the device sends it")
		case p.Syntax != "" && !slices.Contains(config.Syntaxes, p.Syntax):
			return wrong("syntax %q is not known", p.Syntax)
		}
		if r := p.Restore; r != nil {
			if r.Path == "" {
				r.Path = p.Path
			}
			switch {
			case !slices.Contains(putWays, r.By):
				return wrong("restore: by %q is none of %s", r.By, strings.Join(putWays, ", "))
			case r.By == ByCLI && (r.Send == "" || r.Ask.Regexp == nil || r.End == ""):
				return wrong("restore: by cli needs send, ask and end")
			case strings.HasPrefix(r.By, "pull-") && !strings.Contains(r.Send, "{url}"):
				return wrong("restore: the command does not say {url}, where the device fetches it")
			}
		}
		seen[p.Name], files[p.File] = true, true
	}
	return nil
}

// Part returns the dialect's part of that name, or nil.
func (d *Dialect) Part(name string) *PartSource {
	for i := range d.Backup {
		if d.Backup[i].Name == name {
			return &d.Backup[i]
		}
	}
	return nil
}

// An Exchange lets devices send files to us and fetch files from us. transfer.Intake is one.
type Exchange interface {
	// Expect returns a URL of a scheme (sftp, ftp or tftp) to which one file may be sent, and a function that waits for it.
	Expect(scheme string, limit int64) (url string, wait func(context.Context) ([]byte, error), withdraw func(), err error)
	// OfferData returns a URL of a scheme (http or tftp) from which one file may be fetched.
	OfferData(scheme string, data []byte) (url string, withdraw func(), err error)
	// OfferFile is OfferData for a file, over http at most for d.
	OfferFile(scheme, file string, d time.Duration) (url string, withdraw func(), err error)
	// Came reports whether somebody came for what is offered at an address that was not withdrawn yet.
	Came(url string) bool
}

// FetchPart fetches one part and proves that it is whole: by the device's own checksum, or by fetching it twice. It
// returns the content and how it was proved.
func (c *Client) FetchPart(ctx context.Context, p *PartSource) (data []byte, proof string, err error) {
	doing := "fetch " + p.File
	if c.term != nil {
		defer c.term.heard.private(p.File)()
	}
	first, claim, err := c.fetchOnce(ctx, p)
	if err != nil {
		return nil, "", err
	}
	if len(bytes.TrimSpace(first)) == 0 {
		return nil, "", &Error{NotUnderstood, c.t.Address, doing, "what came is empty"}
	}
	if claim != nil { // the device said what it sent
		if claim["size"] != "" && claim["size"] != strconv.Itoa(len(first)) {
			return nil, "", &Error{NotUnderstood, c.t.Address, doing, fmt.Sprintf("the device says it sent %s bytes, but %d came", claim["size"], len(first))}
		}
		if sum := sha256.Sum256(first); claim["sha256"] != "" {
			if claim["sha256"] != hex.EncodeToString(sum[:]) {
				return nil, "", &Error{NotUnderstood, c.t.Address, doing, "what came has not the SHA-256 sum that the device gives"}
			}
			return first, "the device's own SHA-256", nil
		}
	}
	second, _, err := c.fetchOnce(ctx, p)
	if err != nil {
		return nil, "", err
	}
	if !bytes.Equal(first, second) {
		return nil, "", &Error{NotUnderstood, c.t.Address, doing, "two readings in a row differ; somebody is changing it, or the transfer is damaged"}
	}
	return first, "read twice", nil
}

// fetchOnce fetches a part. claim is what the device says about what it sent; nil when it says nothing.
func (c *Client) fetchOnce(ctx context.Context, p *PartSource) (data []byte, claim map[string]string, err error) {
	switch p.By {
	case BySFTP:
		data, err = c.readFile(p.Path)
	case BySCP:
		data, err = c.scpGet(ctx, p.Path)
	case ByCLI:
		data, err = c.ask(ctx, p)
	case ByNETCONF:
		data, err = c.getConfig(ctx, p.Path)
	case ByHTTP:
		data, err = c.httpDo(ctx, http.MethodGet, p.Path, nil)
	default:
		return c.receive(ctx, p)
	}
	return data, nil, err
}

// ask takes the answer to a command as the part.
func (c *Client) ask(ctx context.Context, p *PartSource) ([]byte, error) {
	text, err := c.query(ctx, Query{Send: p.Send, Raised: p.Raised, Wait: p.Wait, whole: p.Match.Regexp == nil && p.Margin == ""}, nil, nil)
	if err != nil {
		return nil, err
	}
	if p.Match.Regexp != nil {
		g := p.Match.FindStringSubmatch(text)
		if g == nil {
			return nil, &Error{NotUnderstood, c.t.Address, p.Send, fmt.Sprintf("the answer does not fit the dialect %s; it begins %.80q", c.t.Dialect.Name, text)}
		}
		text = g[max(p.Match.SubexpIndex("content"), 0)]
	}
	if p.Margin != "" {
		var out strings.Builder
		for _, l := range strings.SplitAfter(text, "\n") {
			if l, ok := strings.CutPrefix(l, p.Margin); ok {
				out.WriteString(l)
			}
		}
		text = out.String()
	}
	return []byte(text), nil
}

// receiveLimit is how long a file may take to arrive after the device says it has sent it.
const receiveLimit = 15 * time.Second

// receive has the device send a part to us.
func (c *Client) receive(ctx context.Context, p *PartSource) ([]byte, map[string]string, error) {
	if c.t.Exchange == nil {
		return nil, nil, &Error{Refused, c.t.Address, "receive " + p.File, "this service has no receiver; start it with -receive-base"}
	}
	url, wait, withdraw, err := c.t.Exchange.Expect(strings.TrimPrefix(p.By, "push-"), backupLimit)
	if err != nil {
		return nil, nil, &Error{Refused, c.t.Address, "receive " + p.File, err.Error()}
	}
	defer withdraw()
	text, err := c.query(ctx, Query{Send: p.Send, Raised: p.Raised, Wait: p.Wait}, map[string]string{"url": url}, nil)
	if err != nil {
		return nil, nil, hideURL(err, url)
	}
	limited, cancel := context.WithTimeout(ctx, receiveLimit)
	defer cancel()
	data, err := wait(limited)
	if err != nil {
		return nil, nil, &Error{NotUnderstood, c.t.Address, "receive " + p.File, "the device says it has sent it, but " + err.Error()}
	}
	return data, p.Fields.groups(text), nil
}

// hideURL takes an address that lets somebody in out of an error.
func hideURL(err error, url string) error {
	if e, ok := err.(*Error); ok {
		e.Doing, e.Message = strings.ReplaceAll(e.Doing, url, "..."), strings.ReplaceAll(e.Message, url, "...")
	}
	return err
}

// backupLimit bounds a part in bytes.
const backupLimit = 256 << 20

// PutPart puts a part back under its exact name and has the device use it. What it takes afterwards (saving, restarting)
// is for the caller.
func (c *Client) PutPart(ctx context.Context, p *PartSource, data []byte) (err error) {
	r := p.Restore
	if r == nil {
		return &Error{Refused, c.t.Address, "put " + p.File, "this part cannot be put back on a device of this kind"}
	}
	args := map[string]string{"file": r.Path}
	if c.term != nil {
		defer c.term.heard.private(p.File)()
	}
	switch r.By {
	case ByCLI:
		return c.typePart(ctx, r, data)
	case BySFTP:
		err = c.writeFile(r.Path, data)
	case BySCP:
		err = c.scpPut(ctx, r.Path, data)
	case ByNETCONF:
		err = c.putConfig(ctx, r.Path, data)
	case ByHTTP:
		_, err = c.httpDo(ctx, http.MethodPut, r.Path, data)
	case PullHTTP, PullTFTP:
		if c.t.Exchange == nil {
			return &Error{Refused, c.t.Address, "put " + p.File, "this service has no receiver; start it with -receive-base"}
		}
		url, withdraw, e := c.t.Exchange.OfferData(strings.TrimPrefix(r.By, "pull-"), data)
		if e != nil {
			return &Error{Refused, c.t.Address, "put " + p.File, e.Error()}
		}
		defer withdraw()
		args["url"] = url
		defer func() { err = hideURL(err, url) }()
	}
	if err == nil && r.Send != "" {
		_, err = c.query(ctx, Query{Send: r.Send, Raised: r.Raised, Wait: r.Wait}, args, nil)
	}
	if r.Remove && (r.By == BySFTP || r.By == BySCP) {
		// Also when the device refused it: what is put back may hold secrets, and must not be left lying.
		clean, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer cancel()
		if e := c.RemoveFile(clean, r.Path); err == nil {
			err = e
		}
	}
	return err
}

// typePart types a part line by line, as somebody at the console would.
func (c *Client) typePart(ctx context.Context, r *Put, data []byte) error {
	text := strings.TrimSuffix(string(data), "\n")
	for _, l := range strings.Split(text, "\n") {
		if l == r.End || strings.ContainsAny(l, "\r\x00\x03\x04") {
			return &Error{Refused, c.t.Address, r.Send, fmt.Sprintf("the line %.40q cannot be typed", l)}
		}
	}
	_, err := c.query(ctx, Query{Send: r.Send, Raised: r.Raised, Wait: r.Wait, Ask: r.Ask, Answer: strings.ReplaceAll(text, "\n", "\r") + "\r" + r.End}, nil, nil)
	return err
}

func (c *Client) writeFile(name string, data []byte) error {
	fail := func(err error) error {
		kind := Lost
		if strings.Contains(strings.ToLower(err.Error()), "no room") || strings.Contains(strings.ToLower(err.Error()), "no space") {
			kind = NoRoom
		}
		return &Error{kind, c.t.Address, "put " + name, err.Error()}
	}
	files, err := c.SFTP()
	if err != nil {
		return err
	}
	f, err := files.Create(name)
	if err != nil {
		return fail(err)
	}
	_, err = f.Write(data)
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return fail(err)
	}
	got, err := c.readFile(name)
	if err != nil {
		return err
	}
	if !bytes.Equal(got, data) {
		return &Error{Lost, c.t.Address, "put " + name, fmt.Sprintf("reading it back gives %d other bytes", len(got))}
	}
	return nil
}

// httpDo makes one call to the device's HTTP side, with its token or its password (RFC 6750, RFC 7617).
func (c *Client) httpDo(ctx context.Context, method, path string, body []byte) ([]byte, error) {
	doing := method + " " + path
	if c.t.Web == "" {
		return nil, &Error{Refused, c.t.Address, doing, "no web address is known for the device; give it one with: verimorph device set NAME -web URL"}
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimRight(c.t.Web, "/")+"/"+strings.TrimLeft(path, "/"), bytes.NewReader(body))
	if err != nil {
		return nil, &Error{Refused, c.t.Address, doing, "the web address cannot be used"}
	}
	switch {
	case c.t.Token != "":
		if !c.tokenUsed && c.t.Used != nil {
			c.tokenUsed = true
			c.t.Used(SignIn{ID: c.t.TokenID}, false)
		}
		req.Header.Set("Authorization", "Bearer "+c.t.Token)
	case c.in != nil && c.in.Password != "":
		req.SetBasicAuth(c.in.User, c.in.Password)
	}
	client := &http.Client{Timeout: 2 * time.Minute, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := client.Do(req)
	if err != nil {
		return nil, &Error{Unreachable, c.t.Address, doing, "its HTTP side does not answer"}
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, backupLimit+1))
	switch {
	case err != nil:
		return nil, &Error{Lost, c.t.Address, doing, "the answer broke off after " + strconv.Itoa(len(data)) + " bytes"}
	case len(data) > backupLimit:
		return nil, &Error{NotUnderstood, c.t.Address, doing, fmt.Sprintf("the answer is larger than %d MiB", backupLimit>>20)}
	case resp.StatusCode == http.StatusUnauthorized:
		return nil, &Error{SignInRefused, c.t.Address, doing, "the token or password is not accepted"}
	case resp.StatusCode == http.StatusServiceUnavailable:
		return nil, &Error{NotReady, c.t.Address, doing, "the device is not ready"}
	case resp.StatusCode >= 300:
		return nil, &Error{Refused, c.t.Address, doing, fmt.Sprintf("the device answers %s: %.200s", resp.Status, bytes.TrimSpace(data))}
	}
	return data, nil
}

// scpGet reads a file in the way of scp -f: the device announces mode, size and name, then sends the bytes.
func (c *Client) scpGet(ctx context.Context, name string) ([]byte, error) {
	doing := "scp " + name
	var data []byte
	err := c.scp(ctx, "scp -f "+name, doing, func(in io.Writer, out io.Reader) error {
		if _, err := in.Write([]byte{0}); err != nil {
			return err
		}
		line, err := scpLine(out)
		if err != nil {
			return err
		}
		if line[0] == 1 || line[0] == 2 {
			return &Error{Refused, c.t.Address, doing, "the device says: " + strings.TrimSpace(line[1:])}
		}
		words := strings.SplitN(line, " ", 3)
		size := int64(-1)
		if len(words) == 3 {
			size, _ = strconv.ParseInt(words[1], 10, 64)
		}
		if line[0] != 'C' || size < 0 || size > backupLimit {
			return &Error{NotUnderstood, c.t.Address, doing, fmt.Sprintf("%.80q announces no file", line)}
		}
		if _, err := in.Write([]byte{0}); err != nil {
			return err
		}
		data = make([]byte, size)
		if n, err := io.ReadFull(out, data); err != nil {
			return fmt.Errorf("%d of %d bytes came", n, size)
		}
		end := make([]byte, 1)
		if _, err := io.ReadFull(out, end); err != nil || end[0] != 0 {
			return fmt.Errorf("the device does not confirm the end of the file")
		}
		_, err = in.Write([]byte{0})
		return err
	})
	return data, err
}

// scpPut writes a file in the way of scp -t.
func (c *Client) scpPut(ctx context.Context, name string, data []byte) error {
	doing := "scp " + name
	return c.scp(ctx, "scp -t "+name, doing, func(in io.Writer, out io.Reader) error {
		confirmed := func() error {
			b := make([]byte, 1)
			if _, err := io.ReadFull(out, b); err != nil {
				return err
			}
			if b[0] != 0 {
				line, _ := scpLine(out)
				return &Error{Refused, c.t.Address, doing, "the device says: " + strings.TrimSpace(line)}
			}
			return nil
		}
		if err := confirmed(); err != nil {
			return err
		}
		if _, err := fmt.Fprintf(in, "C0600 %d %s\n", len(data), name[strings.LastIndexByte(name, '/')+1:]); err != nil {
			return err
		}
		if err := confirmed(); err != nil {
			return err
		}
		if _, err := in.Write(append(bytes.Clone(data), 0)); err != nil {
			return err
		}
		return confirmed()
	})
}

// onlyLine is the error of what needs more than a console line.
func (c *Client) onlyLine(doing string) error {
	return &Error{Refused, c.t.Address, doing, "there is only a console line, which cannot carry that; reach the device over SSH, or declare a way of its dialect that works on the command line"}
}

func scpLine(r io.Reader) (string, error) {
	var line []byte
	b := make([]byte, 1)
	for len(line) < 2048 {
		if _, err := io.ReadFull(r, b); err != nil {
			return "", err
		}
		if b[0] == '\n' && len(line) > 0 {
			return string(line), nil
		}
		line = append(line, b[0])
	}
	return "", fmt.Errorf("a line without end")
}

func (c *Client) scp(ctx context.Context, command, doing string, talk func(in io.Writer, out io.Reader) error) error {
	lost := func(err error) error {
		if e, ok := err.(*Error); ok {
			return e
		}
		return &Error{Lost, c.t.Address, doing, err.Error()}
	}
	if !safeArgument.MatchString(command[len("scp -f "):]) {
		return &Error{NotUnderstood, c.t.Address, doing, "the name cannot be part of a command"}
	}
	if c.conn == nil {
		return c.onlyLine(doing)
	}
	s, err := c.conn.NewSession()
	if err != nil {
		return lost(err)
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, func() { _ = s.Close() })
	defer stop()
	in, err := s.StdinPipe()
	if err != nil {
		return lost(err)
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return lost(err)
	}
	if err := s.Start(command); err != nil {
		return &Error{Refused, c.t.Address, doing, "the device has no scp"}
	}
	if err := talk(in, out); err != nil {
		return lost(err)
	}
	return nil
}
