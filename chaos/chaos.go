// Package chaos lets a whole installation suffer: several service processes, a fleet of simulated firewalls and a database, with
// processes killed, connections to devices cut and the database away at random moments, while every device is changed again
// and again. What must hold is counted: no installation is made twice, nothing is called done that is not, no backup is lost, and
// every change goes on within 15 seconds.
package chaos

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"verimorph/core/catalog"
	"verimorph/internal/postgres"
	"verimorph/internal/wire"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/tarnholm"
)

// A Plan says how much is suffered.
type Plan struct {
	Devices, Kills, Cuts, Outages int
	Long                          int           // of the outages last a minute, the others up to 5 s
	Every                         time.Duration // between two kills, on the average
	Factor                        float64       // how much faster than real the devices are
	Lease                         time.Duration
	Host                          string // loopback network of its own: its first three bytes, such as 127.69.0
	Catalogue, Configuration      string // files of the demo
	Progress                      io.Writer
	Seed                          uint64
}

// A Report is what came of it.
type Report struct {
	Kills, Cuts, Outages int
	Changes, Done        int
	Failed               []string        // changes that did not end as they should
	DoubleInstalls       []string        // devices
	FalseDone            []string        // changes
	LostBackups          []string        // changes without one, and damages
	Resumed              []time.Duration // how long after a kill changes went on, each
	Late                 []string        // that took longer than Bound
	Longest              time.Duration
}

// Bound is how long a change may stand still after its worker died.
const Bound = 15 * time.Second

// Wrong lists everything that must not be.
func (r *Report) Wrong() (out []string) {
	for what, list := range map[string][]string{"ended wrongly": r.Failed, "installed twice": r.DoubleInstalls, "called done, and is not": r.FalseDone, "backup lost": r.LostBackups, "went on too late": r.Late} {
		for _, x := range list {
			out = append(out, what+": "+x)
		}
	}
	slices.Sort(out)
	return out
}

type world struct {
	Plan
	dir      string
	boxes    []*tarnholm.Box
	wires    []*wire.Wire // to the boxes
	records  *wire.Wire   // to the database
	pool     *pgxpool.Pool
	workers  []*worker
	token    atomic.Value
	rng      *rand.Rand
	mu       sync.Mutex
	report   Report
	outages  []span // when the database was away
	outage   sync.Mutex
	lastKill atomic.Int64
	waiting  sync.WaitGroup // for changes to go on
}

// span is a stretch of time.
type span struct{ from, to time.Time }

// overlap is how much of [from, to] lies in spans that do not overlap each other.
func overlap(spans []span, from, to time.Time) (d time.Duration) {
	for _, s := range spans {
		if s.from.Before(from) {
			s.from = from
		}
		if s.to.After(to) {
			s.to = to
		}
		d += max(s.to.Sub(s.from), 0)
	}
	return d
}

// worker is one service process that is started again whenever it dies.
type worker struct {
	address string
	cmd     *exec.Cmd
	mu      sync.Mutex
}

