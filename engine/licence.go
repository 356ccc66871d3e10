package engine

import (
	"context"
	"encoding/json"
	"slices"

	"verimorph/core/change"
	"verimorph/store"
	"verimorph/vault"
)

// Licences.

// LicenceWork seals licences for a change: the key of each, by name.
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
	return c.AddLicence(ctx, licenceOf(s), string(key))
}

func licenceNow(r *run, ctx context.Context, s *store.Step) (string, error) {
	done, evidence, err := licenceThere(r, ctx, s, true)
	if err == nil && !done {
		return "", final("the device took the key but does not show the licence %s", licenceOf(s))
	}
	return evidence, err
}
