package advisory

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"iter"
	"os"
	"strings"

	"github.com/klauspost/compress/flate"
)

// A member is an entry of a zip archive (APPNOTE.TXT 6.3, PKWARE). The standard library keeps
// some 400 bytes for each in memory, of which databases have hundreds of thousands.
type member struct {
	offset int64  // of its local header
	packed uint32 // bytes of its data
}

// A directory is the list of members of an archive.
type directory struct {
	in   *bufio.Reader
	most int   // members that it can have
	none int   // members without contents
	end  int64 // where it begins in the archive, so that no member reaches into it
	err  error
}

var errNotZip = errors.New("this is not a complete zip archive")

const (
	endSize     = 22 // of the end of the directory, without its comment
	headSize    = 30 // of a local header, without name and extra field
	listedSize  = 46 // of an entry of the directory, without its texts
	locatorSize = 20
	end64Size   = 56
)

// readDirectory finds the directory of an archive.
func readDirectory(file io.ReaderAt, size int64) (*directory, error) {
	tail := make([]byte, min(size, endSize+1<<16))
	if _, err := file.ReadAt(tail, size-int64(len(tail))); err != nil {
		return nil, err
	}
	i := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if i < 0 || len(tail)-i < endSize {
		return nil, errNotZip
	}
	length, offset := int64(binary.LittleEndian.Uint32(tail[i+12:])), int64(binary.LittleEndian.Uint32(tail[i+16:]))
	if j := i - locatorSize; j >= 0 && string(tail[j:j+4]) == "PK\x06\x07" { // Zip64
		end := make([]byte, end64Size)
		if _, err := file.ReadAt(end, int64(binary.LittleEndian.Uint64(tail[j+8:]))); err != nil ||
			string(end[:4]) != "PK\x06\x06" {
			return nil, errNotZip
		}
		length, offset = int64(binary.LittleEndian.Uint64(end[40:])), int64(binary.LittleEndian.Uint64(end[48:]))
	}
	if offset < 0 || length < 0 || offset > size || length > size-offset {
		return nil, errNotZip
	}
	return &directory{in: bufio.NewReaderSize(io.NewSectionReader(file, offset, length), 1<<16),
		most: int(min(length/listedSize, mostEntries)), end: offset}, nil
}

// each goes through the members whose names end with .json. What follows the last that can be
// read is an error.
func (d *directory) each() iter.Seq[member] {
	return func(yield func(member) bool) {
		var head [listedSize]byte
		for n := 0; ; n++ {
			_, err := io.ReadFull(d.in, head[:])
			if err == io.EOF {
				return
			}
			if err != nil || string(head[:4]) != "PK\x01\x02" || n == mostEntries {
				d.err = errNotZip
				return
			}
			name, extra, comment := binary.LittleEndian.Uint16(head[28:]), binary.LittleEndian.Uint16(head[30:]),
				binary.LittleEndian.Uint16(head[32:])
			texts := make([]byte, int(name)+int(extra)+int(comment))
			if _, err := io.ReadFull(d.in, texts); err != nil {
				d.err = errNotZip
				return
			}
			packed, offset := int64(binary.LittleEndian.Uint32(head[20:])), int64(binary.LittleEndian.Uint32(head[42:]))
			packed, offset = wide(head[:], texts[name:int(name)+int(extra)], packed, offset)
			if !strings.HasSuffix(string(texts[:name]), ".json") {
				continue
			}
			if packed == 0 {
				d.none++
				continue
			}
			if offset < 0 || offset > d.end || packed < 0 || packed > largestEntry {
				d.err = errNotZip
				return
			}
			if !yield(member{offset, uint32(packed)}) {
				return
			}
		}
	}
}

// wide reads the 64-bit sizes of a member, where its entry has them.
func wide(head, extra []byte, packed, offset int64) (int64, int64) {
	const none = 1<<32 - 1
	for len(extra) >= 4 {
		kind, size := binary.LittleEndian.Uint16(extra), int(binary.LittleEndian.Uint16(extra[2:]))
		extra = extra[4:]
		if size > len(extra) {
			break
		}
		if field := extra[:size]; kind == 1 {
			take := func(now int64) int64 {
				if now != none || len(field) < 8 {
					return now
				}
				now = int64(binary.LittleEndian.Uint64(field))
				field = field[8:]
				return now
			}
			take(int64(binary.LittleEndian.Uint32(head[24:])))
			packed, offset = take(packed), take(offset)
		}
		extra = extra[size:]
	}
	return packed, offset
}

// unzipping unpacks members, one after the other, in the same memory.
type unzipping struct {
	packed   []byte
	plain    bytes.Buffer
	inflater io.ReadCloser
}

// bytes reads so many bytes of a file, or as many as there are.
func (u *unzipping) bytes(file *os.File, offset int64, size int) ([]byte, error) {
	if cap(u.packed) < size {
		u.packed = make([]byte, size)
	}
	n, err := file.ReadAt(u.packed[:size], offset)
	if err == io.EOF {
		err = nil
	}
	return u.packed[:n], err
}

// read unpacks a member. The result is only valid until the next call.
func (u *unzipping) read(file *os.File, m member) ([]byte, error) {
	const usual = 512 // more than most headers, and a descriptor after the data
	data, err := u.bytes(file, m.offset, usual+int(m.packed))
	if err != nil {
		return nil, err
	}
	if len(data) < headSize || string(data[:4]) != "PK\x03\x04" {
		return nil, errNotZip
	}
	flags, method := binary.LittleEndian.Uint16(data[6:]), binary.LittleEndian.Uint16(data[8:])
	sum := binary.LittleEndian.Uint32(data[14:])
	begin := headSize + int(binary.LittleEndian.Uint16(data[26:])) + int(binary.LittleEndian.Uint16(data[28:]))
	if begin > usual {
		if data, err = u.bytes(file, m.offset, begin+usual+int(m.packed)); err != nil {
			return nil, err
		}
	}
	end := begin + int(m.packed)
	if end > len(data) || flags&1 != 0 { // encrypted
		return nil, errNotZip
	}
	if rest := data[end:]; flags&8 != 0 && len(rest) >= 8 { // the sum follows the data
		sum = binary.LittleEndian.Uint32(rest)
		if string(rest[:4]) == "PK\x07\x08" {
			sum = binary.LittleEndian.Uint32(rest[4:])
		}
	}
	data = data[begin:end]
	u.plain.Reset()
	switch method {
	case 0:
		u.plain.Write(data)
	case 8:
		in := bytes.NewReader(data)
		if u.inflater == nil {
			u.inflater = flate.NewReader(in)
		} else if err := u.inflater.(flate.Resetter).Reset(in, nil); err != nil {
			return nil, err
		}
		if _, err := u.plain.ReadFrom(io.LimitReader(u.inflater, largestEntry+1)); err != nil {
			return nil, err
		}
	default:
		return nil, errNotZip
	}
	if u.plain.Len() > largestEntry || crc32.ChecksumIEEE(u.plain.Bytes()) != sum {
		return nil, errNotZip
	}
	return u.plain.Bytes(), nil
}
