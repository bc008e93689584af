package draft

import (
	"cmp"
	"net/url"
	"path"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/version"
)

// Names that hosting sites give to archives of a branch or commit, and that people give to
// folders: none is a package's name.
var (
	nameless = pattern.New(`(?i)^(?:v?\d[\w.+-]*|(?:` + branches +
		`)|src|source|sources|archive|archives|download|downloads|zip|tarball|refs|heads|tags|releases?|snapshots?|dl|-)$`)
	ofBranch  = pattern.New(`(?i)(?:^|[-_.])(?:` + branches + `)$`)
	decorated = pattern.New(`(?i)[-_.](?:` + branches + `|src|source|sources|[0-9a-f]{7,40})$`)
	// ofCommit matches the beginning of a commit in the place of a version.
	ofCommit = pattern.New(`^[0-9a-f]*[a-f][0-9a-f]*\d[0-9a-f]*$`)
	aCommit  = pattern.New(`^[0-9a-f]{40}(?:[0-9a-f]{24})?$`)
	// afterVersion is what follows the version of an archive: the machine and the form.
	afterVersion = pattern.New(`(?i)(?:[-_.](?:bin|binary|src|source|sources|dist|linux|unix|x86[-_]64|amd64|aarch64` +
		`|arm64|i[3-6]86|x64|64bit|noarch|full|static|musl|gnu|glibc[\d.]*))+$`)
)

const branches = `master|main|trunk|head|develop|devel|tip|latest`

// titled is the name of an archive: that of its file or, if that is only a version or a branch,
// that of the folder in it, or one from the URL.
func titled(from, top string) string {
	base := path.Base(from)
	if u, err := url.Parse(from); err == nil && u.Path != "" {
		base = path.Base(u.Path)
	}
	stem := archiveSuffix.ReplaceAllString(base, "")
	if !nameless.MatchString(stem) {
		return base
	}
	if top != "" && !nameless.MatchString(top) {
		return top
	}
	if strings.HasPrefix(from, "file:") {
		return base
	}
	segments := strings.Split(strings.Trim(from, "/"), "/")
	for i := len(segments) - 2; i > 2; i-- { // behind the scheme and the host
		if !nameless.MatchString(segments[i]) {
			return segments[i] + "-" + stem
		}
	}
	return base
}

// branchOf is the repository of an archive that was made from a branch, according to its URL,
// and whether it is one: its content changes with each commit.
func branchOf(from string) (repository string, is bool) {
	u, err := url.Parse(from)
	if err != nil || !ofBranch.MatchString(archiveSuffix.ReplaceAllString(path.Base(u.Path), "")) {
		return "", false
	}
	for _, part := range []string{"/-/archive/", "/archive/", "/tarball/", "/zipball/", "/zip/", "/tar.gz/"} {
		if before, _, found := strings.Cut(from, part); found {
			return before + ".git", true
		}
	}
	return "", true
}

// undecorated is a name without parts that say that it is a branch, a commit or a source.
func undecorated(name string) string {
	for {
		bare := decorated.ReplaceAllString(name, "")
		if bare == name || bare == "" {
			return name
		}
		name = bare
	}
}

// cloned is the URL that a git repository was cloned from, from its own files; nothing of it is
// run.
func cloned(dir string) (o Origin) {
	const largest = 1 << 20
	d, err := safefs.OpenDir(dir)
	if err != nil {
		return o
	}
	defer d.Close()
	read := func(name string) string {
		text, err := d.ReadFile(".git/"+name, largest)
		if err != nil {
			return ""
		}
		return string(text)
	}
	section := ""
	for line := range strings.Lines(read("config")) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			section = line
		}
		if key, value, is := strings.Cut(line, "="); is && section == `[remote "origin"]` && strings.TrimSpace(key) == "url" {
			o.Git = strings.TrimSpace(value)
		}
	}
	ref, is := strings.CutPrefix(strings.TrimSpace(read("HEAD")), "ref: ")
	if o.Git == "" || !is || recipe.CheckRepository(o.Git) != nil || strings.Contains(ref, "..") {
		return Origin{}
	}
	o.Branch = strings.TrimPrefix(ref, "refs/heads/")
	o.Commit = strings.TrimSpace(read(ref))
	packed := map[string]string{} // commits by references
	last := ""
	for line := range strings.Lines(read("packed-refs")) {
		line = strings.TrimSpace(line)
		if commit, is := strings.CutPrefix(line, "^"); is { // of an annotated tag
			packed[last] = commit
		} else if commit, name, is := strings.Cut(line, " "); is {
			packed[name], last = commit, name
		}
	}
	if o.Commit = cmp.Or(o.Commit, packed[ref]); !aCommit.MatchString(o.Commit) {
		return Origin{}
	}
	var newest version.Version
	for name, commit := range packed {
		tag, is := strings.CutPrefix(name, "refs/tags/")
		v, err := version.Parse(strings.TrimLeft(tag[strings.LastIndexAny(tag, "/-_")+1:], "vV"))
		if is && commit == o.Commit && err == nil && v.Compare(newest) > 0 {
			o.Tag, o.Version, newest = tag, v.String(), v
		}
	}
	return o
}
