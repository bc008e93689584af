package source

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
)

func (u *unpacking) zip(f *os.File, size int64) error {
	r := &allowance{f, mostDirectory}
	archive, err := zip.NewReader(r, size)
	if r.left < 0 {
		return fmt.Errorf("the directory of the zip archive is larger than %d MiB", mostDirectory>>20)
	}
	r.left = math.MaxInt64
	if err != nil {
		return fmt.Errorf("the zip archive is damaged: %w", err)
	}
	if err := u.agrees(f, size, archive); err != nil {
		return err
	}
	for _, entry := range archive.File {
		it := item{name: entry.Name, mode: entry.Mode(), time: entry.Modified}
		if err := u.zipped(it, entry); err != nil {
			return err
		}
	}
	return nil
}

// mostDirectory is the largest directory of a zip archive, in bytes: it is held in memory.
const mostDirectory = 32 << 20

// An allowance stops a reader that consumes more than it is given.
type allowance struct {
	r    io.ReaderAt
	left int64 // bytes
}

func (a *allowance) ReadAt(p []byte, at int64) (int, error) {
	if a.left -= int64(len(p)); a.left < 0 {
		return 0, io.ErrUnexpectedEOF
	}
	return a.r.ReadAt(p, at)
}

func (u *unpacking) zipped(it item, entry *zip.File) error {
	if it.mode.IsDir() {
		return u.put(it, nil)
	}
	r, err := entry.Open()
	if err != nil {
		u.entry = it.name
		return err
	}
	defer r.Close()
	if it.mode&fs.ModeSymlink != 0 {
		const longestPath = 4096
		target, err := io.ReadAll(io.LimitReader(r, longestPath))
		if err != nil {
			return err
		}
		it.link = string(target)
	}
	return u.put(it, r)
}

// The records of a zip archive that are read here (APPNOTE 6.3, 4.3).
const (
	zipLocal, zipCentral, zipEnd  = "PK\x03\x04", "PK\x01\x02", "PK\x05\x06"
	zipLocalSize, zipCentralSize  = 30, 46
	zipEndSize, zipLongestComment = 22, 1 << 16
)

// agrees verifies that the central directory and the local headers name the same files. If they
// differ, programs disagree about the contents. Archives in the 64-bit format are not compared.
func (u *unpacking) agrees(f io.ReaderAt, size int64, archive *zip.Reader) error {
	tail := make([]byte, min(size, zipEndSize+zipLongestComment))
	if _, err := f.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return err
	}
	at := bytes.LastIndex(tail, []byte(zipEnd))
	if at < 0 || len(tail)-at < zipEndSize {
		return errors.New("the zip archive is damaged")
	}
	length, offset := int64(binary.LittleEndian.Uint32(tail[at+12:])), int64(binary.LittleEndian.Uint32(tail[at+16:]))
	if offset == 1<<32-1 || length > size || len(archive.File) > u.limits.Entries {
		return nil
	}
	directory := make([]byte, length)
	if _, err := f.ReadAt(directory, offset); err != nil && err != io.EOF {
		return err
	}
	for len(directory) >= zipCentralSize && string(directory[:4]) == zipCentral {
		name, extra, comment := int(binary.LittleEndian.Uint16(directory[28:])),
			int(binary.LittleEndian.Uint16(directory[30:])), int(binary.LittleEndian.Uint16(directory[32:]))
		local := int64(binary.LittleEndian.Uint32(directory[42:]))
		if len(directory) < zipCentralSize+name+extra+comment {
			break
		}
		central := directory[zipCentralSize : zipCentralSize+name]
		header := make([]byte, zipLocalSize+name)
		_, err := f.ReadAt(header, local)
		same := err == nil && string(header[:4]) == zipLocal && int(binary.LittleEndian.Uint16(header[26:])) == name &&
			bytes.Equal(header[zipLocalSize:], central)
		if !same && local != 1<<32-1 {
			u.entry = string(central)
			return errors.New("is another file by its own header than by the archive's directory")
		}
		directory = directory[zipCentralSize+name+extra+comment:]
	}
	return nil
}
