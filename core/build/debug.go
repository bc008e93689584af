package build

import (
	"context"
	"os"

	"fernladder/core/recipe"
)

// debugOf is where the debug information of a job's build goes; "" where its recipe
// decides that itself.
func debugOf(job *Job) string {
	if o := job.Recipe.Option(recipe.DebugOption); o != nil && o.Implied {
		return job.Package.Options[o.Name]
	}
	return ""
}

// withDebug tells whether a job's build is to make debug information, where its method
// would not.
func withDebug(job *Job) bool {
	where := debugOf(job)
	return where == recipe.DebugBeside || where == recipe.DebugInside
}

// Shell text that takes the debug information out of what was placed in $1, which will
// be the tree, since $2 was written, if there is one: away, or into lib/debug, to which a link is left (debuglink, as GDB's
// manual describes). What strip does not know, stays.
const (
	findBinaries = `command -v strip >/dev/null || exit 0
cd "$1" || exit 0
find . -path ./lib/debug -prune -o -type f ${2:+-cnewer "$2"} -perm -200 \( -perm -100 -o -name '*.so' -o -name '*.so.*' -o -name '*.a' -o -name '*.node' \) -print `
	stripAway = findBinaries + `| tr '\n' '\0' | xargs -0 -r strip --strip-debug --enable-deterministic-archives 2>/dev/null
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

// takeOutDebug takes the debug information out of what was placed: in the stage, or where
// the tree will be.
func (a *attempt) takeOutDebug(ctx context.Context, output *os.File) error {
	script := map[string]string{recipe.DebugNone: stripAway, recipe.DebugBeside: stripBeside}[debugOf(a.job)]
	if script == "" {
		return nil
	}
	placed, since := a.job.Prefix, ""
	if staged, err := a.staged(); err == nil && staged != nil {
		staged.Close()
		placed = a.dirs.stage + a.job.Prefix
	} else if a.job.Away() { // files of others are there, too
		since = a.laid()
	}
	return a.command(ctx, Command{Dir: a.dirs.build, Argv: []string{"sh", "-c", script, "sh", placed, since}, Jobs: One}, output)
}