// Run lets it suffer. bin is the folder with the built verimorphd.
func Run(ctx context.Context, bin string, p Plan) (*Report, error) {
	dir, err := os.MkdirTemp("", "verimorph-chaos-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	_ = os.Chmod(dir, 0o755)
	w := &world{Plan: p, dir: dir, rng: rand.New(rand.NewPCG(p.Seed, 1))}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	db, err := postgres.Start(ctx, filepath.Join(dir, "postgres"), 0, io.Discard, "fsync=off")
	if err != nil {
		return nil, err
	}
	defer db.Stop()
	if w.pool, err = pgxpool.New(ctx, db.URL); err != nil {
		return nil, err
	}
	defer w.pool.Close()
	host, rest, _ := strings.Cut(strings.TrimPrefix(db.URL, "postgres://"), "@")
	behind, tail, _ := strings.Cut(rest, "/")
	if w.records, err = wire.New("127.0.0.1:0", behind); err != nil {
		return nil, err
	}
	defer w.records.Close()
	url := "postgres://" + host + "@" + w.records.Address() + "/" + tail
	defer func() {
		for _, x := range w.workers {
			x.kill()
		}
		for _, b := range w.boxes {
			b.Stop()
		}
		for _, x := range w.wires {
			x.Close()
		}
	}()
	if err := w.startFleet(); err != nil {
		return nil, err
	}
	if err := w.startWorkers(ctx, bin, url); err != nil {
		return nil, err
	}
	if err := w.load(ctx); err != nil {
		return nil, err
	}
	suffered := make(chan struct{})
	go func() { defer close(suffered); w.suffer(ctx) }()
	var all sync.WaitGroup
	for i := range w.boxes {
		all.Add(1)
		go func() { defer all.Done(); w.changeAgainAndAgain(ctx, i, suffered) }()
	}
	all.Wait()
	w.waiting.Wait()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return &w.report, w.judge(ctx)
}

func (w *world) startFleet() error {
	config, err := os.ReadFile(w.Configuration)
	if err != nil {
		return err
	}
	quiet := slog.New(slog.DiscardHandler)
	for i := range w.Devices {
		address := fmt.Sprintf("%s.%d:2022", w.Host, i+1)
		b, err := tarnholm.Open(tarnholm.Spec{Name: fmt.Sprintf("fw%d", i), Model: "TH-60", Serial: fmt.Sprint("S", i), Address: address, User: "bosun", Version: "5.0.7", Idle: "5.0.6",
			Flash: 24 << 20, Config: string(config), Sessions: 100}, filepath.Join(w.dir, "fleet", fmt.Sprint(i)), w.Factor, quiet)
		if err != nil {
			return err
		}
		if err := b.Start(); err != nil {
			return err
		}
		x, err := wire.New(fmt.Sprintf("%s.%d:3022", w.Host, i+1), address)
		if err != nil {
			return err
		}
		w.boxes, w.wires = append(w.boxes, b), append(w.wires, x)
	}
	return nil
}

// startWorkers starts two processes with one data folder, and starts each again when it dies.
func (w *world) startWorkers(ctx context.Context, bin, url string) error {
	for n := range 2 {
		x := &worker{address: fmt.Sprintf("%s.%d:8420", w.Host, 250+n)}
		w.workers = append(w.workers, x)
		first := make(chan string, 1)
		go func() {
			for ctx.Err() == nil {
				cmd := exec.Command(filepath.Join(bin, "verimorphd"), "-listen", x.address, "-transfer-listen", strings.Replace(x.address, ":8420", ":8421", 1), "-data", filepath.Join(w.dir, "data"),
					"-time-factor", fmt.Sprint(w.Factor), "-lease", w.Lease.String(), "-receive-sftp", strings.Replace(x.address, ":8420", ":8430", 1))
				cmd.Env = append(os.Environ(), "VERIMORPH_DATABASE_URL="+url)
				cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
				var out shared
				log, _ := os.OpenFile(filepath.Join(w.dir, fmt.Sprintf("worker%d.log", n)), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
				cmd.Stdout, cmd.Stderr = &out, log
				x.mu.Lock()
				err := cmd.Start()
				x.cmd = cmd
				x.mu.Unlock()
				if err != nil {
					return
				}
				if n == 0 && len(first) == 0 {
					go func() {
						for range 600 {
							time.Sleep(50 * time.Millisecond)
							if _, after, ok := strings.Cut(out.String(), "Password, shown this once: "); ok && strings.Contains(after, "\n") {
								password, _, _ := strings.Cut(after, "\n")
								first <- password
								return
							}
						}
						first <- ""
					}()
				}
				_ = cmd.Wait()
				_ = log.Close()
				time.Sleep(100 * time.Millisecond) // as whatever starts services again would; without the database one ends soon
			}
		}()
		if n == 0 {
			password := <-first
			if password == "" {
				text, _ := os.ReadFile(filepath.Join(w.dir, "worker0.log"))
				return fmt.Errorf("the service does not start: %s", text)
			}
			var session struct{ Token string }
			if err := w.call(ctx, "POST", "/sign-in", map[string]any{"user": "engineer", "password": password, "days": 1}, &session); err != nil {
				return err
			}
			w.token.Store(session.Token)
		}
	}
	return nil
}

func (x *worker) kill() (pid int) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.cmd == nil || x.cmd.Process == nil {
		return 0
	}
	_ = x.cmd.Process.Kill()
	return x.cmd.Process.Pid
}

// shared is what a process said so far.
type shared struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (s *shared) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.buf.Write(p)
}

