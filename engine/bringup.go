package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/onboarding"
	"verimorph/core/ready"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
	"verimorph/vault"
)

// Blank devices: their first password is replaced by one of ours, and the verdict holds them against what their configuration promises.

// BringUpSecrets are what a change that brings a device up keeps sealed.
type BringUpSecrets struct {
	Licences map[string]string // keys by name
	Password string            // that the device gets; "": it keeps the one it has
	Values   map[string]string // what its configuration was filled with
	Part     *RestorePart      // that is put onto it; nil: none
	Text     string            // of the part
	Hop      int               // in which it is put
}

// BringUpWork seals them for a device.
func BringUpWork(v *vault.Vault, name string, s BringUpSecrets) ([]byte, error) {
	w := hopWork{Hops: map[int][]RestorePart{}, Licences: map[string][]byte{}}
	var err error
	for licence, key := range s.Licences {
		if w.Licences[licence], err = v.Seal(licenceLabel(name, licence), []byte(key)); err != nil {
			return nil, err
		}
	}
	if s.Password != "" {
		if w.Password, err = v.Seal(passwordLabel(name), []byte(s.Password)); err != nil {
			return nil, err
		}
	}
	if len(s.Values) > 0 {
		data, err := json.Marshal(s.Values)
		if err != nil {
			return nil, err
		}
		if w.Values, err = v.Seal(valuesLabel(name), data); err != nil {
			return nil, err
		}
	}
	if s.Part != nil {
		part := *s.Part
		if part.Sealed, err = v.Seal(RestoreLabel(name, part.Name), []byte(s.Text)); err != nil {
			return nil, err
		}
		w.Hops[s.Hop] = []RestorePart{part}
	}
	return json.Marshal(w)
}

// BringUpValues opens the values that BringUpWork sealed.
func BringUpValues(v *vault.Vault, name string, work []byte) (out map[string]string, err error) {
	var w hopWork
	if len(work) == 0 || json.Unmarshal(work, &w) != nil || w.Values == nil {
		return nil, nil
	}
	data, err := v.Open(valuesLabel(name), w.Values)
	if err == nil {
		err = json.Unmarshal(data, &out)
	}
	return out, err
}

// BringUpText is the configuration that a change puts onto a device, to draft it anew.
func BringUpText(v *vault.Vault, name string, work []byte) (string, error) {
	var w hopWork
	if err := json.Unmarshal(work, &w); err != nil {
		return "", err
	}
	for _, parts := range w.Hops {
		for _, p := range parts {
			text, err := v.Open(RestoreLabel(name, p.Name), p.Sealed)
			return string(text), err
		}
	}
	return "", errors.New("the records hold none")
}

func passwordLabel(name string) string { return "new password of " + name }
func valuesLabel(name string) string   { return "values of " + name }

// ours is the credential that the change made for the device; nil while there is none.
func (r *run) ours(ctx context.Context) (*store.Credential, error) {
	all, err := r.e.Store.Credentials(ctx, r.m.DeviceID)
	if err != nil {
		return nil, records(err)
	}
	by := access.Carrying(r.c.ID).String()
	i := slices.IndexFunc(all, func(c store.Credential) bool {
		return c.CreatedBy == by && (c.Kind == KindPassword || c.Kind == KindConsole)
	})
	if i < 0 {
		return nil, nil
	}
	return &all[i], nil
}

// passwordSet reports whether it was the new password that let us in. Then the first one is forgotten, whoever finds that out.
func passwordSet(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	c, err := r.connect(ctx)
	if err != nil {
		return false, "", err
	}
	mine, err := r.ours(ctx)
	if err != nil || mine == nil || c.SignedIn().ID != mine.ID {
		return false, "", err
	}
	forgotten, err := r.forgetFirst(ctx, s, mine)
	return err == nil, fmt.Sprintf("it lets %s in with the new password%s", mine.Username, forgotten), err
}

// setPassword gives the user that let us in a new password. It is recorded before the device hears of it: whoever takes over must get in.
func setPassword(r *run, ctx context.Context, _ *store.Step) error {
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	w, err := r.hopWork()
	if err != nil {
		return err
	}
	password, err := r.e.Vault.Open(passwordLabel(r.m.Device), w.Password)
	if err != nil {
		return final("the new password cannot be read from our own records: %w", err)
	}
	user := c.SignedIn().User
	if user == "" {
		return final("nothing is known of the user that let us in, so no password can be set")
	}
	mine, err := r.ours(ctx)
	if err != nil {
		return err
	}
	if mine == nil {
		d, err := r.device(ctx)
		if err != nil {
			return err
		}
		kind := KindPassword
		if d.Settings.Reach.Only {
			kind = KindConsole
		}
		id := r.m.DeviceID
		by := access.Carrying(r.c.ID)
		if err := r.e.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
			n, err := tx.AddCredential(ctx, store.Credential{DeviceID: &id, Kind: kind, Username: user, CreatedBy: by.String()}, func(id int64) ([]byte, error) {
				return SealCredential(r.e.Vault, id, Secret{Password: string(password)})
			})
			return store.Line{Event: "credential added", Device: r.m.Device,
				Detail: fmt.Sprintf("credential %d, %s, the new password of a device that is brought up", n, kind)}, err
		}); err != nil {
			return records(err)
		}
	}
	return c.SetPassword(ctx, user, string(password))
}

