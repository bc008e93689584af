package ospackage

import (
	"cmp"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path"
	"strings"
)

// rpmArch is rpm's name of an architecture.
func rpmArch(arch string) string { return cmp.Or(arch, "noarch") }

// The flags of relations.
const (
	senseLess     = 1 << 1
	senseGreater  = 1 << 2
	senseEqual    = 1 << 3
	senseFound    = 1 << 14 // from the contents of files: a package's requirements
	senseProvided = 1 << 15 // and what it provides
	senseRPMLib   = 1 << 24
)

// WriteRPM writes an unsigned .rpm into out, which is empty. scratch is a directory for parts
// whose size must be known before they are written. If files do not have the expected contents,
// the error is a *Changed, and the output is not a package.
func (p *Package) WriteRPM(out *os.File, scratch string) error {
	if err := p.Check(); err != nil {
		return err
	}
	payload, err := os.CreateTemp(scratch, ".payload-")
	if err != nil {
		return err
	}
	defer os.Remove(payload.Name())
	defer payload.Close()
	packed := sha256.New()
	digests, unpacked, err := p.cpio(io.MultiWriter(payload, packed))
	if err != nil {
		return err
	}
	main := p.rpmHeader(digests, hex.EncodeToString(packed.Sum(nil))).encode(regionOfHeader)
	size, err := payload.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	signatures, err := p.rpmSignatures(main, payload, size, unpacked)
	if err != nil {
		return err
	}
	lead := make([]byte, 96)
	copy(lead, []byte{0xed, 0xab, 0xee, 0xdb, 3, 0, 0, 0, 0, 1})
	copy(lead[10:75], p.Name+"-"+p.Version+"-"+p.Release)
	lead[77], lead[79] = 1, 5 // linux; signatures are a header
	for _, part := range [][]byte{lead, signatures, make([]byte, (8-len(signatures)%8)%8), main} {
		if _, err := out.Write(part); err != nil {
			return err
		}
	}
	if _, err := payload.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, err = io.Copy(out, payload)
	return err
}

func (p *Package) rpmSignatures(main []byte, payload io.ReadSeeker, size, unpacked int64) ([]byte, error) {
	if _, err := payload.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	whole := md5.New()
	whole.Write(main)
	if _, err := io.Copy(whole, payload); err != nil {
		return nil, err
	}
	s := &header{}
	if total := int64(len(main)) + size; total < 1<<32 {
		s.numbers(sigSize, int32(uint32(total)))
	} else {
		s.large(sigLongSize, total)
	}
	s.bytes(sigMD5, whole.Sum(nil))
	s.text(sigSHA1, fmt.Sprintf("%x", sha1.Sum(main)))
	s.text(sigSHA256, fmt.Sprintf("%x", sha256.Sum256(main)))
	if unpacked < 1<<32 {
		s.numbers(sigPayloadSize, int32(uint32(unpacked)))
	} else {
		s.large(sigLongPayloadSize, unpacked)
	}
	return s.encode(regionOfSignatures), nil
}

// cpio writes the files, and returns the digests of their contents, in their order, and the
// uncompressed size.
func (p *Package) cpio(to io.Writer) (digests []string, unpacked int64, err error) {
	z, err := zstdPacker(to)
	if err != nil {
		return nil, 0, err
	}
	c := &counted{w: z}
	contents := &copying{}
	for i, f := range p.sorted() {
		digest := ""
		switch {
		case f.Mode.IsDir():
			err = cpioHead(c, "."+f.Path, i+1, unixMode(f), 0, p.Time.Unix())
		case f.Target != "":
			if err = cpioHead(c, "."+f.Path, i+1, unixMode(f), int64(len(f.Target)), p.Time.Unix()); err == nil {
				err = padded(c, strings.NewReader(f.Target), int64(len(f.Target)))
			}
		case f.Size >= 1<<32:
			return nil, 0, Bad(f.Path, "a file in a .rpm must be below 4 GiB")
		default:
			if err = cpioHead(c, "."+f.Path, i+1, unixMode(f), f.Size, p.Time.Unix()); err == nil {
				if digest, err = contents.file(c, f); err == nil {
					err = zeroed(c, f.Size)
				}
			}
		}
		if err != nil {
			return nil, 0, err
		}
		digests = append(digests, digest)
	}
	if err := contents.done(); err != nil {
		return nil, 0, err
	}
	if err := cpioHead(c, "TRAILER!!!", 0, 0, 0, 0); err != nil {
		return nil, 0, err
	}
	return digests, c.n, z.Close()
}

