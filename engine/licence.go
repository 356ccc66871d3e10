package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"verimorph/core/change"
	"verimorph/core/portrait"
	"verimorph/core/ready"
	"verimorph/licensing"
	"verimorph/store"
	"verimorph/vault"
)

// Licences.

// LicenceWork seals licences for a change: the key of each, by name. One without a key is taken from the licence service when its turn comes.
func LicenceWork(v *vault.Vault, device string, licences map[string]string) ([]byte, error) {
	w := hopWork{Hops: map[int][]RestorePart{}, Licences: map[string][]byte{}}
	for name, key := range licences {
		var err error
		if w.Licences[name], err = v.Seal(licenceLabel(device, name), []byte(key)); err != nil {
			return nil, err
		}
	}
	return json.Marshal(w)
}

// LicenceKeys opens what LicenceWork sealed: the keys by name. Work of any other content has none.
func LicenceKeys(v *vault.Vault, device string, work []byte) (map[string]string, error) {
	var w hopWork
	if len(work) > 0 {
		if err := json.Unmarshal(work, &w); err != nil {
			return nil, err
		}
	}
	out := map[string]string{}
	for name, sealed := range w.Licences {
		key, err := v.Open(licenceLabel(device, name), sealed)
		if err != nil {
			return nil, err
		}
		out[name] = string(key)
	}
	return out, nil
}

// licenceLabel binds the key of a licence to its place.
func licenceLabel(device, name string) string { return "licence of " + device + ", " + name }

func licenceThere(r *run, ctx context.Context, s *store.Step, _ bool) (bool, string, error) {
	p, err := r.portrait(ctx)
	if err != nil {
		return false, "", err
	}
	return slices.Contains(p.Licences, licenceOf(s)), "the device has the licence " + licenceOf(s), nil
}

// licenceOf is the licence that a step gives the device.
func licenceOf(s *store.Step) string { return change.Of[change.LicenceParams](&s.Plan).Licence }

func addLicence(r *run, ctx context.Context, s *store.Step) error {
	w, err := r.hopWork()
	if err != nil {
		return err
	}
	key, err := r.e.Vault.Open(licenceLabel(r.m.Device, licenceOf(s)), w.Licences[licenceOf(s)])
	if err != nil {
		return final("the key of licence %s cannot be read: %w", licenceOf(s), err)
	}
	c, err := r.connect(ctx)
	if err != nil {
		return err
	}
	if len(key) == 0 {
		taken, err := r.e.takeLicence(ctx, licenceOf(s), r.m.Planned.Serial)
		if err != nil {
			return err
		}
		key = []byte(taken)
	}
	return c.AddLicence(ctx, licenceOf(s), string(key))
}

func licenceNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := licenceThere(r, ctx, s, true)
	if err == nil && !done {
		return "", final("the device took the key but does not show the licence %s", licenceOf(s))
	}
	return evidence, err
}

// takeLicence takes a licence for a device from the licence service. Asked again for the same one, that gives the same key.
func (e *Engine) takeLicence(ctx context.Context, licence, serial string) (string, error) {
	service, err := licensing.Open(ctx, e.Store, e.Vault)
	if err != nil {
		return "", err
	}
	if service == nil {
		return "", final("no licence service is set up any more; set it with verimorph licence-service set, or draft the change anew with the key of %s", licence)
	}
	key, err := service.Take(ctx, licence, serial)
	if refused := (*licensing.Refusal)(nil); errors.As(err, &refused) {
		return "", final("%s", err)
	}
	return key, err
}

// wantedLicences holds the licences that are to come from the licence service against what it has. Nothing is taken.
func (e *Engine) wantedLicences(ctx context.Context, c *store.Change, device string, p *portrait.Portrait) (out []ready.Need, err error) {
	if len(c.Licences()) == 0 { // of several members only one is given licences, and they are sealed for that one
		return nil, nil
	}
	keys, err := LicenceKeys(e.Vault, device, c.Work)
	if err != nil {
		return nil, err
	}
	serial := c.First().Planned.Serial
	for _, name := range c.Licences() {
		if key, there := keys[name]; !there || key != "" || p != nil && slices.Contains(p.Licences, name) {
			continue
		}
		n := ready.Need{Check: ready.Licences + " " + name, Text: "licence " + name + " from the licence service", What: "get more of them, give one back, or draft the change anew with its key"}
		n.Met, n.Evidence = e.hasLicence(ctx, name, serial)
		out = append(out, n)
	}
	return out, nil
}

// hasLicence says whether the licence service has a licence for a device; nil when nobody knows.
func (e *Engine) hasLicence(ctx context.Context, name, serial string) (*bool, string) {
	no := false
	service, err := licensing.Open(ctx, e.Store, e.Vault)
	if err != nil {
		return nil, err.Error()
	}
	if service == nil {
		return &no, "no licence service is set up"
	}
	s, err := service.Ask(ctx, name, serial)
	if refused := (*licensing.Refusal)(nil); errors.As(err, &refused) {
		return &no, err.Error()
	}
	if err != nil {
		return nil, err.Error()
	}
	met := s.State != licensing.UsedUp
	return &met, map[string]string{licensing.Free: fmt.Sprintf("%d left", s.Left), licensing.Held: serial + " has taken one already", licensing.UsedUp: "all of them are with other devices"}[s.State]
}
