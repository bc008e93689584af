package build

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"fernladder/core/event"
	"fernladder/core/recipe"
	"fernladder/core/schedule"
	"fernladder/core/source"
	"fernladder/core/store"
)

// Isolation is what keeps a build from the rest of the machine. This version
// has none but the environment.
const Isolation = "open"

// A Builder runs jobs.
type Builder struct {
	*Workshop
	Archives *source.Archives
	Slots    *schedule.Slots
	Events   event.Sink
	Now      func() time.Time
}

// progress is what a work directory remembers of its build. It is for one
// build id, so what it was made from cannot have changed.
type progress struct {
	Done    []string           `json:"done"`    // stages, in order
	Running string             `json:"running"` // the stage under way; what it has made may be half-written
	Newest  time.Time          `json:"newest"`
	Source  string             `json:"source"` // the URL that served the archive
	Seconds map[string]float64 `json:"seconds"`
}

// building is one job on its way.
type building struct {
	*Builder
	job  *Job
	dirs workDirs
	env  []string
	progress
	url    string // that served the archive in this run
	began  time.Time
	stages []store.StageTime
}

func (b *Builder) begin(job *Job, url string) *building {
	return &building{Builder: b, job: job, dirs: b.dirs(job), began: b.Now(), url: url}
}

// build builds a job whose needs are installed and whose archive is in the
// store. It does nothing when its tree is there. The caller holds one job slot.
// Errors are of type *Failure when the build is at fault.
func (g *building) build(ctx context.Context) (*store.Receipt, error) {
	unlock, err := g.Store.LockBuild(ctx, g.job.Ref, func() {
		g.Events.Event(event.Event{Kind: event.Waiting, Package: g.job.Name, Version: g.job.Version, Text: "another fernladder to build the same"})
	})
	if err != nil {
		return nil, err
	}
	defer unlock()
	if g.Store.Installed(g.job.Ref) {
		return g.Store.Receipt(g.job.Ref)
	}
	free, err := g.holdNeeds(ctx)
	if err != nil {
		return nil, err
	}
	defer free()
	if err := g.prepare(); err != nil {
		return nil, g.Store.Wrap(err)
	}
	// A process in a session of its own outlives the command that started it,
	// but not the build.
	defer killAll(g.mark())
	for _, stage := range g.job.Stages {
		if slices.Contains(g.Done, stage.Name) {
			continue
		}
		if err := g.stage(ctx, stage.Name, func() error { return g.run(ctx, stage) }); err != nil {
			return nil, err
		}
	}
	return g.finish(ctx)
}

// holdNeeds keeps the trees that the build sees from being removed until it is
// done.
func (g *building) holdNeeds(ctx context.Context) (free func(), err error) {
	var unlocks []func()
	free = func() {
		for _, unlock := range unlocks {
			unlock()
		}
	}
	for _, n := range neighbours(g.job) {
		unlock, err := g.Store.ShareBuild(ctx, n.Ref)
		if err == nil {
			unlocks = append(unlocks, unlock)
			if g.Store.Installed(n.Ref) {
				continue
			}
			err = &store.Error{Path: n.Tree, Err: errors.New("this tree was removed while it was needed"), Advice: "Run the same command again."}
		}
		free()
		return nil, err
	}
	return free, nil
}

// prepare makes the work directory, or finds what an earlier run has left and
// how much of it can be relied on.
func (g *building) prepare() error {
	for _, dir := range []string{g.dirs.home, g.dirs.tmp, g.Store.Logs(g.job.Ref)} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	killAll(g.mark()) // what a run that was killed has left behind
	data, err := os.ReadFile(g.progressFile())
	if err == nil {
		err = json.Unmarshal(data, &g.progress)
	}
	if err != nil { // there is none, or it is no use
		g.progress = progress{}
	}
	if g.Seconds == nil {
		g.Seconds = map[string]float64{}
	}
	g.Source = cmp.Or(g.url, g.Source)
	g.distrust()
	return g.restage()
}

