package ospackage

import (
	"archive/tar"
	"bytes"
	"cmp"
	"crypto/md5"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path"
	"runtime"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/klauspost/pgzip"
)

// DebArch is Debian's name of an architecture, or "all" for none in particular.
func DebArch(arch string) string {
	if name := map[string]string{"": "all", "x86_64": "amd64", "aarch64": "arm64", "i686": "i386", "i386": "i386",
		"armv7l": "armhf", "ppc64le": "ppc64el", "riscv64": "riscv64", "s390x": "s390x"}[arch]; name != "" {
		return name
	}
	return arch
}

// FileName is the name of a package's file.
func (p *Package) FileName(f Format) string {
	if f == Deb {
		return fmt.Sprintf("%s_%s-%s_%s.deb", p.Name, p.Version, p.Release, DebArch(p.Arch))
	}
	return fmt.Sprintf("%s-%s-%s.%s.rpm", p.Name, p.Version, p.Release, cmp.Or(p.Arch, "noarch"))
}

// WriteDeb writes a .deb into out, which is empty. scratch is a directory for parts whose size
// must be known before they are written. If files do not have the expected contents, the error
// is a *Changed, and the output is not a package.
func (p *Package) WriteDeb(out *os.File, scratch string) error {
	if err := p.Check(); err != nil {
		return err
	}
	data, err := os.CreateTemp(scratch, ".data-")
	if err != nil {
		return err
	}
	defer os.Remove(data.Name())
	defer data.Close()
	sums, err := p.debData(data)
	if err != nil {
		return err
	}
	control, err := p.debControl(sums)
	if err != nil {
		return err
	}
	size, err := data.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if _, err := data.Seek(0, io.SeekStart); err != nil {
		return err
	}
	suffix := ".zst"
	if p.Packing == Gzip {
		suffix = ".gz"
	}
	const most = 9_999_999_999 // ten digits
	if size > most {
		return Bad(p.Name, "a .deb can have at most 9.9 GB")
	}
	if _, err := io.WriteString(out, "!<arch>\n"); err != nil {
		return err
	}
	for _, m := range []struct {
		name string
		size int64
		data io.Reader
	}{{"debian-binary", 4, strings.NewReader("2.0\n")}, {"control.tar.gz", int64(len(control)), bytes.NewReader(control)},
		{"data.tar" + suffix, size, data}} {
		fmt.Fprintf(out, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", m.name, p.Time.Unix(), 0, 0, "100644", m.size)
		if _, err := io.Copy(out, m.data); err != nil {
			return err
		}
		if m.size%2 == 1 {
			if _, err := out.Write([]byte{'\n'}); err != nil {
				return err
			}
		}
	}
	return nil
}

// debData writes the files, and returns their MD5 sums as md5sums has them.
func (p *Package) debData(to io.Writer) (sums string, err error) {
	packed, err := p.packer(to)
	if err != nil {
		return "", err
	}
	t := tar.NewWriter(packed)
	contents := &copying{}
	made := map[string]bool{"/": true}
	var list strings.Builder
	directory := func(dir string, f *File) error {
		made[dir] = true
		h := &tar.Header{Typeflag: tar.TypeDir, Name: "." + strings.TrimSuffix(dir, "/") + "/", Mode: 0o755, ModTime: p.Time,
			Format: tar.FormatGNU, Uname: "root", Gname: "root"}
		if f != nil {
			h.Mode = int64(f.Mode.Perm())
		}
		return t.WriteHeader(h)
	}
	if err := directory("/", nil); err != nil {
		return "", err
	}
	for _, f := range p.sorted() {
		for _, dir := range above(f.Path) { // dpkg knows no directory that is not in it
			if !made[dir] {
				if err := directory(dir, nil); err != nil {
					return "", err
				}
			}
		}
		h := &tar.Header{Name: "." + f.Path, Mode: tarMode(f), ModTime: p.Time, Format: tar.FormatGNU,
			Uname: cmp.Or(f.Owner, "root"), Gname: cmp.Or(f.Group, "root")}
		switch {
		case f.Mode.IsDir():
			if !made[f.Path] {
				err = directory(f.Path, &f)
			}
		case f.Target != "":
			h.Typeflag, h.Linkname, h.Mode = tar.TypeSymlink, f.Target, 0o777
			err = t.WriteHeader(h)
		default:
			h.Typeflag, h.Size = tar.TypeReg, f.Size
			if err = t.WriteHeader(h); err == nil {
				sum := md5.New()
				if _, err = contents.file(io.MultiWriter(t, sum), f); err == nil && !f.Config {
					fmt.Fprintf(&list, "%x  %s\n", sum.Sum(nil), f.Path[1:])
				}
			}
		}
		if err != nil {
			return "", err
		}
	}
	if err := contents.done(); err != nil {
		return "", err
	}
	if err := t.Close(); err != nil {
		return "", err
	}
	return list.String(), packed.Close()
}

// packer packs data. What gzip makes does not depend on how many processors there are, for
// blocks are packed by themselves.
func (p *Package) packer(to io.Writer) (io.WriteCloser, error) {
	if p.Packing == Gzip {
		return pgzip.NewWriterLevel(to, pgzip.DefaultCompression)
	}
	return zstdPacker(to)
}

// zstdPacker packs parts of a few MiB side by side, at least two, so that what comes out
// does not depend on how many processors there are.
func zstdPacker(to io.Writer) (io.WriteCloser, error) {
	return zstd.NewWriter(to, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithWindowSize(1<<20),
		zstd.WithConcurrentBlocks(true), zstd.WithEncoderConcurrency(min(max(2, runtime.GOMAXPROCS(0)), 8)))
}

// tarMode are the permissions of a file, with the bits of setuid, setgid and sticky.
func tarMode(f File) int64 { return int64(unixMode(f) & 0o7777) }

// A copying copies the contents of files. One that is not as it must be is noted, and what is missing
// of it filled up, so that the archive can be gone on with.
type copying struct {
	changed []string
	buffer  [128 << 10]byte
}

// file copies a file, and returns its digest.
func (c *copying) file(to io.Writer, f File) (digest string, err error) {
	from, err := f.Open()
	if err != nil {
		return "", err
	}
	defer from.Close()
	sum := sha256.New()
	n, err := io.CopyBuffer(io.MultiWriter(to, sum), io.LimitReader(from, f.Size), c.buffer[:])
	if err != nil {
		return "", err
	}
	digest = hex.EncodeToString(sum.Sum(nil))
	more, _ := from.Read(c.buffer[:1])
	if n < f.Size || more > 0 || f.SHA256 != "" && digest != f.SHA256 {
		c.changed = append(c.changed, f.Path)
		_, err = io.CopyN(to, zeros{}, f.Size-n)
	}
	return digest, err
}

// done is a *Changed if some files were not as they must be.
func (c *copying) done() error {
	if len(c.changed) > 0 {
		return &Changed{c.changed}
	}
	return nil
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// above are the directories that a path is in, from the top.
func above(file string) (dirs []string) {
	for dir := path.Dir(file); dir != "/"; dir = path.Dir(dir) {
		dirs = append([]string{dir}, dirs...)
	}
	return dirs
}

// control is the control file of a .deb (deb-control(5)).
func (p *Package) control() string {
	var b strings.Builder
	field := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s: %s\n", name, debText(value))
		}
	}
	field("Package", p.Name)
	field("Version", p.Whole())
	field("Architecture", DebArch(p.Arch))
	field("Maintainer", p.Maintainer)
	field("Installed-Size", fmt.Sprint((p.size()+1023)/1024+int64(len(p.Files))))
	field("Depends", debRelations(p.Depends))
	field("Provides", debRelations(p.Provides))
	field("Section", "misc")
	field("Priority", "optional")
	field("Homepage", p.Home)
	field("Description", p.Summary)
	for line := range strings.SplitSeq(strings.TrimSpace(p.Description), "\n") {
		if line = debText(line); line == "" {
			line = "."
		}
		b.WriteString(" " + line + "\n")
	}
	return b.String()
}

