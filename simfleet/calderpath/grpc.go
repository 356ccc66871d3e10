package calderpath

import (
	"context"
	"crypto/ecdsa"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"sync"
	"time"
	"verimorph/internal/selfsigned"

	"github.com/openconfig/gnmi/proto/gnmi"
	"github.com/openconfig/gnoi/file"
	gnoios "github.com/openconfig/gnoi/os"
	"github.com/openconfig/gnoi/system"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials"
	"google.golang.org/grpc/metadata"
	"google.golang.org/grpc/status"
)

// newCertificate makes a certificate that the box signs itself, with its key.
func newCertificate(name string) (certificate, key []byte, err error) {
	c, err := selfsigned.New(name)
	if err != nil {
		return nil, nil, err
	}
	key, err = x509.MarshalECPrivateKey(c.PrivateKey.(*ecdsa.PrivateKey))
	return c.Certificate[0], key, err
}

// rpcHost is the gRPC side of a box: its address opens and closes as the box comes up and goes down.
type rpcHost struct {
	b    *Box
	mu   sync.Mutex
	s    *grpc.Server // nil: the address is closed
	done chan struct{}
	over bool // it was stopped, and opens no more
}

func (h *rpcHost) start() error {
	done := make(chan struct{})
	h.mu.Lock()
	h.done = done
	h.mu.Unlock()
	if err := h.openOrClose(); err != nil {
		return err
	}
	go func() {
		tick := time.NewTicker(max(time.Duration(float64(time.Second/5)/h.b.factor), 20*time.Millisecond))
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
			}
			if err := h.openOrClose(); err != nil {
				h.b.log.Error("cannot open the address again", "err", err)
			}
		}
	}()
	return nil
}

func (h *rpcHost) stop() {
	h.mu.Lock()
	if h.done != nil && !h.over {
		close(h.done)
	}
	h.over = true
	s := h.s
	h.s = nil
	h.mu.Unlock()
	if s != nil {
		s.Stop() // nobody has the lock of the box here: what answers may end
	}
}

// cut ends every connection and closes the address.
func (h *rpcHost) cut() {
	h.mu.Lock()
	s := h.s
	h.s = nil
	h.mu.Unlock()
	if s != nil {
		go s.Stop() // it waits for calls that may wait for the lock of the box
	}
}

func (h *rpcHost) openOrClose() error {
	st := h.b.network()
	h.mu.Lock()
	open := h.s != nil
	h.mu.Unlock()
	switch {
	case st.SignIn && !open:
		return h.open()
	case !st.SignIn && open:
		h.cut()
	}
	return nil
}

func (h *rpcHost) open() error {
	ln, err := net.Listen("tcp", h.b.spec.GRPC)
	if err != nil {
		return fmt.Errorf("box %s: %w", h.b.spec.Name, err)
	}
	h.b.mu.Lock()
	key, err := x509.ParseECPrivateKey(h.b.st.Key)
	cert := tls.Certificate{Certificate: [][]byte{h.b.st.Certificate}, PrivateKey: key}
	h.b.mu.Unlock()
	if err != nil {
		_ = ln.Close()
		return err
	}
	s := grpc.NewServer(grpc.Creds(credentials.NewTLS(&tls.Config{Certificates: []tls.Certificate{cert}})),
		grpc.UnaryInterceptor(func(ctx context.Context, req any, _ *grpc.UnaryServerInfo, do grpc.UnaryHandler) (any, error) {
			if err := h.b.allowed(ctx); err != nil {
				return nil, err
			}
			return do(ctx, req)
		}),
		grpc.StreamInterceptor(func(srv any, ss grpc.ServerStream, _ *grpc.StreamServerInfo, do grpc.StreamHandler) error {
			if err := h.b.allowed(ss.Context()); err != nil {
				return err
			}
			return do(srv, ss)
		}))
	gnoios.RegisterOSServer(s, &osServer{b: h.b})
	system.RegisterSystemServer(s, &systemServer{b: h.b})
	file.RegisterFileServer(s, &fileServer{b: h.b})
	gnmi.RegisterGNMIServer(s, &gnmiServer{b: h.b})
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.over {
		return ln.Close()
	}
	h.s = s
	go func() { _ = s.Serve(ln) }()
	return nil
}

// allowed looks who asks. A mute box never answers.
func (b *Box) allowed(ctx context.Context) error {
	for b.network().Mute {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	md, _ := metadata.FromIncomingContext(ctx)
	one := func(name string) string {
		if v := md.Get(name); len(v) == 1 {
			return v[0]
		}
		return ""
	}
	if !b.signIn(one("username"), one("password"), nil) {
		return status.Error(codes.Unauthenticated, "who is that?")
	}
	return nil
}
