package shellbox

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"verimorph/core/onboarding"
	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
)

// A blank box that asks a bootstrap server what it is to become (RFC 8572). It trusts its maker only, and takes nothing that was not signed for it.

// An Identity is what the maker of a box gave it (IEEE 802.1AR).
type Identity struct {
	Certificate *x509.Certificate
	Key         *ecdsa.PrivateKey
	Maker       *x509.Certificate
}

// Faults of boxes that call.
const (
	NeverCalls       = "never-calls"
	PowerInTheMiddle = "power-lost-in-the-middle"
)

// callEvery is how often such a box asks, in its own time.
const callEvery = 15 * time.Second

// startCalling has the box ask until it has become what it was handed.
func (b *Box) startCalling() {
	if b.Calls == "" || b.Identity == nil || !b.Blank {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	var group sync.WaitGroup
	b.asks = func() { cancel(); group.Wait() }
	group.Go(func() {
		for ctx.Err() == nil {
			b.mu.Lock()
			done := b.st.Onboarded
			_, silent := b.st.Faults[NeverCalls] // until somebody heals it
			b.mu.Unlock()
			if done {
				return
			}
			if !silent {
				if err := b.callOnce(ctx); err != nil {
					b.log.Info("a call brought nothing", "why", err)
				}
			}
			select {
			case <-ctx.Done():
			case <-time.After(b.sim(callEvery)):
			}
		}
	})
}

// A caller speaks with the bootstrap server.
type caller struct {
	base string
	http *http.Client
}

func (b *Box) caller() *caller {
	// Whose certificate the server shows tells nothing to a box in its factory state (RFC 8572, section 5.3): what counts is what was signed.
	config := &tls.Config{InsecureSkipVerify: true, Certificates: []tls.Certificate{{Certificate: [][]byte{b.Identity.Certificate.Raw}, PrivateKey: b.Identity.Key}}} //nolint:gosec
	return &caller{strings.TrimRight(b.Calls, "/"), &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{TLSClientConfig: config, DisableKeepAlives: true}}}
}

// rpc calls an RPC of the module ietf-sztp-bootstrap-server.
func (c *caller) rpc(ctx context.Context, name string, input any, output any) error {
	body, err := json.Marshal(map[string]any{"ietf-sztp-bootstrap-server:input": input})
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.base+"/restconf/operations/ietf-sztp-bootstrap-server:"+name, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/yang-data+json")
	res, err := c.http.Do(r)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	data, err := io.ReadAll(io.LimitReader(res.Body, 16<<20))
	switch {
	case err != nil:
		return err
	case res.StatusCode >= 300:
		return fmt.Errorf("%s: %.300s", res.Status, data)
	case output == nil:
		return nil
	}
	return json.Unmarshal(data, output)
}

// callOnce asks once, and becomes what it is handed.
func (b *Box) callOnce(ctx context.Context) error {
	c := b.caller()
	var out struct {
		Output struct {
			Information string `json:"conveyed-information"`
			Owner       string `json:"owner-certificate"`
			Voucher     string `json:"ownership-voucher"`
		} `json:"ietf-sztp-bootstrap-server:output"`
	}
	b.mu.Lock()
	v := b.version()
	b.mu.Unlock()
	if err := c.rpc(ctx, "get-bootstrapping-data", map[string]any{"signed-data-preferred": []any{nil}, "hw-model": b.Model, "os-name": "gw", "os-version": v}, &out); err != nil {
		return err
	}
	d := &onboarding.Data{}
	for _, p := range []struct {
		text string
		into *[]byte
	}{{out.Output.Information, &d.Information}, {out.Output.Owner, &d.Owner}, {out.Output.Voucher, &d.Voucher}} {
		var err error
		if *p.into, err = base64.StdEncoding.DecodeString(p.text); err != nil {
			return err
		}
	}
	maker := x509.NewCertPool()
	maker.AddCert(b.Identity.Maker)
	in, err := onboarding.Verify(d, b.Serial, maker, time.Now())
	if err != nil {
		return err
	}
	if err := b.become(ctx, c, in); err != nil {
		_ = c.rpc(ctx, "report-progress", map[string]any{"progress-type": "bootstrap-error", "message": err.Error()}, nil)
		return err
	}
	return nil
}

// become takes an image and a configuration over, and reports how far it is.
func (b *Box) become(ctx context.Context, c *caller, in *onboarding.Information) error {
	say := func(kind, message string) error {
		return c.rpc(ctx, "report-progress", map[string]any{"progress-type": kind, "message": message}, nil)
	}
	if err := say("bootstrap-initiated", ""); err != nil {
		return err
	}
	b.mu.Lock()
	now := b.version()
	b.mu.Unlock()
	if in.Image != nil && in.Image.Release != now {
		if err := b.takeImage(ctx, c, in.Image, say); err != nil {
			return err
		}
	}
	b.mu.Lock()
	if b.hit(PowerInTheMiddle) {
		b.startAgain()
		b.mu.Unlock()
		return errors.New("the power went")
	}
	if in.Configuration != nil {
		b.st.Parts[b.m.Main] = string(in.Configuration)
	}
	b.restart()
	b.mu.Unlock()
	if err := b.untilReady(ctx); err != nil {
		return err
	}
	b.mu.Lock()
	key := box.PublicKey(b.st.HostKey)
	b.mu.Unlock()
	algorithm, data, _ := strings.Cut(strings.TrimSpace(key), " ")
	if err := c.rpc(ctx, "report-progress", map[string]any{"progress-type": "bootstrap-complete", "message": "",
		"ssh-host-keys": map[string]any{"ssh-host-key": []map[string]string{{"algorithm": algorithm, "key-data": data}}}}, nil); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Onboarded = true
	return b.save()
}

// takeImage fetches an image, proves it, and starts it.
func (b *Box) takeImage(ctx context.Context, c *caller, im *onboarding.BootImage, say func(kind, message string) error) error {
	if len(im.URI) == 0 {
		return errors.New("nobody said where the image is")
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, im.URI[0], nil)
	if err != nil {
		return err
	}
	res, err := c.http.Do(r)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	data, err := io.ReadAll(io.LimitReader(res.Body, 64<<20))
	if err != nil || res.StatusCode != http.StatusOK {
		return fmt.Errorf("the image does not come: %s", res.Status)
	}
	if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != im.SHA256 {
		return errors.New("the image is another one than was signed for")
	}
	head, err := firmware.Read(bytes.NewReader(data))
	if err != nil || head.Version != im.Release {
		return errors.New("the image is of another release than was signed for")
	}
	if err := say("boot-image-installed-rebooting", im.Release); err != nil {
		return err
	}
	time.Sleep(b.sim(b.m.Firmware.Install))
	b.mu.Lock()
	to := (b.st.Running + 1) % len(b.st.Areas)
	b.st.Areas[to] = area{Version: im.Release, State: "good", Fresh: true, Laid: time.Now().UTC()}
	b.st.Next, b.st.Installs = to, b.st.Installs+1
	b.restart()
	b.mu.Unlock()
	return b.untilReady(ctx)
}

// startAgain is what happens when the power goes and comes back. The caller holds the lock.
func (b *Box) startAgain() {
	b.st.Started, b.st.BootAt = time.Now(), time.Now()
	b.st.Boots++
	_ = b.save()
	b.host.Cut()
}

// untilReady waits until the box is up with its services.
func (b *Box) untilReady(ctx context.Context) error {
	for ctx.Err() == nil {
		if phase, _ := b.phaseOf(); phase == ready {
			return nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return ctx.Err()
}
