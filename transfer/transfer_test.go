package transfer

import (
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func get(t *testing.T, url, rng string) (int, []byte) {
	req, err := http.NewRequest("GET", url, nil)
	require.NoError(t, err)
	if rng != "" {
		req.Header.Set("Range", rng)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, b
}

func TestAddressWorksOnceAndExpires(t *testing.T) {
	s := &Server{}
	web := httptest.NewServer(s)
	defer web.Close()
	s.Base = web.URL
	file := filepath.Join(t.TempDir(), "x.img")
	require.NoError(t, os.WriteFile(file, []byte("0123456789"), 0o600))

	url, _ := s.Offer(file, time.Minute)
	code, part := get(t, url, "bytes=0-3")
	assert.Equal(t, 206, code)
	assert.Equal(t, "0123", string(part))
	code, rest := get(t, url, "bytes=4-")
	assert.Equal(t, 206, code, "a broken download is taken up again")
	assert.Equal(t, "456789", string(rest))
	code, _ = get(t, url, "")
	assert.Equal(t, 404, code, "used up")

	url, _ = s.Offer(file, time.Minute)
	code, _ = get(t, url, "")
	assert.Equal(t, 200, code)
	code, _ = get(t, url, "")
	assert.Equal(t, 404, code)

	url, _ = s.Offer(file, -time.Second)
	code, _ = get(t, url, "")
	assert.Equal(t, 404, code, "expired")
	url, withdraw := s.Offer(file, time.Minute)
	withdraw()
	code, _ = get(t, url, "")
	assert.Equal(t, 404, code, "withdrawn")
	code, _ = get(t, web.URL+"/get/../x.img", "")
	assert.Equal(t, 404, code)
}

// pair connects an SFTP client to a server over a pipe that breaks after limit bytes to the server; 0 is never.
func pair(t *testing.T, dir string, limit int64) *sftp.Client {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer ln.Close()
	go func() {
		c, err := ln.Accept()
		if err != nil {
			return
		}
		var rw io.ReadWriteCloser = c
		if limit > 0 {
			rw = &breaking{c, limit}
		}
		srv, err := sftp.NewServer(rw, sftp.WithServerWorkingDirectory(dir))
		if err == nil {
			_ = srv.Serve()
		}
		_ = c.Close()
	}()
	c, err := net.Dial("tcp", ln.Addr().String())
	require.NoError(t, err)
	client, err := sftp.NewClientPipe(c, c, sftp.UseConcurrentWrites(true))
	require.NoError(t, err)
	t.Cleanup(func() { _ = client.Close() })
	return client
}

type breaking struct {
	net.Conn
	left int64
}

func (b *breaking) Read(p []byte) (int, error) {
	if b.left <= 0 {
		_ = b.Close()
		return 0, io.EOF
	}
	n, err := b.Conn.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

func TestPushResumes(t *testing.T) {
	dir := t.TempDir()
	local := filepath.Join(t.TempDir(), "x.img")
	data := make([]byte, 5<<20+17)
	_, _ = rand.Read(data)
	require.NoError(t, os.WriteFile(local, data, 0o600))

	err := Push(context.Background(), pair(t, dir, 4<<20), local, "x.img", nil)
	require.ErrorContains(t, err, "broke off")
	st, err := os.Stat(filepath.Join(dir, "x.img"))
	require.NoError(t, err)
	require.Greater(t, st.Size(), int64(window*packet), "enough arrived for a resume to mean something")

	first := int64(-1)
	require.NoError(t, Push(context.Background(), pair(t, dir, 0), local, "x.img", func(done, total int64) {
		if first < 0 {
			first = done
		}
		assert.EqualValues(t, len(data), total)
	}))
	assert.Greater(t, first, st.Size()-window*packet, "only the rest was sent")
	got, err := os.ReadFile(filepath.Join(dir, "x.img"))
	require.NoError(t, err)
	assert.Equal(t, data, got)

	// A longer stranger under the same name is replaced, not appended to.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.img"), make([]byte, 6<<20), 0o600))
	require.NoError(t, Push(context.Background(), pair(t, dir, 0), local, "x.img", nil))
	got, _ = os.ReadFile(filepath.Join(dir, "x.img"))
	assert.Equal(t, data, got)
}

func TestPushStopsWhenAsked(t *testing.T) {
	local := filepath.Join(t.TempDir(), "x.img")
	require.NoError(t, os.WriteFile(local, make([]byte, 4<<20), 0o600))
	ctx, cancel := context.WithCancelCause(context.Background())
	err := Push(ctx, pair(t, t.TempDir(), 0), local, "x.img", func(done, _ int64) {
		if done > 1<<20 {
			cancel(errors.New("held"))
		}
	})
	assert.ErrorContains(t, err, "held")
}

// A file that the other side takes and does not keep was not sent.
func TestAPushIsLookedAt(t *testing.T) {
	local := filepath.Join(t.TempDir(), "a.img")
	require.NoError(t, os.WriteFile(local, make([]byte, 1000), 0o600))
	here, there := net.Pipe()
	h := &forgetful{}
	server := sftp.NewRequestServer(there, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h})
	go func() { _ = server.Serve() }()
	defer server.Close()
	c, err := sftp.NewClientPipe(here, here)
	require.NoError(t, err)
	defer c.Close()
	err = Push(t.Context(), c, local, "a.img", nil)
	assert.ErrorIs(t, err, ErrBroken)
	assert.ErrorContains(t, err, "does not have all of it afterwards")
}

// forgetful takes every file and has none.
type forgetful struct{}

func (*forgetful) Fileread(*sftp.Request) (io.ReaderAt, error)   { return nil, os.ErrNotExist }
func (*forgetful) Filewrite(*sftp.Request) (io.WriterAt, error)  { return discard{}, nil }
func (*forgetful) Filecmd(*sftp.Request) error                   { return nil }
func (*forgetful) Filelist(*sftp.Request) (sftp.ListerAt, error) { return nil, os.ErrNotExist }

type discard struct{}

func (discard) WriteAt(p []byte, _ int64) (int, error) { return len(p), nil }
