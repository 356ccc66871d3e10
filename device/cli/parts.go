package cli

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"verimorph/device"
	"verimorph/device/link"
	"verimorph/device/netconf"
)

// How a part is fetched, and how it is put back.
const (
	BySFTP    = "sftp"
	BySCP     = "scp"
	ByCLI     = device.ByCLI     // the answer to a command is the part
	ByNETCONF = device.ByNETCONF // get-config of a datastore (RFC 6241, section 7.1)
	ByHTTP    = "http"           // GET and PUT
	PushSFTP  = "push-sftp"      // the device sends it to our receiver
	PushFTP   = "push-ftp"
	PushTFTP  = "push-tftp"
	PullHTTP  = "pull-http" // the device fetches it from us
	PullTFTP  = "pull-tftp"
)

var (
	fetchWays = []string{BySFTP, BySCP, ByCLI, ByNETCONF, ByHTTP, device.ByGNOI, device.ByRESTCONF, PushSFTP, PushFTP, PushTFTP}
	putWays   = []string{BySFTP, BySCP, ByCLI, ByNETCONF, ByHTTP, device.ByGNOI, device.ByRESTCONF, PullHTTP, PullTFTP}
)

// A PartSource says how one part of a backup is fetched from a kind of device.
type PartSource struct {
	Name     string         `yaml:"part"`
	Title    string         `yaml:"title"`
	Kind     string         `yaml:"kind"`
	File     string         `yaml:"file"`     // exact name under which the device knows it
	Syntax   string         `yaml:"syntax"`   // of a configuration: block-indent, braces ...
	By       string         `yaml:"by"`       // sftp, scp, cli, netconf, http, gnoi, restconf, push-sftp, push-ftp, push-tftp
	Path     string         `yaml:"path"`     // where it is read, when that is not file; for netconf the datastore
	Send     string         `yaml:"send"`     // command of cli and push; {url} is where the device sends it
	Raised   bool           `yaml:"raised"`   // the command needs the privileged level
	Mode     string         `yaml:"mode"`     // in which the command is said
	Wait     float64        `yaml:"wait"`     // seconds of silence allowed
	Match    device.Pattern `yaml:"match"`    // of cli: group content is the part; the whole answer without it
	Margin   string         `yaml:"margin"`   // of cli: what stands before each of its lines and is not part of it
	Fields   device.Pattern `yaml:"fields"`   // of push: groups size and sha256 are what the device says it sent
	Role     string         `yaml:"role"`     // running or saved; parts of these names have that role by themselves
	Varies   device.Pattern `yaml:"varies"`   // lines that differ from one time of fetching to the next
	Optional bool           `yaml:"optional"` // not every device has it: refused or not there is no lack
	Restore  *Put           `yaml:"restore"`  // left out: it is kept, but not put back
}

// A Put says how a part is put back.
type Put struct {
	By      string         `yaml:"by"`
	Path    string         `yaml:"path"` // where it is put before send; file when left out
	Send    string         `yaml:"send"` // command that makes the device use it; {file} is path, {url} where the device fetches it
	Raised  bool           `yaml:"raised"`
	Mode    string         `yaml:"mode"`
	Wait    float64        `yaml:"wait"`
	Save    bool           `yaml:"save"`    // the configuration has to be saved afterwards
	Restart bool           `yaml:"restart"` // it takes effect with the next start
	Ask     device.Pattern `yaml:"ask"`     // of cli: how it asks for the lines of the part
	End     string         `yaml:"end"`     // of cli: the line that ends them
	Remove  bool           `yaml:"remove"`  // what lies at path is to be removed afterwards
	Before  []Step         `yaml:"before"`  // of cli, with each: what is said before the lines
	Each    *Each          `yaml:"each"`    // of cli: every line is a command of its own
	After   []Step         `yaml:"after"`   // of cli, with each: what is said after the lines
	Abort   []Step         `yaml:"abort"`   // of cli, with each: what is said instead when a line is refused
	Confirm []Step         `yaml:"confirm"` // of cli, with each: what is said over a new connection, so that the device does not go back by itself
}

