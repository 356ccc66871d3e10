// Package opensshd starts a real OpenSSH server on loopback, for tests and measurements: as whoever calls, with keys of
// its own and nothing of the machine's configuration.
package opensshd

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
)

// A Server is a running sshd that lets one key in.
type Server struct {
	Address string // host:port
	User    string
	KeyFile string // private key that is let in
	Signer  ssh.Signer
	HostKey ssh.PublicKey
	cmd     *exec.Cmd
}

// Start starts a server whose files are in dir. more are further lines of its configuration, in which PORT is its port.
func Start(dir string, more ...string) (*Server, error) {
	bin := "/usr/sbin/sshd"
	if _, err := os.Stat(bin); err != nil {
		return nil, errors.New("no OpenSSH server is installed; install Debian's package openssh-server")
	}
	if os.Geteuid() == 0 { // sshd wants it for its unprivileged half
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			return nil, err
		}
	}
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	s := &Server{User: me.Username, KeyFile: filepath.Join(dir, "client")}
	if s.Signer, err = newKey(s.KeyFile); err != nil {
		return nil, err
	}
	host, err := newKey(filepath.Join(dir, "host"))
	if err != nil {
		return nil, err
	}
	s.HostKey = host.PublicKey()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.Address = ln.Addr().String()
	_ = ln.Close()
	_, port, _ := net.SplitHostPort(s.Address)
	for i := range more {
		more[i] = strings.ReplaceAll(more[i], "PORT", port)
	}
	config := fmt.Sprintf(`ListenAddress 127.0.0.1
Port %s
HostKey %s/host
AuthorizedKeysFile %s/authorized
StrictModes no
UsePAM no
PasswordAuthentication no
PermitRootLogin prohibit-password
PidFile none
Subsystem sftp internal-sftp
`, port, dir, dir)
	err = errors.Join(
		os.WriteFile(filepath.Join(dir, "authorized"), ssh.MarshalAuthorizedKey(s.Signer.PublicKey()), 0o600),
		os.WriteFile(filepath.Join(dir, "config"), []byte(config+strings.Join(more, "\n")+"\n"), 0o600))
	if err != nil {
		return nil, err
	}
	s.cmd = exec.Command(bin, "-D", "-e", "-f", filepath.Join(dir, "config"))
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	for range 100 {
		if c, err := net.Dial("tcp", s.Address); err == nil {
			_ = c.Close()
			return s, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	s.Stop()
	return nil, errors.New("sshd does not answer")
}

// Stop ends the server.
func (s *Server) Stop() {
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
}

// Dial signs in with the key that is let in.
func (s *Server) Dial() (*ssh.Client, error) {
	return ssh.Dial("tcp", s.Address, &ssh.ClientConfig{User: s.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(s.Signer)}, HostKeyCallback: ssh.FixedHostKey(s.HostKey), Timeout: 10 * time.Second})
}

func newKey(file string) (ssh.Signer, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(key)
}
