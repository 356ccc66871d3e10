package engine

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
)

// A prepared unit takes the place of the one at a site. It is known from the bench: its serial, its host key, the keys of its certificates.

// swapped expects the serial of the new unit, and everything else as it was of the old one.
func (j *judgement) swapped(serial string) {
	if serial == "" || !slices.ContainsFunc(j.expect, func(x verify.Expectation) bool { return x.Reading == readUnit }) {
		return
	}
	j.change(catalog.Foretold{Value: catalog.ValueSerial, Becomes: regexp.QuoteMeta(serial)}, "the spare")
}

// judgeSwapped holds the configuration of the unit against the newest one of the device from before: the unit may have been on its way while that was changed.
func (r *run) judgeSwapped(ctx context.Context, s *store.Step) ([]verify.Result, error) {
	if r.c.Wish == nil || r.c.Wish.Swap == nil || r.c.Wish.Swap.Backup == 0 {
		return []verify.Result{uncompared("there was no complete backup of the device from before")}, nil
	}
	from, err := r.e.Store.Backup(ctx, r.c.Wish.Swap.Backup)
	if errors.Is(err, store.ErrNotFound) {
		return []verify.Result{uncompared(fmt.Sprintf("backup %d is gone", r.c.Wish.Swap.Backup))}, nil
	}
	if err != nil {
		return nil, records(err)
	}
	j := configurationJudgement{r: r, step: s}
	if err := j.stretch(ctx, stretch{from: from}); err != nil {
		return nil, err
	}
	results := j.results()
	for i := range results {
		if results[i].State == verify.Unmet && results[i].Reading == readConfig {
			results[i].Evidence += fmt.Sprintf("; what is newer is put with: verimorph backup restore %d", from.ID)
		}
	}
	return results, nil
}

// signInsOfUnit has a prepared unit let us in as it did on the bench: its credentials are those of the record by which it was reached there. Those of the old unit are not tried.
func (r *run) signInsOfUnit(ctx context.Context, t *device.Route, d store.Device) error {
	cs, err := r.e.Store.Credentials(ctx, r.m.Planned.Bench)
	if err != nil {
		return records(err)
	}
	if len(cs) == 0 {
		return final("the record by which the unit was reached on the bench is gone, and its credentials with it; add them to %s, and draft the change anew", d.Name)
	}
	t.SignIns, t.Privileged, t.SNMP, t.Certificate, t.Token = nil, nil, nil, nil, ""
	bench := d
	bench.ID = r.m.Planned.Bench
	return r.e.signIns(ctx, &t.Target, bench, r.expected())
}

// freeBench has the record of the bench forget the unit, which is the device at the site from now on: no record but that is one of it.
func (r *run) freeBench(ctx context.Context) error {
	if r.m.Planned.Bench == 0 {
		return nil
	}
	return records(r.e.Store.Audited(ctx, access.Carrying(r.c.ID), func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "bench is free", Device: r.m.Device, Detail: "unit " + r.m.Planned.Serial + " serves"}, tx.FreeBench(ctx, r.m.Planned.Bench)
	}))
}

// takeCredentials gives the device the credentials of the unit that it is now.
func (r *run) takeCredentials(ctx context.Context) error {
	cs, err := r.e.Store.Credentials(ctx, r.m.Planned.Bench)
	if err != nil {
		return records(err)
	}
	var kinds []string
	var own []store.Credential
	secrets := []Secret{}
	for _, c := range cs {
		if c.DeviceID == nil { // of a group: it applies as it did
			continue
		}
		s, err := openCredential(r.e.Vault, c)
		if err != nil {
			return err
		}
		kinds = append(kinds, c.Kind)
		own, secrets = append(own, store.Credential{Kind: c.Kind, Username: c.Username, Versions: c.Versions, CreatedBy: access.Carrying(r.c.ID).String()}), append(secrets, s)
	}
	if len(own) == 0 {
		return nil
	}
	next := 0
	return records(r.e.Store.Audited(ctx, access.Carrying(r.c.ID), func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "credentials replaced", Device: r.m.Device, Detail: "those of unit " + r.m.Planned.Serial},
			tx.ReplaceCredentials(ctx, r.m.DeviceID, kinds, "", own, func(_ *store.Credential, id int64) ([]byte, error) {
				next++
				return SealCredential(r.e.Vault, id, secrets[next-1])
			})
	}))
}
