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
	name    string // of its directory among those of all recipes
	kept    string // results of earlier builds of the recipe
	fresh   string // in the box: results of this build, and ccache's own state
	fronts  string // links from the names of compilers to ccache
}

// newCache is the cache of the build, or nil. Only a sealed room keeps other builds away, and only
// in a bare one nothing has to be recorded of what compilers read. The cache is dispensable: if
// its directory cannot be made, or is a link, the build has no cache.
func (a *attempt) newCache() *compileCache {
	bare := a.b.level == sandbox.Sealed && a.job.Recipe.Build.Bare && a.m.Settings.NotBare == "" && a.m.Bare != nil
	if a.m.Settings.CompileCache == 0 || a.rebuild || a.job.Watch || !bare {
		return nil
	}
	sum := blake3.Sum256([]byte(a.job.Recipe.Dir))
	c := &compileCache{program: a.m.Programs.Find(ccache), name: a.job.Name + "-" + hex.EncodeToString(sum[:4]),
		fresh: filepath.Join(a.dirs.box, "compiled"), fronts: filepath.Join(a.dirs.given, "compilers")}
	c.kept = filepath.Join(a.m.Store.Compiled(), c.name)
	all, err := os.OpenRoot(a.m.Store.Compiled())
	if err != nil || c.program == "" {
		return nil
	}
	defer all.Close()
	if err := all.MkdirAll(c.name, 0o777); err != nil {
		return nil
	}
	if info, err := all.Lstat(c.name); err != nil || !info.IsDir() {
		return nil
	}
	return c
}

// front puts ccache in front of the compilers that the build sees, and of no others: a source may
// prefer one that it finds.
func (c *compileCache) front(programs host.Programs, sight *sandbox.Sight) error {
	err := os.MkdirAll(c.fronts, 0o755)
	for _, name := range []string{"cc", "gcc", "c++", "g++", "clang", "clang++"} {
		link := filepath.Join(c.fronts, name)
		if file := programs.Find(name); file != "" && !sight.Hides(file) && !safefs.Exists(link) {
			err = errors.Join(err, os.Symlink(c.program, link))
		}
	}
	return err
}

// environment is the environment of the commands of the build's stages.
func (a *attempt) environment() []string {
	env := environment(a.b.target, a.job, a.dirs, a.journal.Newest)
	if a.cache == nil {
		return env
	}
	return a.cache.environment(env, a.job, a.dirs)
}

// environment adds the cache to an environment. The results are those of a build without one:
// where ccache passes a relative path, it is mapped as the absolute one would be.
func (c *compileCache) environment(env []string, job *Job, d workDirs) []string {
	const deepest = 8 // build directories below each other
	relative := ""
	for up := range deepest {
		relative += " " + prefixMap(strings.Repeat("../", up+1)+"source", boxName(job)+"/source")
	}
	method := job.Recipe.Build.Method
	for i, variable := range env {
		name, value, _ := strings.Cut(variable, "=")
		switch {
		case name == "PATH" && method != recipe.CMake && method != recipe.Meson: // those know what a launcher is
			env[i] = name + "=" + c.fronts + ":" + value
		case strings.Contains(value, prefixMap(d.box, boxName(job))):
			env[i] += relative
		}
	}
	if method == recipe.CMake {
		env = append(env, "CMAKE_C_COMPILER_LAUNCHER="+c.program, "CMAKE_CXX_COMPILER_LAUNCHER="+c.program)
	}
	return append(env, "CCACHE_DIR="+filepath.Join(c.fresh, "state"), "CCACHE_CONFIGPATH="+os.DevNull,
		"CCACHE_TEMPDIR="+d.tmp, "CCACHE_BASEDIR="+d.box, "CCACHE_NOHASHDIR=1", "CCACHE_REMOTE_ONLY=1",
		"CCACHE_REMOTE_STORAGE=file:"+c.kept+"|read-only file:"+filepath.Join(c.fresh, "new"))
}

// tellCached records how much came from the cache.
func (a *attempt) tellCached(ctx context.Context, _ string) error {
	if a.cache == nil {
		return nil
	}
	file := filepath.Join(a.dirs.work, "cached")
	output, err := os.Create(file)
	if err != nil {
		return err
	}
	defer output.Close()
	stats := Command{Dir: a.dirs.box, Argv: []string{a.cache.program, "--print-stats"}}
	if a.command(ctx, stats, output) != nil {
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

// keepCompiled adds the results of a complete build to those kept. A result that cannot be kept
// is not.
func (a *attempt) keepCompiled() {
	if a.cache == nil {
		return
	}
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return
	}
	defer box.Close()
	fresh, err := box.Sub(a.dirs.below(filepath.Join(a.cache.fresh, "new")))
	if err != nil {
		return
	}
	defer fresh.Close()
	all, err := os.OpenRoot(a.m.Store.Compiled())
	if err != nil {
		return
	}
	defer all.Close()
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
		name := filepath.Join(a.cache.name, e.Name)
		return keepResult(all, io.LimitReader(from, e.Size), name, name+".new-"+a.job.ID)
	})
}

// keepResult writes a result aside and renames it. It does not wait for the disk: ccache verifies
// a checksum when it reads the result.
func keepResult(all *os.Root, from io.Reader, name, aside string) error {
	if err := all.MkdirAll(filepath.Dir(name), 0o777); err != nil {
		return err
	}
	f, err := all.OpenFile(aside, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, from)
	if err = errors.Join(err, f.Close()); err == nil {
		err = all.Rename(aside, name)
	}
	if err != nil {
		all.Remove(aside)
	}
	return err
}

// pruneCompiled deletes the oldest kept results if they are more than the settings allow.
func (b *Builder) pruneCompiled() {
	kept, err := os.OpenRoot(b.m.Store.Compiled())
	if err != nil {
		return
	}
	defer kept.Close()
	type result struct {
		name string
		size int64
		time time.Time
	}
	var all []result
	var size int64
	fs.WalkDir(kept.FS(), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return nil
		}
		if info, err := e.Info(); err == nil {
			size += info.Size()
			all = append(all, result{name, info.Size(), info.ModTime()})
		}
		return nil
	})
	limit := int64(b.m.Settings.CompileCache) << 20
	if size <= limit {
		return
	}
	slices.SortFunc(all, func(x, y result) int { return cmp.Or(x.time.Compare(y.time), cmp.Compare(x.name, y.name)) })
	for _, r := range all { // to nine tenths, so that it is not needed each time
		if size <= limit/10*9 {
			return
		}
		if kept.Remove(r.name) == nil {
			size -= r.size
		}
	}
}
