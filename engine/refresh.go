package engine

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"verimorph/access"
	"verimorph/device"
	"verimorph/store"
)

// Looks at devices that somebody asks for, as jobs: whoever asks is answered at once, and sees how far it is.

const (
	refreshQueue   = "refreshes"
	refreshWorkers = 32
	// refreshPatience is how long nothing may be heard of the worker of a refresh until another one takes it up. A worker says every fifth of
	// it that it is there.
	refreshPatience = 15 * time.Second
)

// refreshJob is the River job: look at a device.
type refreshJob struct {
	RefreshID int64 `json:"refresh_id"`
}

// Kind implements river.JobArgs.
func (refreshJob) Kind() string { return "refresh" }

// InsertOpts implements river.JobArgsWithInsertOpts. A job that is lost is found by the scheduler.
func (refreshJob) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 1, Queue: refreshQueue}
}

type refreshWorker struct {
	river.WorkerDefaults[refreshJob]
	e *Engine
}

// Timeout implements river.Worker: what is asked of a device has a limit of its own.
func (w *refreshWorker) Timeout(*river.Job[refreshJob]) time.Duration { return -1 }

// Work implements river.Worker.
func (w *refreshWorker) Work(ctx context.Context, job *river.Job[refreshJob]) error {
	if err := w.e.refresh(ctx, job.Args.RefreshID); err != nil {
		w.e.Log.Error("cannot look at a device now", "refresh", job.Args.RefreshID, "err", err)
	}
	return nil
}

// AskRefresh asks for a look at a device and returns at once; one that is under way is returned as it is.
func (e *Engine) AskRefresh(ctx context.Context, d store.Device, by access.Actor) (store.Refresh, error) {
	return e.Store.AddRefresh(ctx, by, d.ID, func(tx pgx.Tx, id int64) error {
		_, err := e.river.InsertTx(ctx, tx, refreshJob{id}, nil)
		return err
	})
}

// refresh carries a refresh out. It returns an error only when the refresh stays open: interrupted, or the records cannot be written.
func (e *Engine) refresh(ctx context.Context, id int64) error {
	r, ok, err := e.Store.TakeRefresh(ctx, id, refreshPatience)
	if err != nil || !ok {
		return err
	}
	d, err := e.Store.DeviceByID(ctx, r.DeviceID)
	if err != nil {
		return err
	}
	told := &refreshProgress{doing: "connecting to " + d.Address}
	telling, stop := context.WithCancel(device.Telling(ctx, told.note))
	ended := make(chan struct{})
	go func() { defer close(ended); e.tellRefresh(telling, id, told) }()
	_, err = e.Refresh(telling, d, access.Person(r.AskedBy, ""))
	stop()
	<-ended
	var record *recordError
	switch {
	case ctx.Err() != nil || errors.As(err, &record):
		return errors.Join(err, ctx.Err())
	case err == nil:
		return e.Store.EndRefresh(ctx, id, "", false)
	}
	return e.Store.EndRefresh(ctx, id, err.Error(), errors.As(err, new(*device.Error)))
}

// tellRefresh writes how far a refresh is, until the context ends. Nobody sees more than a few a second.
func (e *Engine) tellRefresh(ctx context.Context, id int64, p *refreshProgress) {
	last, at := "", time.Time{}
	for {
		doing, fraction := p.now()
		if doing != last || time.Since(at) > refreshPatience/5 {
			if err := e.Store.NoteRefresh(ctx, id, doing, fraction); err == nil {
				last, at = doing, time.Now()
			}
		}
		if pause(ctx, 200*time.Millisecond) != nil {
			return
		}
	}
}

// refreshProgress is what a driver told last.
type refreshProgress struct {
	mu       sync.Mutex
	doing    string
	fraction float64
}

// connected is the share of a refresh that is over once the device has let us in.
const connected = 0.3

func (p *refreshProgress) note(doing string, done, of int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.doing, p.fraction = doing, connected
	if of > 0 {
		p.fraction += (1 - connected) * float64(done) / float64(of)
	}
}

func (p *refreshProgress) now() (doing string, fraction float64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.doing, p.fraction
}

// sweepRefreshes hands out again what lost its worker.
func (e *Engine) sweepRefreshes(ctx context.Context) error {
	ids, err := e.Store.LostRefreshes(ctx, refreshPatience)
	for _, id := range ids {
		if err == nil {
			_, err = e.river.Insert(ctx, refreshJob{id}, nil)
		}
	}
	return err
}
