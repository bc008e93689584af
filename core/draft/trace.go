package draft

import (
	"bufio"
	"bytes"
	"encoding/json"
	"path"
	"path/filepath"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/safefs"
)

// traced reads CMake's trace (--trace-format=json-v1, cmake(1)): the searches of the source's
// own files, and its downloads.
func (r *listeningRoom) traced(says *safefs.Dir, source string) (all []inquiry, downloads []Download) {
	f, err := says.Open("trace")
	if err != nil {
		return nil, nil
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
			return all, downloads
		}
		if !bytes.Contains(line, []byte(`"cmd":"find_`)) && !downloading.Compiled().Match(line) {
			continue
		}
		var t struct {
			Args      []string
			Cmd, File string
		}
		if json.Unmarshal(line, &t) != nil || !strings.HasPrefix(t.File, own) || len(t.Args) < 2 && t.Cmd != "find_package" ||
			len(t.Args) == 0 {
			continue
		}
		switch t.Cmd {
		case "find_package":
			all = append(all, r.findPackage(t.Args)...)
		case "find_library":
			all = append(all, inquiry{Kind: "library", Names: names(t.Args[1:])})
		case "find_path", "find_file":
			all = append(all, inquiry{Kind: "header", Names: names(t.Args[1:])})
		case "find_program":
			all = append(all, inquiry{Kind: "program", Names: names(t.Args[1:])})
		default:
			if d := download(t.Args); d.URL != "" && len(downloads) < mostDownloads {
				downloads = append(downloads, d)
			}
		}
	}
}

// A Download is something that the build of a source would download.
type Download struct {
	Name   string // as the source calls it
	URL    string // of an archive, or of a git repository
	SHA256 string // in hexadecimal, if the source states it
	Tag    string // of a repository
	Arg    string // build argument with %s for the directory to use instead; or ""
}

const mostDownloads = 24

// downloading matches CMake commands that download something.
var downloading = pattern.New(`(?i)"cmd":"(?:fetchcontent_declare|externalproject_add)"|"args":\["DOWNLOAD","`)

// download reads the arguments of such a command.
func download(args []string) (d Download) {
	d.Name = args[0]
	fetched := true
	for i, arg := range args[:len(args)-1] {
		next := args[i+1]
		switch {
		case i == 0 && arg == "DOWNLOAD":
			d.URL, fetched = next, false
			d.Name = path.Base(next)
		case arg == "URL" && d.URL == "":
			d.URL = next
		case arg == "URL_HASH", arg == "EXPECTED_HASH":
			if algorithm, hex, _ := strings.Cut(next, "="); strings.EqualFold(algorithm, "SHA256") {
				d.SHA256 = strings.ToLower(hex)
			}
		case arg == "GIT_REPOSITORY":
			d.URL = next
		case arg == "GIT_TAG":
			d.Tag = next
		case arg == "SOURCE_DIR", arg == "DOWNLOAD_DIR":
			fetched = false
		}
	}
	if !strings.Contains(d.URL, "://") {
		return Download{}
	}
	if fetched {
		d.Arg = "-DFETCHCONTENT_SOURCE_DIR_" + strings.ToUpper(d.Name) + "=%s"
	}
	return d
}

// findPackage is what find_package looks for; nothing if the source has its own module for it,
// whose searches are traced as well, or if it is about the machine.
func (r *listeningRoom) findPackage(args []string) []inquiry {
	name := args[0]
	if base[name] || r.modules()["Find"+name+".cmake"] {
		return nil
	}
	a := inquiry{Kind: "package", Names: []string{name}}
	for i, arg := range args[1:] {
		switch {
		case arg == "REQUIRED":
			a.Required = true
		case i == 0 && arg != "" && arg[0] >= '0' && arg[0] <= '9':
			a.Range = ">= " + strings.SplitN(arg, "...", 2)[0]
		}
	}
	return []inquiry{a}
}

// base are CMake's own packages that work on every machine.
var base = map[string]bool{"Threads": true, "PkgConfig": true, "Git": true, "OpenMP": true}

// modulesIn are the names of the CMake modules below a directory.
func modulesIn(dir string) map[string]bool {
	names := map[string]bool{}
	d, err := safefs.OpenDir(dir)
	if err != nil {
		return names
	}
	defer d.Close()
	d.Walk(true, func(e safefs.Entry) error {
		if strings.HasSuffix(e.Name, ".cmake") {
			names[filepath.Base(e.Name)] = true
		}
		return nil
	})
	return names
}

// names are those that a search is for: up to the first keyword.
func names(args []string) (all []string) {
	for _, arg := range args {
		for arg := range strings.SplitSeq(arg, ";") {
			switch arg {
			case "NAMES", "":
				continue
			case "HINTS", "PATHS", "PATH_SUFFIXES", "DOC", "NO_CACHE", "REQUIRED", "NO_DEFAULT_PATH", "NAMES_PER_DIR", "ENV",
				"VALIDATOR":
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
