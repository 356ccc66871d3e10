// Package engine carries changes out, durably. River hands a change to a worker; the worker takes the lease of the
// device and goes through the steps. Each step is inspected (is it so already?), its intent is recorded, it is
// performed, and confirmed by looking at the device. Whatever happens to the process, the next worker begins with a
// look at the device, not with a belief about it.
package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	rundebug "runtime/debug"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"verimorph/backupstore"
	"verimorph/blob"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/convert"
	"verimorph/device"
	"verimorph/imagestore"
	"verimorph/store"
	"verimorph/transfer"
	"verimorph/vault"
)

// Config is what an engine works with.
type Config struct {
	Store    *store.Store
	Images   *blob.Store
	Keeper   *imagestore.Keeper // fetches what the image store lacks; nil: nothing is fetched
	Backups  *backupstore.Store
	Receiver device.Exchange // takes files that devices send; nil: none
	Vault    *vault.Vault
	Dialects map[string]*device.Dialect
	Serve    *transfer.Server // for devices that fetch their image
	Pace     change.Pace
	Log      *slog.Logger
	Workers  int            // changes at once in this process; 0: 2000
	Lease    time.Duration  // 0: DefaultLease
	Zone     *time.Location // in which moments are told; nil: UTC

	Catalogue func(context.Context) (*catalog.Catalogue, error) // what is loaded; nil: prerequisites are not looked at
	Library   func(context.Context) (*convert.Library, error)   // its conversions; nil: none
	// Named returns the advisories that call a release affected, and those of which that is not known; nil: there are none.
	Named func(ctx context.Context, model, release string) (ids, unknown []string, err error)
	// Worked returns what a person worked out as the conversion of a backup's configuration; ok is false when nobody did.
	Worked func(ctx context.Context, b store.Backup, text, to string) (out, note string, ok bool, err error)
}

// An Engine is one worker process. Several may share a database.
type Engine struct {
	Config
	river    *river.Client[pgx.Tx]
	holder   string
	cancel   context.CancelFunc
	working  context.Context                        // of the changes; it ends when the process stops
	carrying sync.WaitGroup                         // whatever goes on beside the caller: changes, and what is done every now and then
	bundles  chan struct{}                          // one for each backup that a change is taking
	slots    chan struct{}                          // one for each change that may be carried at once
	strike   func(r *run, s *store.Step, at string) // nil but in tests

	mu       sync.Mutex
	held     map[int64]*keptLease     // by device
	progress map[int64]store.Progress // by change: what was not written yet
	proofs   map[string]proof         // by SHA-256 of an image
	door     chan chan struct{}       // where changes wait that have not begun
}

// DefaultLease is how long a lease lasts without renewal. It is renewed four times in that span, and orphans are looked
// for as often, so a change whose worker died goes on after at most five quarters of it.
const DefaultLease = 8 * time.Second

// changeJob is the River job: carry a change on from where its device stands.
type changeJob struct {
	ChangeID int64 `json:"change_id"`
	Orphan   bool  `json:"orphan,omitempty"` // it had a worker before
}

// Kind implements river.JobArgs.
func (changeJob) Kind() string { return "change" }

// InsertOpts implements river.JobArgsWithInsertOpts: a job that ends is never repeated by River, since the sweep finds
// whatever has to go on.
func (changeJob) InsertOpts() river.InsertOpts { return river.InsertOpts{MaxAttempts: 1} }

type worker struct {
	river.WorkerDefaults[changeJob]
	e *Engine
}

// Timeout implements river.Worker: steps have limits of their own.
func (w *worker) Timeout(*river.Job[changeJob]) time.Duration { return -1 }

// Work implements river.Worker. A job says that a change is to be carried on, and is done when somebody does: what goes on from there
// is told by the lease. The change has a goroutine of its own, whose stack is not as deep as that of a job.
func (w *worker) Work(ctx context.Context, job *river.Job[changeJob]) error {
	select {
	case w.e.slots <- struct{}{}:
	case <-ctx.Done():
		return nil
	}
	id := job.Args.ChangeID
	w.e.carrying.Add(1)
	go func() {
		defer w.e.carrying.Done()
		defer func() { <-w.e.slots }()
		defer func() { // a fault of ours with one change is no end of the others
			if p := recover(); p != nil {
				w.e.Log.Error("a change broke off by a fault of the service", "change", id, "panic", p, "stack", string(rundebug.Stack()))
			}
		}()
		w.e.carry(w.e.working, id, job.Args.Orphan)
	}()
	return nil
}

