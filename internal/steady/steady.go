// Package steady is a client that asks at a steady rate and counts what is lost: it measures from outside what the users of a device notice of a change.
package steady

import (
	"context"
	"net/http"
	"sync"
	"time"
)

// A Gap is a stretch of time in which nothing was answered.
type Gap struct{ From, To time.Time }

// A Client asks one address over HTTP, each request over a connection of its own.
type Client struct {
	mu         sync.Mutex
	sent, lost int
	gaps       []Gap
	open       bool // the last gap has not ended
	stop       func()
	group      sync.WaitGroup
}

// patience is how long an answer may take before the request counts as lost.
const patience = 2 * time.Second

// Start begins to ask, so many times a second, until Stop.
func Start(ctx context.Context, url string, aSecond int) *Client {
	ctx, cancel := context.WithCancel(ctx)
	c := &Client{stop: cancel}
	asks := &http.Client{Timeout: patience, Transport: &http.Transport{DisableKeepAlives: true}}
	c.group.Go(func() {
		tick := time.NewTicker(time.Second / time.Duration(aSecond))
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case at := <-tick.C:
				c.group.Go(func() { c.ask(ctx, asks, url, at) })
			}
		}
	})
	return c
}

func (c *Client) ask(ctx context.Context, asks *http.Client, url string, at time.Time) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return
	}
	resp, err := asks.Do(req)
	if err == nil {
		_ = resp.Body.Close()
	}
	if ctx.Err() != nil {
		return // it ended with the client, and says nothing
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.sent++
	switch lost := err != nil || resp.StatusCode != http.StatusOK; {
	case lost:
		c.lost++
		if !c.open {
			c.gaps, c.open = append(c.gaps, Gap{From: at}), true
		}
		c.gaps[len(c.gaps)-1].To = at
	case c.open && at.After(c.gaps[len(c.gaps)-1].To):
		c.gaps[len(c.gaps)-1].To, c.open = at, false
	}
}

// Stop ends the asking, and says how much was asked, how much was lost, and when nothing was answered.
func (c *Client) Stop() (sent, lost int, gaps []Gap) {
	c.stop()
	c.group.Wait()
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.sent, c.lost, c.gaps
}
