package recipe

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/keyfile"
)

// Read reads the recipe in the folder dir; shown is what the folder is called
// in messages. Errors are keyfile.Problems, with every mistake of the file.
func Read(dir, shown string) (*Recipe, error) {
	r := &Recipe{File: filepath.Join(shown, FileName), Dir: dir}
	data, err := os.ReadFile(filepath.Join(dir, FileName))
	if err != nil {
		return nil, keyfile.Problems{{Position: keyfile.Position{File: r.File}, Message: reason(err)}}
	}
	problems := keyfile.Read(r.File, data, Keys(r))
	problems = append(problems, r.contradictions()...)
	if len(problems) > 0 {
		problems.Sort()
		return nil, problems
	}
	return r, nil
}

// reason is what went wrong with a file, without its name.
func reason(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		err = path.Err
	}
	return err.Error()
}

// contradictions finds what is wrong between keys that are each right.
func (r *Recipe) contradictions() keyfile.Problems {
	var problems keyfile.Problems
	report := func(at keyfile.Position, advice, format string, args ...any) {
		at.File = r.File
		problems = append(problems, keyfile.Problem{Position: at, Message: fmt.Sprintf(format, args...), Advice: advice, Source: r.line(at.Line)})
	}
	if folder := filepath.Base(r.Dir); CheckName(r.Name) == nil && r.Name != folder {
		report(keyfile.Position{}, "rename one of them", "the package is called %q, but its folder %q", r.Name, folder)
	}
	for i, x := range r.Releases {
		if len(x.Archive) == 0 && len(r.Archive) == 0 {
			report(x.Position, "add archive = \"https://…\" here or in [source]", "release %s has no archive", x.Version)
		}
		if x.Digest.Algorithm == "" {
			report(x.Position, "add sha256 = \"…\", as sha256sum prints it for an archive that you trust", "release %s has no digest to verify its archive by", x.Version)
		}
		for _, earlier := range r.Releases[:i] {
			if !x.Version.IsZero() && x.Version.Compare(earlier.Version) == 0 {
				report(x.Position, fmt.Sprintf("the other is in line %d", earlier.Line), "two releases have the version %s", x.Version)
			}
		}
	}
	for _, o := range r.Options {
		switch {
		case o.Values != nil && (o.On != nil || o.Off != nil):
			report(o.Position, "", "option %s has both values and on or off", o.Name)
		case o.Default != "" && !o.Accepts(o.Default):
			report(o.Position, "it can be: "+strings.Join(o.Choices(), ", "), "option %s cannot have the default %q", o.Name, o.Default)
		}
	}
	for _, n := range r.Needs {
		switch {
		case (n.Recipe == "") == (n.Either == nil):
			report(n.Position, "write recipe = \"NAME\" or either = [\"NAME\", \"NAME\"]", "a need names either a recipe or several, of which one is enough")
		case slices.Contains(n.Names(), r.Name):
			report(n.Position, "", "%s needs itself", r.Name)
		}
	}
	if r.Build.Method == Script && r.Step("place") == "" {
		report(keyfile.Position{}, "add [steps] with place = '''…'''", "the method script needs a step that places the files")
	}
	return problems
}

// line returns a line of the recipe's file for a message.
func (r *Recipe) line(number int) string {
	data, err := os.ReadFile(filepath.Join(r.Dir, FileName))
	lines := strings.Split(string(data), "\n")
	if err != nil || number < 1 || number > len(lines) {
		return ""
	}
	return strings.TrimRight(lines[number-1], "\r")
}

// checkBeside tells whether a file is beside the recipe and stays there.
func (r *Recipe) checkBeside(name string) error {
	if !filepath.IsLocal(name) {
		return fmt.Errorf("%q is not beside the recipe", name)
	}
	if info, err := os.Stat(filepath.Join(r.Dir, name)); err != nil || !info.Mode().IsRegular() {
		return fmt.Errorf("there is no file %s", filepath.Join(filepath.Dir(r.File), name))
	}
	return nil
}
