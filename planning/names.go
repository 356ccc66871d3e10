package planning

import (
	"net"
	"regexp"
	"strconv"
)

var goodName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// GoodName reports whether a text can name a device or a licence: up to 63 letters, digits, dots, dashes and underscores.
func GoodName(s string) bool { return goodName.MatchString(s) }

// GoodAddress reports whether a text is host:port.
func GoodAddress(s string) bool {
	host, port, err := net.SplitHostPort(s)
	return err == nil && host != "" && GoodPort(port)
}

// GoodPort reports whether a text is a port, from 1 to 65535.
func GoodPort(s string) bool {
	n, err := strconv.Atoi(s)
	return err == nil && n > 0 && n < 65536
}
