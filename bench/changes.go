package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"verimorph/core/catalog"
	"verimorph/internal/postgres"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/tarnholm"
)

// A thousand changes at once, on simulated firewalls that take as long as real ones: the wall time against that of one
// device alone, the memory of the service for each running device, and what the database is asked for each step.
const (
	manyDevices = 1000
	manyFactor  = 1.0
)

func boxAddress(i int) string { return fmt.Sprintf("127.70.%d.%d:2022", 1+i/200, 1+i%200) }

// fleetProcess is a process of its own: what the boxes need is not counted.
func fleetProcess(dir string, n int) {
	config := "# written by 5.0.7\nbox\n  name bench\nport p1\n  speed 100\nport p2\n  speed 100\nroute 0.0.0.0/0\n  via 203.0.113.1\nrewrite web\n  match outside 203.0.113.18 tcp 443\n  to 10.61.8.20 tcp 8443\ntunnel control\n  peer 203.0.113.1\n  cipher second\n"
	debug.SetGCPercent(400) // what the boxes need is not measured, and has the same processors
	for i := range n {
		b, err := tarnholm.Open(tarnholm.Spec{Name: fmt.Sprintf("fw%d", i), Model: "TH-60", Serial: fmt.Sprint("S", i), Address: boxAddress(i),
			User: "bosun", Password: "bench", Watchword: "bench",
			Version: "5.0.7", Idle: "5.0.6", Flash: 8 << 20, Config: config, Sessions: 100}, filepath.Join(dir, fmt.Sprint(i)), manyFactor, slog.New(slog.DiscardHandler))
		check(err)
		check(b.Start())
	}
	fmt.Println("ready")
	_, _ = io.Copy(io.Discard, os.Stdin) // until the bench ends
}

// A manyBench is an installation with a thousand devices.
type manyBench struct {
	ctx      context.Context
	dir      string
	pool     *pgxpool.Pool
	database string // URL
	service  *exec.Cmd
	fleet    *exec.Cmd
	token    string
	password string
	host     string // of the service
	factor   float64
	// collects is how far the heap of the service may grow until it is collected, in percent; "": as it does by itself, which is up to 64 MiB in any case.
	collects string
}

// newManyBench starts a database in a folder; all of it ends when the function that it returns is called.
func newManyBench(ctx context.Context, dir, host string, factor float64, settings ...string) (*manyBench, func()) {
	check(os.MkdirAll(dir, 0o755))
	db, err := postgres.Start(ctx, filepath.Join(dir, "postgres"), 0, io.Discard, append(settings, "synchronous_commit=off")...)
	check(err)
	pool, err := pgxpool.New(ctx, db.URL)
	check(err)
	return &manyBench{ctx: ctx, dir: dir, pool: pool, database: db.URL, host: host, factor: factor}, func() {
		pool.Close()
		db.Stop()
	}
}

func benchChanges(ctx context.Context, dir string) {
	b, closeAll := newManyBench(ctx, dir, "127.70.0.1", manyFactor, "shared_preload_libraries=pg_stat_statements", "pg_stat_statements.track=top")
	defer closeAll()
	_, err := b.pool.Exec(ctx, `CREATE EXTENSION IF NOT EXISTS pg_stat_statements`)
	check(err)
	_, stop := b.startProcess("fleet", filepath.Join(dir, "fleet"), manyDevices, 1)
	defer stop()
	defer b.startService()()
	loadSmall(b.call)
	b.measure(b.draftAll())
}

// draftAtOnce is how many changes are drafted at once: what takes long is what the devices take to answer.
const draftAtOnce = 8

// draftAll drafts and approves a change of each device.
func (b *manyBench) draftAll() []int64 {
	ids := make([]int64, manyDevices)
	var work sync.WaitGroup
	for w := range draftAtOnce {
		work.Go(func() {
			for i := w; i < len(ids); i += draftAtOnce {
				ids[i] = b.draft(i)
			}
		})
	}
	work.Wait()
	return ids
}