// passwordSetNow signs in again: only then the new password counts.
func passwordSetNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	r.hangUp()
	r.way.until = time.Time{}
	done, evidence, err := passwordSet(r, ctx, s, true)
	if err != nil {
		return "", err
	}
	if !done {
		return "", final("the device took the new password, and still lets us in with the first one")
	}
	return evidence, nil
}

// forgetFirst removes the password that a device was delivered with, unless the device returns to it when it is reset later.
func (r *run) forgetFirst(ctx context.Context, s *store.Step, mine *store.Credential) (told string, err error) {
	all, err := r.e.Store.Credentials(ctx, r.m.DeviceID)
	if err != nil {
		return "", records(err)
	}
	for _, c := range all {
		first := c.ID != mine.ID && c.DeviceID != nil && c.Kind == mine.Kind && c.Username == mine.Username && c.Versions == ""
		if first && !r.resetsLater(s) {
			if err := r.e.Store.Audited(ctx, access.Carrying(r.c.ID), func(tx *store.Store) (store.Line, error) {
				line := store.Line{Event: "credential removed", Device: r.m.Device, Detail: fmt.Sprintf("credential %d, the first password of a new device", c.ID)}
				return line, tx.RemoveCredential(ctx, c.ID)
			}); err != nil {
				return "", records(err)
			}
			told = "; the first one is forgotten"
		}
	}
	return told, nil
}

// resetsLater reports whether a hop from that of a step on brings the factory state back, and with it the first password.
func (r *run) resetsLater(s *store.Step) bool {
	for i := range r.c.Steps {
		if st := &r.c.Steps[i]; st.Plan.Kind == change.Install && st.State == change.StepWaiting && st.Plan.Number > s.Plan.Number && r.resets(st.Plan.Hop) {
			return true
		}
	}
	return false
}

// promised is what a device is held against that was blank before: its release, its licences, and what its configuration promises.
func (r *run) promised(ctx context.Context, s *store.Step) (j judgement, err error) {
	d, err := r.device(ctx)
	if err != nil {
		return j, err
	}
	all, err := r.e.ReadingsOf(ctx, d)
	if err != nil {
		return j, err
	}
	text, err := r.putText(ctx)
	if err != nil {
		return j, err
	}
	j.before = verify.Readings{}
	is := func(reading, title, text string) verify.Expectation {
		return verify.Expectation{Reading: reading, Title: title, Rule: verify.Equals, Value: verify.Value{Type: verify.Text, Text: text}, Severity: verify.Fails}
	}
	j.expect = []verify.Expectation{is(readVersion, "Running version", r.goal(s))}
	if serial := r.m.Planned.Serial; serial != "" {
		j.expect = append(j.expect, is(readUnit, "Serial of the unit", serial))
	}
	if names := r.c.Licences(); len(names) > 0 {
		j.expect = append(j.expect, verify.Expectation{Reading: readLicences, Title: "Licences", Rule: verify.Contains, Value: set(names), Severity: verify.Fails})
	}
	for _, x := range device.Expectations(all) {
		i := slices.IndexFunc(all, func(rd device.Reading) bool { return rd.Name == x.Reading })
		promise := all[i].Promise
		switch {
		case promise.Regexp != nil && r.onBench(): // no cable is in it; what it does is looked at in service
			continue
		case promise.Regexp != nil && text != "":
			var names []string
			for _, m := range promise.FindAllStringSubmatch(text, -1) {
				names = append(names, device.Named(promise, m)["value"])
			}
			x.Rule, x.Value, x.Title = verify.Contains, set(names), x.Title+", as configured"
			if len(names) == 0 {
				continue
			}
		case x.Rule == verify.Within || x.Rule == verify.Equals || x.Rule == verify.Contains:
		default:
			continue // there is nothing of before to compare with
		}
		j.expect, j.readings = append(j.expect, x), append(j.readings, all[i])
	}
	return j, nil
}

// onBench reports whether the device is a unit in stock that is prepared for another place.
func (r *run) onBench() bool {
	return r.c.Wish != nil && r.c.Wish.BringUp != nil && r.c.Wish.BringUp.For != ""
}

