// Package chaos injects faults (killed services, cut networks, database outages) and counts violated invariants.
//
// [Run] starts an installation of several service processes, a database and a fleet of simulated devices of four kinds. While every device is
// changed again and again, it kills and pauses processes, cuts and slows connections to devices, and takes the database away, at random moments and
// in the middle of commands.
//
// The judge reads the simulated devices themselves and relies on nothing that the service says. For each device it compares what happened with what
// the changes needed: starts, installations, files, the bytes of every backup, guarded settings, and the verdict. A change that does not end
// within its time is a violation, too, and so is one that does not go on within 15 seconds after a fault.
package chaos

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
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
	"verimorph/core/convert"
	"verimorph/internal/postgres"
	"verimorph/internal/wire"
)

// A Plan says how much is suffered.
type Plan struct {
	Devices, Kills, Cuts, Outages int
	Pauses                        int           // of processes, for longer than their leases last
	Long                          int           // of the outages last a minute, the others up to 5 s
	Every                         time.Duration // between two kills, on the average
	Factor                        float64       // how much faster than real the devices are
	Lease                         time.Duration
	Host                          string // loopback network of its own: its first three bytes, such as 127.69.0
	Demo                          string // folder of the demo: catalogue and configurations
	Progress                      io.Writer
	Seed                          uint64
	Journals                      string // folder for the journals of changes in which something was wrong; "": they are not kept
}

// A Report is what came of it.
type Report struct {
	Kills, Cuts, Outages int
	Pauses               int
	InCommand            int // of all these, in the middle of a command
	Changes, Done        int
	ByKind               map[string]int  // changes that ended, by kind of device
	Failed               []string        // changes that did not end as they should, and devices without a finished change
	DoubleInstalls       []string        // installed, started or sent more often than the change needed
	FalseDone            []string        // verdicts that the judge does not share
	LostBackups          []string        // changes without one, bytes that are not what the device held, and damages
	Resumed              []time.Duration // how long after a kill changes went on, each
	Late                 []string        // that took longer than Bound
	Longest              time.Duration
}

// Bound is how long a change may stand still after its worker died.
const Bound = 15 * time.Second

