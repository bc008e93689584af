package build

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"

	"fernladder/core/depot"
	"fernladder/core/event"
	"fernladder/core/inspect"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/source"
	"fernladder/core/store"
)

// NotBrought is the error for a build that no depot has intact.
type NotBrought struct {
	store.Ref
	Err error // of the last one
}

func (e *NotBrought) Error() string { return e.Err.Error() }
func (e *NotBrought) Unwrap() error { return e.Err }

// ProblemKind is problem.Fetch.
func (e *NotBrought) ProblemKind() problem.Kind { return problem.Fetch }

// fetchOffer fetches the blobs of a build from the first depot that has all of them, and forgets
// the depots before that one.
func (b *Builder) fetchOffer(ctx context.Context, job *Job) error {
	return b.fromDepots(ctx, job, func(o *depot.Offer) error { return o.Fetch(ctx) })
}

// fromDepots does something with the first offer of a job with which it succeeds. Offers with which
// it fails are told and forgotten.
func (b *Builder) fromDepots(ctx context.Context, job *Job, do func(*depot.Offer) error) error {
	var err error
	for len(job.From) > 0 {
		if err = do(job.From[0]); err == nil || ctx.Err() != nil {
			return err
		}
		var fault *depot.Fault
		if !errors.As(err, &fault) { // this machine's
			return b.failing(job, b.m.Stored(err))
		}
		b.m.Tell(job.event(event.Remarked, event.Event{Text: "in the depot " + fault.Depot + ": " + fault.What}))
		job.From = job.From[1:]
	}
	return &NotBrought{job.Ref, err}
}

// bring makes the tree of a job from what was fetched from a depot. Its files are inspected, and
// its tries run, like those of a build.
func (b *Builder) bring(ctx context.Context, job *Job) error {
	began := b.m.Now()
	unlock, err := b.m.Store.LockBuild(ctx, job.Ref, func() {
		b.m.Tell(job.event(event.Waiting, event.Event{Text: "another fernladder to build the same"}))
	})
	if err != nil {
		return err
	}
	defer unlock()
	if b.m.Store.Installed(job.Ref) {
		return nil
	}
	a := b.begin(job, nil)
	release, err := a.hold(ctx, job.running())
	if err != nil {
		return b.failing(job, err)
	}
	defer release()
	if err := b.fromDepots(ctx, job, func(o *depot.Offer) error { return a.receive(ctx, o) }); err != nil {
		return err
	}
	o := job.From[0]
	b.m.Tell(job.event(event.Taken, event.Event{Text: o.Depot.Name, Signer: cmp.Or(o.Signed.Owner, o.Signed.Fingerprint),
		Elapsed: b.m.Now().Sub(began)}))
	return b.m.Store.Wrap(safefs.Remove(b.m.Store.Work(job.Ref))) // what is left of an earlier attempt to build it
}

// running are the needs that a finished build uses.
func (j *Job) running() (needs []store.Ref) {
	for i, link := range j.Package.Needs {
		if link.Role != recipe.Tool {
			needs = append(needs, j.Needs[i].Ref)
		}
	}
	return needs
}

// receive makes the tree from one offer.
func (a *attempt) receive(ctx context.Context, o *depot.Offer) error {
	fault := func(format string, args ...any) error {
		return &depot.Fault{Depot: o.Depot.Name, Build: a.job.Name + " " + a.job.Version, What: fmt.Sprintf(format, args...)}
	}
	theirs, err := o.Receipt(ctx)
	if err != nil {
		return err
	}
	if err := a.job.fits(theirs); err != nil {
		return fault("its receipt is not of what the recipe says: %v", errors.Unwrap(err))
	}
	if err := o.Fetch(ctx); err != nil { // the blobs of a second depot; otherwise they are there
		return err
	}
	base, done, err := a.m.Store.Scratch("brought")
	if err != nil {
		return a.m.Store.Wrap(err)
	}
	defer done()
	a.dirs.placed = filepath.Join(base, "tree")
	if err := os.Mkdir(a.dirs.placed, 0o755); err != nil {
		return a.m.Store.Wrap(err)
	}
	a.emit(event.Event{Kind: event.StageBegan, Stage: StageUnpack})
	limits := source.UpTo(a.m.Settings.LargestTree)
	if err := o.Unpack(ctx, a.dirs.placed, limits, func(name, target string) error {
		if why := depot.Leads(a.m.Store, a.job.Tree, a.job.Links(), name, target); why != "" {
			return errors.New(why)
		}
		return nil
	}); err != nil {
		return a.m.Store.Wrap(err)
	}
	listed, list, err := store.ListedIn(a.dirs.placed)
	if err != nil {
		return fault("its list of files cannot be read: %v", err)
	}
	if name := strange(a.dirs.placed, theirs); name != "" {
		return fault("it has the file %.200s, which is not one that builds have", name)
	}
	remarks, err := inspect.Examine(inspect.Look{Staged: a.dirs.placed, Tree: a.job.Prefix, Work: a.dirs.box,
		Loader: a.b.loader(), Arch: a.m.System.Arch})
	if err != nil {
		return a.m.Store.Wrap(err)
	}
	for _, r := range remarks {
		if r.Grade == inspect.Refused {
			return fault("its files cannot work here: %s", r)
		}
	}
	return a.settle(ctx, o, theirs, listed, list, remarks, fault)
}

