package transfer

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	ftpserver "github.com/fclairamb/ftpserverlib"
	"github.com/pin/tftp/v3"
	"github.com/pkg/sftp"
	"github.com/spf13/afero"
	"golang.org/x/crypto/ssh"
)

// A Receiver takes files that devices send to us, over SFTP, FTP (RFC 959) and TFTP (RFC 1350), and hands files out over
// these and HTTP to devices that fetch them (offer.go). Every file is announced before, gets an address of its own that holds for one
// delivery, and nothing else is taken or given.
type Receiver struct {
	log     *slog.Logger
	give    *Server
	host    string
	sftp    net.Listener
	ftp     *ftpserver.FtpServer
	ftpAddr string
	tftp    *tftp.Server
	udp     *net.UDPConn

	mu      sync.Mutex
	expects map[string]*expectation // by token
	offers  map[string]given        // by token; those over HTTP are the Server's
	came    map[string]bool         // tokens of offers that somebody came for
}

type expectation struct {
	limit int64
	busy  bool
	done  bool
	got   chan []byte
}

// deliverer is the user name that devices sign in with; the password is the token of one delivery.
const deliverer = "deliver"

// ReceiverConfig says where a receiver listens. An address of "" means: not over this protocol.
type ReceiverConfig struct {
	SFTP, FTP, TFTP string // host:port
	Host            string // under which devices reach us; by default that of the addresses
	HostKey         string // file of the SSH host key; made when it is not there
	Give            *Server
	Log             *slog.Logger
}

// Receive starts a receiver.
func Receive(c ReceiverConfig) (r *Receiver, err error) {
	r = &Receiver{log: c.Log, give: c.Give, host: c.Host, expects: map[string]*expectation{}, offers: map[string]given{}}
	defer func() {
		if err != nil {
			r.Close()
		}
	}()
	if c.SFTP != "" {
		key, err := hostKey(c.HostKey)
		if err != nil {
			return nil, err
		}
		if r.sftp, err = net.Listen("tcp", c.SFTP); err != nil {
			return nil, err
		}
		go r.serveSFTP(key)
	}
	if c.FTP != "" {
		ln, err := net.Listen("tcp", c.FTP)
		if err != nil {
			return nil, err
		}
		r.ftpAddr = ln.Addr().String()
		r.ftp = ftpserver.NewFtpServer(&ftpDriver{r, ln})
		if err := r.ftp.Listen(); err != nil {
			_ = ln.Close()
			return nil, err
		}
		go func() { _ = r.ftp.Serve() }()
	}
	if c.TFTP != "" {
		addr, err := net.ResolveUDPAddr("udp", c.TFTP)
		if err != nil {
			return nil, err
		}
		if r.udp, err = net.ListenUDP("udp", addr); err != nil {
			return nil, err
		}
		r.tftp = tftp.NewServer(r.tftpGive, r.tftpTake)
		r.tftp.SetTimeout(2 * time.Second)
		go func() { _ = r.tftp.Serve(r.udp) }()
	}
	return r, nil
}

// Close ends every transfer.
func (r *Receiver) Close() {
	if r.sftp != nil {
		_ = r.sftp.Close()
	}
	if r.ftp != nil {
		_ = r.ftp.Stop()
	}
	if r.tftp != nil {
		r.tftp.Shutdown() // a server whose connection is merely closed goes round in circles
		_ = r.udp.Close()
	}
}

// address is where devices reach a protocol, or an error.
func (r *Receiver) address(scheme string) (string, error) {
	var at string
	switch {
	case scheme == "sftp" && r.sftp != nil:
		at = r.sftp.Addr().String()
	case scheme == "ftp" && r.ftp != nil:
		at = r.ftpAddr
	case scheme == "tftp" && r.tftp != nil:
		at = r.udp.LocalAddr().String()
	default:
		return "", fmt.Errorf("this service does not answer over %s", scheme)
	}
	if r.host != "" {
		_, port, _ := net.SplitHostPort(at)
		at = net.JoinHostPort(r.host, port)
	}
	return at, nil
}

