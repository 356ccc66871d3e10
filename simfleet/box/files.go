package box

import (
	"encoding/xml"
	"io"
	"os"
	"strings"
)

// FileList is a list of files as an SFTP server gives it out; it is an sftp.ListerAt.
type FileList []os.FileInfo

// ListFolder lists what lies in a folder.
func ListFolder(dir string) (FileList, error) {
	entries, err := os.ReadDir(dir)
	var out FileList
	for _, e := range entries {
		if st, err := e.Info(); err == nil {
			out = append(out, st)
		}
	}
	return out, err
}

// ListAt implements sftp.ListerAt.
func (l FileList) ListAt(into []os.FileInfo, offset int64) (int, error) {
	if offset >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(into, l[offset:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}

// Escape is a text as XML holds it.
func Escape(text string) string {
	var out strings.Builder
	_ = xml.EscapeText(&out, []byte(text))
	return out.String()
}
