package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"verimorph/device"
	"verimorph/device/link"
)

// The verbs: what a dialect says is sent for each, and what an answer to it means.

// TryConfiguration has the device read a configuration as it would before using it. The device keeps nothing and changes
// nothing: the file is put beside others under a name of its own and removed again, whatever happens. An answer that
// does not say how many messages there are, or another number than it gives, is not understood.
func (c *Client) TryConfiguration(ctx context.Context, text []byte) (out []device.Message, err error) {
	if !c.has("try-configuration") {
		return nil, device.Fail(device.Refused, c.t.Address, "try a configuration", "its dialect has no try-configuration, so the device cannot be asked")
	}
	name := fmt.Sprintf("trial-%s.cfg", strings.ToLower(rand.Text()[:10]))
	if err := link.WriteFile(c.link, c.t.Address, name, text); err != nil {
		return nil, err
	}
	defer func() {
		// Also when the caller has given up: a configuration must not be left lying on the device.
		clean, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer cancel()
		err = errors.Join(err, c.RemoveFile(clean, name))
	}()
	answer, err := c.verb(ctx, "try-configuration", map[string]string{"file": name}, nil)
	if err != nil {
		return nil, err
	}
	q := c.d.Verbs["try-configuration"]
	if q.Match.Regexp != nil {
		for _, m := range q.Match.FindAllStringSubmatch(answer, -1) {
			g := device.Named(q.Match, m)
			line, err := strconv.Atoi(g["line"])
			if err != nil {
				return nil, device.Fail(device.NotUnderstood, c.t.Address, "try-configuration", "%q is not a line", g["line"])
			}
			out = append(out, device.Message{Line: line, Text: g["message"]})
		}
	}
	if refused := q.Fields.Groups(answer)["refused"]; refused != strconv.Itoa(len(out)) {
		return nil, device.Fail(device.NotUnderstood, c.t.Address, "try-configuration", "it speaks of %q messages, but %d were understood", refused, len(out))
	}
	return out, nil
}

// has reports whether the dialect has a verb.
func (c *Client) has(verb string) bool { return c.d.Verbs[verb].given() }

func (c *Client) verb(ctx context.Context, name string, args map[string]string, progress device.Progress) (string, error) {
	q := c.d.Verbs[name]
	if !q.given() {
		return "", device.Fail(device.Lacking, c.t.Address, name, "the dialect %s does not say how", c.d.Name)
	}
	if file, ok := args["file"]; ok && name != "try-configuration" {
		args["path"] = c.d.Files.Images + file
	}
	if c.d.Installs == FromFiles && args["slot"] != "" {
		args["path"] = c.d.Files.Images + args["slot"]
	}
	if args["second"] != "" {
		args["second_path"] = c.d.Files.Images + args["second"]
	}
	if err := c.versionOf(ctx, &q, args); err != nil {
		return "", err
	}
	var watch func(string)
	if progress != nil && q.Progress.Regexp != nil {
		watch = func(text string) {
			if part, ok := fraction(q.Progress, text); ok {
				progress(part)
			}
		}
	}
	if c.before != nil {
		if err := c.before(ctx); err != nil {
			return "", err
		}
	}
	var text string
	var err error
	if q.Job != nil {
		text, err = c.background(ctx, name, args, progress)
	} else {
		text, err = c.query(ctx, q, args, watch)
	}
	c.words = text
	return text, err
}

// Words is what the device answered to the last verb, for messages about what came of it.
func (c *Client) Words() string { return Quoted(c.words) }

// HungUp reports whether the connection ended with the last command before the device said that it took it. That is how a command looks
// that the connection ends with, and also how a line looks that breaks before the device heard of it.
func (c *Client) HungUp() bool { return c.term != nil && c.term.hungUp || c.callers.hungUp() }

