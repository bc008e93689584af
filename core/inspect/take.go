package inspect

import (
	"bytes"
	"crypto/sha256"
	"debug/elf"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"fernladder/core/safefs"
)

// Own is the directory of a tree with the program's own records. Nothing else may be placed
// there.
const Own = "share/fernladder"

// Take copies what a build has placed to l.Staged, which must not exist, and inspects it. The
// placed files are untrusted. If something is refused, the copy may be incomplete. Its error is
// of the file system.
func Take(placed *safefs.Dir, l Look) (Report, error) {
	if err := os.Mkdir(l.Staged, 0o755); err != nil {
		return Report{}, err
	}
	root, err := os.OpenRoot(l.Staged)
	if err != nil {
		return Report{}, err
	}
	defer root.Close()
	l.used = map[string]bool{}
	t := &taking{Look: l, root: root, first: map[inode]string{}, digests: map[string]string{},
		elsewhere: map[string][]string{}, buffer: make([]byte, 256<<10)}
	err = placed.Walk(false, t.entry)
	var tangled *safefs.Tangled
	if errors.As(err, &tangled) {
		t.refuse("", "%s", tangled.What)
		err = nil
	}
	if errors.Is(err, errTooMuch) {
		err = nil
	}
	if err == nil && t.files == 0 && len(t.remarks) == 0 {
		t.refuse("", Empty)
	}
	if err == nil {
		err = t.finish()
	}
	slices.SortStableFunc(t.remarks, func(a, b Remark) int { return strings.Compare(a.File, b.File) })
	return Report{t.remarks, t.digests, l.libraries()}, err
}

// Examine inspects the programs and libraries of a tree that was taken over on another machine,
// and is in l.Staged now. Its error is of the file system.
func Examine(l Look) ([]Remark, error) {
	dir, err := safefs.OpenDir(l.Staged)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	root, err := os.OpenRoot(l.Staged)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	l.used = map[string]bool{}
	t := &taking{Look: l, root: root}
	err = dir.Walk(false, func(e safefs.Entry) error {
		switch ext := path.Ext(e.Name); {
		case !e.Mode.IsRegular():
			return nil
		case ext == ".pc" || ext == ".la":
			t.shown = append(t.shown, e.Name)
			return nil
		}
		f, err := e.Open()
		if err != nil {
			return err
		}
		defer f.Close()
		if openELF(f) != nil {
			t.programs = append(t.programs, e.Name)
		}
		return nil
	})
	if err == nil {
		err = t.finish()
	}
	return t.remarks, err
}

// taking is a copy under way.
type taking struct {
	Look
	root     *os.Root
	remarks  []Remark
	files    int
	bytes    int64
	first    map[inode]string // names of files with several
	links    [][2]string      // name and target, checked when everything is there
	shown    []string         // files that name other files, the same
	programs []string         // programs and libraries, the same
	times    []directoryTime
	met      int // of earlier files
	buffer   []byte

	digests   map[string]string
	elsewhere map[string][]string // directories called bin that no PATH has, to the programs there
}

type inode struct{ device, number uint64 }

type directoryTime struct {
	name string
	time time.Time
}

func (t *taking) refuse(name, format string, args ...any) {
	t.remarks = append(t.remarks, Remark{Refused, name, fmt.Sprintf(format, args...)})
}

// errTooMuch ends a copy that would be larger than is allowed.
var errTooMuch = errors.New("too much")

func (t *taking) entry(e safefs.Entry) error {
	if known, is := t.Known[e.Name]; is {
		t.met++
		if !e.Mode.IsDir() || !known.Dir {
			return t.known(e, known)
		}
	}
	if e.Name == Own {
		t.refuse(e.Name, "this directory belongs to Fern Ladder; the build must not place anything there")
		return safefs.Skip
	}
	if e.Name == path.Dir(Own) && !e.Mode.IsDir() {
		t.refuse(e.Name, "it must be a directory: Fern Ladder keeps the receipt in "+Own)
		return nil
	}
	if !e.Mode.IsDir() {
		t.files++
	}
	switch {
	case e.Mode.IsDir():
		t.times = append(t.times, directoryTime{e.Name, e.Modified})
		return t.root.Mkdir(e.Name, t.mode(e)|0o700)
	case e.Mode&fs.ModeSymlink != 0:
		target, err := e.Target()
		if err != nil {
			return err
		}
		if below, is := strings.CutPrefix(target, t.Stage+t.Tree+"/"); is && t.Stage != "" {
			target = t.Tree + "/" + below
			t.remarks = append(t.remarks,
				Remark{Mended, e.Name, "it led into the staging directory, and now leads into the tree"})
		}
		t.links = append(t.links, [2]string{e.Name, target})
		return t.root.Symlink(target, e.Name)
	case e.Mode.IsRegular():
		return t.regular(e)
	}
	t.refuse(e.Name, "it is neither a file nor a directory nor a link")
	return nil
}