// fetchJob is the River job: carry a download on from where its part stands.
type fetchJob struct {
	FetchID int64 `json:"fetch_id"`
}

// Kind implements river.JobArgs.
func (fetchJob) Kind() string { return "fetch" }

// InsertOpts implements river.JobArgsWithInsertOpts, as for changes; downloads have a queue of their own, so that they
// never wait for changes nor changes for them.
func (fetchJob) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 1, Queue: fetchQueue}
}

const (
	fetchQueue   = "fetches"
	fetchWorkers = 4
)

type fetchWorker struct {
	river.WorkerDefaults[fetchJob]
	e *Engine
}

// Timeout implements river.Worker: a download that stands still is given up by itself.
func (w *fetchWorker) Timeout(*river.Job[fetchJob]) time.Duration { return -1 }

// Work implements river.Worker.
func (w *fetchWorker) Work(ctx context.Context, job *river.Job[fetchJob]) error {
	if err := w.e.Keeper.Fetch(ctx, job.Args.FetchID); err != nil {
		w.e.Log.Error("download cannot go on now", "fetch", job.Args.FetchID, "err", err)
	}
	return nil
}

// HandOut gives downloads that should run to workers.
func (e *Engine) HandOut(ctx context.Context, fetches ...int64) error {
	for _, id := range fetches {
		if _, err := e.river.Insert(ctx, fetchJob{id}, nil); err != nil {
			return err
		}
	}
	return nil
}

// New prepares an engine.
func New(c Config) (*Engine, error) {
	host, _ := os.Hostname()
	if c.Workers == 0 {
		c.Workers = 2000
	}
	if c.Zone == nil {
		c.Zone = time.UTC
	}
	if c.Lease == 0 {
		c.Lease = DefaultLease
	}
	e := &Engine{Config: c, holder: fmt.Sprintf("%s/%d", host, os.Getpid()), held: map[int64]*keptLease{}, progress: map[int64]store.Progress{}, proofs: map[string]proof{}, door: make(chan chan struct{}), slots: make(chan struct{}, c.Workers), bundles: make(chan struct{}, bundlesAtOnce)}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{e: e})
	river.AddWorker(workers, &fetchWorker{e: e})
	river.AddWorker(workers, &backupWorker{e: e})
	river.AddWorker(workers, &noticeWorker{e: e})
	var err error
	e.river, err = river.NewClient(riverpgxv5.New(c.Store.Pool), &river.Config{
		Queues:  map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: c.Workers}, fetchQueue: {MaxWorkers: fetchWorkers}, backupQueue: {MaxWorkers: backupWorkers}, noticeQueue: {MaxWorkers: 4}},
		Workers: workers,
		Logger:  slog.New(warnings{c.Log.Handler()}),
	})
	return e, err
}

// warnings passes on what is a warning or worse: River's own news is no concern of whoever reads our log.
type warnings struct{ slog.Handler }

func (w warnings) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && w.Handler.Enabled(ctx, l)
}
func (w warnings) WithAttrs(a []slog.Attr) slog.Handler { return warnings{w.Handler.WithAttrs(a)} }
func (w warnings) WithGroup(g string) slog.Handler      { return warnings{w.Handler.WithGroup(g)} }