// startProcess starts simulated devices in a process of their own, until the function that it returns is called. It says so many lines once they are there.
func (b *manyBench) startProcess(what, dir string, n, says int) (lines []string, stop func()) {
	fleet := exec.Command(os.Args[0], what, dir, fmt.Sprint(n))
	hold, err := fleet.StdinPipe()
	check(err)
	out, err := fleet.StdoutPipe()
	check(err)
	fleet.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	check(fleet.Start())
	b.fleet = fleet
	said := bufio.NewScanner(out)
	for len(lines) < says && said.Scan() {
		lines = append(lines, said.Text())
	}
	if len(lines) < says {
		check(fmt.Errorf("the simulated devices said %d of %d lines", len(lines), says))
	}
	return lines, func() { _ = hold.Close() }
}

// startService starts the service and signs in.
func (b *manyBench) startService() (stop func()) {
	b.service = exec.Command("bin/verimorphd", "-listen", b.host+":8420", "-transfer-listen", b.host+":8421", "-data",
		filepath.Join(b.dir, "data"), "-time-factor", fmt.Sprint(b.factor), "-log-level", "error", "-receive-sftp", b.host+":8430")
	b.service.Env = append(os.Environ(), "VERIMORPH_DATABASE_URL="+b.database)
	if b.collects != "" {
		b.service.Env = append(b.service.Env, "GOGC="+b.collects)
	}
	b.service.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var first bytes.Buffer
	b.service.Stdout, b.service.Stderr = &first, os.Stderr
	check(b.service.Start())
	password := ""
	for range 300 {
		time.Sleep(50 * time.Millisecond)
		if _, after, ok := strings.Cut(first.String(), "Password, shown this once: "); ok && strings.Contains(first.String(), "answers on") {
			password, _, _ = strings.Cut(after, "\n")
			break
		}
	}
	b.password = password
	var session struct{ Token string }
	b.post("/sign-in", map[string]any{"user": "engineer", "password": password}, &session)
	b.token = session.Token
	return func() { _ = b.service.Process.Kill(); _ = b.service.Wait() }
}

func (b *manyBench) call(method, path, kind string, body []byte, into any) {
	q, err := http.NewRequestWithContext(b.ctx, method, "http://"+b.host+":8420/api/v1"+path, bytes.NewReader(body))
	check(err)
	q.Header.Set("Content-Type", kind)
	q.Header.Set("Authorization", "Bearer "+b.token)
	resp, err := http.DefaultClient.Do(q)
	check(err)
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	if resp.StatusCode >= 400 {
		check(fmt.Errorf("%s %s: %s", method, path, text))
	}
	if into != nil {
		check(json.Unmarshal(text, into))
	}
}

func (b *manyBench) post(path string, body any, into any) {
	data, _ := json.Marshal(body)
	b.call("POST", path, "application/json", data, into)
}

// draft adds a device, looks at it, and drafts and approves a change of it.
func (b *manyBench) draft(i int) int64 {
	id := b.draftOf(fmt.Sprintf("fw%d", i), boxAddress(i), "tarnholm", "5.4.2", "sftp")
	b.post(fmt.Sprintf("/changes/%d/approve", id), map[string]any{}, nil)
	return id
}

// draftOf adds a device, looks at it, and drafts a change of it to a version.
func (b *manyBench) draftOf(name, address, dialect, to, transfer string) int64 {
	b.post("/devices", map[string]any{"name": name, "address": address, "dialect": dialect, "user": "bosun", "password": "bench",
		"privilegedPassword": "bench", "transfer": transfer}, nil)
	b.post("/devices/"+name+"/refresh", nil, nil)
	for r := (struct{ EndedAt *time.Time }{}); r.EndedAt == nil; time.Sleep(5 * time.Millisecond) {
		b.call("GET", "/devices/"+name+"/refresh", "", nil, &r)
	}
	var c struct{ ID int64 }
	b.post("/changes", map[string]any{"device": name, "to": to}, &c)
	return c.ID
}

