package chaos

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"github.com/jackc/pgx/v5"

	"verimorph/backupstore"
	"verimorph/core/backup"
)

// The judge reads the simulated device and the files of the backup store. It believes nothing that the service says, and recomputes what a
// verdict should be.

// needs is what a change needs of its device.
type needs struct{ installs, boots, files int }

// A ended is a change as the service tells it.
type ended struct {
	ID       int64
	State    string
	From, To string
	Kind     string
	Failure  *string
	Question *struct {
		Kind, Text string
	}
	Verdict *struct {
		Verdict string
		Results []struct{ Title, State, Evidence string }
	}
	Steps []struct {
		Kind, State, Title string
		Back               *bool
	}
}

// needed counts from the steps what the change had to do to its device: nothing of it may have been done more often.
func (c *ended) needed(b *subject) (n needs) {
	for _, s := range c.Steps {
		switch {
		case s.State != "done":
		case s.Kind == "install":
			n.installs++
			if b.kind == "ramp" || b.kind == "gauge" { // they start by themselves
				n.boots++
			}
		case s.Kind == "restart":
			n.boots++
		case s.Kind == "send":
			n.files++
		}
	}
	return n
}

// hold compares what was done to the device with what the change needed, and what it is with what the verdict says.
func (w *world) hold(b *subject, c *ended, before, after look) {
	wrong := func(list *[]string, format string, args ...any) {
		w.keepJournal(c)
		w.mu.Lock()
		defer w.mu.Unlock()
		*list = append(*list, fmt.Sprintf("%s, change %d from %s to %s: %s", b.name, c.ID, c.From, c.To, fmt.Sprintf(format, args...)))
	}
	need := c.needed(b)
	if got := after.installs - before.installs; got != need.installs {
		wrong(&w.report.DoubleInstalls, "installed %d times, %d needed", got, need.installs)
	}
	if got := after.boots - before.boots; got != need.boots {
		wrong(&w.report.DoubleInstalls, "started %d times, %d needed", got, need.boots)
	}
	if got := after.sent - before.sent; got > need.files && b.kind == "firewall" { // a device that fetches may have to do so again
		wrong(&w.report.DoubleInstalls, "%d files arrived whole, %d needed", got, need.files)
	}
	if after.spoilt+after.bricks > before.spoilt+before.bricks {
		wrong(&w.report.DoubleInstalls, "written or started while something was written")
	}
	if c.State != "done" {
		return
	}
	verdict := ""
	if c.Verdict != nil {
		verdict = c.Verdict.Verdict
	}
	if should := w.verdict(b, c, before, after); (should == "") != (verdict == "pass") {
		wrong(&w.report.FalseDone, "the verdict is %q; by the device itself: %s", verdict, orGood(should))
	}
}

// keepJournal writes the journal of a change down, for whoever looks into what was wrong.
func (w *world) keepJournal(c *ended) {
	if w.Journals == "" {
		return
	}
	rows, err := w.pool.Query(context.Background(), `SELECT format('%s fence %s step %s %s: %s', at, fence, step, event, detail) FROM journal WHERE change_id = $1 ORDER BY id`, c.ID)
	if err != nil {
		return
	}
	lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return
	}
	_ = os.WriteFile(filepath.Join(w.Journals, fmt.Sprintf("change-%d.txt", c.ID)), []byte(strings.Join(lines, "\n")+"\n"), 0o600)
}

func orGood(s string) string {
	if s == "" {
		return "all is as it should be"
	}
	return s
}

// verdict is what the device itself says against a pass; "" when nothing does.
func (w *world) verdict(b *subject, c *ended, before, after look) string {
	switch {
	case after.version != c.To:
		return "it runs " + after.version
	case !after.ready:
		return "its services are not ready"
	}
	was, err1 := w.guarded(b, before)
	is, err2 := w.guarded(b, after)
	if err1 != nil || err2 != nil {
		return fmt.Sprintf("its configuration cannot be read: %v %v", err1, err2)
	}
	for path, text := range was {
		if is[path] != text {
			return fmt.Sprintf("the guarded setting %s was %q and is %q", path, text, is[path])
		}
	}
	for name := range named(before.config, b.kind) {
		if !named(after.config, b.kind)[name] {
			return name + " is gone from its configuration"
		}
	}
	return ""
}

// guarded are the guarded settings of what a device is configured with, by the words that identify them: their last ones, since a block may
// have another name on another release.
func (w *world) guarded(b *subject, l look) (map[string]string, error) {
	model := map[string]string{"firewall": "TH-60", "gateway": "SG-5", "ramp": "RC-6", "gauge": "TG-1"}[b.kind]
	at, err := w.lib.ParseStop(model + "@" + l.version)
	if err != nil {
		return nil, err
	}
	schema := w.lib.Schema(at)
	doc, broken := schema.Parse("a", l.config)
	if len(broken) > 0 {
		return nil, fmt.Errorf("%d lines are not understood", len(broken))
	}
	out := map[string]string{}
	for _, it := range schema.Items(doc) {
		if it.Guarded != "" {
			out[it.Path] = it.Node.Text()
		}
	}
	return out, nil
}

