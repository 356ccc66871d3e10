package main

import (
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
	"strconv"
	"strings"
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
	config := "# written by 5.0.7\nbox\n  name bench\nport p1\n  speed 100\nport p2\n  speed 100\nrewrite web\n  match outside 203.0.113.18 tcp 443\n  to 10.61.8.20 tcp 8443\ntunnel control\n  peer 203.0.113.1\n  cipher second\n"
	for i := range n {
		b, err := tarnholm.Open(tarnholm.Spec{Name: fmt.Sprintf("fw%d", i), Model: "TH-60", Serial: fmt.Sprint("S", i), Address: boxAddress(i), User: "bosun", Password: "bench", Watchword: "bench",
			Version: "5.0.7", Idle: "5.0.6", Flash: 8 << 20, Config: config, Sessions: 100}, filepath.Join(dir, fmt.Sprint(i)), manyFactor, slog.New(slog.DiscardHandler))
		check(err)
		check(b.Start())
	}
	fmt.Println("ready")
	_, _ = io.Copy(io.Discard, os.Stdin) // until the bench ends
}

func benchChanges(ctx context.Context, dir string) {
	_ = os.Chmod(dir, 0o755)
	db, err := postgres.Start(ctx, filepath.Join(dir, "postgres"), 0, io.Discard, "shared_preload_libraries=pg_stat_statements", "pg_stat_statements.track=top", "synchronous_commit=off")
	check(err)
	defer db.Stop()
	pool, err := pgxpool.New(ctx, db.URL)
	check(err)
	defer pool.Close()
	_, err = pool.Exec(ctx, `CREATE EXTENSION IF NOT EXISTS pg_stat_statements`)
	check(err)

	fleet := exec.Command(os.Args[0], "fleet", filepath.Join(dir, "fleet"), fmt.Sprint(manyDevices))
	hold, err := fleet.StdinPipe()
	check(err)
	defer hold.Close()
	out, err := fleet.StdoutPipe()
	check(err)
	fleet.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	check(fleet.Start())
	ready := make([]byte, 6)
	_, err = io.ReadFull(out, ready)
	check(err)

	service := exec.Command("bin/verimorphd", "-listen", "127.70.0.1:8420", "-transfer-listen", "127.70.0.1:8421", "-data", filepath.Join(dir, "data"), "-time-factor", fmt.Sprint(manyFactor), "-log-level", "error", "-receive-sftp", "127.70.0.1:8430")
	service.Env = append(os.Environ(), "VERIMORPH_DATABASE_URL="+db.URL)
	service.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var first bytes.Buffer
	service.Stdout, service.Stderr = &first, os.Stderr
	check(service.Start())
	defer func() { _ = service.Process.Kill(); _ = service.Wait() }()
	password := ""
	for range 300 {
		time.Sleep(50 * time.Millisecond)
		if _, after, ok := strings.Cut(first.String(), "Password, shown this once: "); ok && strings.Contains(first.String(), "answers on") {
			password, _, _ = strings.Cut(after, "\n")
			break
		}
	}
	token := ""
	call := func(method, path, kind string, body []byte, into any) {
		q, err := http.NewRequestWithContext(ctx, method, "http://127.70.0.1:8420/api/v1"+path, bytes.NewReader(body))
		check(err)
		q.Header.Set("Content-Type", kind)
		q.Header.Set("Authorization", "Bearer "+token)
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
	post := func(path string, body any, into any) {
		data, _ := json.Marshal(body)
		call("POST", path, "application/json", data, into)
	}
	var session struct{ Token string }
	post("/sign-in", map[string]any{"user": "engineer", "password": password}, &session)
	token = session.Token
	loadSmall(call)
	var ids []int64
	for i := range manyDevices {
		name := fmt.Sprintf("fw%d", i)
		post("/devices", map[string]any{"name": name, "address": boxAddress(i), "dialect": "tarnholm", "user": "bosun", "password": "bench", "privilegedPassword": "bench"}, nil)
		post("/devices/"+name+"/refresh", nil, nil)
		var c struct{ ID int64 }
		post("/changes", map[string]any{"device": name, "to": "5.4.2"}, &c)
		post(fmt.Sprintf("/changes/%d/approve", c.ID), map[string]any{}, nil)
		ids = append(ids, c.ID)
	}
	seconds := func(list []int64) (slowest, wall float64, done int) {
		check(pool.QueryRow(ctx, `SELECT coalesce(max(extract(epoch FROM ended_at - started_at)), 0)::float8, coalesce(extract(epoch FROM max(ended_at) - min(started_at)), 0)::float8, count(*) FILTER (WHERE state = 'done') FROM changes WHERE id = ANY($1)`, list).Scan(&slowest, &wall, &done))
		return slowest, wall, done
	}
	await := func(list []int64, look func()) {
		for {
			var open int
			check(pool.QueryRow(ctx, `SELECT count(*) FROM changes WHERE id = ANY($1) AND ended_at IS NULL AND state <> 'asking'`, list).Scan(&open))
			if open == 0 {
				return
			}
			look()
			time.Sleep(time.Second)
		}
	}
	// All start in the same moment: the records say so, and the service finds them as it finds those of a process that died.
	start := func(list []int64) {
		_, err := pool.Exec(ctx, `UPDATE changes SET state = 'running', started_at = now() WHERE id = ANY($1)`, list)
		check(err)
	}
	start(ids[:1])
	await(ids[:1], func() {})
	alone, _, done := seconds(ids[:1])
	if done != 1 {
		check(fmt.Errorf("the change of one device alone is not done"))
	}
	before := resident(service.Process.Pid)
	_, err = pool.Exec(ctx, `SELECT pg_stat_statements_reset()`)
	check(err)
	most := 0.0
	rest := ids[1:]
	start(rest)
	await(rest, func() { most = max(most, resident(service.Process.Pid)) })
	_, wall, done := seconds(rest)
	if done != len(rest) {
		check(fmt.Errorf("%d of %d changes are done", done, len(rest)))
	}
	var statements, steps, progress float64
	check(pool.QueryRow(ctx, `SELECT sum(calls)::float8, coalesce(sum(calls) FILTER (WHERE query LIKE '%FROM unnest(%'), 0)::float8 FROM pg_stat_statements WHERE query NOT LIKE '%river%' AND query NOT LIKE '%pg_stat%' AND query NOT LIKE '%count(*) FROM changes%'`).Scan(&statements, &progress))
	check(pool.QueryRow(ctx, `SELECT count(*)::float8 FROM steps WHERE change_id = ANY($1) AND state = 'done'`, rest).Scan(&steps))
	row(fmt.Sprintf("%d changes at once, wall time", len(rest)), time.Duration(wall*1e9), "one device alone", time.Duration(alone*1e9), "at most 1.1")
	each := (most - before) / float64(len(rest))
	fmt.Printf("%-48s  %8.0f K  %-18s %8.0f K  %6.2f  %s\n", "  resident for each running device", each, "limit", 150.0, each/150, "at most 1")
	fmt.Printf("%-48s  %10.1f  %-18s %10.0f  %6s  %s\n", "  database statements a step", statements/steps, "gathered, in all", progress, "", "see docs/architecture.md")
	listStatements(ctx, pool, steps)
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

// resident is the memory of a process in KiB.
func resident(pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	check(err)
	_, after, _ := strings.Cut(string(text), "VmRSS:")
	n, _ := strconv.ParseFloat(strings.Fields(after)[0], 64)
	return n
}