// Expect announces one file: it returns the address a device is to send it to, and what waits for it.
func (r *Receiver) Expect(scheme string, limit int64) (url string, wait func(context.Context) ([]byte, error), withdraw func(), err error) {
	at, err := r.address(scheme)
	if err != nil {
		return "", nil, nil, err
	}
	token := strings.ToLower(rand.Text())
	e := &expectation{limit: limit, got: make(chan []byte, 1)}
	r.mu.Lock()
	r.expects[token] = e
	r.mu.Unlock()
	url = fmt.Sprintf("%s://%s:%s@%s/%s", scheme, deliverer, token, at, "delivery")
	if scheme == "tftp" { // it has no sign-in: the name is the secret
		url = fmt.Sprintf("tftp://%s/%s", at, token)
	}
	wait = func(ctx context.Context) ([]byte, error) {
		select {
		case data := <-e.got:
			return data, nil
		case <-ctx.Done():
			return nil, errors.New("nothing came, or it broke off in the middle")
		}
	}
	return url, wait, func() { r.mu.Lock(); delete(r.expects, token); r.mu.Unlock() }, nil
}

var errUnexpected = errors.New("no delivery is expected")

// begin claims an expectation; a delivery that broke off may be begun again.
func (r *Receiver) begin(token string) (*expectation, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	e := r.expects[token]
	if e == nil || e.busy || e.done {
		return nil, errUnexpected
	}
	e.busy = true
	return e, nil
}

func (r *Receiver) end(e *expectation, data []byte, whole bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	e.busy = false
	if whole {
		e.done = true
		e.got <- data
	}
}

// a delivery collects what arrives.
type delivery struct {
	r     *Receiver
	e     *expectation
	data  []byte
	ended bool
}

// WriteAt takes a piece. What a device sends is not trusted: an offset may be anything.
func (d *delivery) WriteAt(p []byte, off int64) (int, error) {
	switch {
	case off < 0:
		return 0, errors.New("a piece before the begin of the file")
	case off > d.e.limit-int64(len(p)):
		return 0, errors.New("larger than what is taken")
	case off > int64(len(d.data)):
		return 0, errors.New("a gap in the file")
	}
	n := copy(d.data[off:], p) // a piece that comes again does not cut off what came after it
	d.data = append(d.data, p[n:]...)
	return len(p), nil
}

func (d *delivery) finish(whole bool) {
	if !d.ended {
		d.ended = true
		d.r.end(d.e, d.data, whole)
	}
}

// SFTP.

func hostKey(file string) (ssh.Signer, error) {
	data, err := os.ReadFile(file)
	if err == nil {
		return ssh.ParsePrivateKey(data)
	}
	if !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
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

func (r *Receiver) serveSFTP(key ssh.Signer) {
	for {
		c, err := r.sftp.Accept()
		if err != nil {
			return
		}
		go r.serveConn(c, key)
	}
}

func (r *Receiver) serveConn(c net.Conn, key ssh.Signer) {
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	token := ""
	cfg := &ssh.ServerConfig{MaxAuthTries: 1, PasswordCallback: func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		r.mu.Lock()
		defer r.mu.Unlock()
		if !r.knows(m.User(), string(password)) {
			return nil, errUnexpected
		}
		token = string(password)
		return nil, nil
	}}
	cfg.AddHostKey(key)
	_, channels, requests, err := ssh.NewServerConn(c, cfg)
	if err != nil {
		return
	}
	_ = c.SetDeadline(time.Now().Add(30 * time.Minute))
	go ssh.DiscardRequests(requests)
	for nc := range channels {
		if nc.ChannelType() != "session" {
			_ = nc.Reject(ssh.UnknownChannelType, "only files")
			continue
		}
		ch, reqs, err := nc.Accept()
		if err != nil {
			return
		}
		go func() {
			for q := range reqs {
				ok := q.Type == "subsystem" && len(q.Payload) > 4 && string(q.Payload[4:]) == "sftp"
				if q.WantReply {
					_ = q.Reply(ok, nil)
				}
				if ok {
					h := &sftpTake{r: r, token: token}
					s := sftp.NewRequestServer(ch, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h})
					_ = s.Serve()
					_ = ch.Close()
					if h.d != nil {
						h.d.finish(false) // the connection ended before the file did
					}
				}
			}
		}()
	}
}