// distrust takes back stages whose results may be half-made. A run that ended
// in good order has left none but where patches are applied half; after one
// that was killed, object files may be cut off, and make would not know.
func (g *building) distrust() {
	done := func(stage string) bool { return slices.Contains(g.Done, stage) }
	switch {
	case g.Running == "" && (done(StagePatch) || len(g.job.Patches) == 0):
		return
	case g.dirs.build == g.dirs.source, g.Running == StageUnpack, !done(StagePatch) && len(g.job.Patches) > 0:
		g.Done = nil
	default: // everything since configure is in a directory that configure empties
		if i := slices.Index(g.Done, "configure"); i >= 0 {
			g.Done = g.Done[:i]
		}
	}
	g.Running = ""
}

// restage brings what was placed back to where it was filled, if a run was
// killed after that and before there was a receipt.
func (g *building) restage() error {
	if !slices.Contains(g.Done, StagePlace) {
		return nil
	}
	_, errStaged := os.Lstat(g.staged())
	_, errTree := os.Lstat(g.job.Tree)
	if errStaged != nil && errTree == nil {
		return g.Store.Withdraw(g.job.Ref, g.staged())
	}
	if errStaged != nil {
		g.Done = slices.DeleteFunc(g.Done, func(stage string) bool { return stage == StagePlace })
	}
	return nil
}

// staged is what becomes the tree.
func (g *building) staged() string { return filepath.Join(g.dirs.stage, g.job.Tree) }

// mark is a variable that only processes of this build have.
func (g *building) mark() string { return "FL_STAGE=" + g.dirs.stage }

func (g *building) progressFile() string { return filepath.Join(g.dirs.work, "progress.json") }

// save writes the progress. It is not synced: progress that is lost or damaged
// when the machine stops is made again.
func (g *building) save() error {
	data, err := json.Marshal(g.progress)
	if err != nil {
		return err
	}
	fresh := g.progressFile() + ".new"
	if err := os.WriteFile(fresh, data, 0o644); err != nil {
		return g.Store.Wrap(err)
	}
	return g.Store.Wrap(os.Rename(fresh, g.progressFile()))
}

// stage does a stage, times it, and tells of it.
func (g *building) stage(ctx context.Context, name string, do func() error) error {
	began := g.Now()
	g.Events.Event(event.Event{Kind: event.StageBegan, Package: g.job.Name, Version: g.job.Version, Stage: name})
	g.Running = name
	if err := g.save(); err != nil {
		return err
	}
	err := do()
	elapsed := g.Now().Sub(began)
	g.stages = append(g.stages, store.StageTime{Stage: name, Seconds: elapsed.Seconds()})
	g.Running = ""
	if err != nil {
		g.save() // if it cannot be, the next run trusts less
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var failure *Failure
		if !errors.As(err, &failure) {
			err = g.Store.Wrap(err)
		}
		return err
	}
	g.Done = append(g.Done, name)
	g.Seconds[name] += elapsed.Seconds()
	g.Events.Event(event.Event{Kind: event.StageEnded, Package: g.job.Name, Version: g.job.Version, Stage: name, Elapsed: elapsed})
	return g.save()
}

// run does what one of the job's stages is for.
func (g *building) run(ctx context.Context, stage Stage) error {
	if stage.Name == StageUnpack {
		return g.unpack(ctx)
	}
	log := filepath.Join(g.Store.Logs(g.job.Ref), stage.Name+".log")
	output, err := os.Create(log)
	if err != nil {
		return err
	}
	defer output.Close()
	switch stage.Name {
	case "configure":
		err = g.renew(g.dirs.build)
	case StagePlace:
		if err = g.renew(g.dirs.stage); err == nil {
			err = g.Store.Discard(g.job.Ref)
		}
	}
	if err == nil {
		err = os.MkdirAll(g.dirs.build, 0o755)
	}
	if err != nil {
		return err
	}
	if g.env == nil {
		g.env = g.environment(g.job, g.Newest)
	}
	err = g.commands(ctx, stage, output, log)
	if stage.Name == StagePlace {
		if err == nil {
			err = g.collect(log)
		}
		if err != nil { // what was filled in place is no tree
			err = errors.Join(err, g.Store.Discard(g.job.Ref))
		}
	}
	return err
}

