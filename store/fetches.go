package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Site is a makers' release site.
type Site struct {
	Name, URL, Username string
	Password            []byte // sealed
	Maker               string // "": all
	ContractEnds        string // as the site said last; "" when it did not
	Trouble             string // why the last contact failed; "" when it did not
}

const siteColumns = `name, url, username, password, maker, contract_ends, trouble`

// PutSite adds or changes a release site.
func (s *Store) PutSite(ctx context.Context, site Site) error {
	_, err := s.db.Exec(ctx, `INSERT INTO sites (name, url, username, password, maker) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (name) DO UPDATE SET url = $2, username = $3, password = $4, maker = $5, contract_ends = '', trouble = ''`,
		site.Name, site.URL, site.Username, site.Password, site.Maker)
	return err
}

// Sites lists the release sites by name.
func (s *Store) Sites(ctx context.Context) ([]Site, error) {
	rows, err := s.db.Query(ctx, `SELECT `+siteColumns+` FROM sites ORDER BY name`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Site])
}

// Site returns a release site.
func (s *Store) Site(ctx context.Context, name string) (site Site, err error) {
	rows, err := s.db.Query(ctx, `SELECT `+siteColumns+` FROM sites WHERE name = $1`, name)
	if err != nil {
		return site, err
	}
	site, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Site])
	return site, one(err)
}

// DeleteSite forgets a release site and its fetches.
func (s *Store) DeleteSite(ctx context.Context, name string) error {
	return s.gone(ctx, `DELETE FROM sites WHERE name = $1`, name)
}

// NoteSite records what the last contact with a site showed.
func (s *Store) NoteSite(ctx context.Context, name, contractEnds, trouble string) error {
	_, err := s.db.Exec(ctx, `UPDATE sites SET contract_ends = coalesce(nullif($2, ''), contract_ends), trouble = $3 WHERE name = $1`, name, contractEnds, trouble)
	return err
}

// States of a fetch.
const (
	FetchWaiting = "waiting"
	FetchRunning = "running"
	FetchPaused  = "paused"
	FetchDone    = "done"
	FetchFailed  = "failed"
	FetchStopped = "stopped"
)

// A Fetch is a download from a release site.
type Fetch struct {
	ID                 int64
	Site, File, SHA256 string
	Size, Done         int64
	Rate               float64 // bytes a second of late
	State              string
	Attempts           int
	Note               string
	StartedBy          string
	StartedAt          time.Time
	EndedAt            *time.Time
}

// Open reports whether the fetch has not ended.
func (f Fetch) Open() bool {
	return f.State == FetchWaiting || f.State == FetchRunning || f.State == FetchPaused
}

const fetchColumns = `id, site, file, sha256, size, done, rate, state, attempts, note, started_by, started_at, ended_at`

// AddFetch records a download, or finds the one of the same content that is under way.
func (s *Store) AddFetch(ctx context.Context, f Fetch) (Fetch, error) {
	rows, err := s.db.Query(ctx, `INSERT INTO fetches (site, file, sha256, size, started_by) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (sha256) WHERE state IN ('waiting', 'running', 'paused') DO UPDATE SET sha256 = fetches.sha256 RETURNING `+fetchColumns, f.Site, f.File, f.SHA256, f.Size, f.StartedBy)
	if err != nil {
		return f, err
	}
	return pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Fetch])
}

// Fetches lists downloads, newest first, at most limit.
func (s *Store) Fetches(ctx context.Context, limit int) ([]Fetch, error) {
	rows, err := s.db.Query(ctx, `SELECT `+fetchColumns+` FROM fetches ORDER BY id DESC LIMIT $1`, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[Fetch])
}

// FetchOf returns the newest download of a content.
func (s *Store) FetchOf(ctx context.Context, sum string) (Fetch, error) {
	return s.fetch(ctx, `SELECT `+fetchColumns+` FROM fetches WHERE sha256 = $1 ORDER BY id DESC LIMIT 1`, sum)
}

// Fetch returns a download.
func (s *Store) Fetch(ctx context.Context, id int64) (Fetch, error) {
	return s.fetch(ctx, `SELECT `+fetchColumns+` FROM fetches WHERE id = $1`, id)
}

func (s *Store) fetch(ctx context.Context, query string, args ...any) (f Fetch, err error) {
	rows, err := s.db.Query(ctx, query, args...)
	if err != nil {
		return f, err
	}
	f, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Fetch])
	return f, one(err)
}

// ClaimFetch takes a download for a process. It is ErrNotFound when it has ended or is held, or when another process that
// gave a sign of life within patience has it.
func (s *Store) ClaimFetch(ctx context.Context, id int64, holder string, patience time.Duration) (Fetch, error) {
	return s.fetch(ctx, `UPDATE fetches SET state = 'running', holder = $2, beat = now(), attempts = attempts + 1
		WHERE id = $1 AND (state = 'waiting' OR state = 'running' AND (holder = $2 OR beat < now() - $3::interval)) RETURNING `+fetchColumns, id, holder, patience)
}

// BeatFetch records how far a download is. It is ErrNotFound when it is no longer the holder's to run.
func (s *Store) BeatFetch(ctx context.Context, id int64, holder string, done int64, rate float64, note string) error {
	return s.gone(ctx, `UPDATE fetches SET done = $3, rate = $4, note = $5, beat = now() WHERE id = $1 AND holder = $2 AND state = 'running'`, id, holder, done, rate, note)
}

// EndFetch records how a download ended, unless a person has held or stopped it.
func (s *Store) EndFetch(ctx context.Context, id int64, holder, state string, done int64, note string) error {
	return s.gone(ctx, `UPDATE fetches SET state = $3, done = $4, note = $5, ended_at = CASE WHEN $3 = 'waiting' THEN NULL ELSE now() END
		WHERE id = $1 AND holder = $2 AND state = 'running'`, id, holder, state, done, note)
}

// ActOnFetch holds, resumes or stops a download; ErrNotFound when its state does not allow that.
func (s *Store) ActOnFetch(ctx context.Context, id int64, from []string, to string) (Fetch, error) {
	return s.fetch(ctx, `UPDATE fetches SET state = $3, beat = now() - interval '1 hour', note = '', ended_at = CASE WHEN $3 = 'stopped' THEN now() END
		WHERE id = $1 AND state = ANY($2) RETURNING `+fetchColumns, id, from, to)
}

// IdleFetches are downloads that should run and that no process has given a sign of life of within patience.
func (s *Store) IdleFetches(ctx context.Context, patience time.Duration) ([]int64, error) {
	rows, err := s.db.Query(ctx, `SELECT id FROM fetches WHERE state = 'waiting' OR state = 'running' AND beat < now() - $1::interval ORDER BY id`, patience)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// CountFetches counts downloads by state.
func (s *Store) CountFetches(ctx context.Context) (map[string]int64, error) {
	return s.counts(ctx, `SELECT state, count(*) FROM fetches GROUP BY state`)
}
