// Package postgres starts a PostgreSQL cluster of its own from the machine's installed server, for the demo and the
// tests: on loopback, with a random password, run by an unprivileged user when the caller is root.
package postgres

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Cluster is a running server.
type Cluster struct {
	URL string // of the database verimorph, with its password
	cmd *exec.Cmd
}

// Start makes the cluster in dir when it is not there, starts it on a port (0: a free one) and waits until it answers.
// What the server says goes to log; settings are given to it as they are, such as "fsync=off" for tests.
func Start(ctx context.Context, dir string, port int, log io.Writer, settings ...string) (*Cluster, error) {
	bin, err := serverBin()
	if err != nil {
		return nil, err
	}
	who, err := unprivileged()
	if err != nil {
		return nil, err
	}
	if dir, err = place(dir, who); err != nil {
		return nil, err
	}
	if port == 0 {
		if port, err = freePort(); err != nil {
			return nil, err
		}
	}
	passwordFile := dir + ".password"
	data := filepath.Join(dir, "data")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err != nil {
		password := rand.Text()
		if err := errors.Join(os.WriteFile(passwordFile, []byte(password), 0o600), chown(passwordFile, who)); err != nil {
			return nil, err
		}
		init := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", data, "-U", "verimorph", "-E", "UTF8", "--locale=C.UTF-8",
			"--auth=scram-sha-256", "--pwfile="+passwordFile, "--no-sync")
		init.Dir, init.SysProcAttr = dir, attr(who)
		if out, err := init.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("initdb: %w\n%s", err, out)
		}
	}
	password, err := os.ReadFile(passwordFile)
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", data, "-c", "listen_addresses=127.0.0.1", "-c", fmt.Sprint("port=", port),
		"-c", "unix_socket_directories=", "-c", "max_connections=200")
	for _, s := range settings {
		cmd.Args = append(cmd.Args, "-c", s)
	}
	cmd.Dir, cmd.SysProcAttr = dir, attr(who)
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	c := &Cluster{URL: fmt.Sprintf("postgres://verimorph:%s@127.0.0.1:%d/verimorph?sslmode=disable", password, port), cmd: cmd}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	if err := c.await(ctx, ended); err != nil {
		c.Stop()
		return nil, err
	}
	return c, nil
}

// await waits until the server answers, and makes the database.
func (c *Cluster) await(ctx context.Context, ended <-chan error) error {
	admin := strings.Replace(c.URL, "/verimorph?", "/postgres?", 1)
	for until := time.Now().Add(60 * time.Second); ; {
		conn, err := pgx.Connect(ctx, admin)
		if err == nil {
			defer conn.Close(ctx)
			var there bool
			if err := conn.QueryRow(ctx, "SELECT exists (SELECT 1 FROM pg_database WHERE datname = 'verimorph')").Scan(&there); err != nil || there {
				return err
			}
			_, err = conn.Exec(ctx, "CREATE DATABASE verimorph")
			return err
		}
		select {
		case e := <-ended:
			return fmt.Errorf("PostgreSQL ended at once (%w); its log says why", e)
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		if time.Now().After(until) {
			return fmt.Errorf("PostgreSQL does not answer: %w", err)
		}
	}
}

// NewDatabase makes another database in the cluster and returns its address.
func (c *Cluster) NewDatabase(ctx context.Context, name string) (string, error) {
	conn, err := pgx.Connect(ctx, c.URL)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "CREATE DATABASE "+pgx.Identifier{name}.Sanitize())
	return strings.Replace(c.URL, "/verimorph?", "/"+name+"?", 1), err
}

// Stop ends the server and waits for it. Connections are cut.
func (c *Cluster) Stop() {
	_ = c.cmd.Process.Signal(syscall.SIGINT) // fast shutdown
	for range 100 {
		if err := c.cmd.Process.Signal(syscall.Signal(0)); err != nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	_ = c.cmd.Process.Kill()
}

// serverBin is the folder of the newest installed server.
func serverBin() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if name, err := exec.LookPath("initdb"); err == nil {
		if name, err = filepath.EvalSymlinks(name); err == nil {
			if _, err := os.Stat(filepath.Join(filepath.Dir(name), "postgres")); err == nil {
				found = append(found, name)
			}
		}
	}
	if len(found) == 0 {
		return "", errors.New("no PostgreSQL server is installed; install Debian's package postgresql, or give VERIMORPH_DATABASE_URL")
	}
	sort.Slice(found, func(i, j int) bool { return major(found[i]) < major(found[j]) })
	return filepath.Dir(found[len(found)-1]), nil
}

func major(path string) int {
	for _, part := range strings.Split(path, "/") {
		if n, err := strconv.Atoi(part); err == nil {
			return n
		}
	}
	return 0
}

// unprivileged is who runs the server when we are root, which PostgreSQL refuses; nil when we are not.
func unprivileged() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		if u, err := user.Lookup(name); err == nil {
			uid, _ := strconv.ParseUint(u.Uid, 10, 32)
			gid, _ := strconv.ParseUint(u.Gid, 10, 32)
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
		}
	}
	return nil, errors.New("running as root, and there is no user postgres to run the server")
}

func attr(who *syscall.Credential) *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Credential: who, Setpgid: true, Pdeathsig: syscall.SIGINT}
}

// place makes the cluster's folder. When an unprivileged user cannot get to it (it lies inside a private folder of
// root's), the folder is a link to one that can be reached.
func place(dir string, who *syscall.Credential) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		return real, nil
	}
	_ = os.Remove(dir) // a link whose end is gone
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return "", err
	}
	if who != nil && !reachable(filepath.Dir(dir), who) {
		elsewhere, err := os.MkdirTemp("/var/tmp", "verimorph-postgres-")
		if err != nil {
			return "", err
		}
		inside := filepath.Join(elsewhere, "cluster")
		if err := errors.Join(os.Chmod(elsewhere, 0o711), os.Mkdir(inside, 0o700), chown(inside, who), os.Symlink(inside, dir)); err != nil {
			return "", err
		}
		return inside, nil
	}
	return dir, errors.Join(os.Mkdir(dir, 0o700), chown(dir, who))
}

// reachable reports whether a user may go through every folder on the way.
func reachable(dir string, who *syscall.Credential) bool {
	cmd := exec.Command("/usr/bin/test", "-x", dir)
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	return cmd.Run() == nil
}

func chown(name string, who *syscall.Credential) error {
	if who == nil {
		return nil
	}
	return os.Chown(name, int(who.Uid), int(who.Gid))
}

func freePort() (int, error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer ln.Close()
	return ln.Addr().(*net.TCPAddr).Port, nil
}
