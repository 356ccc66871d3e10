package engine

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"verimorph/core/catalog"
	"verimorph/core/verify"
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

// Password opens the password by which a device is signed in to now, to give it to another unit that is to take its place. It is "" where it is reached by a key.
func (e *Engine) Password(ctx context.Context, d store.Device) (string, error) {
	cs, err := e.Order(ctx, d, runningVersion(d))
	if err != nil {
		return "", records(err)
	}
	for _, c := range cs {
		if c.Kind != KindPassword {
			continue
		}
		s, err := openCredential(e.Vault, c)
		return s.Password, err
	}
	return "", nil
}
