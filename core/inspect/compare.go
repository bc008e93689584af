package inspect

import (
	"bytes"
	"debug/elf"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/safefs"
)

// A Difference is a file that differs between two trees.
type Difference struct {
	File string `json:"file"`
	Kind string `json:"kind"` // the difference, in a few words
}

// String returns FILE: KIND.
func (d Difference) String() string { return d.File + ": " + d.Kind }

// Compare lists the differences between two trees, except in some directories. It ignores times
// and empty directories.
func Compare(a, b string, leaveOut ...string) ([]Difference, error) {
	files := map[string][2]fs.FileInfo{}
	for side, root := range []string{a, b} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			name := strings.TrimPrefix(strings.TrimPrefix(path, root), "/")
			if slices.Contains(leaveOut, name) {
				return fs.SkipDir
			}
			info, err := d.Info()
			pair := files[name]
			pair[side] = info
			files[name] = pair
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	var differences []Difference
	for name, pair := range files {
		kind, err := compare(filepath.Join(a, name), filepath.Join(b, name), pair)
		if err != nil {
			return nil, err
		}
		if kind != "" {
			differences = append(differences, Difference{name, kind})
		}
	}
	slices.SortFunc(differences, func(x, y Difference) int { return strings.Compare(x.File, y.File) })
	return differences, nil
}

func compare(a, b string, info [2]fs.FileInfo) (string, error) {
	switch {
	case info[0] == nil && info[1].IsDir(), info[1] == nil && info[0].IsDir():
		return "", nil // its files are reported
	case info[0] == nil:
		return "only in the second", nil
	case info[1] == nil:
		return "only in the first", nil
	case info[0].Mode() != info[1].Mode():
		return fmt.Sprintf("its mode is %s and %s", info[0].Mode(), info[1].Mode()), nil
	case info[0].Mode()&fs.ModeSymlink != 0:
		first, err := os.Readlink(a)
		second, err2 := os.Readlink(b)
		if err != nil || err2 != nil || first == second {
			return "", err
		}
		return fmt.Sprintf("it is a link to %s and %s", first, second), nil
	case !info[0].Mode().IsRegular():
		return "", nil
	}
	return contents(a, b)
}

// contents says how two files differ.
func contents(a, b string) (string, error) {
	first, err := safefs.Open(a)
	if err != nil {
		return "", err
	}
	defer first.Close()
	second, err := safefs.Open(b)
	if err != nil {
		return "", err
	}
	defer second.Close()
	place, same, err := Common(first, second)
	if err != nil || same {
		return "", err
	}
	const most = 64 << 20
	whole := make([][]byte, 2)
	for i, f := range []*os.File{first, second} {
		if whole[i], err = io.ReadAll(io.NewSectionReader(f, 0, most+1)); err != nil {
			return "", err
		}
	}
	if len(whole[0]) > most || len(whole[1]) > most {
		return fmt.Sprintf("from byte %d on", place), nil
	}
	return kindOf(whole[0], whole[1]), nil
}

// Common finds out how much of two files is the same, and whether all of it is.
func Common(a, b io.Reader) (place int64, same bool, err error) {
	const size = 128 << 10
	left, right := make([]byte, size), make([]byte, size)
	for {
		n, err := io.ReadFull(a, left)
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return place, false, err
		}
		m, err := io.ReadFull(b, right)
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return place, false, err
		}
		for i := range min(n, m) {
			if left[i] != right[i] {
				return place + int64(i), false, nil
			}
		}
		place += int64(min(n, m))
		if n != m || n < size {
			return place, n == m, nil
		}
	}
}

// kindOf says how the contents of two files differ.
func kindOf(a, b []byte) string {
	place := 0
	for place < min(len(a), len(b)) && a[place] == b[place] {
		place++
	}
	switch {
	case bytes.HasPrefix(a, []byte(elf.ELFMAG)) && bytes.HasPrefix(b, []byte(elf.ELFMAG)):
		if sections := sections(a, b); len(sections) > 0 {
			return "a program or library, in " + strings.Join(sections, ", ")
		}
		return "a program or library"
	case bytes.HasPrefix(a, []byte("!<arch>\n")):
		member := bytes.LastIndex(a[:place], []byte("`\n"))
		if at := (place - 8) % 60; member < 0 || at >= 16 && at < 48 && place < 68 {
			return "an archive of object files, in the times or owners of its members"
		}
		return fmt.Sprintf("an archive of object files, from byte %d on", place)
	case bytes.HasPrefix(a, []byte("\x1f\x8b")) && place < 10:
		return "a gzip file, in the time of its header"
	case !bytes.Contains(a[:min(len(a), 4096)], []byte{0}):
		line := 1 + bytes.Count(a[:place], []byte("\n"))
		return fmt.Sprintf("text, line %d: %q and %q", line, lineAt(a, place), lineAt(b, place))
	}
	return fmt.Sprintf("from byte %d on", place)
}

// sections names the sections of two ELF files that differ.
func sections(a, b []byte) []string {
	first, err := elf.NewFile(bytes.NewReader(a))
	second, err2 := elf.NewFile(bytes.NewReader(b))
	if err != nil || err2 != nil {
		return nil
	}
	var names []string
	for _, s := range first.Sections {
		other := second.Section(s.Name)
		if s.Type == elf.SHT_NOBITS || s.Name == "" {
			continue
		}
		data, _ := s.Data()
		if other == nil {
			names = append(names, s.Name)
		} else if theirs, _ := other.Data(); !bytes.Equal(data, theirs) {
			names = append(names, s.Name)
		}
	}
	return names
}

func lineAt(data []byte, place int) string {
	begin := bytes.LastIndexByte(data[:min(place, len(data))], '\n') + 1
	end := len(data)
	if i := bytes.IndexByte(data[begin:], '\n'); i >= 0 {
		end = begin + i
	}
	const widest = 80
	return string(data[begin:min(end, begin+widest)])
}
