package build

import (
	"context"
	"os"
	"path/filepath"

	"fernladder/core/recipe"
)

// debugOf says where the debug information of a job's build goes; "" if its recipe decides that
// itself.
func debugOf(job *Job) string {
	if o := job.Recipe.Option(recipe.DebugOption); o != nil && o.Implied {
		return job.Package.Options[o.Name]
	}
	return ""
}

// withDebug reports whether a job's build has to make debug information that its method would
// not make.
func withDebug(job *Job) bool {
	where := debugOf(job)
	return where == recipe.DebugBeside || where == recipe.DebugInside || where == recipe.DebugSource
}

// keepsSource reports whether the tree keeps the sources, where debug information expects them.
func keepsSource(job *Job) bool { return debugOf(job) == recipe.DebugSource }

// sourcesIn is the directory of a tree for its sources, laid out as in the work directory.
const sourcesIn = "lib/debug/src"

// Shell text that copies sources from its working directory to $1.
const keepSources = `mkdir -p "$1" && find source build -path '*/CMakeFiles/*' -prune \
	-o -type f \( -name '*.[chCHSsylfFm]' \
	-o -name '*.cc' -o -name '*.cpp' -o -name '*.cxx' -o -name '*.hh' -o -name '*.hpp' -o -name '*.hxx' \
	-o -name '*.inc' -o -name '*.inl' -o -name '*.ipp' -o -name '*.tcc' -o -name '*.def' \
	-o -name '*.f90' -o -name '*.rs' -o -name '*.vala' \) -print0 |
	tar -c --null -T - | tar -x -C "$1"`

// Shell text that takes the debug information out of the files in $1, the future tree, that are
// newer than $2, if it is given: away, or into lib/debug, with a link to it (debuglink, as GDB's
// manual describes). Files that strip does not know stay as they are.
const (
	findBinaries = `command -v strip >/dev/null || exit 0
cd "$1" || exit 0
find . -path ./lib/debug -prune -o -type f ${2:+-cnewer "$2"} -perm -200 \
	\( -perm -100 -o -name '*.so' -o -name '*.so.*' -o -name '*.a' -o -name '*.node' \) -print `
	stripAway = findBinaries +
		`| tr '\n' '\0' | xargs -0 -r strip --strip-debug --enable-deterministic-archives 2>/dev/null
exit 0`
	stripBeside = findBinaries + `| while read -r f; do
	case $f in *.a) continue;; esac
	d=lib/debug/${f#./}.debug
	mkdir -p "${d%/*}"
	if objcopy --only-keep-debug "$f" "$d" 2>/dev/null; then
		chmod 644 "$d"; strip --strip-debug "$f"; objcopy --add-gnu-debuglink="$d" "$f"
	else
		rm -f "$d"; rmdir -p "${d%/*}" 2>/dev/null
	fi
done
exit 0`
)

// Shell text that has the libraries of lib64 in lib, where builds look for those of their needs, and
// lib64 a link to it, unless both have something of the same name, as for two architectures.
const oneLib = `cd "$1" || exit 0
if test -d lib64 && test ! -L lib64; then
	both=$(cd lib64 && find . ! -type d -exec sh -c 'for f; do test ! -e "../lib/$f" || echo "$f"; done' sh {} +)
	test -n "$both" || { mkdir -p lib && cp -a lib64/. lib/ && rm -rf lib64 && ln -s lib lib64; } || exit
fi
`

// arrange joins lib64 with lib and takes the debug information out of the placed files, in the
// stage or at the path of the tree.
func (a *attempt) arrange(ctx context.Context, output *os.File) error {
	placed, since, two := a.job.Prefix, "", !a.job.Away()
	if staged, err := a.staged(); err == nil && staged != nil {
		_, err := staged.Lstat("lib64")
		two = two && err == nil
		staged.Close()
		placed = a.dirs.stage + a.job.Prefix
	} else if a.job.Away() { // files of others are there, too
		since = a.laid()
	}
	if keepsSource(a.job) {
		if err := a.command(ctx, Command{Dir: a.dirs.box, Argv: []string{"sh", "-c", keepSources, "sh",
			filepath.Join(placed, sourcesIn)}, Jobs: One}, output); err != nil {
			return err
		}
	}
	script := map[string]string{recipe.DebugNone: stripAway, recipe.DebugBeside: stripBeside}[debugOf(a.job)]
	if two {
		script = oneLib + script
	}
	if script == "" {
		return nil
	}
	return a.command(ctx, Command{Dir: a.dirs.build, Argv: []string{"sh", "-c", script, "sh", placed, since}, Jobs: One},
		output)
}
