package engine

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/imagestore"
)

// The scheduler: changes whose time has come, changes that lost their worker, downloads and refreshes that nobody runs.

// sweep looks for running changes that nobody carries, after a crash or a shutdown, and hands them out again.
func (e *Engine) sweep(ctx context.Context) {
	for {
		err := e.Store.TimeHasCome(ctx, func(tx pgx.Tx, id int64) error {
			_, err := e.river.InsertTx(ctx, tx, changeJob{ChangeID: id}, nil)
			return err
		})
		var ids []int64
		if err == nil {
			ids, err = e.Store.Orphans(ctx)
		}
		if err == nil {
			for _, id := range ids {
				e.Log.Info("change has no worker, handing it out again", "change", id)
				_, err = e.river.Insert(ctx, changeJob{id, true}, nil)
			}
		}
		if err == nil && e.Images != nil {
			err = e.sweepFetches(ctx)
		}
		if err == nil {
			err = e.sweepRefreshes(ctx)
		}
		if err != nil && ctx.Err() == nil {
			e.Log.Warn("cannot look for orphaned work", "err", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(e.Lease / 4):
		}
	}
}

func (e *Engine) sweepFetches(ctx context.Context) error {
	ids, err := e.Store.IdleFetches(ctx, imagestore.Patience)
	if err != nil {
		return err
	}
	return errors.Join(e.HandOut(ctx, ids...), e.Images.DropOld(ctx))
}

// Act carries out a person's action; starting and resuming hand the change to a worker in the same transaction.
func (e *Engine) Act(ctx context.Context, id int64, a change.Action, by access.Actor, text string) error {
	return e.Store.Act(ctx, id, a, by, text, func(tx pgx.Tx, to change.State) error {
		if to != change.Running {
			return nil
		}
		_, err := e.river.InsertTx(ctx, tx, changeJob{ChangeID: id}, nil)
		return err
	})
}