// Start begins to take work. It returns at once.
func (e *Engine) Start(ctx context.Context) error {
	if err := e.adopt(ctx); err != nil {
		return err
	}
	ctx, e.cancel = context.WithCancel(ctx)
	e.working = ctx
	if err := e.river.Start(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	for _, f := range []func(context.Context){e.keepAll, e.flushAll, e.keepDoor, e.sweep, e.upkeep} {
		e.carrying.Go(func() { f(ctx) })
	}
	return nil
}

// Stop ends the work at once, and waits until nothing of it goes on any more. Running changes stay running in the records and go on in the next process.
func (e *Engine) Stop(ctx context.Context) error {
	e.cancel()
	err := e.river.StopAndCancel(ctx)
	ended := make(chan struct{})
	go func() { e.carrying.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-ctx.Done():
	}
	return err
}

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
		if err == nil && e.Keeper != nil {
			err = e.sweepFetches(ctx)
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
	return errors.Join(e.HandOut(ctx, ids...), e.Keeper.DropOld(ctx))
}

// Act carries out a person's action; starting and resuming hand the change to a worker in the same transaction.
func (e *Engine) Act(ctx context.Context, id int64, a change.Action, by, text string) error {
	return e.Store.Act(ctx, id, a, by, text, func(tx pgx.Tx, to change.State) error {
		if to != change.Running {
			return nil
		}
		_, err := e.river.InsertTx(ctx, tx, changeJob{ChangeID: id}, nil)
		return err
	})
}

// carry takes the device's lease and carries the change on until it ends, holds, or the lease or the process is lost.
func (e *Engine) carry(ctx context.Context, id int64, orphan bool) {
	log := e.Log.With("change", id)
	c, err := e.Store.Change(ctx, id)
	if err != nil {
		log.Error("cannot load the change", "err", err)
		return
	}
	if c.State != change.Running && c.State != change.Holding {
		return
	}
	lease, ok, err := e.Store.Acquire(ctx, c.DeviceID, e.holder, e.Lease)
	if err != nil || !ok {
		log.Info("the device is in other hands", "device", c.Device, "err", err)
		return
	}
	defer func() { _ = e.Store.Release(context.WithoutCancel(ctx), lease) }()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer e.keeping(lease, cancel)()

	if !c.Begun() {
		e.enter(ctx)
	}
	r := e.newRun(&c, lease)
	defer r.hangUp()
	defer r.silence()
	if orphan {
		err = r.resumed(ctx)
	}
	if err == nil {
		err = r.all(ctx)
	}
	switch cause := context.Cause(ctx); {
	case err == nil:
	case errors.Is(err, store.ErrFenced):
		log.Warn("another worker has taken over", "device", c.Device)
	case cause != nil:
		log.Info("interrupted; it goes on from where the device stands", "device", c.Device, "why", cause)
	default:
		log.Error("the change cannot go on now", "device", c.Device, "err", err)
	}
}

// askLimit bounds what is asked of a device outside a change.
const askLimit = 2 * time.Minute

// ask connects to a device outside a change, for as long as askLimit; done ends the connection. by and why go into the
// audit. The host key is pinned at the first contact.
func (e *Engine) ask(ctx context.Context, d store.Device, by, why string) (_ context.Context, c *device.Client, done func(), err error) {
	t, err := e.target(ctx, d, "", by, why)
	if err != nil {
		return nil, nil, nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	if c, err = device.Dial(ctx, t); err != nil {
		cancel()
		return nil, nil, nil, err
	}
	if d.HostKey == "" && c.HostKey() != "" {
		if err := e.Store.PinHostKey(ctx, d.ID, c.HostKey()); err != nil {
			c.Close()
			cancel()
			return nil, nil, nil, err
		}
	}
	return ctx, c, func() { c.Close(); cancel() }, nil
}

// Refresh takes a device's portrait and records it; when that fails, why.
func (e *Engine) Refresh(ctx context.Context, d store.Device, by string) (p *device.Portrait, err error) {
	defer func() {
		if record := (*recordError)(nil); err != nil && !errors.As(err, &record) && ctx.Err() == nil {
			err = errors.Join(err, e.Store.LookFailed(ctx, d.ID, err.Error()))
		}
	}()
	asking, c, done, err := e.ask(ctx, d, by, "refresh")
	if err != nil {
		return nil, err
	}
	defer done()
	if p, err = c.Portrait(asking); err != nil {
		return nil, err
	}
	return p, e.recordPortrait(asking, d.ID, p)
}

func (e *Engine) recordPortrait(ctx context.Context, deviceID int64, p *device.Portrait) error {
	data, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return records(e.Store.SetPortrait(ctx, deviceID, data))
}

// TryConfiguration has a device read a configuration without using it. The portrait is the one it has now.
func (e *Engine) TryConfiguration(ctx context.Context, d store.Device, allowed func(*device.Portrait) error, text []byte, by string) ([]device.Message, error) {
	ctx, c, done, err := e.ask(ctx, d, by, "try a configuration")
	if err != nil {
		return nil, err
	}
	defer done()
	p, err := c.Portrait(ctx)
	if err != nil {
		return nil, err
	}
	if err := allowed(p); err != nil {
		return nil, err
	}
	return c.TryConfiguration(ctx, text)
}