// Each says how the lines of a part are said, each as a command that is answered.
type Each struct {
	Prefix string         `yaml:"prefix"` // in front of each
	Skip   device.Pattern `yaml:"skip"`   // lines that are not said
}

// part returns the dialect's part of that name, or nil.
func (d *Dialect) part(name string) *PartSource {
	for i := range d.Backup {
		if d.Backup[i].Name == name {
			return &d.Backup[i]
		}
	}
	return nil
}

// FetchPart implements device.Parts: it fetches one part and proves that it is whole: by the device's own checksum, or by fetching it twice. It
// returns the content and how it was proved.
func (c *Client) FetchPart(ctx context.Context, name string) (data []byte, proof string, err error) {
	p := c.d.part(name)
	if p == nil {
		return nil, "", device.Fail(device.Lacking, c.t.Address, "fetch "+name, "its dialect has no such part")
	}
	return c.fetchPart(ctx, p)
}

func (c *Client) fetchPart(ctx context.Context, p *PartSource) (data []byte, proof string, err error) {
	doing := "fetch " + p.File
	if c.term != nil {
		defer c.term.heard.private(p.File)()
	}
	first, claim, err := c.fetchOnce(ctx, p)
	if err != nil {
		return nil, "", err
	}
	if len(bytes.TrimSpace(first)) == 0 {
		return nil, "", device.Fail(device.NotUnderstood, c.t.Address, doing, "what came is empty")
	}
	if claim != nil { // the device said what it sent
		if claim["size"] != "" && claim["size"] != strconv.Itoa(len(first)) {
			return nil, "", device.Fail(device.NotUnderstood, c.t.Address, doing, "the device says it sent %s bytes, but %d came", claim["size"], len(first))
		}
		if sum := sha256.Sum256(first); claim["sha256"] != "" {
			if claim["sha256"] != hex.EncodeToString(sum[:]) {
				return nil, "", device.Fail(device.NotUnderstood, c.t.Address, doing, "what came has not the SHA-256 sum that the device gives")
			}
			return first, "the device's own SHA-256", nil
		}
	}
	second, _, err := c.fetchOnce(ctx, p)
	if err != nil {
		return nil, "", err
	}
	if part := (&device.Part{Varies: p.Varies}); !part.Same(first, second) {
		return nil, "", device.Fail(device.NotUnderstood, c.t.Address, doing, "two readings in a row differ; somebody is changing it, or the transfer is damaged")
	}
	return first, "read twice", nil
}

// fetchOnce fetches a part. claim is what the device says about what it sent; nil when it says nothing.
func (c *Client) fetchOnce(ctx context.Context, p *PartSource) (data []byte, claim map[string]string, err error) {
	switch p.By {
	case BySFTP:
		data, err = link.ReadFile(c.link, c.t.Address, p.Path)
	case BySCP:
		data, err = c.scpGet(ctx, p.Path)
	case ByCLI:
		data, err = c.ask(ctx, p)
	case ByNETCONF:
		data, err = netconf.Fetch(ctx, c.link, c.t.Address, p.Path)
	case ByHTTP:
		data, err = c.httpDo(ctx, http.MethodGet, p.Path, nil)
	case device.ByGNOI, device.ByRESTCONF:
		data, err = c.fetchBy(ctx, p)
	default:
		return c.receive(ctx, p)
	}
	return data, nil, err
}

