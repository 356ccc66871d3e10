package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"verimorph/api/gen"
	"verimorph/core/change"
)

// hub tells watchers that a change's record was touched. A watcher that is slow misses nothing: it gets one mark and
// reads the newest record.
type hub struct {
	mu       sync.Mutex
	watchers map[int64]map[chan struct{}]bool
	done     chan struct{}
}

func newHub() *hub {
	return &hub{watchers: map[int64]map[chan struct{}]bool{}, done: make(chan struct{})}
}

func (h *hub) close() { close(h.done) }

// publish marks the watchers of a change; 0 is everybody.
func (h *hub) publish(id int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for of, ws := range h.watchers {
		if id == 0 || id == of {
			for w := range ws {
				select {
				case w <- struct{}{}:
				default:
				}
			}
		}
	}
}

func (h *hub) watch(id int64) (marks <-chan struct{}, leave func()) {
	w := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.watchers[id] == nil {
		h.watchers[id] = map[chan struct{}]bool{}
	}
	h.watchers[id][w] = true
	return w, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.watchers[id], w)
		if len(h.watchers[id]) == 0 {
			delete(h.watchers, id)
		}
	}
}

// WatchChange streams a change as server-sent events.
func (s *Server) WatchChange(ctx context.Context, r gen.WatchChangeRequestObject) (gen.WatchChangeResponseObject, error) {
	if _, err := s.change(ctx, r.Id); err != nil {
		return nil, err
	}
	return &liveResponse{s, ctx, r.Id}, nil
}

type liveResponse struct {
	s   *Server
	ctx context.Context
	id  int64
}

// VisitWatchChangeResponse sends events until the change ends, the watcher leaves or the service stops.
func (l *liveResponse) VisitWatchChangeResponse(w http.ResponseWriter) error {
	marks, leave := l.s.hub.watch(l.id)
	defer leave()
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		c, err := l.s.change(l.ctx, l.id)
		if err != nil {
			return err
		}
		data, err := json.Marshal(c)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "event: change\ndata: %s\n\n", data); err != nil {
			return err
		}
		w.(http.Flusher).Flush()
		if change.State(c.State).Over() {
			return nil
		}
	wait:
		for {
			select {
			case <-marks:
				break wait
			case <-beat.C: // keeps proxies from closing, and notices watchers that left
				if _, err := fmt.Fprint(w, ": still here\n\n"); err != nil {
					return err
				}
				w.(http.Flusher).Flush()
			case <-l.ctx.Done():
				return nil
			case <-l.s.hub.done:
				return nil
			}
		}
	}
}