// putText is the configuration that the change puts; "" when it puts none.
func (r *run) putText(ctx context.Context) (string, error) {
	w, err := r.hopWork()
	last := len(r.path.Hops) - 1
	if err != nil || len(w.Hops[last]) == 0 {
		return "", err
	}
	_, _, data, err := r.wanted(ctx, putStep(last, w.Hops[last][0].Name))
	return string(data), err
}

// putStep stands for a step that puts a part in a hop.
func putStep(hop int, part string) *store.Step {
	return &store.Step{Plan: change.Step{Hop: hop, Kind: change.PutPart, Params: change.PartParams{Part: part}}}
}

// judgePut holds what a device keeps against what was put onto it.
func (r *run) judgePut(ctx context.Context, parts []RestorePart, hop int) (out []verify.Result, err error) {
	for _, p := range parts {
		there, err := r.partIsThere(ctx, putStep(hop, p.Name))
		if err != nil {
			return nil, err
		}
		res := verify.Result{Reading: readConfig, Title: p.Title, State: verify.Met, Severity: verify.Fails,
			Evidence: "read again from the device: it means what was put onto it"}
		if !there {
			res.State, res.Evidence = verify.Unmet, "read again from the device: it is something else than what was put onto it"
		}
		out = append(out, res)
	}
	return out, nil
}

