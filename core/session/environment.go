package session

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// A Variable is one that a shell sets.
type Variable struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	// What stands between the value and what the variable had before; "" replaces that.
	Join string `json:"join,omitempty"`
	Else string `json:"otherwise,omitempty"` // the assumed value of an empty list
	Open bool   `json:"open,omitempty"`      // the list ends with a separator, which stands for the default
}

// Environment returns the variables that a shell needs to use the landing or, with the name of a
// build, to build against it; and what a person should know about them.
func (s *Session) Environment(name string) (variables []Variable, remarks []string, err error) {
	e := &environment{s: s, program: s.Rules().Program, by: map[string]string{}}
	if name == "" {
		err = e.ofLanding()
	} else {
		err = e.ofBuild(name)
	}
	if err != nil {
		return nil, nil, err
	}
	return e.lines, e.remarks, nil
}

// environment is one that is being put together.
type environment struct {
	s       *Session
	program func(name string) string // of the operating system
	lines   []Variable
	remarks []string
	by      map[string]string // variables to the packages that request them
}

// maySet reports whether a package may set a variable for all users of the landing.
func (e *environment) maySet(name, variable string) bool {
	return recipe.MaySet(name, variable, e.program) || slices.Contains(e.s.Settings.TrustedEnv, name)
}

func (e *environment) ofLanding() error {
	s := e.s
	state, err := landing.Current(s.Store)
	if err != nil {
		return err
	}
	dir := s.Used()
	path := filepath.Join(dir, "bin")
	if _, err := os.Stat(filepath.Join(dir, "sbin")); err == nil {
		path += ":" + filepath.Join(dir, "sbin")
	}
	e.lines = []Variable{{Name: "PATH", Value: path, Join: ":"}}
	for _, v := range []Variable{
		// Nothing after the colon stands for the usual directories.
		{Name: "MANPATH", Value: "share/man", Join: ":", Open: true},
		{Name: "MANPATH", Value: "man", Join: ":", Open: true},
		{Name: "XDG_DATA_DIRS", Value: "share", Join: ":", Else: "/usr/local/share:/usr/share"},
	} {
		v.Value = filepath.Join(dir, v.Value)
		if _, err := os.Stat(v.Value); err == nil {
			e.lines = append(e.lines, v)
		}
	}
	for _, member := range state.Members {
		if member.Beside { // the variables are those of the build with the plain names
			continue
		}
		receipt, err := s.Store.Receipt(member.Ref)
		if err != nil {
			return s.Store.Wrap(err)
		}
		for _, v := range receipt.Env {
			if !e.maySet(receipt.Name, v.Name) {
				e.remarks = append(e.remarks, fmt.Sprintf("%s, which %s requests, is not set: other programs may obey it "+
					"(trusted_env in the settings)", v.Name, receipt.Name))
				continue
			}
			v.Value = onLandingPath(dir, receipt, v.Value)
			e.add(v, receipt.Name)
		}
	}
	return nil
}

// onLandingPath names what a value names in a tree by its path on the landing, where it
// has one: that leads to the tree that is in use, after an upgrade too.
func onLandingPath(dir string, r *store.Receipt, value string) string {
	parts := strings.Split(value, ":")
	for i, part := range parts {
		below, is := strings.CutPrefix(part, r.Tree+"/")
		if !is {
			continue
		}
		path := filepath.Join(dir, below)
		if real, err := filepath.EvalSymlinks(path); err == nil && real == part {
			parts[i] = path
		}
	}
	return strings.Join(parts, ":")
}

// add adds a variable that a package wants. One that is a list is joined with
// what others want of it; of any other, the first counts.
func (e *environment) add(v store.Variable, name string) {
	i := slices.IndexFunc(e.lines, func(l Variable) bool { return l.Name == v.Name })
	switch {
	case v.List() && i >= 0:
		e.lines[i].Value += ":" + v.Value
	case v.List():
		e.lines = append(e.lines, Variable{Name: v.Name, Value: v.Value, Join: ":"})
	case i < 0:
		e.lines = append(e.lines, Variable{Name: v.Name, Value: v.Value})
	case e.lines[i].Value != v.Value:
		e.remarks = append(e.remarks,
			fmt.Sprintf("%s and %s both set %s; the value of %s is used.", e.by[v.Name], name, v.Name, e.by[v.Name]))
		return
	}
	if e.by[v.Name] == "" {
		e.by[v.Name] = name
	}
}

func (e *environment) ofBuild(name string) error {
	r, err := e.s.Find(name)
	if err != nil {
		return err
	}
	neighbours, err := build.NeighboursOf(e.s.Store, r)
	if err != nil {
		return err
	}
	for _, pair := range build.Surroundings(neighbours) {
		if pair.Values[0] == "" {
			continue
		}
		separator := ":"
		if strings.HasSuffix(pair.Name, "FLAGS") {
			separator = " "
		}
		e.lines = append(e.lines, Variable{Name: pair.Name, Value: pair.Values[0], Join: separator})
	}
	for _, v := range r.Env {
		if e.maySet(r.Name, v.Name) {
			e.add(v, r.Name)
		}
	}
	return nil
}
