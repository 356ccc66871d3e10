package peers

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// output is what a program says, which may be read while it says more.
type output struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.buf.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.buf.String()
}

// program finds a program of Debian's packages.
func program(t *testing.T, name, pkg string) string {
	for _, dir := range []string{"/usr/sbin/", "/usr/bin/", "/sbin/", "/bin/"} {
		if _, err := os.Stat(dir + name); err == nil {
			return dir + name
		}
	}
	require.Fail(t, "missing", "%s is not installed; install Debian's package %s", name, pkg)
	return ""
}

// daemon starts a program that runs until the test ends.
func daemon(t *testing.T, env []string, path string, args ...string) *output {
	t.Helper()
	out := &output{}
	c := exec.Command(path, args...)
	c.Stdout, c.Stderr, c.Env = out, out, append(os.Environ(), env...)
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		_ = c.Wait()
		if t.Failed() {
			t.Logf("%s said:\n%s", path, out)
		}
	})
	return out
}

// run runs a program to its end.
func run(t *testing.T, path string, args ...string) (string, error) {
	t.Helper()
	c := exec.CommandContext(t.Context(), path, args...)
	out, err := c.CombinedOutput()
	return string(out), err
}

// free is a free port on loopback, of TCP and UDP.
func free(t *testing.T) string {
	t.Helper()
	for range 50 {
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		at := ln.Addr().String()
		udp, err := net.ListenPacket("udp", at)
		_ = ln.Close()
		if err == nil {
			_ = udp.Close()
			return at
		}
	}
	require.Fail(t, "no port is free")
	return ""
}

func portOf(t *testing.T, at string) string {
	t.Helper()
	_, port, err := net.SplitHostPort(at)
	require.NoError(t, err)
	return port
}

// answers waits until something listens at a TCP address.
func answers(t *testing.T, at string) {
	t.Helper()
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", at)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 20*time.Second, 50*time.Millisecond, "nothing answers at %s", at)
}

func write(t *testing.T, name, format string, args ...any) string {
	t.Helper()
	require.NoError(t, os.WriteFile(name, fmt.Appendf(nil, format, args...), 0o644))
	return name
}