type counted struct {
	w io.Writer
	n int64
}

func (c *counted) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

// cpioHead writes the header of a member (the "new ASCII" form of cpio(5)).
func cpioHead(to io.Writer, name string, inode int, mode uint32, size, time int64) error {
	links := 1
	if mode&0o170000 == 0o040000 {
		links = 2
	}
	head := fmt.Sprintf("070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s\x00", inode, mode, 0, 0, links, time,
		size, 0, 0, 0, 0, len(name)+1, 0, name)
	if _, err := io.WriteString(to, head); err != nil {
		return err
	}
	return zeroed(to, int64(len(head)))
}

func padded(to io.Writer, data io.Reader, size int64) error {
	if _, err := io.Copy(to, data); err != nil {
		return err
	}
	return zeroed(to, size)
}

// zeroed pads with zeros to a multiple of four.
func zeroed(to io.Writer, size int64) error {
	_, err := to.Write(make([]byte, (4-size%4)%4))
	return err
}

func (p *Package) rpmHeader(digests []string, packed string) *header {
	h := &header{}
	h.texts(tagLocales, []string{"C"})
	h.text(TagName, p.Name)
	h.text(TagVersion, p.Version)
	h.text(TagRelease, p.Release)
	if p.Epoch > 0 {
		h.numbers(TagEpoch, int32(p.Epoch))
	}
	h.i18n(TagSummary, p.Summary)
	h.i18n(TagDescription, cmp.Or(p.Description, p.Summary))
	h.numbers(TagBuildTime, int32(p.Time.Unix()))
	h.text(TagBuildHost, "localhost")
	if size := p.size(); size < 1<<31 {
		h.numbers(TagSize, int32(size))
	} else {
		h.large(TagLongSize, size)
	}
	h.text(TagLicense, cmp.Or(p.License, "Unspecified"))
	h.text(TagPackager, p.Maintainer)
	h.i18n(TagGroup, "Unspecified")
	if p.Home != "" {
		h.text(TagURL, p.Home)
	}
	h.text(tagOS, "linux")
	h.text(TagArch, rpmArch(p.Arch))
	h.text(TagSourceRPM, fmt.Sprintf("%s-%s-%s.src.rpm", p.Name, p.Version, p.Release))
	h.text(tagWriter, "4.14.0")
	p.rpmChanges(h)
	p.rpmFiles(h, digests)
	self := Relation{Name: p.Name, Operator: "=", Version: p.Whole()}
	relations(h, TagProvides, TagProvideVersions, TagProvideFlags, append([]Relation{self}, p.Provides...),
		senseProvided, nil)
	if p.After != "" {
		h.text(tagAfterInstall, p.After)
		h.text(tagAfterInstallShell, "/bin/sh")
	}
	relations(h, TagRequires, TagRequireVersions, TagRequireFlags, p.Depends, senseFound, []Relation{
		{Name: "rpmlib(CompressedFileNames)", Operator: "<=", Version: "3.0.4-1"},
		{Name: "rpmlib(FileDigests)", Operator: "<=", Version: "4.6.0-1"},
		{Name: "rpmlib(PayloadFilesHavePrefix)", Operator: "<=", Version: "4.0-1"},
		{Name: "rpmlib(PayloadIsZstd)", Operator: "<=", Version: "5.4.18-1"}})
	h.text(tagPayloadFormat, "cpio")
	h.text(tagPayloadPacking, "zstd")
	h.text(tagPayloadLevel, "3")
	h.numbers(tagFileDigestKind, 8) // SHA-256, by its number in OpenPGP
	h.text(tagEncoding, "utf-8")
	h.texts(tagPayloadDigest, []string{packed})
	h.numbers(tagPayloadDigestKind, 8)
	return h
}

