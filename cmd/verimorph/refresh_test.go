package main

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
)

// refreshing is a service whose refresh takes a few looks, with an outage in the middle; then the device refuses when problem is not nil.
func refreshing(t *testing.T, problem *gen.Problem) (*httptest.Server, *atomic.Int32) {
	var asked atomic.Int32
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at := time.Date(2026, 2, 3, 2, 0, 0, 0, time.UTC)
		now := gen.Refresh{Id: 4, Device: "box", State: gen.RefreshStateRunning, AskedBy: "me", AskedAt: at, StartedAt: &at, Fraction: 0.3, Doing: ptrTo("reading: tell slots"), UsualSeconds: ptrTo(float32(2.5))}
		var out any = now
		switch {
		case r.URL.Path == "/api/v1/devices/box":
			out = gen.Device{Name: "box", Address: "192.0.2.7:22", Dialect: "tarnholm", Portrait: &gen.Portrait{Model: "TH-60", Version: "5.0.7", Slots: []gen.Slot{}, TakenAt: at, Facts: &[]gen.DeviceFact{{Name: "uptime", Text: "3 d 4 h"}}}}
		case r.Method == http.MethodPost:
			w.WriteHeader(http.StatusAccepted)
		case asked.Add(1) == 2:
			http.Error(w, "starting", http.StatusServiceUnavailable)
			return
		case asked.Load() > 3:
			now.State, now.EndedAt, now.Problem = gen.RefreshStateDone, &at, problem
			out = now
		}
		assert.NoError(t, json.NewEncoder(w).Encode(out))
	}))
	t.Cleanup(web.Close)
	return web, &asked
}

func TestRefreshFollowsTheJob(t *testing.T) {
	web, asked := refreshing(t, nil)
	out, stderr, code := runWith(t, web.URL, "device", "refresh", "box")
	assert.Equal(t, exitDone, code, stderr)
	assert.Equal(t, 1, strings.Count(out, "the service is away; trying again"))
	assert.Contains(t, out, "TH-60")
	assert.Contains(t, out, "  uptime    3 d 4 h\n")
	assert.EqualValues(t, 4, asked.Load())

	web, asked = refreshing(t, nil)
	out, _, code = runWith(t, web.URL, "device", "refresh", "box", "-no-wait")
	assert.Equal(t, exitDone, code)
	assert.Equal(t, "Refresh 4 of box is running.\n", out)
	assert.Zero(t, asked.Load())
}

func TestRefreshThatFails(t *testing.T) {
	web, _ := refreshing(t, &gen.Problem{Type: "device", Title: "The device could not be asked", Status: 502, Detail: "192.0.2.7:22: connect: nothing answers"})
	_, stderr, code := runWith(t, web.URL, "device", "refresh", "box")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, stderr, "nothing answers")
	out, stderr, code := runWith(t, web.URL, "device", "refresh", "box", "-json")
	assert.Equal(t, exitFailed, code)
	assert.Empty(t, out, "what is not JSON is not on the output")
	var problem gen.Problem
	require.NoError(t, json.Unmarshal([]byte(stderr), &problem))
	assert.Equal(t, "device", problem.Type)
}

func TestRefreshLine(t *testing.T) {
	at := time.Now()
	r := gen.Refresh{Device: "box"}
	assert.Equal(t, "box: waiting for a worker", refreshLine(&r))
	r.StartedAt, r.Doing, r.Fraction, r.UsualSeconds = &at, ptrTo("reading: tell box"), 0.456, ptrTo(float32(2.5))
	assert.Equal(t, "box: 46 %, reading: tell box; usually 3 s in all", refreshLine(&r))
	r.UsualSeconds = ptrTo(float32(0.2))
	assert.Contains(t, refreshLine(&r), "usually less than 1 s in all")
}
