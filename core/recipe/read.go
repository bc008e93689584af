package recipe

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/safefs"
	"fernladder/core/tomlfile"
)

// Read reads the recipe in the folder dir; shown is the folder's name in messages. Errors are
// tomlfile.Problems, with every mistake of the file.
func Read(dir, shown string) (*Recipe, error) {
	r := &Recipe{File: filepath.Join(shown, FileName), Dir: dir}
	data, err := r.OnShelf(FileName).ReadFile(Largest)
	if err != nil {
		return nil, tomlfile.Problems{{Position: tomlfile.Position{File: r.File}, Message: reason(err)}}
	}
	problems := tomlfile.Read(r.File, data, Keys(r))
	if !problems.Unread() {
		problems = append(problems, r.contradictions()...)
	}
	if len(problems) > 0 {
		problems.Sort()
		return nil, problems
	}
	return r, nil
}

// reason is the cause of an error, without the name of the file.
func reason(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		err = path.Err
	}
	return err.Error()
}

// contradictions finds mistakes that involve several keys.
func (r *Recipe) contradictions() tomlfile.Problems {
	var problems tomlfile.Problems
	report := func(at tomlfile.Position, advice, format string, args ...any) {
		at.File = r.File
		problems = append(problems, tomlfile.Problem{Position: at, Message: fmt.Sprintf(format, args...), Advice: advice,
			Source: r.line(at.Line)})
	}
	if folder := filepath.Base(r.Dir); CheckName(r.Name) == nil && r.Name != folder {
		report(tomlfile.Position{}, "rename one of them", "the package is called %q, but its folder is called %q",
			r.Name, folder)
	}
	r.sourceContradictions(report)
	r.patchContradictions(report)
	r.optionContradictions(report)
	for _, n := range r.Needs {
		switch {
		case (n.Recipe == "") == (n.Either == nil):
			report(n.Position, "write recipe = \"NAME\" or either = [\"NAME\", \"NAME\"]",
				"a need names either a recipe or several, of which one is enough")
		case slices.Contains(n.Names(), r.Name) && n.Role != Tool:
			report(n.Position, "remove this need", "%s needs itself", r.Name)
		case slices.Contains(n.Names(), r.Name) && n.Range.String() == "any":
			report(n.Position, "say which earlier releases will do, as in version = \"< 2\"",
				"%s needs itself as a tool, in any version", r.Name)
		}
	}
	for _, c := range r.Writable {
		for _, other := range slices.Concat(r.Configs, r.Writable) {
			if strings.HasPrefix(other.File, c.File+"/") {
				report(other.Position, "keep them apart", "%s is in %s, in which programs of the package write", other.File, c.File)
			}
		}
	}
	things := r.HostNeeds
	if r.HostCopy != nil {
		things = append(slices.Clone(things), r.HostCopy)
	}
	for _, n := range slices.Clone(things) {
		if n.Either == nil {
			continue
		}
		if things = append(things, n.Either...); len(n.Either) < 2 || len(n.Questions()) > 0 {
			report(n.Position, "write either = [{ module = \"NAME\" }, { module = \"NAME\" }]",
				"either lists at least two things, and its table has no other keys for one")
		}
	}
	for _, n := range things {
		if n.Either == nil && len(n.Questions()) != 1 {
			report(n.Position, "write one of program, header, library, module, python, perl and file",
				"[[host]] names one thing")
		}
		if n.Range.String() != "any" && (n.Header != "" || n.Library != "" || n.File != "") {
			report(n.Position, "ask for a module or a program instead", "headers, libraries and files have no version")
		}
		if n.Runtime && n.Header != "" {
			report(n.Position, "leave runtime out", "a header is not needed when a package runs")
		}
	}
	for _, t := range r.Tries {
		switch {
		case t.Run == "" && t.Program == "":
			report(t.Position, "add run = \"…\" or program = '''…'''", "a try runs a command or a program")
		case t.Program == "" && (t.Flags != nil || t.Modules != nil):
			report(t.Position, "", "flags and modules are for the compilation of a program, and there is none")
		}
	}
	if !r.Build.Bare && strings.TrimSpace(r.Build.BareWhy) == "" {
		report(tomlfile.Position{}, "add bare_why = \"…\" to [build]",
			"a build that sees all of the operating system needs a reason")
	}
	if why := r.SkipsNothing(); why != "" && r.Build.SkipUnplaced {
		report(tomlfile.Position{}, "remove skip_unplaced from [build]", "%s", why)
	}
	if r.Build.Method == Script && r.Step("place") == "" {
		report(tomlfile.Position{}, "add [steps] with place = '''…'''", "the method script needs a place step")
	}
	return problems
}

// reporter takes a mistake, the place of its table, and advice.
type reporter func(at tomlfile.Position, advice, format string, args ...any)