// carryOut starts changes in the same moment, and waits until all have ended or ask: the records say that they run, and the service finds them as
// it finds those of a process that died. It returns how long it took in all, in seconds.
func (b *manyBench) carryOut(list []int64, look func()) (wall float64) {
	_, err := b.pool.Exec(b.ctx, `UPDATE changes SET state = 'running', started_at = now() WHERE id = ANY($1)`, list)
	check(err)
	for open := 1; open > 0; {
		check(b.pool.QueryRow(b.ctx, `SELECT count(*) FROM changes WHERE id = ANY($1) AND ended_at IS NULL AND state <> 'asking'`, list).Scan(&open))
		if open > 0 {
			look()
			time.Sleep(time.Second)
		}
	}
	var done int
	check(b.pool.QueryRow(b.ctx, `SELECT coalesce(extract(epoch FROM max(ended_at) - min(started_at)), 0)::float8, count(*) FILTER (WHERE state = 'done')
		FROM changes WHERE id = ANY($1)`, list).Scan(&wall, &done))
	if done != len(list) {
		var other string
		check(b.pool.QueryRow(b.ctx, `SELECT concat_ws(' ', 'change', id, state, failure, question, verdict) FROM changes WHERE id = ANY($1) AND state <> 'done' LIMIT 1`,
			list).Scan(&other))
		check(fmt.Errorf("%d of %d changes are done; another one: %s", done, len(list), other))
	}
	return wall
}

// measure carries one change out alone, and then all others at once.
func (b *manyBench) measure(ids []int64) {
	alone, rest := b.carryOut(ids[:1], func() {}), ids[1:]
	before := resident(b.service.Process.Pid)
	_, err := b.pool.Exec(b.ctx, `SELECT pg_stat_statements_reset()`)
	check(err)
	most, service, fleet, all := 0.0, busy(b.service.Process.Pid), busy(b.fleet.Process.Pid), busyAll()
	wall := b.carryOut(rest, func() { most = max(most, resident(b.service.Process.Pid)) })
	var statements, steps, progress float64
	check(b.pool.QueryRow(b.ctx, `SELECT sum(calls)::float8, coalesce(sum(calls) FILTER (WHERE query LIKE '%FROM unnest(%'), 0)::float8 FROM pg_stat_statements
		WHERE query NOT LIKE '%river%' AND query NOT LIKE '%pg_stat%' AND query NOT LIKE '%count(*) FROM changes%'`).Scan(&statements, &progress))
	check(b.pool.QueryRow(b.ctx, `SELECT count(*)::float8 FROM steps WHERE change_id = ANY($1) AND state = 'done'`, rest).Scan(&steps))
	row(fmt.Sprintf("%d changes at once, wall time", len(rest)), time.Duration(wall*1e9), "one device alone", time.Duration(alone*1e9), "at most 1.1")
	service, fleet, all = busy(b.service.Process.Pid)-service, busy(b.fleet.Process.Pid)-fleet, busyAll()-all
	fmt.Printf("%-48s  %8.0f s of the processors; the simulated devices %.0f s, all else, with the database, %.0f s\n", "  the service took",
		service, fleet, all-service-fleet)
	each := (most - before) / float64(len(rest))
	fmt.Printf("%-48s  %8.0f K  %-18s %8.0f K  %6.2f  %s\n", "  resident for each running device", each, "limit", 150.0, each/150, "at most 1")
	fmt.Printf("%-48s  %10.1f  %-18s %10.0f  %6s  %s\n", "  database statements a step", statements/steps, "gathered, in all", progress, "",
		"see docs/architecture.md")
	listStatements(b.ctx, b.pool, steps)
	listSteps(b.ctx, b.pool, ids[0])
}

// listSteps tells which kinds of steps took longer at once than alone, in the middle, and when the first and the last change were over with each.
func listSteps(ctx context.Context, pool *pgxpool.Pool, alone int64) {
	rows, err := pool.Query(ctx, `SELECT number, kind, avg(took) FILTER (WHERE NOT alone), max(took) FILTER (WHERE NOT alone), coalesce(avg(took) FILTER (WHERE alone), 0),
			min(over) FILTER (WHERE NOT alone), max(over) FILTER (WHERE NOT alone), coalesce(avg(over) FILTER (WHERE alone), 0)
		FROM (SELECT s.number, s.plan->>'kind' AS kind, s.change_id = $1 AS alone, extract(epoch FROM s.ended_at - s.started_at)::float8 AS took,
				extract(epoch FROM s.ended_at - c.started_at)::float8 AS over
			FROM steps s JOIN changes c ON c.id = s.change_id WHERE s.ended_at IS NOT NULL) t GROUP BY 1, 2 ORDER BY 1`, alone)
	check(err)
	defer rows.Close()
	for rows.Next() {
		var number int
		var kind string
		var middle, most, one, first, last, oneOver float64
		check(rows.Scan(&number, &kind, &middle, &most, &one, &first, &last, &oneOver))
		fmt.Printf("    step %2d, %-12s %6.1f s in the middle, %6.1f s at most, %6.1f s alone; over after %6.1f to %6.1f s, alone %6.1f s\n", number, kind,
			middle, most, one, first, last, oneOver)
	}
	check(rows.Err())
}

