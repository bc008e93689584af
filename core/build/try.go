package build

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// TryResult is the outcome of one try.
type TryResult struct {
	store.Try
	Output  string `json:"output"`
	Problem string `json:"problem,omitempty"` // "" when it went well
}

// Tries runs all tries of an installed build, isolated like builds. The error is the context's,
// or the root's.
func Tries(ctx context.Context, m *machine.Machine, receipt *store.Receipt) ([]TryResult, error) {
	level, err := m.Isolation(ctx)
	if err != nil {
		return nil, err
	}
	base, user, done, err := m.Scratch(ctx, "try")
	if err != nil {
		return nil, err
	}
	defer done()
	return tries(ctx, m, level, receipt, base, user)
}

// tries runs tries in a directory of the program's own. They share a working directory; their
// input and output are elsewhere.
func tries(ctx context.Context, m *machine.Machine, level sandbox.Level, receipt *store.Receipt, base string,
	user sandbox.User) ([]TryResult, error) {
	return triesIn(ctx, m, level, receipt, base, user, func(*sandbox.Room) {})
}

// anyStatus stands for any exit status.
const anyStatus = -1

// triesIn runs tries in a room that is changed first.
func triesIn(ctx context.Context, m *machine.Machine, level sandbox.Level, receipt *store.Receipt, base string,
	user sandbox.User, change func(*sandbox.Room)) ([]TryResult, error) {
	if err := safefs.Empty(base); err != nil {
		return nil, err
	}
	place, given := filepath.Join(base, "place"), filepath.Join(base, "given")
	for _, dir := range []string{place, given, filepath.Join(base, "room")} {
		if err := os.Mkdir(dir, 0o755); err != nil {
			return nil, err
		}
	}
	if err := os.Chmod(place, 0o700); err != nil {
		return nil, err
	}
	if err := give(place, user); err != nil {
		return nil, err
	}
	env, visible, err := tryEnvironment(m.Store, m.Programs, receipt, place)
	if err != nil {
		return nil, err
	}
	sources := make([]string, len(receipt.Tries))
	for i, t := range receipt.Tries {
		if t.Program == "" {
			continue
		}
		dir := filepath.Join(given, fmt.Sprint(i+1))
		if err := os.Mkdir(dir, 0o755); err != nil {
			return nil, err
		}
		sources[i] = filepath.Join(dir, "program.c")
		if err := os.WriteFile(sources[i], []byte(t.Program), 0o644); err != nil {
			return nil, err
		}
	}
	spec, err := tryRoom(m, level, base, user, receipt, visible)
	if err != nil {
		return nil, err
	}
	change(&spec)
	room, err := spec.Enter(base)
	if err != nil {
		return nil, err
	}
	defer room.Leave()
	var results []TryResult
	for i, t := range receipt.Tries {
		output, err := runIn(ctx, room, user,
			process{dir: place, argv: []string{"sh", "-e", "-c", tryScript(t, sources[i])}, env: env})
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		result := TryResult{Try: t, Output: string(output)}
		switch {
		case t.Status == anyStatus:
			result.Status = max(0, exitStatus(err))
		case exitStatus(err) != t.Status && t.Status != 0:
			result.Problem = fmt.Sprintf("it %s, and should have ended with status %d", endedHow(err), t.Status)
		case err != nil && t.Status == 0:
			result.Problem = "it " + status(err)
		case t.Expect != "" && !matches(t.Expect, output):
			result.Problem = fmt.Sprintf("no output matches %q", t.Expect)
		}
		results = append(results, result)
	}
	return results, nil
}

// tryScript is the shell text of a try, whose program is in a file.
func tryScript(t store.Try, program string) string {
	if t.Program == "" {
		return t.Run
	}
	compile := "cc $CPPFLAGS -o program " + program + " $LDFLAGS " + strings.Join(t.Flags, " ")
	if len(t.Modules) > 0 {
		compile = "flags=$(pkg-config --cflags --libs " + strings.Join(t.Modules, " ") + ")\n" + compile + " $flags"
	}
	run := t.Run
	if run == "" {
		run = "./program"
	}
	return compile + "\n" + run
}