// sftpTake takes the one file that is expected.
type sftpTake struct {
	r     *Receiver
	token string
	d     *delivery
}

// Fileread implements sftp.FileReader: the one file that is offered can be read.
func (h *sftpTake) Fileread(*sftp.Request) (io.ReaderAt, error) {
	f, err := h.r.offered(h.token)
	if err != nil {
		return nil, os.ErrPermission
	}
	return f, nil
}

// Filecmd implements sftp.FileCmder: devices that set times and modes may, it means nothing.
func (h *sftpTake) Filecmd(r *sftp.Request) error {
	if r.Method == "Setstat" {
		return nil
	}
	return os.ErrPermission
}

// Filelist implements sftp.FileLister: of the file that is offered the size can be asked.
func (h *sftpTake) Filelist(q *sftp.Request) (sftp.ListerAt, error) {
	f, err := h.r.offered(h.token)
	if err != nil || q.Method == "List" {
		return nil, os.ErrNotExist
	}
	defer f.Close()
	return oneFile{f}, nil
}

// Filewrite implements sftp.FileWriter.
func (h *sftpTake) Filewrite(*sftp.Request) (io.WriterAt, error) {
	e, err := h.r.begin(h.token)
	if err != nil {
		return nil, os.ErrPermission
	}
	h.d = &delivery{r: h.r, e: e}
	return &sftpFile{d: h.d}, nil
}

// sftpFile puts pieces in order: SFTP may send several at once.
type sftpFile struct {
	d     *delivery
	mu    sync.Mutex
	ahead map[int64][]byte
	held  int64
	bad   bool // a piece was refused
}

func (f *sftpFile) WriteAt(p []byte, off int64) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	n, err := f.put(p, off)
	f.bad = f.bad || err != nil
	return n, err
}