// Checksum lets the device compute a sum over a file on it. Of several in its answer the strongest counts.
func (c *Client) Checksum(ctx context.Context, file string) (device.Digest, error) {
	if c.d.byVersion() {
		return c.validated(ctx, file)
	}
	text, err := c.verb(ctx, "checksum", map[string]string{"file": file}, nil)
	if err != nil {
		return device.Digest{}, err
	}
	q := c.d.Verbs["checksum"]
	g := q.Fields.Groups(text)
	for _, algorithm := range device.Algorithms {
		if g[algorithm] == "" {
			continue
		}
		d, err := device.ReadDigest(algorithm, g[algorithm])
		if err != nil {
			return d, device.Fail(device.NotUnderstood, c.t.Address, q.says(), "%s", err)
		}
		return d, nil
	}
	return device.Digest{}, device.Fail(device.NotUnderstood, c.t.Address, "checksum", "no sum in the answer %.80q", text)
}

// WriteMedium implements device.MediumWriter.
func (c *Client) WriteMedium(ctx context.Context, file string, progress device.Progress) error {
	_, err := c.verb(ctx, "write-medium", map[string]string{"file": file}, progress)
	return err
}

// ReadMedium implements device.MediumWriter. An answer without a sum proves nothing, and is not understood.
func (c *Client) ReadMedium(ctx context.Context, file string) (on device.OnMedium, err error) {
	text, err := c.verb(ctx, "read-medium", map[string]string{"file": file}, nil)
	if err != nil {
		return on, err
	}
	q := c.d.Verbs["read-medium"]
	g := q.Fields.Groups(text)
	sum, err := device.ReadDigest("sha256", g["sha256"])
	if err != nil {
		return on, device.Fail(device.NotUnderstood, c.t.Address, q.says(), "no sum in the answer %.80q", text)
	}
	on = device.OnMedium{SHA256: sum.Sum, Model: g["model"], Serial: g["serial"], Version: g["version"], Configuration: strings.ToLower(g["configuration"])}
	on.Size, _ = strconv.ParseInt(g["size"], 10, 64)
	return on, nil
}

// PushImage implements device.Files.
func (c *Client) PushImage(ctx context.Context, im device.Image, content io.Reader, sent func(int64)) error {
	if c.d.Files.By == byGnoi {
		return c.installOS(ctx, im, content, sent)
	}
	name := c.Profile().Folder + im.File
	if !safePath.MatchString(name) {
		return device.Fail(device.NotUnderstood, c.t.Address, "scp", "%q cannot be part of a command", name)
	}
	return link.Push(ctx, c.link, c.t.Address, name, im.Size, content, sent)
}

// FetchImage lets the device download a file.
func (c *Client) FetchImage(ctx context.Context, url, file string, progress device.Progress) error {
	_, err := c.verb(ctx, "fetch-image", map[string]string{"url": url, "file": file}, progress)
	return err
}

// Install writes an image that is on the device into a slot.
func (c *Client) Install(ctx context.Context, file, slot string, progress device.Progress) error {
	_, err := c.verb(ctx, "install", map[string]string{"file": file, "slot": slot}, progress)
	return err
}

// Save makes the running configuration the saved one.
func (c *Client) Save(ctx context.Context) error {
	_, err := c.verb(ctx, "save", nil, nil)
	return err
}

// ChooseSlot sets the slot of the next starts, and where the device has that the one that is started when it cannot be.
func (c *Client) ChooseSlot(ctx context.Context, slot, second string) error {
	_, err := c.verb(ctx, "choose-slot", map[string]string{"slot": slot, "second": second, "second_path": ""}, nil)
	return err
}

// RenameSlot gives a copy of an installation another name.
func (c *Client) RenameSlot(ctx context.Context, slot, name string) error {
	_, err := c.verb(ctx, "rename-slot", map[string]string{"slot": slot, "new": name}, nil)
	return err
}

// RemoveSlot deletes a copy of an installation.
func (c *Client) RemoveSlot(ctx context.Context, slot string) error {
	_, err := c.verb(ctx, "remove-slot", map[string]string{"slot": slot}, nil)
	return err
}