// listStatements tells what the database was asked most, and what took it longest.
func listStatements(ctx context.Context, pool *pgxpool.Pool, steps float64) {
	rows, err := pool.Query(ctx, `SELECT calls::float8, total_exec_time, regexp_replace(query, '\s+', ' ', 'g') FROM pg_stat_statements WHERE query NOT LIKE '%pg_stat%' AND query NOT LIKE '%count(*) FROM changes%'
		ORDER BY greatest(calls / sum(calls) OVER (), total_exec_time / sum(total_exec_time) OVER ()) DESC LIMIT 25`)
	check(err)
	defer rows.Close()
	for rows.Next() {
		var calls, ms float64
		var query string
		check(rows.Scan(&calls, &ms, &query))
		fmt.Printf("    %6.2f a step, %6.0f ms in all: %.110s\n", calls/steps, ms, query)
	}
	check(rows.Err())
}

// loadSmall gives the service a catalogue of two releases with small images.
func loadSmall(call func(method, path, kind string, body []byte, into any)) {
	h := firmware.Header{Maker: "Tarnholm", Models: []string{"TH-60"}, Version: "5.4.2", Payload: 256 << 10}
	var image bytes.Buffer
	check(firmware.Make(&image, &h))
	sum := sha256.Sum256(image.Bytes())
	text, err := os.ReadFile("demo/catalog/tarnholm-th.yaml")
	check(err)
	head, _, _ := strings.Cut(string(text), "\nrules:\n")
	head = strings.Join(unsigned(strings.Split(head, "\n")), "\n")
	cat := head + fmt.Sprintf("\nrules:\n  - {id: B, kind: hop, from: 5.x, to: 5.x, text: inside train 5}\nreleases:\n  - version: \"5.0.7\"\n    train: \"5.0\"\n    date: 2025-10-06\n    stage: preferred\n    images:\n      - {file: a.img, models: [TH-60], size: 1000, installed: 1000, sha256: %064x}\n"+
		"  - version: \"5.4.2\"\n    train: \"5.4\"\n    date: 2026-06-15\n    stage: preferred\n    images:\n      - {file: b.img, models: [TH-60], size: %d, installed: 1000000, sha256: %s}\n", 1, image.Len(), hex.EncodeToString(sum[:]))
	if _, found := catalog.ReadFile("tarnholm-th.yaml", []byte(cat)); len(found.Errors()) > 0 {
		check(found.Errors())
	}
	call("PUT", "/catalogue/tarnholm-th.yaml", "application/yaml", []byte(cat), nil)
	call("POST", "/images?file=b.img", "application/octet-stream", image.Bytes(), nil)
}

// unsigned leaves out the signing key: what is made here is not signed.
func unsigned(lines []string) (out []string) {
	for _, l := range lines {
		if !strings.HasPrefix(l, "signing-key:") {
			out = append(out, l)
		}
	}
	return out
}

// busy is how many seconds of processors a process took, busyAll all of the machine.
func busy(pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	check(err)
	_, after, _ := strings.Cut(string(text), ") ")
	f := strings.Fields(after)
	return ticks(f[11]) + ticks(f[12])
}

func busyAll() float64 {
	text, err := os.ReadFile("/proc/stat")
	check(err)
	first, _, _ := strings.Cut(string(text), "\n")
	f := strings.Fields(first)
	return ticks(f[1]) + ticks(f[2]) + ticks(f[3]) + ticks(f[6]) + ticks(f[7])
}

// ticks are seconds, as /proc counts them: in hundredths.
func ticks(text string) float64 {
	n, _ := strconv.ParseFloat(text, 64)
	return n / 100
}

// resident is the memory of a process in KiB.
func resident(pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	check(err)
	_, after, _ := strings.Cut(string(text), "VmRSS:")
	n, _ := strconv.ParseFloat(strings.Fields(after)[0], 64)
	return n
}
