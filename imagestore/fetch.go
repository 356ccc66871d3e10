package imagestore

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"verimorph/access"
	"verimorph/core/catalog"
	"verimorph/store"
	"verimorph/transfer"
)

// Patience is how long a download may go without a sign of life of its process before another takes it.
const Patience = 8 * time.Second

// tries is how often in a row a download may break without a byte gained.
const tries = 5

// SitePasswordLabel binds a site's sealed password to its place.
func SitePasswordLabel(site string) string { return "release site " + site + " password" }

// Open signs in at a release site and records what that showed.
func (k *Images) Open(ctx context.Context, name string) (*transfer.Site, error) {
	s, err := k.Store.Site(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if err != nil { // trouble with our own records is no fault of the download
		return nil, fmt.Errorf("%w: %w", transfer.ErrBroken, err)
	}
	password, err := k.Vault.Open(SitePasswordLabel(name), s.Password)
	if err != nil {
		return nil, err
	}
	site, err := transfer.OpenSite(ctx, s.URL, s.Username, string(password))
	ends, trouble := "", ""
	if err != nil {
		trouble = err.Error()
	} else {
		ends = site.ContractEnds
	}
	if e := k.Store.NoteSite(ctx, name, ends, trouble); e != nil {
		k.Log.Warn("cannot record what a release site said", "site", name, "err", e)
	}
	return site, err
}

// Want begins downloads of catalogue images that the store lacks, from the first site of their maker; only, when given,
// restricts it to one site. It returns the downloads that are under way and the files for which no site is known.
func (k *Images) Want(ctx context.Context, images []catalog.Listed, only, by string) (fetches []store.Fetch, nowhere []string, err error) {
	sites, err := k.Store.Sites(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, l := range images {
		if k.Blobs.Has(l.SHA256) {
			continue
		}
		site := ""
		for _, s := range sites {
			if (only == "" || s.Name == only) && (s.Maker == "" || strings.EqualFold(s.Maker, l.Family.Maker)) && site == "" {
				site = s.Name
			}
		}
		if site == "" || l.SHA256 == "" {
			nowhere = append(nowhere, l.File)
			continue
		}
		var f store.Fetch
		err := k.Store.Audited(ctx, access.Person(by, ""), func(tx *store.Store) (line store.Line, err error) {
			f, err = tx.AddFetch(ctx, store.Fetch{Site: site, File: l.File, SHA256: l.SHA256, Size: l.Size, StartedBy: by})
			return store.Line{Event: "download started", Detail: fmt.Sprintf("download %d, %s from %s", f.ID, l.File, site)}, err
		})
		if err != nil {
			return nil, nil, err
		}
		fetches = append(fetches, f)
	}
	return fetches, nowhere, nil
}

func (k *Images) fetchPart(f store.Fetch) string { return filepath.Join(k.Dir, "fetches", f.SHA256) }

// Fetch carries a download out, from where its part stands, until it is done, fails for good, is held or stopped, or the
// context ends. It returns at once when the download is in other hands.
func (k *Images) Fetch(ctx context.Context, id int64) error {
	// Whoever held it a moment ago may still be writing its part.
	f, err := k.Store.Fetch(ctx, id)
	if err != nil {
		return err
	}
	lock, err := k.lock(f)
	if err != nil || lock == nil {
		return err
	}
	defer lock.Close()
	f, err = k.Store.ClaimFetch(ctx, id, k.holder, Patience)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r := &fetching{k: k, f: f, began: time.Now()}
	r.done, _ = length(k.fetchPart(f))
	r.first = r.done
	go r.beat(ctx, cancel)
	err = r.run(ctx)
	if context.Cause(ctx) != nil && !errors.Is(context.Cause(ctx), errTaken) {
		// Our process ends: the next one goes on at once.
		return k.finish(context.WithoutCancel(ctx), f, store.FetchWaiting, r.at(), "interrupted")
	}
	if errors.Is(context.Cause(ctx), errTaken) {
		if now, e := k.Store.Fetch(context.WithoutCancel(ctx), id); e == nil && now.State == store.FetchStopped {
			k.forget(f)
		}
		return nil
	}
	if err != nil {
		k.Log.Warn("download failed", "file", f.File, "site", f.Site, "err", err)
		return k.finish(ctx, f, store.FetchFailed, r.at(), err.Error())
	}
	k.forget(f)
	return k.finish(ctx, f, store.FetchDone, f.Size, r.outcome)
}

func (k *Images) finish(ctx context.Context, f store.Fetch, state string, done int64, note string) error {
	err := k.Store.EndFetch(ctx, f.ID, k.holder, state, done, note)
	if errors.Is(err, store.ErrNotFound) {
		return nil // a person was quicker
	}
	return err
}

// lock keeps others from the part of a download; nil when somebody has it.
func (k *Images) lock(f store.Fetch) (*os.File, error) {
	l, err := os.OpenFile(k.fetchPart(f)+".lock", os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if syscall.Flock(int(l.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		return nil, l.Close()
	}
	return l, nil
}

// forget removes the part of a download.
func (k *Images) forget(f store.Fetch) {
	_ = os.Remove(k.fetchPart(f))
	_ = os.Remove(k.fetchPart(f) + ".tag")
	_ = os.Remove(k.fetchPart(f) + ".lock")
}

var errTaken = errors.New("the download was held, stopped or taken over")

// fetching is one download in this process.
type fetching struct {
	k       *Images
	f       store.Fetch
	began   time.Time
	outcome string

	first int64 // where this process began
	done  int64 // written with lock
	note  string
}

func (r *fetching) at() int64 {
	r.k.mu.Lock()
	defer r.k.mu.Unlock()
	return r.done
}

func (r *fetching) say(done int64, note string) {
	r.k.mu.Lock()
	defer r.k.mu.Unlock()
	r.done, r.note = done, note
}

// beat records progress twice a second, which is also the sign of life; when the download is no longer ours, the work is
// cancelled.
func (r *fetching) beat(ctx context.Context, cancel context.CancelCauseFunc) {
	for {
		r.k.mu.Lock()
		done, note := r.done, r.note
		r.k.mu.Unlock()
		rate := float64(max(done-r.first, 0)) / max(time.Since(r.began).Seconds(), 0.001)
		if err := r.k.Store.BeatFetch(ctx, r.f.ID, r.k.holder, done, rate, note); errors.Is(err, store.ErrNotFound) {
			cancel(errTaken)
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// run tries until the file is in the store. Only what trying again may mend is tried again, after longer and longer rests.
func (r *fetching) run(ctx context.Context) error {
	rest := r.k.Rest
	for failed := 0; ; {
		before := r.at()
		err := r.once(ctx)
		if err == nil || ctx.Err() != nil {
			return err
		}
		if !errors.Is(err, transfer.ErrBroken) {
			return err
		}
		if r.at() > before {
			failed, rest = 0, r.k.Rest
		}
		if failed++; failed >= tries {
			return fmt.Errorf("given up after %d tries without a byte gained: %w", tries, err)
		}
		r.say(r.at(), fmt.Sprintf("%s; trying again", err))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(rest):
		}
		rest = min(rest*2, 30*time.Second)
	}
}

func (r *fetching) once(ctx context.Context) error {
	site, err := r.k.Open(ctx, r.f.Site)
	if err != nil {
		return err
	}
	sums, err := site.Sums(ctx)
	if err != nil {
		return err
	}
	switch sum, ok := sums[r.f.File]; {
	case !ok:
		return refused("%s: the hash list of site %s does not name it", r.f.File, r.f.Site)
	case sum != r.f.SHA256:
		return refused("%s: site %s now offers another file under this name: its hash list says %.16s..., the catalogue says %.16s...; ask the maker which is right, then load a catalogue that agrees", r.f.File, r.f.Site, sum, r.f.SHA256)
	}
	part := r.k.fetchPart(r.f)
	if n, err := length(part); err != nil || n != r.f.Size {
		err := site.Download(ctx, r.f.File, r.f.Size, part, func(done int64) { r.say(done, "downloading from "+r.f.Site) })
		if errors.Is(err, syscall.ENOSPC) {
			return errors.New("the disk of the service is full; make room in its data folder and resume")
		}
		if err != nil {
			return err
		}
	}
	signature, err := site.Signature(ctx, r.f.File)
	if err != nil {
		return err
	}
	r.say(r.f.Size, "checking")
	im, _, err := r.k.adopt(ctx, part, r.f.File, signature, r.f.StartedBy)
	var no *RefusedError
	if errors.As(err, &no) {
		r.k.forget(r.f) // another try must begin anew
		return err
	}
	if err != nil {
		return err
	}
	r.outcome = "hash and header are right"
	if im.Signed {
		r.outcome = "hash, header and signature are right"
	}
	return nil
}

// moves says from which states an action takes a download, and to which.
var moves = map[string]struct {
	from []string
	to   string
}{
	"pause":  {[]string{store.FetchWaiting, store.FetchRunning}, store.FetchPaused},
	"resume": {[]string{store.FetchPaused, store.FetchFailed}, store.FetchWaiting},
	"stop":   {[]string{store.FetchWaiting, store.FetchRunning, store.FetchPaused, store.FetchFailed}, store.FetchStopped},
}

// Act pauses, resumes or stops a download.
func (k *Images) Act(ctx context.Context, id int64, action string, by access.Actor) (store.Fetch, error) {
	var f store.Fetch
	move, known := moves[action]
	if !known {
		return f, refused("action %q is not known; use pause, resume or stop", action)
	}
	err := k.Store.Audited(ctx, by, func(tx *store.Store) (l store.Line, err error) {
		f, err = tx.ActOnFetch(ctx, id, move.from, move.to)
		return store.Line{Event: "download, " + action, Detail: fmt.Sprintf("download %d, %s", id, f.File)}, err
	})
	if err == nil && action == "stop" {
		// A process that runs it removes the part when it notices.
		if lock, e := k.lock(f); e == nil && lock != nil {
			k.forget(f)
			_ = lock.Close()
		}
	}
	if _, taken := store.Conflict(err); taken {
		return f, refused("another download of this file is under way")
	}
	if errors.Is(err, store.ErrNotFound) {
		if f, e := k.Store.Fetch(ctx, id); e == nil {
			return f, refused("download %d is %s; %s does not apply", id, f.State, action)
		}
	}
	return f, err
}
