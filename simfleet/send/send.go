// Package send transfers files for simulated devices: to and from SFTP, FTP, TFTP and HTTP addresses.
package send

import (
	"bytes"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/pin/tftp/v3"
	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// To sends data to an address: sftp, ftp or tftp, as far as the box speaks them.
func To(u *url.URL, data []byte, spoken ...string) error {
	password, _ := u.User.Password()
	for _, s := range spoken {
		if s != u.Scheme {
			continue
		}
		switch s {
		case "sftp":
			return overSFTP(u, password, data)
		case "ftp":
			return overFTP(u, password, data)
		case "tftp":
			return overTFTP(u, data)
		}
	}
	return fmt.Errorf("%s is not spoken here", u.Scheme)
}

func overSFTP(u *url.URL, password string, data []byte) error {
	conn, err := ssh.Dial("tcp", u.Host, &ssh.ClientConfig{User: u.User.Username(), Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 5 * time.Second})
	if err != nil {
		return err
	}
	defer conn.Close()
	files, err := sftp.NewClient(conn)
	if err != nil {
		return err
	}
	f, err := files.Create(u.Path)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Close())
}

func overFTP(u *url.URL, password string, data []byte) error {
	c, err := ftp.Dial(u.Host, ftp.DialWithTimeout(5*time.Second))
	if err != nil {
		return err
	}
	defer func() { _ = c.Quit() }()
	if err := c.Login(u.User.Username(), password); err != nil {
		return err
	}
	return c.Stor(strings.TrimPrefix(u.Path, "/"), bytes.NewReader(data))
}

func overTFTP(u *url.URL, data []byte) error {
	c, err := tftp.NewClient(u.Host)
	if err != nil {
		return err
	}
	c.SetTimeout(time.Second)
	r, err := c.Send(strings.TrimPrefix(u.Path, "/"), "octet")
	if err != nil {
		return err
	}
	_, err = r.ReadFrom(bytes.NewReader(data))
	return err
}