func debText(text string) string { return strings.Join(strings.Fields(text), " ") }

func debRelations(all []Relation) string {
	texts := make([]string, len(all))
	for i, r := range all {
		for j, one := range append([]Relation{r}, r.Or...) {
			if j > 0 {
				texts[i] += " | "
			}
			texts[i] += one.Name
			if one.Operator != "" {
				texts[i] += " (" + one.Operator + " " + one.Version + ")"
			}
		}
	}
	return strings.Join(texts, ", ")
}

// debControl makes control.tar.gz.
func (p *Package) debControl(sums string) ([]byte, error) {
	var packed bytes.Buffer
	z, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	t := tar.NewWriter(z)
	conffiles := ""
	for _, f := range p.sorted() {
		if f.Config {
			conffiles += f.Path + "\n"
		}
	}
	triggers := ""
	if p.Loader {
		triggers = "activate-noawait ldconfig\n"
	}
	if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: "./", Mode: 0o755, ModTime: p.Time,
		Format: tar.FormatGNU, Uname: "root", Gname: "root"}); err != nil {
		return nil, err
	}
	after := ""
	if p.After != "" {
		after = "#!/bin/sh\nset -e\n[ \"$1\" = configure ] || exit 0\n" + p.After
	}
	for _, f := range [][2]string{{"conffiles", conffiles}, {"control", p.control()}, {"md5sums", sums},
		{"postinst", after}, {"triggers", triggers}} {
		if f[1] == "" {
			continue
		}
		mode := int64(0o644)
		if f[0] == "postinst" {
			mode = 0o755
		}
		if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: "./" + f[0], Mode: mode, Size: int64(len(f[1])),
			ModTime: p.Time, Format: tar.FormatGNU, Uname: "root", Gname: "root"}); err != nil {
			return nil, err
		}
		if _, err := io.WriteString(t, f[1]); err != nil {
			return nil, err
		}
	}
	if err := t.Close(); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return packed.Bytes(), nil
}
