package session

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"fernladder/core/lock"
	"fernladder/core/problem"
	"fernladder/core/settings"
)

// FolderReport is what a new folder has.
type FolderReport struct {
	Settings string `json:"settings"`
	Shelf    string `json:"shelf"`
	Lock     string `json:"lock"`
}

// NewFolder makes a folder to work in: settings, an empty shelf, a lock file.
func NewFolder(dir string) (*FolderReport, error) {
	r := &FolderReport{filepath.Join(dir, settings.FileName), filepath.Join(dir, "recipes"),
		filepath.Join(dir, lock.FileName)}
	if err := os.MkdirAll(r.Shelf, 0o755); err != nil {
		return nil, fmt.Errorf("%s cannot be made: %w", r.Shelf, err)
	}
	err := create(r.Settings, firstSettings)
	if errors.Is(err, fs.ErrExist) {
		return nil, problem.New(problem.Usage, r.Settings, "%s already exists, and stays as it is", r.Settings)
	}
	if err != nil {
		return nil, err
	}
	if err := (&lock.File{Path: r.Lock, There: true}).Write(); err != nil {
		return nil, fmt.Errorf("%s cannot be made: %w", r.Lock, err)
	}
	return r, nil
}

// create writes a file that must not exist yet. If it fails, it leaves no file.
func create(file, text string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	if err = errors.Join(err, f.Close()); err != nil {
		os.Remove(file)
	}
	return err
}

// firstSettings is what a new settings file says: what most people leave as it
// is stands in comments.
const firstSettings = `# Settings of Fern Ladder. All keys are explained in docs/settings.md.

shelves = ["recipes"]           # folders of recipes, searched in this order
# root  = "/opt/fernladder"     # where everything is kept
# jobs  = 0                     # 0: as many as the machine has processors

# [wanted.NAME]                 # what "fernladder install" without names installs
# version = "2.*"
`
