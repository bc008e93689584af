package source

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/ulikunitz/xz/lzma"
)

const lzipMagic = "LZIP"

// lzipReader reads the lzip format, version 1: a sequence of members, each with a header of 6
// bytes, an LZMA stream with an end marker, and a trailer with checksum and sizes.
type lzipReader struct {
	r       *bufio.Reader
	member  *lzma.Reader
	sum     uint32
	size    uint64
	counted counting
	members int
}

// counting counts the bytes of a member.
type counting struct {
	r *bufio.Reader
	n uint64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += uint64(n)
	return n, err
}

func (c *counting) ReadByte() (byte, error) {
	b, err := c.r.ReadByte()
	if err == nil {
		c.n++
	}
	return b, err
}

var errLzip = errors.New("the lzip stream is damaged")

// next begins the next member; io.EOF after the last.
func (z *lzipReader) next() error {
	z.counted = counting{r: z.r}
	var header [6]byte
	_, err := io.ReadFull(&z.counted, header[:])
	switch {
	case err == io.EOF && z.members > 0:
		return io.EOF
	case err != nil && z.members > 0, err == nil && string(header[:4]) != lzipMagic && z.members > 0:
		return io.EOF // bytes after the members are ignored
	case err != nil:
		return io.ErrUnexpectedEOF
	case string(header[:4]) != lzipMagic:
		return errLzip
	case header[4] != 1:
		return fmt.Errorf("version %d of the lzip format is not known", header[4])
	}
	dictionary := uint32(1) << (header[5] & 0x1f)
	dictionary -= dictionary / 16 * uint32(header[5]>>5)
	if dictionary < 1<<12 || dictionary > 1<<29 {
		return errLzip
	}
	// The LZMA decoder wants its own header: properties, dictionary size, unknown size.
	alone := make([]byte, lzma.HeaderLen)
	alone[0] = lzma.Properties{LC: 3, LP: 0, PB: 2}.Code()
	binary.LittleEndian.PutUint32(alone[1:], dictionary)
	binary.LittleEndian.PutUint64(alone[5:], ^uint64(0))
	z.member, err = lzma.NewReader(&headed{header: alone, rest: &z.counted})
	z.sum, z.size = 0, 0
	z.members++
	return err
}

// headed reads a header and then the rest, bytewise if required, so that nothing after the
// member is consumed.
type headed struct {
	header []byte
	rest   *counting
}

func (h *headed) Read(p []byte) (int, error) {
	if len(h.header) > 0 {
		n := copy(p, h.header)
		h.header = h.header[n:]
		return n, nil
	}
	return h.rest.Read(p)
}

func (h *headed) ReadByte() (byte, error) {
	if len(h.header) > 0 {
		b := h.header[0]
		h.header = h.header[1:]
		return b, nil
	}
	return h.rest.ReadByte()
}

func (z *lzipReader) Read(p []byte) (int, error) {
	for {
		if z.member == nil {
			if err := z.next(); err != nil {
				return 0, err
			}
		}
		n, err := z.member.Read(p)
		z.sum = crc32.Update(z.sum, crc32.IEEETable, p[:n])
		z.size += uint64(n)
		if err == io.EOF {
			err = z.end()
		}
		if n > 0 || err != nil {
			return n, err
		}
	}
}

// end compares a member with its trailer.
func (z *lzipReader) end() error {
	z.member = nil
	var trailer [20]byte
	if _, err := io.ReadFull(&z.counted, trailer[:]); err != nil {
		return io.ErrUnexpectedEOF
	}
	if binary.LittleEndian.Uint32(trailer[:]) != z.sum || binary.LittleEndian.Uint64(trailer[4:]) != z.size ||
		binary.LittleEndian.Uint64(trailer[12:]) != z.counted.n {
		return errLzip
	}
	return nil
}
