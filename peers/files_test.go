package peers

import (
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/simfleet/send"
	"verimorph/transfer"
)

// receiver takes files from devices and hands some out.
func receiver(t *testing.T) *transfer.Receiver {
	give := &transfer.Server{}
	web := httptest.NewServer(give)
	t.Cleanup(web.Close)
	give.Base = web.URL
	r, err := transfer.Receive(transfer.ReceiverConfig{SFTP: "127.0.0.1:0", FTP: "127.0.0.1:0", TFTP: "127.0.0.1:0", HostKey: filepath.Join(t.TempDir(), "key"), Give: give, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}

func random(t *testing.T, n int) []byte {
	data := make([]byte, n)
	_, err := rand.Read(data)
	require.NoError(t, err)
	return data
}

// What curl, lftp and tftp-hpa send arrives whole, and what they fetch is what was offered: as real devices would with their own clients.
func TestClientsOfOthers(t *testing.T) {
	r := receiver(t)
	dir := t.TempDir()
	data := random(t, 300_001)
	file := write(t, filepath.Join(dir, "out.bin"), "%s", data)
	curl, lftp, tftp := program(t, "curl", "curl"), program(t, "lftp", "lftp"), program(t, "tftp", "tftp-hpa")
	settings := "set net:max-retries 1; set ftp:ssl-allow no; set net:timeout 5; "
	ways := map[string]struct {
		scheme    string
		put, take func(u *url.URL, raw, file string) []string
	}{
		"curl, ftp":  {"ftp", func(_ *url.URL, raw, file string) []string { return []string{curl, "-sS", "-T", file, raw} }, func(_ *url.URL, raw, file string) []string { return []string{curl, "-sS", "-o", file, raw} }},
		"curl, tftp": {"tftp", func(_ *url.URL, raw, file string) []string { return []string{curl, "-sS", "-T", file, raw} }, func(_ *url.URL, raw, file string) []string { return []string{curl, "-sS", "-o", file, raw} }},
		"curl, http": {"http", nil, func(_ *url.URL, raw, file string) []string { return []string{curl, "-sS", "-f", "-o", file, raw} }},
		"lftp": {"ftp", func(u *url.URL, raw, file string) []string {
			return []string{lftp, "-c", settings + "open " + u.Scheme + "://" + u.User.String() + "@" + u.Host + "; put " + file + " -o " + strings.TrimPrefix(u.Path, "/")}
		}, func(u *url.URL, raw, file string) []string {
			return []string{lftp, "-c", settings + "open " + u.Scheme + "://" + u.User.String() + "@" + u.Host + "; get " + strings.TrimPrefix(u.Path, "/") + " -o " + file}
		}},
		"tftp-hpa": {"tftp", func(u *url.URL, raw, file string) []string {
			return []string{tftp, "-m", "binary", u.Hostname(), u.Port(), "-c", "put", file, strings.TrimPrefix(u.Path, "/")}
		}, func(u *url.URL, raw, file string) []string {
			return []string{tftp, "-m", "binary", u.Hostname(), u.Port(), "-c", "get", strings.TrimPrefix(u.Path, "/"), file}
		}},
	}
	for name, w := range ways {
		t.Run(name, func(t *testing.T) {
			if w.put != nil {
				raw, wait, withdraw, err := r.Expect(w.scheme, 1<<20)
				require.NoError(t, err)
				defer withdraw()
				u, err := url.Parse(raw)
				require.NoError(t, err)
				args := w.put(u, raw, file)
				out, err := run(t, args[0], args[1:]...)
				require.NoError(t, err, out)
				ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
				defer cancel()
				got, err := wait(ctx)
				require.NoError(t, err, out)
				assert.Equal(t, data, got)
			}
			raw, withdraw, err := r.OfferData(w.scheme, data)
			require.NoError(t, err)
			u, err := url.Parse(raw)
			require.NoError(t, err)
			into := filepath.Join(t.TempDir(), "in.bin")
			args := w.take(u, raw, into)
			out, err := run(t, args[0], args[1:]...)
			require.NoError(t, err, out)
			got, err := os.ReadFile(into)
			require.NoError(t, err)
			assert.Equal(t, data, got)
			withdraw()
			_ = os.Remove(into)
			args = w.take(u, raw, into)
			out, _ = run(t, args[0], args[1:]...)
			got, _ = os.ReadFile(into)
			assert.Empty(t, got, "what was withdrawn is not given out: %s", out)
		})
	}
}

// A server behind nginx: images go through it as they are, also from where a download broke off.
func TestNginx(t *testing.T) {
	dir := t.TempDir()
	data := random(t, 3<<20)
	file := write(t, filepath.Join(dir, "image.bin"), "%s", data)
	give := &transfer.Server{}
	web := httptest.NewServer(give)
	t.Cleanup(web.Close)
	front := free(t)
	give.Base = "http://" + front
	conf := write(t, filepath.Join(dir, "nginx.conf"), `
daemon off;
worker_processes 1;
pid %[1]s/pid;
error_log stderr;
events {}
http {
  access_log off;
  client_body_temp_path %[1]s/body;
  proxy_temp_path %[1]s/proxy;
  fastcgi_temp_path %[1]s/fastcgi;
  uwsgi_temp_path %[1]s/uwsgi;
  scgi_temp_path %[1]s/scgi;
  server {
    listen %[2]s;
    location / { proxy_pass %[3]s; }
  }
}
`, dir, front, web.URL)
	daemon(t, nil, program(t, "nginx", "nginx-light"), "-c", conf, "-e", "stderr")
	answers(t, front)
	address, withdraw := give.Offer(file, time.Minute)
	defer withdraw()
	curl := program(t, "curl", "curl")
	into := filepath.Join(dir, "got.bin")
	out, err := run(t, curl, "-sS", "-f", "-r", "0-999999", "-o", into, address)
	require.NoError(t, err, out)
	out, err = run(t, curl, "-sS", "-f", "-C", "-", "-o", into, address)
	require.NoError(t, err, out)
	got, err := os.ReadFile(into)
	require.NoError(t, err)
	assert.Equal(t, data, got)
	again, withdrawAgain := give.Offer(file, time.Minute) // the one before is used up
	defer withdrawAgain()
	got, err = send.From(again)
	require.NoError(t, err)
	assert.Equal(t, data, got)
}

// Servers of others: what the simulated devices send and fetch goes there and comes from there as it is.
func TestServersOfOthers(t *testing.T) {
	dir := t.TempDir()
	data := random(t, 70_001)
	t.Run("vsftpd", func(t *testing.T) {
		at := free(t)
		conf := write(t, filepath.Join(dir, "vsftpd.conf"), `
listen=YES
listen_address=127.0.0.1
listen_port=%s
background=NO
run_as_launching_user=YES
anonymous_enable=YES
no_anon_password=NO
anon_root=%s
write_enable=YES
anon_upload_enable=YES
anon_umask=022
allow_writeable_chroot=YES
seccomp_sandbox=NO
connect_from_port_20=NO
xferlog_enable=NO
`, portOf(t, at), dir)
		daemon(t, nil, program(t, "vsftpd", "vsftpd"), conf)
		answers(t, at)
		u, err := url.Parse(fmt.Sprintf("ftp://anonymous:box@%s/sent.bin", at))
		require.NoError(t, err)
		require.NoError(t, send.To(u, data, "ftp"))
		got, err := send.From(u.String())
		require.NoError(t, err)
		assert.Equal(t, data, got)
	})
	t.Run("tftpd-hpa", func(t *testing.T) {
		if os.Geteuid() != 0 {
			t.Skip("in.tftpd wants to be started as root")
		}
		at := free(t)
		require.NoError(t, os.Chmod(dir, 0o777))
		write(t, filepath.Join(dir, "there.bin"), "%s", data)
		daemon(t, nil, program(t, "in.tftpd", "tftpd-hpa"), "-L", "-c", "-u", "root", "-a", at, dir)
		u, err := url.Parse("tftp://" + at + dir + "/sent2.bin")
		require.NoError(t, err)
		u.Path = "/" + u.Path // names are whole paths there
		require.Eventually(t, func() bool { return send.To(u, data, "tftp") == nil }, 10*time.Second, 200*time.Millisecond)
		got, err := os.ReadFile(filepath.Join(dir, "sent2.bin"))
		require.NoError(t, err)
		assert.Equal(t, data, got)
		got, err = send.From("tftp://" + at + "/" + dir + "/there.bin")
		require.NoError(t, err)
		assert.Equal(t, data, got)
	})
}