// newAddress says what answers at the address that a device is to have, where that is not the one that it has; "" when nothing does.
func (e *Engine) newAddress(ctx context.Context, c *store.Change, d store.Device) string {
	at := c.First().Planned.ComesBackAt
	if !bringsUp(c) || at == "" || at == d.Address {
		return ""
	}
	if c.Wish != nil && c.Wish.Replace != nil && !c.Wish.Replace.OwnAddress {
		return "" // the old device answers there until it is taken off the network
	}
	for i := range c.Steps {
		if k := c.Steps[i].Plan.Kind; (k == change.PutPart || k == change.Restart) && c.Steps[i].State != change.StepWaiting {
			return "" // it may be the device itself by now
		}
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
	if err != nil {
		return ""
	}
	_ = conn.Close()
	return fmt.Sprintf("something answers at %s, which is to be its new address", strings.TrimSpace(at))
}

// worksAsPut reports whether a restart, which has the configuration take effect that a bring-up puts, can be left out: nothing had to be put, and the device
// does all that it promises. Where nothing tells whether it does, it is started anew.
func (r *run) worksAsPut(ctx context.Context, s *store.Step) (bool, string, error) {
	if r.c.Kind != change.BringingUp || s.State == change.StepRunning || s.Plan.Hop != len(r.path.Hops)-1 {
		return false, "", nil
	}
	there := slices.ContainsFunc(r.c.Steps, func(st store.Step) bool {
		return st.Plan.Kind == change.PutPart && st.Plan.Hop == s.Plan.Hop && st.State == change.StepDone && st.Attempts == 0
	})
	d, err := r.device(ctx)
	if err != nil || !there || r.movesTo(d) != "" {
		return false, "", err
	}
	j, err := r.promised(ctx, s)
	if err != nil {
		return false, "", err
	}
	promises := 0
	for _, rd := range j.readings {
		if rd.Promise.Regexp != nil {
			promises++
		}
	}
	if promises == 0 {
		return false, "", nil
	}
	results, _, err := r.look(ctx, j, nil, true)
	if err != nil {
		return false, "", err
	}
	if slices.ContainsFunc(results, func(res verify.Result) bool { return res.State != verify.Met }) {
		return false, "", nil
	}
	return true, fmt.Sprintf("nothing had to be put, and it does what its configuration promises, by %d readings: it is not started anew", len(results)), nil
}

// callOf is the call that the change waits for; nil when the records know of none.
func (e *Engine) callOf(ctx context.Context, c *store.Change) (*store.Call, error) {
	call, err := e.Store.Call(ctx, c.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return &call, records(err)
}

// hasCalled reports whether the device has become what it was handed, by its own word.
func hasCalled(r *run, ctx context.Context, _ *store.Step, _ bool) (bool, string, error) {
	call, err := r.e.callOf(ctx, r.c)
	if err != nil {
		return false, "", err
	}
	if call == nil {
		return false, "", final("what the device is to be handed is not in the records; draft the change anew")
	}
	if call.CompleteAt == nil {
		return false, "", nil
	}
	if call.HostKey != "" { // it reported the key by which it is known from now on (RFC 8572, section 7.3)
		d, err := r.device(ctx)
		if err != nil {
			return false, "", err
		}
		if d.HostKey != call.HostKey {
			if err := r.e.Store.ReplaceHostKey(ctx, d.ID, call.HostKey); err != nil {
				return false, "", records(err)
			}
			r.readAt = time.Time{}
		}
	}
	return true, fmt.Sprintf("it called at %s and reported at %s that it is what it was handed", r.e.moment(*call.CalledAt), r.e.moment(*call.CompleteAt)), nil
}

// awaitCall waits for that, and tells what the device reports.
func awaitCall(r *run, ctx context.Context, s *store.Step) error {
	d, err := r.device(ctx)
	if err != nil {
		return err
	}
	checks, err := r.e.readyToBeCalled(ctx, r.c, d)
	if err != nil {
		return err
	}
	if err := r.notReady(ctx, s, checks); err != nil {
		return err
	}
	return r.poll(ctx, s, func() (bool, string, error) {
		done, evidence, err := hasCalled(r, ctx, s, true)
		if err != nil || done {
			return done, evidence, err
		}
		call, err := r.e.callOf(ctx, r.c)
		if err != nil || call == nil {
			return false, "", err
		}
		switch n := len(call.Reports); {
		case call.CalledAt == nil:
			return false, fmt.Sprintf("%s has not called yet; it has to be unpacked, and to find the bootstrap server", call.Serial), nil
		case n == 0:
			return false, fmt.Sprintf("%s called at %s and was handed what it is to become", call.Serial, r.e.moment(*call.CalledAt)), nil
		case troubled(call.Reports[n-1].Type):
			return false, fmt.Sprintf("%s reports trouble: %s", call.Serial, saidAs(call.Reports[n-1])), nil
		}
		return false, fmt.Sprintf("%s reports: %s", call.Serial, saidAs(call.Reports[len(call.Reports)-1])), nil
	})
}

// troubled reports whether a progress-type tells of an error (RFC 8572, section 7.3).
func troubled(kind string) bool {
	return strings.HasSuffix(kind, "-error") || strings.HasSuffix(kind, "-warning")
}

func saidAs(r store.Report) string { return strings.TrimSuffix(r.Type+": "+r.Message, ": ") }

// readyToBeCalled looks whether a device that asks by itself would be handed what it needs.
func (e *Engine) readyToBeCalled(ctx context.Context, c *store.Change, d store.Device) ([]ready.Check, error) {
	call, err := e.callOf(ctx, c)
	if err != nil || call == nil || call.CalledAt != nil {
		return nil, err
	}
	check := ready.Check{Name: ready.Called, Title: "What it is handed", State: ready.Pass, Evidence: fmt.Sprintf("signed for %s once it calls", call.Serial)}
	missing, err := e.noVoucher(ctx, call.Serial)
	if err != nil {
		return nil, err
	}
	if missing != "" {
		check.State, check.Evidence = ready.Stop, missing+", so it would take nothing from us"
		check.Remedy = "ask its maker for one, with what verimorph bootstrap owner prints, and add it with verimorph bootstrap voucher FILE"
	}
	out := []ready.Check{check}
	stop := func(name, title, remedy, format string, args ...any) {
		out = append(out, ready.Check{Name: name, Title: title, State: ready.Stop, Evidence: fmt.Sprintf(format, args...), Remedy: remedy})
	}
	wanted, err := e.wantedLicences(ctx, c, d.Name, nil)
	if err != nil {
		return nil, err
	}
	out = append(out, (&ready.Facts{Needs: wanted}).Needed()...)
	if other, err := e.Store.Expected(ctx, call.Serial); err == nil && other.ChangeID != c.ID {
		stop(ready.OtherWork, "Other work", "see which of them is meant, and stop the other", "change %d waits for the same unit, %s, as %s", other.ChangeID, call.Serial, other.Device)
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, records(err)
	}
	if taken := e.newAddress(ctx, c, store.Device{}); taken != "" {
		stop(ready.AddressTaken, "New address", "see whose it is, and give the device another one", "%s", taken)
	}
	if d.Open != nil && d.Open.ID != c.ID {
		stop(ready.OtherWork, "Other work", "wait until it has ended", "change %d occupies the device", d.Open.ID)
	}
	return out, nil
}

// noVoucher says why there is no ownership voucher for a device that it would heed; "" when there is one.
func (e *Engine) noVoucher(ctx context.Context, serial string) (string, error) {
	v, err := e.Store.Voucher(ctx, serial)
	if errors.Is(err, store.ErrNotFound) {
		return "there is no ownership voucher for " + serial, nil
	}
	if err != nil {
		return "", records(err)
	}
	read, err := onboarding.ReadVoucher(v.Voucher)
	if err != nil {
		return err.Error(), nil
	}
	if read.Over(e.now()) {
		return fmt.Sprintf("the ownership voucher for %s counted until %s", serial, e.moment(read.Expires)), nil
	}
	return "", nil
}
