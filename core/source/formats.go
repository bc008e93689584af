package source

import (
	"archive/tar"
	"bufio"
	"bytes"
	"cmp"
	"compress/bzip2"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/klauspost/pgzip"
	"github.com/therootcompany/xz"

	"fernladder/core/subprocess"
)

// largestXZDictionary is more than xz uses at its highest level, 64 MiB, and far less than the
// format allows.
const largestXZDictionary = 256 << 20

const xzMagic = "\xfd7zXZ\x00"

// all unpacks an archive of any kind.
func (u *unpacking) all(f *os.File, size int64) error {
	buffered := bufio.NewReaderSize(f, 256<<10)
	head, err := buffered.Peek(6)
	if err != nil && err != io.EOF {
		return err
	}
	if bytes.HasPrefix(head, []byte("PK\x03\x04")) {
		return u.zip(f, size)
	}
	if file := systemXZ(head, size); file != "" {
		return u.through(f, file)
	}
	plain, done, err := decompressed(buffered, head, size < 1<<20)
	if err != nil {
		return err
	}
	defer done()
	if err := u.tar(plain); err != nil {
		return err
	}
	return u.drain(plain)
}

// drain reads what follows the last entry of a tar file: the end of the compressed data, which
// has a checksum over all of it. Like other programs, it ignores uncompressed data after that.
func (u *unpacking) drain(r io.Reader) error {
	files := u.Bytes
	err := u.copy(io.Discard, r)
	u.Bytes = files
	var continued bzip2.StructuralError
	switch {
	case errors.Is(err, zstd.ErrMagicMismatch),
		errors.As(err, &continued) && strings.Contains(string(continued), "continuation"):
		return nil
	case err != nil && u.ctx.Err() == nil:
		u.entry = ""
		return fmt.Errorf("it is damaged after its last entry: %w", err)
	}
	return err
}

// systemXZ returns the system's xz for an archive that it unpacks faster, because it has an
// assembler loop and uses several processors. It only gets archives whose digest is right.
func systemXZ(head []byte, size int64) string {
	const large = 1 << 20
	if size < large || !bytes.HasPrefix(head, []byte(xzMagic)) {
		return ""
	}
	for _, file := range []string{"/usr/bin/xz", "/bin/xz"} {
		if info, err := os.Stat(file); err == nil && info.Mode()&0o111 != 0 {
			return file
		}
	}
	return ""
}

// through unpacks the output of a program for an archive.
func (u *unpacking) through(f *os.File, program string) error {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(u.ctx)
	defer cancel()
	var said bytes.Buffer
	out, wait, err := subprocess.Command{Argv: []string{program, "--decompress", "--stdout", "--threads=0",
		"--memlimit-decompress=2GiB", "--no-warn"},
		Env: []string{"LC_ALL=C"}, Stdin: f, Stderr: &said}.Pipe(ctx)
	if err != nil {
		return err
	}
	defer out.Close()
	plain := bufio.NewReaderSize(out, 256<<10)
	failed := u.tar(plain)
	if failed == nil { // the program ends when all is read
		failed = u.drain(plain)
	}
	if failed != nil {
		cancel()
	}
	if err := wait(); err != nil && said.Len() > 0 && u.ctx.Err() == nil {
		return fmt.Errorf("xz: data is truncated or corrupt (%s)", strings.TrimSpace(said.String()))
	}
	return failed
}

// decompressed returns a reader of the decompressed contents of r, chosen by its first bytes.
// For small archives, nothing is started in parallel; done ends what was started.
func decompressed(r *bufio.Reader, head []byte, small bool) (plain io.Reader, done func(), err error) {
	done = func() {}
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		if small {
			z, err := gzip.NewReader(r)
			if err != nil {
				return nil, done, err
			}
			return newMembers(r, z), done, nil
		}
		z, err := pgzip.NewReader(r)
		if err != nil {
			return nil, done, err
		}
		return newMembers(r, z), func() { z.Close() }, nil
	case bytes.HasPrefix(head, []byte("BZh")):
		a := newAhead(bzip2.NewReader(r))
		return a, a.Close, nil
	case bytes.HasPrefix(head, []byte(xzMagic)):
		x, err := xz.NewReader(r, largestXZDictionary)
		if err != nil {
			return nil, done, err
		}
		a := newAhead(x)
		return a, a.Close, nil
	case bytes.HasPrefix(head, []byte(lzipMagic)):
		a := newAhead(&lzipReader{r: r})
		return a, a.Close, nil
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		threads := 0 // as many as there are processors
		if small {
			threads = 1
		}
		z, err := zstd.NewReader(r, zstd.WithDecoderMaxWindow(1<<30), zstd.WithDecoderConcurrency(threads))
		if err != nil {
			return nil, done, err
		}
		return z, z.Close, nil
	}
	return r, done, nil
}

// members reads the members of a gzip file (RFC 1952, 2.2), one after another. Data after the
// last member is ignored.
type members struct {
	r *bufio.Reader
	z member
}

type member interface {
	io.Reader
	Reset(io.Reader) error
	Multistream(bool)
}

func newMembers(r *bufio.Reader, z member) *members {
	z.Multistream(false)
	return &members{r, z}
}

func (m *members) Read(p []byte) (int, error) {
	for {
		n, err := m.z.Read(p)
		if err != io.EOF || n > 0 {
			if err == io.EOF {
				err = nil
			}
			return n, err
		}
		if head, _ := m.r.Peek(2); !bytes.Equal(head, []byte{0x1f, 0x8b}) {
			return 0, io.EOF
		}
		if err := m.z.Reset(m.r); err != nil {
			return 0, err
		}
		m.z.Multistream(false)
	}
}

func (u *unpacking) tar(r io.Reader) error {
	entries := tar.NewReader(&metered{u, r})
	for {
		h, err := entries.Next()
		if err == io.EOF {
			if u.Entries == 0 {
				return errors.New("there is nothing in it")
			}
			return nil
		}
		if err != nil {
			u.entry = ""
			return u.reading(err)
		}
		it := item{name: h.Name, mode: h.FileInfo().Mode(), time: h.ModTime}
		switch h.Typeflag {
		case tar.TypeSymlink:
			it.link = h.Linkname
		case tar.TypeLink:
			it.same = h.Linkname
		case tar.TypeXGlobalHeader:
			it.global = true
		}
		if err := u.put(it, entries); err != nil {
			return u.reading(err)
		}
	}
}

// metered counts what an archive contains besides the contents of files: headers and padding, of
// which no honest archive has much.
type metered struct {
	u *unpacking
	r io.Reader
}

func (m *metered) Read(p []byte) (int, error) {
	n, err := m.r.Read(p)
	m.u.stream += int64(n)
	if rest := m.u.stream - m.u.Bytes; rest > cmp.Or(m.u.limits.Free, 1<<30) && m.u.tooLarge(rest) {
		return 0, m.u.bomb(rest)
	}
	return n, err
}

// reading makes errors of decoders readable.
func (u *unpacking) reading(err error) error {
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF) && u.Entries > 0:
		return errors.New("ends too early: the archive is cut off")
	case errors.Is(err, tar.ErrHeader), errors.Is(err, io.ErrUnexpectedEOF):
		if u.Entries > 0 {
			return errors.New("the archive is damaged after the last entry that was read")
		}
		return errors.New("it is neither tar (plain, gz, bz2, xz, zst, lz) nor zip, or cut off near its beginning")
	}
	return err
}
