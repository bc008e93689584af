package pack

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"fernladder/core/durable"
	"fernladder/core/ospackage"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// Written is a package as a file.
type Written struct {
	Name    string    `json:"name"`
	Version string    `json:"version"`
	Kind    Kind      `json:"kind"`
	Build   store.Ref `json:"build"`
	File    string    `json:"file"`
	Size    int64     `json:"size"`
	SHA256  string    `json:"sha256"`
	There   bool      `json:"there"` // it was there already, the same
}

// Write writes packages into a directory, each whole or not at all. One that is there
// already, the same, stays; a different one is an error, as is an *ospackage.Changed where files
// of a build are not as they were.
func Write(ctx context.Context, all []Made, f ospackage.Format, dir string) ([]Written, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if err := sweep(dir); err != nil {
		return nil, err
	}
	scratch, err := os.MkdirTemp(dir, fmt.Sprintf("%s%d-", scratchName, os.Getpid()))
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(scratch)
	var done []Written
	for _, o := range all {
		if err := ctx.Err(); err != nil {
			return done, err
		}
		w, err := write(o, f, dir, scratch)
		if err != nil {
			return done, err
		}
		done = append(done, w)
	}
	return done, nil
}

// scratchName begins the names of directories in which packages are written, followed by the
// number of the process.
const scratchName = ".packing-"

// sweep deletes what killed processes left.
func sweep(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		rest, is := strings.CutPrefix(e.Name(), scratchName)
		number, _, _ := strings.Cut(rest, "-")
		process, err := strconv.Atoi(number)
		if !is || err != nil || process <= 0 || syscall.Kill(process, 0) != syscall.ESRCH {
			continue
		}
		if err := safefs.Remove(filepath.Join(dir, e.Name())); err != nil {
			return err
		}
	}
	return nil
}

func write(o Made, f ospackage.Format, dir, scratch string) (w Written, err error) {
	name := o.FileName(f)
	w = Written{Name: o.Name, Version: o.Whole(), Kind: o.Kind, Build: o.Build, File: filepath.Join(dir, name)}
	out, err := os.OpenFile(filepath.Join(scratch, name), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o644)
	if err != nil {
		return w, err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	if f == ospackage.RPM {
		err = o.WriteRPM(out, scratch)
	} else {
		err = o.WriteDeb(out, scratch)
	}
	if err != nil {
		return w, fmt.Errorf("%s: %w", o.Name, err)
	}
	if w.SHA256, w.Size, err = sumOf(out); err != nil {
		return w, err
	}
	switch there, err := safefs.Open(w.File); {
	case err == nil:
		defer there.Close()
		sum, _, err := sumOf(there)
		if err != nil {
			return w, err
		}
		if w.There = sum == w.SHA256; !w.There {
			return w, problem.New(problem.Other, w.File, "%s exists, and is another package of the same version", w.File).
				Remedy(problem.RaiseRebuild)
		}
		return w, nil
	case errors.Is(err, safefs.ErrNotRegular):
		return w, problem.New(problem.Other, w.File, "%s exists, and is another package of the same version", w.File).
			Remedy(problem.RaiseRebuild)
	case !errors.Is(err, fs.ErrNotExist):
		return w, err
	}
	if err := out.Sync(); err != nil {
		return w, err
	}
	return w, durable.Rename(out.Name(), w.File)
}

func sumOf(f *os.File) (sum string, size int64, err error) {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return "", 0, err
	}
	h := sha256.New()
	size, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), size, err
}