// named are the blocks by which a device serves: what is called so has to be there afterwards.
func named(text, kind string) map[string]bool {
	out := map[string]bool{}
	for _, l := range strings.Split(text, "\n") {
		for _, word := range map[string][]string{"firewall": {"rewrite ", "translate ", "tunnel ", "route "}, "ramp": {"[ramp "}, "gauge": {"[tide"}}[kind] {
			if strings.HasPrefix(l, word) {
				out[strings.TrimPrefix(l, word)] = true
			}
		}
	}
	return out
}

// states remembers what a device was configured with, and when: a backup has to hold the bytes of one of these.
type states struct {
	mu   sync.Mutex
	sums map[string]bool
}

func (s *states) had(sum [sha256.Size]byte) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.sums[hex.EncodeToString(sum[:])]
}

func (s *states) see(text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.sums == nil {
		s.sums = map[string]bool{}
	}
	sum := sha256.Sum256([]byte(text))
	s.sums[hex.EncodeToString(sum[:])] = true
}

// judge looks at the records and at the files of the backup store when all is over.
func (w *world) judge(ctx context.Context) error {
	lost := func(format string, args ...any) {
		w.report.LostBackups = append(w.report.LostBackups, fmt.Sprintf(format, args...))
	}
	rows, err := w.pool.Query(ctx, `SELECT c.id FROM changes c WHERE c.state = 'done' AND NOT EXISTS (SELECT 1 FROM backups b WHERE b.change_id = c.id AND b.complete AND b.gone_at IS NULL)`)
	if err != nil {
		return err
	}
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return err
		}
		lost("change %d has none", id)
	}
	for _, b := range w.boxes {
		var finished, open int
		if err := w.pool.QueryRow(ctx, `SELECT count(*) FILTER (WHERE c.state = 'done'), count(*) FILTER (WHERE c.state NOT IN ('draft', 'done', 'failed', 'stopped', 'returned')) FROM changes c JOIN members m ON m.change_id = c.id JOIN devices d ON d.id = m.device_id WHERE d.name = $1`, b.name).Scan(&finished, &open); err != nil {
			return err
		}
		if finished == 0 || open > 0 {
			w.report.Failed = append(w.report.Failed, fmt.Sprintf("%s ends with %d finished changes and %d that are open", b.name, finished, open))
		}
	}
	var check struct {
		Bundles int
		Damages []struct{ Volume, What string }
	}
	if err := w.call(ctx, "POST", "/backup-check", map[string]any{"deep": true}, &check); err != nil {
		return err
	}
	for _, d := range check.Damages {
		lost("%s %s", d.Volume, d.What)
	}
	return w.bytes(lost)
}

// bytes opens the backup store with nothing but the key, and compares the configuration in every bundle with what the device was seen to hold.
func (w *world) bytes(lost func(string, ...any)) error {
	key, err := os.ReadFile(filepath.Join(w.dir, "data", "key"))
	if err != nil {
		return err
	}
	ids, err := age.ParseIdentities(strings.NewReader(string(key)))
	if err != nil {
		return err
	}
	volumes, err := filepath.Glob(filepath.Join(w.dir, "data", "backups", "*.vmv"))
	if err != nil {
		return err
	}
	s, err := backupstore.OpenFiles(volumes, ids)
	if err != nil {
		return err
	}
	defer s.Close()
	bundles, err := s.Bundles()
	if err != nil {
		return err
	}
	if len(bundles) == 0 {
		lost("the store has no bundle at all")
	}
	for _, sum := range bundles {
		m, err := s.Manifest(sum)
		if err != nil {
			lost("bundle %.12s: %s", sum, err)
			continue
		}
		i := slices.IndexFunc(w.boxes, func(b *subject) bool { return b.name == m.Device })
		main := m.Main()
		if i < 0 || main == nil || main.Kind != backup.Configuration {
			lost("bundle %.12s of %s has no configuration", sum, m.Device)
			continue
		}
		data, err := s.Read(main.SHA256)
		if err != nil {
			lost("bundle %.12s of %s: %s", sum, m.Device, err)
			continue
		}
		if !w.seen[i].had(sha256.Sum256(data)) {
			lost("bundle %.12s of %s, taken %s, holds %d bytes that the device never had", sum, m.Device, m.TakenAt.Format(time.TimeOnly), len(data))
		}
	}
	return nil
}