// known checks what existed before, which the build may have changed.
func (t *taking) known(e safefs.Entry, known Known) error {
	same := false
	switch {
	case known.Dir || e.Mode.IsDir():
	case e.Mode&fs.ModeSymlink != 0:
		target, err := e.Target()
		if err != nil {
			return err
		}
		same = target == known.Target
	case e.Mode.IsRegular() && e.Device == known.Device && e.Inode == known.Inode:
		same = true
	case e.Mode.IsRegular():
		in, err := e.OpenAnyway()
		if err != nil {
			return err
		}
		defer in.Close()
		sum := sha256.New()
		if _, err := io.CopyBuffer(struct{ io.Writer }{sum}, io.LimitReader(in, e.Size), t.buffer); err != nil {
			return err
		}
		same = hex.EncodeToString(sum.Sum(nil)) == known.SHA256
	}
	if !same {
		t.refuse(e.Name, "it is a file of %s that the build changed", known.By)
	}
	if e.Mode.IsDir() {
		return safefs.Skip
	}
	return nil
}

// mode is the mode of the copy: without rights that no file of a package needs, such as running
// as its owner and being writable for others.
func (t *taking) mode(e safefs.Entry) fs.FileMode {
	if e.Mode&(fs.ModeSetuid|fs.ModeSetgid) != 0 {
		t.remarks = append(t.remarks, Remark{Mended, e.Name, "its setuid and setgid bits were removed"})
	} else if e.Mode.Perm()&0o002 != 0 {
		t.remarks = append(t.remarks, Remark{Mended, e.Name, "write permission for everyone was removed"})
	}
	return e.Mode.Perm()&^0o022 | 0o400
}

// regular copies a file, or makes a hard link to one that was copied.
func (t *taking) regular(e safefs.Entry) error {
	id := inode{e.Device, e.Inode}
	if e.Links > 1 {
		if first, copied := t.first[id]; copied {
			t.digests[e.Name] = t.digests[first]
			return t.root.Link(first, e.Name)
		}
		t.first[id] = e.Name
	}
	if t.bytes += e.Size; t.Largest > 0 && t.bytes > t.Largest {
		t.refuse(e.Name, "with it, the tree has more than %d MiB, the most that is allowed (largest_tree in the settings)",
			t.Largest>>20)
		return errTooMuch
	}
	in, err := e.OpenAnyway()
	if err != nil {
		return err
	}
	defer in.Close()
	mode := t.mode(e)
	out, err := t.root.OpenFile(e.Name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	copied := &copying{File: out, hash: sha256.New()}
	if err := t.contents(copied, io.LimitReader(in, e.Size), e); err != nil {
		return err
	}
	t.digests[e.Name] = hex.EncodeToString(copied.hash.Sum(nil))
	if dir := path.Dir(e.Name); mode&0o111 != 0 && !usedHere(e.Name) &&
		(path.Base(dir) == "bin" || path.Base(dir) == "sbin") {
		t.elsewhere[dir] = append(t.elsewhere[dir], path.Base(e.Name))
	}
	if err := errors.Join(out.Chmod(mode), out.Close()); err != nil {
		return err
	}
	return t.root.Chtimes(e.Name, e.Modified, e.Modified)
}

// copying is a file that is being written, with its digest so far.
type copying struct {
	*os.File
	hash hash.Hash
}

func (c *copying) Write(p []byte) (int, error) {
	n, err := c.File.Write(p)
	c.hash.Write(p[:n])
	return n, err
}

// contents copies a file's contents, and inspects them.
func (t *taking) contents(out *copying, in io.Reader, e safefs.Entry) error {
	head := make([]byte, 4096)
	n, err := io.ReadFull(in, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return err
	}
	head = head[:n]
	all := io.MultiReader(bytes.NewReader(head), in)
	const largestText = 64 << 20
	if !bytes.Contains(head, []byte{0}) && e.Size <= largestText {
		return t.text(out, all, e.Name)
	}
	named := t.places()
	writers := []io.Writer{out}
	for _, p := range named {
		writers = append(writers, p)
	}
	if _, err := io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(writers...)}, all, t.buffer); err != nil {
		return err
	}
	switch {
	case bytes.HasPrefix(head, []byte(elf.ELFMAG)):
		t.elf(out.File, e.Name, named)
	case bytes.HasPrefix(head, []byte("!<arch>\n")):
		return nil // of object files, the linker takes the loadable parts, and no paths
	}
	t.named(e.Name, named)
	return nil
}

// Empty is the remark on a tree without files.
const Empty = "only empty directories were placed"

// Remarks on files that name paths which will not exist.
const (
	NamesWork = "it names the build directory, which will be deleted"
	NamesTree = "it names a tree of this machine, which will not exist there"
)

// places are the directories that no file should name, because they will not exist.
func (t *taking) places() []*finder {
	all := []*finder{{what: []byte(t.Work + "/"), says: NamesWork}}
	if t.Trees != "" {
		all = append(all, &finder{what: []byte(t.Trees + "/"), says: NamesTree})
	}
	return all
}

