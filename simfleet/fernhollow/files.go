package fernhollow

import (
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/pkg/sftp"

	"verimorph/simfleet/box"
)

// folder is the file side of a box: one folder, images, with plain files in it.
type folder struct{ b *Box }

func (f *folder) name(path string) (string, error) {
	name, ok := strings.CutPrefix(filepath.Clean("/"+path), "/images/")
	if !ok || strings.Contains(name, "/") {
		return "", os.ErrPermission
	}
	return filepath.Join(f.b.store(), name), nil
}

// Fileread implements sftp.FileReader.
func (f *folder) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	name, err := f.name(r.Filepath)
	if err != nil {
		return nil, err
	}
	return os.Open(name)
}

// Filewrite implements sftp.FileWriter.
func (f *folder) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	name, err := f.name(r.Filepath)
	if err != nil {
		return nil, err
	}
	flags := os.O_WRONLY | os.O_CREATE
	if r.Pflags().Trunc {
		flags |= os.O_TRUNC
	}
	return os.OpenFile(name, flags, 0o600)
}

// Filecmd implements sftp.FileCmder: renaming and removing.
func (f *folder) Filecmd(r *sftp.Request) error {
	name, err := f.name(r.Filepath)
	if err != nil {
		return err
	}
	switch r.Method {
	case "Remove":
		return os.Remove(name)
	case "Rename", "PosixRename":
		to, err := f.name(r.Target)
		if err != nil {
			return err
		}
		return os.Rename(name, to)
	}
	return sftp.ErrSSHFxOpUnsupported
}

// Filelist implements sftp.FileLister.
func (f *folder) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		name, err := f.name(r.Filepath)
		if err != nil {
			name = f.b.store()
		}
		st, err := os.Stat(name)
		return box.FileList{st}, err
	}
	return box.ListFolder(f.b.store())
}
