package ospackage

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strconv"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/therootcompany/xz"

	"fernladder/core/problem"
)

// largestControl limits the size of a package's control files.
const largestControl = 16 << 20

// ReadDeb returns the text of a .deb's control file. The .deb may be hostile.
func ReadDeb(file *os.File) (control string, err error) {
	bad := func(what string, args ...any) error { return Bad(file.Name(), fmt.Sprintf(what, args...)) }
	magic := make([]byte, 8)
	if _, err := io.ReadFull(file, magic); err != nil || string(magic) != "!<arch>\n" {
		return "", bad("this is not a .deb")
	}
	for range 8 {
		head := make([]byte, 60)
		if _, err := io.ReadFull(file, head); err != nil {
			break
		}
		name := strings.TrimRight(strings.TrimSpace(string(head[:16])), "/")
		size, err := strconv.ParseInt(strings.TrimSpace(string(head[48:58])), 10, 64)
		if err != nil || size < 0 {
			return "", bad("it is damaged")
		}
		if !strings.HasPrefix(name, "control.tar") {
			if _, err := file.Seek(size+size%2, io.SeekCurrent); err != nil {
				return "", err
			}
			continue
		}
		unpacked, err := unpacker(name, io.LimitReader(file, min(size, largestControl)))
		if err != nil {
			return "", bad("its control files cannot be read: %v", err)
		}
		t := tar.NewReader(io.LimitReader(unpacked, largestControl))
		for {
			h, err := t.Next()
			switch {
			case errors.Is(err, io.EOF) && control != "":
				return control, nil
			case err != nil:
				return "", bad("it has no control file, or is damaged")
			case path.Clean(h.Name) != "control":
				continue
			case control != "":
				return "", bad("it has two control files")
			}
			data, err := io.ReadAll(t)
			if err != nil {
				return "", bad("its control file cannot be read: %v", err)
			}
			control = strings.TrimRight(string(data), "\n") + "\n"
		}
	}
	return "", bad("it has no control files")
}

func unpacker(name string, r io.Reader) (io.Reader, error) {
	switch path.Ext(name) {
	case ".gz":
		return gzip.NewReader(r)
	case ".zst":
		return zstd.NewReader(r, zstd.WithDecoderMaxMemory(64<<20))
	case ".xz":
		return xz.NewReader(r, 64<<20)
	case ".tar":
		return r, nil
	}
	return nil, errors.New("its compression is unknown")
}

// Fields parses a control file into names and values of its fields, including repeated ones.
// Values of several lines keep their line breaks.
func Fields(control string) (names []string, values map[string]string) {
	values = map[string]string{}
	last := ""
	var more strings.Builder // lines of the last field
	end := func() {
		if more.Len() > 0 {
			values[last] += more.String()
			more.Reset()
		}
	}
	defer end()
	for line := range strings.Lines(control) {
		line = strings.TrimRight(line, "\r\n")
		if strings.HasPrefix(line, " ") || strings.HasPrefix(line, "\t") {
			if last != "" {
				more.WriteString("\n" + line)
			}
			continue
		}
		end()
		name, value, is := strings.Cut(line, ":")
		if !is || name == "" {
			last = ""
			continue
		}
		last = name
		names = append(names, name)
		values[name] = strings.TrimSpace(value)
	}
	return names, values
}

// An RPMFile is the headers of a .rpm.
type RPMFile struct {
	Header      map[int32]any // by tag: []string, []int64 or []byte
	HeaderStart int64         // of the main header in the file
	HeaderEnd   int64
	signatures  *header
	lead, main  []byte
}

const largestHeader = 64 << 20

// ReadRPM reads the headers of a .rpm. The file may be hostile.
func ReadRPM(file *os.File) (*RPMFile, error) {
	bad := func(what string) error { return Bad(file.Name(), what) }
	r := &RPMFile{lead: make([]byte, 96)}
	if _, err := io.ReadFull(file, r.lead); err != nil || !bytes.HasPrefix(r.lead, []byte{0xed, 0xab, 0xee, 0xdb}) {
		return nil, bad("this is not a .rpm")
	}
	raw, signatures, err := readHeader(file)
	if err != nil {
		return nil, bad("its signatures are damaged: " + err.Error())
	}
	r.signatures = signatures
	if pad := (8 - len(raw)%8) % 8; pad > 0 {
		if _, err := io.CopyN(io.Discard, file, int64(pad)); err != nil {
			return nil, bad("it is cut off")
		}
	}
	if r.HeaderStart, err = file.Seek(0, io.SeekCurrent); err != nil {
		return nil, err
	}
	main, h, err := readHeader(file)
	if err != nil {
		return nil, bad("its header is damaged: " + err.Error())
	}
	r.main, r.HeaderEnd = main, r.HeaderStart+int64(len(main))
	r.Header = map[int32]any{}
	for _, e := range h.entries {
		r.Header[e.tag] = e.value()
	}
	if len(r.Texts(TagName)) == 0 || len(r.Texts(TagVersion)) == 0 {
		return nil, bad("its header names no package")
	}
	return r, nil
}