// Wrong lists everything that must not be.
func (r *Report) Wrong() (out []string) {
	for what, list := range map[string][]string{"ended wrongly": r.Failed, "done twice": r.DoubleInstalls, "called done, and is not": r.FalseDone,
		"backup lost": r.LostBackups, "went on too late": r.Late} {
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
	boxes    []*subject
	wires    []*wire.Wire // to the boxes
	records  []*wire.Wire // to the database, one for each process
	cat      *catalog.Catalogue
	lib      *convert.Library
	armed    chan func(*subject) // what strikes in the middle of the next command
	pool     *pgxpool.Pool
	seen     []states // of the devices
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
	w := &world{Plan: p, dir: dir, rng: rand.New(rand.NewPCG(p.Seed, 1)), armed: make(chan func(*subject), 4096)}
	w.report.ByKind = map[string]int{}
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
	var urls []string
	for range 2 {
		x, err := wire.New("127.0.0.1:0", behind)
		if err != nil {
			return nil, err
		}
		defer x.Close()
		w.records, urls = append(w.records, x), append(urls, "postgres://"+host+"@"+x.Address()+"/"+tail)
	}
	defer func() {
		for _, x := range w.workers {
			x.kill()
		}
		for _, b := range w.boxes {
			b.stop()
		}
		for _, x := range w.wires {
			x.Close()
		}
	}()
	if err := w.startFleet(); err != nil {
		return nil, err
	}
	w.seen = make([]states, len(w.boxes))
	if err := w.startWorkers(ctx, bin, urls); err != nil {
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

// startWorkers starts two processes with one data folder, and starts each again when it dies.
func (w *world) startWorkers(ctx context.Context, bin string, urls []string) error {
	for n := range 2 {
		x := &worker{address: fmt.Sprintf("%s.%d:8420", w.Host, 250+n)}
		w.workers = append(w.workers, x)
		first := make(chan string, 1)
		go func() {
			for ctx.Err() == nil {
				port := func(n string) string { return strings.Replace(x.address, ":8420", ":"+n, 1) }
				cmd := exec.Command(filepath.Join(bin, "verimorphd"), "-listen", x.address, "-transfer-listen", port("8421"),
					"-data", filepath.Join(w.dir, "data"),
					"-time-factor", fmt.Sprint(w.Factor), "-lease", w.Lease.String(),
					"-receive-sftp", port("8430"), "-receive-ftp", port("8431"), "-receive-tftp", port("8432"))
				cmd.Env = append(os.Environ(), "VERIMORPH_DATABASE_URL="+urls[n])
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

// running joins leases (l) with the changes that run on their devices (c).
const running = `JOIN members m ON m.device_id = l.device_id JOIN changes c ON c.id = m.change_id AND c.state = 'running' WHERE `

// suffer strikes in a random order. Every third strike waits for the next command of some device and falls into the middle of it.
func (w *world) suffer(ctx context.Context) {
	var acts []func(*subject)
	some := func(b *subject) int {
		if b != nil {
			return b.n
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		return w.rng.IntN(len(w.wires))
	}
	for range w.Kills {
		acts = append(acts, func(*subject) { w.killOne(ctx) })
	}
	for range w.Pauses {
		acts = append(acts, func(*subject) { w.pauseOne(ctx) })
	}
	for i := range w.Cuts {
		d := time.Duration(w.rng.IntN(1500)) * time.Millisecond
		acts = append(acts, func(b *subject) {
			switch x := w.wires[some(b)]; i % 4 {
			case 2: // what is said is heard, and no answer comes back
				x.Deafen(d)
			case 3:
				x.Slow(2*d, 20*time.Millisecond)
			default:
				x.Cut(d)
			}
			w.count(&w.report.Cuts)
		})
	}
	for i := range w.Outages {
		d := time.Second + time.Duration(w.rng.IntN(4000))*time.Millisecond
		if i < w.Long {
			d = time.Minute
		}
		acts = append(acts, func(*subject) { // kills and cuts go on meanwhile
			w.waiting.Add(1)
			go func() { defer w.waiting.Done(); w.takeAway(ctx, d, i%2 == 1) }()
		})
	}
	w.rng.Shuffle(len(acts), func(i, j int) { acts[i], acts[j] = acts[j], acts[i] })
	pause := time.Duration(float64(w.Every) * float64(max(w.Kills, 1)) / float64(len(acts)))
	for i, act := range acts {
		w.mu.Lock()
		rest := pause/2 + time.Duration(w.rng.Int64N(int64(pause)))
		w.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-time.After(rest):
		}
		if i%3 == 0 {
			w.inCommand(ctx, act)
		} else {
			act(nil)
		}
		if w.Progress != nil && (i+1)%20 == 0 {
			w.mu.Lock()
			fmt.Fprintf(w.Progress, "%d of %d: %d kills, %d pauses, %d cuts, %d outages, %d of all in a command; %d changes ended\n", i+1, len(acts),
				w.report.Kills, w.report.Pauses, w.report.Cuts, w.report.Outages, w.report.InCommand, w.report.Changes)
			w.mu.Unlock()
		}
	}
}

// inCommand strikes when a device hears the next command, while it carries that out; after a while at any moment.
func (w *world) inCommand(ctx context.Context, act func(*subject)) {
	struck := make(chan struct{})
	var once sync.Once
	w.armed <- func(b *subject) {
		once.Do(func() {
			if b != nil {
				w.count(&w.report.InCommand)
			}
			act(b)
			close(struck)
		})
	}
	select {
	case <-struck:
	case <-ctx.Done():
	case <-time.After(5 * time.Second):
		select { // nobody took it
		case f := <-w.armed:
			f(nil)
		default:
		}
	}
}

// killOne kills a process and measures how long what it carried stands still.
func (w *world) killOne(ctx context.Context) {
	w.mu.Lock()
	x := w.workers[w.rng.IntN(len(w.workers))]
	w.mu.Unlock()
	pid := x.kill()
	at := time.Now()
	w.lastKill.Store(at.UnixNano())
	w.count(&w.report.Kills)
	w.watch(ctx, at, running+`l.expires_at > now() AND l.holder LIKE '%/' || $1`, fmt.Sprint(pid), false)
}

// pauseOne stops a process for longer than its leases last, as a machine that is moved or swaps does, and lets it go on.
func (w *world) pauseOne(ctx context.Context) {
	w.mu.Lock()
	x := w.workers[w.rng.IntN(len(w.workers))]
	w.mu.Unlock()
	x.mu.Lock()
	if x.cmd == nil || x.cmd.Process == nil {
		x.mu.Unlock()
		return
	}
	p := x.cmd.Process
	x.mu.Unlock()
	_ = p.Signal(syscall.SIGSTOP)
	at := time.Now()
	w.lastKill.Store(at.UnixNano())
	w.count(&w.report.Pauses)
	w.watch(ctx, at, running+`l.expires_at > now() AND l.holder LIKE '%/' || $1`, fmt.Sprint(p.Pid), true)
	w.waiting.Add(1)
	go func() {
		defer w.waiting.Done()
		select {
		case <-ctx.Done():
		case <-time.After(w.Lease * 3 / 2):
		}
		_ = p.Signal(syscall.SIGCONT)
	}()
}

// takeAway takes the database away, for one process or for both, and measures how long changes stand still once it is back.
func (w *world) takeAway(ctx context.Context, d time.Duration, one bool) {
	w.outage.Lock()
	defer w.outage.Unlock()
	w.count(&w.report.Outages)
	at := time.Now()
	w.mu.Lock()
	w.outages = append(w.outages, span{at, at.Add(d)})
	w.mu.Unlock()
	w.records[0].Cut(d)
	if !one {
		w.records[1].Cut(d)
	}
	time.Sleep(d)
	w.watch(ctx, time.Now(), running+`l.expires_at <= now() AND $1 = ''`, "", true)
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
				err := w.pool.QueryRow(ctx, `SELECT l.fence > $2 OR $4 AND l.expires_at > greatest($3, now()) OR NOT EXISTS (SELECT 1 FROM changes c JOIN members m ON m.change_id = c.id WHERE m.device_id = $1 AND c.state IN ('running', 'pausing')) FROM leases l WHERE l.device_id = $1`, h.device, h.fence, h.until, kept).Scan(&on)
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
