package store

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"fernladder/core/safefs"
)

// A File is an entry of a tree: a file, directory or symbolic link.
type File struct {
	Path   string      `json:"path"` // below the tree
	Mode   fs.FileMode `json:"-"`    // type and permissions
	Size   int64       `json:"size"`
	SHA256 string      `json:"sha256,omitempty"`
	Target string      `json:"target,omitempty"` // of a symbolic link
}

// list writes the list of a tree's files in the mtree(5) format, with which tools of several
// operating systems check trees. It returns the number of files and their bytes.
func list(tree string, known map[string]string) (files int, size int64, err error) {
	out, err := os.Create(filepath.Join(tree, filesFile))
	if err != nil {
		return 0, 0, err
	}
	defer out.Close()
	w := bufio.NewWriter(out)
	fmt.Fprintln(w, "#mtree")
	err = filepath.WalkDir(tree, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(tree, path)
		if err != nil || rel == "." || strings.HasPrefix(rel, ownDirectory+"/") {
			return err
		}
		f, err := describe(path, rel, d, known)
		if err != nil {
			return err
		}
		if !f.Mode.IsDir() {
			files++
		}
		size += f.Size
		_, err = fmt.Fprintln(w, f.line())
		return err
	})
	return files, size, errors.Join(err, w.Flush(), out.Close())
}

func describe(path, rel string, d fs.DirEntry, known map[string]string) (File, error) {
	info, err := d.Info()
	if err != nil {
		return File{}, err
	}
	f := File{Path: rel, Mode: info.Mode()}
	switch {
	case d.Type() == fs.ModeSymlink:
		f.Target, err = os.Readlink(path)
	case d.Type().IsRegular():
		f.Size = info.Size()
		if f.SHA256 = known[rel]; f.SHA256 == "" {
			f.SHA256, err = digest(path)
		}
	case !d.IsDir():
		err = fmt.Errorf("%s is not a file, directory or link", path)
	}
	return f, err
}

func digest(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func (f File) line() string {
	mode := fmt.Sprintf("mode=%04o", f.Mode.Perm())
	switch {
	case f.Mode.IsDir():
		return fmt.Sprintf("./%s type=dir %s", escape(f.Path), mode)
	case f.Mode&fs.ModeSymlink != 0:
		return fmt.Sprintf("./%s type=link link=%s", escape(f.Path), escape(f.Target))
	}
	return fmt.Sprintf("./%s type=file %s size=%d sha256digest=%s", escape(f.Path), mode, f.Size, f.SHA256)
}

// escape writes characters that mtree(5) does not allow in a name as a backslash and three octal
// digits.
func escape(name string) string {
	var b strings.Builder
	for _, c := range []byte(name) {
		if c <= ' ' || c >= 0x7f || c == '\\' || c == '#' || c == '=' {
			fmt.Fprintf(&b, `\%03o`, c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

func unescape(name string) string {
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		if name[i] == '\\' && i+3 < len(name) {
			if c, err := strconv.ParseUint(name[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(c))
				i += 3
				continue
			}
		}
		b.WriteByte(name[i])
	}
	return b.String()
}

// Files reads the list of a tree's files, in the order of their paths.
func (s *Store) Files(r Ref) ([]File, error) {
	tree, err := safefs.OpenDir(s.Tree(r))
	if err != nil {
		return nil, s.Gone(r, err)
	}
	defer tree.Close()
	files, err := readFiles(tree)
	return files, s.Gone(r, err)
}

// ListedIn is what the list of files in a tree's directory says, which need not be in the root.
func ListedIn(dir string) (files []File, text []byte, err error) {
	tree, err := safefs.OpenDir(dir)
	if err != nil {
		return nil, nil, err
	}
	defer tree.Close()
	if text, err = tree.ReadFile(filesFile, largestList); err != nil {
		return nil, nil, err
	}
	files, err = readFiles(tree)
	return files, text, err
}

// readFiles reads the list of the files of a tree.
func readFiles(tree *safefs.Dir) ([]File, error) {
	f, err := tree.Open(filesFile)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var files []File
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		name, rest, isEntry := strings.Cut(lines.Text(), " ")
		if !isEntry || !strings.HasPrefix(name, "./") {
			continue
		}
		file, err := parseLine(unescape(name[2:]), rest)
		if err != nil {
			return nil, &Error{Path: f.Name(), Err: err, Advice: "Install the package again."}
		}
		files = append(files, file)
	}
	return files, lines.Err()
}

// ReadTree reads the receipt and the list of files of a tree anywhere: in another root, or a
// copy. Its error is fs.ErrNotExist if there is none.
func ReadTree(dir string) (*Receipt, []File, error) {
	tree, err := safefs.OpenDir(dir)
	if err != nil {
		return nil, nil, err
	}
	defer tree.Close()
	data, err := tree.ReadFile(receiptFile, largestReceipt)
	if err != nil {
		return nil, nil, err
	}
	var receipt Receipt
	if err := json.Unmarshal(data, &receipt); err != nil {
		return nil, nil, &Error{Path: filepath.Join(dir, receiptFile), Err: fmt.Errorf("this receipt is damaged: %w", err)}
	}
	files, err := readFiles(tree)
	return &receipt, files, err
}

func parseLine(path, keywords string) (File, error) {
	f := File{Path: path}
	if !safefs.ValidName(path) {
		return f, fmt.Errorf("the list of files is damaged: %q is not a file of a tree", path)
	}
	var err error
	for word := range strings.FieldsSeq(keywords) {
		key, value, _ := strings.Cut(word, "=")
		switch key {
		case "type":
			f.Mode |= map[string]fs.FileMode{"dir": fs.ModeDir, "link": fs.ModeSymlink}[value]
		case "mode":
			var mode uint64
			mode, err = strconv.ParseUint(value, 8, 32)
			f.Mode |= fs.FileMode(mode)
		case "size":
			f.Size, err = strconv.ParseInt(value, 10, 64)
		case "sha256digest":
			f.SHA256 = value
		case "link":
			f.Target = unescape(value)
		}
		if err != nil {
			return f, fmt.Errorf("the list of files is damaged at %s: %w", path, err)
		}
	}
	return f, nil
}
