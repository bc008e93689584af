package listen

import (
	"bufio"
	"bytes"
	"encoding/json"
	"path/filepath"
	"strings"

	"fernladder/core/ground"
)

// traced reads what CMake has told of what it has run (--trace-format=json-v1, cmake(1)): the
// searches of the source's own files.
func (r *Room) traced(says *ground.Dir, source string) (all []Asked) {
	f, err := says.Open("trace")
	if err != nil {
		return nil
	}
	defer f.Close()
	own := source + "/"
	const longestLine = 1 << 20
	lines := bufio.NewReaderSize(f, longestLine)
	for {
		line, err := lines.ReadSlice('\n')
		if err == bufio.ErrBufferFull { // longer than any that counts
			continue
		}
		if err != nil {
			return all
		}
		if !bytes.Contains(line, []byte(`"cmd":"find_`)) {
			continue
		}
		var t struct {
			Args      []string
			Cmd, File string
		}
		if json.Unmarshal(line, &t) != nil || !strings.HasPrefix(t.File, own) || len(t.Args) < 2 && t.Cmd != "find_package" || len(t.Args) == 0 {
			continue
		}
		switch t.Cmd {
		case "find_package":
			all = append(all, r.findPackage(t.Args)...)
		case "find_library":
			all = append(all, Asked{Kind: "library", Names: names(t.Args[1:])})
		case "find_path", "find_file":
			all = append(all, Asked{Kind: "header", Names: names(t.Args[1:])})
		case "find_program":
			all = append(all, Asked{Kind: "program", Names: names(t.Args[1:])})
		}
	}
}

// findPackage is what find_package looks for; nothing where the source has a module of its own
// for it, whose searches are told as well, or where it is about the machine.
func (r *Room) findPackage(args []string) []Asked {
	name := args[0]
	if base[name] || r.modules()["Find"+name+".cmake"] {
		return nil
	}
	a := Asked{Kind: "package", Names: []string{name}}
	for i, arg := range args[1:] {
		switch {
		case arg == "REQUIRED":
			a.Required = true
		case i == 0 && arg != "" && arg[0] >= '0' && arg[0] <= '9':
			a.Range = ">= " + strings.SplitN(arg, "...", 2)[0]
		}
	}
	return []Asked{a}
}

// base are packages of CMake's own that every machine has.
var base = map[string]bool{"Threads": true, "PkgConfig": true, "Git": true, "OpenMP": true}

// modulesIn are the names of the files with which CMake is extended below a directory.
func modulesIn(dir string) map[string]bool {
	names := map[string]bool{}
	d, err := ground.OpenDir(dir)
	if err != nil {
		return names
	}
	defer d.Close()
	d.Walk(true, func(e ground.Entry) error {
		if strings.HasSuffix(e.Name, ".cmake") {
			names[filepath.Base(e.Name)] = true
		}
		return nil
	})
	return names
}

// names are those that a search is for: up to the first word that says where and how.
func names(args []string) (all []string) {
	for _, arg := range args {
		for arg := range strings.SplitSeq(arg, ";") {
			switch arg {
			case "NAMES", "":
				continue
			case "HINTS", "PATHS", "PATH_SUFFIXES", "DOC", "NO_CACHE", "REQUIRED", "NO_DEFAULT_PATH", "NAMES_PER_DIR", "ENV", "VALIDATOR":
				return all
			}
			if strings.ContainsAny(arg, "/ ") && !strings.HasSuffix(arg, ".h") {
				return all
			}
			all = append(all, arg)
		}
	}
	return all
}
