package transfer

import (
	"bytes"
	"crypto/rand"
	"log/slog"
	"net/http/httptest"
	neturl "net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	boxsend "verimorph/simfleet/send"
)

// Devices fetch files over every protocol, with the secret of one file and for as long as it is offered.
func TestFilesThatDevicesFetch(t *testing.T) {
	dir := t.TempDir()
	give := &Server{}
	web := httptest.NewServer(give)
	t.Cleanup(web.Close)
	give.Base = web.URL
	r, err := Receive(ReceiverConfig{SFTP: "127.0.0.1:0", FTP: "127.0.0.1:0", TFTP: "127.0.0.1:0", HostKey: filepath.Join(dir, "key"), Give: give, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	want := make([]byte, 300_001)
	_, _ = rand.Read(want)
	file := filepath.Join(dir, "a.img")
	require.NoError(t, os.WriteFile(file, want, 0o600))
	for _, scheme := range []string{"http", "sftp", "ftp", "tftp"} {
		url, withdraw, err := r.OfferFile(scheme, file, time.Minute)
		require.NoError(t, err, scheme)
		got, err := boxsend.From(url)
		require.NoError(t, err, scheme)
		assert.True(t, bytes.Equal(want, got), "%s: what came is what was offered", scheme)
		if scheme != "http" { // there an address works once
			got, err = boxsend.From(url)
			require.NoError(t, err, "%s: a fetch that broke off may be begun again", scheme)
			assert.Len(t, got, len(want))
			wrong := strings.Replace(url, "fetch:", "fetch:x", 1)
			if scheme == "tftp" {
				wrong = url + "x"
			}
			_, err = boxsend.From(wrong)
			assert.Error(t, err, "%s: another secret opens nothing", scheme)
		}
		withdraw()
		_, err = boxsend.From(url)
		assert.Error(t, err, "%s: what was withdrawn is gone", scheme)

		url, withdraw, err = r.OfferData(scheme, want[:1000])
		require.NoError(t, err)
		got, err = boxsend.From(url)
		require.NoError(t, err)
		assert.Equal(t, want[:1000], got)
		withdraw()
	}
	_, _, err = r.OfferFile("https", file, time.Minute)
	assert.ErrorContains(t, err, "start it with -transfer-tls-listen", "nothing is handed out over TLS unless somebody says so")
	secure := httptest.NewTLSServer(give)
	t.Cleanup(secure.Close)
	give.Secure = secure.URL
	for _, offer := range []func() (string, func(), error){
		func() (string, func(), error) { return r.OfferFile("https", file, time.Minute) }, func() (string, func(), error) { return r.OfferData("https", []byte("a")) },
	} {
		url, withdraw, err := offer()
		require.NoError(t, err)
		resp, err := secure.Client().Get(url)
		require.NoError(t, err)
		_ = resp.Body.Close()
		assert.Equal(t, []any{200, true}, []any{resp.StatusCode, r.Came(url)})
		withdraw()
	}
	_, _, err = r.OfferFile("gopher", file, time.Minute)
	assert.ErrorContains(t, err, "does not answer over gopher")

	// Who may fetch one file may neither send nor list anything.
	url, withdraw, err := r.OfferFile("sftp", file, time.Minute)
	require.NoError(t, err)
	defer withdraw()
	there, err := neturl.Parse(url)
	require.NoError(t, err)
	assert.Error(t, boxsend.To(there, []byte("x"), "sftp"))
	none, err := Receive(ReceiverConfig{Give: give, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	_, _, err = none.OfferFile("ftp", file, time.Minute)
	assert.ErrorContains(t, err, "does not answer over ftp")
}