func endedHow(err error) string {
	if err == nil {
		return "ended with status 0"
	}
	return status(err)
}

// tryEnvironment is what a user of the build has: its programs and those of its runtime needs,
// and the variables that they set.
func tryEnvironment(s *store.Store, programs host.Programs, receipt *store.Receipt, home string) (env []string,
	visible []*store.Receipt, err error) {
	env = []string{"HOME=" + home, "TMPDIR=" + home, "LC_ALL=C.UTF-8", "TZ=UTC", "TERM=dumb",
		"FL_NAME=" + receipt.Name, "FL_VERSION=" + receipt.Version, "FL_PREFIX=" + receipt.At()}
	for name, value := range receipt.Options {
		env = append(env, "FL_OPTION_"+recipe.VariableName(name)+"="+value)
	}
	var path []string
	wanted := map[string]string{}
	visible = []*store.Receipt{receipt}
	seen := map[store.Ref]bool{}
	for i := 0; i < len(visible); i++ {
		r := visible[i]
		if at := r.At(); at != systemPrefix {
			path = append(path, filepath.Join(at, "bin"), filepath.Join(at, "sbin"))
		}
		for _, v := range r.Env {
			if before, set := wanted[v.Name]; set && v.List() {
				wanted[v.Name] = before + ":" + v.Value
			} else if !set { // the tested package wins
				wanted[v.Name] = v.Value
			}
		}
		for _, need := range r.Needs {
			tree := s.Tree(need.Ref)
			if r.Prefix != "" && need.Role != recipe.Tool {
				tree = r.Prefix
			}
			// The tested package's own needs come first.
			if name := "FL_TREE_" + recipe.VariableName(need.Name); wanted[name] == "" {
				wanted[name] = tree
			}
			if need.Role != recipe.Runtime || seen[need.Ref] {
				continue
			}
			seen[need.Ref] = true
			next, err := s.Receipt(need.Ref)
			if err != nil {
				return nil, nil, s.Wrap(err)
			}
			visible = append(visible, next)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		env = append(env, name+"="+wanted[name])
	}
	neighbours, err := NeighboursOf(s, receipt)
	if err != nil {
		return nil, nil, err
	}
	for _, n := range neighbours[1:] {
		if next, err := s.Receipt(n.Ref); err == nil && !seen[n.Ref] {
			visible = append(visible, next)
		}
	}
	for _, pair := range Surroundings(neighbours) {
		if pair.Name != "PATH" {
			env = append(env, pair.Name+"="+pair.Values[0])
		}
	}
	return append(env, "PATH="+strings.Join(append(firsts(path), programs.Path...), ":")), visible, nil
}

// NeighboursOf are the trees for building against an installed build: its own, and those of the
// libraries that it needs.
func NeighboursOf(s *store.Store, receipt *store.Receipt) ([]Neighbour, error) {
	neighbours := []Neighbour{{Ref: receipt.Ref, Tree: receipt.At(), Away: receipt.Prefix != "", Role: recipe.Library,
		Direct: true}}
	seen := map[store.Ref]bool{receipt.Ref: true}
	for queue := []*store.Receipt{receipt}; len(queue) > 0; queue = queue[1:] {
		for _, need := range queue[0].Needs {
			if need.Role != recipe.Library || seen[need.Ref] {
				continue
			}
			seen[need.Ref] = true
			next, err := s.Receipt(need.Ref)
			if err != nil {
				return nil, s.Wrap(err)
			}
			queue = append(queue, next)
			neighbours = append(neighbours, Neighbour{Ref: next.Ref, Tree: next.At(), Away: next.Prefix != "",
				Role: recipe.Library})
		}
	}
	return publish(s, neighbours), nil
}

// matches reports whether the pattern matches anywhere in the output; ^ and $ stand for the
// beginning and the end of a line.
func matches(pattern string, printed []byte) bool {
	re, err := regexp.Compile("(?m)" + pattern)
	return err == nil && re.Match(printed)
}
