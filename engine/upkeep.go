package engine

import (
	"context"
	"time"

	"verimorph/access"
	"verimorph/backupstore"
)

func checking(expect []string, deep bool) backupstore.Checking {
	return backupstore.Checking{Expect: expect, Deep: deep}
}

const (
	backupQueue   = "backups"
	backupWorkers = 16
)

// rewrites is how often volumes are rewritten when something else is at work on them, and rewritePause the time between.
const (
	rewrites     = 30
	rewritePause = time.Second
)

// dataKeyAge is when a data key is replaced by itself.
const dataKeyAge = 90 * 24 * time.Hour

// upkeep is what has to be done every now and then: schedules every few seconds, tidying every hour, a check every day.
func (e *Engine) upkeep(ctx context.Context) {
	warn := func(what string, err error) {
		if err != nil && ctx.Err() == nil {
			e.Log.Warn("cannot "+what, "err", err)
		}
	}
	warn("finish what was begun", e.catchUp(ctx))
	seldom, proved := e.now(), e.now()
	for {
		warn("hand out backups", e.schedule(ctx, e.now()))
		if e.since(seldom) > time.Hour {
			seldom = e.now()
			_, err := e.Prune(ctx)
			warn("tidy the backup store", err)
			warn("finish what was begun", e.catchUp(ctx))
			if st, err := e.Vault.State(ctx); err == nil && e.since(st.DataKeyAt) > dataKeyAge {
				warn("rotate the data key", e.RotateDataKey(ctx, access.Service("the service")))
			}
		}
		if e.since(proved) > 24*time.Hour { // damage is found before somebody needs what it hit
			proved = e.now()
			_, err := e.CheckBackups(ctx, false)
			warn("check the backup store", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(2 * time.Second):
		}
	}
}

// catchUp finishes what an earlier process was cut short in.
func (e *Engine) catchUp(ctx context.Context) error {
	if err := e.Store.LostAttempts(ctx, 10*time.Minute); err != nil {
		return err
	}
	st, err := e.Vault.State(ctx)
	if err != nil {
		return err
	}
	if len(st.Older) > 0 {
		return e.finishRotation(ctx)
	}
	if err := e.tidy(ctx, true); err != nil { // an offline recipient may have come or gone
		return err
	}
	return e.Reseal(ctx)
}