// named remarks on those that a file names.
func (t *taking) named(file string, places []*finder) {
	for _, p := range places {
		if p.found {
			t.remarks = append(t.remarks, Remark{Warned, file, p.says})
		}
	}
}

// text copies a text. It repairs one that names the stage in place of the tree.
func (t *taking) text(out io.Writer, in io.Reader, name string) error {
	data, err := io.ReadAll(in)
	if err != nil {
		return err
	}
	if placed := []byte(t.Stage + t.Tree); bytes.Contains(data, placed) {
		data = bytes.ReplaceAll(data, placed, []byte(t.Tree))
		t.remarks = append(t.remarks, Remark{Mended, name, "it named the staging directory, and now names the tree"})
	}
	if t.Trees != "" { // where it will be, compilers were not given such a flag
		flag := regexp.MustCompile(` ?-ffile-prefix-map=` + regexp.QuoteMeta(t.Work) + `=[\w./+-]*`)
		data = flag.ReplaceAll(data, nil)
	}
	named := t.places()
	for _, p := range named {
		p.found = bytes.Contains(data, p.what)
	}
	t.named(name, named)
	if ext := path.Ext(name); ext == ".pc" || ext == ".la" {
		t.shown = append(t.shown, name)
	}
	_, err = out.Write(data)
	return err
}

// elf checks a program or library, and whether its loaded contents name such places.
func (t *taking) elf(file *os.File, name string, places []*finder) {
	f := openELF(file)
	if f == nil {
		return
	}
	t.programs = append(t.programs, name)
	for _, p := range places {
		if !p.found {
			continue
		}
		p.found, p.rest = false, nil
		for _, s := range f.Sections {
			if s.Flags&elf.SHF_ALLOC != 0 && s.Type != elf.SHT_NOBITS && !p.found {
				io.Copy(p, io.NewSectionReader(file, int64(s.Offset), int64(s.FileSize)))
				p.rest = nil
			}
		}
	}
}

// largestTable is more than any table of needed libraries, or of their names, has.
const largestTable = 64 << 20

// sane reports whether an ELF file has as many sections as its header can express (ELF-64 Object
// File Format, section 3). Files with more would take forever to read.
func sane(head []byte) bool {
	const class, data, sections32, sections64 = 4, 5, 48, 60
	if len(head) < 64 {
		return false
	}
	var order binary.ByteOrder = binary.LittleEndian
	if elf.Data(head[data]) == elf.ELFDATA2MSB {
		order = binary.BigEndian
	}
	at := sections32
	if elf.Class(head[class]) == elf.ELFCLASS64 {
		at = sections64
	}
	return order.Uint16(head[at:]) > 0
}

// finish makes the checks that need all files.
func (t *taking) finish() error {
	for _, name := range t.programs {
		f, err := t.root.Open(name)
		if err != nil {
			return err
		}
		if program, err := elf.NewFile(f); err == nil {
			t.remarks = append(t.remarks, t.program(program, name)...)
		}
		f.Close()
	}
	for _, name := range t.shown {
		data, err := t.root.ReadFile(name)
		if err != nil {
			return err
		}
		t.remarks = append(t.remarks, t.paths(string(data), name)...)
	}
	for _, dir := range slices.Sorted(maps.Keys(t.elsewhere)) {
		const few = 4
		names := t.elsewhere[dir]
		text := strings.Join(names[:min(few, len(names))], ", ")
		if len(names) > few {
			text += fmt.Sprintf(" and %d more", len(names)-few)
		}
		t.remarks = append(t.remarks,
			Remark{Warned, dir, "programs were placed outside bin and sbin of the tree, where no PATH finds them: " + text})
	}
	for _, l := range t.links {
		t.remarks = append(t.remarks, t.link(l[1], l[0])...)
	}
	if t.met < len(t.Known) {
		t.refuse("", "the build deleted files of its needs")
	}
	for i := len(t.times) - 1; i >= 0; i-- {
		if t.Known[t.times[i].name].Dir && t.root.Remove(t.times[i].name) == nil {
			continue // nothing was placed in it
		}
		if err := t.root.Chtimes(t.times[i].name, t.times[i].time, t.times[i].time); err != nil {
			return err
		}
	}
	return nil
}

// A finder is a writer that looks for texts in what is written.
type finder struct {
	what  []byte
	says  string // what is wrong with a file that contains it
	rest  []byte // the end of the text so far, in which it may have begun
	found bool
}

func (f *finder) Write(p []byte) (int, error) {
	if f.found {
		return len(p), nil
	}
	overlap := append(f.rest, p[:min(len(p), len(f.what)-1)]...)
	f.found = bytes.Contains(overlap, f.what) || bytes.Contains(p, f.what)
	keep := min(len(p), len(f.what)-1)
	if len(p) >= len(f.what)-1 {
		f.rest = append(f.rest[:0], p[len(p)-keep:]...)
	} else {
		f.rest = append(f.rest, p...)
		f.rest = f.rest[max(0, len(f.rest)-len(f.what)+1):]
	}
	return len(p), nil
}
