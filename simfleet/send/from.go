package send

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/pin/tftp/v3"
	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// overTLS is how a simulated box fetches over https: it knows no authorities, and takes whoever is at the address.
var overTLS = &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}

// From is how a simulated box fetches a file: over http, https, sftp, ftp or tftp.
func From(address string) ([]byte, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, errors.New("that is no address")
	}
	password, _ := u.User.Password()
	switch u.Scheme {
	case "http", "https":
		client := http.DefaultClient
		if u.Scheme == "https" {
			client = overTLS
		}
		resp, err := client.Get(address)
		if err != nil {
			return nil, errors.New("cannot reach the address")
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			return nil, fmt.Errorf("the address answers %d", resp.StatusCode)
		}
		return io.ReadAll(resp.Body)
	case "tftp":
		c, err := tftp.NewClient(u.Host)
		if err != nil {
			return nil, err
		}
		c.SetTimeout(time.Second)
		from, err := c.Receive(strings.TrimPrefix(u.Path, "/"), "octet")
		if err != nil {
			return nil, err
		}
		var data bytes.Buffer
		_, err = from.WriteTo(&data)
		return data.Bytes(), err
	case "ftp":
		c, err := ftp.Dial(u.Host, ftp.DialWithTimeout(5*time.Second))
		if err != nil {
			return nil, err
		}
		defer func() { _ = c.Quit() }()
		if err := c.Login(u.User.Username(), password); err != nil {
			return nil, err
		}
		r, err := c.Retr(strings.TrimPrefix(u.Path, "/"))
		if err != nil {
			return nil, err
		}
		defer r.Close()
		return io.ReadAll(r)
	case "sftp":
		conn, err := ssh.Dial("tcp", u.Host, &ssh.ClientConfig{User: u.User.Username(), Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 5 * time.Second})
		if err != nil {
			return nil, err
		}
		defer conn.Close()
		files, err := sftp.NewClient(conn)
		if err != nil {
			return nil, err
		}
		f, err := files.Open(u.Path)
		if err != nil {
			return nil, err
		}
		return io.ReadAll(f)
	}
	return nil, fmt.Errorf("%s is not spoken here", u.Scheme)
}
