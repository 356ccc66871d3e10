package main

import (
	"context"
	"crypto/tls"
	"flag"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"time"

	"verimorph/blob"
	"verimorph/bootstrap"
	"verimorph/store"
	"verimorph/vault"
)

// bootstrapping says where new devices call (RFC 8572).
type bootstrapping struct{ listen, base string }

func (b *bootstrapping) flags(fs *flag.FlagSet) {
	fs.StringVar(&b.listen, "bootstrap-listen", "", "`address` where new devices ask what they are to become (RFC 8572, over TLS); empty: not at all")
	fs.StringVar(&b.base, "bootstrap-base", "", "`URL` under which devices reach it; by default https:// and that address")
}

// serve answers calls of devices until close is called.
func (b *bootstrapping) serve(ctx context.Context, st *store.Store, v *vault.Vault, images *blob.Store, log *slog.Logger) (close func(), err error) {
	if b.listen == "" {
		return func() {}, nil
	}
	base := b.base
	if base == "" {
		base = "https://" + b.listen
	}
	s := &bootstrap.Server{Store: st, Vault: v, Blobs: images, Log: log, Base: strings.TrimRight(base, "/")}
	host, _, err := net.SplitHostPort(b.listen)
	if err != nil {
		return nil, err
	}
	config, err := s.TLS(ctx, host)
	if err != nil {
		return nil, err
	}
	ln, err := net.Listen("tcp", b.listen)
	if err != nil {
		return nil, err
	}
	h := &http.Server{Handler: s.Handler(), TLSConfig: config, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, IdleTimeout: time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	go func() { _ = h.Serve(tls.NewListener(ln, config)) }()
	log.Info("new devices may call", "listen", b.listen)
	return func() { _ = h.Close() }, nil
}