func (s *shared) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.buf.String()
}

// count adds one to a figure of the report.
func (w *world) count(n *int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	*n++
}

// call asks whichever service answers, until one does.
func (w *world) call(ctx context.Context, method, path string, body, into any) error {
	data, _ := json.Marshal(body)
	for try := 0; ; try++ {
		err := w.callOnce(ctx, w.workers[try%len(w.workers)], method, path, "application/json", data, into)
		var no *refusal
		if err == nil || errors.As(err, &no) || ctx.Err() != nil || try > 400 {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// refusal is the service's no.
type refusal struct{ text string }

func (e *refusal) Error() string { return e.text }

func (w *world) callOnce(ctx context.Context, x *worker, method, path, kind string, data []byte, into any) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, method, "http://"+x.address+"/api/v1"+path, bytes.NewReader(data))
	if err != nil {
		return err
	}
	q.Header.Set("Content-Type", kind)
	if t, ok := w.token.Load().(string); ok {
		q.Header.Set("Authorization", "Bearer "+t)
	}
	resp, err := http.DefaultClient.Do(q)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	switch {
	case err != nil:
		return err
	case resp.StatusCode >= 500:
		return fmt.Errorf("%s", text)
	case resp.StatusCode >= 400:
		return &refusal{string(text)}
	case into == nil:
		return nil
	}
	return json.Unmarshal(text, into)
}

// load puts catalogue, images and devices into the service.
func (w *world) load(ctx context.Context) error {
	text, err := os.ReadFile(w.Catalogue)
	if err != nil {
		return err
	}
	if err := w.callOnce(ctx, w.workers[0], "PUT", "/catalogue/"+filepath.Base(w.Catalogue), "application/yaml", text, nil); err != nil {
		return fmt.Errorf("catalogue: %w", err)
	}
	cat, found := catalog.ReadDir(os.DirFS(filepath.Dir(w.Catalogue)))
	if len(found.Errors()) > 0 {
		return found.Errors()
	}
	for _, l := range cat.Images() {
		if l.File != "th60-5.4.2.img" && l.File != "th60-5.4.0.img" {
			continue
		}
		data, err := firmware.Content(&l)
		if err != nil {
			return err
		}
		if err := w.callOnce(ctx, w.workers[0], "POST", "/images?file="+l.File, "application/octet-stream", data, nil); err != nil {
			return fmt.Errorf("image: %w", err)
		}
	}
	for i, b := range w.boxes {
		a := b.Access()
		if err := w.call(ctx, "POST", "/devices", map[string]any{"name": a.Name, "address": w.wires[i].Address(), "dialect": "tarnholm", "user": a.User, "password": a.Password, "privilegedPassword": a.Watchword, "transfer": "sftp"}, nil); err != nil {
			return fmt.Errorf("device: %w", err)
		}
	}
	return nil
}

// changeAgainAndAgain upgrades a device and starts its previous installation again, until all that is to be suffered was.
func (w *world) changeAgainAndAgain(ctx context.Context, i int, until <-chan struct{}) {
	b := w.boxes[i]
	name := b.Access().Name
	wrong := func(list *[]string, format string, args ...any) {
		w.mu.Lock()
		defer w.mu.Unlock()
		*list = append(*list, fmt.Sprintf("%s: %s", name, fmt.Sprintf(format, args...)))
	}
	for round := 0; ctx.Err() == nil; round++ {
		select {
		case <-until:
			return
		default:
		}
		var c struct {
			ID             int64
			State, To      string
			Failure        *string
			Question       *struct{ Text string }
			Verdict        *struct{ Verdict string }
			ApprovedBy     *string
			StartedAt, End *time.Time
		}
		// Another version each time: what lies in the idle slot never looks like what is to be installed.
		wish := map[string]any{"device": name, "to": []string{"5.4.2", "5.4.0"}[round/2%2]}
		if round%2 == 1 {
			wish = map[string]any{"device": name, "to": "previous", "back": true}
		}
		if err := w.call(ctx, "POST", "/devices/"+name+"/refresh", nil, nil); err != nil {
			time.Sleep(300 * time.Millisecond)
			round--
			continue
		}
		if err := w.call(ctx, "POST", "/changes", wish, &c); err != nil {
			time.Sleep(300 * time.Millisecond)
			round--
			continue
		}
		before := b.Status().Fits
		act := func(action, state string) bool { // a call that was cut off may have done its work all the same
			for ctx.Err() == nil {
				err := w.call(ctx, "POST", fmt.Sprintf("/changes/%d/%s", c.ID, action), map[string]any{}, &c)
				if err == nil {
					return true
				}
				if w.call(ctx, "GET", fmt.Sprintf("/changes/%d", c.ID), nil, &c) == nil && c.State != state {
					return true
				}
				time.Sleep(300 * time.Millisecond)
			}
			return false
		}
		if !act("approve", "draft") || !act("start", "approved") {
			return
		}
		for ctx.Err() == nil && c.State != "done" && c.State != "failed" && c.State != "asking" && c.State != "returned" && c.State != "stopped" {
			time.Sleep(200 * time.Millisecond)
			_ = w.call(ctx, "GET", fmt.Sprintf("/changes/%d", c.ID), nil, &c)
		}
		if ctx.Err() != nil {
			return
		}
		st := b.Status()
		w.mu.Lock()
		w.report.Changes++
		if c.State == "done" {
			w.report.Done++
		}
		w.mu.Unlock()
		if installs := st.Fits - before; installs > 1 || round%2 == 1 && installs > 0 {
			wrong(&w.report.DoubleInstalls, "%d installations in change %d", installs, c.ID)
		}
		switch {
		case c.State == "done" && (st.Version != c.To || c.Verdict == nil || c.Verdict.Verdict == "fail"):
			wrong(&w.report.FalseDone, "change %d to %s, but it runs %s", c.ID, c.To, st.Version)
		case c.State == "asking":
			wrong(&w.report.Failed, "change %d asks: %s", c.ID, c.Question.Text)
			_ = w.call(ctx, "POST", fmt.Sprintf("/changes/%d/leave", c.ID), map[string]any{}, nil)
		case c.State != "done":
			wrong(&w.report.Failed, "change %d is %s: %s", c.ID, c.State, value(c.Failure))
		}
		if c.State != "done" {
			return // the rest of this device's story would only repeat it
		}
	}
}

func value(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// suffer kills, cuts and takes the database away, in a random order.
func (w *world) suffer(ctx context.Context) {
	var acts []func()
	for range w.Kills {
		acts = append(acts, func() { w.killOne(ctx) })
	}
	for range w.Cuts {
		acts = append(acts, func() {
			x := w.wires[w.rng.IntN(len(w.wires))]
			x.Cut(time.Duration(w.rng.IntN(1500)) * time.Millisecond)
			w.count(&w.report.Cuts)
		})
	}
	for i := range w.Outages {
		d := time.Second + time.Duration(w.rng.IntN(4000))*time.Millisecond
		if i < w.Long {
			d = time.Minute
		}
		acts = append(acts, func() { // kills and cuts go on meanwhile
			w.waiting.Add(1)
			go func() { defer w.waiting.Done(); w.takeAway(ctx, d) }()
		})
	}
	w.rng.Shuffle(len(acts), func(i, j int) { acts[i], acts[j] = acts[j], acts[i] })
	pause := time.Duration(float64(w.Every) * float64(max(w.Kills, 1)) / float64(len(acts)))
	for i, act := range acts {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause/2 + time.Duration(w.rng.Int64N(int64(pause)))):
		}
		act()
		if w.Progress != nil && (i+1)%20 == 0 {
			w.mu.Lock()
			fmt.Fprintf(w.Progress, "%d of %d: %d kills, %d cuts, %d outages; %d changes ended\n", i+1, len(acts), w.report.Kills, w.report.Cuts, w.report.Outages, w.report.Changes)
			w.mu.Unlock()
		}
	}
}