func (g *building) commands(ctx context.Context, stage Stage, output *os.File, log string) error {
	for _, c := range stage.Commands {
		if err := g.command(ctx, c, output); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return g.failure(stage.Name, what(c)+" "+status(err), log)
		}
	}
	return nil
}

// renew empties a directory that a stage fills, unless it is the source.
func (g *building) renew(dir string) error {
	if dir == g.dirs.source {
		return nil
	}
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	return os.MkdirAll(dir, 0o755)
}

// what names a command of a stage.
func what(c Command) string {
	if c.Argv[0] == "sh" {
		return "a step of the recipe"
	}
	return filepath.Base(c.Argv[0])
}

// command runs one command, with the job slots it is entitled to.
func (g *building) command(ctx context.Context, c Command, output *os.File) error {
	p := process{dir: c.Dir, env: slices.Concat(g.env, c.Env), output: output}
	jobs := 1
	switch c.Jobs {
	case Shared:
		p.files = g.Slots.Inherited()
		p.env = append(p.env, "MAKEFLAGS="+g.Slots.MakeFlags())
	case Leased:
		leased := g.Slots.Lease(g.Slots.Number() - 1)
		defer func() {
			for range leased {
				g.Slots.Release()
			}
		}()
		jobs += leased
	}
	for _, arg := range c.Argv {
		p.argv = append(p.argv, strings.ReplaceAll(arg, "$FL_JOBS", strconv.Itoa(jobs)))
	}
	if c.Argv[0] == "sh" { // the shell expands its variables itself
		p.argv = c.Argv
	}
	fmt.Fprintf(output, ownMark+"in %s\n"+ownMark+"%s\n", c.Dir, strings.Join(p.argv, " "))
	return p.run(ctx)
}

// unpack fills the source directory: with what is in the archive's only
// directory, if it has one only, else with what is in the archive.
func (g *building) unpack(ctx context.Context) error {
	fresh := filepath.Join(g.dirs.work, "unpacked")
	for _, dir := range []string{fresh, g.dirs.source} {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	if err := os.Mkdir(fresh, 0o755); err != nil {
		return err
	}
	got, err := source.Unpack(ctx, g.Archives.Path(g.job.Source.Digest), fresh, source.Usual)
	var bad *source.UnpackError
	if errors.As(err, &bad) {
		return g.failure(StageUnpack, fmt.Sprintf("%v (%s)", bad, g.job.Source.URLs[0]), "")
	}
	if err != nil {
		return err
	}
	g.Newest = got.Newest
	top := fresh
	entries, err := os.ReadDir(fresh)
	if err != nil {
		return err
	}
	if len(entries) == 1 && entries[0].IsDir() {
		top = filepath.Join(fresh, entries[0].Name())
	}
	if err := os.Rename(top, g.dirs.source); err != nil {
		return err
	}
	return os.RemoveAll(fresh)
}

// collect sees to it that what was placed is in the stage. Makefiles that know
// no DESTDIR have filled the tree's own directory, which is taken back: it
// becomes a tree later, and at once.
func (g *building) collect(log string) error {
	staged := g.staged()
	_, errStaged := os.Lstat(staged)
	_, errTree := os.Lstat(g.job.Tree)
	switch {
	case errStaged == nil && errTree == nil:
		return g.failure(StagePlace, fmt.Sprintf("some files were placed below $DESTDIR, and some not, in %s", g.job.Tree), log)
	case errStaged != nil && errTree != nil:
		return g.failure(StagePlace, "nothing was placed in $FL_PREFIX", log)
	case errTree == nil:
		if err := os.MkdirAll(filepath.Dir(staged), 0o755); err != nil {
			return err
		}
		if err := os.Rename(g.job.Tree, staged); err != nil {
			return err
		}
	}
	if outside := g.outside(staged); len(outside) > 0 {
		return g.failure(StagePlace, "files were placed outside the tree: "+strings.Join(outside, ", ")+
			"; tell the build to put them below $FL_PREFIX", log)
	}
	return nil
}

// outside lists some of the files in the stage that are not in the tree.
func (g *building) outside(staged string) []string {
	const enough = 5
	var outside []string
	filepath.WalkDir(g.dirs.stage, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case path == staged:
			return fs.SkipDir
		case len(outside) == enough:
			return fs.SkipAll
		case !d.IsDir():
			outside = append(outside, strings.TrimPrefix(path, g.dirs.stage))
		}
		return nil
	})
	return outside
}

