package build

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"fernladder/core/event"
	"fernladder/core/host"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// This file keeps what compilers have made for later builds of the same recipe, with ccache.
//
// A build can put anything into a cache, so builds of different recipes never share one. A build
// sees what earlier ones have left, but cannot change it. New results are in its box, and are
// added by the program itself once the tree is complete. Builds for comparison use no cache.

// ccache is the program that finds and keeps results.
const ccache = "ccache"

// A compileCache is the cache of one build.
type compileCache struct {
	program string
	kept    string // results of earlier builds of the recipe
	fresh   string // in the box: results of this build, and ccache's own state
	fronts  string // links from the names of compilers to ccache
}

// compileCache is the cache of the build, or nil. Only a sealed room keeps other builds away, and
// only in a bare one nothing has to be recorded of what compilers read.
func (a *attempt) compileCache() *compileCache {
	program := a.m.Programs.Find(ccache)
	bare := a.b.level == sandbox.Sealed && a.job.Recipe.Build.Bare && a.m.Settings.NotBare == "" && a.m.Bare != nil
	if a.m.Settings.CompileCache == 0 || a.rebuild || a.job.Watch || !bare || program == "" {
		return nil
	}
	sum := blake3.Sum256([]byte(a.job.Recipe.Dir))
	return &compileCache{program: program, fresh: filepath.Join(a.dirs.box, "compiled"),
		kept:   filepath.Join(a.m.Store.Compiled(), a.job.Name+"-"+hex.EncodeToString(sum[:4])),
		fronts: filepath.Join(a.dirs.given, "compilers")}
}

// prepare makes the cache's directories, if there is a cache.
func (c *compileCache) prepare() error {
	if c == nil {
		return nil
	}
	if err := errors.Join(os.MkdirAll(c.kept, 0o777), os.MkdirAll(c.fronts, 0o755)); err != nil {
		return err
	}
	for _, name := range []string{"cc", "gcc", "c++", "g++", "clang", "clang++"} {
		if err := os.Symlink(c.program, filepath.Join(c.fronts, name)); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}

// environment is the environment of a build that uses the cache. The results are those of a build
// without one: where ccache passes a relative path, it is mapped as the absolute one would be.
func (c *compileCache) environment(env []string, d workDirs, m recipe.Method) []string {
	const deepest = 8 // build directories below each other
	var maps []string
	env = slices.Clone(env)
	for i, variable := range env {
		name, value, _ := strings.Cut(variable, "=")
		if found := boxMap.FindStringSubmatch(value); found != nil && maps == nil {
			for up := range deepest {
				maps = append(maps, "-ffile-prefix-map="+strings.Repeat("../", up+1)+"source="+found[1]+"/source")
			}
		}
		switch {
		case name == "PATH" && m != recipe.CMake && m != recipe.Meson: // those know what a launcher is
			env[i] = name + "=" + c.fronts + ":" + value
		case boxMap.MatchString(value):
			env[i] += " " + strings.Join(maps, " ")
		}
	}
	if m == recipe.CMake {
		env = append(env, "CMAKE_C_COMPILER_LAUNCHER="+c.program, "CMAKE_CXX_COMPILER_LAUNCHER="+c.program)
	}
	return append(env, "CCACHE_DIR="+filepath.Join(c.fresh, "state"), "CCACHE_CONFIGPATH="+os.DevNull,
		"CCACHE_TEMPDIR="+d.tmp, "CCACHE_BASEDIR="+d.box, "CCACHE_NOHASHDIR=1", "CCACHE_REMOTE_ONLY=1",
		"CCACHE_REMOTE_STORAGE=file:"+c.kept+"|read-only file:"+filepath.Join(c.fresh, "new"))
}

// boxMap matches the option by which compilers write another name for the box (mapPaths).
var boxMap = pattern.New(`-ffile-prefix-map=\S+/box=(\S+)`)

// tellCached records how much came from the cache.
func (a *attempt) tellCached(ctx context.Context, _ string) error {
	c := a.compileCache()
	if c == nil {
		return nil
	}
	file := filepath.Join(a.dirs.work, "cached")
	output, err := os.Create(file)
	if err != nil {
		return err
	}
	defer output.Close()
	if err := a.command(ctx, Command{Dir: a.dirs.box, Argv: []string{c.program, "--print-stats"}}, output); err != nil {
		return ctx.Err() // it only tells
	}
	const most = 64 << 10
	text, err := safefs.ReadFile(file, most)
	if err != nil {
		return err
	}
	a.journal.Cached = store.Cached{}
	for line := range strings.Lines(string(text)) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), "\t")
		n, err := strconv.Atoi(value)
		switch {
		case err != nil || n < 0:
		case name == "direct_cache_hit" || name == "preprocessed_cache_hit":
			a.journal.Cached.Hits += n
			a.journal.Cached.Compilations += n
		case name == "cache_miss":
			a.journal.Cached.Compilations += n
		}
	}
	if got := a.journal.Cached; got.Hits > 0 {
		a.emit(event.Event{Kind: event.Remarked,
			Text: fmt.Sprintf("%d of %d compilations came from the compile cache", got.Hits, got.Compilations)})
	}
	return nil
}