func (f *sftpFile) put(p []byte, off int64) (int, error) {
	if off > int64(len(f.d.data)) {
		if f.ahead == nil {
			f.ahead = map[int64][]byte{}
		}
		f.held += int64(len(p) - len(f.ahead[off]))
		if f.held > f.d.e.limit {
			return 0, errors.New("larger than what is taken")
		}
		f.ahead[off] = bytes.Clone(p)
		return len(p), nil
	}
	if n, err := f.d.WriteAt(p, off); err != nil {
		return n, err
	}
	for next, ok := f.ahead[int64(len(f.d.data))]; ok; next, ok = f.ahead[int64(len(f.d.data))] {
		at := int64(len(f.d.data))
		delete(f.ahead, at)
		f.held -= int64(len(next))
		if _, err := f.d.WriteAt(next, at); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// TransferError hears of a connection that ended while the file was open: what came is not the file.
func (f *sftpFile) TransferError(error) { f.d.finish(false) }

// Close is the end of the file.
func (f *sftpFile) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.d.finish(len(f.ahead) == 0 && !f.bad)
	return nil
}

// FTP.

type ftpDriver struct {
	r  *Receiver
	ln net.Listener
}

// GetSettings implements ftpserver.MainDriver.
func (d *ftpDriver) GetSettings() (*ftpserver.Settings, error) {
	return &ftpserver.Settings{Listener: d.ln, IdleTimeout: 60, ConnectionTimeout: 20, Banner: "files by appointment", DefaultTransferType: ftpserver.TransferTypeBinary, DisableActiveMode: true, PublicHost: d.r.host}, nil
}

// ClientConnected implements ftpserver.MainDriver.
func (d *ftpDriver) ClientConnected(ftpserver.ClientContext) (string, error) {
	return "files by appointment", nil
}

// ClientDisconnected implements ftpserver.MainDriver.
func (d *ftpDriver) ClientDisconnected(ftpserver.ClientContext) {}

// AuthUser implements ftpserver.MainDriver.
func (d *ftpDriver) AuthUser(_ ftpserver.ClientContext, user, pass string) (ftpserver.ClientDriver, error) {
	d.r.mu.Lock()
	defer d.r.mu.Unlock()
	if !d.r.knows(user, pass) {
		return nil, errUnexpected
	}
	return &ftpFiles{afero.NewReadOnlyFs(afero.NewMemMapFs()), d.r, pass}, nil
}

// GetTLSConfig implements ftpserver.MainDriver: there is none.
func (d *ftpDriver) GetTLSConfig() (*tls.Config, error) { return nil, errors.New("no TLS here") }

// ftpFiles is a folder without files that takes the one that is expected.
type ftpFiles struct {
	afero.Fs
	r     *Receiver
	token string
}

// Stat implements afero.Fs: many clients ask how large a file is before they fetch it. There is the one that is offered, under whatever name, and the
// folder that it lies in.
func (f *ftpFiles) Stat(name string) (os.FileInfo, error) {
	if name == "/" || name == "" {
		return f.Fs.Stat(name)
	}
	file, err := f.r.offered(f.token)
	if err != nil {
		return nil, os.ErrNotExist
	}
	defer file.Close()
	return oneFile{file}, nil
}

// GetHandle implements ftpserver.ClientDriverExtentionFileTransfer.
func (f *ftpFiles) GetHandle(_ string, flags int, offset int64) (ftpserver.FileTransfer, error) {
	if flags&os.O_WRONLY == 0 {
		file, err := f.r.offered(f.token)
		if err != nil {
			return nil, os.ErrPermission
		}
		_, err = file.Seek(offset, io.SeekStart)
		return file, err
	}
	if offset != 0 {
		return nil, os.ErrPermission
	}
	e, err := f.r.begin(f.token)
	if err != nil {
		return nil, err
	}
	return &ftpFile{d: &delivery{r: f.r, e: e}}, nil
}

type ftpFile struct {
	d      *delivery
	broken bool
}

func (f *ftpFile) Read([]byte) (int, error) { return 0, os.ErrPermission }
func (f *ftpFile) Write(p []byte) (int, error) {
	return f.d.WriteAt(p, int64(len(f.d.data)))
}
func (f *ftpFile) Seek(int64, int) (int64, error) { return 0, os.ErrPermission }

// TransferError implements ftpserver.FileTransferError.
func (f *ftpFile) TransferError(error) { f.broken = true }

// Close is the end of the file. FTP ends a file by ending the connection, so one that broke off may look whole: the
// caller compares with what the device says, or has it sent twice.
func (f *ftpFile) Close() error { f.d.finish(!f.broken); return nil }

// TFTP.

func (r *Receiver) tftpTake(name string, wt io.WriterTo) error {
	e, err := r.begin(path.Base(name))
	if err != nil {
		return err
	}
	d := &delivery{r: r, e: e}
	_, err = wt.WriteTo(writerAt{d})
	d.finish(err == nil)
	return err
}

type writerAt struct{ d *delivery }

func (w writerAt) Write(p []byte) (int, error) { return w.d.WriteAt(p, int64(len(w.d.data))) }

// OfferBytes returns an address for data, valid once and for d, and a function that withdraws it.
func (s *Server) OfferBytes(data []byte, d time.Duration) (url string, withdraw func()) {
	token := rand.Text()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.offers == nil {
		s.offers = map[string]*offer{}
	}
	s.offers[token] = &offer{data: data, until: time.Now().Add(d)}
	return s.Base + "/get/" + token, func() { s.drop(token); s.forget(token) }
}

// serveBytes answers with data that lies in memory.
func serveBytes(w http.ResponseWriter, data []byte) bool {
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Length", strconv.Itoa(len(data)))
	n, err := w.Write(data)
	return err == nil && n == len(data)
}