// strange is a file in the tree's own directory that no build of ours has there.
func strange(tree string, r *store.Receipt) (found string) {
	d, err := safefs.OpenDir(filepath.Join(tree, store.OwnDirectory))
	if err != nil {
		return store.OwnDirectory
	}
	defer d.Close()
	known := []string{path.Base(store.FilesName)}
	for _, l := range r.Licences {
		known = append(known, store.LicenceDir+"/"+l.File)
	}
	d.Walk(true, func(e safefs.Entry) error {
		if !e.Mode.IsDir() && (!slices.Contains(known, e.Name) || !e.Mode.IsRegular()) {
			found = path.Join(store.OwnDirectory, e.Name)
			return safefs.Stop
		}
		return nil
	})
	return found
}

// settle makes the unpacked files a tree, tries it, and writes its receipt.
func (a *attempt) settle(ctx context.Context, o *depot.Offer, theirs *store.Receipt, listed []store.File, list []byte,
	remarks []inspect.Remark, fault func(string, ...any) error) error {
	if err := a.ownPlaced(); err != nil {
		return a.m.Store.Wrap(err)
	}
	known := map[string]string{}
	for _, f := range listed {
		known[f.Path] = f.SHA256
	}
	files, size, err := a.m.Store.Place(a.dirs.placed, a.job.Ref, known)
	if err != nil {
		return a.m.Store.Wrap(err)
	}
	back := func(err error) error {
		return errors.Join(a.m.Store.Wrap(err), a.m.Store.Withdraw(a.job.Ref, a.dirs.placed))
	}
	if _, now, err := store.ListedIn(a.job.Tree); err != nil || string(now) != string(list) {
		return back(fault("its files are not those of its list"))
	}
	receipt := a.receiptOf(o, theirs, remarks)
	receipt.Files, receipt.Size = files, size
	if err := a.m.Store.BeginConfigs(receipt); err != nil {
		return back(err)
	}
	tried := *receipt
	tried.Tries = slices.DeleteFunc(slices.Clone(receipt.Tries), func(t store.Try) bool {
		untried := t.Program != "" && a.m.Programs.Find("cc") == ""
		if untried {
			receipt.From.Untried = append(receipt.From.Untried, t.String())
		}
		return untried
	})
	if len(tried.Tries) > 0 {
		a.emit(event.Event{Kind: event.StageBegan, Stage: StageTry})
		results, err := Tries(ctx, a.m, &tried)
		if err != nil {
			return back(err)
		}
		for _, r := range results {
			if r.Problem != "" {
				return back(fault("it does not work here: %s: %s", r.Try, r.Problem))
			}
		}
	}
	if err := a.m.Store.Commit(receipt); err != nil {
		return back(err)
	}
	return nil
}

// receiptOf is the receipt of a build from a depot: what the recipe says, as for a build of this
// machine, and what was observed where it was built.
func (a *attempt) receiptOf(o *depot.Offer, theirs *store.Receipt, remarks []inspect.Remark) *store.Receipt {
	r := a.receipt(0, 0)
	r.From = &store.Origin{Depot: cmp.Or(o.Depot.URL, o.Depot.Path), Manifest: o.Manifest.String(), Signed: o.Signed,
		At: a.m.Now().UTC(), Recipe: theirs.Recipe}
	r.RecipeSHA256, r.Sources, r.Machine, r.Compiler = theirs.RecipeSHA256, theirs.Sources, theirs.Machine, theirs.Compiler
	r.Isolation, r.NotBare, r.Resumed, r.Given = theirs.Isolation, theirs.NotBare, theirs.Resumed, theirs.Given
	r.Features, r.Without = theirs.Features, theirs.Without
	for _, need := range r.Needs { // no others, whatever they say
		if slices.Contains(theirs.Public, need.Ref) {
			r.Public = append(r.Public, need.Ref)
		}
	}
	r.SkippedUnplaced, r.Cached = theirs.SkippedUnplaced, theirs.Cached
	r.Began, r.Seconds, r.Stages, r.WorkSize, r.Memory = theirs.Began, theirs.Seconds, theirs.Stages, theirs.WorkSize,
		theirs.Memory
	r.Licences, r.Remarks = theirs.Licences, theirs.Remarks
	for _, remark := range remarks {
		if !slices.Contains(r.Remarks, remark) {
			r.Remarks = append(r.Remarks, remark)
			a.remarked(remark)
		}
	}
	return r
}
