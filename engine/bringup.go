package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"verimorph/access"
	"verimorph/core/change"
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

// passwordSet reports whether it was the new password that let us in.
func passwordSet(r *run, ctx context.Context, _ *store.Step, _ bool) (bool, string, error) {
	c, err := r.connect(ctx)
	if err != nil {
		return false, "", err
	}
	mine, err := r.ours(ctx)
	if err != nil || mine == nil {
		return false, "", err
	}
	return c.SignedIn().ID == mine.ID, fmt.Sprintf("it lets %s in with the new password", mine.Username), nil
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
			return store.Line{Event: "credential added", Device: r.m.Device, Detail: fmt.Sprintf("credential %d, %s, the new password of a device that is brought up", n, kind)}, err
		}); err != nil {
			return records(err)
		}
	}
	return c.SetPassword(ctx, user, string(password))
}

// passwordSetNow signs in again: only then the new password counts, and the first one is forgotten.
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
	mine, err := r.ours(ctx)
	if err != nil {
		return "", err
	}
	all, err := r.e.Store.Credentials(ctx, r.m.DeviceID)
	if err != nil {
		return "", records(err)
	}
	for _, c := range all {
		first := c.ID != mine.ID && c.DeviceID != nil && c.Kind == mine.Kind && c.Username == mine.Username && c.Versions == ""
		if first && !r.resetsLater(s) {
			if err := r.e.Store.Audited(ctx, access.Carrying(r.c.ID), func(tx *store.Store) (store.Line, error) {
				return store.Line{Event: "credential removed", Device: r.m.Device, Detail: fmt.Sprintf("credential %d, the first password of a new device", c.ID)}, tx.RemoveCredential(ctx, c.ID)
			}); err != nil {
				return "", records(err)
			}
			evidence += "; the first one is forgotten"
		}
	}
	return evidence, nil
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
	all, err := r.e.readingsOf(ctx, d)
	if err != nil {
		return j, err
	}
	text, err := r.putText(ctx)
	if err != nil {
		return j, err
	}
	j.before = verify.Readings{}
	j.expect = []verify.Expectation{{Reading: readVersion, Title: "Running version", Rule: verify.Equals, Value: verify.Value{Type: verify.Text, Text: r.goal(s)}, Severity: verify.Fails}}
	if serial := r.m.Planned.Serial; serial != "" {
		j.expect = append(j.expect, verify.Expectation{Reading: readUnit, Title: "Serial of the unit", Rule: verify.Equals, Value: verify.Value{Type: verify.Text, Text: serial}, Severity: verify.Fails})
	}
	if names := r.c.Licences(); len(names) > 0 {
		j.expect = append(j.expect, verify.Expectation{Reading: readLicences, Title: "Licences", Rule: verify.Contains, Value: set(names), Severity: verify.Fails})
	}
	for _, x := range device.Expectations(all) {
		i := slices.IndexFunc(all, func(rd device.Reading) bool { return rd.Name == x.Reading })
		promise := all[i].Promise
		switch {
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
		res := verify.Result{Reading: readConfig, Title: p.Title, State: verify.Met, Severity: verify.Fails, Evidence: "read again from the device: it means what was put onto it"}
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
	if c.Kind != change.BringingUp || at == "" || at == d.Address {
		return ""
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