// finish makes the stage a tree, tries it, and writes its receipt.
func (g *building) finish(ctx context.Context) (*store.Receipt, error) {
	files, size, err := g.Store.Place(g.staged(), g.job.Ref)
	if err != nil {
		return nil, err
	}
	receipt := g.receipt(files, size)
	if len(receipt.Tries) > 0 {
		err = g.stage(ctx, StageTry, func() error { return g.try(ctx, receipt) })
	}
	if err == nil {
		g.account(receipt)
		err = g.Store.Commit(receipt)
	}
	if err != nil {
		return nil, errors.Join(err, g.Store.Withdraw(g.job.Ref, g.staged()))
	}
	return receipt, os.RemoveAll(g.dirs.work)
}

func (g *building) try(ctx context.Context, receipt *store.Receipt) error {
	log := filepath.Join(g.Store.Logs(g.job.Ref), StageTry+".log")
	results, err := Tries(ctx, g.Store, g.Programs, receipt, g.dirs.tmp)
	if err != nil {
		return err
	}
	output, err := os.Create(log)
	if err != nil {
		return err
	}
	defer output.Close()
	failed := ""
	for _, r := range results {
		fmt.Fprintf(output, ownMark+"%s\n%s", r.Run, r.Output)
		if r.Problem != "" {
			fmt.Fprintf(output, ownMark+"%s\n", r.Problem)
			if failed == "" {
				failed = fmt.Sprintf("%s: %s", r.Run, r.Problem)
			}
		}
	}
	if failed != "" {
		return g.failure(StageTry, failed, log)
	}
	return nil
}

func (g *building) failure(stage, what, log string) *Failure {
	f := &Failure{Package: g.job.Name, Version: g.job.Version, Stage: stage, What: what, Log: log, Work: g.dirs.work}
	if log != "" {
		f.Lines = excerpt(log, 12)
	}
	var disk syscall.Statfs_t
	const almostNothing = 1 << 20
	if err := syscall.Statfs(g.Store.Root, &disk); err == nil && disk.Bavail*uint64(disk.Bsize) < almostNothing {
		f.DiskFull = true
		f.What += "; the disk that holds " + g.Store.Root + " is full"
	}
	return f
}

// receipt says how the tree came to be, but for how long it took.
func (g *building) receipt(files int, size int64) *store.Receipt {
	p := g.job.Package
	receipt := &store.Receipt{
		Ref: g.job.Ref, Summary: p.Recipe.Summary, Home: p.Recipe.Home, License: p.Recipe.License,
		Recipe: filepath.Join(p.Recipe.Dir, recipe.FileName), Tree: g.job.Tree, Options: p.Options,
		Sources: []store.Source{{URL: g.Source, Digest: p.Release.Digest}}, Patches: g.job.Patches,
		Needs: g.job.Links(), Method: p.Recipe.Build.Method, Machine: g.Machine, Compiler: g.job.Compiler,
		Isolation: Isolation, Began: g.began.UTC(), Files: files, Size: size,
	}
	values := treeVariables(g.job)
	receipt.Notes = recipe.Expand(p.Recipe.Notes, lookup(values))
	for _, t := range p.Recipe.Tries {
		if t.When.Holds(p.Facts(g.Machine)) {
			receipt.Tries = append(receipt.Tries, store.Try{Run: t.Run, Expect: t.Expect})
		}
	}
	for _, pair := range p.Recipe.Env {
		receipt.Env = append(receipt.Env, store.Variable{Name: pair.Name, Value: recipe.Expand(pair.Values[0], lookup(values))})
	}
	return receipt
}

// account adds up the times of the stages, of earlier runs of the same build
// too.
func (g *building) account(receipt *store.Receipt) {
	for _, name := range g.Done {
		receipt.Stages = append(receipt.Stages, store.StageTime{Stage: name, Seconds: g.Seconds[name]})
		receipt.Seconds += g.Seconds[name]
	}
}