// ChooseSlotOnce sets the slot of the next start only; the one after it is from the slot chosen before.
func (c *Client) ChooseSlotOnce(ctx context.Context, slot string) error {
	_, err := c.verb(ctx, "choose-slot-once", map[string]string{"slot": slot}, nil)
	return err
}

// Clone copies the running installation into a slot.
func (c *Client) Clone(ctx context.Context, slot string, progress device.Progress) error {
	_, err := c.verb(ctx, "clone", map[string]string{"slot": slot}, progress)
	return err
}

// Unpack unpacks what was installed into a slot.
func (c *Client) Unpack(ctx context.Context, slot string, progress device.Progress) error {
	_, err := c.verb(ctx, "unpack", map[string]string{"slot": slot}, progress)
	return err
}

// Drain makes the device take no new work.
func (c *Client) Drain(ctx context.Context) error {
	_, err := c.verb(ctx, "drain", nil, nil)
	return err
}

// Undrain returns the device to service.
func (c *Client) Undrain(ctx context.Context) error {
	_, err := c.verb(ctx, "undrain", nil, nil)
	return err
}

// TakeOver implements device.Standby.
func (c *Client) TakeOver(ctx context.Context) error {
	_, err := c.verb(ctx, "take-over", nil, nil)
	return err
}

// AddLicence gives the device a licence. The key is typed where the device asks for it: it is part of no command, and of no
// error or recording.
func (c *Client) AddLicence(ctx context.Context, licence, key string) error {
	q := c.d.Verbs["add-licence"]
	if !q.given() {
		return device.Fail(device.Refused, c.t.Address, "add a licence", "its dialect has no add-licence; add that verb to it")
	}
	if c.term != nil {
		defer c.term.heard.private("a licence")()
	}
	q.Answer = key
	_, err := c.query(ctx, q, map[string]string{"licence": licence}, nil)
	return err
}

// SetPassword gives a user another password. It is typed where the dialect's questions ask for the secret new.
func (c *Client) SetPassword(ctx context.Context, user, password string) error {
	q := c.d.Verbs["set-password"]
	if !q.given() {
		return device.Fail(device.Lacking, c.t.Address, "set a password", "its dialect has no set-password; add that verb to it")
	}
	if c.term != nil {
		defer c.term.heard.private("a password")()
	}
	q.Expect = typedNew(q.Expect, password)
	q.Steps = slices.Clone(q.Steps)
	for i := range q.Steps {
		q.Steps[i].Expect = typedNew(q.Steps[i].Expect, password)
	}
	_, err := c.query(ctx, q, map[string]string{"user": user}, nil)
	return err
}

// typedNew are questions with the new password for an answer where they ask for it.
func typedNew(expect []Expect, password string) []Expect {
	out := slices.Clone(expect)
	for i := range out {
		if out[i].Secret == SecretNew {
			out[i].Secret, out[i].Answer = "", password
		}
	}
	return out
}

// UpdateComponent updates firmware beside the main image from a file on the device.
func (c *Client) UpdateComponent(ctx context.Context, component, file string, progress device.Progress) error {
	_, err := c.verb(ctx, "update-component", map[string]string{"component": component, "file": file}, progress)
	return err
}

// PowerCycle switches the parts that a component runs on off and on.
func (c *Client) PowerCycle(ctx context.Context, component string) error {
	_, err := c.verb(ctx, "power-cycle", map[string]string{"component": component}, nil)
	return err
}

// RemoveFile deletes a file on the device.
func (c *Client) RemoveFile(ctx context.Context, file string) error {
	_, err := c.verb(ctx, "remove-file", map[string]string{"file": file}, nil)
	return err
}

// Restart restarts the device; the connection ends with it.
func (c *Client) Restart(ctx context.Context) error {
	_, err := c.verb(ctx, "restart", nil, nil)
	return err
}