// sourceContradictions finds mistakes about the origin of the source.
func (r *Recipe) sourceContradictions(report reporter) {
	for i, x := range r.Releases {
		switch {
		case x.Track == Tip:
			r.tipContradictions(x, report)
		case !x.stated:
			report(x.Position, "add version = \"…\"", "a release needs a version")
		}
		r.whereContradictions(x, report)
		for _, earlier := range r.Releases[:i] {
			switch {
			case x.Track == Tip && earlier.Track == Tip:
				report(x.Position, fmt.Sprintf("the other is in line %d", earlier.Line), "there are two releases on the track tip")
			case !x.Version.IsZero() && x.Version.Compare(earlier.Version) == 0:
				report(x.Position, fmt.Sprintf("the other is in line %d", earlier.Line),
					"two releases have the version %s", x.Version)
			}
		}
		if len(r.Signatures(x)) > 0 && len(r.Keys) == 0 {
			report(x.Position, "add keys = [\"keys/….asc\"] to [source]; a draft shows the fingerprints of a signature's keys",
				"release %s has a signature, but there are no keys to check it with", x.name())
		}
	}
	for i, e := range r.Extras {
		if (e.Archive == nil) == (e.Gather == "") {
			report(e.Position, "write archive = [\"URL\"] or gather = '''shell text'''",
				"an extra is an archive, or it is gathered")
		}
		if e.Digest.Algorithm == "" && e.Gather == "" {
			report(e.Position, "add sha256 = \"…\"", "the extra %s has no digest to verify it by", e.Name)
		}
		if len(e.Signature) > 0 && len(r.Keys) == 0 {
			report(e.Position, "add keys = [\"keys/….asc\"] to [source]",
				"the extra %s has a signature, but there are no keys to check it with", e.Name)
		}
		if slices.ContainsFunc(r.Extras[:i], func(other *Extra) bool { return other.Name == e.Name }) {
			report(e.Position, "", "two extras are called %s", e.Name)
		}
	}
	for _, s := range r.Supplies {
		if s.Digest.Algorithm == "" {
			report(s.Position, "add sha256 = \"…\"", "the supply %s has no digest", s.File)
		}
	}
}

// name is a release's name in messages.
func (x *Release) name() string {
	if x.Track == Tip {
		return "tip"
	}
	return x.Version.String()
}

func (r *Recipe) tipContradictions(x *Release, report reporter) {
	switch {
	case !x.Version.IsZero():
		report(x.Position, "remove the version",
			"the version of a tip is that of the latest tag and the number of commits since")
	case x.Commit != "" || x.Revision != "":
		report(x.Position, "remove the commit, or the track",
			"a release on the track tip has no commit; the lock file has it")
	case x.Git != "" && x.Branch == "":
		report(x.Position, "add branch = \"main\"", "a tip is the head of a branch, and needs branch")
	case x.Repository() == "":
		report(x.Position, "add git = \"https://…\" and branch, or svn = \"https://…\"", "a tip is in a repository")
	}
}

// whereContradictions finds mistakes about the origin of one release.
func (r *Recipe) whereContradictions(x *Release, report reporter) {
	archive := len(x.Archive) > 0 || len(r.Archive) > 0 && x.Repository() == ""
	switch {
	case given(x.Git, x.Svn) == 2 || x.Repository() != "" && len(x.Archive) > 0:
		report(x.Position, "", "release %s has two sources; it can have an archive, git or svn", x.name())
	case x.Svn == "" && x.Revision != "", x.Git == "" && given(x.Branch, x.Tag, x.Commit) > 0:
		report(x.Position, "", "release %s has a branch, tag, commit or revision, but no repository that it is in", x.name())
	case x.Repository() != "" && x.Digest.Algorithm != "":
		report(x.Position, "remove the digest",
			"release %s is from a repository, where the commit or revision takes the place of a digest", x.name())
	case x.Repository() == "" && !archive && x.Track != Tip:
		report(x.Position, "add archive = \"https://…\" here or in [source]", "release %s has no archive", x.name())
	case archive && x.Digest.Algorithm == "":
		report(x.Position, "add sha256 = \"…\", as sha256sum prints it for an archive that you trust",
			"release %s has no digest to verify its archive by", x.name())
	case x.Track != Tip && x.Git != "" && x.Commit == "":
		report(x.Position, "add commit = \"…\", as git rev-parse prints it for the tag",
			"release %s is in a git repository, and needs its commit", x.name())
	case x.Track != Tip && x.Svn != "" && x.Revision == "":
		report(x.Position, "add revision = \"…\"", "release %s is in a Subversion repository, and needs its revision",
			x.name())
	}
}

// given counts the texts that are not empty.
func given(texts ...string) int {
	n := 0
	for _, text := range texts {
		if text != "" {
			n++
		}
	}
	return n
}

// line returns a line of the recipe's file for a message.
func (r *Recipe) line(number int) string {
	data, err := r.OnShelf(FileName).ReadFile(Largest)
	lines := strings.Split(string(data), "\n")
	if err != nil || number < 1 || number > len(lines) {
		return ""
	}
	return tomlfile.WithoutUsers(strings.TrimRight(lines[number-1], "\r"))
}

// checkBeside reports whether a file is beside the recipe, and not outside of its folder.
func (r *Recipe) checkBeside(name string) error {
	if !filepath.IsLocal(name) {
		return fmt.Errorf("%q is not beside the recipe", name)
	}
	file, err := os.OpenRoot(filepath.Dir(r.Dir))
	if err == nil {
		defer file.Close()
		var info os.FileInfo
		if info, err = file.Stat(filepath.Join(filepath.Base(r.Dir), name)); err == nil && !info.Mode().IsRegular() {
			err = safefs.ErrNotRegular
		}
	}
	if err != nil {
		return fmt.Errorf("there is no file %s on the shelf", filepath.Join(filepath.Dir(r.File), name))
	}
	return nil
}

// KeyFiles are the files of the trusted keys.
func (r *Recipe) KeyFiles() []safefs.File {
	files := make([]safefs.File, len(r.Keys))
	for i, name := range r.Keys {
		files[i] = r.OnShelf(name)
	}
	return files
}

// OnShelf is a file beside the recipe. It is read beneath the shelf: a link can lead to another
// file of the shelf, and nowhere else.
func (r *Recipe) OnShelf(name string) safefs.File {
	return safefs.File{Dir: filepath.Dir(r.Dir), Name: filepath.Join(filepath.Base(r.Dir), name)}
}
