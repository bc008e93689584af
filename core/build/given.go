package build

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// givenFile lists, in the work directory, the files whose ownership a build gave away when it
// placed them.
const givenFile = "given-away"

// recordFile is the file that a watched build is recorded in.
func (a *attempt) recordFile() string {
	if a.job.Watch {
		return filepath.Join(a.dirs.work, openedFile)
	}
	return filepath.Join(a.dirs.work, givenFile)
}

// takeGiven notes the owners that the build wanted for files of its tree. Files of root, or of
// the build's own user, belong to the owner of the root.
func (a *attempt) takeGiven() {
	text, err := safefs.ReadFile(a.recordFile(), sandbox.LargestRecord)
	if err != nil {
		return // nothing was given
	}
	a.journal.Given = nil
	const enough = 1000
	for line := range strings.Lines(string(text)) {
		if len(a.journal.Given) == enough {
			break
		}
		fields := strings.SplitN(strings.TrimSpace(line), " ", 4)
		if len(fields) != 4 || fields[0] != sandbox.Given {
			continue
		}
		file, inside := "", false
		for _, top := range []string{a.dirs.stage + a.job.Prefix, a.job.Prefix} {
			if rest, is := strings.CutPrefix(fields[3], top+"/"); is {
				file, inside = rest, true
				break
			}
		}
		owner, group := nameOf(fields[1], sandbox.SystemUsers), nameOf(fields[2], sandbox.SystemGroups)
		if inside && (owner != "" || group != "") {
			a.journal.Given = append(a.journal.Given, store.Owned{File: printable(file), Owner: owner, Group: group})
		}
	}
	for _, g := range a.journal.Given {
		if !slices.ContainsFunc(a.job.Recipe.Owners, func(o *recipe.Owner) bool { return o.File == g.File }) {
			a.remark(fmt.Sprintf("%s: the installer gave it to %s, which was ignored; add [[owner]] to %s to keep that", g.File,
				g.Who(), a.job.Recipe.File))
		}
	}
}

// nameOf is the name of a user or group; "" for root, and for no change.
func nameOf(number string, names map[int]string) string {
	n, err := strconv.Atoi(number)
	if err != nil || n <= 0 {
		return ""
	}
	if name := names[n]; name != "" {
		return name
	}
	return number
}

// ownPlaced gives placed files to the owners that the recipe states, if root builds. It sets the
// owner first, because changing the owner clears the setuid bit.
func (a *attempt) ownPlaced() error {
	if len(a.job.Recipe.Owners) == 0 {
		return nil
	}
	root, err := os.OpenRoot(a.dirs.placed)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, o := range a.job.Recipe.Owners {
		wrong := func(format string, args ...any) error {
			return a.failure(StagePlace, fmt.Sprintf("[[owner]] in %s (line %d): ", a.job.Recipe.File,
				o.Line)+fmt.Sprintf(format, args...), "")
		}
		info, err := root.Lstat(o.File)
		switch {
		case err != nil:
			return wrong("%s was not placed", o.File)
		case info.Mode()&fs.ModeSymlink != 0:
			return wrong("%s is a link", o.File)
		case !a.m.Place.Super:
			a.remark(fmt.Sprintf("%s: only root can give it to %s, as its recipe says", o.File, o.Who()))
			continue
		}
		uid, err := store.NumberOf(o.Owner, store.UserNumber)
		if err != nil && !a.declares(o.Owner) {
			return wrong("this machine has no user %s", o.Owner)
		}
		gid, noGroup := store.NumberOf(o.Group, store.GroupNumber)
		if noGroup != nil && !a.declares(o.Group) {
			return wrong("this machine has no group %s", o.Group)
		}
		if err != nil || noGroup != nil {
			a.remark(fmt.Sprintf("%s: it will belong to %s where that exists; this machine does not have it yet",
				o.File, o.Who()))
			continue
		}
		if err := root.Lchown(o.File, uid, gid); err != nil {
			return err
		}
		if o.Mode != "" {
			mode, err := recipe.FileMode(o.Mode)
			if err != nil {
				return err // which the recipe's reading has checked
			}
			if err := root.Chmod(o.File, mode); err != nil {
				return err
			}
		}
		a.remark(fmt.Sprintf("%s: it belongs to %s, as its recipe says", o.File, o.Who()))
	}
	return nil
}