// readHeader reads one header, and returns its bytes and its entries, without the region.
func readHeader(from io.Reader) (raw []byte, h *header, err error) {
	raw = make([]byte, 16)
	if _, err := io.ReadFull(from, raw); err != nil || !bytes.HasPrefix(raw, []byte{0x8e, 0xad, 0xe8, 1}) {
		return nil, nil, errors.New("there is none")
	}
	count, size := int64(binary.BigEndian.Uint32(raw[8:])), int64(binary.BigEndian.Uint32(raw[12:]))
	if count > 1<<16 || size > largestHeader {
		return nil, nil, errors.New("it is too large")
	}
	rest := make([]byte, count*16+size)
	if _, err := io.ReadFull(from, rest); err != nil {
		return nil, nil, errors.New("it is cut off")
	}
	store, total := rest[count*16:], 0
	h = &header{}
	for i := range count {
		e := rest[i*16:]
		tag, kind := int32(binary.BigEndian.Uint32(e)), int32(binary.BigEndian.Uint32(e[4:]))
		offset, n := int64(int32(binary.BigEndian.Uint32(e[8:]))), int64(int32(binary.BigEndian.Uint32(e[12:])))
		if tag == regionOfSignatures || tag == regionOfHeader {
			continue
		}
		if offset < 0 || offset > size || n < 0 || n > size {
			return nil, nil, errors.New("a value is outside of it")
		}
		data := store[offset:]
		switch width := map[int32]int64{1: 1, 2: 1, kindInt16: 2, kindInt32: 4, kindInt64: 8, kindBytes: 1}[kind]; {
		case width > 0:
			if n*width > int64(len(data)) {
				return nil, nil, errors.New("a value is outside of it")
			}
			data = data[:n*width]
		default:
			at := 0
			for range n {
				end := bytes.IndexByte(data[at:], 0)
				if end < 0 {
					return nil, nil, errors.New("a text has no end")
				}
				at += end + 1
			}
			data = data[:at]
		}
		// Values that share bytes could expand to far more than the file has.
		if total += len(data); total > len(store) {
			return nil, nil, errors.New("its values overlap")
		}
		h.entries = append(h.entries, entry{tag, kind, int32(n), data})
	}
	return append(raw, rest...), h, nil
}

func (e entry) value() any {
	switch e.kind {
	case kindText, kindTexts, kindI18N:
		return strings.Split(strings.TrimSuffix(string(e.data), "\x00"), "\x00")
	case kindInt16, kindInt32, kindInt64:
		var all []int64
		width := map[int32]int{kindInt16: 2, kindInt32: 4, kindInt64: 8}[e.kind]
		for i := 0; i+width <= len(e.data); i += width {
			n := int64(0)
			for _, b := range e.data[i : i+width] {
				n = n<<8 | int64(b)
			}
			all = append(all, n)
		}
		return all
	}
	return e.data
}

// Texts are the texts of a tag; none if it is absent.
func (r *RPMFile) Texts(tag int32) []string {
	texts, _ := r.Header[tag].([]string)
	return texts
}

// Text is the first text of a tag, or "".
func (r *RPMFile) Text(tag int32) string {
	if all := r.Texts(tag); len(all) > 0 {
		return all[0]
	}
	return ""
}

// Numbers are the numbers of a tag.
func (r *RPMFile) Numbers(tag int32) []int64 {
	numbers, _ := r.Header[tag].([]int64)
	return numbers
}

// Number is the first number of a tag, or 0.
func (r *RPMFile) Number(tag int32) int64 {
	if all := r.Numbers(tag); len(all) > 0 {
		return all[0]
	}
	return 0
}

// Payload reads the signed parts of a file (its header, and the payload by its digest), verifies
// them against the header, and copies them to a writer.
func (r *RPMFile) Payload(file *os.File, to io.Writer) error {
	if len(r.Texts(tagPayloadDigest)) != 1 || r.Number(tagPayloadDigestKind) != 8 {
		return Bad(file.Name(), "its header has no SHA-256 of its contents, so a signature would not cover them")
	}
	if _, err := to.Write(r.main); err != nil {
		return err
	}
	if _, err := file.Seek(r.HeaderEnd, io.SeekStart); err != nil {
		return err
	}
	sum := sha256.New()
	if _, err := io.Copy(io.MultiWriter(sum, to), file); err != nil {
		return err
	}
	if r.Text(tagPayloadDigest) != fmt.Sprintf("%x", sum.Sum(nil)) {
		return Bad(file.Name(), "its contents differ from what its header says")
	}
	return nil
}

// A Signer makes OpenPGP signatures, binary and detached.
type Signer interface {
	Sign(data io.Reader) ([]byte, error)
}

// Signed writes the file to out with its header signed by a signer. It replaces earlier
// signatures.
func (r *RPMFile) Signed(file, out *os.File, signer Signer) error {
	signature, err := signer.Sign(bytes.NewReader(r.main))
	if err != nil {
		return err
	}
	s := &header{}
	for _, e := range r.signatures.entries {
		switch e.tag {
		case sigDSA, sigHeader, sigPGP, sigGPG: // signatures of others
		default:
			s.entries = append(s.entries, e)
		}
	}
	s.bytes(sigHeader, signature)
	raw := s.encode(regionOfSignatures)
	for _, part := range [][]byte{r.lead, raw, make([]byte, (8-len(raw)%8)%8), r.main} {
		if _, err := out.Write(part); err != nil {
			return err
		}
	}
	if _, err := file.Seek(r.HeaderEnd, io.SeekStart); err != nil {
		return err
	}
	_, err = io.Copy(out, file)
	return err
}

// Bad is the problem of a damaged file, or one that is not a package.
func Bad(file, what string) error { return problem.New(problem.Other, file, "%s: %s", file, what) }
