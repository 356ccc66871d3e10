package engine

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/riverqueue/river"
)

// What River hands out: changes to carry on, downloads to go on with.

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
	w.e.group.once(fmt.Sprintf("change %d", id), func() {
		defer func() { <-w.e.slots }()
		w.e.carry(w.e.working, id, job.Args.Orphan)
	})
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

type fetchWorker struct {
	river.WorkerDefaults[fetchJob]
	e *Engine
}

// Timeout implements river.Worker: a download that stands still is given up by itself.
func (w *fetchWorker) Timeout(*river.Job[fetchJob]) time.Duration { return -1 }

// Work implements river.Worker.
func (w *fetchWorker) Work(ctx context.Context, job *river.Job[fetchJob]) error {
	if err := w.e.Images.Fetch(ctx, job.Args.FetchID); err != nil {
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

// warnings passes on what is a warning or worse: River's own news is no concern of whoever reads our log.
type warnings struct{ slog.Handler }

func (w warnings) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && w.Handler.Enabled(ctx, l)
}

func (w warnings) WithAttrs(a []slog.Attr) slog.Handler { return warnings{w.Handler.WithAttrs(a)} }

func (w warnings) WithGroup(g string) slog.Handler { return warnings{w.Handler.WithGroup(g)} }
