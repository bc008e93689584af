package draft

import (
	"errors"
	"io/fs"
	"os"
)

// FilesOf opens the directory of a source to read. Its contents are untrusted: a link that leads
// out of the directory leads nowhere, and anything that is neither a file nor a directory, such
// as a pipe, cannot be opened.
func FilesOf(dir string) (files fs.FS, done func() error, err error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, nil, err
	}
	return plainFiles{root}, root.Close, nil
}

type plainFiles struct{ root *os.Root }

func (p plainFiles) Stat(name string) (fs.FileInfo, error) { return fs.Stat(p.root.FS(), name) }

func (p plainFiles) Open(name string) (fs.File, error) {
	info, err := p.Stat(name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() && !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("is neither a file nor a directory")}
	}
	return p.root.FS().Open(name)
}
