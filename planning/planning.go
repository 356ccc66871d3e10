// Package planning turns what somebody wishes into a draft: from the records, the catalogue and the device it works out the path, the steps
// and the ways back, converts what another release needs, says what going back would lose, and records the change. It knows no HTTP; whoever acts
// is handed in as an [access.Actor].
//
// [Planner] is all of it. [Planner.Draft] and [Planner.Redraft] make changes, [Planner.Preview] and [Planner.DraftRestore] restores,
// [Planner.Path] answers what a change would go along, [Planner.Losses] what going back would cost.
//
// # Errors
//
// What a wish lacks, or what makes it impossible now, is an [*Error] with a [Kind]. Errors of the layers below (a *path.NoPathError, a *device.Error, a
// *store.BusyError, an *access.Refusal) are handed on as they are, so that callers can examine them.
package planning

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"

	"verimorph/backupstore"
	"verimorph/blob"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/engine"
	"verimorph/imagestore"
	"verimorph/internal/catcache"
	"verimorph/store"
	"verimorph/vault"
)

// Config is what a planner works with.
type Config struct {
	Store      *store.Store
	Engine     *engine.Engine
	Blobs      *blob.Store
	Images     *imagestore.Images // begins downloads of what the image store lacks
	Catalogues *catcache.Cache
	Backups    *backupstore.Store
	Vault      *vault.Vault
	// Pace converts the catalogue's durations to the pace of the installation. Defaults to real time.
	Pace change.Pace
	// Log hears of records that cannot be used. Defaults to slog.Default.
	Log *slog.Logger
}

// A Planner drafts changes. It is for any number of callers at once.
type Planner struct {
	Config
	paths pathPlanners
}

// New prepares a planner.
func New(c Config) *Planner {
	if c.Log == nil {
		c.Log = slog.Default()
	}
	return &Planner{Config: c}
}

// Kind says what sort of trouble a wish has.
type Kind string

// Kinds of trouble.
const (
	Invalid    Kind = "invalid"    // the wish itself is not right
	NotFound   Kind = "not-found"  // something that it names is not there
	NotNow     Kind = "not-now"    // it cannot be done as things stand
	Unreadable Kind = "unreadable" // a configuration cannot be read
	NoRules    Kind = "no-rules"   // no conversion is known
	Damaged    Kind = "damaged"    // something of ours cannot be read
)

// An Error says why something cannot be planned, and what to do.
type Error struct {
	Kind Kind
	Text string
}

func (e *Error) Error() string { return e.Text }

// IsKind reports whether an error is an *Error of a kind.
func IsKind(err error, k Kind) bool {
	var e *Error
	return errors.As(err, &e) && e.Kind == k
}

func invalid(format string, args ...any) error { return &Error{Invalid, fmt.Sprintf(format, args...)} }
func notFound(format string, args ...any) error {
	return &Error{NotFound, fmt.Sprintf(format, args...)}
}
func conflict(format string, args ...any) error { return &Error{NotNow, fmt.Sprintf(format, args...)} }
func damaged(format string, args ...any) error  { return &Error{Damaged, fmt.Sprintf(format, args...)} }

// pathPlanners are planners of the loaded catalogue. One is for one caller at a time and keeps what it has worked out, so those that are free
// are used again; how many there are follows from how many ask at once.
type pathPlanners struct {
	mu   sync.Mutex
	mark int64
	free []*path.Planner
}

// mostFree is how many planners are kept that nobody uses.
const mostFree = 4

func (p *pathPlanners) take(cat *catalog.Catalogue, mark int64) *path.Planner {
	p.mu.Lock()
	defer p.mu.Unlock()
	if mark != p.mark {
		p.free, p.mark = nil, mark
	}
	if n := len(p.free); n > 0 {
		planner := p.free[n-1]
		p.free = p.free[:n-1]
		return planner
	}
	return path.NewPlanner(cat)
}

func (p *pathPlanners) giveBack(planner *path.Planner, mark int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if mark == p.mark && len(p.free) < mostFree {
		p.free = append(p.free, planner)
	}
}

// Ask answers a path question with a planner of the loaded catalogue.
func (s *Planner) Ask(ctx context.Context, ask func(*catalog.Catalogue, *path.Planner) error) error {
	cat, mark, err := s.Catalogue(ctx)
	if err != nil {
		return err
	}
	planner := s.paths.take(cat, mark)
	err = ask(cat, planner)
	s.paths.giveBack(planner, mark) // not after a panic: what it has worked out may be half done
	return err
}