func (p *Package) rpmChanges(h *header) {
	var times []int32
	var names, texts []string
	for _, c := range p.Changes {
		times = append(times, int32(c.Time.Unix()))
		names = append(names, c.By+" - "+c.Version)
		texts = append(texts, "- "+strings.Join(c.Lines, "\n- "))
	}
	h.numbers(TagChangeTimes, times...)
	h.texts(TagChangeNames, names)
	h.texts(TagChangeTexts, texts)
}

func (p *Package) rpmFiles(h *header, digests []string) {
	files := p.sorted()
	if len(files) == 0 {
		return
	}
	dirs := map[string]int32{}
	var sizes, times, flags, verify, devices, inodes, in []int32
	var modes, rdevs []uint16
	var links, users, groups, languages, bases, directories []string
	for i, f := range files {
		size := f.Size
		switch {
		case f.Mode.IsDir():
			size = 4096
		case f.Target != "":
			size = int64(len(f.Target))
		}
		flag := int32(0)
		if f.Config {
			flag |= 1 | 16
		}
		if f.Doc {
			flag |= 2
		}
		if f.License {
			flag |= 128
		}
		dir, base := path.Split(f.Path)
		at, known := dirs[dir]
		if !known {
			at = int32(len(directories))
			dirs[dir] = at
			directories = append(directories, dir)
		}
		sizes, times, flags, verify = append(sizes, int32(uint32(size))), append(times, int32(p.Time.Unix())),
			append(flags, flag), append(verify, -1)
		devices, inodes, in = append(devices, 1), append(inodes, int32(i+1)), append(in, at)
		modes, rdevs = append(modes, uint16(unixMode(f))), append(rdevs, 0)
		links, users, groups = append(links, f.Target), append(users, cmp.Or(f.Owner, "root")),
			append(groups, cmp.Or(f.Group, "root"))
		languages, bases = append(languages, ""), append(bases, base)
	}
	h.numbers(tagFileSizes, sizes...)
	h.shorts(TagFileModes, modes)
	h.shorts(tagFileDevices, rdevs)
	h.numbers(tagFileTimes, times...)
	h.texts(tagFileDigests, digests)
	h.texts(tagFileTargets, links)
	h.numbers(tagFileFlags, flags...)
	h.texts(tagFileUsers, users)
	h.texts(tagFileGroups, groups)
	h.numbers(tagFileVerify, verify...)
	h.numbers(tagFileFilesystems, devices...)
	h.numbers(tagFileInodes, inodes...)
	h.texts(tagFileLanguages, languages)
	h.numbers(TagFileDirs, in...)
	h.texts(TagFileNames, bases)
	h.texts(TagDirs, directories)
}

// relations writes relations into three tags: names, versions and flags.
func relations(h *header, names, versions, flags int32, all []Relation, found int32, rpmlib []Relation) {
	var n, v []string
	var f []int32
	add := func(r Relation, more int32) {
		flag := map[string]int32{"=": senseEqual, ">=": senseGreater | senseEqual, "<=": senseLess | senseEqual,
			"<<": senseLess}[r.Operator] | more
		n, v, f = append(n, r.Name), append(v, r.Version), append(f, flag)
	}
	for _, r := range all {
		more := int32(0)
		if r.Found {
			more = found
		}
		add(r, more)
	}
	for _, r := range rpmlib {
		add(r, senseRPMLib)
	}
	h.texts(names, n)
	h.texts(versions, v)
	h.numbers(flags, f...)
}
