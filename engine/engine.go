// Package engine carries changes out, and survives whatever happens to its process. River hands a change to a worker. The worker takes the leases of
// the change's devices and works through the steps, each device in a lane of its own.
//
// Each step is inspected (is it done already?), its intent is recorded, it is performed, and it is confirmed by a look at the device. After a crash
// the next worker begins with a look at the device, not with an assumption about it. A worker that has lost its lease can neither write records nor
// send commands.
//
// [Engine] is the type; [Config] says what it works with, [Engine.Start] and [Engine.Stop] run it, [Engine.Act] carries out what a person decides.
// Backups, schedules, refreshes, keys and notices are in files of those names.
//
// # Errors
//
// Trouble with a device is a *device.Error. Trouble with the records never fails a change: it stays running and continues when the database
// answers. A fault of our own (a panic) is counted in the journal and asks a person after the third time.
package engine

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
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
	"verimorph/syslog"
	"verimorph/transfer"
	"verimorph/vault"
)

// Config is what an engine works with.
type Config struct {
	// Store holds the records, Images the firmware, Backups the bundles, Vault the keys. All four are needed.
	Store   *store.Store
	Blobs   *blob.Store
	Backups *backupstore.Store
	Vault   *vault.Vault
	// Drivers are the kinds of devices that can be spoken with, by the name that a device's record has for its kind.
	Drivers map[string]device.Driver
	// Loaded are drivers that come and go while the service runs; they take the place of those of the same name. Defaults to none.
	Loaded func(context.Context) (map[string]device.Driver, error)
	// Serve gives images to devices that download them.
	Serve *transfer.Server
	// Receiver takes files that devices send. Defaults to none: parts that only come that way are lacking.
	Receiver device.Exchange
	// Images fetches what the image store lacks. Defaults to none: nothing is fetched.
	Images *imagestore.Images
	// Pace converts the catalogue's durations to the pace of the installation. Defaults to real time.
	Pace change.Pace
	Log  *slog.Logger
	// Workers is how many changes are carried at once in this process. Defaults to 2000.
	Workers int
	// Lease is how long a lease lasts without renewal. Defaults to DefaultLease.
	Lease time.Duration
	// Zone is the time zone in which moments are told. Defaults to UTC.
	Zone *time.Location
	// Now is the clock. Defaults to time.Now. What is decided with other workers goes by the clock of the database.
	Now func() time.Time

	// Relays are where syslog messages of other hosts come from. Defaults to none: a message is of the device at whose address it came from.
	Relays []netip.Prefix
	// Collector is where the audit goes as messages of syslog. Defaults to none.
	Collector *syslog.Sender
	// Catalogue returns what is loaded. Defaults to none: prerequisites are not looked at.
	Catalogue func(context.Context) (*catalog.Catalogue, error)
	// Library returns its conversions. Defaults to none.
	Library func(context.Context) (*convert.Library, error)
	// Named returns the advisories that call a release affected, and those of which that is not known. Defaults to none.
	Named func(ctx context.Context, model, release string) (ids, unknown []string, err error)
	// Worked returns what a person worked out as the conversion of a backup's configuration; ok is false when nobody did. Defaults to nobody.
	Worked func(ctx context.Context, b store.Backup, text, to string) (out, note string, ok bool, err error)
}

// An Engine is one worker process. Several may share a database.
type Engine struct {
	Config
	river   *river.Client[pgx.Tx]
	holder  string
	cancel  context.CancelFunc
	working context.Context                        // of the changes; it ends when the process stops
	bundles chan struct{}                          // one for each backup that a change is taking
	slots   chan struct{}                          // one for each change that may be carried at once
	strike  func(r *run, s *store.Step, at string) // nil but in tests

	group     supervised // whatever goes on beside the caller
	messages  *messages
	leases    keptLeases
	progress  progressBook
	admission admission

	mu     sync.Mutex
	proofs map[string]proof // by SHA-256 of an image
	loaded loadedDrivers
}

// DefaultLease is how long a lease lasts without renewal. It is renewed four times in that span, and orphans are looked
// for as often, so a change whose worker died goes on after at most five quarters of it.
const DefaultLease = 8 * time.Second

const (
	fetchQueue   = "fetches"
	fetchWorkers = 4
)

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
	if c.Now == nil {
		c.Now = time.Now
	}
	e := &Engine{Config: c, holder: fmt.Sprintf("%s/%d", host, os.Getpid()), proofs: map[string]proof{}, slots: make(chan struct{}, c.Workers), bundles: make(chan struct{}, bundlesAtOnce), group: supervised{log: c.Log}}
	e.leases = keptLeases{e: e, by: map[int64]*keptLease{}}
	e.progress = progressBook{e: e, by: map[progressOf]store.Progress{}}
	e.messages = &messages{e: e, in: make(chan Said, messagesWait), counts: map[int64]*lineCount{}}
	e.admission = admission{e: e, waiting: make(chan chan struct{})}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{e: e})
	river.AddWorker(workers, &fetchWorker{e: e})
	river.AddWorker(workers, &backupWorker{e: e})
	river.AddWorker(workers, &noticeWorker{e: e})
	river.AddWorker(workers, &refreshWorker{e: e})
	var err error
	e.river, err = river.NewClient(riverpgxv5.New(c.Store.Pool), &river.Config{
		Queues:  map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: c.Workers}, fetchQueue: {MaxWorkers: fetchWorkers}, backupQueue: {MaxWorkers: backupWorkers}, noticeQueue: {MaxWorkers: 4}, refreshQueue: {MaxWorkers: refreshWorkers}},
		Workers: workers,
		Logger:  slog.New(warnings{c.Log.Handler()}),
	})
	return e, err
}

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
	for what, f := range map[string]func(context.Context){"leases": e.leases.renew, "progress": e.progress.write, "admission": e.admission.admit, "scheduler": e.sweep, "upkeep": e.upkeep, "messages": e.messages.keep, "forwarding": e.forward} {
		e.group.loop(ctx, what, f)
	}
	return nil
}

// Stop ends the work at once, and waits until nothing of it goes on any more. Running changes stay running in the records and go on in the next process.
func (e *Engine) Stop(ctx context.Context) error {
	e.cancel()
	err := e.river.StopAndCancel(ctx)
	e.group.wait(ctx)
	return err
}

// now is the time by the engine's clock, since how long ago something was by it.
func (e *Engine) now() time.Time                  { return e.Now() }
func (e *Engine) since(t time.Time) time.Duration { return e.now().Sub(t) }

// Profile is what is known about devices of the kind of one; nil where no driver speaks with it.
func (e *Engine) Profile(d store.Device) *device.Profile {
	if driver := e.Driver(d.Dialect); driver != nil {
		return driver.Profile()
	}
	return nil
}