// ask takes the answer to a command as the part.
func (c *Client) ask(ctx context.Context, p *PartSource) ([]byte, error) {
	text, err := c.query(ctx, Query{Send: p.Send, Raised: p.Raised, Mode: p.Mode, Wait: p.Wait, whole: p.Match.Regexp == nil && p.Margin == ""}, nil, nil)
	if err != nil {
		return nil, err
	}
	if p.Match.Regexp != nil {
		g := p.Match.FindStringSubmatch(text)
		if g == nil {
			return nil, device.Fail(device.NotUnderstood, c.t.Address, p.Send, "the answer does not fit the dialect %s; it begins %.80q", c.d.Name, text)
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
		return nil, nil, device.Fail(device.Refused, c.t.Address, "receive "+p.File, "this service has no receiver; start it with -receive-base")
	}
	url, wait, withdraw, err := c.t.Exchange.Expect(strings.TrimPrefix(p.By, "push-"), link.MostBytes)
	if err != nil {
		return nil, nil, device.Fail(device.Refused, c.t.Address, "receive "+p.File, "%s", err)
	}
	defer withdraw()
	text, err := c.query(ctx, Query{Send: p.Send, Raised: p.Raised, Mode: p.Mode, Wait: p.Wait}, map[string]string{"url": url}, nil)
	if err != nil {
		return nil, nil, hideURL(err, url)
	}
	limited, cancel := context.WithTimeout(ctx, receiveLimit)
	defer cancel()
	data, err := wait(limited)
	if err != nil {
		return nil, nil, device.Fail(device.NotUnderstood, c.t.Address, "receive "+p.File, "%s", "the device says it has sent it, but "+err.Error())
	}
	return data, p.Fields.Groups(text), nil
}

// hideURL takes an address that lets somebody in out of an error.
func hideURL(err error, url string) error {
	if e, ok := err.(*device.Error); ok {
		e.Doing, e.Message = strings.ReplaceAll(e.Doing, url, "..."), strings.ReplaceAll(e.Message, url, "...")
	}
	return err
}

// PutPart implements device.Parts: it puts a part back under its exact name and has the device use it. What it takes afterwards (saving, restarting)
// is for the caller.
func (c *Client) PutPart(ctx context.Context, name string, data []byte) error {
	p := c.d.part(name)
	if p == nil {
		return device.Fail(device.Lacking, c.t.Address, "put "+name, "its dialect has no such part")
	}
	return c.putPart(ctx, p, data)
}

func (c *Client) putPart(ctx context.Context, p *PartSource, data []byte) (err error) {
	r := p.Restore
	if r == nil {
		return device.Fail(device.Refused, c.t.Address, "put "+p.File, "this part cannot be put back on a device of this kind")
	}
	args := map[string]string{"file": r.Path}
	if c.term != nil {
		defer c.term.heard.private(p.File)()
	}
	switch r.By {
	case ByCLI:
		if r.Each != nil {
			return c.sayLines(ctx, p, data)
		}
		return c.typePart(ctx, r, data)
	case BySFTP:
		err = link.WriteFile(c.link, c.t.Address, r.Path, data)
	case BySCP:
		err = c.scpPut(ctx, r.Path, data)
	case ByNETCONF:
		err = netconf.Replace(ctx, c.link, c.t.Address, r.Path, data)
	case ByHTTP:
		_, err = c.httpDo(ctx, http.MethodPut, r.Path, data)
	case device.ByGNOI, device.ByRESTCONF:
		err = c.putBy(ctx, r, data)
	case PullHTTP, PullTFTP:
		if c.t.Exchange == nil {
			return device.Fail(device.Refused, c.t.Address, "put "+p.File, "this service has no receiver; start it with -receive-base")
		}
		url, withdraw, e := c.t.Exchange.OfferData(strings.TrimPrefix(r.By, "pull-"), data)
		if e != nil {
			return device.Fail(device.Refused, c.t.Address, "put "+p.File, "%s", e)
		}
		defer withdraw()
		args["url"] = url
		defer func() { err = hideURL(err, url) }()
	}
	if err == nil && r.Send != "" {
		_, err = c.query(ctx, Query{Send: r.Send, Raised: r.Raised, Mode: r.Mode, Wait: r.Wait}, args, nil)
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
	for i, l := range strings.Split(text, "\n") {
		if l == r.End || strings.ContainsAny(l, "\r\x00\x03\x04") { // it may be secret, so the error has its number
			return device.Fail(device.Refused, c.t.Address, r.Send, "line %d cannot be typed: it has control characters, or is the line that ends the text", i+1)
		}
	}
	_, err := c.query(ctx, Query{Send: r.Send, Raised: r.Raised, Mode: r.Mode, Wait: r.Wait, Ask: r.Ask, Answer: strings.ReplaceAll(text, "\n", "\r") + "\r" + r.End}, nil, nil)
	return err
}

// sayLines says a part line by line, each as a command whose answer is awaited. When the device refuses a line, what was begun is given up as the
// dialect says. Lines may hold secrets, so errors tell their numbers.
func (c *Client) sayLines(ctx context.Context, p *PartSource, data []byte) error {
	r := p.Restore
	lines := strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
	for i, l := range lines {
		if strings.ContainsAny(l, "\r\x00\x03\x04\x1b") {
			return device.Fail(device.Refused, c.t.Address, "put "+p.File, "line %d cannot be typed: it has control characters", i+1)
		}
	}
	say := func(ctx context.Context, steps []Step) error {
		if len(steps) == 0 {
			return nil
		}
		_, err := c.query(ctx, Query{Mode: r.Mode, Raised: r.Raised, Wait: r.Wait, Steps: steps}, nil, nil)
		return err
	}
	if len(r.Before) == 0 {
		if err := c.ready(ctx, c.d.modeOf(&Query{Mode: r.Mode, Raised: r.Raised}), "put "+p.File); err != nil {
			return err
		}
	} else if err := say(ctx, r.Before); err != nil {
		return err
	}
	if c.term != nil {
		defer c.term.heard.private(p.File)()
		c.term.renames = true // a configuration gives the device its name
		defer func(s *session) { s.renames = false }(c.term)
	}
	for i, l := range lines {
		if r.Each.Skip.Regexp != nil && r.Each.Skip.MatchString(l) {
			continue
		}
		_, err := c.term.run(ctx, Step{Send: r.Each.Prefix + l, Wait: r.Wait}, nil)
		if err == nil {
			continue
		}
		var e *device.Error
		if errors.As(err, &e) {
			e.Doing, e.Message = fmt.Sprintf("line %d of %s", i+1, p.File), withoutWords(e.Message, l)
		}
		clean, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer cancel()
		if k := device.KindOf(err); k == device.Refused || k == device.NotReady || k == device.NoRoom {
			if again := say(clean, r.Abort); again != nil {
				err = fmt.Errorf("%w; and giving up what was begun failed: %w", err, again)
			}
		}
		return err
	}
	if err := say(ctx, r.After); err != nil {
		return err
	}
	return c.confirm(ctx, p)
}

// confirm says over a new connection that a configuration stays which the device would take back by itself: that the connection comes about proves that the device
// can still be reached with it.
func (c *Client) confirm(ctx context.Context, p *PartSource) error {
	r := p.Restore
	if len(r.Confirm) == 0 {
		return nil
	}
	late := func(err error) error {
		return device.Fail(device.Refused, c.t.Address, "confirm "+p.File, "the configuration was not confirmed, so the device takes the one before back by itself: %s", err)
	}
	fresh := c
	switch {
	case c.link.Lasts():
	case c.d.Session.AtOnce == 1: // a second connection would wait for this one
		c.hangUp()
	default:
		var err error
		if fresh, err = c.d.dialKeeping(ctx, c.t, c.rec); err != nil {
			return late(err)
		}
		defer fresh.Close()
	}
	if _, err := fresh.query(ctx, Query{Mode: r.Mode, Raised: r.Raised, Wait: r.Wait, Steps: r.Confirm}, nil, nil); err != nil {
		return late(err)
	}
	return nil
}

// withoutWords masks in a message what a line says behind its first word: a device repeats what it refuses, and that may be secret.
func withoutWords(message, line string) string {
	words := strings.Fields(line)
	if len(words) < 2 {
		return message
	}
	words = slices.SortedFunc(slices.Values(words[1:]), func(a, b string) int { return len(b) - len(a) })
	for _, w := range words {
		message = strings.ReplaceAll(message, w, "***")
	}
	return message
}

// scpGet reads a file with scp, scpPut writes one. The name becomes part of a command.
func (c *Client) scpGet(ctx context.Context, name string) ([]byte, error) {
	if !safeArgument.MatchString(name) {
		return nil, device.Fail(device.NotUnderstood, c.t.Address, "scp "+name, "the name cannot be part of a command")
	}
	return link.Get(ctx, c.link, c.t.Address, name)
}

func (c *Client) scpPut(ctx context.Context, name string, data []byte) error {
	if !safeArgument.MatchString(name) {
		return device.Fail(device.NotUnderstood, c.t.Address, "scp "+name, "the name cannot be part of a command")
	}
	return link.Put(ctx, c.link, c.t.Address, name, data)
}
