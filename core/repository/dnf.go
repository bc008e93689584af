package repository

import (
	"bytes"
	"crypto/sha256"
	"encoding/xml"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"fernladder/core/durable"
	"fernladder/core/ospackage"
	"fernladder/core/pattern"
	"fernladder/core/signature"
)

// publishDNF writes the files for dnf: packages and their needs, their files, and changes, and
// the signed file with the digests of these.
func (r *Repository) publishDNF(dir, old string, number int, entries []Entry, key signature.Key) error {
	var its []Entry
	for _, e := range entries {
		if e.Format == ospackage.RPM {
			its = append(its, e)
		}
	}
	if len(its) == 0 {
		return nil
	}
	base := filepath.Join(dir, "repodata")
	if err := os.MkdirAll(base, 0o755); err != nil {
		return err
	}
	if old != "" {
		was := filepath.Join(old, "repodata")
		err := listsBefore(filepath.Join(was, "repomd.xml"), listLink, func(m []string) (from, to string) {
			return filepath.Join(was, m[1]), filepath.Join(base, m[1])
		})
		if err != nil {
			return err
		}
	}
	root := fmt.Sprintf("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<repomd "+
		"xmlns=\"http://linux.duke.edu/metadata/repo\" "+
		"xmlns:rpm=\"http://linux.duke.edu/metadata/rpm\">\n<revision>%d</revision>\n", number)
	lists := []struct {
		name, element, space string
		of                   func(Entry) string
		text                 bytes.Buffer
		packed               []byte
	}{
		{name: "primary", element: "metadata",
			space: `xmlns="http://linux.duke.edu/metadata/common" xmlns:rpm="http://linux.duke.edu/metadata/rpm"`,
			of:    func(e Entry) string { return e.Primary }},
		{name: "filelists", element: "filelists", space: `xmlns="http://linux.duke.edu/metadata/filelists"`,
			of: func(e Entry) string { return e.Filelists }},
		{name: "other", element: "otherdata", space: `xmlns="http://linux.duke.edu/metadata/other"`,
			of: func(e Entry) string { return e.Other }},
	}
	var packing sync.WaitGroup
	for i := range lists {
		packing.Go(func() {
			list := &lists[i]
			fmt.Fprintf(&list.text, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<%s %s packages=\"%d\">\n", list.element,
				list.space, len(its))
			for _, e := range its {
				list.text.WriteString(list.of(e))
			}
			fmt.Fprintf(&list.text, "</%s>\n", list.element)
			list.packed = gzipped(list.text.Bytes())
		})
	}
	packing.Wait()
	for i := range lists {
		list := &lists[i]
		sum := fmt.Sprintf("%x", sha256.Sum256(list.packed))
		name := sum + "-" + list.name + ".xml.gz"
		if err := durable.WriteFile(filepath.Join(base, name), list.packed, 0o644); err != nil {
			return err
		}
		root += fmt.Sprintf("<data type=\"%s\">\n<checksum type=\"sha256\">%s</checksum>\n<open-checksum "+
			"type=\"sha256\">%x</open-checksum>\n<location "+
			"href=\"repodata/%s\"/>\n<timestamp>%d</timestamp>\n<size>%d</size>\n<open-size>%d</open-size>\n</data>\n",
			list.name, sum, sha256.Sum256(list.text.Bytes()), name, r.Now().Unix(), len(list.packed), list.text.Len())
	}
	root += "</repomd>\n"
	signature, err := key.Armored([]byte(root))
	if err != nil {
		return err
	}
	public, err := key.Public()
	if err != nil {
		return err
	}
	for name, data := range map[string][]byte{"repomd.xml": []byte(root), "repomd.xml.asc": signature,
		"repomd.xml.key": public} {
		if err := durable.WriteFile(filepath.Join(base, name), data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// listLink matches a list in the signed file: its name, which begins with its digest.
var listLink = pattern.New(`href="repodata/(([0-9a-f]{64})-[a-z]+\.xml\.gz)"`)

func escaped(text string) string {
	var b bytes.Buffer
	xml.EscapeText(&b, []byte(text))
	return b.String()
}

// describe writes the entry of a .rpm in the lists.
func describe(e *Entry, r *ospackage.RPMFile) {
	version := fmt.Sprintf(`epoch="%d" ver="%s" rel="%s"`, r.Number(ospackage.TagEpoch),
		escaped(r.Text(ospackage.TagVersion)), escaped(r.Text(ospackage.TagRelease)))
	size := r.Number(ospackage.TagLongSize)
	if size == 0 {
		size = r.Number(ospackage.TagSize)
	}
	var p strings.Builder
	fmt.Fprintf(&p,
		"<package type=\"rpm\">\n<name>%s</name>\n<arch>%s</arch>\n<version %s/>\n<checksum type=\"sha256\" "+
			"pkgid=\"YES\">%s</checksum>\n", escaped(e.Name), escaped(e.Arch), version, e.SHA256)
	fmt.Fprintf(&p, "<summary>%s</summary>\n<description>%s</description>\n<packager>%s</packager>\n<url>%s</url>\n",
		escaped(r.Text(ospackage.TagSummary)), escaped(r.Text(ospackage.TagDescription)),
		escaped(r.Text(ospackage.TagPackager)), escaped(r.Text(ospackage.TagURL)))
	fmt.Fprintf(&p,
		"<time file=\"%d\" build=\"%d\"/>\n<size package=\"%d\" installed=\"%d\" archive=\"%d\"/>\n<location "+
			"href=\"%s\"/>\n<format>\n", r.Number(ospackage.TagBuildTime), r.Number(ospackage.TagBuildTime), e.Size, size, size,
		escaped(e.File))
	fmt.Fprintf(&p,
		"<rpm:license>%s</rpm:license>\n<rpm:vendor>%s</rpm:vendor>\n<rpm:group>%s</rpm:group>\n"+
			"<rpm:buildhost>%s</rpm:buildhost>\n<rpm:sourcerpm>%s</rpm:sourcerpm>\n"+
			"<rpm:header-range start=\"%d\" end=\"%d\"/>\n",
		escaped(r.Text(ospackage.TagLicense)), escaped(r.Text(ospackage.TagVendor)), escaped(r.Text(ospackage.TagGroup)),
		escaped(r.Text(ospackage.TagBuildHost)), escaped(r.Text(ospackage.TagSourceRPM)), r.HeaderStart, r.HeaderEnd)
	for _, list := range []struct {
		element             string
		name, version, flag int32
	}{{"provides", ospackage.TagProvides, ospackage.TagProvideVersions, ospackage.TagProvideFlags},
		{"requires", ospackage.TagRequires, ospackage.TagRequireVersions, ospackage.TagRequireFlags},
		{"conflicts", ospackage.TagConflicts, ospackage.TagConflictVersions, ospackage.TagConflictFlags},
		{"obsoletes", ospackage.TagObsoletes, ospackage.TagObsoleteVersions, ospackage.TagObsoleteFlags}} {
		p.WriteString(relations(list.element, r.Texts(list.name), r.Texts(list.version), r.Numbers(list.flag)))
	}
	fmt.Fprintf(&p, "%s</format>\n</package>\n", files(r, true))
	e.Primary = p.String()
	head := fmt.Sprintf("<package pkgid=\"%s\" name=\"%s\" arch=\"%s\">\n<version %s/>\n", e.SHA256, escaped(e.Name),
		escaped(e.Arch), version)
	e.Filelists = head + files(r, false) + "</package>\n"
	changes := ""
	names, texts, times := r.Texts(ospackage.TagChangeNames), r.Texts(ospackage.TagChangeTexts),
		r.Numbers(ospackage.TagChangeTimes)
	for i := range min(len(names), len(texts), len(times), 10) {
		changes += fmt.Sprintf("<changelog author=\"%s\" date=\"%d\">%s</changelog>\n", escaped(names[i]), times[i],
			escaped(texts[i]))
	}
	e.Other = head + changes + "</package>\n"
	for _, name := range r.Texts(ospackage.TagRequires) {
		if !strings.ContainsAny(name, "(/") {
			e.Needs = append(e.Needs, name)
		}
	}
}

func relations(element string, names, versions []string, flags []int64) string {
	text := ""
	for i := range min(len(names), len(versions), len(flags)) {
		if strings.HasPrefix(names[i], "rpmlib(") {
			continue
		}
		text += fmt.Sprintf("<rpm:entry name=\"%s\"", escaped(names[i]))
		if how := map[int64]string{2: "LT", 4: "GT", 8: "EQ", 10: "LE", 12: "GE"}[flags[i]&14]; how != "" &&
			versions[i] != "" {
			epoch, rest := "0", versions[i]
			if e, after, is := strings.Cut(rest, ":"); is {
				epoch, rest = e, after
			}
			version, release, has := strings.Cut(rest, "-")
			text += fmt.Sprintf(" flags=\"%s\" epoch=\"%s\" ver=\"%s\"", how, escaped(epoch), escaped(version))
			if has {
				text += fmt.Sprintf(" rel=\"%s\"", escaped(release))
			}
		}
		text += "/>\n"
	}
	if text == "" {
		return ""
	}
	return "<rpm:" + element + ">\n" + text + "</rpm:" + element + ">\n"
}

// files lists those of a package; for the list that every machine reads, only those that others
// may need by path.
func files(r *ospackage.RPMFile, few bool) string {
	bases, dirs, in, modes := r.Texts(ospackage.TagFileNames), r.Texts(ospackage.TagDirs),
		r.Numbers(ospackage.TagFileDirs), r.Numbers(ospackage.TagFileModes)
	var b strings.Builder
	for i := range min(len(bases), len(in), len(modes)) {
		if in[i] < 0 || int(in[i]) >= len(dirs) {
			continue
		}
		name := path.Join(dirs[in[i]], bases[i])
		if few && !strings.HasPrefix(name, "/etc/") && !strings.Contains(name, "bin/") && name != "/usr/lib/sendmail" {
			continue
		}
		kind := ""
		if modes[i]&0o170000 == 0o040000 {
			kind = ` type="dir"`
		}
		fmt.Fprintf(&b, "<file%s>%s</file>\n", kind, escaped(name))
	}
	return b.String()
}
