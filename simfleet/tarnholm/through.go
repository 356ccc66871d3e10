package tarnholm

import (
	"io"
	"net"
	"net/http"
	"time"
)

// What goes through an ensemble: whoever is behind it asks at one address, and the box that serves answers. While none does, the connection is closed
// without a word, as if it had been lost on the way.

// serving is the name of the box that passes on what goes through the ensemble; "" while none does: a cluster needs more than half of its boxes for it.
func (p *ensemble) serving() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	who, up := "", 0
	for _, b := range p.boxes {
		if b.readyFor() < 0 {
			continue
		}
		if up++; b.isActive() {
			who = b.spec.Name
		}
	}
	if p.name != "" && 2*up <= len(p.boxes) {
		return ""
	}
	return who
}

// Through opens an address behind an ensemble of which the box is one. What is asked there over HTTP is answered with the name of the box that serves. It is
// closed by the function that it returns.
func (b *Box) Through(address string) (stop func(), at string, err error) {
	p := b.link()
	if p == nil {
		return nil, "", errAlone
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, "", err
	}
	s := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		name := p.serving()
		if name == "" {
			panic(http.ErrAbortHandler) // closes the connection
		}
		_, _ = io.WriteString(w, name)
	})}
	go func() { _ = s.Serve(l) }()
	return func() { _ = s.Close() }, l.Addr().String(), nil
}
