package host

import (
	"bufio"
	"errors"
	"io/fs"
	"os"
	"strings"
)

// apkFiles are the paths of apk's database of installed packages.
func apkFiles() []string { return []string{"/lib/apk/db/installed", "/usr/lib/apk/db/installed"} }

// apk is what apk knows about installed packages.
type apk struct {
	packages map[string]apkPackage
	files    map[string]string // path to package
}

type apkPackage struct {
	version            string
	requires, provides []string
}

// readApk reads apk's database, the first of these files that exists: records separated by empty
// lines, of lines KEY:VALUE. P is the name, V the version, D the dependencies, p the provided
// names, F a directory and R a file in it.
func readApk(files []string) (apk, error) {
	db := apk{packages: map[string]apkPackage{}, files: map[string]string{}}
	var text *os.File
	var err error
	for _, file := range files {
		if text, err = os.Open(file); !errors.Is(err, fs.ErrNotExist) {
			break
		}
	}
	if err != nil {
		return db, err
	}
	defer text.Close()
	name, dir := "", ""
	lines := bufio.NewScanner(text)
	lines.Buffer(make([]byte, 1<<16), 1<<20)
	for lines.Scan() {
		key, value, _ := strings.Cut(lines.Text(), ":")
		p := db.packages[name]
		switch key {
		case "P":
			name, p = value, apkPackage{}
		case "V":
			p.version = value
		case "D":
			p.requires = apkNames(value)
		case "p":
			p.provides = apkNames(value)
		case "F":
			dir = "/" + value
			db.files[dir] = name
			continue
		case "R":
			db.files[strings.TrimSuffix(dir, "/")+"/"+value] = name
			continue
		default:
			continue
		}
		db.packages[name] = p
	}
	return db, lines.Err()
}

// apkNames are the names in a list of dependencies: so:libc.so.1, cmd:sh=1.36, !other.
func apkNames(list string) []string {
	names := strings.Fields(list)
	for i, name := range names {
		if end := strings.IndexAny(name, "<>=~"); end > 0 {
			names[i] = name[:end]
		}
	}
	return names
}
