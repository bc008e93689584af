package advisory

import (
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/zeebo/blake3"

	"fernladder/core/recipe"
	"fernladder/core/safefs"
)

// Limits that no honest database comes near.
const (
	largestEntry = 16 << 20 // bytes
	mostEntries  = 8 << 20
)

// A database is a file with one entry, a zip archive of them, or a directory of both.
type database struct{ path string }

// open opens the files of the database, through one opened directory.
func (d *database) open() (dir *safefs.Dir, one string, err error) {
	path, err := filepath.EvalSymlinks(d.path)
	if err != nil {
		return nil, "", err
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, "", err
	}
	if info.IsDir() {
		dir, err = safefs.OpenDir(path)
		return dir, "", err
	}
	dir, err = safefs.OpenDir(filepath.Dir(path))
	return dir, filepath.Base(path), err
}

// each visits the files of the database.
func (d *database) each(visit func(dir *safefs.Dir, name string, info safefs.Info) error) error {
	dir, one, err := d.open()
	if err != nil {
		return err
	}
	defer dir.Close()
	if one != "" {
		info, err := dir.Lstat(one)
		if err != nil {
			return err
		}
		return visit(dir, one, info)
	}
	return dir.Walk(false, func(e safefs.Entry) error {
		if !e.Mode.IsRegular() || !strings.HasSuffix(e.Name, ".json") && !strings.HasSuffix(e.Name, ".zip") {
			return nil
		}
		return visit(dir, e.Name, e.Info)
	})
}

// state identifies the contents of the database by what changes when they do.
func (d *database) state() (string, error) {
	h := blake3.New()
	err := d.each(func(_ *safefs.Dir, name string, info safefs.Info) error {
		_, err := fmt.Fprintf(h, "%q %d %d %d %d\n", name, info.Device, info.Inode, info.Size, info.Changed.UnixNano())
		return err
	})
	return hex.EncodeToString(h.Sum(nil)), err
}

// scan reads all of the database once.
func (d *database) scan(ctx context.Context) (*scanned, error) {
	all := &scanned{}
	err := d.each(func(dir *safefs.Dir, name string, info safefs.Info) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		number := uint32(len(all.names))
		all.names = append(all.names, name)
		file, err := dir.Open(name)
		if err != nil {
			return err
		}
		defer file.Close()
		magic := make([]byte, 4)
		if _, err := file.ReadAt(magic, 0); err == nil && string(magic) == "PK\x03\x04" {
			return all.archive(ctx, file, info.Size, number)
		}
		if info.Size > largestEntry {
			all.head.Entries++
			all.head.Broken++
			return nil
		}
		data, err := io.ReadAll(io.LimitReader(file, largestEntry))
		if err == nil {
			all.add(data, record{file: number})
		}
		return err
	})
	return all, err
}

// archive reads the entries of a zip archive, several at once.
func (s *scanned) archive(ctx context.Context, file *os.File, size int64, number uint32) error {
	members, err := readDirectory(file, size)
	if err != nil {
		return fmt.Errorf("%s: %w", filepath.Base(file.Name()), err)
	}
	const usual = 4 // keys of an entry
	s.records = slices.Grow(s.records, usual*members.most)
	const batch = 512
	work := make(chan []member)
	var lock sync.Mutex
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			var u unzipping
			part := &scanned{}
			for some := range work {
				for _, m := range some {
					data, err := u.read(file, m)
					if err != nil {
						part.head.Entries++
						part.head.Broken++
						continue
					}
					part.add(data, record{file: number, offset: m.offset, packed: m.packed})
				}
				lock.Lock()
				s.merge(part)
				lock.Unlock()
			}
		})
	}
	some := make([]member, 0, batch)
	for m := range members.each() {
		if ctx.Err() != nil {
			break
		}
		if some = append(some, m); len(some) == batch {
			work <- some
			some = make([]member, 0, batch)
		}
	}
	work <- some
	close(work)
	wait.Wait()
	s.head.Entries += members.none
	s.head.Broken += members.none
	if err := ctx.Err(); err != nil {
		return err
	}
	if members.err != nil {
		return fmt.Errorf("%s: %w", filepath.Base(file.Name()), members.err)
	}
	return nil
}

// entries reads entries by their records. Those that cannot be read are named to broken.
func (d *database) entries(x *index, records []record, take func(*Entry), broken func(id string)) error {
	dir, _, err := d.open()
	if err != nil {
		return err
	}
	defer dir.Close()
	files := map[uint32]*os.File{}
	defer func() {
		for _, f := range files {
			f.Close()
		}
	}()
	var u unzipping
	for _, r := range records {
		if int(r.file) >= len(x.names) {
			continue
		}
		var data []byte
		if r.packed == 0 {
			data, err = dir.ReadFile(x.names[r.file], largestEntry)
		} else {
			file := files[r.file]
			if file == nil {
				if file, err = dir.Open(x.names[r.file]); err != nil {
					return err
				}
				files[r.file] = file
			}
			data, err = u.read(file, member{offset: r.offset, packed: r.packed})
		}
		if err != nil {
			return fmt.Errorf("%s: %w", x.names[r.file], err)
		}
		if e, err := parse(data); err == nil {
			take(e)
			continue
		}
		name := x.names[r.file]
		keysOf(data, func(key string) {
			if id, is := strings.CutPrefix(key, keyID); is && recipe.CheckAdvisory(id) == nil {
				name = id
			}
		}, func(string) {})
		broken(name)
	}
	return nil
}