// killOne kills a process and measures how long what it carried stands still.
func (w *world) killOne(ctx context.Context) {
	x := w.workers[w.rng.IntN(len(w.workers))]
	pid := x.kill()
	at := time.Now()
	w.lastKill.Store(at.UnixNano())
	w.count(&w.report.Kills)
	w.watch(ctx, at, `JOIN changes c ON c.device_id = l.device_id AND c.state = 'running' WHERE l.expires_at > now() AND l.holder LIKE '%/' || $1`, fmt.Sprint(pid), false)
}

// takeAway takes the database away and measures how long changes stand still once it is back.
func (w *world) takeAway(ctx context.Context, d time.Duration) {
	w.outage.Lock()
	defer w.outage.Unlock()
	w.count(&w.report.Outages)
	at := time.Now()
	w.mu.Lock()
	w.outages = append(w.outages, span{at, at.Add(d)})
	w.mu.Unlock()
	w.records.Cut(d)
	time.Sleep(d)
	w.watch(ctx, time.Now(), `JOIN changes c ON c.device_id = l.device_id AND c.state = 'running' WHERE l.expires_at <= now() AND $1 = ''`, "", true)
}

// watch measures how long the changes whose leases are picked stand still since then. kept says that who has the lease may go on.
func (w *world) watch(ctx context.Context, since time.Time, which, arg string, kept bool) {
	rows, err := w.pool.Query(ctx, `SELECT l.device_id, l.fence, l.expires_at FROM leases l `+which, arg)
	if err != nil {
		return
	}
	type held struct {
		device, fence int64
		until         time.Time
	}
	var all []held
	for rows.Next() {
		var h held
		if rows.Scan(&h.device, &h.fence, &h.until) == nil {
			all = append(all, h)
		}
	}
	for _, h := range all {
		w.waiting.Add(1)
		go func() {
			defer w.waiting.Done()
			for ctx.Err() == nil {
				var on bool // taken over, kept, or ended
				err := w.pool.QueryRow(ctx, `SELECT l.fence > $2 OR $4 AND l.expires_at > greatest($3, now()) OR NOT EXISTS (SELECT 1 FROM changes c WHERE c.device_id = $1 AND c.state IN ('running', 'holding')) FROM leases l WHERE l.device_id = $1`, h.device, h.fence, h.until, kept).Scan(&on)
				if err == nil && on {
					break
				}
				time.Sleep(50 * time.Millisecond)
			}
			// Whoever was to take over may have been killed itself: the clock begins with the last of them.
			last, now := time.Unix(0, w.lastKill.Load()), time.Now()
			if last.Before(since) {
				last = since
			}
			w.mu.Lock()
			defer w.mu.Unlock()
			took := now.Sub(last) - overlap(w.outages, last, now)
			w.report.Resumed = append(w.report.Resumed, took)
			w.report.Longest = max(w.report.Longest, took)
			if took > Bound {
				w.report.Late = append(w.report.Late, fmt.Sprintf("device %d, %s after its worker was lost", h.device, took.Round(time.Millisecond)))
			}
		}()
	}
}

// judge looks at the records and the store when all is over.
func (w *world) judge(ctx context.Context) error {
	rows, err := w.pool.Query(ctx, `SELECT c.id FROM changes c WHERE c.state = 'done' AND NOT EXISTS (SELECT 1 FROM backups b WHERE b.change_id = c.id AND b.complete AND b.gone_at IS NULL)`)
	if err != nil {
		return err
	}
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return err
		}
		w.report.LostBackups = append(w.report.LostBackups, fmt.Sprintf("change %d has none", id))
	}
	var check struct {
		Bundles int
		Damages []struct{ Volume, What string }
	}
	if err := w.call(ctx, "POST", "/backup-check", map[string]any{"deep": true}, &check); err != nil {
		return err
	}
	for _, d := range check.Damages {
		w.report.LostBackups = append(w.report.LostBackups, d.Volume+" "+d.What)
	}
	return nil
}