// cachedResult matches a result as ccache names it in a directory of such.
var cachedResult = pattern.New(`^[0-9a-f]{2}/[0-9a-z]{16,64}$`)

// keepCompiled adds the results of a complete build to those kept. The cache is dispensable: a
// result that cannot be kept is not.
func (a *attempt) keepCompiled() {
	c := a.compileCache()
	if c == nil {
		return
	}
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return
	}
	defer box.Close()
	fresh, err := box.Sub(a.dirs.below(filepath.Join(c.fresh, "new")))
	if err != nil {
		return
	}
	defer fresh.Close()
	limit := int64(a.m.Settings.CompileCache) << 20
	fresh.Walk(true, func(e safefs.Entry) error {
		if !e.Mode.IsRegular() || !cachedResult.MatchString(e.Name) {
			return nil
		}
		if limit -= e.Size; limit < 0 {
			return fs.SkipAll
		}
		from, err := fresh.Open(e.Name)
		if err != nil {
			return nil
		}
		defer from.Close()
		return keepResult(io.LimitReader(from, e.Size), filepath.Join(c.kept, e.Name))
	})
}

// keepResult writes a result, which ccache verifies by a checksum when it reads it.
func keepResult(from io.Reader, path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
		return err
	}
	aside, err := os.CreateTemp(filepath.Dir(path), "new-")
	if err != nil {
		return err
	}
	_, err = io.Copy(aside, from)
	err = errors.Join(err, aside.Chmod(0o644), aside.Close())
	if err == nil {
		err = os.Rename(aside.Name(), path)
	}
	if err != nil {
		os.Remove(aside.Name())
	}
	return err
}

// pruneCompiled deletes the oldest kept results if they are more than the settings allow.
func (b *Builder) pruneCompiled() {
	type result struct {
		path string
		size int64
		time time.Time
	}
	var all []result
	var size int64
	filepath.WalkDir(b.m.Store.Compiled(), func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return nil
		}
		if info, err := e.Info(); err == nil {
			size += info.Size()
			all = append(all, result{path, info.Size(), info.ModTime()})
		}
		return nil
	})
	limit := int64(b.m.Settings.CompileCache) << 20
	if size <= limit {
		return
	}
	slices.SortFunc(all, func(x, y result) int { return cmp.Or(x.time.Compare(y.time), cmp.Compare(x.path, y.path)) })
	for _, r := range all { // to nine tenths, so that it is not needed each time
		if size <= limit/10*9 {
			return
		}
		if os.Remove(r.path) == nil {
			size -= r.size
		}
	}
}

// cacheProgram is the question that makes ccache visible in a bare room.
func (a *attempt) cacheProgram() (questions []host.Question) {
	if a.compileCache() != nil {
		questions = append(questions, host.Question{Kind: host.Program, Name: ccache})
	}
	return questions
}
