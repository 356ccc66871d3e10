package transfer

import (
	"bytes"
	"context"
	"errors"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/pin/tftp/v3"
	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

func receiver(t *testing.T, key string) *Receiver {
	r, err := Receive(ReceiverConfig{SFTP: "127.0.0.1:0", FTP: "127.0.0.1:0", TFTP: "127.0.0.1:0", HostKey: key, Give: &Server{}, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}

func openSFTP(t *testing.T, u *url.URL) (*ssh.Client, *sftp.Client, error) {
	password, _ := u.User.Password()
	conn, err := ssh.Dial("tcp", u.Host, &ssh.ClientConfig{User: u.User.Username(), Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		return nil, nil, err
	}
	t.Cleanup(func() { _ = conn.Close() })
	files, err := sftp.NewClient(conn, sftp.UseConcurrentWrites(true))
	return conn, files, err
}

// send delivers data the way a device would.
func send(t *testing.T, address string, data []byte) error {
	u, err := url.Parse(address)
	require.NoError(t, err)
	switch u.Scheme {
	case "sftp":
		_, files, err := openSFTP(t, u)
		if err != nil {
			return err
		}
		f, err := files.Create(u.Path)
		if err != nil {
			return err
		}
		_, err = f.ReadFrom(bytes.NewReader(data))
		return errors.Join(err, f.Close())
	case "ftp":
		c, err := ftp.Dial(u.Host, ftp.DialWithTimeout(5*time.Second))
		if err != nil {
			return err
		}
		defer func() { _ = c.Quit() }()
		password, _ := u.User.Password()
		if err := c.Login(u.User.Username(), password); err != nil {
			return err
		}
		return c.Stor("x", bytes.NewReader(data))
	}
	c, err := tftp.NewClient(u.Host)
	require.NoError(t, err)
	c.SetTimeout(time.Second)
	w, err := c.Send(strings.TrimPrefix(u.Path, "/"), "octet")
	if err != nil {
		return err
	}
	_, err = w.ReadFrom(bytes.NewReader(data))
	return err
}

func await(t *testing.T, wait func(context.Context) ([]byte, error), d time.Duration) ([]byte, error) {
	ctx, cancel := context.WithTimeout(t.Context(), d)
	defer cancel()
	return wait(ctx)
}

// What a device sends arrives as it was sent, once, and only when it was expected.
func TestReceiving(t *testing.T) {
	r := receiver(t, filepath.Join(t.TempDir(), "key"))
	rng := rand.New(rand.NewPCG(1, 1))
	for _, scheme := range []string{"sftp", "ftp", "tftp"} {
		for _, size := range []int{0, 1, 511, 512, 513, 300_000} {
			data := make([]byte, size)
			for i := range data {
				data[i] = byte(rng.Uint32())
			}
			address, wait, withdraw, err := r.Expect(scheme, 1<<20)
			require.NoError(t, err)
			require.NoError(t, send(t, address, data), "%s %d", scheme, size)
			got, err := await(t, wait, 5*time.Second)
			require.NoError(t, err, "%s %d", scheme, size)
			assert.True(t, bytes.Equal(data, got), "%s %d", scheme, size)
			assert.Error(t, send(t, address, []byte("again")), "a delivery is taken once")
			withdraw()
		}
		// More than is taken, and nothing at all.
		address, wait, withdraw, err := r.Expect(scheme, 1000)
		require.NoError(t, err)
		_ = send(t, address, make([]byte, 5000))
		_, err = await(t, wait, 300*time.Millisecond)
		assert.ErrorContains(t, err, "nothing came, or it broke off", scheme)
		withdraw()
		assert.Error(t, send(t, address, []byte("late")), "what was withdrawn is not taken")
		guessed, _ := url.Parse(address)
		guessed.User, guessed.Path = url.UserPassword("deliver", "guess"), "/guess"
		assert.Error(t, send(t, guessed.String(), []byte("x")), "nobody comes in by guessing")
	}
	_, _, _, err := r.Expect("gopher", 1)
	assert.ErrorContains(t, err, "does not answer over gopher")
	none, err := Receive(ReceiverConfig{})
	require.NoError(t, err)
	_, _, _, err = none.Expect("sftp", 1)
	assert.ErrorContains(t, err, "does not answer over sftp")
	none.Close()
}

// A connection that ends in the middle of the file has delivered nothing; the device may begin again.
func TestDeliveriesThatBreakOff(t *testing.T) {
	key := filepath.Join(t.TempDir(), "key")
	r := receiver(t, key)
	address, wait, _, err := r.Expect("sftp", 1<<20)
	require.NoError(t, err)
	u, err := url.Parse(address)
	require.NoError(t, err)
	conn, files, err := openSFTP(t, u)
	require.NoError(t, err)
	f, err := files.Create("x")
	require.NoError(t, err)
	_, err = f.Write([]byte("half of it"))
	require.NoError(t, err)
	_, err = files.Open("x")
	assert.Error(t, err, "nothing can be read here")
	assert.Error(t, files.Remove("x"))
	_ = conn.Close()
	_, err = await(t, wait, 300*time.Millisecond)
	assert.Error(t, err)
	require.NoError(t, send(t, address, []byte("all of it")))
	got, err := await(t, wait, 5*time.Second)
	require.NoError(t, err)
	assert.Equal(t, "all of it", string(got))
	// Pieces that come in another order are put in order; a gap that is never filled is no file.
	for whole, pieces := range map[bool][]int{true: {2, 0, 1}, false: {0, 2}} {
		address, wait, _, err := r.Expect("sftp", 100)
		require.NoError(t, err)
		u, err := url.Parse(address)
		require.NoError(t, err)
		_, files, err := openSFTP(t, u)
		require.NoError(t, err)
		f, err := files.Create("x")
		require.NoError(t, err)
		for _, p := range pieces {
			_, err := f.WriteAt(bytes.Repeat([]byte{byte('a' + p)}, 5), int64(5*p))
			require.NoError(t, err)
		}
		require.NoError(t, f.Close())
		got, err := await(t, wait, 500*time.Millisecond)
		assert.Equal(t, whole, err == nil)
		if whole {
			assert.Equal(t, "aaaaabbbbbccccc", string(got))
		}
	}
	// The host key stays over restarts.
	_, first, err := hostKeyOf(r)
	require.NoError(t, err)
	_, second, err := hostKeyOf(receiver(t, key))
	require.NoError(t, err)
	assert.Equal(t, first, second)
}

func hostKeyOf(r *Receiver) (*ssh.Client, string, error) {
	var seen string
	_, err := ssh.Dial("tcp", r.sftp.Addr().String(), &ssh.ClientConfig{User: "x", HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error { seen = ssh.FingerprintSHA256(k); return nil }})
	if seen == "" {
		return nil, "", err
	}
	return nil, seen, nil
}

// What is offered can be fetched over TFTP and, once, over HTTP.
func TestOffering(t *testing.T) {
	r := receiver(t, filepath.Join(t.TempDir(), "key"))
	web := httptest.NewServer(r.give)
	t.Cleanup(web.Close)
	r.give.Base = web.URL
	data := bytes.Repeat([]byte("tide"), 3000)
	address, withdraw, err := r.OfferData("tftp", data)
	require.NoError(t, err)
	get := func(address string) ([]byte, error) {
		u, err := url.Parse(address)
		require.NoError(t, err)
		c, err := tftp.NewClient(u.Host)
		require.NoError(t, err)
		c.SetTimeout(time.Second)
		from, err := c.Receive(strings.TrimPrefix(u.Path, "/"), "octet")
		if err != nil {
			return nil, err
		}
		var b bytes.Buffer
		_, err = from.WriteTo(&b)
		return b.Bytes(), err
	}
	got, err := get(address)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, got))
	withdraw()
	_, err = get(address)
	assert.Error(t, err)
	address, _, err = r.OfferData("http", data)
	require.NoError(t, err)
	for i, want := range []int{200, 404} {
		resp, err := http.Get(address)
		require.NoError(t, err)
		body, err := io.ReadAll(resp.Body)
		_ = resp.Body.Close()
		require.NoError(t, err)
		assert.Equal(t, want, resp.StatusCode)
		assert.Equal(t, i == 0, bytes.Equal(data, body))
	}
	_, _, err = r.OfferData("gopher", nil)
	assert.Error(t, err)
}
